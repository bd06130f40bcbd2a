//! Backups: cards read into the vault, what was shown of them, how many stay.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{Partition, SlotName};

/// A backup to take.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewBackup {
    /// Slot of the card.
    pub slot: SlotName,
    /// Why, such as `before changing the level sensor`.
    #[serde(default)]
    pub reason: String,
    /// Whether the card is not read a second time. The backup is shown as unverified then.
    #[serde(default)]
    pub unverified: bool,
}

/// A disk image from elsewhere that becomes a backup.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewImageBackup {
    /// An upload that is whole.
    pub upload: String,
    /// Device whose backup it becomes.
    #[serde(default)]
    pub device: Option<String>,
    /// Why, or what it is.
    #[serde(default)]
    pub reason: String,
}

/// What is told of a backup; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct BackupChange {
    /// Device whose backup it is; empty for nobody's.
    #[serde(default)]
    pub device: Option<String>,
    /// Why it was taken.
    #[serde(default)]
    pub reason: Option<String>,
    /// Whether it stays whatever the keep rules say.
    #[serde(default)]
    pub pinned: Option<bool>,
}

/// What was shown of a backup.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Proof {
    /// `bytes` (every chunk of it was read and authenticated), `file-systems` (looked through by our own checks, as it
    /// would lie on a card), `files` (what its first boot needs is there), `boots` (a stand-in board boots it).
    pub level: String,
    /// Whether it holds.
    pub holds: bool,
    /// What was seen.
    pub words: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who had it proven.
    pub by: String,
}

/// Whether a backup is whole, as far as is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BackupHealth {
    /// It was compared when it was taken, or a restore test passed since, and nothing speaks against it.
    Verified,
    /// It was never compared, and nothing speaks against it.
    NotVerified,
    /// A restore test did not pass.
    TestFailed,
    /// Pieces of it are missing in the vault or damaged: it cannot be restored.
    Damaged,
}

/// A card read into the vault.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Backup {
    /// Name, made by the service.
    pub name: String,
    /// Label of the card that was read; none of a disk image that was brought in.
    #[serde(default)]
    pub card: Option<String>,
    /// Device whose card it was.
    pub device: Option<String>,
    /// Why it was taken.
    pub reason: String,
    /// Whether it stays whatever the keep rules say.
    pub pinned: bool,
    /// Size of the card.
    pub card_size: u64,
    /// Bytes that were read.
    pub content: u64,
    /// Fewest bytes that a card must hold for a restore; its last file system is shrunk where it has to be.
    pub smallest_card: u64,
    /// Fewest bytes that a card must hold for it as it is.
    pub whole_card: u64,
    /// What was noteworthy about the card when it was read, such as that its board had not been shut down.
    pub remarks: Vec<String>,
    /// Bytes that it added to the vault.
    pub stored: u64,
    /// How it was verified; empty if it was not.
    pub verified: String,
    /// Whether it is whole, as far as is known.
    pub health: BackupHealth,
    /// What speaks against it.
    #[serde(default)]
    pub health_words: Option<String>,
    /// What was shown of it since, the newest of each level.
    pub proofs: Vec<Proof>,
    /// The highest level that holds and was shown in the last 90 days, or nothing.
    #[serde(default)]
    pub proven: Option<String>,
    /// MBR or GPT.
    pub table: String,
    /// Its partitions.
    pub partitions: Vec<Partition>,
    /// Who took it.
    pub taken_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub taken_at: OffsetDateTime,
    /// When its content was let go.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub gone_at: Option<OffsetDateTime>,
    /// Why, and by whom.
    #[serde(default)]
    pub gone_why: Option<String>,
}

/// How many backups stay: so many of the newest, and the newest of so many days, weeks and months. The newest that was
/// verified or proven never goes, nor does a pinned one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeepRule {
    /// The newest, from 1.
    pub newest: u32,
    /// Days.
    pub daily: u32,
    /// Weeks, which begin on Monday.
    pub weekly: u32,
    /// Months.
    pub monthly: u32,
}

/// The keep rule of the team or a device.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct KeepChange {
    /// A device with a rule of its own; the team, where none is named.
    #[serde(default)]
    pub device: Option<String>,
    /// The rule; where none is given, that of the team counts for the device, and for the team nothing goes by itself.
    #[serde(default)]
    pub rule: Option<KeepRule>,
}

