//! The vault over an object store: put, find, get.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, RwLock};

use bytes::Bytes;
use futures::TryStreamExt;
use imagecraft::{CHUNK, CHUNK_LEN};
use object_store::path::Path;
use object_store::{ObjectStore, ObjectStoreExt};
use tokio::runtime::Handle;

use crate::segment::{self, Row, SEGMENT};
use crate::{KeyError, Keys, Name};

/// Stretch of a segment that is read at once when chunks are read in order, in bytes.
const WINDOW: u64 = 2 << 20;
/// Largest plain object, a guard against damage: a page of a thousand names, a manifest of a
/// very large disk.
const MOST_PLAIN: usize = 64 << 20;
/// zstd level: content is packed once and read often.
const LEVEL: i32 = 3;

/// Why the vault could not do something.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum VaultError {
    /// Content is named that is not there.
    #[error("the vault does not hold {name:?}")]
    Missing {
        /// What is missing.
        name: Name,
    },
    /// Content is there but wrong.
    #[error("{name:?} in the vault is damaged")]
    Damaged {
        /// What is damaged.
        name: Name,
    },
    /// The index of a segment is damaged.
    #[error("the vault's index {0} is damaged")]
    Index(String),
    /// The key does not fit.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// Packing failed.
    #[error("packing failed: {0}")]
    Pack(std::io::Error),
    /// The store under the vault failed.
    #[error("the store of the vault failed: {0}")]
    Store(#[from] object_store::Error),
    /// The content to store could not be read.
    #[error("the content cannot be read: {0}")]
    Content(imagecraft::DiskError),
    /// A part of the work ended without saying why.
    #[error("a thread of the vault stopped")]
    Stopped,
}

/// What an object of the vault is; each kind has names of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Bytes of a disk.
    Chunk,
    /// A stretch of a manifest.
    Page,
    /// The root of a manifest.
    Manifest,
}

impl Kind {
    const ALL: [Self; 3] = [Self::Chunk, Self::Page, Self::Manifest];

    fn word(self) -> &'static str {
        match self {
            Self::Chunk => "chunks",
            Self::Page => "pages",
            Self::Manifest => "manifests",
        }
    }
}

/// What was added to the vault.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Growth {
    /// Objects that were not there before.
    pub new: u64,
    /// Bytes they take, packed and sealed.
    pub stored: u64,
    /// The segments that they lie in.
    pub segments: Vec<SegmentId>,
}

impl Growth {
    /// Adds what another run of additions came to.
    pub(crate) fn add(&mut self, more: Self) {
        self.new += more.new;
        self.stored += more.stored;
        self.segments.extend(more.segments);
    }
}

/// Names a segment of the vault.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct SegmentId(String);

#[derive(Clone, Copy)]
struct Place {
    segment: u32,
    offset: u32,
    len: u32,
}

#[derive(Default)]
struct Index {
    segments: Vec<Arc<str>>,
    places: HashMap<Name, Place>,
}

/// A stretch of a segment that was read ahead.
#[derive(Default)]
pub(crate) struct Window {
    segment: Option<u32>,
    offset: u64,
    bytes: Bytes,
}

impl Window {
    fn holds(&self, place: Place) -> bool {
        let start = u64::from(place.offset);
        let end = start + u64::from(place.len);
        let held = self.offset..self.offset + self.bytes.len() as u64;
        self.segment == Some(place.segment) && start >= held.start && end <= held.end
    }
}

/// The content store. Its calls block and belong on job threads.
pub struct Vault {
    store: Arc<dyn ObjectStore>,
    keys: Arc<Keys>,
    naming: [[u8; 32]; Kind::ALL.len()],
    index: RwLock<Index>,
    /// Chunks that were unpacked last: what one reader has just read, another one often wants.
    cache: Cache,
    runtime: Handle,
}

/// Unpacked chunks that are kept, in bytes.
const CACHED: u64 = 32 << 20;

type Cache = quick_cache::sync::Cache<Name, Arc<Vec<u8>>, ByLength>;

#[derive(Clone)]
struct ByLength;

impl quick_cache::Weighter<Name, Arc<Vec<u8>>> for ByLength {
    fn weight(&self, _: &Name, bytes: &Arc<Vec<u8>>) -> u64 {
        bytes.len() as u64
    }
}

