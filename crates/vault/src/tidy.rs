//! Tidying: what nothing refers to goes, beside running work.
//!
//! A round of tidying begins with a look at which segments nobody relies on. Whatever is relied upon from then on
//! stays, so that content that a job shares between the look at the records and the end of the round is safe. A
//! segment of which little is left is copied before it goes: the new place counts first, and the old one is deleted
//! some time later, when no reader can be on its way there any more.

use std::sync::Arc;
use std::time::Duration;

use object_store::ObjectStoreExt;

use crate::error::VaultError;
use crate::index::NameSet;
use crate::keys::Name;
use crate::manifest::Manifest;
use crate::objects::SegmentId;
use crate::objects::{index_path, segment_path};
use crate::piece::{self, Kind};
use crate::segment::{self, PIECE_HEAD, Row, SEGMENT};
use crate::shared::Round;
use crate::store::{Asking, Vault};

/// A segment that is shorter, in bytes, is put together with others.
const SMALL: u64 = 1 << 20;
/// So many of them at least.
const TOGETHER: usize = 16;
/// Segments whose pieces are looked up at once.
const BATCH: usize = 64;

/// Whether a note stays, told from its text and which manifests stay.
pub type NoteStays<'a> = dyn Fn(&str, &dyn Fn(Name) -> bool) -> bool + 'a;

/// What tidying is told from.
pub struct Tidying<'a> {
    /// The manifests that somebody refers to. Asked for after the round began: what is recorded later is relied upon
    /// until then.
    pub kept: &'a mut dyn FnMut() -> Result<Vec<Name>, VaultError>,
    /// Which notes stay: those of which the text says so.
    pub note_stays: &'a NoteStays<'a>,
    /// Only these segments are looked at; all, if none are given.
    pub only: Option<&'a [SegmentId]>,
    /// A segment of which less than so many hundredths are still used is copied.
    pub copy_below: u8,
    /// Whether what is sealed under an older key is sealed anew.
    pub seal_anew: bool,
    /// Told how far it is: segments done, of how many. Whether to go on.
    pub progress: &'a mut dyn FnMut(u64, u64) -> bool,
}

/// What came of tidying.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tidied {
    /// Bytes of segments that went.
    pub freed: u64,
    /// Segments that went.
    pub segments: u64,
    /// Bytes that were copied into new segments.
    pub copied: u64,
    /// Segments that stayed because somebody relies on them.
    pub in_use: u64,
    /// Manifests that are referred to and cannot be read whole; nothing went because of them.
    pub broken: Vec<Name>,
}

/// What of a segment is used.
#[derive(Clone, Copy, Default)]
struct Use {
    used: u64,
    unused: u64,
}

/// Segments by what tidying does with them, with their lengths.
#[derive(Default)]
struct Sorted {
    /// Nothing in them is used: they go.
    unused: Vec<(u32, u64)>,
    /// What is used of them is copied elsewhere.
    copied: Vec<(u32, u64)>,
    /// They stay.
    full: Vec<(u32, u64)>,
}

