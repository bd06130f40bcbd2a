//! Rounds: a list of cards that are made in turn as blank ones go in.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{Caution, SlotName};

/// A round to plan.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewRound {
    /// What it is called; the service finds a name where there is none.
    #[serde(default)]
    pub title: String,
    /// Devices that get a card each, in this order; with `backup`: those that get what is in it with their own
    /// settings.
    #[serde(default)]
    pub devices: Vec<String>,
    /// The backup that the cards are made from, in place of the release that each device follows.
    #[serde(default)]
    pub backup: Option<String>,
    /// Cards that are made of the backup as it is, besides.
    #[serde(default)]
    pub copies: u32,
    /// Whether the first card must do its job before the others are made.
    #[serde(default)]
    pub trial_first: bool,
    /// Failures after which it stops by itself; 3 where nothing is said.
    #[serde(default)]
    pub stop_after: Option<u32>,
    /// Whether nothing is left of what was on the cards before.
    #[serde(default)]
    pub wipe_free: bool,
    /// Where the cards are made: slots (`2`, `loft:1`), all slots of a bench (`loft`), or all of the service's own
    /// computer (`here`). Where nothing is said: `here`, or the only bench that there is.
    #[serde(default)]
    pub slots: Vec<String>,
}

/// The confirmation of a round.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RoundConfirmation {
    /// How many cards are made.
    pub cards: u32,
    /// Names of the cautions that are accepted: all of them, or nothing begins.
    #[serde(default)]
    pub accept: Vec<String>,
}

/// What becomes of a round.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RoundChange {
    /// `pause`, `go-on`, `accept` (the first card does its job), or `stop`.
    pub turn: String,
}

/// What becomes of one card of a round.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RoundEntryChange {
    /// `skip`, or `again`.
    pub turn: String,
}

/// A card that may be written in a round although it is not blank.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FreedCard {
    /// Label on its sticker.
    pub card: String,
}

/// A round.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Round {
    /// Number.
    pub id: i64,
    /// What it is called.
    pub title: String,
    /// planned, running, trial (the first card waits to be accepted), paused, done or stopped.
    pub state: String,
    /// Why, if that needs a word.
    pub why: Option<String>,
    /// Who confirmed it.
    pub operator: String,
    /// When it was planned.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When it was confirmed.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub confirmed_at: Option<OffsetDateTime>,
    /// When it was over.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub ended_at: Option<OffsetDateTime>,
    /// Whether the first card must do its job before the others are made.
    pub trial_first: bool,
    /// Failures after which it stops by itself.
    pub stop_after: u32,
    /// Failures since it last went on.
    pub failures: u32,
    /// Whether nothing is left of what was on the cards before.
    pub wipe_free: bool,
    /// Where its cards are made: slots, benches, or `here`; nothing: at every slot.
    #[serde(default)]
    pub slots: Vec<String>,
    /// Cards in it.
    pub cards: u32,
    /// How many of them were made.
    pub done: u32,
    /// How many wait.
    pub waiting: u32,
    /// How many are being made, or were when the service ended.
    pub at_work: u32,
    /// How many cannot be made.
    pub failed: u32,
    /// How many are left out.
    pub skipped: u32,
}

/// Rounds, newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Rounds {
    /// The rounds.
    pub items: Vec<Round>,
    /// Number to go on before, if there are more.
    pub next: Option<i64>,
}

/// One card of a round.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RoundEntry {
    /// Place in the list, from 1.
    pub place: i32,
    /// Device that it is for.
    pub device: Option<String>,
    /// Release or backup that it gets.
    pub base: String,
    /// Fewest bytes that a card must hold for it.
    pub smallest_card: u64,
    /// waiting, at work, unsure, done, failed or skipped.
    pub state: String,
    /// Why it failed last, or was left out.
    pub why: Option<String>,
    /// What has to be accepted by name.
    pub cautions: Vec<Caution>,
    /// How often it was begun.
    pub attempts: u32,
    /// Job of the newest attempt.
    pub job: Option<i64>,
    /// Card of that.
    pub card: Option<String>,
    /// Slot of that.
    pub slot: Option<SlotName>,
    /// Seconds that it took, once it was over.
    pub seconds: Option<f64>,
    /// Bytes put on the card, once it is made.
    pub written: Option<u64>,
}

/// What a slot waits for in a round.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RoundSlot {
    /// The slot.
    pub slot: SlotName,
    /// put-in, at-work, pull, failed, other or rest.
    pub kind: String,
    /// The card in it.
    pub card: Option<String>,
    /// The device that is at issue.
    pub device: Option<String>,
    /// The job that works there.
    pub job: Option<i64>,
    /// What to do, in a sentence.
    pub words: String,
    /// Whether a hand is needed.
    pub hand: bool,
}

/// A round with its cards and what the slots wait for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RoundDetail {
    /// The round.
    pub round: Round,
    /// Its cards, in order.
    pub entries: Vec<RoundEntry>,
    /// What has to be accepted by name before it begins.
    pub cautions: Vec<Caution>,
    /// Cards that may be written in it although they are not blank.
    pub freed: Vec<String>,
    /// What each slot waits for, while it is under way.
    pub slots: Vec<RoundSlot>,
}
