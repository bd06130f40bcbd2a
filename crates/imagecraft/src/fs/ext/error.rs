//! Why an ext file system could not be used.

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
    Damaged(String),
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

/// Structures that contradict each other.
pub(super) fn damaged(what: impl Into<String>) -> ExtError {
    ExtError::Damaged(what.into())
}
