//! Planning a round: what can be made, what has to be accepted, and its confirmation.

use api::SlotName;
use records::rounds::{NewEntry, NewRound};
use serde_json::json;

use super::{HERE, Rounds};
use crate::refusal::Refusal;

/// Cards of one round at most.
const MOST: usize = 500;
/// Length of a title at most, in characters.
const TITLE: usize = 80;

impl Rounds {
    /// Plans a round: each card is foreseen, and what cannot be made is left out with the reason.
    pub async fn plan(&self, operator: &str, new: &api::NewRound) -> Result<i64, Refusal> {
        let title = new.title.trim();
        if title.chars().count() > TITLE || title.chars().any(char::is_control) {
            let detail = format!("a title takes at most {TITLE} characters on one line");
            return Err(Refusal::invalid("bad-value", detail));
        }
        let stop_after = new.stop_after.unwrap_or(3);
        if !(1..=1000).contains(&stop_after) {
            let detail = "a round stops by itself after 1 to 1000 failures";
            return Err(Refusal::invalid("bad-value", detail));
        }
        let copies = new.copies as usize;
        let cards = new.devices.len() + copies;
        if cards == 0 || cards > MOST {
            let detail = format!("a round makes 1 to {MOST} cards, not {cards}");
            return Err(Refusal::invalid("bad-value", detail));
        }
        if copies > 0 && new.backup.is_none() {
            let detail = "copies are made of a backup; name one";
            return Err(Refusal::invalid("bad-value", detail));
        }
        let mut names: Vec<_> = new.devices.iter().collect();
        names.sort_unstable();
        if let Some(twice) = names.windows(2).find(|pair| pair[0] == pair[1]) {
            let detail = format!("{} stands in the list twice", twice[0]);
            return Err(Refusal::invalid("bad-value", detail));
        }
        let mut entries = Vec::with_capacity(cards);
        for name in &new.devices {
            entries.push(self.entry(Some(name), new.backup.as_deref()).await?);
        }
        if copies > 0 {
            let one = self.entry(None, new.backup.as_deref()).await?;
            entries.extend(std::iter::repeat_n(one, copies));
        }
        let devices: Vec<_> = entries.iter().filter_map(|entry| entry.device).collect();
        if let Some((name, other)) = self.records.in_other_rounds(&devices).await?.first() {
            let detail =
                format!("{name} waits in round {other}; end that one, or leave {name} out");
            return Err(Refusal::conflict("in-other-round", detail));
        }
        let title = match title {
            "" if copies > 0 => format!("Copies of {}", new.backup.as_deref().unwrap_or_default()),
            "" if cards == 1 => new.devices.first().cloned().unwrap_or_default(),
            "" => format!("{cards} devices"),
            given => given.to_owned(),
        };
        let round = NewRound {
            title,
            operator: operator.into(),
            trial_first: new.trial_first,
            stop_after: stop_after as i32,
            wipe_free: new.wipe_free,
            slots: self.places(&new.slots)?,
            entries,
        };
        let id = self.records.add_round(&round).await?;
        self.stir();
        Ok(id)
    }

    /// Where the cards of a round are made, as it is recorded.
    fn places(&self, given: &[String]) -> Result<Vec<String>, Refusal> {
        let all: Vec<SlotName> = self.slots.views().iter().map(|slot| slot.name).collect();
        let mut benches: Vec<&str> = all.iter().filter_map(|slot| slot.bench()).collect();
        benches.sort_unstable();
        benches.dedup();
        let is_here = all.iter().any(|slot| slot.bench().is_none());
        if given.is_empty() {
            return match benches.as_slice() {
                [only] if !is_here => Ok(vec![(*only).to_owned()]),
                [_, _, ..] if !is_here => Err(Refusal::invalid(
                    "no-slots",
                    format!(
                        "say where the cards are made (--at): {}",
                        benches.join(", ")
                    ),
                )),
                _ => Ok(vec![HERE.to_owned()]),
            };
        }
        let mut places = Vec::new();
        for word in given.iter().map(|word| word.trim()) {
            let is_place = word == HERE || benches.contains(&word);
            let is_slot = || word.parse().is_ok_and(|slot: SlotName| all.contains(&slot));
            if !is_place && !is_slot() {
                let mut known: Vec<_> = all.iter().map(SlotName::typed).collect();
                known.extend(benches.iter().map(|bench| (*bench).to_owned()));
                known.push(HERE.into());
                return Err(Refusal::invalid(
                    "no-slots",
                    format!(
                        "there is no slot or bench {word:?} now; there are {}",
                        known.join(", ")
                    ),
                ));
            }
            if !places.iter().any(|place| place == word) {
                places.push(word.to_owned());
            }
        }
        Ok(places)
    }

