//! Cards.

use anyhow::Context as _;
use api::{
    CardChange, CardDetail, CardPlan, CardQuery, Content, Drift, Imprint, NewCardPlan, NewFault,
    NewRound, SlotName, Sticker,
};
use clap::Subcommand;

use super::content;
use super::list::{Order, Paging, rest};
use super::request_key;
use super::write::{Target, show_cautions};
use crate::follow::follow;
use crate::{Context, Ended, text};

/// What is cleared.
#[derive(Clone, Copy, clap::ValueEnum)]
pub enum Clearing {
    /// Its tables and signatures: nothing is found on it any more, though data could still be read.
    Tables,
    /// Everything: every byte reads as zero.
    All,
    /// One empty volume that any computer opens.
    Volume,
}

/// Which cards are listed.
#[derive(clap::Args)]
pub struct List {
    /// A text anywhere in label, device or notes.
    #[arg(long)]
    search: Option<String>,
    /// blank, writing, incomplete, imprinted, held, lost or retired.
    #[arg(long)]
    state: Option<String>,
    /// The device whose cards they are.
    #[arg(long)]
    device: Option<String>,
    /// The site of that device.
    #[arg(long)]
    site: Option<String>,
    /// The release that they carry.
    #[arg(long, value_name = "RELEASE")]
    carries: Option<String>,
    #[command(flatten)]
    order: Order,
    #[command(flatten)]
    paging: Paging,
}

#[derive(Subcommand)]
pub enum Card {
    /// List the cards.
    List(List),
    /// List the files in a folder of the card in a slot.
    Files {
        /// Slot of the card.
        #[arg(long)]
        slot: SlotName,
        /// Partition and path, such as 2:/etc.
        place: String,
    },
    /// Print a file off the card in a slot, or put it into a file.
    Read {
        /// Slot of the card.
        #[arg(long)]
        slot: SlotName,
        /// Partition and path, such as 2:/etc/hostname.
        place: String,
        /// File to put it into.
        #[arg(long)]
        to: Option<std::path::PathBuf>,
    },
    /// Keep a note about a card.
    Note {
        /// Label of the card.
        label: String,
        /// The note; an empty one takes it away.
        text: String,
    },
    /// Say that a card is lost.
    Lost {
        /// Label of the card.
        label: String,
    },
    /// Say that a card is not used any more.
    Retire {
        /// Label of the card.
        label: String,
    },
    /// Say that a lost or retired card is there again.
    Found {
        /// Label of the card.
        label: String,
    },
    /// Keep where a card comes from.
    Origin {
        /// Label of the card.
        label: String,
        /// Who made it.
        #[arg(long)]
        brand: Option<String>,
        /// Who sold it.
        #[arg(long)]
        seller: Option<String>,
        /// Which lot it came in.
        #[arg(long)]
        batch: Option<String>,
        /// What it cost.
        #[arg(long)]
        price: Option<String>,
    },
    /// How cards did by brand and batch: how fast they are, how many failed.
    Lots,
    /// Check whether the card in a slot holds what it says. A quick check gives back what is on it and finds
    /// most forged cards; a full one writes and reads every byte, and is the only one that proves a card.
    Check {
        /// Write and read every byte; nothing of what is on it is left.
        #[arg(long)]
        full: bool,
        #[command(flatten)]
        target: Target,
    },
    /// Clear the card in a slot.
    Clear {
        /// What is cleared.
        #[arg(long, value_enum)]
        what: Clearing,
        #[command(flatten)]
        target: Target,
    },
    /// Give the card in a slot back what a check that was cut off had found on it.
    PutBack {
        #[command(flatten)]
        target: Target,
    },
    /// Copy the card in a slot onto others: a backup of it is taken, and becomes a round. Two boards with one
    /// identity clash; `--for` gives copies the settings of other devices.
    Copy {
        /// Number of the slot.
        #[arg(long)]
        slot: SlotName,
        /// How many copies are made as they are.
        #[arg(long, value_name = "NUMBER", default_value_t = 0)]
        copies: u32,
        /// Devices that get a copy with their own settings.
        #[arg(long = "for", value_name = "DEVICES", value_delimiter = ',')]
        devices: Vec<String>,
    },
    /// Say which card it is that is in a slot and does not say it itself: the label stands on its sticker.
    ThisIs {
        /// Label on its sticker.
        #[arg(required_unless_present = "new")]
        label: Option<String>,
        /// It has no sticker yet: it is none of the cards that look like it, and gets a label of its own.
        #[arg(long, conflicts_with = "label")]
        new: bool,
        /// It is that card although something else is recorded as being on it: it is not there, then.
        #[arg(long, conflicts_with = "new")]
        although_recorded: bool,
        /// Number of the slot.
        #[arg(long)]
        slot: SlotName,
    },
    /// Say that a card that is mistrusted is good.
    Trust {
        /// Label of the card.
        label: String,
    },
    /// Say that a card that is held for its device may be used.
    Free {
        /// Label of the card.
        label: String,
    },
    /// Keep what was seen of a card in the field; nothing is written to it from then on.
    Fault {
        /// Label of the card.
        label: String,
        /// What was seen, in your own words.
        symptom: String,
    },
    /// Compare the card in a slot with what was written onto it, file by file.
    Compare {
        /// Number of the slot.
        slot: SlotName,
    },
    /// Show one card: what is on it, whose it is, when and by whom it was written.
    Show {
        /// Label of the card.
        label: String,
    },
}

