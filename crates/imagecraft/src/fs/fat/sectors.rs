//! The sectors of a FAT file system made larger, where every structure lies on their borders already.

use super::{BootSector, FatError};
use crate::Disk;
use crate::number::{le16, le32, split};

/// Marks at the beginning and in the middle of the sector with the free count (FAT32 description, "FSInfo").
const INFO_MARKS: [(usize, u32); 2] = [(0, 0x4161_5252), (484, 0x6141_7272)];

/// The most bytes in front of the allocation tables that are looked at; 16 KiB are usual.
const MOST_FRONT: u64 = 1 << 20;

/// Makes the file system count in sectors of `sector` bytes, if its own are smaller. No cluster moves; what stands in front
/// of the allocation tables is written anew.
///
/// # Errors
/// [`FatError::BootSector`] if it is no FAT file system, [`FatError::Sectors`] where a structure does not lie on the borders
/// of such sectors, or something unknown stands in front of the tables: nothing was changed then.
pub fn enlarge_sectors<D: Disk + ?Sized>(disk: &mut D, sector: u64) -> Result<(), FatError> {
    let boot = BootSector::read(disk)??;
    let own = boot.sector_len;
    if own >= sector {
        return Ok(());
    }
    let border = |what: &'static str, bytes: u64| match split(bytes, sector).1 {
        0 => Ok(()),
        _ => Err(FatError::Sectors { what, sector }),
    };
    border(
        "its allocation tables would begin between two",
        boot.table_at,
    )?;
    border("an allocation table would end between two", boot.table_len)?;
    border("its clusters would begin between two", boot.data_at)?;
    border("a cluster would be smaller than one", boot.cluster_len)?;
    if boot.table_at > MOST_FRONT {
        return Err(FatError::Sectors {
            what: "there would be too much in front of its allocation tables",
            sector,
        });
    }
    let mut front = disk.read_vec(0, boot.table_at as usize)?;
    let mut head = front[..512].to_vec();
    let word = |at| u64::from(le16(&head, at).unwrap_or(0));
    let (info_at, copy_at) = match boot.bits {
        32 => (word(48).saturating_mul(own), word(50).saturating_mul(own)),
        _ => (0, 0),
    };
    let info = boot.info_at.map(|at| front[at as usize..][..512].to_vec());
    let reserved = split(boot.table_at, sector).0;
    let new_info = match &info {
        Some(_) if reserved < 2 => {
            return Err(FatError::Sectors {
                what: "there is no room for the one with its free count",
                sector,
            });
        }
        Some(_) => 1,
        None => 0,
    };
    let new_copy: u64 = match reserved {
        _ if boot.bits < 32 || copy_at == 0 => 0,
        8.. => 6,
        4.. => 2,
        _ => 0,
    };

    // What is known in front of the tables: the boot sector, its third part, the free count, and copies of them.
    let mut known = vec![0];
    if boot.bits == 32 {
        known.extend([info_at, own.saturating_mul(2)]);
        if copy_at != 0 {
            known.extend(
                [0, 1, 2].map(|number: u64| copy_at.saturating_add(number.saturating_mul(own))),
            );
        }
    }
    for at in known {
        let from = (at as usize).min(front.len());
        let to = from.saturating_add(512).min(front.len());
        let piece = &mut front[from..to];
        let is_copy = at == 0 || piece.starts_with(&head[..3]);
        let is_info = INFO_MARKS
            .iter()
            .all(|(at, mark)| le32(piece, *at) == Some(*mark));
        let is_third = piece
            .iter()
            .enumerate()
            .all(|(at, byte)| matches!(at, 510 | 511) || *byte == 0);
        if is_copy || is_info || is_third {
            piece.fill(0);
        }
    }
    if front.iter().any(|byte| *byte != 0) {
        return Err(FatError::Sectors {
            what: "something unknown in front of its allocation tables would be in the way",
            sector,
        });
    }

    let times = split(sector, own).0;
    let less = |value: u64| split(value, times).0;
    let total = match word(19) {
        0 => u64::from(le32(&head, 32).unwrap_or(0)),
        short => short,
    };
    let (hidden, track) = (
        u64::from(le32(&head, 28).unwrap_or(0)),
        less(word(24)).max(1),
    );
    let (table_len, long) = (split(boot.table_len, sector).0, boot.bits == 32);
    let cluster = split(boot.cluster_len, sector).0 as u8;
    let total = less(total);
    let (short_total, long_total) = match u16::try_from(total) {
        Ok(short) if !long => (short, 0),
        _ => (0, total as u32),
    };
    let mut put = |at: usize, bytes: &[u8]| head[at..][..bytes.len()].copy_from_slice(bytes);
    put(11, &(sector as u16).to_le_bytes());
    put(13, &[cluster]);
    put(14, &(reserved as u16).to_le_bytes());
    put(19, &short_total.to_le_bytes());
    put(24, &(track as u16).to_le_bytes());
    put(28, &(less(hidden) as u32).to_le_bytes());
    put(32, &long_total.to_le_bytes());
    match long {
        false => put(22, &(table_len as u16).to_le_bytes()),
        true => {
            put(36, &(table_len as u32).to_le_bytes());
            put(48, &(new_info as u16).to_le_bytes());
            put(50, &(new_copy as u16).to_le_bytes());
        }
    }

    let place = |at: u64| at.saturating_mul(sector) as usize;
    front[..512].copy_from_slice(&head);
    if new_copy != 0 {
        front[place(new_copy)..][..512].copy_from_slice(&head);
    }
    if let Some(info) = &info {
        front[place(new_info)..][..512].copy_from_slice(info);
        if new_copy != 0 {
            front[place(new_copy.saturating_add(1))..][..512].copy_from_slice(info);
        }
    }
    Ok(disk.write_at(0, &front)?)
}
