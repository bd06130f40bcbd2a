//! The vault: what backups cost, how quickly it gives back, and how it does with a million chunks.

use std::fs::File;
use std::io::Read;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use anyhow::{Context, Result, ensure};
use imagecraft::{CHUNK, CHUNK_LEN, Disk, Overlay};
use vault::{Ingest, Manifest, ManifestDisk, Vault};

use crate::place::{Place, Row, median, shell};

/// Threads that pack, as a backup has.
const PACKERS: usize = 2;
/// Threads that read out.
const READERS: u64 = 2;
/// Chunks of the vault that is large.
const CHUNKS: u64 = 1_000_000;
/// Imprints that are made in it, and for how many they stand.
const IMPRINTS: u64 = 100;
const STAND_FOR: u64 = 50_000;
/// Chunks that an imprint changes.
const CHANGED: u64 = 60;

/// A disk from the bytes of a file, told from one that it is like.
fn take_in(vault: &Arc<Vault>, file: &Path, like: Option<&Manifest>) -> Result<(Manifest, u64)> {
    let mut ingest = Ingest::start(vault.hold(), PACKERS);
    let mut file = File::open(file)?;
    let len = file.metadata()?.len();
    for chunk in 0..len.div_ceil(CHUNK) {
        let mut bytes = vec![0; CHUNK_LEN.min((len - chunk * CHUNK) as usize)];
        file.read_exact(&mut bytes)?;
        ingest.push(chunk, Arc::new(bytes))?;
    }
    let (manifest, growth) = ingest.finish(len, like, None)?;
    Ok((manifest, growth.stored))
}

fn seconds(work: impl FnOnce() -> Result<()>) -> Result<f64> {
    let begun = Instant::now();
    work()?;
    Ok(begun.elapsed().as_secs_f64())
}

/// Reads a disk from its first byte to its last, on several threads, as a writer of cards does.
fn read_all(manifest: &Manifest) -> Result<()> {
    const STRIPE: u64 = 8 << 20;
    let disk = ManifestDisk::afresh(manifest.clone());
    std::thread::scope(|scope| {
        let readers: Vec<_> = (0..READERS)
            .map(|reader| {
                let disk = &disk;
                scope.spawn(move || -> Result<()> {
                    let mut at = reader * STRIPE;
                    while at < disk.len() {
                        let len = STRIPE.min(disk.len() - at);
                        disk.read_vec(at, len as usize)?;
                        at += READERS * STRIPE;
                    }
                    Ok(())
                })
            })
            .collect();
        for reader in readers {
            reader.join().ok().context("a reader stopped")??;
        }
        Ok(())
    })
}

/// Log files that grow in a day.
const LOGS: usize = 5;

/// A day's changes, 1 % of the bytes together: a package is replaced by a newer one, which is much like it in kind but in
/// no line the same; the pages of a database get other rows; logs grow by lines. Each lies in one piece, as files do that
/// are written in one go.
fn a_day(file: &Path, changed: &Path) -> Result<()> {
    let mut bytes = std::fs::read(file)?;
    let (len, mut state) = (bytes.len(), 0x1234_5678_u32);
    let mut next = |below: usize| {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        state as usize % below
    };
    let place = |next: &mut dyn FnMut(usize) -> usize, each: usize| {
        (4 << 20) + next(len - each - (8 << 20))
    };
    let package = len / 200;
    let (from, to) = (place(&mut next, package), place(&mut next, package));
    let mut newer = bytes[from..from + package].to_vec();
    for line in newer.chunks_mut(64) {
        let at = next(line.len());
        line[at] = next(256) as u8;
    }
    bytes[to..to + package].copy_from_slice(&newer);
    let database = len / 400;
    let at = place(&mut next, database);
    for (number, row) in bytes[at..at + database].chunks_mut(32).enumerate() {
        let (key, value) = (number as u32, next(1 << 20) as u32);
        let text = format!("{key:08}|{value:07}|quay-{:02}|", next(12));
        for (byte, text) in row.iter_mut().zip(text.bytes().chain(std::iter::repeat(0))) {
            *byte = text;
        }
    }
    let log = len / 400 / LOGS;
    for _ in 0..LOGS {
        let at = place(&mut next, log);
        let mut lines = String::with_capacity(log + 100);
        while lines.len() < log {
            lines.push_str(&format!(
                "Nov 29 {:02}:{:02}:{:02} quay-03 link[{}]: station {:06x} took {} ms\n",
                next(24),
                next(60),
                next(60),
                next(4000),
                next(1 << 24),
                next(900)
            ));
        }
        bytes[at..at + log].copy_from_slice(&lines.as_bytes()[..log]);
    }
    std::fs::write(changed, bytes)?;
    Ok(())
}

