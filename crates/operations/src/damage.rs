//! Which contents are not whole in the vault, as far as is known. It is found out and recorded here alone, after each look
//! at the vault, and asked by retention, lists, plans, restore tests and attention.

use std::collections::HashMap;
use std::sync::Arc;

use records::Records;
use records::vault::NamedBy;
use vault::{Name, Vault};

use crate::refusal::Refusal;
use crate::store::names;

/// Missing pieces of one content that are counted.
const MOST_MISSING: usize = 10_000;

/// Contents that are not whole, each with what it misses.
pub type Missing = Vec<(Name, Vec<Name>)>;

/// `one piece of it is missing`, `7 pieces of it are missing`.
pub fn words(pieces: u64) -> String {
    match pieces {
        1 => "one piece of it is missing in the vault or damaged".into(),
        pieces => format!("{pieces} pieces of it are missing in the vault or damaged"),
    }
}

/// The manifests of contents, each once.
pub fn roots(contents: &[NamedBy]) -> Vec<Name> {
    let all: Vec<Vec<u8>> = contents.iter().map(|one| one.manifest.clone()).collect();
    let mut all = names(&all);
    all.sort_unstable();
    all.dedup();
    all
}

/// What of these contents misses pieces. Reads their pages; blocks.
pub fn missing(vault: &Arc<Vault>, roots: &[Name]) -> Missing {
    vault.missing(roots, MOST_MISSING)
}

/// What of the records misses something.
pub fn touched(contents: &[NamedBy], missing: &[(Name, Vec<Name>)]) -> Vec<api::Hurt> {
    let of: HashMap<&[u8], u64> = missing
        .iter()
        .map(|(root, gone)| (root.0.as_slice(), gone.len() as u64))
        .collect();
    let hurt = contents.iter().filter_map(|one| {
        let pieces = *of.get(one.manifest.as_slice())?;
        Some(api::Hurt {
            what: one.what.clone(),
            name: one.name.clone(),
            pieces,
        })
    });
    hurt.collect()
}

/// Records which of these contents miss pieces, and that the others do not.
///
/// # Errors
/// What the records say.
pub async fn record(
    records: &Records,
    contents: &[NamedBy],
    missing: &[(Name, Vec<Name>)],
) -> Result<(), Refusal> {
    let looked_at: Vec<Vec<u8>> = contents.iter().map(|one| one.manifest.clone()).collect();
    let damaged: Vec<(Vec<u8>, i64)> = missing
        .iter()
        .map(|(root, gone)| (root.0.to_vec(), gone.len() as i64))
        .collect();
    Ok(records.set_content_damage(&looked_at, &damaged).await?)
}

/// Looks which contents of the records are not whole, as far as the vault knows, and records it. Gives those.
///
/// # Errors
/// What the records say.
pub async fn look(records: &Records, vault: &Arc<Vault>) -> Result<Vec<api::Hurt>, Refusal> {
    let contents = records.contents().await?;
    look_at(records, vault, contents).await
}

/// The same of backups alone, which are few beside imprints.
///
/// # Errors
/// What the records say.
pub async fn look_at_backups(
    records: &Records,
    vault: &Arc<Vault>,
) -> Result<Vec<api::Hurt>, Refusal> {
    let mut contents = records.contents().await?;
    contents.retain(|one| one.what == "backup");
    look_at(records, vault, contents).await
}

async fn look_at(
    records: &Records,
    vault: &Arc<Vault>,
    contents: Vec<NamedBy>,
) -> Result<Vec<api::Hurt>, Refusal> {
    let (roots, looked) = (roots(&contents), vault.clone());
    let missing = tokio::task::spawn_blocking(move || missing(&looked, &roots)).await;
    let missing = missing.map_err(|e| Refusal::invalid("vault", e.to_string()))?;
    record(records, &contents, &missing).await?;
    Ok(touched(&contents, &missing))
}

/// Refuses a content that is not whole: a write of it would stop half-way, with the card overwritten. `safe` says what was
/// not done yet.
///
/// # Errors
/// [`Refusal`] with the code `content-damaged`.
pub async fn refuse_damaged(
    records: &Records,
    vault: &Arc<Vault>,
    what: &str,
    name: &str,
    manifest: Name,
    safe: &str,
) -> Result<(), Refusal> {
    let looked = vault.clone();
    let missing = tokio::task::spawn_blocking(move || missing(&looked, &[manifest])).await;
    let missing = missing.map_err(|e| Refusal::invalid("vault", e.to_string()))?;
    let content = NamedBy {
        manifest: manifest.0.to_vec(),
        what: what.into(),
        name: name.into(),
    };
    record(records, &[content], &missing).await?;
    let Some((_, gone)) = missing.first() else {
        return Ok(());
    };
    let other = match what {
        "backup" => {
            "restore another backup; single files of this one can still be fetched (duplicarium backup files)"
        }
        _ => {
            "import the same image again (duplicarium release add), which puts back what is missing"
        }
    };
    Err(Refusal::conflict(
        "content-damaged",
        format!(
            "{what} {name} is damaged in the vault: {}. {safe}. Mend it from the second vault (duplicarium vault inspect), or \
             {other}",
            words(gone.len() as u64)
        ),
    ))
}
