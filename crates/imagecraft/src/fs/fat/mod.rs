//! FAT12, FAT16 and FAT32 (ECMA-107, and the published FAT32 description for the 32-bit form
//! and long names): boot sector checked first, then files read, created and replaced.
//!
//! Edits are reproducible: no clock of this machine goes into them.

mod check;
mod directory;
mod empty;
pub(in crate::fs) mod error;
mod files;
mod name;
mod sectors;
mod usage;

use super::{FileSystem, label};
pub use empty::empty_volume;
use error::damaged;
pub use error::{FatError, Structure};

use crate::number::{le16, le32, times};
use crate::{Disk, DiskError};
use directory::{Entry, Place};

pub use sectors::enlarge_sectors;
pub use usage::usage;

/// The largest allocation table that is held in memory, in bytes.
const MOST_TABLE: u64 = 64 << 20;
/// The largest file or folder that is read whole, in bytes.
const MOST_FILE: u64 = 4 << 20;

/// The boot sector of a FAT file system, checked against the disk's length.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BootSector {
    bits: u8,
    label: Option<String>,
    volume_id: u32,
    /// Bytes in a sector.
    sector_len: u64,
    /// Bytes in a cluster.
    cluster_len: u64,
    /// Number of data clusters; they are numbered from 2.
    clusters: u32,
    /// First byte of the first allocation table.
    table_at: u64,
    /// Length of one allocation table in bytes.
    table_len: u64,
    /// Number of allocation tables.
    tables: u64,
    /// First byte of cluster 2.
    data_at: u64,
    /// Where the root folder lies.
    root: Place,
    /// First byte of the sector with the free count (FAT32).
    info_at: Option<u64>,
}

impl BootSector {
    /// Reads and checks the first sector. The inner error says which field cannot be.
    pub fn read<D: Disk + ?Sized>(disk: &D) -> Result<Result<Self, FatError>, DiskError> {
        if disk.len() < 512 {
            return Ok(Err(FatError::BootSector("length of the disk")));
        }
        let sector = disk.read_vec(0, 512)?;
        Ok(Self::parse(&sector, disk.len()).map_err(FatError::BootSector))
    }

    /// Whether the first bytes of a disk are a boot sector that could be, whatever the length of
    /// the disk.
    pub fn looks_right(head: &[u8]) -> bool {
        head.len() >= 512 && Self::parse(&head[..512], u64::MAX).is_ok()
    }

    fn parse(sector: &[u8], disk_len: u64) -> Result<Self, &'static str> {
        let byte = |at: usize| u64::from(sector[at]);
        let word = |at| u64::from(le16(sector, at).unwrap_or(0));
        let long = |at| u64::from(le32(sector, at).unwrap_or(0));
        if word(510) != 0xaa55 {
            return Err("signature");
        }
        if !matches!(sector[0], 0xeb | 0xe9) {
            return Err("jump instruction");
        }
        let bytes_per_sector = word(11);
        if !matches!(bytes_per_sector, 512 | 1024 | 2048 | 4096) {
            return Err("sector size");
        }
        let per_cluster = byte(13);
        if !per_cluster.is_power_of_two() {
            return Err("cluster size");
        }
        let (reserved, fats, root_entries) = (word(14), byte(16), word(17));
        if reserved == 0 {
            return Err("number of reserved sectors");
        }
        if !matches!(fats, 1 | 2) {
            return Err("number of file allocation tables");
        }
        let either = |short: u64, long: u64| if short != 0 { short } else { long };
        let total = either(word(19), long(32));
        let fat_len = either(word(22), long(36));
        if total == 0 || total.saturating_mul(bytes_per_sector) > disk_len {
            return Err("number of sectors");
        }
        let root_sectors = root_entries.saturating_mul(32).div_ceil(bytes_per_sector);
        let overhead = reserved
            .saturating_add(fats.saturating_mul(fat_len))
            .saturating_add(root_sectors);
        let rest = total.checked_sub(overhead).ok_or("size of its tables")?;
        let clusters = times(rest, per_cluster);
        // By the description the number of clusters decides; every system goes by the length field
        // of the 16-bit form, and small boot partitions of 32 bits are common.
        let bits = match clusters {
            0 => return Err("number of clusters"),
            _ if word(22) == 0 => 32,
            1..4085 => 12,
            _ => 16,
        };
        if clusters.saturating_add(2).saturating_mul(u64::from(bits))
            > fat_len.saturating_mul(bytes_per_sector).saturating_mul(8)
        {
            return Err("size of its tables");
        }
        if (bits == 32) != (root_entries == 0) {
            return Err("root directory");
        }
        let extended: usize = if bits == 32 { 64 } else { 36 };
        let label = label(&sector[extended..][7..18]);
        let root_at = reserved
            .saturating_add(fats.saturating_mul(fat_len))
            .saturating_mul(bytes_per_sector);
        let root = match bits {
            32 => Place::Chain(le32(sector, 44).unwrap_or(0)),
            _ => Place::Fixed {
                at: root_at,
                len: root_entries.saturating_mul(32),
            },
        };
        Ok(Self {
            bits,
            sector_len: bytes_per_sector,
            label: label.filter(|text| text != "NO NAME"),
            volume_id: le32(sector, extended.saturating_add(3)).unwrap_or(0),
            cluster_len: per_cluster.saturating_mul(bytes_per_sector),
            clusters: u32::try_from(clusters).map_err(|_| "number of clusters")?,
            table_at: reserved.saturating_mul(bytes_per_sector),
            table_len: fat_len.saturating_mul(bytes_per_sector),
            tables: fats,
            data_at: root_at.saturating_add(root_sectors.saturating_mul(bytes_per_sector)),
            root,
            info_at: (bits == 32 && (1..reserved).contains(&word(48)))
                .then(|| word(48).saturating_mul(bytes_per_sector)),
        })
    }

    /// What the boot sector says, for people.
    pub fn describe(&self) -> FileSystem {
        let (high, low) = (self.volume_id >> 16, self.volume_id & 0xffff);
        FileSystem {
            kind: format!("FAT{}", self.bits),
            label: self.label.clone(),
            uuid: Some(format!("{high:04X}-{low:04X}")),
        }
    }
}

