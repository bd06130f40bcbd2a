//! Requests and answers, one type a noun. Sizes are in bytes, times in RFC 3339.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{PlannedFile, Speed};

use crate::{Names, Page, SlotName};

/// Why a request was refused (RFC 9457).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A few words.
    pub title: String,
    /// HTTP status.
    pub status: u16,
    /// A stable word for programs.
    pub code: String,
    /// What happened and what to do.
    pub detail: String,
    /// What stands against it besides, a sentence each; an extension of the standard's.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub besides: Vec<String>,
    /// Number of the request, by which the service's log has more; an extension of the standard's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<String>,
}

impl Problem {
    /// All that it says, a line for each thing.
    pub fn whole(&self) -> String {
        let besides = self.besides.iter().map(|one| format!("\nbesides, {one}"));
        // What failed in the service itself stands in its log, under this number.
        let request = self.request.as_ref().filter(|_| self.status >= 500);
        let request = request.map(|id| format!("\n(request {id} in the service's log)"));
        std::iter::once(self.detail.clone())
            .chain(besides)
            .chain(request)
            .collect()
    }
}

/// Whether the service is ready.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// `ready`, or `vault-away` where the vault cannot be reached now.
    pub status: String,
    /// Whether the vault answers, and when it last did not.
    #[serde(default)]
    pub vault: crate::VaultReach,
    /// Version of the service.
    pub version: String,
    /// Whether the card reader answers.
    pub bench: bool,
    /// Bytes in the vault.
    pub vault_bytes: u64,
    /// Where the key file lies, for owners: keep a copy of it elsewhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_file: Option<String>,
}

/// How the service is, and everything that needs attention, as the command line tells it to programs.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Status {
    /// How the service is.
    #[serde(flatten)]
    pub health: Health,
    /// What needs attention, the oldest first.
    pub attention: Vec<crate::Attention>,
}

/// A kind of hardware.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct BoardModel {
    /// Short name.
    pub name: String,
    /// Name for people.
    pub title: String,
    /// Processor architecture, such as `arm64`.
    pub architecture: String,
    /// Memory in MB.
    #[serde(default)]
    pub memory_mb: Option<i32>,
    /// What can be plugged in.
    #[serde(default)]
    pub ports: String,
    /// What feeds it.
    #[serde(default)]
    pub power: String,
    /// What its lamps mean.
    #[serde(default)]
    pub lamps: String,
    /// Minutes until it answers.
    #[serde(default)]
    pub boot_minutes: Option<f64>,
    /// Where its card sits.
    #[serde(default)]
    pub card_sits: String,
    /// What each of its lamp patterns means.
    #[serde(default)]
    pub lamp_table: Vec<crate::Lamp>,
}

/// A place with its own network.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Site {
    /// Short name.
    pub name: String,
    /// Name for people.
    pub title: String,
}

/// A device to register.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewDevice {
    /// Name, unique in the team.
    pub name: String,
    /// Board model.
    pub board: String,
    /// Appliance that it becomes.
    pub appliance: String,
    /// Variant of it.
    #[serde(default)]
    pub variant: Option<String>,
    /// Site that it stands on.
    pub site: String,
    /// Notes.
    #[serde(default)]
    pub notes: String,
}

/// A registered device.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Device {
    /// Name.
    pub name: String,
    /// Board model.
    pub board: String,
    /// Appliance.
    pub appliance: String,
    /// Variant.
    pub variant: Option<String>,
    /// Site.
    pub site: String,
    /// Notes.
    pub notes: String,
    /// planned, carded, in service, down or retired.
    pub state: String,
    /// Host name that is set on it.
    pub host_name: Option<String>,
    /// Label of the card that was written for it last, and is still its card.
    pub card: Option<String>,
    /// What became of that write: only a *verified* card is whole.
    #[serde(default)]
    pub card_state: Option<String>,
    /// The release that it stays with; none if it follows what is current.
    pub pinned: Option<String>,
    /// The release that counts for it now.
    pub follows: Option<String>,
    /// The release whose content is on its card, where that is whole.
    pub carries: Option<String>,
    /// The release that it was updated to in place since, as the version that it says tells.
    #[serde(default)]
    pub updated_to: Option<String>,
    /// How it stands against what it should run.
    pub standing: crate::Standing,
    /// Why it stands so, a sentence each, the most serious first; none where it is up to date.
    #[serde(default)]
    pub reasons: Vec<String>,
    /// How often it was changed: what is told about it, and what is set on it.
    pub revision: u64,
    /// What is plugged into it.
    #[serde(default)]
    pub attached: Vec<String>,
    /// Hardware addresses of its ports.
    #[serde(default)]
    pub macs: Vec<String>,
    /// Who registered it.
    pub added_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub added_at: OffsetDateTime,
}

