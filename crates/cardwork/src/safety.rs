//! What binds a plan to the very card that was seen.

use imagecraft::CHUNK;

use crate::{CardError, CardIo, Insertion, Medium};

/// Length of head and tail that the digest covers, in bytes.
const EDGE: u64 = CHUNK / 2;

/// The insertion, size and edges of a card at one moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bound {
    /// The insertion.
    pub insertion: Insertion,
    /// Size in bytes.
    pub size: u64,
    /// Digest of the card's first and last bytes.
    pub edges: [u8; 32],
}

/// Why a card must not be touched.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Unsafe {
    /// Another insertion, another size, or other content at the edges.
    #[error("the card is not the one that the plan was made for; make the plan again")]
    Swapped,
    /// The card's slider forbids writing.
    #[error("the card is locked; move its slider and put it in again")]
    Locked,
    /// The bench's own system uses it.
    #[error("the card is in use by this computer ({0}); release it first")]
    InUse(String),
    /// The card could not be read.
    #[error(transparent)]
    Card(#[from] CardError),
}

impl Bound {
    /// Takes down what identifies a held card.
    pub fn to(card: &dyn CardIo, insertion: &Insertion) -> Result<Self, CardError> {
        let size = card.size();
        let len = EDGE.min(size);
        let mut edge = vec![0; len as usize];
        let mut hasher = blake3::Hasher::new();
        for at in [0, size - len] {
            card.read_at(at, &mut edge)?;
            hasher.update(&edge);
        }
        Ok(Self {
            insertion: insertion.clone(),
            size,
            edges: *hasher.finalize().as_bytes(),
        })
    }

    /// Passes only a writable card that is still the one that was seen.
    pub fn check(&self, medium: &Medium, card: &dyn CardIo) -> Result<(), Unsafe> {
        if medium.insertion != self.insertion || medium.size != self.size {
            return Err(Unsafe::Swapped);
        }
        if medium.locked {
            return Err(Unsafe::Locked);
        }
        if let Some(by) = &medium.in_use {
            return Err(Unsafe::InUse(by.clone()));
        }
        if Self::to(card, &medium.insertion)? != *self {
            return Err(Unsafe::Swapped);
        }
        Ok(())
    }
}
