//! The benches: the service's own computer, and others that call it.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use api::SlotName;
use bench::{Bench, Reader};
use cardwork::{CardError, Medium, Place, Slot};
use farbench::service::{Coming, FarBench, Line};
use records::jobs::At;
use records::{RecordError, Records};
use time::OffsetDateTime;
use tokio::sync::Notify;
use vault::Keys;

use crate::people::code::{Code, digest_of};
use crate::people::password;
use crate::refusal::{Refusal, Why};

/// How long a code that enrols a bench is good.
const CODE_IS_GOOD: time::Duration = time::Duration::hours(24);
/// How often it is recorded that a bench is connected.
const NOTED: Duration = Duration::from_secs(60);

/// A slot with the place that it is now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Spot {
    /// The slot.
    pub slot: SlotName,
    /// Reader and unit.
    pub place: Place,
}

impl Spot {
    /// For the records.
    pub fn at(&self) -> At {
        At {
            slot: self.slot.typed(),
            reader: self.place.reader.clone(),
            unit: self.place.unit as i32,
        }
    }
}

/// A slot and what lies in it at one moment.
pub struct Seen {
    /// The slot.
    pub slot: SlotName,
    /// Reader and unit.
    pub place: Place,
    /// Where it is, for people.
    pub title: String,
    /// What is in it.
    pub medium: Option<Medium>,
    /// Why nobody can tell what is in it.
    pub trouble: Option<String>,
}

/// What is asked by itself what lies in its slots: a reader of the own computer, or another bench as a whole.
#[derive(Clone)]
pub enum Source {
    /// A reader of the own computer.
    Reader(Arc<dyn Reader>),
    /// A bench on another computer.
    Bench(Arc<FarBench>),
}

impl Source {
    /// What it is known by.
    pub fn name(&self) -> String {
        match self {
            Self::Reader(reader) => reader.name().into(),
            Self::Bench(bench) => format!("bench {}", bench.name()),
        }
    }

    /// Whether it is another bench, which is away as a matter of course.
    pub fn is_far(&self) -> bool {
        matches!(self, Self::Bench(_))
    }
}

/// All benches.
pub struct Benches {
    here: Arc<Bench>,
    far: Mutex<BTreeMap<String, Arc<FarBench>>>,
    records: Records,
    keys: Arc<Keys>,
    /// Something changed at another bench.
    changed: Arc<Notify>,
    /// How long work goes on without its bench.
    patience: Duration,
    /// Held while a bench comes, and while those that left are given back: other services may take them then.
    coming: tokio::sync::Mutex<()>,
    /// Benches that are connected to other services, as those said last.
    elsewhere: Mutex<BTreeMap<i32, Vec<api::FarBench>>>,
    /// When the computer of each bench was enrolled that came here.
    enrolled: Mutex<BTreeMap<String, Option<OffsetDateTime>>>,
}

impl Benches {
    /// The bench of the own computer, and no other yet.
    pub fn new(here: Bench, records: Records, keys: Arc<Keys>, patience: Duration) -> Self {
        Self {
            here: Arc::new(here),
            far: Mutex::default(),
            records,
            keys,
            changed: Arc::default(),
            patience,
            coming: tokio::sync::Mutex::default(),
            enrolled: Mutex::default(),
            elsewhere: Mutex::default(),
        }
    }

    /// The bench of the own computer.
    pub fn here(&self) -> &Arc<Bench> {
        &self.here
    }

    fn far(&self) -> MutexGuard<'_, BTreeMap<String, Arc<FarBench>>> {
        self.far.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Another bench by its name.
    ///
    /// # Errors
    /// [`Refusal`] where none of that name has called since the service was started.
    pub fn connected(&self, name: &str) -> Result<Arc<FarBench>, Refusal> {
        self.far().get(name).cloned().ok_or_else(|| {
            let detail = format!(
                "no bench of the name {name} is connected; duplicarium bench list shows them"
            );
            Refusal::missing(detail)
        })
    }

