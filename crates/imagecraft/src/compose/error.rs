//! Why a card could not be composed.

use super::target::Target;
use crate::table::gpt::GptError;
use crate::{DiskError, LayoutError};

/// Why a card could not be composed. Nothing has been touched.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ComposeError {
    /// The content does not fit.
    #[error("the content needs {needed} bytes, but the card holds {card}{}", because(why.as_deref()))]
    CardTooSmall {
        /// Bytes needed.
        needed: u64,
        /// Bytes of the card.
        card: u64,
        /// Why it cannot be made smaller, where that was tried.
        why: Option<String>,
    },
    /// The sheet names a partition that is not there.
    #[error("{path} should go to {}, which the image does not have", target.describe())]
    NoPartition {
        /// Which partition.
        target: Target,
        /// The file that should go there.
        path: String,
    },
    /// A file system is damaged, so that changing it could spoil more.
    #[error("the file system on partition {number} is damaged: {found}; it was not changed")]
    Damaged {
        /// Number of the partition.
        number: u32,
        /// What was found.
        found: String,
    },
    /// The partition's file system cannot be edited.
    #[error("{} cannot be edited: {why}", paths_on(paths, *number))]
    NotEditable {
        /// The files that should go there.
        paths: Vec<String>,
        /// Number of the partition.
        number: u32,
        /// Why.
        why: String,
    },
    /// Editing failed.
    #[error("{path} cannot be put on partition {number}: {why}")]
    Edit {
        /// The file.
        path: String,
        /// Number of the partition.
        number: u32,
        /// Why.
        why: String,
    },
    /// The base has no usable layout.
    #[error("the base cannot be used: {0}")]
    Layout(#[from] LayoutError),
    /// The base cannot be made for the blocks of the card's reader.
    #[error(
        "the reader counts in blocks of {block} bytes, for which the content cannot be made: {why}"
    )]
    Blocks {
        /// Block size of the reader in bytes.
        block: u64,
        /// What stands against it.
        why: crate::blocks::BlocksError,
    },
    /// The table could not be fitted to the card.
    #[error("the partition table cannot be fitted to the card: {0}")]
    Table(#[from] GptError),
    /// The base could not be read.
    #[error("the base cannot be read: {0}")]
    Disk(#[from] DiskError),
}

fn because(why: Option<&str>) -> String {
    why.map_or_else(String::new, |why| {
        format!(", and it cannot be made smaller: {why}")
    })
}

fn paths_on(paths: &[String], number: u32) -> String {
    match paths {
        [] => format!("partition {number}"),
        paths => format!(
            "partition {number}, which {} should go to,",
            paths.join(", ")
        ),
    }
}
