//! Editing: files, folders and links made, replaced and removed, and the file system grown.
//!
//! [`Editor::open`] refuses what it does not handle before it changes anything, and brings the
//! file system to rest first: the journal is carried out, orphans are cleared away. Inodes and
//! folders are written at once, bitmaps, descriptors and the superblock with [`Editor::close`].
//! Edits are reproducible: times come from the file system, not from a clock.

mod allocation;
mod descriptor;
mod folder;
mod growth;
mod hash;
mod mapping;
mod orphans;
mod record;
mod shrink;

use std::collections::BTreeMap;

use super::inode::ROOT;
use super::journal::Replayed;
use super::superblock::{self, Superblock, incompat};
use super::{Ext, ExtError, Structure, damaged};
use crate::Disk;
use crate::fs::{FileError, NodeKind, tree};
use crate::number::le32;
use crate::ranges::Ranges;
use descriptor::{Descriptor, FREE_BLOCKS, FREE_INODES};
use record::Record;

pub use growth::Grown;
pub use shrink::Shrunk;

/// Longest name of a file.
const MOST_NAME: usize = 255;

/// What a file or folder is given beside its content. What is left out stays as it is; new files
/// belong to user and group 0 with mode 644, folders with mode 755.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Attributes {
    /// Permission bits, as octal 0 to 7777.
    pub mode: Option<u16>,
    /// Number of the user.
    pub owner: Option<u32>,
    /// Number of the group.
    pub group: Option<u32>,
}

/// A bitmap of one group.
struct Bitmap {
    bytes: Vec<u8>,
    changed: bool,
}

/// An ext file system that is being edited.
pub struct Editor<D> {
    disk: D,
    superblock: Superblock,
    /// The superblock's bytes.
    raw: Vec<u8>,
    groups: Vec<Descriptor>,
    block_bitmaps: BTreeMap<u64, Bitmap>,
    inode_bitmaps: BTreeMap<u64, Bitmap>,
    /// Blocks of all groups' tables, which no file may get.
    system: Ranges,
    /// The time that changes get, in seconds.
    now: u32,
    /// Whether all copies of superblock and descriptors must be written.
    grown: bool,
}

impl<D: Disk> Editor<D> {
    /// Checks and opens the file system that fills `disk`.
    ///
    /// # Errors
    /// A feature that is not handled, by name; damage; a journal that cannot be carried out.
    /// Nothing has been changed then.
    pub fn open(mut disk: D) -> Result<Self, ExtError> {
        let found = Superblock::read(&disk)?;
        found.check_editable()?;
        if found.has_errors() {
            return Err(damaged(
                Structure::Superblock,
                None,
                "recorded errors, and wants to be checked",
            ));
        }
        if found.needs_recovery() {
            let replay = Replayed::new(&disk, &found)?.into_replay();
            replay.carry_out(&mut disk, &found)?;
        } else if !found.is_clean() {
            return Err(damaged(
                Structure::Superblock,
                None,
                "says that it was not unmounted, and there is no journal",
            ));
        }
        let superblock = Superblock::read(&disk)?;
        superblock.check_editable()?;
        let mut raw = disk.read_vec(superblock::AT, 1024)?;
        let incompatible = superblock.incompat & !incompat::RECOVER;
        raw[0x60..0x64].copy_from_slice(&incompatible.to_le_bytes());
        let superblock = Superblock {
            incompat: incompatible,
            ..superblock
        };
        let groups = descriptor::read_all(&disk, &superblock)?;
        let time = |at| le32(&raw, at).unwrap_or(0);
        let mut editor = Self {
            now: time(0x30).max(time(0x2c)).max(time(0x108)).max(1),
            disk,
            raw,
            groups,
            block_bitmaps: BTreeMap::new(),
            inode_bitmaps: BTreeMap::new(),
            system: Ranges::default(),
            superblock,
            grown: false,
        };
        for group in 0..editor.superblock.groups() {
            editor.note_tables(group);
        }
        editor.count_anew();
        editor.clear_orphans()?;
        Ok(editor)
    }

