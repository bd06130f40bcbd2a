//! The records are kept in the vault, sealed, so that vault and key alone bring everything back.

use std::io;
use std::sync::Arc;

use cardwork::Stage;
use imagecraft::CHUNK_LEN;
use records::dump::{DumpError, dump};
use serde_json::{Value, json};
use time::OffsetDateTime;
use vault::Ingest;

use crate::jobs::Work;
use crate::note::Note;
use crate::refusal::Refusal;
use crate::shown::bytes_words;

/// Writes all records into the vault. Their note says what they are: nothing else refers to them.
///
/// # Errors
/// Of the database or the vault.
pub fn keep_records(work: &Work, address: &str) -> Result<Value, Refusal> {
    work.progress.begin(Stage::Saving, 0);
    let mut ingest = Ingest::start(work.hold.clone(), 1);
    let (mut chunk, mut waiting) = (0, Vec::with_capacity(CHUNK_LEN));
    let mut push = |bytes: Vec<u8>| {
        let pushed = ingest.push(chunk, Arc::new(bytes));
        chunk += 1;
        pushed.map_err(io::Error::other)
    };
    let dumped = dump(address, |mut piece| {
        if work.progress.is_cancelled() {
            return Err(io::Error::other("stopped on request"));
        }
        while !piece.is_empty() {
            let (now, later) = piece.split_at(piece.len().min(CHUNK_LEN - waiting.len()));
            waiting.extend(now);
            piece = later;
            if waiting.len() == CHUNK_LEN {
                push(std::mem::replace(
                    &mut waiting,
                    Vec::with_capacity(CHUNK_LEN),
                ))?;
            }
        }
        Ok(())
    });
    let dumped = dumped.and_then(|total| {
        if !waiting.is_empty() {
            push(waiting).map_err(DumpError::Passing)?;
        }
        Ok(total)
    });
    let total = match dumped {
        Ok(total) => total,
        Err(e) => {
            ingest.abandon();
            let code = match work.progress.is_cancelled() {
                true => "cancelled",
                false => "records",
            };
            return Err(Refusal::invalid(
                code,
                format!("the records were not kept: {e}"),
            ));
        }
    };
    work.progress.begin(Stage::Finishing, 0);
    let name = OffsetDateTime::now_utc().date().to_string();
    let note = |manifest| {
        let about = json!({ "bytes": total });
        Note::text("records", &name, &work.operator, &about, manifest)
    };
    let (_, growth) = ingest.finish(total, None, Some(&note))?;
    let words = vec![format!(
        "all records, {}, are in the vault, {} new",
        bytes_words(total),
        bytes_words(growth.stored)
    )];
    let found = json!({ "words": words, "touched": [] });
    work.record(|| {
        work.records()
            .add_vault_look("records", Some(work.job), &found, false)
    })?;
    Ok(found)
}