fn show_drift(drift: &Drift) {
    let device = drift
        .device
        .as_ref()
        .map_or(String::new(), |name| format!(" for {name}"));
    println!(
        "{} beside imprint {}, {}{device}",
        drift.card, drift.imprint, drift.base
    );
    for one in &drift.partitions {
        println!(
            "  {}: {} then, {} now",
            one.what,
            one.a.as_deref().unwrap_or("none"),
            one.b.as_deref().unwrap_or("none")
        );
    }
    let counts = &drift.counts;
    if counts.new + counts.gone + counts.changed == 0 {
        println!("  all {} files are as they were written", counts.same);
        return;
    }
    let rows = drift.files.iter().map(|file| {
        let len = |len: Option<u64>| len.map_or("-".into(), |len| len.to_string());
        [
            file.change.clone(),
            format!("{}:{}", file.partition, file.path),
            len(file.a_len),
            len(file.b_len),
        ]
    });
    text::table(["", "file", "bytes then", "bytes now"], &[2, 3], rows);
    println!(
        "{} new, {} gone, {} changed, {} as they were",
        counts.new, counts.gone, counts.changed, counts.same
    );
}

impl Card {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        match self {
            Self::List(list) => {
                let wanted = CardQuery {
                    search: list.search,
                    state: list.state,
                    device: list.device,
                    site: list.site,
                    carries: list.carries,
                };
                let ask = async |page| context.client.cards(&wanted, &page).await;
                let page = list.paging.gather(&list.order, ask).await?;
                context.show(&page, |page| {
                    let rows = page.items.iter().map(|card| {
                        [
                            card.label.clone(),
                            state_words(card),
                            text::size(card.size),
                            card.kind.clone(),
                            text::or_dash(&card.device),
                            card.slot.map_or("-".into(), |slot| slot.to_string()),
                            card.notes.clone(),
                        ]
                    });
                    text::table(
                        ["card", "state", "size", "kind", "device", "slot", "notes"],
                        &[2, 5],
                        rows,
                    );
                    rest(page, "cards");
                })
            }
            Self::Files { slot, place } => {
                content::files(context, Content::Card(slot), &place).await
            }
            Self::Read { slot, place, to } => {
                content::read(context, Content::Card(slot), &place, to.as_deref()).await
            }
            Self::Note { label, text } => {
                let change = CardChange {
                    notes: Some(text),
                    ..CardChange::default()
                };
                context.show(&context.client.tell_card(&label, &change).await?, show)
            }
            Self::Origin {
                label,
                brand,
                seller,
                batch,
                price,
            } => {
                let change = CardChange {
                    brand,
                    seller,
                    batch,
                    price,
                    ..CardChange::default()
                };
                context.show(&context.client.tell_card(&label, &change).await?, show)
            }
            Self::ThisIs {
                label,
                although_recorded,
                slot,
                ..
            } => {
                let sticker = Sticker {
                    card: label,
                    although_recorded,
                };
                let slots = context.client.attach_label(slot, &sticker).await?;
                let seen = slots.into_iter().find(|seen| seen.name == slot);
                let label = seen.and_then(|seen| seen.card?.label);
                let label = label.with_context(|| format!("the card in slot {slot} is gone"))?;
                context.show(&context.client.card(&label).await?, show)
            }
            Self::Lots => context.show(&context.client.card_lots().await?, |lots| {
                let rate = |rate: Option<f64>| {
                    rate.map_or("-".into(), |rate| format!("{}/s", text::size(rate as u64)))
                };
                let or_not_said = |text: &str| match text {
                    "" => "not said".to_owned(),
                    text => text.to_owned(),
                };
                let rows = lots.iter().map(|lot| {
                    [
                        or_not_said(&lot.brand),
                        or_not_said(&lot.batch),
                        lot.cards.to_string(),
                        lot.written.to_string(),
                        lot.proven.to_string(),
                        lot.mistrusted.to_string(),
                        lot.bad.to_string(),
                        lot.gone.to_string(),
                        rate(lot.write_rate),
                        rate(lot.read_rate),
                    ]
                });
                text::table(
                    [
                        "brand",
                        "batch",
                        "cards",
                        "written",
                        "proven",
                        "mistrusted",
                        "bad",
                        "gone",
                        "writes at",
                        "reads at",
                    ],
                    &[2, 3, 4, 5, 6, 7, 8, 9],
                    rows,
                );
            }),
            Self::Trust { label } => said(context, &label, "trusted").await,
            Self::Free { label } => said(context, &label, "free").await,
            Self::Fault { label, symptom } => {
                let fault = NewFault {
                    card: Some(label.clone()),
                    device: None,
                    symptom,
                };
                context.client.add_fault(&fault).await?;
                context.show(&context.client.card(&label).await?, show)
            }
            Self::Check { full, target } => {
                let work = if full { "full-check" } else { "quick-check" };
                on_card(context, work, target).await
            }
            Self::Clear { what, target } => {
                let work = match what {
                    Clearing::Tables => "clear-tables",
                    Clearing::All => "clear-all",
                    Clearing::Volume => "clear-volume",
                };
                on_card(context, work, target).await
            }
            Self::Copy {
                slot,
                copies,
                devices,
            } => copy(context, slot, copies, devices).await,
            Self::PutBack { target } => on_card(context, "put-back", target).await,
            Self::Lost { label } => said(context, &label, "lost").await,
            Self::Retire { label } => said(context, &label, "retired").await,
            Self::Found { label } => said(context, &label, "found").await,
            Self::Compare { slot } => {
                let job = context
                    .client
                    .compare_card(slot, Some(&request_key()))
                    .await?;
                let job = follow(context, &job).await?;
                let drift = serde_json::from_value(job.result.unwrap_or_default())
                    .context("the service gave no result that can be understood")?;
                context.show(&drift, show_drift)
            }
            Self::Show { label } => context.show(&context.client.card(&label).await?, show),
        }
    }
}

