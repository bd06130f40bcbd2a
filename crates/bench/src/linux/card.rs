//! A card behind a block device: read and written past the caches of the system, held alone while somebody
//! works on it.

use std::collections::BTreeSet;
use std::fs::File;
use std::os::unix::fs::FileExt;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, RwLock};
use std::time::{Duration, Instant};

use cardwork::{Access, CardError, CardIo, Insertion, Medium, Place, Slot};
use rustix::fs::{FallocateFlags, FlockOperation, Mode, OFlags, fallocate, flock, open};
use rustix::io::Errno;

use super::buffer::{Aligned, is_aligned};
use super::medium::{look_for_medium, medium_of};
use super::{Computer, Disk};

/// Units of a reader that somebody works on.
pub(super) type Held = Arc<Mutex<BTreeSet<u32>>>;

/// How long to wait for whoever looks at the device at this moment, such as the system's own device
/// manager after an insertion.
const PATIENCE: Duration = Duration::from_secs(5);
/// Read or written at once at most where bytes must be copied, in bytes.
const PIECE: usize = 1 << 20;
/// Buffers that are kept for the next access.
const BUFFERS: usize = 4;

/// One place of a reader at a port.
pub struct BlockSlot {
    computer: Computer,
    place: Place,
    held: Held,
}

impl BlockSlot {
    pub(super) fn new(computer: Computer, place: Place, held: Held) -> Self {
        Self {
            computer,
            place,
            held,
        }
    }

    /// The place of one unit at a port of this computer, with nobody at work on it.
    pub fn at(computer: Computer, place: Place) -> Self {
        Self::new(computer, place, Held::default())
    }

    fn held(&self) -> MutexGuard<'_, BTreeSet<u32>> {
        self.held.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn disk(&self) -> Result<Option<Disk>, CardError> {
        let disks = self.computer.disks_at(&self.place.reader)?;
        let mut here = disks
            .into_iter()
            .filter(|disk| disk.place.as_ref() == Some(&self.place));
        Ok(here.next())
    }

    /// The disk here with the medium that is in it now.
    fn looked_at(&self) -> Result<Option<Disk>, CardError> {
        let Some(disk) = self.disk()? else {
            // A built-in slot has a disk only while a card is in.
            if self.place.reader.ends_with("/card") {
                return Ok(None);
            }
            let at = &self.place.reader;
            return Err(CardError::Reader(format!("none is plugged in at {at}")));
        };
        if self.held().contains(&self.place.unit) {
            return Ok(Some(disk));
        }
        if !look_for_medium(&disk)? {
            return Ok(None);
        }
        // What the kernel found out just now.
        self.disk()
    }

    /// What people call the place, and what is in it.
    pub(super) fn seen(&self) -> (String, Result<Option<Medium>, CardError>) {
        let place = self.place.to_string();
        match self.looked_at() {
            Err(error) => (place, Err(error)),
            Ok(None) => (place, Ok(None)),
            Ok(Some(disk)) => {
                let title = match &disk.model {
                    Some(model) => format!("{model}, {place}"),
                    None => place,
                };
                (title, medium_of(&self.computer, disk))
            }
        }
    }
}

impl Slot for BlockSlot {
    fn place(&self) -> Place {
        self.place.clone()
    }

    fn medium(&self) -> Result<Option<Medium>, CardError> {
        self.seen().1
    }

    fn open(&self, insertion: &Insertion, access: Access) -> Result<Box<dyn CardIo>, CardError> {
        let disk = self.looked_at()?.filter(|disk| disk.size > 0);
        let disk = disk.ok_or(CardError::Empty)?;
        let medium = medium_of(&self.computer, disk.clone())?.ok_or(CardError::Empty)?;
        if medium.insertion != *insertion {
            return Err(CardError::Gone);
        }
        let holding = match access {
            Access::Look => None,
            Access::Hold => {
                if !self.held().insert(self.place.unit) {
                    return Err(CardError::InUse("this service works on it".into()));
                }
                Some(Holding {
                    held: self.held.clone(),
                    unit: self.place.unit,
                })
            }
        };
        let (file, writable) = open_device(&disk, access)?;
        let card = BlockCard {
            file,
            writable,
            block: disk.block.max(512) as usize,
            size: disk.size,
            sequence: insertion.number,
            computer: self.computer.clone(),
            name: disk.name,
            gone: RwLock::default(),
            spare: Mutex::default(),
            rescan: Rescan {
                node: disk.node,
                touched: AtomicBool::new(false),
            },
            _holding: holding,
        };
        // Opening made the kernel look again: what is held now must be what was seen.
        card.is_there()?;
        Ok(Box::new(card))
    }

