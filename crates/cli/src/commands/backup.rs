//! Backups.

use std::path::PathBuf;

use anyhow::bail;
use api::{
    BackupChange, BackupHealth, BackupInterval, BackupOutlook, BackupQuery, Content, Headroom,
    KeepChange, KeepReport, KeepRule, NewBackup, NewImageBackup, SlotName,
};
use clap::Subcommand;

use super::content;
use super::list::{Order, Paging, rest};
use super::release::{partitions, upload};
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
    /// Those too whose content was let go.
    #[arg(long)]
    gone: bool,
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
        slot: SlotName,
        /// Why, such as "before changing the level sensor".
        #[arg(long, default_value = "")]
        reason: String,
        /// Do not read it again: it takes half the time, and the backup is shown as unverified.
        #[arg(long)]
        unverified: bool,
    },
    /// List the backups, newest first.
    List(List),
    /// Show one backup.
    Show {
        /// Name of the backup.
        name: String,
    },
    /// Take a disk image from elsewhere in as a backup.
    #[command(name = "bring-in")]
    BringIn {
        /// The image; packed or not.
        image: PathBuf,
        /// The device whose it is.
        #[arg(long)]
        device: Option<String>,
        /// What it is, or why.
        #[arg(long, default_value = "")]
        reason: String,
    },
    /// Show how the used data of a device grew over its backups, and when its card will be full.
    Headroom {
        /// The device.
        device: String,
    },
    /// Say whose a backup is.
    Assign {
        /// Name of the backup.
        name: String,
        /// The device; nobody's, where none is given.
        #[arg(long, value_name = "DEVICE", default_value = "")]
        to: String,
    },
    /// Say why a backup was taken.
    Reason {
        /// Name of the backup.
        name: String,
        /// Why.
        reason: String,
    },
    /// Let a backup stay whatever the keep rules say.
    Pin {
        /// Name of the backup.
        name: String,
    },
    /// Let the keep rules count for a backup again.
    Unpin {
        /// Name of the backup.
        name: String,
    },
    /// Let the content of a backup go. Its record stays.
    #[command(name = "let-go")]
    LetGo {
        /// Name of the backup.
        name: String,
        /// Its name once more: what goes does not come back.
        #[arg(long, value_name = "NAME")]
        yes: String,
        /// Why.
        #[arg(long, default_value = "")]
        why: String,
    },
    /// Prove a backup: that every byte of it is there, that its file systems are whole, that the files of its first
    /// boot are.
    Prove {
        /// Name of the backup.
        name: String,
        /// bytes, file-systems, files, or boots where a stand-in board can try it; what is below it is shown first.
        #[arg(long, default_value = "files")]
        level: String,
    },
    /// Show the keep rules and what they would do; or set one, or let go now what is due.
    Keep {
        /// So many of the newest stay.
        #[arg(long)]
        newest: Option<u32>,
        /// The newest of so many days.
        #[arg(long, default_value_t = 0, requires = "newest")]
        daily: u32,
        /// The newest of so many weeks.
        #[arg(long, default_value_t = 0, requires = "newest")]
        weekly: u32,
        /// The newest of so many months.
        #[arg(long, default_value_t = 0, requires = "newest")]
        monthly: u32,
        /// The rule is of this device, not of the team.
        #[arg(long)]
        device: Option<String>,
        /// Take the rule away.
        #[arg(long, conflicts_with = "newest")]
        none: bool,
        /// Let go now what is due.
        #[arg(long, conflicts_with_all = ["newest", "none"])]
        now: bool,
    },
    /// Show how often devices shall be backed up, or say it.
    Every {
        /// Days between backups.
        days: Option<u32>,
        /// For a device.
        #[arg(long, conflicts_with = "appliance")]
        device: Option<String>,
        /// For each device of an appliance.
        #[arg(long)]
        appliance: Option<String>,
        /// They need not be backed up.
        #[arg(long, conflicts_with = "days")]
        never: bool,
    },
    /// List the files in a folder of a backup.
    Files {
        /// Name of the backup.
        name: String,
        /// Partition and path, such as 2:/etc.
        place: String,
    },
    /// Print a file out of a backup, or put it into a file.
    Read {
        /// Name of the backup.
        name: String,
        /// Partition and path, such as 2:/etc/hostname.
        place: String,
        /// File to put it into.
        #[arg(long)]
        to: Option<PathBuf>,
    },
    /// Put a backup into a file: raw and sparse, or packed where its name ends in .gz, .xz, .zst or .zip.
    Export {
        /// Name of the backup.
        name: String,
        /// File to make.
        to: PathBuf,
        /// Without the secrets and keys of its device, for somebody else.
        #[arg(long)]
        for_sharing: bool,
    },
    /// Put the files below a folder into a tar archive; packed where its name ends in .gz, .xz, .zst or .zip.
    Archive {
        /// Name of the backup.
        name: String,
        /// Partition and path, such as 2:/etc.
        place: String,
        /// File to make.
        to: PathBuf,
    },
    /// List what differs between two backups, or a backup and a release.
    Compare {
        /// The one.
        a: String,
        /// The other.
        b: String,
        /// One file of both, line by line: partition and path, such as 2:/etc/hostname.
        place: Option<String>,
    },
    /// List the versions of a file in the backups of a device, and which of them hold each.
    Versions {
        /// The device.
        device: String,
        /// Partition and path, such as 2:/etc/hostname.
        place: String,
        /// A file here, whose version is marked.
        #[arg(long, value_name = "FILE")]
        like: Option<PathBuf>,
    },
}

