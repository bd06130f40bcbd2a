//! The bench: its computer's disks, and which places are slots.

use api::SlotBinding;
use clap::Subcommand;

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Bench {
    /// Show every disk of the bench's computer, what it is, and why it is offered as a card or not.
    Scan,
    /// Show which places are slots.
    Slots,
    /// Make a place a slot, or give a slot another place. It counts at once.
    Bind {
        /// Number of the slot, as it stands on the table.
        number: u32,
        /// The port that the reader hangs at, as `bench scan` names it.
        #[arg(long)]
        port: String,
        /// Place in the reader.
        #[arg(long, default_value_t = 0)]
        unit: u32,
        /// What people call it.
        #[arg(long)]
        note: Option<String>,
    },
    /// Make slots of all readers that `bench scan` proposes.
    Adopt,
    /// Let a place be no slot any more.
    Unbind {
        /// Number of the slot.
        number: u32,
    },
    /// Print a rule for the system's device manager that lets the service at its slots.
    Rule,
}

impl Bench {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let bench = context.client.bench().await?;
        let mut slots = bench.slots.clone();
        match self {
            Self::Scan => return context.show(&bench, scan),
            Self::Slots => return context.show(&bench.slots, |slots| list(slots)),
            Self::Rule => return context.show(&bench.rule, |rule| print!("{rule}")),
            Self::Bind {
                number,
                port,
                unit,
                note,
            } => {
                slots.retain(|slot| slot.number != number);
                slots.push(SlotBinding {
                    number,
                    port,
                    unit,
                    note,
                });
            }
            Self::Adopt => {
                if bench.proposal.is_empty() {
                    anyhow::bail!(
                        "no reader was found that is not a slot yet; plug one in, or bind a place by hand"
                    );
                }
                slots.extend(bench.proposal);
            }
            Self::Unbind { number } => {
                let before = slots.len();
                slots.retain(|slot| slot.number != number);
                if slots.len() == before {
                    anyhow::bail!("no place of this computer is slot {number}");
                }
            }
        }
        let bench = context.client.bind_slots(&slots).await?;
        context.show(&bench.slots, |slots| list(slots))
    }
}

fn list(slots: &[SlotBinding]) {
    let rows = slots.iter().map(|slot| {
        [
            slot.number.to_string(),
            slot.port.clone(),
            slot.unit.to_string(),
            text::or_dash(&slot.note),
        ]
    });
    text::table(["slot", "port", "unit", "called"], &[], rows);
}

fn scan(bench: &api::Bench) {
    let rows = bench.disks.iter().map(|disk| {
        let place = match (&disk.port, disk.unit) {
            (Some(port), Some(unit)) => format!("{port}, unit {unit}"),
            _ => "-".into(),
        };
        let size = match disk.size {
            0 => "empty".into(),
            size => text::size(size),
        };
        [
            disk.node.clone(),
            disk.kind.clone(),
            text::or_dash(&disk.model),
            size,
            place,
            disk.why.clone(),
        ]
    });
    text::table(
        ["disk", "kind", "model", "size", "port", "offered"],
        &[3],
        rows,
    );
    if let Some(trouble) = &bench.trouble {
        println!("\nNo place of this computer is a slot now: {trouble}");
    }
    if !bench.proposal.is_empty() {
        println!("\nThese readers are no slots yet; `duplicarium bench adopt` makes them:");
        list(&bench.proposal);
    }
}