    /// Whether a bench has a session here that is not over.
    pub fn has(&self, name: &str) -> bool {
        let bench = self.far().get(name).cloned();
        bench.is_some_and(|bench| bench.has_session())
    }

    /// One slot for work, whether or not there is a card in it.
    ///
    /// # Errors
    /// [`CardError::Reader`] where a reader that may have it does not answer, or its bench is away.
    pub fn slot(&self, slot: SlotName) -> Result<Option<Arc<dyn Slot>>, CardError> {
        let Some(bench) = slot.bench() else {
            return self.here.slot(slot.number());
        };
        let Some(bench) = self.far().get(bench).cloned() else {
            return Ok(None);
        };
        let slots = bench.slots()?;
        let known = slots.iter().any(|seen| seen.number == slot.number());
        let slot = bench.slot(slot.number()).filter(|_| known);
        Ok(slot.map(|slot| Arc::new(slot) as _))
    }

    /// All that is asked what lies in its slots.
    pub fn sources(&self) -> Vec<Source> {
        let here = self.here.readers().into_iter().map(Source::Reader);
        let far: Vec<_> = self.far().values().cloned().map(Source::Bench).collect();
        here.chain(far).collect()
    }

    /// What lies in the slots of a source. Cheap enough to be asked several times a second, unless it shall be asked
    /// anew also where it tells by itself.
    ///
    /// # Errors
    /// [`CardError::Reader`] where it does not answer.
    pub fn survey(&self, source: &Source, anew: bool) -> Result<Vec<Seen>, CardError> {
        match source {
            Source::Reader(reader) => {
                let seen = self.here.survey(reader.as_ref())?.into_iter();
                Ok(seen
                    .map(|seen| Seen {
                        slot: seen.number.into(),
                        place: seen.place,
                        title: seen.title,
                        medium: seen.medium,
                        trouble: seen.trouble,
                    })
                    .collect())
            }
            Source::Bench(bench) => {
                let seen = match anew {
                    true => bench.slots_now(),
                    false => bench.slots(),
                }?
                .into_iter();
                Ok(seen
                    .filter_map(|seen| {
                        Some(Seen {
                            slot: SlotName::at(bench.name(), seen.number)?,
                            place: seen.place,
                            title: seen.title,
                            medium: seen.medium,
                            trouble: seen.trouble,
                        })
                    })
                    .collect())
            }
        }
    }

    /// Waits until something changes at another bench.
    pub async fn far_change(&self) {
        self.changed.notified().await;
    }

    fn knows(&self, name: &str) -> Arc<FarBench> {
        let mut far = self.far();
        let known = far.entry(name.into()).or_insert_with(|| {
            let changed = self.changed.clone();
            let word = format!("cache of bench {name}");
            let key = self.keys.derived(&word);
            Arc::new(FarBench::new(name, key, self.patience, move || {
                changed.notify_one()
            }))
        });
        known.clone()
    }

    /// Lets a bench in that calls with a credential.
    ///
    /// # Errors
    /// [`Refusal`] where nobody has such a credential.
    pub async fn come(
        &self,
        credential: &str,
        coming: Coming,
    ) -> Result<(Arc<FarBench>, Line), Refusal> {
        let version = coming.version.clone();
        let (name, enrolled) = self.whose(credential).await?.ok_or_else(|| {
            let detail = "this computer is no bench of this service, or is one no more; enrol it with a code of an \
                          owner: duplicarium bench add NAME gives it";
            Refusal::new(Why::NotSignedIn, "not-enrolled", detail)
        })?;
        let _coming = self.coming.lock().await;
        if let Some(other) = self.records.take_bench(&name).await? {
            let detail = format!("bench {name} is connected to service {other}; it comes again");
            return Err(Refusal::conflict("bench-elsewhere", detail));
        }
        self.enrolled().insert(name.clone(), enrolled);
        let bench = self.knows(&name);
        let session = hex::encode(password::chance::<16>()?);
        let line = bench.come(coming, || session).ok_or_else(|| {
            let detail = "a later call of this bench was taken already";
            Refusal::conflict("overtaken", detail)
        })?;
        self.records.bench_seen(&name, &version).await?;
        Ok((bench, line))
    }

