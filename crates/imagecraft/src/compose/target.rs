//! Which partition of a card is meant.

use std::fmt;

use crate::fs::{FileError, Files, NodeKind};
use crate::{Disk, Layout, Partition};

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
    pub(super) fn describe(&self) -> String {
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

pub(super) fn files_of<'a, D: Disk + ?Sized>(
    disk: &'a D,
    partition: &Partition,
) -> Result<Option<Box<dyn Files + 'a>>, FileError> {
    crate::fs::open(partition.window(disk)?)
}
