//! Which label the card in a slot has: what it says of itself goes before what it is taken for.

use std::sync::Arc;

use cardwork::{Insertion, Medium};
use records::cards::Card;

use super::{Inserted, Seen, Slots, State};
use crate::refusal::Refusal;
use api::SlotName;
use api::words::exact;

impl Slots {
    /// Labels of cards that are in slots other than `but`.
    pub fn labels_elsewhere(&self, but: SlotName) -> Vec<String> {
        let state = self.state();
        let others = state.seen.iter().filter(|seen| seen.slot != but);
        others
            .filter_map(|seen| seen.found.as_ref()?.as_ref().ok()?.label.clone())
            .chain(state.elsewhere().map(|(_, label)| label.to_owned()))
            .collect()
    }

    /// Another slot whose card says that it has the same label: one of the two is a copy.
    pub(super) fn twin(&self, slot: SlotName, label: &str) -> Option<SlotName> {
        self.state().twin(slot, label)
    }

    /// Says which card it is that is in a slot and does not say it itself: one that the team has already, because its
    /// sticker says so, or, without a label, one that has no sticker yet. What was recorded as being on a card that the
    /// team has is not there, or it would say itself which it is.
    pub async fn attach_label(
        self: &Arc<Self>,
        slot: SlotName,
        sticker: &api::Sticker,
        operator: &str,
    ) -> Result<(), Refusal> {
        let label = sticker.card.as_deref().map(str::trim);
        let Inserted { medium, found, .. } = self.card_in(slot).await?;
        let _alone = self.labelling.lock().await;
        let _reserved = self.reserve(slot)?;
        if let Some(own) = self.label_of(slot, &medium.insertion) {
            if Some(own.as_str()) == label {
                // It was taken for that; now a person says so.
                self.learn_label(slot, &medium.insertion, &own);
                return Ok(());
            }
            if found.says_so {
                let detail = format!(
                    "the card in slot {slot} says itself that it is {own}; it keeps that label"
                );
                return Err(Refusal::conflict("has-label", detail));
            }
        }
        let Some(label) = label else {
            let new = self.new_label(slot, &medium, &found.bound.edges, operator);
            return new.await.map(drop);
        };
        let card = self.records.card(label).await?;
        if let Some(other) = self.slot_of(label) {
            let detail =
                format!("card {label} is in slot {other}; two cards cannot have one label");
            return Err(Refusal::conflict("card-twice", detail));
        }
        if card.size as u64 != medium.size {
            let detail = format!(
                "card {label} holds {}, the one in slot {slot} {}; it is another card",
                exact(card.size as u64),
                exact(medium.size)
            );
            return Err(Refusal::conflict("other-card", detail));
        }
        let standing = self.records.standing(card.id).await?;
        if standing.imprint.is_some() && !sticker.although_recorded {
            let at = slot.typed();
            let whose = card.device.map_or("nobody in particular".into(), |device| {
                format!("device {device}")
            });
            let detail = format!(
                "by the records {label} is {}, and was written for {whose}; the card in slot {slot} shows: {}. Look at its sticker \
                 again. If it says {label} all the same, say so (duplicarium card this-is {label} --slot {at} \
                 --although-recorded): what was recorded as being on it is not there from then on",
                standing.state, found.contents.summary
            );
            return Err(Refusal::conflict("recorded-otherwise", detail));
        }
        self.records
            .relabel_card(card.id, &found.bound.edges)
            .await?;
        let summary = format!("The card in slot {slot} is {label}, as its sticker says");
        self.labelled(slot, &medium.insertion, label, operator, &summary)
            .await
    }

    /// Gives a label to a card that has none, and teaches its slot.
    pub async fn give_label(
        &self,
        slot: SlotName,
        medium: &Medium,
        edges: &[u8],
        operator: &str,
    ) -> Result<Card, Refusal> {
        let _alone = self.labelling.lock().await;
        match self.label_of(slot, &medium.insertion) {
            Some(label) => Ok(self.records.card(&label).await?),
            None => self.new_label(slot, medium, edges, operator).await,
        }
    }

    async fn new_label(
        &self,
        slot: SlotName,
        medium: &Medium,
        edges: &[u8],
        operator: &str,
    ) -> Result<Card, Refusal> {
        let card = self
            .records
            .add_card(medium.size as i64, &medium.kind, edges, operator)
            .await?;
        let label = card.label.as_str();
        let summary = format!("{label} is the label of the card in slot {slot}");
        self.labelled(slot, &medium.insertion, label, operator, &summary)
            .await?;
        Ok(card)
    }

    /// Notes that the card of an insertion has this label by now, and keeps it.
    async fn labelled(
        &self,
        slot: SlotName,
        insertion: &Insertion,
        label: &str,
        operator: &str,
        summary: &str,
    ) -> Result<(), Refusal> {
        self.events
            .note(operator, "card.labelled", label, summary)
            .await?;
        self.learn_label(slot, insertion, label);
        Ok(())
    }

