//! Notes in the vault: what is said of a manifest for those who find the vault without its records. Each is JSON, and
//! says whose content it is.

use std::collections::HashSet;

use serde::{Deserialize, Serialize};
use serde_json::Value;
use time::OffsetDateTime;
use vault::Name;

/// Version of what a note says.
const FORMAT: u32 = 1;

/// What is said of a manifest.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Note {
    /// Version of it.
    pub format: u32,
    /// `release`, `backup`, `imprint` or `records`.
    pub what: String,
    /// Name of it.
    pub name: String,
    /// The manifest, in hexadecimal digits.
    pub manifest: String,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who made it.
    pub by: String,
    /// Everything that the records say of it.
    pub about: Value,
}

impl Note {
    /// The note of a manifest, as it is kept.
    pub fn text(
        what: &str,
        name: &str,
        by: &str,
        about: &impl Serialize,
        manifest: Name,
    ) -> String {
        let now = OffsetDateTime::now_utc();
        Self::text_of(what, name, by, now, about, manifest)
    }

    /// The same of what was made at another time.
    pub fn text_of(
        what: &str,
        name: &str,
        by: &str,
        at: OffsetDateTime,
        about: &impl Serialize,
        manifest: Name,
    ) -> String {
        let note = Self {
            format: FORMAT,
            what: what.into(),
            name: name.into(),
            manifest: hex::encode(manifest.0),
            at,
            by: by.into(),
            about: serde_json::to_value(about).unwrap_or_default(),
        };
        serde_json::to_string(&note).unwrap_or_default()
    }

    /// Reads a note; nothing if it is none, or of a version that is not known.
    pub fn read(text: &str) -> Option<Self> {
        let note: Self = serde_json::from_str(text).ok()?;
        (note.format == FORMAT).then_some(note)
    }

    /// The manifest that it is of.
    pub fn of(&self) -> Option<Name> {
        let bytes = hex::decode(&self.manifest).ok()?;
        Some(Name(bytes.try_into().ok()?))
    }
}

/// Whether a note stays when the vault is tidied: its manifest does. One that cannot be read may mean something to a
/// later version.
pub fn stays(text: &str, is_kept: &dyn Fn(Name) -> bool) -> bool {
    Note::read(text)
        .and_then(|note| note.of())
        .is_none_or(is_kept)
}

/// What a note says of itself, without what the records say of its manifest: thousands of them are in memory at once.
#[derive(Clone, Debug, PartialEq)]
pub struct Head {
    /// What it is of.
    pub what: String,
    /// Name of that.
    pub name: String,
    /// When it was made.
    pub at: OffsetDateTime,
    /// Who made it.
    pub by: String,
    /// The manifest.
    pub of: Name,
    /// Of a copy of the records: its number, as the records counted it. Copies of the first days have none.
    pub copy: Option<i64>,
}

/// The heads of notes.
pub fn heads(notes: impl Iterator<Item = (Name, String)>) -> Vec<Head> {
    let read = notes.filter_map(|(_, text)| {
        let note = Note::read(&text)?;
        Some(Head {
            of: note.of()?,
            copy: note.about.get("copy").and_then(Value::as_i64),
            what: note.what,
            name: note.name,
            at: note.at,
            by: note.by,
        })
    });
    read.collect()
}

impl Head {
    /// The number of an imprint.
    pub fn imprint(&self) -> Option<i64> {
        let number = self.name.strip_prefix("imprint ")?;
        (self.what == "imprint")
            .then(|| number.parse().ok())
            .flatten()
    }
}

/// So many copies of the records stay in the vault.
const RECORDS: usize = 14;

/// The copies of the records that the vault holds, the newest first: by the numbers that the records gave them, since a
/// clock may have run ahead; those of the first days, which have none, by their dates behind all others.
pub fn records_copies(notes: &[Head]) -> Vec<&Head> {
    let mut all: Vec<_> = notes.iter().filter(|note| note.what == "records").collect();
    all.sort_unstable_by_key(|note| std::cmp::Reverse((note.copy, note.at, note.of)));
    all
}

/// The largest number of a copy of the records.
pub fn last_copy(notes: &[Head]) -> i64 {
    notes.iter().filter_map(|note| note.copy).max().unwrap_or(0)
}

/// What the records know of that notes tell of.
#[derive(Debug, Default)]
pub struct Known {
    /// Backups and releases, as what and name.
    pub contents: HashSet<(String, String)>,
    /// Numbers of imprints that they do not know, out of those that notes tell of.
    pub unknown_imprints: HashSet<i64>,
}

