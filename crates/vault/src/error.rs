//! Why the vault could not do something.

use crate::keys::{KeyError, Name};

/// Why the vault could not do something.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum VaultError {
    /// Content is named that is not there.
    #[error("the vault does not hold {name:?}")]
    Missing {
        /// What is missing.
        name: Name,
    },
    /// Content is there but wrong.
    #[error("{name:?} in the vault is damaged")]
    Damaged {
        /// What is damaged.
        name: Name,
    },
    /// The vault is of a format that is not read any more.
    #[error(
        "this vault is of format {0}, which this version does not read. Start with an empty data folder and add the \
         releases anew; restore the backups that are needed with the version that made them"
    )]
    Format(u16),
    /// There is no vault, and none is to be begun.
    #[error("there is no vault: nothing lies there")]
    Empty,
    /// The key does not fit.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// Packing failed.
    #[error("packing failed: {0}")]
    Pack(std::io::Error),
    /// The store under the vault failed.
    #[error("the store of the vault failed: {0}")]
    Store(#[from] object_store::Error),
    /// The content to store could not be read.
    #[error("the content cannot be read: {0}")]
    Content(imagecraft::DiskError),
    /// Another service works with the same vault and cannot be asked what it relies on.
    #[error("{0}; nothing was taken away")]
    Others(String),
    /// Stopped on request.
    #[error("stopped on request")]
    Cancelled,
    /// A part of the work ended without saying why.
    #[error("a thread of the vault stopped")]
    Stopped,
}
