//! Slots of the stand-in card reader.

use std::io;
use std::net::SocketAddr;

use cardwork::{CardError, CardIo, Medium, Slot};

use crate::Seen;
use crate::wire::{Line, Refusal, Reply, Request, SlotState};

fn reader(error: io::Error) -> CardError {
    CardError::Reader(error.to_string())
}

fn surprise() -> CardError {
    CardError::Reader("it gave an answer that does not belong to the question".into())
}

fn medium(slot: &SlotState) -> Option<Medium> {
    slot.card.as_ref().map(|state| Medium {
        insertion: slot.insertion,
        size: state.card.size,
        kind: state.card.kind.clone(),
        locked: state.card.locked,
        in_use: None,
    })
}

/// All slots with what lies in them.
pub fn survey(line: &Line) -> Result<Vec<Seen>, CardError> {
    match line.ask(&Request::Slots, &[]).map_err(reader)?.0 {
        Reply::Slots(slots) => Ok(slots
            .iter()
            .map(|slot| Seen {
                number: slot.number,
                place: format!("stand-in reader, unit {}", slot.number),
                medium: medium(slot),
            })
            .collect()),
        _ => Err(surprise()),
    }
}

/// One slot of the stand-in.
pub struct StandinSlot {
    address: Option<SocketAddr>,
    number: u32,
    place: String,
    line: Line,
}

impl StandinSlot {
    pub fn new(address: Option<SocketAddr>, number: u32, place: String) -> Self {
        Self {
            address,
            number,
            place,
            line: Line::new(address),
        }
    }
}

impl Slot for StandinSlot {
    fn number(&self) -> u32 {
        self.number
    }

    fn place(&self) -> String {
        self.place.clone()
    }

    fn medium(&self) -> Result<Option<Medium>, CardError> {
        let seen = survey(&self.line)?
            .into_iter()
            .find(|seen| seen.number == self.number);
        Ok(seen.and_then(|seen| seen.medium))
    }

    fn open(&self, insertion: u64) -> Result<Box<dyn CardIo>, CardError> {
        let medium = self.medium()?.ok_or(CardError::Empty)?;
        if medium.insertion != insertion {
            return Err(CardError::Gone);
        }
        Ok(Box::new(StandinCard {
            line: Line::new(self.address),
            slot: self.number,
            insertion,
            size: medium.size,
        }))
    }
}

struct StandinCard {
    line: Line,
    slot: u32,
    insertion: u64,
    size: u64,
}

impl StandinCard {
    fn ask(
        &self,
        op: &'static str,
        offset: u64,
        request: &Request,
        body: &[u8],
    ) -> Result<Vec<u8>, CardError> {
        match self.line.ask(request, body).map_err(reader)? {
            (Reply::Done, body) => Ok(body),
            (Reply::Refused { why, message }, _) => Err(match why {
                Refusal::Empty | Refusal::Gone => CardError::Gone,
                Refusal::Locked => CardError::Locked,
                Refusal::Failed | Refusal::Unknown => CardError::Failed {
                    op,
                    offset,
                    detail: message,
                },
            }),
            _ => Err(surprise()),
        }
    }
}

impl CardIo for StandinCard {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), CardError> {
        let request = Request::Read {
            slot: self.slot,
            insertion: self.insertion,
            offset,
            len: buf.len() as u32,
        };
        let body = self.ask("reading", offset, &request, &[])?;
        if body.len() != buf.len() {
            return Err(surprise());
        }
        buf.copy_from_slice(&body);
        Ok(())
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), CardError> {
        let request = Request::Write {
            slot: self.slot,
            insertion: self.insertion,
            offset,
        };
        self.ask("writing", offset, &request, data).map(drop)
    }

    fn flush(&self) -> Result<(), CardError> {
        let request = Request::Flush {
            slot: self.slot,
            insertion: self.insertion,
        };
        self.ask("flushing", 0, &request, &[]).map(drop)
    }
}
