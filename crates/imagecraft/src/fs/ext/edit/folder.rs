//! Names put into folders and taken out: entries one behind the other, and the index of large
//! folders (kernel documentation, "Directory Entries" and "Hash Tree Directories").
//!
//! A full leaf of an index is split. Where the index itself has no room for another leaf the
//! folder goes on without one, which every system reads.

use std::collections::BTreeMap;

use super::super::checksum::crc32c;
use super::super::superblock::{compat, incompat, ro_compat};
use super::record::{INDEXED, Record};
use super::{Editor, ExtError, Structure, damaged, full, hash, put16, put32};
use crate::Disk;
use crate::fs::NodeKind;
use crate::number::{le16, le32};

/// Length of the entry at a block's end that holds its checksum.
const TAIL: usize = 12;
const TAIL_MARK: u8 = 0xde;
/// Most links of a folder whose file system counts them.
const MOST_LINKS: u16 = 65_000;
/// Where the index begins in the first block and in others.
const ROOT_INDEX: usize = 32;
const NODE_INDEX: usize = 8;

/// One entry of a block.
#[derive(Clone, Copy)]
struct Entry {
    at: usize,
    len: usize,
    number: u32,
    name_len: usize,
}

impl Entry {
    /// Bytes that the entry itself needs.
    fn needs(&self) -> usize {
        if self.number == 0 {
            0
        } else {
            room(self.name_len)
        }
    }
}

fn room(name_len: usize) -> usize {
    (8 + name_len).next_multiple_of(4)
}

fn read_len(block: &[u8], at: usize) -> Option<usize> {
    let len = usize::from(le16(block, at + 4)?);
    Some(match (len, block.len()) {
        (0 | 0xffff, 0x1_0000) => 0x1_0000,
        (len, 0x1_0000) => len & 0xfffc | (len & 3) << 16,
        (len, _) => len,
    })
}

fn write_len(block: &mut [u8], at: usize, len: usize) {
    let raw = match len {
        0x1_0000 => 0xffff,
        len => len & 0xfffc | len >> 16 & 3,
    };
    put16(block, at + 4, raw as u16);
}

fn write_entry(block: &mut [u8], at: usize, len: usize, number: u32, kind: u8, name: &[u8]) {
    put32(block, at, number);
    write_len(block, at, len);
    block[at + 6] = name.len() as u8;
    block[at + 7] = kind;
    block[at + 8..at + 8 + name.len()].copy_from_slice(name);
}

/// The entries of a block whose last `tail` bytes are a checksum.
fn entries(block: &[u8], tail: usize) -> Result<Vec<Entry>, ExtError> {
    let wrong = || damaged(Structure::Folder, None, "has an entry of impossible length");
    let end = block.len() - tail;
    let mut found = Vec::new();
    let mut at = 0;
    while at < end {
        let number = le32(block, at).ok_or_else(wrong)?;
        let len = read_len(block, at).ok_or_else(wrong)?;
        let name_len = usize::from(*block.get(at + 6).ok_or_else(wrong)?);
        if len < 8 || len % 4 != 0 || at + len > end || 8 + name_len > len {
            return Err(wrong());
        }
        found.push(Entry {
            at,
            len,
            number,
            name_len,
        });
        at += len;
    }
    Ok(found)
}

/// A folder that is being changed.
pub struct Folder {
    record: Record,
    /// Where its blocks lie.
    blocks: Vec<u64>,
}

/// The way through an index to one leaf.
struct Way {
    /// The block of the folder whose index names the leaf, and where its index begins.
    node: usize,
    from: usize,
    /// Position of the leaf in that index.
    position: usize,
    leaf: usize,
}

impl<D: Disk> Editor<D> {
    fn tail(&self) -> usize {
        if self.superblock.has_checksums() {
            TAIL
        } else {
            0
        }
    }

    fn kind_byte(&self, kind: NodeKind) -> u8 {
        if self.superblock.incompat & incompat::FILETYPE == 0 {
            return 0;
        }
        match kind {
            NodeKind::File => 1,
            NodeKind::Folder => 2,
            NodeKind::Link => 7,
            NodeKind::Other => 0,
        }
    }

