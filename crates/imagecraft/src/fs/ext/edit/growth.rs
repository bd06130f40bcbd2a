//! A file system made longer: more groups, their descriptors in the room that was reserved for
//! them, all copies of the superblock.
//!
//! Where groups have checksums, new inode tables are left to be initialised by the system that
//! uses them; elsewhere they are zeros.

use super::super::group::Group;
use super::super::inode;
use super::super::superblock::{Superblock, compat, incompat};
use super::allocation::ALL_FREE_BLOCKS;
use super::descriptor::{
    BLOCK_UNUSED, Descriptor, FREE_BLOCKS, FREE_INODES, INODE_UNUSED, UNUSED_INODES,
};
use super::{Bitmap, Editor, ExtError, Structure, damaged, put16, put32};
use crate::Disk;
use crate::number::le32;

/// The inode that holds the blocks reserved for descriptors.
pub const RESERVING: u32 = 7;
/// Where that inode names its table of tables, in its mapping.
const TABLE_OF_TABLES: usize = 13 * 4;
pub const BLOCKS: (usize, usize) = (0x4, 0x150);
pub const KEPT_FOR_ROOT: (usize, usize) = (0x8, 0x154);
/// A last group with fewer blocks than this for files is not worth its tables.
pub const FEWEST_BLOCKS: u64 = 50;

/// What growth did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Grown {
    /// Length in bytes before.
    pub before: u64,
    /// Length in bytes after.
    pub after: u64,
    /// Why it does not fill its partition, if it does not.
    pub limited: Option<String>,
}

impl<D: Disk> Editor<D> {
    /// Grows the file system over its partition, as far as it can.
    ///
    /// The descriptors of new groups need room that was reserved when it was made. Without enough
    /// of it the file system grows up to that limit and says so; with `scattered`, it goes on
    /// with descriptors that stand in their own groups (the feature *meta_bg*), which systems of
    /// the last decade read, but some boot loaders do not.
    pub fn grow(&mut self, scattered: bool) -> Result<Grown, ExtError> {
        let before = self.superblock.blocks * self.superblock.block_len;
        let old_groups = self.superblock.groups();
        let (blocks, limited) = self.reach(scattered)?;
        if blocks <= self.superblock.blocks {
            return Ok(Grown {
                before,
                after: before,
                limited,
            });
        }
        let old_blocks = self.superblock.blocks;
        self.block_bitmap(old_groups - 1)?;
        let run = self.superblock.descriptors_per_block();
        let new_groups =
            (blocks - self.superblock.first_block).div_ceil(self.superblock.blocks_per_group);
        let has = self.superblock.descriptor_blocks();
        let wanted = new_groups.div_ceil(run);
        if !self.superblock.has_meta_groups() && wanted > has {
            let taken = (wanted - has).min(self.superblock.reserved_descriptors);
            self.take_reserved(taken)?;
            if has + taken < wanted {
                self.scatter_descriptors(has + taken)?;
            }
        }
        self.superblock.blocks = blocks;
        self.lengthen_last(old_groups - 1, old_blocks)?;
        let flex = self.superblock.groups_per_flex;
        let mut from = old_groups;
        while from < new_groups {
            let to = (from / flex + 1).saturating_mul(flex).min(new_groups);
            self.add_groups(from, to)?;
            from = to;
        }
        if self.superblock.reserved_descriptors > 0 {
            self.reserve_in(old_groups, new_groups)?;
        }
        self.count_up(old_blocks, new_groups - old_groups);
        self.superblock = Superblock {
            blocks,
            ..Superblock::parse_unsealed(&self.raw, self.disk.len())?
        };
        self.grown = true;
        Ok(Grown {
            before,
            after: blocks * self.superblock.block_len,
            limited,
        })
    }