/// A FAT file system that has passed the check and is open.
///
/// What [`Fat::put`] changes in the allocation table reaches the disk with [`Fat::close`].
pub struct Fat<D> {
    disk: D,
    boot: BootSector,
    table: Vec<u8>,
    /// The table as it was read, to write back only what changed.
    table_before: Vec<u8>,
    /// Where the search for a free cluster goes on.
    hint: u32,
}

impl<D: Disk> Fat<D> {
    /// Checks and opens the file system that fills `disk`.
    pub fn open(disk: D) -> Result<Self, FatError> {
        let boot = BootSector::read(&disk)??;
        if boot.table_len > MOST_TABLE {
            return Err(FatError::BootSector("size of its tables"));
        }
        let table = disk.read_vec(boot.table_at, boot.table_len as usize)?;
        Ok(Self {
            table_before: table.clone(),
            table,
            hint: 2,
            disk,
            boot,
        })
    }

    /// Creates the file at `path`, or replaces all of its bytes; makes the folders it needs.
    /// Names are found without regard to case, as the file system wants it.
    pub fn put(&mut self, path: &str, bytes: &[u8]) -> Result<(), FatError> {
        let parts = name::split(path)?;
        let (file_name, folders) = parts
            .split_last()
            .ok_or_else(|| FatError::Path(path.into()))?;
        let folder = self.make_folders(folders)?;
        let found = self.find(folder, file_name)?;
        if found.as_ref().is_some_and(Entry::is_folder) {
            return Err(FatError::WrongKind(path.into()));
        }
        // The new content is in place before the entry points to it and the old is given up.
        let first = self.store(path, bytes)?;
        let len = u32::try_from(bytes.len()).map_err(|_| FatError::Full(path.into()))?;
        match found {
            Some(entry) => {
                self.point(folder, &entry, first, len)?;
                self.release(entry.first_cluster)
            }
            None => self.add(folder, file_name, false, first, len),
        }
    }

    /// Makes the folder at `path` and those above it, where they are missing.
    pub fn put_folder(&mut self, path: &str) -> Result<(), FatError> {
        let parts = name::split(path)?;
        self.make_folders(&parts).map(|_| ())
    }

    /// The folder that these names lead to, made where it is missing.
    fn make_folders(&mut self, names: &[&str]) -> Result<Place, FatError> {
        let mut folder = self.boot.root;
        for name in names {
            folder = match self.find(folder, name)? {
                Some(entry) if entry.is_folder() => entry.place(self.boot.root),
                Some(_) => return Err(FatError::WrongKind((*name).into())),
                None => self.make_folder(folder, name)?,
            };
        }
        Ok(folder)
    }

