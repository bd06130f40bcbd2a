//! Whose card it is: looked at once per insertion, found by what it says of itself and by what the
//! records know. A write in doubt is settled on the way.

use std::sync::Arc;
use std::time::{Duration, Instant};

use cardwork::check::is_back;
use cardwork::{
    Access, Bound, CardError, CardIo, Contents, Insertion, Medium, Occupant, has_edges_of, look,
};
use records::RecordError;
use records::checks::After;
use records::imprints::{Doubt, Spoilt};
use vault::{ManifestDisk, Name};

use super::{AGAIN, Found, Slots, Trouble};
use crate::kept;
use crate::news::News;
use crate::refusal::Refusal;
use api::SlotName;
use api::words::size;

/// How long a look at one card may take.
const LOOK: Duration = Duration::from_secs(30);

impl Slots {
    /// Looks at the card of one insertion, within a time limit, and asks the records whose it is.
    pub(super) async fn look_at(
        self: &Arc<Self>,
        slot: SlotName,
        medium: &Medium,
    ) -> Result<Found, Trouble> {
        if medium.size > self.largest() {
            return Err(Trouble {
                why: format!(
                    "larger than {}, and so no card; it is not looked into",
                    size(self.largest())
                ),
                again: None,
            });
        }
        let looked = self.with_card(slot, &medium.insertion, |card, insertion| {
            let bound = Bound::to(card, insertion)?;
            Ok((look(card)?, bound))
        });
        let (mut contents, bound) = looked.await?;
        let identified = async {
            let label = self.identify(slot, medium, &contents, &bound).await?;
            if let Some(label) = &label {
                self.settle_work(slot, label, &contents, &bound).await?;
            }
            self.call_by_its_name(&mut contents, label.as_deref())
                .await?;
            Ok::<_, Refusal>(label)
        };
        match identified.await {
            Ok(label) => Ok(Found {
                says_so: label.is_some() && claimed(&contents) == label.as_deref(),
                was_told: false,
                contents,
                bound,
                label,
            }),
            // What could not be asked is not answered with "unknown".
            Err(e) => Err(Trouble {
                why: format!(
                    "whose card this is cannot be found out now: {e}; it is asked again by itself"
                ),
                again: Some(Instant::now() + AGAIN),
            }),
        }
    }

    /// A device may be called something else than when its card was written: it is called what the
    /// records call it, as long as that write is what is on the card.
    async fn call_by_its_name(
        &self,
        contents: &mut Contents,
        label: Option<&str>,
    ) -> Result<(), Refusal> {
        let (Occupant::Stamped(stamp), Some(label)) = (&mut contents.occupant, label) else {
            return Ok(());
        };
        if let Some(imprint) = self.records.imprint(stamp.imprint).await?
            && imprint.card == label
        {
            stamp.device = imprint.device;
        }
        Ok(())
    }

