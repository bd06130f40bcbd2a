//! The records are kept in the vault, sealed, so that vault and key alone bring everything back.

use std::io;
use std::sync::Arc;

use cardwork::Stage;
use imagecraft::CHUNK_LEN;
use records::dump::{DumpError, dump};
use records::history::Head;
use serde_json::{Value, json};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use vault::{Hold, Ingest};

use crate::jobs::Work;
use crate::note::Note;
use crate::refusal::Refusal;
use api::words::exact;

/// What came of writing the records into the vault.
pub struct Kept {
    /// Bytes of the records.
    pub total: u64,
    /// Bytes that were new in the vault.
    pub stored: u64,
}

/// Writes all records of a database into the vault, which `hold` works on; the note, which says what they are, has
/// this name, the number of the copy and where the history ended before. `go_on` is asked meanwhile.
///
/// # Errors
/// Of the database or the vault; the code `cancelled` where it is not to go on.
pub fn write_out(
    hold: &Arc<Hold>,
    address: &str,
    name: &str,
    copy: Option<i64>,
    end: Option<&Head>,
    by: &str,
    go_on: &dyn Fn() -> bool,
) -> Result<Kept, Refusal> {
    let mut ingest = Ingest::start(hold.clone(), 1);
    let (mut chunk, mut waiting) = (0, Vec::with_capacity(CHUNK_LEN));
    let mut push = |bytes: Vec<u8>| {
        let pushed = ingest.push(chunk, Arc::new(bytes));
        chunk += 1;
        pushed.map_err(io::Error::other)
    };
    let dumped = dump(address, |mut piece| {
        if !go_on() {
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
            let code = if go_on() { "records" } else { "cancelled" };
            return Err(Refusal::invalid(
                code,
                format!("the records were not kept: {e}"),
            ));
        }
    };
    let note = |manifest| {
        let end = end.map(|end| json!({ "id": end.id, "digest": hex::encode(&end.digest) }));
        let about = json!({ "bytes": total, "copy": copy, "history": end });
        Note::text("records", name, by, &about, manifest)
    };
    let (_, growth) = ingest.finish(total, None, Some(&note))?;
    Ok(Kept {
        total,
        stored: growth.stored,
    })
}

/// Writes all records into the vault: a job, or a part of one. Nothing but their note refers to them.
///
/// # Errors
/// Of the database or the vault.
pub fn keep_records(work: &Work, address: &str) -> Result<Value, Refusal> {
    work.progress.begin(Stage::Saving, 0);
    let begun = work.wait(work.records().begin_keeping())?;
    let copy = Some(work.wait(work.records().next_copy())?);
    let end = work.wait(work.records().history_head())?;
    let name = OffsetDateTime::now_utc().date().to_string();
    let (operator, go_on) = (&work.operator, || !work.progress.is_cancelled());
    let Kept { total, stored } = write_out(
        &work.hold,
        address,
        &name,
        copy,
        end.as_ref(),
        operator,
        &go_on,
    )?;
    work.progress.begin(Stage::Finishing, 0);
    let words = vec![format!(
        "all records, {}, are in the vault, {} new",
        exact(total),
        exact(stored)
    )];
    let begun = begun
        .format(&Rfc3339)
        .map_err(|e| Refusal::invalid("records", e.to_string()))?;
    let found = json!({ "words": words, "touched": [], "begun": begun });
    work.record(|| {
        work.records()
            .add_vault_look("records", Some(work.job), &found, false)
    })?;
    Ok(found)
}
