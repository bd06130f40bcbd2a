//! What the vault knows in memory: which piece lies where, who relies on which segment, what was found damaged.

use std::collections::{HashMap, HashSet};
use std::hash::{BuildHasherDefault, Hasher};
use std::sync::Arc;

use crate::keys::Name;
use crate::piece::Kind;
use crate::segment::Row;

/// Names are digests already: eight bytes of one are as good a hash as any.
#[derive(Default)]
pub(crate) struct OfName(u64);

impl Hasher for OfName {
    fn write(&mut self, bytes: &[u8]) {
        if let Some(first) = bytes.first_chunk::<8>() {
            self.0 ^= u64::from_le_bytes(*first);
        }
    }

    fn finish(&self) -> u64 {
        self.0
    }
}

pub(crate) type NameMap<T> = HashMap<Name, T, BuildHasherDefault<OfName>>;
pub(crate) type NameSet = HashSet<Name, BuildHasherDefault<OfName>>;

/// Where a piece lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Place {
    pub segment: u32,
    pub offset: u32,
    pub len: u32,
    pub kind: Kind,
}

impl Place {
    fn of(segment: u32, row: &Row) -> Self {
        Self {
            segment,
            offset: row.offset,
            len: row.len,
            kind: row.kind,
        }
    }
}

/// A segment as it is known.
pub(crate) struct Known {
    pub id: Arc<str>,
    /// Its length in bytes.
    pub len: u64,
    /// Whether it may be read and relied upon.
    pub there: bool,
    /// How many rely on it right now.
    pins: u32,
    /// Number of the round of tidying in which somebody relied on it last.
    touched: u64,
    /// Another service is about to delete it: it may be read, and not relied upon.
    leaving: bool,
}

/// Everything that is known.
#[derive(Default)]
pub(crate) struct Index {
    pub segments: Vec<Known>,
    pub places: NameMap<Place>,
    /// Where pages, manifests and notes lie a second time: a chunk lies once, and what tells of many chunks twice.
    copies: NameMap<Place>,
    /// Number of the round of tidying: what is relied upon later stays.
    round: u64,
}

impl Index {
    /// Adds a segment with what lies in it; of what lies elsewhere already, the place there counts.
    pub fn add(&mut self, id: &str, len: u64, rows: &[Row]) -> u32 {
        let number = self.segments.len() as u32;
        self.segments.push(Known {
            id: id.into(),
            len,
            there: true,
            pins: 0,
            touched: self.round,
            leaving: false,
        });
        self.places.reserve(rows.len());
        self.learn(number, rows);
        number
    }

    /// Finds what lies in a segment there, as far as it lies nowhere else that stays; of what lies twice, both places.
    pub fn learn(&mut self, number: u32, rows: &[Row]) {
        for row in rows {
            let new = Place::of(number, row);
            let Some(place) = self.places.get(&row.name).copied() else {
                self.places.insert(row.name, new);
                continue;
            };
            if !self.stays(place) {
                self.places.insert(row.name, new);
            } else if place.segment != number && row.kind.lies_twice() {
                let copy = self.copies.get(&row.name).copied();
                if !copy.is_some_and(|copy| self.stays(copy)) {
                    self.copies.insert(row.name, new);
                }
            }
        }
    }

    fn stays(&self, place: Place) -> bool {
        let known = self.segments.get(place.segment as usize);
        known.is_some_and(|known| known.there && !known.leaving)
    }

    fn is_there(&self, place: Place) -> bool {
        let known = self.segments.get(place.segment as usize);
        known.is_some_and(|known| known.there)
    }

    /// Nothing is found at this place any more; where the piece lies a second time, it is found there.
    pub fn forget(&mut self, name: Name, segment: u32) {
        if self
            .copies
            .get(&name)
            .is_some_and(|at| at.segment == segment)
        {
            self.copies.remove(&name);
        }
        if self
            .places
            .get(&name)
            .is_some_and(|at| at.segment == segment)
        {
            match self.copies.remove(&name) {
                Some(copy) => self.places.insert(name, copy),
                None => self.places.remove(&name),
            };
        }
    }

    /// A piece is not found at all any more.
    pub fn forget_everywhere(&mut self, name: Name) {
        self.places.remove(&name);
        self.copies.remove(&name);
    }

    /// Pieces that should lie twice and are found in one place only, in the order of their names.
    pub fn lying_once(&self) -> Vec<(Kind, Name)> {
        let all = self
            .places
            .iter()
            .filter(|(_, place)| place.kind.lies_twice());
        let once = all.filter(|(name, place)| {
            let copy = self.copies.get(*name);
            self.is_there(**place) && !copy.is_some_and(|copy| self.is_there(*copy))
        });
        let mut once: Vec<_> = once.map(|(name, place)| (place.kind, *name)).collect();
        once.sort_unstable_by_key(|(_, name)| *name);
        once
    }

