//! Real card readers at a Linux computer: found in sysfs, heard of by kernel uevents, read and written as
//! block devices.

mod buffer;
mod card;
mod disk;
mod medium;
mod port;
mod uevent;
mod usage;

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use cardwork::CardError;

pub use card::BlockSlot;
pub use disk::Disk;
pub use port::PortReader;

/// Where a computer says which disks it has.
#[derive(Clone)]
pub struct Computer(Arc<Roots>);

struct Roots {
    /// Usually `/sys`.
    sys: PathBuf,
    /// Usually `/proc`.
    proc: PathBuf,
    /// Usually `/dev`.
    dev: PathBuf,
    uevents: Option<uevent::Listener>,
}

impl Computer {
    /// The computer that this runs on.
    pub fn here() -> Self {
        Self(Arc::new(Roots {
            sys: "/sys".into(),
            proc: "/proc".into(),
            dev: "/dev".into(),
            uevents: uevent::Listener::new(),
        }))
    }

    /// A computer as it is described in folders: what would be `/sys`, `/proc` and `/dev`. For tests.
    pub fn described(sys: PathBuf, proc: PathBuf, dev: PathBuf) -> Self {
        Self(Arc::new(Roots {
            sys,
            proc,
            dev,
            uevents: None,
        }))
    }

    /// Which start of the kernel this is: numbers of insertions begin anew with each.
    pub(crate) fn boot(&self) -> Result<String, CardError> {
        let file = self.0.proc.join("sys/kernel/random/boot_id");
        let text = std::fs::read_to_string(&file);
        let text = text.map_err(|e| CardError::Reader(format!("{}: {e}", file.display())))?;
        Ok(text.trim().to_owned())
    }

    /// Waits until the kernel says something of a block device, at most so long.
    pub fn wait_for_change(&self, most: Duration) {
        match &self.0.uevents {
            Some(uevents) => uevents.wait(most),
            None => std::thread::sleep(most),
        }
    }
}