impl Vault {
    /// Takes away what nothing refers to.
    ///
    /// # Errors
    /// What `kept` or the store says, or [`VaultError::Cancelled`]. What went until then was not referred to.
    pub fn tidy(self: &Arc<Self>, tidying: Tidying<'_>) -> Result<Tidied, VaultError> {
        let _alone = self.tidying.lock().unwrap_or_else(|e| e.into_inner());
        self.tidies_itself();
        if self.is_shared() {
            // Everything, so that what is used of a segment is known even where the same lay elsewhere before.
            self.refresh(true)?;
        }
        let mut candidates = self.index_mut().begin_round();
        if self.is_shared() {
            // Those are another one's to delete, and may be gone at any moment.
            let index = self.index();
            candidates.retain(|number| !index.is_leaving(*number));
        }
        let round = self.shared.others().map(|others| others.begin());
        let round = round.transpose()?;
        let ask = |numbers: &[u32]| self.ask(round.as_deref(), numbers);
        if let Some(only) = tidying.only {
            let index = self.index();
            candidates.retain(|number| {
                let id = &index.segments[*number as usize].id;
                only.iter().any(|wanted| wanted.0 == *id)
            });
        }
        let mut tidied = Tidied::default();
        let everything = self.index().segments.iter().filter(|one| one.there).count() as u64;
        tidied.in_use = match tidying.only {
            None => everything - candidates.len() as u64,
            Some(_) => 0,
        };
        if candidates.is_empty() {
            return Ok(tidied);
        }
        let mut named = NameSet::default();
        let kept = (tidying.kept)()?;
        tidied.broken = Manifest::mark(self, &kept, &mut named);
        if !tidied.broken.is_empty() {
            // What they name is not known, so that everything may be named by them.
            return Ok(tidied);
        }
        self.name_notes(&mut named, tidying.note_stays);
        let uses = self.uses(&named);
        let Sorted {
            unused,
            mut copied,
            full,
        } = self.sorted(&candidates, &uses, tidying.copy_below);
        if tidying.seal_anew {
            for (number, len) in full {
                if self.is_sealed_under_old(number)? {
                    copied.push((number, len));
                }
            }
        }
        let total = copied.iter().map(|(_, len)| len).sum::<u64>();
        if !(tidying.progress)(0, total) {
            return Err(VaultError::Cancelled);
        }
        let mut asked: Vec<u32> = unused.iter().map(|(number, _)| *number).collect();
        asked.retain(|number| self.index().may_go(*number));
        let asked = ask(&asked)?;
        let gone = {
            let mut index = self.index_mut();
            let free: Vec<_> = unused
                .iter()
                .filter(|(number, _)| asked.contains(number) && index.may_go(*number))
                .collect();
            tidied.in_use += (unused.len() - free.len()) as u64;
            tidied.freed += free.iter().map(|(_, len)| len).sum::<u64>();
            tidied.segments += free.len() as u64;
            let free: Vec<u32> = free.into_iter().map(|(number, _)| *number).collect();
            index.drop_segments(&free)
        };
        self.doom(gone);
        let mut done = 0;
        let mut copying = Copying::new(self, &named, tidying.seal_anew, &ask);
        for batch in copied.chunks(BATCH) {
            let numbers: Vec<u32> = batch.iter().map(|(number, _)| *number).collect();
            let mut rows = self.index().rows_of(&numbers);
            for (number, len) in batch {
                if !(tidying.progress)(done, total) {
                    return Err(VaultError::Cancelled);
                }
                let rows = rows.remove(number).unwrap_or_default();
                copying.add(*number, *len, &rows, &mut tidied)?;
                done += len;
            }
        }
        copying.flush(&mut tidied)?;
        (tidying.progress)(total, total);
        Ok(tidied)
    }

    /// Notes that stay with their manifests.
    fn name_notes(&self, named: &mut NameSet, stays: &NoteStays<'_>) {
        for (name, text) in self.notes() {
            if stays(&text, &|manifest| named.contains(&manifest)) {
                named.insert(name);
            }
        }
    }

    /// What tidying does with these segments.
    fn sorted(&self, candidates: &[u32], uses: &[Use], copy_below: u8) -> Sorted {
        let (mut sorted, mut small) = (Sorted::default(), Vec::new());
        let index = self.index();
        for number in candidates.iter().copied() {
            let of = uses.get(number as usize).copied().unwrap_or_default();
            let len = index.segments[number as usize].len;
            if of.used == 0 {
                sorted.unused.push((number, len));
            } else if of.used < len / 100 * u64::from(copy_below) {
                sorted.copied.push((number, len));
            } else if len < SMALL {
                small.push((number, len));
            } else {
                sorted.full.push((number, len));
            }
        }
        // Small segments, one for each card that was written, are put together, many at once: not the same ones
        // again and again.
        match copy_below > 0 && small.len() >= TOGETHER {
            true => sorted.copied.extend(small),
            false => sorted.full.extend(small),
        }
        sorted
    }

    /// Bytes that tidying would free if these manifests were kept and nothing else, by what it does then; nothing is
    /// changed. `None` where one of them is not whole: nothing would go then.
    pub fn would_free(
        self: &Arc<Self>,
        kept: &[Name],
        note_stays: &NoteStays<'_>,
        copy_below: u8,
    ) -> Option<u64> {
        let mut named = NameSet::default();
        if !Manifest::mark(self, kept, &mut named).is_empty() {
            return None;
        }
        self.name_notes(&mut named, note_stays);
        let uses = self.uses(&named);
        let candidates: Vec<u32> = {
            let index = self.index();
            let there = (0..).zip(&index.segments).filter(|(_, one)| one.there);
            there.map(|(number, _)| number).collect()
        };
        let sorted = self.sorted(&candidates, &uses, copy_below);
        let unused = sorted.unused.iter().map(|(_, len)| len).sum::<u64>();
        let copied = sorted.copied.iter().map(|(number, len)| {
            let of = uses.get(*number as usize).copied().unwrap_or_default();
            len.saturating_sub(of.used)
        });
        Some(unused + copied.sum::<u64>())
    }

