//! The vault: what it holds, and what was found when it was looked at.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// What the vault is and holds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VaultView {
    /// Short name of the key that opens it.
    pub key: String,
    /// Where it lies.
    pub place: String,
    /// Where the second one lies.
    #[serde(default)]
    pub second: Option<String>,
    /// Bytes that it takes.
    pub stored: u64,
    /// Bytes of all contents that are kept, used areas alone, as they would be on disks.
    pub content: u64,
    /// Segments that it lies in.
    pub segments: u64,
    /// Pieces by kind.
    pub pieces: Vec<Pieces>,
    /// The newest look of each kind.
    pub looks: Vec<VaultLook>,
    /// What it held at the end of each day.
    pub sizes: Vec<VaultSize>,
    /// Hours between what is done with it by itself.
    #[serde(default)]
    pub hours: Option<f64>,
    /// Bytes that are free where it lies, if that is a folder.
    #[serde(default)]
    pub free: Option<u64>,
}

/// Pieces of one kind.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Pieces {
    /// `chunks`, `pages`, `manifests` or `notes`.
    pub kind: String,
    /// How many.
    pub count: u64,
    /// Bytes that they take, packed and sealed.
    pub bytes: u64,
}

/// What the vault held at the end of a day.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VaultSize {
    /// The day, such as `2026-11-28`.
    pub day: String,
    /// Bytes that it took.
    pub stored: u64,
    /// Bytes of all contents.
    pub content: u64,
}

/// A look at the vault.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VaultLook {
    /// `inspect`, `tidy` or `copy`.
    pub what: String,
    /// The job.
    #[serde(default)]
    pub job: Option<i64>,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Whether it needs a hand.
    pub bad: bool,
    /// What came of it, a sentence each.
    pub words: Vec<String>,
    /// What is damaged or missing.
    pub touched: Vec<Hurt>,
}

/// Something of which a part is damaged or missing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Hurt {
    /// `release`, `backup` or `imprint`.
    pub what: String,
    /// Its name or number.
    pub name: String,
    /// How many pieces of it are gone.
    pub pieces: u64,
}

/// How much of the vault is to be inspected.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewInspection {
    /// Only a share, in hundredths, behind the one before; all of it otherwise.
    #[serde(default)]
    pub share: Option<u8>,
}

/// How the vault is to be copied.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewCopy {
    /// Whether the second vault may be begun anew where nothing lies, although copies were made to it.
    #[serde(default)]
    pub begin: bool,
}

/// Whether the vault's store answers.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct VaultReach {
    /// Whether it answers now.
    pub answers: bool,
    /// Why not.
    #[serde(default)]
    pub why: Option<String>,
    /// Since when it does not.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub away_since: Option<OffsetDateTime>,
    /// From when it was away last, since the service started.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub last_away_from: Option<OffsetDateTime>,
    /// Until when that was.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub last_away_until: Option<OffsetDateTime>,
}

/// How the vault is to be tidied.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewTidying {
    /// Whether what is sealed under a former key is sealed anew.
    #[serde(default)]
    pub seal_anew: bool,
}

/// A content that a note in the vault tells of.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NotedContent {
    /// `release`, `backup` or `imprint`.
    pub what: String,
    /// Its name.
    pub name: String,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who made it.
    pub by: String,
    /// Whether the records know it.
    pub known: bool,
}

/// What was put back into the records from the vault.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Reindexed {
    /// Backups that the records did not know.
    pub backups: Vec<String>,
    /// Releases that the records did not know.
    pub releases: Vec<String>,
    /// Imprints that the records did not know, with their cards; what became of them shows when those are seen.
    #[serde(default)]
    pub imprints: Vec<String>,
    /// What could not be put back, a sentence each.
    pub problems: Vec<String>,
}

impl Reindexed {
    /// How many of what were put back, in words; nothing where none was.
    pub fn in_words(&self) -> Option<String> {
        let of = [
            (self.releases.len(), "release"),
            (self.backups.len(), "backup"),
            (self.imprints.len(), "imprint"),
        ];
        let some = of.iter().filter(|(number, _)| *number > 0);
        let words: Vec<_> = some
            .map(|(number, what)| match number {
                1 => format!("1 {what}"),
                number => format!("{number} {what}s"),
            })
            .collect();
        (!words.is_empty()).then(|| words.join(", "))
    }
}