impl Vault {
    /// Opens the vault in `store`, reading the index of every segment. Must be called inside a
    /// Tokio runtime of several threads, which later calls use.
    pub async fn open(
        store: Arc<dyn ObjectStore>,
        keys: Arc<Keys>,
    ) -> Result<Arc<Self>, VaultError> {
        let mut index = Index::default();
        let mut listed = store.list(Some(&Path::from("index")));
        while let Some(object) = listed.try_next().await? {
            let id = object.location.filename().unwrap_or("").to_owned();
            let sealed = store.get(&object.location).await?.bytes().await?;
            let bytes =
                keys.open_object(id.as_bytes(), &sealed, || format!("the vault's index {id}"))?;
            let rows = segment::decode(&bytes).ok_or_else(|| VaultError::Index(id.clone()))?;
            index.add(&id, &rows);
        }
        Ok(Arc::new(Self {
            naming: Kind::ALL.map(|kind| keys.naming(kind.word())),
            store,
            keys,
            index: RwLock::new(index),
            cache: Cache::with_weighter((CACHED / CHUNK) as usize, CACHED, ByLength),
            runtime: Handle::current(),
        }))
    }

    /// Bytes that all segments hold.
    pub fn stored(&self) -> u64 {
        let index = self.index.read().unwrap_or_else(|e| e.into_inner());
        index
            .places
            .values()
            .map(|place| u64::from(place.len))
            .sum()
    }

    /// The name of content.
    pub fn name(&self, kind: Kind, bytes: &[u8]) -> Name {
        Name(*blake3::keyed_hash(&self.naming[kind as usize], bytes).as_bytes())
    }

    /// Whether content is there.
    pub fn holds(&self, name: Name) -> bool {
        self.place(name).is_some()
    }

    fn place(&self, name: Name) -> Option<(Place, Arc<str>)> {
        let index = self.index.read().unwrap_or_else(|e| e.into_inner());
        let place = *index.places.get(&name)?;
        Some((place, index.segments[place.segment as usize].clone()))
    }

    /// Reads one object.
    pub fn get(&self, kind: Kind, name: Name) -> Result<Vec<u8>, VaultError> {
        self.get_through(kind, name, &mut Window::default())
    }

    /// A chunk that was unpacked a short while ago.
    pub(crate) fn unpacked(&self, name: Name) -> Option<Arc<Vec<u8>>> {
        self.cache.get(&name)
    }

    /// Whether a window holds an object.
    pub(crate) fn is_in(&self, name: Name, window: &Window) -> bool {
        self.place(name)
            .is_some_and(|(place, _)| window.holds(place))
    }

    /// Reads a chunk through a window, and keeps it for those who want it next.
    pub(crate) fn unpack_through(
        &self,
        name: Name,
        window: &mut Window,
    ) -> Result<Arc<Vec<u8>>, VaultError> {
        let bytes = Arc::new(self.get_through(Kind::Chunk, name, window)?);
        self.cache.insert(name, bytes.clone());
        Ok(bytes)
    }

    /// Reads one object through a window that holds what lies behind it.
    pub(crate) fn get_through(
        &self,
        kind: Kind,
        name: Name,
        window: &mut Window,
    ) -> Result<Vec<u8>, VaultError> {
        let (place, segment) = self.place(name).ok_or(VaultError::Missing { name })?;
        let start = u64::from(place.offset);
        let end = start + u64::from(place.len);
        if !window.holds(place) {
            let path = Path::from(format!("segment/{segment}"));
            let wanted = start..end.max(start + WINDOW);
            let bytes = self.runtime.block_on(async {
                // The end of the segment cuts the range short, which is no error.
                self.store.get_range(&path, wanted).await
            })?;
            *window = Window {
                segment: Some(place.segment),
                offset: start,
                bytes,
            };
        }
        let from = (start - window.offset) as usize;
        let sealed = window
            .bytes
            .get(from..from + place.len as usize)
            .ok_or(VaultError::Damaged { name })?;
        let packed = self
            .keys
            .open_object(&name.0, sealed, || format!("{name:?} in the vault"))?;
        let plain = unpack(&packed).ok_or(VaultError::Damaged { name })?;
        if self.name(kind, &plain) != name {
            return Err(VaultError::Damaged { name });
        }
        Ok(plain)
    }

    /// Packs and seals content under its name.
    pub(crate) fn seal(
        &self,
        name: Name,
        bytes: &[u8],
        packer: &mut Packer,
    ) -> Result<Vec<u8>, VaultError> {
        let packed = packer.pack(bytes)?;
        Ok(self.keys.seal_object(&name.0, packed)?)
    }

