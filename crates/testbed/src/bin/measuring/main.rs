//! `make bench`: ratios measured in one run on one machine, each beside its bar; the same as JSON in target/bench.json.
//! `bench compose far` measures only these parts.

mod arrivals;
mod cards;
mod comparing;
mod composing;
mod far;
mod importing;
mod memory;
mod place;
mod readers;
mod thousands;
mod timed;
#[path = "vault.rs"]
mod vault_rows;

use anyhow::{Context, Result, bail};
use serde_json::{Value, json};
use testbed::workspace;

use crate::place::{MIB, Place, Row, sample_image};

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