    fn enrolled(&self) -> MutexGuard<'_, BTreeMap<String, Option<OffsetDateTime>>> {
        self.enrolled.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// The bench that shows a credential, and when it was enrolled.
    ///
    /// # Errors
    /// What the records say.
    pub async fn whose(
        &self,
        credential: &str,
    ) -> Result<Option<(String, Option<OffsetDateTime>)>, Refusal> {
        let digest = password::digest_of_pass(credential);
        Ok(self.records.bench_of(&digest).await?)
    }

    /// Sends away what is a bench no more, or another computer now: another service may have been told. Those that ended
    /// their sessions may call any service.
    async fn settle(&self) -> Result<(), Refusal> {
        let rows = self.records.benches().await?;
        let _coming = self.coming.lock().await;
        let known: Vec<_> = self.far().values().cloned().collect();
        for bench in &known {
            let since = self.enrolled().get(bench.name()).copied().flatten();
            let row = rows.iter().find(|row| row.name == bench.name());
            let same = row.is_some_and(|row| since.is_none() || row.enrolled_at <= since);
            if !same {
                self.far().remove(bench.name());
                bench.leave("it is no bench of the service any more, or another computer is");
                self.changed.notify_one();
            }
        }
        let here: Vec<String> = {
            let far = self.far();
            let here = far.values().filter(|bench| bench.has_session());
            here.map(|bench| bench.name().to_owned()).collect()
        };
        self.records.give_benches_back(&here).await?;
        Ok(())
    }

    /// Ends sessions of benches that were away for too long, and records which are there.
    pub async fn look_after(self: Arc<Self>) {
        let mut noted = tokio::time::Instant::now();
        // What it had before its last end is given back once.
        let mut begun = false;
        loop {
            tokio::time::sleep(Duration::from_secs(1)).await;
            let far: Vec<_> = self.far().values().cloned().collect();
            for bench in &far {
                bench.look_after();
            }
            let settles = !far.is_empty() || !std::mem::replace(&mut begun, true);
            if settles && let Err(e) = self.settle().await {
                tracing::debug!("which benches are here: {e}");
            }
            if noted.elapsed() < NOTED {
                continue;
            }
            noted = tokio::time::Instant::now();
            for bench in far.iter().filter(|bench| bench.is_connected()) {
                // What cannot be noted now is noted in a minute.
                let _ = self
                    .records
                    .bench_seen(bench.name(), &bench.version())
                    .await;
            }
        }
    }

    /// The other benches, for people, whichever service they are connected to.
    pub async fn list(&self) -> Result<Vec<api::FarBench>, Refusal> {
        let rows = self.records.benches().await?;
        let elsewhere: Vec<_> = self.elsewhere().values().flatten().cloned().collect();
        let shown = rows.into_iter().map(|row| {
            let here = self.shown(row);
            match elsewhere.iter().find(|one| one.name == here.name) {
                Some(other) if here.state != "connected" => other.clone(),
                _ => here,
            }
        });
        Ok(shown.collect())
    }

    /// Those that are connected to this service.
    ///
    /// # Errors
    /// What the records say.
    pub async fn connected_here(&self) -> Result<Vec<api::FarBench>, Refusal> {
        let rows = self.records.benches().await?.into_iter();
        let shown = rows.map(|row| self.shown(row));
        Ok(shown.filter(|one| one.state == "connected").collect())
    }

    fn elsewhere(&self) -> MutexGuard<'_, BTreeMap<i32, Vec<api::FarBench>>> {
        self.elsewhere.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Another service says which benches are connected to it; nothing where it is gone.
    pub fn hear(&self, service: i32, benches: Option<Vec<api::FarBench>>) {
        match benches {
            Some(benches) => self.elsewhere().insert(service, benches),
            None => self.elsewhere().remove(&service),
        };
    }

