//! What came of a round, for a spreadsheet.

use crate::refusal::Refusal;

/// A line of comma-separated values for each card of a round.
///
/// # Errors
/// Where a line cannot be put together, which is a defect.
pub fn report(detail: &api::RoundDetail) -> Result<String, Refusal> {
    let mut out = csv::Writer::from_writer(Vec::new());
    let internal = |e: csv::Error| Refusal::invalid("report", e.to_string());
    out.write_record([
        "place", "device", "base", "state", "card", "slot", "seconds", "bytes", "attempts", "job",
        "why",
    ])
    .map_err(internal)?;
    for entry in &detail.entries {
        let number = |value: Option<u64>| value.map_or(String::new(), |value| value.to_string());
        out.write_record([
            entry.place.to_string(),
            entry.device.clone().unwrap_or_default(),
            entry.base.clone(),
            entry.state.clone(),
            entry.card.clone().unwrap_or_default(),
            entry.slot.map(|slot| slot.typed()).unwrap_or_default(),
            entry
                .seconds
                .map_or(String::new(), |seconds| format!("{seconds:.1}")),
            number(entry.written),
            entry.attempts.to_string(),
            number(entry.job.map(|job| job as u64)),
            entry.why.clone().unwrap_or_default(),
        ])
        .map_err(internal)?;
    }
    let bytes = out
        .into_inner()
        .map_err(|e| Refusal::invalid("report", e.to_string()))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}
