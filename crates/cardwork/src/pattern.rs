//! Test data that is unique to one write and to its place on the card, and where it is put.
//!
//! A card that holds less than it reports loses such bytes, or gives those of another place.

use imagecraft::{CHUNK, Map};

use crate::occupant::BLOCK_0;

/// Unit in which test data is made, so that each sector says by itself where it belongs.
pub(crate) const SECTOR: u64 = 512;
/// Length of one probe, in bytes.
pub(crate) const PROBE: u64 = BLOCK_0 as u64;
/// Probes of one write, at most.
const MOST: u64 = 64;
/// Probes of one write, however little is written.
const FEWEST: u64 = 24;
/// Share of the bytes written that probes may cost, as its inverse.
const SHARE: u64 = 250;

/// How each sector begins, before its place.
const WORDS: &str = "DUPLICARIUM WRITES THIS CARD, BYTE ";

/// The test data of one write.
pub(crate) struct Pattern {
    key: [u8; 32],
}

impl Pattern {
    /// Test data that no write had before.
    pub fn fresh() -> Result<Self, getrandom::Error> {
        let mut key = [0; 32];
        getrandom::fill(&mut key)?;
        Ok(Self { key })
    }

    /// Where on the card a sector belongs, if it is one of this test data.
    pub fn place_of(&self, sector: &[u8]) -> Option<u64> {
        let words = sector.strip_prefix(WORDS.as_bytes())?;
        let end = words.iter().position(|byte| *byte == b'\n')?;
        let place = std::str::from_utf8(&words[..end]).ok()?.parse().ok()?;
        (self.at(place, sector.len()) == sector).then_some(place)
    }

    /// How far from their places whole sectors of this test data lie that begin somewhere among bytes of a
    /// card where they do not belong. `offset` is where the bytes were read.
    pub fn astray(&self, offset: u64, bytes: &[u8]) -> impl Iterator<Item = u64> {
        let starts = bytes.windows(WORDS.len()).enumerate();
        starts
            .filter(|(_, window)| *window == WORDS.as_bytes())
            .filter_map(move |(at, _)| {
                let place = self.place_of(bytes.get(at..at + SECTOR as usize)?)?;
                Some(place.abs_diff(offset + at as u64)).filter(|distance| *distance > 0)
            })
    }

    /// What belongs at a place; `offset` and `len` are whole sectors, but for a card's odd end.
    pub fn at(&self, offset: u64, len: usize) -> Vec<u8> {
        let mut bytes = vec![0; len];
        for (number, sector) in bytes.chunks_mut(SECTOR as usize).enumerate() {
            let place = offset + number as u64 * SECTOR;
            let words = format!("{WORDS}{place}\n");
            let (front, rest) = sector.split_at_mut(words.len().min(sector.len()));
            front.copy_from_slice(&words.as_bytes()[..front.len()]);
            blake3::Hasher::new_keyed(&self.key)
                .update(&place.to_le_bytes())
                .finalize_xof()
                .fill(rest);
        }
        bytes
    }
}

/// Chunks of a card, but for head and tail, that nothing is written to.
fn free_chunks(map: &Map, tail: u64) -> Vec<std::ops::Range<u64>> {
    let mut free = Vec::new();
    let mut next = 1;
    for (chunk, _) in map.chunks() {
        if chunk > next {
            free.push(next..chunk.min(tail / CHUNK));
        }
        next = next.max(chunk + 1);
    }
    free.push(next..tail / CHUNK);
    free.retain(|range| !range.is_empty());
    free
}

/// Where probes are put on a card whose size is not proven: spread over what is not written, so
/// that what wraps lands on what is, and behind the sizes that forged cards usually have.
/// Ascending; empty where everything is written.
pub(crate) fn probe_places(map: &Map, tail: u64, written: u64) -> Vec<u64> {
    let free = free_chunks(map, tail);
    let total: u64 = free
        .iter()
        .map(|range| (range.end - range.start) * CHUNK)
        .sum();
    if total == 0 {
        return Vec::new();
    }
    let count = (written / SHARE / (2 * PROBE)).clamp(FEWEST, MOST);
    let mut places = Vec::new();
    // Behind a usual size, right where it would wrap onto the test data of the head.
    let usual = (0..16).flat_map(|shift| [1_u64 << (27 + shift), 1_000_000_000 << shift]);
    for size in usual {
        let place = (size + 2 * PROBE).next_multiple_of(PROBE);
        let chunk = place / CHUNK;
        if free.iter().any(|range| range.contains(&chunk)) {
            places.push(place);
        }
    }
    places.truncate(count as usize * 2 / 3);
    let spread = count - places.len() as u64;
    for number in 0..spread {
        // The last one lies at the very end of what is free.
        let mut at = (total - PROBE) * number / (spread.max(2) - 1) / PROBE * PROBE;
        for range in &free {
            let len = (range.end - range.start) * CHUNK;
            if at < len {
                places.push(range.start * CHUNK + at);
                break;
            }
            at -= len;
        }
    }
    places.sort_unstable();
    places.dedup();
    places
}

#[cfg(test)]
mod tests {
    use super::*;
    use imagecraft::ByteKind;

    #[test]
    fn no_sector_of_test_data_is_like_another() {
        let pattern = Pattern::fresh().unwrap();
        let bytes = pattern.at(4096, 8 * 512);
        let sectors: std::collections::HashSet<_> = bytes.chunks(512).collect();
        assert_eq!(sectors.len(), 8);
        assert_eq!(bytes[512..], pattern.at(4096 + 512, 7 * 512));
        assert_ne!(bytes, Pattern::fresh().unwrap().at(4096, 8 * 512));
    }

    #[test]
    fn probes_lie_where_nothing_is_written() {
        let card = 4_000_000_000 / CHUNK * CHUNK;
        let mut map = Map::uniform(card, ByteKind::Free);
        map.set(0, 50_000_000, ByteKind::Data);
        map.set(1_999_000_000, 2_100_000_000, ByteKind::Zero);
        let tail = card - CHUNK;
        let places = probe_places(&map, tail, 150_000_000);
        assert!(places.len() > 30 && places.len() <= 64, "{}", places.len());
        for place in &places {
            let chunk = place / CHUNK;
            assert!(map.is_free(chunk * CHUNK, (chunk + 1) * CHUNK), "{place}");
            assert!(*place >= CHUNK && place + PROBE <= tail);
        }
        // A card of a gigabyte that says four is found by the probe that lands on the head.
        assert!(
            places
                .iter()
                .any(|place| (4096..CHUNK).contains(&(place % 1_000_000_000)))
        );
        assert!(*places.last().unwrap() + 2 * PROBE > tail);
        let full = Map::uniform(card, ByteKind::Data);
        assert!(probe_places(&full, tail, card).is_empty());
    }
}
