//! A round as people see it: its cards, and what each slot waits for.

use api::words::size;
use cardwork::Insertion;
use records::rounds::{Counts, Entry, Round};

use super::{No, Rounds, Stop, makes_at};
use crate::refusal::Refusal;
use crate::shown;

impl Rounds {
    /// A round with its cards and what the slots wait for.
    pub async fn show(&self, id: i64) -> Result<api::RoundDetail, Refusal> {
        let round = self.records.round(id).await?;
        let entries = self.records.round_entries(id).await?;
        let counts = self.records.round_counts(&[id]).await?;
        let freed = self.records.round_cards(id).await?;
        let slots = match round.state.as_str() {
            "running" | "trial" | "paused" => self.at_slots(&round, &entries),
            _ => Vec::new(),
        };
        let mut cautions: Vec<api::Caution> = Vec::new();
        let shown: Vec<_> = entries.into_iter().map(entry_view).collect();
        for caution in shown
            .iter()
            .filter(|entry| entry.state == "waiting")
            .flat_map(|entry| &entry.cautions)
        {
            if !cautions.contains(caution) {
                cautions.push(caution.clone());
            }
        }
        if round.state == "planned"
            && let Some(words) = self.in_slots_already(&round, &freed).await?
        {
            cautions.push(api::Caution::new("cards-in-slots", words));
        }
        cautions.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(api::RoundDetail {
            round: round_view(round, counts.into_iter().next().unwrap_or_default()),
            entries: shown,
            cautions,
            freed,
            slots,
        })
    }

    /// Which cards lie in slots of a planned round already and would be written as soon as it begins, in a sentence.
    async fn in_slots_already(
        &self,
        round: &Round,
        freed: &[String],
    ) -> Result<Option<String>, Refusal> {
        let mut cards = Vec::new();
        let idle = self.slots.idle().into_iter();
        for seen in idle.filter(|seen| makes_at(round, seen.slot)) {
            match self.suits(round, &seen, freed).await {
                Ok((medium, found)) => cards.push(format!(
                    "{} of {} in slot {}",
                    match &found.label {
                        Some(label) => format!("card {label}"),
                        None => "a blank card".into(),
                    },
                    size(medium.size),
                    seen.slot
                )),
                Err(Stop::No(No::Later)) => cards.push(format!(
                    "the card in slot {}, which is still being looked at",
                    seen.slot
                )),
                Err(Stop::No(No::Card(_))) => {}
                Err(Stop::Refused(e)) => return Err(e),
            }
        }
        Ok((!cards.is_empty()).then(|| {
            format!(
                "what lies in its slots already is written as soon as it begins: {}. Take out what is not meant",
                cards.join(", ")
            )
        }))
    }

    /// Rounds, newest first.
    pub async fn list(&self, before: Option<i64>, most: i64) -> Result<api::Rounds, Refusal> {
        let rows = self.records.rounds(before, most).await?;
        let ids: Vec<_> = rows.iter().map(|round| round.id).collect();
        let counts = self.records.round_counts(&ids).await?;
        let next = (rows.len() as i64 == most)
            .then(|| ids.last().copied())
            .flatten();
        let items = rows.into_iter().zip(counts);
        Ok(api::Rounds {
            items: items.map(|(row, counts)| round_view(row, counts)).collect(),
            next,
        })
    }

    fn at_slots(&self, round: &Round, entries: &[Entry]) -> Vec<api::RoundSlot> {
        let next = entries
            .iter()
            .find(|entry| entry.state == "waiting")
            .filter(|_| round.is_running() && !round.waits_for_trial(entries));
        let state = self.state();
        let views = self.slots.views().into_iter();
        views
            .filter(|slot| makes_at(round, slot.name))
            .map(|slot| {
                let same = |insertion: &Insertion| {
                    let card = slot.card.as_ref();
                    card.is_some_and(|card| card.insertion == insertion.number)
                };
                let refused = state.refused.get(&slot.name);
                let tried = state.tried.get(&slot.name);
                let known = Known {
                    why: refused
                        .filter(|one| same(&one.insertion))
                        .map(|one| one.why.as_str()),
                    job: tried.filter(|one| same(&one.0)).map(|one| one.1),
                };
                at_slot(&slot, entries, next, known)
            })
            .collect()
    }
}

/// What is known of the very card that is in a slot now.
#[derive(Clone, Copy, Default)]
struct Known<'a> {
    /// Why it does not count.
    why: Option<&'a str>,
    /// The job that was begun with it.
    job: Option<i64>,
}

/// Whom an entry is for, in a word.
fn whom(entry: &Entry) -> &str {
    entry.device.as_deref().unwrap_or(&entry.base)
}

