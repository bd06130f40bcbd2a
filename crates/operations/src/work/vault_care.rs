//! What is done with the vault as a whole: inspected, tidied, copied to a second one.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use cardwork::Stage;
use object_store::ObjectStore;
use records::vault::NamedBy;
use serde_json::{Value, json};
use vault::{Kind, Name, Root, Tidying, Vault, VaultError, store_at};

use crate::jobs::Work;
use crate::note;
use crate::refusal::Refusal;
use crate::store::{Store, names};
use crate::work::keep_records;
use api::words::exact;

/// Contents that are not whole, each with what it misses.
type Missing = Vec<(Name, Vec<Name>)>;

/// Missing pieces of one content that are counted.
const MOST_MISSING: usize = 10_000;
/// A segment of which less than so many hundredths are used is copied.
const COPY_BELOW: u8 = 50;

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

fn roots(contents: &[NamedBy]) -> Vec<Name> {
    let all: Vec<Vec<u8>> = contents.iter().map(|one| one.manifest.clone()).collect();
    let mut all = names(&all);
    all.sort_unstable();
    all.dedup();
    all
}

/// Reads the vault, or a share of it in hundredths behind the one before, and authenticates every piece. What is
/// damaged is mended from the second vault, where it has it.
///
/// # Errors
/// Of a store that does not answer, or a stop on request. Damage is no error of the work; it is told and kept.
pub fn inspect_vault(
    work: &Work,
    store: &Store,
    share: Option<u8>,
    second: Option<(&str, &Root)>,
) -> Result<Value, Refusal> {
    let vault = &store.vault;
    let behind = match share {
        Some(_) => work.wait(work.records().inspected_to())?,
        None => None,
    };
    let most = match share {
        Some(share) => (vault.stored() / 100)
            .saturating_mul(u64::from(share))
            .max(1),
        None => u64::MAX,
    };
    let mut progress = follow(work, Stage::Inspecting);
    let seen = vault
        .inspect(behind.as_deref(), most, &mut progress)
        .map_err(|e| explain("the inspection", e))?;
    let next = seen.next.as_ref().map(ToString::to_string);
    if share.is_some() {
        let next = next.as_deref();
        work.record(|| work.records().set_inspected_to(next))?;
    }
    let kept = contents(work)?;
    let mut missing = vault.missing(&roots(&kept), MOST_MISSING);
    let mut words = vec![format!(
        "{} pieces in {} segments were read and authenticated, {}{}",
        seen.pieces,
        seen.segments,
        exact(seen.bytes),
        if share.is_some() {
            ", a share of the vault"
        } else {
            ""
        }
    )];
    if !seen.bad.is_empty() {
        words.push(format!("{} damaged", pieces(seen.bad.len() as u64)));
    }
    if !missing.is_empty()
        && let Some((place, root)) = second
    {
        let (left, mended) = mend(work, vault, place, root, missing, &roots(&kept))?;
        missing = left;
        words.push(format!(
            "{} mended from the second vault",
            pieces(mended as u64)
        ));
    }
    let touched = touched(&kept, &missing);
    words.extend(touched.iter().map(|hurt| {
        format!(
            "{} {}: {} missing",
            hurt.what,
            hurt.name,
            pieces(hurt.pieces)
        )
    }));
    if touched.is_empty() {
        words.push("everything that is kept is whole".into());
    }
    end(work, "inspect", words, touched)
}

