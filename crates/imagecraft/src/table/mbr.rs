//! The master boot record: four entries of 16 bytes at byte 446 of sector 0, signature 55 AA at
//! byte 510 (as laid down for the IBM PC and described in the UEFI specification, 5.2.1).

use crate::number::{le16, le32, split, times};
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
    /// First byte of the record that names it: 0, or an extended boot record's.
    pub record: u64,
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
/// `block` is the number of bytes that its entries count in, which the record does not say.
pub fn parse(sector: &[u8], block: u64) -> Option<Mbr> {
    if le16(sector, 510)? != 0xaa55 {
        return None;
    }
    let mut entries = Vec::new();
    for (number, raw) in (1..).zip(sector.get(446..510)?.chunks_exact(16)) {
        let (status, kind) = (raw[0], raw[4]);
        if status & 0x7f != 0 {
            return None;
        }
        let len = u64::from(le32(raw, 12)?).saturating_mul(block);
        if kind == 0 || len == 0 {
            continue;
        }
        entries.push(Entry {
            number,
            kind,
            start: u64::from(le32(raw, 8)?).saturating_mul(block),
            len,
            active: status == 0x80,
            record: 0,
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
    /// First bytes of the extended boot records, in the chain's order.
    pub records: Vec<u64>,
    /// The byte at which the chain breaks, if it does not end as it should.
    pub broken_at: Option<u64>,
}

/// Follows the chain of extended boot records that begins with `extended`: each holds one logical
/// partition, counted from itself, and a link, counted from the first, in blocks of `block` bytes.
pub fn logical<D: Disk + ?Sized>(
    disk: &D,
    extended: &Entry,
    block: u64,
) -> Result<Chain, DiskError> {
    let mut chain = Chain {
        entries: Vec::new(),
        records: Vec::new(),
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
        chain.records.push(at);
        let read = |raw: &[u8], from: u64| {
            let start = u64::from(le32(raw, 8).unwrap_or(0)).saturating_mul(block);
            let len = u64::from(le32(raw, 12).unwrap_or(0)).saturating_mul(block);
            (raw[4], from.saturating_add(start), len, raw[0] == 0x80)
        };
        let (kind, start, len, active) = read(&sector[446..462], at);
        if kind != 0 && len != 0 {
            chain.entries.push(Entry {
                number: (chain.entries.len() as u32).saturating_add(5),
                kind,
                start,
                len,
                active,
                record: at,
            });
        }
        let (kind, next, len, _) = read(&sector[462..478], extended.start);
        if kind == 0 || len == 0 {
            return Ok(chain);
        }
        at = next;
    }
}

/// Cylinder, head and sector of a place that they cannot express.
const BEYOND_CHS: [u8; 3] = [0xfe, 0xff, 0xff];
/// Where the entries lie in a record, and their length.
const ENTRIES: usize = 446;
const ENTRY_LEN: usize = 16;

/// Why a record could not be changed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MbrError {
    /// The record does not name the partition.
    #[error("no record names partition {0}")]
    NoEntry(u32),
    /// 32 bits count its blocks.
    #[error(
        "partition {number} would end behind block {} of {block} bytes, where an MBR cannot reach",
        u32::MAX
    )]
    TooFar {
        /// Number of the partition.
        number: u32,
        /// The bytes that the record counts in.
        block: u64,
    },
    /// A place lies between two blocks.
    #[error("byte {at} of the record at byte {record} is not on a border of {block} bytes")]
    Border {
        /// First byte of the record.
        record: u64,
        /// The place, in bytes as its entry counts.
        at: u64,
        /// The bytes that the record shall count in.
        block: u64,
    },
    /// The disk could not be read or written.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// Makes the partition with this number end at byte `end`; the extended partition around a
/// logical one, and the link to its record, reach as far then. The records count in `block` bytes.
pub fn move_end<D: Disk + ?Sized>(
    disk: &mut D,
    number: u32,
    end: u64,
    block: u64,
) -> Result<(), MbrError> {
    if times(end, block) > u64::from(u32::MAX) {
        return Err(MbrError::TooFar { number, block });
    }
    let missing = || MbrError::NoEntry(number);
    let head = disk.read_vec(0, SECTOR as usize)?;
    let table = parse(&head, block).ok_or_else(missing)?;
    let set_end = |disk: &mut D, record, position, start, end: u64| {
        set_len(disk, record, position, end.saturating_sub(start), block)
    };
    if let Some(entry) = table.entries.iter().find(|entry| entry.number == number) {
        return set_end(
            disk,
            0,
            (number as usize).saturating_sub(1),
            entry.start,
            end,
        );
    }
    let extended = table.entries.iter().find(|entry| entry.is_extended());
    let extended = extended.ok_or_else(missing)?;
    let chain = logical(disk, extended, block)?;
    let entry = chain.entries.iter().find(|entry| entry.number == number);
    let entry = entry.ok_or_else(missing)?;
    set_end(disk, entry.record, 0, entry.start, end)?;
    let before = chain.records.iter().position(|at| *at == entry.record);
    if let Some(before) = before.and_then(|place| place.checked_sub(1)) {
        set_end(disk, chain.records[before], 1, entry.record, end)?;
    }
    let shorter = end < entry.start.saturating_add(entry.len);
    if shorter || extended.start.saturating_add(extended.len) < end {
        set_end(
            disk,
            0,
            (extended.number as usize).saturating_sub(1),
            extended.start,
            end,
        )?;
    }
    Ok(())
}

/// Gives the entry at a position of a record a new length.
fn set_len<D: Disk + ?Sized>(
    disk: &mut D,
    record: u64,
    position: usize,
    len: u64,
    block: u64,
) -> Result<(), MbrError> {
    let mut sector = disk.read_vec(record, SECTOR as usize)?;
    let at = ENTRIES.saturating_add(position.saturating_mul(ENTRY_LEN));
    let blocks = u32::try_from(times(len, block)).unwrap_or(u32::MAX);
    sector[at..][5..8].copy_from_slice(&BEYOND_CHS);
    sector[at..][12..16].copy_from_slice(&blocks.to_le_bytes());
    Ok(disk.write_at(record, &sector)?)
}

/// Makes the record and the chain of its extended partition count in `to` bytes instead of `from`; each partition stays
/// where it is. The entries' cylinders and heads say that they cannot express the place then.
pub fn recount<D: Disk + ?Sized>(disk: &mut D, from: u64, to: u64) -> Result<(), MbrError> {
    let head = disk.read_vec(0, SECTOR as usize)?;
    let table = parse(&head, from).ok_or(MbrError::NoEntry(1))?;
    let mut records = vec![0];
    for extended in table.entries.iter().filter(|entry| entry.is_extended()) {
        records.extend(logical(disk, extended, from)?.records);
    }
    let mut changed = Vec::new();
    for record in records {
        if split(record, to).1 != 0 {
            return Err(MbrError::Border {
                record,
                at: record,
                block: to,
            });
        }
        let mut sector = disk.read_vec(record, SECTOR as usize)?;
        // A record of the chain has two entries in use.
        let entries = if record == 0 { 4 } else { 2 };
        for (number, raw) in (1..).zip(
            sector[ENTRIES..510]
                .chunks_exact_mut(ENTRY_LEN)
                .take(entries),
        ) {
            let len = u64::from(le32(raw, 12).unwrap_or(0));
            if raw[4] == 0 || len == 0 {
                continue;
            }
            for field in [8, 12] {
                let bytes = u64::from(le32(raw, field).unwrap_or(0)).saturating_mul(from);
                let (blocks, rest) = split(bytes, to);
                if rest != 0 {
                    return Err(MbrError::Border {
                        record,
                        at: bytes,
                        block: to,
                    });
                }
                let blocks =
                    u32::try_from(blocks).map_err(|_| MbrError::TooFar { number, block: to })?;
                raw[field..][..4].copy_from_slice(&blocks.to_le_bytes());
            }
            raw[1..4].copy_from_slice(&BEYOND_CHS);
            raw[5..8].copy_from_slice(&BEYOND_CHS);
        }
        changed.push((record, sector));
    }
    for (record, sector) in changed {
        disk.write_at(record, &sector)?;
    }
    Ok(())
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