    /// Refuses where the card of an insertion is taken for another one than `label` by now. While it is looked at, nobody
    /// can tell.
    pub fn must_be(
        &self,
        label: &str,
        slot: SlotName,
        insertion: &Insertion,
    ) -> Result<(), Refusal> {
        let state = self.state();
        let seen = state.seen.iter().find(|seen| seen.slot == slot);
        let seen = seen.filter(|seen| {
            seen.medium
                .as_ref()
                .is_some_and(|one| one.insertion == *insertion)
        });
        let Some(Some(Ok(found))) = seen.map(|seen| &seen.found) else {
            return Ok(());
        };
        if found.label.as_deref() == Some(label) {
            return Ok(());
        }
        let is = match &found.label {
            Some(now) => format!("it is {now}"),
            None => format!("{label} is another card, or not known as this one"),
        };
        Err(Refusal::conflict(
            "plan-void",
            format!(
                "the card in slot {slot} was taken for {label} when the plan was made; by now {is}. Nothing was touched; \
                 look at the sticker, then make the plan again"
            ),
        ))
    }

    /// Slot of a card, if it is in one.
    pub fn slot_of(&self, label: &str) -> Option<SlotName> {
        let state = self.state();
        let is = |seen: &&Seen| {
            matches!(&seen.found, Some(Ok(found)) if found.label.as_deref() == Some(label))
                && seen.medium.is_some()
        };
        let here = state.seen.iter().find(is).map(|seen| seen.slot);
        here.or_else(|| {
            let mut elsewhere = state.elsewhere();
            elsewhere
                .find(|(_, other)| *other == label)
                .map(|(slot, _)| slot)
        })
    }

    /// The label of the card of an insertion, if it has one.
    pub fn label_of(&self, slot: SlotName, insertion: &Insertion) -> Option<String> {
        let state = self.state();
        let seen = state.seen.iter().find(|seen| seen.slot == slot)?;
        let same = seen.medium.as_ref()?.insertion == *insertion;
        let found = seen.found.as_ref()?.as_ref().ok()?;
        found.label.clone().filter(|_| same)
    }

    /// Keeps the label that the card of an insertion was given.
    pub fn learn_label(&self, slot: SlotName, insertion: &Insertion, label: &str) {
        let mut state = self.state();
        let is = |seen: &&mut Seen| {
            seen.slot == slot
                && seen
                    .medium
                    .as_ref()
                    .is_some_and(|medium| medium.insertion == *insertion)
        };
        if let Some(Seen {
            found: Some(Ok(found)),
            ..
        }) = state.seen.iter_mut().find(is)
        {
            found.label = Some(label.into());
            found.was_told = true;
        }
        state.is_only_in(slot, label);
        drop(state);
        self.tell();
    }
}

impl State {
    /// Slots of other services with the labels of the cards in them.
    fn elsewhere(&self) -> impl Iterator<Item = (SlotName, &str)> {
        let all = self.elsewhere.values().flatten();
        all.filter_map(|slot| Some((slot.name, slot.card.as_ref()?.label.as_deref()?)))
    }

    pub(super) fn twin(&self, slot: SlotName, label: &str) -> Option<SlotName> {
        let says = |seen: &Seen| {
            let found = seen.found.as_ref().and_then(|found| found.as_ref().ok());
            found.is_some_and(|found| found.says_so && found.label.as_deref() == Some(label))
        };
        let mut saying = self.seen.iter().filter(|seen| says(seen));
        let own = self.seen.iter().any(|seen| seen.slot == slot && says(seen));
        saying
            .find(|seen| own && seen.slot != slot)
            .map(|seen| seen.slot)
    }

    /// A card has just got this label: no other is taken for it any more, unless it says so itself.
    fn is_only_in(&mut self, slot: SlotName, label: &str) {
        for seen in &mut self.seen {
            if let Some(Ok(found)) = &mut seen.found
                && !found.says_so
                && seen.slot != slot
            {
                found.label = found.label.take().filter(|other| other != label);
            }
        }
    }

    /// A card that says itself who it is goes before those that were only taken for it. The one in `looked_at`, which was
    /// just looked at, is taken for none that is in another slot: equal blank cards were looked at at once.
    pub(super) fn prefer_who_says_so(&mut self, looked_at: SlotName) {
        let others: Vec<_> = self
            .seen
            .iter()
            .filter(|seen| seen.slot != looked_at)
            .filter_map(|seen| seen.found.as_ref()?.as_ref().ok()?.label.clone())
            .chain(self.elsewhere().map(|(_, label)| label.to_owned()))
            .collect();
        if let Some(Seen {
            found: Some(Ok(found)),
            ..
        }) = self.seen.iter_mut().find(|seen| seen.slot == looked_at)
            && !found.says_so
        {
            found.label = found.label.take().filter(|label| !others.contains(label));
        }
        let saying: Vec<_> = self
            .seen
            .iter()
            .filter_map(|seen| seen.found.as_ref()?.as_ref().ok())
            .filter(|found| found.says_so)
            .filter_map(|found| found.label.clone())
            .collect();
        for seen in &mut self.seen {
            if let Some(Ok(found)) = &mut seen.found
                && !found.says_so
            {
                found.label = found.label.take().filter(|label| !saying.contains(label));
            }
        }
    }
}
