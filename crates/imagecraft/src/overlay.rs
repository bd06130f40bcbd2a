//! Copy-on-write over a base that is never touched.

use std::collections::BTreeMap;
use std::fmt;

use crate::disk::{Disk, DiskError, check_range};
use crate::ranges::Ranges;
use crate::{ByteKind, CHUNK, Map};

/// Granularity of the copy, in bytes. Small, so that an edited inode costs one block.
const BLOCK: u64 = 4096;
const BLOCK_LEN: usize = BLOCK as usize;

/// A disk whose writes stay in memory, over a base that stays as it is.
///
/// It may be longer than its base; what lies beyond the base reads as zero.
pub struct Overlay<B> {
    base: B,
    len: u64,
    blocks: BTreeMap<u64, Box<[u8; BLOCK_LEN]>>,
    /// Blocks that hold what stands elsewhere in the base, where `blocks` has none: a file that
    /// moves costs no memory.
    moved: BTreeMap<u64, Moved>,
    /// Blocks that read as zero whatever the base holds, where neither of the above has one.
    zeroed: Ranges,
    /// Blocks that were written with what they held. They count where the base calls them free,
    /// since the card may hold anything there.
    equal: Ranges,
}

/// How much was changed; what, would fill many screens.
impl<B> fmt::Debug for Overlay<B> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Overlay")
            .field("len", &self.len)
            .field("blocks", &self.blocks.len())
            .field("moved", &self.moved.len())
            .finish_non_exhaustive()
    }
}

/// A run of blocks that stands elsewhere in the base.
#[derive(Clone, Copy, Debug)]
struct Moved {
    blocks: u64,
    /// First byte in the base.
    from: u64,
}

/// What is put into a run of blocks.
enum Piece {
    Moved(Moved),
    Bytes(Box<[u8; BLOCK_LEN]>),
}

impl<B: Disk> Overlay<B> {
    /// An overlay of `len` bytes over `base`, which may be shorter or longer.
    pub fn new(base: B, len: u64) -> Self {
        Self {
            base,
            len,
            blocks: BTreeMap::new(),
            moved: BTreeMap::new(),
            zeroed: Ranges::default(),
            equal: Ranges::default(),
        }
    }

