//! The reader at one port of this computer.

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex};

use cardwork::{CardError, Place, Slot};

use super::Computer;
use super::card::{BlockSlot, Held};
use crate::reader::{Reader, Unit};

/// The reader at a port, whether or not one hangs there now.
pub struct PortReader {
    computer: Computer,
    port: String,
    units: Vec<u32>,
    held: Held,
}

impl PortReader {
    /// The reader at this port, with the places in it that are slots.
    pub fn new(computer: Computer, port: String, units: Vec<u32>) -> Self {
        Self {
            computer,
            port,
            units,
            held: Arc::new(Mutex::new(BTreeSet::new())),
        }
    }

    /// Whether it is the one at this port with these places.
    pub fn is(&self, port: &str, units: &[u32]) -> bool {
        self.port == port && self.units == units
    }

    fn slot(&self, unit: u32) -> BlockSlot {
        let place = Place {
            reader: self.port.clone(),
            unit,
        };
        BlockSlot::new(self.computer.clone(), place, self.held.clone())
    }
}

impl Reader for PortReader {
    fn name(&self) -> &str {
        &self.port
    }

    fn survey(&self) -> Result<Vec<Unit>, CardError> {
        Ok(self
            .units
            .iter()
            .map(|number| {
                let (title, medium) = self.slot(*number).seen();
                let (medium, trouble) = match medium {
                    Ok(medium) => (medium, None),
                    Err(error) => (None, Some(error.to_string())),
                };
                Unit {
                    number: *number,
                    title,
                    medium,
                    trouble,
                }
            })
            .collect())
    }

    fn unit(&self, number: u32) -> Option<Arc<dyn Slot>> {
        let own = self.units.contains(&number);
        own.then(|| Arc::new(self.slot(number)) as _)
    }
}
