//! What can be set on a device, and how it lands on the card: release sheets with their fields
//! and placements, effective values with their origins, checks, and rendering with secrets masked.

mod field;
mod placement;
mod sheet;
mod values;

pub use field::{Field, FieldKind, Refused, check_host_name};
pub use placement::{Placement, PlacementError, Rendered, render};
pub use sheet::{CardNeeds, FirstBoot, Sheet, SheetError};
pub use values::{Effective, Origin, Problem, Settings, effective};

/// What stands in place of a secret wherever settings are shown.
pub const MASK: &str = "••••••••";