    /// Starts a run of additions.
    pub(crate) fn writer(&self) -> Writer<'_> {
        Writer {
            vault: self,
            packer: Packer::default(),
            segment: Vec::new(),
            rows: Vec::new(),
            pending: HashMap::new(),
            growth: Growth::default(),
        }
    }

    /// Removes those of the given segments of which nothing is named by the manifests in `kept`;
    /// answers how many bytes that freed. For what a failed run of additions left behind.
    ///
    /// Nobody may add to the vault meanwhile, and every manifest that was stored since the first of
    /// the segments and is still wanted must be in `kept`: older ones cannot name what is in them.
    pub fn remove_unnamed(&self, segments: &[SegmentId], kept: &[Name]) -> Result<u64, VaultError> {
        let mut named = HashSet::new();
        for name in kept {
            named.insert(*name);
            named.extend(crate::Manifest::named_by(self, *name)?);
        }
        let mut held: HashMap<u32, Vec<(Name, u32)>> = HashMap::new();
        let ids: HashMap<u32, String> = {
            let index = self.index.read().unwrap_or_else(|e| e.into_inner());
            let wanted: HashSet<&str> = segments.iter().map(|SegmentId(id)| id.as_str()).collect();
            let numbered = index.segments.iter().enumerate();
            let ids: HashMap<u32, String> = numbered
                .filter(|(_, id)| wanted.contains(&***id))
                .map(|(number, id)| (number as u32, id.to_string()))
                .collect();
            for (name, place) in index
                .places
                .iter()
                .filter(|(_, p)| ids.contains_key(&p.segment))
            {
                held.entry(place.segment)
                    .or_default()
                    .push((*name, place.len));
            }
            ids
        };
        let mut freed = 0;
        for (number, id) in ids {
            let rows = held.remove(&number).unwrap_or_default();
            if rows.iter().any(|(name, _)| named.contains(name)) {
                continue;
            }
            // The index goes first: from then on nothing counts as stored there.
            self.runtime.block_on(async {
                self.store
                    .delete(&Path::from(format!("index/{id}")))
                    .await?;
                self.store
                    .delete(&Path::from(format!("segment/{id}")))
                    .await
            })?;
            let mut index = self.index.write().unwrap_or_else(|e| e.into_inner());
            for (name, len) in rows {
                index.places.remove(&name);
                freed += u64::from(len);
            }
        }
        Ok(freed)
    }

    /// All segments.
    pub fn segments(&self) -> Vec<SegmentId> {
        let index = self.index.read().unwrap_or_else(|e| e.into_inner());
        let mut held: Vec<u32> = index.places.values().map(|place| place.segment).collect();
        held.sort_unstable();
        held.dedup();
        let ids = held.iter().map(|number| &index.segments[*number as usize]);
        ids.map(|id| SegmentId(id.to_string())).collect()
    }

    /// Removes segments that have no index, as the end of the service leaves them between the two;
    /// answers how many bytes that freed. Nobody may add to the vault meanwhile.
    pub fn remove_unindexed(&self) -> Result<u64, VaultError> {
        let known: HashSet<Arc<str>> = {
            let index = self.index.read().unwrap_or_else(|e| e.into_inner());
            index.segments.iter().cloned().collect()
        };
        self.runtime.block_on(async {
            let (mut freed, mut gone) = (0, Vec::new());
            let mut listed = self.store.list(Some(&Path::from("segment")));
            while let Some(object) = listed.try_next().await? {
                let id = object.location.filename().unwrap_or("");
                if !known.contains(id) {
                    freed += object.size;
                    gone.push(object.location);
                }
            }
            for location in gone {
                self.store.delete(&location).await?;
            }
            Ok(freed)
        })
    }

    fn commit(&self, bytes: Vec<u8>, rows: &[Row]) -> Result<SegmentId, VaultError> {
        let mut id = [0; 16];
        getrandom::fill(&mut id).map_err(|e| VaultError::Pack(std::io::Error::other(e)))?;
        let id = hex::encode(id);
        let index = self
            .keys
            .seal_object(id.as_bytes(), &segment::encode(rows))?;
        self.runtime.block_on(async {
            self.store
                .put(&Path::from(format!("segment/{id}")), bytes.into())
                .await?;
            self.store
                .put(&Path::from(format!("index/{id}")), index.into())
                .await
        })?;
        self.index
            .write()
            .unwrap_or_else(|e| e.into_inner())
            .add(&id, rows);
        Ok(SegmentId(id))
    }
}

