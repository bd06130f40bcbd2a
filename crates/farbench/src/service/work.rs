//! Pieces of work that a bench does beside its card: what it needs for them, and what comes of them.

use std::collections::BTreeMap;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::{Duration, Instant};

use cardwork::check::{Before, CheckError, Kept, QuickChecked, QuickFailed, Report, Verdict};
use cardwork::{
    Beside, CardError, CardIo, Chunks, Fill, Left, Likely, Mark, Options, Progress, Saves, Take,
    Unwritten, WriteError, Written,
};
use imagecraft::{ByteKind, CHUNK, DiskError, Map, packed};

use super::card::FarCard;
use super::{Heard, QUIET, lock};
use crate::message::{Ask, End, Failure, Given, Order, Reply, ToBench, Wish, encode, join, split};
use crate::session::Over;

/// How often somebody looks whether the work was cancelled.
const LOOK: Duration = Duration::from_millis(200);
/// How long a bench may take to stop work that was cancelled: its card gets its mark meanwhile.
const STOPS: Duration = Duration::from_secs(60);
/// Chunks that a bench may ask for at once.
const CHUNKS: usize = 256;
/// Chunks in one offer, and offers that are not complete, at most.
const OFFERED: usize = 1024;
const OFFERS: usize = 64;
/// Chunks of a card that the service reads itself after a write, besides the first and the last.
const SAMPLES: usize = 6;

/// What a question of the bench is answered with.
type Answer = Result<(Given, Vec<u8>), Failure>;

impl FarCard {
    /// Has a piece of work done, and answers what the bench asks meanwhile with `wish`. Something that goes wrong
    /// there ends the work.
    fn work(
        &self,
        order: Order,
        body: &[u8],
        progress: &Progress,
        wish: &mut dyn FnMut(Wish, Vec<u8>) -> Answer,
    ) -> Result<End, Failure> {
        let talk = &self.talk;
        let work = talk.waiting.number();
        let heard = talk.hear_of(work);
        let begin = Ask::Begin {
            card: self.card,
            work,
            order,
        };
        let end = match talk.ask_card(begin, body) {
            Ok((Reply::Done, _)) => self.follow(work, &heard, progress, wish),
            Ok(_) => Err(talk.surprise().into()),
            Err(error) => Err(error.into()),
        };
        lock(&talk.waiting.works).remove(&work);
        end
    }

    fn follow(
        &self,
        work: u64,
        heard: &Receiver<Heard>,
        progress: &Progress,
        wish: &mut dyn FnMut(Wish, Vec<u8>) -> Answer,
    ) -> Result<End, Failure> {
        let talk = &self.talk;
        let cancel = || {
            let _ = talk.session.send(encode(&ToBench::Cancel { work }, &[]));
        };
        let (mut at, mut failed) = ((cardwork::Stage::Waiting, 0, 0), None);
        // When the bench was told to stop, and when something was heard of the work last.
        let (mut told, mut last) = (None::<Instant>, Instant::now());
        loop {
            if progress.is_cancelled() && told.is_none() {
                told = Some(Instant::now());
                cancel();
            }
            let (connected, since) = talk.session.connected();
            if connected && since.elapsed().min(last.elapsed()) > QUIET && told.is_none() {
                failed.get_or_insert(Failure::Card(talk.away(&Over(format!(
                    "nothing was heard of its work for {} minutes",
                    QUIET.as_secs() / 60
                )))));
                told = Some(Instant::now());
                cancel();
            }
            let waits = told.map(|told| told.elapsed().min(since.elapsed()));
            if connected && waits.is_some_and(|waits| waits > STOPS) {
                // It may be at its card still: it is sent away, and begins anew.
                talk.end("it did not stop work that was cancelled");
            }
            let heard = heard.recv_timeout(LOOK);
            if heard.is_ok() {
                last = Instant::now();
            }
            match heard {
                Ok(Heard::Progress(stage, total, done)) => {
                    if (stage, total) != (at.0, at.1) || done < at.2 {
                        progress.begin(stage, total);
                        at = (stage, total, 0);
                    }
                    progress.advance(done - at.2);
                    at.2 = done;
                }
                Ok(Heard::Wish {
                    id,
                    wish: asked,
                    body,
                }) => {
                    let answer = match &failed {
                        None => wish(asked, body),
                        Some(_) => Err(Failure::Cancelled),
                    };
                    let sent = match answer {
                        Ok((given, body)) => talk.answer(id, Ok(given), &body),
                        Err(failure) => {
                            let why = WriteError::from(failure.clone()).to_string();
                            failed.get_or_insert(failure);
                            told.get_or_insert_with(Instant::now);
                            cancel();
                            talk.answer(id, Err(why), &[])
                        }
                    };
                    sent?;
                }
                Ok(Heard::Ended(end)) => {
                    // What ended it stands before what the bench says about the end; what is on the card it knows.
                    return match (failed, end) {
                        (None, end) => Ok(end),
                        (Some(failure), End::Unwritten { left, .. }) => {
                            Ok(End::Unwritten { failure, left })
                        }
                        (Some(failure), _) => Err(failure),
                    };
                }
                Err(silence) => match (talk.session.over(), silence) {
                    (Some(over), _) => {
                        return Err(failed.unwrap_or(Failure::Card(talk.away(&over))));
                    }
                    (None, RecvTimeoutError::Timeout) => {}
                    (None, RecvTimeoutError::Disconnected) => {
                        return Err(Failure::Card(talk.surprise()));
                    }
                },
            }
        }
    }

