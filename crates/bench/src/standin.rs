//! The stand-in card reader and its slots.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use cardwork::{Access, CardError, CardIo, Insertion, Medium, Place, Slot};

use crate::reader::{Reader, Unit};
use crate::wire::{Line, Refusal, Reply, Request, SlotState};

fn reader(error: io::Error) -> CardError {
    CardError::Reader(error.to_string())
}

fn surprise() -> CardError {
    CardError::Reader("it gave an answer that does not belong to the question".into())
}

/// What names the stand-in in records.
pub const STANDIN: &str = "stand-in";

fn medium(slot: &SlotState) -> Option<Medium> {
    slot.card.as_ref().map(|state| Medium {
        insertion: Insertion {
            boot: slot.boot.clone(),
            number: slot.insertion,
        },
        size: state.card.size,
        kind: state.card.kind.clone(),
        locked: state.card.locked,
        in_use: None,
        node: None,
        identity: None,
    })
}

/// The stand-in card reader.
pub struct StandinReader {
    address: SocketAddr,
    line: Line,
}

impl StandinReader {
    pub fn new(address: SocketAddr) -> Self {
        Self {
            address,
            // What lies in the slots is known at once, or the reader is out of order.
            line: Line::new(Some(address)).patient(Duration::from_secs(4)),
        }
    }
}

impl Reader for StandinReader {
    fn name(&self) -> &str {
        STANDIN
    }

    fn numbers_itself(&self) -> bool {
        true
    }

    fn survey(&self) -> Result<Vec<Unit>, CardError> {
        survey(&self.line)
    }

    fn unit(&self, number: u32) -> Option<Arc<dyn Slot>> {
        Some(Arc::new(StandinSlot {
            address: self.address,
            number,
            line: Line::new(Some(self.address)),
        }))
    }
}

/// All places with what lies in them.
fn survey(line: &Line) -> Result<Vec<Unit>, CardError> {
    match line.ask(&Request::Slots, &[]).map_err(reader)?.0 {
        Reply::Slots(slots) => Ok(slots
            .iter()
            .map(|slot| Unit {
                number: slot.number,
                title: format!("stand-in reader, unit {}", slot.number),
                medium: medium(slot),
                trouble: None,
            })
            .collect()),
        _ => Err(surprise()),
    }
}

/// One slot of the stand-in.
struct StandinSlot {
    address: SocketAddr,
    number: u32,
    line: Line,
}

impl Slot for StandinSlot {
    fn place(&self) -> Place {
        Place {
            reader: STANDIN.into(),
            unit: self.number,
        }
    }

    fn medium(&self) -> Result<Option<Medium>, CardError> {
        let seen = survey(&self.line)?
            .into_iter()
            .find(|unit| unit.number == self.number);
        Ok(seen.and_then(|unit| unit.medium))
    }

    fn open(&self, insertion: &Insertion, _: Access) -> Result<Box<dyn CardIo>, CardError> {
        let medium = self.medium()?.ok_or(CardError::Empty)?;
        if medium.insertion != *insertion {
            return Err(CardError::Gone);
        }
        Ok(Box::new(StandinCard {
            line: Line::new(Some(self.address)),
            slot: self.number,
            insertion: insertion.number,
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
