//! Inodes that were being deleted or cut when the system stopped: a list through the inodes, or
//! a file of their numbers. They are cleared away as the next start of a board would.

use super::super::checksum::crc32c;
use super::super::superblock::{compat, ro_compat};
use super::{Editor, ExtError, Structure, damaged, put32};
use crate::Disk;
use crate::fs::NodeKind;
use crate::number::le32;

const LAST_ORPHAN: usize = 0xe8;
pub const ORPHAN_FILE: usize = 0x280;
const BLOCK_MARK: u32 = 0x0b10_ca04;

impl<D: Disk> Editor<D> {
    pub(super) fn clear_orphans(&mut self) -> Result<(), ExtError> {
        let mut number = le32(&self.raw, LAST_ORPHAN).unwrap_or(0);
        let mut seen = std::collections::BTreeSet::new();
        while number != 0 {
            if !seen.insert(number) {
                return Err(damaged(Structure::Orphans, None, "run in a circle"));
            }
            let next = self.record(number)?.next_orphan();
            self.clear_orphan(number)?;
            number = next;
        }
        put32(&mut self.raw, LAST_ORPHAN, 0);
        let has_file = self.superblock.compat & compat::ORPHAN_FILE != 0;
        if has_file && self.superblock.ro_compat & ro_compat::ORPHAN_PRESENT != 0 {
            self.clear_orphan_file()?;
            self.superblock.ro_compat &= !ro_compat::ORPHAN_PRESENT;
            put32(&mut self.raw, 0x64, self.superblock.ro_compat);
        }
        Ok(())
    }

    pub(super) fn clear_orphan_file(&mut self) -> Result<(), ExtError> {
        let file = self.record(le32(&self.raw, ORPHAN_FILE).unwrap_or(0))?;
        let block_len = self.superblock.block_len;
        for piece in self.mapping_of(&file)?.0 {
            for block in piece.physical..piece.physical + piece.count {
                let mut raw = self.disk.read_vec(block * block_len, block_len as usize)?;
                let end = raw.len() - 8;
                if le32(&raw, end) != Some(BLOCK_MARK) {
                    return Err(damaged(
                        Structure::Orphans,
                        None,
                        "have a block without a mark",
                    ));
                }
                let numbers: Vec<u32> = raw[..end]
                    .chunks_exact(4)
                    .filter_map(|raw| le32(raw, 0))
                    .filter(|number| *number != 0)
                    .collect();
                for number in numbers {
                    self.clear_orphan(number)?;
                }
                raw[..end].fill(0);
                if self.superblock.has_checksums() {
                    let state = crc32c(file.seed(&self.superblock), &block.to_le_bytes());
                    let sum = crc32c(state, &raw[..end]);
                    put32(&mut raw, end + 4, sum);
                }
                self.disk.write_at(block * block_len, &raw)?;
            }
        }
        Ok(())
    }

    fn clear_orphan(&mut self, number: u32) -> Result<(), ExtError> {
        if number < self.superblock.first_inode {
            return Err(damaged(
                Structure::Inode,
                Some(u64::from(number)),
                "cannot be an orphan",
            ));
        }
        let mut record = self.record(number)?;
        if record.links() == 0 {
            return self.discard(record);
        }
        if record.kind() == NodeKind::File {
            self.cut_to_length(&mut record)?;
        }
        record.set_deletion_time(0);
        self.write_record(&mut record)
    }
}
