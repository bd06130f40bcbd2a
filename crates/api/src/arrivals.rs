//! Arrivals: a board on its way from *card in* to *does its job*.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::Caution;

/// What a lamp pattern of a board model means.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Lamp {
    /// `steady`, `dark`, or a row of `short` and `long` with commas between.
    pub pattern: String,
    /// What it means, for people.
    pub means: String,
    /// What it comes from: `none` (all is well), `power`, `card`, `image`, `network`, or empty.
    #[serde(default)]
    pub cause: String,
}

/// That a card is in its device now.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewArrival {
    /// Name of the device.
    pub device: String,
    /// Label of the card that is in it; the device's own where none is given.
    #[serde(default)]
    pub card: Option<String>,
    /// Who waits for it.
    #[serde(default)]
    pub waits_for: String,
    /// An address to look at, where its network does not tell.
    #[serde(default)]
    pub address: Option<String>,
}

/// A board that says hello by itself, with the word of its card's stamp.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Hello {
    /// Number of the imprint on its card, as the stamp says it.
    pub imprint: i64,
    /// The word of the stamp. It is good once.
    pub word: String,
}

/// What is said of an arrival that goes on.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ArrivalChange {
    /// The lamp pattern that somebody sees, out of the table of its board model.
    #[serde(default)]
    pub lamp: Option<String>,
    /// An address to look at.
    #[serde(default)]
    pub address: Option<String>,
}

/// What is said of a step.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StepChange {
    /// Whether it is done.
    pub done: bool,
    /// What was seen.
    #[serde(default)]
    pub note: String,
}

/// How an arrival ends.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ArrivalEnd {
    /// `accepted`, `refused` or `stopped`.
    pub how: String,
    /// What was seen; required where it is refused.
    #[serde(default)]
    pub note: String,
    /// What the device is, for the others: its notes, where they shall be others from now on.
    #[serde(default)]
    pub description: Option<String>,
    /// Names of the cautions that are accepted.
    #[serde(default)]
    pub accept: Vec<String>,
}

/// An arrival in a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Arrival {
    /// Number.
    pub id: i64,
    /// Name of the device.
    pub device: String,
    /// Label of the card that is in it.
    #[serde(default)]
    pub card: Option<String>,
    /// What is on that card.
    pub base: String,
    /// Board model of the device.
    pub board: String,
    /// `expected`, `found`, `answers`, `ready`, `accepted`, `refused` or `stopped`.
    pub state: String,
    /// Whether the board itself said hello.
    pub said_hello: bool,
    /// Who waits for it.
    pub waits_for: String,
    /// Who began it.
    pub operator: String,
    /// When the card went in.
    #[serde(with = "time::serde::rfc3339")]
    pub began_at: OffsetDateTime,
    /// When it should answer.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub due_at: Option<OffsetDateTime>,
    /// When it was first found.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub found_at: Option<OffsetDateTime>,
    /// When it first answered.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub answered_at: Option<OffsetDateTime>,
    /// When all checks had passed first.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub ready_at: Option<OffsetDateTime>,
    /// When it was over.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub ended_at: Option<OffsetDateTime>,
    /// Who ended it.
    #[serde(default)]
    pub ended_by: Option<String>,
    /// What was said at its end.
    pub note: String,
    /// Names of the cautions that were accepted.
    pub accepted: Vec<String>,
    /// Whether it is late.
    pub late: bool,
}

/// A page of arrivals.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Arrivals {
    /// Those that go on, the oldest first; then those that are over, newest first.
    pub items: Vec<Arrival>,
    /// Number to ask for what is older.
    #[serde(default)]
    pub next: Option<i64>,
}

/// An arrival with all that is seen of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ArrivalDetail {
    /// The arrival.
    pub arrival: Arrival,
    /// What will happen.
    pub expected: Expected,
    /// What was seen last.
    pub seen: ArrivalSeen,
    /// Why it may not have come up, the likeliest first.
    pub causes: Vec<Cause>,
    /// What only a person can see or do.
    pub steps: Vec<Step>,
    /// What has to be accepted by name when it is accepted.
    pub cautions: Vec<Caution>,
    /// The lamp pattern that somebody saw.
    #[serde(default)]
    pub lamp: Option<String>,
    /// An address that somebody gave for it.
    #[serde(default)]
    pub address: Option<String>,
    /// Settings that the device exported of itself before its card was made anew: they can be given back.
    #[serde(default)]
    pub to_give_back: Option<Export>,
}

