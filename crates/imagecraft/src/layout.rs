//! What is on a disk: its table, its partitions, where its content ends.

use serde::{Deserialize, Serialize};

use crate::fs::{self, FileSystem};
use crate::table::{TableKind, gpt, mbr};
use crate::{ByteKind, Disk, DiskError, Map, SECTOR, Window};

/// One partition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Partition {
    /// Number in the table, from 1.
    pub number: u32,
    /// First byte on the disk.
    pub start: u64,
    /// Length in bytes.
    pub len: u64,
    /// What the table calls it, in the trade's words.
    pub kind: String,
    /// Name in the table (GPT only).
    pub name: Option<String>,
    /// The file system found in it.
    pub file_system: Option<FileSystem>,
}

impl Partition {
    /// Byte after the last.
    pub fn end(&self) -> u64 {
        self.start + self.len
    }

    /// The partition as a disk of its own.
    pub fn window<D: Disk>(&self, disk: D) -> Result<Window<D>, DiskError> {
        Window::new(disk, self.start, self.len)
    }

    /// Whether it carries a FAT file system, which settings can be put on.
    pub fn is_fat(&self) -> bool {
        self.file_system
            .as_ref()
            .is_some_and(|fs| fs.kind.starts_with("FAT"))
    }
}

/// The table and the partitions of a disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layout {
    /// Which table it is.
    pub table: TableKind,
    /// The disk's identifier in that table, as text.
    pub disk_id: String,
    /// The partitions, by number.
    pub partitions: Vec<Partition>,
    /// The GUID partition table itself, where that is the table.
    pub gpt: Option<gpt::Gpt>,
}

/// Why a disk has no layout.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LayoutError {
    /// Neither an MBR nor a GPT.
    #[error("no partition table was found")]
    NoTable,
    /// A GPT is announced, but neither copy of it holds.
    #[error("the GUID partition table is damaged: {0}")]
    Gpt(#[from] gpt::GptError),
    /// A partition reaches past the end of the disk.
    #[error(
        "partition {number} ends at byte {end}, but there are only {disk_len} bytes; the image is cut short"
    )]
    BeyondEnd {
        /// Number of the partition.
        number: u32,
        /// Where it ends.
        end: u64,
        /// Length of the disk in bytes.
        disk_len: u64,
    },
    /// Two partitions share bytes.
    #[error("partitions {0} and {1} overlap")]
    Overlap(u32, u32),
    /// The disk could not be read.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

impl Layout {
    /// Reads the table, the partitions and what fills them.
    pub fn read<D: Disk + ?Sized>(disk: &D) -> Result<Self, LayoutError> {
        if disk.len() < 2 * SECTOR {
            return Err(LayoutError::NoTable);
        }
        let sector = disk.read_vec(0, SECTOR as usize)?;
        let record = mbr::parse(&sector).ok_or(LayoutError::NoTable)?;
        let mut layout = if record
            .entries
            .iter()
            .any(|entry| entry.kind == mbr::PROTECTIVE)
        {
            Self::of_gpt(disk)?
        } else {
            Self::of_mbr(&record)
        };
        layout.check(disk.len())?;
        for partition in &mut layout.partitions {
            partition.file_system = fs::recognise(&partition.window(disk)?)?;
        }
        Ok(layout)
    }

    fn of_mbr(record: &mbr::Mbr) -> Self {
        let partitions = record
            .entries
            .iter()
            .map(|entry| Partition {
                number: entry.number,
                start: entry.start,
                len: entry.len,
                kind: mbr::type_name(entry.kind).into(),
                name: None,
                file_system: None,
            })
            .collect();
        Self {
            table: TableKind::Mbr,
            disk_id: format!("{:08x}", record.signature),
            partitions,
            gpt: None,
        }
    }

    /// The primary copy, or the backup in the last sector where the primary does not hold.
    fn of_gpt<D: Disk + ?Sized>(disk: &D) -> Result<Self, LayoutError> {
        let table = gpt::read(disk, 1)
            .or_else(|primary| gpt::read(disk, disk.len() / SECTOR - 1).map_err(|_| primary))?;
        let partitions = table
            .entries
            .iter()
            .map(|entry| Partition {
                number: entry.number,
                start: entry.start,
                len: entry.len,
                kind: gpt::type_name(&entry.kind).into(),
                name: (!entry.name.is_empty()).then(|| entry.name.clone()),
                file_system: None,
            })
            .collect();
        Ok(Self {
            table: TableKind::Gpt,
            disk_id: table.uuid.clone(),
            partitions,
            gpt: Some(table),
        })
    }

    fn check(&self, disk_len: u64) -> Result<(), LayoutError> {
        let mut by_start: Vec<_> = self.partitions.iter().collect();
        by_start.sort_by_key(|partition| partition.start);
        for partition in &by_start {
            match partition.start.checked_add(partition.len) {
                Some(end) if end <= disk_len => {}
                end => {
                    return Err(LayoutError::BeyondEnd {
                        number: partition.number,
                        end: end.unwrap_or(u64::MAX),
                        disk_len,
                    });
                }
            }
        }
        for pair in by_start.windows(2) {
            if pair[0].end() > pair[1].start {
                return Err(LayoutError::Overlap(pair[0].number, pair[1].number));
            }
        }
        Ok(())
    }

    /// Byte after the last one of the last partition.
    pub fn partitions_end(&self) -> u64 {
        self.partitions
            .iter()
            .map(Partition::end)
            .max()
            .unwrap_or(SECTOR)
    }

    /// Fewest bytes that a card must hold for this content: up to the end of the last partition,
    /// and the backup of a GPT behind it.
    pub fn smallest_card(&self) -> u64 {
        self.partitions_end() + self.gpt.as_ref().map_or(0, gpt::Gpt::backup_len)
    }

    /// The map of a disk of `len` bytes with this layout, while no file system is looked into:
    /// everything up to the end of the last partition is data, as is the backup of a GPT at the
    /// disk's end; the rest is free.
    pub fn map(&self, len: u64) -> Map {
        let mut map = Map::uniform(len, ByteKind::Free);
        map.set(0, self.partitions_end(), ByteKind::Data);
        if let Some(table) = &self.gpt {
            map.set(len.saturating_sub(table.backup_len()), len, ByteKind::Data);
        }
        map
    }

    /// The partition that settings go to when a sheet says `boot`: the first with FAT on it.
    pub fn boot(&self) -> Option<&Partition> {
        self.partitions.iter().find(|partition| partition.is_fat())
    }
}
