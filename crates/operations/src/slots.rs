//! What lies in the slots: watched several times a second, looked into at each insertion.

use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use bench::Bench;
use cardwork::{Bound, CardError, CardIo, Contents, Medium, Occupant, has_edges_of, look};
use imagecraft::StampBase;
use records::cards::Card;
use records::imprints::{Doubt, Spoilt};
use records::{RecordError, Records};
use tokio::sync::broadcast::error::TryRecvError;
use vault::{ManifestDisk, Name};

use crate::jobs::Hold;
use crate::news::{Events, News};
use crate::refusal::Refusal;
use crate::store::Store;

const EVERY: Duration = Duration::from_millis(300);
/// How long a survey may take before the reader counts as not answering.
const SURVEY: Duration = Duration::from_secs(5);
/// How long a look at one card may take.
const LOOK: Duration = Duration::from_secs(30);
/// How long somebody who asks for a card waits for it to be looked at.
const PATIENCE: Duration = Duration::from_secs(10);
/// When a card that could not be looked at is looked at again.
const AGAIN: Duration = Duration::from_secs(1);

/// A slot as it was seen last.
#[derive(Clone)]
pub struct Seen {
    /// Number of the slot.
    pub number: u32,
    /// Where it is, for people.
    pub place: String,
    /// The card in it, if there is one.
    pub medium: Option<Medium>,
    /// What was found on the card, once it was looked at.
    pub found: Option<Result<Found, Trouble>>,
}

/// Why a card could not be looked at.
#[derive(Clone)]
pub struct Trouble {
    /// What happened.
    pub why: String,
    /// When to try again by itself.
    again: Option<Instant>,
}

/// What a look at a card found.
#[derive(Clone)]
pub struct Found {
    /// What is on it.
    pub contents: Contents,
    /// What a plan for it is bound to.
    pub bound: Bound,
    /// Label, if the card is one of ours or was labelled before.
    pub label: Option<String>,
}

/// The slots of the bench: as they were seen last, and which jobs work on them.
pub struct Slots {
    bench: Arc<Bench>,
    records: Records,
    store: Arc<Store>,
    events: Events,
    state: Mutex<State>,
    /// Taken to give a label: two plans for one blank card must not give it two.
    labelling: tokio::sync::Mutex<()>,
}

#[derive(Default)]
struct State {
    seen: Vec<Seen>,
    /// Jobs by slot; 0 while the job's row is being made.
    busy: std::collections::BTreeMap<u32, i64>,
    /// The last job of a slot, where it failed and nobody has seen that yet.
    failed: std::collections::BTreeMap<u32, i64>,
    /// Slots whose card is being looked at.
    looking: std::collections::BTreeSet<u32>,
    told: Vec<api::Slot>,
    reader_answers: bool,
}

/// A slot that is kept for one job until this is dropped.
pub struct Reserved {
    slots: Arc<Slots>,
    slot: u32,
}

impl Drop for Reserved {
    fn drop(&mut self) {
        self.slots.state().busy.remove(&self.slot);
    }
}

impl Hold for Reserved {
    fn name_job(&self, job: i64) {
        self.slots.state().busy.insert(self.slot, job);
    }

    /// Looks at the card again: what is on it may not be what it was.
    fn over(&self, runtime: &tokio::runtime::Handle) {
        runtime.block_on(self.slots.look_again(self.slot));
    }
}

impl Slots {
    /// The slots of a bench, not looked at yet.
    pub fn new(bench: Arc<Bench>, records: Records, store: Arc<Store>, events: Events) -> Self {
        Self {
            bench,
            records,
            store,
            events,
            state: Mutex::default(),
            labelling: tokio::sync::Mutex::default(),
        }
    }

