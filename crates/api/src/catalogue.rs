//! Requests and answers of the catalogue: releases, what was found in them, where they came from,
//! what they suit, and the feeds of publishers.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{DiffLine, Partition, Setting, SlotName};

/// A release to add. Exactly one of `upload`, `folder_file`, `url` and `feed` says where the image
/// is.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewRelease {
    /// An upload that is whole.
    #[serde(default)]
    pub upload: Option<String>,
    /// A file in the import folder of the service.
    #[serde(default)]
    pub folder_file: Option<String>,
    /// An address to fetch from.
    #[serde(default)]
    pub url: Option<String>,
    /// User for that address, used once and not kept.
    #[serde(default)]
    pub url_user: Option<String>,
    /// Password for that address, used once and not kept.
    #[serde(default)]
    pub url_password: Option<String>,
    /// Feed that `feed_item` is in.
    #[serde(default)]
    pub feed: Option<String>,
    /// Item of the feed.
    #[serde(default)]
    pub feed_item: Option<String>,
    /// Text of the release sheet; without one a minimal sheet is made from what is found.
    #[serde(default)]
    pub sheet: Option<String>,
    /// Appliance, where there is no sheet.
    #[serde(default)]
    pub appliance: Option<String>,
    /// Variant, where there is no sheet.
    #[serde(default)]
    pub variant: Option<String>,
    /// Version, where there is no sheet.
    #[serde(default)]
    pub version: Option<String>,
    /// Board models, where there is no sheet.
    #[serde(default)]
    pub boards: Vec<String>,
    /// SHA-256 as the publisher gives it: 64 hex digits, or the text of a checksum file.
    #[serde(default)]
    pub sha256: Option<String>,
    /// Which file of an archive is the image, where it holds several.
    #[serde(default)]
    pub member: Option<String>,
    /// Keep the packed file too.
    #[serde(default)]
    pub keep_file: bool,
    /// Add it as a draft, to be tried first.
    #[serde(default)]
    pub draft: bool,
}

/// Where a release came from and how it was checked.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Origin {
    /// upload, folder, url or feed.
    pub way: String,
    /// File name, path or address.
    pub from: String,
    /// The file of an archive that was taken.
    #[serde(default)]
    pub member: Option<String>,
    /// SHA-256 as the publisher gave it.
    #[serde(default)]
    pub published_sha256: Option<String>,
    /// What that was equal to: packed or raw.
    #[serde(default)]
    pub compared_with: Option<String>,
    /// Releases that held the same content already.
    #[serde(default)]
    pub same_as: Vec<String>,
}

/// Something noteworthy about an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// note, caution or serious.
    pub severity: String,
    /// A stable word for programs.
    pub code: String,
    /// A sentence.
    pub text: String,
}

/// Bytes that belong to no partition.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Gap {
    /// First byte.
    pub start: u64,
    /// Length.
    pub len: u64,
}

/// What was found in an image beside its partitions.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Inspection {
    /// Processor architectures of its programs and kernels.
    #[serde(default)]
    pub architectures: Vec<String>,
    /// Kinds of boot files.
    #[serde(default)]
    pub boot: Vec<String>,
    /// File that enlarges the root at first boot.
    #[serde(default)]
    pub grower: Option<String>,
    /// What lies between, before and behind the partitions.
    #[serde(default)]
    pub gaps: Vec<Gap>,
    /// Where data behind the last partition ends, if there is any.
    #[serde(default)]
    pub behind: Option<u64>,
    /// What is noteworthy, most serious first.
    #[serde(default)]
    pub findings: Vec<Finding>,
}

/// A release in the catalogue.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Release {
    /// Appliance, variant, version in one.
    pub name: String,
    /// Appliance.
    pub appliance: String,
    /// Variant.
    pub variant: Option<String>,
    /// Version.
    pub version: String,
    /// Day of the release.
    pub dated: Option<String>,
    /// Board models that it suits by its sheet.
    pub boards: Vec<String>,
    /// draft, released or withdrawn.
    pub state: String,
    /// Name of the file that it came from.
    pub source: String,
    /// How that file was packed: plain, gzip, xz, bzip2, zstd, zip, or one in another.
    pub packing: String,
    /// Length of that file.
    pub packed_size: u64,
    /// SHA-256 of that file, in hex.
    pub packed_sha256: String,
    /// Length of the raw image.
    pub raw_size: u64,
    /// SHA-256 of the raw image, in hex.
    pub raw_sha256: String,
    /// Bytes of it that matter.
    pub content: u64,
    /// Fewest bytes that a card must hold: the larger of what the image and the sheet say.
    pub smallest_card: u64,
    /// Bytes that it added to the vault.
    pub stored: u64,
    /// Board models on which it is the current release.
    pub current_for: Vec<String>,
    /// Devices whose card carries it.
    pub devices: u32,
    /// Who added it.
    pub added_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub added_at: OffsetDateTime,
}

