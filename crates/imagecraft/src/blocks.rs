//! A disk made for the blocks of a card's reader: the table counts in them, and no file system in smaller ones.
//!
//! Tables name places by numbers of blocks, whose size they do not say: a computer takes that of the reader. And it mounts
//! no file system whose own blocks are smaller than the reader's.

use crate::fs::{ext, fat};
use crate::number::split;
use crate::table::TableKind;
use crate::table::gpt::{Gpt, GptError, SECTOR_SIZES};
use crate::table::mbr::{self, MbrError};
use crate::{Disk, DiskError, Layout, Partition};

/// Bytes of a partition with no known file system that are looked at; those that read as zero are taken for empty.
const HEAD: u64 = 128 * 1024;

/// Why a disk cannot be made for other blocks.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BlocksError {
    /// No table is made for blocks of this size.
    #[error("no partition table is made for blocks of that size")]
    Size,
    /// Two tables name the same partitions.
    #[error(
        "the master boot record names partitions beside the GUID partition table, and only one of them can be changed"
    )]
    Hybrid,
    /// The disk is an ISO image as well.
    #[error("an ISO 9660 image has blocks of its own")]
    Iso,
    /// A file system has smaller blocks.
    #[error("{title} holds {holds}, {why}")]
    FileSystem {
        /// What people call the partition.
        title: String,
        /// Its file system.
        holds: String,
        /// Why it cannot be used in such blocks.
        why: String,
    },
    /// The GUID partition table cannot be changed.
    #[error(transparent)]
    Gpt(#[from] GptError),
    /// The master boot record cannot be changed.
    #[error(transparent)]
    Mbr(#[from] MbrError),
    /// The disk could not be read or written.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// The GUID partition table of a layout, counting in blocks of `block` bytes; `None` for other tables.
///
/// # Errors
/// [`BlocksError`] where the layout cannot be made for such blocks.
pub fn table_for(layout: &Layout, block: u64) -> Result<Option<Gpt>, BlocksError> {
    if !SECTOR_SIZES.contains(&block) {
        return Err(BlocksError::Size);
    }
    if layout.has_finding("hybrid") {
        return Err(BlocksError::Hybrid);
    }
    if layout.has_finding("iso") && block > 2048 {
        return Err(BlocksError::Iso);
    }
    let table = layout.gpt.as_ref().map(|gpt| gpt.recounted(block));
    Ok(table.transpose()?)
}

/// Makes the disk for a reader with blocks of `block` bytes. Partitions stay where they are. The copies of a GUID partition
/// table are not written yet: it must be fitted to the card.
///
/// # Errors
/// [`BlocksError`] says what stands against it; the disk may be changed in part then.
pub fn recount<D: Disk>(disk: &mut D, layout: &mut Layout, block: u64) -> Result<(), BlocksError> {
    let table = table_for(layout, block)?;
    for partition in &layout.partitions {
        make_usable(disk, partition, block)?;
    }
    match (&layout.gpt, &table) {
        (Some(former), Some(table)) => table.clear_front(disk, former)?,
        _ if layout.table == TableKind::Mbr => mbr::recount(disk, layout.block, block)?,
        _ => {}
    }
    layout.gpt = table;
    layout.block = block;
    Ok(())
}

/// Sees to it that the file system in a partition can be used where blocks have this size.
fn make_usable<D: Disk>(
    disk: &mut D,
    partition: &Partition,
    block: u64,
) -> Result<(), BlocksError> {
    let refused = |why: String| BlocksError::FileSystem {
        title: partition.title(),
        holds: partition.holds().into(),
        why,
    };
    let smaller = |own: u64| {
        refused(format!(
            "with blocks of {own} bytes, which no computer uses through such a reader"
        ))
    };
    if partition.is_ext() {
        return match ext::block_len(&partition.window(&*disk)?) {
            Ok(own) if own < block => Err(smaller(own)),
            Ok(_) => Ok(()),
            Err(ext::ExtError::Disk(e)) => Err(e.into()),
            Err(e) => Err(refused(format!("which cannot be used: {e}"))),
        };
    }
    if partition.is_fat() {
        return match fat::enlarge_sectors(&mut partition.window(&mut *disk)?, block) {
            Ok(()) => Ok(()),
            Err(fat::FatError::Disk(e)) => Err(e.into()),
            Err(e) => Err(refused(format!("which cannot be used there: {e}"))),
        };
    }
    let kind = partition.file_system.as_ref().map(|fs| fs.kind.as_str());
    match kind {
        _ if block == SECTOR_SIZES[0] => Ok(()),
        // They count in pages of 4,096 bytes or more, or in no blocks of the reader at all.
        Some("Btrfs" | "F2FS" | "SquashFS" | "swap") => Ok(()),
        Some(_) => Err(refused(format!(
            "which is not made for blocks of {block} bytes here"
        ))),
        None => {
            let head = disk.read_vec(partition.start, partition.len.min(HEAD) as usize)?;
            let empty = head.iter().all(|byte| *byte == 0) && split(partition.len, block).1 == 0;
            match empty {
                true => Ok(()),
                false => Err(refused(
                    "so that nobody can tell what its blocks are".into(),
                )),
            }
        }
    }
}
