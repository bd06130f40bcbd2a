//! Whether a card holds what it says, and keeps what it is given.
//!
//! A quick check ([`quick()`]) puts little test data where a card that holds less than it reports must lose
//! some of it, and puts back what was there. It can find forgery and faults; it proves nothing. A full check
//! ([`full()`]) writes every byte of the card and reads every byte back; only that proves a card, and nothing
//! of what was on it is left.

mod full;
mod quick;

pub use full::full;
pub use quick::{
    Before, Keep, Kept, QUICK_BYTES, QuickChecked, QuickFailed, is_back, put_back, quick,
};

use serde::{Deserialize, Serialize};

use crate::pattern::{Pattern, SECTOR};
use crate::{CardError, WriteError};

/// Faulty ranges that a report names; further ones are only counted.
const NAMED: usize = 64;
/// Faulty pieces that are searched for data that wrapped; more tell nothing new.
const SEARCHED: u32 = 512;
/// A fault this long at the end of a card is no worn place: the card ends there.
const END: u64 = 1 << 20;

/// What a check came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "is")]
pub enum Verdict {
    /// Every byte was written and read back as it was put. Only a full check says so.
    Proven,
    /// A quick check found nothing that speaks of forgery or a fault; more it cannot tell.
    NoSign,
    /// It holds less than it reports: as much as this, in bytes.
    Forged {
        /// It holds this at least.
        least: u64,
        /// And this at most.
        most: u64,
    },
    /// It lost or changed what it was given, or reported errors.
    Bad,
    /// Stopped before the end; what was looked at until then was right.
    Stopped,
}

/// What is wrong with a range of a card.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fault {
    /// It takes no writes.
    Unwritable,
    /// It cannot be read.
    Unreadable,
    /// It reads as something else than was put there.
    Changed,
    /// It reads as what was put somewhere else on the card.
    Overwritten,
}

/// A range of a card with a fault.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Region {
    /// First byte.
    pub start: u64,
    /// Byte behind the last.
    pub end: u64,
    /// What is wrong.
    pub fault: Fault,
}

/// What a check found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Report {
    /// What it came to.
    pub verdict: Verdict,
    /// Bytes of test data that were put on the card.
    pub written: u64,
    /// Bytes that were read back and were as they were put.
    pub right: u64,
    /// Bytes that were not.
    pub wrong: u64,
    /// The first faulty ranges, ascending.
    pub regions: Vec<Region>,
    /// Whether there are more than are named.
    pub more: bool,
}

/// Why a check came to no verdict.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CheckError {
    /// The card is gone, locked, or not to be had.
    #[error(transparent)]
    Card(#[from] CardError),
    /// What was on the card could not be kept, or not be read again.
    #[error("what is on the card cannot be kept while it is checked: {0}")]
    Keep(String),
    /// There is no chance to make test data from.
    #[error("no test data can be made: {0}")]
    Chance(String),
    /// What was on the card was put back, but does not read as it did before.
    #[error("what was put back at byte {offset} does not read as it did before")]
    NotPutBack {
        /// First byte of the place.
        offset: u64,
    },
    /// It was stopped on request.
    #[error("stopped on request")]
    Cancelled,
}

impl From<WriteError> for CheckError {
    fn from(error: WriteError) -> Self {
        match error {
            WriteError::Card(card) => Self::Card(card),
            WriteError::Cancelled => Self::Cancelled,
            other => Self::Keep(other.to_string()),
        }
    }
}

fn gcd(one: u64, two: u64) -> u64 {
    match two {
        0 => one,
        _ => gcd(two, one % two),
    }
}

/// Counts what is found.
#[derive(Default)]
struct Findings {
    right: u64,
    wrong: u64,
    regions: Vec<Region>,
    more: bool,
    /// The largest length that all distances are multiples of, between where data was put and where it was
    /// found: what wraps does so by the card's true size.
    wraps_at: Option<u64>,
    /// Pieces that were searched for data that wrapped.
    searched: u32,
}

impl Findings {
    fn fault(&mut self, start: u64, end: u64, fault: Fault) {
        self.wrong += end - start;
        let room = self.regions.len() < NAMED;
        match self.regions.last_mut() {
            Some(last) if last.end == start && last.fault == fault => last.end = end,
            _ if room => self.regions.push(Region { start, end, fault }),
            _ => self.more = true,
        }
    }

    /// Compares what a card gives at a place with the test data that was put there.
    fn compare(&mut self, pattern: &Pattern, offset: u64, found: &[u8]) {
        let expected = pattern.at(offset, found.len());
        self.compare_with(pattern, offset, found, &expected);
    }

    /// Compares what a card gives at a place with what was put there, sector by sector.
    fn compare_with(&mut self, pattern: &Pattern, offset: u64, found: &[u8], expected: &[u8]) {
        if expected == found {
            self.right += found.len() as u64;
            return;
        }
        let sectors = found
            .chunks(SECTOR as usize)
            .zip(expected.chunks(SECTOR as usize));
        for ((found, expected), at) in sectors.zip((offset..).step_by(SECTOR as usize)) {
            let end = at + found.len() as u64;
            if found == expected {
                self.right += found.len() as u64;
                continue;
            }
            let elsewhere = pattern.place_of(found).is_some();
            self.fault(
                at,
                end,
                match elsewhere {
                    true => Fault::Overwritten,
                    false => Fault::Changed,
                },
            );
        }
        // A card may end within a sector; what wrapped there begins anywhere.
        if self.searched < SEARCHED {
            self.searched += 1;
            for distance in pattern.astray(offset, found) {
                self.wraps_at = Some(self.wraps_at.map_or(distance, |known| gcd(known, distance)));
            }
        }
    }

    fn report(self, verdict: Verdict, written: u64) -> Report {
        Report {
            verdict,
            written,
            right: self.right,
            wrong: self.wrong,
            regions: self.regions,
            more: self.more,
        }
    }
}
