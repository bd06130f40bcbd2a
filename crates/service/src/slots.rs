//! What lies in the slots: watched several times a second, looked into at each insertion.

use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use cardwork::{Bound, CardError, Contents, Medium, Occupant, look};
use imagecraft::StampBase;

use crate::app::App;
use crate::bus::News;
use crate::error::ApiError;

const EVERY: Duration = Duration::from_millis(300);

/// A slot as it was seen last.
#[derive(Clone)]
pub struct Seen {
    pub number: u32,
    pub place: String,
    pub medium: Option<Medium>,
    /// What was found on the card, once it was looked at.
    pub found: Option<Result<Found, String>>,
}

/// What a look at a card found.
#[derive(Clone)]
pub struct Found {
    pub contents: Contents,
    pub bound: Bound,
    /// Label, if the card is one of ours or was labelled before.
    pub label: Option<String>,
}

/// All slots as they were seen last, and which jobs work on them.
#[derive(Default)]
pub struct Slots(Mutex<State>);

#[derive(Default)]
struct State {
    seen: Vec<Seen>,
    /// Jobs by slot; 0 while the job's row is being made.
    busy: std::collections::BTreeMap<u32, i64>,
    told: Vec<api::Slot>,
    reader_answers: bool,
}

/// A slot that is kept for one job until this is dropped.
pub struct Reserved {
    app: Arc<App>,
    pub slot: u32,
}

impl Drop for Reserved {
    fn drop(&mut self) {
        self.app.slots.state().busy.remove(&self.slot);
    }
}

impl Reserved {
    pub fn name_job(&self, job: i64) {
        self.app.slots.state().busy.insert(self.slot, job);
    }

    /// Looks at the card again: what is on it may not be what it was.
    pub async fn look_again(&self) {
        let bench = self.app.bench.clone();
        let slot = self.slot;
        let surveyed = tokio::task::spawn_blocking(move || bench.survey()).await;
        let seen = surveyed
            .ok()
            .and_then(Result::ok)
            .and_then(|all| all.into_iter().find(|seen| seen.number == slot));
        let medium = seen.and_then(|seen| seen.medium);
        let found = match &medium {
            Some(medium) => Some(look_at(&self.app, slot, medium).await),
            None => None,
        };
        let mut state = self.app.slots.state();
        if let Some(seen) = state.seen.iter_mut().find(|seen| seen.number == slot) {
            seen.medium = medium;
            seen.found = found;
        }
    }
}

impl Slots {
    fn state(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

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
        state
            .seen
            .iter()
            .map(|seen| view(seen, state.busy.get(&seen.number).copied()))
            .collect()
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
            Some(Err(why)) => {
                card.occupant = "unreadable".into();
                card.summary = why.clone();
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
    }
}

/// Name of the release or backup that a stamp speaks of.
pub fn base_name(base: &StampBase) -> &str {
    match base {
        StampBase::Release(name) | StampBase::Backup(name) => name,
    }
}

impl App {
    /// Keeps a slot for one job, or refuses if another works on it.
    pub fn reserve(self: &Arc<Self>, slot: u32) -> Result<Reserved, ApiError> {
        let mut state = self.slots.state();
        if state.busy.contains_key(&slot) {
            return Err(ApiError::conflict(
                "slot-busy",
                format!("slot {slot} is being worked on; wait for its job to end, or cancel it"),
            ));
        }
        state.busy.insert(slot, 0);
        drop(state);
        Ok(Reserved {
            app: self.clone(),
            slot,
        })
    }

