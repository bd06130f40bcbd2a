//! What is done with the vault as a whole: inspected, tidied, copied to a second one.

use std::collections::HashSet;
use std::sync::Arc;

use cardwork::Stage;
use object_store::ObjectStore;
use records::backups::NewBackup;
use records::releases::NewRelease;
use records::vault::{NamedBy, Which};
use serde_json::{Value, json};
use vault::{Inspected, Kind, Name, Root, Tidying, Vault, VaultError, store_at, store_there};

use crate::damage::{self, Missing};
use crate::jobs::Work;
use crate::note::{self, Note};
use crate::refusal::Refusal;
use crate::store::{COPY_BELOW, Store, manifest_name};
use crate::work::keep_records;
use api::words::exact;

fn cancelled(what: &str) -> Refusal {
    Refusal::invalid("cancelled", format!("{what} was stopped on request"))
}

fn explain(what: &str, error: VaultError) -> Refusal {
    match error {
        VaultError::Cancelled => cancelled(what),
        error => error.into(),
    }
}

/// `one piece is`, `7 pieces are`.
fn pieces(count: u64) -> String {
    match count {
        1 => "one piece is".into(),
        count => format!("{count} pieces are"),
    }
}

/// How far something is, told in bytes; whether to go on.
fn follow(work: &Work, stage: Stage) -> impl FnMut(u64, u64) -> bool {
    let mut begun = None;
    let mut told = 0;
    let progress = work.progress.clone();
    move |done: u64, total: u64| {
        if begun != Some(total) {
            begun = Some(total);
            told = 0;
            progress.begin(stage, total);
        }
        progress.advance(done.saturating_sub(told));
        told = told.max(done);
        !progress.is_cancelled()
    }
}

fn contents(work: &Work) -> Result<Vec<NamedBy>, Refusal> {
    Ok(work.wait(work.records().contents())?)
}

/// Where an inspection finds what is damaged here: the second vault, and the records themselves.
pub struct Mending<'a> {
    /// Where the second vault lies, with the root of its keys.
    pub second: Option<(&'a str, &'a Root)>,
    /// Address of the records' database.
    pub database: &'a str,
}

/// Reads the vault, or a share of it in hundredths behind the one before, and authenticates every piece. What is
/// damaged is mended from the second vault, where it has it; notes are written again from what the records know; and
/// where a copy of the records is damaged, another one is kept.
///
/// # Errors
/// Of a store that does not answer, or a stop on request. Damage is no error of the work; it is told and kept.
pub fn inspect_vault(
    work: &Work,
    store: &Store,
    share: Option<u8>,
    mending: &Mending<'_>,
) -> Result<Value, Refusal> {
    let vault = &store.vault;
    let behind = match share {
        Some(_) => work.wait(work.records().inspected_to(Which::First))?,
        None => None,
    };
    let mut progress = follow(work, Stage::Inspecting);
    let seen = vault
        .inspect(behind.as_deref(), most_of(vault, share), &mut progress)
        .map_err(|e| explain("the inspection", e))?;
    let next = seen.next.as_ref().map(ToString::to_string);
    if share.is_some() {
        let next = next.as_deref();
        work.record(|| work.records().set_inspected_to(Which::First, next))?;
    }
    let mut words = told(&seen, share.is_some());
    let kept = contents(work)?;
    let named = copies_of_records(vault);
    let all: Vec<NamedBy> = kept.iter().chain(&named).cloned().collect();
    let mut missing = damage::missing(vault, &damage::roots(&all));
    let notes_lost = seen.bad.iter().any(|bad| bad.kind == Kind::Note);
    let mut needs = Vec::new();
    if (!missing.is_empty() || notes_lost)
        && let Some((place, root)) = mending.second
    {
        // What is damaged here is told also where the second vault cannot be reached.
        match mend(
            work,
            vault,
            place,
            root,
            &seen,
            missing.clone(),
            &damage::roots(&all),
        ) {
            Ok((left, mended)) => {
                missing = left;
                words.push(format!(
                    "{} mended from the second vault",
                    pieces(mended as u64)
                ));
            }
            Err(e) => {
                needs.push(format!(
                    "nothing could be mended from the second vault: {}",
                    e.detail
                ));
            }
        }
    }
    let copies_hurt = damage::touched(&named, &missing);
    for copy in &copies_hurt {
        needs.push(format!(
            "the copy of the records of {} is damaged: {} missing",
            copy.name,
            pieces(copy.pieces)
        ));
    }
    if !copies_hurt.is_empty() {
        keep_records(work, mending.database)?;
        needs.push(
            "another copy of the records was kept, which is whole; tidying takes the damaged one"
                .into(),
        );
    }
    let written = note_again(work, vault)?;
    if !written.is_empty() {
        words.push(format!(
            "what the vault itself says of {} was gone, and was written again from the records",
            written.join(", ")
        ));
    }
    vault.store_twice()?;
    let touched = damage::touched(&kept, &missing);
    work.wait(damage::record(work.records(), &kept, &missing))?;
    words.extend(touched.iter().map(|hurt| {
        format!(
            "{} {}: {} missing",
            hurt.what,
            hurt.name,
            pieces(hurt.pieces)
        )
    }));
    if touched.is_empty() && copies_hurt.is_empty() {
        words.push("everything that is kept is whole".into());
    }
    words.extend(needs.iter().cloned());
    end(work, "inspect", words, touched, needs)
}

