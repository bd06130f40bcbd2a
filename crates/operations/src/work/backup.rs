//! A card is read into the vault, and read a second time to be sure.

use std::sync::Arc;

use bench::Bench;
use cardwork::{Access, CardDisk, CardError, Insertion, Stage, WriteError, read_again, read_out};
use imagecraft::{ByteKind, CHUNK, Layout, LayoutError};
use records::RecordError;
use records::backups::NewBackup;
use records::jobs::{At, Outcome};
use serde_json::{Value, json};
use time::OffsetDateTime;
use time::macros::format_description;
use vault::Ingest;

use crate::jobs::Work;
use crate::refusal::Refusal;
use crate::shown;
use crate::store::Store;

/// Threads that pack and seal.
const PACKERS: usize = 2;

/// What is read from which card.
pub struct BackupOrder {
    /// Where the card is.
    pub at: At,
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
}

/// Reads the card of the order into the vault and records the backup.
pub fn take_backup(
    work: &Work,
    bench: &Bench,
    store: &Store,
    order: &BackupOrder,
) -> Result<Value, Refusal> {
    let slot = bench.slot(order.at.slot as u32)?.ok_or(CardError::Empty)?;
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
    let mut ingest = Ingest::start(store.vault.clone(), PACKERS);
    let mut stopped = false;
    let read = read_out::<WriteError>(card.as_ref(), &map, &work.progress, |chunk, bytes| {
        // The cause is known where the work stopped, and asked for below.
        let mut bytes = bytes.to_vec();
        map.clear_free(chunk * CHUNK, &mut bytes);
        ingest.push(chunk, Arc::new(bytes)).map_err(|_| {
            stopped = true;
            WriteError::Cancelled
        })
    });
    let digests = match read {
        Ok(digests) => digests,
        Err(error) => {
            // Where the vault stopped, it knows why.
            if stopped {
                work.stored(ingest.finish(card.size()))?;
            } else {
                work.left_behind(ingest.abandon());
            }
            return Err(failed(work, error, order));
        }
    };
    let (manifest, _, growth) = work.stored(ingest.finish(card.size()))?;
    if let Err(error) = read_again(card.as_ref(), &map, &digests, &work.progress) {
        work.left_behind(growth.segments);
        return Err(failed(work, error, order));
    }
    work.progress.begin(Stage::Finishing, 0);

    let content = map.total(ByteKind::Data);
    let name = work.record_first(|| backup_name(work, order))?;
    let new = NewBackup {
        name: name.clone(),
        card: order.card.clone(),
        device: order.device.clone(),
        imprint: order.imprint,
        job: work.job,
        card_size: card.size() as i64,
        content: content as i64,
        smallest_card: order
            .behind
            .map_or(0, |end| end + layout.backup_len())
            .max(layout.smallest_card()) as i64,
        table_kind: layout.table.name().into(),
        partitions: json!(shown::partitions(&layout)),
        manifest: manifest.0.to_vec(),
        stored: growth.stored as i64,
        verified: "read a second time and compared, every byte".into(),
        slot: order.at.slot,
        insertion: order.insertion.number as i64,
        boot: order.insertion.boot.clone(),
        taken_by: work.operator.clone(),
    };
    let summary = format!(
        "{name} taken of card {}, {} bytes new",
        order.card, growth.stored
    );
    let result =
        json!({ "backup": name, "card": order.card, "content": content, "stored": growth.stored });
    let ending = work.ending(Outcome::Done(result.clone()));
    let added = work.record(|| work.records().add_backup(&new, &summary, &ending));
    if let Err(error) = added {
        work.left_behind(growth.segments);
        return Err(error);
    }
    Ok(result)
}

/// Whose it is and the day; a number is added from the second of a day on.
async fn backup_name(work: &Work, order: &BackupOrder) -> Result<String, RecordError> {
    let day = format_description!("[year]-[month]-[day]");
    let day = OffsetDateTime::now_utc().format(day).unwrap_or_default();
    let plain = format!("{}.{day}", order.device.as_deref().unwrap_or(&order.card));
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
