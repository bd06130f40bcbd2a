//! What several cards at once cost, a real block device against the system's own copy, and a quick check.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use cardwork::check::{Keep, Kept, quick};
use cardwork::{Access, CardError, CardIo, Options, Progress, Slot, write};
use imagecraft::{ByteKind, Map};
use testbed::loop_device::LoopDevice;
use vault::ManifestDisk;

use crate::place::{Row, median, shell};
use crate::timed::{mark, timed_write};

/// A card in a file, no faster than its rate.
struct Limited {
    file: File,
    size: u64,
    rate: f64,
    ready: Mutex<Instant>,
}

impl Limited {
    fn new(dir: &Path, name: &str, size: u64, rate: f64) -> Result<Self> {
        let file = File::options()
            .read(true)
            .write(true)
            .create(true)
            .truncate(true)
            .open(dir.join(name))?;
        file.set_len(size)?;
        Ok(Self {
            file,
            size,
            rate,
            ready: Mutex::new(Instant::now()),
        })
    }

    /// Waits as long as the card takes for so many bytes, behind whatever it is at already.
    fn take(&self, bytes: usize) {
        let until = {
            let mut ready = self.ready.lock().unwrap_or_else(|e| e.into_inner());
            *ready =
                (*ready).max(Instant::now()) + Duration::from_secs_f64(bytes as f64 / self.rate);
            *ready
        };
        std::thread::sleep(until.saturating_duration_since(Instant::now()));
    }

    fn failed(error: &std::io::Error) -> CardError {
        CardError::Reader(error.to_string())
    }
}

impl CardIo for Limited {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), CardError> {
        self.take(buf.len());
        let read = self.file.read_exact_at(buf, offset);
        read.map_err(|e| Self::failed(&e))
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), CardError> {
        self.take(data.len());
        let written = self.file.write_all_at(data, offset);
        written.map_err(|e| Self::failed(&e))
    }

    fn flush(&self) -> Result<(), CardError> {
        Ok(())
    }
}

/// Seconds that this process has spent computing.
fn computed() -> Result<f64> {
    let stat = std::fs::read_to_string("/proc/self/stat")?;
    let behind = stat.rsplit(')').next().context("stat")?;
    let mut fields = behind.split_whitespace().skip(11);
    let mut ticks = || fields.next().and_then(|ticks| ticks.parse::<f64>().ok());
    // In hundredths of a second, on every Linux.
    Ok((ticks().context("utime")? + ticks().context("stime")?) / 100.0)
}

#[derive(Default)]
struct Memory(Vec<(u64, Vec<u8>)>);

impl Keep for Memory {
    fn save(&mut self, offset: u64, bytes: &[u8]) -> Result<(), String> {
        self.0.push((offset, bytes.to_vec()));
        Ok(())
    }

    fn settle(&mut self) -> Result<(), String> {
        Ok(())
    }
}

impl Kept for Memory {
    fn len(&self) -> usize {
        self.0.len()
    }

    fn bytes(&self) -> u64 {
        self.0.iter().map(|(_, bytes)| bytes.len() as u64).sum()
    }

    fn place(&self, number: usize) -> Result<(u64, Vec<u8>), String> {
        Ok(self.0[number].clone())
    }
}

/// Eight cards of 20 MB/s each beside one of them: each gets content of its own reading.
fn many(dir: &Path, open: &dyn Fn() -> ManifestDisk, map: &Map) -> Result<[Row; 2]> {
    let size = 1_003_487_232;
    let run = |cards: usize| -> Result<(f64, f64)> {
        let cards: Vec<_> = (0..cards)
            .map(|card| Limited::new(dir, &format!("many-{card}"), size, 20e6))
            .collect::<Result<_>>()?;
        let disks: Vec<_> = cards.iter().map(|_| open()).collect();
        let (begun, before) = (Instant::now(), computed()?);
        std::thread::scope(|scope| {
            for (card, disk) in cards.iter().zip(&disks) {
                scope.spawn(move || {
                    write(
                        card,
                        disk,
                        map,
                        &mark(),
                        Options::default(),
                        &Progress::default(),
                    )
                });
            }
        });
        let took = begun.elapsed().as_secs_f64();
        Ok((took, (computed()? - before) / took))
    };
    let (one, _) = run(1)?;
    let (eight, cores) = run(8)?;
    Ok([
        Row {
            name: "eight cards at 20 MB/s each against one",
            value: eight / one,
            unit: "ratio",
            bar: Some(1.1),
        },
        Row {
            name: "processors that eight cards at 20 MB/s take",
            value: cores,
            unit: "cores",
            bar: Some(1.0),
        },
    ])
}

/// A loop device as fast as a card or a disk of so many bytes a second, for all programs that this one runs:
/// a control group of the kernel, gone when it is dropped.
struct Throttle(PathBuf);

