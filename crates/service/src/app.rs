//! The service as a whole: what it holds, how it starts and how it ends.

use std::collections::HashMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, RwLock};
use std::time::Duration;

use anyhow::{Context, Result, bail};
use bench::Bench;
use imagecraft::compare::Differences;
use imagecraft::container::Limits;
use object_store::local::LocalFileSystem;
use records::{OwnServer, Records};
use time::OffsetDateTime;
use tokio::task::JoinHandle;
use vault::{Keys, Name, SegmentId, Vault};

use crate::bus::{Bus, News};
use crate::config::Config;
use crate::error::ApiError;
use crate::jobs::Jobs;
use crate::plans::Plans;
use crate::slots::Slots;

/// Everything the routes and jobs work with.
pub struct App {
    pub records: Records,
    pub vault: Arc<Vault>,
    pub keys: Arc<Keys>,
    pub bench: Arc<Bench>,
    pub slots: Slots,
    pub plans: Plans,
    pub jobs: Jobs,
    pub bus: Bus,
    pub key_file: PathBuf,
    /// Where uploads wait to be imported.
    pub uploads: PathBuf,
    /// Where packed files are kept that somebody asked to keep.
    pub originals: PathBuf,
    /// The folder whose images can be added without an upload.
    pub import_dir: Option<PathBuf>,
    /// What an image may unpack to.
    pub limits: Limits,
    /// Whether addresses of the own network may be fetched from.
    pub private_addresses: bool,
    /// Held by every job while it works; taken whole to tidy the vault.
    pub storing: RwLock<()>,
    /// What failed work left in the vault, and when that work began.
    pub litter: Mutex<Vec<(OffsetDateTime, Vec<SegmentId>)>>,
    /// Comparisons of releases that were made: releases do not change.
    pub comparisons: Mutex<HashMap<(i64, i64), Arc<Differences>>>,
    pub console_dir: Option<PathBuf>,
    own_server: Option<OwnServer>,
    watch: std::sync::OnceLock<JoinHandle<()>>,
    /// Held as long as the service lives: one service a data folder.
    _lock: File,
}

impl App {
    /// Opens keys, vault and records, sorts out what a crash left, and starts to watch the slots.
    pub async fn open(config: Config) -> Result<Arc<Self>> {
        let dir = &config.data_dir;
        fs::create_dir_all(dir)
            .with_context(|| format!("cannot make the data folder {}", dir.display()))?;
        let lock = lock(dir)?;
        let (keys, key_file) = keys(dir)?;
        let uploads = dir.join("uploads");
        let originals = dir.join("originals");
        for folder in [&uploads, &originals] {
            fs::create_dir_all(folder)
                .with_context(|| format!("cannot make {}", folder.display()))?;
        }
        clear_old_uploads(&uploads);
        let vault_dir = dir.join("vault");
        fs::create_dir_all(&vault_dir)
            .with_context(|| format!("cannot make {}", vault_dir.display()))?;
        let store = LocalFileSystem::new_with_prefix(&vault_dir)
            .context("cannot open the vault")?
            .with_fsync(true);
        let keys = Arc::new(keys);
        let vault = Vault::open(Arc::new(store), keys.clone())
            .await
            .with_context(|| {
                format!(
                    "the vault in {} cannot be opened with {}",
                    vault_dir.display(),
                    key_file.display()
                )
            })?;
        let own_server = match &config.database_url {
            Some(_) => None,
            None => Some(OwnServer::start(dir).await?),
        };
        let url = config
            .database_url
            .as_deref()
            .or(own_server.as_ref().map(OwnServer::url))
            .unwrap_or_default();
        let records = Records::open(url)
            .await
            .context("the database cannot be used")?;
        let interrupted = records.sort_out_interrupted().await?;
        let app = Arc::new(Self {
            records,
            vault,
            keys,
            bench: Arc::new(Bench::new(config.standin)),
            slots: Slots::default(),
            plans: Plans::default(),
            jobs: Jobs::default(),
            bus: Bus::default(),
            key_file,
            uploads,
            originals,
            import_dir: config.import_dir,
            limits: config.limits,
            private_addresses: config.private_addresses,
            storing: RwLock::default(),
            litter: Mutex::default(),
            comparisons: Mutex::default(),
            console_dir: config.console_dir,
            own_server,
            watch: std::sync::OnceLock::new(),
            _lock: lock,
        });
        for job in interrupted {
            let summary = format!("Job {job} was interrupted by the end of the service");
            app.note("service", "job.interrupted", &job.to_string(), &summary)
                .await?;
        }
        let watch = tokio::spawn(crate::slots::watch(app.clone()));
        let _ = app.watch.set(watch);
        Ok(app)
    }