    fn odd(&self, end: End) -> Failure {
        match end {
            End::Failed(failure) | End::Unwritten { failure, .. } => failure,
            _ => Failure::Card(self.talk.surprise()),
        }
    }
}

impl From<CardError> for Failure {
    fn from(error: CardError) -> Self {
        Self::Card(error)
    }
}

impl From<DiskError> for Failure {
    fn from(error: DiskError) -> Self {
        Self::Content(error.to_string())
    }
}

fn nonsense() -> Failure {
    Failure::Content("the bench asks for something that does not belong to its work".into())
}

impl Beside for FarCard {
    fn write(
        &self,
        content: &dyn Chunks,
        map: &Map,
        mark: &Mark,
        options: Options,
        progress: &Progress,
    ) -> Result<Written, Unwritten> {
        let untouched = |error: WriteError| Unwritten {
            error,
            left: Left::Untouched,
        };
        // Naming reads what was changed, and nothing else.
        let data: Vec<u64> = map
            .chunks()
            .filter(|(chunk, kind)| *kind == ByteKind::Data && chunk * CHUNK < content.len())
            .map(|(chunk, _)| chunk)
            .collect();
        let mut names = Vec::with_capacity(data.len() * 32);
        for chunk in &data {
            let name = content.name(*chunk).map_err(|e| untouched(e.into()))?;
            names.extend(name);
        }
        let order = Order::Write {
            map: map.into(),
            len: content.len(),
            mark: mark.clone(),
            options,
        };
        let ended = self.work(order, &names, progress, &mut |wish, _| {
            let Wish::Chunks { places } = wish else {
                return Err(nonsense());
            };
            if places.len() > CHUNKS {
                return Err(nonsense());
            }
            let mut pieces = Vec::with_capacity(places.len());
            for place in places {
                let chunk = data.get(place as usize).ok_or_else(nonsense)?;
                pieces.push(content.packed(*chunk)?);
            }
            Ok((Given::Done, join(pieces.iter().map(Vec::as_slice))))
        });
        match ended {
            Ok(End::Written(written)) => match self.reads_as(content, &data) {
                Ok(()) => Ok(Written {
                    // Only what was known before, or a card that was written from end to end, proves its size.
                    size_proven: written.size_proven
                        && (options.size_proven || options.wipe_free || covers(map, self.size)),
                    ..written
                }),
                Err(error) => Err(Unwritten {
                    error,
                    left: Left::MayBoot,
                }),
            },
            Ok(End::Unwritten { failure, left }) => Err(Unwritten {
                error: failure.into(),
                left,
            }),
            // What the card shows when it is seen again corrects this.
            Ok(other) => Err(Unwritten {
                error: self.odd(other).into(),
                left: Left::MayBoot,
            }),
            Err(failure) => Err(Unwritten {
                error: failure.into(),
                left: Left::MayBoot,
            }),
        }
    }

