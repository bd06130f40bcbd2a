//! What jobs do, on threads of their own.

mod backup;
mod import;
mod write;

pub use backup::{BackupOrder, take_backup};
pub use import::{Import, import};
pub use write::{WriteOrder, write_card};

use cardwork::{CardError, Unsafe, WriteError};
use imagecraft::compose::ComposeError;
use records::RecordError;
use vault::VaultError;

use crate::error::ApiError;

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
            WriteError::TooSmall { .. } => "card-too-small",
            _ => "content",
        };
        Self::new(code, error.to_string())
    }
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
