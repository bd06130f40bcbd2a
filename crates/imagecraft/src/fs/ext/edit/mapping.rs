//! Where the bytes of an inode lie, written: extent trees and classic block maps.

use super::super::checksum::crc32c;
use super::super::inode::{self, EXTENT_MAGIC, EXTENTS, Inode, Piece};
use super::super::superblock::incompat;
use super::record::{IN_INODE, Record};
use super::{Editor, ExtError, Structure, damaged, full, put16, put32};
use crate::Disk;

/// Most blocks in one extent, written ones and those that only are reserved.
const MOST_WRITTEN: u64 = 0x8000;
const MOST_RESERVED: u64 = 0x7fff;
/// Furthest block of a classic map that is written anew, 64 GB in blocks of 4 KiB.
const MOST_MAPPED: u64 = 1 << 24;
/// Blocks that a classic map names in the inode itself.
const DIRECT: usize = 12;

/// A node of an extent tree out of entries of 12 bytes.
fn write_node(node: &mut [u8], most: usize, depth: u16, entries: &[[u8; 12]]) {
    put16(node, 0, EXTENT_MAGIC);
    put16(node, 2, entries.len() as u16);
    put16(node, 4, most as u16);
    put16(node, 6, depth);
    for (place, entry) in node[12..].chunks_exact_mut(12).zip(entries) {
        place.copy_from_slice(entry);
    }
}

fn leaf_entry(piece: &Piece) -> [u8; 12] {
    let mut entry = [0; 12];
    put32(&mut entry, 0, piece.logical as u32);
    let len = if piece.written {
        piece.count
    } else {
        piece.count + 0x8000
    };
    put16(&mut entry, 4, len as u16);
    put16(&mut entry, 6, (piece.physical >> 32) as u16);
    put32(&mut entry, 8, piece.physical as u32);
    entry
}

fn index_entry(logical: u32, block: u64) -> [u8; 12] {
    let mut entry = [0; 12];
    put32(&mut entry, 0, logical);
    put32(&mut entry, 4, block as u32);
    put16(&mut entry, 8, (block >> 32) as u16);
    entry
}

impl<D: Disk> Editor<D> {
    fn has_blocks(&self, inode: &Inode) -> bool {
        self.view().keeps_blocks(inode)
    }

    /// All pieces of an inode, also those behind its end, and the blocks that name them.
    pub(super) fn mapping_of(&self, record: &Record) -> Result<(Vec<Piece>, Vec<u64>), ExtError> {
        let inode = record.inode();
        if !self.has_blocks(&inode) {
            return Ok((Vec::new(), Vec::new()));
        }
        inode::whole_mapping(&self.disk, &self.superblock, &inode, u64::MAX)
    }

    /// Gives all blocks of an inode back, but for its attributes.
    pub(super) fn free_blocks_of(&mut self, record: &mut Record) -> Result<(), ExtError> {
        let (pieces, tables) = self.mapping_of(record)?;
        for piece in &pieces {
            self.release_blocks(piece.physical, piece.count)?;
        }
        for table in tables {
            self.release_blocks(table, 1)?;
        }
        if self.has_blocks(&record.inode()) {
            self.write_mapping(record, &[])?;
        }
        Ok(())
    }

    /// Makes `bytes` all of an inode's content. Blocks it has are kept where their number fits.
    pub(super) fn fill(
        &mut self,
        record: &mut Record,
        path: &str,
        bytes: &[u8],
    ) -> Result<(), ExtError> {
        let block_len = self.superblock.block_len;
        let wanted = (bytes.len() as u64).div_ceil(block_len);
        let (mut pieces, _) = self.mapping_of(record)?;
        let mut next = 0;
        let fits = pieces.iter().all(|piece| {
            let follows = piece.logical == next && piece.written;
            next = piece.logical + piece.count;
            follows
        });
        if !fits || next != wanted {
            self.free_blocks_of(record)?;
            if self.superblock.incompat & incompat::EXTENTS != 0 {
                record.set_flags(record.flags() | EXTENTS);
            }
            let near = u64::from((record.number - 1) / self.superblock.inodes_per_group);
            let mut logical = 0;
            pieces = Vec::new();
            for (physical, count) in self.take_blocks(wanted, near, path)? {
                pieces.push(Piece {
                    logical,
                    physical,
                    count,
                    written: true,
                });
                logical += count;
            }
            self.write_mapping(record, &pieces)?;
        }
        for piece in &pieces {
            let from = (piece.logical * block_len) as usize;
            let to = (from + (piece.count * block_len) as usize).min(bytes.len());
            let at = piece.physical * block_len;
            self.disk.write_at(at, &bytes[from..to])?;
            let rest = piece.count * block_len - (to - from) as u64;
            self.disk
                .write_at(at + (to - from) as u64, &vec![0; rest as usize])?;
        }
        record.set_len(bytes.len() as u64);
        Ok(())
    }