    fn read(
        &self,
        map: &Map,
        likely: &dyn Likely,
        progress: &Progress,
        take: Take<'_>,
    ) -> Result<(), WriteError> {
        let order = Order::Read {
            map: map.into(),
            again: false,
        };
        let size = map.len().min(self.size);
        let expected = indexes(map, size);
        // Offers come and are completed in any order; what is in them is taken in order.
        let mut offers: BTreeMap<u64, Offer> = BTreeMap::new();
        let mut chunks = map.chunks().filter(|(chunk, _)| chunk * CHUNK < size);
        let mut next = chunks.next();
        let mut failed = None;
        let ended = self.work(order, &[], progress, &mut |wish, body| {
            let mut answer = Given::Done;
            match wish {
                Wish::Offer { first } => {
                    let mut offer = Offer::default();
                    let offered = offered(&expected, first, &body).ok_or_else(nonsense)?;
                    if offers.len() >= OFFERS {
                        return Err(nonsense());
                    }
                    for (chunk, digest) in offered.iter().copied().zip(body.chunks(32)) {
                        let len = CHUNK.min(size.saturating_sub(chunk * CHUNK)) as usize;
                        let digest: &[u8; 32] = digest.try_into().map_err(|_| nonsense())?;
                        let is = |bytes: &Vec<u8>| {
                            bytes.len() == len && blake3::hash(bytes).as_bytes() == digest
                        };
                        let mut known = likely.chunk(chunk, len).filter(is);
                        if known.is_none() {
                            known = likely.of_digest(digest).filter(is);
                        }
                        if known.is_none() {
                            offer.wanted.push((chunk - first) as u32);
                        }
                        offer.chunks.push((known.take(), *digest));
                    }
                    answer = Given::Wanted(offer.wanted.clone());
                    offers.insert(first, offer);
                }
                Wish::Give { first } => {
                    let offer = offers.get_mut(&first).ok_or_else(nonsense)?;
                    let pieces = split(&body).filter(|pieces| pieces.len() == offer.wanted.len());
                    for (place, piece) in offer.wanted.drain(..).zip(pieces.ok_or_else(nonsense)?) {
                        let chunk = offer.chunks.get_mut(place as usize);
                        let (kept, digest) = chunk.ok_or_else(nonsense)?;
                        let bytes = packed::unpack(piece, imagecraft::CHUNK_LEN);
                        let bytes = bytes.filter(|bytes| blake3::hash(bytes).as_bytes() == digest);
                        *kept = Some(bytes.ok_or_else(nonsense)?);
                    }
                }
                _ => return Err(nonsense()),
            }
            while let Some((chunk, _)) = next
                && let Some(first) = offers.first_entry()
                && *first.key() == chunk
                && first.get().wanted.is_empty()
            {
                for (bytes, _) in first.remove().chunks {
                    let (chunk, _) = next.ok_or_else(nonsense)?;
                    let bytes = bytes.ok_or_else(nonsense)?;
                    if let Err(error) = take(chunk, &bytes) {
                        failed = Some(error);
                        return Err(Failure::Cancelled);
                    }
                    next = chunks.next();
                }
            }
            Ok((answer, Vec::new()))
        });
        if let Some(error) = failed {
            return Err(error);
        }
        match ended? {
            End::Read if next.is_none() && offers.is_empty() => Ok(()),
            other => Err(self.odd(other).into()),
        }
    }

