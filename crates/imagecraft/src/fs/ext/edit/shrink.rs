//! A file system made shorter: what lies behind the new end moves to the front, its inodes too, and
//! the groups there go.
//!
//! Blocks keep their bytes, and files their holes; a file that moves may lie in more pieces than
//! before. Inodes that lie behind the new end get other numbers, so that every folder is gone through
//! for them.

use std::collections::BTreeMap;

use super::super::checksum::crc32c;
use super::super::inode::{self, Inode, Piece};
use super::super::superblock::{Superblock, compat};
use super::allocation::ALL_FREE_BLOCKS;
use super::descriptor::{BLOCK_UNUSED, FREE_BLOCKS, FREE_INODES, INODE_UNUSED};
use super::growth::{BLOCKS, FEWEST_BLOCKS, KEPT_FOR_ROOT, RESERVING};
use super::orphans::ORPHAN_FILE;
use super::record::Record;
use super::{Editor, ExtError, Structure, damaged, put16, put32};
use crate::Disk;
use crate::fs::NodeKind;
use crate::number::le32;
use crate::ranges::Ranges;

/// The inode that lists bad blocks.
const BAD_BLOCKS: u32 = 1;
/// Where the superblock keeps a copy of the journal's mapping, and whether it does.
const JOURNAL_COPY: usize = 0x10c;
const JOURNAL_COPY_KIND: usize = 0xfd;

/// What shrinking did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shrunk {
    /// Length in bytes before.
    pub before: u64,
    /// Length in bytes after.
    pub after: u64,
    /// Bytes that were moved to the front.
    pub moved: u64,
    /// Files and folders that got another inode.
    pub renumbered: u32,
}

/// What must move.
#[derive(Default)]
struct Behind {
    /// Inodes with blocks behind the new end, or with a number of a group that goes.
    affected: Vec<u32>,
    folders: Vec<u32>,
}

impl<D: Disk> Editor<D> {
    /// Shrinks the file system to `len` bytes at most.
    ///
    /// # Errors
    /// [`ExtError::CannotShrink`] where its files do not fit or it is built in a way that does not
    /// allow it; damage. The disk is not whole then.
    pub fn shrink(&mut self, len: u64) -> Result<Shrunk, ExtError> {
        let old = self.superblock.clone();
        let before = old.blocks * old.block_len;
        let blocks = self.shorter(len)?;
        let mut done = Shrunk {
            before,
            after: before,
            moved: 0,
            renumbered: 0,
        };
        if blocks >= old.blocks {
            return Ok(done);
        }
        let new = self.shortened(blocks);
        let system = self.check_fits(&new)?;
        let behind = self.behind(&new)?;

        // Bitmaps are read while it is still known what their groups hold.
        let groups = new.groups();
        let freed = self.freed(&system, blocks);
        self.block_bitmap(groups - 1)?;
        for (from, _) in &freed {
            self.block_bitmap((from - old.first_block) / old.blocks_per_group)?;
        }
        let leaving = self.leaving(&behind.affected, &new)?;
        self.superblock = new;
        self.cut_groups(groups as usize);
        let numbers = self.renumber(leaving)?;
        // From here on the tables of the groups that went may be overwritten.
        self.system = system;
        for (from, to) in freed {
            self.release_blocks(from, to - from)?;
        }
        if self.superblock.compat & compat::RESIZE_INODE != 0 {
            self.reserve_anew()?;
        }
        done.renumbered = numbers.len() as u32;
        done.moved = self.move_all(&behind.affected, &numbers, &old)?;
        if !numbers.is_empty() {
            self.rename_all(&behind.folders, &numbers)?;
        }
        self.note_moved_inodes(&behind.affected, &numbers)?;
        self.superblock = Superblock::parse_unsealed(&self.raw, self.disk.len())?;
        self.grown = true;
        done.after = blocks * old.block_len;
        Ok(done)
    }