/// Bytes of a share of the vault in hundredths; all of them where none is given.
fn most_of(vault: &Vault, share: Option<u8>) -> u64 {
    match share {
        Some(share) => (vault.stored() / 100)
            .saturating_mul(u64::from(share))
            .max(1),
        None => u64::MAX,
    }
}

/// What an inspection found and made good by itself.
fn told(seen: &Inspected, share: bool) -> Vec<String> {
    let mut words = vec![format!(
        "{} pieces in {} segments were read and authenticated, {}{}",
        seen.pieces,
        seen.segments,
        exact(seen.bytes),
        if share { ", a share of the vault" } else { "" }
    )];
    if !seen.bad.is_empty() {
        words.push(format!("{} damaged", pieces(seen.bad.len() as u64)));
    }
    if seen.undescribed > 0 {
        words.push(format!(
            "{} whole and not to be found without an index; stored again",
            pieces(seen.undescribed)
        ));
    }
    if seen.indexes > 0 {
        words.push(format!(
            "{} indexes of segments were damaged, and were made again",
            seen.indexes
        ));
    }
    words
}

/// The copies of the records that lie in the vault, as contents, the newest first.
fn copies_of_records(vault: &Vault) -> Vec<NamedBy> {
    let heads = note::heads(vault.notes());
    let copies = note::records_copies(&heads).into_iter();
    let named = copies.map(|copy| NamedBy {
        manifest: copy.of.0.to_vec(),
        what: "records".into(),
        name: copy.name.clone(),
    });
    named.collect()
}

/// Writes the notes of releases and backups again that are not in the vault any more. Gives of what.
fn note_again(work: &Work, vault: &Arc<Vault>) -> Result<Vec<String>, Refusal> {
    let there: HashSet<(String, String)> = note::heads(vault.notes())
        .into_iter()
        .map(|head| (head.what, head.name))
        .collect();
    let mut written = Vec::new();
    for content in contents(work)? {
        let (what, name) = (content.what.as_str(), content.name.as_str());
        if what == "imprint" || there.contains(&(content.what.clone(), content.name.clone())) {
            continue;
        }
        let manifest = manifest_name(&content.manifest)?;
        let text = match what {
            "backup" => {
                let row = work.wait(work.records().backup(name))?;
                let about = NewBackup::from(&row);
                Note::text_of(what, name, &row.taken_by, row.taken_at, &about, manifest)
            }
            _ => {
                let row = work.wait(work.records().release(name))?;
                let about = NewRelease::from(&row);
                Note::text_of(what, name, &row.added_by, row.added_at, &about, manifest)
            }
        };
        vault::note(&work.hold, &text)?;
        written.push(format!("{what} {name}"));
    }
    Ok(written)
}

/// Takes pieces that are missing from the second vault, and notes that were found damaged. Gives what is still missing, and
/// how many came.
fn mend(
    work: &Work,
    vault: &Arc<Vault>,
    place: &str,
    root: &Root,
    seen: &Inspected,
    mut missing: Missing,
    roots: &[Name],
) -> Result<(Missing, usize), Refusal> {
    let other = second_there(place)?;
    let other = work.wait(Vault::open_existing(other, root));
    let other = other.map_err(|e| second_refused(place, e))?;
    let mut mended = HashSet::new();
    let notes = seen.bad.iter().filter(|bad| bad.kind == Kind::Note);
    let notes: Vec<_> = notes.map(|bad| bad.name).collect();
    // A page that comes back tells of chunks that are missing too.
    for turn in 0..4 {
        let wanted: HashSet<Name> = missing
            .iter()
            .flat_map(|(_, gone)| gone.iter().copied())
            .collect();
        let wanted = wanted.into_iter().filter(|name| !mended.contains(name));
        let notes = notes.iter().copied().filter(|_| turn == 0);
        let wanted: Vec<Name> = wanted.chain(notes).collect();
        let came = vault.mend(&wanted, &mut |name| other.get_any(name).ok())?;
        if came.is_empty() {
            break;
        }
        mended.extend(came);
        missing = damage::missing(vault, roots);
        if missing.is_empty() {
            break;
        }
    }
    Ok((missing, mended.len()))
}