/// A release with all that is known about it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ReleaseDetail {
    /// The release.
    pub release: Release,
    /// Where it came from.
    pub origin: Origin,
    /// Whether the packed file is kept.
    pub kept: bool,
    /// MBR, GPT or none.
    pub table: String,
    /// Identifier of the disk in its table.
    pub disk_id: String,
    /// Its partitions.
    pub partitions: Vec<Partition>,
    /// What else was found.
    pub inspection: Inspection,
    /// Fewest bytes that a card must hold, as the image alone says.
    pub computed_card: u64,
    /// The same if the last file system were shrunk.
    pub shrunk_card: Option<u64>,
    /// The smallest card as the sheet says.
    pub declared_card: Option<u64>,
    /// The card that the sheet advises.
    pub advised_card: Option<u64>,
    /// Text of the release sheet.
    pub sheet: String,
    /// Which text of the sheet it is, from 1.
    pub sheet_revision: i32,
    /// Former texts, newest first.
    pub revisions: Vec<SheetRevision>,
    /// Fields that it declares.
    pub fields: Vec<Setting>,
    /// Notes of the sheet.
    pub notes: Option<String>,
    /// Licence.
    pub licence: Option<String>,
    /// Guides.
    pub links: Vec<Link>,
    /// Logins that everybody knows.
    pub logins: Vec<Login>,
    /// What the first boot looks like.
    pub first_boot: FirstBoot,
    /// States it was in, newest first.
    pub states: Vec<StateChange>,
    /// Where it is or was current, newest first.
    pub currents: Vec<Current>,
    /// What was noted at the bench, newest first.
    pub evidence: Vec<Evidence>,
    /// Devices whose card carries it.
    pub carriers: Vec<Carrier>,
    /// How many cards carry it.
    pub cards: u64,
}

/// A page to read.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Link {
    /// What is found there.
    pub title: String,
    /// Where.
    pub url: String,
}

/// A login that the image comes with.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Login {
    /// User name.
    pub user: String,
    /// Password that everybody knows.
    pub password: Option<String>,
    /// Where it is asked for.
    pub at: Option<String>,
}

/// What the first boot looks like.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FirstBoot {
    /// Minutes until it answers.
    pub minutes: Option<f64>,
    /// Whether it needs the internet.
    pub internet: bool,
    /// The page that answers.
    pub page: Option<String>,
    /// What a person has to do.
    pub steps: Vec<String>,
}

/// One text that a sheet had.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SheetRevision {
    /// Its number, from 1.
    pub revision: i32,
    /// The text.
    pub sheet: String,
    /// Who gave it.
    pub operator: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
}

/// Another text for a sheet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewSheet {
    /// The text. Appliance, variant and version must stay.
    pub sheet: String,
}

/// One state that a release was in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StateChange {
    /// draft, released or withdrawn.
    pub state: String,
    /// Why.
    pub reason: String,
    /// Who said so.
    pub operator: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
}

/// A state to put a release into.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewState {
    /// draft, released or withdrawn.
    pub state: String,
    /// Why; required to withdraw.
    #[serde(default)]
    pub reason: String,
}

/// Where a release is or was the current one.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Current {
    /// Appliance.
    pub appliance: String,
    /// Variant.
    pub variant: Option<String>,
    /// Board model.
    pub board: String,
    /// Release.
    pub release: String,
    /// Who said so.
    pub operator: String,
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub from_at: OffsetDateTime,
    /// Until when; none while it is.
    #[serde(with = "time::serde::rfc3339::option")]
    pub until_at: Option<OffsetDateTime>,
}

/// Board models to make a release current for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewCurrent {
    /// Board models; all that the sheet names if empty.
    #[serde(default)]
    pub boards: Vec<String>,
}

/// What somebody saw at the bench.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Evidence {
    /// Release.
    pub release: String,
    /// Board model.
    pub board: String,
    /// Whether it boots.
    pub boots: bool,
    /// In words.
    pub note: String,
    /// Who saw it.
    pub operator: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
}

/// Something to note.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewEvidence {
    /// Board model.
    pub board: String,
    /// Whether it boots.
    pub boots: bool,
    /// In words.
    #[serde(default)]
    pub note: String,
}

/// A card that carries a release, whole.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Carrier {
    /// Device that it was written for.
    pub device: Option<String>,
    /// Whether it is that device's newest card.
    pub carried: bool,
    /// Label of the card.
    pub card: String,
    /// The imprint that put it there.
    pub imprint: i64,
    /// When.
    #[serde(with = "time::serde::rfc3339::option")]
    pub written_at: Option<OffsetDateTime>,
}

/// A release as a choice for a device.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Choice {
    /// The release.
    pub release: String,
    /// draft, released or withdrawn.
    pub state: String,
    /// Whether it is current for the device's board model.
    pub current: bool,
    /// Whether the device would get it as things stand.
    pub followed: bool,
    /// Whether it suits the device.
    pub fits: bool,
    /// Why not, or what is known in favour of it.
    pub reasons: Vec<String>,
}

/// What a device follows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Following {
    /// A release to stay with; none to follow what is current.
    pub pinned: Option<String>,
}

