//! Devices and their settings.

use std::io::Read;

use anyhow::{Context as _, bail};
use api::{DeviceDetail, Following, NewDevice, SettingsChange, Standing};
use clap::Subcommand;

use super::card::show_imprint;
use crate::{Context, text};

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
    /// Set values: FIELD=VALUE. Secrets are typed, or read from a file.
    Set {
        /// Name of the device.
        name: String,
        /// Values for all to see.
        #[arg(value_name = "FIELD=VALUE")]
        values: Vec<String>,
        /// A secret to type, hidden.
        #[arg(long, value_name = "FIELD")]
        secret: Vec<String>,
        /// A secret out of a file; - is standard input.
        #[arg(long, value_name = "FIELD=FILE")]
        secret_file: Vec<String>,
        /// A value to take away.
        #[arg(long, value_name = "FIELD")]
        clear: Vec<String>,
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
            Self::Set {
                name,
                values,
                secret,
                secret_file,
                clear,
            } => {
                let change = gather(
                    &context.client.device(&name).await?,
                    values,
                    secret,
                    secret_file,
                    clear,
                )?;
                context.show(&context.client.change_settings(&name, &change).await?, show)
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
                standings.retain(|one| all || one.standing == "behind" || one.withdrawn);
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

fn gather(
    detail: &DeviceDetail,
    values: Vec<String>,
    secrets: Vec<String>,
    secret_files: Vec<String>,
    clear: Vec<String>,
) -> anyhow::Result<SettingsChange> {
    let mut change = SettingsChange::default();
    for pair in values {
        let (field, value) = pair
            .split_once('=')
            .with_context(|| format!("{pair:?} should be FIELD=VALUE"))?;
        if detail
            .settings
            .iter()
            .any(|setting| setting.name == field && setting.secret)
        {
            bail!(
                "{field} is a secret, and words of a command end up in histories: use --secret {field} and type it"
            );
        }
        change.set.insert(field.into(), Some(value.into()));
    }
    for field in secrets {
        let value = rpassword::prompt_password(format!("{field}: "))?;
        change.set.insert(field, Some(value));
    }
    for pair in secret_files {
        let (field, path) = pair
            .split_once('=')
            .with_context(|| format!("{pair:?} should be FIELD=FILE"))?;
        let mut text = String::new();
        match path {
            "-" => std::io::stdin().read_to_string(&mut text)?,
            path => std::fs::File::open(path)
                .and_then(|mut file| file.read_to_string(&mut text))
                .with_context(|| format!("cannot read the secret in {path}"))?,
        };
        change.set.insert(
            field.into(),
            Some(text.trim_end_matches(['\r', '\n']).into()),
        );
    }
    change
        .set
        .extend(clear.into_iter().map(|field| (field, None)));
    if change.set.is_empty() {
        bail!("nothing to set: give FIELD=VALUE, --secret, --secret-file or --clear");
    }
    Ok(change)
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
    println!("  card       {}", device.card.as_deref().unwrap_or("none"));
    for setting in &detail.settings {
        let value = setting.value.as_deref().unwrap_or("not set");
        let origin = setting
            .origin
            .as_ref()
            .map(|origin| format!("  ({origin})"))
            .unwrap_or_default();
        println!("  {:<16} {value}{origin}", setting.name);
    }
    for problem in &detail.problems {
        println!("  missing    {}: {}", problem.field, problem.rule);
    }
    for imprint in &detail.imprints {
        show_imprint(imprint);
    }
}
