//! Kinds of content that are told by their mark and kept whole: swap, LUKS, LVM, Btrfs, F2FS,
//! SquashFS, ISO 9660, NTFS, exFAT.

use super::{FileSystem, label, uuid_text};
use crate::number::{le32, le64};
use crate::{Disk, DiskError};

/// Bytes from the start that hold the marks of all kinds.
const REACH: usize = 0x1_0100;

struct Mark {
    at: usize,
    bytes: &'static [u8],
    kind: &'static str,
}

const fn mark(at: usize, bytes: &'static [u8], kind: &'static str) -> Mark {
    Mark { at, bytes, kind }
}

/// Where each kind says its name. The two last are marks at the end of a first page, whose size
/// depends on the computer that made them.
const MARKS: [Mark; 11] = [
    mark(0, b"LUKS\xba\xbe", "LUKS"),
    mark(512, b"LABELONE", "LVM"),
    mark(0x10040, b"_BHRfS_M", "Btrfs"),
    mark(1024, &[0x10, 0x20, 0xf5, 0xf2], "F2FS"),
    mark(0, b"hsqs", "SquashFS"),
    mark(0x8001, b"CD001", "ISO 9660"),
    mark(3, b"NTFS    ", "NTFS"),
    mark(3, b"EXFAT   ", "exFAT"),
    mark(4086, b"SWAPSPACE2", "swap"),
    mark(16374, b"SWAPSPACE2", "swap"),
    mark(65526, b"SWAPSPACE2", "swap"),
];

/// The kind whose mark stands in the first bytes of a disk.
pub(super) fn signature(head: &[u8]) -> Option<&'static str> {
    MARKS
        .iter()
        .find(|mark| {
            head.get(mark.at..mark.at.saturating_add(mark.bytes.len()))
                .is_some_and(|found| found == mark.bytes)
        })
        .map(|mark| mark.kind)
}

/// Describes the content of `disk`, as far as its first bytes tell.
pub(super) fn recognise<D: Disk + ?Sized>(disk: &D) -> Result<Option<FileSystem>, DiskError> {
    let head = disk.read_vec(0, disk.len().min(REACH as u64) as usize)?;
    let Some(kind) = signature(&head) else {
        return Ok(None);
    };
    let part = |at: usize, len: usize| head.get(at..at.saturating_add(len));
    let (name, uuid) = match kind {
        "LUKS" => (None, part(168, 40).and_then(label)),
        "Btrfs" => (None, part(0x10020, 16).map(uuid_text)),
        "F2FS" => (None, part(1024 + 108, 16).map(uuid_text)),
        "ISO 9660" => (part(0x8028, 32).and_then(label), None),
        "NTFS" => (None, le64(&head, 72).map(|id| format!("{id:016X}"))),
        "exFAT" => {
            let serial = le32(&head, 100);
            (
                None,
                serial.map(|id| format!("{:04X}-{:04X}", id >> 16, id & 0xffff)),
            )
        }
        "swap" => (
            part(1052, 16).and_then(label),
            part(1036, 16).map(uuid_text),
        ),
        _ => (None, None),
    };
    Ok(Some(FileSystem {
        kind: kind.into(),
        label: name,
        uuid,
    }))
}
