//! An image becomes a release: fetched if need be, unpacked, hashed, and what is in use of it
//! stored, in one pass; then looked at, and recorded with where it came from.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use cardwork::Stage;
use imagecraft::container::{ContainerError, Limits, Published, Source};
use imagecraft::inspect::{Inspection, inspect_kept};
use imagecraft::{
    CHUNK, CHUNK_LEN, Disk, DiskError, FileDisk, Finding, Layout, LayoutError, Map, Severity, Spool,
};
use records::backups::NewBackup;
use records::jobs::Outcome;
use records::releases::NewRelease;
use serde_json::{Value, json};
use settings::Sheet;
use vault::{Growth, Ingest, Manifest, ManifestDisk};

use super::backup::{Looked, name_of_today};
use super::fetch::Fetch;
use super::hashing::{FileHash, Hashing};
use crate::jobs::Work;
use crate::note::Note;
use crate::refusal::Refusal;
use crate::shown;
use crate::store::{Store, room};
use crate::uploads::Claim;
use api::words::size;

/// Threads that pack and seal; hashing and unpacking have their own.
const PACKERS: usize = 2;
/// Bytes spooled between two looks at the room that is left.
const ROOM_STEP: u64 = 64 << 20;

/// A file that goes away when this is dropped, with what stands beside it under `.json`.
pub struct TakenFile(pub PathBuf);

impl Drop for TakenFile {
    fn drop(&mut self) {
        for path in [self.0.clone(), self.0.with_extension("json")] {
            match std::fs::remove_file(&path) {
                Err(e) if e.kind() != io::ErrorKind::NotFound => {
                    tracing::warn!("{} stays behind: {e}", path.display());
                }
                _ => {}
            }
        }
    }
}

/// Where the bytes are.
pub enum Place {
    /// An upload, which is gone once it has become a release.
    Taken(Claim),
    /// Somebody else's, to be left as it is.
    Theirs(PathBuf),
    /// To be fetched into the file first.
    Web(Box<Fetch>, TakenFile),
}

/// What a release is called where no sheet says it.
#[derive(Clone, Default)]
pub struct Named {
    /// Appliance.
    pub appliance: String,
    /// Variant.
    pub variant: Option<String>,
    /// Version.
    pub version: String,
    /// Board models; what the image tells, if none.
    pub boards: Vec<String>,
}

/// The checksum that the publisher gives.
pub struct Expected {
    /// As it was published.
    pub published: Published,
}

/// What the configuration allows imports to do.
#[derive(Clone, Copy)]
pub struct Rules {
    /// What an image may unpack to.
    pub limits: Limits,
    /// Whether addresses of the own network may be fetched from.
    pub private_addresses: bool,
}

/// An image to import.
pub struct ImportOrder {
    /// Where the bytes are.
    pub place: Place,
    /// upload, folder, url or feed.
    pub way: &'static str,
    /// File name, path or address.
    pub from: String,
    /// Last part of that, for people and checksum files.
    pub file_name: String,
    /// The sheet and its text.
    pub sheet: Option<(Sheet, String)>,
    /// What it is called without a sheet.
    pub named: Named,
    /// What it must be equal to.
    pub expected: Option<Expected>,
    /// The file of an archive that is the image.
    pub member: Option<String>,
    /// Whether the packed file is kept too.
    pub keep_file: bool,
    /// Whether it becomes a draft in any case.
    pub draft: bool,
    /// Feed and item that it is in.
    pub feed: Option<(String, String)>,
}

/// What came out of taking an image in.
struct TakenIn {
    content: Manifest,
    growth: Growth,
    raw_size: u64,
    raw_sha256: Vec<u8>,
    packed_size: u64,
    packed_sha256: Vec<u8>,
    source: Source,
    /// What was noteworthy about the file.
    notes: Vec<Finding>,
}

