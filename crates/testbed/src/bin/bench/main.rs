//! `make bench`: ratios measured in one run on one machine, each beside its bar; the same as
//! JSON in target/bench.json. `bench thousands` measures only what a team with thousands of devices waits for,
//! `bench cards` only what a card does, `bench far` only what a bench on another computer does.

mod arrivals;
mod far;
mod readers;
mod thousands;
#[path = "vault.rs"]
mod vault_rows;

use std::fs::File;
use std::io::{Read, Write};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context, Result, ensure};
use bench::Bench;
use cardwork::{Access, CardIo, Mark, Options, Progress, Stage, write};
use imagecraft::compose::{PlacedFile, Recipe, Target, compose};
use imagecraft::grow::Growth;
use imagecraft::{ByteKind, CHUNK_LEN, Map};
use object_store::local::LocalFileSystem;
use serde_json::json;
use testbed::{Testbed, demo_sheet, path, workspace};
use time::OffsetDateTime;
use vault::{Ingest, Manifest, ManifestDisk, Root, Vault};

const MIB: u64 = 1 << 20;
const PIECE: usize = 1 << 20;

struct Row {
    name: &'static str,
    value: f64,
    unit: &'static str,
    bar: Option<f64>,
}

fn main() -> Result<()> {
    if std::env::args().nth(1).as_deref() == Some("memory") {
        return report(&[readers::memory()?]);
    }
    if std::env::args().nth(1).as_deref() == Some("thousands") {
        let runtime = tokio::runtime::Runtime::new()?;
        return report(&thousands::rows(&runtime)?);
    }
    if std::env::args().nth(1).as_deref() == Some("arrivals") {
        let runtime = tokio::runtime::Runtime::new()?;
        return report(&[arrivals::row(&runtime)?]);
    }
    let dir = tempfile::Builder::new()
        .prefix("duplicarium-bench-")
        .tempdir_in(workspace().join("target"))?;
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .build()?;
    let bed = Testbed::start();
    bed.done(&[
        "board",
        "add",
        "plover",
        "--title",
        "Plover",
        "--architecture",
        "arm64",
    ]);
    bed.done(&[
        "board",
        "add",
        "curlew",
        "--title",
        "Curlew",
        "--architecture",
        "armhf",
    ]);
    let image = sample_image(dir.path(), "sample.img", 256 * MIB)?;
    let guard = runtime.enter();
    let store = LocalFileSystem::new_with_prefix(dir.path())?.with_fsync(true);
    let vault = runtime.block_on(Vault::open(Arc::new(store), &Root::new([7; 32])))?;
    drop(guard);
    if std::env::args().nth(1).as_deref() == Some("vault") {
        return report(&vault_rows::rows(&runtime, dir.path(), &image)?);
    }
    if std::env::args().nth(1).as_deref() == Some("cards") {
        return report(&card_rows(&bed, &vault, &image, dir.path())?);
    }
    if std::env::args().nth(1).as_deref() == Some("far") {
        return report(&far::rows(dir.path(), &image)?);
    }
    let mut rows = compose_rows(
        &vault,
        dir.path(),
        "flex_bg",
        [
            "compose over 8 GB, grown to 32 GB, flex_bg, warm",
            "compose over 8 GB, grown to 32 GB, flex_bg, cold",
            "compose over 8 GB, grown to 32 GB, flex_bg, touched",
        ],
    )?;
    rows.extend(compose_rows(
        &vault,
        dir.path(),
        "^flex_bg",
        [
            "compose over 8 GB, grown to 32 GB, no flex_bg, warm",
            "compose over 8 GB, grown to 32 GB, no flex_bg, cold",
            "compose over 8 GB, grown to 32 GB, no flex_bg, touched",
        ],
    )?);
    rows.extend(card_rows(&bed, &vault, &image, dir.path())?);
    rows.extend(import_rows(&bed, dir.path(), &image)?);
    rows.push(compare_row(&bed, dir.path())?);
    rows.extend(far::rows(dir.path(), &image)?);
    drop(bed);
    rows.extend(vault_rows::rows(&runtime, dir.path(), &image)?);
    rows.push(readers::memory()?);
    rows.push(arrivals::row(&runtime)?);
    rows.extend(thousands::rows(&runtime)?);
    report(&rows)
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

fn import_rows(bed: &Testbed, dir: &Path, image: &Path) -> Result<Vec<Row>> {
    let packed = dir.join("sample.img.gz");
    let xz = dir.join("sample.img.xz");
    shell(&format!(
        "gzip -1 -c {} > {}",
        image.display(),
        packed.display()
    ))?;
    shell(&format!(
        "xz -0 -T2 -c {} > {}",
        image.display(),
        xz.display()
    ))?;
    let sheet_text = std::fs::read_to_string(demo_sheet("quaylink-2.4.toml"))?;
    let mut version = 0;
    let mut import = |image: &Path| -> Result<f64> {
        // A vault that holds the content already would have nothing to pack: a service of its own.
        let fresh = Testbed::start();
        fresh.done(&[
            "board",
            "add",
            "plover",
            "--title",
            "Plover",
            "--architecture",
            "arm64",
        ]);
        fresh.done(&[
            "board",
            "add",
            "curlew",
            "--title",
            "Curlew",
            "--architecture",
            "armhf",
        ]);
        version += 1;
        let sheet = dir.join("sheet.toml");
        std::fs::write(
            &sheet,
            sheet_text.replace("\"2.4\"", &format!("\"9.{version}\"")),
        )?;
        fresh.done(&["release", "add", path(image), "--sheet", path(&sheet)]);
        let jobs = fresh.json(&["job", "list"]);
        let at = |key: &str| -> Result<OffsetDateTime> {
            let text = jobs["items"][0][key].as_str().context("a time")?;
            Ok(OffsetDateTime::parse(
                text,
                &time::format_description::well_known::Rfc3339,
            )?)
        };
        Ok((at("finished_at")? - at("created_at")?).as_seconds_f64())
    };
    let raw = median(|| import(image))?;
    let zstd = median(|| shell(&format!("zstd -q -3 -c {}", image.display())))?;
    let sum = median(|| shell(&format!("sha256sum {}", image.display())))?;
    let from_gzip = median(|| import(&packed))?;
    let gunzip = median(|| shell(&format!("gzip -dc {} | sha256sum", packed.display())))?;
    let from_xz = median(|| import(&xz))?;
    let unxz = median(|| shell(&format!("xz -dc {} | sha256sum", xz.display())))?;
    let memory = bed.service_memory() as f64 / 1e6;
    let ratio = |name, value, bar| Row {
        name,
        value,
        unit: "ratio",
        bar: Some(bar),
    };
    Ok(vec![
        ratio(
            "import, raw, against the slower of zstd -3 and sha256sum",
            raw / zstd.max(sum),
            1.0,
        ),
        ratio(
            "import, gzip, against gzip -d | sha256sum",
            from_gzip / gunzip,
            1.1,
        ),
        ratio("import, xz, against xz -d | sha256sum", from_xz / unxz, 1.1),
        Row {
            name: "memory of the idle service",
            value: memory,
            unit: "MB",
            bar: Some(40.0),
        },
    ])
}

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

fn card(bed: &Testbed, name: &str, more: &[&str]) -> Result<Box<dyn CardIo>> {
    bed.make_card(name, "1003487232", more);
    bed.put(name, 1);
    let address: SocketAddr = bed.standin_address().parse()?;
    let slot = Bench::new(Some(address), None).slot(1)?.context("slot 1")?;
    let medium = slot.medium()?.context("a card")?;
    Ok(slot.open(&medium.insertion, Access::Hold)?)
}

/// Seconds of the stages *writing* and *verifying* of one write, and the bytes put on the card.
fn timed_write(card: &dyn CardIo, disk: &ManifestDisk, map: &Map) -> Result<(f64, f64, u64)> {
    let progress = Progress::default();
    let over = AtomicBool::new(false);
    let mark = Mark {
        format: 1,
        card: "C-0001".into(),
        job: 1,
        began: OffsetDateTime::now_utc(),
    };
    let begun = Instant::now();
    std::thread::scope(|scope| {
        let watch = scope.spawn(|| {
            while !over.load(Ordering::Relaxed) && progress.snapshot().stage != Stage::Verifying {
                std::thread::sleep(Duration::from_millis(1));
            }
            begun.elapsed().as_secs_f64()
        });
        let written = write(card, disk, map, &mark, Options::default(), &progress);
        let whole = begun.elapsed().as_secs_f64();
        over.store(true, Ordering::Relaxed);
        let writing = watch
            .join()
            .map_err(|_| anyhow::anyhow!("the watch stopped"))?;
        Ok((writing, whole - writing, written?.written))
    })
}

/// Seconds of a plain copy of as many bytes to the same card, synced; and of a plain read.
fn plain(card: &dyn CardIo, image: &Path, bytes: u64) -> Result<(f64, f64)> {
    let mut file = File::open(image)?;
    let mut piece = vec![0; PIECE];
    let begun = Instant::now();
    for at in (0..bytes).step_by(PIECE) {
        let len = PIECE.min((bytes - at) as usize);
        file.read_exact(&mut piece[..len])?;
        card.write_at(at, &piece[..len])?;
    }
    card.flush()?;
    let copy = begun.elapsed().as_secs_f64();
    let begun = Instant::now();
    for at in (0..bytes).step_by(PIECE) {
        let len = PIECE.min((bytes - at) as usize);
        card.read_at(at, &mut piece[..len])?;
    }
    Ok((copy, begun.elapsed().as_secs_f64()))
}

fn card_rows(bed: &Testbed, vault: &Arc<Vault>, image: &Path, dir: &Path) -> Result<Vec<Row>> {
    let manifest = take_in(vault, image)?;
    let map = manifest.map()?;
    let disk = ManifestDisk::new(manifest.clone());
    let needed = map.total(ByteKind::Data) + map.total(ByteKind::Zero);
    // The file behind a card is written once before: what is allocated anew takes longer to flush, whoever
    // comes first.
    let limited = card(bed, "limited", &["--rate", "90MB"])?;
    plain(limited.as_ref(), image, needed)?;
    let (writing, verifying, written) = timed_write(limited.as_ref(), &disk, &map)?;
    let (copy, read) = plain(limited.as_ref(), image, needed)?;
    // A fast disk is through the short one in less than a second, of which flushing is a large part.
    let long = sample_image(dir, "long.img", 896 * MIB)?;
    let long_manifest = take_in(vault, &long)?;
    let long_map = long_manifest.map()?;
    let long_disk = ManifestDisk::new(long_manifest);
    let long_needed = long_map.total(ByteKind::Data) + long_map.total(ByteKind::Zero);
    let swift = card(bed, "swift", &["--rate", "300MB"])?;
    plain(swift.as_ref(), &long, long_needed)?;
    let (swift_writing, swift_verifying, _) = timed_write(swift.as_ref(), &long_disk, &long_map)?;
    let (swift_copy, swift_read) = plain(swift.as_ref(), &long, long_needed)?;
    let free = card(bed, "free", &[])?;
    plain(free.as_ref(), &long, long_needed)?;
    let (fast_writing, fast_verifying, _) = timed_write(free.as_ref(), &long_disk, &long_map)?;
    let (fast_copy, fast_read) = plain(free.as_ref(), &long, long_needed)?;
    let ratio = |name, value, bar| Row {
        name,
        value,
        unit: "ratio",
        bar,
    };
    let mut rows = vec![
        ratio(
            "write, bytes put on the card against data and zero",
            written as f64 / needed as f64,
            Some(1.02),
        ),
        ratio(
            "write at 90 MB/s against a plain synced copy",
            writing / copy,
            Some(1.1),
        ),
        ratio(
            "verify at 90 MB/s against a plain read",
            verifying / read,
            Some(1.1),
        ),
        ratio(
            "write, rate not limited, against a plain synced copy",
            fast_writing / fast_copy,
            None,
        ),
        ratio(
            "verify, rate not limited, against a plain read",
            fast_verifying / fast_read,
            None,
        ),
        ratio(
            "write at 300 MB/s against a plain synced copy",
            swift_writing / swift_copy,
            Some(1.1),
        ),
        ratio(
            "verify at 300 MB/s against a plain read",
            swift_verifying / swift_read,
            Some(1.1),
        ),
    ];
    let open = || ManifestDisk::new(manifest.clone());
    rows.extend(readers::rows(dir, &open, &map, image)?);
    Ok(rows)
}

/// Two releases of an ordinary Linux root that differ in one file, compared by the service.
fn compare_row(bed: &Testbed, dir: &Path) -> Result<Row> {
    let (tree, one, two) = (dir.join("tree"), dir.join("one.img"), dir.join("two.img"));
    // About 400 MB in some eight thousand files of this machine.
    let (tree_at, one_at, two_at) = (path(&tree), path(&one), path(&two));
    shell(&format!(
        "mkdir {tree_at} && cd /usr && \
         {{ find lib share include -type f -size -400k | sort | awk 'NR % 5 == 0' | head -7800; \
            find lib -type f -size +2M -size -40M | sort | head -24; }} > {tree_at}.list && \
         tar -cf - -T {tree_at}.list | tar -C {tree_at} -xf - && \
         truncate -s 904M {one_at} && printf 'label: dos\nstart=8192, type=83\n' | sfdisk -q {one_at} && \
         mke2fs -q -F -t ext4 -d {tree_at} -E offset=4194304 {one_at} 900M && cp --sparse=always {one_at} {two_at}"
    ))?;
    // One file is another one in the second.
    let word = dir.join("word");
    std::fs::write(&word, "another one")?;
    let root = dir.join("root.img");
    shell(&format!(
        "dd if={two_at} of={root} bs=4M skip=1 conv=sparse status=none && \
         debugfs -w -R 'write {word} word' {root} 2>/dev/null && \
         dd if={root} of={two_at} bs=4M seek=1 conv=notrunc,sparse status=none && rm -rf {tree_at} {root}",
        root = path(&root),
        word = path(&word),
    ))?;
    let sheet = |version: &str| -> Result<PathBuf> {
        let file = dir.join(format!("usual-{version}.toml"));
        std::fs::write(
            &file,
            format!("appliance = \"usual\"\nversion = \"{version}\"\nboards = [\"plover\"]\n"),
        )?;
        Ok(file)
    };
    for (image, version) in [(&one, "1"), (&two, "2")] {
        let sheet = sheet(version)?;
        bed.done(&["release", "add", path(image), "--sheet", path(&sheet)]);
        std::fs::remove_file(image)?;
    }
    let begun = Instant::now();
    let found = bed.json(&["release", "compare", "usual 1", "usual 2"]);
    let took = begun.elapsed().as_secs_f64();
    ensure!(
        found["counts"]["new"] == 1 && found["counts"]["changed"] == 0,
        "{found}"
    );
    Ok(Row {
        name: "comparing two releases of an ordinary root, one file new",
        value: took,
        unit: "s",
        // Reading what differs once is next to nothing here: a few chunks.
        bar: Some(2.2),
    })
}

/// Composes a device over an image whose root was made with these features: files on both
/// partitions, the root grown to a card of 32 GB.
fn compose_rows(
    vault: &Arc<Vault>,
    dir: &Path,
    features: &str,
    names: [&'static str; 3],
) -> Result<Vec<Row>> {
    let image = dir.join("eight.img");
    let _ = std::fs::remove_file(&image);
    File::create(&image)?.set_len(8_000_000_000)?;
    let at = path(&image);
    shell(&format!(
        "printf 'label: dos\nstart=8192, size=524288, type=c\nstart=532480, type=83\n' | sfdisk -q {at} && \
         mkfs.fat -F 32 --offset 8192 {at} 262144 && \
         mkfs.ext4 -q -F -b 4096 -O {features} -E offset=272629760 {at} $(( (8000000000 - 272629760) / 4096 ))"
    ))?;
    let manifest = take_in(vault, &image)?;
    let name = manifest.name();
    let recipe = Recipe {
        files: vec![
            PlacedFile::file(Target::Boot, "quaylink/link.toml", vec![b'x'; 300]),
            PlacedFile::file(Target::Root, "/etc/hostname", "quay-03\n"),
            PlacedFile::file(
                Target::Root,
                "/etc/systemd/network/20-wired.network",
                vec![b'y'; 90],
            ),
            PlacedFile::file(
                Target::Root,
                "/home/keeper/.ssh/authorized_keys",
                vec![b'z'; 400],
            ),
        ],
        growth: Some(Growth::default()),
        ..Recipe::default()
    };
    let mut touched = 0;
    let mut once = |disk: ManifestDisk| -> Result<f64> {
        let begun = Instant::now();
        let map = disk.manifest().map()?;
        let composed = compose(disk, &map, 32_000_000_000, &recipe)?;
        anyhow::ensure!(
            matches!(&composed.grown, Some(Ok(grown)) if grown.limited.is_none()),
            "the image was not grown: {:?}",
            composed.grown
        );
        touched = composed.touched.len();
        Ok(begun.elapsed().as_secs_f64() * 1e3)
    };
    let warm = median(|| once(ManifestDisk::new(manifest.clone())))?;
    // Cold: the manifest and every page come out of the vault again.
    let begun = Instant::now();
    let disk = ManifestDisk::open(vault, name)?;
    let cold = begun.elapsed().as_secs_f64() * 1e3 + once(disk)?;
    let [of_warm, of_cold, of_touched] = names;
    let row = |name, value, unit, bar| Row {
        name,
        value,
        unit,
        bar: Some(bar),
    };
    Ok(vec![
        row(of_warm, warm, "ms", 50.0),
        row(of_cold, cold, "ms", 50.0),
        row(of_touched, touched as f64, "chunks", 80.0),
    ])
}

fn report(rows: &[Row]) -> Result<()> {
    println!(
        "{:<62} {:>9}  {:<7} {:>7}",
        "what", "measured", "unit", "bar"
    );
    let mut list = Vec::new();
    for row in rows {
        let ok = row.bar.is_none_or(|bar| row.value <= bar);
        let bar = row.bar.map_or("none".into(), |bar| format!("{bar}"));
        let word = if ok { "" } else { "  MISSED" };
        println!(
            "{:<62} {:>9.3}  {:<7} {bar:>7}{word}",
            row.name, row.value, row.unit
        );
        list.push(json!({ "name": row.name, "value": row.value, "unit": row.unit, "bar": row.bar, "ok": ok }));
    }
    std::fs::write(
        workspace().join("target/bench.json"),
        serde_json::to_vec_pretty(&list)?,
    )?;
    Ok(())
}
