//! Folders: entries of 32 bytes, long names in front of their short one.

use super::{Fat, FatError, MOST_FILE, Structure, damaged, name};
use crate::Disk;
use crate::number::{le16, le32, split};

const ENTRY: usize = 32;
const FOLDER: u8 = 0x10;
const VOLUME_LABEL: u8 = 0x08;
const LONG_NAME: u8 = 0x0f;
const DELETED: u8 = 0xe5;
/// 1 January 1980, the first day that FAT can say: edits carry no clock.
const DATE: [u8; 2] = [0x21, 0];

/// Where a folder lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// The root of FAT12 and FAT16, in front of the data clusters.
    Fixed {
        /// First byte.
        at: u64,
        /// Length in bytes.
        len: u64,
    },
    /// A chain of clusters.
    Chain(u32),
}

/// One file or folder.
#[derive(Debug)]
pub struct Entry {
    /// Name with its case, long if there is one.
    pub name: String,
    short: [u8; 11],
    attributes: u8,
    /// First cluster of the content, 0 for none.
    pub first_cluster: u32,
    /// Length in bytes, 0 for a folder.
    pub len: u32,
    /// Date and time of the last write, as FAT packs them.
    written: (u16, u16),
    /// Position of the short entry in its folder, in entries.
    index: usize,
}

impl Entry {
    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.attributes & FOLDER != 0
    }

    /// When it was written last, in seconds since 1970 as if its clock had shown UTC; `None` where
    /// that is no date.
    pub fn modified(&self) -> Option<i64> {
        let (date, clock) = self.written;
        let date = time::Date::from_calendar_date(
            1980_i32.saturating_add(i32::from(date >> 9)),
            u8::try_from(date >> 5 & 0xf).ok()?.try_into().ok()?,
            (date & 0x1f) as u8,
        );
        let half = (clock & 0x1f) as u8;
        let clock = time::Time::from_hms(
            (clock >> 11) as u8,
            (clock >> 5 & 0x3f) as u8,
            half.saturating_mul(2),
        );
        let at = time::PrimitiveDateTime::new(date.ok()?, clock.ok()?);
        Some(at.assume_utc().unix_timestamp())
    }

    /// Where the folder lies; cluster 0 stands for the root.
    pub fn place(&self, root: Place) -> Place {
        match self.first_cluster {
            0 => root,
            first => Place::Chain(first),
        }
    }
}

/// Collects the parts of a long name, which come last part first.
#[derive(Default)]
struct LongName {
    units: Vec<u16>,
    checksum: u8,
    expected: u8,
}

impl LongName {
    fn add(&mut self, raw: &[u8]) {
        let order = raw[0];
        if order & 0x40 != 0 {
            *self = Self {
                units: Vec::new(),
                checksum: raw[13],
                expected: order & 0x3f,
            };
        }
        if order & 0x3f != self.expected || raw[13] != self.checksum || self.expected == 0 {
            *self = Self::default();
            return;
        }
        self.expected = self.expected.saturating_sub(1);
        let spots = (1..11)
            .step_by(2)
            .chain((14..26).step_by(2))
            .chain([28, 30]);
        let part: Vec<u16> = spots.filter_map(|at| le16(raw, at)).collect();
        self.units.splice(0..0, part);
    }

    /// The name, if its parts are whole and belong to this short one.
    fn finish(&mut self, short: &[u8; 11]) -> Option<String> {
        let done = std::mem::take(self);
        let fits =
            done.expected == 0 && !done.units.is_empty() && done.checksum == name::checksum(short);
        let units: Vec<u16> = done
            .units
            .into_iter()
            .take_while(|unit| *unit != 0)
            .collect();
        fits.then(|| String::from_utf16_lossy(&units))
    }
}

impl<D: Disk> Fat<D> {
    /// All bytes of a folder.
    fn folder_bytes(&self, place: Place) -> Result<Vec<u8>, FatError> {
        match place {
            Place::Fixed { at, len } => Ok(self.disk.read_vec(at, len as usize)?),
            Place::Chain(first) => {
                if first == 0 {
                    return Err(damaged(Structure::Folder, "has no cluster"));
                }
                self.read_chain(first, MOST_FILE.div_ceil(self.boot.cluster_len))
            }
        }
    }

