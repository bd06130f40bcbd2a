//! ext2, ext3 and ext4 (Linux kernel documentation, "ext4 Data Structures and Algorithms"):
//! superblock, groups and what is in use, journal, inodes, folders. One file a structure.

mod blocks;
mod check;
mod checksum;
#[allow(
    clippy::arithmetic_side_effects,
    reason = "stops rather than write a number that is not the right one; see number.rs"
)]
mod edit;
pub(in crate::fs) mod error;
mod folder;
mod group;
mod inode;
mod journal;
mod superblock;

use super::{FileError, FileSystem, Files, Node, NodeKind, State, Stretch, Usage, tree};
use crate::{Disk, DiskError};

pub use edit::{Attributes, Editor, Grown, Shrunk, clear_journal};
use error::damaged;
pub use error::{Damage, ExtError, Structure};
pub use journal::Replayed;
pub use superblock::Superblock;

/// Most symbolic links that are followed for one path.
const MOST_LINKS: usize = 40;

/// Whether the first bytes of a disk hold a superblock.
pub fn has_signature(head: &[u8]) -> bool {
    head.get(1024..2048).is_some_and(superblock::has_magic)
}

/// Describes the ext file system that fills `disk`, if there is one.
pub fn recognise<D: Disk + ?Sized>(disk: &D) -> Result<Option<FileSystem>, DiskError> {
    if disk.len() < 2048 {
        return Ok(None);
    }
    let raw = disk.read_vec(superblock::AT, 1024)?;
    Ok(superblock::has_magic(&raw).then(|| superblock::describe(&raw)))
}

/// Length of a block of the file system that fills `disk`, in bytes.
pub fn block_len<D: Disk + ?Sized>(disk: &D) -> Result<u64, ExtError> {
    Ok(Superblock::read(disk)?.block_len)
}

/// Which bytes are in use. A file system that was not unmounted counts what is in use before
/// *or* after its journal was replayed.
///
/// # Errors
/// Damage, an unknown feature, or a journal that cannot be replayed: nothing may be called free.
pub fn usage<D: Disk + ?Sized>(disk: &D) -> Result<Usage, ExtError> {
    let superblock = Superblock::read(disk)?;
    superblock.check_known()?;
    if superblock.has_errors() {
        return Err(damaged(
            Structure::Superblock,
            None,
            "recorded errors, and wants to be checked",
        ));
    }
    let (used, state) = if superblock.needs_recovery() {
        // What lies on the disk may be a mixture of moments, so that its checksums need not match.
        let mut used = blocks::used(disk, &superblock, false)?;
        let replayed = Replayed::new(disk, &superblock)?;
        let after = Superblock::read(&replayed)?;
        if after.has_errors() {
            return Err(damaged(
                Structure::Superblock,
                None,
                "recorded errors, and wants to be checked",
            ));
        }
        if after.blocks != superblock.blocks || after.block_len != superblock.block_len {
            return Err(ExtError::Journal(
                "it changes the file system's size".into(),
            ));
        }
        used.unite(&blocks::used(&replayed, &after, true)?);
        let transactions = replayed.transactions();
        (used, State::Replayed { transactions })
    } else if !superblock.is_clean() {
        return Err(damaged(
            Structure::Superblock,
            None,
            "says that it was not unmounted, and there is no journal, so that its tables cannot be trusted",
        ));
    } else {
        (blocks::used(disk, &superblock, true)?, State::Clean)
    };
    if journal::recorded_error(disk, &superblock)? {
        return Err(damaged(
            Structure::Journal,
            None,
            "recorded an error, and wants it to be checked",
        ));
    }
    let mut usage = Usage::of(&used, disk.len(), state);
    usage.shrunk = Some(superblock.shrunk(usage.used));
    Ok(usage)
}

/// The files of an ext file system.
pub struct Ext<D> {
    disk: D,
    superblock: Superblock,
    /// Whether a journal was carried out in memory: the disk itself holds older bytes then.
    replayed: bool,
}

impl<D: Disk> Ext<Replayed<D>> {
    /// Opens the file system, with its journal replayed where it was in use.
    pub fn open_replayed(disk: D) -> Result<Self, ExtError> {
        let superblock = Superblock::read(&disk)?;
        superblock.check_known()?;
        let replayed = superblock.needs_recovery();
        let disk = match replayed {
            true => Replayed::new(disk, &superblock)?,
            false => Replayed::untouched(disk),
        };
        let superblock = Superblock::read(&disk)?;
        Ok(Self {
            disk,
            superblock,
            replayed,
        })
    }
}

