//! A content taken out in open formats: the raw image or the files of a partition, packed or not.

use std::collections::HashMap;
use std::io::{self, Write};

use imagecraft::Disk;
use imagecraft::fs::{FileError, Files, Node, NodeKind, walk};

use super::Content;
use crate::refusal::Refusal;

/// Bytes that are given on at once.
const PIECE: usize = 1 << 20;
/// How hard xz works: enough for images, without hours.
const XZ_LEVEL: u32 = 3;

/// How something is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Packing {
    /// As it is.
    None,
    /// gzip (RFC 1952).
    Gz,
    /// xz.
    Xz,
    /// Zstandard (RFC 8878), with a checksum.
    Zst,
    /// A zip archive with one file.
    Zip,
}

impl Packing {
    /// By its word.
    ///
    /// # Errors
    /// Of a word that is none.
    pub fn named(word: Option<&str>) -> Result<Self, Refusal> {
        Ok(match word {
            None | Some("") => Self::None,
            Some("gz") => Self::Gz,
            Some("xz") => Self::Xz,
            Some("zst") => Self::Zst,
            Some("zip") => Self::Zip,
            Some(other) => {
                let detail = format!(
                    "{other:?} is no way of packing here; say gz, xz, zst or zip, or nothing"
                );
                return Err(Refusal::invalid("bad-value", detail));
            }
        })
    }

    /// The ending of a file that is packed so.
    pub fn ending(self) -> &'static str {
        match self {
            Self::None => "",
            Self::Gz => ".gz",
            Self::Xz => ".xz",
            Self::Zst => ".zst",
            Self::Zip => ".zip",
        }
    }

    /// Packs what `write` gives into `out`, as a file of this name where the packing keeps names.
    fn pack(
        self,
        out: &mut dyn Write,
        name: &str,
        write: &mut dyn FnMut(&mut dyn Write) -> io::Result<()>,
    ) -> io::Result<()> {
        match self {
            Self::None => write(out),
            Self::Gz => {
                let mut packer = flate2::write::GzEncoder::new(out, flate2::Compression::default());
                write(&mut packer)?;
                packer.finish().map(|_| ())
            }
            Self::Xz => {
                let mut packer = liblzma::write::XzEncoder::new(out, XZ_LEVEL);
                write(&mut packer)?;
                packer.finish().map(|_| ())
            }
            Self::Zst => {
                let mut packer = zstd::stream::write::Encoder::new(out, 3)?;
                packer.include_checksum(true)?;
                write(&mut packer)?;
                packer.finish().map(|_| ())
            }
            Self::Zip => {
                let mut packer = zip::ZipWriter::new_stream(out);
                let options = zip::write::SimpleFileOptions::default()
                    .compression_method(zip::CompressionMethod::Deflated)
                    .large_file(true);
                packer.start_file(name, options)?;
                write(&mut packer)?;
                packer.finish().map(|_| ())?;
                Ok(())
            }
        }
    }
}

/// Writes a disk of `len` bytes out from its first byte to its last.
pub(super) fn write_disk(disk: &dyn Disk, len: u64, out: &mut dyn Write) -> io::Result<()> {
    let mut piece = vec![0; PIECE];
    let mut at = 0;
    while at < len {
        let take = (len - at).min(PIECE as u64) as usize;
        let inside = disk.len().saturating_sub(at).min(take as u64) as usize;
        disk.read_at(at, &mut piece[..inside])
            .map_err(io::Error::other)?;
        piece[inside..take].fill(0);
        out.write_all(&piece[..take])?;
        at += take as u64;
    }
    Ok(())
}

/// Writes the image of a content out. Blocks.
///
/// # Errors
/// What cannot be read, and who takes the bytes.
pub fn write_image(content: &Content, packing: Packing, out: &mut dyn Write) -> io::Result<()> {
    let (disk, _) = content.kept().map_err(|e| io::Error::other(e.detail))?;
    write_packed(&disk, content.len, &content.name, packing, out)
}

