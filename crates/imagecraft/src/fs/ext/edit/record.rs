//! Inodes as bytes, to be changed field by field and written with their checksum.

use super::super::checksum::crc32c;
use super::super::inode::{EXTENT_MAGIC, EXTENTS, Inode};
use super::super::superblock::{Superblock, compat, incompat};
use super::{Attributes, Editor, ExtError, Structure, damaged, put16, put32};
use crate::Disk;
use crate::fs::NodeKind;
use crate::number::{le16, le32};

/// The folder has an index.
pub const INDEXED: u32 = 0x1000;
const HUGE_FILE: u32 = 0x4_0000;
pub const ATTRIBUTE_BLOCK_CHECKSUM: usize = 0x10;

/// Entries of an extent tree that fit into the inode itself.
pub const IN_INODE: usize = 4;

/// The mapping of an inode without content.
fn empty_extents() -> [u8; 60] {
    let mut mapping = [0; 60];
    put16(&mut mapping, 0, EXTENT_MAGIC);
    put16(&mut mapping, 4, IN_INODE as u16);
    mapping
}

/// One inode.
#[derive(Clone)]
pub struct Record {
    pub number: u32,
    raw: Vec<u8>,
}

impl Record {
    fn long(&self, at: usize) -> u32 {
        le32(&self.raw, at).unwrap_or(0)
    }

    fn word(&self, at: usize) -> u16 {
        le16(&self.raw, at).unwrap_or(0)
    }

    /// The same as a reader sees it.
    pub fn inode(&self) -> Inode {
        Inode::parse(self.number, &self.raw)
    }

    pub fn kind(&self) -> NodeKind {
        self.inode().kind()
    }

    pub fn links(&self) -> u16 {
        self.word(0x1a)
    }

    pub fn set_links(&mut self, links: u16) {
        put16(&mut self.raw, 0x1a, links);
    }

    pub fn len(&self) -> u64 {
        u64::from(self.long(0x6c)) << 32 | u64::from(self.long(4))
    }

    pub fn set_len(&mut self, len: u64) {
        put32(&mut self.raw, 4, len as u32);
        put32(&mut self.raw, 0x6c, (len >> 32) as u32);
    }

    pub fn flags(&self) -> u32 {
        self.long(0x20)
    }

    pub fn set_flags(&mut self, flags: u32) {
        put32(&mut self.raw, 0x20, flags);
    }

    /// The 60 bytes that say where the content lies.
    pub fn set_mapping(&mut self, mapping: &[u8; 60]) {
        self.raw[0x28..0x64].copy_from_slice(mapping);
    }

    pub fn mapping(&self) -> [u8; 60] {
        let mut mapping = [0; 60];
        mapping.copy_from_slice(&self.raw[0x28..0x64]);
        mapping
    }

    /// Says how many blocks it takes, its attribute block among them.
    pub fn set_blocks(&mut self, blocks: u64, block_len: u64) {
        let sectors = blocks * (block_len / 512);
        self.set_flags(self.flags() & !HUGE_FILE);
        put32(&mut self.raw, 0x1c, sectors as u32);
        put16(&mut self.raw, 0x74, (sectors >> 32) as u16);
    }

    /// The block with its extended attributes, 0 if there is none.
    pub fn attribute_block(&self) -> u64 {
        u64::from(self.word(0x76)) << 32 | u64::from(self.long(0x68))
    }

    pub fn set_attribute_block(&mut self, block: u64) {
        put16(&mut self.raw, 0x76, (block >> 32) as u16);
        put32(&mut self.raw, 0x68, block as u32);
    }

    /// Follows an inode on the list of orphans.
    pub fn next_orphan(&self) -> u32 {
        self.long(0x14)
    }

    pub fn set_deletion_time(&mut self, time: u32) {
        put32(&mut self.raw, 0x14, time);
    }

    pub fn set_attributes(&mut self, given: &Attributes) {
        if let Some(mode) = given.mode {
            let kept = self.word(0) & 0xf000;
            put16(&mut self.raw, 0, kept | mode & 0o7777);
        }
        for (id, low, high) in [(given.owner, 2, 0x78), (given.group, 0x18, 0x7a)] {
            if let Some(id) = id {
                put16(&mut self.raw, low, id as u16);
                put16(&mut self.raw, high, (id >> 16) as u16);
            }
        }
    }

    /// Gives it a time of change.
    pub fn touch(&mut self, now: u32) {
        put32(&mut self.raw, 0xc, now);
        put32(&mut self.raw, 0x10, now);
        let extra = usize::from(self.extra_len());
        for at in [0x84, 0x88] {
            if 0x80 + extra >= at + 4 {
                put32(&mut self.raw, at, 0);
            }
        }
    }

    fn extra_len(&self) -> u16 {
        if self.raw.len() > 128 {
            self.word(0x80).min((self.raw.len() - 128) as u16)
        } else {
            0
        }
    }

