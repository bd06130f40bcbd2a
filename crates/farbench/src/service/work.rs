//! Pieces of work that a bench does beside its card: what it needs for them, and what comes of them.

use std::collections::BTreeMap;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::Duration;

use cardwork::check::{Before, CheckError, Kept, QuickChecked, QuickFailed, Report};
use cardwork::{
    Beside, CardError, Chunks, Fill, Left, Likely, Mark, Options, Progress, Saves, Take, Unwritten,
    WriteError, Written,
};
use imagecraft::{ByteKind, CHUNK, DiskError, Map, packed};

use super::card::FarCard;
use super::{Heard, lock};
use crate::message::{Ask, End, Failure, Given, Order, Reply, ToBench, Wish, encode, join, split};

/// How often somebody looks whether the work was cancelled.
const LOOK: Duration = Duration::from_millis(200);

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
        let end = match talk.ask(begin, body, None) {
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
        let (mut at, mut told, mut failed) = ((cardwork::Stage::Waiting, 0, 0), false, None);
        loop {
            if progress.is_cancelled() && !told {
                told = true;
                cancel();
            }
            match heard.recv_timeout(LOOK) {
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
                    (Some(over), _) => return Err(Failure::Card(talk.away(&over))),
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
            let mut pieces = Vec::with_capacity(places.len());
            for place in places {
                let chunk = data.get(place as usize).ok_or_else(nonsense)?;
                pieces.push(content.packed(*chunk)?);
            }
            Ok((Given::Done, join(pieces.iter().map(Vec::as_slice))))
        });
        match ended {
            Ok(End::Written(written)) => Ok(written),
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
                    for (chunk, digest) in (first..).zip(body.chunks(32)) {
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
                        let (kept, digest) = &mut offer.chunks[place as usize];
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
        let mut chunks = map.chunks().filter(|(chunk, _)| chunk * CHUNK < size);
        let mut failed = None;
        let mut bytes = Vec::new();
        let mut early: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
        let mut next = chunks.next();
        let ended = self.work(order, &[], progress, &mut |wish, body| {
            let Wish::Offer { first } = wish else {
                return Err(nonsense());
            };
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
            End::Checked(report) => Ok(report),
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
        let mut settled = false;
        let ended = self.work(order, &[], progress, &mut |wish, body| match wish {
            Wish::Save { offset } => match keep.save(offset, &body) {
                Ok(()) => Ok((Given::Done, Vec::new())),
                Err(why) => Err(Failure::Content(why)),
            },
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
            Ok(End::CheckedQuickly { report, before }) => Ok(QuickChecked { report, before }),
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
