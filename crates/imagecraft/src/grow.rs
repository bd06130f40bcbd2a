//! The last partition and its file system, grown over the card, or shrunk to it.

use serde::{Deserialize, Serialize};

use crate::table::{TableKind, mbr};
use crate::{Disk, Layout, Partition};

/// Partitions end on this border, as erase blocks of cards and the habit of the trade want it.
const BORDER: u64 = 1 << 20;
/// Room that is not worth a change of the table.
const LEAST: u64 = 4 << 20;

/// How the last partition is grown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Growth {
    /// Bytes to leave at the card's end.
    pub leave: u64,
    /// Whether descriptors may be scattered where there is no room for them together.
    pub scattered: bool,
}

/// What growing comes to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Grown {
    /// Number of the partition.
    pub partition: u32,
    /// Its length in bytes before.
    pub before: u64,
    /// Its length in bytes after.
    pub after: u64,
    /// Bytes that its file system fills.
    pub filled: u64,
    /// Why the file system does not fill it, if it does not.
    pub limited: Option<String>,
}

/// What shrinking comes to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Shrunk {
    /// Number of the partition.
    pub partition: u32,
    /// Its length in bytes before.
    pub before: u64,
    /// Its length in bytes after.
    pub after: u64,
    /// Bytes of files that were moved to the front.
    pub moved: u64,
    /// Files and folders that got another number, by which hardly anybody knows them.
    pub renumbered: u32,
}

/// The partition that ends last, and where it must end for the disk to fit onto a card of
/// `card_len` bytes; or why it cannot. `behind` is where data behind the last partition ends.
pub fn fitted(
    layout: &Layout,
    card_len: u64,
    behind: Option<u64>,
) -> Result<(&Partition, u64), String> {
    let last = last_ext(layout, behind, "made smaller")?;
    let others = layout
        .partitions
        .iter()
        .filter(|one| one.number != last.number);
    let backup = layout.gpt.as_ref().map_or(0, |gpt| gpt.backup_len());
    let mut end = card_len.saturating_sub(backup);
    if layout.table != TableKind::None {
        end = end.saturating_sub(end % BORDER);
    }
    // A partition inside of it does not count, nor the extended one around it.
    match others.map(Partition::end).max() {
        Some(before) if before > last.start || end <= last.start => Err(format!(
            "{} does not stand alone at the end of the disk",
            last.title()
        )),
        _ if end <= last.start => Err(format!("{} begins behind the card's end", last.title())),
        _ => Ok((last, end)),
    }
}

/// The partition that ends last, where it is one whose file system can be given another length.
fn last_ext<'a>(
    layout: &'a Layout,
    behind: Option<u64>,
    what: &str,
) -> Result<&'a Partition, String> {
    if layout.has_finding("hybrid") {
        return Err(
            "the master boot record names partitions beside the GUID partition table, and the two would not agree any more"
                .into(),
        );
    }
    if let Some(end) = behind.filter(|end| *end > layout.partitions_end()) {
        return Err(format!(
            "there is data behind the last partition, up to byte {end}, which would be overwritten"
        ));
    }
    let last = layout
        .partitions
        .iter()
        .max_by_key(|partition| partition.end())
        .ok_or("there is no partition")?;
    match last.is_ext() {
        true => Ok(last),
        false => Err(format!(
            "{} is the last one and holds {}; only ext file systems are {what}",
            last.title(),
            last.holds()
        )),
    }
}

/// The partition that ends last, and where it may end on a card of `card_len` bytes; or why it
/// is left as it is. `behind` is where data behind the last partition ends, if there is any.
pub fn reach(
    layout: &Layout,
    card_len: u64,
    growth: Growth,
    behind: Option<u64>,
) -> Result<(&Partition, u64), String> {
    let last = last_ext(layout, behind, "grown")?;
    let backup = layout.gpt.as_ref().map_or(0, |gpt| gpt.backup_len());
    let mut end = card_len.saturating_sub(growth.leave.max(backup));
    end = end.saturating_sub(end % BORDER);
    if layout.table == TableKind::Mbr {
        end = end.min(
            (u64::from(u32::MAX).saturating_mul(layout.block) / BORDER).saturating_mul(BORDER),
        );
    }
    if layout.table == TableKind::None {
        return Ok((last, card_len.saturating_sub(growth.leave)));
    }
    match end.checked_sub(last.end()) {
        Some(gain) if gain >= LEAST => Ok((last, end)),
        _ => Err(format!("{} reaches the card's end already", last.title())),
    }
}

/// Gives the partition its new end in the table. A GPT is not written yet where it gets shorter: it
/// must be fitted to the card first.
pub fn set_end<D: Disk>(
    disk: &mut D,
    layout: &mut Layout,
    number: u32,
    end: u64,
) -> Result<(), String> {
    match layout.table {
        TableKind::Mbr => {
            mbr::move_end(disk, number, end, layout.block).map_err(|e| e.to_string())?
        }
        TableKind::Gpt => {
            let table = layout
                .gpt
                .as_ref()
                .and_then(|gpt| gpt.with_end(number, end));
            let table = table.ok_or_else(|| format!("the table has no partition {number}"))?;
            if layout.partitions_end() <= end {
                table.fit(disk).map_err(|e| e.to_string())?;
            }
            layout.gpt = Some(table);
        }
        TableKind::None => {}
    }
    for partition in &mut layout.partitions {
        if partition.number == number {
            partition.len = end.saturating_sub(partition.start);
            if let Some((start, len)) = &mut layout.extended
                && *start < partition.start
                && partition.start < start.saturating_add(*len)
            {
                *len = end.saturating_sub(*start);
            }
        }
    }
    Ok(())
}
