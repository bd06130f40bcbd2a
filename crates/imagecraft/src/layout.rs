//! What is on a disk: its table, its partitions, where its content ends, which bytes matter.

use serde::{Deserialize, Serialize};

use crate::fs::{self, FileSystem, Usage};
use crate::number::times;
use crate::table::{TableKind, gpt, mbr};
use crate::{ByteKind, CHUNK, Disk, DiskError, Finding, Map, SECTOR, Window};

/// Bytes at the end of a disk that are never called free.
const KEPT_END: u64 = 1 << 20;

/// One partition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Partition {
    /// Number in the table, from 1; logical ones of an MBR from 5. 0 where there is no table.
    pub number: u32,
    /// First byte on the disk.
    pub start: u64,
    /// Length in bytes.
    pub len: u64,
    /// What the table calls it, in the trade's words.
    pub kind: String,
    /// Name in the table (GPT only).
    pub name: Option<String>,
    /// The identifier that boot arguments may name: GPT's GUID, or an MBR's signature and number.
    #[serde(default)]
    pub uuid: Option<String>,
    /// The file system found in it.
    pub file_system: Option<FileSystem>,
}

impl Partition {
    /// Byte after the last.
    pub fn end(&self) -> u64 {
        self.start.saturating_add(self.len)
    }

    /// The partition as a disk of its own.
    pub fn window<D: Disk>(&self, disk: D) -> Result<Window<D>, DiskError> {
        Window::new(disk, self.start, self.len)
    }

    /// Whether it carries a FAT file system, which settings can be put on.
    pub fn is_fat(&self) -> bool {
        self.is("FAT")
    }

    /// Whether it carries an ext file system.
    pub fn is_ext(&self) -> bool {
        self.is("ext")
    }

    fn is(&self, family: &str) -> bool {
        self.file_system
            .as_ref()
            .is_some_and(|fs| fs.kind.starts_with(family) && fs.kind != "exFAT")
    }

    /// What it holds, in the trade's words.
    pub fn holds(&self) -> &str {
        let fs = self.file_system.as_ref();
        fs.map_or("no known file system", |fs| fs.kind.as_str())
    }

    /// How people call it: its number, and its label where there is one.
    pub fn title(&self) -> String {
        let label = self.file_system.as_ref().and_then(|fs| fs.label.as_deref());
        match label.or(self.name.as_deref()) {
            Some(label) => format!("partition {} ({label})", self.number),
            None => format!("partition {}", self.number),
        }
    }
}

/// The table and the partitions of a disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layout {
    /// Which table it is.
    pub table: TableKind,
    /// The bytes that it counts in: 512, or 4096 where it was made for disks with such sectors.
    pub block: u64,
    /// The disk's identifier in that table, as text; empty where there is no table.
    pub disk_id: String,
    /// The partitions, by number. An extended partition is not among them; its logical ones are.
    pub partitions: Vec<Partition>,
    /// Where the extended partition of an MBR lies: first byte and length.
    pub extended: Option<(u64, u64)>,
    /// The GUID partition table itself, where that is the table.
    pub gpt: Option<gpt::Gpt>,
    /// What was noteworthy about the table.
    pub findings: Vec<Finding>,
}

