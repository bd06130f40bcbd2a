//! The journal (JBD2, kernel documentation "Journal"): transactions of whole blocks that may not
//! have reached their place yet. All of its numbers are big-endian.

use std::collections::BTreeMap;

use super::checksum::crc32c;
use super::superblock::Superblock;
use super::{ExtError, inode};
use crate::number::times;
use crate::{Disk, DiskError};

const MAGIC: u32 = 0xc03b_3998;
const DESCRIPTOR: u32 = 1;
const COMMIT: u32 = 2;
const REVOKE: u32 = 5;
const WIDE: u32 = 0x2;
const ASYNC_COMMIT: u32 = 0x4;
const CSUM_V2: u32 = 0x8;
const CSUM_V3: u32 = 0x10;
const FAST_COMMIT: u32 = 0x20;
const KNOWN: u32 = 0x1 | WIDE | ASYNC_COMMIT | CSUM_V2 | CSUM_V3 | FAST_COMMIT;
const ESCAPED: u32 = 0x1;
const SAME_UUID: u32 = 0x2;
const LAST_TAG: u32 = 0x8;
/// Most blocks of a journal: 4 GiB in blocks of 4 KiB.
const MOST_BLOCKS: u64 = 1 << 20;

/// A disk whose file system reads as if its journal had been replayed. Only the places of blocks
/// are kept, so that memory does not grow with the journal's content.
pub struct Replayed<D> {
    disk: D,
    block_len: u64,
    /// File-system block to the disk's byte where its newest content lies, and whether the first
    /// four bytes of it were escaped.
    moved: BTreeMap<u64, (u64, bool)>,
    transactions: u32,
    /// The number that the next transaction gets, where the journal holds any.
    next_sequence: Option<u32>,
}

/// What a replay changes, without the disk.
pub(super) struct Replay {
    moved: BTreeMap<u64, (u64, bool)>,
    next_sequence: Option<u32>,
}

fn be32(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at.saturating_add(4)).map_or(0, |raw| {
        u32::from_be_bytes([raw[0], raw[1], raw[2], raw[3]])
    })
}

fn unfit(what: impl Into<String>) -> ExtError {
    ExtError::Journal(what.into())
}

/// The journal's own superblock, and where its blocks lie on the disk.
struct Journal<'a, D: ?Sized> {
    disk: &'a D,
    block_len: u64,
    /// Block of the file system for each block of the journal.
    places: Vec<u64>,
    first: u64,
    end: u64,
    sequence: u32,
    features: u32,
    seed: u32,
}

/// Whether the journal holds word of an error that the system met (`s_errno`), which it would carry
/// into the superblock at its next start.
pub(super) fn recorded_error<D: Disk + ?Sized>(
    disk: &D,
    superblock: &Superblock,
) -> Result<bool, ExtError> {
    use super::superblock::compat::HAS_JOURNAL;
    if superblock.compat & HAS_JOURNAL == 0 || superblock.journal_inode == 0 {
        return Ok(false);
    }
    let inode = inode::read(disk, superblock, superblock.journal_inode)?;
    let pieces = inode::pieces(disk, superblock, &inode)?;
    let Some(first) = pieces.first() else {
        return Ok(false);
    };
    let at = first.physical.saturating_mul(superblock.block_len);
    let raw = disk.read_vec(at, 1024)?;
    Ok(be32(&raw, 0) == MAGIC && be32(&raw, 0x20) != 0)
}

/// What a scan of one transaction found.
struct Transaction {
    sequence: u32,
    /// File-system block, journal block, escaped.
    blocks: Vec<(u64, u64, bool)>,
    revoked: Vec<u64>,
}