    fn release(&self) -> Result<Vec<String>, CardError> {
        let disk = self.disk()?.ok_or(CardError::Empty)?;
        let places = self.computer.mounts_of(&disk.name)?;
        for place in places.iter().rev() {
            unmount(place, &disk)?;
        }
        match self.disk()?.and_then(|disk| disk.in_use) {
            Some(used) => Err(CardError::InUse(used)),
            None => Ok(places
                .iter()
                .map(|place| place.display().to_string())
                .collect()),
        }
    }
}

/// Unmounts what is mounted at a place: by ourselves, or, where that is not ours to do, by the programs
/// that the system has for its users.
fn unmount(place: &std::path::Path, disk: &Disk) -> Result<(), CardError> {
    let Err(refused) = rustix::mount::unmount(place, rustix::mount::UnmountFlags::empty()) else {
        return Ok(());
    };
    for program in ["umount", "/usr/bin/umount"] {
        let done = Command::new(program)
            .arg(place)
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .status();
        if done.is_ok_and(|done| done.success()) {
            return Ok(());
        }
    }
    let rule = match refused {
        // A service under the limits of its unit may not: the rule keeps desktops from mounting its cards at all.
        Errno::PERM | Errno::ACCESS => {
            "; the rule that \"duplicarium bench rule\" prints keeps desktops from mounting cards in this reader"
        }
        _ => "",
    };
    Err(CardError::InUse(format!(
        "{} is mounted at {}: {refused}; close what is open there, or unmount it by hand{rule}",
        disk.node.display(),
        place.display()
    )))
}

/// Opens a device past the system's cache, alone where it shall be held.
fn open_device(disk: &Disk, access: Access) -> Result<(File, bool), CardError> {
    let node = disk.node.display().to_string();
    let flags = OFlags::CLOEXEC | OFlags::DIRECT;
    let (flags, mut writable) = match access {
        Access::Look => (flags, false),
        // Of a block device this means: nobody else has it, neither mounted nor held in the same way.
        Access::Hold => (flags | OFlags::EXCL, !disk.locked),
    };
    let begun = Instant::now();
    loop {
        let mode = match writable {
            true => OFlags::RDWR,
            false => OFlags::RDONLY,
        };
        match open(&disk.node, flags | mode, Mode::empty()) {
            Ok(file) => {
                let file = File::from(file);
                // As the system's device manager asks for: as long as this is held it looks at nothing,
                // so that nobody mounts a card that is half written.
                while access == Access::Hold
                    && flock(&file, FlockOperation::NonBlockingLockExclusive).is_err()
                {
                    if begun.elapsed() > PATIENCE {
                        return Err(CardError::InUse("another program has locked it".into()));
                    }
                    std::thread::sleep(Duration::from_millis(50));
                }
                return Ok((file, writable));
            }
            Err(Errno::ROFS) if writable => writable = false,
            Err(Errno::BUSY) if disk.in_use.is_none() && begun.elapsed() < PATIENCE => {
                std::thread::sleep(Duration::from_millis(50));
            }
            Err(Errno::BUSY) => {
                let by = disk.in_use.clone();
                return Err(CardError::InUse(
                    by.unwrap_or_else(|| "another program holds it".into()),
                ));
            }
            Err(Errno::NOMEDIUM) => return Err(CardError::Empty),
            Err(Errno::NXIO | Errno::NODEV | Errno::NOENT) => return Err(CardError::Gone),
            Err(Errno::ACCESS | Errno::PERM) => return Err(CardError::Forbidden(node)),
            Err(e) => return Err(CardError::Reader(format!("{node}: {e}"))),
        }
    }
}