    /// How many blocks it has within `len` bytes: a last group too short for its tables goes.
    fn shorter(&self, len: u64) -> Result<u64, ExtError> {
        let superblock = &self.superblock;
        let blocks = (len / superblock.block_len).min(superblock.blocks);
        if blocks == superblock.blocks {
            return Ok(blocks);
        }
        let inside = blocks.saturating_sub(superblock.first_block);
        let (group, last) = (
            inside / superblock.blocks_per_group,
            inside % superblock.blocks_per_group,
        );
        let own = superblock.base_blocks(group) + superblock.table_blocks() + 2 + FEWEST_BLOCKS;
        let blocks = if last > 0 && last < own {
            blocks - last
        } else {
            blocks
        };
        match blocks > superblock.first_block {
            true => Ok(blocks),
            false => Err(cannot("not even its own tables would fit")),
        }
    }

    /// The superblock as it is with fewer blocks.
    fn shortened(&self, blocks: u64) -> Superblock {
        let old = &self.superblock;
        let mut new = Superblock {
            blocks,
            ..old.clone()
        };
        let groups = new.groups();
        new.inodes = groups as u32 * old.inodes_per_group;
        let run = old.descriptors_per_block();
        new.first_meta_group = old.first_meta_group.min(groups.div_ceil(run));
        for copy in &mut new.backup_groups {
            if u64::from(*copy) >= groups {
                *copy = 0;
            }
        }
        if old.compat & compat::RESIZE_INODE != 0 {
            let given_up = old.descriptor_blocks() - new.descriptor_blocks();
            new.reserved_descriptors = (old.reserved_descriptors + given_up).min(old.block_len / 4);
        }
        new
    }

    /// Refuses what cannot be had; gives the tables of the groups that stay.
    fn check_fits(&self, new: &Superblock) -> Result<Ranges, ExtError> {
        let old = &self.superblock;
        let mut system = Ranges::default();
        let tables = new.table_blocks();
        for group in 0..new.groups() {
            let places = self.groups[group as usize].places;
            let start = new.group_start(group);
            system.add(start, start + new.base_blocks(group));
            for (from, len) in [
                (places.block_bitmap, 1),
                (places.inode_bitmap, 1),
                (places.inode_table, tables),
            ] {
                if from + len > new.blocks {
                    return Err(cannot(format!(
                        "the tables of its group {group} lie behind its new end"
                    )));
                }
                system.add(from, from + len);
            }
        }
        let count = |ranges: &Ranges| ranges.iter().map(|(from, to)| to - from).sum::<u64>();
        let free = self.sum(FREE_BLOCKS);
        let files = (old.blocks - old.first_block)
            .saturating_sub(free)
            .saturating_sub(count(&self.system));
        let needed = files + count(&system) + new.first_block;
        if needed > new.blocks {
            return Err(cannot(format!(
                "what it holds needs {} bytes, and there would be {}",
                needed * old.block_len,
                new.blocks * old.block_len
            )));
        }
        let inodes = u64::from(old.inodes).saturating_sub(self.sum(FREE_INODES));
        if inodes > u64::from(new.inodes) {
            return Err(cannot(format!(
                "it has {inodes} files and folders, and there would be room for {} by number",
                new.inodes
            )));
        }
        Ok(system)
    }

    fn sum(&self, which: (usize, usize)) -> u64 {
        let counts = self.groups.iter().map(|one| u64::from(one.get(which)));
        counts.sum()
    }

    /// Blocks before `end` that were tables and are none any more.
    fn freed(&self, system: &Ranges, end: u64) -> Vec<(u64, u64)> {
        let mut found = Vec::new();
        for (from, to) in self.system.within(0, end) {
            let mut at = from;
            for (kept, until) in system.within(from, to) {
                found.push((at, kept));
                at = until;
            }
            found.push((at, to));
        }
        let run = self.superblock.blocks_per_group;
        let first = self.superblock.first_block;
        // By groups, since each has a bitmap of its own.
        let mut parts = Vec::new();
        for (mut from, to) in found {
            while from < to {
                let border = from + run - (from - first) % run;
                parts.push((from, border.min(to)));
                from = border.min(to);
            }
        }
        parts
    }