    /// Indices of the chunks that hold other bytes than the base, ascending.
    pub fn changed_chunks(&self) -> impl Iterator<Item = u64> + '_ {
        let mut last = None;
        self.blocks.keys().filter_map(move |block| {
            let chunk = block * BLOCK / CHUNK;
            (last.replace(chunk) != Some(chunk)).then_some(chunk)
        })
    }

    /// Bytes of memory that its changes take, about.
    pub fn held(&self) -> u64 {
        let runs = self.moved.len() + self.zeroed.iter().count() + self.equal.iter().count();
        self.blocks.len() as u64 * BLOCK + runs as u64 * 24
    }

    /// Makes it shorter: what lies behind is not part of it any more. Content that was moved from
    /// there stays where it was moved to.
    pub fn cut(&mut self, len: u64) {
        self.len = self.len.min(len);
        let end = self.len.div_ceil(BLOCK);
        self.blocks.split_off(&end);
        self.split_moved(end);
        self.moved.split_off(&end);
        self.zeroed.cut(end);
        self.equal.cut(end);
    }

    /// What `count` blocks from `to` on become when they get the bytes from `from` on as they are
    /// now.
    fn gather(&self, from: u64, to: u64, count: u64) -> Result<Vec<(u64, Piece)>, DiskError> {
        let mut found: Vec<(u64, Piece)> = Vec::new();
        for place in 0..count {
            let at = from + place * BLOCK;
            match self.in_base(at) {
                Some(source) => {
                    if let Some((_, Piece::Moved(last))) = found.last_mut()
                        && last.from + last.blocks * BLOCK == source
                    {
                        last.blocks += 1;
                        continue;
                    }
                    let one = Moved {
                        blocks: 1,
                        from: source,
                    };
                    found.push((to + place, Piece::Moved(one)));
                }
                None => {
                    let mut bytes = Box::new([0; BLOCK_LEN]);
                    let reach = BLOCK.min(self.len.saturating_sub(at)) as usize;
                    self.read_at(at, &mut bytes[..reach])?;
                    found.push((to + place, Piece::Bytes(bytes)));
                }
            }
        }
        Ok(found)
    }

    /// Where in the base the block of bytes from `at` on stands, if it does so in one piece.
    fn in_base(&self, at: u64) -> Option<u64> {
        let (first, last) = (at / BLOCK, (at + BLOCK).div_ceil(BLOCK));
        let changed = self.blocks.range(first..last).next().is_some();
        if changed || at + BLOCK > self.len {
            return None;
        }
        match self.moved_at(first) {
            // The next block must follow it there, where the bytes reach into it.
            Some((block, moved)) => {
                let inside = last <= block + moved.blocks;
                inside.then(|| moved.from + (at - block * BLOCK))
            }
            None => {
                let plain = self.moved.range(first..last).next().is_none()
                    && self.zeroed.within(first, last).next().is_none()
                    && at + BLOCK <= self.base.len();
                plain.then_some(at)
            }
        }
    }

    /// Whether a chunk reads as it does in the base, all of which holds it.
    fn is_as_in_base(&self, chunk: u64) -> bool {
        let start = chunk.saturating_mul(CHUNK);
        let end = self.len.min(start.saturating_add(CHUNK));
        let (first, last) = (start / BLOCK, end.div_ceil(BLOCK));
        start < end
            && end <= self.base.len()
            && self.blocks.range(first..last).next().is_none()
            && self.moved_at(first).is_none()
            && self.moved.range(first..last).next().is_none()
            && self.zeroed.within(first, last).next().is_none()
    }

    fn put_pieces(&mut self, pieces: Vec<(u64, Piece)>) {
        for (block, piece) in pieces {
            match piece {
                Piece::Moved(moved) => {
                    self.drop_blocks(block, block + moved.blocks);
                    self.moved.insert(block, moved);
                }
                Piece::Bytes(bytes) => {
                    self.blocks.insert(block, bytes);
                }
            }
        }
    }

    /// Indices of all chunks that are not as the base and its map have them, ascending: those
    /// with other bytes, those zeroed, and those with bytes that counted for nothing before.
    pub fn touched_chunks(&self, base: &Map) -> Vec<u64> {
        let mut touched: Vec<u64> = self.changed_chunks().collect();
        let moved = self.moved.iter().map(|(at, run)| (*at, at + run.blocks));
        for (from, to) in self.zeroed.iter().chain(self.newly_kept(base)).chain(moved) {
            touched.extend(from * BLOCK / CHUNK..(to * BLOCK).div_ceil(CHUNK));
        }
        touched.sort_unstable();
        touched.dedup();
        touched
    }

    /// Blocks written with what they held where the base calls some of it free.
    fn newly_kept<'a>(&'a self, base: &'a Map) -> impl Iterator<Item = (u64, u64)> + 'a {
        self.equal
            .iter()
            .flat_map(|(from, to)| from..to)
            // What was zeroed counts as that.
            .filter(|block| !self.zeroed.contains(*block) && self.moved_at(*block).is_none())
            .filter(|block| {
                let (start, end) = (block * BLOCK, self.len.min((block + 1) * BLOCK));
                end > base.len() || base.has_free(start, end)
            })
            .map(|block| (block, block + 1))
    }

    /// The map of the overlay, given the map of its base: written blocks are data, zeroed ones
    /// zero, what the base does not reach is free.
    pub fn map(&self, base: &Map) -> Map {
        let mut map = base.resized(self.len);
        let mut set = |from: u64, to: u64, kind| {
            map.set(from * BLOCK, self.len.min(to * BLOCK), kind);
        };
        for (from, to) in self.zeroed.iter() {
            set(from, to, ByteKind::Zero);
        }
        for (from, to) in self.newly_kept(base) {
            set(from, to, ByteKind::Data);
        }
        for (block, moved) in &self.moved {
            set(*block, block + moved.blocks, ByteKind::Data);
        }
        for block in self.blocks.keys() {
            set(*block, block + 1, ByteKind::Data);
        }
        map
    }

    /// What a block holds that has not been written.
    fn read_below(&self, block: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        if let Some((first, moved)) = self.moved_at(block) {
            return self.read_base(moved.from + (block - first) * BLOCK, buf);
        }
        if self.zeroed.contains(block) {
            buf.fill(0);
            return Ok(());
        }
        self.read_base(block * BLOCK, buf)
    }

    /// Reads from the base alone, zero where it does not reach.
    fn read_base(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        let reach = self.base.len().saturating_sub(offset);
        let inside = reach.min(buf.len() as u64) as usize;
        if inside > 0 {
            self.base.read_at(offset, &mut buf[..inside])?;
        }
        buf[inside..].fill(0);
        Ok(())
    }
}

/// What an overlay changed, apart from its base.
pub struct Changes {
    len: u64,
    blocks: BTreeMap<u64, Box<[u8; BLOCK_LEN]>>,
    moved: BTreeMap<u64, Moved>,
    zeroed: Ranges,
    equal: Ranges,
}

