//! Manifests: what a disk holds, chunk by chunk, and the disk that reads like it.

use std::sync::{Arc, Mutex};

use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk, DiskError, Map};

use crate::store::{Kind, Vault, VaultError, Window};
use crate::{Growth, Name};

/// Chunks that one page describes: 128 MiB of disk.
const PAGE: usize = 1024;
const FORMAT: u8 = 1;
/// Stretches of segments that one disk holds read ahead at most: one for each thread that reads it.
const WINDOWS: usize = 4;

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

/// The content of a whole disk. What is alike in two manifests of one family is in memory once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Manifest {
    /// Length of the disk in bytes.
    pub len: u64,
    /// One entry a chunk, [`PAGE`] of them in each but the last.
    pages: Vec<Arc<[Entry]>>,
}

impl Manifest {
    /// A disk of `len` bytes with these entries, one a chunk.
    pub(crate) fn new(len: u64, entries: &[Entry]) -> Self {
        let mut pages = Pages::default();
        Self {
            len,
            pages: entries.chunks(PAGE).map(|page| pages.keep(page)).collect(),
        }
    }

    /// What a chunk is; free behind the end.
    pub fn entry(&self, chunk: u64) -> Entry {
        let (page, at) = (chunk as usize / PAGE, chunk as usize % PAGE);
        let entry = self.pages.get(page).and_then(|page| page.get(at));
        entry.copied().unwrap_or(Entry::Free)
    }

    /// What each chunk is, in order.
    pub fn entries(&self) -> impl Iterator<Item = Entry> {
        self.pages.iter().flat_map(|page| page.iter().copied())
    }

    /// Which bytes of the disk matter.
    pub fn map(&self) -> Map {
        Map::from_chunks(self.len, self.entries().map(Entry::kind))
    }

    /// Whether this disk and another hold the same in a range of bytes, as far as that is known without
    /// a look at them: each chunk of it is the same content, or zero in both.
    pub fn holds_alike(&self, other: &Self, at: u64, len: u64) -> bool {
        let Some(last) = at.checked_add(len).and_then(|end| end.checked_sub(1)) else {
            return true;
        };
        if last >= self.len.min(other.len) {
            return false;
        }
        (at / CHUNK..=last / CHUNK).all(|chunk| {
            let entry = self.entry(chunk);
            entry != Entry::Free && entry == other.entry(chunk)
        })
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
        let mut writer = vault.writer();
        let mut put = std::collections::BTreeMap::new();
        for chunk in changed {
            let start = chunk * CHUNK;
            let bytes = disk
                .read_vec(start, CHUNK.min(len - start) as usize)
                .map_err(VaultError::Content)?;
            let entry = match bytes.iter().all(|byte| *byte == 0) {
                true => Entry::Zero,
                false => Entry::Data(writer.put(Kind::Chunk, &bytes)?),
            };
            put.insert(chunk, entry);
        }
        let mut kinds = map.chunks().peekable();
        let (mut pages, mut kept) = (Vec::new(), Pages::default());
        let chunks = len.div_ceil(CHUNK);
        for first in (0..chunks).step_by(PAGE) {
            let end = chunks.min(first + PAGE as u64);
            let mut page = vec![Entry::Free; (end - first) as usize];
            while let Some((chunk, kind)) = kinds.next_if(|(chunk, _)| *chunk < end) {
                page[(chunk - first) as usize] = match kind {
                    ByteKind::Zero => Entry::Zero,
                    _ if chunk < self.len.div_ceil(CHUNK) => self.entry(chunk),
                    _ => Entry::Zero,
                };
            }
            for (chunk, entry) in put.range(first..end) {
                page[(chunk - first) as usize] = *entry;
            }
            // A page that did not change stays the one that is in memory already.
            let before = self
                .pages
                .get(pages.len())
                .filter(|before| before[..] == page[..]);
            pages.push(before.cloned().unwrap_or_else(|| kept.keep(&page)));
        }
        let mut growth = writer.finish()?;
        let manifest = Self { len, pages };
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
        for entries in &self.pages {
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
        let manifest = Self::load(vault, name)?;
        named.extend(manifest.entries().filter_map(|entry| match entry {
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
        let (mut left, mut found, mut kept) = (len.div_ceil(CHUNK), Vec::new(), Pages::default());
        let mut entries = Vec::with_capacity(PAGE);
        for page in pages.chunks_exact(32) {
            let page = Name(page.try_into().map_err(|_| damaged())?);
            let bytes = vault.get(Kind::Page, page)?;
            entries.clear();
            Self::read_page(&bytes, &mut entries).ok_or_else(damaged)?;
            if entries.len() as u64 != left.min(PAGE as u64) || entries.is_empty() {
                return Err(damaged());
            }
            left -= entries.len() as u64;
            found.push(kept.keep(&entries));
        }
        match left {
            0 => Ok(Self { len, pages: found }),
            _ => Err(damaged()),
        }
    }
}

/// Pages of one manifest on their way into memory: long runs of one entry are kept once.
#[derive(Default)]
struct Pages {
    last: Option<Arc<[Entry]>>,
}

impl Pages {
    fn keep(&mut self, page: &[Entry]) -> Arc<[Entry]> {
        if let Some(last) = &self.last
            && last[..] == *page
        {
            return last.clone();
        }
        let kept: Arc<[Entry]> = page.into();
        self.last = Some(kept.clone());
        kept
    }
}

/// A disk out of the vault. Reads block, so it belongs on job threads; several may read at once.
pub struct ManifestDisk {
    vault: Arc<Vault>,
    manifest: Arc<Manifest>,
    /// Stretches of segments that were read ahead and are in nobody's hands.
    windows: Mutex<Vec<Window>>,
}

impl ManifestDisk {
    /// The disk that a manifest describes.
    pub fn new(vault: Arc<Vault>, manifest: Arc<Manifest>) -> Self {
        Self {
            vault,
            manifest,
            windows: Mutex::default(),
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
        if let Some(bytes) = self.vault.unpacked(name) {
            return Ok(bytes);
        }
        let mut window = {
            let mut windows = self.windows.lock().unwrap_or_else(|e| e.into_inner());
            let holds = windows
                .iter()
                .position(|window| self.vault.is_in(name, window));
            match holds {
                Some(place) => windows.swap_remove(place),
                None if windows.len() >= WINDOWS => windows.remove(0),
                None => Window::default(),
            }
        };
        let bytes = self.vault.unpack_through(name, &mut window);
        let mut windows = self.windows.lock().unwrap_or_else(|e| e.into_inner());
        windows.push(window);
        bytes
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
            match self.manifest.entry(at / CHUNK) {
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
