//! What can be set on a device, and how it lands on the card: release sheets with their fields
//! and placements, effective values with their origins, checks, and rendering with secrets masked.

mod changes;
mod field;
mod placement;
mod sheet;
mod values;
mod version;

pub use changes::{KeyChange, compare_sheets};
pub use field::{Field, FieldKind, Refused, check_host_name};
pub use placement::{Placement, PlacementError, Rendered, render};
pub use sheet::{CardNeeds, FirstBoot, Link, Login, Sheet, SheetError};
pub use values::{Effective, Origin, Problem, Settings, effective};
pub use version::{compare_versions, split_file_name};

/// What stands in place of a secret wherever settings are shown.
pub const MASK: &str = "••••••••";
