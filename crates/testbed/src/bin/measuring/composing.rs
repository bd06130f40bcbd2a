//! What composing one device over an image of a usual size costs.

use std::fs::File;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use anyhow::Result;
use imagecraft::compose::{PlacedFile, Recipe, Target, compose};
use imagecraft::grow::Growth;
use testbed::path;
use vault::{ManifestDisk, Vault};

use crate::place::{Place, Row, median, shell, take_in};

/// The rows.
pub fn rows(place: &Place) -> Result<Vec<Row>> {
    let vault = place.vault("of-composing")?;
    let mut rows = of_features(
        &vault,
        &place.dir,
        "flex_bg",
        [
            "compose over 8 GB, grown to 32 GB, flex_bg, warm",
            "compose over 8 GB, grown to 32 GB, flex_bg, cold",
            "compose over 8 GB, grown to 32 GB, flex_bg, touched",
        ],
    )?;
    rows.extend(of_features(
        &vault,
        &place.dir,
        "^flex_bg",
        [
            "compose over 8 GB, grown to 32 GB, no flex_bg, warm",
            "compose over 8 GB, grown to 32 GB, no flex_bg, cold",
            "compose over 8 GB, grown to 32 GB, no flex_bg, touched",
        ],
    )?);
    Ok(rows)
}

/// Composes a device over an image whose root was made with these features: files on both
/// partitions, the root grown to a card of 32 GB.
fn of_features(
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
