//! Stretches of segments that are read ahead, shared by all threads that read one disk: each is read once, whoever
//! comes first.

use std::collections::VecDeque;
use std::ops::Range;
use std::sync::{Condvar, Mutex, MutexGuard};

use bytes::Bytes;

use crate::index::Place;

/// Stretch of a segment that is read at once, in bytes.
const WINDOW: u64 = 2 << 20;
/// Stretches that are kept.
const KEPT: usize = 4;

/// A stretch of a segment.
#[derive(Clone, PartialEq, Eq)]
struct Stretch {
    segment: u32,
    range: Range<u64>,
}

impl Stretch {
    /// Where a piece lies in it, if it lies there whole.
    fn place_of(&self, place: Place) -> Option<Range<usize>> {
        let start = u64::from(place.offset).checked_sub(self.range.start)?;
        let end = start + u64::from(place.len);
        let inside = self.segment == place.segment && self.range.start + end <= self.range.end;
        inside.then_some(start as usize..end as usize)
    }
}

#[derive(Default)]
struct State {
    /// What is there, that which was used last at the end.
    kept: VecDeque<(Stretch, Bytes)>,
    /// What somebody reads now.
    coming: Vec<Stretch>,
}

impl State {
    fn find(&mut self, place: Place) -> Option<Bytes> {
        let mut all = self.kept.iter().enumerate();
        let (number, within) =
            all.find_map(|(number, (stretch, _))| Some((number, stretch.place_of(place)?)))?;
        let found = self.kept.remove(number)?;
        let piece = found.1.slice(within);
        self.kept.push_back(found);
        Some(piece)
    }
}

/// The stretches that were read last.
#[derive(Default)]
pub(crate) struct Windows {
    state: Mutex<State>,
    /// Told when something that was coming is there, or does not come.
    came: Condvar,
}

/// Takes a stretch off the list of those that come, whatever became of it.
struct Coming<'a> {
    windows: &'a Windows,
    stretch: Stretch,
}

impl Drop for Coming<'_> {
    fn drop(&mut self) {
        let mut state = self.windows.state();
        state.coming.retain(|coming| *coming != self.stretch);
        drop(state);
        self.windows.came.notify_all();
    }
}

impl Windows {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// The bytes of a piece, out of what was read already, or read now together with what lies behind it. `read` may
    /// give less than it is asked for where the segment ends; what lies there is not whole then.
    ///
    /// # Errors
    /// What `read` says.
    pub fn piece<E>(
        &self,
        place: Place,
        read: impl FnOnce(Range<u64>) -> Result<Bytes, E>,
    ) -> Result<Bytes, E> {
        let start = u64::from(place.offset);
        let end = start + u64::from(place.len).max(WINDOW);
        let stretch = Stretch {
            segment: place.segment,
            range: start..end,
        };
        let mut state = self.state();
        loop {
            if let Some(piece) = state.find(place) {
                return Ok(piece);
            }
            let mut coming = state.coming.iter();
            if !coming.any(|coming| coming.place_of(place).is_some()) {
                break;
            }
            state = self.came.wait(state).unwrap_or_else(|e| e.into_inner());
        }
        state.coming.push(stretch.clone());
        drop(state);
        let coming = Coming {
            windows: self,
            stretch,
        };
        let bytes = read(start..end)?;
        let there = Stretch {
            segment: place.segment,
            range: start..start + bytes.len() as u64,
        };
        let piece = bytes.slice(..bytes.len().min(place.len as usize));
        let mut state = self.state();
        state.kept.push_back((there, bytes));
        if state.kept.len() > KEPT {
            state.kept.pop_front();
        }
        drop(state);
        drop(coming);
        Ok(piece)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU64, Ordering};
    use std::time::Duration;

    use super::*;

    const PIECE: u32 = 40_000;

    fn place(segment: u32, number: u32) -> Place {
        Place {
            kind: crate::piece::Kind::Chunk,
            segment,
            offset: number * PIECE,
            len: PIECE,
        }
    }

    /// A segment whose bytes tell where they lie.
    fn bytes(segment: u32, range: Range<u64>) -> Bytes {
        let of = |at: u64| (at.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 56) as u8 ^ segment as u8;
        range.map(of).collect::<Vec<u8>>().into()
    }

    #[test]
    fn whoever_reads_a_disk_together_reads_each_stretch_once() {
        let windows = Windows::default();
        let (read, next) = (AtomicU64::new(0), AtomicU64::new(0));
        let pieces = 1500;
        let len = u64::from(PIECE) * pieces;
        std::thread::scope(|scope| {
            for _ in 0..4 {
                scope.spawn(|| {
                    loop {
                        let number = next.fetch_add(1, Ordering::SeqCst);
                        if number >= pieces {
                            return;
                        }
                        let place = place(3, number as u32);
                        let piece = windows.piece(place, |range| {
                            let range = range.start..range.end.min(len);
                            read.fetch_add(range.end - range.start, Ordering::SeqCst);
                            std::thread::sleep(Duration::from_micros(300));
                            Ok::<_, ()>(bytes(3, range))
                        });
                        let start = number * u64::from(PIECE);
                        let wanted = bytes(3, start..start + u64::from(PIECE));
                        assert_eq!(piece, Ok(wanted), "piece {number}");
                    }
                });
            }
        });
        // What is cut by the end of a stretch is read with the next one.
        let read = read.into_inner();
        assert!(read < len / 100 * 104, "{read} bytes read for {len}");
    }

    #[test]
    fn a_read_that_fails_or_is_short_keeps_nobody_waiting() {
        let windows = Windows::default();
        assert_eq!(windows.piece(place(1, 0), |_| Err("away")), Err("away"));
        std::thread::scope(|scope| {
            for _ in 0..2 {
                scope.spawn(|| {
                    let panics = std::panic::AssertUnwindSafe(|| {
                        let _ = windows.piece(place(1, 0), |_| -> Result<Bytes, ()> {
                            std::thread::sleep(Duration::from_millis(20));
                            panic!("the store")
                        });
                    });
                    assert!(std::panic::catch_unwind(panics).is_err());
                });
            }
        });
        let short = windows.piece(place(1, 0), |range| {
            Ok::<_, ()>(bytes(1, range.start..range.start + 10))
        });
        assert_eq!(short, Ok(bytes(1, 0..10)));
        // What came short is not taken for the whole.
        let whole = windows.piece(place(1, 0), |range| Ok::<_, ()>(bytes(1, range)));
        assert_eq!(whole, Ok(bytes(1, 0..u64::from(PIECE))));
        // Another segment is another one.
        let other = windows.piece(place(2, 1), |range| Ok::<_, ()>(bytes(2, range)));
        let start = u64::from(PIECE);
        assert_eq!(other, Ok(bytes(2, start..2 * start)));
    }
}
