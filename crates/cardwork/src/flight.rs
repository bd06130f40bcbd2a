//! Several hands at one piece of work, so that neither the card nor the processor waits for the other;
//! what they give comes in order.

use std::collections::BTreeMap;
use std::sync::mpsc::sync_channel;
use std::sync::{Mutex, MutexGuard};
use std::time::Duration;

use crate::CardError;

/// Reads or writes of a card that are under way at once: while the answer to one is on its way, the next
/// is at the card already.
pub(crate) const HANDS: usize = 2;

/// How often a card is asked again that reported an error, and how long it may rest before.
const TRIES: u32 = 2;
const REST: Duration = Duration::from_millis(60);

/// Does `work` on each item with so many hands, no more than `ahead` of them under way or waiting to be
/// taken, and gives what comes of it to `take` in the order of the items.
///
/// # Errors
/// The first in the order of the items, from either.
pub(crate) fn in_order<I: Send, T: Send, E: Send>(
    hands: usize,
    ahead: usize,
    items: impl Iterator<Item = I> + Send,
    work: impl Fn(I) -> Result<T, E> + Sync,
    mut take: impl FnMut(T) -> Result<(), E>,
) -> Result<(), E> {
    // Who has one of the places takes the next item: the first of those under way always has one.
    let (room, rooms) = sync_channel(ahead);
    for _ in 0..ahead {
        let _ = room.try_send(());
    }
    let todo = Mutex::new((items.enumerate(), rooms));
    std::thread::scope(|scope| {
        let (full, filled) = sync_channel(ahead);
        for _ in 0..hands {
            let (full, todo, work) = (full.clone(), &todo, &work);
            scope.spawn(move || {
                loop {
                    let (number, item) = {
                        let mut todo = lock(todo);
                        let (items, rooms) = &mut *todo;
                        let Ok(()) = rooms.recv() else { return };
                        let Some(next) = items.next() else { return };
                        next
                    };
                    let done = work(item);
                    let failed = done.is_err();
                    // Whoever takes hung up: there is an error of its own to report.
                    if full.send((number, done)).is_err() || failed {
                        return;
                    }
                }
            });
        }
        drop(full);
        // The other end of the places goes with this closure, whatever ends it: nobody waits on.
        let room = room;
        let (mut early, mut next) = (BTreeMap::new(), 0);
        for (number, done) in filled {
            early.insert(number, done);
            while let Some(done) = early.remove(&next) {
                take(done?)?;
                next += 1;
                let _ = room.try_send(());
            }
        }
        Ok(())
    })
}

/// Buffers that go round.
#[derive(Default)]
pub(crate) struct Pool(Mutex<Vec<Vec<u8>>>);

impl Pool {
    /// One that may hold anything.
    pub(crate) fn take(&self) -> Vec<u8> {
        lock(&self.0).pop().unwrap_or_default()
    }

    /// Gives one back.
    pub(crate) fn give(&self, buf: Vec<u8>) {
        lock(&self.0).push(buf);
    }
}

pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|e| e.into_inner())
}

/// Asks a card again where it reports an error that may pass. A card that is gone, locked, or never
/// answers is not asked again.
pub(crate) fn with_tries<T>(mut ask: impl FnMut() -> Result<T, CardError>) -> Result<T, CardError> {
    let mut tries = 0;
    loop {
        match ask() {
            Err(CardError::Failed { .. }) if tries < TRIES => {
                tries += 1;
                std::thread::sleep(REST * tries);
            }
            answer => return answer,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[test]
    fn results_come_in_order_and_no_more_are_under_way_than_allowed() {
        let (under_way, most) = (AtomicUsize::new(0), AtomicUsize::new(0));
        let mut taken = Vec::new();
        in_order(
            4,
            6,
            0..200_u64,
            |item| {
                most.fetch_max(
                    under_way.fetch_add(1, Ordering::SeqCst) + 1,
                    Ordering::SeqCst,
                );
                std::thread::sleep(Duration::from_micros(item * 7919 % 400));
                Ok::<_, ()>(item)
            },
            |item| {
                under_way.fetch_sub(1, Ordering::SeqCst);
                taken.push(item);
                Ok(())
            },
        )
        .unwrap();
        assert_eq!(taken, (0..200).collect::<Vec<_>>());
        assert!(most.load(Ordering::SeqCst) <= 6);
    }

    #[test]
    fn the_first_error_in_order_ends_it_and_nobody_waits_on() {
        let fails = |at: u64| {
            let mut taken = 0;
            let ended = in_order(
                3,
                4,
                0..1000_u64,
                |item| match item == at || item == at + 1 {
                    true => Err(item),
                    false => Ok(item),
                },
                |_| {
                    taken += 1;
                    Ok(())
                },
            );
            assert_eq!((ended, taken), (Err(at), at));
        };
        fails(0);
        fails(500);
        let ended = in_order(3, 4, 0..1000, Ok, |item| match item {
            7 => Err("enough"),
            _ => Ok(()),
        });
        assert_eq!(ended, Err("enough"));
    }

    #[test]
    fn what_may_pass_is_tried_again_and_nothing_else() {
        let failed = || CardError::Failed {
            op: "reading".into(),
            offset: 0,
            detail: "once".into(),
        };
        let mut asked = 0;
        let answer = with_tries(|| {
            asked += 1;
            if asked < 3 { Err(failed()) } else { Ok(asked) }
        });
        assert_eq!(answer.unwrap(), 3);
        let mut asked = 0;
        assert!(
            with_tries::<()>(|| {
                asked += 1;
                Err(failed())
            })
            .is_err()
        );
        assert_eq!(asked, 3);
        let mut asked = 0;
        assert!(
            with_tries::<()>(|| {
                asked += 1;
                Err(CardError::Gone)
            })
            .is_err()
        );
        assert_eq!(asked, 1);
    }
}
