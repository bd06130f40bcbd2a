//! The service as a whole: what it holds, how it starts and how it ends.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use anyhow::{Context, Result, bail};
use arrival::locate::{Elsewhere, Fixed, Locator, Mdns, Neighbours, StandIn};
use arrival::radio::Radio;
use bench::Bench;
use operations::arrivals::{Arrivals, Watching};
use operations::attention::NeedsAttention;
use operations::backups::Backups;
use operations::benches::Benches;
use operations::care::{Care, Places, waiting_key};
use operations::catalogue::Catalogue;
use operations::feeds::Feeds;
use operations::history::History;
use operations::in_force::InForce;
use operations::inside::Inside;
use operations::jobs::Jobs;
use operations::news::Events;
use operations::notices::Notices;
use operations::people::People;
use operations::plans::Plans;
use operations::refusal::Refusal;
use operations::rounds::Rounds;
use operations::slots::Slots;
use operations::store::Store;
use operations::taking::Taking;
use operations::uploads::Uploads;
use operations::work::{Rules, write_out};
use records::services::{Claim, Presence};
use records::{OwnServer, RecordError, Records};
use tokio::task::JoinHandle;
use vault::Root;

use crate::config::{Config, Net, own_time_zone};
use crate::drawer::KEY_FILE;
use crate::folder::lock;
use crate::peers::Peers;
use crate::peers::vault::Asked;
use crate::recovery;
use crate::shares::Shares;
use crate::turns::Turns;

/// Long bodies in memory at once; further ones wait.
const LONG_BODIES: usize = 12;
/// Tenths of a second that work at other benches has to end by itself when the service ends.
const WAITS_FOR_BENCHES: usize = 80;
/// Streams of events at once: one a browser and program.
const STREAMS: usize = 64;

/// Everything the routes work with.
pub struct App {
    pub records: Records,
    pub people: People,
    pub history: History,
    pub notices: Arc<Notices>,
    /// How the service is reached.
    pub net: Net,
    /// Who whoever sits at this computer acts as without signing in.
    pub loopback_person: Option<String>,
    pub store: Arc<Store>,
    pub events: Events,
    pub slots: Arc<Slots>,
    pub jobs: Arc<Jobs>,
    pub plans: Arc<Plans>,
    pub rounds: Arc<Rounds>,
    pub arrivals: Arc<Arrivals>,
    pub catalogue: Catalogue,
    pub inside: Inside,
    pub taking: Taking,
    pub in_force: InForce,
    /// What needs attention of cards and devices.
    pub needs_attention: NeedsAttention,
    pub feeds: Feeds,
    pub uploads: Arc<Uploads>,
    pub backups: Backups,
    pub care: Arc<Care>,
    pub key_file: PathBuf,
    /// The folder whose images can be added without an upload.
    pub import_dir: Option<PathBuf>,
    /// What imports may do.
    pub rules: Rules,
    /// Folder of the built console.
    pub console_dir: Option<PathBuf>,
    /// Requests under one key wait for each other.
    pub turns: Turns,
    /// Permits to hold a long body in memory.
    pub bodies: tokio::sync::Semaphore,
    /// Permits for streams of events.
    pub streams: Arc<tokio::sync::Semaphore>,
    /// How many of them each person has.
    pub streams_of: Arc<Shares>,
    /// Other services that work with the same records and the same vault; nothing of a service that is alone.
    pub peers: Option<Arc<Peers>>,
    /// Whether the readers of this computer are slots.
    pub own_slots: bool,
    own_server: Option<Arc<OwnServer>>,
    /// What this service says of itself in the records.
    presence: Presence,
    /// That the records are this service's, alone or with others that know of it.
    claim: tokio::sync::Mutex<Option<Claim>>,
    /// Tasks that run as long as the service does.
    watches: Mutex<Vec<JoinHandle<()>>>,
    /// Held as long as the service lives: one service a data folder.
    _lock: File,
}

