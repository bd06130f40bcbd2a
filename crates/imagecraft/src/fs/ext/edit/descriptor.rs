//! Group descriptors as bytes: counters, flags, places and checksums.

use super::super::group::Group;
use super::super::superblock::Superblock;
use super::{Editor, ExtError, put16, put32};
use crate::Disk;
use crate::number::{le16, le32};

/// The inode table's and inode bitmap's tail was never written.
pub const INODE_UNUSED: u16 = 0x1;
/// The block bitmap was never written.
pub const BLOCK_UNUSED: u16 = 0x2;

/// A 16-bit number whose upper half lies elsewhere where descriptors are 64 bytes or longer.
type Halves = (usize, usize);
pub const FREE_BLOCKS: Halves = (0xc, 0x2c);
pub const FREE_INODES: Halves = (0xe, 0x2e);
pub const FOLDERS: Halves = (0x10, 0x30);
/// Inodes at the table's end that were never used.
pub const UNUSED_INODES: Halves = (0x1c, 0x32);
pub const BLOCK_CHECKSUM: Halves = (0x18, 0x38);
pub const INODE_CHECKSUM: Halves = (0x1a, 0x3a);

/// One group descriptor.
pub struct Descriptor {
    raw: Vec<u8>,
    pub places: Group,
    pub changed: bool,
}

impl Descriptor {
    /// A descriptor of a new group.
    pub fn new(len: u64, places: Group) -> Self {
        let mut raw = vec![0; len as usize];
        for (place, low, high) in [
            (places.block_bitmap, 0, 0x20),
            (places.inode_bitmap, 4, 0x24),
            (places.inode_table, 8, 0x28),
        ] {
            put32(&mut raw, low, place as u32);
            if len >= 64 {
                put32(&mut raw, high, (place >> 32) as u32);
            }
        }
        Self {
            raw,
            places,
            changed: true,
        }
    }

    pub fn get(&self, (low, high): Halves) -> u32 {
        let half = |at| u32::from(le16(&self.raw, at).unwrap_or(0));
        half(low)
            | if self.raw.len() >= 64 {
                half(high) << 16
            } else {
                0
            }
    }

    pub fn set(&mut self, (low, high): Halves, value: u32) {
        put16(&mut self.raw, low, value as u16);
        if self.raw.len() >= 64 {
            put16(&mut self.raw, high, (value >> 16) as u16);
        }
        self.changed = true;
    }

    pub fn flags(&self) -> u16 {
        le16(&self.raw, 0x12).unwrap_or(0)
    }

    pub fn set_flags(&mut self, flags: u16) {
        put16(&mut self.raw, 0x12, flags);
        self.changed = true;
    }
}

/// All descriptors of a file system, checked.
pub fn read_all<D: Disk>(disk: &D, superblock: &Superblock) -> Result<Vec<Descriptor>, ExtError> {
    let run = superblock.descriptors_per_block();
    let mut found = Vec::new();
    let mut block = Vec::new();
    for group in 0..superblock.groups() {
        if group % run == 0 {
            let at = superblock.descriptor_block(group) * superblock.block_len;
            block = disk.read_vec(at, superblock.block_len as usize)?;
        }
        let from = (group % run * superblock.descriptor_len) as usize;
        let raw = block[from..from + superblock.descriptor_len as usize].to_vec();
        found.push(Descriptor {
            places: superblock.parse_group(group, &raw, true)?,
            raw,
            changed: false,
        });
    }
    Ok(found)
}

impl<D: Disk> Editor<D> {
    /// Keeps a group's tables out of what files may get.
    pub(super) fn note_tables(&mut self, group: u64) {
        let start = self.superblock.group_start(group);
        self.system
            .add(start, start + self.superblock.base_blocks(group));
        let places = self.groups[group as usize].places;
        for block in [places.block_bitmap, places.inode_bitmap] {
            self.system.add(block, block + 1);
        }
        let table = places.inode_table;
        self.system
            .add(table, table + self.superblock.table_blocks());
    }

    /// Writes changed descriptors; after growth all of them, in every copy.
    pub(super) fn write_descriptors(&mut self) -> Result<(), ExtError> {
        let superblock = &self.superblock;
        let (run, block_len) = (superblock.descriptors_per_block(), superblock.block_len);
        for (number, members) in (0..).zip(self.groups.chunks_mut(run as usize)) {
            if !self.grown && members.iter().all(|one| !one.changed) {
                continue;
            }
            let first = number * run;
            let mut block = vec![0; block_len as usize];
            for (group, one) in (first..).zip(members) {
                if superblock.has_group_checksums() {
                    let sum = superblock.group_checksum(group, &one.raw).unwrap_or(0);
                    put16(&mut one.raw, 0x1e, sum);
                }
                let from = ((group - first) * superblock.descriptor_len) as usize;
                block[from..from + one.raw.len()].copy_from_slice(&one.raw);
                one.changed = false;
            }
            let place = superblock.descriptor_block(first);
            self.disk.write_at(place * block_len, &block)?;
            if !self.grown {
                continue;
            }
            let copies: Vec<u64> = if superblock.has_meta_groups()
                && number >= superblock.first_meta_group
            {
                [first + 1, first + run - 1]
                    .into_iter()
                    .filter(|group| *group < superblock.groups())
                    .map(|group| {
                        superblock.group_start(group)
                            + u64::from(superblock.has_copy(group))
                            + superblock.superblock_offset(group)
                    })
                    .collect()
            } else {
                (1..superblock.groups())
                    .filter(|group| superblock.has_copy(*group))
                    .filter(|group| {
                        !superblock.has_meta_groups() || group / run < superblock.first_meta_group
                    })
                    .map(|group| place + group * superblock.blocks_per_group)
                    .collect()
            };
            for copy in copies {
                self.disk.write_at(copy * block_len, &block)?;
            }
        }
        Ok(())
    }

    /// A counter of the superblock whose upper half lies elsewhere.
    pub(super) fn count(&self, low: usize, high: usize) -> u64 {
        let half = |at| u64::from(le32(&self.raw, at).unwrap_or(0));
        half(low)
            | if self.superblock.is_wide() {
                half(high) << 32
            } else {
                0
            }
    }

    pub(super) fn set_count(&mut self, low: usize, high: usize, value: u64) {
        put32(&mut self.raw, low, value as u32);
        if self.superblock.is_wide() {
            put32(&mut self.raw, high, (value >> 32) as u32);
        }
    }
}
