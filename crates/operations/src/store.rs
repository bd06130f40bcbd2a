//! What the service keeps beside its records: keys, the vault, uploads and packed files; and the
//! clearing away of what failed work left there.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use records::Records;
use time::OffsetDateTime;
use vault::{
    Keys, ManifestDisk, Name, Root, SegmentId, Tidying, Vault, VaultError, store_at, store_there,
};

use crate::note;
use crate::refusal::Refusal;
use crate::reindex;

/// Vault, keys and the folders beside them.
pub struct Store {
    /// All image content.
    pub vault: Arc<Vault>,
    /// Where the vault lies: a folder, or a bucket.
    pub place: String,
    /// What everything is sealed under.
    pub keys: Arc<Keys>,
    /// Where uploads wait to be imported.
    pub uploads: PathBuf,
    /// Where packed files are kept that somebody asked to keep.
    pub originals: PathBuf,
    /// Where what is on cards is kept while they are checked.
    pub checks: PathBuf,
}

/// A segment of which less than so many hundredths are used is copied when the vault is tidied.
pub const COPY_BELOW: u8 = 50;

/// Names of contents as the records hold them.
pub fn names(manifests: &[Vec<u8>]) -> Vec<Name> {
    let names = manifests.iter();
    names
        .filter_map(|raw| raw.as_slice().try_into().ok().map(Name))
        .collect()
}

impl Store {
    /// Opens the vault at an address, a data folder's own where none is given, and makes the folders beside it. Where
    /// nothing lies there, a vault is begun only if it `may_begin`: records that know content have one already.
    ///
    /// # Errors
    /// [`Refusal`] with the code `vault-empty`; what the vault says.
    pub async fn open(
        dir: &Path,
        root: &Root,
        vault_at: Option<&str>,
        may_begin: bool,
    ) -> Result<Self, Refusal> {
        let vault_dir = dir.join("vault");
        let (uploads, originals) = (dir.join("uploads"), dir.join("originals"));
        let checks = dir.join("checks");
        let address = match vault_at {
            Some(address) => address.to_owned(),
            None => vault_dir.display().to_string(),
        };
        let empty = |found: &str| {
            let detail = format!(
                "{found} at {address}, where the vault of these records should lie. Is its disk mounted there? Nothing was \
                 written. If the vault lies elsewhere, say where (vault_store); if it is lost, bring everything back from a \
                 copy of it: put its folders there, or name the second vault as vault_store"
            );
            Refusal::conflict("vault-empty", detail)
        };
        let vault = match may_begin {
            true => {
                let store = store_at(&address).map_err(|e| Refusal::invalid("vault", e))?;
                Vault::open(store, root).await?
            }
            false => {
                let store = store_there(&address)
                    .map_err(|e| empty(&format!("the folder cannot be reached ({e})")))?;
                match Vault::open_existing(store, root).await {
                    Err(VaultError::Empty) => return Err(empty("nothing lies")),
                    opened => opened?,
                }
            }
        };
        for folder in [&uploads, &originals, &checks] {
            std::fs::create_dir_all(folder)?;
        }
        let opened = vault.opened();
        for id in &opened.made_again {
            tracing::warn!(
                "the index of segment {id} was gone or damaged, and was made again from it"
            );
        }
        for id in opened.lost.iter().chain(&opened.unreadable) {
            tracing::error!(
                "segment {id} of the vault is gone or cannot be read; `duplicarium vault inspect` says what that touches"
            );
        }
        Ok(Self {
            keys: vault.keys().clone(),
            place: address,
            vault,
            uploads,
            originals,
            checks,
        })
    }

    /// Bytes that are free where the vault lies; `None` where that cannot be told, as of a bucket.
    pub fn free(&self) -> Option<u64> {
        let found = rustix::fs::statvfs(self.place.as_str()).ok()?;
        Some(found.f_bavail.saturating_mul(found.f_frsize))
    }

    /// The content of this name as a disk. Opening and reading it block.
    pub fn disk(&self, name: Name) -> Result<ManifestDisk, Refusal> {
        Ok(ManifestDisk::open(&self.vault, name)?)
    }

    /// Clears away what failed work left in the vault: those of its segments that nothing names which was recorded
    /// since it began. Where other services work with the vault, that waits for the next tidying. Blocks.
    pub fn tidy_after(
        &self,
        segments: &[SegmentId],
        kept: impl Fn() -> Result<Vec<Vec<u8>>, Refusal>,
    ) {
        if self.vault.is_shared() {
            return;
        }
        let kept = || kept().map(|all| names(&all));
        let tidied = self
            .tidy(Some(segments), &kept)
            .and_then(|freed| Ok(self.vault.bury_these(segments).map(|()| freed)?));
        match tidied {
            Ok(freed) => tracing::info!(freed, "cleared away what failed work left in the vault"),
            Err(e) => tracing::warn!("what failed work left in the vault stays there for now: {e}"),
        }
    }

    /// Clears away what work left in the vault that was cut off with the service: whatever no record
    /// names; likewise. Blocks.
    pub fn sweep(&self, records: &Records, runtime: &tokio::runtime::Handle) {
        if self.vault.is_shared() {
            return;
        }
        let kept = || runtime.block_on(self.kept(records));
        // Nobody has read anything yet since the start.
        let all = self.vault.segments();
        let tidied = self
            .tidy(None, &kept)
            .and_then(|freed| Ok(self.vault.bury_these(&all).map(|()| freed)?));
        match tidied {
            Ok(freed) => tracing::info!(freed, "cleared away what the last end left in the vault"),
            Err(e) => tracing::warn!("what the last end left in the vault stays there: {e}"),
        }
    }