impl<B> Overlay<B> {
    /// What was changed, for the overlay that this one was laid over: so that a change of several
    /// steps takes place as a whole or not at all.
    pub fn into_changes(self) -> Changes {
        Changes {
            len: self.len,
            blocks: self.blocks,
            moved: self.moved,
            zeroed: self.zeroed,
            equal: self.equal,
        }
    }

    /// The run of moved blocks that a block belongs to, by its first.
    fn moved_at(&self, block: u64) -> Option<(u64, Moved)> {
        let (first, moved) = self.moved.range(..=block).next_back()?;
        (first + moved.blocks > block).then_some((*first, *moved))
    }

    /// Makes two runs of one that reaches over the border before a block.
    fn split_moved(&mut self, block: u64) {
        let Some((first, moved)) = self.moved_at(block).filter(|(first, _)| *first < block) else {
            return;
        };
        let kept = block - first;
        let rest = Moved {
            blocks: moved.blocks - kept,
            from: moved.from + kept * BLOCK,
        };
        self.moved.insert(block, rest);
        if let Some(before) = self.moved.get_mut(&first) {
            before.blocks = kept;
        }
    }

    /// Forgets what blocks were given, but for their being zeroed.
    fn drop_blocks(&mut self, from: u64, to: u64) {
        let gone: Vec<u64> = self
            .blocks
            .range(from..to)
            .map(|(block, _)| *block)
            .collect();
        for block in gone {
            self.blocks.remove(&block);
        }
        self.split_moved(from);
        self.split_moved(to);
        let gone: Vec<u64> = self.moved.range(from..to).map(|(at, _)| *at).collect();
        for at in gone {
            self.moved.remove(&at);
        }
    }
}

impl<B: Disk> Overlay<B> {
    /// Takes over what an overlay over this one changed, and its length.
    ///
    /// # Errors
    /// What was moved could not be read. Nothing has been taken over then.
    pub fn take_over(&mut self, changes: Changes) -> Result<(), DiskError> {
        // Moved runs speak of what stood here before any of it.
        let mut pieces = Vec::new();
        for (block, moved) in &changes.moved {
            pieces.extend(self.gather(moved.from, *block, moved.blocks)?);
        }
        for (from, to) in changes.zeroed.iter() {
            self.drop_blocks(from, to);
            self.zeroed.add(from, to);
        }
        for (from, to) in changes.equal.iter() {
            self.equal.add(from, to);
        }
        self.put_pieces(pieces);
        self.blocks.extend(changes.blocks);
        self.cut(changes.len);
        self.len = changes.len;
        Ok(())
    }
}

/// Splits a range at block borders: block index, offset inside the block, length.
fn pieces(offset: u64, len: usize) -> impl Iterator<Item = (u64, usize, usize)> {
    let mut at = offset;
    let end = offset + len as u64;
    std::iter::from_fn(move || {
        (at < end).then(|| {
            let within = (at % BLOCK) as usize;
            let piece = (BLOCK_LEN - within).min((end - at) as usize);
            let block = at / BLOCK;
            at += piece as u64;
            (block, within, piece)
        })
    })
}

