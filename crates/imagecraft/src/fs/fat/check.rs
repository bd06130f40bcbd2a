//! The check of the whole file system before anything in it is changed.

use std::collections::BTreeSet;

use super::directory::{Entry, Place};
use super::{Fat, FatError, Structure, damaged};
use crate::Disk;

/// Most folders that are looked into; a boot partition has a few dozen.
const MOST_FOLDERS: usize = 20_000;

impl<D: Disk> Fat<D> {
    /// Walks through all folders: every chain must stay inside the data clusters, belong to one
    /// file alone and be as long as its file says, and the copies of the allocation table must
    /// agree.
    ///
    /// # Errors
    /// [`FatError::Damaged`] with what is wrong. Such a file system is not edited, since an edit
    /// could spoil another file.
    pub fn check(&self) -> Result<(), FatError> {
        for copy in 1..self.boot.tables {
            let at = self
                .boot
                .table_at
                .saturating_add(copy.saturating_mul(self.boot.table_len));
            if self.disk.read_vec(at, self.boot.table_len as usize)? != self.table_before {
                return Err(damaged(Structure::AllocationTable, "differs from its copy"));
            }
        }
        if let Place::Fixed { len, .. } = self.boot.root
            && !len.is_multiple_of(self.boot.sector_len)
        {
            return Err(damaged(
                Structure::Folder,
                "that is the root is no whole number of sectors",
            ));
        }
        let mut claimed = BTreeSet::new();
        if let Place::Chain(first) = self.boot.root {
            self.claim(first, &mut claimed)?;
        }
        let mut open = vec![self.boot.root];
        let mut seen = 0_usize;
        while let Some(folder) = open.pop() {
            seen = seen.saturating_add(1);
            if seen > MOST_FOLDERS {
                return Err(damaged(
                    Structure::Volume,
                    "has more folders than are looked into",
                ));
            }
            for entry in self.entries(folder)? {
                if matches!(entry.name.as_str(), "." | "..") {
                    continue;
                }
                let clusters = self.claim(entry.first_cluster, &mut claimed)?;
                self.check_length(&entry, clusters)?;
                if entry.is_folder() {
                    open.push(Place::Chain(entry.first_cluster));
                }
            }
        }
        Ok(())
    }

    fn claim(&self, first: u32, claimed: &mut BTreeSet<u32>) -> Result<u64, FatError> {
        let chain = self.chain(first)?;
        for cluster in &chain {
            if !claimed.insert(*cluster) {
                return Err(damaged(Structure::Chain, "shares a cluster with another"));
            }
        }
        Ok(chain.len() as u64)
    }

    fn check_length(&self, entry: &Entry, clusters: u64) -> Result<(), FatError> {
        let wanted = u64::from(entry.len).div_ceil(self.boot.cluster_len);
        match (entry.is_folder(), clusters) {
            (true, 0) => Err(damaged(Structure::Folder, "has no cluster")),
            (false, clusters) if clusters < wanted => {
                Err(damaged(Structure::File, "is longer than its chain"))
            }
            _ => Ok(()),
        }
    }
}