    pub(super) fn folder(&self, number: u32) -> Result<Folder, ExtError> {
        let record = self.record(number)?;
        let mut blocks = Vec::new();
        for piece in self.mapping_of(&record)?.0 {
            if piece.logical != blocks.len() as u64 || !piece.written {
                return Err(damaged(
                    Structure::Folder,
                    Some(u64::from(number)),
                    "has a hole",
                ));
            }
            blocks.extend(piece.physical..piece.physical + piece.count);
        }
        if blocks.is_empty() || blocks.len() as u64 * self.superblock.block_len != record.len() {
            return Err(damaged(
                Structure::Folder,
                Some(u64::from(number)),
                "has another length than its blocks",
            ));
        }
        Ok(Folder { record, blocks })
    }

    fn read_folder_block(&self, folder: &Folder, number: usize) -> Result<Vec<u8>, ExtError> {
        let at = folder.blocks.get(number).copied();
        let at = at.ok_or_else(|| damaged(Structure::FolderIndex, None, "leads nowhere"))?;
        let len = self.superblock.block_len;
        Ok(self.disk.read_vec(at * len, len as usize)?)
    }

    /// Writes a block of entries, with its checksum.
    fn write_leaf(
        &mut self,
        folder: &Folder,
        number: usize,
        block: &mut [u8],
    ) -> Result<(), ExtError> {
        if self.superblock.has_checksums() {
            let at = block.len() - TAIL;
            block[at..].fill(0);
            put16(block, at + 4, TAIL as u16);
            block[at + 7] = TAIL_MARK;
            let sum = crc32c(folder.record.seed(&self.superblock), &block[..at]);
            put32(block, at + 8, sum);
        }
        let at = folder.blocks[number] * self.superblock.block_len;
        Ok(self.disk.write_at(at, block)?)
    }

    /// Writes a block of an index that begins at `from`.
    fn write_index(
        &mut self,
        folder: &Folder,
        number: usize,
        from: usize,
        block: &mut [u8],
    ) -> Result<(), ExtError> {
        if self.superblock.has_checksums() {
            let limit = usize::from(le16(block, from).unwrap_or(0));
            let count = usize::from(le16(block, from + 2).unwrap_or(0));
            let tail = from + limit * 8;
            if tail + 8 > block.len() || count > limit {
                return Err(damaged(
                    Structure::FolderIndex,
                    None,
                    "has an impossible length",
                ));
            }
            let state = crc32c(
                folder.record.seed(&self.superblock),
                &block[..from + count * 8],
            );
            let state = crc32c(state, &block[tail..tail + 4]);
            put32(block, tail + 4, crc32c(state, &[0; 4]));
        }
        let at = folder.blocks[number] * self.superblock.block_len;
        Ok(self.disk.write_at(at, block)?)
    }

    /// A block with no entries.
    fn empty_leaf(&self) -> Vec<u8> {
        let mut block = vec![0; self.superblock.block_len as usize];
        let len = block.len() - self.tail();
        write_len(&mut block, 0, len);
        block
    }

    /// Whether a leaf ends as it should; without its mark there is no room for a checksum.
    fn check_tail(&self, block: &[u8]) -> Result<(), ExtError> {
        let at = block.len() - TAIL;
        let marked = le32(block, at) == Some(0) && block[at + 7] == TAIL_MARK;
        match !self.superblock.has_checksums() || marked {
            true => Ok(()),
            false => Err(damaged(
                Structure::Folder,
                None,
                "has a block without a checksum",
            )),
        }
    }

    /// Puts a name into a block if there is room.
    fn insert(
        &self,
        block: &mut [u8],
        number: u32,
        kind: NodeKind,
        name: &str,
    ) -> Result<bool, ExtError> {
        self.check_tail(block)?;
        let kind = self.kind_byte(kind);
        for entry in entries(block, self.tail())? {
            let free = entry.len - entry.needs();
            if free < room(name.len()) {
                continue;
            }
            if entry.needs() > 0 {
                write_len(block, entry.at, entry.needs());
            }
            write_entry(
                block,
                entry.at + entry.needs(),
                free,
                number,
                kind,
                name.as_bytes(),
            );
            return Ok(true);
        }
        Ok(false)
    }

