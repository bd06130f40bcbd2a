//! One piece of work at a card of this bench.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex};
use std::thread;
use std::time::Duration;

use cardwork::check::{Keep, Kept, full, put_back, quick};
use cardwork::{CardIo, Progress, WriteError, read_batches, write};
use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk, DiskError, Map, packed};

use super::{Talk, lock};
use crate::message::{End, Failure, Given, Order, ToService, Wish, join, split};

/// How often the service hears how far work is.
const TELL: Duration = Duration::from_millis(250);
/// Chunks that are asked for at once, and questions that are under way at once.
const AHEAD: usize = 16;
const QUESTIONS: usize = 3;
/// Batches that were read and that the service has not taken yet, at most.
const OFFERED: usize = 6;

/// Does it, and tells the service how far it is; gives how it ended.
pub(super) fn done(
    talk: &Talk,
    work: u64,
    card: &dyn CardIo,
    order: Order,
    body: Vec<u8>,
    progress: &Progress,
) -> End {
    let over = AtomicBool::new(false);
    let end = thread::scope(|scope| {
        let teller = scope.spawn(|| {
            let mut told = None;
            while !over.load(Ordering::SeqCst) {
                let now = progress.snapshot();
                let now = (now.stage, now.total, now.done);
                if told.replace(now) != Some(now) {
                    tell(talk, work, now);
                }
                thread::park_timeout(TELL);
            }
        });
        let end = carry_out(talk, work, card, order, body, progress);
        over.store(true, Ordering::SeqCst);
        teller.thread().unpark();
        end
    });
    let last = progress.snapshot();
    tell(talk, work, (last.stage, last.total, last.done));
    end
}

fn tell(talk: &Talk, work: u64, (stage, total, done): (cardwork::Stage, u64, u64)) {
    talk.tell(&ToService::Progress {
        work,
        stage,
        total,
        done,
    });
}

fn nonsense() -> End {
    End::Failed(Failure::Content(
        "the service orders something that makes no sense".into(),
    ))
}

fn carry_out(
    talk: &Talk,
    work: u64,
    card: &dyn CardIo,
    order: Order,
    body: Vec<u8>,
    progress: &Progress,
) -> End {
    match order {
        Order::Write {
            map,
            len,
            mark,
            options,
        } => {
            let Some(content) = map
                .map()
                .and_then(|map| Content::new(talk, work, map, len, &body))
            else {
                return nonsense();
            };
            match write(card, &content, &content.map, &mark, options, progress) {
                Ok(written) => End::Written(written),
                Err(unwritten) => unwritten.into(),
            }
        }
        Order::Read { map, again } => match map.map() {
            None => nonsense(),
            Some(map) => match read(talk, work, card, &map, again, progress) {
                Ok(()) => End::Read,
                Err(error) => End::Failed(error.into()),
            },
        },
        Order::Full { mark } => match full(card, &mark, progress) {
            Ok(report) => End::Checked(report),
            Err(error) => End::Failed(error.into()),
        },
        Order::Quick { mark } => {
            let mut kept = AtService::new(talk, work, 0, 0);
            match quick(card, &mark, &mut kept, progress) {
                Ok(checked) => End::CheckedQuickly {
                    report: checked.report,
                    before: checked.before,
                },
                Err(failed) => End::NotChecked {
                    failure: failed.error.into(),
                    before: failed.before,
                },
            }
        }
        Order::PutBack { places, bytes } => {
            let kept = AtService::new(talk, work, places, bytes);
            match put_back(card, &kept, progress) {
                Ok(()) => End::PutBack,
                Err(error) => End::Failed(error.into()),
            }
        }
    }
}