    /// Looks through all inodes for what must move.
    fn behind(&mut self, new: &Superblock) -> Result<Behind, ExtError> {
        let mut found = Behind::default();
        let per_group = self.superblock.inodes_per_group;
        for group in 0..self.superblock.groups() {
            let lazily = self.superblock.has_group_checksums();
            if lazily && self.groups[group as usize].flags() & INODE_UNUSED != 0 {
                continue;
            }
            let used: Vec<u32> = {
                let bitmap = &self.inode_bitmap(group)?.bytes;
                (0..per_group)
                    .filter(|at| bitmap[(at / 8) as usize] >> (at % 8) & 1 == 1)
                    .collect()
            };
            for at in used {
                let number = group as u32 * per_group + at + 1;
                if number != RESERVING {
                    self.look_at(number, new, &mut found)?;
                }
            }
        }
        Ok(found)
    }

    fn look_at(&self, number: u32, new: &Superblock, found: &mut Behind) -> Result<(), ExtError> {
        let record = self.record(number)?;
        let inode = record.inode();
        if number == BAD_BLOCKS && inode.sectors != 0 {
            return Err(cannot("it keeps a list of bad blocks"));
        }
        if inode.kind() == NodeKind::Folder {
            found.folders.push(number);
        }
        let (pieces, tables) = self.mapping_of(&record)?;
        let reaches = |piece: &Piece| piece.physical + piece.count > new.blocks;
        if number > new.inodes
            || pieces.iter().any(reaches)
            || tables.iter().any(|table| *table >= new.blocks)
            || record.attribute_block() >= new.blocks
        {
            found.affected.push(number);
        }
        Ok(())
    }

    /// The inodes of groups that go.
    fn leaving(&self, affected: &[u32], new: &Superblock) -> Result<Vec<Record>, ExtError> {
        let leaving = affected.iter().filter(|number| **number > new.inodes);
        leaving.map(|number| self.record(*number)).collect()
    }

    /// Forgets the groups behind the new end, and counts anew.
    fn cut_groups(&mut self, groups: usize) {
        let last = groups as u64 - 1;
        self.groups.truncate(groups);
        self.block_bitmaps.split_off(&(last + 1));
        self.inode_bitmaps.split_off(&(last + 1));
        let superblock = &self.superblock;
        let len = superblock.group_len(last);
        if let Some(bitmap) = self.block_bitmaps.get_mut(&last) {
            let used = |at: &u64| bitmap.bytes[(at / 8) as usize] >> (at % 8) & 1 == 1;
            let free = (0..len).filter(|at| !used(at)).count();
            for at in len..superblock.block_len * 8 {
                bitmap.bytes[(at / 8) as usize] |= 1 << (at % 8);
            }
            bitmap.changed = true;
            let one = &mut self.groups[last as usize];
            one.set(FREE_BLOCKS, free as u32);
            one.set_flags(one.flags() & !BLOCK_UNUSED);
        }
        let kept = u128::from(self.count(KEPT_FOR_ROOT.0, KEPT_FOR_ROOT.1));
        let old = u128::from(self.count(BLOCKS.0, BLOCKS.1).max(1));
        let blocks = self.superblock.blocks;
        let kept = (kept * u128::from(blocks) / old) as u64;
        let (free, inodes) = (self.sum(FREE_BLOCKS), self.sum(FREE_INODES));
        self.set_count(BLOCKS.0, BLOCKS.1, blocks);
        self.set_count(KEPT_FOR_ROOT.0, KEPT_FOR_ROOT.1, kept);
        self.set_count(ALL_FREE_BLOCKS.0, ALL_FREE_BLOCKS.1, free);
        let superblock = &self.superblock;
        put32(&mut self.raw, 0, superblock.inodes);
        put32(&mut self.raw, 0x10, inodes as u32);
        put16(&mut self.raw, 0xce, superblock.reserved_descriptors as u16);
        put32(&mut self.raw, 0x104, superblock.first_meta_group as u32);
        if superblock.compat & compat::SPARSE_SUPER2 != 0 {
            put32(&mut self.raw, 0x24c, superblock.backup_groups[0]);
            put32(&mut self.raw, 0x250, superblock.backup_groups[1]);
        }
        // The blocks of all tables together, which systems count anew where it is 0.
        put32(&mut self.raw, 0x248, 0);
    }

