//! Manifests: what a disk holds, chunk by chunk, and the disk that reads like it.

use std::sync::{Arc, Mutex};

use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk, DiskError, Map};

use crate::store::{Kind, Vault, VaultError, Window};
use crate::{Growth, Name};

/// Chunks that one page describes: 128 MiB of disk.
const PAGE: usize = 1024;
const FORMAT: u8 = 1;

/// What one chunk of a disk is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Entry {
    /// Nobody cares.
    Free,
    /// All zero.
    Zero,
    /// Content in the vault.
    Data(Name),
}

impl Entry {
    fn kind(self) -> ByteKind {
        match self {
            Self::Free => ByteKind::Free,
            Self::Zero => ByteKind::Zero,
            Self::Data(_) => ByteKind::Data,
        }
    }
}

/// The content of a whole disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Manifest {
    /// Length of the disk in bytes.
    pub len: u64,
    /// One entry a chunk.
    pub entries: Vec<Entry>,
}

impl Manifest {
    /// Which bytes of the disk matter.
    pub fn map(&self) -> Map {
        Map::from_chunks(self.len, self.entries.iter().map(|entry| entry.kind()))
    }

    /// The manifest of a disk that differs from this one in the `changed` chunks alone, and is
    /// free where `map` says so. What changed goes into the vault, and the new manifest with it.
    pub fn changed<D: Disk + ?Sized>(
        &self,
        vault: &Vault,
        disk: &D,
        map: &Map,
        changed: impl Iterator<Item = u64>,
    ) -> Result<(Name, Self, Growth), VaultError> {
        let len = disk.len();
        let mut entries = vec![Entry::Free; len.div_ceil(CHUNK) as usize];
        for (chunk, kind) in map.chunks() {
            let known = self
                .entries
                .get(chunk as usize)
                .copied()
                .unwrap_or(Entry::Zero);
            entries[chunk as usize] = match kind {
                ByteKind::Zero => Entry::Zero,
                _ => known,
            };
        }
        let mut writer = vault.writer();
        for chunk in changed {
            let start = chunk * CHUNK;
            let bytes = disk
                .read_vec(start, CHUNK.min(len - start) as usize)
                .map_err(VaultError::Content)?;
            entries[chunk as usize] = match bytes.iter().all(|byte| *byte == 0) {
                true => Entry::Zero,
                false => Entry::Data(writer.put(Kind::Chunk, &bytes)?),
            };
        }
        let mut growth = writer.finish()?;
        let manifest = Self { len, entries };
        let (name, more) = manifest.store(vault)?;
        growth.add(more);
        Ok((name, manifest, growth))
    }

    fn page(entries: &[Entry]) -> Vec<u8> {
        let mut bytes = vec![FORMAT];
        for entry in entries {
            match entry {
                Entry::Free => bytes.push(0),
                Entry::Zero => bytes.push(1),
                Entry::Data(name) => {
                    bytes.push(2);
                    bytes.extend(name.0);
                }
            }
        }
        bytes
    }

    fn read_page(bytes: &[u8], entries: &mut Vec<Entry>) -> Option<()> {
        let (format, mut rest) = bytes.split_first()?;
        if *format != FORMAT {
            return None;
        }
        while let Some((tag, more)) = rest.split_first() {
            rest = more;
            entries.push(match tag {
                0 => Entry::Free,
                1 => Entry::Zero,
                2 => {
                    let (name, more) = rest.split_first_chunk()?;
                    rest = more;
                    Entry::Data(Name(*name))
                }
                _ => return None,
            });
        }
        Some(())
    }

    /// Puts the manifest into the vault; pages that are there already cost nothing. It counts
    /// as stored when this returns.
    pub fn store(&self, vault: &Vault) -> Result<(Name, Growth), VaultError> {
        let mut writer = vault.writer();
        let mut root = vec![FORMAT];
        root.extend(self.len.to_le_bytes());
        for entries in self.entries.chunks(PAGE) {
            let name = writer.put(Kind::Page, &Self::page(entries))?;
            root.extend(name.0);
        }
        let name = writer.put(Kind::Manifest, &root)?;
        Ok((name, writer.finish()?))
    }

