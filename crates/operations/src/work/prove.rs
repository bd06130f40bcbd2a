//! A backup is proven: read out of the vault and authenticated, looked through as it would lie on a card, asked for the
//! files that its first boot needs.

use cardwork::Stage;
use imagecraft::compose::{Composed, Recipe, Target, compose};
use imagecraft::grow::Growth;
use imagecraft::inspect::inspect;
use imagecraft::{ByteKind, Disk};
use records::backups::Backup;
use serde_json::{Value, json};
use vault::{Manifest, ManifestDisk};

use crate::backups::is_there;
use crate::benches::Benches;
use crate::jobs::Work;
use crate::refusal::Refusal;
use crate::store::{Store, manifest_name};
use api::words::exact;

/// Bytes that are read at once.
const PIECE: u64 = 1 << 20;

/// How far something was shown.
struct Shown {
    holds: bool,
    words: String,
}

impl Shown {
    fn holds(words: String) -> Self {
        Self { holds: true, words }
    }

    fn fails(words: String) -> Self {
        Self {
            holds: false,
            words,
        }
    }
}

/// Proves a backup up to a level, the lower ones first, and keeps what was shown. The first that does not hold ends it.
///
/// # Errors
/// Of a level that cannot be shown here, a stop on request, records out of reach. That a proof does not hold is none.
pub fn prove_backup(
    work: &Work,
    store: &Store,
    bench: &Benches,
    backup: &Backup,
    level: &str,
) -> Result<Value, Refusal> {
    is_there(backup)?;
    let levels: &[&str] = match level {
        "bytes" => &["bytes"],
        "file-systems" => &["bytes", "file-systems"],
        "files" => &["bytes", "file-systems", "files"],
        "boots" if bench.here().has_boards() => &["bytes", "file-systems", "files", "boots"],
        "boots" => {
            let detail = "whether it boots only a board shows, and there is no stand-in board here; prove its files, or write \
                          it onto a spare card and try that";
            return Err(Refusal::conflict("no-board", detail));
        }
        other => {
            let detail =
                format!("{other:?} cannot be shown here; say bytes, file-systems, files or boots");
            return Err(Refusal::invalid("bad-value", detail));
        }
    };
    // Which files it needs is known only of what was written here; that nobody knows is no failure of the backup.
    let known = backup.imprint_id.is_some();
    let levels = levels.iter().filter(|level| known || **level != "files");
    let name = manifest_name(&backup.manifest)?;
    let mut reached = Vec::new();
    let mut holds = true;
    for level in levels {
        let shown = match Manifest::load(&store.vault, name) {
            Err(e) => Shown::fails(format!("its manifest cannot be read: {e}")),
            Ok(manifest) => match *level {
                "bytes" => bytes(work, &manifest)?,
                "file-systems" => file_systems(work, &manifest, backup)?,
                "boots" => boots(work, bench, &manifest, backup)?,
                _ => files(work, &manifest, backup)?,
            },
        };
        work.record(|| {
            work.records()
                .add_proof(backup.id, level, shown.holds, &shown.words, &work.operator)
        })?;
        reached.push(json!({ "level": level, "holds": shown.holds, "words": shown.words }));
        holds = shown.holds;
        if !holds {
            break;
        }
    }
    Ok(json!({ "backup": backup.name, "holds": holds, "levels": reached }))
}

fn cancelled(work: &Work) -> Result<(), Refusal> {
    match work.progress.is_cancelled() {
        true => Err(Refusal::invalid(
            "cancelled",
            "the proof was stopped on request",
        )),
        false => Ok(()),
    }
}

fn files_in_words(count: usize) -> String {
    match count {
        1 => "one file".into(),
        count => format!("{count} files"),
    }
}

/// Every chunk is read out of the store and authenticated.
fn bytes(work: &Work, manifest: &Manifest) -> Result<Shown, Refusal> {
    let map = match manifest.map() {
        Ok(map) => map,
        Err(e) => return Ok(Shown::fails(format!("a page of its manifest is gone: {e}"))),
    };
    let disk = ManifestDisk::afresh(manifest.clone());
    let total = map.total(ByteKind::Data);
    work.progress.begin(Stage::Inspecting, total);
    for run in map.runs().iter().filter(|run| run.kind == ByteKind::Data) {
        let (mut at, to) = (run.start, run.end);
        while at < to {
            cancelled(work)?;
            let len = PIECE.min(to - at);
            if let Err(e) = disk.read_vec(at, len as usize) {
                return Ok(Shown::fails(format!("byte {at} cannot be read: {e}")));
            }
            work.progress.advance(len);
            at += len;
        }
    }
    Ok(Shown::holds(format!(
        "{total} bytes were read out of the vault and authenticated"
    )))
}

/// It as it would lie on a card of the size of its own; or why it cannot.
fn as_on_a_card(
    work: &Work,
    manifest: &Manifest,
    backup: &Backup,
) -> Result<Result<Composed<ManifestDisk>, Shown>, Refusal> {
    cancelled(work)?;
    work.progress.begin(Stage::Composing, 0);
    let map = manifest.map()?;
    let disk = ManifestDisk::new(manifest.clone());
    let recipe = Recipe {
        growth: Some(Growth::default()),
        go_on: true,
        // As in a usual reader, and in the board that tries it.
        block: Some(imagecraft::SECTOR),
        ..Recipe::default()
    };
    let size = (backup.card_size as u64).max(disk.len());
    let composed = compose(disk, &map, size, &recipe);
    Ok(composed.map_err(|e| Shown::fails(format!("it cannot be put onto a card: {e}"))))
}

