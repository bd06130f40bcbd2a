//! Writing a card so that it is never half right.
//!
//! The order: block 0 says *unfinished*, and the rest of the head and the tail, where tables and
//! their backups lie, are zeroed; then the body; then the body is read back; then the tail and
//! the head behind block 0, read back too; last block 0 itself. Pulled at any moment before that,
//! the card carries the mark and no table.

use std::sync::mpsc::sync_channel;

use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk, DiskError, Map};

use crate::occupant::BLOCK_0;
use crate::{BATCH, CardError, CardIo, Mark, Progress, Stage};

/// Batches that wait between the thread that reads the content and the one that writes.
const QUEUE: usize = 6;

/// Why a card was not written. It carries the unfinished mark, or was not touched at all.
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
    /// The content is longer than the card.
    #[error("the content is {content} bytes long, the card holds {card}")]
    TooSmall {
        /// Bytes of content.
        content: u64,
        /// Bytes of the card.
        card: u64,
    },
}

/// What a finished write did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Written {
    /// Bytes put on the card, marks and zeros included.
    pub written: u64,
    /// Bytes read back and found equal.
    pub verified: u64,
}

/// Splits ascending chunk numbers into runs without gap of at most [`BATCH`] bytes.
pub(crate) fn batches(chunks: &[u64]) -> impl Iterator<Item = &[u64]> {
    let most = BATCH / CHUNK_LEN;
    let mut rest = chunks;
    std::iter::from_fn(move || {
        let first = *rest.first()?;
        let len = rest
            .iter()
            .zip(first..)
            .take(most)
            .take_while(|(chunk, next)| *chunk == next)
            .count();
        let (batch, later) = rest.split_at(len);
        rest = later;
        Some(batch)
    })
}

struct Writer<'a, D: ?Sized> {
    card: &'a dyn CardIo,
    content: &'a D,
    len: u64,
    progress: &'a Progress,
    done: Written,
}

/// Writes `content` to `card` and verifies it, all that `map` does not call free.
///
/// The caller has made sure that this is the right card.
pub fn write<D: Disk + ?Sized>(
    card: &dyn CardIo,
    content: &D,
    map: &Map,
    mark: &Mark,
    progress: &Progress,
) -> Result<Written, WriteError> {
    let (len, size) = (content.len(), card.size());
    if len > size {
        return Err(WriteError::TooSmall {
            content: len,
            card: size,
        });
    }
    let kinds: Vec<_> = map
        .chunks()
        .filter(|(chunk, _)| chunk * CHUNK < len)
        .collect();
    // The last whole chunk's length may hold the backup of a table and straddle two chunks.
    let tail_first = len.saturating_sub(CHUNK) / CHUNK;
    let (edges, body): (Vec<_>, Vec<_>) = kinds
        .into_iter()
        .partition(|(chunk, _)| *chunk == 0 || *chunk >= tail_first.max(1));

    let mut writer = Writer {
        card,
        content,
        len,
        progress,
        done: Written {
            written: 0,
            verified: 0,
        },
    };
    progress.begin(Stage::Writing, writer.bytes_of(&body));
    if progress.is_cancelled() {
        return Err(WriteError::Cancelled);
    }
    writer.wipe(mark)?;
    let body_digests = writer.put_all(&body)?;
    card.flush()?;
    progress.begin(
        Stage::Verifying,
        writer.bytes_of(&body) + writer.bytes_of(&edges),
    );
    writer.verify_all(&body, &body_digests)?;
    writer.put_edges(&edges)?;
    Ok(writer.done)
}