/// A device with all that is known about it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceDetail {
    /// The device.
    pub device: Device,
    /// The release it would be written with.
    pub release: Option<String>,
    /// Every field of that release with its effective value.
    pub settings: Vec<Setting>,
    /// What keeps a card from being made.
    pub problems: Vec<SettingProblem>,
    /// Logins that everybody knows and no setting changes.
    #[serde(default)]
    pub open_logins: Vec<String>,
    /// Sealed facts: their names.
    #[serde(default)]
    pub facts: Vec<DeviceFact>,
    /// Imprints made for it, newest first.
    pub imprints: Vec<Imprint>,
}

/// What is told about a device beside its settings; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct DeviceChange {
    /// Another name.
    #[serde(default)]
    pub name: Option<String>,
    /// Another site.
    #[serde(default)]
    pub site: Option<String>,
    /// Another board model.
    #[serde(default)]
    pub board: Option<String>,
    /// Another appliance; its variant goes with it.
    #[serde(default)]
    pub appliance: Option<String>,
    /// The variant of that appliance.
    #[serde(default)]
    pub variant: Option<String>,
    /// Whether it is retired, or in use again.
    #[serde(default)]
    pub retired: Option<bool>,
    /// Notes.
    #[serde(default)]
    pub notes: Option<String>,
    /// What is plugged into it.
    #[serde(default)]
    pub attached: Option<Vec<String>>,
    /// Hardware addresses of its ports, six pairs of hex digits each.
    #[serde(default)]
    pub macs: Option<Vec<String>>,
}

/// Something found out or agreed when a device was set up; it is sealed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceFact {
    /// What it is, such as `account`.
    pub name: String,
    /// Who told it.
    pub set_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub set_at: OffsetDateTime,
}

/// The content of a sealed fact.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FactValue {
    /// It; `null` takes the fact away.
    pub value: Option<String>,
}

/// A Wi-Fi network without its secret.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetNetwork {
    /// Its name.
    pub name: String,
    /// Whether it does not announce its name.
    pub hidden: bool,
    /// open, wpa2 or wpa3.
    pub security: String,
    /// Stands for the passphrase: the same fingerprint, the same passphrase.
    #[serde(default)]
    pub fingerprint: Option<String>,
}

/// A preset to make.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewPreset {
    /// Name, unique in the team.
    pub name: String,
    /// Name for people.
    #[serde(default)]
    pub title: String,
    /// The site whose devices get it; the whole team if none.
    #[serde(default)]
    pub site: Option<String>,
}

/// Values that several devices share.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Preset {
    /// Name.
    pub name: String,
    /// Name for people.
    pub title: String,
    /// The site whose devices get it; the whole team if none.
    pub site: Option<String>,
    /// Names of the fields it sets.
    pub fields: Vec<String>,
    /// Devices that take at least one value from it.
    pub devices: u64,
    /// Who made it.
    pub added_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub added_at: OffsetDateTime,
}

/// A preset with its values and the devices that it touches.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PresetDetail {
    /// The preset.
    pub preset: Preset,
    /// Its values, secrets masked.
    pub settings: Vec<Setting>,
    /// Fields of the catalogue that it could set too.
    pub unset: Vec<Setting>,
    /// Devices that take values from it, or would after the change that was asked about.
    pub touches: Page<Touched>,
}

