//! Two releases are read out of the vault and compared file by file.

use cardwork::Stage;
use imagecraft::compare::compare;
use records::releases::Release;
use serde_json::{Value, json};

use crate::catalogue::Catalogue;
use crate::jobs::Work;
use crate::refusal::Refusal;

/// Compares the images of two releases and keeps what was found.
pub fn compare_releases(
    work: &Work,
    catalogue: &Catalogue,
    a: &Release,
    b: &Release,
) -> Result<Value, Refusal> {
    let (one, two) = (catalogue.disk(a)?, catalogue.disk(b)?);
    let total = a.content.saturating_add(b.content) as u64;
    work.progress.begin(Stage::Comparing, total);
    // What lies in equal chunks is equal without a look at it.
    let alike = |at, len| one.manifest().holds_alike(two.manifest(), at, len);
    let compared = compare(&one, &two, &alike, &mut |bytes| {
        work.progress.advance(bytes);
        !work.progress.is_cancelled()
    });
    let names = format!("{} and {}", a.name, b.name);
    let found = compared
        .map_err(|e| Refusal::invalid("compare", format!("{names} cannot be compared: {e}")))?
        .ok_or_else(|| Refusal::invalid("cancelled", format!("{names} were not compared")))?;
    catalogue.keep_comparison(a, b, found);
    Ok(json!({ "a": a.name, "b": b.name }))
}