/// Plans work on a card itself, has it confirmed by the label, and follows it.
async fn on_card(context: &Context, work: &str, target: Target) -> anyhow::Result<()> {
    let new = NewCardPlan {
        slot: target.slot,
        work: work.into(),
    };
    let plan = context.client.card_plan(&new).await?;
    if target.plan {
        return context.show(&plan, show_card_plan);
    }
    if !context.json {
        show_card_plan(&plan);
    }
    let job = target
        .confirm_and_follow(context, &plan.id, &plan.cautions)
        .await?;
    context.show(&job, text::closing)?;
    // A card that is no good is no success, whatever the check itself came to.
    let verdict = job
        .result
        .as_ref()
        .and_then(|result| result["verdict"].as_str());
    match verdict {
        Some("forged" | "bad") => Err(Ended {
            cancelled: false,
            detail: format!(
                "card {} is no good; nothing is written to it any more",
                plan.card
            ),
        }
        .into()),
        _ => Ok(()),
    }
}

fn show_card_plan(plan: &CardPlan) {
    let mut work = plan.work.replace('-', " ");
    work[..1].make_ascii_uppercase();
    println!("{work}, card {}", plan.card);
    println!(
        "  card       {} in slot {}, {}",
        plan.card,
        plan.slot,
        text::exact(plan.card_size)
    );
    println!("  holds now  {}", plan.card_holds);
    println!("  does       {}", plan.does);
    println!("  takes      about {}", text::span(plan.seconds));
    if plan.lost.is_empty() {
        println!("  lost       nothing");
    }
    for lost in &plan.lost {
        println!("  LOST       {lost}");
    }
    show_cautions(&plan.cautions, &plan.notes);
}

/// Takes a backup of a card, and plans a round of what is in it.
async fn copy(
    context: &Context,
    slot: SlotName,
    copies: u32,
    devices: Vec<String>,
) -> anyhow::Result<()> {
    if copies == 0 && devices.is_empty() {
        anyhow::bail!("say how many copies are made (--copies), or for which devices (--for)");
    }
    let new = api::NewBackup {
        slot,
        ..api::NewBackup::default()
    };
    let job = context
        .client
        .take_backup(&new, Some(&request_key()))
        .await?;
    let job = follow(context, &job).await?;
    let backup = job
        .result
        .as_ref()
        .and_then(|result| result["backup"].as_str());
    let new = NewRound {
        backup: Some(backup.context("the backup has no name")?.to_owned()),
        copies,
        devices,
        ..NewRound::default()
    };
    let planned = context.client.plan_round(&new).await?;
    if !context.json {
        text::closing(&job);
    }
    context.show(&planned, super::round::show)?;
    if !context.json {
        println!(
            "Put the original back into its board. Begin with: duplicarium round begin {}",
            planned.round.id
        );
    }
    Ok(())
}

