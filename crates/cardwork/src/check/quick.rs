//! The quick check: little test data, in places where a forged card must lose some of it.
//!
//! A run without gap at the beginning, and single blocks no further apart than that run is long: wherever a
//! card that wraps has its true end, one of the blocks lands in the run, and wherever one that drops has it,
//! the blocks behind are lost. The last block is one of them. Everything is saved before, read oldest first,
//! and put back in reverse, so that on a card that wraps the older of two that share a place comes last.

use serde::{Deserialize, Serialize};

use crate::check::{CheckError, Fault, Findings, Report, Verdict};
use crate::flight::with_tries;
use crate::occupant::BLOCK_0;
use crate::pattern::Pattern;
use crate::{CardError, CardIo, Mark, Progress, Stage};

/// Test data of a quick check at most, in bytes.
pub const QUICK_BYTES: u64 = 64 << 20;
/// Length of the run at the beginning, in bytes.
const RUN: u64 = 32 << 20;
/// Length of a single block, in bytes.
const BLOCK: u64 = BLOCK_0 as u64;
/// The run is handled in pieces of this length, in bytes.
const PIECE: u64 = 1 << 20;

/// Where what is on a card is kept while it is checked.
pub trait Keep {
    /// Keeps what lies at a place. Places come in the order in which they will be written.
    ///
    /// # Errors
    /// A sentence.
    fn save(&mut self, offset: u64, bytes: &[u8]) -> Result<(), String>;

    /// Returns when all that was kept would outlive this computer's end.
    ///
    /// # Errors
    /// A sentence.
    fn settle(&mut self) -> Result<(), String>;
}

/// What was kept of a card.
pub trait Kept {
    /// Number of places.
    fn len(&self) -> usize;

    /// Whether nothing was kept.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Bytes of all places.
    fn bytes(&self) -> u64;

    /// One place, in the order in which they were kept.
    ///
    /// # Errors
    /// A sentence.
    fn place(&self, number: usize) -> Result<(u64, Vec<u8>), String>;
}

/// The places of test data: offset and length, in the order in which they are written.
fn places(size: u64) -> Vec<(u64, usize)> {
    let run = RUN.min(size / 4 / BLOCK * BLOCK).max(BLOCK);
    // Between blocks that are so many that they would cost more than they may, the gap is longer.
    let step = run.max((size / ((QUICK_BYTES - RUN) / BLOCK)).next_multiple_of(BLOCK));
    let mut places = Vec::new();
    let mut at = BLOCK;
    while at < run {
        let len = PIECE.min(run - at);
        places.push((at, len as usize));
        at += len;
    }
    let last = size.saturating_sub(BLOCK) / 512 * 512;
    let mut at = run.next_multiple_of(BLOCK);
    while at + BLOCK <= last {
        places.push((at, BLOCK as usize));
        at += step;
    }
    if last >= run {
        places.push((last, (size - last) as usize));
    }
    places
}

/// What became of what was on a card that was checked quickly.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Before {
    /// Not a byte of it was changed.
    Untouched,
    /// It was put back, and reads as it did.
    PutBack,
    /// It is not on the card, or nobody can tell, for this reason. What was kept gives it back; the card carries the mark
    /// until then, as far as it takes it.
    Kept(String),
}

/// A quick check that came to a verdict.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct QuickChecked {
    /// What it found.
    pub report: Report,
    /// What became of what was on the card.
    pub before: Before,
}

/// A quick check that came to none.
#[derive(Debug)]
pub struct QuickFailed {
    /// Why.
    pub error: CheckError,
    /// What became of what was on the card.
    pub before: Before,
}

impl QuickFailed {
    fn untouched(error: CheckError) -> Self {
        Self {
            error,
            before: Before::Untouched,
        }
    }
}