/// That somebody works on a unit.
struct Holding {
    held: Held,
    unit: u32,
}

impl Drop for Holding {
    fn drop(&mut self) {
        let mut held = self.held.lock().unwrap_or_else(|e| e.into_inner());
        held.remove(&self.unit);
    }
}

/// A card that is open.
struct BlockCard {
    file: File,
    writable: bool,
    /// Least that is read or written, in bytes.
    block: usize,
    size: u64,
    /// The medium that was opened.
    sequence: u64,
    computer: Computer,
    name: String,
    /// Whether the medium was found to be another. Held for reading by whoever reads or writes, and alone by
    /// whoever makes the kernel look: it refuses all access to a medium that was changed until somebody has
    /// it look, and what was on its way then would land on the new one.
    gone: RwLock<bool>,
    /// Buffers of earlier accesses.
    spare: Mutex<Vec<Aligned>>,
    /// Behind the device, so that it is closed then.
    rescan: Rescan,
    /// The last field: others may have the card when all is over.
    _holding: Option<Holding>,
}

impl BlockCard {
    /// Whether the medium is still the one that was opened.
    fn is_there(&self) -> Result<(), CardError> {
        match self.computer.medium_now(&self.name) {
            Some((sequence, size)) if sequence == self.sequence && size == self.size => Ok(()),
            _ => Err(CardError::Gone),
        }
    }

    /// Reads or writes, if the medium is still the one that was opened.
    fn access<T>(
        &self,
        op: &'static str,
        offset: u64,
        access: impl FnOnce() -> std::io::Result<T>,
    ) -> Result<T, CardError> {
        let error = {
            let gone = self.gone.read().unwrap_or_else(|e| e.into_inner());
            if *gone {
                return Err(CardError::Gone);
            }
            self.is_there()?;
            match access() {
                Ok(done) => return Ok(done),
                Err(error) => error,
            }
        };
        Err(match error.raw_os_error().map(Errno::from_raw_os_error) {
            Some(Errno::NODEV | Errno::NXIO | Errno::NOMEDIUM | Errno::SHUTDOWN) => CardError::Gone,
            Some(Errno::ROFS | Errno::PERM | Errno::ACCESS) => CardError::Locked,
            // A card that was changed looks like one that fails; only the kernel can tell.
            _ if self.was_changed() => CardError::Gone,
            _ => CardError::Failed {
                op: op.into(),
                offset,
                detail: error.to_string(),
            },
        })
    }

    /// Makes the kernel look at the medium, while nobody reads or writes.
    fn was_changed(&self) -> bool {
        let mut gone = self.gone.write().unwrap_or_else(|e| e.into_inner());
        if !*gone {
            let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC;
            let looked = open(&self.rescan.node, flags, Mode::empty());
            *gone = matches!(looked, Err(Errno::NOMEDIUM | Errno::NXIO | Errno::NODEV))
                || self.is_there().is_err();
        }
        *gone
    }

    fn check(&self, op: &'static str, offset: u64, len: usize) -> Result<(), CardError> {
        if offset
            .checked_add(len as u64)
            .is_none_or(|end| end > self.size)
        {
            return Err(CardError::Failed {
                op: op.into(),
                offset,
                detail: format!("the card ends at byte {}", self.size),
            });
        }
        Ok(())
    }

    fn buffer(&self, len: usize) -> Aligned {
        let spare = self.spare.lock().unwrap_or_else(|e| e.into_inner()).pop();
        match spare {
            Some(buffer) => buffer.resized(len),
            None => Aligned::new(len.max(PIECE)).resized(len),
        }
    }

    fn keep(&self, buffer: Aligned) {
        let mut spare = self.spare.lock().unwrap_or_else(|e| e.into_inner());
        if spare.len() < BUFFERS {
            spare.push(buffer);
        }
    }

