//! Benches on other computers.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A bench on another computer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FarBench {
    /// Its name.
    pub name: String,
    /// `new` (nobody enrolled it yet), `connected`, or `away`.
    pub state: String,
    /// When it was connected last.
    #[serde(with = "time::serde::rfc3339::option")]
    pub seen_at: Option<OffsetDateTime>,
    /// Version of its program, once it called.
    pub version: Option<String>,
    /// Who made it a bench.
    pub added_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub added_at: OffsetDateTime,
    /// Number of its slots, as long as it is connected.
    pub slots: Option<u32>,
    /// Bytes that went to it since it called last.
    pub sent: u64,
    /// Bytes that came from it since it called last.
    pub received: u64,
}

/// Which bench is meant: the service's own computer where none is named.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct AtBench {
    /// Name of another bench.
    pub bench: Option<String>,
}

/// A bench to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewBench {
    /// Its name: 1 to 15 small letters, digits and dashes.
    pub name: String,
}

/// What enrols a bench.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BenchCode {
    /// Name of the bench.
    pub name: String,
    /// Good once, for a day; it is shown here and nowhere else.
    pub code: String,
    /// Until when it is good.
    #[serde(with = "time::serde::rfc3339")]
    pub until: OffsetDateTime,
}

/// A computer becomes the bench that a code was made for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Enrolment {
    /// The code.
    pub code: String,
}

/// A computer has become a bench.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Enrolled {
    /// Name of the bench.
    pub name: String,
    /// What it shows from now on; it is shown here and nowhere else.
    pub credential: String,
}

/// How a bench calls.
#[derive(Clone, Debug)]
pub struct BenchCall {
    /// Version of what is spoken over the connection.
    pub protocol: u32,
    /// Version of the bench's program.
    pub version: String,
    /// The session that it was in; empty for none.
    pub session: String,
    /// The newest message of the service that it has seen in it.
    pub seen: u64,
    /// Names the start of the bench's program that counts its calls.
    pub start: String,
    /// Counts its calls.
    pub attempt: u64,
}

/// How the service takes a call.
#[derive(Clone, Debug)]
pub struct BenchAnswer {
    /// The session that it is in now.
    pub session: String,
    /// The newest message of the bench that the service has seen in it.
    pub seen: u64,
}

/// What a connection is upgraded to, in the `Upgrade` header.
pub const BENCH_LINE: &str = "duplicarium-bench";
/// Headers of a call and its answer.
pub const LINE_PROTOCOL: &str = "line-protocol";
/// Version of the bench's program.
pub const LINE_VERSION: &str = "line-version";
/// Name of a session.
pub const LINE_SESSION: &str = "line-session";
/// The newest message that was seen.
pub const LINE_SEEN: &str = "line-seen";
/// Names the start of the program that counts calls.
pub const LINE_START: &str = "line-start";
/// Counts calls.
pub const LINE_ATTEMPT: &str = "line-attempt";
