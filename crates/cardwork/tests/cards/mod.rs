//! Cards that lie, fail and vanish, with the medium laid open to the test.

#![allow(dead_code)] // each test uses a part of it

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use cardwork::{CardError, CardIo, Progress};

const PAGE: u64 = 4096;

/// What is wrong with a card.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Fault {
    None,
    /// It holds only this much; what lies behind lands on the beginning.
    Wraps(u64),
    /// It holds only this much; what lies behind is lost and reads as zero.
    Drops(u64),
    /// It takes this many bytes and keeps no more.
    KeepsFirst(u64),
    /// These bytes cannot be read.
    Unreadable(u64, u64),
    /// These bytes can be neither read nor written.
    Bad(u64, u64),
    /// One bit of each stretch of this length is read wrong.
    FlipsRead(u64),
    /// One bit of each write that reaches a multiple of this is kept wrong.
    FlipsWritten(u64),
}

/// What happens at one call.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Event {
    /// The card is pulled; of a write, some bytes arrive.
    Pulled,
    /// The call fails, the next ones do not.
    FailsOnce,
    /// Somebody cancels the work.
    Cancelled,
}

/// What a card does that is told that a range need not be kept.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Discards {
    /// It cannot be told.
    Never,
    /// The range reads as zero from then on.
    Zeroes,
    /// It says that it does, and keeps what was there.
    Lies,
}

struct State {
    pages: BTreeMap<u64, Box<[u8; PAGE as usize]>>,
    fill: u8,
    calls: u64,
    taken: u64,
    gone: bool,
}

/// A card with a fault and something that happens to it.
pub struct LyingCard {
    size: u64,
    fault: Fault,
    event: Option<(u64, Event)>,
    progress: Arc<Progress>,
    discards: Mutex<Discards>,
    state: Mutex<State>,
}

impl LyingCard {
    /// A card whose medium is full of one byte.
    pub fn new(
        size: u64,
        fill: u8,
        fault: Fault,
        event: Option<(u64, Event)>,
        progress: Arc<Progress>,
    ) -> Self {
        Self {
            size,
            fault,
            event,
            progress,
            discards: Mutex::new(Discards::Never),
            state: Mutex::new(State {
                pages: BTreeMap::new(),
                fill,
                calls: 0,
                taken: 0,
                gone: false,
            }),
        }
    }

    /// Where on the medium a range of the card lies, piece by piece: no piece crosses a page.
    fn pieces(&self, offset: u64, len: usize) -> Vec<(Option<u64>, std::ops::Range<usize>)> {
        let (mut pieces, mut at) = (Vec::new(), 0);
        while at < len {
            let byte = offset + at as u64;
            let (place, until) = match self.fault {
                Fault::Wraps(capacity) => (Some(byte % capacity), capacity - byte % capacity),
                Fault::Drops(capacity) if byte >= capacity => (None, u64::MAX),
                Fault::Drops(capacity) => (Some(byte), capacity - byte),
                _ => (Some(byte), u64::MAX),
            };
            let page_left = place.map_or(u64::MAX, |place| PAGE - place % PAGE);
            let piece = until.min(page_left).min((len - at) as u64) as usize;
            pieces.push((place, at..at + piece));
            at += piece;
        }
        pieces
    }

    /// Says what it does with ranges that need not be kept.
    pub fn discards(&self, how: Discards) {
        *self.discards.lock().unwrap() = how;
    }

    /// Puts bytes on the medium, past all that is wrong with the card.
    pub fn engrave(&self, offset: u64, bytes: &[u8]) {
        let mut state = self.state.lock().unwrap();
        for (place, range) in self.pieces(offset, bytes.len()) {
            if let Some(at) = place {
                state.set(at, &bytes[range]);
            }
        }
    }

    /// What the medium holds where a reader looks for these bytes.
    pub fn medium(&self, offset: u64, len: usize) -> Vec<u8> {
        let state = self.state.lock().unwrap();
        let mut bytes = vec![0; len];
        for (place, range) in self.pieces(offset, len) {
            if let Some(at) = place {
                state.get(at, &mut bytes[range]);
            }
        }
        bytes
    }

    /// Pages of the medium that were ever changed, whole.
    pub fn changed(&self) -> BTreeMap<u64, Vec<u8>> {
        let state = self.state.lock().unwrap();
        let pages = state.pages.iter();
        pages
            .map(|(page, bytes)| (page * PAGE, bytes.to_vec()))
            .collect()
    }

    /// What can be read of a range, where a sector that fails reads as nothing: no medium gives a part of
    /// a sector.
    pub fn readable(&self, offset: u64, len: usize) -> Vec<u8> {
        let mut bytes = self.medium(offset, len);
        if let Fault::Unreadable(from, count) | Fault::Bad(from, count) = self.fault {
            let sectors = from / 512 * 512..(from + count).next_multiple_of(512);
            for (byte, at) in bytes.iter_mut().zip(offset..) {
                if sectors.contains(&at) {
                    *byte = 0;
                }
            }
        }
        bytes
    }