    /// How many blocks the file system can have, and what keeps it from filling its partition.
    fn reach(&self, scattered: bool) -> Result<(u64, Option<String>), ExtError> {
        let superblock = &self.superblock;
        let mut blocks = self.disk.len() / superblock.block_len;
        let mut limited = None;
        let mut limit = |most: u64, blocks: &mut u64, why: &str| {
            if *blocks > most {
                *blocks = most;
                limited = Some(why.to_owned());
            }
        };
        if !superblock.is_wide() {
            limit(
                u64::from(u32::MAX),
                &mut blocks,
                "it counts its blocks with 32 bits",
            );
        }
        let run = superblock.descriptors_per_block();
        let per_group = superblock.blocks_per_group;
        let by_groups = |groups: u64| superblock.first_block + groups.saturating_mul(per_group);
        limit(
            by_groups(u64::from(u32::MAX / superblock.inodes_per_group)),
            &mut blocks,
            "it would have more inodes than it can count",
        );
        if !superblock.has_meta_groups() && !scattered {
            let room = superblock.descriptor_blocks() + superblock.reserved_descriptors;
            limit(
                by_groups(room * run),
                &mut blocks,
                "it was made with room for no more group descriptors",
            );
        }
        let last = (blocks - superblock.first_block) % per_group;
        let group = (blocks - superblock.first_block) / per_group;
        let own = superblock.base_blocks(group) + superblock.table_blocks() + 2;
        if last > 0 && last < own + FEWEST_BLOCKS && group >= superblock.groups() {
            blocks -= last;
        }
        Ok((blocks, limited))
    }

    /// The old last group may have been shorter than the others.
    fn lengthen_last(&mut self, group: u64, old_blocks: u64) -> Result<(), ExtError> {
        let superblock = &self.superblock;
        let start = superblock.group_start(group);
        let (from, to) = (old_blocks - start, superblock.group_len(group));
        if to <= from {
            return Ok(());
        }
        let bitmap = self.block_bitmap(group)?;
        for at in from..to {
            bitmap.bytes[(at / 8) as usize] &= !(1 << (at % 8));
        }
        bitmap.changed = true;
        let one = &mut self.groups[group as usize];
        one.set(FREE_BLOCKS, one.get(FREE_BLOCKS) + (to - from) as u32);
        one.set_flags(one.flags() & !BLOCK_UNUSED);
        Ok(())
    }

    /// Adds the groups from `from` to `to`, which keep their tables together at their beginning.
    fn add_groups(&mut self, from: u64, to: u64) -> Result<(), ExtError> {
        let superblock = &self.superblock;
        let tables = superblock.table_blocks();
        let mut places = Places {
            superblock,
            group: from,
            at: superblock.base_blocks(from),
            end: to,
        };
        let count = (to - from) as usize;
        let mut take = |len: u64| -> Result<Vec<u64>, ExtError> {
            (0..count)
                .map(|_| {
                    places.take(len).ok_or_else(|| {
                        damaged(
                            Structure::Groups,
                            None,
                            "have no room for the tables of new ones",
                        )
                    })
                })
                .collect()
        };
        let (block_bitmaps, inode_bitmaps, inode_tables) = (take(1)?, take(1)?, take(tables)?);
        for number in 0..count {
            let places = Group {
                block_bitmap: block_bitmaps[number],
                inode_bitmap: inode_bitmaps[number],
                inode_table: inode_tables[number],
                free_clusters: 0,
                blocks_unused: false,
                raw_inodes: 0,
                bitmap_checksum: (0, 0),
            };
            let len = self.superblock.descriptor_len;
            self.groups.push(Descriptor::new(len, places));
            self.note_tables(from + number as u64);
        }
        for group in from..to {
            self.begin_group(group)?;
        }
        Ok(())
    }

