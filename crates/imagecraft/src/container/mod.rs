//! What a file is, told by its content and never by its ending, and the way to the raw bytes of
//! the disk image in it.
//!
//! [`Source::open`] looks at the beginning of a file (of a zip archive: at its directory and the
//! beginning of each member) and finds the one disk image; [`Source::unpack`] gives its bytes in
//! order. Names inside archives are only shown, never used as paths.

mod published;
mod unpack;
mod zip;

use std::io::{self, Read, Seek, SeekFrom};

use serde::{Deserialize, Serialize};

use crate::{fs, table};

pub use published::{Published, PublishedError};
pub use unpack::{Limits, Unpacker};
pub use zip::Member;

/// Number of raw bytes from the start of an image that are enough to know it by.
pub const PROBE_LEN: usize = 128 * 1024;
/// How often an image may be packed, one packing in another.
const MOST_LAYERS: usize = 3;

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
    /// The bzip2 format, one stream or more.
    Bzip2,
    /// RFC 8878, one frame or more.
    Zstd,
    /// A zip archive (ISO/IEC 21320-1 and its 64-bit form), stored or deflated.
    Zip,
}

impl Packing {
    /// The word for people.
    pub fn name(self) -> &'static str {
        match self {
            Self::Plain => "plain",
            Self::Gzip => "gzip",
            Self::Xz => "xz",
            Self::Bzip2 => "bzip2",
            Self::Zstd => "zstd",
            Self::Zip => "zip",
        }
    }

    /// Tells the packing from the first bytes of a file.
    ///
    /// # Errors
    /// A known kind of file that is no image and cannot be opened is refused by name.
    pub fn of(head: &[u8]) -> Result<Self, ContainerError> {
        const OTHERS: [(&[u8], &str); 14] = [
            (b"7z\xbc\xaf\x27\x1c", "7z archive"),
            (b"Rar!", "rar archive"),
            (b"%PDF", "PDF document"),
            (b"\x89PNG", "picture"),
            (b"\x7fELF", "program"),
            (b"!<arch>", "package or library archive"),
            (b"<!DOCTYPE", "web page"),
            (b"<html", "web page"),
            (b"<!doctype", "web page"),
            (b"<HTML", "web page"),
            (b"LZIP", "lzip file"),
            (b"\x04\x22\x4d\x18", "lz4 file"),
            (b"\x1f\x9d", "file packed by compress"),
            (b"QFI\xfb", "disk of a virtual machine in a sparse format"),
        ];
        if head.starts_with(&[0x1f, 0x8b, 0x08]) {
            return Ok(Self::Gzip);
        }
        if head.starts_with(b"\xfd7zXZ\0") {
            return Ok(Self::Xz);
        }
        // `BZh`, a level, and the first of the two block marks; or the mark of an empty file.
        if head.starts_with(b"BZh") && matches!(head.get(4), Some(0x31 | 0x17)) {
            return Ok(Self::Bzip2);
        }
        let skippable = matches!(head.get(..4), Some([0x50..=0x5f, 0x2a, 0x4d, 0x18]));
        if head.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]) || skippable {
            return Ok(Self::Zstd);
        }
        if head.starts_with(b"PK\x03\x04") || head.starts_with(b"PK\x05\x06") {
            return Ok(Self::Zip);
        }
        for (magic, what) in OTHERS {
            if head.starts_with(magic) {
                return Err(ContainerError::NotHandled { what });
            }
        }
        // The older form of xz has no name of its own in front, but its usual settings and a length.
        let lzma = head.starts_with(&[0x5d, 0, 0]) && matches!(head.get(12), Some(0 | 0xff));
        if lzma && !looks_like_a_disk(head) {
            return Err(ContainerError::NotHandled { what: "lzma file" });
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
    #[error("it is a {what}; {}", advice(what))]
    NotHandled {
        /// The kind, with no article.
        what: &'static str,
    },
    /// The bytes are of no kind that is known.
    #[error(
        "this is no disk image: it begins neither with a partition table nor with a file system. Give the image of a whole card"
    )]
    NoImage,
    /// An archive without a disk image.
    #[error("there is no disk image in the archive; it holds {}", members(.0))]
    NoneInside(Vec<Member>),
    /// An archive with several disk images, none of them named.
    #[error("the archive holds several disk images, name the one to take: {}", members(.0))]
    SeveralInside(Vec<Member>),
    /// The named member is not there or is no image.
    #[error(
        "the archive holds no disk image named {wanted:?}; it holds {}",
        members(held)
    )]
    NotInside {
        /// What was asked for.
        wanted: String,
        /// What is there.
        held: Vec<Member>,
    },
    /// The named member is there, but is no image.
    #[error("{wanted:?} in the archive is no disk image: {why}")]
    NoImageInside {
        /// What was asked for.
        wanted: String,
        /// Why.
        why: &'static str,
    },
    /// A member was named, but the file is no archive.
    #[error("{wanted:?} was asked for, but the file is no archive with several files in it")]
    NoArchive {
        /// What was asked for.
        wanted: String,
    },
    /// A zip archive that cannot be used.
    #[error("the zip archive cannot be used: {0}")]
    Zip(String),
    /// One packing in another, too often.
    #[error(
        "the image is packed more than {MOST_LAYERS} times, one packing in another; unpack it first"
    )]
    TooDeep,
    /// The packed bytes stop before the image is whole.
    #[error(
        "the {packing} data end early, after {packed} packed and {raw} raw bytes; fetch the file again"
    )]
    Truncated {
        /// How it is packed.
        packing: String,
        /// Packed bytes read.
        packed: u64,
        /// Raw bytes that came out.
        raw: u64,
    },
    /// The packed bytes are not valid.
    #[error(
        "the {packing} data are damaged near packed byte {packed} ({detail}); fetch the file again"
    )]
    Damaged {
        /// How it is packed.
        packing: String,
        /// Packed bytes read.
        packed: u64,
        /// Raw bytes that came out.
        raw: u64,
        /// What the unpacker said.
        detail: String,
    },
    /// More raw bytes than are allowed.
    #[error(
        "the image is larger than {most} bytes, the most that is taken here; the limit is the setting most_raw_gb"
    )]
    TooLarge {
        /// The limit in bytes.
        most: u64,
    },
    /// A file made to swell.
    #[error(
        "{packed} packed bytes have become {raw} raw ones, more than {most} for each; no real image does that, and it was stopped"
    )]
    Swells {
        /// Packed bytes read.
        packed: u64,
        /// Raw bytes that came out.
        raw: u64,
        /// The limit, raw bytes for each packed one.
        most: u64,
    },
    /// The file itself could not be read.
    #[error("the file cannot be read: {0}")]
    Io(#[from] io::Error),
}

