//! What lies in the slots: watched several times a second, looked into at each insertion.

mod identify;
mod labels;
mod watch;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use cardwork::{Bound, Contents, Insertion, Medium, Occupant, Place};
use imagecraft::StampBase;
use records::Records;

use crate::benches::Benches;
use crate::benches::Spot;
use crate::jobs::Hold;
use crate::news::Events;
use crate::refusal::Refusal;
use crate::store::Store;
use api::SlotName;
use api::words::size;

/// How long somebody who asks for a card waits for it to be looked at.
const PATIENCE: Duration = Duration::from_secs(10);
/// When a card that could not be looked at is looked at again.
const AGAIN: Duration = Duration::from_secs(1);

/// A slot as it was seen last.
#[derive(Clone)]
pub struct Seen {
    /// The slot.
    pub slot: SlotName,
    /// What was asked about it.
    source: String,
    /// Which reader, and which place in it.
    pub place: Place,
    /// Where it is, for people.
    pub title: String,
    /// The card in it, if there is one.
    pub medium: Option<Medium>,
    /// Why nobody can tell what is in it.
    pub trouble: Option<String>,
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
    /// Whether the card says itself that it has this label. Else it is taken for it by how it looks.
    pub says_so: bool,
    /// Whether this very card, since it was put in, was given that label or said by a person to have it.
    pub was_told: bool,
}

/// The slots of all benches: as they were seen last, and which jobs work on them.
pub struct Slots {
    benches: Arc<Benches>,
    /// What is larger is no card, in bytes.
    largest: u64,
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
    busy: BTreeMap<SlotName, i64>,
    /// The last job of a slot, where it failed and nobody has seen that yet.
    failed: BTreeMap<SlotName, i64>,
    /// Slots whose card is being looked at.
    looking: BTreeSet<SlotName>,
    /// Readers that are being asked.
    asking: BTreeSet<String>,
    /// Readers that did not answer when they were asked last.
    silent: BTreeSet<String>,
    told: Vec<api::Slot>,
    /// Slots that other services have, as they said last.
    elsewhere: BTreeMap<i32, Vec<api::Slot>>,
}

/// The card in a slot.
pub struct Inserted {
    /// Where it is.
    pub at: Spot,
    /// What the slot says of it.
    pub medium: Medium,
    /// What was found on it.
    pub found: Found,
}

/// A slot that is kept for one job until this is dropped.
pub struct Reserved {
    slots: Arc<Slots>,
    slot: SlotName,
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
    /// The slots of all benches, not looked at yet.
    pub fn new(
        benches: Arc<Benches>,
        largest: u64,
        records: Records,
        store: Arc<Store>,
        events: Events,
    ) -> Self {
        Self {
            benches,
            largest,
            records,
            store,
            events,
            state: Mutex::default(),
            labelling: tokio::sync::Mutex::default(),
        }
    }

    /// The benches that they are at.
    pub fn benches(&self) -> &Arc<Benches> {
        &self.benches
    }

    /// What is larger is no card, in bytes.
    pub fn largest(&self) -> u64 {
        self.largest
    }

    /// Lets go of the card in a slot where the bench's computer uses it; gives what it was used for.
    pub async fn release(self: &Arc<Self>, slot: SlotName) -> Result<Vec<String>, Refusal> {
        let _reserved = self.reserve(slot)?;
        let bench = self.benches.clone();
        let released = tokio::task::spawn_blocking(move || {
            let missing = || Refusal::missing(no_slot(slot));
            let slot = bench.slot(slot)?.ok_or_else(missing)?;
            Ok::<_, Refusal>(slot.release()?)
        });
        let released = released
            .await
            .map_err(|e| Refusal::conflict("reader", e.to_string()))?;
        self.survey(true).await;
        released
    }

