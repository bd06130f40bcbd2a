//! Rounds: cards are made in turn as blank ones go in, by one task that looks at the records and at the
//! slots. Nothing of a round is only in memory, so that the next start goes on with it.

mod at_slots;
mod planned;
mod report;

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use cardwork::{Insertion, Occupant};
use records::Records;
use records::jobs::RequestKey;
use records::rounds::{Claimed, Round, Turn};
use tokio::sync::Notify;

use crate::news::{Events, News};
use crate::plans::Plans;
use crate::refusal::{Refusal, Why};
use crate::slots::{Found, Seen, Slots};
use api::SlotName;

pub use report::report;

/// How often slots and jobs are looked at while a round is not over.
const TICK: Duration = Duration::from_millis(300);
/// How often the records are asked for a round otherwise.
const IDLE: Duration = Duration::from_secs(5);

/// Refusals that are about the card or its slot: another card will do.
const OF_THE_CARD: &[&str] = &[
    "no-card",
    "card-too-small",
    "card-mistrusted",
    "card-held",
    "card-locked",
    "card-in-use",
    "card-not-in-use",
    "card-twice",
    "card-unreadable",
    "card-failed",
    "reader-blocks",
    "source-card",
];

/// Refusals of the moment: hands, or the records, were quicker. The next look sees what is there then.
const OF_THE_MOMENT: &[&str] = &[
    "slot-busy",
    "slot-empty",
    "reader",
    "card-gone",
    "card-swapped",
    "wrong-label",
    "plan-void",
];

/// Whether it is not for what is in the list that a card is not made.
fn passes(refusal: &Refusal) -> bool {
    let code = &refusal.code;
    refusal.why == Why::Busy || OF_THE_MOMENT.contains(code) || OF_THE_CARD.contains(code)
}

/// The word for all slots of the service's own computer.
const HERE: &str = "here";

/// Whether a round makes cards in a slot.
fn makes_at(round: &Round, slot: SlotName) -> bool {
    let bench = slot.bench().unwrap_or(HERE);
    let typed = slot.typed();
    round.slots.is_empty()
        || round
            .slots
            .iter()
            .any(|place| *place == typed || place == bench)
}

/// Cautions that whoever frees a card for a round has accepted with that.
const OF_A_FREED_CARD: &[&str] = &["old-data", "other-device", "second-card"];

/// The rounds of the team, and the one that is under way.
pub struct Rounds {
    records: Records,
    events: Events,
    slots: Arc<Slots>,
    plans: Arc<Plans>,
    /// Told when somebody changed a round, so that nobody waits for the next look.
    stirred: Notify,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    /// Insertions that a card was made with already, and by which job: what failed once is not tried again by
    /// itself.
    tried: BTreeMap<SlotName, (Insertion, i64)>,
    /// Why the card of an insertion does not count.
    refused: BTreeMap<SlotName, NotThis>,
}

/// Why a card does not count.
struct NotThis {
    insertion: Insertion,
    /// Which card it was taken for then.
    label: Option<String>,
    /// Whether a person had said so.
    was_told: bool,
    why: String,
    /// Something changed since, so that it may count now.
    stale: bool,
}

/// Why a card that is in a slot is not written.
enum No {
    /// It does not count, for this reason.
    Card(String),
    /// Nobody can tell yet.
    Later,
}

impl Rounds {
    /// Nothing was looked at yet.
    pub fn new(records: Records, events: Events, slots: Arc<Slots>, plans: Arc<Plans>) -> Self {
        Self {
            records,
            events,
            slots,
            plans,
            stirred: Notify::new(),
            state: Mutex::default(),
        }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Cards that did not count may count now.
    fn stir(&self) {
        for refused in self.state().refused.values_mut() {
            refused.stale = true;
        }
        self.events.bus.tell(News::Events);
        self.stirred.notify_one();
    }

    /// Looks at rounds, jobs and slots for as long as the service runs.
    pub async fn watch(self: Arc<Self>) {
        loop {
            let pause = match self.look().await {
                Ok(true) => TICK,
                Ok(false) => IDLE,
                Err(e) => {
                    tracing::debug!("looking after rounds: {e}");
                    TICK
                }
            };
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                () = self.stirred.notified() => {}
            }
        }
    }

