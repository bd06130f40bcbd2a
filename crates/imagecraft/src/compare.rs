//! What two images differ in: partition by partition and file by file.

use std::collections::BTreeMap;

use crate::fs::{self, FileError, Files, Node, NodeKind};
use crate::{Disk, Layout, LayoutError, Partition};

/// A fact about the disk or a partition that differs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FactChange {
    /// What.
    pub what: String,
    /// In the one image.
    pub before: Option<String>,
    /// In the other image.
    pub after: Option<String>,
}

/// How a file differs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FileChangeKind {
    /// Only in the other image.
    New,
    /// Only in the one image.
    Gone,
    /// Another kind of thing under the same path.
    Kind,
    /// Other bytes, or another target of a link.
    Content,
    /// Other permission bits.
    Mode,
    /// Another user or group.
    Owner,
}

impl FileChangeKind {
    /// The word for people.
    pub fn name(self) -> &'static str {
        match self {
            Self::New => "new",
            Self::Gone => "gone",
            Self::Kind => "kind",
            Self::Content => "content",
            Self::Mode => "mode",
            Self::Owner => "owner",
        }
    }
}

/// A file that differs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileChange {
    /// Number of the partition.
    pub partition: u32,
    /// Path on it.
    pub path: String,
    /// How.
    pub kind: FileChangeKind,
    /// Length in the one image.
    pub before: Option<u64>,
    /// Length in the other image.
    pub after: Option<u64>,
}

/// All differences.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Differences {
    /// Facts about disk and partitions.
    pub facts: Vec<FactChange>,
    /// Files by partition and path.
    pub files: Vec<FileChange>,
    /// Number of files that are the same in both.
    pub same: u64,
}

/// Is told how many bytes were read since the last time; `false` stops the comparison.
pub type Step<'a> = &'a mut dyn FnMut(u64) -> bool;

/// Compares two disks. Files of equal length are read in both. `None` if `step` stopped it.
///
/// # Errors
/// A disk without a layout. A file system that cannot be read is a fact, not an error.
pub fn compare<A: Disk + ?Sized, B: Disk + ?Sized>(
    a: &A,
    b: &B,
    step: Step<'_>,
) -> Result<Option<Differences>, LayoutError> {
    let (one, two) = (Layout::survey(a)?, Layout::survey(b)?);
    let mut found = Differences::default();
    let mut fact = |what: &str, before: Option<String>, after: Option<String>| {
        if before != after {
            found.facts.push(FactChange {
                what: what.into(),
                before,
                after,
            });
        }
    };
    fact(
        "table",
        Some(one.table.name().into()),
        Some(two.table.name().into()),
    );
    fact(
        "disk identifier",
        Some(one.disk_id.clone()),
        Some(two.disk_id.clone()),
    );
    fact(
        "smallest card",
        Some(format!("{} bytes", one.smallest_card())),
        Some(format!("{} bytes", two.smallest_card())),
    );
    let mut numbers: Vec<_> = one
        .partitions
        .iter()
        .chain(&two.partitions)
        .map(|p| p.number)
        .collect();
    numbers.sort_unstable();
    numbers.dedup();
    let by_number = |layout: &Layout, number| {
        layout
            .partitions
            .iter()
            .find(|p| p.number == number)
            .cloned()
    };
    let pairs: Vec<_> = numbers
        .into_iter()
        .map(|number| (number, by_number(&one, number), by_number(&two, number)))
        .collect();
    for (number, before, after) in &pairs {
        for (what, of) in FACTS {
            fact(
                &format!("partition {number}: {what}"),
                before.as_ref().map(of),
                after.as_ref().map(of),
            );
        }
    }
    for (number, before, after) in pairs {
        let (Some(before), Some(after)) = (before, after) else {
            continue;
        };
        let files_before = fs::open(before.window(a)?);
        let files_after = fs::open(after.window(b)?);
        let compared = match (files_before, files_after) {
            (Ok(Some(before)), Ok(Some(after))) => {
                let mut pair = Pair {
                    partition: number,
                    one: before.as_ref(),
                    two: after.as_ref(),
                    step: &mut *step,
                    stopped: false,
                };
                let compared = pair.compare(&mut found);
                if pair.stopped {
                    return Ok(None);
                }
                compared
            }
            (Err(e), _) | (_, Err(e)) => Err(e),
            _ => Ok(()),
        };
        if let Err(e) = compared {
            found.facts.push(FactChange {
                what: format!("partition {number}: files cannot be compared"),
                before: None,
                after: Some(e.to_string()),
            });
        }
    }
    Ok(Some(found))
}

