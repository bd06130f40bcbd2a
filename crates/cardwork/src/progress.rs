//! How far long work is, how fast it goes, how long it will take, and whether it shall stop.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, MutexGuard};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};

/// The rate is taken over this much of the recent past.
const WINDOW: Duration = Duration::from_secs(6);
/// Parts of a stage whose speed is kept.
const PARTS: u64 = 64;
/// The least that a part is long, in bytes and in time: several reads are under way at once, and what one
/// by one of them takes tells nothing.
const PART: u64 = 2 << 20;
const LEAST: Duration = Duration::from_millis(50);
/// Samples closer together than this are merged.
const GRAIN: Duration = Duration::from_millis(200);

/// What is being done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Stage {
    /// Nothing yet.
    Waiting,
    /// Fetching an image from its publisher.
    Fetching,
    /// Unpacking, hashing and storing an image.
    Importing,
    /// Reading two images and comparing them.
    Comparing,
    /// Composing a card's content and recording it.
    Composing,
    /// Writing the card.
    Writing,
    /// Reading back what was written, or reading a second time.
    Verifying,
    /// Reading the card.
    Reading,
    /// Keeping what is on the card while it is checked.
    Saving,
    /// Putting test data on the card and reading it back.
    Checking,
    /// Giving the card back what was on it.
    PuttingBack,
    /// Reading content in the vault and authenticating it.
    Inspecting,
    /// Copying what is still used of segments of the vault.
    Tidying,
    /// Copying segments to the second vault.
    Copying,
    /// Flushing and recording.
    Finishing,
}

impl Stage {
    /// The word for people, and in events.
    pub fn name(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Fetching => "fetching",
            Self::Importing => "importing",
            Self::Comparing => "comparing",
            Self::Composing => "composing",
            Self::Writing => "writing",
            Self::Verifying => "verifying",
            Self::Reading => "reading",
            Self::Saving => "saving",
            Self::Checking => "checking",
            Self::Inspecting => "inspecting",
            Self::Tidying => "tidying",
            Self::Copying => "copying",
            Self::PuttingBack => "putting back",
            Self::Finishing => "finishing",
        }
    }
}

/// How things stand at one moment.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Snapshot {
    /// What is being done.
    pub stage: Stage,
    /// Bytes of this stage that are done.
    pub done: u64,
    /// Bytes of this stage in all.
    pub total: u64,
    /// Bytes a second over the recent past; 0 while unknown.
    pub rate: f64,
    /// Time left of this stage, once a rate is known.
    pub left: Option<Duration>,
}

struct State {
    stage: Stage,
    done: u64,
    total: u64,
    samples: VecDeque<(Instant, u64)>,
    /// When and where the part of the stage began whose speed is being taken.
    part: (Instant, u64),
}

/// How fast a stage was along its way.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Curve {
    /// The stage.
    pub stage: String,
    /// Bytes done at the end of each part, and bytes a second in it.
    pub points: Vec<(u64, f64)>,
}

impl Curve {
    /// Bytes a second over all of it, if anything was done in any time.
    pub fn mean(&self) -> Option<f64> {
        let (mut seconds, mut before) = (0.0, 0);
        for (end, rate) in &self.points {
            seconds += end.saturating_sub(before) as f64 / rate.max(1.0);
            before = *end;
        }
        (seconds > 0.0).then(|| before as f64 / seconds)
    }
}

/// Shared between the thread that works and those that look on.
pub struct Progress {
    state: Mutex<State>,
    curves: Mutex<Vec<Curve>>,
    cancelled: AtomicBool,
}

impl Default for Progress {
    fn default() -> Self {
        Self {
            state: Mutex::new(State {
                stage: Stage::Waiting,
                done: 0,
                total: 0,
                samples: VecDeque::new(),
                part: (Instant::now(), 0),
            }),
            curves: Mutex::default(),
            cancelled: AtomicBool::new(false),
        }
    }
}

impl Progress {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Begins a stage of `total` bytes.
    pub fn begin(&self, stage: Stage, total: u64) {
        self.begin_at(stage, total, Instant::now());
    }

    fn begin_at(&self, stage: Stage, total: u64, now: Instant) {
        let mut state = self.state();
        *state = State {
            stage,
            done: 0,
            total,
            samples: VecDeque::from([(now, 0)]),
            part: (now, 0),
        };
        let mut curves = self.curves.lock().unwrap_or_else(|e| e.into_inner());
        curves.push(Curve {
            stage: stage.name().into(),
            points: Vec::new(),
        });
    }

