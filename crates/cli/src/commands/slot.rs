//! Slots of the bench.

use api::SlotName;
use clap::Subcommand;

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Slot {
    /// List the slots and what lies in them.
    List,
    /// Let go of a card that the bench's computer uses: what is mounted from it is unmounted.
    Release {
        /// Number of the slot.
        slot: SlotName,
    },
}

impl Slot {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let slots = match self {
            Self::List => context.client.slots().await?,
            Self::Release { slot } => context.client.release_slot(slot).await?,
        };
        context.show(&slots, |slots| {
            let rows = slots.iter().map(|slot| {
                let number = slot.name.typed();
                let Some(card) = &slot.card else {
                    return [
                        number,
                        "-".into(),
                        String::new(),
                        match (&slot.trouble, slot.failed) {
                            (Some(_), _) => "no answer".into(),
                            (None, Some(job)) => format!("job {job} failed"),
                            (None, None) => "empty".into(),
                        },
                        slot.trouble.clone().unwrap_or_default(),
                    ];
                };
                let device = card
                    .device
                    .as_ref()
                    .map(|device| format!(" for {device}"))
                    .unwrap_or_default();
                let on_it = match (&card.in_use, &card.base, &card.label) {
                    (Some(used), ..) => format!("{used}; `slot release {number}` lets go of it"),
                    (None, Some(base), _) => format!("{base}{device}"),
                    (None, None, Some(label)) if !card.says_so && slot.job.is_none() => format!(
                        "{}; {label} must stand on its sticker, else `card this-is`",
                        card.summary
                    ),
                    (None, None, _) => card.summary.clone(),
                };
                let state = match (&slot.job, &slot.failed, card.locked) {
                    (Some(job), ..) => format!("job {job}"),
                    (None, Some(job), _) => format!("job {job} failed"),
                    (None, None, _) if card.in_use.is_some() => "in use".into(),
                    (None, None, true) => "locked".into(),
                    (None, None, false) if card.suspicion.is_some() => {
                        format!("{}, suspect", card.occupant)
                    }
                    (None, None, false) => card.occupant.clone(),
                };
                [
                    number,
                    card.label.clone().unwrap_or("no label yet".into()),
                    text::size(card.size),
                    state,
                    on_it,
                ]
            });
            text::table(["slot", "card", "size", "state", "on it"], &[2], rows);
        })
    }
}
