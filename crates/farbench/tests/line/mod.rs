//! A service and a bench in one program, and a connection between them that is cut, slow, and made again in any order.

#![allow(dead_code)] // each test uses a part of it

use std::collections::VecDeque;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use bench::Bindings;
use bench::linux::Disk;
use cardwork::{CardError, Slot};
use farbench::message::SlotSeen;
use farbench::service::{Coming, FarBench};
use farbench::worker::{Cache, Places, Slots, Talk};
use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream};

/// A bench with one slot.
pub struct OneSlot<S>(pub S);

impl<S: Slot + Clone + 'static> Places for OneSlot<S> {
    fn survey(&self) -> Vec<SlotSeen> {
        vec![SlotSeen {
            number: 1,
            place: self.0.place(),
            title: "the only one".into(),
            medium: self.0.medium().ok().flatten(),
            trouble: None,
        }]
    }

    fn slot(&self, number: u32) -> Result<Option<Arc<dyn Slot>>, CardError> {
        Ok((number == 1).then(|| Arc::new(self.0.clone()) as _))
    }

    fn disks(&self) -> Result<(Vec<Disk>, Bindings, Option<String>), CardError> {
        Ok((Vec::new(), Bindings::default(), None))
    }

    fn bind(&self, _: Bindings) -> Result<(), String> {
        Err("this bench has one slot, and that stays".into())
    }
}

/// What becomes of one connection.
#[derive(Clone, Copy, Debug)]
pub struct Fate {
    /// It is cut after so many bytes.
    pub bytes: u64,
    /// Each piece of it takes so long.
    pub slow: Duration,
    /// How long nobody calls after it was cut.
    pub away: Duration,
    /// Whether an old call arrives after the next one.
    pub straggler: bool,
}

/// Both sides.
pub struct Pair {
    pub bench: Arc<FarBench>,
    pub slots: Arc<Slots>,
    /// Bytes that the service sent to the bench.
    pub to_bench: Arc<AtomicU64>,
    /// Connections that there were.
    pub calls: Arc<AtomicU64>,
    over: Arc<AtomicBool>,
    runtime: Option<tokio::runtime::Runtime>,
}

impl Drop for Pair {
    fn drop(&mut self) {
        self.over.store(true, Ordering::SeqCst);
        self.bench.leave("the test is over");
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_timeout(Duration::from_secs(5));
        }
    }
}

async fn pump(
    mut from: tokio::io::ReadHalf<DuplexStream>,
    mut to: tokio::io::WriteHalf<DuplexStream>,
    fate: Fate,
    left: Arc<Mutex<u64>>,
    count: Option<Arc<AtomicU64>>,
) {
    let mut piece = vec![0; 16 << 10];
    while let Ok(len) = from.read(&mut piece).await {
        if len == 0 {
            return;
        }
        if !fate.slow.is_zero() {
            tokio::time::sleep(fate.slow).await;
        }
        let passes = {
            let mut left = left.lock().unwrap();
            let passes = (len as u64).min(*left);
            *left -= passes;
            passes as usize
        };
        if let Some(count) = &count {
            count.fetch_add(passes as u64, Ordering::SeqCst);
        }
        if to.write_all(&piece[..passes]).await.is_err() || passes < len {
            return;
        }
    }
}

