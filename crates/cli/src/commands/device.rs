//! Devices and their settings.

use api::{
    DeviceChange, DeviceDetail, DeviceTableReport, FactValue, Following, NewDevice, Standing,
};
use clap::Subcommand;

use super::card::show_imprint;
use super::values::{NetworkChange, Values, read_text};
use crate::{Context, Ended, text};

#[derive(Subcommand)]
pub enum Device {
    /// Register a device.
    Add {
        /// Name, unique in the team.
        name: String,
        /// Board model.
        #[arg(long)]
        board: String,
        /// Appliance that it becomes.
        #[arg(long)]
        appliance: String,
        /// Variant of the appliance.
        #[arg(long)]
        variant: Option<String>,
        /// Site that it stands on.
        #[arg(long)]
        site: String,
        /// Notes.
        #[arg(long, default_value = "")]
        notes: String,
    },
    /// Set values: FIELD=VALUE. Secrets are typed, read from a file, or made.
    Set {
        /// Name of the device.
        name: String,
        #[command(flatten)]
        values: Values,
    },
    /// Add, change or take away a Wi-Fi network.
    Network {
        /// Name of the device.
        name: String,
        #[command(flatten)]
        change: NetworkChange,
    },
    /// Tell what is plugged in, hardware addresses, notes.
    Describe {
        /// Name of the device.
        name: String,
        /// What is plugged in; given once for each.
        #[arg(long, value_name = "HARDWARE")]
        attached: Option<Vec<String>>,
        /// Hardware address of a port; given once for each.
        #[arg(long, value_name = "ADDRESS")]
        mac: Option<Vec<String>>,
        /// Notes.
        #[arg(long)]
        notes: Option<String>,
    },
    /// Keep a sealed fact of a device, such as an account; or show it, or take it away.
    Fact {
        /// Name of the device.
        name: String,
        /// What it is.
        fact: String,
        /// Read it from a file; - is standard input. Without this it is typed.
        #[arg(long, value_name = "FILE")]
        file: Option<String>,
        /// Show it.
        #[arg(long, conflicts_with_all = ["file", "remove"])]
        show: bool,
        /// Take it away.
        #[arg(long)]
        remove: bool,
    },
    /// Write a table of all devices and their settings, as CSV and without secrets.
    Export,
    /// Take a table of devices over: all of it or nothing.
    Import {
        /// The table; - is standard input.
        file: String,
        /// Only list what is wrong with it.
        #[arg(long)]
        dry_run: bool,
    },
    /// List the devices.
    List,
    /// List the devices whose card carries something else than what they follow.
    Behind {
        /// List those that are level too.
        #[arg(long)]
        all: bool,
    },
    /// List the releases that a device could get, and why others do not suit it.
    Choices {
        /// Name of the device.
        name: String,
    },
    /// Let a device follow what is current, or stay with one release.
    Follow {
        /// Name of the device.
        name: String,
        /// `current`, or the release to stay with.
        what: String,
    },
    /// Show one device: settings, card, imprints.
    Show {
        /// Name of the device.
        name: String,
    },
}