/// Keeps what somebody says of a card.
async fn said(context: &Context, label: &str, word: &str) -> anyhow::Result<()> {
    let change = CardChange {
        state: Some(word.into()),
        ..CardChange::default()
    };
    context.show(&context.client.tell_card(label, &change).await?, show)
}

/// The state of a card by the records, that it is suspect, and what its slot shows where that is something else.
fn state_words(card: &api::Card) -> String {
    let mut words = card.state.clone();
    if card.suspicion.is_some() {
        words.push_str(match card.verdict.as_deref() {
            Some("forged") => ", forged",
            _ => ", suspect",
        });
    }
    let agrees = |shows: &str| match card.state.as_str() {
        "blank" => matches!(shows, "blank" | "empty" | "busy"),
        "imprinted" | "held" => matches!(shows, "ours" | "busy"),
        _ => shows != "foreign",
    };
    if let Some(shows) = card.shows.as_deref().filter(|shows| !agrees(shows)) {
        words.push_str(&format!("; its slot shows: {shows}"));
    }
    words
}

fn show(detail: &CardDetail) {
    let card = &detail.card;
    println!("{}  ({})", card.label, state_words(card));
    println!("  size       {} {}", text::exact(card.size), card.kind);
    println!("  device     {}", card.device.as_deref().unwrap_or("none"));
    println!(
        "  slot       {}",
        card.slot.map_or("in none".into(), |slot| slot.to_string())
    );
    if !card.notes.is_empty() {
        println!("  notes      {}", card.notes);
    }
    let origin = [&card.brand, &card.batch, &card.seller, &card.price];
    let origin: Vec<_> = origin
        .into_iter()
        .filter(|text| !text.is_empty())
        .map(String::as_str)
        .collect();
    if !origin.is_empty() {
        println!("  origin     {}", origin.join(", "));
    }
    if let Some(why) = &card.suspicion {
        println!("  SUSPECT    {why}");
    }
    for check in &detail.checks {
        println!(
            "  checked    {} {} by {}: {}",
            check.kind,
            text::moment(check.finished_at.unwrap_or(check.started_at)),
            check.operator,
            check.words
        );
    }
    for fault in &detail.faults {
        println!(
            "  seen       {} by {}: {}",
            text::moment(fault.at),
            fault.operator,
            fault.symptom
        );
    }
    for speed in &detail.speeds {
        let rates = speed.points.iter().map(|(_, rate)| *rate);
        let (least, most) = rates.fold((f64::MAX, 0_f64), |(least, most), rate| {
            (least.min(rate), most.max(rate))
        });
        println!(
            "  speed      {} in job {}: {}/s to {}/s",
            speed.stage,
            speed.job,
            text::size(least as u64),
            text::size(most as u64)
        );
    }
    for imprint in &detail.imprints {
        show_imprint(imprint);
    }
    for backup in &detail.backups {
        println!(
            "  backup     {}, {}",
            backup.name,
            text::moment(backup.taken_at)
        );
    }
}

/// An imprint as people read it.
pub fn show_imprint(imprint: &Imprint) {
    let device = imprint.device.as_deref().unwrap_or("nobody in particular");
    println!(
        "  imprint {}  {} for {device} on {}",
        imprint.id, imprint.base, imprint.card
    );
    let when = imprint.finished_at.unwrap_or(imprint.started_at);
    println!(
        "    {:<10} {} by {} in slot {}",
        imprint.state,
        text::moment(when),
        imprint.operator,
        imprint.slot
    );
    if !imprint.accepted.is_empty() {
        println!("    accepted   {}", imprint.accepted.join(", "));
    }
    if let Some(verified) = imprint.verified.filter(|_| imprint.state == "verified") {
        println!("    read back  {}, all equal", text::exact(verified));
    }
    if imprint.state == "verified" && !imprint.size_proven {
        println!("    size       as the card reports, not proven");
    }
    let left = match (imprint.state.as_str(), imprint.left_as.as_deref()) {
        ("in doubt", _) => {
            Some("the service ended meanwhile; put the card in, and what it is will be found out")
        }
        (_, Some("unfinished")) => Some("the card says itself that it is unfinished"),
        (_, Some("may boot")) => Some("it may boot, but nothing vouches for it; write it again"),
        _ => None,
    };
    if let Some(left) = left {
        println!("    now        {left}");
    }
    if !imprint.settings_known {
        println!("    settings   not known, it was restored");
    }
    for left in &imprint.left_out {
        println!("    left out   {left}");
    }
    for setting in &imprint.settings {
        if let Some(value) = &setting.value {
            println!("    {:<16} {value}", setting.name);
        }
    }
    for file in &imprint.files {
        println!(
            "    file       {} on partition {}",
            file.path, file.partition
        );
    }
}