/// Reads the card and tells the service what is on it; in full only what it has not.
fn read(
    talk: &Talk,
    work: u64,
    card: &dyn CardIo,
    map: &Map,
    again: bool,
    progress: &Progress,
) -> Result<(), WriteError> {
    let under_way = (Mutex::new(0_usize), Condvar::new());
    let failed: Mutex<Option<String>> = Mutex::new(None);
    let (count, turn) = &under_way;
    let failed = &failed;
    let refused = |why: String| WriteError::Content(DiskError::Io(std::io::Error::other(why)));
    thread::scope(|scope| {
        read_batches(card, map, progress, again, |first, bytes| {
            let mut now = lock(count);
            while *now >= OFFERED {
                now = turn.wait(now).unwrap_or_else(|e| e.into_inner());
            }
            if let Some(why) = lock(failed).clone() {
                return Err(refused(why));
            }
            *now += 1;
            drop(now);
            let bytes = bytes.to_vec();
            let digests: Vec<u8> = bytes
                .chunks(CHUNK_LEN)
                .flat_map(|chunk| *blake3::hash(chunk).as_bytes())
                .collect();
            scope.spawn(move || {
                if let Err(why) = offer(talk, work, first, &bytes, &digests) {
                    lock(failed).get_or_insert(why);
                }
                *lock(count) -= 1;
                turn.notify_one();
            });
            Ok(())
        })
    })?;
    let why = lock(failed).take();
    why.map_or(Ok(()), |why| Err(refused(why)))
}

fn offer(talk: &Talk, work: u64, first: u64, bytes: &[u8], digests: &[u8]) -> Result<(), String> {
    let (Given::Wanted(wanted), _) = talk.ask(work, Wish::Offer { first }, digests)? else {
        return Err("the service gave an answer that does not belong to the question".into());
    };
    if wanted.is_empty() {
        return Ok(());
    }
    let mut packer = packed::Packer::default();
    let mut pieces = Vec::with_capacity(wanted.len());
    for place in wanted {
        let chunk = bytes.chunks(CHUNK_LEN).nth(place as usize);
        let chunk = chunk.ok_or("the service wants a chunk that was not offered")?;
        pieces.push(packer.pack(chunk).map_err(|e| e.to_string())?.to_vec());
    }
    let body = join(pieces.iter().map(Vec::as_slice));
    talk.ask(work, Wish::Give { first }, &body).map(drop)
}

/// What a quick check finds on the card is kept by the service, and nothing of it here.
struct AtService<'a> {
    talk: &'a Talk,
    work: u64,
    places: usize,
    bytes: u64,
}

impl<'a> AtService<'a> {
    fn new(talk: &'a Talk, work: u64, places: usize, bytes: u64) -> Self {
        Self {
            talk,
            work,
            places,
            bytes,
        }
    }
}

impl Keep for AtService<'_> {
    fn save(&mut self, offset: u64, bytes: &[u8]) -> Result<(), String> {
        self.talk.ask(self.work, Wish::Save { offset }, bytes)?;
        self.places += 1;
        self.bytes += bytes.len() as u64;
        Ok(())
    }

    fn settle(&mut self) -> Result<(), String> {
        self.talk.ask(self.work, Wish::Settle, &[]).map(drop)
    }
}

impl Kept for AtService<'_> {
    fn len(&self) -> usize {
        self.places
    }

    fn bytes(&self) -> u64 {
        self.bytes
    }

    fn place(&self, number: usize) -> Result<(u64, Vec<u8>), String> {
        match self.talk.ask(self.work, Wish::Kept { number }, &[])? {
            (Given::Place { offset }, bytes) => Ok((offset, bytes)),
            _ => Err("the service gave an answer that does not belong to the question".into()),
        }
    }
}

/// Where a chunk of content is.
enum Where {
    /// It was asked for.
    Coming,
    /// It is here, packed.
    Here(Vec<u8>),
}

/// Content that comes from the service, or was here before, a little ahead of whoever writes it.
struct Content<'a> {
    talk: &'a Talk,
    work: u64,
    map: Map,
    len: u64,
    /// Data chunks with their names, in their order.
    chunks: Vec<(u64, [u8; 32])>,
    state: Mutex<Fetching>,
    arrived: Condvar,
    asking: AtomicUsize,
}

#[derive(Default)]
struct Fetching {
    /// Chunks that are under way or have arrived, by their place among the data chunks.
    there: HashMap<u32, Where>,
    /// The next place that nobody asked for yet.
    next: u32,
    failed: Option<String>,
}

impl<'a> Content<'a> {
    fn new(talk: &'a Talk, work: u64, map: Map, len: u64, names: &[u8]) -> Option<Self> {
        let data = map
            .chunks()
            .filter(|(chunk, kind)| *kind == ByteKind::Data && chunk * CHUNK < len);
        let chunks: Vec<_> = data.map(|(chunk, _)| chunk).collect();
        if names.len() != chunks.len() * 32 {
            return None;
        }
        let names = names.chunks(32).filter_map(|name| name.try_into().ok());
        Some(Self {
            talk,
            work,
            len,
            chunks: chunks.into_iter().zip(names).collect(),
            map,
            state: Mutex::default(),
            arrived: Condvar::new(),
            asking: AtomicUsize::new(0),
        })
    }