impl Backup {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        match self {
            Self::Take {
                slot,
                reason,
                unverified,
            } => {
                let new = NewBackup {
                    slot,
                    reason,
                    unverified,
                };
                if !context.json {
                    show_outlook(&context.client.backup_outlook(slot).await?, unverified);
                }
                let job = context
                    .client
                    .take_backup(&new, Some(&request_key()))
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
                    gone: list.gone.then_some(true),
                };
                let ask = async |page| context.client.backups(&wanted, &page).await;
                let page = list.paging.gather(&list.order, ask).await?;
                context.show(&page, |page| {
                    let rows = page.items.iter().map(|backup| {
                        [
                            backup.name.clone(),
                            text::moment(backup.taken_at),
                            text::or_dash(&backup.device),
                            text::or_dash(&backup.card),
                            match backup.health {
                                BackupHealth::Damaged | BackupHealth::TestFailed => {
                                    health_word(backup.health).to_uppercase()
                                }
                                _ => text::or_dash(&backup.proven),
                            },
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
                            "proven",
                            "content",
                            "new in vault",
                        ],
                        &[5, 6],
                        rows,
                    );
                    rest(page, "backups");
                })
            }
            Self::Show { name } => context.show(&context.client.backup(&name).await?, show),
            Self::BringIn {
                image,
                device,
                reason,
            } => {
                let upload = upload(context, &image, None).await?;
                let new = NewImageBackup {
                    upload,
                    device,
                    reason,
                };
                let job = context.client.bring_in(&new, Some(&request_key())).await?;
                let job = follow(context, &job).await?;
                let name = job
                    .result
                    .as_ref()
                    .and_then(|result| result["backup"].as_str());
                let backup = context.client.backup(name.unwrap_or_default()).await?;
                context.show(&backup, show)
            }
            Self::Headroom { device } => {
                let found = context.client.headroom(&device).await?;
                context.show(&found, show_headroom)
            }
            Self::Assign { name, to } => {
                let change = BackupChange {
                    device: Some(to),
                    ..BackupChange::default()
                };
                change_backup(context, &name, &change).await
            }
            Self::Reason { name, reason } => {
                let change = BackupChange {
                    reason: Some(reason),
                    ..BackupChange::default()
                };
                change_backup(context, &name, &change).await
            }
            Self::Pin { name } => pin(context, &name, true).await,
            Self::Unpin { name } => pin(context, &name, false).await,
            Self::LetGo { name, yes, why } => {
                if yes != name {
                    bail!(
                        "nothing was let go: --yes {yes:?} is not the name of the backup, {name:?}"
                    );
                }
                context.client.let_backup_go(&name, &why).await?;
                context.done(&format!(
                    "The content of {name} was let go; what it took in the vault is free when that is tidied next."
                ))
            }
            Self::Prove { name, level } => {
                let key = request_key();
                let job = context
                    .client
                    .prove_backup(&name, &level, Some(&key))
                    .await?;
                let job = follow(context, &job).await?;
                let holds = job
                    .result
                    .as_ref()
                    .is_some_and(|found| found["holds"] == true);
                context.show(&context.client.backup(&name).await?, show)?;
                match holds {
                    true => Ok(()),
                    false => bail!("backup {name} is not proven"),
                }
            }
            Self::Keep {
                newest,
                daily,
                weekly,
                monthly,
                device,
                none,
                now,
            } => {
                let client = &context.client;
                let rule = newest.map(|newest| KeepRule {
                    newest,
                    daily,
                    weekly,
                    monthly,
                });
                let report = match (rule, none, now) {
                    (_, _, true) => client.keep_now(false).await?,
                    (None, false, _) => client.keep_rules().await?,
                    (rule, ..) => client.set_keep_rule(&KeepChange { device, rule }).await?,
                };
                context.show(&report, show_kept)
            }
            Self::Every {
                days,
                device,
                appliance,
                never,
            } => {
                let client = &context.client;
                let all = match days.is_some() || never {
                    false => client.backup_intervals().await?,
                    true => {
                        let change = BackupInterval {
                            device,
                            appliance,
                            days,
                        };
                        client.set_backup_interval(&change).await?
                    }
                };
                context.show(&all, |all| {
                    if all.is_empty() {
                        println!("Nobody has to be backed up at intervals: duplicarium backup every 30 --appliance NAME");
                    }
                    for one in all {
                        let whose = match (&one.device, &one.appliance) {
                            (Some(device), _) => device.clone(),
                            (_, appliance) => format!("each {}", text::or_dash(appliance)),
                        };
                        println!("{whose}: every {} days", one.days.unwrap_or(0));
                    }
                })
            }
            Self::Files { name, place } => {
                content::files(context, Content::Backup(&name), &place).await
            }
            Self::Read { name, place, to } => {
                content::read(context, Content::Backup(&name), &place, to.as_deref()).await
            }
            Self::Archive { name, place, to } => {
                content::archive(context, Content::Backup(&name), &name, &place, &to).await
            }
            Self::Compare { a, b, place } => {
                content::compare(context, &a, &b, place.as_deref()).await
            }
            Self::Versions {
                device,
                place,
                like,
            } => content::versions(context, &device, &place, like.as_deref()).await,
            Self::Export {
                name,
                to,
                for_sharing: true,
            } => {
                let backup = context.client.backup(&name).await?;
                content::share(context, &name, backup.card_size, &to).await
            }
            Self::Export { name, to, .. } => {
                let backup = context.client.backup(&name).await?;
                let source = content::Source::Image(Content::Backup(&name));
                content::export(context, source, &name, backup.card_size, &to).await
            }
        }
    }
}

