//! A place for a card, and the card in it.

use std::borrow::Cow;

use imagecraft::{Disk, DiskError};
use serde::{Deserialize, Serialize};

use crate::Beside;

/// Why work on a card failed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum CardError {
    /// The slot is empty.
    #[error("there is no card in the slot")]
    Empty,
    /// The card that was held is not in the slot any more.
    #[error("the card is gone from the slot")]
    Gone,
    /// The card refuses writes.
    #[error("the card is locked; move its slider and put it in again")]
    Locked,
    /// The card or the reader reported an error.
    #[error("{op} at byte {offset} failed: {detail}")]
    Failed {
        /// What was tried.
        op: Cow<'static, str>,
        /// Where on the card.
        offset: u64,
        /// What was reported.
        detail: String,
    },
    /// The bench or its reader does not answer.
    #[error("the card reader does not answer: {0}")]
    Reader(String),
    /// Something on the bench's computer holds the card, so that it cannot be had alone.
    #[error("the card is in use by this computer ({0}); let go of it there first")]
    InUse(String),
    /// The service may not open the device that the card is behind.
    #[error("the service may not open {0}; `duplicarium bench scan` says how it is allowed to")]
    Forbidden(String),
}

impl CardError {
    /// Whether no further call can reach the card.
    pub fn is_out_of_reach(&self) -> bool {
        matches!(self, Self::Gone | Self::Empty | Self::Reader(_))
    }
}

/// One stay of a card in a slot. Another one means that the card was out meanwhile, even if it is the same
/// card again.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Insertion {
    /// Which start of the computer, or of the stand-in, counts: numbers begin anew with each.
    pub boot: String,
    /// Grows from one insertion to the next.
    pub number: u64,
}

impl std::fmt::Display for Insertion {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} of {}", self.number, self.boot)
    }
}

/// What a slot says about the card in it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Medium {
    /// Since when it is in.
    pub insertion: Insertion,
    /// Size that the card reports, in bytes.
    pub size: u64,
    /// Kind of medium in the trade's words.
    pub kind: String,
    /// Whether its slider forbids writing.
    pub locked: bool,
    /// What the bench's own system uses it for, if it does.
    pub in_use: Option<String>,
    /// Under which name the bench's computer has it, such as `/dev/sdb`.
    pub node: Option<String>,
    /// What the medium says of itself that no other says, where its reader passes that on.
    pub identity: Option<String>,
    /// Length of the blocks that its reader counts in, in bytes: what tables on it are counted in by whoever uses it there.
    #[serde(default = "usual_block")]
    pub block: u32,
}

/// Length of a block of nearly every card and reader, in bytes.
pub const USUAL_BLOCK: u32 = 512;

fn usual_block() -> u32 {
    USUAL_BLOCK
}

/// What a card is opened for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Access {
    /// To look at it: only reading, beside whoever else has it.
    Look,
    /// To work on it: nobody else on this computer has it meanwhile. Where the card is locked, for reading.
    Hold,
}

/// Where a slot is, for records: which reader, and which place in it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Place {
    /// The reader, by the port that it hangs at or by a name of its own.
    pub reader: String,
    /// Place in the reader, as the reader counts.
    pub unit: u32,
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}, unit {}", self.reader, self.unit)
    }
}

/// One place for a card.
pub trait Slot: Send + Sync {
    /// Where it is: reader and unit.
    fn place(&self) -> Place;

    /// What is in it now.
    fn medium(&self) -> Result<Option<Medium>, CardError>;

    /// Takes hold of the card of one insertion. Any other card gives [`CardError::Gone`].
    fn open(&self, insertion: &Insertion, access: Access) -> Result<Box<dyn CardIo>, CardError>;

    /// Lets go of the card where the system of the bench's computer uses it; gives what for. What cannot be
    /// let go of is [`CardError::InUse`].
    fn release(&self) -> Result<Vec<String>, CardError> {
        Ok(Vec::new())
    }
}

/// A held card. Once it is pulled, every call gives [`CardError::Gone`], also after another or
/// the same card is put in.
pub trait CardIo: Send + Sync {
    /// Size that the card reports, in bytes.
    fn size(&self) -> u64;

    /// Fills `buf` from the medium itself, past every cache.
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), CardError>;

    /// Writes all of `data`.
    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), CardError>;

    /// Returns when all that was written is on the medium.
    fn flush(&self) -> Result<(), CardError>;

    /// Tells the medium that a range need not be kept, so that it reads as zero from then on. Whether that
    /// took place: a medium that cannot do it, or not so, has changed nothing.
    fn discard(&self, _offset: u64, _len: u64) -> Result<bool, CardError> {
        Ok(false)
    }

    /// Who does whole pieces of work beside the card, where it is at another computer. The functions of this crate
    /// ask: whoever calls them need not know where the card is.
    fn beside(&self) -> Option<&dyn Beside> {
        None
    }
}

/// A held card as a [`Disk`] that can be read.
pub struct CardDisk<'a>(pub &'a dyn CardIo);

impl Disk for CardDisk<'_> {
    fn len(&self) -> u64 {
        self.0.size()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        let len = buf.len() as u64;
        if offset.checked_add(len).is_none_or(|end| end > self.len()) {
            return Err(DiskError::OutOfRange {
                offset,
                len,
                disk_len: self.len(),
            });
        }
        self.0
            .read_at(offset, buf)
            .map_err(|e| DiskError::Io(std::io::Error::other(e)))
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }
}