    /// The pages and chunks that a stored manifest names.
    pub(crate) fn named_by(vault: &Vault, name: Name) -> Result<Vec<Name>, VaultError> {
        let damaged = || VaultError::Damaged { name };
        let root = vault.get(Kind::Manifest, name)?;
        let mut named = Vec::new();
        for page in root.get(9..).ok_or_else(damaged)?.chunks_exact(32) {
            named.push(Name(page.try_into().map_err(|_| damaged())?));
        }
        let chunks = Self::load(vault, name)?.entries.into_iter();
        named.extend(chunks.filter_map(|entry| match entry {
            Entry::Data(name) => Some(name),
            _ => None,
        }));
        Ok(named)
    }

    /// Reads a manifest out of the vault.
    pub fn load(vault: &Vault, name: Name) -> Result<Self, VaultError> {
        let damaged = || VaultError::Damaged { name };
        let root = vault.get(Kind::Manifest, name)?;
        let (head, pages) = root.split_at_checked(9).ok_or_else(damaged)?;
        let len = u64::from_le_bytes(head[1..].try_into().map_err(|_| damaged())?);
        if head[0] != FORMAT || pages.len() % 32 != 0 {
            return Err(damaged());
        }
        let mut entries = Vec::new();
        for page in pages.chunks_exact(32) {
            let page = Name(page.try_into().map_err(|_| damaged())?);
            let bytes = vault.get(Kind::Page, page)?;
            Self::read_page(&bytes, &mut entries).ok_or_else(damaged)?;
        }
        if entries.len() as u64 != len.div_ceil(CHUNK) {
            return Err(damaged());
        }
        Ok(Self { len, entries })
    }
}

/// A disk out of the vault. Reads block, so it belongs on a job's thread.
pub struct ManifestDisk {
    vault: Arc<Vault>,
    manifest: Arc<Manifest>,
    last: Mutex<Last>,
}

/// The chunk that was read last, and the stretch of segment it came from.
#[derive(Default)]
struct Last {
    chunk: Option<(Name, Arc<Vec<u8>>)>,
    window: Window,
}

impl ManifestDisk {
    /// The disk that a manifest describes.
    pub fn new(vault: Arc<Vault>, manifest: Arc<Manifest>) -> Self {
        Self {
            vault,
            manifest,
            last: Mutex::default(),
        }
    }

    /// The disk of a stored manifest.
    pub fn open(vault: Arc<Vault>, name: Name) -> Result<Self, VaultError> {
        let manifest = Arc::new(Manifest::load(&vault, name)?);
        Ok(Self::new(vault, manifest))
    }

    /// What it is made of.
    pub fn manifest(&self) -> &Arc<Manifest> {
        &self.manifest
    }

    fn chunk(&self, name: Name) -> Result<Arc<Vec<u8>>, VaultError> {
        let mut last = self.last.lock().unwrap_or_else(|e| e.into_inner());
        if let Some((held, bytes)) = &last.chunk
            && *held == name
        {
            return Ok(bytes.clone());
        }
        let bytes = Arc::new(
            self.vault
                .get_through(Kind::Chunk, name, &mut last.window)?,
        );
        last.chunk = Some((name, bytes.clone()));
        Ok(bytes)
    }
}

impl Disk for ManifestDisk {
    fn len(&self) -> u64 {
        self.manifest.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        let len = buf.len() as u64;
        let end = offset.checked_add(len).filter(|end| *end <= self.len());
        let end = end.ok_or(DiskError::OutOfRange {
            offset,
            len,
            disk_len: self.len(),
        })?;
        let mut at = offset;
        while at < end {
            let within = (at % CHUNK) as usize;
            let piece = (CHUNK_LEN - within).min((end - at) as usize);
            let part = &mut buf[(at - offset) as usize..][..piece];
            match self.manifest.entries[(at / CHUNK) as usize] {
                Entry::Data(name) => {
                    let bytes = self.chunk(name).map_err(std::io::Error::other)?;
                    let found = bytes.get(within..within + piece);
                    part.copy_from_slice(
                        found.ok_or_else(|| std::io::Error::other("a chunk is too short"))?,
                    );
                }
                Entry::Zero | Entry::Free => part.fill(0),
            }
            at += piece as u64;
        }
        Ok(())
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }
}