impl Known {
    /// Whether the records know what a note tells of.
    pub fn knows(&self, note: &Head) -> bool {
        match note.what.as_str() {
            "backup" | "release" => self
                .contents
                .contains(&(note.what.clone(), note.name.clone())),
            _ => note
                .imprint()
                .is_none_or(|number| !self.unknown_imprints.contains(&number)),
        }
    }
}

/// What stays although no record names it: the newest copies of the records, and what only the vault knows, as after the
/// records were brought back from an earlier day. A copy that is not `whole` brings nothing back, and stays only where
/// none is whole.
pub fn kept_by_notes(notes: &[Head], known: &Known, whole: &dyn Fn(Name) -> bool) -> Vec<Name> {
    let unknown = notes
        .iter()
        .filter(|note| !known.knows(note))
        .map(|note| note.of);
    let copies: Vec<Name> = records_copies(notes).iter().map(|copy| copy.of).collect();
    let good: Vec<Name> = copies
        .iter()
        .copied()
        .filter(|name| whole(*name))
        .take(RECORDS)
        .collect();
    let copies = match good.is_empty() {
        true => copies.into_iter().take(RECORDS).collect(),
        false => good,
    };
    copies.into_iter().chain(unknown).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_only_the_vault_knows_stays_and_so_do_the_newest_records() {
        let mut notes: Vec<(Name, String)> = (0..20)
            .map(|n| {
                (
                    Name([n; 32]),
                    Note::text("records", "day", "service", &n, Name([n; 32])),
                )
            })
            .collect();
        for (n, what) in [
            (100, "backup"),
            (101, "release"),
            (102, "imprint"),
            (103, "backup"),
            (104, "imprint"),
        ] {
            let name = format!("{what} {n}");
            notes.push((
                Name([n; 32]),
                Note::text(what, &name, "Marit", &n, Name([n; 32])),
            ));
        }
        notes.push((Name([200; 32]), "what a later version says".into()));
        let notes = heads(notes.into_iter());
        assert_eq!(notes.len(), 25);
        let known = Known {
            contents: HashSet::from([("backup".to_owned(), "backup 103".to_owned())]),
            unknown_imprints: HashSet::from([104]),
        };
        let kept = kept_by_notes(&notes, &known, &|_| true);
        assert_eq!(kept.len(), RECORDS + 3, "{kept:?}");
        let has = |n: u8| kept.contains(&Name([n; 32]));
        assert!(has(100) && has(101) && !has(102) && !has(103) && has(104));
        assert!(has(19) && has(6) && !has(5), "the newest copies");
        // A damaged one takes no place of a whole one.
        let kept = kept_by_notes(&notes, &known, &|name| name != Name([19; 32]));
        assert!(!kept.contains(&Name([19; 32])) && kept.contains(&Name([5; 32])));
        let kept = kept_by_notes(&notes, &known, &|_| false);
        assert!(kept.contains(&Name([19; 32])));
    }

    #[test]
    fn copies_of_the_records_are_ordered_by_what_the_records_count() {
        let day = time::Duration::days(1);
        let copy = |number: Option<i64>, days: i32, of: u8| Head {
            what: "records".into(),
            name: "day".into(),
            at: OffsetDateTime::UNIX_EPOCH + day * days,
            by: "service".into(),
            of: Name([of; 32]),
            copy: number,
        };
        // The second was kept while the clock ran ten years ahead; the last two before there were numbers.
        let all = [
            copy(Some(1), 100, 1),
            copy(Some(2), 3750, 2),
            copy(Some(3), 102, 3),
            copy(None, 98, 4),
            copy(None, 99, 5),
        ];
        let order: Vec<u8> = records_copies(&all).iter().map(|one| one.of.0[0]).collect();
        assert_eq!((order, last_copy(&all)), (vec![3, 2, 1, 5, 4], 3));
    }

    #[test]
    fn a_note_stays_with_its_manifest() {
        let text = Note::text("backup", "quay-03.2026-11-20", "Marit", &"x", Name([7; 32]));
        let note = Note::read(&text).unwrap();
        assert_eq!(
            (note.of(), note.what.as_str()),
            (Some(Name([7; 32])), "backup")
        );
        assert!(stays(&text, &|name| name == Name([7; 32])));
        assert!(!stays(&text, &|_| false));
        assert!(stays("what a later version says", &|_| false));
    }
}
