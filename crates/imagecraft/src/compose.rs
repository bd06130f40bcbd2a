//! Compose, then write: the exact content of one card, made in an overlay over its base before
//! anything touches the card.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use crate::fs::ext::{Attributes, Editor, ExtError};
use crate::fs::fat::{Fat, FatError};
use crate::fs::{FileError, Files, NodeKind};
use crate::grow::{self, Grown, Growth, Shrunk};
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
    /// The partition that a word means: `boot`, `root`, a number, or a label.
    pub fn named(word: &str) -> Self {
        match word {
            "boot" => Self::Boot,
            "root" => Self::Root,
            other => match other.parse() {
                Ok(number) => Self::Number(number),
                Err(_) => Self::Label(other.into()),
            },
        }
    }

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
    /// Whether the last partition may be shrunk where the card is too small for it. It fills the
    /// card then.
    pub shrinks: bool,
    /// Whether partitions that cannot be edited are left as they are, and the rest is done.
    pub go_on: bool,
    /// Whether a file system that is found damaged is changed all the same.
    pub although_damaged: bool,
    /// Where data behind the last partition ends that belongs to the base: it goes onto the card.
    pub behind: Option<u64>,
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
    /// Files that should have gone there, by their places in the recipe.
    pub files: Vec<usize>,
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
    /// Why there is no stamp on it, where one was wanted.
    pub unstamped: Option<String>,
    /// What growing came to, or why nothing was grown; `None` if it was not asked for.
    pub grown: Option<Result<Grown, String>>,
    /// What shrinking came to, where the card was too small for the base as it is.
    pub shrunk: Option<Shrunk>,
    /// Partitions that could not be edited, where the rest was to go on.
    pub left_out: Vec<LeftOut>,
}

