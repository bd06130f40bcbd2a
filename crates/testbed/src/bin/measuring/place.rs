//! Where is measured, and what every part needs for it.

use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::Instant;

use anyhow::{Context, Result, ensure};
use imagecraft::CHUNK_LEN;
use object_store::local::LocalFileSystem;
use testbed::{Testbed, path};
use vault::{Ingest, Manifest, Root, Vault};

/// Bytes of a MiB.
pub const MIB: u64 = 1 << 20;

/// What was measured.
pub struct Row {
    pub name: &'static str,
    pub value: f64,
    pub unit: &'static str,
    pub bar: Option<f64>,
}

/// Where is measured.
pub struct Place {
    /// A folder for whatever a part needs.
    pub dir: PathBuf,
    /// An image of bytes as images hold them.
    pub image: PathBuf,
    pub runtime: tokio::runtime::Runtime,
}

impl Place {
    /// A fresh vault in a folder.
    pub fn vault(&self, name: &str) -> Result<Arc<Vault>> {
        let dir = self.dir.join(name);
        std::fs::create_dir_all(&dir)?;
        let _guard = self.runtime.enter();
        let store = LocalFileSystem::new_with_prefix(dir)?.with_fsync(true);
        let root = Root::new([7; 32]);
        Ok(self.runtime.block_on(Vault::open(Arc::new(store), &root))?)
    }
}

/// A service that knows the boards of the sheets.
pub fn service_with_boards() -> Testbed {
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
pub fn sample_image(dir: &Path, name: &str, total: u64) -> Result<PathBuf> {
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
pub fn shell(line: &str) -> Result<f64> {
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
pub fn median(mut measure: impl FnMut() -> Result<f64>) -> Result<f64> {
    let mut all = [measure()?, measure()?, measure()?];
    all.sort_by(f64::total_cmp);
    Ok(all[1])
}

/// A disk from the bytes of a file.
pub fn take_in(vault: &Arc<Vault>, file: &Path) -> Result<Manifest> {
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
