//! A card is read into the vault, and read a second time to be sure.

use std::sync::Arc;

use cardwork::{
    Access, CardDisk, CardError, CardIo, Insertion, Likely, Stage, WriteError, read_again, read_out,
};
use imagecraft::inspect::{Inspection, inspect_kept};
use imagecraft::{ByteKind, CHUNK, Disk, DiskError, Finding, Layout, LayoutError, Map, Severity};
use records::RecordError;
use records::backups::NewBackup;
use records::jobs::Outcome;
use serde_json::{Value, json};
use time::OffsetDateTime;
use time::macros::format_description;
use vault::{Ingest, Manifest, ManifestDisk, Name, Vault};

use crate::benches::Benches;
use crate::benches::Spot;
use crate::jobs::Work;
use crate::note::Note;
use crate::refusal::Refusal;
use crate::shown;
use crate::store::Store;
use api::words::size;

/// Threads that pack and seal.
const PACKERS: usize = 2;

/// What is read from which card.
pub struct BackupOrder {
    /// Where the card is.
    pub at: Spot,
    /// The insertion that was seen.
    pub insertion: Insertion,
    /// Label of the card.
    pub card: String,
    /// The device that it is for.
    pub device: Option<String>,
    /// The imprint that is on it.
    pub imprint: Option<i64>,
    /// Where data behind the last partition ends that the imprint put there.
    pub behind: Option<u64>,
    /// Content that it is likely to be like: what was written onto the card, or the backup before.
    pub like: Option<Name>,
    /// Whether the card is not read a second time.
    pub unverified: bool,
    /// Why it is taken.
    pub reason: String,
}

/// What the vault has of a card: probably what was read or written last, and else whatever is there by its digest.
struct InVault<'a> {
    like: Option<ManifestDisk>,
    vault: &'a Vault,
}

impl Likely for InVault<'_> {
    fn chunk(&self, chunk: u64, len: usize) -> Option<Vec<u8>> {
        self.like.as_ref()?.chunk(chunk, len)
    }

    fn of_digest(&self, digest: &[u8; 32]) -> Option<Vec<u8>> {
        self.vault
            .chunk_of_digest(digest)
            .map(|bytes| bytes.to_vec())
    }
}

/// Reads the card of the order into the vault and records the backup.
pub fn take_backup(
    work: &Work,
    bench: &Benches,
    store: &Store,
    order: &BackupOrder,
) -> Result<Value, Refusal> {
    let slot = bench.slot(order.at.slot)?.ok_or(CardError::Empty)?;
    let card = slot.open(&order.insertion, Access::Hold)?;
    let disk = CardDisk(card.as_ref());
    let unfit = |e: LayoutError| {
        let detail = format!(
            "card {} in slot {} cannot be backed up: {e}",
            order.card, order.at.slot
        );
        Refusal::invalid("no-layout", detail)
    };
    let layout = Layout::read(&disk).map_err(unfit)?;
    let mut map = layout.map(&disk).map_err(|e| unfit(e.into()))?;
    if let Some(end) = order.behind {
        map.set(layout.partitions_end(), end, ByteKind::Data);
    }
    let content = map.total(ByteKind::Data);
    let like = order.like.and_then(|name| {
        // One that cannot be read costs room, and nothing else.
        Manifest::load(&store.vault, name).ok()
    });
    let likely = InVault {
        like: like.clone().map(ManifestDisk::new),
        vault: &store.vault,
    };
    let mut ingest = Ingest::start(work.hold.clone(), PACKERS);
    let mut stopped = false;
    let mut push = |chunk: u64, bytes: &[u8]| {
        // The cause is known where the work stopped, and asked for below.
        ingest.push(chunk, Arc::new(bytes.to_vec())).map_err(|_| {
            stopped = true;
            WriteError::Cancelled
        })
    };
    let read = read_out(card.as_ref(), &map, &likely, &work.progress, &mut push);
    if let Err(error) = read {
        // Where the vault stopped, it knows why.
        if stopped {
            ingest.finish(card.size(), None, None)?;
        } else {
            ingest.abandon();
        }
        return Err(failed(work, error, order));
    }
    let (manifest, growth) = ingest.finish(card.size(), like.as_ref(), None)?;
    let verified = match order.unverified {
        true => String::new(),
        false => {
            compare_with_vault(work, card.as_ref(), &map, &manifest, order)?;
            VERIFIED.into()
        }
    };
    work.progress.begin(Stage::Finishing, 0);

    let name =
        work.record_first(|| name_of_today(work, order.device.as_deref().unwrap_or(&order.card)))?;
    let looked = look(&manifest, &map, &layout, order.behind);
    let new = NewBackup {
        name: name.clone(),
        card: Some(order.card.clone()),
        device: order.device.clone(),
        imprint: order.imprint,
        job: Some(work.job),
        card_size: card.size() as i64,
        content: content as i64,
        smallest_card: looked.smallest as i64,
        whole_card: looked.whole as i64,
        remarks: json!(looked.remarks),
        table_kind: layout.table.name().into(),
        partitions: looked.partitions,
        manifest: manifest.name().0.to_vec(),
        stored: growth.stored as i64,
        verified,
        slot: order.at.slot.typed(),
        insertion: order.insertion.number as i64,
        boot: order.insertion.boot.clone(),
        taken_by: work.operator.clone(),
        reason: order.reason.clone(),
        taken_at: None,
    };
    let text = Note::text("backup", &name, &work.operator, &new, manifest.name());
    vault::note(&work.hold, &text)?;
    let summary = format!(
        "{name} taken of card {}, {} new",
        order.card,
        size(growth.stored)
    );
    let result = json!({
        "backup": name, "card": order.card, "content": content, "stored": growth.stored,
        "verified": !order.unverified, "remarks": new.remarks,
    });
    let ending = work.ending(Outcome::Done(result.clone()));
    work.record(|| work.records().add_backup(&new, &summary, &ending))?;
    Ok(result)
}