    /// Counts and bitmaps of a new group.
    fn begin_group(&mut self, group: u64) -> Result<(), ExtError> {
        let superblock = &self.superblock;
        let (start, len) = (superblock.group_start(group), superblock.group_len(group));
        let lazily = superblock.has_group_checksums();
        let (block_len, inodes) = (superblock.block_len, superblock.inodes_per_group);
        let places = self.groups[group as usize].places;
        let taken: u64 = self
            .system
            .within(start, start + len)
            .map(|(from, to)| to - from)
            .sum();
        let inside = |block: u64| u64::from((start..start + len).contains(&block));
        let own = superblock.base_blocks(group)
            + inside(places.block_bitmap)
            + inside(places.inode_bitmap)
            + inside(places.inode_table) * superblock.table_blocks();
        let last = group + 1 == superblock.groups();
        let table = (
            places.inode_table * block_len,
            superblock.table_blocks() * block_len,
        );
        let fresh = self.fresh_block_bitmap(group);
        let one = &mut self.groups[group as usize];
        one.set(FREE_BLOCKS, (len - taken) as u32);
        one.set(FREE_INODES, inodes);
        let mut flags = 0;
        if lazily {
            flags |= INODE_UNUSED;
            one.set(UNUSED_INODES, inodes);
        }
        // Whoever makes the bitmap later knows of the group's own tables only.
        if lazily && own == taken && !last {
            flags |= BLOCK_UNUSED;
        } else {
            let bitmap = Bitmap {
                bytes: fresh,
                changed: true,
            };
            self.block_bitmaps.insert(group, bitmap);
        }
        one.set_flags(flags);
        if !lazily {
            let mut bytes = vec![0xff; block_len as usize];
            bytes[..(inodes / 8) as usize].fill(0);
            let bitmap = Bitmap {
                bytes,
                changed: true,
            };
            self.inode_bitmaps.insert(group, bitmap);
            self.disk.zero_at(table.0, table.1)?;
        }
        Ok(())
    }

    fn count_up(&mut self, old_blocks: u64, groups: u64) {
        let blocks = self.superblock.blocks;
        let free: u64 = self
            .groups
            .iter()
            .map(|one| u64::from(one.get(FREE_BLOCKS)))
            .sum();
        let kept = self.count(KEPT_FOR_ROOT.0, KEPT_FOR_ROOT.1);
        let kept = u128::from(kept) * u128::from(blocks) / u128::from(old_blocks);
        let inodes = groups as u32 * self.superblock.inodes_per_group;
        self.set_count(BLOCKS.0, BLOCKS.1, blocks);
        self.set_count(KEPT_FOR_ROOT.0, KEPT_FOR_ROOT.1, kept as u64);
        self.set_count(ALL_FREE_BLOCKS.0, ALL_FREE_BLOCKS.1, free);
        for at in [0, 0x10] {
            let count = le32(&self.raw, at).unwrap_or(0);
            put32(&mut self.raw, at, count + inodes);
        }
        // The blocks of all tables together, which systems count anew where it is 0.
        put32(&mut self.raw, 0x248, 0);
        put16(
            &mut self.raw,
            0xce,
            self.superblock.reserved_descriptors as u16,
        );
    }

    /// The table that names the reserved blocks, and where it lies.
    pub(super) fn reserved_table(&self) -> Result<(u64, Vec<u8>), ExtError> {
        let wrong = || {
            damaged(
                Structure::ReservedDescriptors,
                None,
                "are not as they should be",
            )
        };
        if self.superblock.compat & compat::RESIZE_INODE == 0 {
            return Err(wrong());
        }
        let record = self.record(RESERVING)?;
        let place = u64::from(le32(&record.mapping(), TABLE_OF_TABLES).unwrap_or(0));
        if record.flags() & inode::EXTENTS != 0 || place == 0 || place >= self.superblock.blocks {
            return Err(wrong());
        }
        let len = self.superblock.block_len;
        Ok((place * len, self.disk.read_vec(place * len, len as usize)?))
    }

    /// Where the n-th block of descriptors lies, one that is reserved too, and where the table
    /// of reserved blocks names it.
    pub(super) fn reserved_place(&self, number: u64) -> (u64, usize) {
        let superblock = &self.superblock;
        let fan = superblock.block_len / 4;
        let block = superblock.first_block + superblock.superblock_offset(0) + 1 + number;
        (block, (number % fan * 4) as usize)
    }

    fn change_reserved_blocks(&mut self, change: i64) -> Result<(), ExtError> {
        let mut record = self.record(RESERVING)?;
        let sectors =
            i64::from(record.inode().sectors) + change * (self.superblock.block_len / 512) as i64;
        let blocks = sectors.max(0) as u64 * 512 / self.superblock.block_len;
        record.set_blocks(blocks, self.superblock.block_len);
        self.write_record(&mut record)
    }