/// What the keep rules would do now, or did.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct KeepReport {
    /// The rule that counts for a device, and where it comes from.
    pub rules: Vec<KeptBy>,
    /// Backups that go.
    pub go: Vec<String>,
    /// Backups that stay, with the reason for each.
    pub stay: Vec<Stays>,
    /// Bytes that tidying the vault frees then: measured, not summed. Nothing where it is not known, because something
    /// that is kept is damaged.
    #[serde(default)]
    pub frees: Option<u64>,
    /// Time zone whose days, weeks and months count.
    #[serde(default)]
    pub zone: String,
    /// Whether it was done.
    pub done: bool,
}

/// Which rule counts.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KeptBy {
    /// A device with a rule of its own, or nothing for all others.
    #[serde(default)]
    pub device: Option<String>,
    /// The rule; none keeps everything.
    #[serde(default)]
    pub rule: Option<KeepRule>,
}

/// A backup that stays.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Stays {
    /// Its name.
    pub backup: String,
    /// Why: `newest`, `day`, `week`, `month`, `pinned`, `last good`, `last unharmed`, `none is whole`, `no rule`.
    pub why: String,
}

/// That backups go whose time is over.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct KeepNow {
    /// Whether it is only said what would go.
    #[serde(default)]
    pub dry_run: bool,
}

/// How often devices shall be backed up.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct BackupInterval {
    /// A device.
    #[serde(default)]
    pub device: Option<String>,
    /// Each device of an appliance.
    #[serde(default)]
    pub appliance: Option<String>,
    /// Days between backups; none where they need not be.
    #[serde(default)]
    pub days: Option<u32>,
}

/// How far a backup is to be proven.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewProof {
    /// `bytes`, `file-systems`, `files` or `boots`; what is below it is shown first.
    pub level: String,
}

/// How the used data of a device grew over its backups.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Headroom {
    /// Each backup, the oldest first.
    pub points: Vec<HeadroomPoint>,
    /// When its card will be full if it goes on so.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub full_at: Option<OffsetDateTime>,
    /// What to see to, a sentence each.
    pub warnings: Vec<String>,
}

/// What a backup found in use.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HeadroomPoint {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Bytes in use.
    pub used: u64,
    /// Size of the card.
    pub card_size: u64,
}

/// The versions of a file in some backups of a device, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FileVersions {
    /// The versions that were found in them.
    pub versions: Vec<FileVersion>,
    /// How many backups were looked through.
    pub looked_through: u32,
    /// Give it as `after` to look through older ones; none behind the last.
    pub next: Option<String>,
}

/// One version of a file, and the backups that hold it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FileVersion {
    /// SHA-256 of its bytes in hexadecimal.
    pub sha256: String,
    /// Length in bytes.
    pub len: u64,
    /// When it was changed last, by the clock of the board.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub modified: Option<OffsetDateTime>,
    /// The backups, newest first.
    pub backups: Vec<HeldBy>,
}

/// A backup that holds something.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HeldBy {
    /// Its name.
    pub backup: String,
    /// When it was taken.
    #[serde(with = "time::serde::rfc3339")]
    pub taken_at: OffsetDateTime,
}

/// What is taken out of a backup before somebody else gets it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Shared {
    /// The backup.
    pub backup: String,
    /// Files that are changed or left out.
    pub removed: Vec<TakenOut>,
    /// What could not be known, a sentence each.
    pub unknown: Vec<String>,
}

/// A file that is changed or left out before somebody else gets it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TakenOut {
    /// Partition.
    pub partition: u32,
    /// Path on it.
    pub path: String,
    /// Why, and what became of it.
    pub why: String,
}

/// What a backup of the card in a slot would come to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BackupOutlook {
    /// Slot of the card.
    pub slot: SlotName,
    /// Its label, if it has one.
    pub card: Option<String>,
    /// The device whose it is, if that is known.
    pub device: Option<String>,
    /// Bytes that are in use on it, which are read.
    pub content: u64,
    /// Bytes that are likely to be new in the vault.
    pub expected: u64,
    /// By what that is told.
    pub by: String,
    /// Bytes that are free where the vault lies, where that can be told.
    pub free: Option<u64>,
    /// How long it takes, in seconds, where that can be told.
    pub seconds: Option<f64>,
    /// What is noteworthy about it, such as that its board was not shut down.
    pub remarks: Vec<String>,
    /// Its partitions.
    pub partitions: Vec<Partition>,
    /// Why it would be refused for want of room.
    #[serde(default)]
    pub too_much: Option<String>,
}
