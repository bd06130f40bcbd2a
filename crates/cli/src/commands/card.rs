//! Cards.

use api::Imprint;
use clap::Subcommand;

use crate::{Context, text};

#[derive(Subcommand)]
pub enum Card {
    /// List the cards.
    List,
    /// Show one card: what is on it, whose it is, when and by whom it was written.
    Show {
        /// Label of the card.
        label: String,
    },
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
