//! Checks of cards, cut off at any moment: what was on a card is on it again, or is put back.

use std::time::{Duration, Instant};

use api::{Job, NewCardPlan};

use super::{Medium, Model, PATIENCE};

/// What ends a check before its time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Cut {
    Nothing,
    Cancelled,
    Pulled,
    Killed,
}

impl Model {
    /// A quick check of a card. Judged by every byte of its medium, before and after.
    pub(super) async fn check_card(&mut self, deadly: bool) {
        let (slot, card) = self.some_slot().await;
        let cut = match (deadly, self.chance.below(4)) {
            (true, _) => Cut::Killed,
            (_, 0) => Cut::Nothing,
            (_, 1) => Cut::Cancelled,
            _ => Cut::Pulled,
        };
        // Saving, putting test data on, reading it, putting back: a check of these cards takes about a second.
        let moment = self.chance.below(1500);
        self.say(format!(
            "check {card} in slot {slot}, {cut:?} after {moment} ms"
        ));
        let before = self.medium(card);
        if !matches!(before, Medium::Whole { .. } | Medium::Blank) {
            return;
        }
        let bytes = self.bed.card_digest(card);
        let Some(job) = self.start_on_card(slot, card, "quick-check").await else {
            return;
        };
        tokio::time::sleep(Duration::from_millis(moment)).await;
        match cut {
            Cut::Nothing => {}
            Cut::Cancelled => drop(self.client.cancel(job.id).await),
            Cut::Pulled => drop(self.bed.standin(&["pull", "--slot", &slot.to_string()])),
            Cut::Killed => {
                self.bed.kill_service();
                self.bed.start_service();
                self.played.kills += 1;
            }
        }
        let ended = self.ended(&job).await;
        if cut == Cut::Pulled {
            self.bed.put(card, slot);
        }
        self.settle().await;
        if cut != Cut::Nothing && ended.state != "done" {
            self.played.cut_checks += 1;
        }
        let told = ended.error.clone().unwrap_or_default();
        let same = self.bed.card_digest(card) == bytes;
        let says = ended.state == "done" || told.contains("What was on it is on it");
        assert!(
            same || !says,
            "{}: said to be as it was: {ended:?}",
            self.what
        );
        if !same {
            let label = self.labels[card].clone();
            let found = self.client.card(&label).await;
            let found = found.unwrap_or_else(|e| panic!("{}: {e}", self.what));
            assert_eq!(found.card.state, "incomplete", "{}: {ended:?}", self.what);
            let back = self.start_on_card(slot, card, "put-back").await;
            let back = back.unwrap_or_else(|| panic!("{}: nothing is put back", self.what));
            let ended = self.ended(&back).await;
            assert_eq!(ended.state, "done", "{}: {ended:?}", self.what);
            self.settle().await;
            assert!(
                self.bed.card_digest(card) == bytes,
                "{}: put back, and not the same",
                self.what
            );
        }
        self.played.done += u64::from(ended.state == "done");
    }

    /// Plans work on a card itself, and begins it.
    async fn start_on_card(&mut self, slot: u32, card: &'static str, work: &str) -> Option<Job> {
        let new = NewCardPlan {
            slot: slot.into(),
            work: work.into(),
        };
        let begun = Instant::now();
        let plan = loop {
            match self.client.card_plan(&new).await {
                Ok(plan) => break plan,
                // Where a kill came between the last byte and the record, what it is must be found out first.
                Err(_) if begun.elapsed() < PATIENCE / 8 => {
                    tokio::time::sleep(Duration::from_millis(200)).await;
                }
                Err(e) => {
                    assert!(work == "put-back", "{}: {e}", self.what);
                    return None;
                }
            }
        };
        self.learn_label(card, &plan.card);
        let job = self.client.confirm(&plan.id, plan.agreed(), None).await;
        Some(job.unwrap_or_else(|e| panic!("{}: {e}", self.what)))
    }
}
