//! The service as a whole: what it holds, how it starts and how it ends.

use std::collections::HashMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, RwLock};
use std::time::Duration;

use anyhow::{Context, Result, bail};
use bench::Bench;
use imagecraft::compare::Differences;
use imagecraft::container::Limits;
use object_store::local::LocalFileSystem;
use records::{Claim, OwnServer, Records};
use time::OffsetDateTime;
use tokio::task::JoinHandle;
use vault::{Keys, Name, SegmentId, Vault};

use crate::bus::{Bus, News};
use crate::config::Config;
use crate::error::ApiError;
use crate::jobs::Jobs;
use crate::plans::Plans;
use crate::slots::Slots;
use crate::turns::Turns;
use crate::uploads::{Claims, clear_old_uploads};

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
    /// Requests under one key wait for each other.
    pub turns: Turns,
    /// Permits to hold a long body in memory.
    pub bodies: tokio::sync::Semaphore,
    /// Permits for streams of events.
    pub streams: Arc<tokio::sync::Semaphore>,
    /// Uploads that imports work with.
    pub claims: Claims,
    /// Taken to give a label: two plans for one blank card must not give it two.
    labelling: tokio::sync::Mutex<()>,
    /// Set when the service is about to end: nothing new begins.
    closing: AtomicBool,
    runtime: tokio::runtime::Handle,
    own_server: Option<OwnServer>,
    /// That the records are this service's alone.
    claim: tokio::sync::Mutex<Option<Claim>>,
    /// Tasks that run as long as the service does.
    watches: Mutex<Vec<JoinHandle<()>>>,
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
        clear_old_uploads(&uploads, |_| false, true);
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
        let fingerprint = keys.fingerprint("the records of this key");
        let claim = records
            .claim(fingerprint.as_bytes())
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
            turns: Turns::default(),
            bodies: tokio::sync::Semaphore::new(crate::serve::LONG_BODIES),
            streams: Arc::new(tokio::sync::Semaphore::new(crate::serve::STREAMS)),
            claims: Claims::default(),
            labelling: tokio::sync::Mutex::default(),
            closing: AtomicBool::new(false),
            runtime: tokio::runtime::Handle::current(),
            own_server,
            claim: tokio::sync::Mutex::new(Some(claim)),
            watches: Mutex::default(),
            _lock: lock,
        });
        if !interrupted.is_empty() {
            let app = app.clone();
            std::thread::spawn(move || app.sweep());
        }
        for job in interrupted {
            let summary = format!("Job {job} was interrupted by the end of the service");
            app.note("service", "job.interrupted", &job.to_string(), &summary)
                .await?;
        }
        let watches = vec![
            tokio::spawn(crate::slots::watch(app.clone())),
            tokio::spawn(crate::slots::tell(app.clone())),
            tokio::spawn(crate::housekeeping::keep_house(app.clone())),
        ];
        *app.watches.lock().unwrap_or_else(|e| e.into_inner()) = watches;
        Ok(app)
    }

    /// Lets no new work begin.
    pub fn begin_to_close(&self) {
        self.closing.store(true, Ordering::Relaxed);
        self.jobs.cancel_all();
    }

    /// Whether the service is about to end.
    pub fn is_closing(&self) -> bool {
        self.closing.load(Ordering::Relaxed)
    }

    /// The own PostgreSQL, where there is one.
    pub fn own_server(&self) -> Option<&OwnServer> {
        self.own_server.as_ref()
    }

    /// Gives a label to a card that has none, and teaches its slot.
    pub async fn give_label(
        &self,
        slot: u32,
        medium: &cardwork::Medium,
        edges: &[u8],
        operator: &str,
    ) -> Result<records::cards::Card, ApiError> {
        let _alone = self.labelling.lock().await;
        if let Some(label) = self.slots.label_of(slot, medium.insertion) {
            return Ok(self.records.card(&label).await?);
        }
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
            Err(e) => {
                tracing::warn!("what failed work left in the vault stays there for now: {e}");
                let mut litter = self.litter.lock().unwrap_or_else(|e| e.into_inner());
                litter.push((since, segments));
            }
        }
    }

    /// Clears away what work left in the vault that was cut off with the service: whatever no record
    /// names. Blocks; other work waits until it is through.
    fn sweep(&self) {
        let _alone = self.storing.write().unwrap_or_else(|e| e.into_inner());
        let kept = self
            .runtime
            .block_on(self.records.manifests_since(OffsetDateTime::UNIX_EPOCH));
        let swept = kept.map_err(ApiError::from).and_then(|manifests| {
            let names = manifests
                .iter()
                .filter_map(|raw| raw.as_slice().try_into().ok().map(Name));
            let names: Vec<_> = names.collect();
            let freed = self.vault.remove_unnamed(&self.vault.segments(), &names)?;
            Ok(freed + self.vault.remove_unindexed()?)
        });
        match swept {
            Ok(freed) => tracing::info!(freed, "cleared away what the last end left in the vault"),
            Err(e) => tracing::warn!("what the last end left in the vault stays there: {e}"),
        }
    }

    /// Claims the records again where the connection that held them was lost.
    pub async fn renew_claim(&self) -> Result<(), ApiError> {
        let mut claim = self.claim.lock().await;
        if let Some(held) = claim.as_mut()
            && held.holds().await
        {
            return Ok(());
        }
        *claim = None;
        let fingerprint = self.keys.fingerprint("the records of this key");
        *claim = Some(self.records.claim(fingerprint.as_bytes()).await?);
        Ok(())
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
        self.begin_to_close();
        for watch in self
            .watches
            .lock()
            .unwrap_or_else(|e| e.into_inner())
            .drain(..)
        {
            watch.abort();
        }
        self.jobs.cancel_all();
        for _ in 0..200 {
            if self.jobs.is_idle() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        // Nobody waits for a database that does not answer.
        let closing = async {
            self.claim.lock().await.take();
            self.records.close().await;
        };
        if tokio::time::timeout(Duration::from_secs(5), closing)
            .await
            .is_err()
        {
            tracing::warn!("the connections to the records were not closed in time");
        }
        if let Some(server) = &self.own_server
            && let Err(e) = server.stop()
        {
            tracing::error!("PostgreSQL was not stopped: {e}");
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