    pub(super) fn entries(&self, place: Place) -> Result<Vec<Entry>, FatError> {
        let mut found = Vec::new();
        let mut long = LongName::default();
        for (index, raw) in self.folder_bytes(place)?.chunks_exact(ENTRY).enumerate() {
            match (raw[0], raw[11]) {
                (0, _) => break,
                (DELETED, _) => long = LongName::default(),
                (_, LONG_NAME) => long.add(raw),
                (_, attributes) if attributes & VOLUME_LABEL != 0 => long = LongName::default(),
                (_, attributes) => {
                    let mut short = [0; 11];
                    short.copy_from_slice(&raw[..11]);
                    let high = if self.boot.bits == 32 {
                        le16(raw, 20).unwrap_or(0)
                    } else {
                        0
                    };
                    found.push(Entry {
                        name: long
                            .finish(&short)
                            .unwrap_or_else(|| name::cased(&short, raw[12])),
                        short,
                        attributes,
                        first_cluster: u32::from(high) << 16
                            | u32::from(le16(raw, 26).unwrap_or(0)),
                        len: le32(raw, 28).unwrap_or(0),
                        written: (le16(raw, 24).unwrap_or(0), le16(raw, 22).unwrap_or(0)),
                        index,
                    });
                }
            }
        }
        Ok(found)
    }

    /// Finds a name in a folder, by its long or short form, without regard to case.
    pub(super) fn find(&self, place: Place, wanted: &str) -> Result<Option<Entry>, FatError> {
        let wanted = wanted.to_lowercase();
        let same = |entry: &Entry| {
            entry.name.to_lowercase() == wanted
                || name::plain(&entry.short).to_lowercase() == wanted
        };
        Ok(self.entries(place)?.into_iter().find(same))
    }

    /// Writes whole entries into a folder from entry `index` on.
    fn write_entries(&mut self, place: Place, index: usize, raw: &[u8]) -> Result<(), FatError> {
        let clusters = match place {
            Place::Fixed { at, .. } => {
                return Ok(self
                    .disk
                    .write_at(at.saturating_add(index.saturating_mul(ENTRY) as u64), raw)?);
            }
            Place::Chain(first) => self.chain(first)?,
        };
        for (number, entry) in raw.chunks(ENTRY).enumerate() {
            let offset = index.saturating_add(number).saturating_mul(ENTRY) as u64;
            let (cluster, within) = split(offset, self.boot.cluster_len);
            let cluster = clusters
                .get(cluster as usize)
                .ok_or(damaged(Structure::Folder, "is shorter than its entries"))?;
            let at = self.cluster_at(*cluster).saturating_add(within);
            self.disk.write_at(at, entry)?;
        }
        Ok(())
    }

    /// Lets an entry point to other content.
    pub(super) fn point(
        &mut self,
        place: Place,
        entry: &Entry,
        first: u32,
        len: u32,
    ) -> Result<(), FatError> {
        let folder = self.folder_bytes(place)?;
        let mut raw = folder[entry.index.saturating_mul(ENTRY)..][..ENTRY].to_vec();
        set_content(&mut raw, first, len);
        self.write_entries(place, entry.index, &raw)
    }

    /// Adds a file or folder to a folder, which grows where it must.
    pub(super) fn add(
        &mut self,
        place: Place,
        name: &str,
        folder: bool,
        first: u32,
        len: u32,
    ) -> Result<(), FatError> {
        let full = || FatError::Full(name.into());
        let entries = self.entries(place)?;
        let taken = |short: &[u8; 11]| entries.iter().any(|entry| entry.short == *short);
        let (short, long) = name::shorten(name, taken).ok_or_else(full)?;
        let mut raw = if long {
            long_entries(name, &short)
        } else {
            Vec::new()
        };
        raw.extend(short_entry(&short, folder, first, len));
        let wanted = raw.len() / ENTRY;
        let mut bytes = self.folder_bytes(place)?;
        let index = loop {
            if let Some(index) = free_run(&bytes, wanted) {
                break index;
            }
            let Place::Chain(chain) = place else {
                return Err(full());
            };
            if bytes.len() as u64 >= MOST_FILE {
                return Err(full());
            }
            let last = *self
                .chain(chain)?
                .last()
                .ok_or(damaged(Structure::Folder, "has no cluster"))?;
            let new = self.allocate(1, name)?[0];
            self.set_next(last, new);
            let empty = vec![0; self.boot.cluster_len as usize];
            self.disk.write_at(self.cluster_at(new), &empty)?;
            bytes.extend(empty);
        };
        self.write_entries(place, index, &raw)
    }

