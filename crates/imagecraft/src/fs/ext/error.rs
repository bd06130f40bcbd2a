//! Why an ext file system could not be used.

use std::fmt;

use crate::DiskError;

/// Why an ext file system could not be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ExtError {
    /// A field of the superblock cannot be.
    #[error("the ext superblock has an impossible {0}")]
    Superblock(&'static str),
    /// Structures that contradict each other.
    #[error("the ext file system is damaged: {0}")]
    Damaged(Box<Damage>),
    /// A checksum does not match.
    #[error("the ext file system is damaged: the checksum of {0} does not match")]
    Checksum(String),
    /// A feature that is not handled.
    #[error("the ext file system uses {0}, which is not handled")]
    Feature(String),
    /// The journal holds changes that cannot be replayed.
    #[error("the ext file system was in use and its journal cannot be replayed: {0}")]
    Journal(String),
    /// No room for a file.
    #[error("the ext file system is full: there is no room for {0}")]
    Full(String),
    /// It cannot be made that short.
    #[error("the ext file system cannot be made that short: {0}")]
    CannotShrink(String),
    /// A path that cannot be made.
    #[error("{0:?} cannot be a path on an ext file system")]
    Path(String),
    /// A folder where a file is wanted, or the other way round.
    #[error("{0} is a folder with files in it, or a file where a folder is wanted")]
    WrongKind(String),
    /// A structure larger than is read whole.
    #[error("{0} is larger than is read at once")]
    TooLong(String),
    /// The disk could not be read.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// A structure of an ext file system, as the kernel's documentation of ext4 calls them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Structure {
    /// The superblock, and what it says of the whole.
    Superblock,
    /// The block groups together.
    Groups,
    /// One block group: its descriptor and its tables.
    Group,
    /// A bitmap of blocks or inodes, by its group.
    Bitmap,
    /// An inode.
    Inode,
    /// The extents or indirect blocks of an inode.
    BlockMap,
    /// The entries of a folder, by its inode.
    Folder,
    /// The hashed index of a folder.
    FolderIndex,
    /// The journal.
    Journal,
    /// Inodes that were taken away while somebody had them open.
    Orphans,
    /// Blocks that are reserved for more group descriptors.
    ReservedDescriptors,
}

impl fmt::Display for Structure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Superblock => "the superblock",
            Self::Groups => "the block groups",
            Self::Group => "block group",
            Self::Bitmap => "a bitmap",
            Self::Inode => "inode",
            Self::BlockMap => "a block map",
            Self::Folder => "a folder",
            Self::FolderIndex => "the index of a folder",
            Self::Journal => "the journal",
            Self::Orphans => "the orphans",
            Self::ReservedDescriptors => "the blocks reserved for descriptors",
        })
    }
}

/// What is wrong, with what, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Damage {
    /// What is damaged.
    pub structure: Structure,
    /// Which one: number of the inode or group, where it is known.
    pub number: Option<u64>,
    /// Path of the file or folder that leads there, where it is known.
    pub path: Option<String>,
    /// What is wrong with it, to be read behind its name.
    pub what: String,
}

impl fmt::Display for Damage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(path) = &self.path {
            write!(f, "{path}: ")?;
        }
        write!(f, "{}", self.structure)?;
        if let Some(number) = self.number {
            write!(f, " {number}")?;
        }
        write!(f, " {}", self.what)
    }
}

impl ExtError {
    /// The same, with the path that leads to what is damaged.
    pub(super) fn at(self, path: &str) -> Self {
        match self {
            Self::Damaged(mut damage) => {
                damage.path.get_or_insert_with(|| path.to_owned());
                Self::Damaged(damage)
            }
            other => other,
        }
    }
}

/// Structures that contradict each other.
pub(super) fn damaged(
    structure: Structure,
    number: Option<u64>,
    what: impl Into<String>,
) -> ExtError {
    ExtError::Damaged(Box::new(Damage {
        structure,
        number,
        path: None,
        what: what.into(),
    }))
}

#[cfg(test)]
mod tests {
    use super::{Structure, damaged};

    #[test]
    fn damage_names_structure_number_and_path() {
        let found = damaged(Structure::Inode, Some(12), "lies in no group").at("/etc/hostname");
        assert_eq!(
            found.to_string(),
            "the ext file system is damaged: /etc/hostname: inode 12 lies in no group"
        );
        let found = damaged(Structure::Folder, None, "has a hole");
        assert!(found.to_string().ends_with("a folder has a hole"));
    }
}