impl<'a, D: Disk + ?Sized> Journal<'a, D> {
    /// `None` where the journal is empty.
    fn open(disk: &'a D, superblock: &Superblock) -> Result<Option<(Self, u64)>, ExtError> {
        if superblock.journal_inode == 0 {
            return Err(unfit("it lies on another disk"));
        }
        let inode = inode::read(disk, superblock, superblock.journal_inode)?;
        let block_len = superblock.block_len;
        let most = times(inode.len, block_len);
        if most > MOST_BLOCKS {
            return Err(unfit("it is too long"));
        }
        let mut places = Vec::new();
        for piece in inode::pieces(disk, superblock, &inode)? {
            if piece.logical != places.len() as u64 {
                return Err(unfit("it has a hole"));
            }
            let count = piece.count.min(most.saturating_sub(piece.logical));
            places.extend(piece.physical..piece.physical.saturating_add(count));
        }
        let head = *places.first().ok_or_else(|| unfit("it has no block"))?;
        let raw = disk.read_vec(head.saturating_mul(block_len), 1024)?;
        let version = be32(&raw, 4);
        if be32(&raw, 0) != MAGIC || !matches!(version, 3 | 4) {
            return Err(unfit("its superblock is damaged"));
        }
        if u64::from(be32(&raw, 12)) != block_len {
            return Err(unfit("its blocks have another size"));
        }
        let (length, first) = (u64::from(be32(&raw, 16)), u64::from(be32(&raw, 20)));
        let (sequence, start) = (be32(&raw, 24), u64::from(be32(&raw, 28)));
        let features = if version == 4 { be32(&raw, 40) } else { 0 };
        if start == 0 {
            return Ok(None);
        }
        if features & !KNOWN != 0 {
            return Err(unfit(format!("it uses an unknown feature ({features:#x})")));
        }
        if features & FAST_COMMIT != 0 {
            return Err(unfit("it may hold fast commits"));
        }
        if features & (CSUM_V2 | CSUM_V3) != 0 {
            let mut cleared = raw.clone();
            cleared[0xfc..0x100].fill(0);
            if crc32c(!0, &cleared) != be32(&raw, 0xfc) {
                return Err(unfit("the checksum of its superblock does not match"));
            }
        }
        if length > places.len() as u64
            || first == 0
            || first >= length
            || !(first..length).contains(&start)
        {
            return Err(unfit("its superblock names blocks that it does not have"));
        }
        let journal = Self {
            disk,
            block_len,
            places,
            first,
            end: length,
            sequence,
            features,
            seed: crc32c(!0, &raw[0x30..0x40]),
        };
        Ok(Some((journal, start)))
    }

    fn block(&self, number: u64) -> Result<Vec<u8>, ExtError> {
        let place = self.places[number as usize];
        Ok(self.disk.read_vec(
            place.saturating_mul(self.block_len),
            self.block_len as usize,
        )?)
    }

    fn after(&self, number: u64) -> u64 {
        if number.saturating_add(1) >= self.end {
            self.first
        } else {
            number.saturating_add(1)
        }
    }

    fn has_checksums(&self) -> bool {
        self.features & (CSUM_V2 | CSUM_V3) != 0
    }

    /// Whether the checksum at the end of a descriptor or revoke block holds.
    fn tail_holds(&self, raw: &[u8]) -> bool {
        let (body, tail) = raw.split_at(raw.len().saturating_sub(4));
        !self.has_checksums() || crc32c(crc32c(self.seed, body), &[0; 4]) == be32(tail, 0)
    }

    fn commit_holds(&self, raw: &[u8]) -> bool {
        let mut cleared = raw.to_vec();
        cleared[16..20].fill(0);
        !self.has_checksums() || crc32c(self.seed, &cleared) == be32(raw, 16)
    }

    /// The tags of a descriptor block: file-system block, escaped, checksum of the content.
    fn tags(&self, raw: &[u8]) -> Vec<(u64, bool, u32)> {
        let wide = self.features & WIDE != 0;
        let v3 = self.features & CSUM_V3 != 0;
        let v2 = self.features & CSUM_V2 != 0;
        let len = match (v3, v2, wide) {
            (true, ..) => 16,
            (false, true, true) => 14,
            (false, true, false) => 10,
            (false, false, true) => 12,
            (false, false, false) => 8,
        };
        let end = raw.len().saturating_sub(if v2 || v3 { 4 } else { 0 });
        let mut found = Vec::new();
        let mut rest = raw.get(12..end).unwrap_or_default();
        while let Some((tag, behind)) = rest.split_at_checked(len) {
            let low = u64::from(be32(tag, 0));
            let (flags, high, checksum) = if v3 {
                (be32(tag, 4), be32(tag, 8), be32(tag, 12))
            } else {
                let both = be32(tag, 4);
                let high = if wide { be32(tag, 8) } else { 0 };
                (both & 0xffff, high, both >> 16)
            };
            let high = if wide { u64::from(high) << 32 } else { 0 };
            found.push((high | low, flags & ESCAPED != 0, checksum));
            rest = behind;
            if flags & SAME_UUID == 0 {
                rest = rest.get(16..).unwrap_or_default();
            }
            if flags & LAST_TAG != 0 {
                break;
            }
        }
        found
    }