/// Why a disk has no layout.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LayoutError {
    /// Neither an MBR nor a GPT nor a file system.
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
    /// Reads the table, the partitions and what fills them; a disk whose partitions overlap or
    /// reach past its end is refused.
    pub fn read<D: Disk + ?Sized>(disk: &D) -> Result<Self, LayoutError> {
        let layout = Self::survey(disk)?;
        match layout.faults(disk.len()).into_iter().next() {
            Some(fault) => Err(fault),
            None => Ok(layout),
        }
    }

    /// Reads the table, the partitions and what fills them. What is wrong with the partitions
    /// becomes findings.
    pub fn survey<D: Disk + ?Sized>(disk: &D) -> Result<Self, LayoutError> {
        let mut layout = Self::table_of(disk, true)?;
        for fault in layout.faults(disk.len()) {
            let code = match fault {
                LayoutError::BeyondEnd { .. } => "beyond-end",
                _ => "overlap",
            };
            layout
                .findings
                .push(Finding::serious(code, sentence(&fault.to_string())));
        }
        if is_iso(disk)? {
            layout.findings.push(Finding::note(
                ISO,
                "The disk is an ISO 9660 image as well: changing a partition of it may break that, so that none is changed unless a sheet names it by number or label.",
            ));
        }
        layout.fill(disk)?;
        Ok(layout)
    }

    /// Whether something was found that has this word for programs.
    pub fn has_finding(&self, code: &str) -> bool {
        self.findings.iter().any(|finding| finding.code == code)
    }

    /// Says which file system fills each partition that lies on the disk.
    fn fill<D: Disk + ?Sized>(&mut self, disk: &D) -> Result<(), LayoutError> {
        for partition in &mut self.partitions {
            if partition.end() <= disk.len() {
                partition.file_system = fs::recognise(&partition.window(disk)?)?;
            }
        }
        Ok(())
    }

    /// The table and its partitions. `whole` says that the end of the disk can be read too.
    fn table_of<D: Disk + ?Sized>(disk: &D, whole: bool) -> Result<Self, LayoutError> {
        if disk.len() < 2 * SECTOR {
            return Err(LayoutError::NoTable);
        }
        let sector = disk.read_vec(0, SECTOR as usize)?;
        let record = mbr::parse(&sector, SECTOR);
        let protective = record.as_ref().is_some_and(|record| {
            record
                .entries
                .iter()
                .any(|entry| entry.kind == mbr::PROTECTIVE)
        });
        let bare = fs::fat::BootSector::read(disk)?.is_ok()
            || (record.is_none() && !protective && fs::recognise(disk)?.is_some());
        match record {
            Some(record) if protective => Self::of_gpt(disk, record.entries.len() > 1, whole),
            // What lies behind the file system, and where the disk ends, is known only at its end.
            _ if bare && !whole => Err(DiskError::NotYet { needed: u64::MAX }.into()),
            _ if bare => Ok(Self::without_table(disk.len())),
            Some(record) => match larger_record(disk, &sector, &record)? {
                Some(record) => Self::of_mbr(disk, &record, LARGE, whole),
                None => Self::of_mbr(disk, &record, SECTOR, whole),
            },
            None => match Self::of_gpt(disk, false, whole) {
                Ok(mut layout) => {
                    layout.findings.push(Finding::caution(
                        "no-protective-record",
                        "The GUID partition table has no protective record in front of it; some boards and systems will not find it.",
                    ));
                    Ok(layout)
                }
                Err(LayoutError::Gpt(gpt::GptError::Disk(e))) => Err(e.into()),
                Err(_) => Err(LayoutError::NoTable),
            },
        }
    }

    fn without_table(len: u64) -> Self {
        Self {
            table: TableKind::None,
            block: SECTOR,
            disk_id: String::new(),
            partitions: vec![Partition {
                number: 0,
                start: 0,
                len,
                kind: "whole disk".into(),
                name: None,
                uuid: None,
                file_system: None,
            }],
            extended: None,
            gpt: None,
            findings: vec![Finding::caution(
                "no-table",
                "There is no partition table: one file system fills the disk from its first byte. Most boards do not boot from that.",
            )],
        }
    }

    fn of_mbr<D: Disk + ?Sized>(
        disk: &D,
        record: &mbr::Mbr,
        block: u64,
        whole: bool,
    ) -> Result<Self, LayoutError> {
        let mut findings = Vec::from_iter(larger_blocks(block));
        let mut entries = Vec::new();
        let mut extended = None;
        for entry in &record.entries {
            if !entry.is_extended() {
                entries.push(*entry);
                continue;
            }
            if extended.is_some() {
                findings.push(Finding::caution(
                    "second-extended",
                    "There are two extended partitions; the second one is kept as it is.",
                ));
                entries.push(*entry);
                continue;
            }
            extended = Some((entry.start, entry.len));
            let chain = mbr::logical(disk, entry, block)?;
            entries.extend(chain.entries);
            if let Some(at) = chain.broken_at {
                findings.push(Finding::serious(
                    "broken-extended",
                    format!("The chain of logical partitions breaks at byte {at}; those behind it are lost."),
                ));
            }
        }
        if whole
            && gpt::SECTOR_SIZES.iter().any(|size| {
                gpt::read(disk, *size, times(disk.len(), *size).saturating_sub(1)).is_ok()
            })
        {
            findings.push(Finding::note(
                "old-gpt",
                "The end of the disk still carries the backup of an older GUID partition table, which no longer counts.",
            ));
        }
        let signature = record.signature;
        let partitions = entries
            .iter()
            .map(|entry| Partition {
                number: entry.number,
                start: entry.start,
                len: entry.len,
                kind: mbr::type_name(entry.kind).into(),
                name: None,
                uuid: Some(format!("{signature:08x}-{:02x}", entry.number)),
                file_system: None,
            })
            .collect();
        Ok(Self {
            table: TableKind::Mbr,
            block,
            disk_id: format!("{signature:08x}"),
            partitions,
            extended,
            gpt: None,
            findings,
        })
    }

    /// The primary copy, or the backup in the last sector where the primary does not hold.
    fn of_gpt<D: Disk + ?Sized>(disk: &D, hybrid: bool, whole: bool) -> Result<Self, LayoutError> {
        let mut findings = Vec::new();
        let primary = read_any(disk, |_| 1);
        let table = match primary {
            Ok(table) => {
                if whole {
                    findings.extend(judge_backup(disk, &table)?);
                }
                table
            }
            Err(gpt::GptError::Disk(e)) => return Err(e.into()),
            Err(primary) if !whole => return Err(primary.into()),
            Err(primary) => {
                match read_any(disk, |size| times(disk.len(), size).saturating_sub(1)) {
                    Ok(backup) => {
                        findings.push(Finding::caution(
                        "gpt-from-backup",
                        format!("The first copy of the GUID partition table is damaged ({primary}); the backup at the disk's end was used, and both are whole again on every card written."),
                    ));
                        backup
                    }
                    Err(gpt::GptError::Disk(e)) => return Err(e.into()),
                    Err(_) => return Err(primary.into()),
                }
            }
        };
        findings.extend(larger_blocks(table.sector));
        if hybrid {
            findings.push(Finding::note(
                "hybrid",
                "The master boot record names partitions beside the GUID partition table; the GUID partition table counts here.",
            ));
        }
        let partitions = table
            .entries
            .iter()
            .map(|entry| Partition {
                number: entry.number,
                start: entry.start,
                len: entry.len,
                kind: gpt::type_name(&entry.kind).into(),
                name: (!entry.name.is_empty()).then(|| entry.name.clone()),
                uuid: Some(entry.uuid.clone()),
                file_system: None,
            })
            .collect();
        Ok(Self {
            table: TableKind::Gpt,
            block: table.sector,
            disk_id: table.uuid.clone(),
            partitions,
            extended: None,
            gpt: Some(table),
            findings,
        })
    }

    /// Partitions that overlap or reach past the end of the disk.
    fn faults(&self, disk_len: u64) -> Vec<LayoutError> {
        let mut by_start: Vec<_> = self.partitions.iter().collect();
        by_start.sort_by_key(|partition| partition.start);
        let mut faults = Vec::new();
        for partition in &by_start {
            match partition.start.checked_add(partition.len) {
                Some(end) if end <= disk_len => {}
                end => faults.push(LayoutError::BeyondEnd {
                    number: partition.number,
                    end: end.unwrap_or(u64::MAX),
                    disk_len,
                }),
            }
        }
        for pair in by_start.windows(2) {
            if pair[0].end() > pair[1].start {
                faults.push(LayoutError::Overlap(pair[0].number, pair[1].number));
            }
        }
        faults
    }

    /// Byte after the last one of the last partition.
    pub fn partitions_end(&self) -> u64 {
        let extended = self.extended.map(|(start, len)| start.saturating_add(len));
        self.partitions
            .iter()
            .map(Partition::end)
            .chain(extended)
            .max()
            .unwrap_or(SECTOR)
    }

    /// Fewest bytes that a card must hold for this content: up to the end of the last partition,
    /// and the backup of a GPT behind it.
    pub fn smallest_card(&self) -> u64 {
        self.partitions_end().saturating_add(self.backup_len())
    }

    /// Bytes that the backup of a GPT takes at the end of the disk; 0 without one.
    pub fn backup_len(&self) -> u64 {
        self.gpt.as_ref().map_or(0, gpt::Gpt::backup_len)
    }

    /// The map of a disk of `len` bytes with this layout, while no file system is looked into:
    /// everything up to the end of the last partition is data, as is the end of the disk; the
    /// rest is free.
    pub fn plain_map(&self, len: u64) -> Map {
        let mut map = Map::uniform(len, ByteKind::Free);
        map.set(0, self.partitions_end(), ByteKind::Data);
        let backup = self.gpt.as_ref().map_or(0, gpt::Gpt::backup_len);
        map.set(
            len.saturating_sub(backup.max(KEPT_END)),
            len,
            ByteKind::Data,
        );
        if let Some((from, to)) = self.backup_elsewhere() {
            map.set(from, to, ByteKind::Data);
        }
        map
    }

    /// Where the GPT says that its backup lies, with the table in front of it.
    fn backup_elsewhere(&self) -> Option<(u64, u64)> {
        let gpt = self.gpt.as_ref()?;
        let to = gpt.other_at()?.checked_add(gpt.sector)?;
        Some((to.saturating_sub(gpt.backup_len()), to))
    }

    /// Where data behind the last partition ends, if there is any beside the backup of a GPT. Only
    /// what `map` calls data is read.
    pub fn data_behind<D: Disk + ?Sized>(
        &self,
        disk: &D,
        map: &Map,
    ) -> Result<Option<u64>, DiskError> {
        let first = self.partitions_end();
        let mut known = Vec::new();
        known.extend(self.backup_elsewhere());
        if let Some(gpt) = &self.gpt {
            known.push((disk.len().saturating_sub(gpt.backup_len()), disk.len()));
        }
        if self.has_finding("old-gpt") {
            // The backup of an older table, for sectors of either size.
            known.push((disk.len().saturating_sub(5 * 4096), disk.len()));
        }
        let runs: Vec<_> = map.runs_in(first, disk.len()).to_vec();
        for run in runs
            .into_iter()
            .rev()
            .filter(|run| run.kind == ByteKind::Data)
        {
            let (from, mut to) = (run.start.max(first), run.end.min(disk.len()));
            while to > from {
                let at = (to.saturating_sub(1) / CHUNK).saturating_mul(CHUNK);
                let at = at.max(from);
                let mut bytes = disk.read_vec(at, to.saturating_sub(at) as usize)?;
                for (start, end) in &known {
                    let within = |byte: u64| byte.clamp(at, to).saturating_sub(at) as usize;
                    bytes[within(*start)..within(*end)].fill(0);
                }
                if let Some(last) = bytes.iter().rposition(|byte| *byte != 0) {
                    return Ok(Some(at.saturating_add(last as u64).saturating_add(1)));
                }
                to = at;
            }
        }
        Ok(None)
    }

    /// The map of the disk, with what its file systems call free.
    pub fn map<D: Disk + ?Sized>(&self, disk: &D) -> Result<Map, DiskError> {
        let usages = self.usages(disk)?;
        Ok(self.map_with(disk.len(), &usages))
    }

    /// What is in use in each partition; `None` where that is not known.
    pub fn usages<D: Disk + ?Sized>(&self, disk: &D) -> Result<Vec<Option<Usage>>, DiskError> {
        let faulty = !self.faults(disk.len()).is_empty();
        self.partitions
            .iter()
            .map(|partition| {
                // Where partitions share bytes, no word about free ones can be trusted.
                if faulty || partition.file_system.is_none() {
                    return Ok(None);
                }
                fs::usage(&partition.window(disk)?)
            })
            .collect()
    }

    /// The plain map with what is in use in each partition put in.
    pub fn map_with(&self, len: u64, usages: &[Option<Usage>]) -> Map {
        let mut map = self.plain_map(len);
        for (partition, usage) in self.partitions.iter().zip(usages) {
            if let Some(usage) = usage {
                map.insert(partition.start, &usage.map);
            }
        }
        map.set(len.saturating_sub(KEPT_END), len, ByteKind::Data);
        map
    }

    /// The map of a disk that is still arriving, up to the end of its last partition.
    ///
    /// # Errors
    /// [`DiskError::NotYet`] while a structure that is needed has not arrived.
    pub fn early_map<D: Disk + ?Sized>(disk: &D) -> Result<Map, LayoutError> {
        let mut layout = Self::table_of(disk, false)?;
        layout.fill(disk)?;
        let usages = layout.usages(disk)?;
        let end = layout.partitions_end();
        let mut map = Map::uniform(end, ByteKind::Data);
        for (partition, usage) in layout.partitions.iter().zip(&usages) {
            if let Some(usage) = usage {
                map.insert(partition.start, &usage.map);
            }
        }
        // The disk may end right here.
        map.set(end.saturating_sub(KEPT_END), end, ByteKind::Data);
        Ok(map)
    }

    /// The partition that settings go to when a sheet says `boot`: the first with FAT on it.
    /// None on an ISO image, whose parts are not changed unless they are named.
    pub fn boot(&self) -> Option<&Partition> {
        if self.has_finding(ISO) {
            return None;
        }
        self.partitions.iter().find(|partition| partition.is_fat())
    }
}

