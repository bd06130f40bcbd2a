//! Devices and their settings.

use api::{
    Device as Row, DeviceChange, DeviceDetail, DeviceQuery, DeviceTableReport, FactValue,
    Following, NewDevice, NewFault, NewOutage, Outage, OutageEnd,
};
use std::path::Path;

use anyhow::Context as _;
use clap::Subcommand;

use super::card::show_imprint;
use super::list::{Order, Paging, rest};
use super::values::{NetworkChange, Values, read_text};
use crate::{Context, Ended, text};

/// Which devices are listed.
#[derive(clap::Args)]
pub struct List {
    /// A text anywhere in name, host name, card, notes, attached hardware or hardware addresses.
    #[arg(long)]
    search: Option<String>,
    /// planned, carded, in service, down or retired.
    #[arg(long)]
    state: Option<String>,
    /// Site.
    #[arg(long)]
    site: Option<String>,
    /// Board model.
    #[arg(long)]
    board: Option<String>,
    /// Appliance.
    #[arg(long)]
    appliance: Option<String>,
    /// The release that they follow.
    #[arg(long, value_name = "RELEASE")]
    follows: Option<String>,
    /// The release that their cards carry.
    #[arg(long, value_name = "RELEASE")]
    carries: Option<String>,
    /// How they stand: up-to-date, settings-changed, outdated, newer-than-target, withdrawn, not-booting, incomplete,
    /// unknown-version, not-known, no-card, no-release; or to-write for all whose card must be written again.
    #[arg(long)]
    standing: Option<String>,
    #[command(flatten)]
    order: Order,
    #[command(flatten)]
    paging: Paging,
}

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
    /// Say that the card of a device was taken out: the device is down, and the card is held until it works
    /// again.
    Out {
        /// Name of the device.
        name: String,
        /// Label of the card that was in it, if it is not the one that the records name.
        #[arg(long)]
        card: Option<String>,
        /// Why.
        #[arg(long, default_value = "")]
        reason: String,
    },
    /// Say that a device works again. What was held for it is free.
    Back {
        /// Name of the device.
        name: String,
        /// With which card: the original, or a new one.
        #[arg(long, value_parser = ["original", "new"])]
        with: String,
    },
    /// Keep what was seen of a device in the field; nothing is written to its card from then on.
    Fault {
        /// Name of the device.
        name: String,
        /// What was seen, in your own words.
        symptom: String,
    },
    /// Devices that are down, the longest first.
    Down,
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
    /// Keep a picture of a device and its label; or save it, or take it away.
    Photo {
        /// Name of the device.
        name: String,
        /// Keep this JPEG, PNG or WebP of 4 MiB at most.
        #[arg(long, value_name = "FILE")]
        keep: Option<std::path::PathBuf>,
        /// Save the one that is kept.
        #[arg(long, value_name = "FILE", conflicts_with = "keep")]
        save: Option<std::path::PathBuf>,
        /// Take it away.
        #[arg(long, conflicts_with_all = ["keep", "save"])]
        remove: bool,
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
    /// Give a device another name, site, board model or appliance.
    Change {
        /// Name of the device.
        name: String,
        /// Its new name.
        #[arg(long = "name", value_name = "NAME")]
        new_name: Option<String>,
        /// The site that it stands on now.
        #[arg(long)]
        site: Option<String>,
        /// The board model that it is now.
        #[arg(long)]
        board: Option<String>,
        /// The appliance that it becomes now.
        #[arg(long)]
        appliance: Option<String>,
        /// The variant of that appliance.
        #[arg(long, requires = "appliance")]
        variant: Option<String>,
    },
    /// Say that a device is not used any more. Its records stay.
    Retire {
        /// Name of the device.
        name: String,
        /// It is in use again.
        #[arg(long)]
        undo: bool,
    },
    /// Take a device away for which no card was ever written.
    Remove {
        /// Name of the device.
        name: String,
    },
    /// List the devices.
    List(List),
    /// List the devices whose card must be written again, and why: another release or other settings count
    /// now, the release was withdrawn or does not boot here, or the card is incomplete.
    #[command(alias = "behind")]
    Outdated {
        /// Only on this site.
        #[arg(long)]
        site: Option<String>,
        /// List all other devices too.
        #[arg(long)]
        up_to_date_too: bool,
        #[command(flatten)]
        paging: Paging,
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

fn show_down(down: &[Outage]) {
    if down.is_empty() {
        println!("No device is down.");
        return;
    }
    let rows = down.iter().map(|outage| {
        [
            outage.device.clone(),
            text::moment(outage.since),
            text::or_dash(&outage.card),
            outage.operator.clone(),
            outage.reason.clone(),
        ]
    });
    text::table(["down", "since", "card held", "said by", "why"], &[], rows);
}

impl Device {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        match self {
            Self::Out { name, card, reason } => {
                let outage = NewOutage {
                    device: name,
                    card,
                    reason,
                };
                let down = context.client.take_out(&outage).await?;
                context.show(&down, |down| show_down(down))
            }
            Self::Back { name, with } => {
                let end = OutageEnd {
                    device: name,
                    card: with,
                };
                let down = context.client.bring_back(&end).await?;
                context.show(&down, |down| show_down(down))
            }
            Self::Down => {
                let down = context.client.outages().await?;
                context.show(&down, |down| show_down(down))
            }
            Self::Fault { name, symptom } => {
                let fault = NewFault {
                    card: None,
                    device: Some(name.clone()),
                    symptom,
                };
                let fault = context.client.add_fault(&fault).await?;
                context.show(&fault, |fault| {
                    println!("Noted of {name}: {}", fault.symptom);
                    if let Some(card) = &fault.card {
                        println!("Card {card} is mistrusted: nothing is written to it until it is checked from end to end, or trusted.");
                    }
                    if let Some(lamps) = &fault.lamps {
                        println!("What its lamps mean: {lamps}");
                    }
                })
            }
            Self::Photo {
                name,
                keep,
                save,
                remove,
            } => photo(context, &name, keep.as_deref(), save.as_deref(), remove).await,
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
                    ..DeviceChange::default()
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
            Self::Change {
                name,
                new_name,
                site,
                board,
                appliance,
                variant,
            } => {
                let change = DeviceChange {
                    name: new_name,
                    site,
                    board,
                    appliance,
                    variant,
                    ..DeviceChange::default()
                };
                context.show(&context.client.describe_device(&name, &change).await?, show)
            }
            Self::Retire { name, undo } => {
                let change = DeviceChange {
                    retired: Some(!undo),
                    ..DeviceChange::default()
                };
                context.show(&context.client.describe_device(&name, &change).await?, show)
            }
            Self::Remove { name } => {
                context.client.remove_device(&name).await?;
                context.done(&format!("device {name} is taken away"))
            }
            Self::List(list) => {
                let page = list.gather(&context.client).await?;
                context.show(&page, |page| {
                    show_devices(&page.items);
                    rest(page, "devices");
                })
            }
            Self::Show { name } => context.show(&context.client.device(&name).await?, show),
            Self::Outdated {
                site,
                up_to_date_too,
                paging,
            } => {
                let list = List::to_write(site, up_to_date_too, paging);
                let page = list.gather(&context.client).await?;
                context.show(&page, |page| match page.total {
                    0 => println!("no card must be written again"),
                    _ => {
                        show_standings(&page.items);
                        rest(page, "devices");
                    }
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
                let device = context.client.follow_release(&name, &following).await?;
                context.show(&device, |one| show_standings(std::slice::from_ref(one)))
            }
        }
    }
}

impl List {
    /// Devices whose card must be written again, or all.
    fn to_write(site: Option<String>, all: bool, paging: Paging) -> Self {
        Self {
            search: None,
            state: None,
            site,
            board: None,
            appliance: None,
            follows: None,
            carries: None,
            standing: (!all).then(|| api::TO_WRITE.into()),
            order: Order::default(),
            paging,
        }
    }

    async fn gather(&self, client: &api::Client) -> Result<api::Page<Row>, api::ClientError> {
        let wanted = DeviceQuery {
            search: self.search.clone(),
            state: self.state.clone(),
            site: self.site.clone(),
            board: self.board.clone(),
            appliance: self.appliance.clone(),
            carries: self.carries.clone(),
            follows: self.follows.clone(),
            standing: self.standing.clone(),
        };
        let ask = async |page| client.devices(&wanted, &page).await;
        self.paging.gather(&self.order, ask).await
    }
}

/// Keeps the picture of a device, saves it, takes it away, or tells of it.
async fn photo(
    context: &Context,
    name: &str,
    keep: Option<&Path>,
    save: Option<&Path>,
    remove: bool,
) -> anyhow::Result<()> {
    let client = &context.client;
    if let Some(file) = keep {
        let bytes =
            std::fs::read(file).with_context(|| format!("cannot read {}", file.display()))?;
        client.put_photo(name, bytes).await?;
        return context.done(&format!("The picture of {name} is kept."));
    }
    if let Some(file) = save {
        let bytes = client.read_photo(name).await?;
        std::fs::write(file, bytes).with_context(|| format!("cannot write {}", file.display()))?;
        return context.done(&format!("{} is the picture of {name}.", file.display()));
    }
    if remove {
        client.remove_photo(name).await?;
        return context.done(&format!("There is no picture of {name} any more."));
    }
    context.show(&client.photo(name).await?, |photo| match photo {
        None => println!("There is no picture of {name} yet."),
        Some(photo) => println!(
            "A picture of {name}, {}, {}, by {}, {}; see it with --save FILE.",
            photo.kind,
            text::size(photo.bytes),
            photo.taken_by,
            text::moment(photo.taken_at)
        ),
    })
}

fn show_devices(devices: &[Row]) {
    let rows = devices.iter().map(|device| {
        let variant = device.variant.as_ref().map(|variant| format!(" {variant}"));
        [
            device.name.clone(),
            device.state.clone(),
            format!("{}{}", device.appliance, variant.unwrap_or_default()),
            device.board.clone(),
            device.site.clone(),
            text::or_dash(&device.host_name),
            text::or_dash(&device.card),
            device.standing.to_string(),
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
            "standing",
        ],
        &[],
        rows,
    );
}

fn show_standings(devices: &[Row]) {
    let rows = devices.iter().map(|one| {
        let runs = one.updated_to.as_ref();
        let runs = runs.map(|release| format!("{release}, updated in place"));
        let runs = text::or_dash(&runs.or(one.carries.clone()));
        let follows = match one.pinned.is_some() {
            true => format!("{} (pinned)", text::or_dash(&one.follows)),
            false => text::or_dash(&one.follows),
        };
        [
            one.name.clone(),
            one.board.clone(),
            runs,
            follows,
            one.standing.to_string(),
            one.reasons.join("; "),
        ]
    });
    text::table(
        ["device", "board", "runs", "follows", "standing", "why"],
        &[],
        rows,
    );
}

fn show_report(report: &DeviceTableReport) {
    for one in &report.problems {
        println!("line {}, {}: {}", one.line, one.column, one.problem);
    }
    if !report.problems.is_empty() {
        println!(
            "nothing is taken over: {} of {} have problems",
            report.wrong,
            api::words::counted(report.rows.into(), "row")
        );
        return;
    }
    let words = if report.done {
        "taken over"
    } else {
        "could be taken over"
    };
    println!(
        "{} {words}: {} new, {} changed",
        api::words::counted(report.rows.into(), "row"),
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
        (Some(card), state) => format!("{card}, {}", state.unwrap_or("incomplete")),
    };
    println!("  card       {card}");
    println!("  standing   {}", device.standing);
    for reason in &device.reasons {
        println!("             {reason}");
    }
    if let Some(release) = &device.updated_to {
        println!("  runs       {release}, updated in place");
    }
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
    for imprint in &detail.imprints {
        show_imprint(imprint);
    }
}