    /// Gives inodes of groups that went numbers in those that stay.
    fn renumber(&mut self, leaving: Vec<Record>) -> Result<BTreeMap<u32, u32>, ExtError> {
        let mut numbers = BTreeMap::new();
        let mut near = self.superblock.first_inode;
        for mut record in leaving {
            let old = record.number;
            near = self.take_inode(near, record.kind() == NodeKind::Folder)?;
            record.number = near;
            self.write_record(&mut record)?;
            numbers.insert(old, near);
        }
        Ok(numbers)
    }

    /// Names the reserved blocks anew: some that held descriptors are among them now, and some of
    /// the groups with copies went.
    fn reserve_anew(&mut self) -> Result<(), ExtError> {
        let (at, mut table) = self.reserved_table()?;
        let superblock = &self.superblock;
        let block_len = superblock.block_len;
        let copies: Vec<u64> = (1..superblock.groups())
            .filter(|group| superblock.has_copy(*group))
            .map(|group| group * superblock.blocks_per_group)
            .collect();
        if copies.len() as u64 > block_len / 4 {
            return Err(damaged(Structure::Superblock, None, "has too many copies"));
        }
        table.fill(0);
        let first = superblock.descriptor_blocks();
        let count = superblock.reserved_descriptors;
        for number in first..first + count {
            let (block, entry) = self.reserved_place(number);
            put32(&mut table, entry, block as u32);
            let mut named = vec![0; block_len as usize];
            for (place, offset) in copies.iter().enumerate() {
                put32(&mut named, place * 4, (block + offset) as u32);
            }
            self.disk.write_at(block * block_len, &named)?;
        }
        self.disk.write_at(at, &table)?;
        let mut record = self.record(RESERVING)?;
        record.set_blocks(1 + count * (1 + copies.len() as u64), block_len);
        self.write_record(&mut record)
    }

    /// Moves what lies behind the end to the front; gives the number of bytes.
    fn move_all(
        &mut self,
        affected: &[u32],
        numbers: &BTreeMap<u32, u32>,
        old: &Superblock,
    ) -> Result<u64, ExtError> {
        let mut attributes = BTreeMap::new();
        let mut near = 0;
        let mut moved = 0;
        for number in affected {
            let number = *numbers.get(number).unwrap_or(number);
            let mut record = self.record(number)?;
            let inode = record.inode();
            if self.has_blocks_in(old, &inode) {
                moved += self.move_blocks(&mut record, &inode, old, &mut near)?;
            }
            let block = record.attribute_block();
            if block >= self.superblock.blocks {
                let known = attributes.get(&block).copied();
                let to = match known {
                    Some(to) => to,
                    None => self.move_attributes(block, near, old)?,
                };
                attributes.insert(block, to);
                record.set_attribute_block(to);
                moved += u64::from(known.is_none());
            }
            self.write_record(&mut record)?;
        }
        Ok(moved * old.block_len)
    }

    /// Moves the blocks of one inode; gives their number. `near` is the group where the last ones
    /// found room.
    fn move_blocks(
        &mut self,
        record: &mut Record,
        inode: &Inode,
        old: &Superblock,
        near: &mut u64,
    ) -> Result<u64, ExtError> {
        let (pieces, tables) = inode::whole_mapping(&self.disk, old, inode, u64::MAX)?;
        let (end, block_len) = (self.superblock.blocks, old.block_len);
        let mut moved = 0;
        let mut new: Vec<Piece> = Vec::new();
        for piece in pieces {
            let stays = piece.count.min(end.saturating_sub(piece.physical));
            if stays > 0 {
                new.push(Piece {
                    count: stays,
                    ..piece
                });
            }
            let mut at = stays;
            let goes = piece.count - stays;
            if goes == 0 {
                continue;
            }
            for (to, count) in self.take_blocks(goes, *near, "what lies behind its new end")? {
                if piece.written {
                    let from = (piece.physical + at) * block_len;
                    self.disk
                        .copy_within(from, to * block_len, count * block_len)?;
                }
                new.push(Piece {
                    logical: piece.logical + at,
                    physical: to,
                    count,
                    written: piece.written,
                });
                at += count;
                *near = (to - old.first_block) / old.blocks_per_group;
            }
            moved += goes;
        }
        for table in tables {
            if table < end {
                self.release_blocks(table, 1)?;
            }
        }
        self.write_mapping(record, &new)?;
        Ok(moved)
    }

