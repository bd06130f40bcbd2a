//! A card is compared with its imprint, file by file: what differs is its drift.

use cardwork::{CardDisk, CardError, Stage};
use imagecraft::ByteKind;
use imagecraft::compare::compare;
use serde_json::{Value, json};
use vault::{ManifestDisk, Name};

use super::WorkError;
use crate::jobs::Work;
use crate::views;

/// Files that are named; a card that differs in more is another one.
const NAMED: usize = 500;

/// Which card is compared with what.
pub struct DriftOrder {
    pub slot: u32,
    pub insertion: u64,
    pub card: String,
    pub device: Option<String>,
    pub imprint: i64,
    pub base: String,
    /// Content of the imprint.
    pub manifest: Name,
}

/// Reads the card of the order beside what was written onto it.
pub fn compare_card(work: &Work, order: &DriftOrder) -> Result<Value, WorkError> {
    let app = &work.app;
    let slot = app.bench.slot(order.slot)?.ok_or(CardError::Empty)?;
    let card = slot.open(order.insertion)?;
    let written = ManifestDisk::open(app.vault.clone(), order.manifest)?;
    let total = written.manifest().map().total(ByteKind::Data);
    // Both are read where files are of one length.
    work.progress
        .begin(Stage::Comparing, total.saturating_mul(2));
    let compared = compare(&written, &CardDisk(card.as_ref()), &mut |bytes| {
        work.progress.advance(bytes);
        !work.progress.is_cancelled()
    });
    let (label, number) = (&order.card, order.slot);
    let found = compared
        .map_err(|e| {
            let detail =
                format!("card {label} in slot {number} cannot be compared: {e}; it was only read");
            WorkError::new("compare", detail)
        })?
        .ok_or_else(|| {
            let detail =
                format!("card {label} was not compared; it was only read and is as it was");
            WorkError::new("cancelled", detail)
        })?;
    let drift = api::Drift {
        card: order.card.clone(),
        device: order.device.clone(),
        imprint: order.imprint,
        base: order.base.clone(),
        partitions: views::fact_differences(&found),
        files: views::file_differences(&found, NAMED),
        counts: views::file_counts(&found),
    };
    Ok(json!(drift))
}
