//! Blocks and inodes taken and given back: bitmaps and the counters beside them.

use super::super::checksum::crc32c;
use super::descriptor::{
    BLOCK_CHECKSUM, BLOCK_UNUSED, FOLDERS, FREE_BLOCKS, FREE_INODES, INODE_CHECKSUM, INODE_UNUSED,
    UNUSED_INODES,
};
use super::{Bitmap, Editor, ExtError, Structure, damaged, full};
use crate::Disk;

/// Free blocks of the whole file system in the superblock.
pub const ALL_FREE_BLOCKS: (usize, usize) = (0xc, 0x158);

fn bit(bytes: &[u8], at: u64) -> bool {
    bytes[(at / 8) as usize] >> (at % 8) & 1 == 1
}

fn set_bits(bytes: &mut [u8], from: u64, to: u64, on: bool) {
    for at in from..to {
        let mask = 1 << (at % 8);
        match on {
            true => bytes[(at / 8) as usize] |= mask,
            false => bytes[(at / 8) as usize] &= !mask,
        }
    }
}

impl<D: Disk> Editor<D> {
    /// The block bitmap of a group, from the disk or made from its tables where it never was
    /// written.
    pub(super) fn block_bitmap(&mut self, group: u64) -> Result<&mut Bitmap, ExtError> {
        if !self.block_bitmaps.contains_key(&group) {
            let bytes = self.load_block_bitmap(group)?;
            let bitmap = Bitmap {
                bytes,
                changed: false,
            };
            self.block_bitmaps.insert(group, bitmap);
        }
        self.block_bitmaps
            .get_mut(&group)
            .ok_or_else(|| damaged(Structure::Bitmap, None, "is missing"))
    }

    fn load_block_bitmap(&self, group: u64) -> Result<Vec<u8>, ExtError> {
        let superblock = &self.superblock;
        let descriptor = &self.groups[group as usize];
        let len = superblock.group_len(group);
        let bits = superblock.block_len * 8;
        let start = superblock.group_start(group);
        if superblock.has_group_checksums() && descriptor.flags() & BLOCK_UNUSED != 0 {
            return Ok(self.fresh_block_bitmap(group));
        }
        let at = descriptor.places.block_bitmap * superblock.block_len;
        let mut bytes = self.disk.read_vec(at, superblock.block_len as usize)?;
        if superblock.has_checksums() {
            let covered = (superblock.blocks_per_group / 8) as usize;
            let (expected, kept) = descriptor.places.bitmap_checksum;
            if (crc32c(superblock.seed, &bytes[..covered]) ^ expected) & kept != 0 {
                return Err(ExtError::Checksum(format!(
                    "the block bitmap of group {group}"
                )));
            }
        }
        for (from, to) in self.system.within(start, start + len) {
            if !(from - start..to - start).all(|at| bit(&bytes, at)) {
                return Err(damaged(
                    Structure::Bitmap,
                    Some(group),
                    "calls the tables of its group free",
                ));
            }
        }
        set_bits(&mut bytes, len, bits, true);
        Ok(bytes)
    }

    /// A bitmap with nothing but the tables in use.
    pub(super) fn fresh_block_bitmap(&self, group: u64) -> Vec<u8> {
        let superblock = &self.superblock;
        let (start, len) = (superblock.group_start(group), superblock.group_len(group));
        let mut bytes = vec![0; superblock.block_len as usize];
        for (from, to) in self.system.within(start, start + len) {
            set_bits(&mut bytes, from - start, to - start, true);
        }
        set_bits(&mut bytes, len, superblock.block_len * 8, true);
        bytes
    }

    /// Says that blocks of one group are in use or free, in bitmap and counters.
    fn mark(&mut self, start: u64, count: u64, used: bool) -> Result<(), ExtError> {
        let superblock = &self.superblock;
        let group = (start - superblock.first_block) / superblock.blocks_per_group;
        let from = start - superblock.group_start(group);
        let bitmap = self.block_bitmap(group)?;
        if (from..from + count).any(|at| bit(&bitmap.bytes, at) == used) {
            return Err(damaged(
                Structure::Group,
                Some(group),
                "has blocks that are free and in use at once",
            ));
        }
        set_bits(&mut bitmap.bytes, from, from + count, used);
        bitmap.changed = true;
        let descriptor = &mut self.groups[group as usize];
        let wrong = || damaged(Structure::Group, Some(group), "miscounts its free blocks");
        let (free, change) = (descriptor.get(FREE_BLOCKS), count as u32);
        let free = match used {
            true => free.checked_sub(change),
            false => free.checked_add(change),
        };
        descriptor.set(FREE_BLOCKS, free.ok_or_else(wrong)?);
        descriptor.set_flags(descriptor.flags() & !BLOCK_UNUSED);
        let all = self.count(ALL_FREE_BLOCKS.0, ALL_FREE_BLOCKS.1);
        let all = match used {
            true => all.checked_sub(count),
            false => all.checked_add(count),
        };
        self.set_count(ALL_FREE_BLOCKS.0, ALL_FREE_BLOCKS.1, all.ok_or_else(wrong)?);
        Ok(())
    }

