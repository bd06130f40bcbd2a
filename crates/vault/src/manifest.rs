//! Manifests: what a disk holds, chunk by chunk, and the disk that reads like it.
//!
//! The root of a manifest names its pages, a page names the chunks of 128 MiB of disk. Either can say only in what it
//! differs from another one, so that an imprint costs what it changed of its release. Pages are read when they are
//! asked for and go through one bounded cache: what is in memory does not grow with the disk.

use std::collections::BTreeMap;
use std::sync::Arc;

use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk, DiskError, Map};

use crate::error::VaultError;
use crate::hold::Hold;
use crate::index::NameSet;
use crate::keys::Name;
use crate::page::{
    Entry, PAGE, Page, ReadPage, WholeRoot, is_told, pages_from, pages_of, read_page, read_root,
    uniform, write_page, write_root,
};
use crate::piece::Kind;
use crate::store::{Growth, Vault};
use crate::unpacked::Proof;
use crate::windows::Windows;
use crate::writer::Writer;

/// Says what is to be kept as a note beside a manifest of this name, for those who find the vault without its records.
pub type Noting<'a> = Option<&'a dyn Fn(Name) -> String>;

/// The content of a whole disk.
#[derive(Clone)]
pub struct Manifest {
    /// Length of the disk in bytes.
    pub len: u64,
    vault: Arc<Vault>,
    name: Name,
    /// What each page is; a page all of one kind is named by that.
    pages: Arc<[Entry]>,
    /// The root that is written out from which this one is told, itself perhaps.
    base: Arc<WholeRoot>,
}

fn damaged(name: Name) -> VaultError {
    VaultError::Damaged { name }
}

impl Manifest {
    /// Reads a manifest out of the vault.
    ///
    /// # Errors
    /// [`VaultError::Missing`], [`VaultError::Damaged`], or what the store says.
    pub fn load(vault: &Arc<Vault>, name: Name) -> Result<Self, VaultError> {
        let read = |name| read_root(&vault.get(Kind::Manifest, name)?).ok_or_else(|| damaged(name));
        let root = read(name)?;
        let whole = |name, pages: Vec<Entry>| {
            Arc::new(WholeRoot {
                name,
                pages: pages.into(),
            })
        };
        let (pages, base): (Arc<[Entry]>, _) = match root.base {
            None => {
                let base = whole(name, root.pages);
                (base.pages.clone(), base)
            }
            Some((base_name, differs)) => {
                let base = read(base_name)?;
                if base.base.is_some() {
                    return Err(damaged(base_name));
                }
                let base = whole(base_name, base.pages);
                let pages = pages_from(root.len, &base.pages, &differs);
                (pages.ok_or_else(|| damaged(name))?.into(), base)
            }
        };
        Ok(Self {
            len: root.len,
            vault: vault.clone(),
            name,
            pages,
            base,
        })
    }

    /// Its name in the vault.
    pub fn name(&self) -> Name {
        self.name
    }

    /// Chunks that a page has.
    fn count(&self, page: usize) -> usize {
        let chunks = self.len.div_ceil(CHUNK) as usize;
        chunks.saturating_sub(page * PAGE).min(PAGE)
    }

    /// Reads a page; those that are told from another one with it.
    fn read(&self, name: Name, count: usize) -> Result<Arc<Page>, VaultError> {
        let page = self.vault.page(name, |bytes| {
            match read_page(bytes).ok_or_else(|| damaged(name))? {
                ReadPage::Whole(entries) => Ok(Page {
                    entries,
                    base: None,
                }),
                ReadPage::Differs(count, base, differs) => {
                    let of = match read_page(&self.vault.get(Kind::Page, base)?) {
                        Some(ReadPage::Whole(entries)) => entries,
                        _ => return Err(damaged(base)),
                    };
                    let mut entries: Vec<Entry> = of.into_iter().take(count).collect();
                    entries.resize(count, Entry::Free);
                    for (at, entry) in differs {
                        *entries.get_mut(at).ok_or_else(|| damaged(name))? = entry;
                    }
                    Ok(Page {
                        entries,
                        base: Some(base),
                    })
                }
            }
        })?;
        match page.entries.len() == count {
            true => Ok(page),
            false => Err(damaged(name)),
        }
    }

    /// What the chunks of a page are.
    fn entries_of(&self, page: usize) -> Result<Vec<Entry>, VaultError> {
        let count = self.count(page);
        match self.pages.get(page).copied().unwrap_or(Entry::Free) {
            Entry::Data(name) => Ok(self.read(name, count)?.entries.clone()),
            uniform => Ok(vec![uniform; count]),
        }
    }

