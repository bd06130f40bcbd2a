//! Which clusters are in use.

use super::{BootSector, FatError, Structure, damaged};
use crate::Disk;
use crate::fs::{State, Usage, Used};
use crate::number::{le16, le32, times};

/// Bytes of an allocation table that are read at once, a multiple of 12 so that entries of every
/// width end on its border.
const PIECE: u64 = 12 * 16 * 1024;

/// Which bytes are in use: everything in front of the clusters, and each cluster that any copy
/// of the allocation table does not call free.
pub fn usage<D: Disk + ?Sized>(disk: &D) -> Result<Usage, FatError> {
    let boot = BootSector::read(disk)??;
    let sector = 512;
    let data_end = boot
        .data_at
        .saturating_add(u64::from(boot.clusters).saturating_mul(boot.cluster_len));
    let mut used = Used::new(data_end / sector, sector).ok_or(damaged(
        Structure::Volume,
        "has more clusters than are looked at",
    ))?;
    used.add(0, boot.data_at / sector);
    let mut in_use = false;
    for copy in 0..boot.tables {
        let table_at = boot
            .table_at
            .saturating_add(copy.saturating_mul(boot.table_len));
        let table_len = u64::from(boot.clusters.saturating_add(2))
            .saturating_mul(u64::from(boot.bits))
            .div_ceil(8);
        let mut done = 0;
        while done < table_len {
            let take = PIECE.min(table_len.saturating_sub(done));
            let raw = disk.read_vec(table_at.saturating_add(done), take as usize)?;
            let first = times(done.saturating_mul(8), boot.bits.into()) as u32;
            let entries = times((raw.len() as u64).saturating_mul(8), boot.bits.into()) as usize;
            for (index, cluster) in (first..boot.clusters.saturating_add(2))
                .enumerate()
                .take(entries)
            {
                let value = entry(&raw, index, boot.bits);
                match cluster {
                    0 => {}
                    // The two top bits of the second entry say that it was unmounted and whole.
                    1 => {
                        in_use |= boot.bits > 12
                            && value >> (if boot.bits == 32 { 27 } else { 15 }) & 1 == 0
                    }
                    _ if value != 0 => {
                        let at = boot.data_at.saturating_add(
                            u64::from(cluster.saturating_sub(2)).saturating_mul(boot.cluster_len),
                        );
                        used.add(at / sector, boot.cluster_len / sector);
                    }
                    _ => {}
                }
            }
            done = done.saturating_add(take);
        }
    }
    let state = if in_use { State::InUse } else { State::Clean };
    Ok(Usage::of(&used, disk.len(), state))
}

fn entry(raw: &[u8], index: usize, bits: u8) -> u32 {
    match bits {
        12 => {
            let at = index.saturating_add(index / 2);
            let pair = raw.get(at).copied().unwrap_or(0) as u32
                | (raw.get(at.saturating_add(1)).copied().unwrap_or(0) as u32) << 8;
            if index.is_multiple_of(2) {
                pair & 0xfff
            } else {
                pair >> 4
            }
        }
        16 => u32::from(le16(raw, index.saturating_mul(2)).unwrap_or(0)),
        _ => le32(raw, index.saturating_mul(4)).unwrap_or(0) & 0x0fff_ffff,
    }
}