    /// Takes over what became of jobs and begins what can be begun; whether a round is not over.
    async fn look(&self) -> Result<bool, Refusal> {
        for attempt in self.records.attempts_without_job().await? {
            match self.records.job_of_request(&key_of(attempt)).await? {
                Some(job) => self.records.attempt_is_job(attempt, job).await?,
                None => self.records.unclaim_entry(attempt, None).await?,
            }
        }
        if self.records.settle_rounds().await? {
            self.stir();
        }
        let Some(round) = self.records.round_under_way().await? else {
            return Ok(self.records.round_paused().await?);
        };
        if round.is_running() {
            let idle = self.slots.idle().into_iter();
            for seen in idle.filter(|seen| makes_at(&round, seen.slot)) {
                if let Err(e) = self.look_at_slot(&round, &seen).await {
                    tracing::debug!(slot = %seen.slot, "a slot of the round: {e}");
                }
            }
        }
        Ok(true)
    }

    /// Begins the next card of a round with the card of a slot, if that counts.
    async fn look_at_slot(&self, round: &Round, seen: &Seen) -> Result<(), Refusal> {
        let Some(medium) = &seen.medium else {
            return Ok(());
        };
        let (number, insertion) = (seen.slot, &medium.insertion);
        let found = seen.found.as_ref().and_then(|found| found.as_ref().ok());
        let label = found.and_then(|found| found.label.clone());
        let was_told = found.is_some_and(|found| found.was_told);
        {
            let state = self.state();
            let known = |one: &NotThis| {
                let same = one.label == label && one.was_told == was_told;
                !one.stale && one.insertion == *insertion && same
            };
            let tried = state.tried.get(&number).map(|(tried, _)| tried);
            if tried == Some(insertion) || state.refused.get(&number).is_some_and(known) {
                return Ok(());
            }
        }
        let why = match self.begin(round, seen).await {
            Ok(()) | Err(Stop::No(No::Later)) => {
                self.state().refused.remove(&number);
                return Ok(());
            }
            Err(Stop::No(No::Card(why))) => why,
            Err(Stop::Refused(e)) if OF_THE_CARD.contains(&e.code) => e.detail,
            Err(Stop::Refused(e)) => return Err(e),
        };
        let refused = NotThis {
            insertion: insertion.clone(),
            label,
            was_told,
            why,
            stale: false,
        };
        self.state().refused.insert(number, refused);
        self.events.bus.tell(News::Events);
        Ok(())
    }

    async fn begin(&self, round: &Round, seen: &Seen) -> Result<(), Stop> {
        let freed = self.records.round_cards(round.id).await?;
        let (medium, found) = self.suits(round, seen, &freed).await?;
        let entries = self.records.round_entries(round.id).await?;
        if round.waits_for_trial(&entries) {
            return Err(No::Later.into());
        }
        let mut waiting = entries.iter().filter(|entry| entry.state == "waiting");
        if !waiting.any(|entry| entry.smallest_card as u64 <= medium.size) {
            let why = "nothing that waits in this round fits on it; take it out, or a larger one";
            return Err(No::Card(why.into()).into());
        }
        let labelled = self
            .plans
            .label(seen.slot, medium, found, &round.operator)
            .await?;
        let card = labelled.0;
        let at = seen.slot.typed();
        let claimed = self.records.claim_entry(
            round.id,
            card.id,
            medium.size as i64,
            &at,
            card.device.as_deref(),
        );
        let Some(claimed) = claimed.await? else {
            return Err(No::Later.into());
        };
        let is_freed = freed.contains(&card.label);
        let at = (seen.slot, &medium.insertion);
        match self.carry_out(round, at, &claimed, is_freed).await {
            Ok(job) => {
                let mut state = self.state();
                state
                    .tried
                    .insert(seen.slot, (medium.insertion.clone(), job));
                Ok(())
            }
            Err(stop) => {
                // It may have become a job all the same, with only the answer lost. Where the records cannot
                // tell now, the next look settles it.
                let key = key_of(claimed.attempt);
                if let Some(job) = self.records.job_of_request(&key).await? {
                    self.records.attempt_is_job(claimed.attempt, job).await?;
                    return Ok(());
                }
                let of_the_entry = match &stop {
                    Stop::Refused(e) if !passes(e) => Some(e.detail.as_str()),
                    _ => None,
                };
                self.records
                    .unclaim_entry(claimed.attempt, of_the_entry)
                    .await?;
                self.events.bus.tell(News::Events);
                Err(stop)
            }
        }
    }

