//! Notices: who is told, by mail or by a call, when something needs a person.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// Kinds of matters that are told, and what each is.
pub const MATTERS: &[(&str, &str)] = &[
    ("job-failed", "a job failed or was interrupted"),
    ("card-suspect", "a card is suspect"),
    ("fault", "somebody saw a fault of a device"),
    ("vault-away", "the vault cannot be reached"),
    ("content-damaged", "an image in the vault is damaged"),
    ("backup-damaged", "a backup is damaged"),
    ("space", "room is short where the vault lies"),
    (
        "vault",
        "an inspection found damage, or the vault was not looked after",
    ),
    (
        "backup-overdue",
        "a device has no backup as young as it should be",
    ),
    (
        "backup-not-proven",
        "the newest backup of a device is not proven",
    ),
    ("down", "a device is down"),
    ("silent", "a device in service does not answer"),
    ("certificate", "the certificate of a device ends soon"),
    ("arrival-late", "a device that is waited for does not come"),
    ("arrival-ready", "a device is up and waits to be accepted"),
    (
        "arrival-question",
        "a device that came up is not what was expected",
    ),
];

/// A kind of matters that is told.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Matter {
    /// What it is called.
    pub kind: String,
    /// When it is told.
    pub when: String,
}

/// A way in which somebody is told.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NoticeWay {
    /// What it is called.
    pub name: String,
    /// `mail` or `call`.
    pub kind: String,
    /// An address of mail, or an URL.
    pub target: String,
    /// Kinds of matters that are told; none: all.
    pub about: Vec<String>,
    /// Whether calls are signed.
    pub signed: bool,
    /// Who added it.
    pub added_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub added_at: OffsetDateTime,
}

/// A way to add: an address of mail, or an URL that is called with JSON.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewNoticeWay {
    /// What it is called.
    pub name: String,
    /// An address of mail.
    #[serde(default)]
    pub mail: Option<String>,
    /// An URL.
    #[serde(default)]
    pub call: Option<String>,
    /// What calls are signed with (RFC 9421, `hmac-sha256`); at least 16 characters.
    #[serde(default)]
    pub secret: Option<String>,
    /// Kinds of matters that are told; none: all.
    #[serde(default)]
    pub about: Vec<String>,
}

/// Something that is or was told.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Notice {
    /// Number.
    pub id: i64,
    /// The way.
    pub way: String,
    /// What kind it is.
    pub kind: String,
    /// What it is about.
    pub about: String,
    /// What it is, for people.
    pub words: String,
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// `waiting`, `told` or `given up`.
    pub state: String,
    /// When it was told.
    #[serde(with = "time::serde::rfc3339::option")]
    pub told_at: Option<OffsetDateTime>,
    /// How often it was tried.
    pub tries: u32,
    /// Why it could not be told the last time.
    pub trouble: Option<String>,
}

/// What a call brings: its body, as JSON.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NoticeCall {
    /// `duplicarium`.
    pub from: String,
    /// What needs a person.
    pub notices: Vec<NoticeCallItem>,
}

/// One matter of a call.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NoticeCallItem {
    /// What kind it is.
    pub kind: String,
    /// What it is about.
    pub about: String,
    /// What it is, for people.
    pub words: String,
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
}