/// The ways in which boards are found.
fn locators(config: &Config) -> Vec<Box<dyn Locator>> {
    let mut all: Vec<Box<dyn Locator>> = match config.private_addresses {
        true => vec![Box::new(Fixed), Box::new(Neighbours::default())],
        false => vec![
            Box::new(Elsewhere(Fixed)),
            Box::new(Elsewhere(Neighbours::default())),
        ],
    };
    if config.mdns {
        all.push(match config.private_addresses {
            true => Box::new(Mdns::default()),
            false => Box::new(Elsewhere(Mdns::default())),
        });
    }
    if let Some(address) = config.standin {
        all.push(Box::new(StandIn::at(address)));
    }
    all
}

/// Keeps records of an older version in the vault before they are brought to the form of this one.
async fn keep_older(store: &Arc<Store>, url: &str) -> Result<()> {
    let older = Records::is_older(url)
        .await
        .context("the database cannot be used")?;
    if !older {
        return Ok(());
    }
    let copy = Records::next_copy_of(url)
        .await
        .context("the database cannot be used")?;
    let (hold, url) = (store.vault.hold(), url.to_owned());
    let kept = tokio::task::spawn_blocking(move || {
        write_out(
            &hold,
            &url,
            "before another form",
            copy,
            None,
            "service",
            &|| true,
        )
    });
    let kept = kept
        .await?
        .context("the records are of an older version, and could not be kept in the vault before they are changed; nothing was changed")?;
    tracing::info!(
        bytes = kept.total,
        "the records of an older version are in the vault as they were"
    );
    Ok(())
}

impl App {
    /// What needs attention: devices and cards, backups, the vault; the oldest first.
    pub async fn attention(&self) -> Result<Vec<api::Attention>, Refusal> {
        let (mut all, cards, backups, vault) = tokio::try_join!(
            self.arrivals.attention(),
            self.needs_attention.list(),
            self.backups.attention(),
            self.care.attention()
        )?;
        all.extend(cards);
        all.extend(backups);
        all.extend(vault);
        all.sort_by_key(|one| one.since);
        Ok(all)
    }

    /// Opens keys, vault and records, sorts out what a crash left, and starts to watch the slots. `certificate` is the
    /// fingerprint of the one that is shown, where TLS is spoken.
    pub async fn open(config: Config, certificate: Option<String>) -> Result<Arc<Self>> {
        let dir = config.data_dir.clone();
        fs::create_dir_all(&dir)
            .with_context(|| format!("cannot make the data folder {}", dir.display()))?;
        let lock = lock(&dir)?;
        recovery::refuse_unfinished(&dir)?;
        // With records of its own the key is made before them; of others' records it must be known first whose they are.
        let keyed = match &config.database_url {
            Some(_) => None,
            None => Some(root(&dir)?),
        };
        let own_server = match &config.database_url {
            Some(_) => None,
            None => Some(Arc::new(OwnServer::start(&dir).await?)),
        };
        let opened = Self::open_with(config, certificate, lock, keyed, own_server.clone());
        opened.await.inspect_err(|_| {
            // A start that failed leaves nothing running that it began.
            if let Some(server) = own_server.filter(|server| !server.was_adopted())
                && let Err(e) = server.stop()
            {
                tracing::error!("PostgreSQL was not stopped: {e}");
            }
        })
    }

