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
        let note = Self {
            format: FORMAT,
            what: what.into(),
            name: name.into(),
            manifest: hex::encode(manifest.0),
            at: OffsetDateTime::now_utc(),
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

/// So many copies of the records stay in the vault.
const RECORDS: usize = 14;

/// The newest copies of the records that the vault holds, the newest first.
pub fn newest_records(notes: &[(Name, String)]) -> Vec<Name> {
    let mut all: Vec<(OffsetDateTime, Name)> = notes
        .iter()
        .filter_map(|(_, text)| Note::read(text))
        .filter(|note| note.what == "records")
        .filter_map(|note| Some((note.at, note.of()?)))
        .collect();
    all.sort_unstable_by(|a, b| b.cmp(a));
    all.into_iter()
        .take(RECORDS)
        .map(|(_, name)| name)
        .collect()
}

/// What stays although no record names it: the newest copies of the records, and backups and releases of which only
/// the vault knows, as after the records were brought back from an earlier day. `known` is what the records know, as
/// what and name.
pub fn kept_by_notes(notes: &[(Name, String)], known: &HashSet<(String, String)>) -> Vec<Name> {
    let unknown = notes
        .iter()
        .filter_map(|(_, text)| Note::read(text))
        .filter(|note| matches!(note.what.as_str(), "backup" | "release"))
        .filter(|note| !known.contains(&(note.what.clone(), note.name.clone())))
        .filter_map(|note| note.of());
    newest_records(notes).into_iter().chain(unknown).collect()
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
        ] {
            let name = format!("{what} {n}");
            notes.push((
                Name([n; 32]),
                Note::text(what, &name, "Marit", &n, Name([n; 32])),
            ));
        }
        let known = HashSet::from([("backup".to_owned(), "backup 103".to_owned())]);
        let kept = kept_by_notes(&notes, &known);
        assert_eq!(kept.len(), RECORDS + 2, "{kept:?}");
        let has = |n: u8| kept.contains(&Name([n; 32]));
        assert!(has(100) && has(101) && !has(102) && !has(103));
        assert!(has(19) && has(6) && !has(5), "the newest copies");
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
