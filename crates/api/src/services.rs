//! The services that work with the same records and the same vault.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{FarBench, Progress, Slot};

/// A service that lives.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Service {
    /// Its number in the records.
    pub number: i32,
    /// Where the others reach it; nothing of a service that is alone.
    pub address: Option<String>,
    /// Its version.
    pub version: String,
    /// When it was started.
    #[serde(with = "time::serde::rfc3339")]
    pub started_at: OffsetDateTime,
    /// Whether it looks after what there is once for all of them: the vault, boards that are waited for, notices.
    pub leads: bool,
    /// Whether the readers of its own computer are slots.
    pub own_slots: bool,
    /// Whether it is the one that answers this.
    pub answers: bool,
    /// Whether the one that answers hears from it.
    pub heard: bool,
}

/// What a service tells the others, a line of JSON each.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum PeerNews {
    /// Which slots it has, and which benches are connected to it.
    Slots(Vec<Slot>, Vec<FarBench>),
    /// How far a job is that it runs.
    Progress(Progress),
}