    /// What a chunk is; free behind the end.
    ///
    /// # Errors
    /// Where its page cannot be read.
    pub fn entry(&self, chunk: u64) -> Result<Entry, VaultError> {
        let (page, at) = (
            (chunk / PAGE as u64) as usize,
            (chunk % PAGE as u64) as usize,
        );
        match self.pages.get(page) {
            None => Ok(Entry::Free),
            Some(Entry::Data(name)) => {
                let page = self.read(*name, self.count(page))?;
                Ok(page.entries.get(at).copied().unwrap_or(Entry::Free))
            }
            Some(uniform) => Ok(*uniform),
        }
    }

    /// Which bytes of the disk matter.
    ///
    /// # Errors
    /// Where a page cannot be read.
    pub fn map(&self) -> Result<Map, VaultError> {
        let mut kinds = Vec::with_capacity(self.len.div_ceil(CHUNK) as usize);
        for page in 0..self.pages.len() {
            match self.pages[page] {
                Entry::Data(name) => {
                    let page = self.read(name, self.count(page))?;
                    kinds.extend(page.entries.iter().map(|entry| entry.kind()));
                }
                uniform => kinds.resize(kinds.len() + self.count(page), uniform.kind()),
            }
        }
        Ok(Map::from_chunks(self.len, kinds.into_iter()))
    }

    /// Whether this disk and another hold the same in a range of bytes, as far as that is known without
    /// a look at them: each chunk of it is the same content, or zero in both. What cannot be read is not alike.
    pub fn holds_alike(&self, other: &Self, at: u64, len: u64) -> bool {
        let Some(last) = at.checked_add(len).and_then(|end| end.checked_sub(1)) else {
            return true;
        };
        if last >= self.len.min(other.len) {
            return false;
        }
        (at / CHUNK..=last / CHUNK).all(|chunk| match (self.entry(chunk), other.entry(chunk)) {
            (Ok(one), Ok(two)) => one != Entry::Free && one == two,
            _ => false,
        })
    }

    /// The page that is written out behind a page of this disk, and what it says: what others are told from.
    fn base_page(&self, page: usize) -> Result<Option<(Name, Arc<Page>)>, VaultError> {
        let Some(Entry::Data(name)) = self.pages.get(page).copied() else {
            return Ok(None);
        };
        let read = self.read(name, self.count(page))?;
        match read.base {
            None => Ok(Some((name, read))),
            Some(base) => {
                let page = self.vault.page(base, |bytes| match read_page(bytes) {
                    Some(ReadPage::Whole(entries)) => Ok(Page {
                        entries,
                        base: None,
                    }),
                    _ => Err(damaged(base)),
                })?;
                Ok(Some((base, page)))
            }
        }
    }

    /// The manifest of a disk that differs from this one in the `changed` chunks alone, and is
    /// free where `map` says so. What changed goes into the vault, and the new manifest with it.
    ///
    /// # Errors
    /// What reading `disk` or the store says.
    pub fn changed<D: Disk + ?Sized>(
        &self,
        hold: &Hold,
        disk: &D,
        map: &Map,
        changed: impl Iterator<Item = u64>,
        note: Noting<'_>,
    ) -> Result<(Self, Growth), VaultError> {
        let len = disk.len();
        let mut writer = Writer::new(hold);
        let mut put = BTreeMap::new();
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
        let (mut page, mut before) = (0, Vec::new());
        let chunks = len.div_ceil(CHUNK);
        let next = || {
            if page >= pages_of(len) {
                return Ok(None);
            }
            let first = (page * PAGE) as u64;
            let end = chunks.min(first + PAGE as u64);
            before.clear();
            before.extend(self.entries_of(page)?);
            let mut entries = vec![Entry::Free; (end - first) as usize];
            while let Some((chunk, kind)) = kinds.next_if(|(chunk, _)| *chunk < end) {
                let at = (chunk - first) as usize;
                entries[at] = match kind {
                    ByteKind::Zero => Entry::Zero,
                    _ => before.get(at).copied().unwrap_or(Entry::Zero),
                };
            }
            for (chunk, entry) in put.range(first..end) {
                entries[(chunk - first) as usize] = *entry;
            }
            page += 1;
            Ok(Some(entries))
        };
        store(writer, len, Some(self), next, note)
    }

