//! Backups.

use api::BackupQuery;
use clap::Subcommand;

use super::list::{Order, Paging, rest};
use super::release::partitions;
use super::request_key;
use crate::follow::follow;
use crate::{Context, text};

/// Which backups are listed.
#[derive(clap::Args)]
pub struct List {
    /// A text anywhere in name, card or device.
    #[arg(long)]
    search: Option<String>,
    /// The card that was read.
    #[arg(long)]
    card: Option<String>,
    /// The device whose card it was.
    #[arg(long)]
    device: Option<String>,
    #[command(flatten)]
    order: Order,
    #[command(flatten)]
    paging: Paging,
}

#[derive(Subcommand)]
pub enum Backup {
    /// Read the card in a slot into the vault, and read it again to be sure.
    Take {
        /// Slot of the card.
        #[arg(long)]
        slot: u32,
    },
    /// List the backups, newest first.
    List(List),
    /// Show one backup.
    Show {
        /// Name of the backup.
        name: String,
    },
}

impl Backup {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        match self {
            Self::Take { slot } => {
                let job = context
                    .client
                    .take_backup(slot, Some(&request_key()))
                    .await?;
                let job = follow(context, &job).await?;
                let name = job
                    .result
                    .as_ref()
                    .and_then(|result| result["backup"].as_str())
                    .unwrap_or_default();
                let backup = context.client.backup(name).await?;
                context.show(&backup, |backup| {
                    show(backup);
                    text::closing(&job);
                })
            }
            Self::List(list) => {
                let wanted = BackupQuery {
                    search: list.search,
                    card: list.card,
                    device: list.device,
                };
                let ask = async |page| context.client.backups(&wanted, &page).await;
                let page = list.paging.gather(&list.order, ask).await?;
                context.show(&page, |page| {
                    let rows = page.items.iter().map(|backup| {
                        [
                            backup.name.clone(),
                            text::moment(backup.taken_at),
                            text::or_dash(&backup.device),
                            backup.card.clone(),
                            text::size(backup.content),
                            text::size(backup.stored),
                        ]
                    });
                    text::table(
                        [
                            "backup",
                            "taken",
                            "device",
                            "card",
                            "content",
                            "new in vault",
                        ],
                        &[4, 5],
                        rows,
                    );
                    rest(page, "backups");
                })
            }
            Self::Show { name } => context.show(&context.client.backup(&name).await?, show),
        }
    }
}

fn show(backup: &api::Backup) {
    println!("{}", backup.name);
    println!("  device         {}", text::or_dash(&backup.device));
    println!(
        "  read from      card {}, {}",
        backup.card,
        text::exact(backup.card_size)
    );
    println!("  content        {}", text::exact(backup.content));
    println!("  smallest card  {}", text::exact(backup.smallest_card));
    println!("  in the vault   {} new", text::exact(backup.stored));
    println!("  verified       {}", backup.verified);
    println!(
        "  taken          {} by {}",
        text::moment(backup.taken_at),
        backup.taken_by
    );
    println!("  table          {}", backup.table);
    partitions(&backup.partitions);
}
