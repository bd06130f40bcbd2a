//! What jobs do, on threads of their own.

mod backup;
mod compare;
mod drift;
pub mod fetch;
mod hashing;
mod import;
mod write;

pub use backup::{BackupOrder, take_backup};
pub use compare::compare_releases;
pub use drift::{DriftOrder, compare_card};
pub use import::{Expected, ImportOrder, Named, Place, TakenFile, declared_card, import};
pub use write::{WriteOrder, write_card};

use cardwork::{CardError, Unsafe, WriteError};
use imagecraft::compose::ComposeError;
use records::RecordError;
use vault::{Unfinished, VaultError};

use crate::error::ApiError;

/// Refuses work that needs more room beside `path` than there is, with something to spare.
pub fn room(path: &std::path::Path, wanted: u64) -> Result<(), WorkError> {
    const SPARE: u64 = 256 << 20;
    let dir = path.parent().unwrap_or(path);
    let found = rustix::fs::statvfs(dir).map_err(std::io::Error::from)?;
    let free = found.f_bavail.saturating_mul(found.f_frsize);
    if free >= wanted.saturating_add(SPARE) {
        return Ok(());
    }
    Err(WorkError::new(
        "no-room",
        format!(
            "{wanted} bytes are needed in {}, where {free} are free and {SPARE} must stay; make room there",
            dir.display()
        ),
    ))
}

/// Why a job did not do what it should: a stable code and a sentence.
#[derive(Debug)]
pub struct WorkError {
    pub code: &'static str,
    pub detail: String,
}

impl WorkError {
    pub fn new(code: &'static str, detail: impl Into<String>) -> Self {
        Self {
            code,
            detail: detail.into(),
        }
    }
}

impl From<ApiError> for WorkError {
    fn from(error: ApiError) -> Self {
        Self::new(error.code, error.detail)
    }
}

impl From<WriteError> for WorkError {
    fn from(error: WriteError) -> Self {
        let code = match &error {
            WriteError::Cancelled => "cancelled",
            WriteError::Card(card) => return ApiError::from(card).into(),
            WriteError::Differs { .. } => "verify-failed",
            WriteError::Lost { .. } => "card-lies",
            WriteError::TooSmall { .. } => "card-too-small",
            _ => "content",
        };
        Self::new(code, error.to_string())
    }
}

/// Takes the end of a disk's way into the vault; what it left there on an error is remembered.
pub fn stored<T>(work: &crate::jobs::Work, ended: Result<T, Unfinished>) -> Result<T, WorkError> {
    ended.map_err(|unfinished| {
        work.left_behind(unfinished.segments);
        unfinished.error.into()
    })
}

macro_rules! through_api_error {
    ($($error:ty),*) => {$(
        impl From<$error> for WorkError {
            fn from(error: $error) -> Self {
                ApiError::from(error).into()
            }
        }
    )*};
}

through_api_error!(
    RecordError,
    VaultError,
    CardError,
    Unsafe,
    ComposeError,
    std::io::Error
);