    async fn entry(&self, device: Option<&str>, backup: Option<&str>) -> Result<NewEntry, Refusal> {
        // A name that nobody knows is a slip of the pen, which ends the planning.
        let known = match device {
            Some(name) => Some(self.records.device(name).await?),
            None => None,
        };
        let wanted = api::NewPlan {
            device: device.map(str::to_owned),
            backup: backup.map(str::to_owned),
            ..api::NewPlan::default()
        };
        let id = known.as_ref().map(|device| device.id);
        let refused = |base: &str, why: String| NewEntry {
            device: id,
            base: base.into(),
            from_backup: backup.is_some(),
            smallest_card: 0,
            cautions: json!([]),
            refused: Some(why),
        };
        if known.is_some_and(|device| device.state == "retired") {
            return Ok(refused("", "it is retired".into()));
        }
        match self.plans.foresee(&wanted).await {
            Ok(foreseen) => Ok(NewEntry {
                device: id.or(foreseen.device.map(|device| device.id)),
                base: foreseen.base,
                from_backup: backup.is_some(),
                smallest_card: foreseen.smallest_card as i64,
                cautions: json!(foreseen.cautions),
                refused: None,
            }),
            Err(e) if backup.is_none() || device.is_some() => {
                Ok(refused(backup.unwrap_or_default(), e.detail))
            }
            Err(e) => Err(e),
        }
    }

    /// Confirms a planned round: the number of its cards is said, and each caution accepted by name.
    pub async fn confirm(
        &self,
        operator: &str,
        id: i64,
        given: &api::RoundConfirmation,
    ) -> Result<(), Refusal> {
        let detail = self.show(id).await?;
        let cards = detail.round.waiting;
        if cards == 0 {
            let said = format!("nothing of round {id} can be made; look why each is left out");
            return Err(Refusal::conflict("nothing-to-make", said));
        }
        if given.cards != cards {
            let said = format!(
                "round {id} makes {cards} cards, not {}; nothing was begun. Look at the list again",
                given.cards
            );
            return Err(Refusal::conflict("wrong-number", said));
        }
        let mut open: Vec<_> = detail
            .cautions
            .iter()
            .map(|one| one.name.as_str())
            .filter(|name| !given.accept.iter().any(|one| one == name))
            .collect();
        open.dedup();
        if !open.is_empty() {
            let said = format!(
                "nothing was begun: accept by name what there is to be careful about: {}",
                open.join(", ")
            );
            return Err(Refusal::conflict("not-accepted", said));
        }
        self.records
            .confirm_round(id, &given.accept, operator)
            .await?;
        self.stir();
        Ok(())
    }

    /// Frees a card for a round although it is not blank: whoever says its label means that what is on it
    /// may be lost. Gives what that is.
    pub async fn free(
        &self,
        operator: &str,
        round: i64,
        label: &str,
    ) -> Result<Vec<String>, Refusal> {
        let found = self.records.round(round).await?;
        if found.is_over() {
            let detail = format!("round {round} is over; plan another one");
            return Err(Refusal::conflict("round-over", detail));
        }
        let card = self.records.card(label).await?;
        if let Some(why) = &card.suspicion {
            let detail = format!("card {label} is mistrusted: {why}; take another card");
            return Err(Refusal::conflict("card-mistrusted", detail));
        }
        if let state @ ("held" | "lost" | "retired") = card.state.as_str() {
            let detail = format!("card {label} is recorded as {state}; take another card");
            return Err(Refusal::conflict("card-held", detail));
        }
        let lost = match self.slots.slot_of(label) {
            Some(slot) => self.plans.would_lose(slot, &card).await?,
            None => match &card.device {
                Some(device) => vec![format!("what {label} holds for {device}")],
                None => Vec::new(),
            },
        };
        let summary = format!("Card {label} may be written in round {round}");
        self.records
            .free_for_round(round, card.id, operator, &summary)
            .await?;
        self.stir();
        Ok(lost)
    }
}
