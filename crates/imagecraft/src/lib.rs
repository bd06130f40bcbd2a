//! Disk images as bytes: read their tables and file systems, map what matters, and compose
//! the exact content that one card shall hold.
//!
//! Everything works in user space on a [`Disk`]: nothing is mounted and no privilege is needed.
//! Parsers use checked arithmetic and answer hostile input with a typed error.
//!
//! ```
//! use imagecraft::{Disk, MemoryDisk, Overlay};
//!
//! let base = MemoryDisk::new(1 << 20);
//! let mut overlay = Overlay::new(&base, 1 << 20);
//! overlay.write_at(4096, b"hello")?;
//! assert_eq!(overlay.changed_chunks().collect::<Vec<_>>(), [0]);
//! # Ok::<(), imagecraft::DiskError>(())
//! ```

#![cfg_attr(not(test), deny(clippy::arithmetic_side_effects))]

pub mod compare;
pub mod compose;
pub mod conformance;
pub mod container;
mod disk;
mod finding;
pub mod fs;
pub mod grow;
pub mod inspect;
mod layout;
mod machine;
#[allow(clippy::arithmetic_side_effects, reason = "ranges of our own making")]
mod map;
mod number;
#[allow(clippy::arithmetic_side_effects, reason = "ranges of our own making")]
mod overlay;
mod ranges;
mod spool;
mod stamp;
pub mod table;

pub use disk::{Disk, DiskError, FileDisk, MemoryDisk, Window};
pub use finding::{Finding, Severity};
pub use layout::{Layout, LayoutError, Partition};
pub use machine::runs;
pub use map::{ByteKind, Map, Run};
pub use overlay::Overlay;
pub use spool::Spool;
pub use stamp::{STAMP_PATH, Stamp, StampBase};

/// The unit of storing, writing and verifying, on the disk's own grid, in bytes.
pub const CHUNK: u64 = 128 * 1024;
/// [`CHUNK`] as a buffer length.
pub const CHUNK_LEN: usize = CHUNK as usize;
/// The sector size that partition tables are read with, in bytes.
pub const SECTOR: u64 = 512;
