//! Bytes that arrive in order, kept in a sparse file until it is known which of them matter.

use std::fs::File;
use std::os::unix::fs::FileExt;

use crate::disk::check_range;
use crate::{Disk, DiskError};

/// The part of a disk that has arrived so far.
///
/// A read behind it fails with [`DiskError::NotYet`], which says how much must have arrived for
/// the read to succeed. Zeros are not written, so that the file takes no more room than what is
/// not zero.
pub struct Spool {
    file: File,
    arrived: u64,
    written: u64,
    /// Length of the whole disk, as far as it is known.
    len: Option<u64>,
}

/// Length of a disk whose end is not known: larger than any.
const UNKNOWN: u64 = u64::MAX >> 1;
/// Zeros are looked for, and left out, in pieces of this many bytes.
const HOLE: usize = 4096;

impl Spool {
    /// An empty spool in `file`, which must be empty too.
    pub fn new(file: File, len: Option<u64>) -> Self {
        Self {
            file,
            arrived: 0,
            written: 0,
            len,
        }
    }

    /// Adds the next bytes.
    pub fn push(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        let zero = |piece: &[u8]| piece.iter().all(|byte| *byte == 0);
        let mut at = 0;
        while at < bytes.len() {
            let end = bytes.len().min(at.saturating_add(HOLE));
            if !zero(&bytes[at..end]) {
                // Pieces that follow each other go in one write.
                let mut last = end;
                while last < bytes.len()
                    && !zero(&bytes[last..bytes.len().min(last.saturating_add(HOLE))])
                {
                    last = bytes.len().min(last.saturating_add(HOLE));
                }
                self.file
                    .write_all_at(&bytes[at..last], self.arrived.saturating_add(at as u64))?;
                self.written = self.written.saturating_add(last.saturating_sub(at) as u64);
                at = last;
            } else {
                at = end;
            }
        }
        self.arrived = self.arrived.saturating_add(bytes.len() as u64);
        Ok(())
    }

    /// Bytes that have arrived.
    pub fn arrived(&self) -> u64 {
        self.arrived
    }

    /// Bytes that the file takes.
    pub fn written(&self) -> u64 {
        self.written
    }

    /// Says that no more will arrive.
    pub fn finish(&mut self) -> std::io::Result<()> {
        self.len = Some(self.arrived);
        self.file.set_len(self.arrived)
    }
}

impl Disk for Spool {
    fn len(&self) -> u64 {
        self.len.unwrap_or(UNKNOWN)
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let needed = offset.saturating_add(buf.len() as u64);
        if needed > self.arrived {
            return Err(DiskError::NotYet { needed });
        }
        let mut filled = 0;
        while filled < buf.len() {
            // Behind the last byte that was not zero the file ends early.
            match self
                .file
                .read_at(&mut buf[filled..], offset.saturating_add(filled as u64))?
            {
                0 => break,
                read => filled = filled.saturating_add(read),
            }
        }
        buf[filled..].fill(0);
        Ok(())
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_what_has_arrived_and_says_what_it_waits_for() {
        let mut spool = Spool::new(tempfile::tempfile().unwrap(), None);
        let mut bytes = vec![0; 100_000];
        bytes[50_000] = 7;
        spool.push(&bytes).unwrap();
        assert_eq!(spool.read_vec(0, 100_000).unwrap(), bytes);
        assert!(spool.written() <= 4096, "zeros are not written");
        let early = spool.read_vec(99_999, 2).unwrap_err();
        assert!(
            matches!(early, DiskError::NotYet { needed: 100_001 }),
            "{early}"
        );
        spool.push(&[9; 10]).unwrap();
        assert_eq!(spool.read_vec(99_999, 2).unwrap(), [0, 9]);
        spool.finish().unwrap();
        let outside = spool.read_vec(100_009, 2).unwrap_err();
        assert!(matches!(outside, DiskError::OutOfRange { .. }), "{outside}");
    }
}
