//! Settings that an appliance exports of itself: an hour of tuning that lives on one card.

use api::Export as Row;
use clap::Subcommand;

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Export {
    /// Take what a device exports of itself, where its release sheet says and where it was seen.
    Take {
        /// The device.
        device: String,
    },
    /// List what was taken of a device.
    List {
        /// The device.
        device: String,
    },
    /// Print an export, secrets and all; that it was read is recorded.
    Read {
        /// The device.
        device: String,
        /// Number of the export; the newest one where none is given.
        export: Option<i64>,
    },
    /// Tell what is another thing in an export than in the one before it, secrets and all; that they were read is
    /// recorded.
    Compare {
        /// The device.
        device: String,
        /// Number of the export; the newest one where none is given.
        export: Option<i64>,
        /// Number of the export that it is compared with; the one before it where none is given.
        #[arg(long, value_name = "EXPORT")]
        with: Option<i64>,
    },
    /// Give a device an export back, as after its card was made anew.
    Give {
        /// The device.
        device: String,
        /// Number of the export; the newest one where none is given.
        export: Option<i64>,
    },
}

fn show(rows: &[Row]) {
    if rows.is_empty() {
        println!("Nothing was taken of it yet.");
        return;
    }
    let rows = rows.iter().map(|row| {
        [
            row.id.to_string(),
            text::moment(row.taken_at),
            text::moment(row.seen_at),
            text::size(row.bytes),
            if row.version.is_empty() {
                row.base.clone()
            } else {
                row.version.clone()
            },
            row.taken_by.clone(),
        ]
    });
    text::table(
        ["export", "taken", "still so", "size", "of", "by"],
        &[0, 3],
        rows,
    );
}

async fn which(context: &Context, device: &str, export: Option<i64>) -> anyhow::Result<i64> {
    if let Some(id) = export {
        return Ok(id);
    }
    let newest = context.client.exports(device).await?;
    let newest = newest.first().map(|one| one.id);
    newest.ok_or_else(|| {
        anyhow::anyhow!("nothing was taken of {device} yet: duplicarium export take {device}")
    })
}

impl Export {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let client = &context.client;
        match self {
            Self::Take { device } => {
                let taken = client.take_export(&device).await?;
                context.show(&taken, |one| {
                    println!(
                        "Export {} of {}, {}.",
                        one.id,
                        one.device,
                        text::size(one.bytes)
                    );
                })
            }
            Self::List { device } => {
                context.show(&client.exports(&device).await?, |rows| show(rows))
            }
            Self::Read { device, export } => {
                let id = which(context, &device, export).await?;
                print!("{}", client.read_export(&device, id).await?);
                Ok(())
            }
            Self::Compare {
                device,
                export,
                with,
            } => {
                let id = which(context, &device, export).await?;
                let changes = client.export_changes(&device, id, with).await?;
                context.show(&changes, |changes| {
                    if changes.is_empty() {
                        println!("Nothing is different.");
                        return;
                    }
                    let rows = changes.iter().map(|one| {
                        let value = |value: &Option<String>| {
                            let shown = value.as_deref().unwrap_or("-").chars();
                            shown
                                .map(|c| if c.is_control() { ' ' } else { c })
                                .collect()
                        };
                        [one.at.clone(), value(&one.before), value(&one.now)]
                    });
                    text::table(["at", "before", "now"], &[], rows);
                })
            }
            Self::Give { device, export } => {
                let id = which(context, &device, export).await?;
                client.give_export(&device, id).await?;
                context.done(&format!("Export {id} was given back to {device}."))
            }
        }
    }
}