    /// While a file system is mounted, the superblock's counts of what is free lag behind those
    /// of the groups.
    fn count_anew(&mut self) {
        let sum = |which| {
            let counts = self.groups.iter().map(|one| u64::from(one.get(which)));
            counts.sum::<u64>()
        };
        let (blocks, inodes) = (sum(FREE_BLOCKS), sum(FREE_INODES));
        let (low, high) = allocation::ALL_FREE_BLOCKS;
        self.set_count(low, high, blocks);
        put32(&mut self.raw, 0x10, inodes as u32);
    }

    /// Creates the file at `path`, or replaces all of its bytes; makes the folders it needs.
    /// Links on the way are followed; a link at the very end gives way to the file.
    pub fn put(&mut self, path: &str, bytes: &[u8], given: &Attributes) -> Result<(), ExtError> {
        self.ensure_room(path, bytes.len() as u64, 1)?;
        let (folder, name) = self.parent(path)?;
        let found = self.find(folder, name)?;
        let (mut record, is_new) = match found {
            Some(found) if found.kind() == NodeKind::File => (found, false),
            found => {
                self.give_way(path, folder, name, found)?;
                (self.new_record(folder, 0o100_644)?, true)
            }
        };
        self.fill(&mut record, path, bytes)?;
        record.set_attributes(given);
        record.touch(self.now);
        self.write_record(&mut record)?;
        match is_new {
            true => self.add_name(folder, name, record.number, NodeKind::File),
            false => Ok(()),
        }
    }

    /// Refuses, before anything is changed, what may not find room: the bytes of a file with its
    /// tables, the folders on the way that are missing, and blocks by which folders grow.
    fn ensure_room(&self, path: &str, len: u64, inodes: u64) -> Result<(), ExtError> {
        let parts = tree::parts(path);
        let mut missing = 0;
        let mut walked = String::new();
        for part in parts.iter().take(parts.len().saturating_sub(1)) {
            walked.push('/');
            walked.push_str(part);
            missing += u64::from(missing > 0 || self.resolve(&walked)?.is_none());
        }
        let block_len = self.superblock.block_len;
        let wanted = len.div_ceil(block_len);
        // In the worst case each block stands alone and needs an entry of a table.
        let tables = match wanted {
            0..=4 => 0,
            wanted => wanted / (block_len / 12 - 1) + 4,
        };
        // A folder that gets a name grows by three blocks at most, when its index is split.
        let folders = missing * 4 + 3;
        let count = |which| {
            let counts = self.groups.iter().map(|one| u64::from(one.get(which)));
            counts.sum::<u64>()
        };
        // What a file gives up that is replaced counts as well.
        let (given_up, inodes) = match self.resolve(path)? {
            Some(number) => {
                let sectors = u64::from(self.view().inode(number)?.sectors);
                (sectors * 512 / block_len, inodes.saturating_sub(1))
            }
            None => (0, inodes),
        };
        let blocks = count(FREE_BLOCKS) + given_up;
        if blocks < wanted + tables + folders {
            return Err(full(path));
        }
        match count(FREE_INODES) < missing + inodes {
            true => Err(full(format!("{path}: all inodes are taken"))),
            false => Ok(()),
        }
    }

    /// Makes the folder at `path` and those above it; one that is there gets the attributes.
    pub fn make_folder(&mut self, path: &str, given: &Attributes) -> Result<(), ExtError> {
        self.ensure_room(path, self.superblock.block_len, 1)?;
        let (folder, name) = self.parent(path)?;
        let number = match self.find(folder, name)? {
            Some(_) => self
                .resolve(path)?
                .ok_or_else(|| ExtError::WrongKind(path.into()))?,
            None => self.new_folder(folder, name)?,
        };
        let mut record = self.record(number)?;
        if record.kind() != NodeKind::Folder {
            return Err(ExtError::WrongKind(path.into()));
        }
        record.set_attributes(given);
        record.touch(self.now);
        self.write_record(&mut record)
    }

