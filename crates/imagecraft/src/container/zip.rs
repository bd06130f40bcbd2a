//! The disk image among the files of a zip archive.

use std::io::{self, Read, Seek, SeekFrom};

use flate2::read::DeflateDecoder;
use serde::{Deserialize, Serialize};
use zip::{CompressionMethod, ZipArchive};

use super::{ContainerError, Limits, PROBE_LEN, Packing, Source, Unpacker, looks_like_a_disk};
use crate::number::{le16, le32, le64};

/// Largest directory of an archive that is read, in bytes.
const MOST_DIRECTORY: u64 = 16 << 20;
/// Most files in an archive, and most of them that are looked into.
const MOST_ENTRIES: u64 = 20_000;
const MOST_LOOKED_INTO: usize = 100;
/// Longest checksum file that is read, and most of them.
const MOST_CHECKSUMS: (u64, usize) = (64 << 10, 4);
/// Smallest member that can hold an image, packed or not, in bytes.
const LEAST_IMAGE: u64 = 64;

/// A file in an archive.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Member {
    /// Its name, with folders; only ever shown.
    pub name: String,
    /// Length in bytes when unpacked from the archive.
    pub raw_len: u64,
    /// Length in bytes in the archive.
    pub stored_len: u64,
    /// First byte in the archive.
    at: u64,
    deflated: bool,
    crc: u32,
}

impl Member {
    /// The bytes of the member, checked against its length and checksum.
    pub(super) fn reader<'a, F: Read + Seek + 'a>(
        &self,
        mut file: F,
    ) -> Result<Box<dyn Read + 'a>, ContainerError> {
        file.seek(SeekFrom::Start(self.at))?;
        let stored = file.take(self.stored_len);
        let bytes: Box<dyn Read + 'a> = if self.deflated {
            Box::new(DeflateDecoder::new(io::BufReader::with_capacity(
                1 << 18,
                stored,
            )))
        } else {
            Box::new(stored)
        };
        Ok(Box::new(Checked {
            bytes,
            left: self.raw_len,
            hasher: crc32fast::Hasher::new(),
            crc: self.crc,
        }))
    }
}

/// Compares length and CRC-32 with what the directory says.
struct Checked<R> {
    bytes: R,
    left: u64,
    hasher: crc32fast::Hasher,
    crc: u32,
}

impl<R: Read> Read for Checked<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let most = buf
            .len()
            .min((self.left.min(1 << 30) as usize).saturating_add(1));
        let read = self.bytes.read(&mut buf[..most])?;
        if read == 0 && !buf.is_empty() {
            if self.left > 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            if self.hasher.clone().finalize() != self.crc {
                return Err(invalid("the checksum in the archive does not match"));
            }
            return Ok(0);
        }
        self.left = self
            .left
            .checked_sub(read as u64)
            .ok_or_else(|| invalid("there are more bytes than the archive says"))?;
        self.hasher.update(&buf[..read]);
        Ok(read)
    }
}

fn invalid(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what)
}

/// Refuses an archive whose directory would take too much memory, before it is read. The end
/// record lies in the last 64 KiB.
fn check_directory<F: Read + Seek>(file: &mut F, len: u64) -> Result<(), ContainerError> {
    let from = len.saturating_sub(0xffff + 22 + 20);
    file.seek(SeekFrom::Start(from))?;
    let mut tail = Vec::new();
    file.by_ref()
        .take(len.saturating_sub(from))
        .read_to_end(&mut tail)?;
    let end = tail
        .windows(4)
        .rposition(|window| window == b"PK\x05\x06")
        .ok_or_else(|| {
            ContainerError::Zip(format!(
                "its directory, which stands at the end, is missing: the file was cut off after {len} bytes; fetch it again"
            ))
        })?;
    let mut size = u64::from(le32(&tail, end.saturating_add(12)).unwrap_or(u32::MAX));
    let mut entries = u64::from(le16(&tail, end.saturating_add(10)).unwrap_or(u16::MAX));
    let locator = end.checked_sub(20).and_then(|at| tail.get(at..end));
    if let Some(locator) = locator.filter(|raw| raw.starts_with(b"PK\x06\x07"))
        && let Some(at) = le64(locator, 8)
        && at < len
    {
        file.seek(SeekFrom::Start(at))?;
        let mut record = Vec::new();
        file.by_ref().take(56).read_to_end(&mut record)?;
        size = le64(&record, 40).unwrap_or(u64::MAX);
        entries = le64(&record, 32).unwrap_or(u64::MAX);
    }
    if size > MOST_DIRECTORY || entries > MOST_ENTRIES {
        return Err(ContainerError::Zip(format!(
            "its directory of {entries} entries is larger than any archive of an image needs"
        )));
    }
    Ok(())
}