/// Imports the image of an order and records the release.
pub fn import(
    work: &Work,
    store: &Store,
    rules: Rules,
    order: &ImportOrder,
) -> Result<Value, Refusal> {
    let path = fetched(work, rules, order)?;
    let taken = take_in(work, store, rules, order, path);
    // An upload stays for another try, unless it is none that could ever do.
    if let (Err(error), Place::Taken(claim)) = (&taken, &order.place)
        && error.code == "not-an-image"
    {
        claim.used_up();
    }
    let taken = taken?;
    work.progress.begin(Stage::Finishing, 0);
    let added = judge_and_record(work, store, order, path, &taken);
    if let (Ok(_), Place::Taken(claim)) = (&added, &order.place) {
        claim.used_up();
    }
    added
}

/// Takes a disk image from elsewhere in as a backup of a device, or of nobody yet.
///
/// # Errors
/// Of what is no disk image, and what the vault or the records say.
pub fn bring_in(
    work: &Work,
    store: &Store,
    rules: Rules,
    order: &ImportOrder,
    device: Option<&str>,
    reason: &str,
) -> Result<Value, Refusal> {
    let path = fetched(work, rules, order)?;
    let taken = take_in(work, store, rules, order, path)?;
    work.progress.begin(Stage::Finishing, 0);
    let disk = ManifestDisk::new(taken.content.clone());
    let seen = inspect_kept(&disk, &taken.content.map()?).map_err(|e| unfit(order, e))?;
    let looked = Looked::of(&seen);
    let name = work.record_first(|| name_of_today(work, device.unwrap_or("image")))?;
    let new = NewBackup {
        name: name.clone(),
        card: None,
        device: device.map(str::to_owned),
        imprint: None,
        job: Some(work.job),
        card_size: taken.raw_size as i64,
        content: seen.map.total(imagecraft::ByteKind::Data) as i64,
        smallest_card: looked.smallest as i64,
        whole_card: looked.whole as i64,
        remarks: json!(looked.remarks),
        table_kind: seen.layout.table.name().into(),
        partitions: looked.partitions,
        manifest: taken.content.name().0.to_vec(),
        stored: taken.growth.stored as i64,
        verified: format!(
            "brought in from {}, SHA-256 of the raw image {}",
            order.file_name,
            hex::encode(&taken.raw_sha256)
        ),
        slot: "0".into(),
        insertion: 0,
        boot: String::new(),
        taken_by: work.operator.clone(),
        reason: reason.to_owned(),
        taken_at: None,
    };
    let text = Note::text("backup", &name, &work.operator, &new, taken.content.name());
    vault::note(&work.hold, &text)?;
    let summary = format!(
        "{name} brought in from {}, {} new",
        order.file_name,
        size(taken.growth.stored)
    );
    let result = json!({ "backup": name, "stored": taken.growth.stored });
    let ending = work.ending(Outcome::Done(result.clone()));
    work.record(|| work.records().add_backup(&new, &summary, &ending))?;
    if let Place::Taken(claim) = &order.place {
        claim.used_up();
    }
    Ok(result)
}

/// Compares what was taken in with what was published, looks at it, and records the release.
fn judge_and_record(
    work: &Work,
    store: &Store,
    order: &ImportOrder,
    path: &Path,
    taken: &TakenIn,
) -> Result<Value, Refusal> {
    let compared = check_published(order, taken)?;
    let disk = ManifestDisk::new(taken.content.clone());
    let kept = taken.content.map()?;
    let mut seen = inspect_kept(&disk, &kept).map_err(|e| unfit(order, e))?;
    seen.findings.extend(taken.notes.iter().cloned());
    seen.findings.extend(checksums_inside(taken));
    record(work, store, order, path, taken, &seen, compared)
}

fn unfit(order: &ImportOrder, why: impl std::fmt::Display) -> Refusal {
    Refusal::invalid("not-an-image", format!("{}: {why}", order.file_name))
}

fn cancelled(order: &ImportOrder) -> Refusal {
    Refusal::invalid("cancelled", format!("{} was not added", order.file_name))
}

