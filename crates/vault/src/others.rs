//! Several services over one vault: each has its own index, finds what the others have added, and gives nothing away that
//! another relies on.
//!
//! Objects never change once they are there, so that an index can only miss something. What it misses it looks for: a
//! piece that is not found is looked for again in what came since, and at last in everything. Whoever tidies asks all
//! others before a segment goes: each answers which of them it relies on or did since the round began, and relies on the
//! rest no more. They can still be read there until they are deleted, and are found in their new places then.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures::{StreamExt, TryStreamExt};
use object_store::ObjectStoreExt;

use crate::error::VaultError;
use crate::keys::Name;
use crate::objects::{SegmentId, index_bound, index_path, listed};
use crate::segment::{self, Row};
use crate::shared::Others;
use crate::store::{AT_ONCE, Vault};

/// Between two looks at what the others have added: who comes sooner waits.
const PAUSE: Duration = Duration::from_millis(500);

impl Vault {
    /// From now on other services work with the same vault. Said once, before any work begins.
    pub fn share_with(&self, others: Arc<dyn Others>) {
        self.shared.meet(others);
    }

    /// Whether other services work with it.
    pub fn is_shared(&self) -> bool {
        self.shared.others().is_some()
    }

    /// Looks what the others have added, if there are any. Blocks.
    ///
    /// # Errors
    /// What the store says.
    pub fn look_again(&self) -> Result<(), VaultError> {
        match self.is_shared() {
            true => self.refresh(false),
            false => Ok(()),
        }
    }

    /// Looks for what is not found: in what came since it was looked last, then in everything. Whether to try again.
    pub(crate) fn look_for(&self, tries: &mut u32) -> Result<bool, VaultError> {
        if !self.is_shared() {
            return Ok(false);
        }
        *tries += 1;
        match *tries {
            1 => self.refresh(false)?,
            2..=4 if self.shared.state().went => self.refresh(true)?,
            _ => return Ok(false),
        }
        Ok(true)
    }

    /// Reads the indexes of segments that are not known yet, or of all.
    pub(crate) fn refresh(&self, all: bool) -> Result<(), VaultError> {
        let asked = Instant::now();
        let _one = self.refreshing.lock().unwrap_or_else(|e| e.into_inner());
        let looked = self.shared.state().looked;
        if let Some(looked) = looked.filter(|_| !all) {
            // Somebody else has looked since this was asked.
            if looked > asked {
                return Ok(());
            }
            std::thread::sleep((looked + PAUSE).saturating_duration_since(Instant::now()));
        }
        let begun = Instant::now();
        let (segments, indexes) = self.runtime.block_on(async {
            // Indexes first: one that is listed has its segment.
            let indexes = listed(&*self.store, "index").await?;
            Ok::<_, object_store::Error>((listed(&*self.store, "segment").await?, indexes))
        })?;
        // Before the index is looked at: what is being stored here comes into it by itself, once.
        let making = self.shared.state().making.clone();
        let known: HashMap<Arc<str>, u32> = {
            let index = self.index();
            let there = index.segments.iter().enumerate();
            let there = there.filter(|(_, known)| known.there);
            there
                .map(|(number, known)| (known.id.clone(), number as u32))
                .collect()
        };
        // What another one deletes is gone by now; what was lost otherwise is found when somebody relies on it.
        let buried: Vec<u32> = {
            let index = self.index();
            let gone = known
                .iter()
                .filter(|(id, _)| !segments.contains_key(&***id));
            let numbers = gone.map(|(_, number)| *number);
            numbers.filter(|number| index.is_leaving(*number)).collect()
        };
        if !buried.is_empty() {
            self.index_mut().drop_segments(&buried);
            self.shared.went();
        }
        {
            let mut state = self.shared.state();
            state.leaving.retain(|id| segments.contains_key(&**id));
        }
        let doomed: HashSet<Arc<str>> = {
            let doomed = self.doomed.lock().unwrap_or_else(|e| e.into_inner());
            doomed.iter().map(|(_, id)| id.clone()).collect()
        };
        let wanted: Vec<(String, u64)> = segments
            .into_iter()
            .filter(|(id, _)| {
                // A segment without an index is being stored, or waits for the next start of a service.
                let readable = indexes.contains_key(id)
                    && !doomed.contains(id.as_str())
                    && !making.contains(id.as_str());
                readable && (all || !known.contains_key(id.as_str()))
            })
            .collect();
        let reads = wanted.into_iter().map(|(id, len)| async move {
            let rows = self.rows_by_index(&id, len).await?;
            Ok::<_, VaultError>((id, len, rows))
        });
        let mut reads = futures::stream::iter(reads).buffered(AT_ONCE);
        self.runtime.block_on(async {
            while let Some((id, len, rows)) = reads.try_next().await? {
                let Some(rows) = rows else { continue };
                let leaves = self.shared.state().leaving.contains(id.as_str());
                let mut index = self.index_mut();
                match known.get(id.as_str()) {
                    Some(number) => index.learn(*number, &rows),
                    None => {
                        let number = index.add(&id, len, &rows);
                        if leaves {
                            index.leave(number);
                        }
                    }
                }
            }
            Ok::<_, VaultError>(())
        })?;
        let mut state = self.shared.state();
        state.looked = Some(begun);
        if all {
            state.went = false;
        }
        Ok(())
    }

