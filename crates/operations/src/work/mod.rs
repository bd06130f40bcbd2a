//! What jobs do, on threads of their own.

mod backup;
mod compare;
mod drift;
pub mod fetch;
mod hashing;
mod import;
mod on_card;
mod write;

pub use backup::{BackupOrder, take_backup};
pub use compare::compare_releases;
pub use drift::{DriftOrder, compare_card};
pub use import::{Expected, ImportOrder, Named, Place, Rules, TakenFile, declared_card, import};
pub use on_card::{CardOrder, CardWork, Clearing, work_on_card};
pub use write::{WriteOrder, word_of, write_card};