/// The larger size that tables can count in, in bytes.
const LARGE: u64 = gpt::SECTOR_SIZES[1];

/// What is said of a table for larger sectors.
fn larger_blocks(block: u64) -> Option<Finding> {
    (block != SECTOR).then(|| {
        Finding::note(
            "sector-size",
            format!("The table was made for disks with sectors of {block} bytes; on each card it counts in the sectors of the card's reader."),
        )
    })
}

/// The record read in larger blocks, where what it names lies there: no place that it names in the usual ones has a
/// file system or a further record, and one of the others has.
fn larger_record<D: Disk + ?Sized>(
    disk: &D,
    sector: &[u8],
    usual: &mbr::Mbr,
) -> Result<Option<mbr::Mbr>, DiskError> {
    let names_something = |record: &mbr::Mbr| {
        for entry in &record.entries {
            let end = entry.start.saturating_add(entry.len);
            if end > disk.len() || end <= entry.start.saturating_add(SECTOR) {
                continue;
            }
            let found = if entry.is_extended() {
                disk.read_vec(entry.start, SECTOR as usize)?
                    .ends_with(&[0x55, 0xaa])
            } else {
                fs::recognise(&Window::new(disk, entry.start, entry.len)?)?.is_some()
            };
            if found {
                return Ok(true);
            }
        }
        Ok::<_, DiskError>(false)
    };
    if names_something(usual)? {
        return Ok(None);
    }
    let Some(large) = mbr::parse(sector, LARGE) else {
        return Ok(None);
    };
    Ok(names_something(&large)?.then_some(large))
}

