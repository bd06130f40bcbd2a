//! Which blocks of a file system are in use, a bit for each.

use crate::{ByteKind, Map};

/// Most blocks that are looked at: 64 MiB of bits, 2 TB in blocks of 4 KiB.
pub(crate) const MOST_BLOCKS: u64 = 1 << 29;
/// Most runs of a map. More fragments than that are joined over their smallest gaps.
const MOST_RUNS: usize = 1 << 20;

/// A set of blocks.
#[derive(Clone)]
pub(crate) struct Used {
    words: Vec<u64>,
    blocks: u64,
    block_len: u64,
}

impl Used {
    /// An empty set over `blocks` blocks of `block_len` bytes; `None` if there are too many.
    pub fn new(blocks: u64, block_len: u64) -> Option<Self> {
        (blocks <= MOST_BLOCKS).then(|| Self {
            words: vec![0; blocks.div_ceil(64) as usize],
            blocks,
            block_len,
        })
    }

    /// Length of the file system in bytes.
    pub fn len(&self) -> u64 {
        self.blocks.saturating_mul(self.block_len)
    }

    /// Adds the blocks from `start` on, as far as they exist.
    pub fn add(&mut self, start: u64, count: u64) {
        self.put(start, count, true);
    }

    /// Takes the blocks from `start` on out again, as far as they exist.
    pub fn remove(&mut self, start: u64, count: u64) {
        self.put(start, count, false);
    }

    fn put(&mut self, start: u64, count: u64, used: bool) {
        let end = start.saturating_add(count).min(self.blocks);
        let mut at = start;
        while at < end {
            let bit = at % 64;
            let take = 64_u64.saturating_sub(bit).min(end.saturating_sub(at));
            let ones = if take == 64 {
                u64::MAX
            } else {
                (1_u64 << take).saturating_sub(1)
            };
            let word = &mut self.words[(at / 64) as usize];
            match used {
                true => *word |= ones << bit,
                false => *word &= !(ones << bit),
            }
            at = at.saturating_add(take);
        }
    }

    /// Whether a block is in the set.
    #[cfg(test)]
    pub fn has(&self, block: u64) -> bool {
        self.words[(block / 64) as usize] >> (block % 64) & 1 == 1
    }

    /// Whether all these blocks are in the set.
    pub fn has_all(&self, start: u64, count: u64) -> bool {
        let end = start.saturating_add(count);
        end <= self.blocks && self.next(start, false) >= end
    }

    /// Adds everything that is in `other`, a set over the same blocks.
    pub fn unite(&mut self, other: &Self) {
        for (word, more) in self.words.iter_mut().zip(&other.words) {
            *word |= more;
        }
    }

    /// Bytes in use.
    pub fn bytes(&self) -> u64 {
        let blocks: u64 = self
            .words
            .iter()
            .map(|word| u64::from(word.count_ones()))
            .sum();
        blocks.saturating_mul(self.block_len)
    }

    /// First block from `from` on that is in the set, or not in it.
    fn next(&self, from: u64, used: bool) -> u64 {
        let mut at = from;
        while at < self.blocks {
            let word = self.words[(at / 64) as usize];
            let wanted = if used { word } else { !word };
            let word = wanted >> (at % 64);
            if word != 0 {
                return at
                    .saturating_add(u64::from(word.trailing_zeros()))
                    .min(self.blocks);
            }
            at = (at / 64).saturating_add(1).saturating_mul(64);
        }
        self.blocks
    }

    /// Data where blocks are in use, free elsewhere, for a partition of `len` bytes.
    pub fn map(&self, len: u64) -> Map {
        let mut gap = 1;
        loop {
            if let Some(map) = self.map_over(len, gap) {
                return map;
            }
            gap = gap.saturating_mul(4);
        }
    }

    /// The same with gaps of fewer than `gap` blocks called data; `None` if it is too long.
    fn map_over(&self, len: u64, gap: u64) -> Option<Map> {
        let mut map = Map::uniform(0, ByteKind::Free);
        let mut start = self.next(0, true);
        while start < self.blocks {
            let mut end = self.next(start, false);
            let mut following = self.next(end, true);
            while following < self.blocks && following.saturating_sub(end) < gap {
                end = self.next(following, false);
                following = self.next(end, true);
            }
            map.push(
                start
                    .saturating_mul(self.block_len)
                    .saturating_sub(map.len()),
                ByteKind::Free,
            );
            map.push(
                end.saturating_sub(start).saturating_mul(self.block_len),
                ByteKind::Data,
            );
            if map.runs().len() > MOST_RUNS {
                return None;
            }
            start = following;
        }
        Some(map.resized(len))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn equals_a_list_of_blocks(ranges in proptest::collection::vec((0u64..300, 0u64..80), 0..12)) {
            let mut used = Used::new(257, 512).unwrap();
            let mut model = [false; 257];
            for (start, count) in ranges {
                used.add(start, count);
                for block in start..(start + count).min(257) {
                    model[block as usize] = true;
                }
            }
            let map = used.map(257 * 512 + 700);
            prop_assert_eq!(map.len(), 257 * 512 + 700);
            prop_assert_eq!(map.total(ByteKind::Data), used.bytes());
            for (block, expected) in model.iter().enumerate() {
                let block = block as u64;
                prop_assert_eq!(used.has(block), *expected);
                let kind = map.runs_in(block * 512, block * 512 + 1)[0].kind;
                prop_assert_eq!(kind == ByteKind::Data, *expected);
            }
        }
    }

    #[test]
    fn more_fragments_than_a_map_may_have_are_joined() {
        let mut used = Used::new(3 << 20, 1024).unwrap();
        for block in (0..3 << 20).step_by(2) {
            used.add(block, 1);
        }
        let map = used.map(used.len());
        assert!(map.runs().len() <= MOST_RUNS + 2);
        assert!(map.total(ByteKind::Data) >= used.bytes());
    }
}