    /// Makes the symbolic link at `path`; a file or link that is there gives way.
    pub fn link(&mut self, path: &str, target: &str) -> Result<(), ExtError> {
        if target.is_empty() || target.len() > 1023 || target.contains('\0') {
            return Err(ExtError::Path(target.into()));
        }
        self.ensure_room(path, target.len() as u64, 1)?;
        let (folder, name) = self.parent(path)?;
        let found = self.find(folder, name)?;
        self.give_way(path, folder, name, found)?;
        let mut record = self.new_record(folder, 0o120_777)?;
        if target.len() < 60 {
            record.set_short_link(target);
        } else {
            self.fill(&mut record, path, target.as_bytes())?;
        }
        self.write_record(&mut record)?;
        self.add_name(folder, name, record.number, NodeKind::Link)
    }

    /// Removes the file, link or empty folder at `path`. Says whether there was one.
    pub fn remove(&mut self, path: &str) -> Result<bool, ExtError> {
        let (above, name) = split(path)?;
        let Some(folder) = self.resolve(above)? else {
            return Ok(false);
        };
        match self.find(folder, name)? {
            Some(found) => self.drop_name(path, folder, name, found).map(|()| true),
            None => Ok(false),
        }
    }

    /// Writes what is held back. The disk is whole only after this.
    pub fn close(mut self) -> Result<(), ExtError> {
        self.write_bitmaps()?;
        self.write_descriptors()?;
        self.write_superblocks()
    }

    /// The file system as a reader sees it.
    fn view(&self) -> Ext<&D> {
        Ext {
            disk: &self.disk,
            superblock: self.superblock.clone(),
            // The journal was carried out before anything is edited.
            replayed: false,
        }
    }

    fn resolve(&self, path: &str) -> Result<Option<u32>, ExtError> {
        self.view().resolve(path, false).map_err(|e| match e {
            FileError::Ext(e) => e,
            FileError::Disk(e) => e.into(),
            other => damaged(Structure::Folder, None, format!("cannot be read: {other}")),
        })
    }

    /// The folder that `path` lies in, made where it is missing, and the last name.
    fn parent<'a>(&mut self, path: &'a str) -> Result<(u32, &'a str), ExtError> {
        let (above, name) = split(path)?;
        let mut folder = ROOT;
        let mut walked = String::new();
        for part in tree::parts(above) {
            walked.push('/');
            walked.push_str(part);
            folder = match self.resolve(&walked)? {
                Some(found) => found,
                None if self.find(folder, part)?.is_some() => {
                    return Err(ExtError::WrongKind(walked));
                }
                None => self.new_folder(folder, part)?,
            };
        }
        match self.record(folder)?.kind() {
            NodeKind::Folder => Ok((folder, name)),
            _ => Err(ExtError::WrongKind(above.into())),
        }
    }

    /// The inode of a name in a folder.
    fn find(&self, folder: u32, name: &str) -> Result<Option<Record>, ExtError> {
        let view = self.view();
        let folder = view.inode(folder)?;
        if folder.kind() != NodeKind::Folder {
            return Ok(None);
        }
        match view.look_up(&folder, name)? {
            Some(number) => self.record(number).map(Some),
            None => Ok(None),
        }
    }

    /// Removes what stands where something else shall stand; a folder stays.
    fn give_way(
        &mut self,
        path: &str,
        folder: u32,
        name: &str,
        found: Option<Record>,
    ) -> Result<(), ExtError> {
        match found {
            Some(found) if found.kind() == NodeKind::Folder => {
                Err(ExtError::WrongKind(path.into()))
            }
            Some(found) => self.drop_name(path, folder, name, found),
            None => Ok(()),
        }
    }

    /// Takes a name out of its folder, and what it stands for away with its last name.
    fn drop_name(
        &mut self,
        path: &str,
        folder: u32,
        name: &str,
        mut found: Record,
    ) -> Result<(), ExtError> {
        let is_folder = found.kind() == NodeKind::Folder;
        if is_folder {
            let view = self.view();
            if !view.names(&found.inode())?.is_empty() || found.number == ROOT {
                return Err(ExtError::WrongKind(path.into()));
            }
        }
        self.remove_name(folder, name)?;
        if is_folder {
            let mut above = self.record(folder)?;
            if above.links() > 2 {
                above.set_links(above.links() - 1);
            }
            self.write_record(&mut above)?;
            return self.discard(found);
        }
        match found.links() {
            0 | 1 => self.discard(found),
            links => {
                found.set_links(links - 1);
                found.touch(self.now);
                self.write_record(&mut found)
            }
        }
    }

    /// Gives an inode and all of its blocks back.
    fn discard(&mut self, mut record: Record) -> Result<(), ExtError> {
        self.free_blocks_of(&mut record)?;
        self.drop_attributes(&mut record)?;
        record.retire(self.now);
        self.write_record(&mut record)?;
        self.release_inode(record.number, record.kind() == NodeKind::Folder)
    }

    fn write_superblocks(&mut self) -> Result<(), ExtError> {
        let copies: Vec<u64> = match self.grown {
            true => (1..self.superblock.groups())
                .filter(|group| self.superblock.has_copy(*group))
                .collect(),
            false => Vec::new(),
        };
        for group in copies {
            let mut raw = self.raw.clone();
            raw[0x5a..0x5c].copy_from_slice(&(group as u16).to_le_bytes());
            self.superblock.seal(&mut raw);
            let at = self.superblock.group_start(group) * self.superblock.block_len;
            self.disk.write_at(at, &raw)?;
        }
        self.superblock.seal(&mut self.raw);
        Ok(self.disk.write_at(superblock::AT, &self.raw)?)
    }
}

