//! File systems: recognised by content, looked into for what is in use, their files listed and
//! read, edited where it is safe.

pub mod ext;
pub mod fat;
pub mod name;
mod opened;
mod other;
mod tree;
mod used;

use serde::{Deserialize, Serialize};

use crate::{ByteKind, Disk, DiskError, Map};

pub use opened::open;
pub use tree::{FileError, Files, MOST_NODES, Node, NodeKind, Stretch, walk};
pub(crate) use used::Used;

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

/// Bytes behind the end of a file system that are kept: some systems put their own mark at the
/// end of a partition.
const KEPT_TAIL: u64 = 128 * 1024;

/// How far a file system's word about its free blocks can be taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum State {
    /// It was unmounted.
    Clean,
    /// It was in use; its journal was replayed, and what is used before or after counts.
    Replayed {
        /// Transactions in the journal.
        transactions: u32,
    },
    /// It was in use and has no journal of its own; what its tables say is taken.
    InUse,
    /// Nothing is called free, for this reason.
    Whole(String),
}

/// Which bytes of a file system are in use.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Usage {
    /// Data or free for every byte of the partition.
    pub map: Map,
    /// Bytes in use.
    pub used: u64,
    /// Bytes that are free to it.
    pub free: u64,
    /// Length in bytes that the file system itself claims.
    pub len: u64,
    /// Fewest bytes that the file system would take if it were shrunk, with some slack; only for
    /// kinds that can be shrunk.
    pub shrunk: Option<u64>,
    /// How far this can be trusted.
    pub state: State,
}

impl Usage {
    /// A partition that is kept whole.
    fn whole(len: u64, reason: impl Into<String>) -> Self {
        Self {
            map: Map::uniform(len, ByteKind::Data),
            used: len,
            free: 0,
            len,
            shrunk: None,
            state: State::Whole(reason.into()),
        }
    }

    /// Of blocks in use: what lies behind the file system in its partition is free, but for the
    /// very end.
    fn of(used: &Used, partition_len: u64, state: State) -> Self {
        let mut map = used.map(partition_len);
        map.set(
            partition_len.saturating_sub(KEPT_TAIL).max(used.len()),
            partition_len,
            ByteKind::Data,
        );
        let in_use = used.bytes();
        Self {
            map,
            used: in_use,
            free: used.len().saturating_sub(in_use),
            len: used.len(),
            shrunk: None,
            state,
        }
    }
}

/// Says which file system fills `disk`, or `None` where none is known.
pub fn recognise<D: Disk + ?Sized>(disk: &D) -> Result<Option<FileSystem>, DiskError> {
    if let Some(found) = ext::recognise(disk)? {
        return Ok(Some(found));
    }
    if let Ok(boot) = fat::BootSector::read(disk)? {
        return Ok(Some(boot.describe()));
    }
    other::recognise(disk)
}

/// The kind of file system that the first bytes of a disk belong to; 128 KiB are enough for all.
pub fn signature(head: &[u8]) -> Option<&'static str> {
    if ext::has_signature(head) {
        return Some("ext");
    }
    if fat::BootSector::looks_right(head) {
        return Some("FAT");
    }
    other::signature(head)
}

/// Looks which bytes of the file system that fills `disk` are in use. `None` where the kind is
/// not looked into, so that the partition is kept whole.
pub fn usage<D: Disk + ?Sized>(disk: &D) -> Result<Option<Usage>, DiskError> {
    if ext::recognise(disk)?.is_some() {
        return match ext::usage(disk) {
            Err(ext::ExtError::Disk(e)) if !is_outside(&e) => Err(e),
            Err(e) => Ok(Some(Usage::whole(disk.len(), e.to_string()))),
            Ok(usage) => Ok(Some(usage)),
        };
    }
    match fat::usage(disk) {
        Ok(usage) => Ok(Some(usage)),
        Err(fat::FatError::BootSector(_)) => Ok(None),
        Err(fat::FatError::Disk(e)) if !is_outside(&e) => Err(e),
        Err(e) => Ok(Some(Usage::whole(disk.len(), e.to_string()))),
    }
}

/// What is damaged in the file system that fills a partition, if anything that an edit relies on
/// is; `None` also for kinds that are not looked into.
pub fn damage<D: Disk>(partition: &crate::Partition, disk: D) -> Option<String> {
    if partition.is_fat() {
        let checked = fat::Fat::open(disk).and_then(|fat| fat.check());
        return checked.err().map(|e| e.to_string());
    }
    if partition.is_ext() {
        let checked = ext::Ext::open_replayed(disk).and_then(|ext| ext.check());
        return match checked {
            // What is not handled is said by whoever tries to change it.
            Ok(()) | Err(ext::ExtError::Feature(_) | ext::ExtError::Journal(_)) => None,
            Err(e) => Some(e.to_string()),
        };
    }
    None
}

/// Whether a structure pointed outside of its partition: damage, not a failure of the disk.
fn is_outside(error: &DiskError) -> bool {
    matches!(error, DiskError::OutOfRange { .. })
}

/// A fixed-width label as text, without its padding; `None` if nothing is left.
pub(crate) fn label(raw: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(raw);
    let text = text.trim_end_matches(['\0', ' ']);
    (!text.is_empty()).then(|| name::shown(text))
}

/// 16 bytes as a UUID in the order they stand.
pub(crate) fn uuid_text(raw: &[u8]) -> String {
    raw.first_chunk().map_or_else(String::new, |bytes| {
        uuid::Uuid::from_bytes(*bytes).to_string()
    })
}