fn resident() -> Result<f64> {
    let status = std::fs::read_to_string("/proc/self/statm")?;
    let pages: f64 = status.split(' ').nth(1).context("a number")?.parse()?;
    Ok(pages * 4096.0 / 1e6)
}

/// Rows of backups: against general tools that read the same bytes.
fn backup_rows(place: &Place) -> Result<Vec<Row>> {
    let (dir, image) = (&place.dir, &place.image);
    let shown = image.display();
    let packed = dir.join("vault-row.zst");
    shell(&format!("zstd -q -f -3 {shown} -o {}", packed.display()))?;
    let pack = median(|| shell(&format!("zstd -q -3 -c {shown}")))?;
    let unpack = median(|| shell(&format!("zstd -q -d -c {}", packed.display())))?;
    let mut kept = None;
    let mut run = 0;
    let first = median(|| {
        run += 1;
        let vault = place.vault(&format!("backup-{run}"))?;
        seconds(|| {
            kept = Some((vault.clone(), take_in(&vault, image, None)?));
            Ok(())
        })
    })?;
    let (vault, (manifest, stored)) = kept.context("a backup")?;
    let again = dir.join("a-day-later.img");
    a_day(image, &again)?;
    let (_, more) = take_in(&vault, &again, Some(&manifest))?;
    let out = median(|| seconds(|| read_all(&manifest)))?;
    Ok(vec![
        Row {
            name: "first backup, against zstd -3 reading the same bytes",
            value: first / pack,
            unit: "times",
            bar: Some(1.1),
        },
        Row {
            name: "second backup, 1 % changed: growth of the vault against the first",
            value: 100.0 * more as f64 / stored as f64,
            unit: "%",
            bar: Some(3.0),
        },
        Row {
            name: "reading out of the vault, against zstd -d",
            value: out / unpack,
            unit: "times",
            bar: Some(1.1),
        },
    ])
}

/// Rows of a vault with a million chunks.
fn large_rows(place: &Place) -> Result<Vec<Row>> {
    let vault = place.vault("million")?;
    let mut ingest = Ingest::start(vault.hold(), PACKERS);
    for chunk in 0..CHUNKS {
        ingest.push(chunk, Arc::new(chunk.to_le_bytes().to_vec()))?;
    }
    let (base, _) = ingest.finish(CHUNKS * CHUNK, None, None)?;
    // What imprints of many devices that share a release cost beside the chunks that they change.
    let chunk_cost = {
        let before = vault.stored();
        let mut ingest = Ingest::start(vault.hold(), 1);
        for chunk in 0..CHANGED {
            ingest.push(chunk, Arc::new((chunk + CHUNKS).to_le_bytes().to_vec()))?;
        }
        ingest.abandon();
        vault.stored() - before
    };
    let map = base.map()?;
    let before = vault.stored();
    for imprint in 0..IMPRINTS {
        let mut card = Overlay::new(ManifestDisk::new(base.clone()), base.len);
        for change in 0..CHANGED {
            let chunk = change * 7 % 400 + change / 20 * 3000;
            let content = (imprint * 1000 + change + 2 * CHUNKS).to_le_bytes();
            card.write_at(chunk * CHUNK, &content)?;
        }
        base.changed(&vault.hold(), &card, &map, card.changed_chunks(), None)?;
    }
    let each = (vault.stored() - before) as f64 / IMPRINTS as f64 - chunk_cost as f64;
    drop((vault, base));
    let before = resident()?;
    let mut opened = None;
    let took = seconds(|| {
        opened = Some(place.vault("million")?);
        Ok(())
    })?;
    let grew = resident()? - before;
    ensure!(opened.is_some_and(|vault| vault.stored() > 0), "it opens");
    Ok(vec![
        Row {
            name: "a vault of 1,000,000 chunks is opened",
            value: took,
            unit: "s",
            bar: Some(10.0),
        },
        Row {
            name: "memory that it takes then",
            value: grew,
            unit: "MB",
            bar: Some(300.0),
        },
        Row {
            name: "manifests of 50,000 imprints, by those of 100",
            value: each * STAND_FOR as f64 / 1e6,
            unit: "MB",
            bar: Some(1000.0),
        },
    ])
}

/// All rows of the vault.
pub fn rows(place: &Place) -> Result<Vec<Row>> {
    let mut rows = backup_rows(place)?;
    rows.extend(large_rows(place)?);
    Ok(rows)
}
