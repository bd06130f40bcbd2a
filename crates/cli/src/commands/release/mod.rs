//! Releases in the catalogue.

mod add;
mod show;

use std::path::{Path, PathBuf};

use anyhow::Context as _;
use api::{Content, NewCurrent, NewEvidence, NewSheet, NewState};
use clap::Subcommand;

use super::content;
use super::list::{Order, Paging, rest};
use crate::{Context, text};

pub use add::upload;
pub use show::{partitions, show};

#[derive(Subcommand)]
pub enum Release {
    /// Add a release from an image: a file, an address, a file of the service's import folder, or
    /// an item of a feed.
    Add(Box<add::Add>),
    /// List the releases by appliance, newest version first.
    List,
    /// Show one release: what it is, needs, holds, where it came from, who carries it.
    Show {
        /// Name of the release.
        name: String,
    },
    /// Print the sheet of a release, or give it another text.
    Sheet {
        /// Name of the release.
        name: String,
        /// File with the new text.
        #[arg(long, value_name = "FILE")]
        revise: Option<PathBuf>,
    },
    /// Put a release into a state: draft, released or withdrawn.
    State {
        /// Name of the release.
        name: String,
        /// draft, released or withdrawn.
        state: String,
        /// Why; required to withdraw.
        #[arg(long, default_value = "")]
        reason: String,
    },
    /// Make a release the current one, on some board models or all that its sheet names.
    Current {
        /// Name of the release.
        name: String,
        /// Board model; may be given again.
        #[arg(long)]
        board: Vec<String>,
    },
    /// Note whether a release boots on a board model, as seen at the bench.
    Note {
        /// Name of the release.
        name: String,
        /// Board model.
        #[arg(long)]
        board: String,
        /// It boots.
        #[arg(
            long,
            conflicts_with = "does_not_boot",
            required_unless_present = "does_not_boot"
        )]
        boots: bool,
        /// It does not boot.
        #[arg(long)]
        does_not_boot: bool,
        /// In words.
        #[arg(default_value = "")]
        note: String,
    },
    /// Take a release away that nobody ever carried.
    Remove {
        /// Name of the release.
        name: String,
    },
    /// List the devices whose card carries a release.
    Carriers {
        /// Name of the release.
        name: String,
        #[command(flatten)]
        paging: Paging,
    },
    /// List the files in a folder of a partition.
    Files {
        /// Name of the release.
        name: String,
        /// Partition and path, such as 2:/etc.
        place: String,
    },
    /// Print a file out of a partition, or put it into a file.
    Read {
        /// Name of the release.
        name: String,
        /// Partition and path, such as 2:/etc/hostname.
        place: String,
        /// File to put it into.
        #[arg(long)]
        to: Option<PathBuf>,
    },
    /// Put the raw image into a file.
    Export {
        /// Name of the release.
        name: String,
        /// File to make.
        to: PathBuf,
        /// The packed file as it came, where it was kept.
        #[arg(long)]
        original: bool,
    },
    /// Put the files below a folder into a tar archive; packed where its name ends in .gz, .xz, .zst or .zip.
    Archive {
        /// Name of the release.
        name: String,
        /// Partition and path, such as 2:/etc.
        place: String,
        /// File to make.
        to: PathBuf,
    },
    /// List what changed from one release to another: partitions, files, sheets.
    Compare {
        /// The one.
        a: String,
        /// The other; a backup will do.
        b: String,
        /// One file of both, line by line: partition and path, such as 2:/etc/hostname.
        place: Option<String>,
    },
}

