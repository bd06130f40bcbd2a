//! Compose, then write: the exact content of one card, made in an overlay over its base before
//! anything touches the card.

use crate::fs::fat::{Fat, FatError};
use crate::table::gpt::GptError;
use crate::{Disk, DiskError, Layout, LayoutError, Map, Overlay, Partition, STAMP_PATH, Stamp};

/// Which partition of the card a file goes to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Target {
    /// The first partition with a FAT file system.
    Boot,
    /// The partition with this number.
    Number(u32),
}

/// A file as it shall lie on the card.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlacedFile {
    /// Where to.
    pub target: Target,
    /// Path on that partition's file system.
    pub path: String,
    /// Content.
    pub bytes: Vec<u8>,
}

/// What is done to a base to make one card of it.
#[derive(Clone, Debug, Default)]
pub struct Recipe {
    /// Files to create or replace.
    pub files: Vec<PlacedFile>,
    /// The stamp to leave, where a FAT partition allows.
    pub stamp: Option<Stamp>,
}

/// Every byte that a card shall hold.
#[derive(Debug)]
pub struct Composed<B> {
    /// The content, as long as the card.
    pub disk: Overlay<B>,
    /// Which of its bytes matter.
    pub map: Map,
    /// Its table and partitions.
    pub layout: Layout,
    /// Whether the stamp found a place.
    pub stamped: bool,
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
    #[error(
        "{path} should go to {}, which the image does not have",
        describe(target)
    )]
    NoPartition {
        /// Which partition.
        target: Target,
        /// The file that should go there.
        path: String,
    },
    /// The partition's file system cannot be edited.
    #[error("{path} should go to partition {number}, which holds {found}; only FAT can be edited")]
    NotEditable {
        /// The file that should go there.
        path: String,
        /// Number of the partition.
        number: u32,
        /// What it holds.
        found: String,
    },
    /// Editing failed.
    #[error("{path} cannot be put on partition {number}: {source}")]
    Edit {
        /// The file.
        path: String,
        /// Number of the partition.
        number: u32,
        /// Why.
        source: FatError,
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

fn describe(target: &Target) -> String {
    match target {
        Target::Boot => "a FAT boot partition".into(),
        Target::Number(number) => format!("partition {number}"),
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
    for file in &recipe.files {
        let partition = find(&before, &file.target).ok_or_else(|| ComposeError::NoPartition {
            target: file.target.clone(),
            path: file.path.clone(),
        })?;
        if !partition.is_fat() {
            let fs = partition.file_system.as_ref();
            return Err(ComposeError::NotEditable {
                path: file.path.clone(),
                number: partition.number,
                found: fs.map_or("no known file system".into(), |fs| fs.kind.clone()),
            });
        }
        put(&mut disk, partition, &file.path, &file.bytes)?;
    }
    let stamped = match (&recipe.stamp, before.boot()) {
        (Some(stamp), Some(boot)) => {
            put(&mut disk, boot, STAMP_PATH, &stamp.to_bytes())?;
            true
        }
        _ => false,
    };
    let map = disk.map(&base_map);
    let layout = Layout::read(&disk)?;
    Ok(Composed {
        disk,
        map,
        layout,
        stamped,
    })
}

fn find<'a>(layout: &'a Layout, target: &Target) -> Option<&'a Partition> {
    match target {
        Target::Boot => layout.boot(),
        Target::Number(number) => layout.partitions.iter().find(|p| p.number == *number),
    }
}

fn put<B: Disk>(
    disk: &mut Overlay<B>,
    partition: &Partition,
    path: &str,
    bytes: &[u8],
) -> Result<(), ComposeError> {
    let edit = |source| ComposeError::Edit {
        path: path.into(),
        number: partition.number,
        source,
    };
    let mut fat = Fat::open(partition.window(disk)?).map_err(edit)?;
    fat.put(path, bytes).map_err(edit)?;
    fat.close().map_err(edit)
}