    /// Whether a folder holds nothing but the entries for itself and the one above.
    pub(super) fn is_empty(&self, place: Place) -> Result<bool, FatError> {
        let entries = self.entries(place)?;
        Ok(entries
            .iter()
            .all(|entry| matches!(entry.name.as_str(), "." | "..")))
    }

    /// Takes an entry and its long name out of a folder.
    pub(super) fn take_out(&mut self, place: Place, entry: &Entry) -> Result<(), FatError> {
        let bytes = self.folder_bytes(place)?;
        let raw = |index: usize| &bytes[index.saturating_mul(ENTRY)..][..ENTRY];
        let mut first = entry.index;
        while first > 0
            && raw(first.saturating_sub(1))[11] == LONG_NAME
            && raw(first.saturating_sub(1))[0] != DELETED
        {
            first = first.saturating_sub(1);
            if raw(first)[0] & 0x40 != 0 {
                break;
            }
        }
        for index in first..=entry.index {
            let mut raw = raw(index).to_vec();
            raw[0] = DELETED;
            self.write_entries(place, index, &raw)?;
        }
        Ok(())
    }

    /// Makes an empty folder in another.
    pub(super) fn make_folder(&mut self, parent: Place, name: &str) -> Result<Place, FatError> {
        let first = self.allocate(1, name)?[0];
        let up = match parent {
            // The root is written as cluster 0 in the entry that leads back to it.
            Place::Chain(cluster) if parent != self.boot.root => cluster,
            _ => 0,
        };
        let mut bytes = vec![0; self.boot.cluster_len as usize];
        bytes[..ENTRY].copy_from_slice(&short_entry(b".          ", true, first, 0));
        bytes[ENTRY..2 * ENTRY].copy_from_slice(&short_entry(b"..         ", true, up, 0));
        self.disk.write_at(self.cluster_at(first), &bytes)?;
        self.add(parent, name, true, first, 0)?;
        Ok(Place::Chain(first))
    }
}

/// First of `wanted` entries in a row that are free.
fn free_run(bytes: &[u8], wanted: usize) -> Option<usize> {
    let mut run = 0_usize;
    let mut ended = false;
    for (index, raw) in bytes.chunks_exact(ENTRY).enumerate() {
        // Behind the first unused entry nothing counts, whatever stands there.
        ended |= raw[0] == 0;
        run = if ended || raw[0] == DELETED {
            run.saturating_add(1)
        } else {
            0
        };
        if run == wanted {
            return Some(index.saturating_add(1).saturating_sub(wanted));
        }
    }
    None
}

fn set_content(raw: &mut [u8], first: u32, len: u32) {
    raw[20..22].copy_from_slice(&((first >> 16) as u16).to_le_bytes());
    raw[26..28].copy_from_slice(&(first as u16).to_le_bytes());
    raw[28..32].copy_from_slice(&len.to_le_bytes());
}

fn short_entry(short: &[u8; 11], folder: bool, first: u32, len: u32) -> [u8; ENTRY] {
    let mut raw = [0; ENTRY];
    raw[..11].copy_from_slice(short);
    raw[11] = if folder { FOLDER } else { 0x20 };
    for at in [16, 18, 24] {
        raw[at..][..2].copy_from_slice(&DATE);
    }
    set_content(&mut raw, first, len);
    raw
}

/// The entries of a long name, last part first, as they stand in front of the short one.
fn long_entries(long: &str, short: &[u8; 11]) -> Vec<u8> {
    let mut units: Vec<u16> = long.encode_utf16().collect();
    let parts = units.len().div_ceil(name::UNITS);
    if !units.len().is_multiple_of(name::UNITS) {
        units.push(0);
        units.resize(parts.saturating_mul(name::UNITS), 0xffff);
    }
    let mut bytes = Vec::with_capacity(parts.saturating_mul(ENTRY));
    for (number, part) in units.chunks(name::UNITS).enumerate().rev() {
        let mut raw = [0; ENTRY];
        let place = number.saturating_add(1);
        raw[0] = place as u8 | if place == parts { 0x40 } else { 0 };
        raw[11] = LONG_NAME;
        raw[13] = name::checksum(short);
        let spots = (1..11)
            .step_by(2)
            .chain((14..26).step_by(2))
            .chain([28, 30]);
        for (at, unit) in spots.zip(part) {
            raw[at..][..2].copy_from_slice(&unit.to_le_bytes());
        }
        bytes.extend(raw);
    }
    bytes
}
