//! The files of a FAT file system, listed and read.

use super::directory::Entry;
use super::{Fat, FatError, Structure, damaged};
use crate::Disk;
use crate::fs::tree::{FileError, Files, Node, NodeKind, Sink, Stretch, parts};

/// Bytes that are read at once.
const PIECE: u64 = 1 << 18;

fn node(entry: &Entry) -> Node {
    Node {
        name: crate::fs::name::text_of(entry.name.as_bytes()),
        kind: if entry.is_folder() {
            NodeKind::Folder
        } else {
            NodeKind::File
        },
        len: entry.len.into(),
        mode: None,
        owner: None,
        target: None,
        modified: entry.modified(),
        links: 1,
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
                modified: None,
                links: 1,
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
        self.read_clusters(entry.first_cluster, entry.len.into(), sink)?;
        Ok(entry.len.into())
    }

    fn read_node(&self, node: &Node, sink: Sink<'_>) -> Result<(), FileError> {
        self.read_clusters(first_cluster(node)?, node.len, sink)
    }

    fn stretches(&self, node: &Node) -> Result<Option<Vec<Stretch>>, FileError> {
        Ok(Some(self.runs(first_cluster(node)?, node.len)?))
    }
}

fn first_cluster(node: &Node) -> Result<u32, FileError> {
    u32::try_from(node.id).map_err(|_| FileError::Missing(node.name.clone()))
}

impl<D: Disk> Fat<D> {
    /// Where the clusters of a file lie; those that follow each other on the disk together.
    fn runs(&self, first: u32, len: u64) -> Result<Vec<Stretch>, FileError> {
        let cluster_len = self.boot.cluster_len;
        let chain = self.chain(first)?;
        if (chain.len() as u64).saturating_mul(cluster_len) < len {
            return Err(damaged(Structure::File, "is longer than its chain").into());
        }
        let mut runs: Vec<Stretch> = Vec::new();
        let mut at = 0_u64;
        for cluster in chain {
            if at >= len {
                break;
            }
            let take = cluster_len.min(len.saturating_sub(at));
            let on_disk = self.cluster_at(cluster);
            match runs.last_mut() {
                Some(last) if last.on_disk.saturating_add(last.len) == on_disk => {
                    last.len = last.len.saturating_add(take);
                }
                _ => runs.push(Stretch {
                    at,
                    on_disk,
                    len: take,
                }),
            }
            at = at.saturating_add(take);
        }
        Ok(runs)
    }

    fn read_clusters(&self, first: u32, len: u64, sink: Sink<'_>) -> Result<(), FileError> {
        for run in self.runs(first, len)? {
            let mut done = 0;
            while done < run.len {
                let take = PIECE.min(run.len.saturating_sub(done));
                let from = run.on_disk.saturating_add(done);
                sink(&self.disk.read_vec(from, take as usize)?).map_err(FileError::Sink)?;
                done = done.saturating_add(take);
            }
        }
        Ok(())
    }
}