    /// Gives blocks back.
    pub(super) fn release_blocks(&mut self, start: u64, count: u64) -> Result<(), ExtError> {
        let (mut at, end) = (start, start + count);
        if start < self.superblock.first_block || end > self.superblock.blocks {
            return Err(damaged(
                Structure::BlockMap,
                None,
                "reaches outside of the file system",
            ));
        }
        if self.system.within(start, end).next().is_some() {
            return Err(damaged(
                Structure::BlockMap,
                None,
                "claims blocks of a group's tables",
            ));
        }
        while at < end {
            let run = self.superblock.blocks_per_group;
            let border = at + run - (at - self.superblock.first_block) % run;
            let take = border.min(end) - at;
            self.mark(at, take, false)?;
            at += take;
        }
        Ok(())
    }

    /// Groups in the order in which room is looked for: from `near` on, those whose bitmap was
    /// never written last.
    fn order(&self, near: u64, unused: u16) -> Vec<u64> {
        let groups = self.groups.len() as u64;
        let turned = (near..groups).chain(0..near.min(groups));
        let (fresh, begun): (Vec<u64>, Vec<u64>) =
            turned.partition(|group| self.groups[*group as usize].flags() & unused != 0);
        begun.into_iter().chain(fresh).collect()
    }

    /// Takes `count` blocks in as few runs as can be found quickly, near a group. Nothing is
    /// taken when there are too few.
    pub(super) fn take_blocks(
        &mut self,
        count: u64,
        near: u64,
        what: &str,
    ) -> Result<Vec<(u64, u64)>, ExtError> {
        if self.count(ALL_FREE_BLOCKS.0, ALL_FREE_BLOCKS.1) < count {
            return Err(full(what));
        }
        let order = self.order(near, BLOCK_UNUSED);
        let mut found: Vec<(u64, u64)> = Vec::new();
        let mut missing = count;
        // One run for all of it first, wherever it lies; then whatever is free, in order.
        for whole in [true, false] {
            for group in &order {
                if missing == 0 {
                    break;
                }
                let free = u64::from(self.groups[*group as usize].get(FREE_BLOCKS));
                if free == 0 || whole && free < count {
                    continue;
                }
                let (start, len) = (
                    self.superblock.group_start(*group),
                    self.superblock.group_len(*group),
                );
                let bytes = &self.block_bitmap(*group)?.bytes;
                let mut at = 0;
                while at < len && missing > 0 {
                    if at % 8 == 0 && bytes[(at / 8) as usize] == 0xff {
                        at += 8;
                        continue;
                    }
                    if bit(bytes, at) {
                        at += 1;
                        continue;
                    }
                    let from = at;
                    while at < len && at - from < missing && !bit(bytes, at) {
                        at += 1;
                    }
                    if !whole || at - from == count {
                        found.push((start + from, at - from));
                        missing -= at - from;
                    }
                }
            }
        }
        if missing > 0 {
            return Err(full(what));
        }
        for (start, len) in &found {
            self.mark(*start, *len, true)?;
        }
        Ok(found)
    }

    pub(super) fn inode_bitmap(&mut self, group: u64) -> Result<&mut Bitmap, ExtError> {
        if !self.inode_bitmaps.contains_key(&group) {
            let superblock = &self.superblock;
            let descriptor = &self.groups[group as usize];
            let unused = superblock.has_group_checksums() && descriptor.flags() & INODE_UNUSED != 0;
            let mut bytes = if unused {
                vec![0; superblock.block_len as usize]
            } else {
                let at = descriptor.places.inode_bitmap * superblock.block_len;
                self.disk.read_vec(at, superblock.block_len as usize)?
            };
            let count = u64::from(superblock.inodes_per_group);
            if !unused && superblock.has_checksums() {
                let sum = crc32c(superblock.seed, &bytes[..(count / 8) as usize]);
                let kept = if superblock.descriptor_len >= 64 {
                    u32::MAX
                } else {
                    0xffff
                };
                if (sum ^ descriptor.get(INODE_CHECKSUM)) & kept != 0 {
                    return Err(ExtError::Checksum(format!(
                        "the inode bitmap of group {group}"
                    )));
                }
            }
            set_bits(&mut bytes, count, superblock.block_len * 8, true);
            let bitmap = Bitmap {
                bytes,
                changed: false,
            };
            self.inode_bitmaps.insert(group, bitmap);
        }
        self.inode_bitmaps
            .get_mut(&group)
            .ok_or_else(|| damaged(Structure::Bitmap, None, "is missing"))
    }

