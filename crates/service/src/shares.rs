//! How much of something that is bounded one person has: the newest that is taken ends the oldest.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard};

use tokio::sync::oneshot;

/// One that is taken, and what ends it.
struct Taken {
    number: u64,
    _end: oneshot::Sender<()>,
}

#[derive(Default)]
struct State {
    of: HashMap<i64, VecDeque<Taken>>,
    last: u64,
}

/// What is taken now, by whom.
#[derive(Default)]
pub struct Shares(Mutex<State>);

/// One that is taken; given back when it is dropped.
pub struct Share {
    of: Arc<Shares>,
    who: i64,
    number: u64,
    ended: oneshot::Receiver<()>,
}

impl Shares {
    fn state(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// One more for a person. Who has `most` loses the oldest.
    pub fn take(self: &Arc<Self>, who: i64, most: usize) -> Share {
        let mut state = self.state();
        state.last += 1;
        let number = state.last;
        let (end, ended) = oneshot::channel();
        let taken = state.of.entry(who).or_default();
        while taken.len() >= most.max(1) {
            taken.pop_front();
        }
        taken.push_back(Taken { number, _end: end });
        let of = self.clone();
        Share {
            of,
            who,
            number,
            ended,
        }
    }
}

impl Share {
    /// Returns when a newer one of the same person took its place.
    pub async fn ended(&mut self) {
        let _ = (&mut self.ended).await;
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        let mut state = self.of.state();
        if let Some(taken) = state.of.get_mut(&self.who) {
            taken.retain(|one| one.number != self.number);
            if taken.is_empty() {
                state.of.remove(&self.who);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_newest_stay_and_what_is_given_back_is_free() {
        let shares = Arc::new(Shares::default());
        let mut first = shares.take(1, 2);
        let mut second = shares.take(1, 2);
        let _other = shares.take(2, 2);
        let mut third = shares.take(1, 2);
        first.ended().await;
        let stays =
            |share: &mut Share| share.ended.try_recv() == Err(oneshot::error::TryRecvError::Empty);
        assert!(stays(&mut second) && stays(&mut third));
        drop(second);
        let _fourth = shares.take(1, 2);
        assert!(stays(&mut third));
        drop(third);
        drop(first);
        assert_eq!(shares.state().of[&1].len(), 1);
    }
}
