//! Group descriptors: where a group's bitmaps and inode table lie.

use super::checksum::{crc16, crc32c};
use super::superblock::{Superblock, incompat};
use super::{ExtError, Structure, damaged};
use crate::Disk;
use crate::number::{le16, le32, split, times};

const INODES_UNUSED: u16 = 0x1;
const BLOCKS_UNUSED: u16 = 0x2;
const TABLE_ZEROED: u16 = 0x4;

/// One group descriptor.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Group {
    pub block_bitmap: u64,
    pub inode_bitmap: u64,
    pub inode_table: u64,
    /// Clusters that it says are free.
    pub free_clusters: u32,
    /// Whether its block bitmap was never written: only its own tables are in use.
    pub blocks_unused: bool,
    /// Inodes at the end of its table that were never used, and whose bytes nobody promised to
    /// be zero.
    pub raw_inodes: u32,
    /// Checksum of the block bitmap, and how many bits of it are kept.
    pub bitmap_checksum: (u32, u32),
}

impl Superblock {
    pub(super) fn descriptors_per_block(&self) -> u64 {
        times(self.block_len, self.descriptor_len)
    }

    /// Blocks of descriptors that follow each copy of the superblock.
    pub(super) fn descriptor_blocks(&self) -> u64 {
        let all = self.groups().div_ceil(self.descriptors_per_block());
        if self.incompat & incompat::META_BG != 0 {
            all.min(self.first_meta_group)
        } else {
            all
        }
    }

    /// Block of the superblock in its group, which is not block 0 for blocks of 1 KiB.
    pub(super) fn superblock_offset(&self, group: u64) -> u64 {
        u64::from(group == 0 && self.block_len == 1024 && self.first_block == 0)
    }

    /// The block that holds the descriptor of a group.
    pub(super) fn descriptor_block(&self, group: u64) -> u64 {
        let number = times(group, self.descriptors_per_block());
        if self.incompat & incompat::META_BG == 0 || number < self.first_meta_group {
            return self
                .first_block
                .saturating_add(self.superblock_offset(0))
                .saturating_add(1)
                .saturating_add(number);
        }
        let first = number.saturating_mul(self.descriptors_per_block());
        self.group_start(first)
            .saturating_add(u64::from(self.has_copy(first)))
            .saturating_add(self.superblock_offset(first))
    }

    /// Whether a group holds a block of descriptors of its run of groups: the first, the second
    /// and the last one of each run do, where descriptors do not stand together.
    pub(super) fn has_descriptor_block(&self, group: u64) -> bool {
        let run = self.descriptors_per_block();
        let (number, within) = split(group, run);
        self.incompat & incompat::META_BG != 0
            && number >= self.first_meta_group
            && (matches!(within, 0 | 1) || within == run.saturating_sub(1))
    }

    /// Reads the descriptor of a group. `checked` says whether its checksum must match.
    pub(super) fn group<D: Disk + ?Sized>(
        &self,
        disk: &D,
        group: u64,
        checked: bool,
    ) -> Result<Group, ExtError> {
        let within = split(group, self.descriptors_per_block()).1;
        let at = self
            .descriptor_block(group)
            .saturating_mul(self.block_len)
            .saturating_add(within.saturating_mul(self.descriptor_len));
        let raw = disk.read_vec(at, self.descriptor_len as usize)?;
        self.parse_group(group, &raw, checked)
    }

