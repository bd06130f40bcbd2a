//! A place for a card, and the card in it.

use imagecraft::{Disk, DiskError};

/// Why work on a card failed.
#[derive(Debug, thiserror::Error)]
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
        op: &'static str,
        /// Where on the card.
        offset: u64,
        /// What was reported.
        detail: String,
    },
    /// The bench or its reader does not answer.
    #[error("the card reader does not answer: {0}")]
    Reader(String),
}

/// What a slot says about the card in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Medium {
    /// Counts the cards put in; another number means another insertion, even of the same card.
    pub insertion: u64,
    /// Size that the card reports, in bytes.
    pub size: u64,
    /// Kind of medium in the trade's words.
    pub kind: String,
    /// Whether its slider forbids writing.
    pub locked: bool,
    /// What the bench's own system uses it for, if it does.
    pub in_use: Option<String>,
}

/// One place for a card.
pub trait Slot: Send + Sync {
    /// Number on the bench, from 1.
    fn number(&self) -> u32;

    /// Where it is, for people: reader, port and unit.
    fn place(&self) -> String;

    /// What is in it now.
    fn medium(&self) -> Result<Option<Medium>, CardError>;

    /// Takes hold of the card of one insertion. Any other card gives [`CardError::Gone`].
    fn open(&self, insertion: u64) -> Result<Box<dyn CardIo>, CardError>;
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