/// Fetches what is still at its publisher; gives the file.
fn fetched<'a>(work: &Work, rules: Rules, order: &'a ImportOrder) -> Result<&'a Path, Refusal> {
    match &order.place {
        Place::Taken(claim) => Ok(claim.path()),
        Place::Theirs(path) => Ok(path),
        Place::Web(fetch, file) => {
            let limits = rules.limits;
            let fetching =
                fetch.to_file(&file.0, limits.raw, rules.private_addresses, &work.progress);
            work.wait(fetching)?;
            Ok(&file.0)
        }
    }
}

/// Unpacks, hashes and stores the image in one pass.
fn take_in(
    work: &Work,
    store: &Store,
    rules: Rules,
    order: &ImportOrder,
    path: &Path,
) -> Result<TakenIn, Refusal> {
    let mut file = File::open(path)?;
    let packed_size = file.metadata()?.len();
    let source = Source::open(&mut file, order.member.as_deref()).map_err(|e| unfit(order, e))?;
    let limits = rules.limits;
    if source.raw_len().is_some_and(|len| len > limits.raw) {
        return Err(unfit(order, ContainerError::TooLarge { most: limits.raw }));
    }
    work.progress.begin(Stage::Importing, source.packed_len());
    let hash = Hashing::start();
    // A plain file is the raw image: one hash serves for both.
    let packed_hash = match source.is_plain() {
        true => None,
        false => Some(FileHash::start(path, work.progress.clone())?),
    };
    let mut intake = Intake {
        work,
        order,
        ingest: Ingest::start(work.hold.clone(), PACKERS),
        stopped: false,
        notes: Vec::new(),
    };
    let raw_size = match source.is_plain() {
        true => take_plain(&mut intake, path, &hash),
        false => take_packed(&mut intake, store, file, &source, limits, &hash),
    };
    let raw_size = match raw_size {
        Ok(raw_size) => raw_size,
        Err(error) => {
            if intake.stopped {
                intake.ingest.finish(0, None, None)?;
            } else {
                intake.ingest.abandon();
            }
            return Err(error);
        }
    };
    let notes = std::mem::take(&mut intake.notes);
    let (content, growth) = intake.ingest.finish(raw_size, None, None)?;
    let raw_sha256 = hash.finish()?;
    let packed_sha256 = match packed_hash {
        Some(hash) => hash.finish()?,
        None => raw_sha256.clone(),
    };
    Ok(TakenIn {
        content,
        growth,
        raw_size,
        raw_sha256,
        packed_size,
        packed_sha256,
        source,
        notes,
    })
}

/// Passes chunks on to the vault, free bytes left out.
struct Intake<'a> {
    work: &'a Work,
    order: &'a ImportOrder,
    ingest: Ingest,
    /// Whether the vault took no more; it knows why.
    stopped: bool,
    /// What was noteworthy about the file.
    notes: Vec<Finding>,
}

impl Intake<'_> {
    /// Takes the chunk whose first byte is at `start`.
    fn take(&mut self, map: &Map, start: u64, bytes: Arc<Vec<u8>>) -> Result<(), Refusal> {
        let end = start + bytes.len() as u64;
        if bytes.is_empty() || map.is_free(start, end) {
            return Ok(());
        }
        let bytes = if map.has_free(start, end) {
            let mut cleared = bytes.to_vec();
            map.clear_free(start, &mut cleared);
            Arc::new(cleared)
        } else {
            bytes
        };
        self.ingest.push(start / CHUNK, bytes).map_err(|e| {
            self.stopped = true;
            e.into()
        })
    }

    fn keep_going(&self) -> Result<(), Refusal> {
        match self.work.progress.is_cancelled() {
            true => Err(cancelled(self.order)),
            false => Ok(()),
        }
    }
}

/// A plain image can be looked at as a whole before it is read.
fn take_plain(intake: &mut Intake<'_>, path: &Path, hash: &Hashing) -> Result<u64, Refusal> {
    let disk = FileDisk::open(path).map_err(|e| unfit(intake.order, e))?;
    let map = whole_map(&disk).map_err(|e| unfit(intake.order, e))?;
    let mut start = 0;
    while start < disk.len() {
        intake.keep_going()?;
        let len = CHUNK.min(disk.len() - start);
        let bytes = disk.read_vec(start, len as usize);
        let bytes = Arc::new(bytes.map_err(|e| unfit(intake.order, e))?);
        hash.update(bytes.clone())?;
        intake.take(&map, start, bytes)?;
        intake.work.progress.advance(len);
        start += len;
    }
    Ok(disk.len())
}

