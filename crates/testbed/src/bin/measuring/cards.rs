//! What writing and verifying a card cost against plain copies and reads.

use std::fs::File;
use std::io::Read;
use std::net::SocketAddr;
use std::path::Path;
use std::time::Instant;

use anyhow::{Context, Result};
use bench::Bench;
use cardwork::{Access, CardIo};
use imagecraft::ByteKind;
use testbed::Testbed;
use vault::ManifestDisk;

use crate::place::{MIB, Place, Row, sample_image, take_in};
use crate::readers;
use crate::timed::timed_write;

const PIECE: usize = 1 << 20;

fn card(bed: &Testbed, name: &str, more: &[&str]) -> Result<Box<dyn CardIo>> {
    bed.make_card(name, "1003487232", more);
    bed.put(name, 1);
    let address: SocketAddr = bed.standin_address().parse()?;
    let slot = Bench::new(Some(address), None).slot(1)?.context("slot 1")?;
    let medium = slot.medium()?.context("a card")?;
    Ok(slot.open(&medium.insertion, Access::Hold)?)
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

/// The rows.
pub fn rows(place: &Place) -> Result<Vec<Row>> {
    let (dir, image) = (&place.dir, &place.image);
    let (bed, vault) = (&Testbed::start(), &place.vault("of-cards")?);
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
            Some(1.01),
        ),
        ratio(
            "write at 90 MB/s against a plain synced copy",
            writing / copy,
            Some(1.1),
        ),
        ratio(
            "verify at 90 MB/s against a plain read",
            verifying / read,
            Some(1.05),
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