    /// The card in a slot, looked at afresh if need be; refuses an empty slot.
    pub async fn card_in(self: &Arc<Self>, slot: u32) -> Result<(Medium, Found), ApiError> {
        if self.slots.state().busy.contains_key(&slot) {
            let detail =
                format!("slot {slot} is being worked on; wait for its job to end, or cancel it");
            return Err(ApiError::conflict("slot-busy", detail));
        }
        survey(self).await?;
        let seen = self
            .slots
            .state()
            .seen
            .iter()
            .find(|seen| seen.number == slot)
            .cloned();
        let seen =
            seen.ok_or_else(|| ApiError::missing(format!("the bench has no slot {slot}")))?;
        let medium = seen.medium.ok_or_else(|| {
            ApiError::conflict("slot-empty", format!("slot {slot} is empty; put a card in"))
        })?;
        match seen.found {
            Some(Ok(found)) => Ok((medium, found)),
            Some(Err(why)) => Err(ApiError::conflict(
                "card-unreadable",
                format!("the card in slot {slot}: {why}"),
            )),
            None => Err(ApiError::conflict(
                "card-gone",
                format!("the card in slot {slot} could not be looked at; try again"),
            )),
        }
    }
}

/// Watches the slots until the service ends.
pub async fn watch(app: Arc<App>) {
    loop {
        if let Err(e) = survey(&app).await {
            tracing::debug!("survey of the slots: {e}");
        }
        app.tell_progress();
        tokio::time::sleep(EVERY).await;
    }
}

/// Looks into every slot once, and at each card that was not looked at since it was put in.
async fn survey(app: &Arc<App>) -> Result<(), ApiError> {
    let bench = app.bench.clone();
    let surveyed = tokio::task::spawn_blocking(move || bench.survey())
        .await
        .map_err(|e| ApiError::from(CardError::Reader(e.to_string())))?;
    let fresh = {
        let mut state = app.slots.state();
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
        let busy = state.busy.clone();
        let unseen = |seen: &&Seen| {
            seen.medium.is_some() && seen.found.is_none() && !busy.contains_key(&seen.number)
        };
        state
            .seen
            .iter()
            .filter(unseen)
            .cloned()
            .collect::<Vec<_>>()
    };
    for seen in fresh {
        let Some(medium) = seen.medium else { continue };
        let found = look_at(app, seen.number, &medium).await;
        let mut state = app.slots.state();
        // Somebody may have begun to write it meanwhile, or pulled it.
        let busy = state.busy.contains_key(&seen.number);
        if let Some(place) = state.seen.iter_mut().find(|now| now.number == seen.number)
            && place.medium.as_ref() == Some(&medium)
            && !busy
        {
            place.found = Some(found);
        }
    }
    let views = app.slots.views();
    let mut state = app.slots.state();
    if state.told != views {
        state.told = views.clone();
        drop(state);
        app.bus.tell(News::Slots(views));
    }
    Ok(())
}

async fn look_at(app: &Arc<App>, slot: u32, medium: &Medium) -> Result<Found, String> {
    let (bench, insertion) = (app.bench.clone(), medium.insertion);
    let looked = tokio::task::spawn_blocking(move || {
        let slot = bench.slot(slot)?.ok_or(CardError::Empty)?;
        let card = slot.open(insertion)?;
        let bound = Bound::to(card.as_ref(), insertion)?;
        Ok::<_, CardError>((look(card.as_ref())?, bound))
    });
    let (contents, bound) = looked
        .await
        .map_err(|e| e.to_string())?
        .map_err(|e| e.to_string())?;
    let claimed = match &contents.occupant {
        Occupant::Stamped(stamp) => Some(&stamp.card),
        Occupant::Unfinished(mark) => Some(&mark.card),
        _ => None,
    };
    // What a card says of itself counts only if the records know such a card of this size.
    let known = match claimed {
        Some(label) => app
            .records
            .card(label)
            .await
            .ok()
            .filter(|card| card.size as u64 == medium.size),
        None => None,
    };
    let label = match known {
        Some(card) => Some(card.label),
        None => {
            let elsewhere = app.slots.labels_elsewhere(slot);
            app.records
                .unstamped_card(medium.size as i64, &bound.edges, &elsewhere)
                .await
                .map_err(|e| e.to_string())?
        }
    };
    Ok(Found {
        contents,
        bound,
        label,
    })
}