    /// Gives an inode a name in a folder, which must not have that name yet.
    pub(super) fn add_name(
        &mut self,
        folder: u32,
        name: &str,
        number: u32,
        kind: NodeKind,
    ) -> Result<(), ExtError> {
        let mut folder = self.folder(folder)?;
        let indexed = folder.record.flags() & INDEXED != 0;
        if indexed && self.superblock.compat & compat::DIR_INDEX != 0 {
            if self.add_indexed(&mut folder, name, number, kind)? {
                return self.finish(folder);
            }
            self.drop_index(&mut folder)?;
        } else if indexed {
            self.drop_index(&mut folder)?;
        }
        for place in 0..folder.blocks.len() {
            let mut block = self.read_folder_block(&folder, place)?;
            if self.insert(&mut block, number, kind, name)? {
                self.write_leaf(&folder, place, &mut block)?;
                return self.finish(folder);
            }
        }
        let place = self.append_leaf(&mut folder)?;
        let mut block = self.empty_leaf();
        self.write_tail_mark(&mut block);
        if !self.insert(&mut block, number, kind, name)? {
            return Err(full(name));
        }
        self.write_leaf(&folder, place, &mut block)?;
        self.finish(folder)
    }

    fn write_tail_mark(&self, block: &mut [u8]) {
        if self.superblock.has_checksums() {
            let at = block.len() - 5;
            block[at] = TAIL_MARK;
        }
    }

    fn finish(&mut self, mut folder: Folder) -> Result<(), ExtError> {
        folder.record.touch(self.now);
        self.write_record(&mut folder.record)
    }

    fn append_leaf(&mut self, folder: &mut Folder) -> Result<usize, ExtError> {
        let place = folder.blocks.len();
        let block = self.append_block(&mut folder.record)?;
        folder.blocks.push(block);
        Ok(place)
    }

    /// Takes a name out of its folder.
    pub(super) fn remove_name(&mut self, folder: u32, name: &str) -> Result<(), ExtError> {
        let folder = self.folder(folder)?;
        let inner = self.index_blocks(&folder)?;
        for place in 0..folder.blocks.len() {
            if inner.iter().any(|(block, _)| *block == place) {
                continue;
            }
            let mut block = self.read_folder_block(&folder, place)?;
            self.check_tail(&block)?;
            let mut before: Option<Entry> = None;
            for entry in entries(&block, self.tail())? {
                let from = entry.at + 8;
                let same = block[from..from + entry.name_len] == *name.as_bytes();
                if entry.number == 0 || !same {
                    before = Some(entry);
                    continue;
                }
                match before {
                    Some(before) => write_len(&mut block, before.at, before.len + entry.len),
                    None => put32(&mut block, entry.at, 0),
                }
                self.write_leaf(&folder, place, &mut block)?;
                return self.finish(folder);
            }
        }
        Err(damaged(Structure::Folder, None, format!("lost {name}")))
    }

    /// Gives the entries of a folder the numbers that their inodes have now. `sealed_anew` says that
    /// the folder has another number itself, which all checksums of its blocks begin with.
    pub(super) fn rename_in(
        &mut self,
        folder: &Folder,
        numbers: &BTreeMap<u32, u32>,
        sealed_anew: bool,
    ) -> Result<(), ExtError> {
        let inner: BTreeMap<usize, usize> = self.index_blocks(folder)?.into_iter().collect();
        for place in 0..folder.blocks.len() {
            let mut block = self.read_folder_block(folder, place)?;
            let mut changed = sealed_anew;
            let found = match inner.get(&place) {
                // The first block of an index begins with the entries of the folder and of the one
                // above, the others with one that names nothing.
                Some(_) if place == 0 => vec![0, 12],
                Some(_) => Vec::new(),
                None => {
                    self.check_tail(&block)?;
                    let found = entries(&block, self.tail())?;
                    found.iter().map(|entry| entry.at).collect()
                }
            };
            for at in found {
                if let Some(now) = numbers.get(&le32(&block, at).unwrap_or(0)) {
                    put32(&mut block, at, *now);
                    changed = true;
                }
            }
            match inner.get(&place) {
                _ if !changed => {}
                Some(from) => self.write_index(folder, place, *from, &mut block)?,
                None => self.write_leaf(folder, place, &mut block)?,
            }
        }
        Ok(())
    }