impl Release {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let client = &context.client;
        match self {
            Self::Add(add) => add.run(context).await,
            Self::List => context.show(&client.catalogue().await?, |lines| list(lines)),
            Self::Show { name } => context.show(&client.release(&name).await?, show),
            Self::Sheet { name, revise: None } => {
                context.show(&client.release(&name).await?, |detail| {
                    print!("{}", detail.sheet);
                })
            }
            Self::Sheet {
                name,
                revise: Some(path),
            } => {
                let sheet = api::read_sheet(&path)
                    .with_context(|| format!("cannot read the sheet {}", path.display()))?;
                let detail = client.revise_sheet(&name, &NewSheet { sheet }).await?;
                context.show(&detail, show)
            }
            Self::State {
                name,
                state,
                reason,
            } => {
                let detail = client.set_state(&name, &NewState { state, reason }).await?;
                context.show(&detail, show)
            }
            Self::Current { name, board } => {
                let current = NewCurrent { boards: board };
                context.show(&client.make_current(&name, &current).await?, show)
            }
            Self::Note {
                name,
                board,
                boots,
                does_not_boot: _,
                note,
            } => {
                let seen = NewEvidence { board, boots, note };
                context.show(&client.note_evidence(&name, &seen).await?, show)
            }
            Self::Remove { name } => {
                client.remove_release(&name).await?;
                context.done(&format!("release {name} is taken away"))
            }
            Self::Carriers { name, paging } => {
                let ask = async |page| client.carriers(&name, &page).await;
                let page = paging.gather(&Order::default(), ask).await?;
                context.show(&page, |page| {
                    let rows = page.items.iter().map(|one| {
                        [
                            match (&one.device, one.carried) {
                                (Some(device), true) => device.clone(),
                                (Some(device), false) => {
                                    format!("({device}, which has a newer card)")
                                }
                                (None, _) => "-".into(),
                            },
                            one.card.clone(),
                            one.imprint.to_string(),
                            one.written_at.map_or("-".into(), text::moment),
                        ]
                    });
                    text::table(["device", "card", "imprint", "written"], &[2], rows);
                    rest(page, "carriers");
                })
            }
            Self::Files { name, place } => {
                content::files(context, Content::Release(&name), &place).await
            }
            Self::Read { name, place, to } => {
                content::read(context, Content::Release(&name), &place, to.as_deref()).await
            }
            Self::Export { name, to, original } => export(context, &name, &to, original).await,
            Self::Compare { a, b, place } => {
                content::compare(context, &a, &b, place.as_deref()).await
            }
            Self::Archive { name, place, to } => {
                content::archive(context, Content::Release(&name), &name, &place, &to).await
            }
        }
    }
}

async fn export(context: &Context, name: &str, to: &Path, original: bool) -> anyhow::Result<()> {
    let release = context.client.release(name).await?.release;
    let source = match original {
        true => content::Source::Original(name),
        false => content::Source::Image(Content::Release(name)),
    };
    let whole = match original {
        true => release.packed_size,
        false => release.raw_size,
    };
    content::export(context, source, name, whole, to).await
}

fn list(lines: &[api::Line]) {
    if lines.is_empty() {
        println!("nothing yet; add a release with: duplicarium release add IMAGE --sheet SHEET");
    }
    for line in lines {
        let variant = line
            .variant
            .as_ref()
            .map(|v| format!(" {v}"))
            .unwrap_or_default();
        let to_write = match line.to_write {
            0 => String::new(),
            1 => ", 1 card to write again".into(),
            cards => format!(", {cards} cards to write again"),
        };
        println!(
            "{}{variant}  newest {}; {} devices{to_write}",
            line.appliance,
            text::or_dash(&line.newest),
            line.devices
        );
        let rows = line.releases.iter().map(|release| {
            [
                format!("  {}", release.name),
                release.state.clone(),
                text::or_dash(&release.dated),
                release.current_for.join(", "),
                release.boards.join(", "),
                release.packing.clone(),
                text::size(release.raw_size),
                text::size(release.content),
                text::size(release.smallest_card),
                release.devices.to_string(),
            ]
        });
        let head = [
            "  release",
            "state",
            "date",
            "current on",
            "suits",
            "packing",
            "raw",
            "in use",
            "smallest card",
            "cards",
        ];
        text::table(head, &[6, 7, 8, 9], rows);
        println!();
    }
}
