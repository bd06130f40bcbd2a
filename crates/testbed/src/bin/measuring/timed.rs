//! A write of a card, and how long each of its stages takes.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use anyhow::Result;
use cardwork::{CardIo, Mark, Options, Progress, Stage, write};
use imagecraft::Map;
use time::OffsetDateTime;
use vault::ManifestDisk;

/// The mark of a card that is written here.
pub fn mark() -> Mark {
    Mark {
        format: 1,
        card: "C-0001".into(),
        job: 1,
        began: OffsetDateTime::UNIX_EPOCH,
    }
}

/// Seconds of the stages *writing* and *verifying* of one write, and the bytes put on the card.
pub fn timed_write(card: &dyn CardIo, disk: &ManifestDisk, map: &Map) -> Result<(f64, f64, u64)> {
    let progress = Progress::default();
    let over = AtomicBool::new(false);
    let begun = Instant::now();
    std::thread::scope(|scope| {
        let watch = scope.spawn(|| {
            while !over.load(Ordering::Relaxed) && progress.snapshot().stage != Stage::Verifying {
                std::thread::sleep(Duration::from_millis(1));
            }
            begun.elapsed().as_secs_f64()
        });
        let written = write(card, disk, map, &mark(), Options::default(), &progress);
        let whole = begun.elapsed().as_secs_f64();
        over.store(true, Ordering::Relaxed);
        let writing = watch
            .join()
            .map_err(|_| anyhow::anyhow!("the watch stopped"))?;
        Ok((writing, whole - writing, written?.written))
    })
}