    /// The blocks of a folder that hold its index, and where the index begins in each.
    fn index_blocks(&self, folder: &Folder) -> Result<Vec<(usize, usize)>, ExtError> {
        if folder.record.flags() & INDEXED == 0 {
            return Ok(Vec::new());
        }
        let mut found = vec![(0, ROOT_INDEX)];
        let root = self.read_folder_block(folder, 0)?;
        let mut level = vec![root];
        for _ in 0..self.levels(&level[0])? {
            let mut below = Vec::new();
            for block in &level {
                let from = if below.is_empty() && found.len() == 1 {
                    ROOT_INDEX
                } else {
                    NODE_INDEX
                };
                for (_, place) in index_entries(block, from)? {
                    found.push((place, NODE_INDEX));
                    below.push(self.read_folder_block(folder, place)?);
                    if found.len() > folder.blocks.len() {
                        return Err(damaged(Structure::FolderIndex, None, "runs in a circle"));
                    }
                }
            }
            level = below;
        }
        Ok(found)
    }

    /// Levels of index blocks below the first block.
    fn levels(&self, root: &[u8]) -> Result<u8, ExtError> {
        let (info_len, levels) = (root[29], root[30]);
        match info_len == 8 && levels <= 2 {
            true => Ok(levels),
            false => Err(damaged(
                Structure::FolderIndex,
                None,
                "has an impossible head",
            )),
        }
    }

    fn hash_of(&self, root: &[u8], name: &[u8]) -> Result<u32, ExtError> {
        let mut kind = root[28];
        let unsigned = le32(&self.raw, 0x160).unwrap_or(0) & 2 != 0;
        if kind < 3 && unsigned {
            kind += 3;
        }
        let seed = [0xec, 0xf0, 0xf4, 0xf8].map(|at| le32(&self.raw, at).unwrap_or(0));
        hash::of_name(name, kind, seed)
            .ok_or_else(|| damaged(Structure::FolderIndex, None, "uses an unknown hash"))
    }

    fn way(&self, folder: &Folder, root: &[u8], hash: u32) -> Result<Way, ExtError> {
        let (mut node, mut from) = (0, ROOT_INDEX);
        let mut block = root.to_vec();
        let mut left = self.levels(root)?;
        loop {
            let listed = index_entries(&block, from)?;
            let position = listed
                .iter()
                .rposition(|(first, _)| *first <= hash)
                .unwrap_or(0);
            let leaf = listed[position].1;
            if left == 0 {
                return Ok(Way {
                    node,
                    from,
                    position,
                    leaf,
                });
            }
            left -= 1;
            block = self.read_folder_block(folder, leaf)?;
            (node, from) = (leaf, NODE_INDEX);
        }
    }

    /// Puts a name where its hash belongs. `false` where the index has no room.
    fn add_indexed(
        &mut self,
        folder: &mut Folder,
        name: &str,
        number: u32,
        kind: NodeKind,
    ) -> Result<bool, ExtError> {
        let root = self.read_folder_block(folder, 0)?;
        let hash = self.hash_of(&root, name.as_bytes())?;
        let way = self.way(folder, &root, hash)?;
        let mut leaf = self.read_folder_block(folder, way.leaf)?;
        if self.insert(&mut leaf, number, kind, name)? {
            self.write_leaf(folder, way.leaf, &mut leaf)?;
            return Ok(true);
        }
        let mut index = self.read_folder_block(folder, way.node)?;
        let limit = le16(&index, way.from).unwrap_or(0);
        let count = le16(&index, way.from + 2).unwrap_or(0);
        if count >= limit {
            return Ok(false);
        }

        // The upper half by hash moves to a new leaf.
        let mut sorted = Vec::new();
        for entry in entries(&leaf, self.tail())? {
            if entry.number != 0 {
                let own = &leaf[entry.at + 8..entry.at + 8 + entry.name_len];
                sorted.push((self.hash_of(&root, own)?, entry));
            }
        }
        sorted.sort_by_key(|(hash, _)| *hash);
        let all: usize = sorted.iter().map(|(_, entry)| entry.needs()).sum();
        let mut kept = 0;
        let split = sorted
            .iter()
            .position(|(_, entry)| {
                kept += entry.needs();
                kept > all / 2
            })
            .unwrap_or(0)
            .max(1);
        let (Some((border, _)), Some((below, _))) = (sorted.get(split), sorted.get(split - 1))
        else {
            return Ok(false);
        };
        // Equal hashes on both sides are marked by the lowest bit.
        let (border, continued) = (*border, border == below);
        let place = self.append_leaf(folder)?;
        let [mut lower, mut upper] = [&sorted[..split], &sorted[split..]].map(|part| {
            let mut block = self.empty_leaf();
            let end = block.len() - self.tail();
            let mut at = 0;
            for (number, (_, entry)) in part.iter().enumerate() {
                let len = if number + 1 == part.len() {
                    end - at
                } else {
                    entry.needs()
                };
                let own = &leaf[entry.at..entry.at + 8 + entry.name_len];
                write_entry(&mut block, at, len, entry.number, own[7], &own[8..]);
                at += len;
            }
            self.write_tail_mark(&mut block);
            block
        });
        let target = if hash >= border {
            &mut upper
        } else {
            &mut lower
        };
        let placed = self.insert(target, number, kind, name)?;
        self.write_leaf(folder, way.leaf, &mut lower)?;
        self.write_leaf(folder, place, &mut upper)?;
        let at = way.from + (way.position + 1) * 8;
        let end = way.from + usize::from(count) * 8;
        index.copy_within(at..end, at + 8);
        put32(&mut index, at, border | u32::from(continued));
        put32(&mut index, at + 4, place as u32);
        put16(&mut index, way.from + 2, count + 1);
        self.write_index(folder, way.node, way.from, &mut index)?;
        Ok(placed)
    }

