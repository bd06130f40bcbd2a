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

/// Little-endian fields of an on-disk structure; `None` past its end.
pub(crate) fn le16(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(
        bytes.get(at..at.checked_add(2)?)?.try_into().ok()?,
    ))
}

pub(crate) fn le32(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(
        bytes.get(at..at.checked_add(4)?)?.try_into().ok()?,
    ))
}

pub(crate) fn le64(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_le_bytes(
        bytes.get(at..at.checked_add(8)?)?.try_into().ok()?,
    ))
}
