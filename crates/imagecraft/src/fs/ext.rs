//! The superblock of ext2, ext3 and ext4: 1024 bytes at byte 1024 (Linux kernel documentation,
//! "ext4 Data Structures and Algorithms").

use super::{FileSystem, label};
use crate::table::{le16, le32};
use crate::{Disk, DiskError};

const MAGIC: u16 = 0xef53;
const HAS_JOURNAL: u32 = 0x4;
/// Incompatible features that came with ext4: extents, 64bit, flex_bg.
const OF_EXT4: u32 = 0x40 | 0x80 | 0x200;

/// Describes the ext file system that fills `disk`, if there is one.
pub fn recognise<D: Disk + ?Sized>(disk: &D) -> Result<Option<FileSystem>, DiskError> {
    if disk.len() < 2048 {
        return Ok(None);
    }
    let block = disk.read_vec(1024, 1024)?;
    if le16(&block, 0x38) != Some(MAGIC) {
        return Ok(None);
    }
    let compatible = le32(&block, 0x5c).unwrap_or(0);
    let incompatible = le32(&block, 0x60).unwrap_or(0);
    let kind = if incompatible & OF_EXT4 != 0 {
        "ext4"
    } else if compatible & HAS_JOURNAL != 0 {
        "ext3"
    } else {
        "ext2"
    };
    let mut uuid = String::new();
    for (place, byte) in block[0x68..0x78].iter().enumerate() {
        if matches!(place, 4 | 6 | 8 | 10) {
            uuid.push('-');
        }
        uuid.push_str(&format!("{byte:02x}"));
    }
    Ok(Some(FileSystem {
        kind: kind.into(),
        label: label(&block[0x78..0x88]),
        uuid: Some(uuid),
    }))
}
