//! A card is compared with its imprint, file by file: what differs is its drift.

use cardwork::{Access, CardDisk, CardError, Insertion, Stage};
use imagecraft::ByteKind;
use imagecraft::compare::compare;
use serde_json::{Value, json};
use vault::Name;

use crate::benches::Benches;
use crate::jobs::Work;
use crate::refusal::Refusal;
use crate::shown;
use crate::store::Store;
use api::SlotName;

/// Files that are named; a card that differs in more is another one.
const NAMED: usize = 500;

/// Which card is compared with what.
pub struct DriftOrder {
    /// Number of the slot.
    pub slot: SlotName,
    /// The insertion that was seen.
    pub insertion: Insertion,
    /// Label of the card.
    pub card: String,
    /// The device that it is for.
    pub device: Option<String>,
    /// The imprint that is on it.
    pub imprint: i64,
    /// Name of the release or backup.
    pub base: String,
    /// Content of the imprint.
    pub manifest: Name,
}

/// Reads the card of the order beside what was written onto it.
pub fn compare_card(
    work: &Work,
    bench: &Benches,
    store: &Store,
    order: &DriftOrder,
) -> Result<Value, Refusal> {
    let slot = bench.slot(order.slot)?.ok_or(CardError::Empty)?;
    let card = slot.open(&order.insertion, Access::Hold)?;
    let written = store.disk(order.manifest)?;
    let total = written.manifest().map()?.total(ByteKind::Data);
    // Both are read where files are of one length.
    work.progress
        .begin(Stage::Comparing, total.saturating_mul(2));
    let compared = compare(
        &written,
        &CardDisk(card.as_ref()),
        &|_, _| false,
        &mut |bytes| {
            work.progress.advance(bytes);
            !work.progress.is_cancelled()
        },
    );
    let (label, number) = (&order.card, order.slot);
    let found = compared
        .map_err(|e| {
            let detail =
                format!("card {label} in slot {number} cannot be compared: {e}; it was only read");
            Refusal::invalid("compare", detail)
        })?
        .ok_or_else(|| {
            let detail =
                format!("card {label} was not compared; it was only read and is as it was");
            Refusal::invalid("cancelled", detail)
        })?;
    let drift = api::Drift {
        card: order.card.clone(),
        device: order.device.clone(),
        imprint: order.imprint,
        base: order.base.clone(),
        partitions: shown::fact_differences(&found),
        files: shown::file_differences(&found, NAMED),
        counts: shown::file_counts(&found),
    };
    Ok(json!(drift))
}