/// What will happen until a board answers.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Expected {
    /// Seconds until it answers.
    #[serde(default)]
    pub seconds: Option<f64>,
    /// Where that comes from, for people.
    pub seconds_by: String,
    /// Whether it fetches something first and needs the internet for it.
    pub internet: bool,
    /// The name under which it appears.
    #[serde(default)]
    pub host_name: Option<String>,
    /// The page that answers then.
    #[serde(default)]
    pub page: Option<String>,
    /// Names of the Wi-Fi networks that it may join.
    pub networks: Vec<String>,
    /// The fixed address that is set.
    #[serde(default)]
    pub address: Option<String>,
    /// What its lamps mean, in words.
    pub lamps: String,
    /// Its lamp patterns.
    pub lamp_table: Vec<Lamp>,
}

/// What was seen of an arrival.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct ArrivalSeen {
    /// Boards that have its name, address or hardware address.
    pub boards: Vec<SeenBoard>,
    /// Ways of finding it that do not work here, and why.
    pub blind: Vec<String>,
    /// What the release sheet looks at.
    pub checks: Vec<CheckResult>,
    /// Logins that everybody knows, and whether they are still open.
    pub logins: Vec<LoginResult>,
    /// How often it went away again after it had been found.
    pub falls: u32,
}

/// A board that was seen.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct SeenBoard {
    /// Its address.
    pub address: String,
    /// How it was found.
    pub found_by: Vec<String>,
    /// `this`, `other-card`, `other` or `name-only`.
    pub whose: String,
    /// What that means, for people.
    pub words: String,
    /// Its hardware address.
    pub mac: Option<String>,
    /// Fingerprint of its SSH server's key.
    pub host_key: Option<String>,
    /// Fingerprint of its page's certificate.
    pub certificate: Option<String>,
    /// Until when that is valid.
    #[serde(with = "time::serde::rfc3339::option")]
    pub certificate_until: Option<OffsetDateTime>,
    /// The version that it says it runs.
    pub version: Option<String>,
    /// How far its clock is ahead of ours, in seconds, where it says.
    pub clock_ahead: Option<i64>,
    /// Whether its page, or a port of it, answers.
    pub answers: bool,
    /// What its page says where it does not answer as it should.
    pub problem: Option<String>,
    /// Ports that are elsewhere than usual.
    pub ports: std::collections::BTreeMap<u16, u16>,
}

/// What came of a check.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CheckResult {
    /// What it looks at.
    pub title: String,
    /// `passed`, `failed`, or `waiting` as long as nobody answers.
    pub state: String,
    /// What was found, or what was in the way.
    pub words: String,
}

/// What came of trying a login that everybody knows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LoginResult {
    /// User name.
    pub user: String,
    /// `open`: the password that everybody knows is still valid; `closed`: it is not; `not asked`: the page opens without
    /// one; `any password`: it opens with a wrong one; `unknown` where its page does not say.
    pub state: String,
}

/// Why a board may not have come up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Cause {
    /// What it is.
    pub what: String,
    /// What to do.
    pub todo: String,
}

/// Something that only a person can see or do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Step {
    /// Place in the list, from 1.
    pub place: i32,
    /// What is to be done.
    pub words: String,
    /// What was seen.
    pub note: String,
    /// Who did it.
    #[serde(default)]
    pub done_by: Option<String>,
    /// When.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub done_at: Option<OffsetDateTime>,
}

/// What was seen of a device in service.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Watched {
    /// Name of the device.
    pub device: String,
    /// Its address.
    #[serde(default)]
    pub address: Option<String>,
    /// The version that it said.
    #[serde(default)]
    pub version: Option<String>,
    /// Fingerprint of its SSH server's key.
    #[serde(default)]
    pub host_key: Option<String>,
    /// Fingerprint of its page's certificate.
    #[serde(default)]
    pub certificate: Option<String>,
    /// Until when that is valid.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub certificate_until: Option<OffsetDateTime>,
    /// When something was seen of it last.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub seen_at: Option<OffsetDateTime>,
    /// Since when nothing answers.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub silent_since: Option<OffsetDateTime>,
}

