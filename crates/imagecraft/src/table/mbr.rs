//! The master boot record: four entries of 16 bytes at byte 446 of sector 0, signature 55 AA at
//! byte 510 (as laid down for the IBM PC and described in the UEFI specification, 5.2.1).

use super::{le16, le32};
use crate::{Disk, DiskError, SECTOR};

/// Most logical partitions that are followed; the chain of a real disk is far shorter.
const MOST_LOGICAL: u32 = 128;

/// The partition type that stands for "a GUID partition table follows".
pub const PROTECTIVE: u8 = 0xee;

/// One entry: a primary one, or a logical one of the chain inside the extended partition.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Position in the table, 1 to 4; logical ones count from 5.
    pub number: u32,
    /// Partition type byte.
    pub kind: u8,
    /// First byte on the disk.
    pub start: u64,
    /// Length in bytes.
    pub len: u64,
    /// Whether the active flag (0x80) is set.
    pub active: bool,
}

impl Entry {
    /// Whether it encloses logical partitions.
    pub fn is_extended(&self) -> bool {
        matches!(self.kind, 0x05 | 0x0f | 0x85)
    }
}

/// A master boot record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mbr {
    /// The disk signature at byte 440; boot arguments may name it.
    pub signature: u32,
    /// The entries in use.
    pub entries: Vec<Entry>,
}

/// Parses sector 0. `None` where it is no master boot record: no 55 AA, an entry with a status
/// byte other than 00 and 80, or no entry in use (a file system's boot sector has 55 AA too).
pub fn parse(sector: &[u8]) -> Option<Mbr> {
    if le16(sector, 510)? != 0xaa55 {
        return None;
    }
    let mut entries = Vec::new();
    for (number, raw) in (1..).zip(sector.get(446..510)?.chunks_exact(16)) {
        let (status, kind) = (raw[0], raw[4]);
        if status & 0x7f != 0 {
            return None;
        }
        let len = u64::from(le32(raw, 12)?) * SECTOR;
        if kind == 0 || len == 0 {
            continue;
        }
        entries.push(Entry {
            number,
            kind,
            start: u64::from(le32(raw, 8)?) * SECTOR,
            len,
            active: status == 0x80,
        });
    }
    if entries.is_empty() || entries.iter().any(|entry| entry.start == 0) {
        return None;
    }
    Some(Mbr {
        signature: le32(sector, 440)?,
        entries,
    })
}

/// The logical partitions of an extended one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chain {
    /// Those that were found, in the chain's order.
    pub entries: Vec<Entry>,
    /// The byte at which the chain breaks, if it does not end as it should.
    pub broken_at: Option<u64>,
}

/// Follows the chain of extended boot records that begins with `extended`: each holds one logical
/// partition, counted from itself, and a link, counted from the first.
pub fn logical<D: Disk + ?Sized>(disk: &D, extended: &Entry) -> Result<Chain, DiskError> {
    let mut chain = Chain {
        entries: Vec::new(),
        broken_at: None,
    };
    let mut at = extended.start;
    let mut seen = std::collections::BTreeSet::new();
    loop {
        let inside = at.checked_add(SECTOR).is_some_and(|end| end <= disk.len());
        if !inside || !seen.insert(at) || seen.len() as u32 > MOST_LOGICAL {
            chain.broken_at = Some(at);
            return Ok(chain);
        }
        let sector = disk.read_vec(at, SECTOR as usize)?;
        if le16(&sector, 510) != Some(0xaa55) {
            chain.broken_at = Some(at);
            return Ok(chain);
        }
        let read = |raw: &[u8], from: u64| {
            let start = u64::from(le32(raw, 8).unwrap_or(0)) * SECTOR;
            let len = u64::from(le32(raw, 12).unwrap_or(0)) * SECTOR;
            (raw[4], from.saturating_add(start), len, raw[0] == 0x80)
        };
        let (kind, start, len, active) = read(&sector[446..462], at);
        if kind != 0 && len != 0 {
            chain.entries.push(Entry {
                number: 5 + chain.entries.len() as u32,
                kind,
                start,
                len,
                active,
            });
        }
        let (kind, next, len, _) = read(&sector[462..478], extended.start);
        if kind == 0 || len == 0 {
            return Ok(chain);
        }
        at = next;
    }
}

/// The trade's name of a partition type byte.
pub fn type_name(kind: u8) -> &'static str {
    match kind {
        0x01 => "FAT12",
        0x04 | 0x06 | 0x0e => "FAT16",
        0x05 | 0x0f | 0x85 => "extended",
        0x07 => "NTFS or exFAT",
        0x0b | 0x0c => "FAT32",
        0x82 => "Linux swap",
        0x83 => "Linux",
        0x8e => "Linux LVM",
        0xfd => "Linux RAID",
        PROTECTIVE => "GPT protective",
        0xef => "EFI system",
        _ => "other",
    }
}
