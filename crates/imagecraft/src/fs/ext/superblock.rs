//! The superblock: 1024 bytes at byte 1024.

use super::ExtError;
use super::checksum::crc32c;
use crate::fs::{FileSystem, label, uuid_text};
use crate::number::{le16, le32, split, times};
use crate::{Disk, SECTOR};

/// First byte of the superblock.
pub const AT: u64 = 2 * SECTOR;
const MAGIC: u16 = 0xef53;

/// Features that a system may ignore.
pub mod compat {
    pub const HAS_JOURNAL: u32 = 0x4;
    pub const HAS_ATTRIBUTES: u32 = 0x8;
    pub const RESIZE_INODE: u32 = 0x10;
    pub const DIR_INDEX: u32 = 0x20;
    pub const SPARSE_SUPER2: u32 = 0x200;
    pub const ORPHAN_FILE: u32 = 0x1000;
    /// Those under which files can be edited: dir_prealloc, imagic, has_journal, ext_attr,
    /// resize_inode, dir_index, sparse_super2, fast_commit, stable_inodes, orphan_file.
    pub const EDITABLE: u32 = 0x3
        | HAS_JOURNAL
        | HAS_ATTRIBUTES
        | RESIZE_INODE
        | DIR_INDEX
        | SPARSE_SUPER2
        | 0x400
        | 0x800
        | ORPHAN_FILE;
    pub const NAMES: &[(u32, &str)] = &[
        (0x40, "lazy_bg"),
        (0x80, "exclude_inode"),
        (0x100, "exclude_bitmap"),
    ];
}
/// Features that a system must know to read the file system.
pub mod incompat {
    pub const FILETYPE: u32 = 0x2;
    pub const RECOVER: u32 = 0x4;
    pub const JOURNAL_DEVICE: u32 = 0x8;
    pub const META_BG: u32 = 0x10;
    pub const EXTENTS: u32 = 0x40;
    pub const BITS_64: u32 = 0x80;
    pub const FLEX_BG: u32 = 0x200;
    pub const CSUM_SEED: u32 = 0x2000;
    /// All that are understood when reading: filetype, recover, meta_bg, extents, 64bit, mmp,
    /// flex_bg, ea_inode, checksum seed, large folders, inline data, encryption, casefold.
    pub const KNOWN: u32 = 0x2
        | RECOVER
        | META_BG
        | EXTENTS
        | BITS_64
        | 0x100
        | FLEX_BG
        | 0x400
        | CSUM_SEED
        | 0x4000
        | 0x8000
        | 0x1_0000
        | 0x2_0000;
    /// Those under which files can be edited.
    pub const EDITABLE: u32 =
        FILETYPE | RECOVER | META_BG | EXTENTS | BITS_64 | FLEX_BG | CSUM_SEED | 0x4000;
    pub const NAMES: &[(u32, &str)] = &[
        (0x1, "compression"),
        (JOURNAL_DEVICE, "journal_dev"),
        (0x100, "mmp"),
        (0x400, "ea_inode"),
        (0x1000, "dirdata"),
        (0x8000, "inline_data"),
        (0x1_0000, "encrypt"),
        (0x2_0000, "casefold"),
    ];
}
/// Features that a system must know to write.
pub mod ro_compat {
    pub const SPARSE_SUPER: u32 = 0x1;
    pub const GDT_CSUM: u32 = 0x10;
    pub const BIGALLOC: u32 = 0x200;
    pub const METADATA_CSUM: u32 = 0x400;
    pub const DIR_NLINK: u32 = 0x20;
    pub const ORPHAN_PRESENT: u32 = 0x1_0000;
    /// Those under which files can be edited: sparse_super, large_file, huge_file, uninit groups,
    /// dir_nlink, extra_isize, metadata_csum, orphans present.
    pub const EDITABLE: u32 =
        SPARSE_SUPER | 0x2 | 0x8 | GDT_CSUM | DIR_NLINK | 0x40 | METADATA_CSUM | ORPHAN_PRESENT;
    pub const NAMES: &[(u32, &str)] = &[
        (0x4, "btree_dir"),
        (0x80, "has_snapshot"),
        (0x100, "quota"),
        (BIGALLOC, "bigalloc"),
        (0x800, "replica"),
        (0x1000, "read-only"),
        (0x2000, "project"),
        (0x4000, "shared_blocks"),
        (0x8000, "verity"),
    ];
    /// All that are known to leave the meaning of block bitmaps alone, by their bits: sparse_super
    /// to extra_isize, quota, bigalloc, metadata_csum, replica, read-only, project, shared blocks,
    /// verity, orphans present.
    pub const KNOWN: u32 = 0x7f
        | 0x100
        | BIGALLOC
        | METADATA_CSUM
        | 0x800
        | 0x1000
        | 0x2000
        | 0x4000
        | 0x8000
        | 0x1_0000;
}

