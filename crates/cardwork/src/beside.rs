//! Work that is done beside the card, where that is at another computer: only what the other side has not needs to
//! travel.

use imagecraft::{Disk, DiskError, Map, packed};

use crate::check::{CheckError, Keep, Kept, QuickChecked, QuickFailed, Report};
use crate::{Mark, Options, Progress, Unwritten, WriteError, Written};

/// Takes one chunk after the other: its index and its bytes.
pub type Take<'a> = &'a mut dyn FnMut(u64, &[u8]) -> Result<(), WriteError>;
/// Fills one chunk after the other, likewise.
pub type Fill<'a> = &'a mut dyn FnMut(u64, &mut [u8]) -> Result<(), WriteError>;

/// Does whole pieces of work beside a card. Each method does what the function of its name in this crate does.
pub trait Beside: Send + Sync {
    /// As [`write()`](crate::write()).
    ///
    /// # Errors
    /// As there; where the other side is gone, nobody knows what is on the card.
    fn write(
        &self,
        content: &dyn Chunks,
        map: &Map,
        mark: &Mark,
        options: Options,
        progress: &Progress,
    ) -> Result<Written, Unwritten>;

    /// As [`read_out`](crate::read_out). Chunks that are as `likely` has them need not travel.
    ///
    /// # Errors
    /// As there.
    fn read(
        &self,
        map: &Map,
        likely: &dyn Likely,
        progress: &Progress,
        take: Take<'_>,
    ) -> Result<(), WriteError>;

    /// As [`read_again`](crate::read_again).
    ///
    /// # Errors
    /// As there.
    fn read_again(&self, map: &Map, progress: &Progress, kept: Fill<'_>) -> Result<(), WriteError>;

    /// As [`check::full`](crate::check::full).
    ///
    /// # Errors
    /// As there.
    fn full(&self, mark: &Mark, progress: &Progress) -> Result<Report, CheckError>;

    /// As [`check::quick`](crate::check::quick()).
    ///
    /// # Errors
    /// As there.
    fn quick(
        &self,
        mark: &Mark,
        keep: &mut dyn Saves,
        progress: &Progress,
    ) -> Result<QuickChecked, QuickFailed>;

    /// As [`check::put_back`](crate::check::put_back).
    ///
    /// # Errors
    /// As there.
    fn put_back(&self, kept: &dyn Kept, progress: &Progress) -> Result<(), CheckError>;
}

/// Keeps what is on a card, and gives it back.
pub trait Saves: Keep + Kept {}

impl<T: Keep + Kept> Saves for T {}

/// Content as whoever writes it elsewhere has it: by chunks that have names.
pub trait Chunks {
    /// Bytes in all.
    fn len(&self) -> u64;

    /// Whether there is none.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The name of a chunk: of one name, one content.
    ///
    /// # Errors
    /// Where the content cannot be read.
    fn name(&self, chunk: u64) -> Result<[u8; 32], DiskError>;

    /// A chunk, [`packed`].
    ///
    /// # Errors
    /// Where the content cannot be read.
    fn packed(&self, chunk: u64) -> Result<Vec<u8>, DiskError>;
}

/// The chunks of a disk. What has no name of its own gets one by its bytes.
pub(crate) struct DiskChunks<'a, D: ?Sized>(pub &'a D);

impl<D: Disk + ?Sized> DiskChunks<'_, D> {
    fn bytes(&self, chunk: u64) -> Result<Vec<u8>, DiskError> {
        let start = chunk.saturating_mul(imagecraft::CHUNK);
        let len = imagecraft::CHUNK.min(self.0.len().saturating_sub(start));
        self.0.read_vec(start, len as usize)
    }
}

impl<D: Disk + ?Sized> Chunks for DiskChunks<'_, D> {
    fn len(&self) -> u64 {
        self.0.len()
    }

    fn name(&self, chunk: u64) -> Result<[u8; 32], DiskError> {
        match self.0.chunk_name(chunk)? {
            Some(name) => Ok(name),
            None => Ok(*blake3::hash(&self.bytes(chunk)?).as_bytes()),
        }
    }

    fn packed(&self, chunk: u64) -> Result<Vec<u8>, DiskError> {
        if let Some(packed) = self.0.packed_chunk(chunk)? {
            return Ok(packed);
        }
        let bytes = self.bytes(chunk)?;
        Ok(packed::Packer::default().pack(&bytes)?.to_vec())
    }
}

/// What a card probably holds, as far as somebody has an idea.
pub trait Likely {
    /// A chunk of so many bytes, what is free in it zeroed; nothing where nobody has an idea.
    fn chunk(&self, chunk: u64, len: usize) -> Option<Vec<u8>>;

    /// The chunk of a BLAKE3 digest, wherever it is from; nothing where it is not at hand.
    fn of_digest(&self, _digest: &[u8; 32]) -> Option<Vec<u8>> {
        None
    }
}

/// Nobody has an idea.
pub struct Unknown;

impl Likely for Unknown {
    fn chunk(&self, _: u64, _: usize) -> Option<Vec<u8>> {
        None
    }
}

/// It probably holds what this disk does.
impl<D: Disk> Likely for D {
    fn chunk(&self, chunk: u64, len: usize) -> Option<Vec<u8>> {
        let start = chunk.checked_mul(imagecraft::CHUNK)?;
        self.read_vec(start, len).ok()
    }
}
