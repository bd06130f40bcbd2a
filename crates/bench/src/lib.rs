//! The bench: a computer with card readers, and the slots in them.
//!
//! A bench is asked as a whole what lies in its slots ([`Bench::survey`]) and gives one
//! [`Slot`] at a time for work. The reader behind it is the stand-in, spoken to over [`wire`].

mod standin;
pub mod wire;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use cardwork::{CardError, Medium, Slot};

/// A slot and what lies in it at one moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    /// Number of the slot.
    pub number: u32,
    /// Where it is, for people.
    pub place: String,
    /// What is in it.
    pub medium: Option<Medium>,
}

/// A bench with its readers.
pub struct Bench {
    standin: Option<SocketAddr>,
    survey: wire::Line,
}

impl Bench {
    /// A bench with the stand-in card reader at this address, or with no reader.
    pub fn new(standin: Option<SocketAddr>) -> Self {
        Self {
            standin,
            // What lies in the slots is known at once, or the reader is out of order.
            survey: wire::Line::new(standin).patient(Duration::from_secs(4)),
        }
    }

    /// Looks into every slot at once. Cheap enough to be asked several times a second.
    pub fn survey(&self) -> Result<Vec<Seen>, CardError> {
        if self.standin.is_none() {
            return Ok(Vec::new());
        }
        standin::survey(&self.survey)
    }

    /// One slot for work, whether or not there is a card in it.
    pub fn slot(&self, number: u32) -> Result<Option<Arc<dyn Slot>>, CardError> {
        let Some(seen) = self
            .survey()?
            .into_iter()
            .find(|seen| seen.number == number)
        else {
            return Ok(None);
        };
        Ok(Some(Arc::new(standin::StandinSlot::new(
            self.standin,
            number,
            seen.place,
        ))))
    }
}
