//! Sets of half-open ranges of numbers.

use std::collections::BTreeMap;

/// Ranges that do not touch each other, by their start.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Ranges(BTreeMap<u64, u64>);

impl Ranges {
    /// Adds a range; ranges that touch become one.
    pub fn add(&mut self, start: u64, end: u64) {
        if start >= end {
            return;
        }
        let (mut from, mut to) = (start, end);
        while let Some((&before, &until)) = self.0.range(..=to).next_back() {
            if until < from {
                break;
            }
            from = from.min(before);
            to = to.max(until);
            self.0.remove(&before);
        }
        self.0.insert(from, to);
    }

    /// Takes away everything from `end` on.
    pub fn cut(&mut self, end: u64) {
        self.0.split_off(&end);
        if let Some(mut last) = self.0.last_entry() {
            let reach = (*last.get()).min(end);
            *last.get_mut() = reach;
        }
    }

    /// Whether a number lies in one of them.
    pub fn contains(&self, number: u64) -> bool {
        self.0
            .range(..=number)
            .next_back()
            .is_some_and(|(_, end)| *end > number)
    }

    /// All of them, ascending.
    pub fn iter(&self) -> impl Iterator<Item = (u64, u64)> + '_ {
        self.0.iter().map(|(start, end)| (*start, *end))
    }

    /// The parts of them that lie between two numbers.
    pub fn within(&self, start: u64, end: u64) -> impl Iterator<Item = (u64, u64)> + '_ {
        let first = self
            .0
            .range(..=start)
            .next_back()
            .map_or(start, |(first, _)| *first);
        self.0
            .range(first..end.max(first))
            .map(move |(from, to)| ((*from).max(start), (*to).min(end)))
            .filter(|(from, to)| from < to)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn behaves_like_a_plain_set(
            added in proptest::collection::vec((0u64..200, 0u64..40), 0..30),
            asked in (0u64..240, 0u64..60),
            end in 0u64..240,
        ) {
            let mut ranges = Ranges::default();
            let mut model = std::collections::BTreeSet::new();
            for (start, len) in added {
                ranges.add(start, start + len);
                model.extend(start..start + len);
            }
            let listed: Vec<u64> = ranges.iter().flat_map(|(from, to)| from..to).collect();
            prop_assert_eq!(&listed, &model.iter().copied().collect::<Vec<_>>());
            for pair in ranges.iter().collect::<Vec<_>>().windows(2) {
                prop_assert!(pair[0].1 < pair[1].0);
            }
            for number in 0..240 {
                prop_assert_eq!(ranges.contains(number), model.contains(&number));
            }
            let (start, len) = asked;
            let part: Vec<u64> = ranges.within(start, start + len).flat_map(|(from, to)| from..to).collect();
            prop_assert_eq!(part, model.range(start..start + len).copied().collect::<Vec<_>>());
            ranges.cut(end);
            let kept: Vec<u64> = ranges.iter().flat_map(|(from, to)| from..to).collect();
            prop_assert_eq!(kept, model.range(..end).copied().collect::<Vec<_>>());
        }
    }
}