    /// The whole blocks around a range: first byte and length.
    fn around(&self, offset: u64, len: usize) -> (u64, usize) {
        let block = self.block as u64;
        let start = offset / block * block;
        let end = (offset + len as u64).div_ceil(block) * block;
        (start, (end.min(self.size) - start) as usize)
    }

    fn read_blocks(&self, offset: u64, buf: &mut [u8]) -> Result<(), CardError> {
        self.access("reading", offset, || self.file.read_exact_at(buf, offset))
    }

    fn write_blocks(&self, offset: u64, data: &[u8]) -> Result<(), CardError> {
        self.rescan.touched.store(true, Ordering::Relaxed);
        self.access("writing", offset, || self.file.write_all_at(data, offset))
    }
}

impl CardIo for BlockCard {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), CardError> {
        self.check("reading", offset, buf.len())?;
        if is_aligned(buf) && self.around(offset, buf.len()) == (offset, buf.len()) {
            self.read_blocks(offset, buf)?;
            return self.is_there();
        }
        let mut at = offset;
        for piece in buf.chunks_mut(PIECE) {
            let (start, len) = self.around(at, piece.len());
            let mut buffer = self.buffer(len);
            self.read_blocks(start, buffer.bytes_mut())?;
            let from = (at - start) as usize;
            piece.copy_from_slice(&buffer.bytes()[from..from + piece.len()]);
            at += piece.len() as u64;
            self.keep(buffer);
        }
        // A card that was changed under way gave bytes of nobody knows which.
        self.is_there()
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), CardError> {
        if !self.writable {
            return Err(CardError::Locked);
        }
        self.check("writing", offset, data.len())?;
        if is_aligned(data) && self.around(offset, data.len()) == (offset, data.len()) {
            return self.write_blocks(offset, data);
        }
        let mut at = offset;
        for piece in data.chunks(PIECE) {
            let (start, len) = self.around(at, piece.len());
            let mut buffer = self.buffer(len);
            if (start, len) != (at, piece.len()) {
                // What stands in the same blocks stays.
                self.read_blocks(start, buffer.bytes_mut())?;
            }
            let from = (at - start) as usize;
            buffer.bytes_mut()[from..from + piece.len()].copy_from_slice(piece);
            self.write_blocks(start, buffer.bytes())?;
            at += piece.len() as u64;
            self.keep(buffer);
        }
        Ok(())
    }

    fn flush(&self) -> Result<(), CardError> {
        self.access("flushing", 0, || self.file.sync_all())?;
        self.is_there()
    }

    fn discard(&self, offset: u64, len: u64) -> Result<bool, CardError> {
        if !self.writable {
            return Err(CardError::Locked);
        }
        let (start, whole) = self.around(offset, len as usize);
        if (start, whole as u64) != (offset, len) {
            return Ok(false);
        }
        self.check("discarding", offset, len as usize)?;
        self.rescan.touched.store(true, Ordering::Relaxed);
        // Of a block device: reads as zero afterwards, or is refused.
        let flags = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        self.access("discarding", offset, || {
            match fallocate(&self.file, flags, offset, len) {
                Ok(()) => Ok(true),
                Err(Errno::OPNOTSUPP | Errno::INVAL | Errno::NOSYS) => Ok(false),
                Err(e) => Err(e.into()),
            }
        })
    }
}

/// Tells the kernel to look for partitions anew, once the card is closed.
struct Rescan {
    node: std::path::PathBuf,
    /// Whether anything was written.
    touched: AtomicBool,
}

impl Drop for Rescan {
    /// Where this is not ours to do, the system's device manager does it when the device is closed.
    fn drop(&mut self) {
        if !self.touched.load(Ordering::Relaxed) || !rustix::process::geteuid().is_root() {
            return;
        }
        // A program of the system, since this is asked for by an ioctl that no safe interface has.
        let _ = Command::new("blockdev")
            .arg("--rereadpt")
            .arg(&self.node)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status();
    }
}