    /// The descriptor of a group from its bytes.
    pub(super) fn parse_group(
        &self,
        group: u64,
        raw: &[u8],
        checked: bool,
    ) -> Result<Group, ExtError> {
        if checked
            && self.has_group_checksums()
            && self.group_checksum(group, raw) != le16(raw, 0x1e)
        {
            return Err(ExtError::Checksum(format!(
                "the descriptor of group {group}"
            )));
        }
        let wide = self.descriptor_len >= 64;
        let block = |low: usize, high: usize| {
            let high = if wide {
                le32(raw, high).unwrap_or(0)
            } else {
                0
            };
            u64::from(high) << 32 | u64::from(le32(raw, low).unwrap_or(0))
        };
        let flags = match self.has_group_checksums() {
            true => le16(raw, 0x12).unwrap_or(0),
            false => TABLE_ZEROED,
        };
        let half = |at| u32::from(le16(raw, at).unwrap_or(0));
        let unused = half(0x1c) | if wide { half(0x32) << 16 } else { 0 };
        let found = Group {
            block_bitmap: block(0, 0x20),
            inode_bitmap: block(4, 0x24),
            inode_table: block(8, 0x28),
            free_clusters: half(0xc) | if wide { half(0x2c) << 16 } else { 0 },
            blocks_unused: flags & BLOCKS_UNUSED != 0,
            raw_inodes: match flags & (TABLE_ZEROED | INODES_UNUSED) {
                0 => unused.min(self.inodes_per_group),
                INODES_UNUSED => self.inodes_per_group,
                _ => 0,
            },
            bitmap_checksum: (
                u32::from(le16(raw, 0x18).unwrap_or(0))
                    | if wide {
                        u32::from(le16(raw, 0x38).unwrap_or(0)) << 16
                    } else {
                        0
                    },
                if wide { u32::MAX } else { 0xffff },
            ),
        };
        let table_end = found.inode_table.checked_add(self.table_blocks());
        if table_end.is_none_or(|end| end > self.blocks)
            || found.block_bitmap.max(found.inode_bitmap) >= self.blocks
            || found
                .block_bitmap
                .min(found.inode_bitmap)
                .min(found.inode_table)
                <= self.first_block
        {
            return Err(damaged(
                Structure::Group,
                Some(group),
                "has its tables outside of the file system",
            ));
        }
        Ok(found)
    }

    /// Blocks of one group's inode table.
    pub(super) fn table_blocks(&self) -> u64 {
        u64::from(self.inodes_per_group)
            .saturating_mul(self.inode_len)
            .div_ceil(self.block_len)
    }

    /// Where in a group the blocks lie that are reserved for a copy of more descriptors, counted
    /// from its first block, and how many they are.
    pub(super) fn reserved_blocks(&self, group: u64) -> (u64, u64) {
        match self
            .base_blocks(group)
            .checked_sub(self.reserved_descriptors)
        {
            Some(from) if from > 1 && self.has_copy(group) => (from, self.reserved_descriptors),
            _ => (0, 0),
        }
    }

    /// Blocks at the beginning of a group that hold the superblock's copy and descriptors.
    pub(super) fn base_blocks(&self, group: u64) -> u64 {
        let copy = match self.has_copy(group) {
            true => self.superblock_offset(group).saturating_add(1),
            false => 0,
        };
        let number = times(group, self.descriptors_per_block());
        if self.has_meta_groups() && number >= self.first_meta_group {
            return copy.saturating_add(u64::from(self.has_descriptor_block(group)));
        }
        match copy {
            0 => 0,
            copy => copy
                .saturating_add(self.descriptor_blocks())
                .saturating_add(self.reserved_descriptors),
        }
    }

    /// Blocks that belong to a group; the last one may be shorter than the others.
    pub(super) fn group_len(&self, group: u64) -> u64 {
        self.blocks_per_group
            .min(self.blocks.saturating_sub(self.group_start(group)))
    }

    pub(super) fn group_checksum(&self, group: u64, raw: &[u8]) -> Option<u16> {
        let number = (group as u32).to_le_bytes();
        if self.has_checksums() {
            let state = crc32c(crc32c(self.seed, &number), raw.get(..0x1e)?);
            let state = crc32c(crc32c(state, &[0; 2]), raw.get(0x20..)?);
            return Some(state as u16);
        }
        let state = crc16(crc16(crc16(!0, &self.uuid), &number), raw.get(..0x1e)?);
        Some(if self.incompat & incompat::BITS_64 != 0 {
            crc16(state, raw.get(0x20..)?)
        } else {
            state
        })
    }
}
