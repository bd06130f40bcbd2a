//! A slot in memory, for tests and examples.

use std::sync::{Arc, Mutex, MutexGuard};

use crate::{Access, CardError, CardIo, Insertion, Medium, Place, Slot, USUAL_BLOCK};

#[derive(Default)]
struct State {
    insertion: u64,
    card: Option<Vec<u8>>,
    locked: bool,
    written: u64,
    vanish_after: Option<u64>,
}

/// A slot whose card is a buffer.
#[derive(Clone, Default)]
pub struct MemorySlot(Arc<Mutex<State>>);

impl MemorySlot {
    fn state(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Puts a card with these bytes in; returns the insertion.
    pub fn put(&self, bytes: Vec<u8>, locked: bool) -> Insertion {
        let mut state = self.state();
        state.insertion += 1;
        state.card = Some(bytes);
        state.locked = locked;
        state.written = 0;
        state.vanish_after = None;
        insertion(state.insertion)
    }

    /// Takes the card out and gives its bytes.
    pub fn pull(&self) -> Option<Vec<u8>> {
        self.state().card.take()
    }

    /// Bytes written to the card since it was put in.
    pub fn written(&self) -> u64 {
        self.state().written
    }

    /// Lets the card vanish once this many bytes have been written to it.
    pub fn vanish_after(&self, bytes: u64) {
        self.state().vanish_after = Some(bytes);
    }

    /// The bytes of a card that vanished.
    pub fn bytes(&self) -> Option<Vec<u8>> {
        self.state().card.clone()
    }
}

fn insertion(number: u64) -> Insertion {
    Insertion {
        boot: "memory".into(),
        number,
    }
}

impl Slot for MemorySlot {
    fn place(&self) -> Place {
        Place {
            reader: "memory".into(),
            unit: 1,
        }
    }

    fn medium(&self) -> Result<Option<Medium>, CardError> {
        let state = self.state();
        Ok(state.card.as_ref().map(|card| Medium {
            insertion: insertion(state.insertion),
            size: card.len() as u64,
            kind: "SD card".into(),
            locked: state.locked,
            in_use: None,
            node: None,
            identity: None,
            block: USUAL_BLOCK,
        }))
    }

    fn open(&self, wanted: &Insertion, _: Access) -> Result<Box<dyn CardIo>, CardError> {
        let state = self.state();
        let card = state.card.as_ref().ok_or(CardError::Empty)?;
        if insertion(state.insertion) != *wanted {
            return Err(CardError::Gone);
        }
        Ok(Box::new(Held {
            slot: self.clone(),
            insertion: state.insertion,
            size: card.len() as u64,
        }))
    }
}

struct Held {
    slot: MemorySlot,
    insertion: u64,
    size: u64,
}

impl Held {
    fn with<T>(
        &self,
        offset: u64,
        len: usize,
        work: impl FnOnce(&mut State, std::ops::Range<usize>) -> Result<T, CardError>,
    ) -> Result<T, CardError> {
        let mut state = self.slot.state();
        let gone = state.vanish_after.is_some_and(|most| state.written >= most);
        if state.insertion != self.insertion || state.card.is_none() || gone {
            return Err(CardError::Gone);
        }
        let start = offset as usize;
        if offset + len as u64 > self.size {
            return Err(CardError::Failed {
                op: "access".into(),
                offset,
                detail: "past the end".into(),
            });
        }
        work(&mut state, start..start + len)
    }
}

impl CardIo for Held {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), CardError> {
        self.with(offset, buf.len(), |state, range| {
            buf.copy_from_slice(&state.card.as_ref().ok_or(CardError::Gone)?[range]);
            Ok(())
        })
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), CardError> {
        self.with(offset, data.len(), |state, range| {
            if state.locked {
                return Err(CardError::Locked);
            }
            state.written += data.len() as u64;
            state.card.as_mut().ok_or(CardError::Gone)?[range].copy_from_slice(data);
            Ok(())
        })
    }

    fn flush(&self) -> Result<(), CardError> {
        self.with(0, 0, |_, _| Ok(()))
    }
}
