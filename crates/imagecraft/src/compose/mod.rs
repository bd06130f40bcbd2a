//! Compose, then write: the exact content of one card, made in an overlay over its base before
//! anything touches the card.

mod error;
mod place;
mod target;

use std::collections::{BTreeMap, BTreeSet};

pub use error::ComposeError;
pub use place::{Change, PlacedFile, read_base};
use place::{edit, try_ext};
pub use target::Target;
pub(crate) use target::root;

use crate::blocks;
use crate::fs::ext::{Editor, ExtError};
use crate::grow::{self, Grown, Growth, Shrunk};
use crate::{Disk, DiskError, Layout, Map, Overlay, Partition, STAMP_PATH, Stamp};

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
    /// Block size of the card's reader in bytes, which the table shall count in; `None` leaves it as it is.
    pub block: Option<u64>,
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
    let block = recipe.block.filter(|block| *block != layout.block);
    let other_blocks = |block| move |why| ComposeError::Blocks { block, why };
    let mut fitted = layout.clone();
    if let Some(block) = block {
        fitted.gpt = blocks::table_for(&layout, block).map_err(other_blocks(block))?;
    }
    let behind = recipe.behind.map_or(0, |end| end.min(base.len()));
    let needed = behind
        .saturating_add(fitted.backup_len())
        .max(fitted.smallest_card());
    let fits = needed <= card_len;
    if !fits && !recipe.shrinks {
        return Err(ComposeError::CardTooSmall {
            needed,
            card: card_len,
            why: None,
        });
    }
    let mut work = Work::default();
    // What lies behind the card's end is there until it has been moved.
    let whole = if fits {
        card_len
    } else {
        base.len().max(card_len)
    };
    let mut disk = Overlay::new(base, whole);
    if let Some(block) = block {
        blocks::recount(&mut disk, &mut layout, block).map_err(other_blocks(block))?;
    }
    if !fits {
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