    /// A link whose target lies in the inode.
    pub fn set_short_link(&mut self, target: &str) {
        let mut mapping = [0; 60];
        mapping[..target.len()].copy_from_slice(target.as_bytes());
        self.set_mapping(&mapping);
        self.set_flags(self.flags() & !EXTENTS);
        self.set_len(target.len() as u64);
    }

    /// Nothing is left of it.
    pub fn retire(&mut self, now: u32) {
        self.set_links(0);
        self.set_len(0);
        self.set_deletion_time(now);
    }

    /// What checksums of its blocks begin with.
    pub fn seed(&self, superblock: &Superblock) -> u32 {
        let state = crc32c(superblock.seed, &self.number.to_le_bytes());
        crc32c(state, &self.raw[0x64..0x68])
    }

    fn seal(&mut self, superblock: &Superblock) {
        let wide = self.extra_len() >= 4;
        put16(&mut self.raw, 0x7c, 0);
        if wide {
            put16(&mut self.raw, 0x82, 0);
        }
        let sum = crc32c(self.seed(superblock), &self.raw);
        put16(&mut self.raw, 0x7c, sum as u16);
        if wide {
            put16(&mut self.raw, 0x82, (sum >> 16) as u16);
        }
    }
}

impl<D: Disk> Editor<D> {
    fn place_of(&self, number: u32) -> Result<u64, ExtError> {
        let superblock = &self.superblock;
        if number == 0 || number > superblock.inodes {
            return Err(damaged(
                Structure::Inode,
                Some(u64::from(number)),
                "is not there",
            ));
        }
        let group = ((number - 1) / superblock.inodes_per_group) as usize;
        let index = u64::from((number - 1) % superblock.inodes_per_group);
        let places = self.groups.get(group).map(|one| one.places);
        let table = places
            .ok_or_else(|| {
                damaged(
                    Structure::Inode,
                    Some(u64::from(number)),
                    "lies in no group",
                )
            })?
            .inode_table;
        Ok(table * superblock.block_len + index * superblock.inode_len)
    }

    pub(super) fn record(&self, number: u32) -> Result<Record, ExtError> {
        let len = self.superblock.inode_len as usize;
        Ok(Record {
            number,
            raw: self.disk.read_vec(self.place_of(number)?, len)?,
        })
    }

    pub(super) fn write_record(&mut self, record: &mut Record) -> Result<(), ExtError> {
        if self.superblock.has_checksums() {
            record.seal(&self.superblock);
        }
        let at = self.place_of(record.number)?;
        Ok(self.disk.write_at(at, &record.raw)?)
    }

    /// Makes an inode nothing but zeros.
    pub(super) fn wipe_record(&mut self, number: u32) -> Result<(), ExtError> {
        let at = self.place_of(number)?;
        let zeros = vec![0; self.superblock.inode_len as usize];
        Ok(self.disk.write_at(at, &zeros)?)
    }

    /// A new inode near a folder, with type and permissions, one link and no content.
    pub(super) fn new_record(&mut self, folder: u32, mode: u16) -> Result<Record, ExtError> {
        let is_folder = mode >> 12 == 4;
        let number = self.take_inode(folder, is_folder)?;
        let superblock = &self.superblock;
        let mut raw = vec![0; superblock.inode_len as usize];
        put16(&mut raw, 0, mode);
        for at in [8, 0xc, 0x10] {
            put32(&mut raw, at, self.now);
        }
        if superblock.extra_len > 0 {
            put16(&mut raw, 0x80, superblock.extra_len);
            if superblock.extra_len >= 24 {
                put32(&mut raw, 0x90, self.now);
            }
        }
        let mut record = Record { number, raw };
        record.set_links(1);
        if superblock.incompat & incompat::EXTENTS != 0 {
            record.set_flags(EXTENTS);
            record.set_mapping(&empty_extents());
        }
        Ok(record)
    }

    /// Gives up the block of extended attributes, which several inodes may share.
    pub(super) fn drop_attributes(&mut self, record: &mut Record) -> Result<(), ExtError> {
        let block = record.attribute_block();
        if block == 0 || self.superblock.compat & compat::HAS_ATTRIBUTES == 0 {
            return Ok(());
        }
        let block_len = self.superblock.block_len;
        if block >= self.superblock.blocks {
            return Err(damaged(
                Structure::Inode,
                Some(u64::from(record.number)),
                "has its attributes nowhere",
            ));
        }
        let mut raw = self.disk.read_vec(block * block_len, block_len as usize)?;
        let users = le32(&raw, 4).unwrap_or(0);
        record.set_attribute_block(0);
        if users <= 1 {
            return self.release_blocks(block, 1);
        }
        put32(&mut raw, 4, users - 1);
        self.seal_attributes(&mut raw, block);
        Ok(self.disk.write_at(block * block_len, &raw)?)
    }
}