/// What is about to be read, and what it will come to.
fn show_outlook(outlook: &BackupOutlook, unverified: bool) {
    let whose = match (&outlook.device, &outlook.card) {
        (Some(device), Some(card)) => format!("card {card} of {device}"),
        (None, Some(card)) => format!("card {card}"),
        _ => "the card".into(),
    };
    let mut words = format!(
        "{whose}: {} in use, about {} new in the vault ({})",
        text::size(outlook.content),
        text::size(outlook.expected),
        outlook.by
    );
    if let Some(free) = outlook.free {
        words.push_str(&format!(", {} free there", text::size(free)));
    }
    if let Some(seconds) = outlook.seconds {
        let seconds = if unverified { seconds / 2.0 } else { seconds };
        words.push_str(&format!("; takes about {}", text::span(seconds)));
    }
    println!("{words}");
}

async fn change_backup(context: &Context, name: &str, change: &BackupChange) -> anyhow::Result<()> {
    context.show(&context.client.change_backup(name, change).await?, show)
}

async fn pin(context: &Context, name: &str, pinned: bool) -> anyhow::Result<()> {
    let change = BackupChange {
        pinned: Some(pinned),
        ..BackupChange::default()
    };
    change_backup(context, name, &change).await
}

fn show_headroom(found: &Headroom) {
    let rows = found.points.iter().map(|one| {
        [
            text::moment(one.at),
            text::size(one.used),
            text::size(one.card_size),
            format!("{} %", one.used.saturating_mul(100) / one.card_size.max(1)),
        ]
    });
    text::table(["taken", "used", "of a card of", ""], &[1, 2, 3], rows);
    for words in &found.warnings {
        println!("{words}");
    }
}

