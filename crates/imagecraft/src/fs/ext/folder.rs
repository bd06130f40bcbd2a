//! Folders: entries one behind the other. The index of a large folder looks like unused entries,
//! so that reading all of it in order finds every name.

use super::inode::Inode;
use super::{Ext, ExtError, damaged};
use crate::Disk;
use crate::table::{le16, le32};

/// The largest folder that is read, in bytes.
const MOST_FOLDER: u64 = 64 << 20;
const INLINE: u32 = 0x1000_0000;

impl<D: Disk> Ext<D> {
    /// The names in a folder with their inodes, but for itself and its parent.
    pub(super) fn names(&self, folder: &Inode) -> Result<Vec<(String, u32)>, ExtError> {
        let names = self.all_names(folder)?.into_iter();
        let others = names.filter(|(name, _)| name != b"." && name != b"..");
        Ok(others
            .map(|(name, number)| (String::from_utf8_lossy(&name).into_owned(), number))
            .collect())
    }

    /// All names in a folder as they stand there, in order.
    pub(super) fn all_names(&self, folder: &Inode) -> Result<Vec<(Vec<u8>, u32)>, ExtError> {
        let bytes = self.content(folder, MOST_FOLDER)?;
        let mut found = Vec::new();
        if folder.flags & INLINE != 0 {
            // The parent's inode comes first, and the entries go on in an attribute.
            let (first, rest) = bytes.split_at(bytes.len().min(60));
            entries(first.get(4..).unwrap_or(&[]), &mut found)?;
            entries(rest, &mut found)?;
        } else {
            for block in bytes.chunks(self.superblock.block_len as usize) {
                entries(block, &mut found)?;
            }
        }
        Ok(found)
    }

    pub(super) fn look_up(&self, folder: &Inode, name: &str) -> Result<Option<u32>, ExtError> {
        let names = self.names(folder)?;
        Ok(names
            .into_iter()
            .find(|(found, _)| found == name)
            .map(|(_, number)| number))
    }
}

fn entries(block: &[u8], found: &mut Vec<(Vec<u8>, u32)>) -> Result<(), ExtError> {
    let wrong = || damaged("a folder has an entry of impossible length");
    let mut at = 0;
    while at + 8 <= block.len() {
        let number = le32(block, at).ok_or_else(wrong)?;
        let len = match (
            usize::from(le16(block, at + 4).ok_or_else(wrong)?),
            block.len(),
        ) {
            (0 | 0xffff, 0x1_0000) => 0x1_0000,
            (len, 0x1_0000) => len & 0xfffc | (len & 3) << 16,
            (len, _) => len,
        };
        let name_len = usize::from(block[at + 6]);
        if len < 8 || len % 4 != 0 || at + len > block.len() || name_len + 8 > len {
            return Err(wrong());
        }
        let name = &block[at + 8..at + 8 + name_len];
        if number != 0 && name_len > 0 {
            found.push((name.to_vec(), number));
        }
        at += len;
    }
    Ok(())
}
