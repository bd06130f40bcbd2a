//! Compose, then write: the exact content of one card, made in an overlay over its base before
//! anything touches the card.

use std::collections::BTreeMap;
use std::fmt;

use crate::fs::ext::{Attributes, Editor, ExtError};
use crate::fs::fat::{Fat, FatError};
use crate::fs::{FileError, Files, NodeKind};
use crate::grow::{self, Grown, Growth};
use crate::table::gpt::GptError;
use crate::{Disk, DiskError, Layout, LayoutError, Map, Overlay, Partition, STAMP_PATH, Stamp};

/// The largest file of a base that is read to be edited or shown, in bytes.
const MOST_EDITED: usize = 1 << 20;

/// Which partition of the card a file goes to.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Target {
    /// The first partition with a FAT file system.
    Boot,
    /// The partition that holds the system: the first ext one with a folder `/etc`, else the
    /// first ext one.
    Root,
    /// The partition whose file system, or entry in a GPT, has this label.
    Label(String),
    /// The partition with this number.
    Number(u32),
}

impl fmt::Display for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Boot => f.write_str("boot"),
            Self::Root => f.write_str("root"),
            Self::Label(label) => f.write_str(label),
            Self::Number(number) => write!(f, "{number}"),
        }
    }
}

impl Target {
    /// The same in a sentence.
    fn describe(&self) -> String {
        match self {
            Self::Boot => "a FAT boot partition".into(),
            Self::Root => "an ext root partition".into(),
            Self::Label(label) => format!("a partition labelled {label}"),
            Self::Number(number) => format!("partition {number}"),
        }
    }

    /// The partition that is meant.
    pub fn find<'a, D: Disk + ?Sized>(
        &self,
        disk: &D,
        layout: &'a Layout,
    ) -> Option<&'a Partition> {
        let mut all = layout.partitions.iter();
        match self {
            Self::Boot => layout.boot(),
            Self::Root => root(disk, layout),
            Self::Label(label) => all.find(|partition| {
                let fs = partition.file_system.as_ref();
                let of_fs = fs.and_then(|fs| fs.label.as_deref());
                of_fs == Some(label) || partition.name.as_deref() == Some(label)
            }),
            Self::Number(number) => all.find(|partition| partition.number == *number),
        }
    }
}

/// The partition that holds the system.
pub(crate) fn root<'a, D: Disk + ?Sized>(disk: &D, layout: &'a Layout) -> Option<&'a Partition> {
    let ext = || layout.partitions.iter().filter(|p| p.is_ext());
    let has_etc = |partition: &&Partition| {
        let files = files_of(disk, partition).ok().flatten();
        let found = files.and_then(|files| files.find("/etc").ok().flatten());
        found.is_some_and(|node| node.kind == NodeKind::Folder)
    };
    ext().find(has_etc).or_else(|| ext().next())
}

fn files_of<'a, D: Disk + ?Sized>(
    disk: &'a D,
    partition: &Partition,
) -> Result<Option<Box<dyn Files + 'a>>, FileError> {
    crate::fs::open(partition.window(disk)?)
}

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

/// What is done to a base to make one card of it.
#[derive(Clone, Debug, Default)]
pub struct Recipe {
    /// Files to create, replace and remove, in order.
    pub files: Vec<PlacedFile>,
    /// How the last partition is grown; `None` leaves it as it is.
    pub growth: Option<Growth>,
    /// Whether partitions that cannot be edited are left as they are, and the rest is done.
    pub go_on: bool,
    /// The stamp to leave, where a partition allows.
    pub stamp: Option<Stamp>,
}

/// A partition that was left as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftOut {
    /// Number of the partition.
    pub partition: u32,
    /// Why.
    pub why: String,
    /// Files that should have gone there.
    pub paths: Vec<String>,
}

/// Every byte that a card shall hold.
#[derive(Debug)]
pub struct Composed<B> {
    /// The content, as long as the card.
    pub disk: Overlay<B>,
    /// Which of its bytes matter.
    pub map: Map,
    /// Chunks that are not as the base and its map have them, ascending.
    pub touched: Vec<u64>,
    /// Its table and partitions.
    pub layout: Layout,
    /// Whether the stamp found a place.
    pub stamped: bool,
    /// What growing came to, or why nothing was grown; `None` if it was not asked for.
    pub grown: Option<Result<Grown, String>>,
    /// Partitions that could not be edited, where the rest was to go on.
    pub left_out: Vec<LeftOut>,
}

