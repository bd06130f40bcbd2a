//! The raw bytes of an image out of a packed file, read in order, within limits.

use std::cell::Cell;
use std::io::{self, BufRead, BufReader, Read};
use std::rc::Rc;

use bzip2::bufread::MultiBzDecoder;
use flate2::bufread::GzDecoder;
use liblzma::bufread::XzDecoder;
use liblzma::stream::{CONCATENATED, Stream};

use super::{ContainerError, Packing};

/// Most memory that unpacking an xz file may take, in bytes. The format's largest preset needs
/// 65 MiB; more is asked for only by hostile files.
const XZ_MEMORY: u64 = 128 << 20;
/// Largest window of a zstd frame, as a power of two: 128 MiB. The format's strongest level uses
/// as much.
const ZSTD_WINDOW_LOG: u32 = 27;
/// Raw bytes from which on swelling is looked at: small files may swell as they like.
const SWELL_FROM: u64 = 1 << 30;

/// What unpacking may yield before it is stopped.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Most raw bytes.
    pub raw: u64,
    /// Most raw bytes for each packed one, looked at from 1 GiB on. An empty image of many
    /// gigabytes packs at some thousands to one.
    pub swell: u64,
}

impl Limits {
    /// No limit, for looking at the beginning of a file.
    pub const NONE: Self = Self {
        raw: u64::MAX,
        swell: u64::MAX,
    };
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            raw: 512_000_000_000,
            swell: 50_000,
        }
    }
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
            let of_the_packing = matches!(
                e.kind(),
                io::ErrorKind::Interrupted
                    | io::ErrorKind::InvalidData
                    | io::ErrorKind::UnexpectedEof
            );
            if !of_the_packing {
                self.failed.set(true);
            }
        })?;
        self.count.set(self.count.get().saturating_add(read as u64));
        Ok(read)
    }
}

/// The raw bytes of an image out of a packed file.
pub struct Unpacker<'a> {
    packing: String,
    limits: Limits,
    raw: u64,
    packed: Rc<Cell<u64>>,
    failed: Rc<Cell<bool>>,
    padding: Rc<Cell<u64>>,
    bytes: Box<dyn Read + 'a>,
}

impl<'a> Unpacker<'a> {
    /// Peels `layers` off `file`, outermost first. `packing` is their name in messages.
    pub(super) fn new(
        file: impl Read + 'a,
        layers: &[Packing],
        packing: String,
        limits: Limits,
    ) -> Self {
        let packed = Rc::new(Cell::new(0));
        let failed = Rc::new(Cell::new(false));
        let padding = Rc::new(Cell::new(0));
        let mut bytes: Box<dyn Read + 'a> = Box::new(Counted {
            inner: file,
            count: packed.clone(),
            failed: failed.clone(),
        });
        for layer in layers {
            bytes = peel(bytes, *layer, padding.clone())
                .unwrap_or_else(|e| Box::new(Failing(e.to_string())));
        }
        Self {
            packing,
            limits,
            raw: 0,
            packed,
            failed,
            padding,
            bytes,
        }
    }

    /// Packed bytes read so far.
    pub fn packed(&self) -> u64 {
        self.packed.get()
    }

    /// Zeros behind the packed data that were skipped so far.
    pub fn padding(&self) -> u64 {
        self.padding.get()
    }

    /// Raw bytes given out so far.
    pub fn raw(&self) -> u64 {
        self.raw
    }

    /// Fills `buf` as far as the image reaches; fewer bytes than asked for mean its end.
    ///
    /// # Errors
    /// Truncated or damaged packed bytes, with the position; a limit that is passed.
    pub fn fill(&mut self, buf: &mut [u8]) -> Result<usize, ContainerError> {
        let mut filled = 0;
        while filled < buf.len() {
            match self.bytes.read(&mut buf[filled..]) {
                Ok(0) => break,
                Ok(read) => {
                    filled = filled.saturating_add(read);
                    self.raw = self.raw.saturating_add(read as u64);
                    self.keep_within_limits()?;
                }
                Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
                Err(e) => return Err(self.explain(e)),
            }
        }
        Ok(filled)
    }

    fn keep_within_limits(&self) -> Result<(), ContainerError> {
        if self.raw > self.limits.raw {
            return Err(ContainerError::TooLarge {
                most: self.limits.raw,
            });
        }
        let packed = self.packed.get().max(1);
        if self.raw > SWELL_FROM && self.raw > packed.saturating_mul(self.limits.swell) {
            return Err(ContainerError::Swells {
                packed,
                raw: self.raw,
                most: self.limits.swell,
            });
        }
        Ok(())
    }

    fn explain(&self, error: io::Error) -> ContainerError {
        let (packing, packed, raw) = (self.packing.clone(), self.packed.get(), self.raw);
        if self.failed.get() {
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

/// The members of a gzip file, one behind the other; zeros behind the last one, as tapes and block
/// devices leave them, are skipped and counted.
struct Members<R> {
    member: Option<GzDecoder<R>>,
    padding: Rc<Cell<u64>>,
}

impl<R: BufRead> Read for Members<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        while let Some(member) = &mut self.member {
            let read = member.read(buf)?;
            if read > 0 || buf.is_empty() {
                return Ok(read);
            }
            let Some(mut rest) = self.member.take().map(GzDecoder::into_inner) else {
                break;
            };
            loop {
                let held = rest.fill_buf()?;
                let zeros = held.iter().take_while(|byte| **byte == 0).count();
                let ended = held.is_empty();
                let next = zeros < held.len();
                rest.consume(zeros);
                self.padding
                    .set(self.padding.get().saturating_add(zeros as u64));
                if ended {
                    return Ok(0);
                }
                if next {
                    break;
                }
            }
            self.member = Some(GzDecoder::new(rest));
        }
        Ok(0)
    }
}

fn peel<'a>(
    bytes: Box<dyn Read + 'a>,
    layer: Packing,
    padding: Rc<Cell<u64>>,
) -> io::Result<Box<dyn Read + 'a>> {
    let buffered = BufReader::with_capacity(1 << 18, bytes);
    Ok(match layer {
        Packing::Plain | Packing::Zip => Box::new(buffered),
        Packing::Gzip => Box::new(Members {
            member: Some(GzDecoder::new(buffered)),
            padding,
        }),
        Packing::Bzip2 => Box::new(MultiBzDecoder::new(buffered)),
        Packing::Xz => {
            let stream = Stream::new_stream_decoder(XZ_MEMORY, CONCATENATED)?;
            Box::new(XzDecoder::new_stream(buffered, stream))
        }
        Packing::Zstd => {
            let mut decoder = zstd::stream::read::Decoder::with_buffer(buffered)?;
            decoder.window_log_max(ZSTD_WINDOW_LOG)?;
            Box::new(decoder)
        }
    })
}

struct Failing(String);

impl Read for Failing {
    fn read(&mut self, _: &mut [u8]) -> io::Result<usize> {
        Err(io::Error::new(io::ErrorKind::InvalidData, self.0.clone()))
    }
}