    fn shown(&self, row: records::benches::Bench) -> api::FarBench {
        let known = self.far().get(&row.name).cloned();
        let connected = known.as_ref().is_some_and(|bench| bench.is_connected());
        let (sent, received) = known.as_ref().map_or((0, 0), |bench| bench.moved());
        let slots = known.and_then(|bench| bench.slots().ok());
        api::FarBench {
            state: match (connected, row.enrolled_at) {
                (true, _) => "connected",
                (false, Some(_)) => "away",
                (false, None) => "new",
            }
            .into(),
            name: row.name,
            seen_at: match connected {
                true => Some(OffsetDateTime::now_utc()),
                false => row.seen_at,
            },
            version: row.version,
            added_by: row.added_by,
            added_at: row.added_at,
            slots: slots.filter(|_| connected).map(|slots| slots.len() as u32),
            sent,
            received,
        }
    }

    /// Adds a bench; gives the code that enrols it.
    ///
    /// # Errors
    /// [`Refusal`] for a name that does not do, or is taken.
    pub async fn add(&self, name: &str, by: &str) -> Result<api::BenchCode, Refusal> {
        if !api::is_bench_name(name) {
            let detail = format!(
                "a bench is called by 1 to {} small letters, digits and dashes, a letter first, no dash last; \
                 \"{name}\" is not such a name",
                api::BENCH_LETTERS
            );
            return Err(Refusal::invalid("bad-name", detail));
        }
        let code = Code::good_for(CODE_IS_GOOD)?;
        let added = self.records.add_bench(name, by, &code.digest, code.until);
        added.await.map_err(taken)?;
        Ok(api::BenchCode {
            name: name.into(),
            code: code.text,
            until: code.until,
        })
    }

    /// A new code for a bench, whose computer is another one from then on.
    ///
    /// # Errors
    /// [`Refusal`] for an unknown one.
    pub async fn renew(&self, name: &str) -> Result<api::BenchCode, Refusal> {
        let code = Code::good_for(CODE_IS_GOOD)?;
        self.records
            .renew_bench(name, &code.digest, code.until)
            .await?;
        Ok(api::BenchCode {
            name: name.into(),
            code: code.text,
            until: code.until,
        })
    }

    /// Makes a computer the bench of a code; gives what it shows from then on. Nothing for a code that is not good.
    ///
    /// # Errors
    /// What the records say.
    pub async fn enrol(&self, code: &str) -> Result<Option<api::Enrolled>, Refusal> {
        let credential = hex::encode(password::chance::<32>()?);
        let code = digest_of(code);
        let shown = password::digest_of_pass(&credential);
        let Some(name) = self.records.enrol_bench(&code, &shown).await? else {
            return Ok(None);
        };
        // The computer that was this bench before is none any more.
        if let Some(before) = self.far().remove(&name) {
            before.leave("another computer was enrolled in its place");
        }
        self.changed.notify_one();
        Ok(Some(api::Enrolled { name, credential }))
    }

    /// Removes a bench: its computer is let in no more.
    ///
    /// # Errors
    /// [`Refusal`] for an unknown one.
    pub async fn remove(&self, name: &str) -> Result<(), Refusal> {
        self.records.remove_bench(name).await?;
        if let Some(bench) = self.far().remove(name) {
            bench.leave("it was removed from the service");
        }
        self.changed.notify_one();
        Ok(())
    }

    /// Sends all benches away: the service ends.
    pub fn close(&self) {
        for bench in self.far().values() {
            bench.leave("the service was stopped");
        }
    }
}

fn taken(error: RecordError) -> Refusal {
    match error {
        RecordError::Conflict { .. } => Refusal::conflict("taken", error.to_string()),
        other => other.into(),
    }
}