impl Index {
    fn add(&mut self, id: &str, rows: &[Row]) {
        let segment = self.segments.len() as u32;
        self.segments.push(id.into());
        for row in rows {
            self.places.insert(
                row.name,
                Place {
                    segment,
                    offset: row.offset,
                    len: row.len,
                },
            );
        }
    }
}

/// Gathers sealed objects into segments. What was put counts as stored after [`Writer::finish`].
pub(crate) struct Writer<'v> {
    vault: &'v Vault,
    packer: Packer,
    segment: Vec<u8>,
    rows: Vec<Row>,
    pending: HashMap<Name, ()>,
    growth: Growth,
}

impl Writer<'_> {
    /// Adds content unless it is there.
    pub fn put(&mut self, kind: Kind, bytes: &[u8]) -> Result<Name, VaultError> {
        let name = self.vault.name(kind, bytes);
        if !self.vault.holds(name) && !self.pending.contains_key(&name) {
            let sealed = self.vault.seal(name, bytes, &mut self.packer)?;
            self.put_sealed(name, &sealed)?;
        }
        Ok(name)
    }

    /// Adds content that is sealed already, unless it is there.
    pub fn put_sealed(&mut self, name: Name, sealed: &[u8]) -> Result<(), VaultError> {
        if self.vault.holds(name) || self.pending.insert(name, ()).is_some() {
            return Ok(());
        }
        self.rows.push(Row {
            name,
            offset: self.segment.len() as u32,
            len: sealed.len() as u32,
        });
        self.segment.extend(sealed);
        self.growth.new += 1;
        self.growth.stored += sealed.len() as u64;
        if self.segment.len() >= SEGMENT {
            self.flush()?;
        }
        Ok(())
    }

    /// Stores what is still held.
    pub fn flush(&mut self) -> Result<(), VaultError> {
        if self.rows.is_empty() {
            return Ok(());
        }
        let segment = std::mem::take(&mut self.segment);
        let id = self.vault.commit(segment, &self.rows)?;
        self.growth.segments.push(id);
        self.rows.clear();
        self.pending.clear();
        Ok(())
    }

    /// What was added so far, whether or not it is all that was wanted.
    pub fn into_growth(self) -> Growth {
        self.growth
    }

    /// Stores what is still held; returns when it is on the medium.
    pub fn finish(mut self) -> Result<Growth, VaultError> {
        self.flush()?;
        Ok(self.growth)
    }
}

/// Packs content: one byte for the method, the plain length in four, then the bytes.
#[derive(Default)]
pub(crate) struct Packer {
    zstd: Option<zstd::bulk::Compressor<'static>>,
    out: Vec<u8>,
}

const STORED: u8 = 0;
const ZSTD: u8 = 1;

impl Packer {
    fn pack(&mut self, bytes: &[u8]) -> Result<&[u8], VaultError> {
        let zstd = match &mut self.zstd {
            Some(zstd) => zstd,
            none => none.insert(zstd::bulk::Compressor::new(LEVEL).map_err(VaultError::Pack)?),
        };
        self.out.resize(5 + bytes.len().max(CHUNK_LEN), 0);
        self.out[1..5].copy_from_slice(&(bytes.len() as u32).to_le_bytes());
        // A buffer no longer than the content makes packing fail where it would not pay.
        let len = match zstd.compress_to_buffer(bytes, &mut self.out[5..5 + bytes.len()]) {
            Ok(len) => {
                self.out[0] = ZSTD;
                len
            }
            Err(_) => {
                self.out[0] = STORED;
                self.out[5..5 + bytes.len()].copy_from_slice(bytes);
                bytes.len()
            }
        };
        Ok(&self.out[..5 + len])
    }
}

thread_local! {
    /// Making one takes longer than unpacking a chunk with it.
    static UNPACKER: std::cell::RefCell<Option<zstd::bulk::Decompressor<'static>>> = const { std::cell::RefCell::new(None) };
}

fn unpack(packed: &[u8]) -> Option<Vec<u8>> {
    let (head, body) = packed.split_at_checked(5)?;
    let len = u32::from_le_bytes(head[1..].try_into().ok()?) as usize;
    let plain = match head[0] {
        STORED => body.to_vec(),
        ZSTD if len <= MOST_PLAIN => UNPACKER.with_borrow_mut(|unpacker| {
            let unpacker = match unpacker {
                Some(unpacker) => unpacker,
                none => none.insert(zstd::bulk::Decompressor::new().ok()?),
            };
            unpacker.decompress(body, len).ok()
        })?,
        _ => return None,
    };
    (plain.len() == len).then_some(plain)
}
