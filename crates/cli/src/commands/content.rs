//! What is inside a release, a backup or the card in a slot: its files, what two differ in, and the image itself.

use std::fs::File;
use std::io::{IsTerminal as _, Seek as _, SeekFrom, Write};
use std::path::{Path, PathBuf};

use anyhow::{Context as _, bail};
use api::{ClientError, Comparison, Content, Difference, FileComparison};
use indicatif::{ProgressBar, ProgressStyle};
use ring::digest;

use crate::follow::follow;
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
    /// The files below a folder of a partition, as a tar archive.
    Archive(Content<'a>, u32, &'a str),
    /// The raw image of a backup without the secrets and keys of its device.
    Shared(&'a str),
}

/// How a file is packed, by the end of its name.
fn packing(to: &Path) -> Option<&'static str> {
    let ending = to.extension()?.to_str()?;
    ["gz", "xz", "zst", "zip"]
        .into_iter()
        .find(|known| ending.eq_ignore_ascii_case(known))
}

/// Where the digest of a file is put.
fn sums_of(to: &Path) -> PathBuf {
    let name = to.file_name().unwrap_or_default().to_string_lossy();
    to.with_file_name(format!("{name}.sha256"))
}

/// Zeros of this length become a hole.
const HOLE: usize = 64 << 10;

/// Gives the bytes of a source to `take`; answers how many there were.
async fn ask(
    context: &Context,
    source: Source<'_>,
    pack: Option<&str>,
    take: impl FnMut(&[u8]) -> std::io::Result<()>,
) -> Result<u64, ClientError> {
    let client = &context.client;
    match source {
        Source::Image(of) => client.image_of(of, pack, take).await,
        Source::Original(name) => client.original(name, take).await,
        Source::Archive(of, partition, path) => {
            client.archive_of(of, partition, path, pack, take).await
        }
        Source::Shared(name) => client.shared_image(name, pack, take).await,
    }
}

/// Puts an image of `whole` bytes into a file: what is zero becomes holes, and its SHA-256 goes into a file beside it
/// that `sha256sum --check` reads.
async fn put(
    context: &Context,
    source: Source<'_>,
    name: &str,
    whole: u64,
    to: &Path,
) -> anyhow::Result<Exported> {
    let pack = packing(to).filter(|_| !matches!(source, Source::Original(_)));
    let plain = pack.is_none() && !matches!(source, Source::Archive(..));
    let sums = sums_of(to);
    if sums.exists() {
        bail!("there is {} already", sums.display());
    }
    let mut file = new_file(to)?;
    let bar = bar(context, if plain { whole } else { 0 }, "exporting");
    let mut done = 0;
    let sparse = plain && !matches!(source, Source::Original(_));
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
    let got = ask(context, source, pack, take).await;
    bar.finish_and_clear();
    let is_whole = match &got {
        Ok(got) => !plain || *got == whole,
        Err(_) => false,
    };
    if !is_whole {
        std::fs::remove_file(to)?;
        // Before the first byte the service says why. What it met after that it knows now: asked again, it says so.
        let why = match got {
            Err(e @ ClientError::Refused(_)) => Some(e),
            _ => {
                let stop = |_: &[u8]| Err(std::io::Error::other("asked for the reason alone"));
                let again = ask(context, source, pack, stop).await;
                again.err().filter(|e| matches!(e, ClientError::Refused(_)))
            }
        };
        if let Some(why) = why {
            return Err(anyhow::Error::from(why).context(format!("{name} was not exported")));
        }
        bail!(
            "{name} was not exported: the service stopped sending after {done} bytes; its log says why"
        );
    }
    if plain {
        file.set_len(whole)?;
    }
    file.sync_all()?;
    let sum = hex::encode(hash.finish());
    let file_name = to.file_name().unwrap_or_default().to_string_lossy();
    std::fs::write(&sums, format!("{sum}  {file_name}\n"))?;
    Ok(Exported {
        file: to.to_owned(),
        bytes: done,
        raw: whole,
        sha256: sum,
    })
}

/// What was put into a file.
#[derive(serde::Serialize)]
struct Exported {
    file: PathBuf,
    bytes: u64,
    raw: u64,
    sha256: String,
}

/// Puts an image into a file and says what it is.
pub async fn export(
    context: &Context,
    source: Source<'_>,
    name: &str,
    whole: u64,
    to: &Path,
) -> anyhow::Result<()> {
    let done = put(context, source, name, whole, to).await?;
    if context.json {
        return context.show(&done, |_| {});
    }
    println!("{}  {}", to.display(), text::exact(done.bytes));
    println!("SHA-256 {}, in {} too", done.sha256, sums_of(to).display());
    match source {
        Source::Original(_) => println!("the packed file as it came"),
        Source::Image(Content::Release(_)) => {
            println!("equal to the original in everything but free bytes, which are zero here")
        }
        Source::Image(_) => {
            println!("everything that was in use on its card; it holds secrets as the card did")
        }
        Source::Archive(..) => println!(
            "files with owners, modes, times and extended attributes; devices, pipes and sockets are left out"
        ),
        Source::Shared(_) => {
            println!("without what is listed above; look at it before you hand it on")
        }
    }
    Ok(())
}

/// Puts the files below a folder into a tar archive.
pub async fn archive(
    context: &Context,
    of: Content<'_>,
    name: &str,
    at: &str,
    to: &Path,
) -> anyhow::Result<()> {
    let (partition, path) = place(at)?;
    export(context, Source::Archive(of, partition, path), name, 0, to).await
}

