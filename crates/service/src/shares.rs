//! How much of something that is bounded one person has.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard};

/// What is taken now, by whom.
#[derive(Default)]
pub struct Shares(Mutex<HashMap<i64, usize>>);

/// One that is taken; given back when it is dropped.
pub struct Share {
    of: Arc<Shares>,
    who: i64,
}

impl Shares {
    fn taken(&self) -> MutexGuard<'_, HashMap<i64, usize>> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// One more for somebody, unless they have `most`.
    pub fn take(self: &Arc<Self>, who: i64, most: usize) -> Option<Share> {
        let mut taken = self.taken();
        let has = taken.entry(who).or_default();
        if *has >= most {
            return None;
        }
        *has += 1;
        let of = self.clone();
        Some(Share { of, who })
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        let mut taken = self.of.taken();
        if let Some(has) = taken.get_mut(&self.who) {
            *has = has.saturating_sub(1);
            if *has == 0 {
                taken.remove(&self.who);
            }
        }
    }
}