    /// Asks the other services for segments; gives those that none of them relies on.
    fn ask(&self, round: Option<&dyn Round>, numbers: &[u32]) -> Result<Vec<u32>, VaultError> {
        let Some(round) = round.filter(|_| !numbers.is_empty()) else {
            return Ok(numbers.to_vec());
        };
        let ids: Vec<SegmentId> = {
            let index = self.index();
            let known = numbers
                .iter()
                .map(|number| &index.segments[*number as usize]);
            known.map(|known| SegmentId(known.id.clone())).collect()
        };
        self.asks_for(&ids);
        let stay = round.give_up(&ids)?;
        let pairs = numbers.iter().zip(&ids);
        Ok(pairs
            .filter(|(_, id)| !stay.contains(id))
            .map(|(number, _)| *number)
            .collect())
    }

    /// What is used of each segment, in bytes with the heads of pieces.
    fn uses(&self, named: &NameSet) -> Vec<Use> {
        let index = self.index();
        let mut uses = vec![Use::default(); index.segments.len()];
        for (name, place) in index.all_places() {
            let Some(of) = uses.get_mut(place.segment as usize) else {
                continue;
            };
            let bytes = u64::from(place.len) + PIECE_HEAD as u64;
            match named.contains(name) {
                true => of.used += bytes,
                false => of.unused += bytes,
            }
        }
        uses
    }

    /// Deletes the objects of segments that nobody could find any more for so long; gives how many.
    ///
    /// # Errors
    /// What the store says; the rest is deleted another time.
    pub fn bury(&self, after: Duration) -> Result<u64, VaultError> {
        let due: Vec<Arc<str>> = {
            let doomed = self.doomed.lock().unwrap_or_else(|e| e.into_inner());
            let due = doomed.iter().filter(|(since, _)| since.elapsed() >= after);
            due.map(|(_, id)| id.clone()).collect()
        };
        self.delete(&due)?;
        Ok(due.len() as u64)
    }

    /// The same at once for segments that nobody but the work that made them has ever read.
    ///
    /// # Errors
    /// What the store says; the rest is deleted another time.
    pub fn bury_these(&self, segments: &[SegmentId]) -> Result<(), VaultError> {
        let due: Vec<Arc<str>> = {
            let doomed = self.doomed.lock().unwrap_or_else(|e| e.into_inner());
            let due = doomed
                .iter()
                .filter(|(_, id)| segments.iter().any(|one| one.0 == *id));
            due.map(|(_, id)| id.clone()).collect()
        };
        self.delete(&due)
    }

    fn delete(&self, due: &[Arc<str>]) -> Result<(), VaultError> {
        for id in due {
            // The index first: one without a segment would be taken for a loss.
            for path in [index_path(id), segment_path(id)] {
                match self
                    .runtime
                    .block_on(async { self.store.delete(&path).await })
                {
                    Ok(()) | Err(object_store::Error::NotFound { .. }) => {}
                    Err(e) => return Err(e.into()),
                }
            }
            let mut doomed = self.doomed.lock().unwrap_or_else(|e| e.into_inner());
            doomed.retain(|(_, other)| other != id);
        }
        Ok(())
    }

    /// The whole of a segment.
    pub(crate) fn read_segment(&self, number: u32) -> Result<bytes::Bytes, VaultError> {
        let id = self.index().segments[number as usize].id.clone();
        let read = async {
            let got = self.store.get(&segment_path(&id)).await?;
            got.bytes().await
        };
        Ok(self.runtime.block_on(read)?)
    }

    fn is_sealed_under_old(&self, number: u32) -> Result<bool, VaultError> {
        let id = self.index().segments[number as usize].id.clone();
        let head = self.runtime.block_on(async {
            let range = 12..segment::HEAD as u64;
            self.store.get_range(&segment_path(&id), range).await
        })?;
        let key = head.first_chunk().map(|raw| u32::from_le_bytes(*raw));
        Ok(key != Some(self.keys.newest()))
    }