    /// Makes descriptor blocks of the first reserved ones.
    fn take_reserved(&mut self, count: u64) -> Result<(), ExtError> {
        if count == 0 {
            return Ok(());
        }
        let (at, mut table) = self.reserved_table()?;
        let block_len = self.superblock.block_len;
        let first = self.superblock.descriptor_blocks();
        let mut given_up = 0;
        for number in first..first + count {
            let (block, entry) = self.reserved_place(number);
            if le32(&table, entry).map(u64::from) != Some(block) {
                return Err(damaged(
                    Structure::ReservedDescriptors,
                    None,
                    "lie elsewhere",
                ));
            }
            let copies = self.disk.read_vec(block * block_len, block_len as usize)?;
            given_up += 1 + copies
                .chunks_exact(4)
                .filter(|raw| le32(raw, 0) != Some(0))
                .count() as i64;
            put32(&mut table, entry, 0);
        }
        self.disk.write_at(at, &table)?;
        self.superblock.reserved_descriptors -= count;
        self.change_reserved_blocks(-given_up)
    }

    /// Names the reserved blocks in the copies that new groups begin with.
    fn reserve_in(&mut self, old_groups: u64, new_groups: u64) -> Result<(), ExtError> {
        let superblock = &self.superblock;
        let run = superblock.descriptors_per_block();
        let new: Vec<u64> = (old_groups..new_groups)
            .filter(|group| superblock.has_copy(*group))
            .filter(|group| {
                !superblock.has_meta_groups() || group / run < superblock.first_meta_group
            })
            .map(|group| group * superblock.blocks_per_group)
            .collect();
        if new.is_empty() {
            return Ok(());
        }
        let (_, table) = self.reserved_table()?;
        let block_len = self.superblock.block_len;
        // The groups have grown already, but the blocks of descriptors count from the new number.
        let first = new_groups.div_ceil(run);
        let mut added = 0;
        for number in first..first + self.superblock.reserved_descriptors {
            let (block, entry) = self.reserved_place(number);
            if le32(&table, entry).map(u64::from) != Some(block) {
                return Err(damaged(
                    Structure::ReservedDescriptors,
                    None,
                    "lie elsewhere",
                ));
            }
            let mut copies = self.disk.read_vec(block * block_len, block_len as usize)?;
            let named = copies
                .chunks_exact(4)
                .take_while(|raw| le32(raw, 0) != Some(0))
                .count();
            for (place, offset) in (named..).zip(&new) {
                if place * 4 + 4 > copies.len() {
                    return Err(damaged(Structure::Superblock, None, "has too many copies"));
                }
                put32(&mut copies, place * 4, (block + offset) as u32);
                added += 1;
            }
            self.disk.write_at(block * block_len, &copies)?;
        }
        self.change_reserved_blocks(added)
    }

    /// From here on, descriptors stand in their own groups.
    fn scatter_descriptors(&mut self, first: u64) -> Result<(), ExtError> {
        if self.superblock.compat & compat::RESIZE_INODE != 0 {
            let (at, _) = self.reserved_table()?;
            self.release_blocks(at / self.superblock.block_len, 1)?;
            self.wipe_record(RESERVING)?;
            self.superblock.compat &= !compat::RESIZE_INODE;
        }
        self.superblock.incompat |= incompat::META_BG;
        self.superblock.first_meta_group = first;
        self.superblock.reserved_descriptors = 0;
        put32(&mut self.raw, 0x5c, self.superblock.compat);
        put32(&mut self.raw, 0x60, self.superblock.incompat);
        put32(&mut self.raw, 0x104, first as u32);
        Ok(())
    }
}

/// Hands out runs of blocks behind what groups begin with.
struct Places<'a> {
    superblock: &'a Superblock,
    group: u64,
    /// Next block, counted from the group's first.
    at: u64,
    end: u64,
}

impl Places<'_> {
    fn take(&mut self, len: u64) -> Option<u64> {
        while self.group < self.end {
            if self.at + len <= self.superblock.group_len(self.group) {
                let start = self.superblock.group_start(self.group) + self.at;
                self.at += len;
                return Some(start);
            }
            self.group += 1;
            if self.group < self.end {
                self.at = self.superblock.base_blocks(self.group);
            }
        }
        None
    }
}
