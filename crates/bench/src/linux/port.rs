//! The reader at one port of this computer.

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex};

use cardwork::{CardError, Insertion, Medium, Place, Slot};
use rustix::fs::{Mode, OFlags, open};
use rustix::io::Errno;

use super::card::{BlockSlot, Held};
use super::{Computer, Disk};
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

/// Lets the kernel look whether the medium of a disk is still the same: it does when somebody opens it.
/// Whoever works with a medium must not have that done: it would make the kernel forget that the medium was
/// changed, which until then refuses every access.
pub(super) fn look_for_medium(disk: &Disk) -> Result<bool, CardError> {
    let node = disk.node.display().to_string();
    match open(
        &disk.node,
        OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC,
        Mode::empty(),
    ) {
        Ok(_) => Ok(true),
        Err(Errno::NOMEDIUM | Errno::NXIO | Errno::NODEV) => Ok(false),
        Err(Errno::ACCESS | Errno::PERM) => Err(CardError::Forbidden(node)),
        Err(e) => Err(CardError::Reader(format!("{node}: {e}"))),
    }
}

/// What a slot says of the medium of a disk.
pub(super) fn medium_of(computer: &Computer, disk: Disk) -> Result<Option<Medium>, CardError> {
    if disk.size == 0 {
        return Ok(None);
    }
    let number = disk.sequence.ok_or_else(|| {
        CardError::Reader(
            "the kernel does not count media (diskseq); it must be 5.15 or newer".into(),
        )
    })?;
    Ok(Some(Medium {
        insertion: Insertion {
            boot: computer.boot()?,
            number,
        },
        size: disk.size,
        kind: disk.kind,
        locked: disk.locked,
        in_use: disk.in_use,
        node: Some(disk.node.display().to_string()),
        identity: disk.identity,
    }))
}
