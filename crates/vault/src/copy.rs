//! A second vault elsewhere: segments that it does not have go there, whole and read back.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use object_store::{ObjectStore, ObjectStoreExt};

use crate::error::VaultError;
use crate::keys::{KeyError, Root};
use crate::objects::SegmentId;
use crate::objects::{index_bound, index_path, listed, segment_path};
use crate::ring;
use crate::segment;
use crate::store::Vault;

/// What came of copying.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Copied {
    /// Segments that went there.
    pub segments: u64,
    /// Bytes of them.
    pub bytes: u64,
    /// Segments that are there already.
    pub there: u64,
    /// Segments that are damaged here, and were not copied.
    pub damaged: Vec<SegmentId>,
    /// Segments that were damaged there, and went there again.
    pub replaced: u64,
}

/// What came of a look at a share of a second vault.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SecondChecked {
    /// Segments that were read there.
    pub segments: u64,
    /// Bytes of them.
    pub bytes: u64,
    /// Segments that are not there as they should be.
    pub damaged: Vec<SegmentId>,
    /// Where to go on, if it ended before everything was read.
    pub next: Option<SegmentId>,
}

/// A copy under way.
struct Copying<'a> {
    to: &'a Arc<dyn ObjectStore>,
    /// Segments that were there whole when it began, with their lengths.
    theirs: HashMap<String, u64>,
    /// Those of them that were found damaged there.
    damaged_there: &'a [SegmentId],
    /// Those that went there since.
    went: HashSet<SegmentId>,
    copied: Copied,
    progress: &'a mut dyn FnMut(u64, u64) -> bool,
}

/// What became of one segment.
enum Went {
    /// It is there, and was read back.
    There,
    /// It is damaged here.
    Damaged,
    /// It is not here any more; what is kept of it lies elsewhere.
    Moved,
}

impl Vault {
    /// Copies what `to` does not have: each segment is authenticated before it goes, and read back there. What was
    /// copied before is not copied again, so that it goes on where it was cut off. All that was here when it began, and is
    /// kept, is there at its end, whatever is tidied meanwhile. `progress` is told bytes, of how many; whether to go on.
    ///
    /// # Errors
    /// What either store says; [`KeyError::OtherVault`] where `to` belongs to another key; [`VaultError::Empty`] where
    /// nothing is there and it is not to `begin` one; [`VaultError::Cancelled`].
    pub fn copy_to(
        &self,
        to: &Arc<dyn ObjectStore>,
        root: &Root,
        begin: bool,
        damaged_there: &[SegmentId],
        progress: &mut dyn FnMut(u64, u64) -> bool,
    ) -> Result<Copied, VaultError> {
        let rings = self.runtime.block_on(listed(&**to, "keys"))?;
        if rings.is_empty() && !begin {
            return Err(VaultError::Empty);
        }
        let id = root.id();
        let foreign: Vec<_> = rings
            .keys()
            .filter(|name| !name.starts_with(&id))
            .cloned()
            .collect();
        // A former root of this vault is no other vault: the segments tell.
        let mut theirs = self.runtime.block_on(listed(&**to, "segment"))?;
        let ours = self.segments();
        if !foreign.is_empty()
            && !rings.contains_key(&id)
            && !theirs.is_empty()
            && !ours.iter().any(|one| theirs.contains_key(&*one.0))
        {
            let theirs = foreign.join(", ");
            return Err(KeyError::OtherVault { theirs, ours: id }.into());
        }
        self.runtime.block_on(ring::put(&**to, root, &self.keys))?;
        for name in foreign.iter().filter(|name| !name.ends_with(".copy")) {
            self.runtime.block_on(ring::forget(&**to, name))?;
        }
        let indexes = self.runtime.block_on(listed(&**to, "index"))?;
        theirs.retain(|id, _| {
            indexes.contains_key(id) && !damaged_there.iter().any(|bad| &*bad.0 == id)
        });
        let mut copying = Copying {
            to,
            theirs,
            damaged_there,
            went: HashSet::new(),
            copied: Copied::default(),
            progress,
        };
        // What is tidied meanwhile lies elsewhere from then on: it is copied from there.
        loop {
            self.look_again()?;
            if self.copy_listed(&mut copying)? {
                return Ok(copying.copied);
            }
        }
    }

