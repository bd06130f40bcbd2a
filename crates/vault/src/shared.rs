//! What a vault knows of the other services that work with it: who is asked, what each is about to do, and when it was
//! looked last for what they have added.

use std::collections::HashSet;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock};
use std::time::Instant;

use crate::error::VaultError;
use crate::keys::Name;
use crate::objects::SegmentId;

/// The other services that work with the same vault. Calls block.
pub trait Others: Send + Sync {
    /// Begins a round of tidying: all others note from now on what they rely on. No other round is under way until it is
    /// dropped.
    ///
    /// # Errors
    /// [`VaultError::Others`] where one of them cannot be asked, or tidies itself: nothing may go then.
    fn begin(&self) -> Result<Box<dyn Round>, VaultError>;

    /// Tells all others that these pieces are damaged.
    fn forget(&self, names: &[Name]);
}

/// A round of tidying with all others.
pub trait Round {
    /// Asks for these segments. Gives those that another relies on; the rest nobody relies on any more.
    ///
    /// # Errors
    /// [`VaultError::Others`] where one of them cannot be asked: none of them may go then.
    fn give_up(&self, segments: &[SegmentId]) -> Result<HashSet<SegmentId>, VaultError>;
}

/// What a vault knows of the others.
#[derive(Default)]
pub(crate) struct Shared {
    others: OnceLock<Arc<dyn Others>>,
    state: Mutex<State>,
}

#[derive(Default)]
pub(crate) struct State {
    /// The round of tidying that another one has begun.
    pub round: Option<String>,
    /// Segments that are being stored here and are not in the index yet: the others may see them before.
    pub making: HashSet<Arc<str>>,
    /// Segments that others took away and that are not known here yet.
    pub leaving: HashSet<Arc<str>>,
    /// When it was looked last for what the others have added.
    pub looked: Option<Instant>,
    /// Segments that the others were asked for in the last round: some of them go.
    pub asked: HashSet<Arc<str>>,
    /// Whether something went from the index since everything was looked at, so that what lay there may be found
    /// elsewhere.
    pub went: bool,
}

impl Shared {
    pub fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Said once, before any work begins.
    pub fn meet(&self, others: Arc<dyn Others>) {
        let _ = self.others.set(others);
    }

    pub fn others(&self) -> Option<&Arc<dyn Others>> {
        self.others.get()
    }

    /// A segment of this name is about to be stored.
    pub fn makes(&self, id: &Arc<str>) {
        self.state().making.insert(id.clone());
    }

    /// It is in the index now.
    pub fn made(&self, id: &Arc<str>) {
        self.state().making.remove(id);
    }

    /// Something is not found in the index any more.
    pub fn went(&self) {
        self.state().went = true;
    }
}
