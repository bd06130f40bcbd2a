//! Writing a card so that it is never half right, and so that no card can pass that is not.
//!
//! The order:
//! 1. Block 0 says *unfinished*; the rest of the head, and the tail, where tables and their
//!    backups lie, get test data that is unique to this write and place. All of it is read back.
//! 2. On a card whose size is not proven, probes of such test data go where nothing is written.
//! 3. The body is written. Test data and body are read back: a card that holds less than it
//!    reports has lost one of them by now, and nothing was put on it that makes it whole.
//! 4. The probes give their places back. The tail and the head behind block 0 get their content
//!    and are read back; last comes block 0, and all edges are read back once more.
//!
//! Whatever fails after the first byte, the mark is put (back) and tables are wiped, as far as
//! the card takes it; [`Left`] says what is known about the card then.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::sync_channel;
use std::sync::{Arc, Mutex};

use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk, DiskError, Map};
use serde::{Deserialize, Serialize};

use crate::beside::DiskChunks;
use crate::flight::{HANDS, Pool, in_order, lock, with_tries};
use crate::occupant::BLOCK_0;
use crate::pattern::{PROBE, Pattern, probe_places};
use crate::{BATCH, CardError, CardIo, Mark, Progress, Stage};

/// Batches that are read ahead at most, in all hands.
const AHEAD: usize = 8;
/// Threads that read the content ahead at most: unpacking takes longer than writing to a quick card.
const READERS: usize = 4;

/// The least that a medium takes or gives, in bytes.
const SECTOR_LEN: usize = 512;

/// What tells a chunk apart from any other: the first half of its BLAKE3. A card of 64 GB has half a
/// million chunks, and their digests stay in memory from writing to verifying.
type Digest = [u8; 16];

/// A digest that no chunk has, to ask whether digests are told at all.
const NOBODYS: [u8; 32] = [0; 32];

fn half(whole: &[u8; 32]) -> Digest {
    let (half, _) = whole.split_first_chunk().expect("a hash has 32 bytes");
    *half
}

fn digest(bytes: &[u8]) -> Digest {
    half(blake3::hash(bytes).as_bytes())
}

/// Why a card was not written, or not verified.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WriteError {
    /// The work was asked to stop.
    #[error("stopped on request")]
    Cancelled,
    /// The card failed.
    #[error(transparent)]
    Card(#[from] CardError),
    /// The content could not be read.
    #[error("the content cannot be read: {0}")]
    Content(#[from] DiskError),
    /// The card gives back other bytes than were written.
    #[error(
        "the card reads back other bytes than were written, first near byte {offset}; do not use it"
    )]
    Differs {
        /// First byte of the chunk that differs.
        offset: u64,
    },
    /// Test data that was put on the card is not there any more: it holds less than it reports,
    /// or drops what it is given.
    #[error(
        "what was put at byte {offset} of the card is lost, as on a forged card that holds less than it says, or on a worn one; do not use it"
    )]
    Lost {
        /// Where the test data was put.
        offset: u64,
    },
    /// The content is longer than the card.
    #[error("the content is {content} bytes long, the card holds {card}")]
    TooSmall {
        /// Bytes of content.
        content: u64,
        /// Bytes of the card.
        card: u64,
    },
}

/// What is known about a card whose write did not end well.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Left {
    /// Not a byte of it was changed.
    Untouched,
    /// Block 0 carries the mark, and no table is where a board or a computer looks for one.
    Unfinished,
    /// It could not be made sure that the mark is on it: what was on it before, or what was
    /// written, may boot, and nothing vouches for it.
    MayBoot,
}

/// A write that did not end with a verified card.
#[derive(Debug, thiserror::Error)]
#[error("{error}")]
pub struct Unwritten {
    /// What happened.
    pub error: WriteError,
    /// What is on the card now.
    pub left: Left,
}

impl Unwritten {
    fn untouched(error: WriteError) -> Self {
        Self {
            error,
            left: Left::Untouched,
        }
    }
}