/// Another name or title of a preset; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PresetChange {
    /// Another name.
    #[serde(default)]
    pub name: Option<String>,
    /// Another name for people.
    #[serde(default)]
    pub title: Option<String>,
}

/// Another name of a site.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct SiteChange {
    /// It.
    pub name: String,
}

/// A device that a preset touches.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Touched {
    /// Its name.
    pub device: String,
    /// Label of its card.
    pub card: Option<String>,
    /// Fields that it takes from the preset.
    pub fields: Vec<String>,
    /// How the device stands with what the preset says.
    pub standing: crate::Standing,
    /// Why it stands so; none where it is up to date.
    pub reasons: Vec<String>,
    /// What is wrong with its settings then.
    pub problems: Vec<String>,
}

/// A Wi-Fi network as the cards of devices carry it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CarriedNetwork {
    /// Its name.
    pub name: String,
    /// Stands for the passphrase.
    pub fingerprint: Option<String>,
    /// Devices whose card carries it.
    pub devices: Names,
    /// Devices of whose cards it is not known what they carry: they count as carrying it.
    pub not_known: Names,
    /// Devices whose settings have it, whether their card does or not.
    pub set_on: Names,
}

/// The files of a device as they would land on its card.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Preview {
    /// The device.
    pub device: String,
    /// The release that is taken.
    pub release: String,
    /// Its files, in the order in which they are placed.
    pub files: Vec<PreviewFile>,
    /// Who grows the last partition: here, image or none.
    pub grow: String,
    /// What keeps a card from being made.
    pub problems: Vec<SettingProblem>,
}

/// One file beside the release's own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PreviewFile {
    /// The file as it will land.
    pub file: PlannedFile,
    /// The release's own text, if it has one there.
    pub before: Option<String>,
    /// The lines of both.
    pub diff: Vec<DiffLine>,
}

/// A line of a comparison.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DiffLine {
    /// same, added or removed.
    pub change: String,
    /// The line, without its ending.
    pub text: String,
}

/// What came of a table of devices.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct DeviceTableReport {
    /// Rows of the table.
    pub rows: u32,
    /// Rows with problems.
    #[serde(default)]
    pub wrong: u32,
    /// Devices that are new, of rows without problems.
    pub new: Vec<String>,
    /// Devices that are changed, of rows without problems.
    pub changed: Vec<String>,
    /// Everything that is wrong. While there is anything, nothing is taken over.
    pub problems: Vec<RowProblem>,
    /// Whether it was taken over.
    pub done: bool,
}

/// Something wrong in a row.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RowProblem {
    /// Line of the file, from 1.
    pub line: u32,
    /// The column.
    pub column: String,
    /// What is wrong. Holds no secret.
    pub problem: String,
}

/// One field with its effective value.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Setting {
    /// Name of the field.
    pub name: String,
    /// Name for people.
    pub label: String,
    /// Kind of value.
    pub kind: String,
    /// A sentence of help.
    pub help: Option<String>,
    /// Whether a card cannot be made without it.
    pub required: bool,
    /// Whether the value is never shown.
    pub secret: bool,
    /// The value; dots for a secret that is set.
    pub value: Option<String>,
    /// release, preset or device.
    pub origin: Option<String>,
    /// Name of the preset that it comes from.
    #[serde(default)]
    pub preset: Option<String>,
    /// Whether the field counts on this device.
    #[serde(default = "yes")]
    pub applies: bool,
    /// What a choice can be.
    #[serde(default)]
    pub choices: Vec<String>,
    /// The networks of a value that has some.
    #[serde(default)]
    pub networks: Vec<SetNetwork>,
}

fn yes() -> bool {
    true
}

/// Something wrong with a setting.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SettingProblem {
    /// Name of the field.
    pub field: String,
    /// The rule.
    pub rule: String,
}

/// Values to set; `null` clears a field.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct SettingsChange {
    /// By field name.
    pub set: BTreeMap<String, Option<String>>,
}

