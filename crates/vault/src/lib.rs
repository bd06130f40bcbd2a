//! Where all image content lives: deduplicated, compressed, sealed chunks in an object store.
//!
//! Content is cut into chunks of 128 KiB on the disk's own grid, named by a keyed digest,
//! compressed and sealed, and gathered in segment objects that describe themselves. A disk is a [`Manifest`]: a short
//! list of pages, each naming the chunks of a stretch of the disk, so that a disk that differs little
//! from another costs only what differs. `docs/vault-format.md` describes the bytes.
//!
//! ```no_run
//! use std::sync::Arc;
//! use vault::{Ingest, ManifestDisk, Root, Vault, store_at};
//!
//! # async fn example() -> Result<(), Box<dyn std::error::Error>> {
//! let root = Root::load("team.key".as_ref())?;
//! let vault = Vault::open(store_at("vault")?, &root).await?;
//! // The rest blocks, and belongs on a thread of its own.
//! let hold = vault.hold();
//! let mut ingest = Ingest::start(hold.clone(), 2);
//! ingest.push(0, Arc::new(vec![1; 4096]))?;
//! let (manifest, growth) = ingest.finish(4096, None, None)?;
//! println!("{growth:?}");
//! let disk = ManifestDisk::new(manifest);
//! # let _ = disk;
//! # Ok(())
//! # }
//! ```
//!
//! Nothing counts as stored before it is on the medium; nothing that is damaged is handed out; damage of one object
//! costs what lay in it. What work relies on is held ([`Hold`]) until the records name what it made, and whatever is
//! neither held nor referred to goes when the vault is tidied ([`Vault::tidy`]).

mod address;
mod copy;
mod error;
mod hold;
mod index;
mod ingest;
mod inspect;
mod keys;
mod manifest;
mod objects;
mod others;
mod page;
mod piece;
mod ring;
mod segment;
mod shared;
mod spoken;
mod store;
mod tidy;
mod unpacked;
mod windows;
mod writer;

pub use address::{store_at, store_there};
pub use copy::{Copied, SecondChecked};
pub use error::VaultError;
pub use hold::Hold;
pub use ingest::Ingest;
pub use inspect::{Bad, Inspected};
pub use keys::{KeyError, Keys, Name, Root};
pub use manifest::{Manifest, ManifestDisk, Noting};
pub use objects::SegmentId;
pub use page::Entry;
pub use piece::Kind;
pub use shared::{Others, Round};
pub use store::{Growth, Opened, Vault};
pub use tidy::{NoteStays, Tidied, Tidying};
pub use writer::note;
