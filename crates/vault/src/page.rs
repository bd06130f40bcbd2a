//! Roots and pages of manifests as bytes: what the chunks of a disk are, written out or told from another.

use std::sync::Arc;

use imagecraft::{ByteKind, CHUNK};

use crate::keys::Name;

/// Chunks that one page describes: 128 MiB of disk.
pub const PAGE: usize = 1024;
const FORMAT: u8 = 2;
/// A root or page that is written out.
const WHOLE: u8 = 0;
/// One that says in what it differs from another.
const DIFFERS: u8 = 1;
/// What one chunk of a disk is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Entry {
    /// Nobody cares.
    Free,
    /// All zero.
    Zero,
    /// Content in the vault.
    Data(Name),
}

impl Entry {
    pub(crate) fn kind(self) -> ByteKind {
        match self {
            Self::Free => ByteKind::Free,
            Self::Zero => ByteKind::Zero,
            Self::Data(_) => ByteKind::Data,
        }
    }

    fn put(self, bytes: &mut Vec<u8>) {
        match self {
            Self::Free => bytes.push(0),
            Self::Zero => bytes.push(1),
            Self::Data(name) => {
                bytes.push(2);
                bytes.extend(name.0);
            }
        }
    }
}

/// Takes an object of the vault apart.
struct Parts<'a>(&'a [u8]);

impl Parts<'_> {
    fn bytes<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (first, rest) = self.0.split_first_chunk::<N>()?;
        self.0 = rest;
        Some(*first)
    }

    fn byte(&mut self) -> Option<u8> {
        self.bytes::<1>().map(|[byte]| byte)
    }

    fn number(&mut self) -> Option<usize> {
        self.bytes().map(|raw| u32::from_le_bytes(raw) as usize)
    }

    /// What is said otherwise than elsewhere, up to the end: places below `most`, and what is there.
    fn differing(&mut self, most: usize) -> Option<Vec<(usize, Entry)>> {
        let mut differs = Vec::new();
        while !self.0.is_empty() {
            let at = self.number()?;
            let entry = self.entry()?;
            if at >= most {
                return None;
            }
            differs.push((at, entry));
        }
        Some(differs)
    }

    fn entry(&mut self) -> Option<Entry> {
        match self.byte()? {
            0 => Some(Entry::Free),
            1 => Some(Entry::Zero),
            2 => Some(Entry::Data(Name(self.bytes()?))),
            _ => None,
        }
    }
}

/// A page as it was read.
pub(crate) struct Page {
    pub entries: Vec<Entry>,
    /// The page that it is told from, if it is not written out.
    pub base: Option<Name>,
}

impl Page {
    /// What it takes in memory, in bytes.
    pub(crate) fn weight(&self) -> u64 {
        (self.entries.len() * size_of::<Entry>()) as u64 + 64
    }
}

/// A root that is written out.
pub(crate) struct WholeRoot {
    pub name: Name,
    pub pages: Arc<[Entry]>,
}

/// Pages that a disk has.
pub(crate) fn pages_of(len: u64) -> usize {
    len.div_ceil(CHUNK).div_ceil(PAGE as u64) as usize
}

/// What is read of the root of a manifest.
pub(crate) struct ReadRoot {
    pub len: u64,
    pub pages: Vec<Entry>,
    /// The root that it is told from, with the pages in which it differs.
    pub base: Option<(Name, Vec<(usize, Entry)>)>,
}

pub(crate) fn read_root(bytes: &[u8]) -> Option<ReadRoot> {
    let mut parts = Parts(bytes);
    if parts.byte()? != FORMAT {
        return None;
    }
    let len = u64::from_le_bytes(parts.bytes()?);
    let wanted = pages_of(len);
    match parts.byte()? {
        WHOLE => {
            // Each entry takes a byte at least: what is claimed beyond that is not believed.
            let mut pages = Vec::with_capacity(wanted.min(parts.0.len()));
            while !parts.0.is_empty() {
                pages.push(parts.entry()?);
            }
            (pages.len() == wanted).then_some(ReadRoot {
                len,
                pages,
                base: None,
            })
        }
        DIFFERS => {
            let base = Name(parts.bytes()?);
            let differs = parts.differing(wanted)?;
            Some(ReadRoot {
                len,
                pages: Vec::new(),
                base: Some((base, differs)),
            })
        }
        _ => None,
    }
}

/// Most pages that a disk may have: one of 128 TiB.
const MOST_PAGES: usize = 1 << 20;

/// The pages of a root that is told from another: those of that one as far as the disk goes, free behind, and what
/// differs.
pub(crate) fn pages_from(
    len: u64,
    base: &[Entry],
    differs: &[(usize, Entry)],
) -> Option<Vec<Entry>> {
    let wanted = pages_of(len);
    if wanted > MOST_PAGES {
        return None;
    }
    let mut pages: Vec<Entry> = base.iter().copied().take(wanted).collect();
    pages.resize(wanted, Entry::Free);
    for (at, entry) in differs {
        *pages.get_mut(*at)? = *entry;
    }
    Some(pages)
}

