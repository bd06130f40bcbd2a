//! What a file is, told by its content, and its bytes unpacked.

use std::cell::Cell;
use std::io::{self, BufReader, Read};
use std::rc::Rc;

use flate2::bufread::MultiGzDecoder;
use liblzma::bufread::XzDecoder;
use liblzma::stream::{CONCATENATED, Stream};
use serde::{Deserialize, Serialize};

/// Number of bytes from the start of a file that [`Packing::of`] wants to see.
pub const PROBE_LEN: usize = 512;

/// Most memory that unpacking an xz file may take, in bytes. The format's largest preset needs
/// 65 MiB; more is asked for only by hostile files.
const XZ_MEMORY: u64 = 128 << 20;

/// How the image in a file is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Packing {
    /// The image itself.
    Plain,
    /// RFC 1952, one member or more.
    Gzip,
    /// The .xz format, one stream or more.
    Xz,
}

impl Packing {
    /// The word for people.
    pub fn name(self) -> &'static str {
        match self {
            Self::Plain => "plain",
            Self::Gzip => "gzip",
            Self::Xz => "xz",
        }
    }

    /// Tells the packing from the first bytes of a file.
    ///
    /// # Errors
    /// A known packing that cannot be opened is refused by name.
    pub fn of(head: &[u8]) -> Result<Self, ContainerError> {
        const OTHERS: [(&[u8], &str); 6] = [
            (b"PK\x03\x04", "zip archive"),
            (b"BZh", "bzip2 file"),
            (&[0x28, 0xb5, 0x2f, 0xfd], "zstd file"),
            (b"7z\xbc\xaf\x27\x1c", "7z archive"),
            (b"Rar!", "rar archive"),
            (b"%PDF", "PDF document"),
        ];
        if head.starts_with(&[0x1f, 0x8b, 0x08]) {
            return Ok(Self::Gzip);
        }
        if head.starts_with(b"\xfd7zXZ\0") {
            return Ok(Self::Xz);
        }
        for (magic, what) in OTHERS {
            if head.starts_with(magic) {
                return Err(ContainerError::NotHandled { what });
            }
        }
        if head.get(257..262) == Some(b"ustar") {
            return Err(ContainerError::NotHandled {
                what: "tar archive",
            });
        }
        Ok(Self::Plain)
    }
}

/// Why a file could not be opened as an image.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ContainerError {
    /// A kind of file that is told apart but not unpacked.
    #[error("it is a {what}; unpack it and add the disk image that is inside")]
    NotHandled {
        /// The kind, with no article.
        what: &'static str,
    },
    /// The packed bytes stop before the image is whole.
    #[error(
        "the {} data end early, after {packed} packed and {raw} raw bytes; fetch the file again",
        packing.name()
    )]
    Truncated {
        /// How it is packed.
        packing: Packing,
        /// Packed bytes read.
        packed: u64,
        /// Raw bytes that came out.
        raw: u64,
    },
    /// The packed bytes are not valid.
    #[error(
        "the {} data are damaged near packed byte {packed} ({detail}); fetch the file again",
        packing.name()
    )]
    Damaged {
        /// How it is packed.
        packing: Packing,
        /// Packed bytes read.
        packed: u64,
        /// Raw bytes that came out.
        raw: u64,
        /// What the unpacker said.
        detail: String,
    },
    /// The file itself could not be read.
    #[error("the file cannot be read: {0}")]
    Io(io::Error),
}

/// Counts what is read, and remembers a failure of the file apart from one of the packing.
struct Counted<R> {
    inner: R,
    count: Rc<Cell<u64>>,
    failed: Rc<Cell<bool>>,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buf).inspect_err(|e| {
            if e.kind() != io::ErrorKind::Interrupted {
                self.failed.set(true);
            }
        })?;
        self.count.set(self.count.get() + read as u64);
        Ok(read)
    }
}

/// The raw bytes of an image out of a packed file, read in order.
pub struct Unpacker<'a> {
    packing: Packing,
    raw: u64,
    packed: Rc<Cell<u64>>,
    failed: Rc<Cell<bool>>,
    bytes: Box<dyn Read + 'a>,
}