    /// Takes the first free inode in or behind the group of `near`.
    pub(super) fn take_inode(&mut self, near: u32, folder: bool) -> Result<u32, ExtError> {
        let per_group = self.superblock.inodes_per_group;
        let first = self.superblock.first_inode;
        for group in self.order(u64::from((near - 1) / per_group), INODE_UNUSED) {
            if self.groups[group as usize].get(FREE_INODES) == 0 {
                continue;
            }
            let base = group as u32 * per_group + 1;
            let from = first.saturating_sub(base);
            let bitmap = self.inode_bitmap(group)?;
            let Some(index) = (from..per_group).find(|at| !bit(&bitmap.bytes, u64::from(*at)))
            else {
                continue;
            };
            set_bits(&mut bitmap.bytes, index.into(), u64::from(index) + 1, true);
            bitmap.changed = true;
            let checksums = self.superblock.has_group_checksums();
            let one = &mut self.groups[group as usize];
            one.set(FREE_INODES, one.get(FREE_INODES) - 1);
            if folder {
                one.set(FOLDERS, one.get(FOLDERS) + 1);
            }
            if checksums {
                let unused = one.get(UNUSED_INODES).min(per_group - index - 1);
                one.set(UNUSED_INODES, unused);
                one.set_flags(one.flags() & !INODE_UNUSED);
            }
            self.change_free_inodes(-1)?;
            return Ok(base + index);
        }
        Err(full("another file: all inodes are taken"))
    }

    pub(super) fn release_inode(&mut self, number: u32, folder: bool) -> Result<(), ExtError> {
        let per_group = self.superblock.inodes_per_group;
        let group = u64::from((number - 1) / per_group);
        let index = u64::from((number - 1) % per_group);
        let bitmap = self.inode_bitmap(group)?;
        if !bit(&bitmap.bytes, index) {
            return Err(damaged(
                Structure::Inode,
                Some(u64::from(number)),
                "is free and in use at once",
            ));
        }
        set_bits(&mut bitmap.bytes, index, index + 1, false);
        bitmap.changed = true;
        let one = &mut self.groups[group as usize];
        one.set(FREE_INODES, one.get(FREE_INODES) + 1);
        if folder {
            one.set(FOLDERS, one.get(FOLDERS).saturating_sub(1));
        }
        self.change_free_inodes(1)
    }

    fn change_free_inodes(&mut self, change: i32) -> Result<(), ExtError> {
        let free = crate::number::le32(&self.raw, 0x10).unwrap_or(0);
        let free = free
            .checked_add_signed(change)
            .ok_or_else(|| damaged(Structure::Superblock, None, "miscounts its free inodes"))?;
        super::put32(&mut self.raw, 0x10, free);
        Ok(())
    }

    /// Writes changed bitmaps and their checksums.
    pub(super) fn write_bitmaps(&mut self) -> Result<(), ExtError> {
        let superblock = &self.superblock;
        let sealed = superblock.has_checksums();
        let inodes = (superblock.inodes_per_group / 8) as usize;
        let blocks = (superblock.blocks_per_group / 8) as usize;
        for (group, bitmap) in self.block_bitmaps.iter_mut().filter(|(_, one)| one.changed) {
            let one = &mut self.groups[*group as usize];
            if sealed {
                one.set(
                    BLOCK_CHECKSUM,
                    crc32c(superblock.seed, &bitmap.bytes[..blocks]),
                );
            }
            let at = one.places.block_bitmap * superblock.block_len;
            self.disk.write_at(at, &bitmap.bytes)?;
            bitmap.changed = false;
        }
        for (group, bitmap) in self.inode_bitmaps.iter_mut().filter(|(_, one)| one.changed) {
            let one = &mut self.groups[*group as usize];
            if sealed {
                one.set(
                    INODE_CHECKSUM,
                    crc32c(superblock.seed, &bitmap.bytes[..inodes]),
                );
            }
            let at = one.places.inode_bitmap * superblock.block_len;
            self.disk.write_at(at, &bitmap.bytes)?;
            bitmap.changed = false;
        }
        Ok(())
    }
}