    fn content_holds(&self, sequence: u32, number: u64, expected: u32) -> Result<bool, ExtError> {
        if !self.has_checksums() {
            return Ok(true);
        }
        let state = crc32c(self.seed, &sequence.to_be_bytes());
        let found = crc32c(state, &self.block(number)?);
        Ok(if self.features & CSUM_V3 != 0 {
            found == expected
        } else {
            found & 0xffff == expected
        })
    }

    fn revoked(&self, raw: &[u8]) -> Result<Vec<u64>, ExtError> {
        let wide = self.features & WIDE != 0;
        let end = be32(raw, 12) as usize;
        let listed = raw
            .get(16..end)
            .ok_or_else(|| unfit("a revoke block has an impossible length"))?;
        Ok(if wide {
            listed
                .chunks_exact(8)
                .map(|raw| u64::from(be32(raw, 0)) << 32 | u64::from(be32(raw, 4)))
                .collect()
        } else {
            listed
                .chunks_exact(4)
                .map(|raw| u64::from(be32(raw, 0)))
                .collect()
        })
    }

    /// All whole transactions from `start` on. A transaction without its commit, or with one whose
    /// checksum does not match, is the end: it never took place.
    fn transactions(&self, start: u64) -> Result<Vec<Transaction>, ExtError> {
        let mut done = Vec::new();
        let mut sequence = self.sequence;
        let mut at = start;
        let mut steps = 0_u64;
        loop {
            let mut current = Transaction {
                sequence,
                blocks: Vec::new(),
                revoked: Vec::new(),
            };
            let mut broken = None;
            loop {
                steps = steps.saturating_add(1);
                if steps > self.end {
                    return Ok(done);
                }
                let raw = self.block(at)?;
                if be32(&raw, 0) != MAGIC || be32(&raw, 8) != sequence {
                    return Ok(done);
                }
                let kind = be32(&raw, 4);
                at = self.after(at);
                match kind {
                    DESCRIPTOR => {
                        if !self.tail_holds(&raw) {
                            return Ok(done);
                        }
                        for (block, escaped, checksum) in self.tags(&raw) {
                            steps = steps.saturating_add(1);
                            if steps > self.end {
                                return Ok(done);
                            }
                            if !self.content_holds(sequence, at, checksum)? {
                                broken = Some(block);
                            }
                            current.blocks.push((block, at, escaped));
                            at = self.after(at);
                        }
                    }
                    REVOKE if self.tail_holds(&raw) => {
                        current.revoked.extend(self.revoked(&raw)?);
                    }
                    COMMIT if self.commit_holds(&raw) => break,
                    _ => return Ok(done),
                }
            }
            if let Some(block) = broken {
                return Err(unfit(format!(
                    "transaction {sequence} was committed, but its copy of block {block} is damaged"
                )));
            }
            done.push(current);
            sequence = sequence.wrapping_add(1);
        }
    }
}

impl<D: Disk> Replayed<D> {
    /// The disk as it is, for a file system that was unmounted.
    pub fn untouched(disk: D) -> Self {
        Self {
            disk,
            block_len: 1024,
            moved: BTreeMap::new(),
            transactions: 0,
            next_sequence: None,
        }
    }

