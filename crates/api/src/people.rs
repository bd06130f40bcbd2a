//! People, passes and the history, as they are said over HTTP.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::Role;

/// Who asks, as the service knows them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// Their name; `None`: nobody is signed in.
    pub name: Option<String>,
    /// What they may do.
    pub role: Option<Role>,
    /// How they are known: `session`, `token`, `station`, `loopback` or `nobody`.
    pub how: String,
    /// Whether nobody belongs to the team yet, so that whoever sits at the service's computer may do everything.
    pub open: bool,
    /// The station that this computer is.
    pub station: Option<String>,
    /// Whether they have a second factor.
    pub second_factor: bool,
    /// Whether they have a PIN for stations.
    pub pin: bool,
}

/// Signs somebody in.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// Name.
    pub name: String,
    /// Password.
    pub password: String,
    /// The code of the second factor, where there is one, or one of its recovery codes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// What a program was given when this person signed in with it last: wrong tries of others do not make it wait then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// What the token shall be called, where one is wanted instead of a cookie.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// Takes a one-time code up: for the first owner, for somebody new, or after a forgotten password.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Welcome {
    /// The one-time code.
    pub code: String,
    /// Name.
    pub name: String,
    /// The password that they choose.
    pub password: String,
    /// The code of the second factor, where they have one, or one of its recovery codes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub factor: Option<String>,
    /// What the token shall be called, where one is wanted instead of a cookie.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// Who is signed in now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// Who.
    pub me: Me,
    /// The token, where one was wanted. It is shown this once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// What the program shows when this person signs in with it again. It opens nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
}

/// A second factor that counts from now on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FactorTaken {
    /// Who asks.
    pub me: Me,
    /// Codes that stand for a code of the authenticator where that is lost, each good once. They are shown this once.
    pub recovery_codes: Vec<String>,
}

/// Another password for oneself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewPassword {
    /// The one until now.
    pub old: String,
    /// The new one.
    pub new: String,
}

/// A PIN for stations; none takes it away.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewPin {
    /// Password, so that nobody does it at a page that was left open.
    pub password: String,
    /// 4 to 8 digits.
    pub pin: Option<String>,
}

/// A second factor that is being set up.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SecondFactor {
    /// The secret, in base32, for typing it into an authenticator.
    pub secret: String,
    /// The same as an address that authenticators read.
    pub address: String,
    /// The same as a QR code: a row a line, `1` for dark.
    pub qr: Vec<String>,
}

/// Ends setting up a second factor, or gives it up.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FactorCode {
    /// Password.
    pub password: String,
    /// The code that the authenticator shows; where it is given up, a recovery code will do too.
    #[serde(default)]
    pub code: String,
    /// The secret that was shown; likewise.
    #[serde(default)]
    pub secret: String,
}

/// Somebody of the team.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// Name.
    pub name: String,
    /// What they may do.
    pub role: Role,
    /// Whether they have chosen a password yet.
    pub welcomed: bool,
    /// Whether they have a PIN for stations.
    pub pin: bool,
    /// Whether they have a second factor.
    pub second_factor: bool,
    /// Who let them in.
    pub made_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub made_at: OffsetDateTime,
    /// When they were last heard of.
    #[serde(with = "time::serde::rfc3339::option")]
    pub seen_at: Option<OffsetDateTime>,
}

/// Somebody new.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewPerson {
    /// Name.
    pub name: String,
    /// What they may do.
    pub role: Role,
}

/// A change of what somebody may do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PersonChange {
    /// What they may do from now on.
    pub role: Role,
}

/// A one-time code, shown this once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Whose it is.
    pub name: String,
    /// The code.
    pub code: String,
    /// Until when it is good.
    #[serde(with = "time::serde::rfc3339")]
    pub until: OffsetDateTime,
}

/// What requests show instead of a password.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Pass {
    /// Number.
    pub id: i64,
    /// `session`, `token` or `station`.
    pub kind: String,
    /// Whose it is; `None` for a station.
    pub person: Option<String>,
    /// What it is called.
    pub name: String,
    /// What may be done with it now: what it was made for, and no more than its person may.
    pub role: Role,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub made_at: OffsetDateTime,
    /// When it was last used.
    #[serde(with = "time::serde::rfc3339")]
    pub used_at: OffsetDateTime,
    /// From which address.
    pub used_from: String,
    /// When it ends by itself.
    #[serde(with = "time::serde::rfc3339")]
    pub expires_at: OffsetDateTime,
    /// Who acts at a station now.
    pub acting: Option<String>,
    /// Whether it is what this request showed.
    pub own: bool,
}

/// A new token for a program.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    /// What it is for.
    pub name: String,
    /// The most that may be done with it; not above one's own role.
    pub role: Role,
    /// Days until it ends by itself, 1 to 730.
    pub days: u32,
    /// Password, said again.
    #[serde(default)]
    pub password: String,
    /// The code of the second factor, where there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// A token, shown this once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Token {
    /// Number of its pass.
    pub id: i64,
    /// The token.
    pub token: String,
    /// When it ends by itself.
    #[serde(with = "time::serde::rfc3339")]
    pub until: OffsetDateTime,
}

/// Makes this computer a station.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewStation {
    /// What people call it.
    pub name: String,
    /// The most that anybody may do at it.
    pub role: Role,
    /// Days until it ends by itself, 1 to 730.
    pub days: u32,
    /// Password, said again.
    #[serde(default)]
    pub password: String,
    /// The code of the second factor, where there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// Somebody acts at a station for some minutes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Acting {
    /// Name.
    pub name: String,
    /// PIN.
    pub pin: String,
    /// The code of the second factor, where they have one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// Something that was asked for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Act {
    /// Number; one after the other, without a gap.
    pub id: i64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who.
    pub who: String,
    /// The role that they had then.
    pub role: String,
    /// How they were known.
    pub how: String,
    /// Address that they asked from.
    pub origin: String,
    /// What was asked, in words.
    pub act: String,
    /// The path that was asked.
    pub target: String,
    /// What the request named.
    pub about: String,
    /// Number of the request.
    pub request: String,
    /// HTTP status of the answer; `None`: the service ended before there was one.
    pub status: Option<i32>,
}

/// A page of the history.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Acts {
    /// Newest first.
    pub items: Vec<Act>,
    /// Where the next page begins.
    pub next: Option<i64>,
}

/// Which acts are asked for.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct ActsAsked {
    /// Those of one person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub who: Option<String>,
    /// Those since a day or moment (RFC 3339).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// Those before a day or moment.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Those that have these letters somewhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub search: Option<String>,
    /// Those before a number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<i64>,
}

/// What a look at the whole history found.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HistoryCheck {
    /// Rows that were read.
    pub rows: i64,
    /// What is wrong, a sentence each; nothing: every row is as it was written.
    pub wrong: Vec<String>,
}