impl Throttle {
    /// Nothing, with the reason printed, where the kernel offers no such group.
    fn of(device: &LoopDevice, bytes_per_second: u64) -> Option<Self> {
        let set = || -> std::io::Result<Self> {
            let number = std::fs::read_to_string(format!("/sys/block/{}/dev", device.name))?;
            let limit = format!("{} {bytes_per_second}", number.trim());
            let group = Path::new("/sys/fs/cgroup/blkio").join("duplicarium-bench");
            if !group.is_dir() {
                std::fs::create_dir(&group)?;
            }
            for way in ["read", "write"] {
                std::fs::write(
                    group.join(format!("blkio.throttle.{way}_bps_device")),
                    &limit,
                )?;
            }
            std::fs::write(group.join("cgroup.procs"), std::process::id().to_string())?;
            Ok(Self(group))
        };
        set()
            .inspect_err(|why| eprintln!("SKIPPED: no device can be made slow here: {why}"))
            .ok()
    }
}

impl Drop for Throttle {
    fn drop(&mut self) {
        let home = self.0.with_file_name("cgroup.procs");
        let _ = std::fs::write(home, std::process::id().to_string());
        let _ = std::fs::remove_dir(&self.0);
    }
}

/// A loop device, written and read past the caches by us and by the system's own copy, each three times:
/// the middle ratios of writing and of verifying.
fn against_dd(
    dir: &Path,
    disk: &ManifestDisk,
    map: &Map,
    image: &Path,
    rate: Option<u64>,
) -> Result<Option<(f64, f64)>> {
    let Some(mut device) = LoopDevice::find_in(512, dir) else {
        return Ok(None);
    };
    device.attach(1_003_487_232, false);
    let throttle = rate.map(|rate| Throttle::of(&device, rate));
    if let Some(None) = throttle {
        return Ok(None);
    }
    let slot = device.slot();
    let medium = slot.medium()?.context("the loop device")?;
    let mib = (map.total(ByteKind::Data) + map.total(ByteKind::Zero)) >> 20;
    let node = device.node();
    let (mut writes, mut reads) = (Vec::new(), Vec::new());
    for _ in 0..3 {
        let card = slot.open(&medium.insertion, Access::Hold)?;
        let (writing, verifying, _) = timed_write(card.as_ref(), disk, map)?;
        drop(card);
        let copy = shell(&format!(
            "dd if={} of={node} bs=1M count={mib} oflag=direct conv=fsync",
            image.display()
        ))?;
        let read = shell(&format!(
            "dd if={node} of=/dev/null bs=1M count={mib} iflag=direct"
        ))?;
        writes.push(writing / copy);
        reads.push(verifying / read);
    }
    let middle = |all: &mut Vec<f64>| {
        all.sort_by(f64::total_cmp);
        all[1]
    };
    Ok(Some((middle(&mut writes), middle(&mut reads))))
}

/// Loop devices of several speeds against `dd`.
fn block_devices(dir: &Path, disk: &ManifestDisk, map: &Map, image: &Path) -> Result<Vec<Row>> {
    let speeds = [
        (
            Some(90_000_000),
            "write to a loop device at 90 MB/s against dd, direct",
            "verify of a loop device at 90 MB/s against dd, direct",
        ),
        (
            Some(300_000_000),
            "write to a loop device at 300 MB/s against dd, direct",
            "verify of a loop device at 300 MB/s against dd, direct",
        ),
        (
            None,
            "write to a loop device, rate not limited, against dd, direct",
            "verify of a loop device, rate not limited, against dd, direct",
        ),
    ];
    let mut rows = Vec::new();
    for (rate, write, verify) in speeds {
        let Some((writing, verifying)) = against_dd(dir, disk, map, image, rate)? else {
            continue;
        };
        for (name, value) in [(write, writing), (verify, verifying)] {
            rows.push(Row {
                name,
                value,
                unit: "ratio",
                bar: rate.map(|_| 1.1),
            });
        }
    }
    Ok(rows)
}

pub fn rows(
    dir: &Path,
    open: &dyn Fn() -> ManifestDisk,
    map: &Map,
    image: &Path,
) -> Result<Vec<Row>> {
    let mut rows: Vec<_> = many(dir, open, map)?.into();
    rows.extend(block_devices(dir, &open(), map, image)?);
    let card = Limited::new(dir, "sixty-four", 64_021_856_256, 90e6)?;
    let mut report = None;
    let seconds = median(|| {
        let begun = Instant::now();
        let checked = quick(&card, &mark(), &mut Memory::default(), &Progress::default());
        report = Some(checked.map_err(|failed| failed.error)?.report);
        Ok(begun.elapsed().as_secs_f64())
    })?;
    let written = report.context("a report")?.written;
    rows.push(Row {
        name: "quick check of a 64 GB card, test data",
        value: written as f64 / f64::from(1 << 20),
        unit: "MiB",
        bar: Some(64.0),
    });
    rows.push(Row {
        name: "quick check of a 64 GB card at 90 MB/s",
        value: seconds,
        unit: "s",
        bar: None,
    });
    Ok(rows)
}