/// The catalogue of one appliance.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Line {
    /// Appliance.
    pub appliance: String,
    /// Variant.
    pub variant: Option<String>,
    /// The newest release that was not withdrawn and is no draft.
    pub newest: Option<String>,
    /// What is current, by board model.
    pub currents: Vec<Current>,
    /// Its releases, newest version first.
    pub releases: Vec<Release>,
    /// Devices that become it.
    pub devices: u32,
    /// Devices among them whose card must be written again.
    pub to_write: u32,
}

/// Two releases or backups to compare.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewComparison {
    /// The one.
    pub a: String,
    /// The other.
    pub b: String,
}

/// What two releases or backups differ in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Comparison {
    /// The one.
    pub a: String,
    /// The other.
    pub b: String,
    /// About the disk and its partitions.
    pub partitions: Vec<Difference>,
    /// Files, the first of them.
    pub files: Vec<FileDifference>,
    /// How many files are new, gone and changed, and how many are the same.
    pub counts: FileCounts,
    /// Keys of the sheets.
    pub sheet: Vec<Difference>,
}

/// A card to compare with its imprint.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewDrift {
    /// Slot of the card.
    pub slot: SlotName,
}

/// How a card differs from what was written onto it: the result of the job that compared them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Drift {
    /// Label of the card.
    pub card: String,
    /// Device that it was made for.
    pub device: Option<String>,
    /// Number of the imprint.
    pub imprint: i64,
    /// What was written.
    pub base: String,
    /// About the disk and its partitions: then, and now.
    pub partitions: Vec<Difference>,
    /// Files, the first of them: then, and now.
    pub files: Vec<FileDifference>,
    /// How many files are new, gone and changed, and how many are the same.
    pub counts: FileCounts,
}

/// One thing that differs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Difference {
    /// What.
    pub what: String,
    /// In the one.
    pub a: Option<String>,
    /// In the other.
    pub b: Option<String>,
}

/// A file that differs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FileDifference {
    /// Partition.
    pub partition: u32,
    /// Path on it.
    pub path: String,
    /// new, gone, content, kind, mode or owner.
    pub change: String,
    /// Length in the one.
    pub a_len: Option<u64>,
    /// Length in the other.
    pub b_len: Option<u64>,
    /// Whether it is no news that it differs: the stamp does on each card.
    #[serde(default)]
    pub expected: bool,
}

/// One file of two contents, line by line.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FileComparison {
    /// The one.
    pub a: String,
    /// The other.
    pub b: String,
    /// Partition.
    pub partition: u32,
    /// Path on it.
    pub path: String,
    /// Its lines.
    pub lines: Vec<DiffLine>,
    /// Why it is not compared line by line.
    #[serde(default)]
    pub why_not: Option<String>,
}

/// How many files of each kind of change there are.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct FileCounts {
    /// Only in the other.
    pub new: u64,
    /// Only in the one.
    pub gone: u64,
    /// In both, but different.
    pub changed: u64,
    /// The same in both.
    pub same: u64,
}

/// One name in a folder of an image.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FileNode {
    /// Name.
    pub name: String,
    /// file, folder, link or other.
    pub kind: String,
    /// Length.
    pub len: u64,
    /// Permission bits in octal.
    pub mode: Option<String>,
    /// User and group.
    pub owner: Option<String>,
    /// When its content was changed last, by the clock of whoever did.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub modified: Option<OffsetDateTime>,
    /// Target of a link.
    pub target: Option<String>,
}

/// A file in the import folder of the service.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FolderFile {
    /// Name.
    pub name: String,
    /// Length.
    pub size: u64,
    /// Whether a sheet lies beside it.
    pub sheet: bool,
}

/// The import folder of the service.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Folder {
    /// Where it is; none if it is not configured.
    pub path: Option<String>,
    /// Its files by name, sheets left out.
    pub files: Vec<FolderFile>,
}

/// A publisher that the team follows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Feed {
    /// Short name.
    pub name: String,
    /// Address of the feed.
    pub url: String,
    /// User, where the publisher wants one.
    pub user: Option<String>,
    /// When it was last looked at.
    #[serde(with = "time::serde::rfc3339::option")]
    pub looked_at: Option<OffsetDateTime>,
    /// What went wrong then.
    pub trouble: Option<String>,
    /// What is in it, newest first.
    pub items: Vec<FeedItem>,
}

/// A feed to follow.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewFeed {
    /// Address of the feed.
    pub url: String,
    /// User, where the publisher wants one.
    #[serde(default)]
    pub user: Option<String>,
    /// Password; kept sealed.
    #[serde(default)]
    pub password: Option<String>,
}

/// Something in a feed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FeedItem {
    /// The publisher's name of it.
    pub item: String,
    /// Appliance.
    pub appliance: String,
    /// Variant.
    pub variant: Option<String>,
    /// Version.
    pub version: String,
    /// Day.
    pub date: Option<String>,
    /// Length of the file, if the publisher says.
    pub size: Option<u64>,
    /// In words.
    pub notes: Option<String>,
    /// Whether it was not there at the look before.
    pub new: bool,
    /// When it was first seen.
    #[serde(with = "time::serde::rfc3339")]
    pub first_seen: OffsetDateTime,
    /// The release that was made of it.
    pub release: Option<String>,
}
