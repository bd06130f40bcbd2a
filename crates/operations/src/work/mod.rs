//! What jobs do, on threads of their own.

mod backup;
mod compare;
mod drift;
pub mod fetch;
mod hashing;
mod import;
mod on_card;
mod prove;
mod records;
mod vault_care;
mod write;

pub use backup::{BackupOrder, take_backup};
pub use compare::compare_releases;
pub use drift::{DriftOrder, compare_card};
pub use import::{
    Expected, ImportOrder, Named, Place, Rules, TakenFile, bring_in, declared_card, import,
};
pub use on_card::{CardOrder, CardWork, Clearing, work_on_card};
pub use prove::prove_backup;
pub use records::keep_records;
pub use vault_care::{copy_vault, inspect_vault, tidy_vault};
pub use write::{WriteOrder, word_of, write_card};
