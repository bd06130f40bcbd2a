//! Which bytes of a disk matter: data, zero, free.

use serde::{Deserialize, Serialize};

use crate::CHUNK;

/// What is known about a range of bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ByteKind {
    /// Content that must be kept.
    Data,
    /// Must read as zero.
    Zero,
    /// Nobody cares: not read, not stored, not written.
    Free,
}

/// A half-open range of bytes of one kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Run {
    /// First byte.
    pub start: u64,
    /// Byte after the last.
    pub end: u64,
    /// What the bytes are.
    pub kind: ByteKind,
}

/// The kind of every byte of a disk: runs that follow each other without gap, neighbours of
/// different kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Map {
    runs: Vec<Run>,
}

impl Map {
    /// A map of `len` bytes that are all of one kind.
    pub fn uniform(len: u64, kind: ByteKind) -> Self {
        let mut map = Self { runs: Vec::new() };
        map.push(len, kind);
        map
    }

    /// A map from the kinds of a disk's chunks; the last chunk may be short.
    pub fn from_chunks(len: u64, kinds: impl Iterator<Item = ByteKind>) -> Self {
        let mut map = Self { runs: Vec::new() };
        for kind in kinds.take(len.div_ceil(CHUNK) as usize) {
            map.push(CHUNK.min(len - map.len()), kind);
        }
        let rest = len - map.len();
        map.push(rest, ByteKind::Free);
        map
    }

    /// Number of bytes described.
    pub fn len(&self) -> u64 {
        self.runs.last().map_or(0, |run| run.end)
    }

    /// Whether no byte is described.
    pub fn is_empty(&self) -> bool {
        self.runs.is_empty()
    }

    /// The runs, ascending.
    pub fn runs(&self) -> &[Run] {
        &self.runs
    }

    /// The runs that touch the bytes from `start` to `end`.
    pub fn runs_in(&self, start: u64, end: u64) -> &[Run] {
        let first = self.runs.partition_point(|run| run.end <= start);
        let last = self.runs.partition_point(|run| run.start < end);
        &self.runs[first.min(last)..last]
    }

    /// Whether all bytes from `start` to `end` are described, and free.
    pub fn is_free(&self, start: u64, end: u64) -> bool {
        end <= self.len()
            && self
                .runs_in(start, end)
                .iter()
                .all(|run| run.kind == ByteKind::Free)
    }

    /// Whether any of the bytes from `start` to `end` is free.
    pub fn has_free(&self, start: u64, end: u64) -> bool {
        self.runs_in(start, end)
            .iter()
            .any(|run| run.kind == ByteKind::Free)
    }

    /// Zeroes the free ones among the bytes of a disk that begin at `start`.
    pub fn clear_free(&self, start: u64, bytes: &mut [u8]) {
        let end = start + bytes.len() as u64;
        for run in self.runs_in(start, end) {
            if run.kind == ByteKind::Free {
                let from = (run.start.max(start) - start) as usize;
                let to = (run.end.min(end) - start) as usize;
                bytes[from..to].fill(0);
            }
        }
    }

    /// Puts another map in place of the bytes from `start` on, as far as both reach.
    pub fn insert(&mut self, start: u64, other: &Self) {
        let end = self.len().min(start.saturating_add(other.len()));
        if start >= end {
            return;
        }
        let mut map = Self { runs: Vec::new() };
        for run in self.runs_in(0, start) {
            map.push(run.end.min(start) - run.start, run.kind);
        }
        for run in other.runs_in(0, end - start) {
            map.push(run.end.min(end - start) - run.start, run.kind);
        }
        for run in self.runs_in(end, self.len()) {
            map.push(run.end - run.start.max(end), run.kind);
        }
        *self = map;
    }

    /// Number of bytes of one kind.
    pub fn total(&self, kind: ByteKind) -> u64 {
        self.runs
            .iter()
            .filter(|run| run.kind == kind)
            .map(|run| run.end - run.start)
            .sum()
    }

    /// Adds `len` bytes at the end.
    pub(crate) fn push(&mut self, len: u64, kind: ByteKind) {
        if len == 0 {
            return;
        }
        let start = self.len();
        match self.runs.last_mut() {
            Some(run) if run.kind == kind => run.end += len,
            _ => self.runs.push(Run {
                start,
                end: start + len,
                kind,
            }),
        }
    }

    /// Says that the bytes from `start` to `end` are of `kind`. Bytes past the map's end are
    /// left out.
    pub fn set(&mut self, start: u64, end: u64, kind: ByteKind) {
        let end = end.min(self.len());
        if start >= end {
            return;
        }
        // Only the runs that touch the range are rebuilt, with a neighbour on each side to merge.
        let first = self.runs.partition_point(|run| run.end < start);
        let last = self.runs.partition_point(|run| run.start <= end);
        let mut part = Self { runs: Vec::new() };
        let touched = &self.runs[first..last];
        let base = touched[0].start;
        for run in touched {
            part.push(start.clamp(run.start, run.end) - run.start, run.kind);
            let from = start.max(run.start);
            let to = end.min(run.end);
            part.push(to.saturating_sub(from), kind);
            part.push(run.end - end.clamp(run.start, run.end), run.kind);
        }
        for run in &mut part.runs {
            run.start += base;
            run.end += base;
        }
        self.runs.splice(first..last, part.runs);
    }