/// What to do with a file that is no image.
fn advice(what: &str) -> &'static str {
    match what {
        "web page" => {
            "the publisher gave a page in place of the file, as where a login or a click is wanted. Fetch the image itself"
        }
        "PDF document" | "picture" | "program" => {
            "that is no disk image; give the image of a whole card"
        }
        _ => "unpack it and add the disk image that is inside",
    }
}

/// The first names in an archive, and how many more there are.
fn members(held: &[Member]) -> String {
    const SHOWN: usize = 12;
    if held.is_empty() {
        return "nothing".into();
    }
    let mut text = held
        .iter()
        .take(SHOWN)
        .map(|member| member.name.as_str())
        .collect::<Vec<_>>()
        .join(", ");
    if held.len() > SHOWN {
        text.push_str(&format!(" and {} more", held.len().saturating_sub(SHOWN)));
    }
    text
}

/// A file in which a disk image was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// The packings around the image, outermost first; empty for a plain image.
    layers: Vec<Packing>,
    /// The member of the archive that is the image.
    member: Option<Member>,
    /// Checksum files that lie beside it in the archive: name and text.
    checksums: Vec<(String, String)>,
    /// Length of the file in bytes.
    len: u64,
}

impl Source {
    /// Finds the disk image in a file. `wanted` names a member of an archive, by its full name
    /// or by the last part of it.
    pub fn open<F: Read + Seek>(
        file: &mut F,
        wanted: Option<&str>,
    ) -> Result<Self, ContainerError> {
        let len = file.seek(SeekFrom::End(0))?;
        file.rewind()?;
        let mut head = Vec::new();
        file.by_ref().take(512).read_to_end(&mut head)?;
        if Packing::of(&head)? == Packing::Zip {
            return zip::find(file, len, wanted);
        }
        if let Some(wanted) = wanted {
            return Err(ContainerError::NoArchive {
                wanted: wanted.into(),
            });
        }
        let mut source = Self {
            layers: Vec::new(),
            member: None,
            checksums: Vec::new(),
            len,
        };
        let head = source.peel(file)?;
        if looks_like_a_disk(&head) {
            Ok(source)
        } else {
            Err(ContainerError::NoImage)
        }
    }

