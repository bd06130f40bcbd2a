//! Inodes: what a file is and where its bytes lie, by extents, by the classic block map, or in
//! the inode itself.

use super::superblock::Superblock;
use super::{Ext, ExtError, Structure, damaged};
use crate::Disk;
use crate::disk::ZEROS;
use crate::fs::{FileError, NodeKind, name::text_of, tree::Sink};
use crate::number::{le16, le32};

/// The root folder's inode.
pub const ROOT: u32 = 2;
pub const EXTENTS: u32 = 0x8_0000;
const INLINE: u32 = 0x1000_0000;
const ENCRYPTED: u32 = 0x800;
pub const EXTENT_MAGIC: u16 = 0xf30a;
pub const ATTRIBUTE_MAGIC: u32 = 0xea02_0000;
/// Most pieces that one file may lie in, and most blocks of its tables.
const MOST_PIECES: usize = 1 << 20;
/// Bytes that are given on at once.
const PIECE: u64 = 1 << 18;

/// An inode.
#[derive(Clone, Debug)]
pub struct Inode {
    pub number: u32,
    pub mode: u16,
    pub user: u32,
    pub group: u32,
    pub len: u64,
    pub flags: u32,
    /// Seconds since 1970.
    pub modified: i64,
    /// Names that lead to it.
    pub links: u16,
    /// Blocks of 512 bytes that it takes, 0 for a link that lies in the inode.
    pub sectors: u32,
    /// The block with further extended attributes, 0 if there is none.
    attribute_block: u64,
    /// The 60 bytes of block pointers or content.
    pub block: Vec<u8>,
    /// What follows the classic 128 bytes.
    extra: Vec<u8>,
}

/// A run of blocks of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Piece {
    /// First block of the file.
    pub logical: u64,
    /// First block on the disk.
    pub physical: u64,
    /// Number of blocks.
    pub count: u64,
    /// Whether it was written; otherwise it reads as zero.
    pub written: bool,
}

/// When an inode says that its content was changed, in seconds since 1970. The classic field has 32 bits with a sign; two
/// more stand behind the classic inode, where that has room for them.
fn modified(raw: &[u8]) -> i64 {
    const EXTRA: usize = 0x88;
    let classic = i64::from(le32(raw, 0x10).unwrap_or(0) as i32);
    let room = le16(raw, 0x80).map_or(0, usize::from).saturating_add(128);
    match le32(raw, EXTRA).filter(|_| raw.len() > 128 && room >= EXTRA.saturating_add(4)) {
        Some(extra) => classic.saturating_add(i64::from(extra & 3) << 32),
        None => classic,
    }
}

/// What names of extended attributes begin with, by their index.
fn attribute_prefix(index: u8) -> Option<&'static str> {
    Some(match index {
        1 => "user.",
        2 => "system.posix_acl_access",
        3 => "system.posix_acl_default",
        4 => "trusted.",
        6 => "security.",
        _ => return None,
    })
}

/// Extended attributes that lie one behind the other in `table` from `first` on, their values at offsets from `base`.
fn attributes(table: &[u8], first: usize, base: usize, found: &mut Vec<(String, Vec<u8>)>) {
    let mut at = first;
    while let Some(entry) = table.get(at..at.saturating_add(16)) {
        if le32(entry, 0) == Some(0) {
            return;
        }
        let name_len = usize::from(entry[0]);
        let from = at.saturating_add(16);
        let behind = from.saturating_add(name_len);
        let Some(name) = table.get(from..behind) else {
            return;
        };
        let value = || {
            // One that lies in an inode of its own is not looked for.
            let start = base.checked_add(usize::from(le16(entry, 2)?))?;
            let len = usize::try_from(le32(entry, 8)?).ok()?;
            let here = le32(entry, 4)? == 0;
            here.then(|| table.get(start..start.checked_add(len)?))
                .flatten()
        };
        if let (Some(prefix), Some(value)) = (attribute_prefix(entry[1]), value()) {
            found.push((format!("{prefix}{}", text_of(name)), value.to_vec()));
        }
        at = behind.next_multiple_of(4);
    }
}

impl Inode {
    /// The inode in at least 128 bytes.
    pub fn parse(number: u32, raw: &[u8]) -> Self {
        let word = |at| u32::from(le16(raw, at).unwrap_or(0));
        let long = |at| le32(raw, at).unwrap_or(0);
        Self {
            number,
            mode: word(0) as u16,
            user: word(0x78) << 16 | word(2),
            group: word(0x7a) << 16 | word(0x18),
            len: u64::from(long(0x6c)) << 32 | u64::from(long(4)),
            flags: long(0x20),
            modified: modified(raw),
            links: word(0x1a) as u16,
            sectors: long(0x1c),
            attribute_block: u64::from(word(0x76)) << 32 | u64::from(long(0x68)),
            block: raw[0x28..0x64].to_vec(),
            extra: raw[128..].to_vec(),
        }
    }

