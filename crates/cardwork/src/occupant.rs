//! What is on a card: ours by its stamp, unfinished by its mark, somebody else's, or nothing.

use std::sync::Mutex;

use imagecraft::table::TableKind;
use imagecraft::{CHUNK, Disk, DiskError, Layout, Stamp};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

use crate::{CardDisk, CardError, CardIo};

/// Length of block 0, which is written last, in bytes.
pub(crate) const BLOCK_0: usize = 4096;
/// How a marked block 0 begins. No boot code, no 55 AA: no board takes it for a bootable card.
const MARK_HEAD: &[u8] = b"DUPLICARIUM: THIS CARD IS UNFINISHED\n";

/// How block 0 of an empty card begins that has a label.
const EMPTY_HEAD: &[u8] = b"DUPLICARIUM: THIS CARD IS EMPTY\n";

/// What block 0 of a card says while it is being written.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mark {
    /// Version of this format: 1.
    pub format: u32,
    /// Label of the card.
    pub card: String,
    /// Number of the job that writes it.
    pub job: i64,
    /// When the writing began.
    #[serde(with = "time::serde::rfc3339")]
    pub began: OffsetDateTime,
}

impl Mark {
    /// The mark as block 0.
    pub fn to_block(&self) -> [u8; BLOCK_0] {
        self.block(MARK_HEAD)
    }

    fn block(&self, head: &[u8]) -> [u8; BLOCK_0] {
        let mut block = [0; BLOCK_0];
        let json = serde_json::to_vec(self).expect("a mark has only plain fields");
        let text = [head, &json, b"\n"].concat();
        let len = text.len().min(510);
        block[..len].copy_from_slice(&text[..len]);
        block
    }

    /// Block 0 of a card that is empty: whose label it has, so that it is known again.
    pub fn to_empty_block(&self) -> [u8; BLOCK_0] {
        self.block(EMPTY_HEAD)
    }

    /// The label that the block 0 of an empty card carries.
    pub fn find_empty(block: &[u8]) -> Option<Self> {
        Self::parse(block, EMPTY_HEAD)
    }

    /// The mark that a block 0 carries.
    pub fn find(block: &[u8]) -> Option<Self> {
        Self::parse(block, MARK_HEAD)
    }

    fn parse(block: &[u8], head: &[u8]) -> Option<Self> {
        let json = block
            .strip_prefix(head)?
            .split(|byte| *byte == b'\n')
            .next()?;
        serde_json::from_slice(json).ok()
    }
}

/// Who is on a card.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Occupant {
    /// Nothing: its beginning reads as zero.
    Blank,
    /// Nothing but its label: it was checked from end to end, or cleared.
    Empty(Mark),
    /// A card whose writing did not end.
    Unfinished(Mark),
    /// A card of ours.
    Stamped(Stamp),
    /// Something else.
    Foreign,
}

/// What was found on a card.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Contents {
    /// Who is on it.
    pub occupant: Occupant,
    /// Its table and partitions, if they can be understood.
    pub layout: Option<Layout>,
    /// One line for people.
    pub summary: String,
}

/// A card as a disk that remembers the first read that failed.
struct Watched<'a> {
    card: &'a dyn CardIo,
    failed: Mutex<Option<CardError>>,
}

impl Disk for Watched<'_> {
    fn len(&self) -> u64 {
        self.card.size()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        let inside = offset.checked_add(buf.len() as u64);
        if inside.is_some_and(|end| end <= self.len())
            && let Err(e) = self.card.read_at(offset, buf)
        {
            let told = DiskError::Io(std::io::Error::other(e.to_string()));
            let mut failed = self.failed.lock().unwrap_or_else(|e| e.into_inner());
            failed.get_or_insert(e);
            return Err(told);
        }
        match inside {
            Some(end) if end <= self.len() => Ok(()),
            _ => CardDisk(self.card).read_at(offset, buf),
        }
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }
}

/// Looks at a card, reading no more than its head and its boot partition's tables.
///
/// # Errors
/// [`CardError`] where the card cannot be read. A card on which no stamp is found because a read failed
/// is such a one: it may well be ours, and must not be taken for somebody else's.
pub fn look(card: &dyn CardIo) -> Result<Contents, CardError> {
    let head_len = CHUNK.min(card.size()) as usize;
    let mut head = vec![0; head_len];
    card.read_at(0, &mut head)?;
    let of = |occupant, summary: String| Contents {
        occupant,
        layout: None,
        summary,
    };
    if head.iter().all(|byte| *byte == 0) {
        return Ok(of(Occupant::Blank, "blank".into()));
    }
    if let Some(mark) = Mark::find_empty(&head) {
        return Ok(of(Occupant::Empty(mark), "empty".into()));
    }
    if let Some(mark) = Mark::find(&head) {
        let summary = format!("unfinished, writing stopped in job {}", mark.job);
        return Ok(of(Occupant::Unfinished(mark), summary));
    }
    let disk = Watched {
        card,
        failed: Mutex::default(),
    };
    let layout = Layout::read(&disk).ok();
    let stamp = layout
        .as_ref()
        .and_then(|layout| Stamp::find(&disk, layout));
    let failed = disk.failed.into_inner().unwrap_or_else(|e| e.into_inner());
    let occupant = match (stamp, failed) {
        (Some(stamp), _) => Occupant::Stamped(stamp),
        (None, Some(failed)) => return Err(failed),
        (None, None) => Occupant::Foreign,
    };
    let Some(layout) = layout else {
        return Ok(of(Occupant::Foreign, "unknown data".into()));
    };
    Ok(Contents {
        summary: describe(&layout),
        occupant,
        layout: Some(layout),
    })
}

/// `MBR, 2 partitions: FAT32 BOOT, ext4 root`, or `FAT32 PHOTOS without a partition table`.
fn describe(layout: &Layout) -> String {
    let parts: Vec<_> = layout
        .partitions
        .iter()
        .map(|partition| match &partition.file_system {
            Some(fs) => match &fs.label {
                Some(label) => format!("{} {label}", fs.kind),
                None => fs.kind.clone(),
            },
            None => partition.kind.clone(),
        })
        .collect();
    if layout.table == TableKind::None {
        return format!("{} without a partition table", parts.join(", "));
    }
    let s = if parts.len() == 1 { "" } else { "s" };
    format!(
        "{}, {} partition{s}: {}",
        layout.table.name(),
        parts.len(),
        parts.join(", ")
    )
}
