//! Releases in the catalogue.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;

use anyhow::Context as _;
use api::{NewRelease, NewUpload, PART, Partition};
use clap::Subcommand;
use indicatif::{ProgressBar, ProgressStyle};

use super::request_key;
use crate::follow::follow;
use crate::{Context, text};

#[derive(Subcommand)]
pub enum Release {
    /// Add a release from an image file and its sheet.
    Add {
        /// Image: plain, gzip or xz, told by its content.
        image: PathBuf,
        /// Release sheet (TOML).
        #[arg(long)]
        sheet: PathBuf,
    },
    /// List the releases, newest first.
    List,
    /// Show one release.
    Show {
        /// Name of the release.
        name: String,
    },
}

impl Release {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        match self {
            Self::Add { image, sheet } => add(context, &image, &sheet).await,
            Self::List => {
                let releases = context.client.releases().await?;
                context.show(&releases, |releases| {
                    let rows = releases.iter().map(|release| {
                        [
                            release.name.clone(),
                            release.state.clone(),
                            text::or_dash(&release.dated),
                            release.boards.join(", "),
                            release.packing.clone(),
                            text::size(release.packed_size),
                            text::size(release.raw_size),
                            text::size(release.smallest_card),
                        ]
                    });
                    let head = [
                        "release",
                        "state",
                        "date",
                        "boards",
                        "packing",
                        "packed",
                        "raw",
                        "smallest card",
                    ];
                    text::table(head, &[5, 6, 7], rows);
                })
            }
            Self::Show { name } => {
                let detail = context.client.release(&name).await?;
                context.show(&detail, show)
            }
        }
    }
}

async fn add(context: &Context, image: &PathBuf, sheet: &PathBuf) -> anyhow::Result<()> {
    let sheet = std::fs::read_to_string(sheet)
        .with_context(|| format!("cannot read the sheet {}", sheet.display()))?;
    let file =
        File::open(image).with_context(|| format!("cannot read the image {}", image.display()))?;
    let size = file.metadata()?.len();
    let file_name = image
        .file_name()
        .unwrap_or_default()
        .to_string_lossy()
        .into_owned();
    let upload = context
        .client
        .begin_upload(&NewUpload {
            file_name,
            size,
            sheet: Some(sheet.clone()),
        })
        .await?;
    let bar = if context.json {
        ProgressBar::hidden()
    } else {
        ProgressBar::new(size)
    };
    if let Ok(style) = ProgressStyle::with_template(
        "{prefix:>10}  {bar:30} {percent:>3} %  {decimal_bytes_per_sec}  {eta} left",
    ) {
        bar.set_style(style.progress_chars("█▌░"));
    }
    bar.set_prefix("uploading");
    let mut received = upload.received;
    while received < size {
        let mut part = vec![0; PART.min((size - received) as usize)];
        file.read_exact_at(&mut part, received)?;
        received = match context.client.send_part(&upload.id, received, part).await {
            Ok(upload) => upload.received,
            // Cut off: the service knows how far it came.
            Err(api::ClientError::NoAnswer { .. }) => {
                context.client.upload(&upload.id).await?.received
            }
            Err(e) => return Err(e.into()),
        };
        bar.set_position(received);
    }
    bar.finish_and_clear();
    let new = NewRelease {
        upload: upload.id,
        sheet,
    };
    let job = context
        .client
        .add_release(&new, Some(&request_key()))
        .await?;
    let job = follow(context, &job).await?;
    let name = job
        .result
        .as_ref()
        .and_then(|result| result["release"].as_str())
        .unwrap_or_default();
    let detail = context.client.release(name).await?;
    context.show(&detail, show)
}

fn show(detail: &api::ReleaseDetail) {
    let release = &detail.release;
    println!("{}  ({})", release.name, release.state);
    println!("  date           {}", text::or_dash(&release.dated));
    println!("  boards         {}", release.boards.join(", "));
    println!("  from           {} ({})", release.source, release.packing);
    println!("  packed         {}", text::exact(release.packed_size));
    println!("  packed SHA-256 {}", release.packed_sha256);
    println!("  raw            {}", text::exact(release.raw_size));
    println!("  raw SHA-256    {}", release.raw_sha256);
    println!("  smallest card  {}", text::exact(release.smallest_card));
    println!("  in the vault   {} new", text::exact(release.stored));
    println!(
        "  added          {} by {}",
        text::moment(release.added_at),
        release.added_by
    );
    println!("  table          {} {}", detail.table, detail.disk_id);
    partitions(&detail.partitions);
    let fields: Vec<_> = detail
        .fields
        .iter()
        .map(|field| field.name.as_str())
        .collect();
    println!("  fields         {}", fields.join(", "));
}

/// Partitions, one a line.
pub fn partitions(partitions: &[Partition]) {
    for part in partitions {
        println!(
            "  partition {}    {} at byte {}, {}, {} {}",
            part.number,
            text::size(part.len),
            part.start,
            part.kind,
            part.file_system
                .as_deref()
                .unwrap_or("no known file system"),
            part.label.as_deref().unwrap_or("")
        );
    }
}