    /// The bench itself.
    pub fn bench(&self) -> &Arc<Bench> {
        &self.bench
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    async fn look_again(self: &Arc<Self>, slot: u32) {
        let bench = self.bench.clone();
        let surveyed = tokio::task::spawn_blocking(move || bench.survey()).await;
        let seen = surveyed
            .ok()
            .and_then(Result::ok)
            .and_then(|all| all.into_iter().find(|seen| seen.number == slot));
        let medium = seen.and_then(|seen| seen.medium);
        let found = match &medium {
            Some(medium) => Some(self.look_at(slot, medium).await),
            None => None,
        };
        let mut state = self.state();
        if let Some(seen) = state.seen.iter_mut().find(|seen| seen.number == slot) {
            seen.medium = medium;
            seen.found = found;
        }
    }

    /// Asks the records what failed in the slots and was not seen yet. Where they do not answer, what
    /// is known stays.
    pub async fn learn_failures(&self) {
        let numbers: Vec<_> = self
            .state()
            .seen
            .iter()
            .map(|seen| seen.number as i32)
            .collect();
        if let Ok(failures) = self.records.unseen_failures(&numbers).await {
            let known = failures.into_iter();
            self.state().failed = known.map(|(slot, job)| (slot as u32, job)).collect();
        }
    }

    /// Whether the reader answered when it was asked last.
    pub fn reader_answers(&self) -> bool {
        self.state().reader_answers
    }

    /// Labels of cards that are in slots other than `but`.
    pub fn labels_elsewhere(&self, but: u32) -> Vec<String> {
        let state = self.state();
        let others = state.seen.iter().filter(|seen| seen.number != but);
        others
            .filter_map(|seen| seen.found.as_ref()?.as_ref().ok()?.label.clone())
            .collect()
    }

    /// Slot of a card, if it is in one.
    pub fn slot_of(&self, label: &str) -> Option<u32> {
        let state = self.state();
        let is = |seen: &&Seen| {
            matches!(&seen.found, Some(Ok(found)) if found.label.as_deref() == Some(label))
                && seen.medium.is_some()
        };
        state.seen.iter().find(is).map(|seen| seen.number)
    }

    /// The label of the card of an insertion, if it has one.
    pub fn label_of(&self, slot: u32, insertion: u64) -> Option<String> {
        let state = self.state();
        let seen = state.seen.iter().find(|seen| seen.number == slot)?;
        let same = seen.medium.as_ref()?.insertion == insertion;
        let found = seen.found.as_ref()?.as_ref().ok()?;
        found.label.clone().filter(|_| same)
    }

    /// The insertion of the card in a slot.
    pub fn insertion(&self, slot: u32) -> Option<u64> {
        let state = self.state();
        let seen = state.seen.iter().find(|seen| seen.number == slot)?;
        Some(seen.medium.as_ref()?.insertion)
    }

    /// Keeps the label that the card of an insertion was given.
    pub fn learn_label(&self, slot: u32, insertion: u64, label: &str) {
        let mut state = self.state();
        let is = |seen: &&mut Seen| {
            seen.number == slot
                && seen
                    .medium
                    .as_ref()
                    .is_some_and(|medium| medium.insertion == insertion)
        };
        if let Some(Seen {
            found: Some(Ok(found)),
            ..
        }) = state.seen.iter_mut().find(is)
        {
            found.label = Some(label.into());
        }
    }

    /// Slots for people.
    pub fn views(&self) -> Vec<api::Slot> {
        let state = self.state();
        state.seen.iter().map(|seen| state.view(seen)).collect()
    }
}

impl State {
    fn view(&self, seen: &Seen) -> api::Slot {
        let of = |jobs: &std::collections::BTreeMap<u32, i64>| jobs.get(&seen.number).copied();
        let job = of(&self.busy);
        api::Slot {
            failed: of(&self.failed).filter(|_| job.is_none()),
            ..view(seen, job)
        }
    }
}

fn view(seen: &Seen, job: Option<i64>) -> api::Slot {
    let card = seen.medium.as_ref().map(|medium| {
        let mut card = api::SlotCard {
            insertion: medium.insertion,
            size: medium.size,
            kind: medium.kind.clone(),
            locked: medium.locked,
            label: None,
            occupant: "busy".into(),
            summary: "being looked at".into(),
            device: None,
            base: None,
            made: None,
        };
        if job.is_some() {
            card.summary = "being worked on".into();
        }
        match &seen.found {
            None => {}
            Some(Err(trouble)) => {
                card.occupant = "unreadable".into();
                card.summary = trouble.why.clone();
            }
            Some(Ok(found)) => {
                card.label = found.label.clone();
                card.summary = found.contents.summary.clone();
                card.occupant = match &found.contents.occupant {
                    Occupant::Blank => "blank",
                    Occupant::Unfinished(_) => "unfinished",
                    Occupant::Foreign => "foreign",
                    Occupant::Stamped(stamp) => {
                        card.device = stamp.device.clone();
                        card.made = Some(stamp.made);
                        card.base = Some(base_name(&stamp.base).into());
                        "ours"
                    }
                }
                .into();
            }
        }
        card
    });
    api::Slot {
        number: seen.number,
        place: seen.place.clone(),
        card,
        job,
        failed: None,
    }
}

/// Name of the release or backup that a stamp speaks of.
pub fn base_name(base: &StampBase) -> &str {
    match base {
        StampBase::Release(name) | StampBase::Backup(name) => name,
    }
}

impl Slots {
    /// Gives a label to a card that has none, and teaches its slot.
    pub async fn give_label(
        &self,
        slot: u32,
        medium: &Medium,
        edges: &[u8],
        operator: &str,
    ) -> Result<Card, Refusal> {
        let _alone = self.labelling.lock().await;
        if let Some(label) = self.label_of(slot, medium.insertion) {
            return Ok(self.records.card(&label).await?);
        }
        let card = self
            .records
            .add_card(medium.size as i64, &medium.kind, edges, operator)
            .await?;
        let summary = format!("{} is the label of the card in slot {slot}", card.label);
        self.events
            .note(operator, "card.labelled", &card.label, &summary)
            .await?;
        self.learn_label(slot, medium.insertion, &card.label);
        Ok(card)
    }

