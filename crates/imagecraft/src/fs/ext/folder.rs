//! Folders: entries one behind the other. The index of a large folder looks like unused entries,
//! so that reading all of it in order finds every name.

use super::inode::Inode;
use super::{Ext, ExtError, Structure, damaged};
use crate::Disk;
use crate::fs::name::{bytes_of, text_of};
use crate::number::{le16, le32};

/// The largest folder that is read, in bytes.
const MOST_FOLDER: u64 = 64 << 20;
const INLINE: u32 = 0x1000_0000;

impl<D: Disk> Ext<D> {
    /// The names in a folder as text, with their inodes, but for itself and its parent.
    pub(super) fn names(&self, folder: &Inode) -> Result<Vec<(String, u32)>, ExtError> {
        let names = self.all_names(folder)?.into_iter();
        let others = names.filter(|(name, _)| name != b"." && name != b"..");
        Ok(others
            .map(|(name, number)| (text_of(&name), number))
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
        // As it is listed, or as it is.
        let names = self.all_names(folder)?;
        let (listed, plain) = (bytes_of(name), name.as_bytes());
        let of = |wanted: &[u8]| names.iter().find(|(found, _)| found == wanted);
        let found = of(&listed).or_else(|| of(plain));
        Ok(found.map(|(_, number)| *number))
    }
}

fn entries(block: &[u8], found: &mut Vec<(Vec<u8>, u32)>) -> Result<(), ExtError> {
    let wrong = || damaged(Structure::Folder, None, "has an entry of impossible length");
    let mut rest = block;
    while rest.len() >= 8 {
        let number = le32(rest, 0).ok_or_else(wrong)?;
        let len = match (usize::from(le16(rest, 4).ok_or_else(wrong)?), block.len()) {
            (0 | 0xffff, 0x1_0000) => 0x1_0000,
            (len, 0x1_0000) => len & 0xfffc | (len & 3) << 16,
            (len, _) => len,
        };
        if len < 8 || !len.is_multiple_of(4) {
            return Err(wrong());
        }
        let (entry, behind) = rest.split_at_checked(len).ok_or_else(wrong)?;
        let name = entry[8..].get(..usize::from(entry[6]));
        let name = name.ok_or_else(wrong)?;
        if number != 0 && !name.is_empty() {
            found.push((name.to_vec(), number));
        }
        rest = behind;
    }
    Ok(())
}
