//! The bench: disks of its computer, and which places are slots.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The computer of a bench.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Bench {
    /// Every disk that it has, with what it is and why it is offered as a card or not.
    pub disks: Vec<BenchDisk>,
    /// The places that are slots.
    pub slots: Vec<SlotBinding>,
    /// Slots for readers that are none yet.
    pub proposal: Vec<SlotBinding>,
    /// A rule for the system's device manager that lets the service at its slots.
    pub rule: String,
    /// Why the file that says which places are slots cannot be used.
    pub trouble: Option<String>,
}

/// A disk of the bench's computer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BenchDisk {
    /// Name on that computer, such as `/dev/sdb`.
    pub node: String,
    /// The port that it hangs at, where cards come to it.
    pub port: Option<String>,
    /// Place in the reader at that port.
    pub unit: Option<u32>,
    /// Vendor and model.
    pub model: Option<String>,
    /// Serial number.
    pub serial: Option<String>,
    /// Kind of medium.
    pub kind: String,
    /// Size in bytes; 0 where nothing is in.
    pub size: u64,
    /// Least that is read or written, in bytes.
    pub block: u32,
    /// What the medium itself handles as one, in bytes.
    pub physical_block: u32,
    /// Whether the medium can leave its reader.
    pub removable: bool,
    /// Whether it refuses writes.
    pub locked: bool,
    /// Whether it can be told that a range need not be kept.
    pub discards: bool,
    /// What the computer uses it for, if it does.
    pub in_use: Option<String>,
    /// The slot that it is in.
    pub slot: Option<u32>,
    /// Whether it is offered as a card.
    pub offered: bool,
    /// Why it is offered or not.
    pub why: String,
}

/// A place that is a slot.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SlotBinding {
    /// Number of the slot, from 1.
    pub number: u32,
    /// The port that the reader hangs at.
    pub port: String,
    /// Place in the reader, from 0.
    #[serde(default)]
    pub unit: u32,
    /// What people call it.
    #[serde(default)]
    pub note: Option<String>,
}
