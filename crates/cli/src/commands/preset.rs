//! Presets: values that several devices share.

use api::{NameQuery, Names, NewPreset, PresetChange, PresetDetail};
use clap::Subcommand;

use super::list::{Order, Paging, rest};
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
    /// Give a preset another name or title.
    Rename {
        /// Its name.
        name: String,
        /// Its new name.
        new: Option<String>,
        /// Its new name for people.
        #[arg(long)]
        title: Option<String>,
    },
    /// List the presets.
    List {
        /// A text anywhere in name or title.
        #[arg(long)]
        search: Option<String>,
        #[command(flatten)]
        paging: Paging,
    },
    /// Show one preset: values, devices that take them, cards that are out of date.
    Show {
        /// Name of the preset.
        name: String,
        /// Only devices with this text in their names.
        #[arg(long)]
        search: Option<String>,
        #[command(flatten)]
        paging: Paging,
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
            Self::Rename { name, new, title } => {
                let change = PresetChange { name: new, title };
                context.show(&client.rename_preset(&name, &change).await?, show)
            }
            Self::List { search, paging } => {
                let wanted = NameQuery { search };
                let ask = async |page| client.presets(&wanted, &page).await;
                let page = paging.gather(&Order::default(), ask).await?;
                context.show(&page, |page| {
                    let rows = page.items.iter().map(|one| {
                        [
                            one.name.clone(),
                            one.site.clone().unwrap_or("the whole team".into()),
                            one.fields.join(", "),
                            one.devices.to_string(),
                        ]
                    });
                    text::table(["preset", "for", "sets", "devices"], &[3], rows);
                    rest(page, "presets");
                })
            }
            Self::Show {
                name,
                search,
                paging,
            } => {
                let mut detail = client.preset(&name).await?;
                let wanted = NameQuery { search };
                let ask = async |page| client.touched(&name, &wanted, &page).await;
                detail.touches = paging.gather(&Order::default(), ask).await?;
                context.show(&detail, show)
            }
            Self::Remove { name } => {
                client.remove_preset(&name).await?;
                context.done(&format!("preset {name} is taken away"))
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
                if let Some(one) = networks.first().filter(|one| one.not_known.total > 0) {
                    println!(
                        "not known what is on the cards of: {}",
                        list(&one.not_known)
                    );
                }
            }),
        }
    }
}

/// A few names, and how many more there are.
fn list(some: &Names) -> String {
    let more = some.total.saturating_sub(some.names.len() as u64);
    match (some.names.as_slice(), more) {
        ([], _) => "-".into(),
        (names, 0) => names.join(", "),
        (names, more) => format!("{} and {more} more", names.join(", ")),
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
    if detail.touches.total == 0 {
        println!("  no device takes a value from it");
    }
    for touched in &detail.touches.items {
        let card = touched.card.as_deref().unwrap_or("no card yet");
        println!(
            "  {:<16} {card}  takes {}",
            touched.device,
            touched.fields.join(", ")
        );
        let told = touched.card.is_some();
        for reason in touched.reasons.iter().filter(|_| told) {
            println!("    {}: {reason}", touched.standing);
        }
        for problem in &touched.problems {
            println!("    problem: {problem}");
        }
    }
    if detail.touches.next.is_some() {
        rest(&detail.touches, "devices that it touches");
    }
}