/// What is in use up to the end of the last partition. What lies behind that in an image is taken
/// as it is: only its publisher knows what it is for.
fn whole_map<D: Disk>(disk: &D) -> Result<Map, LayoutError> {
    let layout = Layout::survey(disk)?;
    let end = layout.partitions_end().min(disk.len());
    Ok(layout.map(disk)?.resized(end))
}

/// A packed image comes in order. Until enough of it is there to know what is in use, it waits in
/// a sparse file; from then on it goes straight to the vault.
fn take_packed(
    intake: &mut Intake<'_>,
    store: &Store,
    file: File,
    source: &Source,
    limits: Limits,
    hash: &Hashing,
) -> Result<u64, Refusal> {
    let (work, order) = (intake.work, intake.order);
    let scratch = store.uploads.join(format!("spool-{}", work.job));
    room(&scratch, source.packed_len())?;
    let mut spool = Spool::new(unnamed(&scratch)?, source.raw_len());
    let mut unpacker = source.unpack(file, limits).map_err(|e| unfit(order, e))?;
    let mut map: Option<Map> = None;
    // How much must have arrived for the next look to be worth it.
    let mut next_look = CHUNK;
    let (mut start, mut seen, mut next_room) = (0, 0, ROOM_STEP);
    loop {
        intake.keep_going()?;
        let mut bytes = vec![0; CHUNK_LEN];
        let filled = unpacker.fill(&mut bytes).map_err(|e| unfit(order, e))?;
        bytes.truncate(filled);
        let bytes = Arc::new(bytes);
        hash.update(bytes.clone())?;
        match &map {
            Some(map) => intake.take(map, start, bytes)?,
            None => {
                spool.push(&bytes)?;
                if spool.written() >= next_room {
                    room(&scratch, ROOM_STEP)?;
                    next_room += ROOM_STEP;
                }
                if spool.arrived() >= next_look {
                    match Layout::early_map(&spool) {
                        Ok(found) => {
                            drain(intake, &spool, &found)?;
                            map = Some(found);
                        }
                        Err(LayoutError::Disk(DiskError::NotYet { needed })) => next_look = needed,
                        // The whole of it will tell, or be refused.
                        Err(_) => next_look = u64::MAX,
                    }
                }
            }
        }
        start += filled as u64;
        work.progress.advance(unpacker.packed() - seen);
        seen = unpacker.packed();
        if filled < CHUNK_LEN {
            break;
        }
    }
    if unpacker.padding() > 0 {
        intake.notes.push(Finding::note(
            "padding",
            format!(
                "The file ends with {} zero bytes behind its packed data, as if it had been copied off a device; they were left out.",
                unpacker.padding()
            ),
        ));
    }
    if map.is_none() {
        spool.finish()?;
        let found = whole_map(&spool).map_err(|e| unfit(order, e))?;
        drain(intake, &spool, &found)?;
    }
    Ok(start)
}

/// A new file without a name, which goes away by itself.
fn unnamed(path: &Path) -> io::Result<File> {
    let file = File::options()
        .read(true)
        .write(true)
        .create_new(true)
        .open(path)?;
    std::fs::remove_file(path)?;
    Ok(file)
}

/// Takes everything that has arrived in the spool.
fn drain(intake: &mut Intake<'_>, spool: &Spool, map: &Map) -> Result<(), Refusal> {
    let mut start = 0;
    while start < spool.arrived() {
        intake.keep_going()?;
        let end = spool.arrived().min(start + CHUNK);
        if !map.is_free(start, end) {
            let bytes = spool.read_vec(start, (end - start) as usize);
            let bytes = bytes.map_err(|e| unfit(intake.order, e))?;
            intake.take(map, start, Arc::new(bytes))?;
        }
        start = end;
    }
    Ok(())
}