    /// Says of every free byte that it is of `kind`.
    pub fn fill_free(&mut self, kind: ByteKind) {
        let mut map = Self { runs: Vec::new() };
        for run in &self.runs {
            let kind = match run.kind {
                ByteKind::Free => kind,
                known => known,
            };
            map.push(run.end - run.start, kind);
        }
        *self = map;
    }

    /// The same map cut to `len` bytes, or prolonged with free bytes.
    pub fn resized(&self, len: u64) -> Self {
        let mut map = Self { runs: Vec::new() };
        for run in &self.runs {
            map.push(run.end.min(len).saturating_sub(run.start), run.kind);
        }
        map.push(len - map.len(), ByteKind::Free);
        map
    }

    /// For each chunk that is not all free: its index and whether it holds any data.
    ///
    /// A chunk with data and other bytes counts as data; one with zero and free bytes as zero.
    pub fn chunks(&self) -> impl Iterator<Item = (u64, ByteKind)> + '_ {
        let mut runs = self.runs.iter().peekable();
        (0..self.len().div_ceil(CHUNK)).filter_map(move |chunk| {
            let end = (chunk + 1) * CHUNK;
            let mut found = ByteKind::Free;
            while let Some(run) = runs.peek().filter(|run| run.start < end) {
                found = match (found, run.kind) {
                    (ByteKind::Data, _) | (_, ByteKind::Data) => ByteKind::Data,
                    (ByteKind::Zero, _) | (_, ByteKind::Zero) => ByteKind::Zero,
                    _ => ByteKind::Free,
                };
                if run.end > end {
                    break;
                }
                runs.next();
            }
            (found != ByteKind::Free).then_some((chunk, found))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn kind(n: u8) -> ByteKind {
        [ByteKind::Data, ByteKind::Zero, ByteKind::Free][usize::from(n % 3)]
    }

    proptest! {
        /// A map after random changes equals an array of kinds, one a byte, after the same.
        #[test]
        fn equals_a_kind_for_each_byte(changes in proptest::collection::vec((0u64..400, 0u64..400, 0u8..3), 0..30)) {
            let mut map = Map::uniform(300, ByteKind::Free);
            let mut model = vec![ByteKind::Free; 300];
            for (start, end, n) in changes {
                map.set(start, end, kind(n));
                for byte in start..end.min(300) {
                    model[byte as usize] = kind(n);
                }
            }
            let flat: Vec<_> = map.runs().iter()
                .flat_map(|run| (run.start..run.end).map(|_| run.kind)).collect();
            prop_assert_eq!(&flat, &model);
            prop_assert!(map.runs().windows(2).all(|w| w[0].end == w[1].start && w[0].kind != w[1].kind));
            let mut inner = Map::uniform(70, ByteKind::Zero);
            inner.set(10, 30, ByteKind::Free);
            for start in [0, 17, 250, 300] {
                let mut with = map.clone();
                with.insert(start, &inner);
                prop_assert_eq!(with.len(), 300);
                for run in with.runs() {
                    for byte in run.start..run.end {
                        let expected = match byte.checked_sub(start) {
                            Some(10..30) => ByteKind::Free,
                            Some(0..70) => ByteKind::Zero,
                            _ => model[byte as usize],
                        };
                        prop_assert_eq!(run.kind, expected);
                    }
                }
            }
            prop_assert_eq!(map.total(ByteKind::Data), model.iter().filter(|k| **k == ByteKind::Data).count() as u64);
        }
    }

    #[test]
    fn free_bytes_are_cleared_and_no_others() {
        let mut map = Map::uniform(100, ByteKind::Data);
        map.set(20, 30, ByteKind::Free);
        map.set(90, 100, ByteKind::Free);
        let mut bytes = [1; 40];
        map.clear_free(25, &mut bytes);
        assert!(
            bytes
                .iter()
                .enumerate()
                .all(|(at, byte)| (*byte == 0) == (at < 5))
        );
        assert!(map.is_free(20, 30) && !map.is_free(19, 30) && map.has_free(0, 21));
        assert!(!map.is_free(95, 105), "what is not described is not free");
        let mut behind = [1; 20];
        map.clear_free(95, &mut behind);
        assert_eq!(behind.iter().filter(|byte| **byte == 0).count(), 5);
    }

    #[test]
    fn a_chunk_takes_the_strongest_kind_in_it() {
        let mut map = Map::uniform(4 * CHUNK + 10, ByteKind::Free);
        map.set(CHUNK, 2 * CHUNK, ByteKind::Zero);
        map.set(CHUNK + 7, CHUNK + 8, ByteKind::Data);
        map.set(2 * CHUNK + 5, 2 * CHUNK + 6, ByteKind::Zero);
        map.set(4 * CHUNK, 4 * CHUNK + 10, ByteKind::Data);
        let found: Vec<_> = map.chunks().collect();
        assert_eq!(
            found,
            [
                (1, ByteKind::Data),
                (2, ByteKind::Zero),
                (4, ByteKind::Data)
            ]
        );
        let kinds = [
            ByteKind::Free,
            ByteKind::Data,
            ByteKind::Zero,
            ByteKind::Free,
            ByteKind::Data,
        ];
        assert_eq!(
            Map::from_chunks(map.len(), kinds.into_iter())
                .chunks()
                .collect::<Vec<_>>(),
            found
        );
    }
}
