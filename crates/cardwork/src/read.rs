//! Reading a card out, and reading it a second time to be sure.

use imagecraft::{CHUNK, Map};

use crate::flight::{HANDS, Pool, in_order, with_tries};
use crate::write::{WriteError, batches_of};
use crate::{CardIo, Progress, Stage};

/// Reads every chunk that is not free, in order, and hands it to `take` with its index.
/// Returns the digest of each chunk for [`read_again`].
pub fn read_out<E: From<WriteError> + Send>(
    card: &dyn CardIo,
    map: &Map,
    progress: &Progress,
    mut take: impl FnMut(u64, &[u8]) -> Result<(), E>,
) -> Result<Vec<(u64, blake3::Hash)>, E> {
    let mut digests = Vec::new();
    each(card, map, progress, Stage::Reading, |chunk, bytes| {
        digests.push((chunk, blake3::hash(bytes)));
        take(chunk, bytes)
    })?;
    Ok(digests)
}

/// Reads the same chunks again and compares; the first that differs is an error.
pub fn read_again(
    card: &dyn CardIo,
    map: &Map,
    digests: &[(u64, blake3::Hash)],
    progress: &Progress,
) -> Result<(), WriteError> {
    let mut expected = digests.iter();
    each(card, map, progress, Stage::Verifying, |chunk, bytes| {
        if expected.next() == Some(&(chunk, blake3::hash(bytes))) {
            Ok(())
        } else {
            Err(WriteError::Differs {
                offset: chunk * CHUNK,
            })
        }
    })
}

fn each<E: From<WriteError> + Send>(
    card: &dyn CardIo,
    map: &Map,
    progress: &Progress,
    stage: Stage,
    mut take: impl FnMut(u64, &[u8]) -> Result<(), E>,
) -> Result<(), E> {
    let size = map.len().min(card.size());
    let chunks: Vec<_> = map
        .chunks()
        .filter(|(chunk, _)| chunk * CHUNK < size)
        .collect();
    let total = chunks
        .iter()
        .map(|(chunk, _)| CHUNK.min(size - chunk * CHUNK))
        .sum();
    progress.begin(stage, total);
    let pool = Pool::default();
    in_order(
        HANDS,
        2 * HANDS,
        batches_of(&chunks),
        |batch| {
            if progress.is_cancelled() {
                return Err(WriteError::Cancelled.into());
            }
            let start = batch[0].0 * CHUNK;
            let mut buf = pool.take();
            buf.resize((batch.len() as u64 * CHUNK).min(size - start) as usize, 0);
            with_tries(|| card.read_at(start, &mut buf)).map_err(WriteError::Card)?;
            Ok((batch, buf))
        },
        |(batch, buf)| {
            for ((chunk, _), bytes) in batch.iter().zip(buf.chunks(CHUNK as usize)) {
                take(*chunk, bytes)?;
            }
            progress.advance(buf.len() as u64);
            pool.give(buf);
            Ok(())
        },
    )
}
