//! What work relies on: as long as it holds on to a segment, nobody tidies that away.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard};

use crate::keys::Name;
use crate::objects::SegmentId;
use crate::store::Vault;

/// Held by work from its first look at the vault until the records name what it made. What it relied on stays until
/// then, and everything that was made with it.
pub struct Hold {
    vault: Arc<Vault>,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    /// Segments that are held, and whether each is there.
    held: HashMap<u32, bool>,
    made: Vec<SegmentId>,
}

impl Vault {
    /// Begins work with the vault: what it relies on stays until the hold is dropped.
    pub fn hold(self: &Arc<Self>) -> Arc<Hold> {
        Arc::new(Hold {
            vault: self.clone(),
            state: Mutex::default(),
        })
    }
}

impl Hold {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// The vault that it holds on to.
    pub fn vault(&self) -> &Arc<Vault> {
        &self.vault
    }

    /// Whether content is there, which stays there then, in both places where it lies twice. A segment that it lies in
    /// is looked at once: the index may know more than there is.
    pub(crate) fn has(&self, name: Name) -> bool {
        let mut state = self.state();
        let held = |segment: u32| state.held.contains_key(&segment);
        let segments = self.vault.pin_places(name, held);
        let mut has = false;
        for segment in segments {
            let there = match state.held.get(&segment) {
                Some(there) => *there,
                None => self.vault.is_there(segment),
            };
            state.held.insert(segment, there);
            has |= there;
        }
        has
    }

    /// A segment was made for this work.
    pub(crate) fn made(&self, number: u32, id: SegmentId) {
        let mut state = self.state();
        state.held.insert(number, true);
        state.made.push(id);
    }

    /// Nothing is held any more: the records name what was made, or nobody will.
    pub fn release(&self) {
        let held = std::mem::take(&mut self.state().held);
        let held: Vec<u32> = held.into_keys().collect();
        self.vault.unpin(&held);
    }

    /// The segments that were made for this work.
    pub fn segments(&self) -> Vec<SegmentId> {
        self.state().made.clone()
    }
}

impl Drop for Hold {
    fn drop(&mut self) {
        self.release();
    }
}
