//! Where all image content lives: deduplicated, compressed, sealed chunks in an object store.
//!
//! Content is cut into chunks of 128 KiB on the disk's own grid, named by a keyed digest,
//! compressed and sealed, and gathered in segment objects. A disk is a [`Manifest`]: a short list
//! of pages, each naming the chunks of a stretch of the disk, so that a disk that differs little
//! from another costs only its changed chunks and pages. `docs/vault-format.md` describes the
//! bytes.

mod ingest;
mod keys;
mod manifest;
mod segment;
mod store;

pub use ingest::{Ingest, Unfinished};
pub use keys::{KeyError, Keys, Name};
pub use manifest::{Entry, Manifest, ManifestDisk};
pub use store::{Growth, SegmentId, Vault, VaultError};
