//! What an import costs against the tools that unpack, pack and sum up.

use std::path::Path;

use anyhow::{Context, Result};
use testbed::{demo_sheet, path};
use time::OffsetDateTime;

use crate::place::{Place, Row, median, service_with_boards, shell};

/// The rows.
pub fn rows(place: &Place) -> Result<Vec<Row>> {
    let (dir, image) = (&place.dir, &place.image);
    let idle = service_with_boards();
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
        let fresh = service_with_boards();
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
    let memory = idle.service_memory() as f64 / 1e6;
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