    /// Removes the file or empty folder at `path`. Says whether there was one.
    pub fn remove(&mut self, path: &str) -> Result<bool, FatError> {
        let parts = name::split(path)?;
        let (name, folders) = parts
            .split_last()
            .ok_or_else(|| FatError::Path(path.into()))?;
        let mut folder = self.boot.root;
        for name in folders {
            match self.find(folder, name)? {
                Some(entry) if entry.is_folder() => folder = entry.place(self.boot.root),
                _ => return Ok(false),
            }
        }
        let Some(entry) = self.find(folder, name)? else {
            return Ok(false);
        };
        if entry.is_folder() && !self.is_empty(entry.place(self.boot.root))? {
            return Err(FatError::WrongKind(path.into()));
        }
        self.take_out(folder, &entry)?;
        self.release(entry.first_cluster)?;
        Ok(true)
    }

    /// The bytes of the file at `path`, or `None` where there is none.
    pub fn get(&self, path: &str) -> Result<Option<Vec<u8>>, FatError> {
        let mut place = self.boot.root;
        let parts = name::split(path)?;
        for (depth, name) in parts.iter().enumerate() {
            let Some(entry) = self.find(place, name)? else {
                return Ok(None);
            };
            let last = depth.saturating_add(1) == parts.len();
            if last == entry.is_folder() {
                return Err(FatError::WrongKind(path.into()));
            }
            if last {
                return self.load(path, &entry).map(Some);
            }
            place = entry.place(self.boot.root);
        }
        Ok(None)
    }

    /// Writes the changed sectors of the allocation table to each of its copies.
    pub fn close(mut self) -> Result<(), FatError> {
        let sectors = self.table.chunks(512).zip(self.table_before.chunks(512));
        for (number, (now, before)) in sectors.enumerate() {
            if now != before {
                for copy in 0..self.boot.tables {
                    let at = self
                        .boot
                        .table_at
                        .saturating_add(copy.saturating_mul(self.boot.table_len))
                        .saturating_add((number as u64).saturating_mul(512));
                    self.disk.write_at(at, now)?;
                }
            }
        }
        self.count_free()
    }

    /// Brings the free count of a FAT32 up to date.
    fn count_free(&mut self) -> Result<(), FatError> {
        let Some(at) = self.boot.info_at else {
            return Ok(());
        };
        let mut info = self.disk.read_vec(at, 512)?;
        if le32(&info, 0) != Some(0x4161_5252) || le32(&info, 484) != Some(0x6141_7272) {
            return Ok(());
        }
        let mut free = 0u32;
        for cluster in 2..self.boot.clusters.saturating_add(2) {
            free = free.saturating_add(u32::from(self.next(cluster)? == 0));
        }
        info[488..492].copy_from_slice(&free.to_le_bytes());
        Ok(self.disk.write_at(at, &info)?)
    }

    /// Refuses a cluster number that is not one of the data clusters.
    fn data_cluster(&self, cluster: u32) -> Result<u32, FatError> {
        if (2..self.boot.clusters.saturating_add(2)).contains(&cluster) {
            Ok(cluster)
        } else {
            Err(damaged(Structure::Chain, "leaves the data clusters"))
        }
    }

    /// The table's entry of a data cluster.
    fn next(&self, cluster: u32) -> Result<u32, FatError> {
        let at = cluster as usize;
        let value = match self.boot.bits {
            12 => le16(&self.table, at.saturating_add(at / 2)).map(|pair| {
                u32::from(if at.is_multiple_of(2) {
                    pair & 0xfff
                } else {
                    pair >> 4
                })
            }),
            16 => le16(&self.table, at.saturating_mul(2)).map(u32::from),
            _ => le32(&self.table, at.saturating_mul(4)).map(|value| value & 0x0fff_ffff),
        };
        value.ok_or(damaged(Structure::AllocationTable, "is too short"))
    }