    /// Moves a block of extended attributes, which several inodes may share.
    fn move_attributes(
        &mut self,
        block: u64,
        near: u64,
        old: &Superblock,
    ) -> Result<u64, ExtError> {
        if block >= old.blocks {
            return Err(damaged(
                Structure::Inode,
                None,
                "has its attributes nowhere",
            ));
        }
        let taken = self.take_blocks(1, near, "attributes")?;
        let to = taken.first().map_or(0, |(start, _)| *start);
        let len = old.block_len;
        let mut raw = self.disk.read_vec(block * len, len as usize)?;
        self.seal_attributes(&mut raw, to);
        self.disk.write_at(to * len, &raw)?;
        Ok(to)
    }

    /// Goes through all folders: entries get the new numbers, and folders that have one themselves
    /// new checksums.
    fn rename_all(
        &mut self,
        folders: &[u32],
        numbers: &BTreeMap<u32, u32>,
    ) -> Result<(), ExtError> {
        for number in folders {
            let now = numbers.get(number).copied();
            let folder = self.folder(now.unwrap_or(*number))?;
            self.rename_in(&folder, numbers, now.is_some())?;
        }
        Ok(())
    }

    /// What the superblock says of the journal and of the file of orphans.
    fn note_moved_inodes(
        &mut self,
        affected: &[u32],
        numbers: &BTreeMap<u32, u32>,
    ) -> Result<(), ExtError> {
        let journal = self.superblock.journal_inode;
        if journal != 0 && self.raw[JOURNAL_COPY_KIND] == 1 {
            let record = self.record(journal)?;
            self.raw[JOURNAL_COPY..JOURNAL_COPY + 60].copy_from_slice(&record.mapping());
            put32(
                &mut self.raw,
                JOURNAL_COPY + 60,
                (record.len() >> 32) as u32,
            );
            put32(&mut self.raw, JOURNAL_COPY + 64, record.len() as u32);
        }
        let orphans = le32(&self.raw, ORPHAN_FILE).unwrap_or(0);
        if self.superblock.compat & compat::ORPHAN_FILE != 0 && affected.contains(&orphans) {
            let now = *numbers.get(&orphans).unwrap_or(&orphans);
            put32(&mut self.raw, ORPHAN_FILE, now);
            self.clear_orphan_file()?;
        }
        Ok(())
    }

    /// Whether an inode has blocks, told by a superblock that may be another than the present one.
    fn has_blocks_in(&self, superblock: &Superblock, inode: &Inode) -> bool {
        super::super::Ext {
            disk: &self.disk,
            superblock: superblock.clone(),
            replayed: false,
        }
        .keeps_blocks(inode)
    }

    /// Puts the checksum of a block of attributes at its place.
    pub(super) fn seal_attributes(&self, raw: &mut [u8], block: u64) {
        if self.superblock.has_checksums() {
            put32(raw, super::record::ATTRIBUTE_BLOCK_CHECKSUM, 0);
            let state = crc32c(self.superblock.seed, &block.to_le_bytes());
            let sum = crc32c(state, raw);
            put32(raw, super::record::ATTRIBUTE_BLOCK_CHECKSUM, sum);
        }
    }
}

fn cannot(why: impl Into<String>) -> ExtError {
    ExtError::CannotShrink(why.into())
}
