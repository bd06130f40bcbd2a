//! Plans: what would be done to a card, and what somebody has to say before it is.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{Setting, SlotName};

/// A plan to make: exactly one of `device` (with or without `release`), `release` or `backup`.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewPlan {
    /// Write a card for this device.
    #[serde(default)]
    pub device: Option<String>,
    /// Write this release.
    #[serde(default)]
    pub release: Option<String>,
    /// Restore this backup.
    #[serde(default)]
    pub backup: Option<String>,
    /// Slot of the card.
    pub slot: SlotName,
    /// Why a withdrawn release is written all the same; it is recorded.
    #[serde(default)]
    pub override_reason: Option<String>,
    /// Whether a partition that cannot be edited is left as it is, and the rest is written.
    #[serde(default)]
    pub leave_out: bool,
    /// Why a file system that is found damaged is changed all the same; it is recorded.
    #[serde(default)]
    pub although_damaged: Option<String>,
    /// Whether a restore leaves the last partition as large as it was.
    #[serde(default)]
    pub keep_size: bool,
    /// Whether what nothing is put onto is made to read as zero, so that nothing of what was there before
    /// can be read any more.
    #[serde(default)]
    pub wipe_free: bool,
}

/// What a write or restore would do, and what would be lost. It holds for this very card as it
/// sits in its slot now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Plan {
    /// Its identifier.
    pub id: String,
    /// How long it takes, in seconds, where that can be told.
    #[serde(default)]
    pub seconds: Option<f64>,
    /// By whose record that is: `card`, this card's own; or `slot`, that of others in its slot.
    #[serde(default)]
    pub seconds_by: Option<String>,
    /// write or restore.
    pub kind: String,
    /// Slot.
    pub slot: SlotName,
    /// Label of the card, which confirms the plan.
    pub card: String,
    /// Whether the label was given just now and must be written on the card.
    pub new_label: bool,
    /// Size of the card.
    pub card_size: u64,
    /// Whether a full check has shown that the card holds what it reports. Where not, each write
    /// adds a few probes, which find many forged cards and not all.
    #[serde(default)]
    pub size_proven: bool,
    /// What is on the card now.
    pub card_holds: String,
    /// Release or backup that is written.
    pub base: String,
    /// Device that it is for.
    pub device: Option<String>,
    /// Bytes that will be written.
    pub to_write: u64,
    /// Fewest bytes that a card must hold for this.
    pub smallest_card: u64,
    /// Bytes of the card that stay unallocated.
    pub unallocated: u64,
    /// Settings as they count, secrets masked.
    pub settings: Vec<Setting>,
    /// Files as they will land, secrets masked; those of partitions that are left out do not.
    pub files: Vec<PlannedFile>,
    /// What growing the last partition comes to; none if it is not grown here.
    #[serde(default)]
    pub growth: Option<String>,
    /// Partitions that are left as they are, and why.
    #[serde(default)]
    pub left_out: Vec<String>,
    /// What would be lost. Empty if nothing is.
    pub lost: Vec<String>,
    /// What has to be accepted by name before it is carried out.
    pub cautions: Vec<Caution>,
    /// What is worth knowing besides.
    #[serde(default)]
    pub notes: Vec<String>,
}

/// A file as it will land on the card.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PlannedFile {
    /// `boot`, `root`, a label, or the number of a partition.
    pub partition: String,
    /// Path on that partition.
    pub path: String,
    /// create, replace, link or remove.
    #[serde(default)]
    pub action: String,
    /// Content, secrets masked; the target of a link.
    pub content: String,
    /// Permission bits in octal, where they are set.
    #[serde(default)]
    pub mode: Option<String>,
    /// Numbers of user and group as `USER:GROUP`; one that is not set is left out.
    #[serde(default)]
    pub owner: Option<String>,
    /// Stands for the content as it is: the same fingerprint, the same content.
    #[serde(default)]
    pub fingerprint: Option<String>,
}

/// The confirmation of a plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Confirmation {
    /// Label on the card's sticker.
    pub card: String,
    /// Names of the cautions that are accepted: all of them, or nothing is done.
    #[serde(default)]
    pub accept: Vec<String>,
}

impl From<&str> for Confirmation {
    /// With nothing accepted.
    fn from(card: &str) -> Self {
        Self {
            card: card.into(),
            accept: Vec::new(),
        }
    }
}

/// Something to be accepted by its name before a plan is carried out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Caution {
    /// Its name: one word, such as `second-card`.
    pub name: String,
    /// What there is to be careful about.
    pub words: String,
}

impl Caution {
    /// A caution of this name.
    pub fn new(name: &str, words: impl Into<String>) -> Self {
        Self {
            name: name.into(),
            words: words.into(),
        }
    }
}

impl Confirmation {
    fn of_all(card: &str, cautions: &[Caution]) -> Self {
        Self {
            card: card.into(),
            accept: cautions.iter().map(|one| one.name.clone()).collect(),
        }
    }
}

impl Plan {
    /// What somebody says who has read all of it and accepts every caution.
    pub fn agreed(&self) -> Confirmation {
        Confirmation::of_all(&self.card, &self.cautions)
    }
}

impl CardPlan {
    /// What somebody says who has read all of it and accepts every caution.
    pub fn agreed(&self) -> Confirmation {
        Confirmation::of_all(&self.card, &self.cautions)
    }
}

/// Work on a card itself to plan.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewCardPlan {
    /// Slot of the card.
    pub slot: SlotName,
    /// `quick-check`, `full-check`, `clear-tables`, `clear-all`, `clear-volume` or `put-back`.
    pub work: String,
}

/// What work on a card itself would do, and what would be lost. It is confirmed like any other plan, and
/// holds for this very card as it sits in its slot now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CardPlan {
    /// Its identifier.
    pub id: String,
    /// As in the request.
    pub work: String,
    /// What it does, in a sentence.
    pub does: String,
    /// Slot of the card.
    pub slot: SlotName,
    /// Label of the card.
    pub card: String,
    /// Whether the card was labelled just now.
    pub new_label: bool,
    /// Size that the card reports.
    pub card_size: u64,
    /// What is on the card.
    pub card_holds: String,
    /// What would be lost.
    pub lost: Vec<String>,
    /// What has to be accepted by name before it is carried out.
    pub cautions: Vec<Caution>,
    /// What is worth knowing besides.
    #[serde(default)]
    pub notes: Vec<String>,
    /// How long it takes, in seconds, by what is known of this card's speed.
    pub seconds: f64,
}
