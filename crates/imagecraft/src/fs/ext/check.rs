//! The check of what an edit relies on, before anything is changed: every folder and every file's
//! block table, from the root down.
//!
//! It is not the check of a repair program: it finds what could make an edit or a growth spoil
//! something else.

use std::collections::HashSet;

use super::inode::{self, Inode, ROOT};
use super::superblock::Superblock;
use super::{Ext, ExtError, Structure, damaged};
use crate::Disk;
use crate::fs::{NodeKind, Used};
use crate::number::{split, times};

/// Most files and folders that are looked at. A root file system has some ten thousand.
const MOST_INODES: usize = 2_000_000;

/// Runs of blocks with whose they are; 0 stands for the file system's own tables.
#[derive(Default)]
struct Claims(Vec<(u64, u64, u32)>);

impl Claims {
    fn add(&mut self, start: u64, count: u64, owner: u32) {
        if count > 0 {
            self.0.push((start, count, owner));
        }
    }

    /// No block may belong to two, and none of a file's be called free.
    fn settle(mut self, used: &Used) -> Result<(), ExtError> {
        for (start, count, owner) in self.0.iter().filter(|(_, _, owner)| *owner != 0) {
            if !used.has_all(*start, *count) {
                return Err(damaged(
                    Structure::BlockMap,
                    None,
                    format!(
                        "of inode {owner} has {count} blocks from block {start} on, of which the block bitmap calls some free"
                    ),
                ));
            }
        }
        self.0.sort_unstable();
        for pair in self.0.windows(2) {
            let ((start, count, one), (next, _, two)) = (pair[0], pair[1]);
            if start.saturating_add(count) > next {
                let name = |owner| match owner {
                    0 => "the file system's own tables".to_owned(),
                    number => format!("inode {number}"),
                };
                return Err(damaged(
                    Structure::BlockMap,
                    None,
                    format!(
                        "claims block {next}, which belongs to {} and to {}",
                        name(one),
                        name(two)
                    ),
                ));
            }
        }
        Ok(())
    }
}

impl<D: Disk> Ext<D> {
    /// Walks through all folders: every name must lead to an inode in use, every folder be reached
    /// once, every block table lie inside the file system, and no block belong to two or be called free.
    ///
    /// # Errors
    /// [`ExtError::Damaged`] with what is wrong and where.
    pub fn check(&self) -> Result<(), ExtError> {
        let mut claims = Claims::default();
        self.claim_tables(&mut claims)?;
        let mut inodes = Inodes::new(self);
        let mut folders = vec![(ROOT, ROOT, String::from("/"))];
        let mut seen_folders = HashSet::from([ROOT]);
        let mut seen_files = HashSet::new();
        while let Some((number, above, path)) = folders.pop() {
            let folder = inodes.read(number)?;
            if folder.kind() != NodeKind::Folder {
                return Err(damaged(
                    Structure::Inode,
                    None,
                    format!("{path} is no folder, though it is one by name"),
                ));
            }
            self.claim_inode(&folder, &path, &mut claims)?;
            for (name, child) in self.checked_names(&folder, number, above, &path)? {
                let at = format!("{}/{name}", path.trim_end_matches('/'));
                if child < self.superblock.first_inode || child > self.superblock.inodes {
                    return Err(damaged(
                        Structure::Folder,
                        None,
                        format!("leads from {at} to inode {child}, which is no file's"),
                    ));
                }
                let inode = inodes.read(child)?;
                if inode.mode == 0 || inode.links == 0 {
                    return Err(damaged(
                        Structure::Folder,
                        None,
                        format!("leads from {at} to inode {child}, which is not in use"),
                    ));
                }
                if inode.kind() == NodeKind::Folder {
                    if !seen_folders.insert(child) {
                        return Err(damaged(
                            Structure::Folder,
                            None,
                            format!("{at} is reached twice"),
                        ));
                    }
                    folders.push((child, number, at));
                } else if seen_files.insert(child) {
                    self.claim_inode(&inode, &at, &mut claims)?;
                }
                if seen_files.len().saturating_add(seen_folders.len()) > MOST_INODES {
                    return Err(ExtError::TooLong("the tree of folders".into()));
                }
            }
        }
        claims.settle(&super::blocks::used(&self.disk, &self.superblock, true)?)
    }

    fn claim_tables(&self, claims: &mut Claims) -> Result<(), ExtError> {
        let superblock = &self.superblock;
        claims.add(0, superblock.first_block, 0);
        for group in 0..superblock.groups() {
            let found = superblock.group(&self.disk, group, false)?;
            let start = superblock.group_start(group);
            claims.add(
                start,
                superblock.base_blocks(group).max(u64::from(group == 0)),
                0,
            );
            for (at, count) in [
                (found.block_bitmap, 1),
                (found.inode_bitmap, 1),
                (found.inode_table, superblock.table_blocks()),
            ] {
                if at
                    .checked_add(count)
                    .is_none_or(|end| end > superblock.blocks)
                {
                    return Err(damaged(
                        Structure::Group,
                        Some(group),
                        "has its tables outside of it",
                    ));
                }
                claims.add(at, count, 0);
            }
        }
        Ok(())
    }