    /// Tells every name that a manifest rests on, itself among them: first the page or root, then what that names.
    ///
    /// # Errors
    /// What `tell` says, or where a page cannot be read.
    pub fn each_name(
        &self,
        mut tell: impl FnMut(Kind, Name) -> Result<(), VaultError>,
    ) -> Result<(), VaultError> {
        tell(Kind::Manifest, self.name)?;
        tell(Kind::Manifest, self.base.name)?;
        for page in 0..self.pages.len() {
            let Entry::Data(name) = self.pages[page] else {
                continue;
            };
            tell(Kind::Page, name)?;
            let read = self.read(name, self.count(page))?;
            if let Some(base) = read.base {
                tell(Kind::Page, base)?;
            }
            for entry in &read.entries {
                if let Entry::Data(name) = entry {
                    tell(Kind::Chunk, *name)?;
                }
            }
        }
        Ok(())
    }

    /// Holds on to everything that it rests on, for work that reads it.
    ///
    /// # Errors
    /// Where a page of it cannot be read.
    pub fn rely(&self, hold: &Hold) -> Result<(), VaultError> {
        self.each_name(|_, name| {
            hold.has(name);
            Ok(())
        })
    }

    /// Which names it rests on are not there. `whole` holds the pages that were looked at and miss nothing.
    pub(crate) fn missing(&self, whole: &mut NameSet, most: usize, gone: &mut Vec<Name>) {
        let vault = &self.vault;
        for page in 0..self.pages.len() {
            let Entry::Data(name) = self.pages[page] else {
                continue;
            };
            if gone.len() >= most || whole.contains(&name) {
                continue;
            }
            let before = gone.len();
            match self.read(name, self.count(page)) {
                Err(_) => gone.push(name),
                Ok(read) => {
                    let names = read.entries.iter().filter_map(|entry| match entry {
                        Entry::Data(name) => Some(*name),
                        _ => None,
                    });
                    let names = names.chain(read.base).chain([name]);
                    gone.extend(names.filter(|name| !vault.holds(*name)).take(most - before));
                }
            }
            if gone.len() == before {
                whole.insert(name);
            }
        }
        gone.sort_unstable();
        gone.dedup();
    }

    /// Adds every name that stored manifests rest on to `named`; pages that several have are read once. Gives those
    /// manifests that are not there whole.
    pub(crate) fn mark(vault: &Arc<Vault>, roots: &[Name], named: &mut NameSet) -> Vec<Name> {
        let mut broken = Vec::new();
        // A page that others are told from is named by them, and yet nobody has looked at what it names itself.
        let mut looked_into = NameSet::default();
        for root in roots {
            named.insert(*root);
            let manifest = match Self::load(vault, *root) {
                Ok(manifest) => manifest,
                Err(_) => {
                    broken.push(*root);
                    continue;
                }
            };
            named.insert(manifest.base.name);
            for page in 0..manifest.pages.len() {
                let Entry::Data(name) = manifest.pages[page] else {
                    continue;
                };
                named.insert(name);
                if !looked_into.insert(name) {
                    continue;
                }
                match manifest.read(name, manifest.count(page)) {
                    Ok(read) => {
                        named.extend(read.base);
                        named.extend(read.entries.iter().filter_map(|entry| match entry {
                            Entry::Data(name) => Some(*name),
                            _ => None,
                        }));
                    }
                    Err(_) => broken.push(*root),
                }
            }
        }
        broken.dedup();
        broken
    }
}

/// Stores the pages that `next` gives in order, and the root of them. What is alike in `like` costs nothing, and what
/// is nearly alike little.
pub(crate) fn store(
    mut writer: Writer<'_>,
    len: u64,
    like: Option<&Manifest>,
    mut next: impl FnMut() -> Result<Option<Vec<Entry>>, VaultError>,
    note: Noting<'_>,
) -> Result<(Manifest, Growth), VaultError> {
    let vault = writer.vault().clone();
    let mut pages = Vec::with_capacity(pages_of(len));
    while let Some(entries) = next()? {
        if let Some(kind) = uniform(&entries) {
            pages.push(kind);
            continue;
        }
        let page = pages.len();
        // One that cannot be read is nothing to tell others from.
        let base = like.and_then(|like| like.base_page(page).ok().flatten());
        let base = base.as_ref();
        let base = base.map(|(name, page)| (*name, page.entries.as_slice()));
        // One that is all the same is that page; where it went meanwhile, it is stored again.
        let told_from = base.filter(|(_, before)| *before != entries);
        pages.push(Entry::Data(
            writer.put(Kind::Page, &write_page(&entries, told_from))?,
        ));
        if let Some((base, before)) = base
            && !writer.rely(base)
        {
            // The page that it is told from stays with it; memory may know one that the store has lost.
            writer.put(Kind::Page, &write_page(before, None))?;
        }
    }
    let pages: Arc<[Entry]> = pages.into();
    let base = like.map(|like| like.base.clone());
    let base = base.filter(|base| writer.rely(base.name));
    let bytes = write_root(len, &pages, base.as_deref());
    let name = writer.put(Kind::Manifest, &bytes)?;
    let base = match base.filter(|_| is_told(&bytes)) {
        Some(base) => base,
        None => Arc::new(WholeRoot {
            name,
            pages: pages.clone(),
        }),
    };
    if let Some(note) = note {
        writer.put(Kind::Note, note(name).as_bytes())?;
    }
    writer.flush()?;
    let manifest = Manifest {
        len,
        vault,
        name,
        pages,
        base,
    };
    Ok((manifest, writer.growth()))
}