/// Makes the journal of the file system that fills `disk` nothing but zeros behind its own superblock: it
/// holds older states of what the file system consists of.
///
/// # Errors
/// As [`Editor::open`]; a journal that was not carried out yet is carried out first.
pub fn clear_journal<D: Disk>(disk: D) -> Result<(), ExtError> {
    let mut editor = Editor::open(disk)?;
    let number = editor.superblock.journal_inode;
    if editor.superblock.compat & superblock::compat::HAS_JOURNAL == 0 || number == 0 {
        return editor.close();
    }
    let journal = editor.record(number)?;
    let block_len = editor.superblock.block_len;
    for piece in editor.mapping_of(&journal)?.0 {
        // The first block says that it is empty.
        let kept = u64::from(piece.logical == 0);
        let from = (piece.physical + kept) * block_len;
        editor
            .disk
            .zero_at(from, piece.count.saturating_sub(kept) * block_len)?;
    }
    editor.close()
}

/// Splits a path into the folder above and the last name, which must be one that can be made.
fn split(path: &str) -> Result<(&str, &str), ExtError> {
    let trimmed = path.trim_end_matches('/');
    let (above, name) = trimmed.rsplit_once('/').unwrap_or(("", trimmed));
    let fine = |part: &str| part.len() <= MOST_NAME && !part.contains('\0') && part != "..";
    if name.is_empty() || name == "." || trimmed.len() != path.len() || !fine(name) {
        return Err(ExtError::Path(path.into()));
    }
    match tree::parts(above).into_iter().all(fine) {
        true => Ok((above, name)),
        false => Err(ExtError::Path(path.into())),
    }
}

impl Superblock {
    /// Puts the checksum into a superblock's bytes.
    fn seal(&self, raw: &mut [u8]) {
        if self.has_checksums() {
            let checksum = super::checksum::crc32c(!0, &raw[..0x3fc]);
            raw[0x3fc..0x400].copy_from_slice(&checksum.to_le_bytes());
        }
    }
}

fn full(what: impl Into<String>) -> ExtError {
    ExtError::Full(what.into())
}

fn put16(raw: &mut [u8], at: usize, value: u16) {
    raw[at..at + 2].copy_from_slice(&value.to_le_bytes());
}

fn put32(raw: &mut [u8], at: usize, value: u32) {
    raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
}
