//! A content taken out in open formats: the raw image or the files of a partition, packed or not.

use std::collections::HashMap;
use std::ffi::OsString;
use std::io::{self, Write};
use std::os::unix::ffi::OsStringExt;
use std::path::PathBuf;

use imagecraft::Disk;
use imagecraft::fs::name::bytes_of;
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

/// Writes what is below a folder of a partition out as a tar archive: names byte by byte, owners, modes, times, links, and
/// in records of POSIX's pax format extended attributes, access control lists and the holes of sparse files. Devices,
/// sockets and pipes are left out. Blocks.
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
    links: &mut HashMap<u64, PathBuf>,
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

/// Holes that take less than this, in bytes, are written out as the zeros that they are.
const HOLE: u64 = 64 << 10;

/// A name, or the target of a link, as the path that it is on the disk.
fn path_of(text: &str) -> PathBuf {
    PathBuf::from(OsString::from_vec(bytes_of(text)))
}

/// What the classic head of a file has no room for.
fn records(files: &dyn Files, node: &Node) -> Result<Vec<(String, Vec<u8>)>, FileError> {
    let mut records = Vec::new();
    let modified = node.modified.unwrap_or(0);
    if modified < 0 {
        records.push(("mtime".into(), modified.to_string().into_bytes()));
    }
    for (name, value) in files.attributes(node)? {
        match name.as_str() {
            "system.posix_acl_access" => {
                records.extend(access_list(&value).map(|list| ("SCHILY.acl.access".into(), list)));
            }
            "system.posix_acl_default" => {
                records.extend(access_list(&value).map(|list| ("SCHILY.acl.default".into(), list)));
            }
            _ => records.push((format!("SCHILY.xattr.{name}"), value)),
        }
    }
    Ok(records)
}

/// An access control list of an ext file system in the text form of POSIX.1e, users and groups by their numbers.
fn access_list(raw: &[u8]) -> Option<Vec<u8>> {
    let mut rest = raw.strip_prefix(&1_u32.to_le_bytes())?;
    let mut lines = Vec::new();
    while !rest.is_empty() {
        let (entry, behind) = rest.split_first_chunk::<4>()?;
        rest = behind;
        let (tag, may) = (
            u16::from_le_bytes([entry[0], entry[1]]),
            u16::from_le_bytes([entry[2], entry[3]]),
        );
        let whose = match tag {
            0x01 => "user:".to_owned(),
            0x04 => "group:".to_owned(),
            0x10 => "mask:".to_owned(),
            0x20 => "other:".to_owned(),
            0x02 | 0x08 => {
                let (number, behind) = rest.split_first_chunk::<4>()?;
                rest = behind;
                let kind = if tag == 0x02 { "user" } else { "group" };
                format!("{kind}:{}", u32::from_le_bytes(*number))
            }
            _ => return None,
        };
        let sign = |bit, sign| if may & bit != 0 { sign } else { '-' };
        lines.push(format!(
            "{whose}:{}{}{}",
            sign(4, 'r'),
            sign(2, 'w'),
            sign(1, 'x')
        ));
    }
    Some(lines.join(",").into_bytes())
}

fn add_node<W: Write>(
    archive: &mut tar::Builder<W>,
    files: &dyn Files,
    name: &str,
    node: &Node,
    links: &mut HashMap<u64, PathBuf>,
) -> Result<(), FileError> {
    if node.kind == NodeKind::Other {
        return Ok(());
    }
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
    let path = path_of(name);
    if node.kind == NodeKind::File
        && node.links > 1
        && let Some(first) = links.get(&node.id)
    {
        header.set_entry_type(tar::EntryType::Link);
        let linked = archive.append_link(&mut header, &path, first);
        return linked.map_err(FileError::Sink);
    }
    let records = records(files, node)?;
    if node.kind == NodeKind::File {
        if node.links > 1 {
            links.insert(node.id, path.clone());
        }
        return add_file(archive, files, &path, node, header, records);
    }
    append_records(archive, &records)?;
    let done = match node.kind {
        NodeKind::Folder => {
            header.set_entry_type(tar::EntryType::Directory);
            archive.append_data(&mut header, path.join(""), io::empty())
        }
        _ => {
            header.set_entry_type(tar::EntryType::Symlink);
            let target = path_of(node.target.as_deref().unwrap_or(""));
            archive.append_link(&mut header, &path, target)
        }
    };
    done.map_err(FileError::Sink)
}

