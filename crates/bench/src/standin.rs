//! The stand-in card reader and its slots.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use cardwork::{Access, CardError, CardIo, Insertion, Medium, Place, Slot};

use crate::reader::{Reader, Unit};
use crate::wire::{BoardState, Line, Refusal, Reply, Request, SlotState};

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
        block: state.card.block,
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
                    op: op.into(),
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

/// Bytes that are given to a trial at once.
const PIECE: usize = 4 << 20;

/// Takes the bytes of a card that a board shall try: where they begin, and what they are.
pub type Put<'a> = &'a mut dyn FnMut(u64, &[u8]) -> io::Result<()>;

/// Lets the stand-in's board of a model try a card of `len` bytes, which `fill` gives; gives what the board did.
pub fn try_boot(
    address: SocketAddr,
    model: &str,
    len: u64,
    fill: &mut dyn FnMut(Put<'_>) -> io::Result<()>,
) -> Result<BoardState, CardError> {
    let line = Line::new(Some(address));
    let Reply::Trial(trial) = line.ask(&Request::Trial { len }, &[]).map_err(reader)?.0 else {
        return Err(surprise());
    };
    let mut put = |offset: u64, bytes: &[u8]| {
        for (number, piece) in bytes.chunks(PIECE).enumerate() {
            let offset = offset + (number * PIECE) as u64;
            match line.ask(&Request::TrialWrite { trial, offset }, piece)?.0 {
                Reply::Done => {}
                _ => return Err(io::Error::other("the stand-in took no bytes")),
            }
        }
        Ok(())
    };
    // A trial that is not filled is tried all the same, so that it goes.
    let filled = fill(&mut put);
    let model = model.to_owned();
    let tried = line.ask(&Request::TrialBoot { trial, model }, &[]);
    filled.map_err(reader)?;
    match tried.map_err(reader)?.0 {
        Reply::Boards(boards) => boards.into_iter().next().ok_or_else(surprise),
        _ => Err(surprise()),
    }
}
