//! The vault as a whole: what it holds, how it is looked after, its key, and what it can give back to the records.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use ::records::Records;
use ::records::backups::Backup;
use ::records::jobs::{NewJob, RequestKey};
use time::OffsetDateTime;
use vault::{Kind, Root};

use crate::backups::{Backups, is_there};
use crate::benches::Benches;
use crate::damage;
use crate::jobs::Jobs;
use crate::news::{Events, News};
use crate::refusal::Refusal;
use crate::reindex;
use crate::store::Store;
use crate::work::{
    CopyOrder, Mending, copy_vault, inspect_vault, keep_records, prove_backup, tidy_vault,
};
use api::words::size;

/// Hundredths of the vault that are inspected each time by itself: all of it within a month, if that is daily.
const SHARE: u8 = 4;
/// Segments that nothing lies in any more are deleted so long after.
const GRACE: Duration = Duration::from_secs(600);
/// Backups that are due for a proof of which the first is taken that was not tried yet.
const MOST_DUE: i64 = 100;
/// Less than this free where the vault lies needs a hand, in bytes.
const SHORT: u64 = 2_000_000_000;
/// A store that does not answer for so long is away.
const ANSWERS_WITHIN: Duration = Duration::from_secs(5);
/// How often it is looked whether something is due.
const LOOK: Duration = Duration::from_secs(20);

/// Where everything lies, and how often it is looked after.
pub struct Places {
    /// The key file.
    pub key_file: PathBuf,
    /// Where the second one lies.
    pub second: Option<String>,
    /// Hours between what is done by itself.
    pub every: Option<Duration>,
    /// Address of the records' database.
    pub database: String,
    /// The team's time zone.
    pub zone: String,
    /// How long a proof of a device's newest backup counts before the next one is made; none by itself where it is
    /// not given.
    pub prove_every: Option<Duration>,
}

/// The vault's store does not answer.
#[derive(Clone)]
struct Away {
    since: OffsetDateTime,
    why: String,
}

#[derive(Default)]
struct Reach {
    away: Option<Away>,
    /// From when to when it was away last.
    last: Option<(OffsetDateTime, OffsetDateTime)>,
}

/// Looks after the vault.
pub struct Care {
    records: Records,
    store: Arc<Store>,
    /// Its stand-in board shows whether a backup boots.
    bench: Arc<Benches>,
    jobs: Arc<Jobs>,
    events: Events,
    backups: Backups,
    root: Mutex<Root>,
    /// The job that proves a backup by itself.
    proving: Mutex<Option<i64>>,
    places: Places,
    /// Since when room is short, if it is.
    short_since: Mutex<Option<OffsetDateTime>>,
    /// Whether the vault answers.
    reach: Mutex<Reach>,
    /// When this started: a service that has just begun has other things to do.
    since: Instant,
}

fn kind_word(kind: Kind) -> &'static str {
    match kind {
        Kind::Chunk => "chunks",
        Kind::Page => "pages",
        Kind::Manifest => "manifests",
        _ => "notes",
    }
}

impl Care {
    /// With the root of the keys.
    pub fn new(
        records: Records,
        store: Arc<Store>,
        bench: Arc<Benches>,
        jobs: Arc<Jobs>,
        events: Events,
        root: Root,
        places: Places,
    ) -> Self {
        Self {
            backups: Backups::new(records.clone(), store.clone(), events.clone(), &places.zone),
            records,
            store,
            bench,
            jobs,
            events,
            root: Mutex::new(root),
            proving: Mutex::default(),
            places,
            short_since: Mutex::default(),
            reach: Mutex::default(),
            since: Instant::now(),
        }
    }