    fn set_next(&mut self, cluster: u32, value: u32) {
        let at = cluster as usize;
        match self.boot.bits {
            12 => {
                let at = at.saturating_add(at / 2);
                let pair = u16::from_le_bytes([self.table[at], self.table[at.saturating_add(1)]]);
                let value = value as u16 & 0xfff;
                let pair = if cluster.is_multiple_of(2) {
                    pair & 0xf000 | value
                } else {
                    pair & 0x000f | value << 4
                };
                self.table[at..][..2].copy_from_slice(&pair.to_le_bytes());
            }
            16 => self.table[at.saturating_mul(2)..][..2]
                .copy_from_slice(&(value as u16).to_le_bytes()),
            _ => {
                let at = at.saturating_mul(4);
                let kept = le32(&self.table, at).unwrap_or(0) & 0xf000_0000;
                let value = kept | value & 0x0fff_ffff;
                self.table[at..][..4].copy_from_slice(&value.to_le_bytes());
            }
        }
    }

    /// The value that ends a chain.
    fn end_mark(&self) -> u32 {
        match self.boot.bits {
            12 => 0xfff,
            16 => 0xffff,
            _ => 0x0fff_ffff,
        }
    }

    /// First cluster of the root folder, 0 where it lies in front of the clusters.
    fn root_cluster(&self) -> u32 {
        match self.boot.root {
            Place::Chain(first) => first,
            Place::Fixed { .. } => 0,
        }
    }

    /// The clusters of a chain, in order. Cluster 0 is the empty chain.
    fn chain(&self, first: u32) -> Result<Vec<u32>, FatError> {
        let mut clusters = Vec::new();
        let mut at = first;
        while at != 0 && at < self.end_mark().saturating_sub(7) {
            if clusters.len() as u64 >= u64::from(self.boot.clusters) {
                return Err(damaged(Structure::Chain, "runs in a circle"));
            }
            clusters.push(self.data_cluster(at)?);
            at = self.next(at)?;
            if at == 0 {
                return Err(damaged(Structure::Chain, "ends in a free cluster"));
            }
        }
        Ok(clusters)
    }

    /// First byte of a cluster that has passed [`Fat::data_cluster`].
    fn cluster_at(&self, cluster: u32) -> u64 {
        self.boot.data_at.saturating_add(
            u64::from(cluster.saturating_sub(2)).saturating_mul(self.boot.cluster_len),
        )
    }

    /// Takes free clusters and chains them. Nothing is taken when there are too few.
    fn allocate(&mut self, count: usize, what: &str) -> Result<Vec<u32>, FatError> {
        let mut clusters = Vec::new();
        let all = 2..self.boot.clusters.saturating_add(2);
        for cluster in (self.hint..all.end).chain(all.start..self.hint) {
            if clusters.len() == count {
                break;
            }
            if self.next(cluster)? == 0 {
                clusters.push(cluster);
            }
        }
        if clusters.len() < count {
            return Err(FatError::Full(what.into()));
        }
        for pair in clusters.windows(2) {
            self.set_next(pair[0], pair[1]);
        }
        if let Some(last) = clusters.last() {
            self.set_next(*last, self.end_mark());
            self.hint = *last;
        }
        Ok(clusters)
    }

    /// Gives the clusters of a chain back.
    fn release(&mut self, first: u32) -> Result<(), FatError> {
        for cluster in self.chain(first)? {
            self.set_next(cluster, 0);
        }
        Ok(())
    }

    /// Writes bytes into newly taken clusters, the rest of the last one zero; gives the first.
    fn store(&mut self, what: &str, bytes: &[u8]) -> Result<u32, FatError> {
        let cluster_len = self.boot.cluster_len as usize;
        let clusters = self.allocate(bytes.len().div_ceil(cluster_len), what)?;
        for (cluster, part) in clusters.iter().zip(bytes.chunks(cluster_len)) {
            let mut padded = part.to_vec();
            padded.resize(cluster_len, 0);
            let at = self.cluster_at(*cluster);
            self.disk.write_at(at, &padded)?;
        }
        Ok(clusters.first().copied().unwrap_or(0))
    }

    fn load(&self, path: &str, entry: &Entry) -> Result<Vec<u8>, FatError> {
        let len = u64::from(entry.len);
        if len > MOST_FILE {
            return Err(FatError::TooLong {
                path: path.into(),
                len,
            });
        }
        let mut bytes =
            self.read_chain(entry.first_cluster, len.div_ceil(self.boot.cluster_len))?;
        if (bytes.len() as u64) < len {
            return Err(damaged(Structure::File, "is longer than its chain"));
        }
        bytes.truncate(len as usize);
        Ok(bytes)
    }