/// Why a card could not be composed. Nothing has been touched.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ComposeError {
    /// The content does not fit.
    #[error("the content needs {needed} bytes, but the card holds {card}{}", because(why.as_deref()))]
    CardTooSmall {
        /// Bytes needed.
        needed: u64,
        /// Bytes of the card.
        card: u64,
        /// Why it cannot be made smaller, where that was tried.
        why: Option<String>,
    },
    /// The sheet names a partition that is not there.
    #[error("{path} should go to {}, which the image does not have", target.describe())]
    NoPartition {
        /// Which partition.
        target: Target,
        /// The file that should go there.
        path: String,
    },
    /// A file system is damaged, so that changing it could spoil more.
    #[error("the file system on partition {number} is damaged: {found}; it was not changed")]
    Damaged {
        /// Number of the partition.
        number: u32,
        /// What was found.
        found: String,
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

fn because(why: Option<&str>) -> String {
    why.map_or_else(String::new, |why| {
        format!(", and it cannot be made smaller: {why}")
    })
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
    let mut layout = Layout::read(&base)?;
    let behind = recipe.behind.map_or(0, |end| end.min(base.len()));
    let needed = behind
        .saturating_add(layout.backup_len())
        .max(layout.smallest_card());
    let fits = needed <= card_len;
    if !fits && !recipe.shrinks {
        return Err(ComposeError::CardTooSmall {
            needed,
            card: card_len,
            why: None,
        });
    }
    let mut work = Work::default();
    let mut disk;
    if fits {
        disk = Overlay::new(base, card_len);
    } else {
        // What lies behind the card's end is there until it has been moved.
        let whole = base.len().max(card_len);
        disk = Overlay::new(base, whole);
        work.shrink(&mut disk, &mut layout, card_len, recipe)
            .map_err(|e| e.too_small(needed, card_len))?;
        disk.cut(card_len);
    }
    // What else the base holds behind its last partition, such as the backup of its table, is not
    // content of the card.
    let end = layout.partitions_end().max(behind);
    let mut base_map = base_map.resized(end).resized(card_len);
    if let Some(table) = &layout.gpt {
        table.fit(&mut disk)?;
        let backup = card_len.saturating_sub(table.backup_len());
        base_map.set(backup, card_len, crate::ByteKind::Data);
    }
    work.sort(&disk, &layout, recipe)?;
    if work.shrunk.is_none() {
        work.grow(&mut disk, &mut layout, recipe)?;
    }
    work.place(&mut disk, &layout, recipe)?;
    work.stamp(&mut disk, &layout, recipe)?;
    let touched = disk.touched_chunks(&base_map);
    Ok(Composed {
        map: disk.map(&base_map),
        touched,
        layout: Layout::read(&disk)?,
        disk,
        unstamped: work.unstamped,
        grown: work.grown,
        shrunk: work.shrunk,
        left_out: work.left_out,
    })
}

/// What is to be done on which partition. Each change of a partition takes place on an overlay of
/// its own, and is taken over when it has succeeded as a whole.
#[derive(Default)]
struct Work {
    /// Places of files in the recipe, by partition.
    files: BTreeMap<u32, Vec<usize>>,
    /// Partitions whose file systems were looked at and may be changed.
    sound: BTreeSet<u32>,
    grown: Option<Result<Grown, String>>,
    shrunk: Option<Shrunk>,
    left_out: Vec<LeftOut>,
    unstamped: Option<String>,
}

impl Work {
    /// Finds the partition of every file.
    fn sort<D: Disk>(
        &mut self,
        disk: &D,
        layout: &Layout,
        recipe: &Recipe,
    ) -> Result<(), ComposeError> {
        for (number, file) in recipe.files.iter().enumerate() {
            let found = file.target.find(disk, layout);
            let partition = found.ok_or_else(|| ComposeError::NoPartition {
                target: file.target.clone(),
                path: file.path.clone(),
            })?;
            self.files.entry(partition.number).or_default().push(number);
        }
        Ok(())
    }

    /// What a change of the file system relies on must be whole.
    fn check<D: Disk>(
        &mut self,
        disk: &D,
        partition: &Partition,
        recipe: &Recipe,
    ) -> Result<(), ComposeError> {
        if recipe.although_damaged || !self.sound.insert(partition.number) {
            return Ok(());
        }
        match crate::fs::damage(partition, partition.window(disk)?) {
            None => Ok(()),
            Some(found) => {
                self.sound.remove(&partition.number);
                Err(ComposeError::Damaged {
                    number: partition.number,
                    found,
                })
            }
        }
    }

    /// Shrinks the last partition to the card, its file system first.
    fn shrink<B: Disk>(
        &mut self,
        disk: &mut Overlay<B>,
        layout: &mut Layout,
        card_len: u64,
        recipe: &Recipe,
    ) -> Result<(), Unshrunk> {
        let (before, end) = grow::fitted(layout, card_len, recipe.behind)?;
        let before = before.clone();
        let number = before.number;
        self.check(&*disk, &before, recipe)?;
        let len = end.saturating_sub(before.start);
        let mut editor = Editor::open(before.window(&mut *disk)?)?;
        let done = editor.shrink(len)?;
        editor.close()?;
        grow::set_end(disk, layout, number, end)?;
        self.shrunk = Some(Shrunk {
            partition: number,
            before: before.len,
            after: len,
            moved: done.moved,
            renumbered: done.renumbered,
        });
        Ok(())
    }

    /// Gives the last partition its new end, and its file system with it; both or neither.
    fn grow<B: Disk>(
        &mut self,
        disk: &mut Overlay<B>,
        layout: &mut Layout,
        recipe: &Recipe,
    ) -> Result<(), ComposeError> {
        let Some(growth) = recipe.growth else {
            return Ok(());
        };
        let reach = grow::reach(layout, disk.len(), growth, recipe.behind);
        let (partition, end) = match reach {
            Ok((partition, end)) => (partition.clone(), end),
            Err(why) => {
                self.grown = Some(Err(why));
                return Ok(());
            }
        };
        let mut longer = layout.clone();
        let mut trial = Overlay::new(&*disk, disk.len());
        let grown = self.grow_in(&mut trial, &mut longer, &partition, end, recipe);
        let changes = trial.into_changes();
        match grown {
            Ok(grown) => {
                if grown.is_ok() {
                    disk.take_over(changes)?;
                    *layout = longer;
                }
                self.grown = Some(grown);
            }
            Err(error) if recipe.go_on => self.grown = Some(Err(error.to_string())),
            Err(error) => return Err(error),
        }
        Ok(())
    }

    fn grow_in<B: Disk>(
        &mut self,
        disk: &mut Overlay<B>,
        longer: &mut Layout,
        before: &Partition,
        end: u64,
        recipe: &Recipe,
    ) -> Result<Result<Grown, String>, ComposeError> {
        let number = before.number;
        self.check(disk, before, recipe)?;
        try_ext(disk, before).map_err(|e| ComposeError::NotEditable {
            paths: Vec::new(),
            number,
            why: format!("{} cannot be grown: {e}", before.title()),
        })?;
        if let Err(why) = grow::set_end(disk, longer, number, end) {
            return Ok(Err(why));
        }
        let wrong = |e: ExtError| ComposeError::Edit {
            path: "the growth of its file system".into(),
            number,
            why: e.to_string(),
        };
        let after = Partition {
            len: end.saturating_sub(before.start),
            ..before.clone()
        };
        let mut editor = Editor::open(after.window(&mut *disk)?).map_err(wrong)?;
        let scattered = recipe.growth.is_some_and(|growth| growth.scattered);
        let done = editor.grow(scattered).map_err(wrong)?;
        editor.close().map_err(wrong)?;
        Ok(Ok(Grown {
            partition: number,
            before: before.len,
            after: after.len,
            filled: done.after,
            limited: done.limited,
        }))
    }

    /// Puts the files on their partitions: all of a partition's, or none.
    fn place<B: Disk>(
        &mut self,
        disk: &mut Overlay<B>,
        layout: &Layout,
        recipe: &Recipe,
    ) -> Result<(), ComposeError> {
        for (number, files) in std::mem::take(&mut self.files) {
            let found = layout.partitions.iter().find(|one| one.number == number);
            let Some(partition) = found else { continue };
            let wanted: Vec<_> = files.iter().map(|at| recipe.files[*at].clone()).collect();
            let mut trial = Overlay::new(&*disk, disk.len());
            let done = self
                .check(&trial, partition, recipe)
                .and_then(|()| edit(&mut trial, partition, &wanted));
            let changes = trial.into_changes();
            let why = match done {
                Ok(()) => {
                    disk.take_over(changes)?;
                    continue;
                }
                Err(ComposeError::NotEditable { why, .. }) if recipe.go_on => why,
                Err(ComposeError::Damaged { found, .. }) if recipe.go_on => found,
                Err(e) => return Err(e),
            };
            self.left_out.push(LeftOut {
                partition: number,
                why,
                files,
            });
        }
        Ok(())
    }

    /// Leaves the stamp where there is a place for it. It is a convenience, whose lack must not
    /// cost a card, and is said.
    fn stamp<B: Disk>(
        &mut self,
        disk: &mut Overlay<B>,
        layout: &Layout,
        recipe: &Recipe,
    ) -> Result<(), ComposeError> {
        let Some(stamp) = &recipe.stamp else {
            return Ok(());
        };
        if layout.has_finding("iso") {
            self.unstamped = Some("an ISO image is not changed unless that is asked for".into());
            return Ok(());
        }
        let file = PlacedFile::file(Target::Boot, format!("/{STAMP_PATH}"), stamp.to_bytes());
        let places = [layout.boot(), root(&*disk, layout)];
        let mut why = None;
        for partition in places.into_iter().flatten().cloned().collect::<Vec<_>>() {
            let mut trial = Overlay::new(&*disk, disk.len());
            let done = self
                .check(&trial, &partition, recipe)
                .and_then(|()| edit(&mut trial, &partition, std::slice::from_ref(&file)));
            let changes = trial.into_changes();
            match done {
                Ok(()) => {
                    disk.take_over(changes)?;
                    return Ok(());
                }
                Err(ComposeError::Disk(e)) => return Err(e.into()),
                Err(e) => {
                    why.get_or_insert_with(|| e.to_string());
                }
            }
        }
        let none = || "it has neither a FAT nor an ext partition".into();
        self.unstamped = Some(why.unwrap_or_else(none));
        Ok(())
    }
}

/// Why a base was not shrunk.
enum Unshrunk {
    /// It cannot be.
    Why(String),
    /// It went wrong.
    Other(ComposeError),
}

impl Unshrunk {
    fn too_small(self, needed: u64, card: u64) -> ComposeError {
        match self {
            Self::Why(why) => ComposeError::CardTooSmall {
                needed,
                card,
                why: Some(why),
            },
            Self::Other(e) => e,
        }
    }
}

impl From<String> for Unshrunk {
    fn from(why: String) -> Self {
        Self::Why(why)
    }
}

impl From<DiskError> for Unshrunk {
    fn from(e: DiskError) -> Self {
        Self::Other(e.into())
    }
}

impl From<ExtError> for Unshrunk {
    fn from(e: ExtError) -> Self {
        match e {
            ExtError::Disk(e) => e.into(),
            ExtError::CannotShrink(why) => Self::Why(why),
            other => Self::Why(other.to_string()),
        }
    }
}

impl From<ComposeError> for Unshrunk {
    fn from(e: ComposeError) -> Self {
        match e {
            ComposeError::Damaged { .. } => Self::Why(e.to_string()),
            other => Self::Other(other),
        }
    }
}

/// Changes files on one partition.
fn edit<B: Disk>(
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
