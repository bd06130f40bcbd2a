//! Benches: the disks of their computers, which places are slots, and which computers are benches.

use api::{AtBench, BenchCode, FarBench, SlotBinding};
use clap::{Args, Subcommand};

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Bench {
    /// List the benches on other computers.
    List,
    /// Let another computer become a bench; prints the one-time code that enrols it.
    Add {
        /// What it is called: 1 to 15 small letters, digits and dashes.
        name: String,
    },
    /// Print a new code for a bench; another computer takes its place as soon as that is used.
    Code {
        /// Name of the bench.
        name: String,
    },
    /// Let a bench be none any more. What was recorded of its slots stays.
    Remove {
        /// Name of the bench.
        name: String,
    },
    /// Show every disk of a bench's computer, what it is, and why it is offered as a card or not.
    Scan {
        #[command(flatten)]
        at: At,
    },
    /// Show which places are slots.
    Slots {
        #[command(flatten)]
        at: At,
    },
    /// Make a place a slot, or give a slot another place. It counts at once.
    Bind {
        #[command(flatten)]
        at: At,
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
    Adopt {
        #[command(flatten)]
        at: At,
    },
    /// Let a place be no slot any more.
    Unbind {
        #[command(flatten)]
        at: At,
        /// Number of the slot.
        number: u32,
    },
    /// Print a rule for the system's device manager that lets the service at its slots.
    Rule {
        #[command(flatten)]
        at: At,
    },
}

/// Which bench is meant.
#[derive(Args)]
pub struct At {
    /// Name of another bench; the service's own computer where none is named.
    #[arg(long)]
    bench: Option<String>,
}

impl Bench {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let at = match self {
            Self::List => return context.show(&context.client.benches().await?, |all| others(all)),
            Self::Add { name } => {
                return context.show(&context.client.add_bench(&name).await?, |code| {
                    enrol(context, code);
                });
            }
            Self::Code { name } => {
                return context.show(&context.client.renew_bench(&name).await?, |code| {
                    enrol(context, code);
                });
            }
            Self::Remove { name } => {
                context.client.remove_bench(&name).await?;
                return context.done(&format!("{name} is no bench any more"));
            }
            Self::Scan { ref at }
            | Self::Slots { ref at }
            | Self::Bind { ref at, .. }
            | Self::Adopt { ref at }
            | Self::Unbind { ref at, .. }
            | Self::Rule { ref at } => AtBench {
                bench: at.bench.clone(),
            },
        };
        self.of(context, &at).await
    }

    /// What is about the readers of one computer.
    async fn of(self, context: &Context, at: &AtBench) -> anyhow::Result<()> {
        let bench = context.client.bench(at).await?;
        let mut slots = bench.slots.clone();
        match self {
            Self::Scan { .. } => return context.show(&bench, scan),
            Self::Slots { .. } => return context.show(&bench.slots, |slots| list(slots)),
            Self::Rule { .. } => return context.show(&bench.rule, |rule| print!("{rule}")),
            Self::Bind {
                number,
                port,
                unit,
                note,
                ..
            } => {
                slots.retain(|slot| slot.number != number);
                slots.push(SlotBinding {
                    number,
                    port,
                    unit,
                    note,
                });
            }
            Self::Unbind { number, .. } => {
                let before = slots.len();
                slots.retain(|slot| slot.number != number);
                if slots.len() == before {
                    anyhow::bail!("no place of that computer is slot {number}");
                }
            }
            _ => {
                if bench.proposal.is_empty() {
                    anyhow::bail!(
                        "no reader was found that is not a slot yet; plug one in, or bind a place by hand"
                    );
                }
                slots.extend(bench.proposal);
            }
        }
        let bench = context.client.bind_slots(at, &slots).await?;
        context.show(&bench.slots, |slots| list(slots))
    }
}

fn others(all: &[FarBench]) {
    if all.is_empty() {
        println!("No other computer is a bench; `duplicarium bench add NAME` lets one become it.");
        return;
    }
    let rows = all.iter().map(|bench| {
        [
            bench.name.clone(),
            bench.state.clone(),
            bench.slots.map_or("-".into(), |slots| slots.to_string()),
            bench.seen_at.map_or("never".into(), text::moment),
            text::or_dash(&bench.version),
            text::size(bench.sent),
            text::size(bench.received),
        ]
    });
    text::table(
        [
            "bench", "state", "slots", "seen", "version", "sent", "received",
        ],
        &[2, 5, 6],
        rows,
    );
}

fn enrol(context: &Context, code: &BenchCode) {
    println!(
        "On the computer whose readers shall be bench {}, within a day:\n\n  duplicarium-bench enrol --service {} --code {}\n\nThe code is good once.",
        code.name, context.service, code.code
    );
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
