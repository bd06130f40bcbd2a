//! Presets: values that several devices share.

use api::{NewPreset, PresetDetail};
use clap::Subcommand;

use super::values::{NetworkChange, Values};
use crate::{Context, text};

#[derive(Subcommand)]
pub enum Preset {
    /// Make a preset, of a site or of the whole team.
    Add {
        /// Name, unique in the team.
        name: String,
        /// The site whose devices get it; the whole team if it is not said.
        #[arg(long)]
        site: Option<String>,
        /// Name for people.
        #[arg(long, default_value = "")]
        title: String,
    },
    /// Set values, and say which devices that touches.
    Set {
        /// Name of the preset.
        name: String,
        #[command(flatten)]
        values: Values,
        /// Only say what it would touch.
        #[arg(long)]
        dry_run: bool,
    },
    /// Add, change or take away a Wi-Fi network.
    Network {
        /// Name of the preset.
        name: String,
        #[command(flatten)]
        change: NetworkChange,
        /// Only say what it would touch.
        #[arg(long)]
        dry_run: bool,
    },
    /// List the presets.
    List,
    /// Show one preset: values, devices that take them, cards that are out of date.
    Show {
        /// Name of the preset.
        name: String,
    },
    /// Take a preset away.
    Remove {
        /// Name of the preset.
        name: String,
    },
    /// List Wi-Fi networks by passphrase: on whose cards they are, and on whom they are set.
    Networks,
}

impl Preset {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let client = &context.client;
        match self {
            Self::Add { name, site, title } => {
                let new = NewPreset { name, title, site };
                context.show(&client.add_preset(&new).await?, show)
            }
            Self::Set {
                name,
                values,
                dry_run,
            } => {
                let preset = client.preset(&name).await?;
                let known = [preset.settings, preset.unset].concat();
                let change = values.gather(&known)?;
                context.show(&client.change_preset(&name, &change, dry_run).await?, show)
            }
            Self::Network {
                name,
                change,
                dry_run,
            } => {
                let preset = client.preset(&name).await?;
                let known = [preset.settings, preset.unset].concat();
                let change = change.gather(&known)?;
                context.show(&client.change_preset(&name, &change, dry_run).await?, show)
            }
            Self::List => context.show(&client.presets().await?, |presets| {
                let rows = presets.iter().map(|one| {
                    [
                        one.name.clone(),
                        one.site.clone().unwrap_or("the whole team".into()),
                        one.fields.join(", "),
                        one.devices.len().to_string(),
                    ]
                });
                text::table(["preset", "for", "sets", "devices"], &[3], rows);
            }),
            Self::Show { name } => context.show(&client.preset(&name).await?, show),
            Self::Remove { name } => {
                client.remove_preset(&name).await?;
                println!("preset {name} is taken away");
                Ok(())
            }
            Self::Networks => context.show(&client.networks().await?, |networks| {
                let rows = networks.iter().map(|one| {
                    [
                        one.name.clone(),
                        text::or_dash(&one.fingerprint),
                        list(&one.devices),
                        list(&one.set_on),
                    ]
                });
                text::table(
                    ["network", "passphrase", "on the cards of", "set on"],
                    &[],
                    rows,
                );
            }),
        }
    }
}

fn list(names: &[String]) -> String {
    match names {
        [] => "-".into(),
        names => names.join(", "),
    }
}

fn show(detail: &PresetDetail) {
    let preset = &detail.preset;
    let whose = match &preset.site {
        Some(site) => format!("for devices on site {site}"),
        None => "for the whole team".into(),
    };
    println!("{}  ({whose})", preset.name);
    for one in &detail.settings {
        text::setting(one);
    }
    if detail.touches.is_empty() {
        println!("  no device takes a value from it");
    }
    for touched in &detail.touches {
        let card = touched.card.as_deref().unwrap_or("no card yet");
        println!(
            "  {:<16} {card}  takes {}",
            touched.device,
            touched.fields.join(", ")
        );
        for reason in &touched.outdated {
            println!("    out of date: {reason}");
        }
        for problem in &touched.problems {
            println!("    problem: {problem}");
        }
    }
}