    async fn open_with(
        config: Config,
        certificate: Option<String>,
        lock: File,
        keyed: Option<(Root, PathBuf)>,
        own_server: Option<Arc<OwnServer>>,
    ) -> Result<Arc<Self>> {
        let dir = &config.data_dir;
        let own_url = own_server.as_ref().map(|server| server.url());
        let url = config.database_url.as_deref().or(own_url);
        let url = url.unwrap_or_default();
        let used = Records::are_used(url)
            .await
            .context("the database cannot be used")?;
        // No key is made for records that were sealed under another one.
        if used && !dir.join(KEY_FILE).exists() {
            let error = match Records::are_worked_with(url).await? {
                true => RecordError::InUse {
                    shared: config.service_address.is_some(),
                },
                false => RecordError::OtherKey,
            };
            return Err(error).context("the database cannot be used");
        }
        let (root, key_file) = match keyed {
            Some(keyed) => keyed,
            None => root(dir)?,
        };
        let store = Store::open(dir, &root, config.vault_store.as_deref(), !used)
            .await
            .with_context(|| {
                format!(
                    "what is kept in {} cannot be opened with {}",
                    dir.display(),
                    key_file.display()
                )
            })?;
        finish_key_change(&store, &root, &key_file).await?;
        let store = Arc::new(store);
        let known_copies = match used {
            true => None,
            false => Some(recovery::refuse_empty_records(&store, config.empty_records).await?),
        };
        keep_older(&store, url).await?;
        let records = Records::open(url)
            .await
            .context("the database cannot be used")?;
        if let Some(last) = known_copies {
            records.count_copies_from(last).await?;
        }
        let zone = time_zone(&records, config.time_zone.as_deref()).await?;
        let fingerprint = store.keys.fingerprint("the records of this key");
        let presence = Presence {
            id: service_id(dir)?,
            address: config.service_address.clone(),
            fingerprint: certificate,
            own_slots: config.own_slots,
            version: env!("CARGO_PKG_VERSION").into(),
        };
        let claim = records
            .claim(fingerprint.as_bytes(), &presence)
            .await
            .context("the database cannot be used")?;
        let peers = match presence.address {
            Some(_) => Some(join(&records, &store, claim.number()).await?),
            None => None,
        };
        let interrupted = match peers {
            None => records.sort_out_interrupted().await?,
            Some(_) => records.sort_out_own().await?,
        };
        let events = Events::new(records.clone());
        let here = match config.own_slots {
            true => Bench::new(config.standin, Some(dir.join("bench.toml"))),
            false => Bench::new(None, None),
        };
        let benches = Benches::new(
            here,
            records.clone(),
            store.keys.clone(),
            config.bench_patience,
        );
        let slots = Slots::new(
            Arc::new(benches),
            config.largest_card,
            records.clone(),
            store.clone(),
            events.clone(),
        );
        let slots = Arc::new(slots);
        let jobs = Arc::new(Jobs::new(
            records.clone(),
            events.clone(),
            store.clone(),
            config.most_jobs,
        ));
        let catalogue = Catalogue::new(records.clone(), store.clone());
        let in_force = InForce::new(records.clone(), store.clone(), catalogue.clone());
        let plans = Arc::new(Plans::new(
            records.clone(),
            store.clone(),
            slots.clone(),
            jobs.clone(),
            catalogue.clone(),
            in_force.clone(),
        ));
        let rounds = Arc::new(Rounds::new(
            records.clone(),
            events.clone(),
            slots.clone(),
            plans.clone(),
        ));
        let places = Places {
            key_file: key_file.clone(),
            second: config.second_vault.clone(),
            every: config.vault_every,
            database: url.to_owned(),
            zone: zone.clone(),
            prove_every: config.prove_every,
        };
        let care = Care::new(
            records.clone(),
            store.clone(),
            slots.benches().clone(),
            jobs.clone(),
            events.clone(),
            root,
            places,
        );
        let found_by = locators(&config);
        let arrivals = Arrivals::new(
            records.clone(),
            events.clone(),
            in_force.clone(),
            rounds.clone(),
            store.keys.clone(),
            Watching {
                locators: found_by,
                every: config.watch_every,
                serial_ports: config.serial_ports,
                radio: config.radio_program.map(Radio::through),
                own_addresses: config.private_addresses,
            },
        );
        let app = Arc::new(Self {
            plans,
            rounds,
            arrivals: Arc::new(arrivals),
            feeds: Feeds::new(
                records.clone(),
                events.clone(),
                store.keys.clone(),
                config.private_addresses,
            ),
            uploads: Arc::new(Uploads::new(store.uploads.clone())),
            taking: Taking::new(records.clone(), store.clone(), slots.clone()),
            inside: Inside::new(
                records.clone(),
                store.clone(),
                slots.clone(),
                catalogue.clone(),
                in_force.clone(),
            ),
            people: People::new(records.clone(), store.keys.clone()),
            history: History::new(records.clone(), store.keys.clone()),
            notices: Arc::new(Notices::new(
                records.clone(),
                store.keys.clone(),
                events.clone(),
                config.mail,
                config.private_addresses,
            )),
            net: config.net,
            loopback_person: config.loopback_person,
            backups: Backups::new(records.clone(), store.clone(), events.clone(), &zone),
            care: Arc::new(care),
            needs_attention: NeedsAttention::new(records.clone(), in_force.clone()),
            records,
            store,
            events,
            slots,
            jobs,
            catalogue,
            in_force,
            key_file,
            import_dir: config.import_dir,
            rules: Rules {
                limits: config.limits,
                private_addresses: config.private_addresses,
            },
            console_dir: config.console_dir,
            turns: Turns::default(),
            bodies: tokio::sync::Semaphore::new(LONG_BODIES),
            streams: Arc::new(tokio::sync::Semaphore::new(STREAMS)),
            streams_of: Arc::default(),
            peers,
            own_slots: config.own_slots,
            own_server,
            presence,
            claim: tokio::sync::Mutex::new(Some(claim)),
            watches: Mutex::default(),
            _lock: lock,
        });
        if !interrupted.is_empty() {
            let (store, records) = (app.store.clone(), app.records.clone());
            let runtime = tokio::runtime::Handle::current();
            std::thread::spawn(move || store.sweep(&records, &runtime));
        }
        app.tell_interrupted(interrupted).await?;
        app.records.is_ready().await?;
        Ok(app)
    }