/// Compares the digests with the published one; gives that one and what it was equal to.
fn check_published(
    order: &ImportOrder,
    taken: &TakenIn,
) -> Result<Option<(String, &'static str)>, Refusal> {
    let Some(expected) = &order.expected else {
        return Ok(None);
    };
    let member = taken.source.member().map(|member| member.name.as_str());
    let stem = order
        .file_name
        .rsplit_once('.')
        .map_or("", |(stem, _)| stem);
    let names = [order.file_name.as_str(), member.unwrap_or(""), stem];
    let digest = expected.published.digest_for(&names).map_err(|e| {
        Refusal::invalid(
            "checksum",
            format!(
                "{}: the published checksum cannot be used: {e}",
                order.file_name
            ),
        )
    })?;
    let (packed, raw) = (
        hex::encode(&taken.packed_sha256),
        hex::encode(&taken.raw_sha256),
    );
    if digest == packed {
        return Ok(Some((digest.into(), "packed")));
    }
    if digest == raw {
        return Ok(Some((digest.into(), "raw")));
    }
    Err(Refusal::invalid(
        "checksum",
        format!(
            "{} is not what was published: the published SHA-256 is {digest}, the file has {packed} and the raw image {raw}. \
             Fetch it again, and ask the publisher if it stays so; nothing was added",
            order.file_name
        ),
    ))
}

/// What checksum files in the archive say of the image, where that is something else.
fn checksums_inside(taken: &TakenIn) -> Vec<Finding> {
    let name = taken
        .source
        .member()
        .map_or("", |member| member.name.as_str());
    let last = name.rsplit('/').next().unwrap_or(name);
    let raw = hex::encode(&taken.raw_sha256);
    let wrong = taken.source.checksums().iter().filter_map(|(file, text)| {
        let published = Published::parse(text).ok()?;
        let stem = last.rsplit_once('.').map_or(last, |(stem, _)| stem);
        let digest = published.digest_for(&[name, last, stem]).ok()?;
        (digest != raw).then(|| {
            Finding::caution(
                "checksum-inside",
                format!(
                    "{file} in the archive names another SHA-256 for {last} ({digest}) than it has ({raw}). Ask the publisher which is right."
                ),
            )
        })
    });
    wrong.collect()
}