    pub fn kind(&self) -> NodeKind {
        match self.mode >> 12 {
            0x8 => NodeKind::File,
            0x4 => NodeKind::Folder,
            0xa => NodeKind::Link,
            _ => NodeKind::Other,
        }
    }

    /// Whether its content lies in the inode itself.
    pub fn is_inline(&self) -> bool {
        self.flags & INLINE != 0
    }

    /// Whether it is of a kind whose bytes lie in blocks; devices and the like have none.
    pub fn has_blocks(&self) -> bool {
        !self.is_inline() && self.kind() != NodeKind::Other
    }

    /// Content that lies in the inode: its block pointers, and an attribute behind them.
    fn inline(&self) -> Result<Vec<u8>, ExtError> {
        let mut bytes = self.block.clone();
        if self.len > bytes.len() as u64 {
            bytes.extend(self.attribute(7, b"data").ok_or_else(|| {
                damaged(
                    Structure::Inode,
                    Some(u64::from(self.number)),
                    "has lost the rest of its content",
                )
            })?);
        }
        bytes.resize(self.len.min(1 << 16) as usize, 0);
        Ok(bytes)
    }

    /// The value of an extended attribute in the inode.
    fn attribute(&self, index: u8, name: &[u8]) -> Option<Vec<u8>> {
        let from = usize::from(le16(&self.extra, 0)?);
        if le32(&self.extra, from)? != ATTRIBUTE_MAGIC {
            return None;
        }
        let first = from.checked_add(4)?;
        let mut at = first;
        loop {
            let entry = self.extra.get(at..at.checked_add(16)?)?;
            if le32(entry, 0) == Some(0) {
                return None;
            }
            let name_len = usize::from(entry[0]);
            let found = self
                .extra
                .get(at.saturating_add(16)..at.saturating_add(16).saturating_add(name_len))?;
            if entry[1] == index && found == name {
                let offset = first.checked_add(usize::from(le16(entry, 2)?))?;
                let len = usize::try_from(le32(entry, 8)?).ok()?;
                return Some(self.extra.get(offset..offset.checked_add(len)?)?.to_vec());
            }
            at = at
                .saturating_add(16)
                .saturating_add(name_len)
                .next_multiple_of(4);
        }
    }
}

/// Reads an inode from its group's table.
pub fn read<D: Disk + ?Sized>(
    disk: &D,
    superblock: &Superblock,
    number: u32,
) -> Result<Inode, ExtError> {
    if number == 0 || number > superblock.inodes {
        return Err(damaged(
            Structure::Inode,
            Some(u64::from(number)),
            "is not there",
        ));
    }
    let (group, index) = superblock.place_of_inode(number);
    if group >= superblock.groups() {
        return Err(damaged(
            Structure::Inode,
            Some(u64::from(number)),
            "lies in no group",
        ));
    }
    let table = superblock.group(disk, group, false)?.inode_table;
    let at = table
        .saturating_mul(superblock.block_len)
        .saturating_add(u64::from(index).saturating_mul(superblock.inode_len));
    let raw = disk.read_vec(at, superblock.inode_len as usize)?;
    Ok(Inode::parse(number, &raw))
}

/// Where the blocks of a file lie, ascending.
pub fn pieces<D: Disk + ?Sized>(
    disk: &D,
    superblock: &Superblock,
    inode: &Inode,
) -> Result<Vec<Piece>, ExtError> {
    let end = inode.len.div_ceil(superblock.block_len);
    Ok(whole_mapping(disk, superblock, inode, end)?.0)
}

/// Where the blocks of a file lie up to block `end`, and the blocks that say so.
pub fn whole_mapping<D: Disk + ?Sized>(
    disk: &D,
    superblock: &Superblock,
    inode: &Inode,
    end: u64,
) -> Result<(Vec<Piece>, Vec<u64>), ExtError> {
    let mut walk = Walk {
        disk,
        superblock,
        inode,
        found: Vec::new(),
        tables: Vec::new(),
    };
    if inode.flags & EXTENTS != 0 {
        walk.extents(&inode.block, None)?;
    } else {
        walk.block_map(end)?;
    }
    Ok((walk.found, walk.tables))
}

struct Walk<'a, D: ?Sized> {
    disk: &'a D,
    superblock: &'a Superblock,
    inode: &'a Inode,
    found: Vec<Piece>,
    /// Blocks of tables read so far; their number ends a circle.
    tables: Vec<u64>,
}

