//! Two releases are read out of the vault and compared file by file.

use std::sync::Arc;

use cardwork::Stage;
use imagecraft::compare::compare;
use records::releases::Release;
use serde_json::{Value, json};

use super::WorkError;
use crate::jobs::Work;

/// Comparisons that are kept; releases do not change, so that each is made once.
const KEPT: usize = 32;

/// Compares the images of two releases and keeps what was found.
pub fn compare_releases(work: &Work, a: &Release, b: &Release) -> Result<Value, WorkError> {
    let app = &work.app;
    let (one, two) = (app.release_disk(a)?, app.release_disk(b)?);
    let total = a.content.saturating_add(b.content) as u64;
    work.progress.begin(Stage::Comparing, total);
    let compared = compare(&one, &two, &mut |bytes| {
        work.progress.advance(bytes);
        !work.progress.is_cancelled()
    });
    let names = format!("{} and {}", a.name, b.name);
    let found = compared
        .map_err(|e| WorkError::new("compare", format!("{names} cannot be compared: {e}")))?
        .ok_or_else(|| WorkError::new("cancelled", format!("{names} were not compared")))?;
    let mut kept = app.comparisons.lock().unwrap_or_else(|e| e.into_inner());
    if kept.len() >= KEPT {
        kept.clear();
    }
    kept.insert((a.id, b.id), Arc::new(found));
    Ok(json!({ "a": a.name, "b": b.name }))
}