    /// What lies in a segment by its index; nothing if that went meanwhile or cannot be believed.
    async fn rows_by_index(&self, id: &str, len: u64) -> Result<Option<Vec<Row>>, VaultError> {
        let sealed = match self.store.get(&index_path(id)).await {
            Ok(got) => got.bytes().await?,
            Err(object_store::Error::NotFound { .. }) => return Ok(None),
            Err(e) => return Err(e.into()),
        };
        let plain = self.keys.open_object(&index_bound(id), &sealed);
        let rows = plain.and_then(|plain| segment::decode(&plain));
        Ok(rows.filter(|(said, _)| *said == len).map(|(_, rows)| rows))
    }

    /// Another service begins a round of tidying of this name. Whether it may: not while this one tidies.
    pub fn begin_for_another(&self, round: &str) -> bool {
        let Ok(_alone) = self.tidying.try_lock() else {
            return false;
        };
        self.index_mut().begin_round();
        self.shared.state().round = Some(round.to_owned());
        true
    }

    /// Another service asks for segments in its round; gives those that stay because they are relied upon here. Nothing
    /// relies on the rest from now on.
    pub fn give_up_for_another(&self, round: &str, segments: &[SegmentId]) -> Vec<SegmentId> {
        if self.shared.state().round.as_deref() != Some(round) {
            return segments.to_vec();
        }
        let mut index = self.index_mut();
        let there = index.segments.iter().enumerate();
        let there = there.filter(|(_, known)| known.there);
        let numbers: HashMap<Arc<str>, u32> = there
            .map(|(number, known)| (known.id.clone(), number as u32))
            .collect();
        let mut stay = Vec::new();
        for one in segments {
            match numbers.get(&one.0) {
                Some(number) if index.may_go(*number) => index.leave(*number),
                Some(_) => stay.push(one.clone()),
                // The other has seen it before this one's index did.
                None if self.shared.state().making.contains(&one.0) => stay.push(one.clone()),
                // It may be found here later, before it is deleted.
                None => {
                    self.shared.state().leaving.insert(one.0.clone());
                }
            }
        }
        stay
    }

    /// The round of another service is over.
    pub fn end_for_another(&self, round: &str) {
        let mut state = self.shared.state();
        if state.round.as_deref() == Some(round) {
            state.round = None;
        }
    }

    /// A round that another one has begun counts no more: this one tidies.
    pub(crate) fn tidies_itself(&self) {
        let mut state = self.shared.state();
        state.round = None;
        state.asked.clear();
    }

    /// The others are about to be asked for segments. Noted first: a service that opens the vault meanwhile is none of
    /// those that are asked.
    pub(crate) fn asks_for(&self, segments: &[SegmentId]) {
        let ids = segments.iter().map(|one| one.0.clone());
        self.shared.state().asked.extend(ids);
    }

    /// Segments that are, or may be, about to be deleted: whoever opens the vault now does not rely on them.
    pub fn leaving(&self) -> Vec<SegmentId> {
        let asked = self.shared.state().asked.clone();
        let doomed = self.doomed.lock().unwrap_or_else(|e| e.into_inner());
        let doomed = doomed.iter().map(|(_, id)| id.clone());
        doomed.chain(asked).map(SegmentId).collect()
    }

    /// Nothing relies on these segments, which another service is about to delete.
    pub fn others_delete(&self, segments: &[SegmentId]) {
        let mut index = self.index_mut();
        for one in segments {
            let at = index.segments.iter().position(|known| known.id == one.0);
            match at {
                Some(number) => index.leave(number as u32),
                None => {
                    self.shared.state().leaving.insert(one.0.clone());
                }
            }
        }
    }

    /// Another service found these pieces damaged: nothing is found there any more.
    pub fn forget_damaged(&self, names: &[Name]) {
        let mut index = self.index_mut();
        for name in names {
            index.forget_everywhere(*name);
        }
        drop(index);
        self.shared.went();
    }
}
