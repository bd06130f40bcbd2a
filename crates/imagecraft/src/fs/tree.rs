//! The files of a partition, listed and read without mounting.

use super::ext::error::ExtError;
use super::fat::error::FatError;
use crate::DiskError;

/// Most files and folders that one walk visits.
pub const MOST_NODES: usize = 2_000_000;
/// Deepest folder that a walk goes into.
const MOST_DEPTH: usize = 100;

/// What a name in a folder stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NodeKind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A device, socket or pipe.
    Other,
}

/// One name in a folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Node {
    /// The name, without folders, as text ([`text_of`](super::name::text_of)).
    pub name: String,
    /// What it is.
    pub kind: NodeKind,
    /// Length in bytes.
    pub len: u64,
    /// Permission bits, on file systems that have them.
    pub mode: Option<u32>,
    /// User and group, on file systems that have them.
    pub owner: Option<(u32, u32)>,
    /// The target of a symbolic link, as text like names.
    pub target: Option<String>,
    /// When its content was changed last, in seconds since 1970; on FAT by the clock of whoever wrote it.
    pub modified: Option<i64>,
    /// Names that lead to it, on file systems where it can have several.
    pub links: u16,
    /// What tells it apart on this file system: inode or first cluster.
    pub id: u64,
}

/// Why files could not be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum FileError {
    /// No such file.
    #[error("there is no {0}")]
    Missing(String),
    /// It is not of the kind that is wanted.
    #[error(
        "{0} is not of the kind that is wanted here: a file has bytes to read, a folder has files in it; devices, pipes and sockets have neither"
    )]
    WrongKind(String),
    /// Links that lead in a circle.
    #[error("{0} leads from one link to the next without end")]
    LinkLoop(String),
    /// The ext file system could not be read.
    #[error(transparent)]
    Ext(#[from] ExtError),
    /// The FAT file system could not be read.
    #[error(transparent)]
    Fat(#[from] FatError),
    /// Whoever takes the bytes could not.
    #[error("the bytes could not be passed on: {0}")]
    Sink(std::io::Error),
    /// The disk could not be read.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// A stretch of a file as it lies on the disk of its file system, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// First byte of the file.
    pub at: u64,
    /// First byte on the disk of the file system.
    pub on_disk: u64,
    /// Length.
    pub len: u64,
}

/// Takes the bytes of a file, piece by piece.
pub type Sink<'a> = &'a mut dyn FnMut(&[u8]) -> std::io::Result<()>;

/// The files of one file system. Paths begin with `/`; links are followed inside the file system.
pub trait Files {
    /// The names in a folder, in no particular order.
    fn list(&self, path: &str) -> Result<Vec<Node>, FileError>;

    /// What a path stands for, `None` if nothing.
    fn find(&self, path: &str) -> Result<Option<Node>, FileError>;

    /// Gives the bytes of a regular file to `sink`, in order; answers how many there were.
    fn read_into(&self, path: &str, sink: Sink<'_>) -> Result<u64, FileError>;

    /// Gives the bytes of a regular file that was listed to `sink`, in order.
    fn read_node(&self, node: &Node, sink: Sink<'_>) -> Result<(), FileError>;

    /// The extended attributes of what was listed, with their whole names, on file systems that have them.
    fn attributes(&self, _: &Node) -> Result<Vec<(String, Vec<u8>)>, FileError> {
        Ok(Vec::new())
    }

    /// Where the content of a regular file that was listed lies, in the order of the file, without
    /// holes. `None` where that says nothing about its bytes: it lies in its inode, or a journal holds
    /// newer bytes than the disk.
    fn stretches(&self, node: &Node) -> Result<Option<Vec<Stretch>>, FileError>;

    /// At most `most` bytes from the start of a file.
    fn read_head(&self, path: &str, most: usize) -> Result<Vec<u8>, FileError> {
        let mut bytes = Vec::new();
        let enough = "enough";
        let read = self.read_into(path, &mut |piece| {
            let take = piece.len().min(most.saturating_sub(bytes.len()));
            bytes.extend_from_slice(&piece[..take]);
            if bytes.len() == most {
                return Err(std::io::Error::other(enough));
            }
            Ok(())
        });
        match read {
            Err(FileError::Sink(_)) | Ok(_) => Ok(bytes),
            Err(e) => Err(e),
        }
    }
}

/// Visits everything below `/`, folders before what is in them, names in order. Folders that lead
/// back into themselves are visited once.
pub fn walk(
    files: &dyn Files,
    visit: &mut dyn FnMut(&str, &Node) -> Result<(), FileError>,
) -> Result<(), FileError> {
    let mut seen = std::collections::BTreeSet::new();
    let mut left = MOST_NODES;
    walk_folder(files, "", 0, &mut seen, &mut left, visit)
}

fn walk_folder(
    files: &dyn Files,
    path: &str,
    depth: usize,
    seen: &mut std::collections::BTreeSet<u64>,
    left: &mut usize,
    visit: &mut dyn FnMut(&str, &Node) -> Result<(), FileError>,
) -> Result<(), FileError> {
    let folder = if path.is_empty() { "/" } else { path };
    let mut nodes = files.list(folder)?;
    nodes.sort_by(|a, b| a.name.cmp(&b.name));
    for node in nodes {
        if *left == 0 {
            return Ok(());
        }
        *left = (*left).saturating_sub(1);
        let path = format!("{path}/{}", node.name);
        visit(&path, &node)?;
        if node.kind == NodeKind::Folder && depth < MOST_DEPTH && seen.insert(node.id) {
            walk_folder(files, &path, depth.saturating_add(1), seen, left, visit)?;
        }
    }
    Ok(())
}

/// The parts of a path, without empty ones and dots.
pub(crate) fn parts(path: &str) -> Vec<&str> {
    path.split('/')
        .filter(|part| !part.is_empty() && *part != ".")
        .collect()
}