    /// One chunk, packed.
    fn packed(&self, place: u32) -> Result<Vec<u8>, String> {
        let cache = &self.talk.slots.cache;
        if let Some(bytes) = cache.get(&self.chunks[place as usize].1) {
            return Ok(bytes);
        }
        let mut state = lock(&self.state);
        loop {
            if let Some(why) = &state.failed {
                return Err(why.clone());
            }
            match state.there.get(&place) {
                Some(Where::Here(_)) => {
                    if let Some(Where::Here(bytes)) = state.there.remove(&place) {
                        return Ok(bytes);
                    }
                }
                Some(Where::Coming) => {}
                None if self.asking.load(Ordering::SeqCst) < QUESTIONS => {
                    state = self.fetch(place, state)?;
                    continue;
                }
                None => {}
            }
            state = self.arrived.wait(state).unwrap_or_else(|e| e.into_inner());
        }
    }

    /// Asks for a chunk and for those behind it that are not here.
    fn fetch<'s>(
        &'s self,
        place: u32,
        mut state: std::sync::MutexGuard<'s, Fetching>,
    ) -> Result<std::sync::MutexGuard<'s, Fetching>, String> {
        let cache = &self.talk.slots.cache;
        let mut places = vec![place];
        let mut at = state.next.max(place + 1);
        while places.len() < AHEAD && (at as usize) < self.chunks.len() {
            if !state.there.contains_key(&at) && !cache.has(&self.chunks[at as usize].1) {
                places.push(at);
            }
            at += 1;
        }
        state.next = at;
        for place in &places {
            state.there.insert(*place, Where::Coming);
        }
        self.asking.fetch_add(1, Ordering::SeqCst);
        drop(state);
        let answer = self.talk.ask(
            self.work,
            Wish::Chunks {
                places: places.clone(),
            },
            &[],
        );
        self.asking.fetch_sub(1, Ordering::SeqCst);
        let pieces = answer.and_then(|(_, body)| {
            let pieces = split(&body).filter(|pieces| pieces.len() == places.len());
            let pieces = pieces.ok_or("the service gave other chunks than were asked for")?;
            Ok(pieces.into_iter().map(<[u8]>::to_vec).collect::<Vec<_>>())
        });
        if let Ok(pieces) = &pieces {
            for (place, bytes) in places.iter().zip(pieces) {
                cache.put(&self.chunks[*place as usize].1, bytes);
            }
        }
        let mut state = lock(&self.state);
        match pieces {
            Ok(pieces) => {
                for (place, bytes) in places.into_iter().zip(pieces) {
                    state.there.insert(place, Where::Here(bytes));
                }
            }
            Err(why) => {
                state.failed.get_or_insert(why);
            }
        }
        self.arrived.notify_all();
        Ok(state)
    }
}

impl Disk for Content<'_> {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        let end = offset
            .checked_add(buf.len() as u64)
            .filter(|end| *end <= self.len);
        let end = end.ok_or(DiskError::OutOfRange {
            offset,
            len: buf.len() as u64,
            disk_len: self.len,
        })?;
        let mut at = offset;
        while at < end {
            let (chunk, within) = (at / CHUNK, (at % CHUNK) as usize);
            let piece = (CHUNK_LEN - within).min((end - at) as usize);
            let part = &mut buf[(at - offset) as usize..][..piece];
            match self
                .chunks
                .binary_search_by_key(&chunk, |(chunk, _)| *chunk)
            {
                // What is not data reads as zero.
                Err(_) => part.fill(0),
                Ok(place) => {
                    let packed = self.packed(place as u32).map_err(std::io::Error::other)?;
                    let bytes = packed::unpack(&packed, CHUNK_LEN);
                    let bytes = bytes.ok_or_else(|| {
                        std::io::Error::other("a chunk from the service is damaged")
                    })?;
                    // The last chunk of a disk may be short; behind it are zeros.
                    let has = bytes.len().saturating_sub(within).min(piece);
                    let (front, behind) = part.split_at_mut(has);
                    front.copy_from_slice(&bytes[bytes.len().min(within)..][..has]);
                    behind.fill(0);
                }
            }
            at += piece as u64;
        }
        Ok(())
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }
}
