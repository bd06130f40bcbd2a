//! What the service keeps beside its records: keys, the vault, uploads and packed files; and the
//! clearing away of what failed work left there.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, RwLock, RwLockReadGuard};

use object_store::local::LocalFileSystem;
use records::Records;
use time::OffsetDateTime;
use vault::{Keys, ManifestDisk, Name, SegmentId, Unfinished, Vault};

use crate::refusal::Refusal;

/// Vault, keys and the folders beside them.
pub struct Store {
    /// All image content.
    pub vault: Arc<Vault>,
    /// What everything is sealed under.
    pub keys: Arc<Keys>,
    /// Where uploads wait to be imported.
    pub uploads: PathBuf,
    /// Where packed files are kept that somebody asked to keep.
    pub originals: PathBuf,
    /// Where what is on cards is kept while they are checked.
    pub checks: PathBuf,
    /// Held by every job while it works; taken whole to tidy the vault.
    working: RwLock<()>,
    /// What failed work left in the vault, and when that work began.
    litter: Mutex<Vec<(OffsetDateTime, Vec<SegmentId>)>>,
}

/// Names of contents as the records hold them.
fn names(manifests: &[Vec<u8>]) -> Vec<Name> {
    let names = manifests.iter();
    names
        .filter_map(|raw| raw.as_slice().try_into().ok().map(Name))
        .collect()
}

impl Store {
    /// Opens the vault of a data folder, and makes the folders beside it.
    pub async fn open(dir: &Path, keys: Keys) -> Result<Self, Refusal> {
        let vault_dir = dir.join("vault");
        let (uploads, originals) = (dir.join("uploads"), dir.join("originals"));
        let checks = dir.join("checks");
        for folder in [&vault_dir, &uploads, &originals, &checks] {
            std::fs::create_dir_all(folder)?;
        }
        let store = LocalFileSystem::new_with_prefix(&vault_dir)
            .map_err(|e| Refusal::invalid("vault", format!("{}: {e}", vault_dir.display())))?
            .with_fsync(true);
        let keys = Arc::new(keys);
        Ok(Self {
            vault: Vault::open(Arc::new(store), keys.clone()).await?,
            keys,
            uploads,
            originals,
            checks,
            working: RwLock::default(),
            litter: Mutex::default(),
        })
    }

    /// The content of this name as a disk. Opening and reading it block.
    pub fn disk(&self, name: Name) -> Result<ManifestDisk, Refusal> {
        Ok(ManifestDisk::open(self.vault.clone(), name)?)
    }

    /// Keeps the vault from being tidied while work relies on what it has put there.
    pub fn working(&self) -> RwLockReadGuard<'_, ()> {
        self.working.read().unwrap_or_else(|e| e.into_inner())
    }

    /// Remembers what work that began then left in the vault although it failed.
    pub fn left_behind(&self, began: OffsetDateTime, segments: Vec<SegmentId>) {
        let mut litter = self.litter.lock().unwrap_or_else(|e| e.into_inner());
        litter.push((began, segments));
    }

    /// Takes the end of a disk's way into the vault; what it left there on an error is remembered.
    pub fn stored<T>(
        &self,
        began: OffsetDateTime,
        ended: Result<T, Unfinished>,
    ) -> Result<T, Refusal> {
        ended.map_err(|unfinished| {
            self.left_behind(began, unfinished.segments);
            unfinished.error.into()
        })
    }

    /// Clears away what failed work left in the vault, if no other work may be relying on it right
    /// now; otherwise the end of that work tries again. Blocks; `kept` asks the records which
    /// contents they name since then.
    pub fn tidy(&self, kept: impl Fn(OffsetDateTime) -> Result<Vec<Vec<u8>>, Refusal>) {
        let Ok(_alone) = self.working.try_write() else {
            return;
        };
        let litter = std::mem::take(&mut *self.litter.lock().unwrap_or_else(|e| e.into_inner()));
        let Some(since) = litter.iter().map(|(began, _)| *began).min() else {
            return;
        };
        let segments = litter.into_iter().flat_map(|(_, segments)| segments);
        let segments: Vec<_> = segments.collect();
        let freed =
            kept(since).and_then(|kept| Ok(self.vault.remove_unnamed(&segments, &names(&kept))?));
        match freed {
            Ok(freed) => tracing::info!(freed, "cleared away what failed work left in the vault"),
            Err(e) => {
                tracing::warn!("what failed work left in the vault stays there for now: {e}");
                self.left_behind(since, segments);
            }
        }
    }

    /// Clears away what work left in the vault that was cut off with the service: whatever no record
    /// names. Blocks; other work waits until it is through.
    pub fn sweep(&self, records: &Records, runtime: &tokio::runtime::Handle) {
        let _alone = self.working.write().unwrap_or_else(|e| e.into_inner());
        let kept = runtime.block_on(records.manifests_since(OffsetDateTime::UNIX_EPOCH));
        let swept = kept.map_err(Refusal::from).and_then(|kept| {
            let segments = self.vault.segments();
            let freed = self.vault.remove_unnamed(&segments, &names(&kept))?;
            Ok(freed + self.vault.remove_unindexed()?)
        });
        match swept {
            Ok(freed) => tracing::info!(freed, "cleared away what the last end left in the vault"),
            Err(e) => tracing::warn!("what the last end left in the vault stays there: {e}"),
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

/// A name that nothing else has, of hexadecimal digits.
pub fn random_id() -> Result<String, Refusal> {
    let mut bytes = [0; 12];
    getrandom::fill(&mut bytes).map_err(|e| Refusal::invalid("no-chance", e.to_string()))?;
    Ok(hex::encode(bytes))
}