/// Finds the disk image in an archive.
pub(super) fn find<F: Read + Seek>(
    file: &mut F,
    len: u64,
    wanted: Option<&str>,
) -> Result<Source, ContainerError> {
    check_directory(file, len)?;
    let damaged =
        |e: zip::result::ZipError| ContainerError::Zip(format!("{e}; fetch the file again"));
    let mut archive = ZipArchive::new(&mut *file).map_err(damaged)?;
    let mut held = Vec::new();
    let mut candidates = Vec::new();
    let mut locked = None;
    for index in 0..archive.len() {
        let entry = archive.by_index_raw(index).map_err(damaged)?;
        if entry.is_dir() {
            continue;
        }
        let method = entry.compression();
        let member = Member {
            name: entry.name().map_or_else(
                |_| format!("file {}", index.saturating_add(1)),
                |name| name.into_owned(),
            ),
            raw_len: entry.size(),
            stored_len: entry.compressed_size(),
            at: entry.data_start().unwrap_or(0),
            deflated: method == CompressionMethod::Deflated,
            crc: entry.crc32(),
        };
        held.push(member.clone());
        if entry.encrypted() {
            locked = Some(ContainerError::Zip(format!(
                "{} is locked with a password; unpack it first",
                member.name
            )));
        } else if !matches!(
            method,
            CompressionMethod::Stored | CompressionMethod::Deflated
        ) {
            locked = Some(ContainerError::Zip(format!(
                "{} is packed by a method that is not read here ({method}); unpack it first",
                member.name
            )));
        } else if member.raw_len >= LEAST_IMAGE || wanted.is_some() {
            candidates.push(member);
        }
    }
    drop(archive);
    if held.len() as u64 > MOST_ENTRIES {
        return Err(ContainerError::Zip(format!(
            "it holds {} files, more than any archive of an image",
            held.len()
        )));
    }
    let checksums = checksums_in(file, &held);
    let mut images = Vec::new();
    let mut why = None;
    // The image is among the largest, whatever else there is.
    candidates.sort_by_key(|member| std::cmp::Reverse(member.raw_len));
    if wanted.is_none() {
        candidates.truncate(MOST_LOOKED_INTO);
    }
    for member in candidates {
        let named = wanted.is_none_or(|wanted| {
            member.name == wanted || member.name.rsplit('/').next() == Some(wanted)
        });
        if !named {
            continue;
        }
        match image_in(file, &member)? {
            Ok(layers) => images.push(Source {
                layers,
                member: Some(member),
                checksums: checksums.clone(),
                len,
            }),
            Err(reason) => why = Some(reason),
        }
    }
    match (images.len(), wanted) {
        (1, _) => Ok(images.remove(0)),
        (0, _) if locked.is_some() => Err(locked.unwrap_or(ContainerError::NoImage)),
        (0, Some(wanted)) if why.is_some() => Err(ContainerError::NoImageInside {
            wanted: wanted.into(),
            why: why.unwrap_or_default(),
        }),
        (0, Some(wanted)) => Err(ContainerError::NotInside {
            wanted: wanted.into(),
            held,
        }),
        (0, None) => Err(ContainerError::NoneInside(held)),
        _ => Err(ContainerError::SeveralInside(
            images
                .into_iter()
                .filter_map(|image| image.member)
                .collect(),
        )),
    }
}

/// The texts of what looks like checksum files.
fn checksums_in<F: Read + Seek>(file: &mut F, members: &[Member]) -> Vec<(String, String)> {
    let (most, count) = MOST_CHECKSUMS;
    let looks = |member: &&Member| {
        member.name.to_ascii_lowercase().contains("sha256") && member.raw_len <= most
    };
    let mut found = Vec::new();
    for member in members.iter().filter(looks).take(count) {
        let mut text = String::new();
        let read = member.reader(&mut *file).map(|reader| reader.take(most));
        // One that cannot be read says nothing about the image.
        if read.is_ok_and(|mut reader| reader.read_to_string(&mut text).is_ok()) {
            found.push((member.name.clone(), text));
        }
    }
    found
}

/// The layers around the image in a member, or why there is none in it. A member whose beginning
/// is damaged is an image only if nothing else is, so it counts as none here.
fn image_in<F: Read + Seek>(
    file: &mut F,
    member: &Member,
) -> Result<Result<Vec<Packing>, &'static str>, ContainerError> {
    let mut layers = vec![Packing::Zip];
    for _ in 0..super::MOST_LAYERS {
        let mut head = vec![0; PROBE_LEN];
        let inside = member.reader(&mut *file)?;
        let mut unpacker = Unpacker::new(inside, &layers[1..], String::new(), Limits::NONE);
        let mut damaged = false;
        let filled = match unpacker.fill(&mut head) {
            Ok(filled) => filled,
            Err(ContainerError::Io(e)) => return Err(ContainerError::Io(e)),
            // What came out before the damage may still show that it was an image.
            Err(_) => {
                damaged = true;
                unpacker.raw().min(PROBE_LEN as u64) as usize
            }
        };
        drop(unpacker);
        head.truncate(filled);
        match Packing::of(&head) {
            Ok(Packing::Plain) if looks_like_a_disk(&head) => return Ok(Ok(layers)),
            Ok(Packing::Plain) if damaged => return Ok(Err("its beginning is damaged")),
            Ok(Packing::Plain) => {
                return Ok(Err(
                    "it begins neither with a partition table nor with a file system",
                ));
            }
            Ok(Packing::Zip) => return Ok(Err("it is an archive in the archive")),
            Err(_) => return Ok(Err("it is a file of another kind")),
            Ok(packing) => layers.push(packing),
        }
    }
    Ok(Err("it is packed too often, one packing in another"))
}