/// What a finished write did.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Written {
    /// Bytes put on the card, marks, test data and zeros included.
    pub written: u64,
    /// Bytes of content read back and found equal.
    pub verified: u64,
    /// Whether the card is known to hold all the bytes that it reports: it was before, or every
    /// chunk of it was written and read back now.
    pub size_proven: bool,
}

/// Splits chunks in ascending order into runs without gap of at most [`BATCH`] bytes.
pub(crate) fn batches_of(chunks: &[(u64, ByteKind)]) -> impl Iterator<Item = &[(u64, ByteKind)]> {
    let most = BATCH / CHUNK_LEN;
    let mut rest = chunks;
    std::iter::from_fn(move || {
        let (first, _) = *rest.first()?;
        let near = rest.iter().zip(first..).take(most);
        let len = near.take_while(|((chunk, _), next)| chunk == next).count();
        let (batch, later) = rest.split_at(len);
        rest = later;
        Some(batch)
    })
}

/// How a card is written.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize)]
pub struct Options {
    /// A full check has shown that the card holds what it reports.
    pub size_proven: bool,
    /// What nothing is put onto is made to read as zero, so that what was there before is gone.
    pub wipe_free: bool,
}

/// Writes `content` to `card` and verifies it, all that `map` does not call free; with
/// [`Options::wipe_free`] all of the card.
///
/// The caller has made sure that this is the right card.
///
/// # Errors
/// [`Unwritten`], which says what is on the card then.
pub fn write<D: Disk + ?Sized>(
    card: &dyn CardIo,
    content: &D,
    map: &Map,
    mark: &Mark,
    options: Options,
    progress: &Progress,
) -> Result<Written, Unwritten> {
    let (len, size) = (content.len(), card.size());
    if len > size {
        return Err(Unwritten::untouched(WriteError::TooSmall {
            content: len,
            card: size,
        }));
    }
    if let Some(there) = card.beside() {
        return there.write(&DiskChunks(content), map, mark, options, progress);
    }
    let pattern = Pattern::fresh().map_err(|e| {
        Unwritten::untouched(WriteError::Content(DiskError::Io(std::io::Error::other(e))))
    })?;
    let head = CHUNK.min(size);
    let tail = (size.saturating_sub(CHUNK) / CHUNK * CHUNK).max(head);
    let mut writer = Writer {
        card,
        content,
        len,
        head,
        tail,
        mark: mark.to_block()[..BLOCK_0.min(size as usize)].to_vec(),
        pattern,
        progress,
        probes: Vec::new(),
        options,
        discarded: false,
        left: Left::Untouched,
        done: Written {
            written: 0,
            verified: 0,
            size_proven: options.size_proven,
        },
    };
    let mut whole = map.clone();
    let map = match options.wipe_free {
        true => {
            whole.fill_free(ByteKind::Zero);
            &whole
        }
        false => map,
    };
    match writer.run(map) {
        Ok(()) => Ok(writer.done),
        Err(error) => {
            writer.fall_back(&error);
            Err(Unwritten {
                error,
                left: writer.left,
            })
        }
    }
}

