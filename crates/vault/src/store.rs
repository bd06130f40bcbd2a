//! The vault over an object store: open, find, get, and put whole segments.

use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, RwLock, RwLockReadGuard, RwLockWriteGuard};
use std::time::Instant;

use futures::{StreamExt, TryStreamExt};
use imagecraft::packed::Packer;
use object_store::{ObjectStore, ObjectStoreExt};
use tokio::runtime::Handle;

use crate::error::VaultError;
use crate::index::Index;
use crate::keys::{Keys, Name, Root};
use crate::objects::{SegmentId, index_bound, index_path, listed, segment_path};
use crate::page::Page;
use crate::piece::{self, Kind, Naming};
use crate::ring;
use crate::segment::{self, Row};
use crate::shared::Shared;
use crate::unpacked::{Proof, Unpacked};
use crate::windows::Windows;

/// Objects that are read at once when the vault is opened.
pub(crate) const AT_ONCE: usize = 16;

/// What was added to the vault.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Growth {
    /// Pieces that were not there before.
    pub new: u64,
    /// Bytes they take, packed and sealed.
    pub stored: u64,
}

impl Growth {
    /// Adds what another run of additions came to.
    pub(crate) fn add(&mut self, more: Self) {
        self.new += more.new;
        self.stored += more.stored;
    }
}

/// What was found when the vault was opened.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Opened {
    /// Indexes that were gone, damaged or of another length than their segment, and were made again from it.
    pub made_again: Vec<SegmentId>,
    /// Segments that an index tells of and that are not there: what lay in them is lost here.
    pub lost: Vec<SegmentId>,
    /// Segments that cannot be read at all.
    pub unreadable: Vec<SegmentId>,
}

/// The content store. Its calls block and belong on job threads.
pub struct Vault {
    pub(crate) store: Arc<dyn ObjectStore>,
    pub(crate) keys: Arc<Keys>,
    naming: Naming,
    index: RwLock<Index>,
    opened: Opened,
    /// Chunks that were unpacked last.
    unpacked: Unpacked,
    /// Pages of manifests that were read last.
    pages: quick_cache::sync::Cache<Name, Arc<Page>, ByPage>,
    pub(crate) runtime: Handle,
    /// Held by whoever tidies, one at a time.
    pub(crate) tidying: Mutex<()>,
    /// Segments that nothing lies in any more, since when: readers that found their way there before may still come.
    pub(crate) doomed: Mutex<Vec<(Instant, Arc<str>)>>,
    /// Whether a piece was found damaged, when it was read, since that was asked last.
    damage_met: AtomicBool,
    /// Segments in which that was, since the last inspection.
    doubtful: Mutex<HashSet<u32>>,
    /// Other services over the same vault.
    pub(crate) shared: Shared,
    /// Held by whoever looks for what the others have added.
    pub(crate) refreshing: Mutex<()>,
}

/// Asks the other services for segments; gives those that none of them relies on.
pub(crate) type Asking<'a> = dyn Fn(&[u32]) -> Result<Vec<u32>, VaultError> + 'a;

/// Pages that are kept, in bytes: those of a disk of 40 GB.
const CACHED_PAGES: u64 = 12 << 20;

#[derive(Clone)]
pub(crate) struct ByPage;

impl quick_cache::Weighter<Name, Arc<Page>> for ByPage {
    fn weight(&self, _: &Name, page: &Arc<Page>) -> u64 {
        page.weight()
    }
}

/// One segment with what lies in it, as it was found when the vault was opened.
enum Found {
    /// By its index.
    Indexed(String, u64, Vec<Row>),
    /// By itself; its index was made again.
    Again(String, u64, Vec<Row>),
    /// Not at all.
    Unreadable(String),
}