    /// Cuts an inode's blocks to its own length, as a system does that was stopped over it.
    pub(super) fn cut_to_length(&mut self, record: &mut Record) -> Result<(), ExtError> {
        let block_len = self.superblock.block_len;
        let (pieces, tables) = self.mapping_of(record)?;
        let end = record.len().div_ceil(block_len);
        let mut kept = Vec::new();
        for piece in pieces {
            let count = piece.count.min(end.saturating_sub(piece.logical));
            if count > 0 {
                kept.push(Piece { count, ..piece });
            }
            if count < piece.count {
                self.release_blocks(piece.physical + count, piece.count - count)?;
            }
        }
        for table in tables {
            self.release_blocks(table, 1)?;
        }
        self.write_mapping(record, &kept)?;
        // What lies behind the end in the last block must not come back when the file grows.
        let within = record.len() % block_len;
        if let Some(last) = kept
            .last()
            .filter(|last| within > 0 && last.written && last.logical + last.count == end)
        {
            let at = (last.physical + last.count - 1) * block_len + within;
            self.disk
                .write_at(at, &vec![0; (block_len - within) as usize])?;
        }
        Ok(())
    }

    /// Adds one block at the end of an inode; gives its place.
    pub(super) fn append_block(&mut self, record: &mut Record) -> Result<u64, ExtError> {
        let (mut pieces, tables) = self.mapping_of(record)?;
        let near = u64::from((record.number - 1) / self.superblock.inodes_per_group);
        let taken = self.take_blocks(1, near, "a folder's next block")?;
        let physical = taken.first().map_or(0, |(start, _)| *start);
        let logical = pieces.last().map_or(0, |last| last.logical + last.count);
        match pieces.last_mut() {
            Some(last) if last.physical + last.count == physical && last.written => {
                last.count += 1;
            }
            _ => pieces.push(Piece {
                logical,
                physical,
                count: 1,
                written: true,
            }),
        }
        for table in tables {
            self.release_blocks(table, 1)?;
        }
        self.write_mapping(record, &pieces)?;
        record.set_len((logical + 1) * self.superblock.block_len);
        Ok(physical)
    }

    /// Writes the mapping of an inode anew, with the tables it needs, and counts its blocks.
    pub(super) fn write_mapping(
        &mut self,
        record: &mut Record,
        pieces: &[Piece],
    ) -> Result<(), ExtError> {
        let tables = if record.flags() & EXTENTS != 0 {
            self.write_extents(record, pieces)?
        } else {
            self.write_block_map(record, pieces)?
        };
        let data: u64 = pieces.iter().map(|piece| piece.count).sum();
        let attributes = u64::from(record.attribute_block() != 0);
        record.set_blocks(data + tables + attributes, self.superblock.block_len);
        Ok(())
    }

