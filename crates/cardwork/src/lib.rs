//! Work on cards: write one so that it is never half right, verify it, read it, recognise it.
//!
//! A card sits in a [`Slot`] and is reached through [`CardIo`]. Real readers and the stand-in
//! are behind the same two traits; [`conformance`] is the suite that each of them passes.

mod beside;
pub mod check;
pub mod conformance;
mod flight;
mod memory;
mod occupant;
mod pattern;
mod progress;
mod read;
mod safety;
mod slot;
mod write;

pub use beside::{Beside, Chunks, Fill, Likely, Saves, Take, Unknown};
pub use memory::MemorySlot;
pub use occupant::{Contents, Mark, Occupant, look};
pub use progress::{Curve, Progress, Snapshot, Stage};
pub use read::{read_again, read_batches, read_out};
pub use safety::{Bound, Unsafe};
pub use slot::{Access, CardDisk, CardError, CardIo, Insertion, Medium, Place, Slot, USUAL_BLOCK};
pub use write::{Left, Options, Unwritten, WriteError, Written, has_edges_of, write};

/// Bytes moved to or from a card at once.
pub(crate) const BATCH: usize = 8 * imagecraft::CHUNK_LEN;