/// The stand-in's board of the device's model tries it.
fn boots(
    work: &Work,
    bench: &Benches,
    manifest: &Manifest,
    backup: &Backup,
) -> Result<Shown, Refusal> {
    let device = match &backup.device {
        Some(name) => work.wait(work.records().device(name))?,
        None => {
            let why =
                "which board it is for is not known: say whose it is (duplicarium backup assign)";
            return Ok(Shown::fails(why.into()));
        }
    };
    let composed = match as_on_a_card(work, manifest, backup)? {
        Ok(composed) => composed,
        Err(shown) => return Ok(shown),
    };
    let data: Vec<_> = composed
        .map
        .runs()
        .iter()
        .filter(|run| run.kind == ByteKind::Data)
        .map(|run| (run.start, run.end))
        .collect();
    let total = data.iter().map(|(from, to)| to - from).sum();
    work.progress.begin(Stage::Writing, total);
    let mut stopped = false;
    let mut fill = |put: bench::Put<'_>| {
        for (from, to) in &data {
            let mut at = *from;
            while at < *to {
                if work.progress.is_cancelled() {
                    stopped = true;
                    return Err(std::io::Error::other("stopped"));
                }
                let len = PIECE.min(to - at);
                let bytes = composed.disk.read_vec(at, len as usize);
                put(at, &bytes.map_err(std::io::Error::other)?)?;
                work.progress.advance(len);
                at += len;
            }
        }
        Ok(())
    };
    let tried = bench
        .here()
        .try_boot(&device.board, composed.disk.len(), &mut fill);
    if stopped {
        cancelled(work)?;
    }
    let Some(board) = tried? else {
        return Err(Refusal::conflict(
            "no-board",
            "there is no stand-in board here",
        ));
    };
    let Some(appliance) = &board.appliance else {
        return Ok(Shown::fails(format!(
            "the stand-in board, a {}, did not start it: {} ({})",
            device.board, board.meaning, board.lamp
        )));
    };
    let name = board.host_name.as_deref().unwrap_or("no name");
    let joined = match (&board.joined, &board.not_joined) {
        (Some(network), _) => format!("and joined {network}"),
        (None, Some(why)) => format!("and joined no network: {why}"),
        (None, None) => "and joined no network".into(),
    };
    Ok(Shown::holds(format!(
        "the stand-in board, a {}, ran {appliance} from it as {name}, {joined}",
        device.board
    )))
}

/// It is composed as for a card of the size of its own, journals carried out, and looked through.
fn file_systems(work: &Work, manifest: &Manifest, backup: &Backup) -> Result<Shown, Refusal> {
    let composed = match as_on_a_card(work, manifest, backup)? {
        Ok(composed) => composed,
        Err(shown) => return Ok(shown),
    };
    let size = composed.disk.len();
    let seen = match inspect(&composed.disk) {
        Ok(seen) => seen,
        Err(e) => return Ok(Shown::fails(format!("its table cannot be read: {e}"))),
    };
    let damaged: Vec<_> = seen
        .findings
        .iter()
        .filter(|finding| finding.code == "damaged")
        .map(|finding| finding.text.clone())
        .collect();
    if !damaged.is_empty() {
        return Ok(Shown::fails(damaged.join(" ")));
    }
    Ok(Shown::holds(format!(
        "{} partitions were looked through as they would lie on a card of {}, journals carried out",
        seen.layout.partitions.len(),
        exact(size)
    )))
}

/// The files that were placed on its card for its first boot are there.
fn files(work: &Work, manifest: &Manifest, backup: &Backup) -> Result<Shown, Refusal> {
    cancelled(work)?;
    let imprint = match backup.imprint_id {
        Some(id) => work.wait(work.records().imprint(id))?,
        None => None,
    };
    let Some(imprint) = imprint else {
        return Ok(Shown::fails(
            "which files it needs is not known: no write of ours is recorded for its card".into(),
        ));
    };
    let disk = ManifestDisk::new(manifest.clone());
    let layout = match imagecraft::Layout::survey(&disk) {
        Ok(layout) => layout,
        Err(e) => return Ok(Shown::fails(format!("its table cannot be read: {e}"))),
    };
    let wanted: Vec<api::PlannedFile> =
        serde_json::from_value(imprint.files.clone()).unwrap_or_default();
    let (mut found, mut missing) = (0_usize, Vec::new());
    for file in wanted.iter().filter(|file| file.action != "remove") {
        let target = Target::named(&file.partition);
        let partition = target.find(&disk, &layout);
        let there = partition.is_some_and(|partition| {
            let window = partition.window(&disk).ok();
            let files = window.and_then(|window| imagecraft::fs::open(window).ok().flatten());
            files.is_some_and(|files| matches!(files.find(&file.path), Ok(Some(_))))
        });
        match there {
            true => found += 1,
            false => missing.push(file.path.clone()),
        }
    }
    if missing.is_empty() {
        return Ok(Shown::holds(format!(
            "what was placed on its card is there: {}",
            files_in_words(found)
        )));
    }
    Ok(Shown::fails(format!(
        "these files are not there: {}",
        missing.join(", ")
    )))
}