    /// Copies the segments that there are now. Whether they were all there until it was their turn.
    fn copy_listed(&self, copying: &mut Copying<'_>) -> Result<bool, VaultError> {
        let listed: Vec<(u32, SegmentId, u64)> = {
            let index = self.index();
            let there = (0..).zip(&index.segments).filter(|(_, one)| one.there);
            there
                .map(|(number, one)| (number, SegmentId(one.id.clone()), one.len))
                .collect()
        };
        let (there, wanted): (Vec<_>, Vec<_>) = listed
            .into_iter()
            .filter(|(_, id, _)| !copying.went.contains(id))
            .partition(|(_, id, len)| copying.theirs.get(&*id.0) == Some(len));
        let before = copying.copied.bytes;
        let total = before + wanted.iter().map(|(.., len)| len).sum::<u64>();
        copying.copied.there = there.len() as u64;
        copying.copied.damaged.clear();
        let mut all = true;
        for (number, id, len) in wanted {
            if !(copying.progress)(copying.copied.bytes, total) {
                return Err(VaultError::Cancelled);
            }
            match self.copy_segment(copying.to, number, &id, len)? {
                Went::There => {
                    copying.copied.segments += 1;
                    copying.copied.bytes += len;
                    copying.copied.replaced += u64::from(copying.damaged_there.contains(&id));
                    copying.went.insert(id);
                }
                Went::Damaged => copying.copied.damaged.push(id),
                Went::Moved => all = false,
            }
        }
        (copying.progress)(copying.copied.bytes, total);
        Ok(all)
    }

    fn copy_segment(
        &self,
        to: &Arc<dyn ObjectStore>,
        number: u32,
        id: &SegmentId,
        len: u64,
    ) -> Result<Went, VaultError> {
        let rows = {
            let index = self.index();
            if !index.segments[number as usize].there {
                return Ok(Went::Moved);
            }
            index.rows_of(&[number]).remove(&number).unwrap_or_default()
        };
        let bytes = match self.read_segment(number) {
            Ok(bytes) => bytes,
            Err(VaultError::Store(object_store::Error::NotFound { .. })) => {
                // Another service may have moved what lies in it, or somebody taken it away: what it was relied upon for
                // is looked for from now on.
                self.is_there(number);
                return Ok(Went::Moved);
            }
            Err(e) => return Err(e),
        };
        let whole = rows.iter().all(|row| {
            let sealed = bytes.get(row.offset as usize..(row.offset + row.len) as usize);
            let opens = sealed.and_then(|sealed| self.open_piece(row.kind, row.name, sealed));
            opens.is_some()
        });
        if !whole {
            return Ok(Went::Damaged);
        }
        let plain = segment::encode(len, &rows);
        let index = self.keys.seal_object(&index_bound(&id.0), &plain)?;
        let put = async {
            to.put(&segment_path(&id.0), bytes.clone().into()).await?;
            let again = to.get(&segment_path(&id.0)).await?.bytes().await?;
            if again != bytes {
                return Ok(false);
            }
            to.put(&index_path(&id.0), index.into()).await?;
            Ok::<_, object_store::Error>(true)
        };
        match self.runtime.block_on(put)? {
            true => Ok(Went::There),
            false => Err(VaultError::Damaged {
                name: crate::Name([0; 32]),
            }),
        }
    }
}