/// The same of any disk, under a name.
pub(super) fn write_packed(
    disk: &dyn Disk,
    len: u64,
    name: &str,
    packing: Packing,
    out: &mut dyn Write,
) -> io::Result<()> {
    let name = format!("{}.img", name.replace(' ', "-"));
    packing.pack(out, &name, &mut |out| write_disk(disk, len, out))?;
    out.flush()
}

/// Writes what is below a folder of a partition out as a tar archive: owners, modes, times, links. Devices, sockets and
/// pipes are left out, and extended attributes. Blocks.
///
/// # Errors
/// What cannot be read, and who takes the bytes.
pub fn write_archive(
    content: &Content,
    partition: u32,
    below: &str,
    packing: Packing,
    out: &mut dyn Write,
) -> io::Result<()> {
    let name = format!("{}.tar", content.name.replace(' ', "-"));
    packing.pack(out, &name, &mut |out| {
        let mut archive = tar::Builder::new(out);
        let packed = content.with_files(partition, |files| {
            let mut links = HashMap::new();
            add(&mut archive, files, below, &mut links)
        });
        packed.map_err(|e| io::Error::other(e.detail))?;
        archive.finish()
    })?;
    out.flush()
}

/// Adds everything below a folder, named from there.
fn add<W: Write>(
    archive: &mut tar::Builder<W>,
    files: &dyn Files,
    below: &str,
    links: &mut HashMap<u64, String>,
) -> Result<(), FileError> {
    let below = below.trim_end_matches('/');
    walk(files, &mut |path, node| {
        let inside = path
            .strip_prefix(below)
            .filter(|rest| rest.starts_with('/'));
        match inside {
            Some(inside) => add_node(archive, files, inside.trim_start_matches('/'), node, links),
            None => Ok(()),
        }
    })
}

fn add_node<W: Write>(
    archive: &mut tar::Builder<W>,
    files: &dyn Files,
    name: &str,
    node: &Node,
    links: &mut HashMap<u64, String>,
) -> Result<(), FileError> {
    let mut header = tar::Header::new_gnu();
    let usual = match node.kind {
        NodeKind::Folder => 0o755,
        NodeKind::Link => 0o777,
        _ => 0o644,
    };
    header.set_mode(node.mode.unwrap_or(usual));
    let (user, group) = node.owner.unwrap_or_default();
    header.set_uid(user.into());
    header.set_gid(group.into());
    header.set_mtime(node.modified.unwrap_or(0).max(0) as u64);
    header.set_size(0);
    let done = match node.kind {
        NodeKind::Folder => {
            header.set_entry_type(tar::EntryType::Directory);
            archive.append_data(&mut header, format!("{name}/"), io::empty())
        }
        NodeKind::Link => {
            header.set_entry_type(tar::EntryType::Symlink);
            archive.append_link(&mut header, name, node.target.as_deref().unwrap_or(""))
        }
        NodeKind::File => {
            if node.links > 1
                && let Some(first) = links.get(&node.id)
            {
                header.set_entry_type(tar::EntryType::Link);
                let linked = archive.append_link(&mut header, name, first);
                return linked.map_err(FileError::Sink);
            }
            if node.links > 1 {
                links.insert(node.id, name.to_owned());
            }
            return add_file(archive, files, name, node, header);
        }
        NodeKind::Other => Ok(()),
    };
    done.map_err(FileError::Sink)
}

/// A file goes into the archive as it is read, whatever its length.
fn add_file<W: Write>(
    archive: &mut tar::Builder<W>,
    files: &dyn Files,
    name: &str,
    node: &Node,
    mut header: tar::Header,
) -> Result<(), FileError> {
    header.set_entry_type(tar::EntryType::Regular);
    header.set_size(node.len);
    // The head first, long names with it, then the bytes behind it in whole blocks.
    archive
        .append_data(&mut header, name, io::empty())
        .map_err(FileError::Sink)?;
    let out = archive.get_mut();
    let mut written = 0_u64;
    files.read_node(node, &mut |piece| {
        written += piece.len() as u64;
        out.write_all(piece)
    })?;
    let rest = written.next_multiple_of(512) - written;
    out.write_all(&[0; 512][..rest as usize])
        .map_err(FileError::Sink)
}
