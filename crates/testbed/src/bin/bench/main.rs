//! `make bench`: ratios measured in one run on one machine, each beside its bar; the same as JSON in target/bench.json.
//! `bench compose far` measures only these parts.

mod arrivals;
mod cards;
mod comparing;
mod composing;
mod far;
mod importing;
mod memory;
mod readers;
mod thousands;
#[path = "vault.rs"]
mod vault_rows;

use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::Instant;

use anyhow::{Context, Result, bail, ensure};
use imagecraft::CHUNK_LEN;
use object_store::local::LocalFileSystem;
use serde_json::{Value, json};
use testbed::{Testbed, path, workspace};
use vault::{Ingest, Manifest, Root, Vault};

const MIB: u64 = 1 << 20;

struct Row {
    name: &'static str,
    value: f64,
    unit: &'static str,
    bar: Option<f64>,
}

/// Where is measured.
struct Place {
    /// A folder for whatever a part needs.
    dir: PathBuf,
    /// An image of bytes as images hold them.
    image: PathBuf,
    runtime: tokio::runtime::Runtime,
}

/// Measures one part.
type Measure = fn(&Place) -> Result<Vec<Row>>;

/// What is measured, by the word that asks for it.
const PARTS: [(&str, Measure); 9] = [
    ("compose", composing::rows),
    ("cards", cards::rows),
    ("import", importing::rows),
    ("compare", comparing::rows),
    ("far", far::rows),
    ("vault", vault_rows::rows),
    ("memory", memory::rows),
    ("arrivals", arrivals::rows),
    ("thousands", thousands::rows),
];

fn main() -> Result<()> {
    let asked: Vec<String> = std::env::args().skip(1).collect();
    let words = PARTS.map(|(word, _)| word);
    if let Some(other) = asked.iter().find(|one| !words.contains(&one.as_str())) {
        bail!("{other} is not measured; there are {}", words.join(", "));
    }
    let dir = tempfile::Builder::new()
        .prefix("duplicarium-bench-")
        .tempdir_in(workspace().join("target"))?;
    let place = Place {
        dir: dir.path().to_owned(),
        image: sample_image(dir.path(), "sample.img", 256 * MIB)?,
        runtime: tokio::runtime::Builder::new_multi_thread()
            .enable_all()
            .build()?,
    };
    println!(
        "{:<62} {:>9}  {:<7} {:>7}",
        "what", "measured", "unit", "bar"
    );
    let mut list = Vec::new();
    for (word, rows) in PARTS {
        if asked.is_empty() || asked.iter().any(|one| one == word) {
            let rows = rows(&place).with_context(|| format!("measuring {word}"))?;
            list.extend(rows.iter().map(report));
            // What was measured is there, whatever becomes of the rest.
            std::fs::write(
                workspace().join("target/bench.json"),
                serde_json::to_vec_pretty(&list)?,
            )?;
        }
    }
    Ok(())
}

/// Prints a row beside its bar, and gives it as JSON.
fn report(row: &Row) -> Value {
    let ok = row.bar.is_none_or(|bar| row.value <= bar);
    let bar = row.bar.map_or("none".into(), |bar| format!("{bar}"));
    let word = if ok { "" } else { "  MISSED" };
    println!(
        "{:<62} {:>9.3}  {:<7} {bar:>7}{word}",
        row.name, row.value, row.unit
    );
    json!({ "name": row.name, "value": row.value, "unit": row.unit, "bar": row.bar, "ok": ok })
}

impl Place {
    /// A fresh vault in a folder.
    fn vault(&self, name: &str) -> Result<Arc<Vault>> {
        let dir = self.dir.join(name);
        std::fs::create_dir_all(&dir)?;
        let _guard = self.runtime.enter();
        let store = LocalFileSystem::new_with_prefix(dir)?.with_fsync(true);
        let root = Root::new([7; 32]);
        Ok(self.runtime.block_on(Vault::open(Arc::new(store), &root))?)
    }
}

/// A service that knows the boards of the sheets.
fn service_with_boards() -> Testbed {
    let bed = Testbed::start();
    for (name, title, architecture) in
        [("plover", "Plover", "arm64"), ("curlew", "Curlew", "armhf")]
    {
        bed.done(&[
            "board",
            "add",
            name,
            "--title",
            title,
            "--architecture",
            architecture,
        ]);
    }
    bed
}

/// A quarter of a GiB of this machine's own programs behind a partition table: bytes as images hold them.
fn sample_image(dir: &Path, name: &str, total: u64) -> Result<PathBuf> {
    let image = dir.join(name);
    let mut file = File::create(&image)?;
    file.set_len(4 * MIB + total)?;
    let rules = format!("label: dos\nstart=8192, size={}, type=83\n", total / 512);
    let mut child = Command::new("sfdisk")
        .args(["-q", path(&image)])
        .stdin(Stdio::piped())
        .spawn()?;
    child
        .stdin
        .take()
        .context("a pipe")?
        .write_all(rules.as_bytes())?;
    ensure!(child.wait()?.success(), "sfdisk failed");
    std::io::Seek::seek(&mut file, std::io::SeekFrom::Start(4 * MIB))?;
    let mut left = total;
    let mut folders = vec![
        PathBuf::from("/usr/lib"),
        PathBuf::from("/usr/bin"),
        PathBuf::from("/usr/share"),
    ];
    while let Some(folder) = folders.pop() {
        let Ok(entries) = std::fs::read_dir(folder) else {
            continue;
        };
        for entry in entries.flatten() {
            let kind = entry.file_type()?;
            if kind.is_dir() {
                folders.push(entry.path());
            } else if kind.is_file() && left > 0 {
                let Ok(found) = File::open(entry.path()) else {
                    continue;
                };
                left -= std::io::copy(&mut found.take(left.min(16 * MIB)), &mut file)?;
            }
        }
    }
    file.sync_all()?;
    Ok(image)
}

/// Seconds that a line of shell takes.
fn shell(line: &str) -> Result<f64> {
    let begun = Instant::now();
    let status = Command::new("sh")
        .args(["-c", line])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()?;
    ensure!(status.success(), "{line} failed");
    Ok(begun.elapsed().as_secs_f64())
}

/// The middle of three measurements.
fn median(mut measure: impl FnMut() -> Result<f64>) -> Result<f64> {
    let mut all = [measure()?, measure()?, measure()?];
    all.sort_by(f64::total_cmp);
    Ok(all[1])
}

/// A disk from the bytes of a file.
fn take_in(vault: &Arc<Vault>, file: &Path) -> Result<Manifest> {
    let mut ingest = Ingest::start(vault.hold(), 2);
    let mut file = File::open(file)?;
    let len = file.metadata()?.len();
    for chunk in 0..len.div_ceil(CHUNK_LEN as u64) {
        let mut bytes = vec![0; CHUNK_LEN.min((len - chunk * CHUNK_LEN as u64) as usize)];
        file.read_exact(&mut bytes)?;
        ingest.push(chunk, Arc::new(bytes))?;
    }
    Ok(ingest.finish(len, None, None)?.0)
}