/// Why a card could not be composed. Nothing has been touched.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ComposeError {
    /// The content does not fit.
    #[error("the content needs {needed} bytes, but the card holds {card}")]
    CardTooSmall {
        /// Bytes needed.
        needed: u64,
        /// Bytes of the card.
        card: u64,
    },
    /// The sheet names a partition that is not there.
    #[error("{path} should go to {}, which the image does not have", target.describe())]
    NoPartition {
        /// Which partition.
        target: Target,
        /// The file that should go there.
        path: String,
    },
    /// The partition's file system cannot be edited.
    #[error("{} cannot be edited: {why}", paths_on(paths, *number))]
    NotEditable {
        /// The files that should go there.
        paths: Vec<String>,
        /// Number of the partition.
        number: u32,
        /// Why.
        why: String,
    },
    /// Editing failed.
    #[error("{path} cannot be put on partition {number}: {why}")]
    Edit {
        /// The file.
        path: String,
        /// Number of the partition.
        number: u32,
        /// Why.
        why: String,
    },
    /// The base has no usable layout.
    #[error("the base cannot be used: {0}")]
    Layout(#[from] LayoutError),
    /// The table could not be fitted to the card.
    #[error("the partition table cannot be fitted to the card: {0}")]
    Table(#[from] GptError),
    /// The base could not be read.
    #[error("the base cannot be read: {0}")]
    Disk(#[from] DiskError),
}

fn paths_on(paths: &[String], number: u32) -> String {
    match paths {
        [] => format!("partition {number}"),
        paths => format!(
            "partition {number}, which {} should go to,",
            paths.join(", ")
        ),
    }
}

/// Makes the content of a card of `card_len` bytes out of `base`.
///
/// `base_map` says which bytes of the base matter; bytes of the card that the base does not
/// reach are free. The backup of a GPT moves to the card's end.
pub fn compose<B: Disk>(
    base: B,
    base_map: &Map,
    card_len: u64,
    recipe: &Recipe,
) -> Result<Composed<B>, ComposeError> {
    let before = Layout::read(&base)?;
    let needed = before.smallest_card();
    if needed > card_len {
        return Err(ComposeError::CardTooSmall {
            needed,
            card: card_len,
        });
    }
    let mut disk = Overlay::new(base, card_len);
    // What the base holds behind its last partition, such as the backup of its table, is not
    // content of the card.
    let mut base_map = base_map.resized(before.partitions_end()).resized(card_len);
    if let Some(table) = &before.gpt {
        table.fit(&mut disk)?;
        let backup = card_len - table.backup_len();
        base_map.set(backup, card_len, crate::ByteKind::Data);
    }
    let mut work = Work::default();
    let mut layout = before;
    work.sort(&disk, &layout, recipe)?;
    work.begin_growth(&mut disk, &mut layout, card_len, recipe)?;
    work.edit(&mut disk, &layout, recipe)?;
    let touched = disk.touched_chunks(&base_map);
    Ok(Composed {
        map: disk.map(&base_map),
        touched,
        layout: Layout::read(&disk)?,
        disk,
        stamped: work.stamped,
        grown: work.grown,
        left_out: work.left_out,
    })
}

/// What is to be done on which partition.
#[derive(Default)]
struct Work {
    files: BTreeMap<u32, Vec<PlacedFile>>,
    /// The partition whose file system is grown.
    growing: Option<(u32, bool)>,
    grown: Option<Result<Grown, String>>,
    left_out: Vec<LeftOut>,
    stamped: bool,
}

impl Work {
    /// Finds the partition of every file, the stamp among them.
    fn sort<D: Disk>(
        &mut self,
        disk: &D,
        layout: &Layout,
        recipe: &Recipe,
    ) -> Result<(), ComposeError> {
        for file in &recipe.files {
            let found = file.target.find(disk, layout);
            let partition = found.ok_or_else(|| ComposeError::NoPartition {
                target: file.target.clone(),
                path: file.path.clone(),
            })?;
            let files = self.files.entry(partition.number).or_default();
            files.push(file.clone());
        }
        Ok(())
    }

    /// Gives the last partition its new end, unless its file system cannot be grown.
    fn begin_growth<B: Disk>(
        &mut self,
        disk: &mut Overlay<B>,
        layout: &mut Layout,
        card_len: u64,
        recipe: &Recipe,
    ) -> Result<(), ComposeError> {
        let Some(growth) = recipe.growth else {
            return Ok(());
        };
        let (number, before, end) = match grow::reach(layout, card_len, growth) {
            Ok((partition, end)) => (partition.number, partition.clone(), end),
            Err(why) => {
                self.grown = Some(Err(why));
                return Ok(());
            }
        };
        if let Err(e) = try_ext(disk, &before) {
            let why = format!("{} cannot be grown: {e}", before.title());
            if !recipe.go_on {
                return Err(ComposeError::NotEditable {
                    paths: Vec::new(),
                    number,
                    why,
                });
            }
            self.grown = Some(Err(why));
            return Ok(());
        }
        if let Err(why) = grow::lengthen(disk, layout, number, end) {
            self.grown = Some(Err(why));
            return Ok(());
        }
        self.growing = Some((number, growth.scattered));
        self.grown = Some(Ok(Grown {
            partition: number,
            before: before.len,
            after: end - before.start,
            filled: before.len,
            limited: None,
        }));
        Ok(())
    }

    fn edit<B: Disk>(
        &mut self,
        disk: &mut Overlay<B>,
        layout: &Layout,
        recipe: &Recipe,
    ) -> Result<(), ComposeError> {
        let stamp = recipe.stamp.as_ref().map(|stamp| {
            PlacedFile::file(Target::Boot, format!("/{STAMP_PATH}"), stamp.to_bytes())
        });
        let stamped = layout.boot().or_else(|| root(&*disk, layout));
        let stamped = stamped.map(|partition| partition.number);
        for partition in &layout.partitions {
            let number = partition.number;
            let mut files = self.files.remove(&number).unwrap_or_default();
            let scattered = self.growing.filter(|(growing, _)| *growing == number);
            let stamp = stamp.as_ref().filter(|_| stamped == Some(number));
            let only_stamp = files.is_empty() && scattered.is_none();
            files.extend(stamp.cloned());
            if files.is_empty() && scattered.is_none() {
                continue;
            }
            let done = if partition.is_fat() {
                edit_fat(disk, partition, &files)
            } else if partition.is_ext() {
                self.edit_ext(disk, partition, &files, scattered.map(|(_, how)| how))
            } else {
                Err(not_editable(
                    partition,
                    &files,
                    format!(
                        "it holds {}; only FAT and ext file systems can be edited",
                        partition.holds()
                    ),
                ))
            };
            match done {
                Ok(()) => self.stamped |= stamp.is_some(),
                // A stamp is a convenience, whose lack must not cost a card.
                Err(_) if only_stamp => {}
                Err(ComposeError::NotEditable { paths, number, why }) if recipe.go_on => {
                    self.left_out.push(LeftOut {
                        partition: number,
                        why,
                        paths,
                    });
                }
                Err(e) => return Err(e),
            }
        }
        Ok(())
    }

    fn edit_ext<B: Disk>(
        &mut self,
        disk: &mut Overlay<B>,
        partition: &Partition,
        files: &[PlacedFile],
        scattered: Option<bool>,
    ) -> Result<(), ComposeError> {
        try_ext(disk, partition).map_err(|e| not_editable(partition, files, e.to_string()))?;
        let wrong = |path: &str, e: ExtError| ComposeError::Edit {
            path: path.into(),
            number: partition.number,
            why: e.to_string(),
        };
        let window = partition.window(&mut *disk)?;
        let mut editor = Editor::open(window).map_err(|e| wrong("a file", e))?;
        // First, so that files find the room that is gained.
        if let Some(scattered) = scattered {
            let done = editor.grow(scattered);
            let done = done.map_err(|e| wrong("the growth of its file system", e))?;
            if let Some(Ok(grown)) = &mut self.grown {
                grown.filled = done.after;
                grown.limited = done.limited;
            }
        }
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
}

/// Whether an ext file system can be edited, tried on a copy.
fn try_ext<D: Disk>(disk: &D, partition: &Partition) -> Result<(), ExtError> {
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
    fat.check().map_err(unusable)?;
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