    /// How many pieces of each kind there are, and the bytes that they take.
    pub fn counts(&self) -> Vec<(Kind, u64, u64)> {
        let index = self.index();
        let mut all: Vec<(Kind, u64, u64)> = Kind::ALL.map(|kind| (kind, 0, 0)).to_vec();
        for (_, place) in index.all_places() {
            if let Some(of) = all.iter_mut().find(|(kind, ..)| *kind == place.kind) {
                of.1 += 1;
                of.2 += u64::from(place.len);
            }
        }
        all
    }
}

/// One segment that is being put together.
#[derive(Default)]
struct Target {
    bytes: Vec<u8>,
    rows: Vec<Row>,
    names: NameSet,
}

/// What is still used of several segments on its way into new ones: two, so that what lies twice lies in two again.
struct Copying<'a> {
    vault: &'a Vault,
    named: &'a NameSet,
    anew: bool,
    ask: &'a Asking<'a>,
    targets: [Target; 2],
    /// The segments that are in them whole, with their lengths.
    sources: Vec<(u32, u64)>,
}

impl<'a> Copying<'a> {
    fn new(vault: &'a Vault, named: &'a NameSet, anew: bool, ask: &'a Asking<'a>) -> Self {
        Self {
            vault,
            named,
            anew,
            ask,
            targets: Default::default(),
            sources: Vec::new(),
        }
    }

    /// Adds what is used of a segment. One that somebody relies on now, or of which a piece is damaged, stays as it
    /// is: whoever inspects the vault shall find that.
    fn add(
        &mut self,
        number: u32,
        len: u64,
        rows: &[Row],
        tidied: &mut Tidied,
    ) -> Result<(), VaultError> {
        if !self.vault.index().may_go(number) {
            tidied.in_use += 1;
            return Ok(());
        }
        let bytes = self.vault.read_segment(number)?;
        let mut again = Vec::new();
        for row in rows.iter().filter(|row| self.named.contains(&row.name)) {
            let sealed = bytes.get(row.offset as usize..(row.offset + row.len) as usize);
            let opens =
                |sealed: &&[u8]| self.vault.open_piece(row.kind, row.name, sealed).is_some();
            let sealed = sealed.filter(opens).and_then(|sealed| match self.anew {
                true => piece::reseal(&self.vault.keys, row.kind, row.name, sealed),
                false => Some(sealed.to_vec()),
            });
            match sealed {
                Some(sealed) => again.push((row, sealed)),
                None => return Ok(()),
            }
        }
        for (row, sealed) in again {
            let target = self
                .targets
                .iter_mut()
                .find(|target| !target.names.contains(&row.name));
            let Some(target) = target else { continue };
            if target.bytes.is_empty() {
                target.bytes.extend(segment::head(self.vault.keys.newest()));
            }
            let row = segment::append(&mut target.bytes, row.kind, row.name, &sealed);
            target.rows.push(row);
            target.names.insert(row.name);
        }
        self.sources.push((number, len));
        match self
            .targets
            .iter()
            .any(|target| target.bytes.len() >= SEGMENT)
        {
            true => self.flush(tidied),
            false => Ok(()),
        }
    }

    /// Stores what was added so far in its new place.
    fn flush(&mut self, tidied: &mut Tidied) -> Result<(), VaultError> {
        if self.sources.is_empty() {
            return Ok(());
        }
        let targets = std::mem::take(&mut self.targets);
        let moved = targets.map(|target| (target.bytes, target.rows));
        let copied = moved
            .iter()
            .map(|(bytes, _)| bytes.len() as u64)
            .sum::<u64>();
        let sources: Vec<u32> = self.sources.iter().map(|(number, _)| *number).collect();
        let gone = self.vault.commit_moved(&moved, &sources, self.ask)?;
        let freed: u64 = self
            .sources
            .iter()
            .filter(|(number, _)| gone.contains(number))
            .map(|(_, len)| len)
            .sum();
        tidied.segments += gone.len() as u64;
        tidied.in_use += (sources.len() - gone.len()) as u64;
        tidied.copied += copied;
        tidied.freed += freed.saturating_sub(copied);
        self.sources.clear();
        Ok(())
    }
}