    /// Does something with a card on a thread, within the time limit of a look.
    async fn with_card<T: Send + 'static>(
        self: &Arc<Self>,
        slot: SlotName,
        insertion: &Insertion,
        work: impl FnOnce(&dyn CardIo, &Insertion) -> Result<T, CardError> + Send + 'static,
    ) -> Result<T, Trouble> {
        let (bench, insertion) = (self.benches.clone(), insertion.clone());
        let worked = tokio::task::spawn_blocking(move || {
            let slot = bench.slot(slot)?.ok_or(CardError::Empty)?;
            let card = slot.open(&insertion, Access::Look)?;
            work(card.as_ref(), &insertion)
        });
        let trouble = |why: String, again: bool| Trouble {
            why,
            again: again.then(|| Instant::now() + AGAIN),
        };
        match tokio::time::timeout(LOOK, worked).await {
            Err(_) => Err(trouble(
                format!(
                    "it did not answer within {} seconds; pull it and put it in again",
                    LOOK.as_secs()
                ),
                false,
            )),
            Ok(Err(e)) => Err(trouble(e.to_string(), false)),
            Ok(Ok(Err(e @ CardError::Failed { .. }))) => Err(trouble(
                format!(
                    "it cannot be read ({e}), so that nobody can tell whose it is, and nothing is written to it; take another card"
                ),
                false,
            )),
            Ok(Ok(Err(e))) => Err(trouble(e.to_string(), matches!(e, CardError::Reader(_)))),
            Ok(Ok(Ok(done))) => Ok(done),
        }
    }

    /// The label of a card, by what it says of itself as far as the records know such a card, or by
    /// how it was last seen. A write in doubt is settled on the way.
    async fn identify(
        self: &Arc<Self>,
        slot: SlotName,
        medium: &Medium,
        contents: &Contents,
        bound: &Bound,
    ) -> Result<Option<String>, Refusal> {
        let mut settled = None;
        // Where a write did not touch it, what became of the one before shows now.
        while let Some((label, untouched)) =
            self.settle_doubt(slot, medium, contents, bound).await?
        {
            settled = Some(label);
            if !untouched {
                break;
            }
        }
        let claimed = claimed(contents);
        // What a card says of itself counts only if the records know such a card of this size.
        if let Some(label) = claimed {
            match self.records.card(label).await {
                Ok(card) if card.size as u64 == medium.size => return Ok(Some(card.label)),
                Ok(_) | Err(RecordError::Unknown { .. }) => {}
                Err(e) => return Err(e.into()),
            }
        }
        if settled.is_some() {
            return Ok(settled);
        }
        // Not while a card is given a label: the records know it already then, and its slot does not yet.
        let _alone = self.labelling.lock().await;
        let elsewhere = self.labels_elsewhere(slot);
        Ok(self
            .records
            .unstamped_card(medium.size as i64, &bound.edges, &elsewhere)
            .await?)
    }

    /// Work on the card itself that was cut off is recorded as what its card now shows it to be.
    async fn settle_work(
        &self,
        slot: SlotName,
        label: &str,
        contents: &Contents,
        bound: &Bound,
    ) -> Result<(), Refusal> {
        let Some((job, kind)) = self.records.unfinished_work(label).await? else {
            return Ok(());
        };
        let after = match &contents.occupant {
            Occupant::Unfinished(mark) if mark.job == job => return Ok(()),
            // What it found is kept: whether the card has all of it again only a look at the card tells.
            _ if kind == "check" && !self.has_all_back(slot, bound, job).await => return Ok(()),
            Occupant::Empty(mark) if mark.job == job => After::Cleared(bound.edges),
            // It ended before the first byte, or with the last.
            Occupant::Stamped(_) => After::AsBefore,
            _ if kind == "clear" => After::Cleared(bound.edges),
            _ => After::AsBefore,
        };
        if self.records.settle_on_card(label, job, after).await? {
            let words = match after {
                After::Cleared(_) => "it had come to its end",
                _ => "what was on it is on it",
            };
            let summary =
                format!("Card {label} was seen again, job {job} at it had been cut off: {words}");
            self.events
                .note("service", "card.settled", label, &summary)
                .await?;
        }
        Ok(())
    }

    /// Whether a card has what a check found on it, as far as that is kept here. Nothing is kept of it any more then.
    async fn has_all_back(&self, slot: SlotName, bound: &Bound, job: i64) -> bool {
        if !kept::is_kept(&self.store.checks, job) {
            return true;
        }
        let (bench, insertion) = (self.benches.clone(), bound.insertion.clone());
        let (folder, keys) = (self.store.checks.clone(), self.store.keys.clone());
        let compared = tokio::task::spawn_blocking(move || {
            let Ok(kept) = kept::KeptFile::open(&folder, keys, job) else {
                // It is written to its end, and synced, before the first byte of a card is changed.
                kept::give_up(&folder, job);
                return true;
            };
            let slot = bench.slot(slot).ok().flatten();
            let card = slot.and_then(|slot| slot.open(&insertion, Access::Look).ok());
            let back = card.is_some_and(|card| is_back(card.as_ref(), &kept).unwrap_or(false));
            if back {
                kept.remove();
            }
            back
        });
        compared.await.unwrap_or(false)
    }

    /// A write that was under way when the service ended, or whose card was gone when it failed, is
    /// recorded as what its card now shows it to be. Gives the label of a card that was known by it, and whether that write
    /// had not touched it.
    async fn settle_doubt(
        self: &Arc<Self>,
        slot: SlotName,
        medium: &Medium,
        contents: &Contents,
        bound: &Bound,
    ) -> Result<Option<(String, bool)>, Refusal> {
        let doubts = self
            .records
            .doubts(medium.size as i64, claimed(contents))
            .await?;
        for doubt in doubts {
            let verdict = match &contents.occupant {
                Occupant::Unfinished(mark) if mark.card == doubt.card => {
                    match mark.job == doubt.job {
                        true => Some(Some(Spoilt::Unfinished)),
                        false => doubt.open.then_some(Some(Spoilt::Untouched)),
                    }
                }
                Occupant::Stamped(stamp) if stamp.card == doubt.card => {
                    match stamp.imprint == doubt.imprint {
                        true => Some(self.is_whole(slot, medium, &doubt).await?),
                        false => doubt.open.then_some(Some(Spoilt::Untouched)),
                    }
                }
                Occupant::Unfinished(_) | Occupant::Stamped(_) => None,
                // What begins with zeros was never whole, and needs no reading.
                occupant
                    if *occupant != Occupant::Blank
                        && self.is_whole(slot, medium, &doubt).await?.is_none() =>
                {
                    Some(None)
                }
                _ if doubt.open && doubt.edges.as_deref() == Some(&bound.edges) => {
                    Some(Some(Spoilt::Untouched))
                }
                _ => None,
            };
            let Some(spoilt) = verdict else { continue };
            let (card, imprint) = (&doubt.card, doubt.imprint);
            let words = match spoilt {
                None => {
                    "it is whole: its last block had been put, and its edges read as they should"
                }
                Some(Spoilt::Untouched) => "it had not been touched, and is as it was",
                Some(Spoilt::Unfinished) => "it is incomplete and says so itself",
                Some(Spoilt::MayBoot) => "it may boot, but it is not whole",
            };
            let summary = format!(
                "Card {card} was seen again, imprint {imprint} on it was in doubt: {words}"
            );
            if self.records.settle_doubt(imprint, spoilt, &summary).await? {
                self.events.bus.tell(News::Events);
            }
            return Ok(Some((doubt.card, spoilt == Some(Spoilt::Untouched))));
        }
        Ok(None)
    }

    /// Whether a card reads as a finished write leaves it. Block 0 is put only after everything else
    /// was read back, so that its edges tell.
    async fn is_whole(
        self: &Arc<Self>,
        slot: SlotName,
        medium: &Medium,
        doubt: &Doubt,
    ) -> Result<Option<Spoilt>, Refusal> {
        let Ok(name) = doubt.manifest.as_slice().try_into().map(Name) else {
            return Ok(Some(Spoilt::MayBoot));
        };
        let vault = self.store.vault.clone();
        let compared = self.with_card(slot, &medium.insertion, move |card, _| {
            let content = ManifestDisk::open(&vault, name).map_err(|e| {
                CardError::Reader(format!("the vault does not give its content: {e}"))
            })?;
            has_edges_of(card, &content)
        });
        match compared.await {
            Ok(true) => Ok(None),
            Ok(false) => Ok(Some(Spoilt::MayBoot)),
            Err(trouble) => Err(Refusal::conflict("card-unreadable", trouble.why)),
        }
    }
}

/// The label that a card says it has.
fn claimed(contents: &Contents) -> Option<&str> {
    match &contents.occupant {
        Occupant::Stamped(stamp) => Some(&stamp.card),
        Occupant::Unfinished(mark) | Occupant::Empty(mark) => Some(&mark.card),
        _ => None,
    }
}
