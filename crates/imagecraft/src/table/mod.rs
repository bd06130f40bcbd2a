//! Partition tables.

pub mod gpt;
pub mod mbr;

use serde::{Deserialize, Serialize};

/// Which partition table a disk carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TableKind {
    /// Master boot record.
    Mbr,
    /// GUID partition table.
    Gpt,
    /// No table: one file system from byte 0 on.
    None,
}

impl TableKind {
    /// The trade's abbreviation.
    pub fn name(self) -> &'static str {
        match self {
            Self::Mbr => "MBR",
            Self::Gpt => "GPT",
            Self::None => "none",
        }
    }
}