/// A fact about a partition, as text.
type Fact = (&'static str, fn(&Partition) -> String);

/// What is compared about two partitions of one number.
const FACTS: [Fact; 6] = [
    ("start", |p| format!("byte {}", p.start)),
    ("length", |p| format!("{} bytes", p.len)),
    ("type", |p| p.kind.clone()),
    ("file system", |p| {
        p.file_system
            .as_ref()
            .map_or("none known".into(), |fs| fs.kind.clone())
    }),
    ("label", |p| {
        p.file_system
            .as_ref()
            .and_then(|fs| fs.label.clone())
            .unwrap_or_default()
    }),
    ("file-system UUID", |p| {
        p.file_system
            .as_ref()
            .and_then(|fs| fs.uuid.clone())
            .unwrap_or_default()
    }),
];

fn nodes(files: &dyn Files) -> Result<BTreeMap<String, Node>, FileError> {
    let mut found = BTreeMap::new();
    fs::walk(files, &mut |path, node| {
        found.insert(path.to_owned(), node.clone());
        Ok(())
    })?;
    Ok(found)
}

/// The files of one partition in both images.
struct Pair<'a> {
    partition: u32,
    one: &'a dyn Files,
    two: &'a dyn Files,
    step: Step<'a>,
    stopped: bool,
}

impl Pair<'_> {
    fn compare(&mut self, found: &mut Differences) -> Result<(), FileError> {
        let (before, mut after) = (nodes(self.one)?, nodes(self.two)?);
        let partition = self.partition;
        for (path, a) in before {
            let b = after.remove(&path);
            let kind = match &b {
                None => Some(FileChangeKind::Gone),
                Some(b) if a.kind != b.kind => Some(FileChangeKind::Kind),
                Some(b) if self.differs(&path, &a, b)? => Some(FileChangeKind::Content),
                Some(b) if a.mode != b.mode => Some(FileChangeKind::Mode),
                Some(b) if a.owner != b.owner => Some(FileChangeKind::Owner),
                Some(_) => None,
            };
            match kind {
                Some(kind) => found.files.push(FileChange {
                    partition,
                    path,
                    kind,
                    before: Some(a.len),
                    after: b.map(|b| b.len),
                }),
                None => {
                    found.same = found
                        .same
                        .saturating_add(u64::from(a.kind == NodeKind::File))
                }
            }
        }
        found
            .files
            .extend(after.into_iter().map(|(path, node)| FileChange {
                partition,
                path,
                kind: FileChangeKind::New,
                before: None,
                after: Some(node.len),
            }));
        Ok(())
    }

    fn differs(&mut self, path: &str, a: &Node, b: &Node) -> Result<bool, FileError> {
        Ok(match a.kind {
            NodeKind::File if a.len != b.len => true,
            NodeKind::File => self.digest(self.one, path)? != self.digest(self.two, path)?,
            NodeKind::Link => a.target != b.target,
            _ => false,
        })
    }

    fn digest(&mut self, files: &dyn Files, path: &str) -> Result<blake3::Hash, FileError> {
        let mut hasher = blake3::Hasher::new();
        files.read_into(path, &mut |piece| {
            hasher.update(piece);
            if (self.step)(piece.len() as u64) {
                return Ok(());
            }
            self.stopped = true;
            Err(std::io::Error::other("stopped"))
        })?;
        Ok(hasher.finalize())
    }
}