    /// Refuses while any job works at a bench, the service's own where no other is named.
    pub fn refuse_while_busy_at(&self, bench: Option<&str>) -> Result<(), Refusal> {
        let state = self.state();
        match state.busy.keys().find(|slot| slot.bench() == bench) {
            None => Ok(()),
            Some(slot) => Err(Refusal::conflict(
                "slot-busy",
                format!("slot {slot} is being worked on; wait for its job to end, or cancel it"),
            )),
        }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    async fn look_again(self: &Arc<Self>, slot: SlotName) {
        let bench = self.benches.clone();
        let asked = tokio::task::spawn_blocking(move || {
            bench.slot(slot)?.map(|slot| slot.medium()).transpose()
        });
        let medium = asked.await.ok().and_then(Result::ok).flatten().flatten();
        let found = match &medium {
            Some(medium) => Some(self.look_at(slot, medium).await),
            None => None,
        };
        let mut state = self.state();
        if let Some(seen) = state.seen.iter_mut().find(|seen| seen.slot == slot) {
            seen.medium = medium;
            seen.found = found;
        }
        state.prefer_who_says_so(slot);
    }

    /// Asks the records what failed in the slots and was not seen yet. Where they do not answer, what
    /// is known stays.
    pub async fn learn_failures(&self) {
        let numbers: Vec<_> = self
            .state()
            .seen
            .iter()
            .map(|seen| seen.slot.typed())
            .collect();
        if let Ok(failures) = self.records.unseen_failures(&numbers).await {
            let known = failures.into_iter();
            self.state().failed = known
                .filter_map(|(slot, job)| Some((slot.parse().ok()?, job)))
                .collect();
        }
    }

    /// Whether every reader answered when it was asked last.
    pub fn readers_answer(&self) -> bool {
        self.state().silent.is_empty()
    }

    /// Where the card in a slot is, and since when.
    pub fn insertion(&self, slot: SlotName) -> Option<(Place, Insertion)> {
        let state = self.state();
        let seen = state.seen.iter().find(|seen| seen.slot == slot)?;
        Some((seen.place.clone(), seen.medium.as_ref()?.insertion.clone()))
    }

    /// Every card that no job works on is looked at again: the records know others than they did.
    pub fn look_anew(&self) {
        let mut state = self.state();
        let State { seen, busy, .. } = &mut *state;
        for seen in seen.iter_mut() {
            if !busy.contains_key(&seen.slot) {
                seen.found = None;
            }
        }
    }

    /// Slots with cards that no job works on.
    pub fn idle(&self) -> Vec<Seen> {
        let state = self.state();
        let idle = |seen: &&Seen| seen.medium.is_some() && !state.busy.contains_key(&seen.slot);
        state.seen.iter().filter(idle).cloned().collect()
    }

    /// Slots for people with which of their cards are suspect, by the records.
    pub async fn judged(&self) -> Result<Vec<api::Slot>, Refusal> {
        let mut views = self.views();
        let suspect = self.records.suspect_cards().await?;
        for card in views.iter_mut().filter_map(|slot| slot.card.as_mut()) {
            let is = |one: &&records::cards::SuspectCard| card.label.as_ref() == Some(&one.label);
            card.suspicion = suspect.iter().find(is).map(|one| one.why.clone());
        }
        Ok(views)
    }

    /// The slot that a card is in, if it is in one, and what that shows of it.
    pub fn shown_in(&self, label: &str) -> Option<(SlotName, String)> {
        let slot = self.slot_of(label)?;
        let views = self.views().into_iter();
        let card = views
            .filter(|view| view.name == slot)
            .find_map(|view| view.card)?;
        Some((slot, card.occupant))
    }

    /// Slots for people, those of all services.
    pub fn views(&self) -> Vec<api::Slot> {
        let elsewhere: Vec<_> = self.state().elsewhere.values().flatten().cloned().collect();
        let mut all = self.own_views();
        all.retain(|own| elsewhere.iter().all(|other| other.name != own.name));
        all.extend(elsewhere);
        all.sort_by_key(|slot| slot.name);
        all
    }

    /// The slots that this service has.
    pub fn own_views(&self) -> Vec<api::Slot> {
        let state = self.state();
        state.seen.iter().map(|seen| state.view(seen)).collect()
    }

    /// Another service says which slots it has; nothing where it is gone.
    pub fn hear(&self, service: i32, slots: Option<Vec<api::Slot>>) {
        {
            let mut state = self.state();
            match slots {
                Some(slots) => state.elsewhere.insert(service, slots),
                None => state.elsewhere.remove(&service),
            };
        }
        self.tell();
    }
}

impl State {
    fn view(&self, seen: &Seen) -> api::Slot {
        let of = |jobs: &BTreeMap<SlotName, i64>| jobs.get(&seen.slot).copied();
        let job = of(&self.busy);
        let mut shown = view(seen, job);
        if let Some(card) = &mut shown.card
            && let Some(label) = &card.label
        {
            card.twin = self.twin(seen.slot, label);
        }
        api::Slot {
            failed: of(&self.failed).filter(|_| job.is_none()),
            ..shown
        }
    }
}

/// That there is no such slot, and why that may be.
fn no_slot(slot: SlotName) -> String {
    match slot.bench() {
        None => format!("the bench has no slot {slot}"),
        Some(bench) => format!(
            "there is no slot {slot} now: bench {bench} is away, or has no such slot; duplicarium bench list says which"
        ),
    }
}

fn view(seen: &Seen, job: Option<i64>) -> api::Slot {
    let card = seen.medium.as_ref().map(|medium| {
        let mut card = api::SlotCard {
            insertion: medium.insertion.number,
            size: medium.size,
            kind: medium.kind.clone(),
            locked: medium.locked,
            in_use: medium.in_use.clone(),
            node: medium.node.clone(),
            label: None,
            says_so: false,
            twin: None,
            suspicion: None,
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
                card.says_so = found.says_so;
                card.summary = found.contents.summary.clone();
                card.occupant = match &found.contents.occupant {
                    Occupant::Blank => "blank",
                    Occupant::Empty(_) => "empty",
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
        name: seen.slot,
        number: seen.slot.number(),
        bench: seen.slot.bench().map(str::to_owned),
        place: seen.title.clone(),
        reader: seen.place.reader.clone(),
        unit: seen.place.unit,
        trouble: seen.trouble.clone(),
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
    /// Keeps a slot for one job, or refuses if another works on it.
    pub fn reserve(self: &Arc<Self>, slot: SlotName) -> Result<Reserved, Refusal> {
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
    pub async fn card_in(self: &Arc<Self>, slot: SlotName) -> Result<Inserted, Refusal> {
        if self.state().busy.contains_key(&slot) {
            let detail =
                format!("slot {slot} is being worked on; wait for its job to end, or cancel it");
            return Err(Refusal::conflict("slot-busy", detail));
        }
        self.survey_now().await;
        let begun = Instant::now();
        loop {
            let (seen, looking) = {
                let state = self.state();
                let seen = state.seen.iter().find(|seen| seen.slot == slot);
                (seen.cloned(), state.looking.contains(&slot))
            };
            let seen = seen.ok_or_else(|| Refusal::missing(no_slot(slot)))?;
            if let Some(trouble) = &seen.trouble {
                let detail = format!("slot {slot}: {trouble}");
                return Err(Refusal::conflict("reader", detail));
            }
            let medium = seen.medium.ok_or_else(|| {
                Refusal::conflict("slot-empty", format!("slot {slot} is empty; put a card in"))
            })?;
            if medium.size > self.largest {
                let detail = format!(
                    "the disk in slot {slot} holds {}, and more than {} is no card here (most_card_gb); it is not touched",
                    size(medium.size),
                    size(self.largest)
                );
                return Err(Refusal::conflict("no-card", detail));
            }
            match seen.found {
                Some(Ok(found)) => {
                    if let Some(label) = &found.label
                        && let Some(other) = self.twin(slot, label)
                    {
                        let detail = format!(
                            "the cards in slots {slot} and {other} both say that they are {label}: one is a copy of the \
                             other. Pull one of them; nobody can tell which the records mean"
                        );
                        return Err(Refusal::conflict("card-twice", detail));
                    }
                    return Ok(Inserted {
                        at: Spot {
                            slot,
                            place: seen.place,
                        },
                        medium,
                        found,
                    });
                }
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
}
