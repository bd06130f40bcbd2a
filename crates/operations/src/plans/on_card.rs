//! Plans for work on a card itself: checks, clearing, giving back what a check had found.

use std::time::Instant;

use records::cards::Card;

use super::stops::Stops;
use super::{Held, Order, Plans, losses};
use crate::kept;
use crate::refusal::Refusal;
use crate::slots::{Found, Inserted};
use crate::store::own_id;
use crate::work::{CardOrder, CardWork, Clearing};
use api::SlotName;

/// What is taken for a card whose speed nobody has seen yet: bytes a second, written and read.
const USUAL_RATE: f64 = 20e6;
/// What a quick check moves: everything is read, written, read, written back and read.
const QUICK_MOVES: f64 = 5.0 * 40e6;

impl CardWork {
    /// What a word of the interface means; `unfinished` is the check that was cut off on this card.
    fn of(word: &str, unfinished: Option<i64>) -> Result<Self, Refusal> {
        Ok(match word {
            "quick-check" => Self::Quick,
            "full-check" => Self::Full,
            "clear-tables" => Self::Clear(Clearing::Tables),
            "clear-all" => Self::Clear(Clearing::All),
            "clear-volume" => Self::Clear(Clearing::Volume),
            "put-back" => Self::PutBack(unfinished.ok_or_else(|| {
                let detail =
                    "no check was cut off on this card, so that there is nothing to put back";
                Refusal::conflict("nothing-kept", detail)
            })?),
            other => {
                let detail = format!(
                    "a card takes quick-check, full-check, clear-tables, clear-all, clear-volume and put-back, not {other:?}"
                );
                return Err(Refusal::invalid("bad-value", detail));
            }
        })
    }

    /// What it does, in a sentence.
    fn words(self) -> &'static str {
        match self {
            Self::Quick => {
                "puts at most 64 MiB of test data on it, reads them, and gives it back what it held; finds most forged \
                 cards and proves nothing"
            }
            Self::Full => {
                "writes every byte of it and reads every byte; nothing of what it holds is left"
            }
            Self::Clear(Clearing::Tables) => {
                "takes tables and signatures off, so that nothing is found on it; its data could still be read by \
                 somebody who looks for them"
            }
            Self::Clear(Clearing::All) => "makes every byte of it read as zero",
            Self::Clear(Clearing::Volume) => {
                "makes one empty volume on it that any computer opens; what lay there before could still be read by \
                 somebody who looks for it"
            }
            Self::PutBack(_) => "gives it back what the check that was cut off had found on it",
        }
    }
}

impl Plans {
    /// Makes a plan for work on a card itself. The only trace it leaves is a label for a card that had none.
    pub async fn make_for_card(
        &self,
        operator: &str,
        new: &api::NewCardPlan,
    ) -> Result<api::CardPlan, Refusal> {
        let Inserted { at, medium, found } = self.slots.card_in(new.slot).await?;
        let mut stops = Stops::default();
        stops.medium(new.slot, &medium);
        let unfinished = match &found.label {
            Some(label) => self.records.unfinished_work(label).await?,
            None => None,
        };
        // A full check keeps nothing of what it overwrites.
        let unfinished = unfinished
            .filter(|(job, kind)| kind == "check" && kept::is_kept(&self.store.checks, *job));
        let unfinished = unfinished.map(|(job, _)| job);
        let work = CardWork::of(&new.work, unfinished)?;
        if let Some(label) = &found.label {
            let card = self.records.card(label).await?;
            stops.standing(new.slot, &card, work);
        }
        stops.settle()?;
        let (card, new_label) = self.label(new.slot, &medium, &found, operator).await?;
        let standing = self.records.standing(card.id).await?;
        let mut notes = Vec::new();
        if new_label {
            notes.push(losses::sticker(&card, new.slot));
        }
        let mut cautions = Vec::new();
        if let (Some(job), false) = (unfinished, matches!(work, CardWork::PutBack(_))) {
            let words = format!(
                "job {job} kept what was on it before its check was cut off; that is not put back, and is given up"
            );
            cautions.push(api::Caution::new("give-up-kept", words));
        }
        let lost = match work {
            CardWork::Quick | CardWork::PutBack(_) => Vec::new(),
            _ => losses::lost(&self.records, &found, &card).await?,
        };
        let id = own_id(&self.records)?;
        let plan = api::CardPlan {
            id: id.clone(),
            work: work.word().into(),
            does: work.words().into(),
            slot: new.slot,
            card: card.label.clone(),
            new_label,
            card_size: medium.size,
            card_holds: losses::holds(&found, &card),
            lost,
            cautions,
            notes,
            seconds: Self::seconds_of(&card, work, medium.size),
        };
        let order = CardOrder {
            at,
            bound: found.bound.clone(),
            card_id: card.id,
            card: card.label.clone(),
            work,
        };
        self.keep(
            id,
            Held {
                cautions: super::names_of(&plan.cautions),
                order: Order::Card(order),
                kind: work.job_kind(),
                made: Instant::now(),
                standing,
                release: None,
            },
        );
        Ok(plan)
    }

    /// How long it takes, by what is known of the card's speed.
    fn seconds_of(card: &Card, work: CardWork, size: u64) -> f64 {
        let (write, verify) = (
            card.write_rate.unwrap_or(USUAL_RATE),
            card.read_rate.unwrap_or(2.0 * USUAL_RATE),
        );
        let size = size as f64;
        match work {
            CardWork::Quick => QUICK_MOVES / write.min(verify) + 5.0,
            CardWork::Full | CardWork::Clear(Clearing::All) => size / write + size / verify,
            CardWork::Clear(_) => 3.0 + size / 2000.0 / write,
            CardWork::PutBack(_) => 2.0 * 40e6 / write,
        }
    }

    /// The card of a slot, labelled if it was not.
    pub(crate) async fn label(
        &self,
        slot: SlotName,
        medium: &cardwork::Medium,
        found: &Found,
        operator: &str,
    ) -> Result<(Card, bool), Refusal> {
        let (card, new) = match &found.label {
            Some(label) => (self.records.card(label).await?, false),
            None => {
                let edges = &found.bound.edges;
                let card = self.slots.give_label(slot, medium, edges, operator).await?;
                (card, true)
            }
        };
        Ok((card, new))
    }
}
