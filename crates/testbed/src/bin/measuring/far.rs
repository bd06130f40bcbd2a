//! Rows of a bench on another computer: what travels, and how long it takes.

use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use imagecraft::packed::Packer;
use imagecraft::{CHUNK_LEN, FileDisk, Layout};
use testbed::{Drawer, FarBench, IdleBenches, Testbed, demo_sheet, path};

use crate::place::{Place, Row, median, service_with_boards};

/// 100 Mbit/s, in bytes a second.
const LINE: u64 = 12_500_000;
const CARD: &str = "1003487232";
/// As fast as a usual card.
const RATE: &[&str] = &["--rate", "90MB"];

/// Bytes of what an image holds, each chunk packed by itself.
fn packed_content(image: &Path) -> Result<u64> {
    let disk = FileDisk::open(image)?;
    let map = Layout::read(&disk)?.map(&disk)?;
    let mut packer = Packer::default();
    let mut sum = 0;
    for (chunk, kind) in map.chunks() {
        if kind == imagecraft::ByteKind::Data {
            let start = chunk * CHUNK_LEN as u64;
            let len = (map.len() - start).min(CHUNK_LEN as u64) as usize;
            let mut bytes = imagecraft::Disk::read_vec(&disk, start, len)?;
            map.clear_free(start, &mut bytes);
            if bytes.iter().any(|byte| *byte != 0) {
                sum += packer.pack(&bytes)?.len() as u64;
            }
        }
    }
    Ok(sum)
}

/// Writes the release onto a fresh card in a slot; gives the seconds that took.
fn written(bed: &Testbed, drawer: &Drawer, name: &str, place: u32, slot: &str) -> Result<f64> {
    drawer.make_card(name, CARD, RATE);
    drawer.put(name, place);
    let of = ["write", "--release", "sample 9.1", "--slot", slot];
    let plan = bed.json(&[&of[..], &["--plan"]].concat());
    let label = plan["card"].as_str().context("a label")?;
    let begun = Instant::now();
    bed.done(&[&of[..], &["--yes", label]].concat());
    let seconds = begun.elapsed().as_secs_f64();
    drawer.order(&["pull", "--slot", &place.to_string()]);
    Ok(seconds)
}

/// Benches that are connected while nobody works at them.
const IDLE: usize = 100;
/// How long they are watched.
const WATCHED: Duration = Duration::from_secs(20);

/// What so many idle benches cost the service: of one processor, and of memory.
fn idle() -> Vec<Row> {
    let bed = Testbed::start();
    let (before, seconds) = (bed.service_memory(), bed.service_seconds());
    std::thread::sleep(WATCHED);
    let alone = bed.service_seconds() - seconds;
    let _benches = IdleBenches::start(&bed, IDLE);
    let seconds = bed.service_seconds();
    std::thread::sleep(WATCHED);
    let together = bed.service_seconds() - seconds;
    let memory = bed.service_memory().saturating_sub(before);
    vec![
        Row {
            name: "100 idle benches: of one processor",
            value: (together - alone) / WATCHED.as_secs_f64(),
            unit: "cores",
            bar: None,
        },
        Row {
            name: "100 idle benches: memory of the service",
            value: memory as f64 / 1e6,
            unit: "MB",
            bar: None,
        },
    ]
}

/// The rows.
pub fn rows(place: &Place) -> Result<Vec<Row>> {
    let (dir, image) = (&place.dir, &place.image);
    let bed = service_with_boards();
    let sheet = dir.join("far.toml");
    let text = std::fs::read_to_string(demo_sheet("quaylink-2.4.toml"))?;
    let text = text
        .replace("\"2.4\"", "\"9.1\"")
        .replace("\"quaylink\"", "\"sample\"");
    std::fs::write(&sheet, text)?;
    bed.done(&["release", "add", path(image), "--sheet", path(&sheet)]);

    let far = FarBench::start(&bed, "loft");
    let slot = far.slot(1);
    let content = packed_content(image)? as f64;
    far.line.limit(LINE);
    let mut sent = Vec::new();
    for card in ["first", "second"] {
        let before = far.line.down();
        written(&bed, &far.drawer, card, 1, &slot)?;
        sent.push((far.line.down() - before) as f64 / content);
    }
    far.line.limit(0);
    let mut number = 0;
    let mut at = |drawer: &Drawer, slot: &str| {
        number += 1;
        written(&bed, drawer, &format!("timed-{number}"), 1, slot)
    };
    let local = median(|| at(bed.drawer(), "1"))?;
    let remote = median(|| at(&far.drawer, &slot))?;
    let row = |name, value, bar| Row {
        name,
        value,
        unit: "ratio",
        bar: Some(bar),
    };
    drop((far, bed));
    let mut rows = vec![
        row(
            "bench elsewhere, 100 Mbit/s: sent for the first card, of the packed content",
            sent[0],
            1.05,
        ),
        row(
            "bench elsewhere, 100 Mbit/s: sent for the second card of the release",
            sent[1],
            0.05,
        ),
        row(
            "bench elsewhere, on loopback: a write against one at the own bench",
            remote / local,
            1.1,
        ),
    ];
    rows.extend(idle());
    Ok(rows)
}
