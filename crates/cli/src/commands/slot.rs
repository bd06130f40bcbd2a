//! Slots of the bench.

use clap::Subcommand;

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Slot {
    /// List the slots and what lies in them.
    List,
}

impl Slot {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let slots = context.client.slots().await?;
        context.show(&slots, |slots| {
            let rows = slots.iter().map(|slot| {
                let number = slot.number.to_string();
                let Some(card) = &slot.card else {
                    return [
                        number,
                        "-".into(),
                        String::new(),
                        slot.failed
                            .map_or("empty".into(), |job| format!("job {job} failed")),
                        String::new(),
                    ];
                };
                let device = card
                    .device
                    .as_ref()
                    .map(|device| format!(" for {device}"))
                    .unwrap_or_default();
                let on_it = match &card.base {
                    Some(base) => format!("{base}{device}"),
                    None => card.summary.clone(),
                };
                let state = match (&slot.job, &slot.failed, card.locked) {
                    (Some(job), ..) => format!("job {job}"),
                    (None, Some(job), _) => format!("job {job} failed"),
                    (None, None, true) => "locked".into(),
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