    /// Every manifest that stays: those that the records name, or that their newest copy in the vault names although they
    /// went since, and what only the vault knows.
    pub async fn kept(&self, records: &Records) -> Result<Vec<Name>, Refusal> {
        let vault = self.vault.clone();
        let notes = tokio::task::spawn_blocking(move || note::heads(vault.notes()));
        let notes = notes
            .await
            .map_err(|e| Refusal::invalid("vault", e.to_string()))?;
        let known = reindex::known(records, &notes).await?;
        // Asked for last: what is recorded later was held when this began.
        let all = records.manifests_since(OffsetDateTime::UNIX_EPOCH).await?;
        let lately = names(&records.contents_gone_lately().await?);
        let vault = self.vault.clone();
        // Of what is not whole any more there is nothing to keep.
        let beside = tokio::task::spawn_blocking(move || {
            let whole = |name: Name| vault.missing(&[name], 1).is_empty();
            let lately = lately.into_iter().filter(|name| whole(*name));
            let by_notes = note::kept_by_notes(&notes, &known, &whole);
            by_notes.into_iter().chain(lately).collect::<Vec<_>>()
        });
        let beside = beside
            .await
            .map_err(|e| Refusal::invalid("vault", e.to_string()))?;
        Ok(names(&all).into_iter().chain(beside).collect())
    }

    /// Bytes that tidying would free if these backups were let go; nothing where it cannot be told, because something
    /// that is kept is damaged.
    pub async fn would_free(
        &self,
        records: &Records,
        going: &[&records::backups::Backup],
    ) -> Result<Option<u64>, Refusal> {
        let leaving: HashSet<&[u8]> = going.iter().map(|one| one.manifest.as_slice()).collect();
        let ours: HashSet<&str> = going.iter().map(|one| one.name.as_str()).collect();
        let contents = records.contents().await?;
        let others = contents
            .iter()
            .filter(|one| one.what != "backup" || !ours.contains(one.name.as_str()));
        let others: HashSet<&[u8]> = others.map(|one| one.manifest.as_slice()).collect();
        let mut kept = self.kept(records).await?;
        kept.retain(|name| {
            let name = name.0.as_slice();
            !leaving.contains(name) || others.contains(name)
        });
        let vault = self.vault.clone();
        let measured =
            tokio::task::spawn_blocking(move || vault.would_free(&kept, &note::stays, COPY_BELOW));
        measured
            .await
            .map_err(|e| Refusal::invalid("vault", e.to_string()))
    }

    fn tidy(
        &self,
        only: Option<&[SegmentId]>,
        kept: &dyn Fn() -> Result<Vec<Name>, Refusal>,
    ) -> Result<u64, Refusal> {
        let mut refused = None;
        let mut kept = || {
            kept().map_err(|e| {
                refused = Some(e);
                VaultError::Cancelled
            })
        };
        let tidied = self.vault.tidy(Tidying {
            kept: &mut kept,
            note_stays: &note::stays,
            only,
            copy_below: 0,
            seal_anew: false,
            progress: &mut |_, _| true,
        });
        match (tidied, refused) {
            (_, Some(refused)) => Err(refused),
            (Ok(tidied), None) => Ok(tidied.freed),
            (Err(e), None) => Err(e.into()),
        }
    }
}

/// The name of a content as the records hold it.
pub fn manifest_name(bytes: &[u8]) -> Result<Name, Refusal> {
    let name = bytes.try_into().map(Name);
    name.map_err(|_| Refusal::invalid("records", "the records hold no usable name of the content"))
}

/// Refuses work that needs more room beside `path` than there is, with something to spare.
pub fn room(path: &Path, wanted: u64) -> Result<(), Refusal> {
    const SPARE: u64 = 256 << 20;
    let dir = path.parent().unwrap_or(path);
    let found = rustix::fs::statvfs(dir).map_err(std::io::Error::from)?;
    let free = found.f_bavail.saturating_mul(found.f_frsize);
    if free >= wanted.saturating_add(SPARE) {
        return Ok(());
    }
    Err(Refusal::invalid(
        "no-room",
        format!(
            "{wanted} bytes are needed in {}, where {free} are free and {SPARE} must stay; make room there",
            dir.display()
        ),
    ))
}

/// Hexadecimal digits that say which service gave a name.
const GIVER: usize = 8;
/// Bytes of chance in a name.
const CHANCE: usize = 12;

/// A name that nothing else has, of hexadecimal digits, for something that only this service has in its memory or its
/// data folder: the name says which service that is.
pub fn own_id(records: &Records) -> Result<String, Refusal> {
    let mut bytes = [0; CHANCE];
    getrandom::fill(&mut bytes).map_err(|e| Refusal::invalid("no-chance", e.to_string()))?;
    let giver = records.me().unwrap_or(0);
    Ok(format!("{giver:08x}{}", hex::encode(bytes)))
}

/// The service that gave a name; nothing of a name that says none.
pub fn giver_of(id: &str) -> Option<i32> {
    if id.len() != GIVER + 2 * CHANCE {
        return None;
    }
    let giver = i32::from_str_radix(id.get(..GIVER)?, 16).ok()?;
    Some(giver).filter(|giver| *giver > 0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_says_who_gave_it() {
        let chance = "ab".repeat(CHANCE);
        assert_eq!(giver_of(&format!("{:08x}{chance}", 17)), Some(17));
        for none in [
            chance.clone(),
            format!("{:08x}{chance}", 0),
            format!("ffffffff{chance}"),
            format!("zz{}{chance}", "0".repeat(6)),
            String::new(),
        ] {
            assert_eq!(giver_of(&none), None, "{none}");
        }
    }
}