    /// Makes an indexed folder a plain one: its index blocks become blocks of entries.
    fn drop_index(&mut self, folder: &mut Folder) -> Result<(), ExtError> {
        for (place, _) in self.index_blocks(folder)? {
            let mut block = self.empty_leaf();
            if place == 0 {
                let root = self.read_folder_block(folder, 0)?;
                let end = block.len() - self.tail();
                block[..24].copy_from_slice(&root[..24]);
                write_len(&mut block, 0, 12);
                write_len(&mut block, 12, end - 12);
            }
            self.write_leaf(folder, place, &mut block)?;
        }
        folder.record.set_flags(folder.record.flags() & !INDEXED);
        self.write_record(&mut folder.record)
    }

    /// Makes a folder in another one; gives its inode.
    pub(super) fn new_folder(&mut self, above: u32, name: &str) -> Result<u32, ExtError> {
        let mut parent = self.record(above)?;
        let counted = self.superblock.ro_compat & ro_compat::DIR_NLINK == 0;
        let links = match parent.links() {
            1 => 1,
            links if links < MOST_LINKS => links + 1,
            _ if counted => return Err(full(format!("{name}: its folder has too many folders"))),
            _ => 1,
        };
        let mut record = self.new_record(above, 0o040_755)?;
        record.set_links(2);
        let block = self.append_block(&mut record)?;
        let mut folder = Folder {
            record,
            blocks: vec![block],
        };
        let mut block = self.empty_leaf();
        let end = block.len() - self.tail();
        let kind = self.kind_byte(NodeKind::Folder);
        write_entry(&mut block, 0, 12, folder.record.number, kind, b".");
        write_entry(&mut block, 12, end - 12, above, kind, b"..");
        self.write_leaf(&folder, 0, &mut block)?;
        self.write_record(&mut folder.record)?;
        parent.set_links(links);
        self.write_record(&mut parent)?;
        self.add_name(above, name, folder.record.number, NodeKind::Folder)?;
        Ok(folder.record.number)
    }
}

/// The entries of an index: first hash, block of the folder. The first one has no hash of its own.
fn index_entries(block: &[u8], from: usize) -> Result<Vec<(u32, usize)>, ExtError> {
    let wrong = || damaged(Structure::FolderIndex, None, "has an impossible length");
    let limit = usize::from(le16(block, from).ok_or_else(wrong)?);
    let count = usize::from(le16(block, from + 2).ok_or_else(wrong)?);
    if count == 0 || count > limit || from + limit * 8 > block.len() {
        return Err(wrong());
    }
    (0..count)
        .map(|position| {
            let at = from + position * 8;
            let first = if position == 0 {
                0
            } else {
                le32(block, at).ok_or_else(wrong)?
            };
            let place = le32(block, at + 4).ok_or_else(wrong)? & 0x0fff_ffff;
            Ok((first, place as usize))
        })
        .collect()
}