    /// The blocks of a file and of its table, and those of its attributes where it has its own.
    fn claim_inode(&self, inode: &Inode, path: &str, claims: &mut Claims) -> Result<(), ExtError> {
        if !inode.has_blocks() || (inode.kind() == NodeKind::Link && self.is_short(inode)) {
            return Ok(());
        }
        let end = inode.len.div_ceil(self.superblock.block_len);
        let mapping = inode::whole_mapping(&self.disk, &self.superblock, inode, end);
        let (pieces, tables) = mapping.map_err(|e| e.at(path))?;
        for piece in pieces {
            claims.add(piece.physical, piece.count, inode.number);
        }
        for table in tables {
            claims.add(table, 1, inode.number);
        }
        Ok(())
    }

    /// The names in a folder, whose first two must be itself and the folder above.
    fn checked_names(
        &self,
        folder: &Inode,
        number: u32,
        above: u32,
        path: &str,
    ) -> Result<Vec<(String, u32)>, ExtError> {
        let wrong = |what: String| damaged(Structure::Folder, None, format!("{path} {what}"));
        let names = self.all_names(folder).map_err(|e| e.at(path))?;
        if !folder.is_inline() {
            let mut own = names.iter().take(2);
            let is = |entry: Option<&(Vec<u8>, u32)>, name: &[u8], inode| {
                entry.is_some_and(|(found, to)| found == name && *to == inode)
            };
            if !is(own.next(), b".", number) || !is(own.next(), b"..", above) {
                return Err(wrong("does not begin with itself and the one above".into()));
            }
        }
        let mut found = HashSet::new();
        let mut kept = Vec::new();
        for (name, child) in names {
            if name == b"." || name == b".." {
                continue;
            }
            if name.iter().any(|byte| matches!(byte, 0 | b'/')) {
                return Err(wrong("has a name that cannot be".into()));
            }
            let text = crate::fs::name::text_of(&name);
            if !found.insert(name) {
                return Err(wrong(format!("has {text} twice")));
            }
            kept.push((text, child));
        }
        Ok(kept)
    }

    fn is_short(&self, inode: &Inode) -> bool {
        inode.len < 60
            && inode.flags & inode::EXTENTS == 0
            && (inode.sectors == 0 || self.is_in_place(inode))
    }
}

/// Inodes read a stretch of their table at a time: neighbours in a folder are mostly neighbours in
/// the table.
struct Inodes<'a, D> {
    ext: &'a Ext<D>,
    tables: Vec<Option<u64>>,
    first: u32,
    bytes: Vec<u8>,
}

impl<'a, D: Disk> Inodes<'a, D> {
    fn new(ext: &'a Ext<D>) -> Self {
        Self {
            ext,
            tables: vec![None; ext.superblock.groups().min(1 << 20) as usize],
            first: 0,
            bytes: Vec::new(),
        }
    }

    fn read(&mut self, number: u32) -> Result<Inode, ExtError> {
        let superblock: &Superblock = &self.ext.superblock;
        if number == 0 || number > superblock.inodes {
            return Err(damaged(
                Structure::Inode,
                Some(u64::from(number)),
                "is not there",
            ));
        }
        let len = superblock.inode_len as usize;
        let held = times(self.bytes.len() as u64, superblock.inode_len) as u32;
        if self.first == 0 || number < self.first || number.saturating_sub(self.first) >= held {
            let (group, index) = superblock.place_of_inode(number);
            let place = self.tables.get_mut(group as usize);
            let place = place.ok_or_else(|| {
                damaged(
                    Structure::Inode,
                    Some(u64::from(number)),
                    "lies in no group",
                )
            })?;
            let table = match place {
                Some(table) => *table,
                None => {
                    let found = superblock.group(&self.ext.disk, group, false)?;
                    *place.insert(found.inode_table)
                }
            };
            // A stretch of 16 KiB.
            let stretch = times(16_384, superblock.inode_len).max(1);
            let behind = split(index.into(), stretch).1 as u32;
            let first = index.saturating_sub(behind);
            let count = superblock.inodes_per_group.saturating_sub(first);
            let count = count.min(stretch as u32);
            let at = table
                .saturating_mul(superblock.block_len)
                .saturating_add(u64::from(first).saturating_mul(superblock.inode_len));
            self.bytes = self
                .ext
                .disk
                .read_vec(at, (count as usize).saturating_mul(len))?;
            self.first = number.saturating_sub(behind);
        }
        let at = (number.saturating_sub(self.first) as usize).saturating_mul(len);
        Ok(Inode::parse(
            number,
            &self.bytes[at..at.saturating_add(len)],
        ))
    }
}