/// What one slot waits for.
fn at_slot(
    slot: &api::Slot,
    entries: &[Entry],
    next: Option<&Entry>,
    known: Known<'_>,
) -> api::RoundSlot {
    let why = known.why;
    let label = slot.card.as_ref().and_then(|card| card.label.clone());
    let here = |entry: &&Entry| {
        let labelled = entry.card.is_some() && entry.card == label;
        // A card that keeps nothing of what is written does not even say its label.
        let begun = entry.job.is_some() && entry.job == known.job;
        entry.slot.as_deref() == Some(&slot.name.typed()) && (labelled || begun)
    };
    let own = entries.iter().rev().find(here);
    let name = label.clone().unwrap_or_else(|| "the card".into());
    let (kind, words, entry) = match (&slot.card, own) {
        (None, _) => match next {
            Some(next) => (
                "put-in",
                format!("put a blank card in; it becomes the card of {}", whom(next)),
                Some(next),
            ),
            None => ("rest", String::new(), None),
        },
        (Some(_), Some(own)) if slot.job.is_some() && slot.job == own.job => (
            "at-work",
            format!("leave {name} in; it becomes the card of {}", whom(own)),
            Some(own),
        ),
        (Some(_), _) if slot.job.is_some() => ("rest", "another job works here".into(), None),
        (Some(_), Some(own)) if own.state == "done" => (
            "pull",
            format!(
                "pull it, with {name} on its sticker; it goes into {}",
                whom(own)
            ),
            Some(own),
        ),
        (Some(_), Some(own)) if own.state == "unsure" => {
            ("rest", format!("{name} is being looked at"), Some(own))
        }
        (Some(_), Some(own)) if why.is_none() && own.job.is_some() && own.state != "at work" => (
            "failed",
            format!(
                "pull {name}: {}",
                own.why.as_deref().unwrap_or("it is not needed")
            ),
            Some(own),
        ),
        (Some(_), _) => match why {
            Some(why) => ("other", format!("pull it: {why}"), None),
            None => ("rest", String::new(), None),
        },
    };
    api::RoundSlot {
        slot: slot.name,
        kind: kind.into(),
        card: label,
        device: entry.and_then(|entry| entry.device.clone()),
        job: slot.job,
        words,
        hand: matches!(kind, "put-in" | "pull" | "failed" | "other"),
    }
}

fn round_view(row: Round, counts: Counts) -> api::Round {
    let at_work = counts.at_work + counts.unsure;
    let cards = counts.waiting + at_work + counts.done + counts.failed + counts.skipped;
    api::Round {
        id: row.id,
        title: row.title,
        state: row.state,
        why: row.why,
        operator: row.operator,
        created_at: row.created_at,
        confirmed_at: row.confirmed_at,
        ended_at: row.ended_at,
        trial_first: row.trial_first,
        stop_after: row.stop_after as u32,
        failures: row.failures as u32,
        wipe_free: row.wipe_free,
        slots: row.slots,
        cards: cards as u32,
        done: counts.done as u32,
        waiting: counts.waiting as u32,
        at_work: at_work as u32,
        failed: counts.failed as u32,
        skipped: counts.skipped as u32,
    }
}

fn entry_view(row: Entry) -> api::RoundEntry {
    let took = row.began_at.zip(row.finished_at);
    api::RoundEntry {
        place: row.place,
        device: row.device,
        base: row.base,
        smallest_card: row.smallest_card as u64,
        state: row.state,
        why: row.why,
        cautions: serde_json::from_value(row.cautions).unwrap_or_default(),
        attempts: row.attempts as u32,
        job: row.job,
        card: row.card,
        slot: row.slot.as_deref().map(shown::slot),
        seconds: took.map(|(began, ended)| (ended - began).as_seconds_f64()),
        written: row.written.map(|bytes| bytes as u64),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(place: i32, state: &str) -> Entry {
        Entry {
            place,
            device: Some(format!("quay-0{place}")),
            base: "quaylink 2.4".into(),
            from_backup: false,
            smallest_card: 0,
            cautions: serde_json::json!([]),
            state: state.into(),
            why: (state == "waiting").then(|| "it vanished".into()),
            attempts: 1,
            job: Some(i64::from(place)),
            card: Some(format!("C-000{place}")),
            slot: Some(place.to_string()),
            began_at: None,
            finished_at: None,
            written: None,
        }
    }

    fn slot(number: u32, label: Option<&str>, job: Option<i64>) -> api::Slot {
        let card = label.map(|label| {
            serde_json::from_value(serde_json::json!({
                "insertion": 1, "size": 4, "kind": "SD card", "locked": false, "label": label, "occupant": "ours",
                "summary": ""
            }))
            .expect("a card of a slot")
        });
        api::Slot {
            name: number.into(),
            bench: None,
            number,
            place: String::new(),
            reader: String::new(),
            unit: 0,
            trouble: None,
            card,
            job,
            failed: None,
        }
    }

    #[test]
    fn each_slot_says_what_it_waits_for() {
        let waiting = entry(4, "waiting");
        let entries = [
            entry(1, "done"),
            entry(2, "at work"),
            entry(3, "waiting"),
            waiting.clone(),
        ];
        let say = |slot: api::Slot, why: Option<&str>| {
            let known = Known { why, job: None };
            let said = at_slot(&slot, &entries, Some(&waiting), known);
            (said.kind, said.words, said.hand)
        };
        let pull = say(slot(1, Some("C-0001"), None), None);
        assert_eq!(pull.0, "pull");
        assert!(pull.1.contains("C-0001") && pull.1.contains("quay-01"));
        assert!(pull.2);
        let busy = say(slot(2, Some("C-0002"), Some(2)), None);
        assert_eq!((busy.0.as_str(), busy.2), ("at-work", false));
        assert_eq!(say(slot(3, Some("C-0003"), None), None).0, "failed");
        let put = say(slot(4, None, None), None);
        assert!(put.0 == "put-in" && put.1.contains("quay-04"), "{put:?}");
        let silent = Known {
            why: None,
            job: Some(3),
        };
        let silent = at_slot(&slot(3, Some("C-0099"), None), &entries, None, silent);
        assert_eq!(silent.kind, "failed", "it does not say who it is");
        let other = say(slot(5, Some("C-0009"), None), Some("it is locked"));
        assert!(
            other.0 == "other" && other.1.contains("locked"),
            "{other:?}"
        );
        assert_eq!(say(slot(6, Some("C-0010"), None), None).0, "rest");
    }
}