/// Most groups that are looked into: 32 TiB in groups of 128 MiB. Each costs a read of its bitmap.
const MOST_GROUPS: u64 = 1 << 18;

/// A superblock whose fields have been checked against each other and the disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Superblock {
    pub(super) compat: u32,
    pub(super) incompat: u32,
    pub(super) ro_compat: u32,
    pub(super) state: u16,
    /// Bytes in a block, 1024 to 65536.
    pub block_len: u64,
    /// Number of blocks.
    pub blocks: u64,
    pub(super) first_block: u64,
    /// Blocks that one bit of a bitmap stands for.
    pub(super) cluster: u64,
    pub(super) blocks_per_group: u64,
    pub(super) inodes: u32,
    pub(super) inodes_per_group: u32,
    pub(super) inode_len: u64,
    pub(super) descriptor_len: u64,
    pub(super) reserved_descriptors: u64,
    pub(super) first_meta_group: u64,
    pub(super) backup_groups: [u32; 2],
    pub(super) journal_inode: u32,
    /// State that checksums of this file system begin with.
    pub(super) seed: u32,
    pub(super) uuid: [u8; 16],
    /// Groups whose tables stand together, at least 1.
    pub(super) groups_per_flex: u64,
    /// The first inode that is free for files.
    pub(super) first_inode: u32,
    /// Bytes that new inodes use behind their first 128.
    pub(super) extra_len: u16,
}

pub fn has_magic(raw: &[u8]) -> bool {
    le16(raw, 0x38) == Some(MAGIC)
}

/// What a superblock says for people, with no field checked.
pub fn describe(raw: &[u8]) -> FileSystem {
    const OF_EXT4: u32 = incompat::EXTENTS | incompat::BITS_64 | incompat::FLEX_BG;
    let has = |at, bit| le32(raw, at).unwrap_or(0) & bit != 0;
    let kind = if has(0x60, OF_EXT4) {
        "ext4"
    } else if has(0x5c, compat::HAS_JOURNAL) {
        "ext3"
    } else {
        "ext2"
    };
    FileSystem {
        kind: kind.into(),
        label: raw.get(0x78..0x88).and_then(label),
        uuid: raw.get(0x68..0x78).map(uuid_text),
    }
}

impl Superblock {
    /// Reads and checks the first superblock.
    pub fn read<D: Disk + ?Sized>(disk: &D) -> Result<Self, ExtError> {
        if disk.len() < AT + 1024 {
            return Err(ExtError::Superblock("place"));
        }
        Self::parse(&disk.read_vec(AT, 1024)?, disk.len())
    }

    fn parse(raw: &[u8], disk_len: u64) -> Result<Self, ExtError> {
        let found = Self::parse_unsealed(raw, disk_len)?;
        if found.has_checksums() && crc32c(!0, &raw[..0x3fc]) != le32(raw, 0x3fc).unwrap_or(0) {
            return Err(ExtError::Checksum("the superblock".into()));
        }
        Ok(found)
    }

