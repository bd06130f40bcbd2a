//! A held card at a bench on another computer.

use std::sync::Arc;

use cardwork::{Beside, CardError, CardIo};

use super::Talk;
use crate::message::{Ask, Reply, ToBench, encode};

/// Moved in one message, in bytes.
const PIECE: usize = 4 << 20;

/// A card that somebody holds at a bench; it is let go of when this is dropped.
pub(super) struct FarCard {
    pub(super) talk: Arc<Talk>,
    pub(super) card: u64,
    pub(super) size: u64,
}

impl Drop for FarCard {
    fn drop(&mut self) {
        let _ = self
            .talk
            .session
            .send(encode(&ToBench::Close { card: self.card }, &[]));
    }
}

impl FarCard {
    fn done(&self, ask: Ask, body: &[u8]) -> Result<Vec<u8>, CardError> {
        match self.talk.ask_card(ask, body)? {
            (Reply::Done, body) => Ok(body),
            _ => Err(self.talk.surprise()),
        }
    }
}

impl CardIo for FarCard {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), CardError> {
        for (number, piece) in buf.chunks_mut(PIECE).enumerate() {
            let ask = Ask::Read {
                card: self.card,
                offset: offset + (number * PIECE) as u64,
                len: piece.len() as u32,
            };
            let body = self.done(ask, &[])?;
            if body.len() != piece.len() {
                return Err(self.talk.surprise());
            }
            piece.copy_from_slice(&body);
        }
        Ok(())
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), CardError> {
        for (number, piece) in data.chunks(PIECE).enumerate() {
            let ask = Ask::Write {
                card: self.card,
                offset: offset + (number * PIECE) as u64,
            };
            self.done(ask, piece)?;
        }
        Ok(())
    }

    fn flush(&self) -> Result<(), CardError> {
        self.done(Ask::Flush { card: self.card }, &[]).map(drop)
    }

    fn discard(&self, offset: u64, len: u64) -> Result<bool, CardError> {
        let ask = Ask::Discard {
            card: self.card,
            offset,
            len,
        };
        match self.talk.ask_card(ask, &[])? {
            (Reply::Discarded(took_place), _) => Ok(took_place),
            _ => Err(self.talk.surprise()),
        }
    }

    fn beside(&self) -> Option<&dyn Beside> {
        Some(self)
    }
}