/// An upload that is begun.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewUpload {
    /// Name of the file.
    pub file_name: String,
    /// Its length.
    pub size: u64,
    /// Text of the release sheet that goes with it: refused now rather than after the upload.
    #[serde(default)]
    pub sheet: Option<String>,
    /// Anything that tells this very file apart: an upload that was begun under the same key goes
    /// on.
    #[serde(default)]
    pub key: Option<String>,
}

/// How far an upload is. Go on from `received` after a cut.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Upload {
    /// Its identifier.
    pub id: String,
    /// Length of the file.
    pub size: u64,
    /// Bytes that have arrived.
    pub received: u64,
}

/// One partition.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Partition {
    /// Number in the table.
    pub number: u32,
    /// First byte.
    pub start: u64,
    /// Length.
    pub len: u64,
    /// What the table calls it.
    pub kind: String,
    /// Name in the table.
    pub name: Option<String>,
    /// File system, such as FAT16 or ext4.
    pub file_system: Option<String>,
    /// Label of the file system.
    pub label: Option<String>,
    /// Identifier that boot arguments may name.
    #[serde(default)]
    pub uuid: Option<String>,
    /// UUID or volume id of the file system.
    #[serde(default)]
    pub fs_uuid: Option<String>,
    /// Bytes in use, where the file system was looked into.
    #[serde(default)]
    pub used: Option<u64>,
    /// Bytes free to the file system.
    #[serde(default)]
    pub free: Option<u64>,
}

/// A slot of the bench.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Slot {
    /// What it is called: its number, and where it is not at the service's own computer, its bench.
    pub name: SlotName,
    /// Its number at its bench.
    pub number: u32,
    /// The bench that it is at, if that is not the service's own computer.
    #[serde(default)]
    pub bench: Option<String>,
    /// Where it is, for people.
    pub place: String,
    /// The reader that it is in: the port that this hangs at, or its own name.
    pub reader: String,
    /// Place in the reader, as the reader counts.
    pub unit: u32,
    /// Why nobody can tell what is in it.
    #[serde(default)]
    pub trouble: Option<String>,
    /// The card in it.
    pub card: Option<SlotCard>,
    /// The job that works on it.
    pub job: Option<i64>,
    /// The last job here, where it failed and nobody has said yet that they saw it.
    #[serde(default)]
    pub failed: Option<i64>,
}

/// A card in a slot.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SlotCard {
    /// Counts the cards put in.
    pub insertion: u64,
    /// Size that it reports.
    pub size: u64,
    /// Kind of medium.
    pub kind: String,
    /// Whether its slider forbids writing.
    pub locked: bool,
    /// What the bench's computer uses it for, if it does.
    #[serde(default)]
    pub in_use: Option<String>,
    /// Under which name the bench's computer has it, such as `/dev/sdb`.
    #[serde(default)]
    pub node: Option<String>,
    /// Its label, if it is known.
    pub label: Option<String>,
    /// Whether it says itself that this is its label. Else it is taken for that card, because it looks like it.
    #[serde(default)]
    pub says_so: bool,
    /// Another slot whose card says that it has the same label: one of the two is a copy.
    #[serde(default)]
    pub twin: Option<SlotName>,
    /// Why nothing is to be written to it, where it is suspect.
    #[serde(default)]
    pub suspicion: Option<String>,
    /// blank, empty, unfinished, ours, foreign, busy or unreadable.
    pub occupant: String,
    /// One line on what is on it.
    pub summary: String,
    /// Device that it was made for.
    pub device: Option<String>,
    /// What it was made from.
    pub base: Option<String>,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub made: Option<OffsetDateTime>,
}