    /// Plans and confirms one card, within what was accepted for the round; gives its job.
    async fn carry_out(
        &self,
        round: &Round,
        (slot, insertion): (SlotName, &Insertion),
        claimed: &Claimed,
        freed: bool,
    ) -> Result<i64, Stop> {
        let (release, backup) = match claimed.from_backup {
            true => (None, Some(claimed.base.clone())),
            false => (Some(claimed.base.clone()), None),
        };
        let new = api::NewPlan {
            device: claimed.device.clone(),
            release,
            backup,
            slot,
            wipe_free: round.wipe_free,
            ..api::NewPlan::default()
        };
        // The very card that was judged: hands are quick.
        let plan = self
            .plans
            .make_for(&round.operator, &new, Some(insertion))
            .await?;
        let tried_here = match &claimed.device {
            Some(device) => self.records.tried_here(claimed.attempt, device).await?,
            None => false,
        };
        let open: Vec<_> = plan
            .cautions
            .iter()
            .filter(|one| !round.accepted.contains(&one.name))
            .filter(|one| !(tried_here && one.name == "second-card"))
            .filter(|one| !(freed && OF_A_FREED_CARD.contains(&one.name.as_str())))
            .collect();
        if let Some(one) = open.iter().find(|one| one.name == "much-larger") {
            return Err(No::Card(format!("{}; write it by itself", one.words)).into());
        }
        if let Some(one) = open.first() {
            let detail = format!(
                "this was not accepted when the round began: {}. Write its card by itself, or plan another round",
                one.words
            );
            return Err(Refusal::conflict("not-accepted", detail).into());
        }
        let key = Some(key_of(claimed.attempt));
        let job = self
            .plans
            .confirm(&round.operator, &plan.id, &plan.agreed(), key)
            .await?;
        self.records.attempt_is_job(claimed.attempt, job.id).await?;
        self.events.bus.tell(News::Events);
        Ok(job.id)
    }

    /// Whether the card in a slot may be written without a further word: it is blank, or was freed.
    async fn suits<'a>(
        &self,
        round: &Round,
        seen: &'a Seen,
        freed: &[String],
    ) -> Result<(&'a cardwork::Medium, &'a Found), Stop> {
        let (Some(medium), Some(found)) = (&seen.medium, &seen.found) else {
            return Err(No::Later.into());
        };
        let no = |why: String| Err(No::Card(why).into());
        let found = match found {
            Ok(found) => found,
            Err(trouble) => return no(trouble.why.clone()),
        };
        if medium.locked {
            return no("it is locked; move its slider and put it in again".into());
        }
        if let Some(used) = &medium.in_use {
            return no(format!("it is in use by this computer ({used})"));
        }
        let empty = matches!(
            found.contents.occupant,
            Occupant::Blank | Occupant::Empty(_)
        );
        let holds = &found.contents.summary;
        let Some(label) = &found.label else {
            return match empty {
                true => Ok((medium, found)),
                false => no(format!(
                    "it holds data that is not ours ({holds}); take another card, or clear this one first"
                )),
            };
        };
        let card = self.records.card(label).await?;
        if let Some(why) = &card.suspicion {
            return no(format!("{label} is mistrusted: {why}; take another card"));
        }
        match card.state.as_str() {
            state @ ("held" | "lost" | "retired") => {
                no(format!("{label} is recorded as {state}; take another card"))
            }
            _ if freed.contains(label) => Ok((medium, found)),
            // Blank cards look alike: a label that a plan promised to one of them is not given to another.
            "blank" if empty => {
                let is_it = found.says_so
                    || found.was_told
                    || self.records.labelled_in_round(round.id, card.id).await?;
                let slot = seen.slot.typed();
                match is_it {
                    true => Ok((medium, found)),
                    false => no(format!(
                        "it looks like {label}, which was promised to a card, and does not say so itself. Look at its \
                         sticker, and say which card it is (duplicarium card this-is {label} --slot {slot}, or --new \
                         where it has none)"
                    )),
                }
            }
            _ => no(format!(
                "{label} is not blank ({holds}); take another card, or free it for this round by its label"
            )),
        }
    }

    /// Pauses a round, lets it go on, accepts its first card, or ends it.
    pub async fn turn(&self, operator: &str, id: i64, turn: Turn) -> Result<(), Refusal> {
        self.records.turn_round(id, turn, operator).await?;
        self.stir();
        Ok(())
    }

    /// Leaves one card of a round out, or takes it in again.
    pub async fn turn_entry(
        &self,
        operator: &str,
        round: i64,
        place: i32,
        skip: bool,
    ) -> Result<(), Refusal> {
        self.records
            .turn_entry(round, place, skip, operator)
            .await?;
        self.stir();
        Ok(())
    }
}

/// Why a card of a round does not become a job.
enum Stop {
    No(No),
    Refused(Refusal),
}

impl From<No> for Stop {
    fn from(no: No) -> Self {
        Self::No(no)
    }
}

impl<E: Into<Refusal>> From<E> for Stop {
    fn from(error: E) -> Self {
        Self::Refused(error.into())
    }
}

/// What the job of an attempt is known by, also after a restart in between.
fn key_of(attempt: i64) -> RequestKey {
    RequestKey {
        key: format!("round-attempt-{attempt}"),
        digest: attempt.to_be_bytes().to_vec(),
    }
}