    async fn tell_interrupted(&self, jobs: Vec<i64>) -> Result<(), Refusal> {
        for job in jobs {
            let summary = format!("Job {job} was interrupted by the end of the service");
            self.events
                .note("service", "job.interrupted", &job.to_string(), &summary)
                .await?;
        }
        Ok(())
    }

    /// Whether this service looks after what there is once for all: it does from now on where no other one does.
    pub async fn leads(&self) -> bool {
        match self.claim.lock().await.as_mut() {
            Some(claim) => claim.leads().await.unwrap_or(false),
            None => false,
        }
    }

    /// Sorts out what services have left that live no more.
    pub async fn sort_out_gone(&self) -> Result<(), Refusal> {
        let interrupted = self.records.sort_out_gone().await?;
        self.tell_interrupted(interrupted).await
    }

    /// Runs a task as long as the service does.
    pub fn watch(&self, task: impl Future<Output = ()> + Send + 'static) {
        let mut watches = self.watches.lock().unwrap_or_else(|e| e.into_inner());
        watches.push(tokio::spawn(task));
    }

    /// The own PostgreSQL, where there is one.
    pub fn own_server(&self) -> Option<&OwnServer> {
        self.own_server.as_deref()
    }

    /// Claims the records again where the connection that held them was lost.
    pub async fn renew_claim(&self) -> Result<(), Refusal> {
        let mut claim = self.claim.lock().await;
        if let Some(held) = claim.as_mut()
            && held.holds().await
        {
            return Ok(());
        }
        *claim = None;
        let fingerprint = self.store.keys.fingerprint("the records of this key");
        let again = self.records.claim(fingerprint.as_bytes(), &self.presence);
        *claim = Some(again.await?);
        self.records.is_ready().await?;
        Ok(())
    }