/// Takes the secrets and keys of its device out of a backup, and says what that comes to.
pub async fn share(context: &Context, backup: &str, whole: u64, to: &Path) -> anyhow::Result<()> {
    let shared = context.client.sharing(backup).await?;
    if context.json {
        let told = put(context, Source::Shared(backup), backup, whole, to).await?;
        let told = serde_json::json!({ "sharing": shared, "exported": told });
        return context.show(&told, |_| {});
    }
    for one in &shared.removed {
        println!("{}:{}  {}", one.partition, one.path, one.why);
    }
    for words in &shared.unknown {
        println!("NOT KNOWN: {words}");
    }
    export(context, Source::Shared(backup), backup, whole, to).await
}

/// What two releases or backups differ in; with a place, one file of both, line by line.
pub async fn compare(context: &Context, a: &str, b: &str, at: Option<&str>) -> anyhow::Result<()> {
    let client = &context.client;
    if let Some(at) = at {
        let (partition, path) = place(at)?;
        let found = client.compared_file(a, b, partition, path).await?;
        return context.show(&found, show_lines);
    }
    let mut found = client.comparison(a, b).await?;
    if found.is_none() {
        follow(context, &client.start_comparison(a, b).await?).await?;
        found = client.comparison(a, b).await?;
    }
    let found = found.context("the comparison is gone again; ask once more")?;
    context.show(&found, compared)
}

/// Lines that both have stand without a mark; of long runs of them only those beside a change.
fn show_lines(found: &FileComparison) {
    const BESIDE: usize = 2;
    println!("- {}", found.a);
    println!("+ {}", found.b);
    if let Some(why) = &found.why_not {
        println!("{}:{}: {why}", found.partition, found.path);
    }
    let changed: Vec<bool> = found.lines.iter().map(|one| one.change != "same").collect();
    let mut skipped = false;
    for (at, line) in found.lines.iter().enumerate() {
        let near = at.saturating_sub(BESIDE)..changed.len().min(at + BESIDE + 1);
        if !changed[near].contains(&true) {
            skipped = true;
            continue;
        }
        if std::mem::take(&mut skipped) {
            println!("    ...");
        }
        let mark = match line.change.as_str() {
            "added" => '+',
            "removed" => '-',
            _ => ' ',
        };
        let text = String::from_utf8_lossy(&without_steering(line.text.as_bytes())).into_owned();
        println!("{mark} {text}");
    }
    if !changed.contains(&true) && found.why_not.is_none() {
        println!("the same in both");
    }
}

/// The versions of a file in the backups of a device; that of a file at hand is marked.
pub async fn versions(
    context: &Context,
    device: &str,
    at: &str,
    like: Option<&Path>,
) -> anyhow::Result<()> {
    let (partition, path) = place(at)?;
    let wanted = match like {
        Some(like) => {
            let bytes =
                std::fs::read(like).with_context(|| format!("cannot read {}", like.display()))?;
            Some(hex::encode(digest::digest(&digest::SHA256, &bytes)))
        }
        None => None,
    };
    // A few backups at a time, because each is read; what several have in common is one version.
    let (mut found, mut after): (Vec<api::FileVersion>, Option<String>) = (Vec::new(), None);
    loop {
        let page = context
            .client
            .versions(device, partition, path, after.as_deref())
            .await?;
        for version in page.versions {
            match found.iter_mut().find(|one| one.sha256 == version.sha256) {
                Some(one) => one.backups.extend(version.backups),
                None => found.push(version),
            }
        }
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    if found.is_empty() {
        anyhow::bail!("no backup of {device} has {path} on partition {partition}");
    }
    context.show(&found, |found| {
        let rows = found.iter().map(|one| {
            let mark = match &wanted {
                Some(wanted) if *wanted == one.sha256 => "yours",
                _ => "",
            };
            let held: Vec<&str> = one
                .backups
                .iter()
                .map(|held| held.backup.as_str())
                .collect();
            [
                one.sha256.chars().take(12).collect(),
                text::size(one.len),
                one.modified.map_or_else(|| "-".into(), text::moment),
                mark.to_owned(),
                held.join(", "),
            ]
        });
        text::table(["version", "length", "changed", "", "in"], &[1], rows);
        if let Some(wanted) = &wanted
            && !found.iter().any(|one| one.sha256 == *wanted)
        {
            println!("none of them is yours ({wanted:.12})");
        }
    })
}

/// What two contents differ in: disk, sheets, files.
fn compared(comparison: &Comparison) {
    println!("from {} to {}", comparison.a, comparison.b);
    let differences = |title: &str, list: &[Difference]| {
        if list.is_empty() {
            println!("\n{title}: the same");
            return;
        }
        println!("\n{title}:");
        for one in list {
            let short = |value: &Option<String>| {
                let value = value.as_deref().unwrap_or("-");
                let first = value.trim().lines().next().unwrap_or("").to_owned();
                if first.len() < value.trim().len() {
                    format!("{first} …")
                } else {
                    first
                }
            };
            println!(
                "  {:<34} {}  ->  {}",
                one.what,
                short(&one.a),
                short(&one.b)
            );
        }
    };
    differences("disk", &comparison.partitions);
    differences("sheet", &comparison.sheet);
    let counts = comparison.counts;
    println!(
        "\nfiles: {} new, {} gone, {} changed, {} the same",
        counts.new, counts.gone, counts.changed, counts.same
    );
    let rows = comparison.files.iter().map(|file| {
        let len = |len: Option<u64>| len.map_or("-".into(), text::size);
        [
            format!("  {}", file.change),
            match file.expected {
                true => format!("{}:{} (on each card another)", file.partition, file.path),
                false => format!("{}:{}", file.partition, file.path),
            },
            len(file.a_len),
            len(file.b_len),
        ]
    });
    if !comparison.files.is_empty() {
        text::table(["  change", "file", "was", "is"], &[2, 3], rows);
    }
}