    /// Checks everything but the checksum.
    pub(super) fn parse_unsealed(raw: &[u8], disk_len: u64) -> Result<Self, ExtError> {
        let word = |at| u64::from(le16(raw, at).unwrap_or(0));
        let long = |at| le32(raw, at).unwrap_or(0);
        let wrong = ExtError::Superblock;
        if !has_magic(raw) {
            return Err(wrong("magic number"));
        }
        let dynamic = long(0x4c) >= 1;
        let feature = |at| if dynamic { long(at) } else { 0 };
        let (compat, incompat, ro_compat) = (feature(0x5c), feature(0x60), feature(0x64));
        if incompat & incompat::JOURNAL_DEVICE != 0 {
            return Err(wrong(
                "kind: it is the outside journal of another file system",
            ));
        }
        let (log_block, log_cluster) = (long(0x18), long(0x1c));
        if log_block > 6 {
            return Err(wrong("block size"));
        }
        let block_len = 1024_u64 << log_block;
        let bigalloc = ro_compat & ro_compat::BIGALLOC != 0;
        let cluster = match (bigalloc, log_cluster.checked_sub(log_block)) {
            (false, _) => 1,
            (true, Some(more)) if more <= 20 => 1_u64 << more,
            _ => return Err(wrong("cluster size")),
        };
        let wide = incompat & incompat::BITS_64 != 0;
        let high = if wide {
            u64::from(long(0x150)) << 32
        } else {
            0
        };
        let blocks = high | u64::from(long(4));
        let first_block = u64::from(long(0x14));
        if first_block > 1 || blocks <= first_block {
            return Err(wrong("number of blocks"));
        }
        if blocks
            .checked_mul(block_len)
            .is_none_or(|len| len > disk_len)
        {
            return Err(wrong("length: it is longer than its partition"));
        }
        let blocks_per_group = u64::from(long(0x20));
        if blocks_per_group == 0
            || !blocks_per_group.is_multiple_of(cluster)
            || times(blocks_per_group, cluster) > block_len.saturating_mul(8)
        {
            return Err(wrong("number of blocks in a group"));
        }
        let inodes_per_group = long(0x28);
        if inodes_per_group == 0 || u64::from(inodes_per_group) > block_len.saturating_mul(8) {
            return Err(wrong("number of inodes in a group"));
        }
        // Growing adds whole groups to this count, and inodes are looked up by it.
        let groups = blocks
            .saturating_sub(first_block)
            .div_ceil(blocks_per_group);
        if groups > MOST_GROUPS {
            return Err(wrong("number of groups"));
        }
        if groups.checked_mul(u64::from(inodes_per_group)) != Some(u64::from(long(0))) {
            return Err(wrong("number of inodes"));
        }
        let inode_len = if dynamic { word(0x58) } else { 128 };
        if !inode_len.is_power_of_two() || !(128..=block_len).contains(&inode_len) {
            return Err(wrong("inode size"));
        }
        let descriptor_len = if wide { word(0xfe) } else { 32 };
        if !descriptor_len.is_power_of_two()
            || !(if wide { 64 } else { 32 }..=1024).contains(&descriptor_len)
        {
            return Err(wrong("size of group descriptors"));
        }
        let mut uuid = [0; 16];
        uuid.copy_from_slice(&raw[0x68..0x78]);
        let seed = if incompat & incompat::CSUM_SEED != 0 {
            long(0x270)
        } else {
            crc32c(!0, &uuid)
        };
        Ok(Self {
            compat,
            incompat,
            ro_compat,
            state: word(0x3a) as u16,
            block_len,
            blocks,
            first_block,
            cluster,
            blocks_per_group,
            inodes: long(0),
            inodes_per_group,
            inode_len,
            descriptor_len,
            reserved_descriptors: word(0xce).min(block_len / 4),
            first_meta_group: u64::from(long(0x104)),
            backup_groups: [long(0x24c), long(0x250)],
            journal_inode: long(0xe0),
            seed,
            uuid,
            groups_per_flex: if incompat & incompat::FLEX_BG != 0 {
                1 << raw[0x174].min(31)
            } else {
                1
            },
            first_inode: if dynamic { long(0x54).max(11) } else { 11 },
            extra_len: if inode_len > 128 {
                (word(0x15e) as u16).clamp(28, inode_len.saturating_sub(128).min(32) as u16)
            } else {
                0
            },
        })
    }

