//! Which blocks are in use: the block bitmaps, and the tables that every group has whether its
//! bitmap was ever written or not. What no system reads does not count, the ends of inode tables
//! that nobody has written yet and the room that copies of the descriptors may grow into: a file
//! system grown over a large card has hundreds of megabytes of both.

use super::checksum::crc32c;
use super::superblock::Superblock;
use super::{ExtError, Structure, damaged};
use crate::Disk;
use crate::fs::Used;

/// Reads all block bitmaps. `checked` says whether checksums must match, and the numbers of what is free.
///
/// # Errors
/// [`ExtError::Checksum`] and [`ExtError::Damaged`] where a bitmap is not the one that its group descriptor tells of: it may
/// call free what is in use.
pub fn used<D: Disk + ?Sized>(
    disk: &D,
    superblock: &Superblock,
    checked: bool,
) -> Result<Used, ExtError> {
    let mut used = Used::new(superblock.blocks, superblock.block_len)
        .ok_or_else(|| ExtError::TooLong("the block bitmap".into()))?;
    // The superblock and whatever stands in front of it.
    used.add(
        0,
        superblock
            .first_block
            .saturating_add(1)
            .saturating_add(superblock.superblock_offset(0)),
    );
    let mut raw_tables = Vec::new();
    for group in 0..superblock.groups() {
        let start = superblock.group_start(group);
        used.add(start, superblock.base_blocks(group));
        let found = superblock.group(disk, group, checked)?;
        used.add(found.block_bitmap, 1);
        used.add(found.inode_bitmap, 1);
        used.add(found.inode_table, superblock.table_blocks());
        let written = u64::from(superblock.inodes_per_group.saturating_sub(found.raw_inodes));
        let written = written
            .saturating_mul(superblock.inode_len)
            .div_ceil(superblock.block_len);
        raw_tables.push((
            found.inode_table.saturating_add(written),
            superblock.table_blocks().saturating_sub(written),
        ));
        if found.blocks_unused {
            continue;
        }
        let bitmap = disk.read_vec(
            found.block_bitmap.saturating_mul(superblock.block_len),
            superblock.block_len as usize,
        )?;
        if checked && superblock.has_checksums() {
            let covered = superblock.clusters_per_group() / 8;
            let (expected, kept) = found.bitmap_checksum;
            if (crc32c(superblock.seed, &bitmap[..covered as usize]) ^ expected) & kept != 0 {
                return Err(ExtError::Checksum(format!(
                    "the block bitmap of group {group}"
                )));
            }
        }
        let bits = superblock.clusters_per_group();
        let there = superblock.group_len(group).div_ceil(superblock.cluster);
        if checked && free_bits(&bitmap, there.min(bits)) != u64::from(found.free_clusters) {
            return Err(damaged(
                Structure::Group,
                Some(group),
                "says that another number of blocks is free than its block bitmap",
            ));
        }
        let mut bit = 0;
        while bit < bits {
            let byte = bitmap[(bit / 8) as usize];
            let whole = bit % 8 == 0;
            if whole && byte == 0 {
                bit = bit.saturating_add(8);
                continue;
            }
            let run = if whole && byte == 0xff {
                8.min(bits.saturating_sub(bit))
            } else {
                1
            };
            if byte >> (bit % 8) & 1 == 1 {
                used.add(
                    start.saturating_add(bit.saturating_mul(superblock.cluster)),
                    run.saturating_mul(superblock.cluster),
                );
            }
            bit = bit.saturating_add(run);
        }
    }
    // The tables of one group may lie in another, whose bitmap calls them used.
    for (start, count) in raw_tables {
        used.remove(start, count);
    }
    for group in 1..superblock.groups() {
        let (from, count) = superblock.reserved_blocks(group);
        used.remove(superblock.group_start(group).saturating_add(from), count);
    }
    Ok(used)
}

/// How many of the first bits of a bitmap are not set.
fn free_bits(bitmap: &[u8], bits: u64) -> u64 {
    let (whole, rest) = ((bits / 8) as usize, bits % 8);
    let zeros = |byte: u8| u64::from(byte.count_zeros());
    let mut free: u64 = bitmap.iter().take(whole).map(|byte| zeros(*byte)).sum();
    if let Some(last) = bitmap.get(whole).filter(|_| rest > 0) {
        free = free.saturating_add(zeros(last | (0xff_u8 << rest)));
    }
    free
}