    /// The bytes of at most `most` clusters of a chain.
    fn read_chain(&self, first: u32, most: u64) -> Result<Vec<u8>, FatError> {
        let mut bytes = Vec::new();
        for cluster in self.chain(first)?.into_iter().take(most as usize) {
            bytes.extend(
                self.disk
                    .read_vec(self.cluster_at(cluster), self.boot.cluster_len as usize)?,
            );
        }
        Ok(bytes)
    }
}

/// The bytes of one file of the FAT file system that fills `disk`.
pub fn read_file<D: Disk + ?Sized>(disk: &D, path: &str) -> Result<Option<Vec<u8>>, FatError> {
    Fat::open(disk)?.get(path)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{MemoryDisk, Overlay};
    use proptest::prelude::*;
    use std::io;

    fn formatted(len: usize, bits: fatfs::FatType) -> MemoryDisk {
        let mut cursor = io::Cursor::new(vec![0; len]);
        let options = fatfs::FormatVolumeOptions::new()
            .fat_type(bits)
            .volume_label(*b"BOOT       ");
        fatfs::format_volume(&mut cursor, options).unwrap();
        MemoryDisk::from(cursor.into_inner())
    }

    #[test]
    fn files_are_made_replaced_and_read_in_every_width() {
        for (len, bits, name) in [
            (1 << 20, fatfs::FatType::Fat12, "FAT12"),
            (16 << 20, fatfs::FatType::Fat16, "FAT16"),
            (64 << 20, fatfs::FatType::Fat32, "FAT32"),
        ] {
            let base = formatted(len, bits);
            let described = BootSector::read(&base).unwrap().unwrap().describe();
            assert_eq!(
                (described.kind.as_str(), described.label.as_deref()),
                (name, Some("BOOT"))
            );
            let mut overlay = Overlay::new(&base, base.len());
            let mut fat = Fat::open(&mut overlay).unwrap();
            fat.put("a long folder name/network settings.txt", &[b'x'; 9000])
                .unwrap();
            fat.put("a long folder name/network settings.txt", b"short")
                .unwrap();
            fat.close().unwrap();
            let read = |path| read_file(&overlay, path).unwrap();
            assert_eq!(
                read("/a long folder name/network settings.txt").unwrap(),
                b"short"
            );
            assert_eq!(read("missing.txt"), None);
            assert_eq!(read("missing/too.txt"), None);
            assert!(overlay.changed_chunks().count() <= 4);
        }
    }

    #[test]
    fn a_file_that_does_not_fit_is_named() {
        let mut disk = formatted(1 << 20, fatfs::FatType::Fat12);
        let error = Fat::open(&mut disk)
            .unwrap()
            .put("big.bin", &vec![1; 2 << 20])
            .unwrap_err();
        assert!(
            matches!(error, FatError::Full(ref path) if path == "big.bin"),
            "{error}"
        );
    }

    #[test]
    fn paths_that_fat_cannot_hold_are_refused() {
        let mut disk = formatted(1 << 20, fatfs::FatType::Fat12);
        let mut fat = Fat::open(&mut disk).unwrap();
        for path in ["", "/", "../x", "a:b", "dir/", "dot.", "tab\t"] {
            assert!(
                matches!(fat.put(path, b""), Err(FatError::Path(_))),
                "{path:?}"
            );
        }
    }

    proptest! {
        /// Damage anywhere in the tables gives an answer or an error, never a panic.
        #[test]
        fn damage_never_panics(changes in proptest::collection::vec((0usize..20_000, any::<u8>()), 1..40)) {
            let mut base = formatted(1 << 20, fatfs::FatType::Fat12);
            let mut fat = Fat::open(&mut base).unwrap();
            fat.put("folder/file.txt", &[3; 5000]).unwrap();
            fat.close().unwrap();
            let mut bytes = base.bytes().to_vec();
            for (at, byte) in changes {
                bytes[at] = byte;
            }
            let damaged = MemoryDisk::from(bytes);
            let _ = recognise_and_read(&damaged);
        }
    }

    fn recognise_and_read(disk: &MemoryDisk) -> Result<(), FatError> {
        super::super::recognise(disk)?;
        read_file(disk, "folder/file.txt")?;
        let mut overlay = Overlay::new(disk, disk.len());
        let mut fat = Fat::open(&mut overlay)?;
        fat.put("folder/other.txt", b"new")?;
        fat.close()
    }
}