impl<D: Disk + ?Sized> Walk<'_, D> {
    fn wrong(&self, what: &str) -> ExtError {
        damaged(
            Structure::BlockMap,
            Some(u64::from(self.inode.number)),
            format!("has {what}"),
        )
    }

    fn table(&mut self, block: u64) -> Result<Vec<u8>, ExtError> {
        self.tables.push(block);
        if self.tables.len() > MOST_PIECES / 8 || block >= self.superblock.blocks {
            return Err(self.wrong("a block table that leads nowhere"));
        }
        let len = self.superblock.block_len;
        Ok(self
            .disk
            .read_vec(block.saturating_mul(len), len as usize)?)
    }

    fn add(&mut self, piece: Piece) -> Result<(), ExtError> {
        let end = piece.physical.checked_add(piece.count);
        if end.is_none_or(|end| end > self.superblock.blocks) {
            return Err(self.wrong("blocks outside of the file system"));
        }
        if let Some(last) = self.found.last_mut() {
            let follows = last.logical.saturating_add(last.count);
            if piece.logical < follows {
                return Err(self.wrong("blocks that overlap"));
            }
            if piece.logical == follows
                && piece.physical == last.physical.saturating_add(last.count)
                && piece.written == last.written
            {
                last.count = last.count.saturating_add(piece.count);
                return Ok(());
            }
        }
        if self.found.len() >= MOST_PIECES {
            return Err(ExtError::TooLong(format!(
                "the block table of inode {}",
                self.inode.number
            )));
        }
        self.found.push(piece);
        Ok(())
    }

    /// A node of an extent tree: a header of 12 bytes, then entries of 12.
    fn extents(&mut self, node: &[u8], depth: Option<u16>) -> Result<(), ExtError> {
        let header = (le16(node, 0), le16(node, 2), le16(node, 6));
        let (Some(EXTENT_MAGIC), Some(entries), Some(own)) = header else {
            return Err(self.wrong("a broken extent tree"));
        };
        if own > 5 || depth.is_some_and(|depth| depth != own) {
            return Err(self.wrong("an extent tree of impossible depth"));
        }
        let room = node.len().saturating_sub(12) / 12;
        if usize::from(entries) > room || le16(node, 4).is_none_or(|most| usize::from(most) > room)
        {
            return Err(self.wrong("an extent tree with more entries than it has room for"));
        }
        for entry in node[12..].chunks_exact(12).take(usize::from(entries)) {
            let word = |at| u64::from(le16(entry, at).unwrap_or(0));
            let long = |at| u64::from(le32(entry, at).unwrap_or(0));
            if own > 0 {
                let block = word(8) << 32 | long(4);
                let below = self.table(block)?;
                self.extents(&below, Some(own.saturating_sub(1)))?;
                continue;
            }
            let (len, written) = match word(4) {
                len @ 0..=0x8000 => (len, true),
                len => (len.saturating_sub(0x8000), false),
            };
            if len == 0 {
                return Err(self.wrong("an extent of no length"));
            }
            self.add(Piece {
                logical: long(0),
                physical: word(6) << 32 | long(8),
                count: len,
                written,
            })?;
        }
        Ok(())
    }

    /// Twelve blocks, then one table of blocks, one of tables, one of tables of tables.
    fn block_map(&mut self, end: u64) -> Result<(), ExtError> {
        let pointers = self.inode.block.clone();
        let mut logical = 0;
        for (place, raw) in pointers.chunks_exact(4).enumerate() {
            let block = u64::from(le32(raw, 0).unwrap_or(0));
            let level = (place as u32).saturating_sub(11);
            self.mapped(block, level, &mut logical, end)?;
        }
        Ok(())
    }

    fn mapped(
        &mut self,
        block: u64,
        level: u32,
        logical: &mut u64,
        end: u64,
    ) -> Result<(), ExtError> {
        let fan = self.superblock.block_len / 4;
        let spans = fan.pow(level);
        if block == 0 || *logical >= end {
            *logical = logical.saturating_add(spans);
            return Ok(());
        }
        if level == 0 {
            self.add(Piece {
                logical: *logical,
                physical: block,
                count: 1,
                written: true,
            })?;
            *logical = (*logical).saturating_add(1);
            return Ok(());
        }
        for raw in self.table(block)?.chunks_exact(4) {
            let below = u64::from(le32(raw, 0).unwrap_or(0));
            self.mapped(below, level.saturating_sub(1), logical, end)?;
        }
        Ok(())
    }
}

impl<D: Disk> Ext<D> {
    pub(super) fn inode(&self, number: u32) -> Result<Inode, ExtError> {
        read(&self.disk, &self.superblock, number)
    }