/// What a backup says of itself, for the records.
pub struct Looked {
    /// Its partitions with what is in use.
    pub partitions: Value,
    /// Fewest bytes that a card must hold, its last file system shrunk where that can be.
    pub smallest: u64,
    /// Fewest bytes that a card must hold for it as it is.
    pub whole: u64,
    /// What was noteworthy about its file systems.
    pub remarks: Vec<String>,
}

impl Looked {
    /// Of what was found on a disk.
    pub fn of(seen: &Inspection) -> Self {
        Self {
            partitions: json!(shown::filled_partitions(&seen.partitions)),
            smallest: seen.shrunk_card.unwrap_or(seen.smallest_card),
            whole: seen.smallest_card,
            remarks: remarks_of(&seen.findings),
        }
    }
}

/// What is noteworthy about the file systems of a card, a sentence each.
pub fn remarks_of(findings: &[Finding]) -> Vec<String> {
    let about_files = ["unclean", "kept-whole", "damaged"];
    findings
        .iter()
        .filter(|finding| about_files.contains(&finding.code.as_str()))
        // That swap space is kept as it is surprises nobody.
        .filter(|finding| finding.code == "unclean" || finding.severity > Severity::Note)
        .map(|finding| finding.text.clone())
        .collect()
}

/// Looks at what was read, as the vault holds it. What cannot be told is left out: the backup is taken all the same.
fn look(manifest: &Manifest, map: &Map, layout: &Layout, behind: Option<u64>) -> Looked {
    let disk = ManifestDisk::new(manifest.clone());
    match inspect_kept(&disk, map) {
        Ok(seen) => Looked::of(&seen),
        Err(e) => {
            let end = behind.map_or(0, |end| end + layout.backup_len());
            let whole = end.max(layout.smallest_card());
            Looked {
                partitions: json!(shown::partitions(layout)),
                smallest: whole,
                whole,
                remarks: vec![format!("What is on it could not be looked at: {e}.")],
            }
        }
    }
}

/// How a backup was verified that was compared with its card.
const VERIFIED: &str =
    "its card was read a second time and compared with what the vault gives back, every byte";

/// Reads the card a second time and compares it with what the vault gives back, each chunk of it authenticated.
fn compare_with_vault(
    work: &Work,
    card: &dyn CardIo,
    map: &Map,
    manifest: &Manifest,
    order: &BackupOrder,
) -> Result<(), Refusal> {
    let kept = ManifestDisk::afresh(manifest.clone());
    let again = |chunk: u64, bytes: &mut [u8]| {
        let again = kept.read_at(chunk * CHUNK, bytes);
        again.map_err(Compared::Vault)
    };
    match read_again(card, map, &work.progress, again) {
        Ok(()) => Ok(()),
        Err(Compared::Card(error)) => Err(failed(work, error, order)),
        Err(Compared::Vault(e)) => {
            let detail = format!(
                "the vault does not give back what was just stored in it: {e}; no backup of card {} was taken. Look at \
                 the disk that the vault lies on, then at all of it: duplicarium vault inspect",
                order.card
            );
            Err(Refusal::invalid("vault", detail))
        }
    }
}

/// What was in the way of a comparison.
enum Compared {
    Card(WriteError),
    Vault(DiskError),
}

impl From<WriteError> for Compared {
    fn from(error: WriteError) -> Self {
        Self::Card(error)
    }
}

/// Whose it is and the day; a number is added from the second of a day on.
pub async fn name_of_today(work: &Work, whose: &str) -> Result<String, RecordError> {
    let day = format_description!("[year]-[month]-[day]");
    let day = OffsetDateTime::now_utc().format(day).unwrap_or_default();
    let plain = format!("{whose}.{day}");
    let taken = work.records().backups_named_like(&plain).await?;
    let mut names =
        std::iter::once(plain.clone()).chain((2..).map(|number| format!("{plain}.{number}")));
    Ok(names.find(|name| !taken.contains(name)).unwrap_or(plain))
}

/// A card that fails while it is only read is mistrusted as well.
fn failed(work: &Work, error: WriteError, order: &BackupOrder) -> Refusal {
    let error = explain(error, order);
    let what = match error.code {
        "verify-failed" => "gave other bytes the second time",
        "card-failed" => "reported errors",
        _ => return error,
    };
    let why = format!("it {what} while it was read for a backup");
    match work.record(|| work.records().mistrust_card(&order.card, &why)) {
        Ok(()) => error,
        Err(other) => other,
    }
}

fn explain(error: WriteError, order: &BackupOrder) -> Refusal {
    let (card, slot) = (&order.card, order.at.slot);
    let error = Refusal::from(error);
    let detail = match error.code {
        "cancelled" => format!("no backup was taken; card {card} was only read and is as it was"),
        "verify-failed" => {
            format!(
                "card {card} in slot {slot} gave other bytes the second time; no backup was taken. Try another reader, and mistrust the card"
            )
        }
        _ => format!(
            "card {card} in slot {slot}: {}; no backup was taken, the card was only read",
            error.detail
        ),
    };
    Refusal::invalid(error.code, detail)
}
