//! Digests of passwords are slow on purpose: a few are computed at once, some wait, and no address takes all the places.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use tokio::sync::Semaphore;

use crate::refusal::Refusal;

/// Digests that are computed at once: each takes 19 MB and a tenth of a second of a processor.
const AT_ONCE: usize = 2;
/// Those that wait or are computed, of all strange places together; and of one place.
const STRANGE: usize = 24;
const OF_PLACE: usize = 4;
/// Those of places that somebody was signed in from before, besides.
const FAMILIAR: usize = 24;

/// Who waits for a digest.
#[derive(Clone)]
pub struct Queue {
    turns: Arc<Semaphore>,
    waiting: Arc<Mutex<HashMap<(bool, String), usize>>>,
}

/// A place in the queue, given back when it is dropped.
struct Waiting {
    queue: Queue,
    place: (bool, String),
}

impl Drop for Waiting {
    fn drop(&mut self) {
        let mut waiting = self.queue.waiting();
        let left = waiting
            .get(&self.place)
            .map_or(0, |many| many.saturating_sub(1));
        match left {
            0 => drop(waiting.remove(&self.place)),
            left => drop(waiting.insert(self.place.clone(), left)),
        }
    }
}

impl Queue {
    /// An empty one.
    pub fn new() -> Self {
        Self {
            turns: Arc::new(Semaphore::new(AT_ONCE)),
            waiting: Arc::default(),
        }
    }

    fn waiting(&self) -> std::sync::MutexGuard<'_, HashMap<(bool, String), usize>> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn join(&self, place: &str, familiar: bool) -> Result<Waiting, Refusal> {
        let place = (familiar, place.to_owned());
        let mut waiting = self.waiting();
        let own = waiting.get(&place).copied().unwrap_or(0);
        let alike = waiting.iter().filter(|((kind, _), _)| *kind == familiar);
        let all: usize = alike.map(|(_, many)| *many).sum();
        let most = if familiar { FAMILIAR } else { STRANGE };
        if own >= OF_PLACE || all >= most {
            return Err(Refusal::busy("too many sign in at this moment"));
        }
        waiting.insert(place.clone(), own + 1);
        drop(waiting);
        Ok(Waiting {
            queue: self.clone(),
            place,
        })
    }

    /// Computes a digest for whoever asks from a place.
    ///
    /// # Errors
    /// A refusal to wait where too many do.
    pub async fn compute<T: Send + 'static>(
        &self,
        place: &str,
        familiar: bool,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, Refusal> {
        let waiting = self.join(place, familiar)?;
        let turn = self.turns.clone().acquire_owned().await;
        let done = tokio::task::spawn_blocking(move || {
            let _held = (waiting, turn);
            work()
        });
        done.await
            .map_err(|e| Refusal::busy(&format!("a password was not looked at ({e})")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_place_takes_all_and_strangers_leave_room() {
        let queue = Queue::new();
        let mut held: Vec<_> = (0..OF_PLACE)
            .map(|_| queue.join("a", false).unwrap())
            .collect();
        assert!(queue.join("a", false).is_err(), "its share is taken");
        for place in 0..STRANGE - OF_PLACE {
            held.push(queue.join(&format!("b{place}"), false).unwrap());
        }
        assert!(queue.join("c", false).is_err(), "strangers have their room");
        held.push(queue.join("a", true).unwrap());
        held.truncate(1);
        assert!(queue.join("c", false).is_ok());
        drop(held);
        assert!(queue.waiting().is_empty());
    }
}