/// A disk out of the vault. Reads block, so it belongs on job threads; several may read at once.
pub struct ManifestDisk {
    manifest: Manifest,
    /// Stretches of segments that were read ahead.
    windows: Windows,
    /// Whether everything is read out of the store, whatever was read of it before.
    afresh: bool,
}

impl ManifestDisk {
    /// The disk that a manifest describes.
    pub fn new(manifest: Manifest) -> Self {
        Self {
            manifest,
            windows: Windows::default(),
            afresh: false,
        }
    }

    /// The same, of which everything is read out of the store and authenticated, whatever was read of it before.
    pub fn afresh(manifest: Manifest) -> Self {
        Self {
            afresh: true,
            ..Self::new(manifest)
        }
    }

    /// The disk of a stored manifest.
    ///
    /// # Errors
    /// As [`Manifest::load`].
    pub fn open(vault: &Arc<Vault>, name: Name) -> Result<Self, VaultError> {
        Ok(Self::new(Manifest::load(vault, name)?))
    }

    /// What it is made of.
    pub fn manifest(&self) -> &Manifest {
        &self.manifest
    }

    fn chunk(&self, name: Name, proof: Proof) -> Result<Arc<Vec<u8>>, VaultError> {
        let vault = &self.manifest.vault;
        if self.afresh {
            return vault.unpack_through(name, &self.windows, Proof::Here);
        }
        match vault.unpacked(name, proof) {
            Some(bytes) => Ok(bytes),
            None => vault.unpack_through(name, &self.windows, proof),
        }
    }

    fn read(&self, offset: u64, buf: &mut [u8], proof: Proof) -> Result<(), DiskError> {
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
            let entry = self.manifest.entry(at / CHUNK);
            match entry.map_err(std::io::Error::other)? {
                Entry::Data(name) => {
                    let bytes = self.chunk(name, proof).map_err(std::io::Error::other)?;
                    // The last chunk of a disk may be short; on one that has grown behind it there are zeros.
                    let has = bytes.len().saturating_sub(within).min(piece);
                    let (front, behind) = part.split_at_mut(has);
                    front.copy_from_slice(&bytes[bytes.len().min(within)..][..has]);
                    behind.fill(0);
                }
                Entry::Zero | Entry::Free => part.fill(0),
            }
            at += piece as u64;
        }
        Ok(())
    }
}

impl Disk for ManifestDisk {
    fn len(&self) -> u64 {
        self.manifest.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        self.read(offset, buf, Proof::Here)
    }

    fn read_unproven(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        self.read(offset, buf, Proof::Later)
    }

    fn chunk_name(&self, chunk: u64) -> Result<Option<[u8; 32]>, DiskError> {
        match self.manifest.entry(chunk).map_err(std::io::Error::other)? {
            Entry::Data(name) => Ok(Some(name.0)),
            Entry::Zero | Entry::Free => Ok(None),
        }
    }

    fn has_digest(&self, chunk: u64, digest: &[u8; 32]) -> Result<Option<bool>, DiskError> {
        let Entry::Data(name) = self.manifest.entry(chunk).map_err(std::io::Error::other)? else {
            return Ok(None);
        };
        let of_digest = self.manifest.vault.name_of_digest(Kind::Chunk, digest);
        Ok(of_digest.map(|other| other == name))
    }

    fn packed_chunk(&self, chunk: u64) -> Result<Option<Vec<u8>>, DiskError> {
        let Entry::Data(name) = self.manifest.entry(chunk).map_err(std::io::Error::other)? else {
            return Ok(None);
        };
        let vault = &self.manifest.vault;
        let packed = vault.packed_through(name, &self.windows);
        Ok(Some(packed.map_err(std::io::Error::other)?))
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }
}
