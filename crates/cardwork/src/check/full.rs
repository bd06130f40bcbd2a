//! The full check: every byte written, every byte read back.

use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::check::{CheckError, END, Fault, Findings, Report, Verdict};
use crate::flight::{HANDS, in_order, lock, with_tries};
use crate::occupant::BLOCK_0;
use crate::pattern::{Pattern, SECTOR};
use crate::{CardError, CardIo, Mark, Progress, Stage};

/// Written and read at once, in bytes.
const PIECE: u64 = 1 << 20;
/// Pieces that may fail before a card is given up.
const HOPELESS: usize = 256;

/// Writes and reads every byte of a card. Nothing of what was on it is left. It carries the mark until it
/// ends; then block 0 says that the card is empty and whose label it has, and no table is on it.
///
/// # Errors
/// [`CheckError`] where the card is gone or locked. A card that fails gets a verdict.
pub fn full(card: &dyn CardIo, mark: &Mark, progress: &Progress) -> Result<Report, CheckError> {
    if let Some(there) = card.beside() {
        return there.full(mark, progress);
    }
    let size = card.size();
    let pattern = Pattern::fresh().map_err(|e| CheckError::Chance(e.to_string()))?;
    let mut findings = Findings::default();
    progress.begin(Stage::Writing, size);
    if progress.is_cancelled() {
        return Err(CheckError::Cancelled);
    }
    let head = (BLOCK_0 as u64).min(size);
    card.write_at(0, &mark.to_block()[..head as usize])?;
    card.flush()?;
    let pieces = || {
        let starts = (head..size).step_by(PIECE as usize);
        starts.map(move |at| (at, PIECE.min(size - at)))
    };
    let written = AtomicU64::new(0);
    let unwritable = Mutex::new(Vec::new());
    let put = in_order(
        HANDS,
        2 * HANDS,
        pieces(),
        |(at, len)| {
            if progress.is_cancelled() {
                return Err(CheckError::Cancelled);
            }
            match with_tries(|| card.write_at(at, &pattern.at(at, len as usize))) {
                Ok(()) => {
                    written.fetch_add(len, Ordering::Relaxed);
                }
                Err(CardError::Failed { .. }) => {
                    let mut unwritable = lock(&unwritable);
                    unwritable.push((at, len));
                    if unwritable.len() >= HOPELESS {
                        return Err(CheckError::Cancelled);
                    }
                }
                Err(error) => return Err(error.into()),
            }
            Ok(len)
        },
        |len| {
            progress.advance(len);
            Ok(())
        },
    );
    let mut unwritable = unwritable.into_inner().unwrap_or_else(|e| e.into_inner());
    unwritable.sort_unstable();
    let written = written.into_inner();
    match put {
        Err(CheckError::Cancelled) if !unwritable.is_empty() => {
            for (at, len) in unwritable {
                findings.fault(at, at + len, Fault::Unwritable);
            }
            return Ok(findings.report(Verdict::Bad, written));
        }
        Err(CheckError::Cancelled) => {
            return Ok(findings.report(Verdict::Stopped, written));
        }
        other => other?,
    }
    card.flush()?;

    progress.begin(Stage::Verifying, size);
    let mut failed = 0;
    let read = in_order(
        HANDS,
        2 * HANDS,
        pieces(),
        |(at, len)| {
            if progress.is_cancelled() {
                return Err(CheckError::Cancelled);
            }
            let mut found = vec![0; len as usize];
            match with_tries(|| card.read_at(at, &mut found)) {
                Ok(()) => Ok((at, len, Some(found))),
                Err(CardError::Failed { .. }) => Ok((at, len, None)),
                Err(error) => Err(error.into()),
            }
        },
        |(at, len, found)| {
            let bad = unwritable.binary_search(&(at, len)).is_ok();
            match found {
                _ if bad => findings.fault(at, at + len, Fault::Unwritable),
                Some(found) => findings.compare(&pattern, at, &found),
                None => {
                    failed += 1;
                    findings.fault(at, at + len, Fault::Unreadable);
                    if failed >= HOPELESS {
                        return Err(CheckError::Cancelled);
                    }
                }
            }
            progress.advance(len);
            Ok(())
        },
    );
    match read {
        Err(CheckError::Cancelled) if findings.wrong == 0 => {
            return Ok(findings.report(Verdict::Stopped, written));
        }
        Ok(()) | Err(CheckError::Cancelled) => {}
        Err(error) => return Err(error),
    }
    // Block 0 is the mark's: what of it is still there counts as right.
    let mut first = vec![0; head as usize];
    match with_tries(|| card.read_at(0, &mut first)) {
        Ok(()) => {
            let block = mark.to_block();
            findings.compare_with(&pattern, 0, &first, &block[..head as usize]);
            if findings.wraps_at.is_none() {
                findings.wraps_at = wrapped_within(&pattern, size, &first, &block);
            }
        }
        Err(CardError::Failed { .. }) => findings.fault(0, head, Fault::Unreadable),
        Err(error) => return Err(error.into()),
    }
    let verdict = match read {
        Ok(()) => verdict(&findings, size),
        // Not all of it was read: what holds cannot be counted.
        Err(_) => match findings.wraps_at {
            Some(most) => Verdict::Forged { least: 0, most },
            None => Verdict::Bad,
        },
    };
    if verdict == Verdict::Proven {
        empty(card, mark)?;
    }
    Ok(findings.report(verdict, written))
}

fn verdict(findings: &Findings, size: u64) -> Verdict {
    if findings.wrong == 0 {
        return Verdict::Proven;
    }
    // Each place of the medium holds what was put there last, and that reads right at one address only. A card that ends
    // within a sector has that one on neither side; how far data went astray tells the byte.
    let near = |distance: &u64| distance.abs_diff(findings.right) < 2 * SECTOR;
    let bytes = findings.wraps_at.filter(near).unwrap_or(findings.right);
    let holds = Verdict::Forged {
        least: bytes,
        most: bytes,
    };
    if findings.wraps_at.is_some() {
        return holds;
    }
    match findings.regions.as_slice() {
        [only]
            if only.fault == Fault::Changed && only.end == size && only.end - only.start >= END =>
        {
            holds
        }
        _ => Verdict::Bad,
    }
}

/// Where a card ends that has lost the beginning of its mark to the end of the test data's last sector: that has
/// nothing by which it is known elsewhere.
fn wrapped_within(pattern: &Pattern, size: u64, first: &[u8], block: &[u8]) -> Option<u64> {
    let lost = first
        .iter()
        .zip(block)
        .rposition(|(one, other)| one != other)?
        + 1;
    let start = size.checked_sub(first.len() as u64)?;
    let last = pattern.at(
        start / SECTOR * SECTOR,
        (size - start / SECTOR * SECTOR) as usize,
    );
    let mut lengths = lost..first.len();
    let len = lengths.find(|len| last.ends_with(&first[..*len]))?;
    Some(size - len as u64)
}

/// Takes the test data off where tables are looked for, and lets block 0 say what the card is.
fn empty(card: &dyn CardIo, mark: &Mark) -> Result<(), CheckError> {
    let size = card.size();
    let head = (BLOCK_0 as u64).min(size);
    let zeros = vec![0; PIECE as usize];
    let tail = size.saturating_sub(PIECE).max(head);
    card.write_at(tail, &zeros[..(size - tail) as usize])?;
    let len = (PIECE - head).min(tail.saturating_sub(head));
    card.write_at(head, &zeros[..len as usize])?;
    card.flush()?;
    card.write_at(0, &mark.to_empty_block()[..head as usize])?;
    Ok(card.flush()?)
}