impl<D: Disk> Ext<D> {
    /// Follows a path to its inode, through links; the last part too unless `keep_link`.
    fn resolve(&self, path: &str, keep_link: bool) -> Result<Option<u32>, FileError> {
        let mut waiting: Vec<String> = tree::parts(path)
            .into_iter()
            .rev()
            .map(str::to_owned)
            .collect();
        let mut folders = vec![inode::ROOT];
        let mut links = 0_usize;
        while let Some(part) = waiting.pop() {
            let here = *folders.last().unwrap_or(&inode::ROOT);
            if part == ".." {
                if folders.len() > 1 {
                    folders.pop();
                }
                continue;
            }
            let folder = self.inode(here)?;
            if folder.kind() != NodeKind::Folder {
                return Ok(None);
            }
            let Some(found) = self.look_up(&folder, &part)? else {
                return Ok(None);
            };
            let node = self.inode(found)?;
            if node.kind() == NodeKind::Link && !(keep_link && waiting.is_empty()) {
                links = links.saturating_add(1);
                if links > MOST_LINKS {
                    return Err(FileError::LinkLoop(path.into()));
                }
                let target = self.link_target(&node)?;
                if target.starts_with('/') {
                    folders.truncate(1);
                }
                waiting.extend(tree::parts(&target).into_iter().rev().map(str::to_owned));
                continue;
            }
            folders.push(found);
        }
        Ok(folders.last().copied())
    }

    fn node(&self, name: &str, number: u32) -> Result<Node, ExtError> {
        let inode = self.inode(number)?;
        let target = match inode.kind() {
            NodeKind::Link => Some(self.link_target(&inode)?),
            _ => None,
        };
        Ok(Node {
            name: name.into(),
            kind: inode.kind(),
            len: inode.len,
            mode: Some(u32::from(inode.mode & 0o7777)),
            owner: Some((inode.user, inode.group)),
            target,
            modified: Some(inode.modified),
            links: inode.links,
            id: number.into(),
        })
    }
}

impl<D: Disk> Ext<D> {
    /// The inode of a regular file that was listed.
    fn inode_of(&self, node: &Node) -> Result<inode::Inode, FileError> {
        let missing = || FileError::Missing(node.name.clone());
        let inode = self.inode(u32::try_from(node.id).map_err(|_| missing())?)?;
        match inode.kind() {
            NodeKind::File => Ok(inode),
            _ => Err(FileError::WrongKind(node.name.clone())),
        }
    }
}

impl<D: Disk> Files for Ext<D> {
    fn list(&self, path: &str) -> Result<Vec<Node>, FileError> {
        let missing = || FileError::Missing(path.into());
        let number = self.resolve(path, false)?.ok_or_else(missing)?;
        let folder = self.inode(number)?;
        if folder.kind() != NodeKind::Folder {
            return Err(FileError::WrongKind(path.into()));
        }
        let mut nodes = Vec::new();
        for (name, number) in self.names(&folder)? {
            nodes.push(self.node(&name, number)?);
        }
        Ok(nodes)
    }

    fn find(&self, path: &str) -> Result<Option<Node>, FileError> {
        let Some(number) = self.resolve(path, false)? else {
            return Ok(None);
        };
        let name = tree::parts(path).last().copied().unwrap_or("/");
        Ok(Some(self.node(name, number)?))
    }

    fn read_into(&self, path: &str, sink: tree::Sink<'_>) -> Result<u64, FileError> {
        let missing = || FileError::Missing(path.into());
        let number = self.resolve(path, false)?.ok_or_else(missing)?;
        let inode = self.inode(number)?;
        if inode.kind() != NodeKind::File {
            return Err(FileError::WrongKind(path.into()));
        }
        self.read_inode(&inode, sink)?;
        Ok(inode.len)
    }

    fn read_node(&self, node: &Node, sink: tree::Sink<'_>) -> Result<(), FileError> {
        self.read_inode(&self.inode_of(node)?, sink)
    }

    fn attributes(&self, node: &Node) -> Result<Vec<(String, Vec<u8>)>, FileError> {
        let missing = || FileError::Missing(node.name.clone());
        let inode = self.inode(u32::try_from(node.id).map_err(|_| missing())?)?;
        Ok(self.attributes_of(&inode)?)
    }

    fn stretches(&self, node: &Node) -> Result<Option<Vec<Stretch>>, FileError> {
        let inode = self.inode_of(node)?;
        if self.replayed || inode.is_inline() {
            return Ok(None);
        }
        let block_len = self.superblock.block_len;
        let pieces = inode::pieces(&self.disk, &self.superblock, &inode)?.into_iter();
        let written = pieces.filter(|piece| piece.written).filter_map(|piece| {
            let at = piece.logical.saturating_mul(block_len);
            let len = piece
                .count
                .saturating_mul(block_len)
                .min(inode.len.saturating_sub(at));
            (len > 0).then(|| Stretch {
                at,
                on_disk: piece.physical.saturating_mul(block_len),
                len,
            })
        });
        Ok(Some(written.collect()))
    }
}
