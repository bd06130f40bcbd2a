//! Inspection: everything is read and authenticated, and what is damaged is named; and mending, where the same content
//! is still to be had elsewhere.

use std::collections::HashSet;
use std::sync::Arc;

use object_store::ObjectStoreExt;

use imagecraft::packed::Packer;

use crate::error::VaultError;
use crate::index::NameSet;
use crate::keys::Name;
use crate::manifest::Manifest;
use crate::objects::SegmentId;
use crate::objects::{index_bound, index_path};
use crate::piece::Kind;
use crate::segment::{self, Row};
use crate::store::Vault;

/// Segments whose pieces are looked up at once.
const BATCH: usize = 64;

/// A piece that is not what it should be.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Bad {
    /// What it is.
    pub kind: Kind,
    /// Its name.
    pub name: Name,
    /// Where it lies.
    pub segment: SegmentId,
}

/// What an inspection found, and made good by itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Inspected {
    /// Segments that were read.
    pub segments: u64,
    /// Pieces that were authenticated.
    pub pieces: u64,
    /// Bytes that were read.
    pub bytes: u64,
    /// Pieces that are damaged. They count as not there from now on, so that content that comes again is stored anew.
    pub bad: Vec<Bad>,
    /// Whole pieces that could not have been found again without an index, and were stored anew.
    pub undescribed: u64,
    /// Indexes that were damaged or gone, and were made again.
    pub indexes: u64,
    /// Pages, manifests and notes that lay in one place only, and were stored a second time.
    pub doubled: u64,
    /// Where to go on, if it ended before everything was read.
    pub next: Option<SegmentId>,
}

impl Vault {
    /// Reads and authenticates every piece of the segments behind `after`, in the order of their names, until `most`
    /// bytes were read. What is whole in one place and not in another is made good. `progress` is told the bytes that
    /// were read, of how many; whether to go on.
    ///
    /// # Errors
    /// What the store says, except that a segment is not there: that is damage.
    pub fn inspect(
        &self,
        after: Option<&str>,
        most: u64,
        progress: &mut dyn FnMut(u64, u64) -> bool,
    ) -> Result<Inspected, VaultError> {
        self.look_again()?;
        let mut all: Vec<(Arc<str>, u32, u64)> = {
            let index = self.index();
            let there = index.segments.iter().enumerate();
            let there = there.filter(|(_, known)| known.there);
            there
                .map(|(number, known)| (known.id.clone(), number as u32, known.len))
                .collect()
        };
        all.sort();
        // Where damage was met since the last look, whichever share it lies in.
        let doubtful = self.take_doubtful();
        let (of_share, mut first): (Vec<_>, Vec<_>) = std::mem::take(&mut all)
            .into_iter()
            .partition(|(id, ..)| after.is_none_or(|after| &**id > after));
        first.retain(|(_, number, _)| doubtful.contains(number));
        all = of_share;
        let total = all.iter().map(|(.., len)| len).sum::<u64>().min(most);
        let mut found = Inspected::default();
        for (id, number, _) in &first {
            let rows = self.index().rows_of(&[*number]).remove(number);
            self.inspect_segment(*number, id, &rows.unwrap_or_default(), &mut found)?;
        }
        found.bytes = 0;
        let mut looked_up = std::collections::HashMap::new();
        for (at, (id, number, len)) in all.iter().enumerate() {
            if at % BATCH == 0 {
                let batch = all[at..].iter().take(BATCH);
                let numbers: Vec<u32> = batch.map(|(_, number, _)| *number).collect();
                looked_up = self.index().rows_of(&numbers);
            }
            if found.bytes > 0 && found.bytes + len > most {
                found.next = at
                    .checked_sub(1)
                    .map(|before| SegmentId(all[before].0.clone()));
                break;
            }
            if !progress(found.bytes, total.max(found.bytes)) {
                return Err(VaultError::Cancelled);
            }
            let rows = looked_up.remove(number).unwrap_or_default();
            self.inspect_segment(*number, id, &rows, &mut found)?;
        }
        progress(found.bytes, found.bytes);
        if let Some(others) = self.shared.others().filter(|_| !found.bad.is_empty()) {
            let names: Vec<Name> = found.bad.iter().map(|bad| bad.name).collect();
            others.forget(&names);
        }
        found.bad.sort();
        found.doubled = self.store_twice()?;
        Ok(found)
    }

