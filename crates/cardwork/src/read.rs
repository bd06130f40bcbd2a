//! Reading a card out, and reading it a second time to be sure.

use imagecraft::{CHUNK, Map};

use crate::flight::{HANDS, Pool, in_order, with_tries};
use crate::write::{WriteError, batches_of};
use crate::{CardIo, Progress, Stage};

/// Reads every chunk that is not free, in order, and hands it to `take` with its index.
pub fn read_out<E: From<WriteError> + Send>(
    card: &dyn CardIo,
    map: &Map,
    progress: &Progress,
    mut take: impl FnMut(u64, &[u8]) -> Result<(), E>,
) -> Result<(), E> {
    let same = |_: u64, _: &mut [u8]| Ok(true);
    each(card, map, progress, Stage::Reading, same, |chunk, bytes| {
        take(chunk, bytes)
    })
}

/// Reads the same chunks again; `same` tells of each whether its bytes, which it may change, are those that were kept.
/// The first that differs is an error. `same` is asked from several threads at once.
pub fn read_again<E: From<WriteError> + Send>(
    card: &dyn CardIo,
    map: &Map,
    progress: &Progress,
    same: impl Fn(u64, &mut [u8]) -> Result<bool, E> + Sync,
) -> Result<(), E> {
    each(card, map, progress, Stage::Verifying, same, |_, _| Ok(()))
}

fn each<E: From<WriteError> + Send>(
    card: &dyn CardIo,
    map: &Map,
    progress: &Progress,
    stage: Stage,
    same: impl Fn(u64, &mut [u8]) -> Result<bool, E> + Sync,
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
            for ((chunk, _), bytes) in batch.iter().zip(buf.chunks_mut(CHUNK as usize)) {
                if !same(*chunk, bytes)? {
                    let offset = chunk * CHUNK;
                    return Err(WriteError::Differs { offset }.into());
                }
            }
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