/// Reads a segment that has no index that can be believed, and makes one.
async fn make_again(
    store: &dyn ObjectStore,
    keys: &Keys,
    naming: &Naming,
    id: String,
) -> Result<Found, VaultError> {
    let bytes = match store.get(&segment_path(&id)).await {
        Ok(got) => match got.bytes().await {
            Ok(bytes) => bytes,
            Err(_) => return Ok(Found::Unreadable(id)),
        },
        Err(_) => return Ok(Found::Unreadable(id)),
    };
    match segment::format_of(&bytes) {
        Some(2) => {}
        // Damage of the first bytes is no other format.
        Some(other) if other < 64 => return Err(VaultError::Format(other)),
        _ => {}
    }
    let rows = segment::scan(&bytes, |row, sealed| {
        piece::open(keys, naming, row.kind, row.name, sealed).is_some()
    });
    let len = bytes.len() as u64;
    let index = keys.seal_object(&index_bound(&id), &segment::encode(len, &rows))?;
    // One that cannot be put now is made again next time.
    if let Err(e) = store.put(&index_path(&id), index.into()).await {
        tracing::warn!("the index of segment {id} cannot be stored: {e}");
    }
    Ok(Found::Again(id, len, rows))
}

/// Reads the index of a segment that is there, or makes it again.
async fn found(
    store: &dyn ObjectStore,
    keys: &Keys,
    naming: &Naming,
    id: String,
    len: u64,
    has_index: bool,
) -> Result<Found, VaultError> {
    if has_index
        && let Ok(got) = store.get(&index_path(&id)).await
        && let Ok(sealed) = got.bytes().await
        && let Some(plain) = keys.open_object(&index_bound(&id), &sealed)
        && let Some((said, rows)) = segment::decode(&plain)
        && said == len
    {
        return Ok(Found::Indexed(id, len, rows));
    }
    make_again(store, keys, naming, id).await
}

impl Vault {
    /// Opens the vault in `store` with the root of its keys, or begins one where nothing is. An index that is gone,
    /// damaged, or does not fit its segment is made again from that; what cannot be read costs what lay in it and
    /// nothing else, and is said by [`Vault::opened`]. Must be called inside a Tokio runtime of several threads, which
    /// later calls use.
    ///
    /// # Errors
    /// [`crate::KeyError`] where the key is another one or the ring is gone; [`VaultError::Format`] of an older format; what
    /// the store says.
    pub async fn open(store: Arc<dyn ObjectStore>, root: &Root) -> Result<Arc<Self>, VaultError> {
        let keys = ring::open(&*store, root, true).await?;
        Self::opened_with(store, keys).await
    }

    /// The same of a vault that was begun before: where nothing is, nothing is written.
    ///
    /// # Errors
    /// As [`Vault::open`], and [`VaultError::Empty`].
    pub async fn open_existing(
        store: Arc<dyn ObjectStore>,
        root: &Root,
    ) -> Result<Arc<Self>, VaultError> {
        let keys = ring::open(&*store, root, false).await?;
        Self::opened_with(store, keys).await
    }

    /// Whether the vault is reached, and what it was opened with lies there.
    ///
    /// # Errors
    /// What the store says; [`VaultError::Empty`] where nothing lies there any more.
    pub async fn answers(&self) -> Result<(), VaultError> {
        match listed(&*self.store, "keys").await?.is_empty() {
            true => Err(VaultError::Empty),
            false => Ok(()),
        }
    }

    async fn opened_with(store: Arc<dyn ObjectStore>, keys: Keys) -> Result<Arc<Self>, VaultError> {
        let naming = Naming::new(&keys);
        let segments = listed(&*store, "segment").await?;
        let indexes = listed(&*store, "index").await?;
        let mut opened = Opened::default();
        let named = |id: &str| SegmentId(id.into());
        for id in indexes.keys().filter(|id| !segments.contains_key(*id)) {
            opened.lost.push(named(id));
        }
        let mut index = Index::default();
        {
            let (store, keys, naming) = (&*store, &keys, &naming);
            // In the order of their names, so that of what lies in two places the same one counts each time.
            let mut all: Vec<_> = segments.into_iter().collect();
            all.sort_unstable();
            let reads = all.into_iter().map(|(id, len)| {
                let has_index = indexes.contains_key(&id);
                found(store, keys, naming, id, len, has_index)
            });
            let mut reads = futures::stream::iter(reads).buffered(AT_ONCE);
            while let Some(one) = reads.try_next().await? {
                match one {
                    Found::Indexed(id, len, rows) => {
                        index.add(&id, len, &rows);
                    }
                    Found::Again(id, len, rows) => {
                        opened.made_again.push(named(&id));
                        index.add(&id, len, &rows);
                    }
                    Found::Unreadable(id) => opened.unreadable.push(named(&id)),
                }
            }
        }
        opened.lost.sort();
        Ok(Arc::new(Self {
            naming,
            store,
            keys: Arc::new(keys),
            index: RwLock::new(index),
            opened,
            unpacked: Unpacked::new(),
            pages: quick_cache::sync::Cache::with_weighter(512, CACHED_PAGES, ByPage),
            runtime: Handle::current(),
            tidying: Mutex::default(),
            doomed: Mutex::default(),
            damage_met: AtomicBool::new(false),
            doubtful: Mutex::default(),
            shared: Shared::default(),
            refreshing: Mutex::default(),
        }))
    }

