//! Everything that an image says about itself: one look at a whole disk.

use serde::{Deserialize, Serialize};

use crate::compose::{Recipe, compose};
use crate::fs::{self, State, Usage};
use crate::machine::{self, Machine};
use crate::table::TableKind;
use crate::{ByteKind, Disk, Finding, Layout, LayoutError, Map, Partition};

/// A partition and how full it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Filled {
    /// The partition.
    #[serde(flatten)]
    pub partition: Partition,
    /// Bytes in use, where the file system was looked into.
    pub used: Option<u64>,
    /// Bytes free to the file system, where it was looked into.
    pub free: Option<u64>,
}

/// Bytes that belong to no partition.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Gap {
    /// First byte.
    pub start: u64,
    /// Length in bytes.
    pub len: u64,
}

/// What was found on a disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Inspection {
    /// Its table and partitions.
    pub layout: Layout,
    /// Its partitions with what is in use.
    pub partitions: Vec<Filled>,
    /// What lies between, before and behind them.
    pub gaps: Vec<Gap>,
    /// Which bytes matter.
    pub map: Map,
    /// Fewest bytes that a card must hold.
    pub smallest_card: u64,
    /// The same if the last file system were shrunk, where it can be.
    pub shrunk_card: Option<u64>,
    /// Processor architectures that programs and kernels on it are for.
    pub architectures: Vec<String>,
    /// Kinds of boot files on it.
    pub boot: Vec<String>,
    /// The file that will enlarge the root at first boot.
    pub grower: Option<String>,
    /// Where data behind the last partition ends, if there is any.
    pub behind: Option<u64>,
    /// What is noteworthy, most serious first.
    pub findings: Vec<Finding>,
}

/// Looks at a whole disk.
///
/// # Errors
/// No table and no file system, a table of which no copy holds, or a disk that cannot be read.
pub fn inspect<D: Disk + ?Sized>(disk: &D) -> Result<Inspection, LayoutError> {
    inspect_kept(disk, &Map::uniform(disk.len(), ByteKind::Data))
}

/// What is in use on a disk, told from its tables alone.
#[derive(Clone, Debug)]
pub struct Glance {
    /// Its partitions with what is in use.
    pub partitions: Vec<Filled>,
    /// Which bytes matter.
    pub map: Map,
    /// What is noteworthy about the state of its file systems.
    pub findings: Vec<Finding>,
}

/// Looks at what is in use on a disk, and whether its file systems were unmounted: at its tables, and at no file. It
/// costs a read of the tables, also on a slow card.
///
/// # Errors
/// As [`inspect`].
pub fn glance<D: Disk + ?Sized>(disk: &D) -> Result<Glance, LayoutError> {
    let layout = Layout::survey(disk)?;
    let usages = layout.usages(disk)?;
    let states = layout.partitions.iter().zip(&usages);
    let states = states.filter_map(|(partition, usage)| state_finding(partition, usage.as_ref()));
    Ok(Glance {
        partitions: filled(&layout, &usages),
        map: layout.map_with(disk.len(), &usages),
        findings: states.collect(),
    })
}

fn filled(layout: &Layout, usages: &[Option<Usage>]) -> Vec<Filled> {
    let all = layout.partitions.iter().zip(usages);
    let filled = all.map(|(partition, usage)| Filled {
        partition: partition.clone(),
        used: usage.as_ref().map(|usage| usage.used),
        free: usage.as_ref().map(|usage| usage.free),
    });
    filled.collect()
}

/// The same where `kept` says which bytes of the disk can hold anything, as that of an image in
/// the vault does.
///
/// # Errors
/// As [`inspect`].
pub fn inspect_kept<D: Disk + ?Sized>(disk: &D, kept: &Map) -> Result<Inspection, LayoutError> {
    let layout = Layout::survey(disk)?;
    let usages = layout.usages(disk)?;
    let mut map = layout.map_with(disk.len(), &usages);
    let mut findings = layout.findings.clone();
    let behind = layout.data_behind(disk, kept)?;
    if let Some(end) = behind {
        let from = layout.partitions_end();
        findings.push(Finding::caution(
            "data-behind",
            format!(
                "There is data behind the last partition, between bytes {from} and {end}. It is kept and written; the last partition is not grown over it."
            ),
        ));
        map.set(from, end, ByteKind::Data);
    }
    let mut machine = Machine::default();
    for (partition, usage) in layout.partitions.iter().zip(&usages) {
        findings.extend(state_finding(partition, usage.as_ref()));
        if partition.end() <= disk.len()
            && let Ok(Some(files)) = fs::open(partition.window(disk)?)
        {
            machine::look(files.as_ref(), &mut machine);
        }
        if partition.end() <= disk.len()
            && let Some(why) = fs::damage(partition, partition.window(disk)?)
        {
            findings.push(Finding::caution(
                "damaged",
                format!(
                    "The file system on {} is damaged: {why}. It is written as it is, and not changed unless somebody insists.",
                    partition.title()
                ),
            ));
        }
    }
    if layout.table == TableKind::Mbr && has_boot_code(disk)? {
        machine.boot.insert("BIOS boot code".into());
    }
    if let Some(grower) = &machine.grower {
        findings.push(Finding::note(
            "first-boot-grower",
            format!("{grower} enlarges the root file system by itself when the board starts."),
        ));
    }
    if machine.boot.is_empty()
        && layout.boot().is_none()
        && !findings.iter().any(|f| f.code == "no-table")
    {
        findings.push(Finding::caution(
            "no-boot",
            "There is neither a FAT partition nor any known boot file; a board may not start from this.",
        ));
    }
    findings.sort_by_key(|finding| std::cmp::Reverse(finding.severity));
    Ok(Inspection {
        partitions: filled(&layout, &usages),
        gaps: gaps(&layout, disk.len()),
        smallest_card: behind
            .map_or(0, |end| end.saturating_add(layout.backup_len()))
            .max(layout.smallest_card()),
        shrunk_card: match behind {
            Some(_) => None,
            None => shrunk_card(disk, &map, &layout, &usages),
        },
        behind,
        architectures: machine.architectures.into_iter().collect(),
        boot: machine.boot.into_iter().collect(),
        grower: machine.grower,
        findings,
        map,
        layout,
    })
}

