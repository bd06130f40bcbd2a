//! File systems: recognised by content, edited where it is safe.

pub mod ext;
pub mod fat;

use serde::{Deserialize, Serialize};

use crate::{Disk, DiskError};

/// A file system as its own superblock or boot sector describes it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileSystem {
    /// Family and version, in the trade's words: `FAT16`, `ext4`.
    pub kind: String,
    /// Volume label, if it has one.
    pub label: Option<String>,
    /// Volume id or UUID as the system's tools print it.
    pub uuid: Option<String>,
}

/// Says which file system fills `disk`, or `None` where none is known.
pub fn recognise<D: Disk + ?Sized>(disk: &D) -> Result<Option<FileSystem>, DiskError> {
    if let Some(found) = ext::recognise(disk)? {
        return Ok(Some(found));
    }
    Ok(fat::BootSector::read(disk)?
        .ok()
        .map(|boot| boot.describe()))
}

/// A fixed-width label as text, without its padding; `None` if nothing is left.
pub(crate) fn label(raw: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(raw);
    let text = text.trim_end_matches(['\0', ' ']);
    (!text.is_empty()).then(|| text.to_owned())
}