    fn root(&self) -> Root {
        self.root.lock().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// What the vault is and holds.
    pub async fn view(&self) -> Result<api::VaultView, Refusal> {
        let looks = self.records.vault_looks().await?;
        let sizes = self.records.vault_sizes().await?;
        let content = self.records.content_bytes().await?;
        let vault = &self.store.vault;
        let looked = vault.clone();
        if let Ok(Err(e)) = tokio::task::spawn_blocking(move || looked.look_again()).await {
            tracing::debug!("what other services have added to the vault: {e}");
        }
        Ok(api::VaultView {
            key: self.root().id(),
            place: self.store.place.clone(),
            second: self.places.second.clone(),
            stored: vault.stored(),
            content: content as u64,
            segments: vault.segments().len() as u64,
            pieces: vault
                .counts()
                .into_iter()
                .map(|(kind, count, bytes)| api::Pieces {
                    kind: kind_word(kind).into(),
                    count,
                    bytes,
                })
                .collect(),
            looks: looks
                .into_iter()
                .map(|look| {
                    let list = |key: &str| look.found.get(key).cloned().unwrap_or_default();
                    api::VaultLook {
                        words: serde_json::from_value(list("words")).unwrap_or_default(),
                        touched: serde_json::from_value(list("touched")).unwrap_or_default(),
                        what: look.what,
                        job: look.job_id,
                        at: look.at,
                        bad: look.bad,
                    }
                })
                .collect(),
            sizes: sizes
                .into_iter()
                .map(|(day, stored, content)| api::VaultSize {
                    day: day.to_string(),
                    stored: stored as u64,
                    content: content as u64,
                })
                .collect(),
            hours: self.places.every.map(|every| every.as_secs_f64() / 3600.0),
            free: self.store.free(),
        })
    }

    fn job(&self, kind: &'static str, operator: &str, request_key: Option<RequestKey>) -> NewJob {
        NewJob {
            kind,
            subject: "the vault".into(),
            at: None,
            card: None,
            operator: operator.into(),
            request_key,
        }
    }

    /// Reads and authenticates the vault, or a share of it: a job.
    pub async fn inspect(
        &self,
        operator: &str,
        request_key: Option<RequestKey>,
        share: Option<u8>,
    ) -> Result<api::Job, Refusal> {
        if share.is_some_and(|share| !(1..=100).contains(&share)) {
            let detail = "a share is 1 to 100 hundredths";
            return Err(Refusal::invalid("bad-value", detail));
        }
        let (store, root, second) = (self.store.clone(), self.root(), self.places.second.clone());
        let database = self.places.database.clone();
        let job = self.job("inspect", operator, request_key);
        let started = self.jobs.start(job, None, move |work| {
            let mending = Mending {
                second: second.as_deref().map(|place| (place, &root)),
                database: &database,
            };
            inspect_vault(work, &store, share, &mending)
        });
        started.await
    }

    /// Takes away what nothing refers to: a job.
    pub async fn tidy(
        &self,
        operator: &str,
        request_key: Option<RequestKey>,
        seal_anew: bool,
    ) -> Result<api::Job, Refusal> {
        let (store, address) = (self.store.clone(), self.places.database.clone());
        let job = self.job("tidy", operator, request_key);
        let started = self.jobs.start(job, None, move |work| {
            tidy_vault(work, &store, &address, seal_anew)
        });
        started.await
    }

    /// Copies what the second vault does not have: a job. Where nothing lies there although copies were made to it, that is
    /// refused, unless it is to `begin` anew.
    pub async fn copy(
        &self,
        operator: &str,
        request_key: Option<RequestKey>,
        begin: bool,
    ) -> Result<api::Job, Refusal> {
        let place = self.places.second.clone().ok_or_else(|| {
            let detail = "no second vault is configured: say where it lies with second_vault, a folder on another disk or a bucket";
            Refusal::invalid("no-second-vault", detail)
        })?;
        let (store, root) = (self.store.clone(), self.root());
        let job = self.job("copy", operator, request_key);
        let order = CopyOrder {
            place,
            begin,
            share: SHARE,
        };
        let started = self.jobs.start(job, None, move |work| {
            copy_vault(work, &store, &order, &root)
        });
        started.await
    }

    /// Proves a backup up to a level, as far as its kind allows where none is named: a job.
    pub async fn prove(
        &self,
        operator: &str,
        request_key: Option<RequestKey>,
        backup: Backup,
        level: Option<&str>,
    ) -> Result<api::Job, Refusal> {
        is_there(&backup)?;
        let level = match level {
            Some(level) => level.to_owned(),
            // Which files it needs is known of what was written here.
            None if backup.imprint_id.is_some() => "files".into(),
            None => "file-systems".into(),
        };
        let mut job = self.job("prove", operator, request_key);
        job.subject = backup.name.clone();
        let (store, bench) = (self.store.clone(), self.bench.clone());
        let started = self.jobs.start(job, None, move |work| {
            prove_backup(work, &store, &bench, &backup, &level)
        });
        started.await
    }

    /// Keeps all records in the vault: a job.
    pub async fn keep_records(
        &self,
        operator: &str,
        request_key: Option<RequestKey>,
    ) -> Result<api::Job, Refusal> {
        let address = self.places.database.clone();
        let mut job = self.job("keep records", operator, request_key);
        job.subject = "in the vault".into();
        let started = self
            .jobs
            .start(job, None, move |work| keep_records(work, &address));
        started.await
    }

    /// Changes the key: a new key file, and what is sealed from now on is sealed under a new key. Whatever ends
    /// between two steps leaves a key file that opens the vault.
    pub async fn change_key(&self, operator: &str) -> Result<String, Refusal> {
        if self.records.services().await?.len() > 1 {
            let detail = "several services work with this vault, each with a copy of the key file; stop all but one, change the \
                          key there, and give the others the new team.key before they start";
            return Err(Refusal::conflict("several-services", detail));
        }
        let old = self.root();
        let new = Root::by_chance()?;
        let waiting = waiting_key(&self.places.key_file);
        let _ = std::fs::remove_file(&waiting);
        new.save(&waiting)?;
        self.store.vault.rekey(&new).await?;
        std::fs::rename(&waiting, &self.places.key_file)?;
        if let Some(folder) = self.places.key_file.parent() {
            std::fs::File::open(folder)?.sync_all()?;
        }
        *self.root.lock().unwrap_or_else(|e| e.into_inner()) = new.clone();
        self.store.vault.forget_root(&old.id()).await?;
        let summary = format!("The key was changed: {} opens the vault now", new.id());
        self.events
            .note(operator, "vault.key", "the vault", &summary)
            .await?;
        Ok(new.id())
    }

    /// What the notes in the vault tell of.
    pub async fn notes(&self) -> Result<Vec<api::NotedContent>, Refusal> {
        let noted = reindex::noted(&self.records, &self.store.vault).await?;
        let told = noted.into_iter().map(|(head, known)| api::NotedContent {
            known,
            what: head.what,
            name: head.name,
            at: head.at,
            by: head.by,
        });
        Ok(told.collect())
    }

    /// Puts backups, releases and imprints into the records that the vault tells of and the records do not know.
    pub async fn reindex(&self, operator: &str) -> Result<api::Reindexed, Refusal> {
        let done = reindex::reindex(&self.records, &self.store.vault, operator).await?;
        self.events.bus.tell(News::Events);
        Ok(done)
    }

    /// What needs a hand.
    pub async fn attention(&self) -> Result<Vec<api::Attention>, Refusal> {
        let looks = self.records.vault_looks().await?.into_iter();
        let needs_none = |look: &::records::vault::Look| {
            let needs = look.found.get("needs").and_then(|needs| needs.as_array());
            needs.is_some_and(Vec::is_empty)
        };
        let bad = looks
            .filter(|look| look.bad && !needs_none(look))
            .map(|look| {
                let list = |key: &str| {
                    let list = look.found.get(key).cloned();
                    list.and_then(|list| serde_json::from_value::<Vec<String>>(list).ok())
                };
                // What needs a hand beside contents, which stand for themselves; looks of before tell everything.
                let words = list("needs").or_else(|| list("words")).unwrap_or_default();
                api::Attention {
                    kind: "vault".into(),
                    device: String::new(),
                    words: format!("the vault: {}", words.join("; ")),
                    since: look.at,
                    arrival: None,
                    card: None,
                }
            });
        // What of backups is damaged stands with those.
        let damaged = self.records.damaged_contents().await?.into_iter();
        let damaged = damaged.map(|(content, pieces, since)| {
            let advice = match content.what.as_str() {
                "release" => ", or import its image again (duplicarium release add)",
                _ => "; the card itself is as it was",
            };
            api::Attention {
                kind: "content-damaged".into(),
                device: String::new(),
                words: format!(
                    "{} {}: {}. Mend it from the second vault (duplicarium vault inspect){advice}",
                    content.what,
                    content.name,
                    damage::words(pieces as u64)
                ),
                since,
                arrival: None,
                card: None,
            }
        });
        let away = self.away().map(|away| api::Attention {
            kind: "vault-away".into(),
            device: String::new(),
            words: format!(
                "the vault cannot be reached: {}. Is its disk there and mounted? Nothing can be written or backed up until then",
                away.why
            ),
            since: away.since,
            arrival: None,
            card: None,
        });
        Ok(bad.chain(damaged).chain(away).chain(self.space()).collect())
    }

    /// That room is short where the vault lies: since when is when that was first seen.
    fn space(&self) -> Option<api::Attention> {
        let mut since = self.short_since.lock().unwrap_or_else(|e| e.into_inner());
        let Some(free) = self.store.free().filter(|free| *free < SHORT) else {
            *since = None;
            return None;
        };
        Some(api::Attention {
            kind: "space".into(),
            device: String::new(),
            words: format!(
                "room is short where the vault lies: {} are free; make room there, or let old backups go",
                size(free)
            ),
            since: *since.get_or_insert_with(OffsetDateTime::now_utc),
            arrival: None,
            card: None,
        })
    }

    /// The vault's store is away now; nothing where it answers.
    fn away(&self) -> Option<Away> {
        let store = self.reach.lock().unwrap_or_else(|e| e.into_inner());
        store.away.clone()
    }

    /// Whether the vault answers now, and when it last did not.
    pub async fn reach(&self) -> api::VaultReach {
        let answers = tokio::time::timeout(ANSWERS_WITHIN, self.store.vault.answers()).await;
        let why = match answers {
            Ok(Ok(())) => None,
            Ok(Err(vault::VaultError::Empty)) => {
                Some(format!("nothing lies at {} any more", self.store.place))
            }
            Ok(Err(e)) => Some(e.to_string()),
            Err(_) => Some("it does not answer".into()),
        };
        let now = OffsetDateTime::now_utc();
        let mut reach = self.reach.lock().unwrap_or_else(|e| e.into_inner());
        match why {
            Some(why) => {
                let since = reach.away.as_ref().map_or(now, |away| away.since);
                if reach.away.is_none() {
                    tracing::error!("the vault cannot be reached: {why}");
                }
                reach.away = Some(Away { since, why });
            }
            None => {
                if let Some(away) = reach.away.take() {
                    tracing::warn!("the vault is reached again");
                    reach.last = Some((away.since, now));
                }
            }
        }
        api::VaultReach {
            answers: reach.away.is_none(),
            why: reach.away.as_ref().map(|away| away.why.clone()),
            away_since: reach.away.as_ref().map(|away| away.since),
            last_away_from: reach.last.map(|(from, _)| from),
            last_away_until: reach.last.map(|(_, until)| until),
        }
    }

    /// Records what is damaged where a piece was found so when it was read.
    async fn look_at_damage(&self) {
        if self.store.vault.met_damage()
            && let Err(e) = damage::look(&self.records, &self.store.vault).await
        {
            tracing::warn!("what is damaged in the vault is not recorded: {}", e.detail);
        }
    }

    /// Looks after the vault for as long as the service runs.
    pub async fn look_after(self: Arc<Self>) {
        loop {
            let pause = match self.places.every {
                Some(every) => LOOK.min(every / 4).max(Duration::from_millis(200)),
                None => LOOK,
            };
            tokio::time::sleep(pause).await;
            if self.jobs.is_closing() {
                return;
            }
            self.reach().await;
            self.look_at_damage().await;
            let vault = self.store.vault.clone();
            let grace = match self.places.every {
                Some(every) => GRACE.min(every),
                None => GRACE,
            };
            let buried = tokio::task::spawn_blocking(move || vault.bury(grace)).await;
            if let Ok(Err(e)) = buried {
                tracing::warn!("what was tidied away in the vault stays there for now: {e}");
            }
            if let Some(every) = self.places.every
                && let Err(e) = self.do_what_is_due(every).await
            {
                tracing::debug!("looking after the vault: {e}");
            }
        }
    }

    /// Proves the next backup that is due, one at a time: whoever works at the bench comes first.
    async fn prove_next(
        &self,
        since: OffsetDateTime,
        key: &(dyn Fn(&str) -> Option<RequestKey> + Sync),
    ) -> Result<(), Refusal> {
        let last = *self.proving.lock().unwrap_or_else(|e| e.into_inner());
        if let Some(job) = last
            && matches!(
                self.jobs.show(job).await?.state.as_str(),
                "waiting" | "running"
            )
        {
            return Ok(());
        }
        for backup in self.records.unproven_backups(since, MOST_DUE).await? {
            let key = key(&format!("prove {}", backup.name));
            // One that ended without a proof is tried again in the next stretch of time.
            if let Some(key) = &key
                && self.records.job_of_request(key).await?.is_some()
            {
                continue;
            }
            let job = self.prove("service", key, backup, None).await?;
            *self.proving.lock().unwrap_or_else(|e| e.into_inner()) = Some(job.id);
            return Ok(());
        }
        Ok(())
    }

    async fn do_what_is_due(&self, every: Duration) -> Result<(), Refusal> {
        if self.since.elapsed() < every.min(Duration::from_secs(3600)) {
            return Ok(());
        }
        let looks = self.records.vault_looks().await?;
        let now = OffsetDateTime::now_utc();
        let last = |what: &str| {
            looks
                .iter()
                .find(|look| look.what == what)
                .map(|look| look.at)
        };
        let is_due = |what: &str| last(what).is_none_or(|at| now - at >= every);
        // One try in each stretch of time, however it ends.
        let stretch = (now.unix_timestamp_nanos() / every.as_nanos().max(1) as i128).to_string();
        let key = |what: &str| {
            Some(RequestKey {
                key: format!("vault {what} {stretch}"),
                digest: Vec::new(),
            })
        };
        let by = "service";
        if is_due("tidy") {
            self.backups.keep(by, false).await?;
        }
        let mut keeping = false;
        if is_due("records") {
            let job = self.keep_records(by, key("records")).await?;
            keeping = ["waiting", "running"].contains(&job.state.as_str());
        }
        // What goes is known to the records that are kept before: tidying need not keep them a second time.
        if is_due("tidy") && !keeping {
            self.tidy(by, key("tidy"), false).await?;
        }
        if is_due("inspect") {
            self.inspect(by, key("inspect"), Some(SHARE)).await?;
        }
        if self.places.second.is_some() && is_due("copy") {
            self.copy(by, key("copy"), false).await?;
        }
        if let Some(counts) = self.places.prove_every {
            self.prove_next(now - counts, &key).await?;
        }
        Ok(())
    }
}

/// Where a new key waits until the vault opens with it.
pub fn waiting_key(key_file: &Path) -> PathBuf {
    key_file.with_extension("key.new")
}