    pub fn calls(&self) -> u64 {
        self.state.lock().unwrap().calls
    }

    fn call<'a>(
        &self,
        state: &mut State,
        op: &'static str,
        offset: u64,
        partly: impl FnOnce(&mut State) + 'a,
    ) -> Result<(), CardError> {
        if state.gone {
            return Err(CardError::Gone);
        }
        state.calls += 1;
        let failed = |detail: &str| CardError::Failed {
            op: op.into(),
            offset,
            detail: detail.into(),
        };
        match self.event.filter(|(call, _)| *call == state.calls) {
            Some((_, Event::Pulled)) => {
                partly(state);
                state.gone = true;
                Err(CardError::Gone)
            }
            Some((_, Event::FailsOnce)) => {
                partly(state);
                Err(failed("once"))
            }
            Some((_, Event::Cancelled)) => {
                self.progress.cancel();
                Ok(())
            }
            None => Ok(()),
        }
    }

    fn touches(&self, range: (u64, u64), offset: u64, len: u64) -> bool {
        offset < range.0 + range.1 && range.0 < offset + len
    }
}

impl State {
    /// Fills a piece that crosses no page.
    fn get(&self, at: u64, buf: &mut [u8]) {
        let within = (at % PAGE) as usize;
        match self.pages.get(&(at / PAGE)) {
            Some(page) => buf.copy_from_slice(&page[within..within + buf.len()]),
            None => buf.fill(self.fill),
        }
    }

    fn set(&mut self, at: u64, bytes: &[u8]) {
        let (fill, within) = (self.fill, (at % PAGE) as usize);
        let page = self.pages.entry(at / PAGE);
        let page = page.or_insert_with(|| Box::new([fill; PAGE as usize]));
        page[within..within + bytes.len()].copy_from_slice(bytes);
    }

    fn take(&mut self, card: &LyingCard, offset: u64, data: &[u8]) {
        let mut data = data.to_vec();
        if let Fault::KeepsFirst(most) = card.fault {
            data.truncate(most.saturating_sub(self.taken).min(data.len() as u64) as usize);
        }
        self.taken += data.len() as u64;
        if let Fault::FlipsWritten(every) = card.fault {
            flip(every, every - 1, offset, &mut data);
        }
        for (place, range) in card.pieces(offset, data.len()) {
            if let Some(at) = place {
                self.set(at, &data[range]);
            }
        }
    }
}

/// Flips a bit of the byte that is `which` in each stretch of `every`.
fn flip(every: u64, which: u64, offset: u64, bytes: &mut [u8]) {
    let mut at = offset / every * every + which;
    while at < offset + bytes.len() as u64 {
        if at >= offset {
            bytes[(at - offset) as usize] ^= 4;
        }
        at += every;
    }
}

impl CardIo for LyingCard {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), CardError> {
        let mut state = self.state.lock().unwrap();
        self.call(&mut state, "reading", offset, |_| ())?;
        assert!(
            offset + buf.len() as u64 <= self.size,
            "a read past the end"
        );
        if let Fault::Unreadable(from, len) | Fault::Bad(from, len) = self.fault
            && self.touches((from, len), offset, buf.len() as u64)
        {
            return Err(CardError::Failed {
                op: "reading".into(),
                offset,
                detail: "the medium".into(),
            });
        }
        for (place, range) in self.pieces(offset, buf.len()) {
            match place {
                Some(at) => state.get(at, &mut buf[range]),
                None => buf[range].fill(0),
            }
        }
        if let Fault::FlipsRead(every) = self.fault {
            flip(every, every / 2, offset, buf);
        }
        Ok(())
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), CardError> {
        let mut state = self.state.lock().unwrap();
        self.call(&mut state, "writing", offset, |state| {
            state.take(self, offset, &data[..data.len() / 3]);
        })?;
        assert!(
            offset + data.len() as u64 <= self.size,
            "a write past the end"
        );
        if let Fault::Bad(from, len) = self.fault
            && self.touches((from, len), offset, data.len() as u64)
        {
            return Err(CardError::Failed {
                op: "writing".into(),
                offset,
                detail: "the medium".into(),
            });
        }
        state.take(self, offset, data);
        Ok(())
    }

    fn discard(&self, offset: u64, len: u64) -> Result<bool, CardError> {
        let mut state = self.state.lock().unwrap();
        self.call(&mut state, "discarding", offset, |_| ())?;
        Ok(match *self.discards.lock().unwrap() {
            Discards::Never => false,
            Discards::Lies => true,
            Discards::Zeroes => {
                state.take(self, offset, &vec![0; len as usize]);
                true
            }
        })
    }

    fn flush(&self) -> Result<(), CardError> {
        let mut state = self.state.lock().unwrap();
        self.call(&mut state, "flushing", 0, |_| ())
    }
}
