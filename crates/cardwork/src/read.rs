//! Reading a card out, and reading it a second time to be sure.

use imagecraft::{CHUNK, CHUNK_LEN, Map};

use crate::beside::Likely;
use crate::flight::{HANDS, Pool, in_order, with_tries};
use crate::write::{WriteError, batches_of};
use crate::{CardIo, Progress, Stage};

/// Reads every chunk that is not free, in order, and hands it to `take` with its index. What is free in a chunk is
/// zeroed. Where the card is elsewhere, chunks that are as `likely` has them need not travel.
///
/// # Errors
/// What the card reports, or `take`.
pub fn read_out<E: From<WriteError> + Send>(
    card: &dyn CardIo,
    map: &Map,
    likely: &dyn Likely,
    progress: &Progress,
    mut take: impl FnMut(u64, &[u8]) -> Result<(), E>,
) -> Result<(), E> {
    if let Some(there) = card.beside() {
        let mut own = None;
        let read = there.read(map, likely, progress, &mut |chunk, bytes| {
            take(chunk, bytes).map_err(|error| {
                own = Some(error);
                WriteError::Cancelled
            })
        });
        return read.map_err(|error| own.unwrap_or_else(|| error.into()));
    }
    let nothing = |_: u64, _: &[u8]| Ok(());
    each(
        card,
        map,
        progress,
        Stage::Reading,
        nothing,
        |first, bytes| {
            for (chunk, bytes) in (first..).zip(bytes.chunks(CHUNK_LEN)) {
                take(chunk, bytes)?;
            }
            Ok(())
        },
    )
}

/// Reads the same chunks again; `kept` fills in what was kept of each, with zeros for what is free in it. The first
/// that differs is an error. Both may be asked from several threads at once.
///
/// # Errors
/// What the card reports, [`WriteError::Differs`], or `kept`.
pub fn read_again<E: From<WriteError> + Send>(
    card: &dyn CardIo,
    map: &Map,
    progress: &Progress,
    kept: impl Fn(u64, &mut [u8]) -> Result<(), E> + Sync,
) -> Result<(), E> {
    if let Some(there) = card.beside() {
        let mut own = None;
        let read = there.read_again(map, progress, &mut |chunk, bytes| {
            kept(chunk, bytes).map_err(|error| {
                own = Some(error);
                WriteError::Cancelled
            })
        });
        return read.map_err(|error| own.unwrap_or_else(|| error.into()));
    }
    let same = |first: u64, bytes: &[u8]| {
        let mut before = [0; CHUNK_LEN];
        for (chunk, bytes) in (first..).zip(bytes.chunks(CHUNK_LEN)) {
            let before = &mut before[..bytes.len()];
            kept(chunk, before)?;
            if before != bytes {
                let offset = chunk * CHUNK;
                return Err(WriteError::Differs { offset }.into());
            }
        }
        Ok(())
    };
    each(card, map, progress, Stage::Verifying, same, |_, _| Ok(()))
}

/// Reads runs of chunks that are not free, in order, and hands them to `take` with the index of their first. What is
/// free in them is zeroed.
///
/// # Errors
/// What the card reports, or `take`.
pub fn read_batches(
    card: &dyn CardIo,
    map: &Map,
    progress: &Progress,
    again: bool,
    take: impl FnMut(u64, &[u8]) -> Result<(), WriteError>,
) -> Result<(), WriteError> {
    let stage = match again {
        true => Stage::Verifying,
        false => Stage::Reading,
    };
    each(card, map, progress, stage, |_, _| Ok(()), take)
}

fn each<E: From<WriteError> + Send>(
    card: &dyn CardIo,
    map: &Map,
    progress: &Progress,
    stage: Stage,
    look: impl Fn(u64, &[u8]) -> Result<(), E> + Sync,
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
            let first = batch[0].0;
            let start = first * CHUNK;
            let mut buf = pool.take();
            buf.resize((batch.len() as u64 * CHUNK).min(size - start) as usize, 0);
            with_tries(|| card.read_at(start, &mut buf)).map_err(WriteError::Card)?;
            map.clear_free(start, &mut buf);
            look(first, &buf)?;
            Ok((first, buf))
        },
        |(first, buf)| {
            take(first, &buf)?;
            progress.advance(buf.len() as u64);
            pool.give(buf);
            Ok(())
        },
    )
}