/// Records the release.
fn record(
    work: &Work,
    store: &Store,
    order: &ImportOrder,
    path: &Path,
    taken: &TakenIn,
    seen: &Inspection,
    compared: Option<(String, &'static str)>,
) -> Result<Value, Refusal> {
    let (sheet, sheet_text) = match &order.sheet {
        Some((sheet, text)) => (sheet.clone(), text.clone()),
        None => work.wait(minimal_sheet(work, order, seen))?,
    };
    let serious = seen
        .findings
        .iter()
        .any(|finding| finding.severity == Severity::Serious);
    let draft = order.draft || order.sheet.is_none() || serious;
    let same_as = work.record_first(|| work.records().releases_with_content(&taken.raw_sha256))?;
    if order.keep_file {
        keep(store, order, path, &taken.packed_sha256)?;
    }
    let origin = api::Origin {
        way: order.way.into(),
        from: order.from.clone(),
        member: taken.source.member().map(|member| member.name.clone()),
        published_sha256: compared.as_ref().map(|(digest, _)| digest.clone()),
        compared_with: compared.map(|(_, what)| what.into()),
        same_as: same_as.clone(),
    };
    let release = NewRelease {
        name: sheet.name(),
        appliance: sheet.appliance.clone(),
        variant: sheet.variant.clone(),
        version: sheet.version.clone(),
        dated: sheet.date.clone(),
        boards: sheet.boards.clone(),
        state: if draft { "draft" } else { "released" }.into(),
        sheet: sheet_text,
        source: order.file_name.clone(),
        packing: taken.source.packing(),
        packed_size: taken.packed_size as i64,
        packed_sha256: taken.packed_sha256.clone(),
        raw_size: taken.raw_size as i64,
        raw_sha256: taken.raw_sha256.clone(),
        smallest_card: seen.smallest_card.max(declared_card(&sheet)) as i64,
        computed_card: seen.smallest_card as i64,
        shrunk_card: seen.shrunk_card.map(|bytes| bytes as i64),
        content: seen.content() as i64,
        table_kind: seen.layout.table.name().into(),
        disk_id: seen.layout.disk_id.clone(),
        partitions: json!(shown::filled_partitions(&seen.partitions)),
        inspection: json!(shown::inspection(seen)),
        origin: json!(origin),
        kept: order.keep_file,
        manifest: taken.content.name().0.to_vec(),
        stored: taken.growth.stored as i64,
        added_by: work.operator.clone(),
    };
    let mut summary = format!(
        "{} added from {} ({} of {} in use, {} new)",
        release.name,
        order.from,
        size(release.content as u64),
        size(taken.raw_size),
        size(taken.growth.stored)
    );
    if let Some(other) = same_as.first() {
        summary.push_str(&format!("; its content is that of {other}"));
    }
    let result = json!({ "release": release.name, "state": release.state, "same_as": same_as });
    let text = Note::text(
        "release",
        &release.name,
        &work.operator,
        &release,
        taken.content.name(),
    );
    vault::note(&work.hold, &text)?;
    let ending = work.ending(Outcome::Done(result.clone()));
    work.record(|| {
        work.records()
            .add_release(&release, order.feed.as_ref(), &summary, &ending)
    })?;
    Ok(result)
}

/// The smallest card that a sheet names, in bytes; 0 if it names none.
pub fn declared_card(sheet: &Sheet) -> u64 {
    sheet.card.smallest_gb.map_or(0, |gb| (gb * 1e9) as u64)
}

/// A sheet made of what was found, for boards whose processor runs what is in the image.
async fn minimal_sheet(
    work: &Work,
    order: &ImportOrder,
    seen: &Inspection,
) -> Result<(Sheet, String), Refusal> {
    let named = &order.named;
    let mut boards = named.boards.clone();
    if boards.is_empty() {
        let known = work.records().boards().await?;
        boards = known
            .into_iter()
            .filter(|board| {
                let runs = |image: &String| imagecraft::runs(&board.architecture, image);
                seen.architectures.is_empty() || seen.architectures.iter().any(runs)
            })
            .map(|board| board.name)
            .collect();
    }
    if boards.is_empty() {
        return Err(Refusal::invalid(
            "no-board",
            format!(
                "{} is for {}, and no board model that is known here runs that; add the board model first, or give the image a sheet",
                order.file_name,
                seen.architectures.join(", ")
            ),
        ));
    }
    let notes = match seen.architectures.is_empty() {
        true => "Added without a release sheet; nothing in the image tells which boards it is for."
            .to_owned(),
        false => format!(
            "Added without a release sheet; boards by the architecture found in it: {}.",
            seen.architectures.join(", ")
        ),
    };
    let text = Sheet::minimal(
        &named.appliance,
        named.variant.as_deref(),
        &named.version,
        &boards,
        &notes,
    );
    let sheet = Sheet::parse(&text).map_err(|e| {
        Refusal::invalid(
            "bad-sheet",
            format!("no sheet can be made for {}: {e}", order.file_name),
        )
    })?;
    Ok((sheet, text))
}

/// Keeps the packed file beside the vault, named by its digest.
fn keep(store: &Store, order: &ImportOrder, path: &Path, sha256: &[u8]) -> Result<(), Refusal> {
    let to = store.originals.join(hex::encode(sha256));
    if to.exists() {
        return Ok(());
    }
    match &order.place {
        // An upload stays until the release is recorded.
        Place::Theirs(_) | Place::Taken(_) => {
            room(&to, path.metadata()?.len())?;
            let part = to.with_extension("part");
            std::fs::copy(path, &part)?;
            std::fs::rename(&part, &to)?;
        }
        Place::Web(..) => std::fs::rename(path, &to)?,
    }
    File::open(&to)?.sync_all()?;
    // The name must survive a power cut as well as the bytes.
    File::open(&store.originals)?.sync_all()?;
    Ok(())
}
