//! The files of whatever file system there is.

use super::tree::{FileError, Files};
use super::{ext, fat};
use crate::Disk;

/// Opens the files of the file system that fills `disk`; `None` for kinds that are not read.
pub fn open<'a, D: Disk + 'a>(disk: D) -> Result<Option<Box<dyn Files + 'a>>, FileError> {
    if ext::recognise(&disk)?.is_some() {
        return Ok(Some(Box::new(ext::Ext::open_replayed(disk)?)));
    }
    if fat::BootSector::read(&disk)?.is_ok() {
        return Ok(Some(Box::new(fat::Fat::open(disk)?)));
    }
    Ok(None)
}