    /// Counts bytes as done.
    pub fn advance(&self, bytes: u64) {
        self.advance_at(bytes, Instant::now());
    }

    fn advance_at(&self, bytes: u64, now: Instant) {
        let mut state = self.state();
        state.done += bytes;
        let done = state.done;
        match state.samples.back() {
            Some((at, _)) if now - *at < GRAIN => {}
            _ => state.samples.push_back((now, done)),
        }
        // A part is long enough that its speed means something.
        let part = (state.total / PARTS).max(PART);
        let seconds = (now - state.part.0).as_secs_f64();
        let long = done - state.part.1 >= part && seconds >= LEAST.as_secs_f64();
        // A stage that is over sooner is one part.
        let whole = state.part.1 == 0 && done == state.total && seconds > 0.0;
        if long || whole {
            let rate = (done - state.part.1) as f64 / seconds;
            state.part = (now, done);
            let mut curves = self.curves.lock().unwrap_or_else(|e| e.into_inner());
            if let Some(curve) = curves.last_mut() {
                curve.points.push((done, rate.round()));
            }
        }
        while state.samples.len() > 2 && now - state.samples[0].0 > WINDOW {
            state.samples.pop_front();
        }
    }

    /// How fast the stages were that moved bytes.
    pub fn curves(&self) -> Vec<Curve> {
        let curves = self.curves.lock().unwrap_or_else(|e| e.into_inner());
        let moved = curves.iter().filter(|curve| !curve.points.is_empty());
        moved.cloned().collect()
    }

    /// Asks the work to stop at the next safe place.
    pub fn cancel(&self) {
        self.cancelled.store(true, Ordering::Relaxed);
    }

    /// Whether the work shall stop.
    pub fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }

    /// How things stand now.
    pub fn snapshot(&self) -> Snapshot {
        let state = self.state();
        let rate = match (state.samples.front(), state.samples.back()) {
            (Some(first), Some(last)) if last.1 > first.1 => {
                (last.1 - first.1) as f64 / (last.0 - first.0).as_secs_f64()
            }
            _ => 0.0,
        };
        let rest = state.total.saturating_sub(state.done);
        Snapshot {
            stage: state.stage,
            done: state.done,
            total: state.total,
            rate,
            left: (rate > 0.0 && state.total > 0)
                .then(|| Duration::from_secs_f64(rest as f64 / rate)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// On a clock of its own: a computer that is busy elsewhere changes nothing.
    #[test]
    fn rate_and_time_left_follow_the_bytes() {
        let progress = Progress::default();
        let mut now = Instant::now();
        progress.begin_at(Stage::Writing, 1000, now);
        assert_eq!(progress.snapshot().left, None);
        now += Duration::from_millis(250);
        progress.advance_at(250, now);
        let seen = progress.snapshot();
        assert!((seen.rate - 1000.0).abs() < 1e-6, "{seen:?}");
        let left = seen.left.unwrap().as_secs_f64();
        assert!((left - 0.75).abs() < 1e-6, "{seen:?}");
        // Two moments are too close together to tell a speed of a part, and a part is too short.
        assert_eq!(progress.curves(), []);
        progress.begin_at(Stage::Verifying, 4 << 20, now);
        progress.advance_at(2 << 20, now);
        now += Duration::from_millis(60);
        progress.advance_at(1 << 19, now);
        progress.advance_at(3 << 19, now);
        let curves = progress.curves();
        assert_eq!((curves.len(), curves[0].stage.as_str()), (1, "verifying"));
        let expected = (f64::from(5 << 19) / 0.06).round();
        assert_eq!(curves[0].points, [(5 << 19, expected)]);
        progress.begin_at(Stage::Reading, 1000, now);
        progress.advance_at(1000, now + Duration::from_millis(1));
        assert_eq!(progress.curves()[1].points[0].0, 1000);
        progress.begin_at(Stage::Verifying, 500, now);
        assert_eq!(progress.snapshot().done, 0);
    }

    #[test]
    fn the_rate_is_that_of_the_recent_past() {
        let progress = Progress::default();
        let mut now = Instant::now();
        progress.begin_at(Stage::Writing, 100_000, now);
        for _ in 0..40 {
            now += Duration::from_millis(500);
            progress.advance_at(500, now);
        }
        for _ in 0..40 {
            now += Duration::from_millis(500);
            progress.advance_at(50, now);
        }
        let seen = progress.snapshot();
        assert!((seen.rate - 100.0).abs() < 1.0, "{seen:?}");
    }
}