/// How a board gets its settings on the network that it opens itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FirstJoin {
    /// Names that its network may have.
    pub networks: Vec<String>,
    /// Those of them that the service's computer hears now.
    #[serde(default)]
    pub heard: Vec<HeardNetwork>,
    /// Whether the service's computer can join one by itself.
    #[serde(default)]
    pub can_join: bool,
    /// The page that takes the settings there.
    pub page: String,
    /// Whether it takes JSON, else a form.
    pub json: bool,
    /// What it takes.
    pub values: Vec<JoinValue>,
}

/// A network that the service's computer hears.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HeardNetwork {
    /// Its name.
    pub name: String,
    /// How strong it is, of 100.
    pub strength: u8,
}

/// A value that a board takes on its own network.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JoinValue {
    /// Name that the page knows.
    pub key: String,
    /// What it is, for people.
    pub label: String,
    /// What it is set to; never a secret.
    #[serde(default)]
    pub value: Option<String>,
    /// Whether it is a secret.
    pub secret: bool,
    /// Whether it is set at all.
    pub is_set: bool,
}

/// That settings are handed over from the service's computer.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct HandOver {
    /// Address and port of the board, where it is not the one that its sheet says.
    #[serde(default)]
    pub at: Option<String>,
    /// Whether the service's computer joins the board's network for it, and leaves it afterwards.
    #[serde(default)]
    pub joins: bool,
    /// The network that it joins, where several that are heard may be the board's.
    #[serde(default)]
    pub network: Option<String>,
}

/// A serial port of the service's computer that may be listened at.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SerialPort {
    /// The port, such as `/dev/ttyUSB0`.
    pub port: String,
    /// Whether it is plugged in.
    pub there: bool,
    /// Number of the arrival that it is listened at for.
    #[serde(default)]
    pub arrival: Option<i64>,
}

/// That a board is listened to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewSerial {
    /// The port.
    pub port: String,
    /// Its speed.
    pub baud: u32,
}

/// What a board said on its serial line.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SerialLog {
    /// The port.
    pub port: String,
    /// Its speed.
    pub baud: u32,
    /// What was said; cut in the middle where it is long.
    pub text: String,
    /// Lines of it that mean something.
    pub found: Vec<FoundLine>,
    /// Whether it is listened to now.
    pub listening: bool,
    /// Why it ended, if not because somebody wanted it.
    #[serde(default)]
    pub problem: Option<String>,
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub began_at: OffsetDateTime,
    /// Until when.
    #[serde(with = "time::serde::rfc3339::option", default)]
    pub ended_at: Option<OffsetDateTime>,
}

/// A line of a boot log that means something.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FoundLine {
    /// The line.
    pub line: String,
    /// What it means.
    pub means: String,
    /// Whether that is as it should be.
    pub good: bool,
}

/// Settings that an appliance exported of itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Export {
    /// Number.
    pub id: i64,
    /// Name of the device.
    pub device: String,
    /// What was on its card.
    pub base: String,
    /// The version that it said.
    pub version: String,
    /// Length in bytes.
    pub bytes: u64,
    /// Who took it.
    pub taken_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub taken_at: OffsetDateTime,
    /// When it was last found to be still so.
    #[serde(with = "time::serde::rfc3339")]
    pub seen_at: OffsetDateTime,
    /// Whether it is another one than the one before it.
    pub changed: bool,
}

/// What is another thing in one export than in another.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ExportChange {
    /// Where: a JSON pointer (RFC 6901), or the number of a line.
    pub at: String,
    /// What it was.
    #[serde(default)]
    pub before: Option<String>,
    /// What it is.
    #[serde(default)]
    pub now: Option<String>,
}

/// The picture of a device and its label.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Photo {
    /// `image/jpeg`, `image/png` or `image/webp`.
    pub kind: String,
    /// Length in bytes.
    pub bytes: u64,
    /// Who took it.
    pub taken_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub taken_at: OffsetDateTime,
}

/// Something that needs a hand.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Attention {
    /// `down`, `silent`, `certificate`, `fault`, `standing`, `arrival-late`, `arrival-ready`, `arrival-question`,
    /// `card-suspect`, `backup-overdue`, `backup-damaged`, `backup-not-proven`, `content-damaged`, `vault`, `vault-away`,
    /// `space`.
    pub kind: String,
    /// Name of the device.
    pub device: String,
    /// What it is, for people.
    pub words: String,
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// Number of the arrival, if it is one.
    #[serde(default)]
    pub arrival: Option<i64>,
    /// Label of the card, if it is about one.
    #[serde(default)]
    pub card: Option<String>,
}