    /// Gives all bytes of an inode to `sink`, holes as zeros.
    pub(super) fn read_inode(&self, inode: &Inode, sink: Sink<'_>) -> Result<(), FileError> {
        if inode.flags & ENCRYPTED != 0 {
            return Err(ExtError::Feature(format!("encryption for inode {}", inode.number)).into());
        }
        if inode.flags & INLINE != 0 {
            return sink(&inode.inline()?).map_err(FileError::Sink);
        }
        let block_len = self.superblock.block_len;
        let mut at = 0;
        let hole = |from: u64, to: u64, sink: &mut dyn FnMut(&[u8]) -> std::io::Result<()>| {
            let mut from = from;
            while from < to {
                let take = (ZEROS.len() as u64).min(to.saturating_sub(from));
                sink(&ZEROS[..take as usize]).map_err(FileError::Sink)?;
                from = from.saturating_add(take);
            }
            Ok::<_, FileError>(())
        };
        for piece in pieces(&self.disk, &self.superblock, inode)? {
            let start = piece.logical.saturating_mul(block_len).min(inode.len);
            let end = piece
                .logical
                .saturating_add(piece.count)
                .saturating_mul(block_len)
                .min(inode.len);
            hole(at, start, sink)?;
            at = end;
            if !piece.written {
                hole(start, end, sink)?;
                continue;
            }
            let mut from = start;
            while from < end {
                let take = PIECE.min(end.saturating_sub(from));
                let on_disk = piece
                    .physical
                    .saturating_mul(block_len)
                    .saturating_add(from.saturating_sub(start));
                let bytes = self.disk.read_vec(on_disk, take as usize)?;
                sink(&bytes).map_err(FileError::Sink)?;
                from = from.saturating_add(take);
            }
        }
        hole(at, inode.len, sink)
    }

    /// The extended attributes of an inode, in itself and in its block of them. What is damaged of them is left out.
    pub(super) fn attributes_of(&self, inode: &Inode) -> Result<Vec<(String, Vec<u8>)>, ExtError> {
        let mut found = Vec::new();
        let from = le16(&inode.extra, 0).map_or(0, usize::from);
        if le32(&inode.extra, from) == Some(ATTRIBUTE_MAGIC) {
            let first = from.saturating_add(4);
            attributes(&inode.extra, first, first, &mut found);
        }
        if inode.attribute_block != 0 {
            let len = self.superblock.block_len;
            let at = inode.attribute_block.saturating_mul(len);
            let block = self.disk.read_vec(at, len as usize)?;
            if le32(&block, 0) == Some(ATTRIBUTE_MAGIC) {
                attributes(&block, 32, 0, &mut found);
            }
        }
        Ok(found)
    }

    /// All bytes of a small inode.
    pub(super) fn content(&self, inode: &Inode, most: u64) -> Result<Vec<u8>, ExtError> {
        if inode.len > most {
            return Err(ExtError::TooLong(format!("inode {}", inode.number)));
        }
        let mut bytes = Vec::new();
        let read = self.read_inode(inode, &mut |piece| {
            bytes.extend_from_slice(piece);
            Ok(())
        });
        match read {
            Ok(()) => Ok(bytes),
            Err(FileError::Ext(e)) => Err(e),
            Err(FileError::Disk(e)) => Err(e.into()),
            Err(e) => Err(damaged(
                Structure::Inode,
                None,
                format!("cannot be read: {e}"),
            )),
        }
    }

    pub(super) fn link_target(&self, inode: &Inode) -> Result<String, ExtError> {
        let inside = inode.len < 60 && inode.flags & (EXTENTS | INLINE) == 0;
        let bytes = if inside && (inode.sectors == 0 || self.is_in_place(inode)) {
            inode.block[..inode.len as usize].to_vec()
        } else {
            self.content(inode, 1 << 16)?
        };
        Ok(text_of(&bytes))
    }

    /// Whether the blocks of an inode are its content, not text of a link or a device's number.
    pub(super) fn keeps_blocks(&self, inode: &Inode) -> bool {
        match inode.kind() {
            NodeKind::File | NodeKind::Folder => true,
            NodeKind::Link if inode.len >= 60 || inode.flags & EXTENTS != 0 => true,
            NodeKind::Link => inode.sectors != 0 && !self.is_in_place(inode),
            NodeKind::Other => false,
        }
    }

    /// Whether a short link that takes blocks, for attributes, still lies in its inode: then its
    /// pointers are text and no blocks of this file system.
    pub(super) fn is_in_place(&self, inode: &Inode) -> bool {
        let first = u64::from(le32(&inode.block, 0).unwrap_or(0));
        first >= self.superblock.blocks || inode.block[4..].iter().any(|byte| *byte != 0)
    }
}