    /// Adds the layers that are found one in another, and gives the first raw bytes.
    fn peel<F: Read + Seek>(&mut self, file: &mut F) -> Result<Vec<u8>, ContainerError> {
        loop {
            let mut head = vec![0; PROBE_LEN];
            let filled = self.unpack(&mut *file, Limits::NONE)?.fill(&mut head)?;
            head.truncate(filled);
            match Packing::of(&head)? {
                Packing::Plain => return Ok(head),
                Packing::Zip => {
                    return Err(ContainerError::NotHandled {
                        what: "zip archive inside another packing",
                    });
                }
                packing if self.layers.len() < MOST_LAYERS => self.layers.push(packing),
                _ => return Err(ContainerError::TooDeep),
            }
        }
    }

    /// The raw bytes of the image, in order.
    pub fn unpack<'a, F: Read + Seek + 'a>(
        &self,
        mut file: F,
        limits: Limits,
    ) -> Result<Unpacker<'a>, ContainerError> {
        let packing = self.packing();
        match &self.member {
            None => {
                file.rewind()?;
                Ok(Unpacker::new(file, &self.layers, packing, limits))
            }
            Some(member) => {
                let inside = member.reader(file)?;
                Ok(Unpacker::new(inside, &self.layers[1..], packing, limits))
            }
        }
    }

    /// The packings around the image, for people: `xz`, `zip and gzip`, `plain`.
    pub fn packing(&self) -> String {
        if self.layers.is_empty() {
            return Packing::Plain.name().into();
        }
        let names: Vec<_> = self.layers.iter().map(|layer| layer.name()).collect();
        names.join(" and ")
    }

    /// Whether the file is the image itself.
    pub fn is_plain(&self) -> bool {
        self.layers.is_empty()
    }

    /// The member of the archive that is taken.
    pub fn member(&self) -> Option<&Member> {
        self.member.as_ref()
    }

    /// Checksum files that lie beside the image in its archive: name and text.
    pub fn checksums(&self) -> &[(String, String)] {
        &self.checksums
    }

    /// Whether reading the image reads the whole file from its first to its last byte.
    pub fn reads_whole_file(&self) -> bool {
        self.member.is_none()
    }

    /// Length of the raw image in bytes, where it is known without unpacking.
    pub fn raw_len(&self) -> Option<u64> {
        match (&self.member, self.layers.len()) {
            (None, 0) => Some(self.len),
            (Some(member), 1) => Some(member.raw_len),
            _ => None,
        }
    }

    /// Bytes that unpacking will read.
    pub fn packed_len(&self) -> u64 {
        self.member
            .as_ref()
            .map_or(self.len, |member| member.stored_len)
    }
}

/// Whether raw bytes can be the beginning of a disk: a partition table, or a file system from
/// byte 0 on.
pub fn looks_like_a_disk(head: &[u8]) -> bool {
    table::mbr::parse(head, crate::SECTOR).is_some()
        || table::gpt::is_announced(head)
        || fs::signature(head).is_some()
}