impl<D: Disk + ?Sized> Writer<'_, D> {
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
        self.card.write_at(offset, bytes)?;
        self.done.written += bytes.len() as u64;
        Ok(())
    }

    /// The mark goes on first: from here on the card is plainly unfinished.
    fn wipe(&mut self, mark: &Mark) -> Result<(), WriteError> {
        let size = self.card.size();
        let zeros = vec![0; CHUNK_LEN];
        let block_0 = mark.to_block();
        self.put(0, &block_0[..BLOCK_0.min(size as usize)])?;
        self.card.flush()?;
        let head_end = CHUNK.min(size);
        if head_end > BLOCK_0 as u64 {
            self.put(BLOCK_0 as u64, &zeros[BLOCK_0..head_end as usize])?;
        }
        let tail = size.saturating_sub(CHUNK).max(head_end);
        if tail < size {
            self.put(tail, &zeros[..(size - tail) as usize])?;
        }
        Ok(self.card.flush()?)
    }

    /// Reads one batch of content; zero chunks cost nothing.
    fn fetch(
        content: &D,
        len: u64,
        batch: &[(u64, ByteKind)],
        buf: &mut Vec<u8>,
    ) -> Result<Vec<blake3::Hash>, WriteError> {
        buf.clear();
        let mut digests = Vec::with_capacity(batch.len());
        for (chunk, kind) in batch {
            let at = buf.len();
            let start = chunk * CHUNK;
            buf.resize(at + CHUNK.min(len - start) as usize, 0);
            if *kind == ByteKind::Data {
                content.read_at(start, &mut buf[at..])?;
            }
            digests.push(blake3::hash(&buf[at..]));
        }
        Ok(digests)
    }

    /// Writes chunks while another thread reads the next ones. Returns their digests.
    fn put_all(&mut self, chunks: &[(u64, ByteKind)]) -> Result<Vec<blake3::Hash>, WriteError> {
        let numbers: Vec<_> = chunks.iter().map(|(chunk, _)| *chunk).collect();
        let (content, len) = (self.content, self.len);
        let mut all = Vec::with_capacity(chunks.len());
        std::thread::scope(|scope| {
            let (full, filled) =
                sync_channel::<Result<(u64, Vec<u8>, Vec<blake3::Hash>), WriteError>>(QUEUE);
            let (empty, emptied) = sync_channel::<Vec<u8>>(QUEUE + 2);
            scope.spawn(move || {
                let mut at = 0;
                for batch in batches(&numbers) {
                    let mut buf = emptied.try_recv().unwrap_or_default();
                    let kinds = &chunks[at..at + batch.len()];
                    at += batch.len();
                    let fetched = Self::fetch(content, len, kinds, &mut buf)
                        .map(|digests| (batch[0] * CHUNK, buf, digests));
                    let failed = fetched.is_err();
                    // The writer hung up: it has an error of its own to report.
                    if full.send(fetched).is_err() || failed {
                        return;
                    }
                }
            });
            for batch in filled {
                let (offset, buf, digests) = batch?;
                if self.progress.is_cancelled() {
                    return Err(WriteError::Cancelled);
                }
                self.put(offset, &buf)?;
                self.progress.advance(buf.len() as u64);
                all.extend(digests);
                let _ = empty.try_send(buf);
            }
            Ok(all)
        })
    }

    fn verify_all(
        &mut self,
        chunks: &[(u64, ByteKind)],
        digests: &[blake3::Hash],
    ) -> Result<(), WriteError> {
        let numbers: Vec<_> = chunks.iter().map(|(chunk, _)| *chunk).collect();
        let mut expected = digests.iter();
        let mut buf = vec![0; BATCH];
        for batch in batches(&numbers) {
            if self.progress.is_cancelled() {
                return Err(WriteError::Cancelled);
            }
            let start = batch[0] * CHUNK;
            let len = (batch.len() as u64 * CHUNK).min(self.len - start) as usize;
            self.card.read_at(start, &mut buf[..len])?;
            for (chunk, bytes) in batch.iter().zip(buf[..len].chunks(CHUNK_LEN)) {
                if expected.next() != Some(&blake3::hash(bytes)) {
                    return Err(WriteError::Differs {
                        offset: chunk * CHUNK,
                    });
                }
            }
            self.done.verified += len as u64;
            self.progress.advance(len as u64);
        }
        Ok(())
    }

    /// Tail and head, each read back, block 0 last.
    fn put_edges(&mut self, edges: &[(u64, ByteKind)]) -> Result<(), WriteError> {
        let mut block_0 = None;
        let mut put = Vec::new();
        for edge in edges {
            let mut bytes = Vec::new();
            Self::fetch(
                self.content,
                self.len,
                std::slice::from_ref(edge),
                &mut bytes,
            )?;
            let mut at = edge.0 * CHUNK;
            if at == 0 {
                let rest = bytes.split_off(BLOCK_0.min(bytes.len()));
                block_0 = Some(std::mem::replace(&mut bytes, rest));
                at = BLOCK_0 as u64;
            }
            self.put(at, &bytes)?;
            put.push((at, bytes));
        }
        self.card.flush()?;
        for (at, bytes) in &put {
            self.verify(*at, bytes)?;
        }
        if self.progress.is_cancelled() {
            return Err(WriteError::Cancelled);
        }
        if let Some(block) = block_0 {
            self.put(0, &block)?;
            self.card.flush()?;
            self.verify(0, &block)?;
        }
        Ok(())
    }

    fn verify(&mut self, offset: u64, expected: &[u8]) -> Result<(), WriteError> {
        let mut found = vec![0; expected.len()];
        self.card.read_at(offset, &mut found)?;
        if found != expected {
            return Err(WriteError::Differs { offset });
        }
        self.done.verified += expected.len() as u64;
        self.progress.advance(expected.len() as u64);
        Ok(())
    }
}
