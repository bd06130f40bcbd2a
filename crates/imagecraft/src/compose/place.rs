//! Files of a base as they are, and changes of them on one partition.

use super::error::ComposeError;
use super::target::{Target, files_of};
use crate::fs::FileError;
use crate::fs::ext::{Attributes, Editor, ExtError};
use crate::fs::fat::{Fat, FatError};
use crate::{Disk, Layout, Overlay, Partition, STAMP_PATH};

/// The largest file of a base that is read to be edited or shown, in bytes.
const MOST_EDITED: usize = 1 << 20;

/// The bytes of a file of a base as they are before composing; `None` where there is none.
///
/// # Errors
/// No such partition, a file too large to be edited, damage.
pub fn read_base<D: Disk + ?Sized>(
    disk: &D,
    layout: &Layout,
    target: &Target,
    path: &str,
) -> Result<Option<Vec<u8>>, ComposeError> {
    let partition = target
        .find(disk, layout)
        .ok_or_else(|| ComposeError::NoPartition {
            target: target.clone(),
            path: path.into(),
        })?;
    let wrong = |why: String| ComposeError::Edit {
        path: path.into(),
        number: partition.number,
        why,
    };
    let files = files_of(disk, partition).map_err(|e| wrong(e.to_string()))?;
    let Some(files) = files else {
        return Ok(None);
    };
    let node = match files.find(path) {
        Ok(node) => node,
        // A link on the way that leads nowhere.
        Err(FileError::Missing(_)) => None,
        Err(e) => return Err(wrong(e.to_string())),
    };
    match node {
        None => Ok(None),
        Some(node) if node.len > MOST_EDITED as u64 => Err(wrong(format!(
            "it has {} bytes, too many to edit",
            node.len
        ))),
        Some(_) => match files.read_head(path, MOST_EDITED) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(FileError::Missing(_)) => Ok(None),
            Err(e) => Err(wrong(e.to_string())),
        },
    }
}

/// What is done at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// A file with these bytes is created, or replaces the one that is there.
    File(Vec<u8>),
    /// A symbolic link to this target (ext only).
    Link(String),
    /// The file, link or empty folder is removed, where there is one.
    Remove,
}

/// A file as it shall lie on the card.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlacedFile {
    /// Where to.
    pub target: Target,
    /// Path on that partition's file system.
    pub path: String,
    /// What is done there.
    pub change: Change,
    /// Permission bits, user and group; FAT has none.
    pub attributes: Attributes,
}

impl PlacedFile {
    /// A file with these bytes and the attributes it has or that are usual.
    pub fn file(target: Target, path: impl Into<String>, bytes: impl Into<Vec<u8>>) -> Self {
        Self {
            target,
            path: path.into(),
            change: Change::File(bytes.into()),
            attributes: Attributes::default(),
        }
    }
}

/// Changes files on one partition.
pub(super) fn edit<B: Disk>(
    disk: &mut Overlay<B>,
    partition: &Partition,
    files: &[PlacedFile],
) -> Result<(), ComposeError> {
    if partition.is_fat() {
        edit_fat(disk, partition, files)
    } else if partition.is_ext() {
        edit_ext(disk, partition, files)
    } else {
        let why = format!(
            "it holds {}; only FAT and ext file systems can be edited",
            partition.holds()
        );
        Err(not_editable(partition, files, why))
    }
}

fn edit_ext<B: Disk>(
    disk: &mut Overlay<B>,
    partition: &Partition,
    files: &[PlacedFile],
) -> Result<(), ComposeError> {
    try_ext(disk, partition).map_err(|e| not_editable(partition, files, e.to_string()))?;
    let wrong = |path: &str, e: ExtError| ComposeError::Edit {
        path: path.into(),
        number: partition.number,
        why: e.to_string(),
    };
    let window = partition.window(&mut *disk)?;
    let mut editor = Editor::open(window).map_err(|e| wrong("a file", e))?;
    for file in files {
        let given = &file.attributes;
        let done = match &file.change {
            Change::File(bytes) => editor.put(&file.path, bytes, given),
            Change::Link(target) => editor.link(&file.path, target),
            Change::Remove => editor.remove(&file.path).map(|_| ()),
        };
        done.map_err(|e| wrong(&file.path, e))?;
    }
    editor.close().map_err(|e| wrong("a file", e))
}

/// Whether an ext file system can be edited, tried on a copy.
pub(super) fn try_ext<D: Disk>(disk: &D, partition: &Partition) -> Result<(), ExtError> {
    let window = partition.window(disk)?;
    let len = window.len();
    Editor::open(Overlay::new(window, len)).map(|_| ())
}

fn not_editable(partition: &Partition, files: &[PlacedFile], why: String) -> ComposeError {
    let paths = files.iter().map(|file| file.path.clone());
    ComposeError::NotEditable {
        paths: paths
            .filter(|path| path.trim_start_matches('/') != STAMP_PATH)
            .collect(),
        number: partition.number,
        why,
    }
}

fn edit_fat<B: Disk>(
    disk: &mut Overlay<B>,
    partition: &Partition,
    files: &[PlacedFile],
) -> Result<(), ComposeError> {
    let wrong = |path: &str, e: FatError| ComposeError::Edit {
        path: path.into(),
        number: partition.number,
        why: e.to_string(),
    };
    let unusable = |e: FatError| not_editable(partition, files, e.to_string());
    let mut fat = Fat::open(partition.window(disk)?).map_err(unusable)?;
    for file in files {
        let done = match &file.change {
            Change::File(bytes) => fat.put(&file.path, bytes),
            Change::Remove => fat.remove(&file.path).map(|_| ()),
            Change::Link(_) => {
                return Err(ComposeError::Edit {
                    path: file.path.clone(),
                    number: partition.number,
                    why: "FAT has no symbolic links".into(),
                });
            }
        };
        done.map_err(|e| wrong(&file.path, e))?;
    }
    fat.close().map_err(|e| wrong("a file", e))
}