    fn read_again(&self, map: &Map, progress: &Progress, kept: Fill<'_>) -> Result<(), WriteError> {
        let order = Order::Read {
            map: map.into(),
            again: true,
        };
        let size = map.len().min(self.size);
        let expected = indexes(map, size);
        let mut chunks = map.chunks().filter(|(chunk, _)| chunk * CHUNK < size);
        let mut failed = None;
        let mut bytes = Vec::new();
        let mut early: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
        let mut next = chunks.next();
        let ended = self.work(order, &[], progress, &mut |wish, body| {
            let Wish::Offer { first } = wish else {
                return Err(nonsense());
            };
            if early.len() >= OFFERS || offered(&expected, first, &body).is_none() {
                return Err(nonsense());
            }
            early.insert(first, body);
            while let Some((chunk, _)) = next
                && let Some(body) = early.remove(&chunk)
            {
                for digest in body.chunks(32) {
                    let (chunk, _) = next.ok_or_else(nonsense)?;
                    let offset = chunk * CHUNK;
                    bytes.resize(CHUNK.min(size - offset) as usize, 0);
                    if let Err(error) = kept(chunk, &mut bytes) {
                        failed = Some(error);
                        return Err(Failure::Cancelled);
                    }
                    if blake3::hash(&bytes).as_bytes() != digest {
                        return Err(Failure::Differs { offset });
                    }
                    next = chunks.next();
                }
            }
            Ok((Given::Wanted(Vec::new()), Vec::new()))
        });
        if let Some(error) = failed {
            return Err(error);
        }
        match ended? {
            End::Read if next.is_none() => Ok(()),
            other => Err(self.odd(other).into()),
        }
    }

    fn full(&self, mark: &Mark, progress: &Progress) -> Result<Report, CheckError> {
        let order = Order::Full { mark: mark.clone() };
        match self.work(order, &[], progress, &mut |_, _| Err(nonsense()))? {
            End::Checked(report) => Ok(bounded(report, self.size, true)),
            other => Err(self.odd(other).into()),
        }
    }

    fn quick(
        &self,
        mark: &Mark,
        keep: &mut dyn Saves,
        progress: &Progress,
    ) -> Result<QuickChecked, QuickFailed> {
        let order = Order::Quick { mark: mark.clone() };
        // The bench changes nothing before all that it saved is said to be safe.
        let (mut settled, mut saved) = (false, 0_u64);
        let ended = self.work(order, &[], progress, &mut |wish, body| match wish {
            Wish::Save { offset } => {
                // Each place of the card once at most.
                saved = saved.saturating_add(body.len() as u64);
                let end = offset.checked_add(body.len() as u64);
                if settled || saved > self.size || end.is_none_or(|end| end > self.size) {
                    return Err(nonsense());
                }
                match keep.save(offset, &body) {
                    Ok(()) => Ok((Given::Done, Vec::new())),
                    Err(why) => Err(Failure::Content(why)),
                }
            }
            Wish::Settle => match keep.settle() {
                Ok(()) => {
                    settled = true;
                    Ok((Given::Done, Vec::new()))
                }
                Err(why) => Err(Failure::Content(why)),
            },
            Wish::Kept { number } => place(keep, number),
            _ => Err(nonsense()),
        });
        let failed = |error: CheckError| QuickFailed {
            before: match settled {
                true => Before::Kept(error.to_string()),
                false => Before::Untouched,
            },
            error,
        };
        match ended {
            Ok(End::CheckedQuickly { report, before }) => Ok(QuickChecked {
                report: bounded(report, self.size, false),
                before,
            }),
            Ok(End::NotChecked { failure, before }) => Err(QuickFailed {
                error: failure.into(),
                before,
            }),
            Ok(other) => Err(failed(self.odd(other).into())),
            Err(failure) => Err(failed(failure.into())),
        }
    }

    fn put_back(&self, kept: &dyn Kept, progress: &Progress) -> Result<(), CheckError> {
        let order = Order::PutBack {
            places: kept.len(),
            bytes: kept.bytes(),
        };
        let ended = self.work(order, &[], progress, &mut |wish, _| match wish {
            Wish::Kept { number } => place(kept, number),
            _ => Err(nonsense()),
        });
        match ended? {
            End::PutBack => Ok(()),
            other => Err(self.odd(other).into()),
        }
    }
}

