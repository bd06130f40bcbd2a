//! The one way to reach the bytes of an image, a card or a backup.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;

/// Why bytes of a disk could not be read or written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DiskError {
    /// The range does not lie inside the disk.
    #[error("bytes {offset}..{} lie outside the disk of {disk_len} bytes", offset.saturating_add(*len))]
    OutOfRange {
        /// First byte asked for.
        offset: u64,
        /// Number of bytes asked for.
        len: u64,
        /// Length of the disk in bytes.
        disk_len: u64,
    },
    /// The bytes exist but have not arrived yet.
    #[error("the first {needed} bytes are needed, and have not arrived yet")]
    NotYet {
        /// How many bytes from the start must be there.
        needed: u64,
    },
    /// The disk cannot be written.
    #[error("this disk is read only")]
    ReadOnly,
    /// The medium or file under the disk failed.
    #[error(transparent)]
    Io(#[from] io::Error),
}

/// A fixed number of bytes with random access.
///
/// Reads and writes are whole or fail; a range that reaches past the end is an error and
/// touches nothing.
pub trait Disk: Send + Sync {
    /// Length in bytes.
    fn len(&self) -> u64;

    /// Whether the disk holds no byte at all.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Fills `buf` from `offset`.
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError>;

    /// Writes all of `data` at `offset`.
    fn write_at(&mut self, offset: u64, data: &[u8]) -> Result<(), DiskError>;

    /// Writes `len` zero bytes at `offset`.
    fn zero_at(&mut self, offset: u64, len: u64) -> Result<(), DiskError> {
        check_range(self.len(), offset, len)?;
        let mut at = offset;
        while at < offset.saturating_add(len) {
            let piece = offset
                .saturating_add(len)
                .saturating_sub(at)
                .min(ZEROS.len() as u64);
            self.write_at(at, &ZEROS[..piece as usize])?;
            at = at.saturating_add(piece);
        }
        Ok(())
    }

    /// Writes at `to` the `len` bytes that stand at `from`, as they were before. The two ranges may
    /// overlap.
    fn copy_within(&mut self, from: u64, to: u64, len: u64) -> Result<(), DiskError> {
        check_range(self.len(), from, len)?;
        check_range(self.len(), to, len)?;
        let piece = |done: u64| (1 << 18).min(len.saturating_sub(done));
        let mut done = 0;
        while done < len {
            let now = piece(done);
            // From the far end where the ranges overlap that way, so that nothing is read late.
            let at = match from < to {
                true => len.saturating_sub(done).saturating_sub(now),
                false => done,
            };
            let bytes = self.read_vec(from.saturating_add(at), now as usize)?;
            self.write_at(to.saturating_add(at), &bytes)?;
            done = done.saturating_add(now);
        }
        Ok(())
    }

    /// The name by which the content of a chunk is known, where it has one: chunks of one name hold the same bytes,
    /// on whatever disk they are.
    fn chunk_name(&self, _chunk: u64) -> Result<Option<[u8; 32]>, DiskError> {
        Ok(None)
    }

    /// The content of a chunk that has a name, [`packed`](crate::packed), where it is at hand so. It may be shorter
    /// than the chunk: zeros follow.
    fn packed_chunk(&self, _chunk: u64) -> Result<Option<Vec<u8>>, DiskError> {
        Ok(None)
    }

    /// Whether the bytes of a chunk have a BLAKE3 digest, where that is told by the chunk's name, without a look at the
    /// bytes. A *yes* holds; a *no* may be mistaken of a chunk whose end is zeros that are not kept with it.
    fn has_digest(&self, _chunk: u64, _digest: &[u8; 32]) -> Result<Option<bool>, DiskError> {
        Ok(None)
    }

    /// Reads as [`Disk::read_at`], for somebody who holds each chunk against its name before anything rests on it
    /// ([`Disk::has_digest`]): a disk that would do so itself may leave it out.
    fn read_unproven(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        self.read_at(offset, buf)
    }

    /// Reads `len` bytes from `offset` into a new buffer. For small structures only.
    fn read_vec(&self, offset: u64, len: usize) -> Result<Vec<u8>, DiskError> {
        check_range(self.len(), offset, len as u64)?;
        let mut buf = vec![0; len];
        self.read_at(offset, &mut buf)?;
        Ok(buf)
    }
}

/// Zeros to give to whoever asks for them, without making them first.
pub(crate) static ZEROS: [u8; 1 << 16] = [0; 1 << 16];

/// Refuses a range that does not lie inside a disk of `disk_len` bytes.
pub(crate) fn check_range(disk_len: u64, offset: u64, len: u64) -> Result<(), DiskError> {
    match offset.checked_add(len) {
        Some(end) if end <= disk_len => Ok(()),
        _ => Err(DiskError::OutOfRange {
            offset,
            len,
            disk_len,
        }),
    }
}