fn show_kept(report: &KeepReport) {
    for one in &report.rules {
        let whose = one.device.as_deref().unwrap_or("the team");
        match &one.rule {
            Some(rule) => println!(
                "{whose}: {} newest, {} days, {} weeks, {} months",
                rule.newest, rule.daily, rule.weekly, rule.monthly
            ),
            None => println!("{whose}: no rule, everything stays"),
        }
    }
    let rows = report
        .stay
        .iter()
        .map(|one| [one.backup.clone(), "stays".into(), one.why.clone()]);
    let word = if report.done { "WENT" } else { "GOES" };
    let go = report
        .go
        .iter()
        .map(|name| [name.clone(), word.into(), String::new()]);
    text::table(["backup", "", "because"], &[], rows.chain(go));
    if !report.go.is_empty() {
        let word = if report.done {
            "were let go"
        } else {
            "would go"
        };
        let frees = match report.frees {
            Some(bytes) => format!("tidying the vault frees {} then", text::size(bytes)),
            None => "how much that frees is not known, because something in the vault is damaged (duplicarium vault inspect)".into(),
        };
        println!(
            "{} backups {word}; {frees}. Pinned ones and the newest good one of each device stay",
            report.go.len(),
        );
    }
    println!("Days, weeks and months are those of {}", report.zone);
}

/// Whether a backup is whole, in a word or two.
fn health_word(health: BackupHealth) -> &'static str {
    match health {
        BackupHealth::Verified => "verified",
        BackupHealth::NotVerified => "not verified",
        BackupHealth::TestFailed => "test failed",
        BackupHealth::Damaged => "damaged",
    }
}

fn show(backup: &api::Backup) {
    println!("{}", backup.name);
    println!("  device         {}", text::or_dash(&backup.device));
    println!(
        "  read from      {}, {}",
        match &backup.card {
            Some(card) => format!("card {card}"),
            None => "a disk image".into(),
        },
        text::exact(backup.card_size)
    );
    println!("  content        {}", text::exact(backup.content));
    println!("  smallest card  {}", text::exact(backup.smallest_card));
    if backup.whole_card > backup.smallest_card {
        println!(
            "                 {} as it is; its last file system is shrunk for a smaller one",
            text::exact(backup.whole_card)
        );
    }
    println!("  in the vault   {} new", text::exact(backup.stored));
    let verified = match backup.verified.as_str() {
        "" => "NOT VERIFIED: its card was read once",
        how => how,
    };
    println!("  verified       {verified}");
    if let Some(words) = &backup.health_words {
        println!(
            "  {:<14} {words}",
            health_word(backup.health).to_uppercase()
        );
    }
    for remark in &backup.remarks {
        println!("  note           {remark}");
    }
    if !backup.reason.is_empty() {
        println!("  reason         {}", backup.reason);
    }
    if backup.pinned {
        println!("  pinned         it stays whatever the keep rules say");
    }
    for proof in &backup.proofs {
        let holds = if proof.holds {
            "holds"
        } else {
            "DOES NOT HOLD"
        };
        println!(
            "  {:<14} {holds}, {} by {}: {}",
            proof.level,
            text::moment(proof.at),
            proof.by,
            proof.words
        );
    }
    if let Some(at) = backup.gone_at {
        let why = backup.gone_why.as_deref().unwrap_or_default();
        println!("  GONE           {}: {why}", text::moment(at));
    }
    println!(
        "  taken          {} by {}",
        text::moment(backup.taken_at),
        backup.taken_by
    );
    println!("  table          {}", backup.table);
    partitions(&backup.partitions);
}
