//! What can be set on a device, and how it lands on the card: release sheets with their fields
//! and placements, effective values with their origins, checks, and rendering with secrets masked.

mod address;
mod changes;
mod check;
mod collisions;
mod edit;
mod field;
mod helpers;
mod network;
mod password;
mod placement;
mod refused;
mod sheet;
mod template;
mod values;
mod version;

pub use address::Address;
pub use changes::{KeyChange, compare_sheets};
pub use check::{BootLine, Check, Export, FirstJoin, fill_address};
pub use collisions::{Claimed, Collision, MOST_NAMED, Owned};
pub use edit::Edit;
pub use field::{Field, FieldKind, Unique, check_host_name};
pub use network::{Network, Security, parse_networks};
pub use password::make_password;
pub use placement::{Laid, Placement, PlacementError, ReadBase, lay_out};
pub use refused::Refused;
pub use sheet::{CardNeeds, FirstBoot, Grow, Link, Login, Sheet, SheetError};
pub use values::{Effective, Layer, Origin, Problem, Settings, Subject, effective};
pub use version::{compare_versions, split_file_name};

/// What stands in place of a secret wherever settings are shown.
pub const MASK: &str = "••••••••";