impl Inspection {
    /// Bytes that matter.
    pub fn content(&self) -> u64 {
        self.map.total(ByteKind::Data)
    }
}

fn state_finding(partition: &Partition, usage: Option<&Usage>) -> Option<Finding> {
    let title = partition.title();
    let kind = partition.file_system.as_ref().map(|fs| fs.kind.as_str());
    match (usage.map(|usage| &usage.state), kind) {
        (Some(State::Clean), _) => None,
        (Some(State::Replayed { transactions: 0 }), _) => Some(Finding::caution(
            "unclean",
            format!(
                "The file system on {title} was not unmounted; its journal holds nothing that a board would replay."
            ),
        )),
        (Some(State::Replayed { transactions }), _) => Some(Finding::caution(
            "unclean",
            format!(
                "The file system on {title} was not unmounted; its journal holds {transactions} transactions that a board replays at its next start. Nothing that is in use before or after is left out."
            ),
        )),
        (Some(State::InUse), _) => Some(Finding::note(
            "unclean",
            format!(
                "The file system on {title} is marked as in use, as if it had not been unmounted."
            ),
        )),
        (Some(State::Whole(reason)), _) => Some(Finding::caution(
            "kept-whole",
            format!("All of {title} is kept, also what is free: {reason}."),
        )),
        (None, Some(kind)) => Some(Finding::note(
            "kept-whole",
            format!("All of {title} is kept, also what is free: {kind} is not looked into."),
        )),
        (None, None) => Some(Finding::note(
            "kept-whole",
            format!("All of {title} is kept: it holds no known file system."),
        )),
    }
}

/// Whether the first 440 bytes, which a BIOS runs, hold more than a message.
fn has_boot_code<D: Disk + ?Sized>(disk: &D) -> Result<bool, LayoutError> {
    let code = disk.read_vec(0, 440)?;
    Ok(code.iter().filter(|byte| **byte != 0).count() > 64)
}

fn gaps(layout: &Layout, disk_len: u64) -> Vec<Gap> {
    let mut spans: Vec<_> = layout
        .partitions
        .iter()
        .map(|p| (p.start, p.end()))
        .collect();
    spans.sort_unstable();
    spans.push((disk_len, disk_len));
    let mut gaps = Vec::new();
    let mut at = 0;
    for (start, end) in spans {
        if start > at {
            gaps.push(Gap {
                start: at,
                len: start.saturating_sub(at),
            });
        }
        at = at.max(end);
    }
    gaps
}

/// The first step from a card that turned out too small to one that may not be, in bytes.
const STEP: u64 = 16 << 20;
/// How often a card's size is halved between one that is too small and one that is not.
const HALVED: u32 = 3;

/// The smallest card if the last file system on the disk were shrunk: one onto which the disk was composed, as a restore
/// does it. What keeps a file system from being shrunk at all, or so far, is not in its numbers alone.
fn shrunk_card<D: Disk + ?Sized>(
    disk: &D,
    map: &Map,
    layout: &Layout,
    usages: &[Option<Usage>],
) -> Option<u64> {
    let recipe = Recipe {
        shrinks: true,
        ..Recipe::default()
    };
    let fits = |card: u64| compose(disk, map, card, &recipe).is_ok();
    let whole = layout.smallest_card();
    let least = least_card(layout, usages)?;
    if fits(least) {
        return Some(least);
    }
    // Twice as far each time; then between the last that was too small and the first that was not.
    let (mut small, mut step) = (least, STEP.max(least / 32));
    let mut large = loop {
        let card = small.saturating_add(step).next_multiple_of(1 << 20);
        if card >= whole {
            return None;
        }
        if fits(card) {
            break card;
        }
        (small, step) = (card, step.saturating_mul(2));
    };
    for _ in 0..HALVED {
        let half = small.saturating_add(large.saturating_sub(small) / 2);
        let half = half.next_multiple_of(1 << 20);
        if half >= large {
            break;
        }
        match fits(half) {
            true => large = half,
            false => small = half,
        }
    }
    Some(large)
}

/// The smallest card that there may be, by what the last file system has in use.
fn least_card(layout: &Layout, usages: &[Option<Usage>]) -> Option<u64> {
    let (last, usage) = layout
        .partitions
        .iter()
        .zip(usages)
        .max_by_key(|(partition, _)| partition.end())?;
    let shrunk = usage.as_ref()?.shrunk?;
    let saved = last.len.saturating_sub(shrunk);
    (saved > 0).then(|| layout.smallest_card().saturating_sub(saved))
}
