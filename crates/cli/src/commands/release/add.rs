//! Adding a release.

use std::fs::File;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};

use anyhow::Context as _;
use api::{NewRelease, NewUpload, PART};
use clap::Args;

use super::show;
use crate::commands::request_key;
use crate::follow::follow;
use crate::{Context, text};

/// Tries in a row that bring no part across before an upload is given up.
const TRIES: u32 = 6;

#[derive(Args)]
pub struct Add {
    /// Image file, or address (http or https); the kind of packing is told by the content.
    image: String,
    /// The image is a file of this name in the import folder of the service.
    #[arg(long, conflicts_with = "feed")]
    folder: bool,
    /// The image is an item of this feed.
    #[arg(long, value_name = "FEED")]
    feed: Option<String>,
    /// Release sheet (TOML); the one beside the image if left out.
    #[arg(long)]
    sheet: Option<PathBuf>,
    /// Appliance, where there is no sheet.
    #[arg(long)]
    appliance: Option<String>,
    /// Variant, where there is no sheet.
    #[arg(long)]
    variant: Option<String>,
    /// Version, where there is no sheet.
    #[arg(long = "as-version", value_name = "VERSION")]
    version: Option<String>,
    /// Board model, where there is no sheet; may be given again.
    #[arg(long)]
    board: Vec<String>,
    /// SHA-256 as the publisher gives it: digits, or a checksum file.
    #[arg(long, value_name = "DIGITS|FILE")]
    sha256: Option<String>,
    /// Which file of an archive is the image.
    #[arg(long)]
    member: Option<String>,
    /// Keep the packed file too.
    #[arg(long)]
    keep_file: bool,
    /// Add it as a draft, to be tried first.
    #[arg(long)]
    draft: bool,
    /// User at the publisher; the password is typed, or read with --password-file.
    #[arg(long)]
    user: Option<String>,
    /// File with the password.
    #[arg(long, requires = "user")]
    password_file: Option<PathBuf>,
}

impl Add {
    pub async fn run(self, context: &Context) -> anyhow::Result<()> {
        let remote = self.image.starts_with("http://") || self.image.starts_with("https://");
        let local = !remote && !self.folder && self.feed.is_none();
        let path = PathBuf::from(&self.image);
        let sheet_path = match &self.sheet {
            Some(path) => Some(path.clone()),
            None if local => api::sheet_beside(&path),
            None => None,
        };
        let sheet = match &sheet_path {
            Some(path) => Some(
                api::read_sheet(path)
                    .with_context(|| format!("cannot read the sheet {}", path.display()))?,
            ),
            None => None,
        };
        let sha256 = match &self.sha256 {
            Some(given) if Path::new(given).is_file() => Some(api::read_sheet(Path::new(given))?),
            given => given.clone(),
        };
        let mut new = NewRelease {
            sheet,
            appliance: self.appliance,
            variant: self.variant,
            version: self.version,
            boards: self.board,
            sha256,
            member: self.member,
            keep_file: self.keep_file,
            draft: self.draft,
            ..NewRelease::default()
        };
        if let Some(feed) = self.feed {
            new.feed = Some(feed);
            new.feed_item = Some(self.image);
        } else if self.folder {
            new.folder_file = Some(self.image);
        } else if remote {
            new.url = Some(self.image);
            new.url_password = match (&self.user, &self.password_file) {
                (None, _) => None,
                (Some(_), Some(path)) => {
                    let text = std::fs::read_to_string(path).with_context(|| {
                        format!("cannot read the password in {}", path.display())
                    })?;
                    Some(text.trim_end_matches(['\r', '\n']).into())
                }
                (Some(user), None) => {
                    Some(rpassword::prompt_password(format!("password of {user}: "))?)
                }
            };
            new.url_user = self.user;
        } else {
            new.upload = Some(upload(context, &path, new.sheet.as_deref()).await?);
        }
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
        context.show(&context.client.release(name).await?, show)
    }
}

/// Uploads a file, on from where an earlier try was cut off.
pub async fn upload(
    context: &Context,
    image: &Path,
    sheet: Option<&str>,
) -> anyhow::Result<String> {
    let file =
        File::open(image).with_context(|| format!("cannot read the image {}", image.display()))?;
    let meta = file.metadata()?;
    let size = meta.len();
    let name = image.file_name().unwrap_or_default();
    let key = format!(
        "{}:{}:{size}:{}.{}",
        meta.dev(),
        meta.ino(),
        meta.mtime(),
        meta.mtime_nsec()
    );
    let begun = context
        .client
        .begin_upload(&NewUpload {
            file_name: name.to_string_lossy().into_owned(),
            size,
            sheet: sheet.map(str::to_owned),
            key: Some(key),
        })
        .await?;
    let bar = super::super::content::bar(context, size, "uploading");
    let mut received = begun.received;
    if received > 0 && !context.json {
        eprintln!("going on from {}", text::size(received));
    }
    let mut tries = 0;
    while received < size {
        let mut part = vec![0; PART.min((size - received) as usize)];
        file.read_exact_at(&mut part, received)?;
        match context.client.send_part(&begun.id, received, part).await {
            Ok(upload) => {
                received = upload.received;
                tries = 0;
            }
            // Cut off: the service knows how far it came, once it answers again.
            Err(error @ api::ClientError::NoAnswer { .. }) => {
                tries += 1;
                if tries >= TRIES {
                    return Err(error.into());
                }
                tokio::time::sleep(std::time::Duration::from_millis(200 << tries)).await;
                if let Ok(upload) = context.client.upload(&begun.id).await {
                    received = upload.received;
                }
            }
            Err(e) => return Err(e.into()),
        }
        bar.set_position(received);
    }
    bar.finish_and_clear();
    Ok(begun.id)
}