    /// Another service is about to delete a segment: nobody relies on it any more.
    pub fn leave(&mut self, segment: u32) {
        if let Some(known) = self.segments.get_mut(segment as usize) {
            known.leaving = true;
        }
    }

    /// Whether another service is about to delete it.
    pub fn is_leaving(&self, segment: u32) -> bool {
        let known = self.segments.get(segment as usize);
        known.is_some_and(|known| known.leaving)
    }

    /// Where a piece lies, if its segment is there: the second place where the first is not.
    pub fn place(&self, name: Name) -> Option<(Place, &Known)> {
        let first = self.places.get(&name).copied();
        let place = match first.filter(|place| self.is_there(*place)) {
            Some(place) => place,
            None => self.copies.get(&name).copied()?,
        };
        let known = self.segments.get(place.segment as usize)?;
        known.there.then_some((place, known))
    }

    /// Every place of a piece whose segment is there.
    pub fn places_of(&self, name: Name) -> impl Iterator<Item = Place> {
        let places = [self.places.get(&name), self.copies.get(&name)];
        let places = places.map(|place| place.copied().filter(|place| self.is_there(*place)));
        places.into_iter().flatten()
    }

    /// Every place at which something lies, with its name.
    pub fn all_places(&self) -> impl Iterator<Item = (&Name, &Place)> {
        self.places.iter().chain(&self.copies)
    }

    /// Somebody relies on a segment; answers whether nobody did before in this round.
    pub fn pin(&mut self, segment: u32) {
        if let Some(known) = self.segments.get_mut(segment as usize) {
            known.pins += 1;
            known.touched = self.round;
        }
    }

    pub fn unpin(&mut self, segment: u32) {
        let round = self.round;
        if let Some(known) = self.segments.get_mut(segment as usize) {
            known.pins = known.pins.saturating_sub(1);
            known.touched = round;
        }
    }

    /// Begins a round of tidying; gives the segments that nobody relies on.
    pub fn begin_round(&mut self) -> Vec<u32> {
        self.round += 1;
        let all = self.segments.iter().enumerate();
        all.filter(|(_, known)| known.there && known.pins == 0)
            .map(|(number, _)| number as u32)
            .collect()
    }

    /// Whether a segment may go in this round: nobody relies on it, or did since the round began.
    pub fn may_go(&self, segment: u32) -> bool {
        let known = self.segments.get(segment as usize);
        known.is_some_and(|known| known.there && known.pins == 0 && known.touched < self.round)
    }

    /// Nobody finds anything in these segments any more; gives their names. A chunk that lies elsewhere too is not looked
    /// for there: that is made good when the vault is opened again.
    pub fn drop_segments(&mut self, segments: &[u32]) -> Vec<Arc<str>> {
        let mut gone = HashSet::new();
        let mut ids = Vec::new();
        for number in segments {
            if let Some(known) = self.segments.get_mut(*number as usize)
                && known.there
            {
                known.there = false;
                gone.insert(*number);
                ids.push(known.id.clone());
            }
        }
        if !gone.is_empty() {
            self.copies
                .retain(|_, place| !gone.contains(&place.segment));
            let copies = &mut self.copies;
            self.places.retain(|name, place| {
                if !gone.contains(&place.segment) {
                    return true;
                }
                match copies.remove(name) {
                    Some(copy) => {
                        *place = copy;
                        true
                    }
                    None => false,
                }
            });
        }
        ids
    }

    /// Puts pieces that were copied into their new place, those that still lie in an old one.
    pub fn moved(&mut self, from: &[u32], to: u32, rows: &[Row]) {
        for row in rows {
            let places = [
                self.places.get_mut(&row.name),
                self.copies.get_mut(&row.name),
            ];
            let mut places = places.into_iter().flatten();
            if let Some(place) = places.find(|place| from.contains(&place.segment)) {
                *place = Place::of(to, row);
            }
        }
    }

    /// The pieces that are found in each of these segments, in the order of the segment.
    pub fn rows_of(&self, segments: &[u32]) -> HashMap<u32, Vec<Row>> {
        let mut found: HashMap<u32, Vec<Row>> = segments
            .iter()
            .map(|number| (*number, Vec::new()))
            .collect();
        for (name, place) in self.all_places() {
            if let Some(rows) = found.get_mut(&place.segment) {
                rows.push(Row {
                    kind: place.kind,
                    name: *name,
                    offset: place.offset,
                    len: place.len,
                });
            }
        }
        for rows in found.values_mut() {
            rows.sort_unstable_by_key(|row| row.offset);
        }
        found
    }

