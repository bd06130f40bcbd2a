//! Why a FAT file system could not be used.

use std::fmt;

use crate::DiskError;

/// Why a FAT file system could not be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum FatError {
    /// The boot sector describes no FAT file system that could exist.
    #[error("no FAT file system: the boot sector has an impossible {0}")]
    BootSector(&'static str),
    /// A path that FAT cannot hold.
    #[error("{0:?} cannot be a path on a FAT file system")]
    Path(String),
    /// The file system has no room for a file or folder.
    #[error("the FAT file system is full: there is no room for {0}")]
    Full(String),
    /// A folder where a file is wanted, or the other way round.
    #[error("{0} is a folder on the card where a file is wanted, or the other way round")]
    WrongKind(String),
    /// A file larger than is read whole.
    #[error("{path} is {len} bytes long, more than is read at once")]
    TooLong {
        /// Which file.
        path: String,
        /// Its length in bytes.
        len: u64,
    },
    /// Structures contradict each other.
    #[error("the FAT file system is damaged: {structure} {what}")]
    Damaged {
        /// What is damaged.
        structure: Structure,
        /// What is wrong with it, to be read behind its name.
        what: &'static str,
    },
    /// It cannot be given larger sectors.
    #[error("in sectors of {sector} bytes {what}")]
    Sectors {
        /// What stands against it.
        what: &'static str,
        /// Sector size in bytes.
        sector: u64,
    },
    /// The disk could not be read or written.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// A structure of a FAT file system, as Microsoft's specification of FAT calls them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Structure {
    /// The volume as a whole.
    Volume,
    /// The file allocation table.
    AllocationTable,
    /// A chain of clusters in that table.
    Chain,
    /// A folder: the root, or one in clusters.
    Folder,
    /// A file by its record in a folder.
    File,
}

impl fmt::Display for Structure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Volume => "the volume",
            Self::AllocationTable => "the allocation table",
            Self::Chain => "a chain of clusters",
            Self::Folder => "a folder",
            Self::File => "a file",
        })
    }
}

/// Structures that contradict each other.
pub(super) fn damaged(structure: Structure, what: &'static str) -> FatError {
    FatError::Damaged { structure, what }
}