/// A shared disk reads like the disk itself and refuses writes.
impl<T: Disk + ?Sized> Disk for &T {
    fn len(&self) -> u64 {
        (**self).len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        (**self).read_at(offset, buf)
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn chunk_name(&self, chunk: u64) -> Result<Option<[u8; 32]>, DiskError> {
        (**self).chunk_name(chunk)
    }

    fn packed_chunk(&self, chunk: u64) -> Result<Option<Vec<u8>>, DiskError> {
        (**self).packed_chunk(chunk)
    }

    fn has_digest(&self, chunk: u64, digest: &[u8; 32]) -> Result<Option<bool>, DiskError> {
        (**self).has_digest(chunk, digest)
    }

    fn read_unproven(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        (**self).read_unproven(offset, buf)
    }
}

/// A counted disk reads like the disk itself and refuses writes.
impl<T: Disk + ?Sized> Disk for std::sync::Arc<T> {
    fn len(&self) -> u64 {
        (**self).len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        (**self).read_at(offset, buf)
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn chunk_name(&self, chunk: u64) -> Result<Option<[u8; 32]>, DiskError> {
        (**self).chunk_name(chunk)
    }

    fn packed_chunk(&self, chunk: u64) -> Result<Option<Vec<u8>>, DiskError> {
        (**self).packed_chunk(chunk)
    }

    fn has_digest(&self, chunk: u64, digest: &[u8; 32]) -> Result<Option<bool>, DiskError> {
        (**self).has_digest(chunk, digest)
    }

    fn read_unproven(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        (**self).read_unproven(offset, buf)
    }
}

/// A disk in memory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MemoryDisk(Vec<u8>);

impl MemoryDisk {
    /// A disk of `len` zero bytes.
    pub fn new(len: usize) -> Self {
        Self(vec![0; len])
    }

    /// The bytes it holds.
    pub fn bytes(&self) -> &[u8] {
        &self.0
    }
}

impl From<Vec<u8>> for MemoryDisk {
    fn from(bytes: Vec<u8>) -> Self {
        Self(bytes)
    }
}

impl Disk for MemoryDisk {
    fn len(&self) -> u64 {
        self.0.len() as u64
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let start = offset as usize;
        buf.copy_from_slice(&self.0[start..start.saturating_add(buf.len())]);
        Ok(())
    }

    fn write_at(&mut self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        check_range(self.len(), offset, data.len() as u64)?;
        let start = offset as usize;
        self.0[start..start.saturating_add(data.len())].copy_from_slice(data);
        Ok(())
    }
}

/// A disk in a regular file.
#[derive(Debug)]
pub struct FileDisk {
    file: File,
    len: u64,
    writable: bool,
}

impl FileDisk {
    /// Opens an existing file for reading only.
    pub fn open(path: &Path) -> Result<Self, DiskError> {
        let file = File::open(path)?;
        let len = file.metadata()?.len();
        Ok(Self {
            file,
            len,
            writable: false,
        })
    }

    /// Opens an existing file for reading and writing.
    pub fn open_writable(path: &Path) -> Result<Self, DiskError> {
        let file = File::options().read(true).write(true).open(path)?;
        let len = file.metadata()?.len();
        Ok(Self {
            file,
            len,
            writable: true,
        })
    }

    /// Makes a new sparse file of `len` bytes; an existing file is refused.
    pub fn create(path: &Path, len: u64) -> Result<Self, DiskError> {
        let file = File::options()
            .read(true)
            .write(true)
            .create_new(true)
            .open(path)?;
        file.set_len(len)?;
        Ok(Self {
            file,
            len,
            writable: true,
        })
    }
}

impl Disk for FileDisk {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        check_range(self.len, offset, buf.len() as u64)?;
        Ok(self.file.read_exact_at(buf, offset)?)
    }

    fn write_at(&mut self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        if !self.writable {
            return Err(DiskError::ReadOnly);
        }
        check_range(self.len, offset, data.len() as u64)?;
        Ok(self.file.write_all_at(data, offset)?)
    }
}

/// A part of a disk, such as one partition, as a disk of its own.
#[derive(Debug)]
pub struct Window<D> {
    disk: D,
    start: u64,
    len: u64,
}

impl<D: Disk> Window<D> {
    /// The `len` bytes of `disk` that begin at `start`.
    pub fn new(disk: D, start: u64, len: u64) -> Result<Self, DiskError> {
        check_range(disk.len(), start, len)?;
        Ok(Self { disk, start, len })
    }
}

impl<D: Disk> Disk for Window<D> {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        check_range(self.len, offset, buf.len() as u64)?;
        self.disk.read_at(self.start.saturating_add(offset), buf)
    }

    fn write_at(&mut self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        check_range(self.len, offset, data.len() as u64)?;
        self.disk.write_at(self.start.saturating_add(offset), data)
    }

    fn zero_at(&mut self, offset: u64, len: u64) -> Result<(), DiskError> {
        check_range(self.len, offset, len)?;
        self.disk.zero_at(self.start.saturating_add(offset), len)
    }

    fn copy_within(&mut self, from: u64, to: u64, len: u64) -> Result<(), DiskError> {
        check_range(self.len, from, len)?;
        check_range(self.len, to, len)?;
        let start = self.start;
        self.disk
            .copy_within(start.saturating_add(from), start.saturating_add(to), len)
    }
}

impl<D: Disk + ?Sized> Disk for &mut D {
    fn len(&self) -> u64 {
        (**self).len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        (**self).read_at(offset, buf)
    }

    fn write_at(&mut self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        (**self).write_at(offset, data)
    }

    fn zero_at(&mut self, offset: u64, len: u64) -> Result<(), DiskError> {
        (**self).zero_at(offset, len)
    }

    fn copy_within(&mut self, from: u64, to: u64, len: u64) -> Result<(), DiskError> {
        (**self).copy_within(from, to, len)
    }
}