/// The store of the second vault, where it lies; nothing is made there.
fn second_there(place: &str) -> Result<Arc<dyn ObjectStore>, Refusal> {
    store_there(place).map_err(|e| {
        let detail = format!(
            "the second vault cannot be reached ({e}); is its disk there and mounted? Nothing was changed there"
        );
        Refusal::invalid("second-vault", detail)
    })
}

fn second_refused(place: &str, error: VaultError) -> Refusal {
    match error {
        VaultError::Empty => Refusal::conflict(
            "second-vault-empty",
            format!(
                "nothing lies in the second vault at {place}, although copies were made to it: is its disk mounted there? \
                 Nothing was written. To begin it anew: duplicarium vault copy --begin"
            ),
        ),
        VaultError::Cancelled => cancelled("copying"),
        error => error.into(),
    }
}

/// Keeps what came of a look, what needs a hand beside contents, and gives it as the result of the job.
fn end(
    work: &Work,
    what: &str,
    words: Vec<String>,
    touched: Vec<api::Hurt>,
    needs: Vec<String>,
) -> Result<Value, Refusal> {
    let bad = !touched.is_empty() || !needs.is_empty();
    let found = json!({ "words": words, "touched": touched, "needs": needs, "bad": bad });
    record_look(work, what, &found, bad)?;
    Ok(found)
}

fn record_look(work: &Work, what: &str, found: &Value, bad: bool) -> Result<(), Refusal> {
    work.record(|| {
        work.records()
            .add_vault_look(what, Some(work.job), found, bad)
    })
}

/// Takes away what nothing refers to, beside running work. Where the newest copy of the records, at this address, names
/// what went since, they are kept before.
///
/// # Errors
/// Of a store that does not answer, or a stop on request.
pub fn tidy_vault(
    work: &Work,
    store: &Store,
    address: &str,
    seal_anew: bool,
) -> Result<Value, Refusal> {
    let kept_first = !work.wait(work.records().contents_gone_lately())?.is_empty();
    if kept_first {
        keep_records(work, address)?;
    }
    let vault = &store.vault;
    let before = vault.stored();
    let mut refused = None;
    let mut kept = || {
        work.wait(store.kept(work.records())).map_err(|e| {
            refused = Some(e);
            VaultError::Cancelled
        })
    };
    let mut progress = follow(work, Stage::Tidying);
    let tidied = vault.tidy(Tidying {
        kept: &mut kept,
        note_stays: &note::stays,
        only: None,
        copy_below: COPY_BELOW,
        seal_anew,
        progress: &mut progress,
    });
    if let Some(refused) = refused {
        return Err(refused);
    }
    let tidied = tidied.map_err(|e| explain("tidying", e))?;
    let mut words = vec![format!(
        "{} segments went, {} are free ({} before, {} now)",
        tidied.segments,
        exact(tidied.freed),
        exact(before),
        exact(vault.stored())
    )];
    if kept_first {
        words.push("the records were kept before, so that they know what went".into());
    }
    if tidied.copied > 0 {
        words.push(format!(
            "{} that were still used were copied",
            exact(tidied.copied)
        ));
    }
    if tidied.in_use > 0 {
        words.push(format!(
            "{} segments stayed, because work relies on them",
            tidied.in_use
        ));
    }
    let (mut hurt, mut needs) = (Vec::new(), Vec::new());
    if !tidied.broken.is_empty() {
        needs.push("nothing went: something that is kept is not whole, and what it needs is not known; inspect the vault".to_owned());
        words.extend(needs.iter().cloned());
        let broken: Vec<(Name, Vec<Name>)> = tidied
            .broken
            .iter()
            .map(|name| (*name, vec![*name]))
            .collect();
        let kept = contents(work)?;
        hurt = damage::touched(&kept, &broken);
        let missing = damage::missing(vault, &damage::roots(&kept));
        work.wait(damage::record(work.records(), &kept, &missing))?;
    }
    let content = work.wait(work.records().content_bytes())?;
    let stored = vault.stored() as i64;
    work.record(|| work.records().note_vault_size(stored, content))?;
    end(work, "tidy", words, hurt, needs)
}