/// The record of one write.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Imprint {
    /// Number.
    pub id: i64,
    /// Label of the card.
    pub card: String,
    /// Device that it was made for.
    pub device: Option<String>,
    /// Release or backup that was written.
    pub base: String,
    /// Whether that was a backup.
    pub from_backup: bool,
    /// Why a withdrawn release was written all the same.
    #[serde(default)]
    pub override_reason: Option<String>,
    /// Names of the cautions of its plan that were accepted.
    #[serde(default)]
    pub accepted: Vec<String>,
    /// What growing the last partition came to.
    #[serde(default)]
    pub growth: Option<String>,
    /// Partitions that were left as they were, and why.
    #[serde(default)]
    pub left_out: Vec<String>,
    /// planned, writing, in doubt (until the card is seen again), verified, incomplete or void.
    pub state: String,
    /// Of a write that did not end well: `unfinished`, so that the card says so itself, or
    /// `may boot`.
    #[serde(default)]
    pub left_as: Option<String>,
    /// Whether the card was shown to hold all that it reports.
    #[serde(default)]
    pub size_proven: bool,
    /// Whether the settings are known: those of a restore may not be.
    #[serde(default)]
    pub settings_known: bool,
    /// Settings, a fingerprint in place of each secret.
    pub settings: Vec<Setting>,
    /// Files as they landed, secrets masked.
    pub files: Vec<PlannedFile>,
    /// Slot that the card was in.
    pub slot: SlotName,
    /// Who wrote it.
    pub operator: String,
    /// Job that wrote it.
    pub job: i64,
    /// Bytes written.
    pub written: Option<u64>,
    /// Bytes read back and found equal.
    pub verified: Option<u64>,
    /// When it began.
    #[serde(with = "time::serde::rfc3339")]
    pub started_at: OffsetDateTime,
    /// When it ended.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub finished_at: Option<OffsetDateTime>,
}

/// Long work.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// Number.
    pub id: i64,
    /// import, write, restore or backup.
    pub kind: String,
    /// waiting, running, done, failed, cancelled or interrupted.
    pub state: String,
    /// What it is about.
    pub subject: String,
    /// Slot that it works on.
    pub slot: Option<SlotName>,
    /// The reader that the slot was in then: the port that it hung at, or its own name.
    #[serde(default)]
    pub reader: Option<String>,
    /// Place in that reader.
    #[serde(default)]
    pub unit: Option<i32>,
    /// Label of the card that it works on.
    pub card: Option<String>,
    /// Who started it.
    pub operator: String,
    /// When it was started.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When it began to work, after it had waited for its turn.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub started_at: Option<OffsetDateTime>,
    /// When it ended.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub finished_at: Option<OffsetDateTime>,
    /// How fast its card was along its length; not in lists.
    #[serde(default)]
    pub speeds: Vec<Speed>,
    /// A stable word for why it failed.
    pub error_code: Option<String>,
    /// Why it failed and what to do.
    pub error: Option<String>,
    /// What came of it: names of the release, imprint, card or backup.
    pub result: Option<serde_json::Value>,
    /// What came of it, a sentence each, for people: the same words wherever it is told.
    #[serde(default)]
    pub closing: Vec<String>,
    /// How far it is, while it runs.
    pub progress: Option<Progress>,
}

impl Job {
    /// Whether it has ended, well or not.
    pub fn is_over(&self) -> bool {
        !matches!(self.state.as_str(), "waiting" | "running")
    }
}

/// How far a job is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Progress {
    /// Number of the job.
    pub job: i64,
    /// importing, composing, writing, verifying, reading or finishing.
    pub stage: String,
    /// Bytes of the stage that are done.
    pub done: u64,
    /// Bytes of the stage in all.
    pub total: u64,
    /// Bytes a second over the recent past.
    pub rate: f64,
    /// Seconds left of this stage.
    pub seconds_left: Option<f64>,
}

/// Something that happened.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Event {
    /// Number, ascending in commit order.
    pub id: i64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who did it.
    pub operator: String,
    /// What kind of thing.
    pub kind: String,
    /// What it is about.
    pub subject: String,
    /// A sentence.
    pub summary: String,
}

/// A list of events, newest first, with the cursor for more.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Events {
    /// The events.
    pub items: Vec<Event>,
    /// Give it as `before` to go on.
    pub next: Option<i64>,
}

/// A list of jobs, newest first, with the cursor for more.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Jobs {
    /// The jobs.
    pub items: Vec<Job>,
    /// Give it as `before` to go on.
    pub next: Option<i64>,
}