/// Whether the head and the tail of a card read as a finished write of `content` leaves them.
/// Block 0 is put only after everything else was read back, so that this tells of a write whose
/// end nobody saw whether it came to it.
pub fn has_edges_of<D: Disk + ?Sized>(card: &dyn CardIo, content: &D) -> Result<bool, CardError> {
    let size = card.size();
    if content.len() > size {
        return Ok(false);
    }
    let head = CHUNK.min(size);
    let tail = (size.saturating_sub(CHUNK) / CHUNK * CHUNK).max(head);
    for (from, to) in [(0, head), (tail, size)] {
        let mut found = vec![0; (to - from) as usize];
        if found.is_empty() {
            continue;
        }
        card.read_at(from, &mut found)?;
        let mut wanted = vec![0; found.len()];
        let inside = content.len().min(to).saturating_sub(from) as usize;
        if inside > 0 && content.read_at(from, &mut wanted[..inside]).is_err() {
            return Ok(false);
        }
        if found != wanted {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Whether a sector of these bytes announces a GUID partition table.
fn announces_table(bytes: &[u8]) -> bool {
    bytes
        .chunks(512)
        .any(|sector| sector.starts_with(b"EFI PART"))
}

/// A batch of content.
struct Fetched {
    /// Where it goes.
    offset: u64,
    bytes: Vec<u8>,
    /// Of each chunk, unless its name tells it.
    digests: Vec<Option<Digest>>,
    /// Whether it is all to read as zero.
    zero: bool,
}

struct Writer<'a, D: ?Sized> {
    card: &'a dyn CardIo,
    content: &'a D,
    /// Bytes of content.
    len: u64,
    /// Byte behind the head, whose beginning is block 0.
    head: u64,
    /// First byte of the tail: a chunk's border, at least a chunk before the end.
    tail: u64,
    mark: Vec<u8>,
    pattern: Pattern,
    progress: &'a Progress,
    /// Where probes lie, with what was there before.
    probes: Vec<(u64, Vec<u8>)>,
    options: Options,
    /// Whether a range was not written, but given up by the card on request.
    discarded: bool,
    left: Left,
    done: Written,
}

impl<D: Disk + ?Sized> Writer<'_, D> {
    fn run(&mut self, map: &Map) -> Result<(), WriteError> {
        let kinds = map.chunks().filter(|(chunk, _)| chunk * CHUNK < self.len);
        let (edges, body): (Vec<_>, Vec<_>) =
            kinds.partition(|(chunk, _)| *chunk == 0 || *chunk >= self.tail / CHUNK);
        let body_bytes = self.bytes_of(&body);
        self.progress.begin(Stage::Writing, body_bytes);
        if self.progress.is_cancelled() {
            return Err(WriteError::Cancelled);
        }
        let places = if self.done.size_proven {
            Vec::new()
        } else {
            probe_places(map, self.tail, body_bytes)
        };
        let mut before = vec![vec![0; PROBE as usize]; places.len()];
        for (place, before) in places.iter().zip(&mut before) {
            self.card.read_at(*place, before)?;
        }
        self.wipe()?;
        for (place, before) in places.into_iter().zip(before) {
            let bytes = self.pattern.at(place, before.len());
            self.probes.push((place, before));
            self.put(place, &bytes)?;
        }
        let digests = self.put_all(&body)?;
        self.card.flush()?;
        self.progress
            .begin(Stage::Verifying, body_bytes + self.bytes_of(&edges));
        // A forged card is told at once, not after all has been read.
        self.test_data_is_there()?;
        self.verify_all(&body, &digests)?;
        self.test_data_is_there()?;
        self.done.size_proven |= self.probes.is_empty() && !self.discarded;
        for (place, before) in std::mem::take(&mut self.probes) {
            self.put(place, &before)?;
        }
        self.put_edges(&edges)
    }

    fn chunk_len(&self, chunk: u64) -> usize {
        CHUNK.min(self.len - chunk * CHUNK) as usize
    }

    fn bytes_of(&self, chunks: &[(u64, ByteKind)]) -> u64 {
        chunks
            .iter()
            .map(|(chunk, _)| self.chunk_len(*chunk) as u64)
            .sum()
    }

    fn put(&mut self, offset: u64, bytes: &[u8]) -> Result<(), WriteError> {
        if bytes.is_empty() {
            return Ok(());
        }
        self.card.write_at(offset, bytes)?;
        self.done.written += bytes.len() as u64;
        Ok(())
    }

    /// The places of tables and their backups, but for block 0: first byte and length.
    fn edge_ranges(&self) -> [(u64, usize); 2] {
        let block_0 = self.mark.len() as u64;
        [
            (block_0, (self.head - block_0) as usize),
            (self.tail, (self.card.size() - self.tail) as usize),
        ]
    }

    /// The mark goes on first. From the end of this on the card is plainly unfinished.
    fn wipe(&mut self) -> Result<(), WriteError> {
        self.left = Left::MayBoot;
        let mark = self.mark.clone();
        self.put(0, &mark)?;
        self.card.flush()?;
        for (at, len) in self.edge_ranges() {
            let bytes = self.pattern.at(at, len);
            self.put(at, &bytes)?;
        }
        self.card.flush()?;
        self.test_data_is_there()?;
        self.left = Left::Unfinished;
        Ok(())
    }

    /// Mark, head, tail and probes are still as they were put: no two of them, and nothing that
    /// was written since, share a place on the medium.
    fn test_data_is_there(&self) -> Result<(), WriteError> {
        let lost = |offset| Err(WriteError::Lost { offset });
        let mut found = vec![0; self.mark.len()];
        self.card.read_at(0, &mut found)?;
        if found != self.mark {
            return lost(0);
        }
        let probes = self.probes.iter();
        let probes = probes.map(|(place, before)| (*place, before.len()));
        for (at, len) in self.edge_ranges().into_iter().chain(probes) {
            found.resize(len, 0);
            if len > 0 {
                self.card.read_at(at, &mut found)?;
            }
            if found != self.pattern.at(at, len) {
                return lost(at);
            }
        }
        Ok(())
    }

    /// Reads one batch of content; zero chunks cost nothing.
    fn fetch(
        content: &D,
        len: u64,
        batch: &[(u64, ByteKind)],
        mut bytes: Vec<u8>,
    ) -> Result<Fetched, WriteError> {
        let of = |chunk: u64| CHUNK.min(len - chunk * CHUNK) as usize;
        // What lay in a buffer that goes round is not cleared only to be read over.
        bytes.resize(batch.iter().map(|(chunk, _)| of(*chunk)).sum(), 0);
        let mut digests = Vec::with_capacity(batch.len());
        let mut rest = bytes.as_mut_slice();
        for (chunk, kind) in batch {
            let (part, behind) = rest.split_at_mut(of(*chunk));
            rest = behind;
            let mut told = false;
            match kind {
                ByteKind::Data => {
                    told = content.has_digest(*chunk, &NOBODYS)?.is_some();
                    match told {
                        true => content.read_unproven(chunk * CHUNK, part)?,
                        false => content.read_at(chunk * CHUNK, part)?,
                    }
                }
                _ => part.fill(0),
            }
            // What the name of a chunk tells is held against it when it is read back, wherever it went wrong.
            digests.push((!told).then(|| digest(part)));
        }
        Ok(Fetched {
            offset: batch[0].0 * CHUNK,
            zero: batch.iter().all(|(_, kind)| *kind == ByteKind::Zero),
            bytes,
            digests,
        })
    }

    /// Writes chunks while other threads read and unpack the next ones. Returns their digests.
    fn put_all(&mut self, chunks: &[(u64, ByteKind)]) -> Result<Vec<Option<Digest>>, WriteError> {
        let (card, content, len, progress) = (self.card, self.content, self.len, self.progress);
        let wipe_free = self.options.wipe_free;
        let mut all = Vec::with_capacity(chunks.len());
        // One more than processors: some of them wait for the disk, or for a place.
        let processors = std::thread::available_parallelism().map_or(1, usize::from);
        let readers = (processors + 1).clamp(1, READERS);
        let pool = Pool::default();
        let (written, discarded) = (AtomicU64::new(0), AtomicBool::new(false));
        let failed = Mutex::new(None);
        let put = |batch: &Fetched| {
            let bytes = batch.bytes.as_slice();
            // What shall read as zero need not be moved to a card that can be told so.
            if batch.zero && wipe_free && card.discard(batch.offset, bytes.len() as u64)? {
                discarded.store(true, Ordering::Relaxed);
                return Ok(());
            }
            with_tries(|| card.write_at(batch.offset, bytes))?;
            written.fetch_add(bytes.len() as u64, Ordering::Relaxed);
            Ok(())
        };
        let ended = std::thread::scope(|scope| {
            let (give, given) = sync_channel::<Fetched>(2);
            let given = Mutex::new(given);
            let (given, failed, pool, put) = (&Arc::new(given), &failed, &pool, &put);
            for _ in 0..HANDS {
                let given = given.clone();
                scope.spawn(move || {
                    loop {
                        let Ok(batch) = lock(&given).recv() else {
                            return;
                        };
                        // After a failure nothing more is put, only taken, so that nobody waits.
                        if lock(failed).is_none() {
                            match put(&batch) {
                                Ok(()) => progress.advance(batch.bytes.len() as u64),
                                Err(error) => {
                                    lock(failed).get_or_insert(error);
                                }
                            }
                        }
                        pool.give(batch.bytes);
                    }
                });
            }
            in_order(
                readers,
                AHEAD,
                batches_of(chunks),
                |batch| Self::fetch(content, len, batch, pool.take()),
                |batch| {
                    if progress.is_cancelled() {
                        return Err(WriteError::Cancelled);
                    }
                    if let Some(error) = lock(failed).take() {
                        return Err(WriteError::Card(error));
                    }
                    all.extend(&batch.digests);
                    // The hands live as long as this does.
                    let _ = give.send(batch);
                    Ok(())
                },
            )
        });
        self.done.written += written.into_inner();
        self.discarded |= discarded.into_inner();
        ended?;
        match failed.into_inner().unwrap_or_else(|e| e.into_inner()) {
            Some(error) => Err(error.into()),
            None => Ok(all),
        }
    }

    fn verify_all(
        &mut self,
        chunks: &[(u64, ByteKind)],
        digests: &[Option<Digest>],
    ) -> Result<(), WriteError> {
        let (card, content, len, progress) = (self.card, self.content, self.len, self.progress);
        let (mut expected, pool) = (digests.iter(), Pool::default());
        in_order(
            HANDS,
            2 * HANDS,
            batches_of(chunks),
            |batch| {
                if progress.is_cancelled() {
                    return Err(WriteError::Cancelled);
                }
                let start = batch[0].0 * CHUNK;
                let mut buf = pool.take();
                buf.resize((batch.len() as u64 * CHUNK).min(len - start) as usize, 0);
                with_tries(|| card.read_at(start, &mut buf))?;
                let found: Vec<_> = buf
                    .chunks(CHUNK_LEN)
                    .map(|bytes| *blake3::hash(bytes).as_bytes())
                    .collect();
                let read = buf.len() as u64;
                pool.give(buf);
                Ok((start, read, found))
            },
            |(start, read, found)| {
                for (chunk, found) in found.iter().enumerate() {
                    let offset = start + chunk as u64 * CHUNK;
                    let equal = match expected.next() {
                        Some(Some(wanted)) => *wanted == half(found),
                        Some(None) => Self::is_content(content, len, offset, found)?,
                        None => false,
                    };
                    if !equal {
                        return Err(WriteError::Differs { offset });
                    }
                }
                self.done.verified += read;
                progress.advance(read);
                Ok(())
            },
        )
    }

    /// Whether a chunk of which no digest was kept has the one that was found on the card.
    fn is_content(
        content: &D,
        len: u64,
        offset: u64,
        found: &[u8; 32],
    ) -> Result<bool, WriteError> {
        if content.has_digest(offset / CHUNK, found)? == Some(true) {
            return Ok(true);
        }
        // Its name may be that of fewer bytes, behind which there are zeros. Content that is not what it should be
        // is an error of its own here, and no card is blamed for it.
        let mut bytes = vec![0; CHUNK.min(len - offset) as usize];
        content.read_at(offset, &mut bytes)?;
        Ok(blake3::hash(&bytes).as_bytes() == found)
    }

    /// Tail and head, read back, block 0 last, and all of it read back again.
    fn put_edges(&mut self, edges: &[(u64, ByteKind)]) -> Result<(), WriteError> {
        let mut bytes: Vec<_> = [(0, self.head), (self.tail, self.card.size())]
            .map(|(from, to)| (from, vec![0; (to - from) as usize]))
            .into();
        for (chunk, kind) in edges {
            if *kind == ByteKind::Data {
                let start = chunk * CHUNK;
                let (from, edge) = &mut bytes[usize::from(*chunk > 0)];
                let at = (start - *from) as usize;
                let len = CHUNK.min(self.len - start) as usize;
                self.content.read_at(start, &mut edge[at..at + len])?;
            }
        }
        let rest = bytes[0].1.split_off(self.mark.len());
        let (_, block_0) = std::mem::replace(&mut bytes[0], (self.mark.len() as u64, rest));
        if self.progress.is_cancelled() {
            return Err(WriteError::Cancelled);
        }
        // A backup table in the tail is a table already.
        self.left = Left::MayBoot;
        for (at, edge) in bytes.iter().rev() {
            self.put(*at, edge)?;
        }
        self.card.flush()?;
        for (at, edge) in &bytes {
            self.verify(*at, edge)?;
        }
        if self.progress.is_cancelled() {
            return Err(WriteError::Cancelled);
        }
        self.put(0, &block_0)?;
        self.card.flush()?;
        self.verify(0, &block_0)?;
        for (at, edge) in &bytes {
            self.verify(*at, edge)?;
        }
        let edges = self.bytes_of(edges);
        self.done.verified += edges;
        self.progress.advance(edges);
        Ok(())
    }

    fn verify(&self, offset: u64, expected: &[u8]) -> Result<(), WriteError> {
        let mut found = vec![0; expected.len()];
        if !expected.is_empty() {
            self.card.read_at(offset, &mut found)?;
        }
        if found != expected {
            return Err(WriteError::Differs { offset });
        }
        Ok(())
    }

    /// After a failure: puts the mark on and takes tables off, and finds out whether that is so.
    fn fall_back(&mut self, error: &WriteError) {
        if self.left == Left::Untouched {
            return;
        }
        let healthy = matches!(error, WriteError::Cancelled | WriteError::Content(_));
        let probes = std::mem::take(&mut self.probes);
        let mut puts: Vec<(u64, &[u8])> = Vec::new();
        if healthy {
            puts.extend(
                probes
                    .iter()
                    .map(|(place, before)| (*place, before.as_slice())),
            );
        }
        // Block by block, so that a failing place does not keep the rest from being wiped.
        let zeros = [0; BLOCK_0];
        let ranges = self.edge_ranges();
        for (at, len) in ranges.into_iter().rev() {
            let parts = (0..len).step_by(BLOCK_0);
            puts.extend(parts.map(|part| (at + part as u64, &zeros[..BLOCK_0.min(len - part)])));
        }
        // The mark last: on a card that wraps, it then lies on top.
        puts.push((0, &self.mark));
        for (at, bytes) in puts {
            match self.card.write_at(at, bytes) {
                Ok(()) => {}
                // Nothing more can be learnt or done; what was known still holds.
                Err(e) if e.is_out_of_reach() => return,
                // A bad sector must not keep those around it from being wiped.
                Err(_) => {
                    for (sector, part) in bytes.chunks(SECTOR_LEN).enumerate() {
                        let _ = self.card.write_at(at + (sector * SECTOR_LEN) as u64, part);
                    }
                }
            }
        }
        let _ = self.card.flush();
        match self.is_plainly_unfinished(&ranges) {
            Ok(true) => self.left = Left::Unfinished,
            Ok(false) => self.left = Left::MayBoot,
            Err(_) => {}
        }
    }

    /// Looks for the mark, and for tables where they are looked for.
    fn is_plainly_unfinished(&self, ranges: &[(u64, usize)]) -> Result<bool, CardError> {
        let read = |at: u64, len: usize| {
            let mut found = vec![0; len];
            match self.card.read_at(at, &mut found) {
                Ok(()) => return Ok(found),
                Err(e) if e.is_out_of_reach() => return Err(e),
                Err(_) => {}
            }
            // A sector that cannot be read gives no table to anybody; those around it do.
            for (sector, part) in found.chunks_mut(SECTOR_LEN).enumerate() {
                match self.card.read_at(at + (sector * SECTOR_LEN) as u64, part) {
                    Err(e) if e.is_out_of_reach() => return Err(e),
                    Err(_) => part.fill(0),
                    Ok(()) => {}
                }
            }
            Ok(found)
        };
        for (at, len) in ranges {
            for part in (0..*len).step_by(BLOCK_0) {
                let bytes = read(at + part as u64, BLOCK_0.min(len - part))?;
                if announces_table(&bytes) {
                    return Ok(false);
                }
            }
        }
        Ok(read(0, self.mark.len())? == self.mark)
    }
}