impl Device {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        match self {
            Self::Add {
                name,
                board,
                appliance,
                variant,
                site,
                notes,
            } => {
                let new = NewDevice {
                    name,
                    board,
                    appliance,
                    variant,
                    site,
                    notes,
                };
                context.show(&context.client.add_device(&new).await?, show)
            }
            Self::Set { name, values } => {
                let change = values.gather(&context.client.device(&name).await?.settings)?;
                context.show(&context.client.change_settings(&name, &change).await?, show)
            }
            Self::Network { name, change } => {
                let change = change.gather(&context.client.device(&name).await?.settings)?;
                context.show(&context.client.change_settings(&name, &change).await?, show)
            }
            Self::Describe {
                name,
                attached,
                mac,
                notes,
            } => {
                let change = DeviceChange {
                    notes,
                    attached,
                    macs: mac,
                };
                context.show(&context.client.describe_device(&name, &change).await?, show)
            }
            Self::Fact {
                name,
                fact,
                file,
                show: shown,
                remove,
            } => {
                if shown {
                    let value = context.client.fact(&name, &fact).await?;
                    return context.show(&value, |one| {
                        println!("{}", one.value.as_deref().unwrap_or(""));
                    });
                }
                let value = match (remove, file) {
                    (true, _) => None,
                    (false, Some(file)) => Some(read_text(&file)?),
                    (false, None) => Some(rpassword::prompt_password(format!("{fact}: "))?),
                };
                let detail = context
                    .client
                    .put_fact(&name, &fact, &FactValue { value })
                    .await?;
                context.show(&detail, show)
            }
            Self::Export => {
                print!("{}", context.client.device_table().await?);
                Ok(())
            }
            Self::Import { file, dry_run } => {
                let table = read_text(&file)?;
                let report = context.client.put_device_table(table, dry_run).await?;
                context.show(&report, show_report)?;
                match report.problems.is_empty() {
                    true => Ok(()),
                    false => Err(Ended {
                        cancelled: false,
                        detail: "nothing was taken over".into(),
                    }
                    .into()),
                }
            }
            Self::List => {
                let devices = context.client.devices().await?;
                context.show(&devices, |devices| {
                    let rows = devices.iter().map(|device| {
                        let variant = device
                            .variant
                            .as_ref()
                            .map(|variant| format!(" {variant}"))
                            .unwrap_or_default();
                        [
                            device.name.clone(),
                            device.state.clone(),
                            format!("{}{variant}", device.appliance),
                            device.board.clone(),
                            device.site.clone(),
                            text::or_dash(&device.host_name),
                            text::or_dash(&device.card),
                        ]
                    });
                    text::table(
                        [
                            "device",
                            "state",
                            "appliance",
                            "board",
                            "site",
                            "host name",
                            "card",
                        ],
                        &[],
                        rows,
                    );
                })
            }
            Self::Show { name } => context.show(&context.client.device(&name).await?, show),
            Self::Behind { all } => {
                let mut standings = context.client.standings().await?;
                standings.retain(|one| {
                    all || matches!(one.standing.as_str(), "behind" | "not whole") || one.withdrawn
                });
                context.show(&standings, |standings| match standings.is_empty() {
                    true => println!("every card carries what its device follows"),
                    false => show_standings(standings),
                })
            }
            Self::Choices { name } => {
                context.show(&context.client.choices(&name).await?, |choices| {
                    let rows = choices.iter().map(|choice| {
                        let mark = match (choice.followed, choice.fits) {
                            (true, _) => "followed",
                            (false, true) => "fits",
                            (false, false) => "does not fit",
                        };
                        [
                            choice.release.clone(),
                            choice.state.clone(),
                            if choice.current { "current" } else { "" }.into(),
                            mark.into(),
                            choice.reasons.join("; "),
                        ]
                    });
                    text::table(["release", "state", "", "", "why"], &[], rows);
                })
            }
            Self::Follow { name, what } => {
                let following = Following {
                    pinned: (what != "current").then_some(what),
                };
                let standing = context.client.follow_release(&name, &following).await?;
                context.show(&standing, |one| show_standings(std::slice::from_ref(one)))
            }
        }
    }
}

fn show_standings(standings: &[Standing]) {
    let rows = standings.iter().map(|one| {
        let carries = match (&one.carries, one.withdrawn) {
            (Some(release), true) => format!("{release} (withdrawn)"),
            (carries, _) => text::or_dash(carries),
        };
        let follows = match one.pinned {
            true => format!("{} (pinned)", text::or_dash(&one.follows)),
            false => text::or_dash(&one.follows),
        };
        [
            one.device.clone(),
            one.board.clone(),
            carries,
            follows,
            one.standing.clone(),
        ]
    });
    text::table(
        ["device", "board", "carries", "follows", "standing"],
        &[],
        rows,
    );
}

fn show_report(report: &DeviceTableReport) {
    for one in &report.problems {
        println!("line {}, {}: {}", one.line, one.column, one.problem);
    }
    let words = match (report.done, report.problems.is_empty()) {
        (true, _) => "taken over",
        (false, true) => "could be taken over",
        (false, false) => "cannot be taken over",
    };
    println!(
        "{} rows {words}: {} new, {} changed",
        report.rows,
        report.new.len(),
        report.changed.len()
    );
}

fn show(detail: &DeviceDetail) {
    let device = &detail.device;
    println!("{}  ({})", device.name, device.state);
    println!("  board      {}", device.board);
    println!("  appliance  {}", device.appliance);
    println!("  site       {}", device.site);
    println!(
        "  release    {}",
        detail
            .release
            .as_deref()
            .unwrap_or("none in the catalogue suits it")
    );
    let card = match (&device.card, device.card_state.as_deref()) {
        (None, _) => "none".into(),
        (Some(card), Some("verified")) => card.clone(),
        (Some(card), state) => format!("{card}, {}", state.unwrap_or("not whole")),
    };
    println!("  card       {card}");
    if !device.attached.is_empty() {
        println!("  attached   {}", device.attached.join(", "));
    }
    if !device.macs.is_empty() {
        println!("  addresses  {}", device.macs.join(", "));
    }
    if !device.notes.is_empty() {
        println!("  notes      {}", device.notes);
    }
    for fact in &detail.facts {
        println!(
            "  sealed     {} (device fact {} {} --show)",
            fact.name, device.name, fact.name
        );
    }
    for setting in detail.settings.iter().filter(|one| one.applies) {
        text::setting(setting);
    }
    for problem in &detail.problems {
        println!("  problem    {}", problem.rule);
    }
    for login in &detail.open_logins {
        println!("  caution    {login}");
    }
    for reason in &detail.outdated {
        println!("  OUTDATED   {reason}");
    }
    for imprint in &detail.imprints {
        show_imprint(imprint);
    }
}
