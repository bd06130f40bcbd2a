//! What is inside a release or a backup: its files, and the image itself.

use std::fs::File;
use std::io::{IsTerminal as _, Seek as _, SeekFrom, Write};
use std::path::Path;

use anyhow::{Context as _, bail};
use api::Content;
use indicatif::{ProgressBar, ProgressStyle};
use ring::digest;

use crate::{Context, text};

/// `2:/etc/hostname` as partition and path.
fn place(text: &str) -> anyhow::Result<(u32, &str)> {
    let (partition, path) = text
        .split_once(':')
        .with_context(|| format!("{text:?} should be PARTITION:PATH, such as 2:/etc/hostname"))?;
    let partition = partition
        .parse()
        .with_context(|| format!("{partition:?} is no number of a partition"))?;
    Ok((partition, path))
}

/// Lists a folder.
pub async fn files(context: &Context, of: Content<'_>, at: &str) -> anyhow::Result<()> {
    let (partition, path) = place(at)?;
    let nodes = context.client.folder_of(of, partition, path).await?;
    context.show(&nodes, |nodes| {
        let rows = nodes.iter().map(|node| {
            let name = match (&node.target, node.kind.as_str()) {
                (Some(target), _) => format!("{} -> {target}", node.name),
                (None, "folder") => format!("{}/", node.name),
                _ => node.name.clone(),
            };
            [
                text::or_dash(&node.mode),
                text::or_dash(&node.owner),
                text::size(node.len),
                name,
            ]
        });
        text::table(["mode", "owner", "length", "name"], &[2], rows);
    })
}

/// Prints a file, or puts it into one.
pub async fn read(
    context: &Context,
    of: Content<'_>,
    at: &str,
    to: Option<&Path>,
) -> anyhow::Result<()> {
    let (partition, path) = place(at)?;
    let mut out: Box<dyn Write> = match to {
        Some(to) => Box::new(new_file(to)?),
        None => Box::new(std::io::stdout().lock()),
    };
    let on_screen = to.is_none() && std::io::stdout().is_terminal();
    let take = |piece: &[u8]| match on_screen {
        true => out.write_all(&without_steering(piece)),
        false => out.write_all(piece),
    };
    context.client.file_of(of, partition, path, take).await?;
    Ok(out.flush()?)
}

/// A file that was not there before.
fn new_file(path: &Path) -> anyhow::Result<File> {
    File::create_new(path).with_context(|| format!("cannot make {}", path.display()))
}

/// Bytes of a foreign file with those replaced that would steer a terminal.
fn without_steering(bytes: &[u8]) -> Vec<u8> {
    let mut before = 0;
    let calm = |byte: &u8| {
        // In UTF-8 the second set of control characters is 0xc2 and one of these.
        let second = std::mem::replace(&mut before, *byte) == 0xc2 && *byte < 0xa0;
        match byte {
            b'\n' | b'\t' | b'\r' | 0x20..=0x7e => *byte,
            0x80.. if !second => *byte,
            _ => b'?',
        }
    };
    bytes.iter().map(calm).collect()
}

/// A bar for bytes, hidden where programs read.
pub fn bar(context: &Context, len: u64, what: &'static str) -> ProgressBar {
    let bar = match context.json {
        true => ProgressBar::hidden(),
        false => ProgressBar::new(len),
    };
    if let Ok(style) = ProgressStyle::with_template(
        "{prefix:>10}  {bar:30} {percent:>3} %  {decimal_bytes_per_sec}  {eta} left",
    ) {
        bar.set_style(style.progress_chars("█▌░"));
    }
    bar.set_prefix(what);
    bar
}

/// What is put into a file.
#[derive(Clone, Copy)]
pub enum Source<'a> {
    /// The raw image; packed, if the name of the file says so.
    Image(Content<'a>),
    /// The packed file of a release as it came.
    Original(&'a str),
}

/// How a file is packed, by the end of its name.
fn packing(to: &Path) -> Option<&'static str> {
    let ending = to.extension()?.to_str()?;
    ["gz", "xz", "zst"]
        .into_iter()
        .find(|known| ending.eq_ignore_ascii_case(known))
}

/// Zeros of this length become a hole.
const HOLE: usize = 64 << 10;

/// Puts an image of `whole` bytes into a file: what is zero becomes holes, and its SHA-256 goes into a file beside it
/// that `sha256sum --check` reads.
pub async fn export(
    context: &Context,
    source: Source<'_>,
    name: &str,
    whole: u64,
    to: &Path,
) -> anyhow::Result<()> {
    let pack = packing(to).filter(|_| matches!(source, Source::Image(_)));
    let sums = to.with_file_name(format!(
        "{}.sha256",
        to.file_name().unwrap_or_default().to_string_lossy()
    ));
    if sums.exists() {
        bail!("there is {} already", sums.display());
    }
    let mut file = new_file(to)?;
    let bar = bar(context, if pack.is_some() { 0 } else { whole }, "exporting");
    let mut done = 0;
    let sparse = matches!(source, Source::Image(_)) && pack.is_none();
    let mut hash = digest::Context::new(&digest::SHA256);
    let take = |piece: &[u8]| {
        done += piece.len() as u64;
        bar.set_position(done);
        hash.update(piece);
        if !sparse {
            return file.write_all(piece);
        }
        // Zeros become holes: the file takes no more room than what is in it.
        for part in piece.chunks(HOLE) {
            match part.iter().all(|byte| *byte == 0) {
                true => {
                    file.seek(SeekFrom::Current(part.len() as i64))?;
                }
                false => file.write_all(part)?,
            }
        }
        Ok(())
    };
    let got = match source {
        Source::Image(of) => context.client.image_of(of, pack, take).await,
        Source::Original(name) => context.client.original(name, take).await,
    };
    bar.finish_and_clear();
    let is_whole = match (&got, pack) {
        (Ok(got), None) => *got == whole,
        (Ok(_), Some(_)) => true,
        (Err(_), _) => false,
    };
    if !is_whole {
        std::fs::remove_file(to)?;
        bail!("{name} was not exported: the service stopped sending after {done} bytes");
    }
    if pack.is_none() {
        file.set_len(whole)?;
    }
    file.sync_all()?;
    let sum = hex::encode(hash.finish());
    let file_name = to.file_name().unwrap_or_default().to_string_lossy();
    std::fs::write(&sums, format!("{sum}  {file_name}\n"))?;
    if context.json {
        let told = serde_json::json!({ "file": to, "bytes": done, "raw": whole, "sha256": sum });
        return context.show(&told, |_| {});
    }
    println!("{}  {}", to.display(), text::exact(done));
    println!("SHA-256 {sum}, in {} too", sums.display());
    match source {
        Source::Original(_) => println!("the packed file as it came"),
        Source::Image(Content::Release(_)) => {
            println!("equal to the original in everything but free bytes, which are zero here")
        }
        Source::Image(Content::Backup(_)) => {
            println!("everything that was in use on its card; it holds secrets as the card did")
        }
    }
    Ok(())
}