    fn inspect_segment(
        &self,
        number: u32,
        id: &Arc<str>,
        rows: &[Row],
        found: &mut Inspected,
    ) -> Result<(), VaultError> {
        let bytes = match self.read_segment(number) {
            Ok(bytes) => bytes,
            Err(VaultError::Store(object_store::Error::NotFound { .. })) => {
                // Tidied away while it was looked for, here or by another service, or gone.
                let index = self.index();
                if !index.segments[number as usize].there || index.is_leaving(number) {
                    return Ok(());
                }
                bytes::Bytes::new()
            }
            Err(e) => return Err(e),
        };
        // What was found damaged when it was read is not known here any more, and still stands in the index that lies in
        // the store.
        let told = self.stored_index(id, bytes.len() as u64)?;
        let mut all = rows.to_vec();
        let known: HashSet<(Name, u32)> = rows.iter().map(|row| (row.name, row.offset)).collect();
        let told_rows = told.iter().flatten();
        all.extend(told_rows.filter(|row| !known.contains(&(row.name, row.offset))));
        let (mut bad, mut undescribed) = (Vec::new(), Vec::new());
        for row in &all {
            let sealed = bytes.get(row.offset as usize..(row.offset + row.len) as usize);
            let opens = sealed.and_then(|sealed| self.open_piece(row.kind, row.name, sealed));
            if opens.is_none() {
                bad.push(*row);
            } else if !segment::describes(&bytes, row) {
                undescribed.push(*row);
            }
        }
        found.segments += 1;
        found.pieces += all.len() as u64;
        found.bytes += bytes.len() as u64;
        if !undescribed.is_empty() {
            // Nothing may be lost of what is whole: it lies in its new place before it is forgotten in the old one.
            let (mut again, mut moved) = (segment::head(self.keys.newest()).to_vec(), Vec::new());
            for row in &undescribed {
                let sealed = &bytes[row.offset as usize..][..row.len as usize];
                moved.push(segment::append(&mut again, row.kind, row.name, sealed));
            }
            self.commit_replaced(again, &moved, number)?;
            found.undescribed += undescribed.len() as u64;
        }
        let gone: Vec<Row> = bad.iter().chain(&undescribed).copied().collect();
        if !gone.is_empty() {
            self.forget(number, id, &all, &gone)?;
            found.bad.extend(bad.iter().map(|row| Bad {
                kind: row.kind,
                name: row.name,
                segment: SegmentId(id.clone()),
            }));
        } else if told.is_none() && !bytes.is_empty() {
            let pieces = segment::scan(&bytes, |row, sealed| {
                self.open_piece(row.kind, row.name, sealed).is_some()
            });
            self.put_index(id, bytes.len() as u64, &pieces)?;
            found.indexes += 1;
        }
        Ok(())
    }

    /// What the index of a segment says that lies in the store; nothing if it cannot be read, or is of another length.
    fn stored_index(&self, id: &str, len: u64) -> Result<Option<Vec<Row>>, VaultError> {
        let read = async {
            let got = self.store.get(&index_path(id)).await?;
            got.bytes().await
        };
        let sealed = match self.runtime.block_on(read) {
            Ok(sealed) => sealed,
            Err(object_store::Error::NotFound { .. }) => return Ok(None),
            Err(e) => return Err(e.into()),
        };
        let plain = self.keys.open_object(&index_bound(id), &sealed);
        let told = plain.and_then(|plain| segment::decode(&plain));
        Ok(told.filter(|(said, _)| *said == len).map(|(_, rows)| rows))
    }