impl<'a> Unpacker<'a> {
    /// Unpacks `file`, read from its first byte.
    pub fn new(file: impl Read + 'a, packing: Packing) -> Self {
        let packed = Rc::new(Cell::new(0));
        let failed = Rc::new(Cell::new(false));
        let counted = Counted {
            inner: file,
            count: packed.clone(),
            failed: failed.clone(),
        };
        let buffered = BufReader::with_capacity(1 << 18, counted);
        let bytes: Box<dyn Read + 'a> = match packing {
            Packing::Plain => Box::new(buffered),
            Packing::Gzip => Box::new(MultiGzDecoder::new(buffered)),
            Packing::Xz => match Stream::new_stream_decoder(XZ_MEMORY, CONCATENATED) {
                Ok(stream) => Box::new(XzDecoder::new_stream(buffered, stream)),
                Err(e) => Box::new(FailingReader(e.to_string())),
            },
        };
        Self {
            packing,
            raw: 0,
            packed,
            failed,
            bytes,
        }
    }

    /// Packed bytes read so far.
    pub fn packed(&self) -> u64 {
        self.packed.get()
    }

    /// Raw bytes given out so far.
    pub fn raw(&self) -> u64 {
        self.raw
    }

    /// Fills `buf` as far as the image reaches; fewer bytes than asked for mean its end.
    pub fn fill(&mut self, buf: &mut [u8]) -> Result<usize, ContainerError> {
        let mut filled = 0;
        while filled < buf.len() {
            match self.bytes.read(&mut buf[filled..]) {
                Ok(0) => break,
                Ok(read) => {
                    filled += read;
                    self.raw += read as u64;
                }
                Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
                Err(e) => return Err(self.explain(e)),
            }
        }
        Ok(filled)
    }

    fn explain(&self, error: io::Error) -> ContainerError {
        let (packing, packed, raw) = (self.packing, self.packed.get(), self.raw);
        if self.failed.get() || packing == Packing::Plain {
            ContainerError::Io(error)
        } else if error.kind() == io::ErrorKind::UnexpectedEof {
            ContainerError::Truncated {
                packing,
                packed,
                raw,
            }
        } else {
            ContainerError::Damaged {
                packing,
                packed,
                raw,
                detail: error.to_string(),
            }
        }
    }
}

struct FailingReader(String);

impl Read for FailingReader {
    fn read(&mut self, _: &mut [u8]) -> io::Result<usize> {
        Err(io::Error::other(self.0.clone()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    fn sample() -> Vec<u8> {
        (0..300_000u32)
            .map(|i| (i.wrapping_mul(i) >> 7) as u8)
            .collect()
    }

    fn gz(bytes: &[u8]) -> Vec<u8> {
        let mut enc = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        enc.write_all(bytes).unwrap();
        enc.finish().unwrap()
    }

    fn xz(bytes: &[u8]) -> Vec<u8> {
        let mut enc = liblzma::write::XzEncoder::new(Vec::new(), 1);
        enc.write_all(bytes).unwrap();
        enc.finish().unwrap()
    }

    fn unpack(packed: &[u8]) -> Result<Vec<u8>, ContainerError> {
        let packing = Packing::of(packed)?;
        let mut unpacker = Unpacker::new(packed, packing);
        let mut out = vec![0; 1 << 20];
        let len = unpacker.fill(&mut out)?;
        out.truncate(len);
        Ok(out)
    }

    #[test]
    fn each_packing_gives_the_raw_bytes_also_in_several_parts() {
        let raw = sample();
        assert_eq!(unpack(&raw).unwrap(), raw);
        for pack in [gz, xz] {
            assert_eq!(unpack(&pack(&raw)).unwrap(), raw);
            let (one, two) = raw.split_at(70_001);
            let parts = [pack(one), pack(two)].concat();
            assert_eq!(unpack(&parts).unwrap(), raw);
        }
    }

    #[test]
    fn a_truncated_file_is_named_as_such_with_the_position() {
        for pack in [gz, xz] {
            let mut packed = pack(&sample());
            packed.truncate(packed.len() / 2);
            let error = unpack(&packed).unwrap_err();
            assert!(
                matches!(error, ContainerError::Truncated { packed: p, .. } if p == packed.len() as u64),
                "{error}"
            );
        }
    }

    #[test]
    fn a_damaged_file_is_named_as_such() {
        for pack in [gz, xz] {
            let mut packed = pack(&sample());
            let middle = packed.len() / 2;
            packed[middle..middle + 40].fill(0x55);
            let error = unpack(&packed).unwrap_err();
            assert!(matches!(error, ContainerError::Damaged { .. }), "{error}");
        }
    }

    #[test]
    fn an_archive_is_refused_by_name() {
        let error = unpack(b"PK\x03\x04 and so on").unwrap_err();
        assert!(error.to_string().contains("zip archive"), "{error}");
    }
}