impl Vault {
    /// Reads segments that `there` has of this vault, behind `after`, in the order of their names, until `most` bytes were
    /// read, and authenticates every piece of them.
    ///
    /// # Errors
    /// What the other store says; [`VaultError::Empty`] where nothing is there; [`VaultError::Cancelled`].
    pub fn check_second(
        &self,
        there: &Arc<dyn ObjectStore>,
        after: Option<&str>,
        most: u64,
        progress: &mut dyn FnMut(u64, u64) -> bool,
    ) -> Result<SecondChecked, VaultError> {
        if self.runtime.block_on(listed(&**there, "keys"))?.is_empty() {
            return Err(VaultError::Empty);
        }
        let theirs = self.runtime.block_on(listed(&**there, "segment"))?;
        let indexes = self.runtime.block_on(listed(&**there, "index"))?;
        let mut both: Vec<(SegmentId, u32, u64)> = {
            let index = self.index();
            let ours = (0..).zip(&index.segments).filter(|(_, one)| one.there);
            let both = ours.filter(|(_, one)| theirs.contains_key(&*one.id));
            both.map(|(number, one)| (SegmentId(one.id.clone()), number, one.len))
                .collect()
        };
        both.sort_unstable();
        both.retain(|(id, ..)| after.is_none_or(|after| &*id.0 > after));
        let total = both.iter().map(|(.., len)| len).sum::<u64>().min(most);
        let mut found = SecondChecked::default();
        let mut last = None;
        for (id, number, len) in both {
            if found.bytes > 0 && found.bytes + len > most {
                found.next = last;
                break;
            }
            if !progress(found.bytes, total.max(found.bytes)) {
                return Err(VaultError::Cancelled);
            }
            let read = async {
                let got = there.get(&segment_path(&id.0)).await?;
                got.bytes().await
            };
            let bytes = match self.runtime.block_on(read) {
                Ok(bytes) => bytes,
                Err(object_store::Error::NotFound { .. }) => bytes::Bytes::new(),
                Err(e) => return Err(e.into()),
            };
            let rows = self.index().rows_of(&[number]).remove(&number);
            let whole = rows.unwrap_or_default().iter().all(|row| {
                let sealed = bytes.get(row.offset as usize..(row.offset + row.len) as usize);
                let opens = sealed.and_then(|sealed| self.open_piece(row.kind, row.name, sealed));
                opens.is_some() && segment::describes(&bytes, row)
            });
            found.segments += 1;
            found.bytes += len;
            let is_indexed = indexes.contains_key(&*id.0);
            if !whole || bytes.len() as u64 != len || !is_indexed {
                found.damaged.push(id.clone());
            }
            last = Some(id);
        }
        progress(found.bytes, found.bytes);
        Ok(found)
    }

    /// Segments that `there` has and this vault does not: what was tidied away here, once everything that is needed is
    /// here.
    ///
    /// # Errors
    /// What the other store says.
    pub fn only_in(&self, there: &Arc<dyn ObjectStore>) -> Result<Vec<SegmentId>, VaultError> {
        let theirs = self.runtime.block_on(listed(&**there, "segment"))?;
        let ours: HashSet<Arc<str>> = self.segments().into_iter().map(|id| id.0).collect();
        let extra = theirs.into_keys().filter(|id| !ours.contains(id.as_str()));
        Ok(extra.map(|id| SegmentId(id.into())).collect())
    }

    /// Deletes segments of a second vault that this one does not have. One that it has stays.
    ///
    /// # Errors
    /// What the other store says; the rest is deleted another time.
    pub fn delete_in(
        &self,
        there: &Arc<dyn ObjectStore>,
        segments: &[SegmentId],
    ) -> Result<u64, VaultError> {
        let ours = self.segments();
        let mut gone = 0;
        for id in segments.iter().filter(|id| !ours.contains(id)) {
            // The index first: one without a segment would be taken for a loss.
            for path in [index_path(&id.0), segment_path(&id.0)] {
                match self.runtime.block_on(there.delete(&path)) {
                    Ok(()) | Err(object_store::Error::NotFound { .. }) => {}
                    Err(e) => return Err(e.into()),
                }
            }
            gone += 1;
        }
        Ok(gone)
    }
}
