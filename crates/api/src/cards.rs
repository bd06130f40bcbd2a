//! Cards: what is known of them, work on a card itself, what was seen of it in the field.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{Backup, Imprint, SlotName};

/// What people say of a card; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct CardChange {
    /// Notes.
    #[serde(default)]
    pub notes: Option<String>,
    /// `lost`, `retired`, or `found`: neither any more; `trusted`: no suspicion any more; `free`: not held any
    /// more.
    #[serde(default)]
    pub state: Option<String>,
    /// Who made it.
    #[serde(default)]
    pub brand: Option<String>,
    /// Who sold it.
    #[serde(default)]
    pub seller: Option<String>,
    /// Which lot it came in.
    #[serde(default)]
    pub batch: Option<String>,
    /// What it cost.
    #[serde(default)]
    pub price: Option<String>,
}

/// What was seen of a card, a device or both.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewFault {
    /// Label of the card.
    #[serde(default)]
    pub card: Option<String>,
    /// Name of the device.
    #[serde(default)]
    pub device: Option<String>,
    /// What was seen, in one's own words.
    pub symptom: String,
}

/// Something that was seen of a card or device.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Fault {
    /// Label of the card.
    pub card: Option<String>,
    /// Name of the device.
    pub device: Option<String>,
    /// What was seen.
    pub symptom: String,
    /// Who saw it.
    pub operator: String,
    /// When it was told.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// What the lamps of its board mean, where the fault was told of a device.
    #[serde(default)]
    pub lamps: Option<String>,
}

/// The card of a device was taken out.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewOutage {
    /// The device.
    pub device: String,
    /// The card that was in it, if it is not the one that the records name.
    #[serde(default)]
    pub card: Option<String>,
    /// Why.
    #[serde(default)]
    pub reason: String,
}

/// A device works again.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct OutageEnd {
    /// The device.
    pub device: String,
    /// With what: `original` or `new`.
    pub card: String,
}

/// A time in which a device is down.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Outage {
    /// The device.
    pub device: String,
    /// The card that was taken out; it is held until the outage ends.
    pub card: Option<String>,
    /// Why.
    pub reason: String,
    /// Who said so.
    pub operator: String,
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// Until when, if it is over.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub ended_at: Option<OffsetDateTime>,
    /// Who said that it works again.
    pub ended_by: Option<String>,
    /// With what it works again: `original` or `new`.
    pub ended_how: Option<String>,
}

/// A check of a card.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Check {
    /// Job that did it.
    pub job: i64,
    /// `quick` or `full`.
    pub kind: String,
    /// `proven`, `no sign`, `forged`, `bad` or `stopped`; none while it is under way or where it was cut off.
    pub verdict: Option<String>,
    /// What it came to, in a sentence.
    pub words: String,
    /// Of a forged card: what it holds at least, in bytes.
    pub least: Option<u64>,
    /// And at most.
    pub most: Option<u64>,
    /// Who checked.
    pub operator: String,
    /// When it began.
    #[serde(with = "time::serde::rfc3339")]
    pub started_at: OffsetDateTime,
    /// When it ended.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub finished_at: Option<OffsetDateTime>,
}

/// How fast a card was in one stage of a job.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Speed {
    /// The job.
    pub job: i64,
    /// Its kind.
    pub kind: String,
    /// The stage.
    pub stage: String,
    /// Bytes of the stage that were done at the end of each part, and bytes a second in it.
    pub points: Vec<(u64, f64)>,
}

/// The label that stands on the sticker of a card in a slot.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Sticker {
    /// The label; absent where it has no sticker yet, and gets a label of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub card: Option<String>,
    /// Whether it is that card although something is recorded as being on it, which is not there then.
    #[serde(default)]
    pub although_recorded: bool,
}

/// Cards of one brand and batch, and how they did.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CardLot {
    /// Who made them; empty where nobody said.
    pub brand: String,
    /// Which lot they came in.
    pub batch: String,
    /// How many there are.
    pub cards: u64,
    /// How many were written at least once.
    pub written: u64,
    /// How many nothing is written to any more.
    pub mistrusted: u64,
    /// How many a check found forged or bad.
    pub bad: u64,
    /// How many a full check proved.
    pub proven: u64,
    /// How many were retired or lost.
    pub gone: u64,
    /// Bytes a second that half of them are written with at least, by the newest write of each.
    pub write_rate: Option<f64>,
    /// And read.
    pub read_rate: Option<f64>,
}

/// A card that the team owns.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Card {
    /// Label on its sticker.
    pub label: String,
    /// Size that it reports.
    pub size: u64,
    /// Kind of medium.
    pub kind: String,
    /// blank, writing, incomplete, imprinted, held, lost or retired, by the records.
    pub state: String,
    /// What its slot shows of it, where it is in one: blank, empty, unfinished, ours, foreign, busy or unreadable.
    #[serde(default)]
    pub shows: Option<String>,
    /// Device that it was made for.
    pub device: Option<String>,
    /// What people say of it.
    pub notes: String,
    /// Who made it.
    #[serde(default)]
    pub brand: String,
    /// Who sold it.
    #[serde(default)]
    pub seller: String,
    /// Which lot it came in.
    #[serde(default)]
    pub batch: String,
    /// What it cost.
    #[serde(default)]
    pub price: String,
    /// Why nothing is written to it, if it is mistrusted.
    #[serde(default)]
    pub suspicion: Option<String>,
    /// What the newest check with a verdict found: `proven`, `no sign`, `forged` or `bad`.
    #[serde(default)]
    pub verdict: Option<String>,
    /// Slot that it is in now.
    pub slot: Option<SlotName>,
    /// Who used it first.
    pub added_by: String,
    /// When it was used first.
    #[serde(with = "time::serde::rfc3339")]
    pub added_at: OffsetDateTime,
}

/// A card with what was written onto it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CardDetail {
    /// The card.
    pub card: Card,
    /// Imprints, newest first.
    pub imprints: Vec<Imprint>,
    /// Backups read from it, newest first.
    pub backups: Vec<Backup>,
    /// Checks, newest first.
    #[serde(default)]
    pub checks: Vec<Check>,
    /// How fast it was, newest job first.
    #[serde(default)]
    pub speeds: Vec<Speed>,
    /// What was seen of it in the field, newest first.
    #[serde(default)]
    pub faults: Vec<Fault>,
}
