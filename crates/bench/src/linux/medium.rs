//! The medium in a disk: whether it is still the same one, and what a slot says of it.

use cardwork::{CardError, Insertion, Medium};
use rustix::fs::{Mode, OFlags, open};
use rustix::io::Errno;

use super::{Computer, Disk};

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
    let Some(number) = disk.sequence else {
        // A disk that went away while it was looked at counts nothing any more.
        if !disk.node.exists() {
            return Ok(None);
        }
        return Err(CardError::Reader(
            "the kernel does not count media (diskseq); it must be 5.15 or newer".into(),
        ));
    };
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
        block: disk.block,
    }))
}