/// Checks a card quickly, and puts back what was on it. What is on it is kept in `keep` before the first
/// byte is changed; block 0 carries the mark meanwhile.
///
/// # Errors
/// [`QuickFailed`]. Where [`Before::Kept`] says so, [`put_back`] gives the card back what was on it.
pub fn quick<K: Keep + Kept>(
    card: &dyn CardIo,
    mark: &Mark,
    keep: &mut K,
    progress: &Progress,
) -> Result<QuickChecked, QuickFailed> {
    if let Some(there) = card.beside() {
        return there.quick(mark, keep, progress);
    }
    let places = places(card.size());
    let pattern = Pattern::fresh().map_err(|e| CheckError::Chance(e.to_string()));
    let pattern = pattern.map_err(QuickFailed::untouched)?;
    save(card, &places, keep, progress).map_err(QuickFailed::untouched)?;

    let mut findings = Findings::default();
    let tested = test(card, mark, &places, &pattern, &mut findings, progress);
    // Whatever came of it, the card gets back what was on it, as far as it takes it.
    let back = match &tested {
        Err(CheckError::Card(error)) if error.is_out_of_reach() => Err(None),
        _ => put_back(card, &*keep, progress).map_err(Some),
    };
    let before = match &back {
        Ok(()) => Before::PutBack,
        Err(why) => {
            // Some of the test data may lie on it: it is not to pass for whole.
            let marked = card.write_at(0, &mark.to_block()[..BLOCK.min(card.size()) as usize]);
            let _ = marked.and_then(|()| card.flush());
            match why {
                Some(why) => Before::Kept(why.to_string()),
                None => Before::Kept("the card went away".into()),
            }
        }
    };
    let written = match tested {
        Ok(written) => written,
        Err(error) => return Err(QuickFailed { error, before }),
    };
    let mut verdict = verdict(&places, &findings, card.size());
    if verdict == Verdict::NoSign {
        match back {
            Ok(()) => {}
            // It took the test data, and did not take what was on it: it cannot be trusted.
            Err(Some(CheckError::NotPutBack { offset })) => {
                findings.fault(offset, (offset + BLOCK).min(card.size()), Fault::Changed);
                verdict = Verdict::Bad;
            }
            Err(error) => {
                let error = error.unwrap_or(CheckError::Card(CardError::Gone));
                return Err(QuickFailed { error, before });
            }
        }
    }
    let report = findings.report(verdict, written);
    Ok(QuickChecked { report, before })
}

/// Keeps what lies at these places, and in block 0.
fn save<K: Keep + Kept>(
    card: &dyn CardIo,
    places: &[(u64, usize)],
    keep: &mut K,
    progress: &Progress,
) -> Result<(), CheckError> {
    let total: u64 = places.iter().map(|(_, len)| *len as u64).sum();
    progress.begin(Stage::Saving, total);
    let block_0 = BLOCK.min(card.size()) as usize;
    for (at, len) in std::iter::once((0, block_0)).chain(places.iter().copied()) {
        if progress.is_cancelled() {
            return Err(CheckError::Cancelled);
        }
        let mut found = vec![0; len];
        with_tries(|| card.read_at(at, &mut found))?;
        keep.save(at, &found).map_err(CheckError::Keep)?;
        progress.advance(len as u64);
    }
    keep.settle().map_err(CheckError::Keep)
}

/// Whether a card holds at every place what was kept of it.
///
/// # Errors
/// What the card reports, or a place that cannot be had.
pub fn is_back(card: &dyn CardIo, kept: &dyn Kept) -> Result<bool, CheckError> {
    Ok(first_difference(card, kept, &mut |_| {})?.is_none())
}

/// The first place that does not read as it was kept. `read` is told the bytes that were read.
fn first_difference(
    card: &dyn CardIo,
    kept: &dyn Kept,
    read: &mut dyn FnMut(u64),
) -> Result<Option<u64>, CheckError> {
    let mut found = Vec::new();
    for number in 0..kept.len() {
        let (at, bytes) = kept.place(number).map_err(CheckError::Keep)?;
        found.resize(bytes.len(), 0);
        with_tries(|| card.read_at(at, &mut found))?;
        if found != bytes {
            return Ok(Some(at));
        }
        read(bytes.len() as u64);
    }
    Ok(None)
}

/// Tries again where a card reports an error that may pass, but not for ever: one that failed at several places behind each
/// other is asked once at each further place, until it does something again.
#[derive(Default)]
struct Patience(u32);

impl Patience {
    const MOST: u32 = 3;

    fn ask(&mut self, mut ask: impl FnMut() -> Result<(), CardError>) -> Result<(), CardError> {
        let answer = match self.0 < Self::MOST {
            true => with_tries(ask),
            false => ask(),
        };
        self.0 = match &answer {
            Err(CardError::Failed { .. }) => self.0 + 1,
            _ => 0,
        };
        answer
    }
}

/// Puts the test data on, and reads it back in the same order.
fn test(
    card: &dyn CardIo,
    mark: &Mark,
    places: &[(u64, usize)],
    pattern: &Pattern,
    findings: &mut Findings,
    progress: &Progress,
) -> Result<u64, CheckError> {
    let total: u64 = places.iter().map(|(_, len)| *len as u64).sum();
    progress.begin(Stage::Checking, 2 * total);
    let marked = &mark.to_block()[..BLOCK.min(card.size()) as usize];
    card.write_at(0, marked)?;
    card.flush()?;
    let (mut written, mut patience) = (0, Patience::default());
    for (at, len) in places {
        if progress.is_cancelled() {
            return Err(CheckError::Cancelled);
        }
        match patience.ask(|| card.write_at(*at, &pattern.at(*at, *len))) {
            Ok(()) => written += *len as u64,
            Err(CardError::Failed { .. }) => {
                findings.fault(*at, at + *len as u64, Fault::Unwritable);
            }
            Err(error) => return Err(error.into()),
        }
        progress.advance(*len as u64);
    }
    card.flush()?;
    let mut found = vec![0; marked.len()];
    match with_tries(|| card.read_at(0, &mut found)) {
        Ok(()) if found == marked => findings.right += found.len() as u64,
        Ok(()) => findings.compare(pattern, 0, &found),
        Err(CardError::Failed { .. }) => findings.fault(0, BLOCK, Fault::Unreadable),
        Err(error) => return Err(error.into()),
    }
    for (at, len) in places {
        if progress.is_cancelled() {
            return Err(CheckError::Cancelled);
        }
        found.resize(*len, 0);
        match patience.ask(|| card.read_at(*at, &mut found)) {
            Ok(()) => findings.compare(pattern, *at, &found),
            Err(CardError::Failed { .. }) => {
                findings.fault(*at, at + *len as u64, Fault::Unreadable);
            }
            Err(error) => return Err(error.into()),
        }
        progress.advance(*len as u64);
    }
    Ok(written)
}

