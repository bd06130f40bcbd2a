//! Cards.

use anyhow::Context as _;
use api::{Drift, Imprint};
use clap::Subcommand;

use super::request_key;
use crate::follow::follow;
use crate::{Context, text};

#[derive(Subcommand)]
pub enum Card {
    /// List the cards.
    List,
    /// Compare the card in a slot with what was written onto it, file by file.
    Compare {
        /// Number of the slot.
        slot: u32,
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
            Self::List => {
                let cards = context.client.cards().await?;
                context.show(&cards, |cards| {
                    let rows = cards.iter().map(|card| {
                        [
                            card.label.clone(),
                            card.state.clone(),
                            text::size(card.size),
                            card.kind.clone(),
                            text::or_dash(&card.device),
                            card.slot.map_or("-".into(), |slot| slot.to_string()),
                        ]
                    });
                    text::table(
                        ["card", "state", "size", "kind", "device", "slot"],
                        &[2, 5],
                        rows,
                    );
                })
            }
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
            Self::Show { label } => {
                let detail = context.client.card(&label).await?;
                context.show(&detail, |detail| {
                    let card = &detail.card;
                    println!("{}  ({})", card.label, card.state);
                    println!("  size       {} {}", text::exact(card.size), card.kind);
                    println!("  device     {}", card.device.as_deref().unwrap_or("none"));
                    println!(
                        "  slot       {}",
                        card.slot.map_or("in none".into(), |slot| slot.to_string())
                    );
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
                })
            }
        }
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