pub(crate) fn write_root(len: u64, pages: &[Entry], base: Option<&WholeRoot>) -> Vec<u8> {
    let mut head = vec![FORMAT];
    head.extend(len.to_le_bytes());
    let mut whole = [&head[..], &[WHOLE]].concat();
    for entry in pages {
        entry.put(&mut whole);
    }
    let Some(base) = base else {
        return whole;
    };
    let mut told = head;
    told.push(DIFFERS);
    told.extend(base.name.0);
    for (at, entry) in pages.iter().enumerate() {
        if base.pages.get(at).copied().unwrap_or(Entry::Free) != *entry {
            told.extend((at as u32).to_le_bytes());
            entry.put(&mut told);
        }
    }
    if told.len() < whole.len() / 2 {
        told
    } else {
        whole
    }
}

/// Whether a root says in what it differs from another.
pub(crate) fn is_told(root: &[u8]) -> bool {
    root.get(9) == Some(&DIFFERS)
}

/// What is read of a page: its entries, or how many there are and in what they differ from those of another page.
pub(crate) enum ReadPage {
    Whole(Vec<Entry>),
    Differs(usize, Name, Vec<(usize, Entry)>),
}

pub(crate) fn read_page(bytes: &[u8]) -> Option<ReadPage> {
    let mut parts = Parts(bytes);
    if parts.byte()? != FORMAT {
        return None;
    }
    let mode = parts.byte()?;
    let count = parts.number()?;
    if count == 0 || count > PAGE {
        return None;
    }
    match mode {
        WHOLE => {
            let mut entries = Vec::with_capacity(count);
            while !parts.0.is_empty() {
                entries.push(parts.entry()?);
            }
            (entries.len() == count).then_some(ReadPage::Whole(entries))
        }
        DIFFERS => {
            let base = Name(parts.bytes()?);
            let differs = parts.differing(count)?;
            Some(ReadPage::Differs(count, base, differs))
        }
        _ => None,
    }
}

/// A page as bytes: as what differs from another one, where that is shorter by half.
pub(crate) fn write_page(entries: &[Entry], base: Option<(Name, &[Entry])>) -> Vec<u8> {
    let count = (entries.len() as u32).to_le_bytes();
    let mut whole = [&[FORMAT, WHOLE][..], &count].concat();
    for entry in entries {
        entry.put(&mut whole);
    }
    let Some((name, base)) = base else {
        return whole;
    };
    let mut told = [&[FORMAT, DIFFERS][..], &count, &name.0].concat();
    for (at, entry) in entries.iter().enumerate() {
        if base.get(at).copied().unwrap_or(Entry::Free) != *entry {
            told.extend((at as u32).to_le_bytes());
            entry.put(&mut told);
        }
    }
    if told.len() < whole.len() / 2 {
        told
    } else {
        whole
    }
}

/// What a page all of one kind is named by.
pub(crate) fn uniform(entries: &[Entry]) -> Option<Entry> {
    let first = *entries.first()?;
    let alike = !matches!(first, Entry::Data(_)) && entries.iter().all(|entry| *entry == first);
    alike.then_some(first)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn data(n: u8) -> Entry {
        Entry::Data(Name([n; 32]))
    }

    #[test]
    fn a_page_is_told_from_another_where_that_is_shorter() {
        let base: Vec<Entry> = (0..100).map(|n| data(n as u8)).collect();
        let mut page = base.clone();
        page[7] = Entry::Zero;
        page[99] = data(200);
        page.push(data(201));
        let bytes = write_page(&page, Some((Name([9; 32]), &base)));
        assert!(bytes.len() < 200, "{}", bytes.len());
        match read_page(&bytes) {
            Some(ReadPage::Differs(101, Name([9, ..]), differs)) => {
                assert_eq!(
                    differs,
                    [(7, Entry::Zero), (99, data(200)), (100, data(201))]
                );
            }
            _ => panic!("it is told from the other"),
        }
        let other: Vec<Entry> = (0..100).map(|n| data(n as u8 ^ 0x80)).collect();
        let bytes = write_page(&other, Some((Name([9; 32]), &base)));
        assert!(matches!(read_page(&bytes), Some(ReadPage::Whole(entries)) if entries == other));
    }

    #[test]
    fn roots_are_read_as_they_were_written_and_nonsense_is_none() {
        let len = 300 * (PAGE as u64) * CHUNK - 5;
        let base = WholeRoot {
            name: Name([1; 32]),
            pages: (0..200).map(|n| data(n as u8)).collect(),
        };
        let mut pages: Vec<Entry> = base.pages.to_vec();
        pages.resize(300, Entry::Free);
        pages[3] = data(250);
        pages[299] = Entry::Zero;
        for base in [None, Some(&base)] {
            let bytes = write_root(len, &pages, base);
            let read = read_root(&bytes).unwrap();
            let again = match (&read.base, base) {
                (None, None) => read.pages,
                (Some((name, differs)), Some(base)) => {
                    assert_eq!((*name, differs.len()), (base.name, 2));
                    assert!(bytes.len() < 150);
                    pages_from(len, &base.pages, differs).unwrap()
                }
                _ => panic!("told from the base if there is one"),
            };
            assert_eq!((read.len, again), (len, pages.clone()));
            for cut in 0..bytes.len() {
                if let Some(read) = read_root(&bytes[..cut]) {
                    // Cut between two that differ, it is another root: its name tells.
                    assert!(read.base.is_some(), "{cut} bytes");
                }
            }
        }
        // A length that no disk has claims no memory.
        let mut huge = write_root(len, &[], Some(&base));
        huge[1..9].copy_from_slice(&u64::MAX.to_le_bytes());
        assert!(
            read_root(&huge).is_none_or(|read| pages_from(read.len, &base.pages, &[]).is_none())
        );
    }
}