    /// What was found when it was opened.
    pub fn opened(&self) -> &Opened {
        &self.opened
    }

    /// The keys of the vault and of the records beside it.
    pub fn keys(&self) -> &Arc<Keys> {
        &self.keys
    }

    /// Changes the root of the keys, and seals new content under a new key from now on. The ring opens with both roots
    /// until [`Vault::forget_root`] is told that the new one is kept.
    ///
    /// # Errors
    /// What the store says; everything is as it was then.
    pub async fn rekey(&self, root: &Root) -> Result<(), VaultError> {
        let ring = self.keys.with_another()?;
        ring::put(&*self.store, root, &ring).await?;
        self.keys.take_over(&ring);
        Ok(())
    }

    /// Only this root opens the vault from now on; gives how many others did, which a change of the root that was cut
    /// off has left.
    ///
    /// # Errors
    /// What the store says.
    pub async fn forget_other_roots(&self, root: &Root) -> Result<usize, VaultError> {
        ring::forget_others(&*self.store, &root.id()).await
    }

    /// A former root does not open the vault any more. What it opened before that can still be read by whoever has
    /// it together with a copy of the vault from that time.
    ///
    /// # Errors
    /// What the store says.
    pub async fn forget_root(&self, id: &str) -> Result<(), VaultError> {
        ring::forget(&*self.store, id).await
    }