/// How a copy to the second vault is made.
pub struct CopyOrder {
    /// Where the second vault lies.
    pub place: String,
    /// Whether it may be begun anew where nothing lies there.
    pub begin: bool,
    /// Hundredths of it that are read and authenticated, behind those of the time before.
    pub share: u8,
}

/// Copies what the second vault does not have, reads a share of what it has, and copies again what is damaged there.
///
/// # Errors
/// Of either store, or a stop on request; what was copied until then stays.
pub fn copy_vault(
    work: &Work,
    store: &Store,
    order: &CopyOrder,
    root: &Root,
) -> Result<Value, Refusal> {
    let (vault, place) = (&store.vault, order.place.as_str());
    let looks = work.wait(work.records().vault_looks())?;
    let begin = order.begin || !looks.iter().any(|look| look.what == "copy");
    let to = match begin {
        true => store_at(place).map_err(|e| Refusal::invalid("second-vault", e))?,
        false => second_there(place)?,
    };
    let mut damaged_there = Vec::new();
    if !begin {
        let behind = work.wait(work.records().inspected_to(Which::Second))?;
        let most = most_of(vault, Some(order.share));
        let mut progress = follow(work, Stage::Inspecting);
        let checked = vault
            .check_second(&to, behind.as_deref(), most, &mut progress)
            .map_err(|e| second_refused(place, e))?;
        let next = checked.next.as_ref().map(ToString::to_string);
        work.record(|| {
            work.records()
                .set_inspected_to(Which::Second, next.as_deref())
        })?;
        damaged_there = checked.damaged;
    }
    let mut progress = follow(work, Stage::Copying);
    let copied = vault
        .copy_to(&to, root, begin, &damaged_there, &mut progress)
        .map_err(|e| second_refused(place, e))?;
    let mut words = vec![format!(
        "{} segments, {}, went to the second vault and were read back; {} were there",
        copied.segments,
        exact(copied.bytes),
        copied.there
    )];
    if !damaged_there.is_empty() {
        let were = match damaged_there.len() {
            1 => "one segment was".into(),
            count => format!("{count} segments were"),
        };
        words.push(format!(
            "{were} damaged in the second vault; {} went there again",
            copied.replaced
        ));
    }
    let mut bad = copied.replaced < damaged_there.len() as u64;
    if !copied.damaged.is_empty() {
        bad = true;
        words.push(format!(
            "{} segments are damaged here and were not copied: duplicarium vault inspect",
            copied.damaged.len()
        ));
    }
    let hurt: Vec<api::Hurt> = copied
        .damaged
        .iter()
        .map(|id| api::Hurt {
            what: "segment".into(),
            name: id.to_string(),
            pieces: 1,
        })
        .collect();
    let extra = match hurt.is_empty() {
        true => tidy_second(work, store, &to, &mut words)?,
        false => Vec::new(),
    };
    let found = json!({ "words": words, "touched": hurt, "extra": extra, "bad": bad });
    record_look(work, "copy", &found, bad)?;
    Ok(found)
}

/// Deletes from the second vault what was tidied away here before the last copy, if everything that the records name is
/// here; gives what it has beyond that, for the next time. What is damaged here may be whole there.
fn tidy_second(
    work: &Work,
    store: &Store,
    there: &Arc<dyn ObjectStore>,
    words: &mut Vec<String>,
) -> Result<Vec<String>, Refusal> {
    let vault = &store.vault;
    let extra = vault.only_in(there)?;
    if extra.is_empty() {
        return Ok(Vec::new());
    }
    let kept = work.wait(store.kept(work.records()))?;
    if !vault.missing(&kept, 1).is_empty() {
        words.push("nothing goes from the second vault, because something is missing here: duplicarium vault inspect".into());
        return Ok(Vec::new());
    }
    let looks = work.wait(work.records().vault_looks())?;
    let before: Vec<String> = looks
        .iter()
        .find(|look| look.what == "copy")
        .and_then(|look| serde_json::from_value(look.found.get("extra")?.clone()).ok())
        .unwrap_or_default();
    let (due, new): (Vec<_>, Vec<_>) = extra
        .into_iter()
        .partition(|id| before.contains(&id.to_string()));
    let gone = vault.delete_in(there, &due)?;
    if gone > 0 {
        words.push(format!(
            "{gone} segments went from the second vault, because they were tidied away here before the last copy"
        ));
    }
    Ok(new.iter().map(ToString::to_string).collect())
}