fn verdict(places: &[(u64, usize)], findings: &Findings, size: u64) -> Verdict {
    if let Some(true_size) = findings.wraps_at {
        return Verdict::Forged {
            least: true_size,
            most: true_size,
        };
    }
    let Some(first) = findings.regions.first() else {
        return Verdict::NoSign;
    };
    // Nothing holds from some place on, and all that was written before does: the card ends between.
    let behind = places.iter().filter(|(at, _)| *at >= first.start);
    let lost: u64 = behind.map(|(_, len)| *len as u64).sum();
    let all_lost = findings.wrong >= lost && !findings.more || findings.wrong == lost;
    let several = places.iter().filter(|(at, _)| *at >= first.start).count() > 1;
    let silent = findings
        .regions
        .iter()
        .all(|region| region.fault == Fault::Changed);
    if all_lost && several && silent && first.start >= BLOCK {
        let before = places.iter().rev().find(|(at, _)| *at < first.start);
        let least = before.map_or(0, |(at, len)| at + *len as u64);
        return Verdict::Forged {
            least,
            most: first.start.max(least).min(size),
        };
    }
    Verdict::Bad
}

/// Puts back what was kept of a card, in reverse, block 0 last, and reads it.
///
/// # Errors
/// [`CheckError`]; what was kept is still there then.
pub fn put_back(card: &dyn CardIo, kept: &dyn Kept, progress: &Progress) -> Result<(), CheckError> {
    if let Some(there) = card.beside() {
        return there.put_back(kept, progress);
    }
    progress.begin(Stage::PuttingBack, 2 * kept.bytes());
    let (mut first_error, mut patience) = (None, Patience::default());
    for number in (0..kept.len()).rev() {
        let (at, bytes) = kept.place(number).map_err(CheckError::Keep)?;
        if number == 0 {
            card.flush()?;
        }
        // Block 0 says whether the card is whole: it is worth every try.
        let written = match number {
            0 => with_tries(|| card.write_at(at, &bytes)),
            _ => patience.ask(|| card.write_at(at, &bytes)),
        };
        match written {
            Ok(()) => {}
            // A place that takes no bytes keeps no others from getting theirs back.
            Err(error @ CardError::Failed { .. }) => {
                first_error.get_or_insert(error);
            }
            Err(error) => return Err(error.into()),
        }
        progress.advance(bytes.len() as u64);
    }
    card.flush()?;
    if let Some(error) = first_error {
        return Err(error.into());
    }
    match first_difference(card, kept, &mut |bytes| progress.advance(bytes))? {
        Some(offset) => Err(CheckError::NotPutBack { offset }),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_true_end_is_hit_and_the_data_stay_few() {
        for size in [
            200_000_000,
            3_965_190_144,
            64_021_856_256,
            127_865_454_592,
            256_060_514_304_u64,
        ] {
            let places = places(size);
            let total: u64 = places.iter().map(|(_, len)| *len as u64).sum();
            assert!(total + BLOCK <= QUICK_BYTES, "{size}: {total}");
            assert!(
                places
                    .windows(2)
                    .all(|two| two[0].0 + two[0].1 as u64 <= two[1].0)
            );
            let (last, len) = places.last().copied().unwrap();
            assert_eq!(last + len as u64, size);
            // A block at or behind each end, so near behind it that it lands in the run.
            let run = places
                .iter()
                .take_while(|(at, len)| *len as u64 > BLOCK || *at < RUN);
            let run = run.map(|(at, len)| at + *len as u64).max().unwrap();
            for end in (1..size >> 20)
                .map(|mib| mib << 20)
                .filter(|end| *end >= run)
            {
                let behind = places.partition_point(|(at, _)| *at < end);
                let hit = places.get(behind).is_some_and(|(at, _)| at % end < run);
                assert!(hit, "{size} ending at {end}");
            }
        }
    }
}