    /// Keeps a slot for one job, or refuses if another works on it.
    pub fn reserve(self: &Arc<Self>, slot: u32) -> Result<Reserved, Refusal> {
        let mut state = self.state();
        if state.busy.contains_key(&slot) {
            return Err(Refusal::conflict(
                "slot-busy",
                format!("slot {slot} is being worked on; wait for its job to end, or cancel it"),
            ));
        }
        state.busy.insert(slot, 0);
        drop(state);
        Ok(Reserved {
            slots: self.clone(),
            slot,
        })
    }

    /// The card in a slot, looked at afresh if need be; refuses an empty slot.
    pub async fn card_in(self: &Arc<Self>, slot: u32) -> Result<(Medium, Found), Refusal> {
        if self.state().busy.contains_key(&slot) {
            let detail =
                format!("slot {slot} is being worked on; wait for its job to end, or cancel it");
            return Err(Refusal::conflict("slot-busy", detail));
        }
        self.survey().await?;
        let begun = Instant::now();
        loop {
            let (seen, looking) = {
                let state = self.state();
                let seen = state.seen.iter().find(|seen| seen.number == slot);
                (seen.cloned(), state.looking.contains(&slot))
            };
            let seen =
                seen.ok_or_else(|| Refusal::missing(format!("the bench has no slot {slot}")))?;
            let medium = seen.medium.ok_or_else(|| {
                Refusal::conflict("slot-empty", format!("slot {slot} is empty; put a card in"))
            })?;
            match seen.found {
                Some(Ok(found)) => return Ok((medium, found)),
                // It is being looked at, which takes a moment.
                _ if looking && begun.elapsed() < PATIENCE => {
                    tokio::time::sleep(Duration::from_millis(20)).await;
                }
                Some(Err(trouble)) => {
                    return Err(Refusal::conflict(
                        "card-unreadable",
                        format!("the card in slot {slot}: {}", trouble.why),
                    ));
                }
                None => {
                    return Err(Refusal::conflict(
                        "card-gone",
                        format!("the card in slot {slot} could not be looked at; try again"),
                    ));
                }
            }
        }
    }

    /// Watches the slots until the service ends.
    pub async fn watch(self: Arc<Self>) {
        let mut news = self.events.bus.listen();
        let (mut slots, mut happened) = (0, true);
        loop {
            if let Err(e) = self.survey().await {
                tracing::debug!("survey of the slots: {e}");
            }
            // A job may have ended, or a reader come: what failed is asked for again.
            while let Ok(_) | Err(TryRecvError::Lagged(_)) = news.try_recv() {
                happened = true;
            }
            let now = self.state().seen.len();
            if happened || now != slots {
                (slots, happened) = (now, false);
                self.learn_failures().await;
            }
            tokio::time::sleep(EVERY).await;
        }
    }

