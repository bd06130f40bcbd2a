//! The files of a FAT file system, listed and read.

use super::directory::Entry;
use super::{Fat, FatError};
use crate::Disk;
use crate::fs::tree::{FileError, Files, Node, NodeKind, Sink, parts};

/// Bytes that are read at once.
const PIECE: u64 = 1 << 18;

fn node(entry: &Entry) -> Node {
    Node {
        name: entry.name.clone(),
        kind: if entry.is_folder() {
            NodeKind::Folder
        } else {
            NodeKind::File
        },
        len: entry.len.into(),
        mode: None,
        owner: None,
        target: None,
        id: entry.first_cluster.into(),
    }
}

impl<D: Disk> Fat<D> {
    /// The entry of a path; `None` inside for the root.
    fn entry_of(&self, path: &str) -> Result<Option<Option<Entry>>, FatError> {
        let mut place = self.boot.root;
        let mut found = None;
        for part in parts(path) {
            if matches!(&found, Some(entry) if !Entry::is_folder(entry)) {
                return Ok(None);
            }
            let Some(entry) = self.find(place, part)? else {
                return Ok(None);
            };
            place = entry.place(self.boot.root);
            found = Some(entry);
        }
        Ok(Some(found))
    }
}

impl<D: Disk> Files for Fat<D> {
    fn list(&self, path: &str) -> Result<Vec<Node>, FileError> {
        let place = match self.entry_of(path)? {
            None => return Err(FileError::Missing(path.into())),
            Some(None) => self.boot.root,
            Some(Some(entry)) if entry.is_folder() => entry.place(self.boot.root),
            Some(Some(_)) => return Err(FileError::WrongKind(path.into())),
        };
        let entries = self.entries(place)?;
        Ok(entries
            .iter()
            .filter(|entry| entry.name != "." && entry.name != "..")
            .map(node)
            .collect())
    }

    fn find(&self, path: &str) -> Result<Option<Node>, FileError> {
        Ok(self.entry_of(path)?.map(|found| match found {
            Some(entry) => node(&entry),
            None => Node {
                name: "/".into(),
                kind: NodeKind::Folder,
                len: 0,
                mode: None,
                owner: None,
                target: None,
                id: self.root_cluster().into(),
            },
        }))
    }

    fn read_into(&self, path: &str, sink: Sink<'_>) -> Result<u64, FileError> {
        let entry = match self.entry_of(path)? {
            None => return Err(FileError::Missing(path.into())),
            Some(Some(entry)) if !entry.is_folder() => entry,
            Some(_) => return Err(FileError::WrongKind(path.into())),
        };
        let len = u64::from(entry.len);
        let cluster_len = self.boot.cluster_len;
        let chain = self.chain(entry.first_cluster)?;
        if (chain.len() as u64).saturating_mul(cluster_len) < len {
            return Err(FatError::Damaged("a file is longer than its chain").into());
        }
        let (mut left, mut at) = (len, 0);
        while left > 0 {
            // Clusters that follow each other on the disk are read together.
            let first = self.cluster_at(chain[at]);
            let mut run = 1;
            while at.saturating_add(run) < chain.len()
                && (run as u64) < PIECE.div_ceil(cluster_len)
                && chain[at.saturating_add(run)] == chain[at].saturating_add(run as u32)
            {
                run = run.saturating_add(1);
            }
            let take = (run as u64).saturating_mul(cluster_len).min(left);
            let bytes = self.disk.read_vec(first, take as usize)?;
            sink(&bytes).map_err(FileError::Sink)?;
            left = left.saturating_sub(take);
            at = at.saturating_add(run);
        }
        Ok(len)
    }
}
