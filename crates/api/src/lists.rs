//! Long lists: what is asked for, and a page of what there is.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// One page of a long list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// Its rows.
    pub items: Vec<T>,
    /// Give it as `after` for the next page; none behind the last one.
    pub next: Option<String>,
    /// How many rows the whole list has.
    pub total: u64,
}

/// The first of some devices by name, and how many there are.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Names {
    /// The first twenty.
    pub names: Vec<String>,
    /// How many there are.
    pub total: u64,
}

/// Which devices are asked for: those that all of it holds of.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct DeviceQuery {
    /// A text anywhere in name, host name, card, notes, attached hardware, hardware addresses.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub search: Option<String>,
    /// planned, carded, in service, down or retired.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// Site.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
    /// Board model.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub board: Option<String>,
    /// Appliance.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub appliance: Option<String>,
    /// The release that their cards carry.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub carries: Option<String>,
    /// The release that they follow.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub follows: Option<String>,
    /// A standing, such as `outdated` or `settings changed`; or `to write`: all whose card must be written again.
    /// Retired devices are left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub standing: Option<String>,
}

/// Which cards are asked for: those that all of it holds of.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct CardQuery {
    /// A text anywhere in label, device, notes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub search: Option<String>,
    /// State.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// Name of the device whose card it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// Site of that device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
    /// The release that they carry.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub carries: Option<String>,
}

/// Which backups are asked for: those that all of it holds of.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct BackupQuery {
    /// A text anywhere in name, card, device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub search: Option<String>,
    /// Label of the card that was read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub card: Option<String>,
    /// Name of the device whose card it was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// Whether those are listed too whose content was let go.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gone: Option<bool>,
}

/// Which of what has a name is asked for.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct NameQuery {
    /// A text anywhere in the name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub search: Option<String>,
}

/// Which page of a list is asked for, in which order.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Paging {
    /// What the list is sorted by. Devices: name (as usual), site, state, appliance, board, card, added. Cards:
    /// label (as usual), state, size, device. Backups: newest (as usual), name, device, card. Others have one
    /// order.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sort: Option<String>,
    /// Last rows first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub descending: Option<bool>,
    /// Where the page before ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
    /// Most rows, 1 to 500; 100 as usual.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

impl Paging {
    /// As many rows behind a place, in the usual order.
    pub fn behind(after: Option<String>, limit: u32) -> Self {
        Self {
            after,
            limit: Some(limit),
            ..Self::default()
        }
    }
}