    /// Sees what lies in every slot, and begins to look at each card that was not looked at since it
    /// was put in: on a task of its own, so that a slow or frozen card holds up no other.
    async fn survey(self: &Arc<Self>) -> Result<(), Refusal> {
        let bench = self.bench.clone();
        let asked = tokio::task::spawn_blocking(move || bench.survey());
        let surveyed = match tokio::time::timeout(SURVEY, asked).await {
            Ok(asked) => asked.unwrap_or_else(|e| Err(CardError::Reader(e.to_string()))),
            Err(_) => Err(CardError::Reader("it takes too long".into())),
        };
        let fresh = {
            let mut state = self.state();
            state.reader_answers = surveyed.is_ok();
            let surveyed = surveyed.inspect_err(|_| state.seen.clear())?;
            let before = std::mem::take(&mut state.seen);
            state.seen = surveyed
                .into_iter()
                .map(|new| {
                    let same = before
                        .iter()
                        .find(|old| old.number == new.number && old.medium == new.medium);
                    Seen {
                        found: same.and_then(|old| old.found.clone()),
                        number: new.number,
                        place: new.place,
                        medium: new.medium,
                    }
                })
                .collect();
            let unseen = |seen: &&Seen| {
                let wanted = match &seen.found {
                    None => true,
                    Some(Err(trouble)) => trouble.again.is_some_and(|at| Instant::now() >= at),
                    Some(Ok(_)) => false,
                };
                let idle =
                    !state.busy.contains_key(&seen.number) && !state.looking.contains(&seen.number);
                seen.medium.is_some() && wanted && idle
            };
            let fresh: Vec<_> = state.seen.iter().filter(unseen).cloned().collect();
            state.looking.extend(fresh.iter().map(|seen| seen.number));
            fresh
        };
        for seen in fresh {
            let slots = self.clone();
            tokio::spawn(async move {
                let Some(medium) = seen.medium else { return };
                let found = slots.look_at(seen.number, &medium).await;
                {
                    let mut state = slots.state();
                    state.looking.remove(&seen.number);
                    // Somebody may have begun to write it meanwhile, or pulled it.
                    let busy = state.busy.contains_key(&seen.number);
                    if let Some(place) = state.seen.iter_mut().find(|now| now.number == seen.number)
                        && place.medium.as_ref() == Some(&medium)
                        && !busy
                    {
                        place.found = Some(found);
                    }
                }
                slots.tell();
            });
        }
        self.tell();
        Ok(())
    }

    /// Tells everyone what the slots look like, if that has changed.
    fn tell(&self) {
        let views = self.views();
        let mut state = self.state();
        if state.told != views {
            state.told = views.clone();
            drop(state);
            self.events.bus.tell(News::Slots(views));
        }
    }

    /// Looks at the card of one insertion, within a time limit, and asks the records whose it is.
    async fn look_at(self: &Arc<Self>, slot: u32, medium: &Medium) -> Result<Found, Trouble> {
        let looked = self.with_card(slot, medium.insertion, |card, insertion| {
            let bound = Bound::to(card, insertion)?;
            Ok((look(card)?, bound))
        });
        let (mut contents, bound) = looked.await?;
        let identified = async {
            let label = self.identify(slot, medium, &contents, &bound).await?;
            self.call_by_its_name(&mut contents, label.as_deref())
                .await?;
            Ok::<_, Refusal>(label)
        };
        match identified.await {
            Ok(label) => Ok(Found {
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
        slot: u32,
        insertion: u64,
        work: impl FnOnce(&dyn CardIo, u64) -> Result<T, CardError> + Send + 'static,
    ) -> Result<T, Trouble> {
        let bench = self.bench.clone();
        let worked = tokio::task::spawn_blocking(move || {
            let slot = bench.slot(slot)?.ok_or(CardError::Empty)?;
            let card = slot.open(insertion)?;
            work(card.as_ref(), insertion)
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
        slot: u32,
        medium: &Medium,
        contents: &Contents,
        bound: &Bound,
    ) -> Result<Option<String>, Refusal> {
        let settled = self.settle_doubt(slot, medium, contents, bound).await?;
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
        let elsewhere = self.labels_elsewhere(slot);
        Ok(self
            .records
            .unstamped_card(medium.size as i64, &bound.edges, &elsewhere)
            .await?)
    }

    /// A write that was under way when the service ended, or whose card was gone when it failed, is
    /// recorded as what its card now shows it to be. Gives the label of a card that was known by it.
    async fn settle_doubt(
        self: &Arc<Self>,
        slot: u32,
        medium: &Medium,
        contents: &Contents,
        bound: &Bound,
    ) -> Result<Option<String>, Refusal> {
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
            return Ok(Some(doubt.card));
        }
        Ok(None)
    }

    /// Whether a card reads as a finished write leaves it. Block 0 is put only after everything else
    /// was read back, so that its edges tell.
    async fn is_whole(
        self: &Arc<Self>,
        slot: u32,
        medium: &Medium,
        doubt: &Doubt,
    ) -> Result<Option<Spoilt>, Refusal> {
        let Ok(name) = doubt.manifest.as_slice().try_into().map(Name) else {
            return Ok(Some(Spoilt::MayBoot));
        };
        let vault = self.store.vault.clone();
        let compared = self.with_card(slot, medium.insertion, move |card, _| {
            let content = ManifestDisk::open(vault, name).map_err(|e| {
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
        Occupant::Unfinished(mark) => Some(&mark.card),
        _ => None,
    }
}