/// Takes pieces that are missing from the second vault. Gives what is still missing, and how many came.
fn mend(
    work: &Work,
    vault: &Arc<Vault>,
    place: &str,
    root: &Root,
    mut missing: Missing,
    roots: &[Name],
) -> Result<(Missing, usize), Refusal> {
    let other = store_at(place).map_err(|e| Refusal::invalid("second-vault", e))?;
    let other = work.wait(Vault::open(other, root))?;
    let mut mended = HashSet::new();
    // A page that comes back tells of chunks that are missing too.
    for _ in 0..4 {
        let wanted: HashSet<Name> = missing
            .iter()
            .flat_map(|(_, gone)| gone.iter().copied())
            .collect();
        let wanted: Vec<(Kind, Name)> = wanted
            .into_iter()
            .filter(|name| !mended.contains(name))
            .flat_map(|name| Kind::ALL.map(|kind| (kind, name)))
            .collect();
        let came = vault.mend(&wanted, &mut |kind, name| other.get(kind, name).ok())?;
        if came.is_empty() {
            break;
        }
        mended.extend(came);
        missing = vault.missing(roots, MOST_MISSING);
        if missing.is_empty() {
            break;
        }
    }
    Ok((missing, mended.len()))
}

/// What of these contents is not whole in the vault, and how much it misses. Reads their pages.
pub fn hurt(vault: &Arc<Vault>, contents: &[NamedBy]) -> Vec<api::Hurt> {
    touched(contents, &vault.missing(&roots(contents), MOST_MISSING))
}

/// What of the records misses something.
fn touched(kept: &[NamedBy], missing: &[(Name, Vec<Name>)]) -> Vec<api::Hurt> {
    let of: HashMap<&[u8], u64> = missing
        .iter()
        .map(|(root, gone)| (root.0.as_slice(), gone.len() as u64))
        .collect();
    let hurt = kept.iter().filter_map(|one| {
        let pieces = *of.get(one.manifest.as_slice())?;
        Some(api::Hurt {
            what: one.what.clone(),
            name: one.name.clone(),
            pieces,
        })
    });
    hurt.collect()
}

/// Keeps what came of a look, and gives it as the result of the job.
fn end(
    work: &Work,
    what: &str,
    words: Vec<String>,
    touched: Vec<api::Hurt>,
) -> Result<Value, Refusal> {
    let found = json!({ "words": words, "touched": touched });
    record_look(work, what, &found, !touched.is_empty())?;
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
    let mut hurt = Vec::new();
    if !tidied.broken.is_empty() {
        words.push("nothing went: something that is kept is not whole, and what it needs is not known; inspect the vault".into());
        let broken: Vec<(Name, Vec<Name>)> = tidied
            .broken
            .iter()
            .map(|name| (*name, vec![*name]))
            .collect();
        hurt = touched(&contents(work)?, &broken);
    }
    let content = work.wait(work.records().content_bytes())?;
    let stored = vault.stored() as i64;
    work.record(|| work.records().note_vault_size(stored, content))?;
    end(work, "tidy", words, hurt)
}

/// Copies what the second vault does not have.
///
/// # Errors
/// Of either store, or a stop on request; what was copied until then stays.
pub fn copy_vault(work: &Work, store: &Store, place: &str, root: &Root) -> Result<Value, Refusal> {
    let to = store_at(place).map_err(|e| Refusal::invalid("second-vault", e))?;
    let mut progress = follow(work, Stage::Copying);
    let copied = store
        .vault
        .copy_to(&to, root, &mut progress)
        .map_err(|e| explain("copying", e))?;
    let mut words = vec![format!(
        "{} segments, {}, went to the second vault and were read back; {} were there",
        copied.segments,
        exact(copied.bytes),
        copied.there
    )];
    let mut hurt = Vec::new();
    if !copied.damaged.is_empty() {
        words.push(format!(
            "{} segments are damaged here and were not copied: duplicarium vault inspect",
            copied.damaged.len()
        ));
        let mut of: BTreeMap<String, u64> = BTreeMap::new();
        for id in &copied.damaged {
            *of.entry(id.to_string()).or_default() += 1;
        }
        hurt = of
            .into_iter()
            .map(|(name, pieces)| api::Hurt {
                what: "segment".into(),
                name,
                pieces,
            })
            .collect();
    }
    let extra = match hurt.is_empty() {
        true => tidy_second(work, store, &to, &mut words)?,
        false => Vec::new(),
    };
    let found = json!({ "words": words, "touched": hurt, "extra": extra });
    record_look(work, "copy", &found, !hurt.is_empty())?;
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