fn append_records<W: Write>(
    archive: &mut tar::Builder<W>,
    records: &[(String, Vec<u8>)],
) -> Result<(), FileError> {
    if records.is_empty() {
        return Ok(());
    }
    let records = records
        .iter()
        .map(|(key, value)| (key.as_str(), value.as_slice()));
    archive
        .append_pax_extensions(records)
        .map_err(FileError::Sink)
}

/// The stretches of a file between holes that are worth it, as first byte and length; nothing where it has none.
fn between_holes(files: &dyn Files, node: &Node) -> Result<Option<Vec<(u64, u64)>>, FileError> {
    let Some(stretches) = files.stretches(node)? else {
        return Ok(None);
    };
    let mut kept: Vec<(u64, u64)> = Vec::new();
    for stretch in stretches {
        match kept.last_mut() {
            // What lies in no order is damage: it is written as it is read.
            Some((at, len)) if stretch.at < *at + *len => return Ok(None),
            Some((at, len)) if stretch.at - (*at + *len) < HOLE => {
                *len = stretch.at + stretch.len - *at;
            }
            _ => kept.push((stretch.at, stretch.len)),
        }
    }
    let data: u64 = kept.iter().map(|(_, len)| len).sum();
    Ok((node.len.saturating_sub(data) >= HOLE).then_some(kept))
}

/// A file goes into the archive as it is read, whatever its length.
fn add_file<W: Write>(
    archive: &mut tar::Builder<W>,
    files: &dyn Files,
    path: &std::path::Path,
    node: &Node,
    mut header: tar::Header,
    mut records: Vec<(String, Vec<u8>)>,
) -> Result<(), FileError> {
    header.set_entry_type(tar::EntryType::Regular);
    // A sparse file names itself in a record, which is text.
    let sparse = match path.to_str() {
        Some(name) => between_holes(files, node)?.map(|kept| (name, kept)),
        None => None,
    };
    let whole = [(0, node.len)];
    let (mut map, kept) = match &sparse {
        None => (Vec::new(), &whole[..]),
        Some((name, kept)) => {
            // Records of sparse files count beside heads of POSIX's own format alone.
            header.as_mut_bytes()[257..265].copy_from_slice(b"ustar\x0000");
            for (key, value) in [
                ("GNU.sparse.major", "1".to_owned()),
                ("GNU.sparse.minor", "0".to_owned()),
                ("GNU.sparse.name", (*name).to_owned()),
                ("GNU.sparse.realsize", node.len.to_string()),
            ] {
                records.push((key.into(), value.into_bytes()));
            }
            let numbers = kept.iter().flat_map(|(at, len)| [*at, *len]);
            let count = kept.len() as u64;
            let lines = std::iter::once(count).chain(numbers);
            let lines: String = lines.map(|number| format!("{number}\n")).collect();
            (lines.into_bytes(), kept.as_slice())
        }
    };
    map.resize(map.len().next_multiple_of(512), 0);
    append_records(archive, &records)?;
    let data: u64 = kept.iter().map(|(_, len)| len).sum();
    header.set_size(map.len() as u64 + data);
    // The head first, long names with it, then the bytes behind it in whole blocks.
    let named = match &sparse {
        Some(_) => PathBuf::from("GNUSparseFile.0").join(node.id.to_string()),
        None => path.to_owned(),
    };
    archive
        .append_data(&mut header, named, io::empty())
        .map_err(FileError::Sink)?;
    let out = archive.get_mut();
    out.write_all(&map).map_err(FileError::Sink)?;
    let (mut at, mut written) = (0_u64, 0_u64);
    files.read_node(node, &mut |piece| {
        let end = at + piece.len() as u64;
        for (from, len) in kept {
            let (start, stop) = ((*from).max(at), (from + len).min(end));
            if start < stop {
                out.write_all(&piece[(start - at) as usize..(stop - at) as usize])?;
                written += stop - start;
            }
        }
        at = end;
        Ok(())
    })?;
    let rest = written.next_multiple_of(512) - written;
    out.write_all(&[0; 512][..rest as usize])
        .map_err(FileError::Sink)
}