impl FarCard {
    /// Reads some places of a card that its bench says to be written, chosen by chance, and compares them with the
    /// content: a worker or a reader that errs shows.
    fn reads_as(&self, content: &dyn Chunks, data: &[u64]) -> Result<(), WriteError> {
        let mut chance = [0; SAMPLES * 8];
        // Without chance the first and the last are read all the same.
        let _ = getrandom::fill(&mut chance);
        let drawn = chance.chunks(8).filter_map(|eight| {
            let number = u64::from_le_bytes(eight.try_into().ok()?);
            data.get((number % data.len().max(1) as u64) as usize)
        });
        let edges = [data.last(), data.first()].into_iter().flatten();
        let mut read = Vec::new();
        for chunk in drawn.chain(edges) {
            let packed = content.packed(*chunk)?;
            let bytes = packed::unpack(&packed, imagecraft::CHUNK_LEN).unwrap_or_default();
            let offset = chunk * CHUNK;
            let len = (bytes.len() as u64).min(self.size.saturating_sub(offset));
            read.resize(len as usize, 0);
            self.read_at(offset, &mut read)?;
            if let Some(at) = read
                .iter()
                .zip(&bytes)
                .position(|(one, other)| one != other)
            {
                let offset = offset + at as u64;
                return Err(WriteError::Card(CardError::Reader(format!(
                    "bench {} says that the card is written and verified, and byte {offset} of it is another one when \
                     the service reads it",
                    self.talk.bench
                ))));
            }
        }
        Ok(())
    }
}

/// Whether a map has content from one end of a card to the other.
fn covers(map: &Map, size: u64) -> bool {
    let all = size.div_ceil(CHUNK);
    map.chunks()
        .filter(|(_, kind)| *kind != ByteKind::Free)
        .count() as u64
        >= all
}

/// Indexes of the chunks that a map names below a size, ascending.
fn indexes(map: &Map, size: u64) -> Vec<u64> {
    let chunks = map.chunks().map(|(chunk, _)| chunk);
    chunks.filter(|chunk| chunk * CHUNK < size).collect()
}

/// The chunks of an offer, if each of them is expected and they follow each other.
fn offered<'a>(expected: &'a [u64], first: u64, body: &[u8]) -> Option<&'a [u64]> {
    let count = body.len() / 32;
    if !body.len().is_multiple_of(32) || !(1..=OFFERED).contains(&count) {
        return None;
    }
    let at = expected.binary_search(&first).ok()?;
    let run = expected.get(at..at.checked_add(count)?)?;
    let last = first.checked_add(count as u64 - 1)?;
    (run.last() == Some(&last)).then_some(run)
}

/// Faulty ranges of a report, at most.
const REGIONS: usize = 1000;

/// A report as far as it can be one of a card of this size. Only a full check proves a card.
fn bounded(mut report: Report, size: u64, full: bool) -> Report {
    report.verdict = match report.verdict {
        Verdict::Proven if !full || report.wrong > 0 || report.right < size => Verdict::NoSign,
        Verdict::Forged { least, most } => Verdict::Forged {
            least: least.min(most).min(size),
            most: most.min(size),
        },
        other => other,
    };
    report.more |= report.regions.len() > REGIONS;
    report.regions.truncate(REGIONS);
    report
}

fn place<K: Kept + ?Sized>(kept: &K, number: usize) -> Answer {
    if number >= kept.len() {
        return Err(nonsense());
    }
    match kept.place(number) {
        Ok((offset, bytes)) => Ok((Given::Place { offset }, bytes)),
        Err(why) => Err(Failure::Content(why)),
    }
}

/// Chunks that a bench has read.
#[derive(Default)]
struct Offer {
    /// Each with its digest; without bytes as long as they are on their way.
    chunks: Vec<(Option<Vec<u8>>, [u8; 32])>,
    /// Those that are on their way, counted from the first.
    wanted: Vec<u32>,
}