    pub(crate) fn index(&self) -> RwLockReadGuard<'_, Index> {
        self.index.read().unwrap_or_else(|e| e.into_inner())
    }

    pub(crate) fn index_mut(&self) -> RwLockWriteGuard<'_, Index> {
        self.index.write().unwrap_or_else(|e| e.into_inner())
    }

    /// Bytes that all segments take.
    pub fn stored(&self) -> u64 {
        let index = self.index();
        let there = index.segments.iter().filter(|known| known.there);
        there.map(|known| known.len).sum()
    }

    /// The name of content.
    pub fn name(&self, kind: Kind, bytes: &[u8]) -> Name {
        self.naming.name(kind, bytes)
    }

    /// The name of content of which only the BLAKE3 digest is at hand, in vaults where that tells it.
    pub(crate) fn name_of_digest(&self, kind: Kind, digest: &[u8; 32]) -> Option<Name> {
        self.naming.of_digest(kind, digest)
    }

    /// The chunk of a BLAKE3 digest, where the vault has it and its names tell that.
    pub fn chunk_of_digest(&self, digest: &[u8; 32]) -> Option<Arc<Vec<u8>>> {
        let name = self.naming.of_digest(Kind::Chunk, digest)?;
        if let Some(known) = self.unpacked(name, Proof::Here) {
            return Some(known);
        }
        // One that cannot be read is as good as none.
        let there = self.holds(name).then(|| self.get(Kind::Chunk, name));
        there?.ok().map(Arc::new)
    }

    /// Whether content is there, as far as the index knows.
    pub fn holds(&self, name: Name) -> bool {
        self.index().place(name).is_some()
    }

    /// The segments that content lies in, pinned unless they are `held` already.
    pub(crate) fn pin_places(&self, name: Name, held: impl Fn(u32) -> bool) -> Vec<u32> {
        {
            let index = self.index();
            let segments: Vec<u32> = index.places_of(name).map(|place| place.segment).collect();
            if segments.iter().all(|segment| held(*segment)) {
                return segments;
            }
        }
        // Between the two somebody may have tidied: it counts what is so now.
        let mut index = self.index_mut();
        let mut segments: Vec<u32> = index.places_of(name).map(|place| place.segment).collect();
        segments.retain(|segment| held(*segment) || !index.is_leaving(*segment));
        for segment in segments.iter().filter(|segment| !held(**segment)) {
            index.pin(*segment);
        }
        segments
    }

    pub(crate) fn unpin(&self, segments: &[u32]) {
        let mut index = self.index_mut();
        for segment in segments {
            index.unpin(*segment);
        }
    }

    /// Whether a segment is where it should be, with its whole length; else nobody relies on it from now on.
    pub(crate) fn is_there(&self, segment: u32) -> bool {
        let (id, len) = match self.index().segments.get(segment as usize) {
            Some(known) => (known.id.clone(), known.len),
            None => return false,
        };
        let head = self
            .runtime
            .block_on(async { self.store.head(&segment_path(&id)).await });
        match head {
            Ok(object) if object.size == len => true,
            // A store that does not answer says nothing about the segment.
            Err(e) if !matches!(e, object_store::Error::NotFound { .. }) => true,
            _ => {
                tracing::error!("segment {id} of the vault is gone or has another length");
                self.index_mut().drop_segments(&[segment]);
                self.shared.went();
                false
            }
        }
    }

    /// Reads one piece, and nothing beside it.
    ///
    /// # Errors
    /// [`VaultError::Missing`], [`VaultError::Damaged`], or what the store says.
    pub fn get(&self, kind: Kind, name: Name) -> Result<Vec<u8>, VaultError> {
        self.read_piece(name, None, |sealed| self.open_piece(kind, name, sealed))
    }

    /// The content of a name with its kind, where that is not known.
    ///
    /// # Errors
    /// Like those of [`Vault::get`]. Who asks for a wrong kind would take what is whole for damaged.
    pub fn get_any(&self, name: Name) -> Result<(Kind, Vec<u8>), VaultError> {
        let found = std::cell::Cell::new(Kind::Chunk);
        let content = self.read_piece(name, None, |sealed| {
            Kind::ALL.into_iter().find_map(|kind| {
                found.set(kind);
                self.open_piece(kind, name, sealed)
            })
        })?;
        Ok((found.get(), content))
    }

    /// A chunk that was unpacked a short while ago.
    pub(crate) fn unpacked(&self, name: Name, proof: Proof) -> Option<Arc<Vec<u8>>> {
        let is_named = |bytes: &[u8]| self.name(Kind::Chunk, bytes) == name;
        self.unpacked.get(name, proof, is_named)
    }

    /// Reads a chunk through windows, and keeps it for those who want it next.
    pub(crate) fn unpack_through(
        &self,
        name: Name,
        windows: &Windows,
        proof: Proof,
    ) -> Result<Arc<Vec<u8>>, VaultError> {
        let open = |sealed: &[u8]| match proof {
            Proof::Here => self.open_piece(Kind::Chunk, name, sealed),
            Proof::Later => piece::unpack_sealed(&self.keys, Kind::Chunk, name, sealed),
        };
        let bytes = Arc::new(self.read_piece(name, Some(windows), open)?);
        self.unpacked.keep(name, &bytes, proof);
        Ok(bytes)
    }

    /// A page of a manifest, out of memory if it was read a short while ago.
    pub(crate) fn page(
        &self,
        name: Name,
        read: impl FnOnce(&[u8]) -> Result<Page, VaultError>,
    ) -> Result<Arc<Page>, VaultError> {
        if let Some(page) = self.pages.get(&name) {
            return Ok(page);
        }
        let page = Arc::new(read(&self.get(Kind::Page, name)?)?);
        self.pages.insert(name, page.clone());
        Ok(page)
    }

    /// Reads a chunk through windows, as it is packed.
    pub(crate) fn packed_through(
        &self,
        name: Name,
        windows: &Windows,
    ) -> Result<Vec<u8>, VaultError> {
        self.read_piece(name, Some(windows), |sealed| {
            piece::open_packed(&self.keys, Kind::Chunk, name, sealed)
        })
    }

    /// Reads one piece and opens it.
    fn read_piece(
        &self,
        name: Name,
        windows: Option<&Windows>,
        open: impl Fn(&[u8]) -> Option<Vec<u8>>,
    ) -> Result<Vec<u8>, VaultError> {
        let (mut gone, mut damaged, mut tries) = (None, Vec::new(), 0);
        loop {
            let found = {
                let index = self.index();
                let found = index.place(name);
                found.map(|(place, known)| (place, known.id.clone()))
            };
            let found = found.filter(|(place, _)| gone != Some(*place) && !damaged.contains(place));
            let Some((place, id)) = found else {
                // Another service may have stored it, or moved it.
                match self.look_for(&mut tries)? {
                    true => continue,
                    false if damaged.is_empty() => return Err(VaultError::Missing { name }),
                    false => return Err(VaultError::Damaged { name }),
                }
            };
            // The end of the segment cuts a range short, which is no error.
            let path = segment_path(&id);
            let read = |range| {
                self.runtime
                    .block_on(async { self.store.get_range(&path, range).await })
            };
            let sealed = match windows {
                Some(windows) => windows.piece(place, read),
                None => {
                    let start = u64::from(place.offset);
                    read(start..start + u64::from(place.len))
                }
            };
            let sealed = match sealed {
                // It may have been moved between the look at the index and this one.
                Err(object_store::Error::NotFound { .. }) => {
                    gone = Some(place);
                    continue;
                }
                sealed => sealed?,
            };
            if let Some(opened) = open(&sealed) {
                return Ok(opened);
            }
            tracing::error!("{name:?} in segment {id} of the vault is damaged");
            // It counts as not there, so that the same content is stored anew when it comes; the second place is tried.
            self.index_mut().forget(name, place.segment);
            self.damage_met.store(true, Ordering::Relaxed);
            let mut doubtful = self.doubtful.lock().unwrap_or_else(|e| e.into_inner());
            doubtful.insert(place.segment);
            drop(doubtful);
            damaged.push(place);
        }
    }

    /// Segments in which damage was met since this was asked last.
    pub(crate) fn take_doubtful(&self) -> HashSet<u32> {
        std::mem::take(&mut *self.doubtful.lock().unwrap_or_else(|e| e.into_inner()))
    }

    /// Whether a piece was found damaged, when it was read, since this was asked last: what rests on it is not known yet.
    pub fn met_damage(&self) -> bool {
        self.damage_met.swap(false, Ordering::Relaxed)
    }

    /// Opens a sealed piece; nothing if it is not what its name says.
    pub(crate) fn open_piece(&self, kind: Kind, name: Name, sealed: &[u8]) -> Option<Vec<u8>> {
        piece::open(&self.keys, &self.naming, kind, name, sealed)
    }

    /// Packs and seals content under its name.
    pub(crate) fn seal(
        &self,
        kind: Kind,
        name: Name,
        bytes: &[u8],
        packer: &mut Packer,
    ) -> Result<Vec<u8>, VaultError> {
        piece::seal(&self.keys, kind, name, bytes, packer)
    }

    /// Every note; one that cannot be read is left out.
    pub fn notes(&self) -> impl Iterator<Item = (Name, String)> {
        let names = self.index().of_kind(Kind::Note);
        names.into_iter().filter_map(|name| {
            let bytes = self.get(Kind::Note, name).ok()?;
            Some((name, String::from_utf8(bytes).ok()?))
        })
    }

    /// Every manifest.
    pub fn manifests(&self) -> Vec<Name> {
        self.index().of_kind(Kind::Manifest)
    }

    /// All segments in the order of their names.
    pub fn segments(&self) -> Vec<SegmentId> {
        let index = self.index();
        let there = index.segments.iter().filter(|known| known.there);
        let mut all: Vec<_> = there.map(|known| SegmentId(known.id.clone())).collect();
        all.sort();
        all
    }

    /// Stores a segment, and its index after it.
    fn put_segment(&self, bytes: Vec<u8>, rows: &[Row]) -> Result<(Arc<str>, u64), VaultError> {
        let mut id = [0; 16];
        getrandom::fill(&mut id).map_err(|e| VaultError::Pack(std::io::Error::other(e)))?;
        let id: Arc<str> = hex::encode(id).into();
        self.shared.makes(&id);
        let len = bytes.len() as u64;
        let plain = segment::encode(len, rows);
        let index = self.keys.seal_object(&index_bound(&id), &plain)?;
        self.runtime.block_on(async {
            self.store.put(&segment_path(&id), bytes.into()).await?;
            self.store.put(&index_path(&id), index.into()).await
        })?;
        Ok((id, len))
    }

    /// Stores a segment that work made, and pins it for that.
    pub(crate) fn commit(
        &self,
        bytes: Vec<u8>,
        rows: &[Row],
    ) -> Result<(u32, SegmentId), VaultError> {
        let (id, len) = self.put_segment(bytes, rows)?;
        let mut index = self.index_mut();
        let number = index.add(&id, len, rows);
        index.pin(number);
        // Under the lock of the index: whoever asks for it finds it in the one or in the other.
        self.shared.made(&id);
        Ok((number, SegmentId(id)))
    }

    /// Stores pieces that were copied out of segments, and finds them in their new place from then on. What changed
    /// its place meanwhile stays there, and so does everything in a segment that somebody relies on now. Gives the
    /// segments that nothing lies in any more.
    pub(crate) fn commit_moved(
        &self,
        moved: &[(Vec<u8>, Vec<Row>)],
        sources: &[u32],
        ask: &Asking<'_>,
    ) -> Result<Vec<u32>, VaultError> {
        let mut put = Vec::new();
        for (bytes, rows) in moved.iter().filter(|(_, rows)| !rows.is_empty()) {
            let (id, len) = self.put_segment(bytes.clone(), rows)?;
            put.push((id, len, rows));
        }
        // After it is in its new place, where the others find it then.
        // Where they cannot be asked it is a segment like any other, found at the next look.
        let sources =
            ask(sources).inspect_err(|_| put.iter().for_each(|(id, ..)| self.shared.made(id)))?;
        let mut index = self.index_mut();
        let free: Vec<u32> = sources
            .into_iter()
            .filter(|source| index.may_go(*source))
            .collect();
        for (id, len, rows) in &put {
            let number = index.add(id, *len, &[]);
            self.shared.made(id);
            index.moved(&free, number, rows);
        }
        let gone = index.drop_segments(&free);
        drop(index);
        self.doom(gone);
        Ok(free)
    }

    /// Nothing is found there any more; the objects go later.
    pub(crate) fn doom(&self, ids: Vec<Arc<str>>) {
        let mut doomed = self.doomed.lock().unwrap_or_else(|e| e.into_inner());
        let now = Instant::now();
        doomed.extend(ids.into_iter().map(|id| (now, id)));
    }

    /// Stores pieces that replace damaged ones.
    pub(crate) fn commit_mended(&self, bytes: Vec<u8>, rows: &[Row]) -> Result<(), VaultError> {
        let (id, len) = self.put_segment(bytes, rows)?;
        let mut index = self.index_mut();
        for row in rows {
            index.forget_everywhere(row.name);
        }
        index.add(&id, len, rows);
        self.shared.made(&id);
        Ok(())
    }

    /// Stores pieces again that lie in a segment in which they could not be found without its index.
    pub(crate) fn commit_replaced(
        &self,
        bytes: Vec<u8>,
        rows: &[Row],
        from: u32,
    ) -> Result<(), VaultError> {
        let (id, len) = self.put_segment(bytes, rows)?;
        let mut index = self.index_mut();
        let number = index.add(&id, len, &[]);
        index.moved(&[from], number, rows);
        self.shared.made(&id);
        Ok(())
    }

    /// Stores pieces a second time.
    pub(crate) fn commit_copies(&self, bytes: Vec<u8>, rows: &[Row]) -> Result<(), VaultError> {
        let (id, len) = self.put_segment(bytes, rows)?;
        self.index_mut().add(&id, len, rows);
        self.shared.made(&id);
        Ok(())
    }

    /// A piece as it is sealed, if it is what its name says.
    ///
    /// # Errors
    /// As [`Vault::get`].
    pub(crate) fn sealed(&self, kind: Kind, name: Name) -> Result<Vec<u8>, VaultError> {
        self.read_piece(name, None, |sealed| {
            let opens = self.open_piece(kind, name, sealed).is_some();
            opens.then(|| sealed.to_vec())
        })
    }
}