    /// Reads the journal of the file system and lets its newest blocks stand in their place.
    ///
    /// # Errors
    /// An outside, damaged or unknown journal.
    pub fn new(disk: D, superblock: &Superblock) -> Result<Self, ExtError> {
        let mut moved = BTreeMap::new();
        let mut count = 0_u32;
        let mut next_sequence = None;
        if let Some((journal, start)) = Journal::open(&disk, superblock)? {
            let transactions = journal.transactions(start)?;
            next_sequence = Some(
                journal
                    .sequence
                    .wrapping_add((transactions.len() as u32).saturating_add(1)),
            );
            let mut revoked: BTreeMap<u64, u32> = BTreeMap::new();
            for transaction in &transactions {
                for block in &transaction.revoked {
                    revoked.insert(*block, transaction.sequence);
                }
            }
            for transaction in &transactions {
                count = count.saturating_add(1);
                for (block, number, escaped) in &transaction.blocks {
                    if *block >= superblock.blocks {
                        return Err(unfit("it names a block outside of the file system"));
                    }
                    // A block that was given up later must not come back.
                    let given_up = revoked
                        .get(block)
                        .is_some_and(|until| until.wrapping_sub(transaction.sequence) as i32 >= 0);
                    if !given_up {
                        let place =
                            journal.places[*number as usize].saturating_mul(superblock.block_len);
                        moved.insert(*block, (place, *escaped));
                    }
                }
            }
        }
        Ok(Self {
            disk,
            block_len: superblock.block_len,
            moved,
            transactions: count,
            next_sequence,
        })
    }

    /// What has to be written to make it so.
    pub(super) fn into_replay(self) -> Replay {
        Replay {
            moved: self.moved,
            next_sequence: self.next_sequence,
        }
    }

    /// Transactions that were in the journal.
    pub fn transactions(&self) -> u32 {
        self.transactions
    }
}

impl Replay {
    /// Writes all moved blocks to their place and leaves the journal empty.
    pub(super) fn carry_out<D: Disk>(
        &self,
        disk: &mut D,
        superblock: &Superblock,
    ) -> Result<(), ExtError> {
        let block_len = superblock.block_len;
        for (block, (place, escaped)) in &self.moved {
            let mut bytes = disk.read_vec(*place, block_len as usize)?;
            if *escaped {
                bytes[..4].copy_from_slice(&MAGIC.to_be_bytes());
            }
            disk.write_at(block.saturating_mul(block_len), &bytes)?;
        }
        let Some(sequence) = self.next_sequence else {
            return Ok(());
        };
        let inode = inode::read(disk, superblock, superblock.journal_inode)?;
        let head = inode::pieces(disk, superblock, &inode)?
            .first()
            .ok_or_else(|| unfit("it has no block"))?
            .physical
            .saturating_mul(block_len);
        let mut raw = disk.read_vec(head, 1024)?;
        raw[24..28].copy_from_slice(&sequence.to_be_bytes());
        raw[28..32].fill(0);
        if be32(&raw, 4) == 4 && be32(&raw, 40) & (CSUM_V2 | CSUM_V3) != 0 {
            raw[0xfc..0x100].fill(0);
            let checksum = crc32c(!0, &raw);
            raw[0xfc..0x100].copy_from_slice(&checksum.to_be_bytes());
        }
        Ok(disk.write_at(head, &raw)?)
    }
}

impl<D: Disk> Disk for Replayed<D> {
    fn len(&self) -> u64 {
        self.disk.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        self.disk.read_at(offset, buf)?;
        let end = offset.saturating_add(buf.len() as u64);
        let first = times(offset, self.block_len);
        for (block, (place, escaped)) in self.moved.range(first..end.div_ceil(self.block_len)) {
            let start = block.saturating_mul(self.block_len);
            let from = start.max(offset);
            let to = start.saturating_add(self.block_len).min(end);
            let part =
                &mut buf[from.saturating_sub(offset) as usize..to.saturating_sub(offset) as usize];
            self.disk
                .read_at(place.saturating_add(from.saturating_sub(start)), part)?;
            if *escaped {
                for (byte, at) in MAGIC.to_be_bytes().into_iter().zip(start..) {
                    if (from..to).contains(&at) {
                        part[at.saturating_sub(from) as usize] = byte;
                    }
                }
            }
        }
        Ok(())
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }
}