    /// Refuses features whose meaning for the use of blocks is not known.
    pub fn check_known(&self) -> Result<(), ExtError> {
        let unknown =
            |what: &str, bits: u32| Err(ExtError::Feature(format!("{what} feature {bits:#x}")));
        match (
            self.incompat & !incompat::KNOWN,
            self.ro_compat & !ro_compat::KNOWN,
        ) {
            (0, 0) => Ok(()),
            (0, bits) => unknown("the read-only compatible", bits),
            (bits, _) => unknown("the incompatible", bits),
        }
    }

    /// Refuses features that editing does not handle, by their names.
    pub(super) fn check_editable(&self) -> Result<(), ExtError> {
        let lists = [
            (self.incompat, incompat::EDITABLE, incompat::NAMES),
            (self.ro_compat, ro_compat::EDITABLE, ro_compat::NAMES),
            (self.compat, compat::EDITABLE, compat::NAMES),
        ];
        let mut found = Vec::new();
        for (has, editable, names) in lists {
            for bit in (0..32).map(|bit| 1_u32 << bit) {
                if has & bit & !editable != 0 {
                    let name = names.iter().find(|(known, _)| *known == bit);
                    found.push(
                        name.map_or(format!("the unknown feature {bit:#x}"), |(_, name)| {
                            (*name).to_owned()
                        }),
                    );
                }
            }
        }
        match found.as_slice() {
            [] => Ok(()),
            found => Err(ExtError::Feature(found.join(", "))),
        }
    }

    pub(super) fn is_wide(&self) -> bool {
        self.incompat & incompat::BITS_64 != 0
    }

    pub(super) fn has_meta_groups(&self) -> bool {
        self.incompat & incompat::META_BG != 0
    }

    /// Whether it was unmounted, or is kept consistent by a journal.
    pub fn is_clean(&self) -> bool {
        self.state & 1 != 0
    }

    /// Whether the system that used it met errors.
    pub fn has_errors(&self) -> bool {
        self.state & 2 != 0
    }

    /// Whether its journal holds changes that have not reached their place.
    pub fn needs_recovery(&self) -> bool {
        self.compat & compat::HAS_JOURNAL != 0 && self.incompat & incompat::RECOVER != 0
    }

    pub(super) fn has_checksums(&self) -> bool {
        self.ro_compat & ro_compat::METADATA_CSUM != 0
    }

    pub(super) fn has_group_checksums(&self) -> bool {
        self.ro_compat & (ro_compat::METADATA_CSUM | ro_compat::GDT_CSUM) != 0
    }

    /// Number of block groups.
    pub fn groups(&self) -> u64 {
        self.blocks
            .saturating_sub(self.first_block)
            .div_ceil(self.blocks_per_group)
    }

    /// Clusters in each group but the last one; blocks, where they are not bundled.
    pub(super) fn clusters_per_group(&self) -> u64 {
        times(self.blocks_per_group, self.cluster)
    }

    /// Group of an inode, and its index in that group's table.
    pub(super) fn place_of_inode(&self, number: u32) -> (u64, u32) {
        let before = number.saturating_sub(1);
        let (group, index) = split(before.into(), self.inodes_per_group.into());
        (group, index as u32)
    }

    pub(super) fn group_start(&self, group: u64) -> u64 {
        self.first_block
            .saturating_add(group.saturating_mul(self.blocks_per_group))
    }

    /// Whether a group begins with a copy of the superblock.
    pub(super) fn has_copy(&self, group: u64) -> bool {
        let power_of = |base: u64| {
            let mut power = base;
            while power < group {
                power = power.saturating_mul(base);
            }
            power == group
        };
        if group == 0 {
            true
        } else if self.compat & compat::SPARSE_SUPER2 != 0 {
            self.backup_groups
                .iter()
                .any(|copy| u64::from(*copy) == group)
        } else {
            self.ro_compat & ro_compat::SPARSE_SUPER == 0
                || group == 1
                || [3, 5, 7].into_iter().any(power_of)
        }
    }

    /// Bytes that the file system would take if it were shrunk around `used` bytes: one twentieth
    /// and 16 MiB of slack, whole MiB.
    pub(super) fn shrunk(&self, used: u64) -> u64 {
        let most = self.blocks.saturating_mul(self.block_len);
        used.saturating_add(used / 20)
            .saturating_add(16 << 20)
            .next_multiple_of(1 << 20)
            .min(most)
    }
}