    /// Gives a label to a card that has none, and teaches its slot.
    pub async fn give_label(
        &self,
        slot: u32,
        medium: &cardwork::Medium,
        edges: &[u8],
        operator: &str,
    ) -> Result<records::cards::Card, ApiError> {
        let card = self
            .records
            .add_card(medium.size as i64, &medium.kind, edges, operator)
            .await?;
        let summary = format!("{} is the label of the card in slot {slot}", card.label);
        self.note(operator, "card.labelled", &card.label, &summary)
            .await?;
        self.slots.learn_label(slot, medium.insertion, &card.label);
        Ok(card)
    }

    /// Clears away what failed work left in the vault, if no other work may be relying on it right
    /// now; otherwise the end of that work tries again. Blocks; `wait` waits for the records.
    pub fn tidy(&self, wait: impl Fn(OffsetDateTime) -> Result<Vec<Vec<u8>>, ApiError>) {
        let Ok(_alone) = self.storing.try_write() else {
            return;
        };
        let litter = std::mem::take(&mut *self.litter.lock().unwrap_or_else(|e| e.into_inner()));
        let Some(since) = litter.iter().map(|(began, _)| *began).min() else {
            return;
        };
        let segments: Vec<_> = litter
            .into_iter()
            .flat_map(|(_, segments)| segments)
            .collect();
        let freed = wait(since).and_then(|manifests| {
            let names = manifests
                .iter()
                .filter_map(|raw| raw.as_slice().try_into().ok().map(Name));
            Ok(self
                .vault
                .remove_unnamed(&segments, &names.collect::<Vec<_>>())?)
        });
        match freed {
            Ok(freed) => tracing::info!(freed, "cleared away what failed work left in the vault"),
            Err(e) => tracing::warn!("what failed work left in the vault stays there: {e}"),
        }
    }

    /// Records that something happened and tells everyone.
    pub async fn note(
        &self,
        operator: &str,
        kind: &str,
        subject: &str,
        summary: &str,
    ) -> Result<(), ApiError> {
        self.records
            .add_event(operator, kind, subject, summary)
            .await?;
        self.bus.tell(News::Events);
        Ok(())
    }

    /// Ends everything in order: watching, jobs, records, and the own PostgreSQL last.
    pub async fn close(&self) {
        if let Some(watch) = self.watch.get() {
            watch.abort();
        }
        self.jobs.cancel_all();
        for _ in 0..200 {
            if self.jobs.is_idle() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        self.records.close().await;
        if let Some(server) = &self.own_server
            && let Err(e) = server.stop()
        {
            tracing::error!("PostgreSQL was not stopped: {e}");
        }
    }
}

/// An upload that was begun can go on after a restart, for some days.
fn clear_old_uploads(uploads: &Path) {
    const KEPT: Duration = Duration::from_secs(3 * 24 * 3600);
    for entry in fs::read_dir(uploads).into_iter().flatten().flatten() {
        let age = entry.metadata().and_then(|meta| meta.modified()).ok();
        let old = age.is_none_or(|at| at.elapsed().is_ok_and(|age| age > KEPT));
        // What was being fetched or unpacked is begun anew.
        let scratch = !entry
            .file_name()
            .to_string_lossy()
            .starts_with(|c: char| c.is_ascii_hexdigit());
        if (old || scratch)
            && let Err(e) = fs::remove_file(entry.path())
        {
            tracing::warn!("{} stays behind: {e}", entry.path().display());
        }
    }
}

fn lock(dir: &Path) -> Result<File> {
    let path = dir.join("service.lock");
    let file = File::create(&path).with_context(|| format!("cannot make {}", path.display()))?;
    if rustix::fs::flock(&file, rustix::fs::FlockOperation::NonBlockingLockExclusive).is_err() {
        bail!(
            "another service uses the data folder {}; stop it, or choose another with --data-dir",
            dir.display()
        );
    }
    Ok(file)
}

/// The key file, made at the first start.
fn keys(dir: &Path) -> Result<(Keys, PathBuf)> {
    let path = dir.join("team.key");
    if path.exists() {
        return Ok((Keys::load(&path)?, path));
    }
    let used = dir.join("vault").exists() || dir.join("postgres.password").exists();
    if used {
        bail!(
            "{} is missing, but {} holds a vault or records that were sealed with it; put back the copy that you keep elsewhere",
            path.display(),
            dir.display()
        );
    }
    let keys = Keys::create(&path)?;
    tracing::warn!(
        "made the key file {}. Keep a copy of this file elsewhere: without it nothing in the vault can be read",
        path.display()
    );
    Ok((keys, path))
}
