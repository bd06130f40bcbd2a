//! What jobs do, on threads of their own.

mod backup;
mod drift;
pub mod fetch;
mod hashing;
mod import;
mod on_card;
mod prove;
mod records;
mod vault_care;
mod write;

pub use backup::{BackupOrder, remarks_of, take_backup};
pub use drift::{DriftOrder, compare_card};
pub use import::{
    Expected, ImportOrder, Named, Place, Rules, TakenFile, bring_in, declared_card, import,
};
pub use on_card::{CardOrder, CardWork, Clearing, work_on_card};
pub use prove::prove_backup;
pub use records::{keep_records, write_out};
pub use vault_care::{CopyOrder, Mending, copy_vault, inspect_vault, tidy_vault};
pub use write::{WriteOrder, word_of, write_card};