fn read_any<D: Disk + ?Sized>(
    disk: &D,
    sector: impl Fn(u64) -> u64,
) -> Result<gpt::Gpt, gpt::GptError> {
    let [small, large] = gpt::SECTOR_SIZES;
    gpt::read(disk, small, sector(small)).or_else(|first| match first {
        gpt::GptError::NoSignature(_) => {
            gpt::read(disk, large, sector(large)).map_err(|e| match e {
                e @ gpt::GptError::Disk(DiskError::NotYet { .. }) => e,
                _ => first,
            })
        }
        e => Err(e),
    })
}

/// What the backup at the disk's end says about itself beside a primary copy that holds.
fn judge_backup<D: Disk + ?Sized>(
    disk: &D,
    primary: &gpt::Gpt,
) -> Result<Option<Finding>, DiskError> {
    let last = times(disk.len(), primary.sector).saturating_sub(1);
    let at_end = gpt::read(disk, primary.sector, last);
    if let Ok(backup) = &at_end {
        return Ok((!primary.agrees_with(backup)).then(|| {
            Finding::note(
                "stale-backup",
                "The backup of the GUID partition table at the disk's end is an older one and does not agree with the first copy, which counts; cards get a true one.",
            )
        }));
    }
    if let Err(gpt::GptError::Disk(DiskError::Io(e))) = at_end {
        return Err(e.into());
    }
    let elsewhere = primary
        .other_at()
        .map(|at| times(at, primary.sector))
        .filter(|sector| *sector != last)
        .and_then(|sector| gpt::read(disk, primary.sector, sector).ok());
    Ok(Some(match elsewhere {
        Some(_) => Finding::note(
            "backup-not-at-end",
            "The backup of the GUID partition table does not lie at the end of the image; on a card it is put at the card's end.",
        ),
        None => Finding::caution(
            "no-backup",
            "The GUID partition table has no backup that holds, as if the image had been cut behind its last partition; cards get one.",
        ),
    }))
}

/// Word for programs of the finding that a disk is an ISO 9660 image too.
const ISO: &str = "iso";

/// Whether there is a volume descriptor of ECMA-119 in the 17th sector of 2048 bytes.
fn is_iso<D: Disk + ?Sized>(disk: &D) -> Result<bool, DiskError> {
    const AT: u64 = 16 * 2048 + 1;
    match disk.len() > AT + 5 {
        true => match disk.read_vec(AT, 5) {
            Ok(found) => Ok(found == b"CD001"),
            // It has not arrived yet, and nothing is edited before it has.
            Err(DiskError::NotYet { .. }) => Ok(false),
            Err(e) => Err(e),
        },
        false => Ok(false),
    }
}

/// A message as a sentence of its own.
fn sentence(message: &str) -> String {
    let mut chars = message.chars();
    let first = chars.next().map(|c| c.to_uppercase().collect::<String>());
    format!("{}{}.", first.unwrap_or_default(), chars.as_str())
}