impl Pair {
    /// A bench with these slots, whose connections come to these fates; those behind them stay.
    pub fn new(
        places: impl Places + 'static,
        cache: &Path,
        patience: Duration,
        fates: Vec<Fate>,
    ) -> Self {
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .enable_all()
            .build()
            .unwrap();
        let bench = Arc::new(FarBench::new("loft", [7; 32], patience, || {}));
        let slots = Slots::new(places, Cache::new(cache, 64 << 20));
        let pair = Self {
            bench: bench.clone(),
            slots: slots.clone(),
            to_bench: Arc::default(),
            calls: Arc::default(),
            over: Arc::default(),
            runtime: Some(runtime),
        };
        let (over, count, calls) = (pair.over.clone(), pair.to_bench.clone(), pair.calls.clone());
        let looks = bench.clone();
        let ends = over.clone();
        let runtime = pair.runtime.as_ref().unwrap();
        runtime.spawn(async move {
            while !ends.load(Ordering::SeqCst) {
                tokio::time::sleep(Duration::from_millis(20)).await;
                looks.look_after();
            }
        });
        runtime.spawn(async move {
            let mut fates = VecDeque::from(fates);
            let (mut attempt, mut sessions) = (0, 0);
            let mut at: Option<(Arc<Talk>, String)> = None;
            let mut gone = Instant::now();
            while !over.load(Ordering::SeqCst) {
                if let Some((talk, _)) = &at
                    && (gone.elapsed() > patience || talk.session().over().is_some())
                {
                    talk.end("the service was away for too long");
                    at = None;
                }
                attempt += 1;
                sessions += 1;
                calls.fetch_add(1, Ordering::SeqCst);
                let coming = |attempt| Coming {
                    session: at
                        .as_ref()
                        .map(|(_, name)| name.clone())
                        .unwrap_or_default(),
                    seen: at.as_ref().map_or(0, |(talk, _)| talk.session().seen()),
                    start: "this one".into(),
                    attempt,
                    version: "test".into(),
                };
                let fate = fates.pop_front();
                let (old, first) = (coming(attempt - 1), coming(attempt - 1));
                let Some(line) = bench.come(coming(attempt), || format!("session {sessions}"))
                else {
                    tokio::time::sleep(Duration::from_millis(5)).await;
                    continue;
                };
                if fate.is_some_and(|fate| fate.straggler) {
                    let first = Coming {
                        session: String::new(),
                        ..first
                    };
                    for late in [old, first] {
                        let late = bench.come(late, || "nobody's".into());
                        assert!(late.is_none(), "an old call is let in");
                    }
                }
                let same = at.take().filter(|(talk, name)| {
                    let same = *name == line.session;
                    if !same {
                        talk.end("the service knows nothing of it");
                    }
                    same
                });
                let (talk, name) =
                    same.unwrap_or_else(|| (Talk::new(slots.clone()), line.session.clone()));
                let Some(generation) = talk.session().attach(attempt, line.seen) else {
                    talk.end("nonsense");
                    continue;
                };
                talk.begin();
                let fate = fate.unwrap_or(Fate {
                    bytes: u64::MAX,
                    slow: Duration::ZERO,
                    away: Duration::ZERO,
                    straggler: false,
                });
                let (service_end, one) = tokio::io::duplex(64 << 10);
                let (bench_end, two) = tokio::io::duplex(64 << 10);
                let (one_from, one_to) = tokio::io::split(one);
                let (two_from, two_to) = tokio::io::split(two);
                let left = Arc::new(Mutex::new(fate.bytes));
                let down = pump(one_from, two_to, fate, left.clone(), Some(count.clone()));
                let up = pump(two_from, one_to, fate, left, None);
                let cut = async {
                    tokio::select! {
                        () = down => {}
                        () = up => {}
                    }
                };
                let served = tokio::spawn(line.run(service_end));
                tokio::select! {
                    _ = talk.session().run(generation, bench_end) => {}
                    () = cut => {}
                }
                served.abort();
                gone = Instant::now();
                at = Some((talk, name));
                tokio::time::sleep(fate.away).await;
            }
            if let Some((talk, _)) = at {
                talk.end("the test is over");
            }
        });
        pair
    }

    /// Waits until the bench says what lies in its slots.
    pub fn ready(&self) {
        let begun = Instant::now();
        while self.bench.slots().map_or(true, |slots| slots.is_empty()) {
            assert!(
                begun.elapsed() < Duration::from_secs(20),
                "the bench does not come"
            );
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}