    fn write_extents(&mut self, record: &mut Record, pieces: &[Piece]) -> Result<u64, ExtError> {
        let block_len = self.superblock.block_len as usize;
        let most = (block_len - 12) / 12;
        let mut entries = Vec::new();
        for piece in pieces {
            let largest = if piece.written {
                MOST_WRITTEN
            } else {
                MOST_RESERVED
            };
            let mut done = 0;
            while done < piece.count {
                let count = largest.min(piece.count - done);
                entries.push((
                    piece.logical + done,
                    leaf_entry(&Piece {
                        logical: piece.logical + done,
                        physical: piece.physical + done,
                        count,
                        written: piece.written,
                    }),
                ));
                done += count;
            }
        }
        let near = u64::from((record.number - 1) / self.superblock.inodes_per_group);
        let (mut depth, mut tables) = (0, 0);
        while entries.len() > IN_INODE {
            let mut above = Vec::new();
            for part in entries.chunks(most) {
                let block = self.take_blocks(1, near, "a table of extents")?;
                let block = block.first().map_or(0, |(start, _)| *start);
                let mut node = vec![0; block_len];
                let raw: Vec<_> = part.iter().map(|(_, entry)| *entry).collect();
                write_node(&mut node, most, depth, &raw);
                if self.superblock.has_checksums() {
                    let end = 12 + 12 * most;
                    let sum = crc32c(record.seed(&self.superblock), &node[..end]);
                    put32(&mut node, end, sum);
                }
                self.disk.write_at(block * block_len as u64, &node)?;
                let first = part.first().map_or(0, |(logical, _)| *logical);
                above.push((first, index_entry(first as u32, block)));
                tables += 1;
            }
            entries = above;
            depth += 1;
        }
        let mut mapping = [0; 60];
        let raw: Vec<_> = entries.iter().map(|(_, entry)| *entry).collect();
        write_node(&mut mapping, IN_INODE, depth, &raw);
        record.set_mapping(&mapping);
        Ok(tables)
    }

    fn write_block_map(&mut self, record: &mut Record, pieces: &[Piece]) -> Result<u64, ExtError> {
        let mut blocks = Vec::new();
        for piece in pieces {
            if piece.physical + piece.count > u64::from(u32::MAX) {
                return Err(full("a file with a classic block map that far back"));
            }
            if piece.logical > MOST_MAPPED {
                return Err(damaged(
                    Structure::BlockMap,
                    Some(u64::from(record.number)),
                    "reaches further than is edited",
                ));
            }
            blocks.resize(piece.logical as usize, 0);
            blocks.extend((piece.physical..piece.physical + piece.count).map(|at| at as u32));
        }
        let near = u64::from((record.number - 1) / self.superblock.inodes_per_group);
        let mut mapping = [0; 60];
        for (place, block) in blocks.iter().take(DIRECT).enumerate() {
            put32(&mut mapping, place * 4, *block);
        }
        let fan = (self.superblock.block_len / 4) as usize;
        let mut rest = blocks.get(DIRECT..).unwrap_or(&[]);
        let mut tables = 0;
        for level in 1..=3 {
            let (now, later) = rest.split_at(rest.len().min(fan.pow(level)));
            let table = self.write_table(now, level, near, &mut tables)?;
            put32(&mut mapping, (DIRECT + level as usize - 1) * 4, table);
            rest = later;
        }
        if !rest.is_empty() {
            return Err(damaged(
                Structure::BlockMap,
                Some(u64::from(record.number)),
                "has too many blocks",
            ));
        }
        record.set_mapping(&mapping);
        Ok(tables)
    }

    /// A table of blocks, or of tables; 0 where there is nothing to name.
    fn write_table(
        &mut self,
        blocks: &[u32],
        level: u32,
        near: u64,
        tables: &mut u64,
    ) -> Result<u32, ExtError> {
        if blocks.iter().all(|block| *block == 0) {
            return Ok(0);
        }
        let block_len = self.superblock.block_len;
        let taken = self.take_blocks(1, near, "a table of blocks")?;
        let own = taken.first().map_or(0, |(start, _)| *start);
        *tables += 1;
        let mut raw = vec![0; block_len as usize];
        let spans = ((block_len / 4) as usize).pow(level - 1);
        for (place, part) in blocks.chunks(spans).enumerate() {
            let below = match level {
                1 => part[0],
                _ => self.write_table(part, level - 1, near, tables)?,
            };
            put32(&mut raw, place * 4, below);
        }
        self.disk.write_at(own * block_len, &raw)?;
        u32::try_from(own).map_err(|_| full("a file with a classic block map that far back"))
    }
}