impl<B: Disk> Disk for Overlay<B> {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        check_range(self.len, offset, buf.len() as u64)?;
        self.read_base(offset, buf)?;
        let first = offset / BLOCK;
        let last = (offset + buf.len() as u64).div_ceil(BLOCK);
        for (from, to) in self.zeroed.within(first, last) {
            let from = (from * BLOCK).max(offset);
            let to = (to * BLOCK).min(offset + buf.len() as u64);
            buf[(from - offset) as usize..(to - offset) as usize].fill(0);
        }
        let begun = self.moved_at(first).map_or(first, |(block, _)| block);
        for (block, moved) in self.moved.range(begun..last) {
            let start = block * BLOCK;
            let from = start.max(offset);
            let to = (start + moved.blocks * BLOCK).min(offset + buf.len() as u64);
            if from < to {
                let part = &mut buf[(from - offset) as usize..(to - offset) as usize];
                self.read_base(moved.from + (from - start), part)?;
            }
        }
        for (block, bytes) in self.blocks.range(first..last) {
            let start = block * BLOCK;
            let from = start.max(offset);
            let to = (start + BLOCK).min(offset + buf.len() as u64);
            if from < to {
                buf[(from - offset) as usize..(to - offset) as usize]
                    .copy_from_slice(&bytes[(from - start) as usize..(to - start) as usize]);
            }
        }
        Ok(())
    }

    fn read_unproven(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        check_range(self.len, offset, buf.len() as u64)?;
        let end = offset.saturating_add(buf.len() as u64);
        let mut chunks = offset / CHUNK..end.div_ceil(CHUNK);
        match chunks.all(|chunk| self.is_as_in_base(chunk)) {
            true => self.base.read_unproven(offset, buf),
            false => self.read_at(offset, buf),
        }
    }

    fn chunk_name(&self, chunk: u64) -> Result<Option<[u8; 32]>, DiskError> {
        match self.is_as_in_base(chunk) {
            true => self.base.chunk_name(chunk),
            false => Ok(None),
        }
    }

    fn packed_chunk(&self, chunk: u64) -> Result<Option<Vec<u8>>, DiskError> {
        match self.is_as_in_base(chunk) {
            true => self.base.packed_chunk(chunk),
            false => Ok(None),
        }
    }

    fn has_digest(&self, chunk: u64, digest: &[u8; 32]) -> Result<Option<bool>, DiskError> {
        match self.is_as_in_base(chunk) {
            true => self.base.has_digest(chunk, digest),
            false => Ok(None),
        }
    }

    fn write_at(&mut self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        check_range(self.len, offset, data.len() as u64)?;
        let mut rest = data;
        for (block, within, len) in pieces(offset, data.len()) {
            let (now, later) = rest.split_at(len);
            rest = later;
            if let Some(bytes) = self.blocks.get_mut(&block) {
                bytes[within..within + len].copy_from_slice(now);
                continue;
            }
            let mut bytes = Box::new([0; BLOCK_LEN]);
            let reach = (self.len - block * BLOCK).min(BLOCK) as usize;
            self.read_below(block, &mut bytes[..reach])?;
            // A write that changes nothing must not count as a change.
            if bytes[within..within + len] == *now {
                self.equal.add(block, block + 1);
                continue;
            }
            bytes[within..within + len].copy_from_slice(now);
            self.blocks.insert(block, bytes);
        }
        Ok(())
    }

    /// Whole blocks are only noted, so that a large range costs no memory.
    fn zero_at(&mut self, offset: u64, len: u64) -> Result<(), DiskError> {
        check_range(self.len, offset, len)?;
        let end = offset + len;
        let first = offset.next_multiple_of(BLOCK).min(end);
        let last = if end == self.len {
            end.div_ceil(BLOCK)
        } else {
            end / BLOCK
        };
        let zeros = [0; BLOCK_LEN];
        self.write_at(offset, &zeros[..(first - offset) as usize])?;
        if first.div_ceil(BLOCK) >= last {
            return self.write_at(first, &zeros[..(end - first) as usize]);
        }
        let tail = (last * BLOCK).min(end);
        self.write_at(tail, &zeros[..(end - tail) as usize])?;
        self.drop_blocks(first / BLOCK, last);
        self.zeroed.add(first / BLOCK, last);
        Ok(())
    }

    /// Whole blocks are only noted, so that a large file that moves costs no memory.
    fn copy_within(&mut self, from: u64, to: u64, len: u64) -> Result<(), DiskError> {
        check_range(self.len, from, len)?;
        check_range(self.len, to, len)?;
        let first = to.next_multiple_of(BLOCK).min(to + len);
        let blocks = (to + len - first) / BLOCK;
        let last = first + blocks * BLOCK;
        let head = self.read_vec(from, (first - to) as usize)?;
        let tail = self.read_vec(from + (last - to), (to + len - last) as usize)?;
        let pieces = self.gather(from + (first - to), first / BLOCK, blocks)?;
        self.put_pieces(pieces);
        self.write_at(to, &head)?;
        self.write_at(last, &tail)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::MemoryDisk;
    use proptest::prelude::*;

    proptest! {
        /// Random writes through an overlay read back as on a plain disk, and the base stays.
        #[test]
        fn behaves_like_a_plain_disk(
            writes in proptest::collection::vec((0u64..40_000, proptest::collection::vec(any::<u8>(), 1..9000)), 1..20)
        ) {
            let base = MemoryDisk::from((0..30_001u32).map(|i| (i % 251) as u8).collect::<Vec<_>>());
            let kept = base.clone();
            let len = 50_000;
            let mut model = base.bytes().to_vec();
            model.resize(len, 0);
            let mut overlay = Overlay::new(&base, len as u64);
            for (number, (offset, data)) in writes.iter().enumerate() {
                let start = *offset as usize;
                if number % 4 == 1 {
                    let from = (start * 7 + data.len()) % (len - 9000);
                    model.copy_within(from..from + data.len(), start);
                    overlay.copy_within(from as u64, *offset, data.len() as u64).unwrap();
                    continue;
                }
                if number % 3 == 2 {
                    let more = (data.len() * 3).min(len - start);
                    model[start..start + more].fill(0);
                    overlay.zero_at(*offset, more as u64).unwrap();
                    continue;
                }
                model[start..start + data.len()].copy_from_slice(data);
                overlay.write_at(*offset, data).unwrap();
            }
            prop_assert_eq!(overlay.read_vec(0, len).unwrap(), model);
            prop_assert_eq!(&base, &kept);
        }
    }

    proptest! {
        /// A nested overlay that is taken over leaves what the same writes would have left; one
        /// that is not leaves nothing.
        #[test]
        fn nested_changes_are_taken_over_whole_or_not(
            steps in proptest::collection::vec(
                (any::<bool>(), proptest::collection::vec((0u64..49_000, 1usize..9000, any::<u8>()), 1..6)), 1..6)
        ) {
            let base = MemoryDisk::from((0..50_000u32).map(|i| (i % 251) as u8).collect::<Vec<_>>());
            let mut plain = Overlay::new(&base, 50_000);
            let mut merged = Overlay::new(&base, 50_000);
            let map = Map::uniform(50_000, ByteKind::Free);
            for (taken, writes) in steps {
                let mut nested = Overlay::new(&merged, 50_000);
                for (offset, len, byte) in writes {
                    let len = len.min(50_000 - offset as usize);
                    let write = |disk: &mut dyn Disk| match byte % 4 {
                        0 => disk.zero_at(offset, len as u64),
                        1 => disk.copy_within(u64::from(byte) * 150, offset, len as u64),
                        _ => disk.write_at(offset, &vec![byte; len]),
                    };
                    write(&mut nested).unwrap();
                    if taken {
                        write(&mut plain).unwrap();
                    }
                }
                let changes = nested.into_changes();
                if taken {
                    merged.take_over(changes).unwrap();
                }
            }
            prop_assert_eq!(merged.read_vec(0, 50_000).unwrap(), plain.read_vec(0, 50_000).unwrap());
            prop_assert_eq!(merged.map(&map), plain.map(&map));
            prop_assert_eq!(merged.touched_chunks(&map), plain.touched_chunks(&map));
        }
    }

    #[test]
    fn an_equal_write_is_no_change() {
        let base = MemoryDisk::from(vec![7; 300_000]);
        let mut overlay = Overlay::new(&base, 300_000);
        overlay.write_at(5000, &[7; 200]).unwrap();
        assert_eq!(overlay.changed_chunks().count(), 0);
        overlay.write_at(131_000, &[8; 200]).unwrap();
        assert_eq!(overlay.changed_chunks().collect::<Vec<_>>(), [0, 1]);
    }

    #[test]
    fn zeros_and_equal_bytes_count_where_the_base_is_free() {
        let base = MemoryDisk::new(4 * CHUNK as usize);
        let mut map = Map::uniform(4 * CHUNK, ByteKind::Free);
        map.set(0, CHUNK, ByteKind::Data);
        let mut overlay = Overlay::new(&base, 6 * CHUNK);
        overlay.write_at(4096, &[0; 100]).unwrap();
        overlay.write_at(CHUNK, &[0; 100]).unwrap();
        overlay.zero_at(3 * CHUNK + 10, 2 * CHUNK).unwrap();
        assert_eq!(overlay.changed_chunks().count(), 0);
        assert_eq!(overlay.touched_chunks(&map), [1, 3, 4, 5]);
        let after = overlay.map(&map);
        let kind = |at| after.runs_in(at, at + 1)[0].kind;
        assert_eq!(
            kind(CHUNK),
            ByteKind::Data,
            "an equal write into free bytes"
        );
        assert_eq!(kind(2 * CHUNK), ByteKind::Free);
        assert_eq!(kind(4 * CHUNK), ByteKind::Zero);
        assert_eq!(kind(6 * CHUNK - 1), ByteKind::Free);
    }

    #[test]
    fn a_range_past_the_end_is_refused_and_touches_nothing() {
        let base = MemoryDisk::new(8192);
        let mut overlay = Overlay::new(&base, 8192);
        let refused = overlay.write_at(8000, &[1; 300]).unwrap_err();
        assert!(matches!(refused, DiskError::OutOfRange { .. }), "{refused}");
        assert_eq!(overlay.changed_chunks().count(), 0);
        assert!(overlay.read_at(u64::MAX, &mut [0; 2]).is_err());
    }
}
