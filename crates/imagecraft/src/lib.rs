//! Disk images as bytes: read their tables and file systems, map what matters, and compose
//! the exact content that one card shall hold.
//!
//! Everything works in user space on a [`Disk`]: nothing is mounted and no privilege is needed. A
//! card is composed over an image that stays as it is; only what differs is held in memory:
//!
//! ```
//! use imagecraft::compose::{PlacedFile, Recipe, Target, compose};
//! use imagecraft::fs::fat::empty_volume;
//! use imagecraft::{ByteKind, Layout, Map, MemoryDisk};
//!
//! let len = 512 << 20;
//! let mut image = MemoryDisk::new(len);
//! let mut map = Map::uniform(len as u64, ByteKind::Free);
//! empty_volume(&mut image, &mut map, "TIDE", 0x1234_5678)?;
//! let map = Layout::read(&image)?.map(&image)?;
//!
//! let recipe = Recipe {
//!     files: vec![PlacedFile::file(Target::Boot, "NET.TXT", "country=NO")],
//!     ..Recipe::default()
//! };
//! let card = compose(image, &map, len as u64, &recipe)?;
//! assert!(card.disk.changed_chunks().count() < 5);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # Errors
//!
//! Images are foreign bytes: they are cut short, damaged, or made to do harm. No input makes this crate panic,
//! run for ever or take memory without bound; numbers out of foreign bytes are checked or saturate, and every
//! length is bounded before anything is read by it. What cannot be used is answered with an error that says
//! which structure is wrong and where:
//!
//! - [`DiskError`]: the bytes could not be read or written, or are not there yet ([`DiskError::NotYet`]).
//! - [`LayoutError`], [`table::gpt::GptError`]: no partition table, or one that contradicts itself or the disk.
//! - [`fs::ext::ExtError`], [`fs::fat::FatError`]: a file system. `Damaged` names its
//!   [`Structure`](fs::ext::Structure), number and path; `Feature` is what is not handled, which is no damage.
//! - [`compose::ComposeError`]: a card that cannot be composed; nothing was changed then.
//! - [`container::ContainerError`]: a packed file.
//!
//! What is strange and no obstacle is a [`Finding`] instead: a sentence with a [`Severity`] that people read.

#![cfg_attr(not(test), deny(clippy::arithmetic_side_effects))]

pub mod blocks;
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
pub mod packed;
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
/// The usual sector size of disks, in bytes: what partition tables count in unless they were made for larger ones.
pub const SECTOR: u64 = 512;
