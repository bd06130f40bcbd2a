//! What makes a card no target at all. Somebody at a bench who is told one reason, mends it and is told the
//! next has walked twice: all that is known is said at once.

use cardwork::Medium;
use records::cards::Card;

use crate::refusal::Refusal;
use crate::work::CardWork;
use api::SlotName;
use api::words::exact;

/// Everything that stands against writing a card, the first thing to mend first.
#[derive(Default)]
pub(super) struct Stops(Vec<Refusal>);

impl Stops {
    fn add(&mut self, code: &'static str, detail: String) {
        self.0.push(Refusal::conflict(code, detail));
    }

    /// Against a medium that takes no writes, or that this computer uses.
    pub fn medium(&mut self, slot: SlotName, medium: &Medium) {
        if medium.locked {
            let detail =
                format!("the card in slot {slot} is locked; move its slider and put it in again");
            self.add("card-locked", detail);
        }
        if let Some(used) = &medium.in_use {
            let detail = format!(
                "the card in slot {slot} is in use by this computer ({used}); close what is open there and let go of \
                 it (duplicarium slot release {slot})"
            );
            self.add("card-in-use", detail);
        }
    }

    /// Against a medium that is too small for what goes onto it.
    pub fn size(&mut self, slot: SlotName, medium: &Medium, base: &str, smallest: u64) {
        if smallest > medium.size {
            let detail = format!(
                "the card in slot {slot} holds {}, {base} needs {}; take a larger card",
                exact(medium.size),
                exact(smallest)
            );
            self.add("card-too-small", detail);
        }
    }

    /// Against a card that is not there any more as the records have it, or is the only way back.
    pub fn standing(&mut self, slot: SlotName, card: &Card, work: CardWork) {
        if let "lost" | "retired" = card.state.as_str() {
            let detail = format!(
                "card {} in slot {slot} is recorded as {}; say that it is there again (duplicarium card found {0}), or \
                 take another card",
                card.label, card.state
            );
            self.add("card-not-in-use", detail);
        }
        if card.state == "held" && !matches!(work, CardWork::PutBack(_)) {
            let whose = card.device.as_deref().unwrap_or("its device");
            let detail = format!(
                "card {0} was taken out of {whose} and is the only way back until its successor works; take another \
                 card, or release it by name (duplicarium card free {0})",
                card.label
            );
            self.add("card-held", detail);
        }
    }

    /// Against a card that failed, or was seen to fail.
    pub fn suspicion(&mut self, slot: SlotName, card: &Card) {
        if let Some(why) = &card.suspicion {
            let detail = format!(
                "card {0} in slot {slot} is mistrusted: {why}. Take another card; or check it from end to end \
                 (duplicarium card check --full), or say that it is good (duplicarium card trust {0})",
                card.label
            );
            self.add("card-mistrusted", detail);
        }
    }

    /// Nothing, if there is nothing; else the first of them, with the others beside it.
    pub fn settle(self) -> Result<(), Refusal> {
        let mut all = self.0.into_iter();
        let Some(mut first) = all.next() else {
            return Ok(());
        };
        first.besides = all.map(|stop| stop.detail).collect();
        Err(first)
    }
}
