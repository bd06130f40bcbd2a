//! Who must wait for whom, by a key.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, Weak};

/// The turns that are waited for now.
#[derive(Default)]
pub struct Turns(Mutex<HashMap<String, Weak<tokio::sync::Mutex<()>>>>);

impl Turns {
    /// Waits until nobody else has the turn of this key.
    pub async fn of(&self, key: &str) -> tokio::sync::OwnedMutexGuard<()> {
        let turn = {
            let mut turns = self.0.lock().unwrap_or_else(|e| e.into_inner());
            turns.retain(|_, turn| turn.strong_count() > 0);
            let known = turns.get(key).and_then(Weak::upgrade);
            known.unwrap_or_else(|| {
                let turn = Arc::default();
                turns.insert(key.to_owned(), Arc::downgrade(&turn));
                turn
            })
        };
        turn.lock_owned().await
    }
}
