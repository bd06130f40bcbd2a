//! A disk with one empty FAT32 volume, as any computer opens it.
//!
//! On-disk structure: "FAT: General Overview of On-Disk Format", version 1.03, and ECMA-107 for what it
//! inherits; the partition table is the classic one of four entries.

// Nothing here is read off a disk: all numbers follow from its length, which is bounded first.
#![allow(clippy::arithmetic_side_effects, reason = "numbers of our own making")]

use crate::{ByteKind, Disk, DiskError, Map};

const SECTOR: u64 = 512;
/// First byte of the volume, and what its data begin at a multiple of: no erase block of a card is larger.
const ALIGN: u64 = 4 << 20;
/// The least number of clusters of a FAT32 volume; fewer make it another kind.
const FEWEST_CLUSTERS: u64 = 65_525;
/// Copies of the allocation table.
const TABLES: u64 = 2;
/// The first cluster that is data; the root folder is there.
const ROOT: u32 = 2;
/// The last link of a chain.
const END: u32 = 0x0fff_ffff;

/// Sectors of a cluster on a volume of so many bytes, by the usual table for such volumes.
fn cluster_sectors(len: u64) -> u64 {
    match len >> 20 {
        ..260 => 1,
        260..8_192 => 8,
        8_192..16_384 => 16,
        16_384..32_768 => 32,
        _ => 64,
    }
}

/// Puts a partition table and an empty volume on a disk of zeros, and says in `map` what of it must be
/// written. `label` is its name, of at most eleven plain letters and digits; `serial` its number.
///
/// # Errors
/// [`DiskError::Io`] where the disk is too small or too large for such a volume, or cannot be written.
pub fn empty_volume(
    disk: &mut dyn Disk,
    map: &mut Map,
    label: &str,
    serial: u32,
) -> Result<(), DiskError> {
    let refused = |why: &str| DiskError::Io(std::io::Error::other(why.to_owned()));
    let size = disk.len() / SECTOR * SECTOR;
    let len = size
        .checked_sub(ALIGN)
        .ok_or_else(|| refused("the card is too small"))?;
    let sectors = u32::try_from(len / SECTOR).map_err(|_| refused("the card is too large"))?;
    let per_cluster = cluster_sectors(len);
    // As large as the whole would need, which is a little more than what is left of it does.
    let entries = u64::from(sectors) / per_cluster + 2;
    let table = (entries * 4).div_ceil(SECTOR);
    let data = (32 + TABLES * table).next_multiple_of(ALIGN / SECTOR);
    let reserved = data - TABLES * table;
    let clusters = u64::from(sectors).saturating_sub(data) / per_cluster;
    if clusters < FEWEST_CLUSTERS {
        return Err(refused("the card is too small for a volume of this kind"));
    }
    let reserved_16 = u16::try_from(reserved).map_err(|_| refused("the card is too large"))?;
    let start = ALIGN / SECTOR;

    let mut name = [b' '; 11];
    for (to, from) in name.iter_mut().zip(label.bytes()) {
        *to = match from {
            b'-' | b'_' | b'0'..=b'9' => from,
            letter if letter.is_ascii_alphabetic() => letter.to_ascii_uppercase(),
            _ => b'_',
        };
    }
    let boot = boot_sector(
        sectors,
        per_cluster as u8,
        reserved_16,
        table as u32,
        start as u32,
        serial,
        &name,
    );
    let info = info_sector(clusters as u32 - 1);
    let mut head = [0; SECTOR as usize];
    head[440..444].copy_from_slice(&serial.to_le_bytes());
    // One partition: no cylinders, the kind of FAT32 by sector numbers, first sector, sectors.
    head[446..462].copy_from_slice(
        &[
            &[0, 0xfe, 0xff, 0xff, 0x0c, 0xfe, 0xff, 0xff][..],
            &(start as u32).to_le_bytes(),
            &sectors.to_le_bytes(),
        ]
        .concat(),
    );
    head[510..].copy_from_slice(&[0x55, 0xaa]);
    let mut first_links = Vec::new();
    for link in [0x0fff_fff8, END, END] {
        first_links.extend(u32::to_le_bytes(link));
    }
    let mut root = vec![0; 32];
    root[..11].copy_from_slice(&name);
    // The volume's name.
    root[11] = 0x08;

    let tables = start + reserved;
    let content = start + data;
    map.set(0, content * SECTOR + per_cluster * SECTOR, ByteKind::Zero);
    let mut put = |sector: u64, bytes: &[u8]| {
        let at = sector * SECTOR;
        map.set(
            at,
            at + (bytes.len() as u64).next_multiple_of(SECTOR),
            ByteKind::Data,
        );
        disk.write_at(at, bytes)
    };
    put(0, &head)?;
    for copy in [0, 6] {
        put(start + copy, &boot)?;
        put(start + copy + 1, &info)?;
    }
    for copy in 0..TABLES {
        put(tables + copy * table, &first_links)?;
    }
    put(content, &root)?;
    // What computers look for at the end: no old table's copy stays there.
    map.set(
        size.saturating_sub(1 << 20)
            .max(content * SECTOR + per_cluster * SECTOR),
        disk.len(),
        ByteKind::Zero,
    );
    Ok(())
}

fn boot_sector(
    sectors: u32,
    per_cluster: u8,
    reserved: u16,
    table: u32,
    hidden: u32,
    serial: u32,
    name: &[u8; 11],
) -> [u8; SECTOR as usize] {
    let mut boot = [0; SECTOR as usize];
    let mut put = |at: usize, bytes: &[u8]| boot[at..at + bytes.len()].copy_from_slice(bytes);
    // A jump over the parameters, to a halt: this starts no computer.
    put(0, &[0xeb, 0x58, 0x90]);
    put(3, b"DUPLICAR");
    put(11, &(SECTOR as u16).to_le_bytes());
    put(13, &[per_cluster]);
    put(14, &reserved.to_le_bytes());
    put(16, &[TABLES as u8]);
    // Kind of medium, sectors and heads of a disk that has none.
    put(21, &[0xf8]);
    put(24, &63_u16.to_le_bytes());
    put(26, &255_u16.to_le_bytes());
    put(28, &hidden.to_le_bytes());
    put(32, &sectors.to_le_bytes());
    put(36, &table.to_le_bytes());
    put(44, &ROOT.to_le_bytes());
    // Where the free space is told, and the copy of this sector.
    put(48, &1_u16.to_le_bytes());
    put(50, &6_u16.to_le_bytes());
    put(64, &[0x80]);
    put(66, &[0x29]);
    put(67, &serial.to_le_bytes());
    put(71, name);
    put(82, b"FAT32   ");
    put(90, &[0xf4, 0xeb, 0xfd]);
    put(510, &[0x55, 0xaa]);
    boot
}

/// How many clusters are free, and where to look for the first.
fn info_sector(free: u32) -> [u8; SECTOR as usize] {
    let mut info = [0; SECTOR as usize];
    info[..4].copy_from_slice(b"RRaA");
    info[484..488].copy_from_slice(b"rrAa");
    info[488..492].copy_from_slice(&free.to_le_bytes());
    info[492..496].copy_from_slice(&(ROOT + 1).to_le_bytes());
    info[508..].copy_from_slice(&[0, 0, 0x55, 0xaa]);
    info
}
