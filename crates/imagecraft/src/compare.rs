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

/// Says whether both disks are known to hold the same in a range of bytes, without a look at them.
pub type Alike<'a> = &'a dyn Fn(u64, u64) -> bool;

/// Compares two disks. Files of equal length are read in both, in the order of the disk, unless they lie
/// in the same place where the disks are known to be `alike`. `None` if `step` stopped it.
///
/// # Errors
/// A disk without a layout. A file system that cannot be read is a fact, not an error.
pub fn compare<A: Disk + ?Sized, B: Disk + ?Sized>(
    a: &A,
    b: &B,
    alike: Alike<'_>,
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
        let start = (before.start == after.start).then_some(before.start);
        let files_before = fs::open(before.window(a)?);
        let files_after = fs::open(after.window(b)?);
        let compared = match (files_before, files_after) {
            (Ok(Some(before)), Ok(Some(after))) => {
                let mut pair = Pair {
                    partition: number,
                    one: before.as_ref(),
                    two: after.as_ref(),
                    start,
                    alike,
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
    /// Where the partition begins in both, if in the same place.
    start: Option<u64>,
    alike: Alike<'a>,
    step: Step<'a>,
    stopped: bool,
}

/// Two regular files of one length that must be read to know.
struct Unknown {
    /// Where the one begins on the disk.
    at: u64,
    path: String,
    a: Node,
    b: Node,
}

impl Pair<'_> {
    fn compare(&mut self, found: &mut Differences) -> Result<(), FileError> {
        let (before, mut after) = (nodes(self.one)?, nodes(self.two)?);
        let (mut changes, mut unknown) = (BTreeMap::new(), Vec::new());
        for (path, a) in before {
            let Some(b) = after.remove(&path) else {
                let gone = self.change(&path, FileChangeKind::Gone, Some(&a), None);
                changes.insert(path, gone);
                continue;
            };
            let kind = match a.kind {
                _ if a.kind != b.kind => Some(FileChangeKind::Kind),
                NodeKind::File if a.len != b.len => Some(FileChangeKind::Content),
                NodeKind::Link if a.target != b.target => Some(FileChangeKind::Content),
                NodeKind::File => match self.place_if_unknown(&a, &b)? {
                    Some(at) => {
                        unknown.push(Unknown { at, path, a, b });
                        continue;
                    }
                    None => of_attributes(&a, &b),
                },
                _ => of_attributes(&a, &b),
            };
            self.note(found, &mut changes, path, kind, &a, &b);
        }
        unknown.sort_by_key(|one| one.at);
        for Unknown { path, a, b, .. } in unknown {
            let same = self.digest(self.one, &a)? == self.digest(self.two, &b)?;
            let kind = match same {
                true => of_attributes(&a, &b),
                false => Some(FileChangeKind::Content),
            };
            self.note(found, &mut changes, path, kind, &a, &b);
        }
        for (path, node) in after {
            let new = self.change(&path, FileChangeKind::New, None, Some(&node));
            changes.insert(path, new);
        }
        found.files.extend(changes.into_values());
        Ok(())
    }

    fn change(
        &self,
        path: &str,
        kind: FileChangeKind,
        a: Option<&Node>,
        b: Option<&Node>,
    ) -> FileChange {
        FileChange {
            partition: self.partition,
            path: path.into(),
            kind,
            before: a.map(|a| a.len),
            after: b.map(|b| b.len),
        }
    }

    fn note(
        &self,
        found: &mut Differences,
        changes: &mut BTreeMap<String, FileChange>,
        path: String,
        kind: Option<FileChangeKind>,
        a: &Node,
        b: &Node,
    ) {
        match kind {
            Some(kind) => {
                let change = self.change(&path, kind, Some(a), Some(b));
                changes.insert(path, change);
            }
            None => {
                found.same = found
                    .same
                    .saturating_add(u64::from(a.kind == NodeKind::File));
            }
        }
    }

    /// Where the first of two files of one length begins on its disk, if they must be read to know
    /// whether they are the same.
    fn place_if_unknown(&mut self, a: &Node, b: &Node) -> Result<Option<u64>, FileError> {
        let (one, two) = (self.one.stretches(a)?, self.two.stretches(b)?);
        let begins = one.as_ref().and_then(|one| one.first());
        let at = begins.map_or(0, |first| first.on_disk);
        let known = match (self.start, &one, &two) {
            (Some(start), Some(one), Some(two)) => {
                one == two
                    && one.iter().all(|stretch| {
                        (self.alike)(start.saturating_add(stretch.on_disk), stretch.len)
                    })
            }
            _ => false,
        };
        if !known {
            return Ok(Some(at));
        }
        // Both count as read.
        if !(self.step)(a.len.saturating_mul(2)) {
            self.stopped = true;
            return Err(FileError::Sink(std::io::Error::other("stopped")));
        }
        Ok(None)
    }

    fn digest(&mut self, files: &dyn Files, node: &Node) -> Result<blake3::Hash, FileError> {
        let mut hasher = blake3::Hasher::new();
        files.read_node(node, &mut |piece| {
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

/// What differs between two files of the same bytes.
fn of_attributes(a: &Node, b: &Node) -> Option<FileChangeKind> {
    if a.mode != b.mode {
        return Some(FileChangeKind::Mode);
    }
    (a.owner != b.owner).then_some(FileChangeKind::Owner)
}