    /// Names and lengths of everything, by kind.
    pub fn of_kind(&self, kind: Kind) -> Vec<Name> {
        let all = self.places.iter();
        let of = all.filter(|(_, place)| place.kind == kind);
        let mut names: Vec<_> = of.map(|(name, _)| *name).collect();
        names.sort_unstable();
        names
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(n: u8, offset: u32) -> Row {
        Row {
            kind: Kind::Chunk,
            name: Name([n; 32]),
            offset,
            len: 10,
        }
    }

    #[test]
    fn a_segment_goes_only_when_nobody_relied_on_it_since_the_round_began() {
        let mut index = Index::default();
        let (one, two) = (
            index.add("one", 100, &[row(1, 0)]),
            index.add("two", 100, &[row(2, 0)]),
        );
        assert!(!index.may_go(one), "it was made in this round");
        index.pin(one);
        assert_eq!(index.begin_round(), [two]);
        assert!(!index.may_go(one) && index.may_go(two));
        index.unpin(one);
        assert!(
            !index.may_go(one),
            "whoever let go of it may have recorded what is in it"
        );
        index.pin(two);
        index.unpin(two);
        assert!(!index.may_go(two));
        let three = index.add("three", 100, &[]);
        assert!(!index.may_go(three), "it came later");
        assert_eq!(index.begin_round(), [one, two, three]);
        assert!(index.may_go(one) && index.may_go(three));
        assert_eq!(index.drop_segments(&[one]), ["one".into()]);
        assert!(index.place(Name([1; 32])).is_none() && index.place(Name([2; 32])).is_some());
        assert!(!index.may_go(one), "it went already");
    }

    #[test]
    fn what_was_moved_is_found_in_its_new_place() {
        let mut index = Index::default();
        let from = index.add("from", 100, &[row(1, 0), row(2, 10)]);
        let other = index.add("other", 100, &[row(2, 40), row(3, 0)]);
        assert_eq!(
            index.place(Name([2; 32])).unwrap().0.segment,
            from,
            "the first place counts"
        );
        let to = index.add("to", 50, &[]);
        index.moved(&[from], to, &[row(1, 5), row(3, 30)]);
        assert_eq!(
            index.place(Name([1; 32])).unwrap().0,
            Place::of(to, &row(1, 5))
        );
        assert_eq!(index.place(Name([3; 32])).unwrap().0.segment, other);
        assert_eq!(index.rows_of(&[from])[&from], [row(2, 10)]);
        assert_eq!(index.of_kind(Kind::Chunk).len(), 3);
        assert!(index.of_kind(Kind::Note).is_empty());
    }

    #[test]
    fn what_tells_of_others_is_found_in_its_second_place_when_the_first_goes() {
        let page = |offset| Row {
            kind: Kind::Page,
            ..row(1, offset)
        };
        let at = |index: &Index| index.place(Name([1; 32])).map(|(place, _)| place.segment);
        let mut index = Index::default();
        let first = index.add("first", 100, &[page(0), row(2, 10)]);
        assert_eq!(index.lying_once(), [(Kind::Page, Name([1; 32]))]);
        let second = index.add("second", 100, &[page(7), row(2, 20)]);
        assert!(index.lying_once().is_empty(), "a chunk lies once");
        assert_eq!(index.rows_of(&[second])[&second], [page(7)]);
        // Moved together, each place has a new one of its own.
        let (one, two) = (index.add("one", 50, &[]), index.add("two", 50, &[]));
        let from = [first, second];
        index.moved(&from, one, &[page(30), row(2, 40)]);
        index.moved(&from, two, &[page(90)]);
        index.drop_segments(&from);
        assert_eq!(at(&index), Some(one));
        assert_eq!(index.rows_of(&[two])[&two], [page(90)]);
        index.forget(Name([1; 32]), one);
        assert_eq!(at(&index), Some(two));
        assert_eq!(index.lying_once(), [(Kind::Page, Name([1; 32]))]);
        index.drop_segments(&[two]);
        assert_eq!(at(&index), None);
        assert!(index.place(Name([2; 32])).is_some());
    }

    #[test]
    fn what_another_deletes_is_read_there_until_it_is_found_elsewhere() {
        let mut index = Index::default();
        let old = index.add("old", 100, &[row(1, 0), row(2, 10)]);
        index.leave(old);
        assert_eq!(index.place(Name([1; 32])).unwrap().0.segment, old);
        let new = index.add("new", 50, &[row(1, 5)]);
        assert_eq!(index.place(Name([1; 32])).unwrap().0.segment, new);
        assert_eq!(index.place(Name([2; 32])).unwrap().0.segment, old);
        let third = index.add("third", 50, &[row(1, 9), row(2, 9)]);
        assert_eq!(index.place(Name([1; 32])).unwrap().0.segment, new);
        assert_eq!(index.place(Name([2; 32])).unwrap().0.segment, third);
    }
}
