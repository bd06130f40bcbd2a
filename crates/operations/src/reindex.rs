//! What the vault tells of beside the records, and how it comes back into them.

use std::collections::HashSet;
use std::sync::Arc;

use records::Records;
use records::backups::NewBackup;
use records::imprints::NotedImprint;
use records::releases::NewRelease;
use serde::de::DeserializeOwned;
use vault::Vault;

use crate::note::{Head, Known, Note, heads};
use crate::refusal::Refusal;

/// What the records know of that notes tell of.
///
/// # Errors
/// What the records say.
pub async fn known(records: &Records, notes: &[Head]) -> Result<Known, Refusal> {
    let imprints: Vec<i64> = notes.iter().filter_map(Head::imprint).collect();
    Ok(Known {
        contents: records.known_contents().await?,
        unknown_imprints: records.unknown_imprints(&imprints).await?,
    })
}

/// What a note says of its manifest, as the records keep it.
fn about<T: DeserializeOwned>(note: &Note) -> Result<T, String> {
    let read = serde_json::from_value(note.about.clone());
    read.map_err(|e| format!("its note in the vault does not say enough ({e})"))
}

/// Puts one content back into the records.
async fn put_back(records: &Records, note: &Note, operator: &str) -> Result<(), String> {
    let done = match note.what.as_str() {
        "backup" => {
            let mut new: NewBackup = about(note)?;
            new.taken_at = Some(note.at);
            // Numbers of jobs are of other records.
            new.job = None;
            records.found_backup(&new, operator).await
        }
        "release" => {
            let mut new: NewRelease = about(note)?;
            // The packed file lay beside the vault, not in it.
            new.kept = false;
            records.found_release(&new, operator).await
        }
        _ => {
            let new: NotedImprint = about(note)?;
            let manifest = note.of().ok_or("its note names no content")?.0;
            records
                .found_imprint(&new, &manifest, note.at, operator)
                .await
        }
    };
    done.map_err(|e| match e {
        records::RecordError::Unknown { .. } => {
            format!("{e}; add that, and look again: duplicarium vault reindex")
        }
        e => e.to_string(),
    })
}

/// What a look through all notes gives; they are read on a thread of their own.
async fn look<T: Send + 'static>(
    vault: &Arc<Vault>,
    look: impl FnOnce(&Vault) -> T + Send + 'static,
) -> Result<T, Refusal> {
    let vault = vault.clone();
    let looked = tokio::task::spawn_blocking(move || look(&vault));
    looked
        .await
        .map_err(|e| Refusal::invalid("vault", e.to_string()))
}

/// What the vault tells of, the newest first, and whether the records know it.
///
/// # Errors
/// What vault and records say.
pub async fn noted(records: &Records, vault: &Arc<Vault>) -> Result<Vec<(Head, bool)>, Refusal> {
    let mut heads = look(vault, |vault| {
        vault.look_again()?;
        Ok::<_, Refusal>(heads(vault.notes()))
    })
    .await??;
    heads.sort_by_key(|note| std::cmp::Reverse(note.at));
    let known = known(records, &heads).await?;
    let told = heads.into_iter().map(|head| {
        let knows = known.knows(&head);
        (head, knows)
    });
    Ok(told.collect())
}

/// Puts backups, releases and imprints into the records that only the vault knows, in the order in which they were made.
///
/// # Errors
/// What vault and records say; what could not be put back is named in the answer.
pub async fn reindex(
    records: &Records,
    vault: &Arc<Vault>,
    operator: &str,
) -> Result<api::Reindexed, Refusal> {
    let noted = noted(records, vault).await?.into_iter();
    let unknown: HashSet<_> = noted
        .filter(|(_, known)| !known)
        .map(|(head, _)| (head.what, head.name))
        .collect();
    let mut notes = look(vault, move |vault| {
        let notes = vault.notes().filter_map(|(_, text)| Note::read(&text));
        let wanted = notes.filter(|note| unknown.contains(&(note.what.clone(), note.name.clone())));
        wanted.collect::<Vec<_>>()
    })
    .await?;
    notes.sort_by_key(|note| note.at);
    let mut done = api::Reindexed::default();
    for note in notes {
        match put_back(records, &note, operator).await {
            Ok(()) => match note.what.as_str() {
                "backup" => done.backups.push(note.name),
                "release" => done.releases.push(note.name),
                _ => done.imprints.push(note.name),
            },
            Err(why) => done.problems.push(format!("{}: {why}", note.name)),
        }
    }
    Ok(done)
}