    /// Ends everything in order: watching, jobs, records, and the own PostgreSQL last.
    pub async fn close(&self) {
        self.jobs.close();
        for watch in self
            .watches
            .lock()
            .unwrap_or_else(|e| e.into_inner())
            .drain(..)
        {
            watch.abort();
        }
        for moment in 0..200 {
            if self.jobs.is_idle() {
                break;
            }
            if moment == WAITS_FOR_BENCHES {
                self.slots.benches().close();
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
        self.slots.benches().close();
        if let Some(server) = &self.own_server
            && let Err(e) = server.stop()
        {
            tracing::error!("PostgreSQL was not stopped: {e}");
        }
    }
}

/// The time zone whose days count: the one that was said, which must be known, or that of this computer.
async fn time_zone(records: &Records, said: Option<&str>) -> Result<String> {
    let zone = said.map_or_else(own_time_zone, str::to_owned);
    if records.knows_zone(&zone).await? {
        return Ok(zone);
    }
    if said.is_some() {
        bail!(
            "time_zone is {zone:?}, which is no time zone that is known here; it takes a name such as Europe/Oslo or UTC"
        );
    }
    tracing::warn!(
        "this computer's time zone {zone:?} is not known to the database; days are those of UTC"
    );
    Ok("UTC".into())
}

/// Joins the services that work with the same records and vault.
async fn join(records: &Records, store: &Arc<Store>, number: i32) -> Result<Arc<Peers>> {
    let peers = Peers::new(records.clone(), &store.keys, number);
    store.vault.share_with(Arc::new(Asked(peers.clone())));
    // They know of this one from now on; what they are about to delete it does not rely on.
    let leaving = peers.leaving().await.map_err(|e| {
        anyhow::anyhow!(
            "what the other services do with the vault is not known: {}",
            e.detail
        )
    })?;
    store.vault.others_delete(&leaving);
    Ok(peers)
}

/// What this service is known by in the records: it stays the same one over restarts.
fn service_id(dir: &Path) -> Result<String> {
    let path = dir.join("service-id");
    if let Ok(id) = fs::read_to_string(&path) {
        let id = id.trim();
        if !id.is_empty() {
            return Ok(id.to_owned());
        }
    }
    let mut id = [0; 16];
    getrandom::fill(&mut id).map_err(|e| anyhow::anyhow!("no chance: {e}"))?;
    let id = hex::encode(id);
    fs::write(&path, format!("{id}\n"))
        .with_context(|| format!("cannot write {}", path.display()))?;
    Ok(id)
}

/// A change of the key that was cut off is over: the key file opens the vault, and nothing else does.
async fn finish_key_change(store: &Store, root: &Root, key_file: &Path) -> Result<()> {
    let waiting = waiting_key(key_file);
    if waiting.exists() {
        fs::remove_file(&waiting)
            .with_context(|| format!("cannot remove {}", waiting.display()))?;
    }
    let forgotten = store.vault.forget_other_roots(root).await;
    let forgotten = forgotten.context("a former key of the vault cannot be forgotten")?;
    if forgotten > 0 {
        tracing::warn!(
            "a change of the key was cut off; {} opens the vault",
            root.id()
        );
    }
    Ok(())
}

/// The key file, made at the first start.
fn root(dir: &Path) -> Result<(Root, PathBuf)> {
    let path = dir.join(KEY_FILE);
    if path.exists() {
        return Ok((Root::load(&path)?, path));
    }
    let used = dir.join("vault").exists() || dir.join("postgres.password").exists();
    if used {
        bail!(
            "{} is missing, but {} holds a vault or records that were sealed with it; put back the copy that you keep elsewhere",
            path.display(),
            dir.display()
        );
    }
    let root = Root::by_chance()?;
    root.save(&path)?;
    tracing::warn!(
        "made the key file {}. Keep a copy of this file elsewhere: without it nothing in the vault can be read",
        path.display()
    );
    Ok((root, path))
}