    fn put_index(&self, id: &str, len: u64, rows: &[Row]) -> Result<(), VaultError> {
        let plain = segment::encode(len, rows);
        let index = self.keys.seal_object(&index_bound(id), &plain)?;
        let put = self
            .runtime
            .block_on(async { self.store.put(&index_path(id), index.into()).await });
        // If it cannot be stored, the next inspection finds the same again.
        if let Err(e) = put {
            tracing::warn!("the index of segment {id} cannot be stored: {e}");
        }
        Ok(())
    }

    /// Damaged pieces count as not there, also when the vault is opened again.
    fn forget(&self, number: u32, id: &str, rows: &[Row], bad: &[Row]) -> Result<(), VaultError> {
        let len = {
            let mut index = self.index_mut();
            for row in bad {
                index.forget(row.name, number);
            }
            index.segments[number as usize].len
        };
        let left: Vec<Row> = rows
            .iter()
            .filter(|row| !bad.contains(row))
            .copied()
            .collect();
        self.put_index(id, len, &left)
    }

    /// Stores what tells of many chunks a second time where it lies in one place only; gives how many pieces that were.
    ///
    /// # Errors
    /// What the store says.
    pub fn store_twice(&self) -> Result<u64, VaultError> {
        let once = self.index().lying_once();
        let (mut bytes, mut rows, mut done) = (Vec::new(), Vec::new(), 0);
        for (kind, name) in once {
            let sealed = match self.sealed(kind, name) {
                Ok(sealed) => sealed,
                Err(VaultError::Missing { .. } | VaultError::Damaged { .. }) => continue,
                Err(e) => return Err(e),
            };
            if bytes.is_empty() {
                bytes.extend(segment::head(self.keys.newest()));
            }
            rows.push(segment::append(&mut bytes, kind, name, &sealed));
            done += 1;
            if bytes.len() >= segment::SEGMENT {
                self.commit_copies(std::mem::take(&mut bytes), &rows)?;
                rows.clear();
            }
        }
        if !rows.is_empty() {
            self.commit_copies(bytes, &rows)?;
        }
        Ok(done)
    }

    /// Names that these manifests rest on and that are not there, for each manifest that misses some; of each at most
    /// `most`.
    pub fn missing(self: &Arc<Self>, roots: &[Name], most: usize) -> Vec<(Name, Vec<Name>)> {
        let mut broken = Vec::new();
        // Pages that were looked at are whole, or they are not in here.
        let mut whole = NameSet::default();
        for root in roots {
            let mut gone = Vec::new();
            match Manifest::load(self, *root) {
                Err(_) => gone.push(*root),
                Ok(manifest) => manifest.missing(&mut whole, most, &mut gone),
            }
            if !gone.is_empty() {
                broken.push((*root, gone));
            }
        }
        broken
    }

    /// Stores content again that was damaged or lost, from where it is still to be had. `bytes` gives the content of a
    /// name with its kind, if it has it; what does not fit its name is not taken. Gives the names that are there again.
    ///
    /// # Errors
    /// What the store says.
    pub fn mend(
        &self,
        wanted: &[Name],
        bytes: &mut dyn FnMut(Name) -> Option<(Kind, Vec<u8>)>,
    ) -> Result<Vec<Name>, VaultError> {
        let mut packer = Packer::default();
        let mut mended = Vec::new();
        let (mut segment, mut rows) = (Vec::new(), Vec::new());
        for name in wanted {
            let Some((kind, content)) = bytes(*name) else {
                continue;
            };
            if self.name(kind, &content) != *name {
                continue;
            }
            if segment.is_empty() {
                segment.extend(segment::head(self.keys.newest()));
            }
            let sealed = self.seal(kind, *name, &content, &mut packer)?;
            rows.push(segment::append(&mut segment, kind, *name, &sealed));
            mended.push(*name);
            if segment.len() >= segment::SEGMENT {
                self.commit_mended(std::mem::take(&mut segment), &rows)?;
                rows.clear();
            }
        }
        if !rows.is_empty() {
            self.commit_mended(segment, &rows)?;
        }
        Ok(mended)
    }
}
