//! Long work: a row before it is work, progress in memory, a thread of its own.

use std::collections::{BTreeMap, VecDeque};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use cardwork::{Curve, Progress, Stage};
use records::jobs::{Ending, NewJob, Outcome, Speeds};
use records::{RecordError, Records};
use serde_json::Value;
use time::OffsetDateTime;
use tokio::runtime::Handle;

use crate::news::{Events, News};
use crate::refusal::Refusal;
use crate::shown;
use crate::store::Store;

/// What a job keeps for itself until it is over, such as a slot.
pub trait Hold: Send {
    /// The job has a number now.
    fn name_job(&self, job: i64);
    /// The job is over; what it kept is given back when this is dropped.
    fn over(&self, runtime: &Handle);
}

/// Runs jobs, whatever they do, and knows how far each is.
pub struct Jobs {
    records: Records,
    events: Events,
    store: Arc<Store>,
    /// Those that run now.
    running: Mutex<BTreeMap<i64, Arc<Progress>>>,
    /// How far those are that other services run, and when they said so.
    elsewhere: Mutex<BTreeMap<i64, (Instant, api::Progress)>>,
    /// Set when the service is about to end: nothing new begins.
    closing: AtomicBool,
    /// Jobs that work at once at most; the others wait in the order in which they came.
    most: usize,
    line: Mutex<Line>,
    /// Told when the line moves on.
    moved: Condvar,
}

/// Who works and who waits.
#[derive(Default)]
struct Line {
    working: usize,
    waiting: VecDeque<i64>,
}

/// A place among those that work.
struct Turn<'a>(&'a Jobs);

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        self.0.line().working -= 1;
        self.0.moved.notify_all();
    }
}

/// How often somebody who waits looks whether the work shall stop.
const LOOK: Duration = Duration::from_millis(200);
/// How long the word of another service on how far a job is counts.
const FRESH: Duration = Duration::from_secs(3);

impl Jobs {
    /// Nothing runs yet; `most` jobs work at once.
    pub fn new(records: Records, events: Events, store: Arc<Store>, most: usize) -> Self {
        Self {
            most: most.max(1),
            line: Mutex::default(),
            moved: Condvar::new(),
            records,
            events,
            store,
            running: Mutex::default(),
            elsewhere: Mutex::default(),
            closing: AtomicBool::new(false),
        }
    }

    fn line(&self) -> MutexGuard<'_, Line> {
        self.line.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Waits for a place among those that work; nothing where the work shall stop before.
    fn turn(&self, job: i64, progress: &Progress) -> Option<Turn<'_>> {
        let mut line = self.line();
        line.waiting.push_back(job);
        loop {
            if progress.is_cancelled() {
                line.waiting.retain(|waiting| *waiting != job);
                drop(line);
                self.moved.notify_all();
                return None;
            }
            if line.working < self.most && line.waiting.front() == Some(&job) {
                line.waiting.pop_front();
                line.working += 1;
                drop(line);
                // The next one may have a place too.
                self.moved.notify_all();
                return Some(Turn(self));
            }
            let waited = self.moved.wait_timeout(line, LOOK);
            line = waited.unwrap_or_else(|e| e.into_inner()).0;
        }
    }

    fn running(&self) -> MutexGuard<'_, BTreeMap<i64, Arc<Progress>>> {
        self.running.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Whether nothing runs.
    pub fn is_idle(&self) -> bool {
        self.running().is_empty()
    }

    /// Lets nothing new begin and asks all jobs to stop.
    pub fn close(&self) {
        self.closing.store(true, Ordering::Relaxed);
        for progress in self.running().values() {
            progress.cancel();
        }
    }

    /// Whether the service is about to end.
    pub fn is_closing(&self) -> bool {
        self.closing.load(Ordering::Relaxed)
    }

    /// Asks one job to stop; whether it was running.
    pub fn cancel(&self, job: i64) -> bool {
        self.running()
            .get(&job)
            .inspect(|progress| progress.cancel())
            .is_some()
    }

    /// How far one job is that this service runs.
    fn progress(&self, job: i64) -> Option<api::Progress> {
        self.running().get(&job).map(|progress| view(job, progress))
    }

    /// A job as the records have it, with how far it is, whichever service runs it. Those that run here are asked before
    /// the records are, so that one that ends in between shows its end, not progress without end.
    fn shown(&self, here: Option<api::Progress>, row: records::jobs::Job) -> api::Job {
        let runs = matches!(row.state.as_str(), "waiting" | "running");
        let elsewhere = || Some(self.elsewhere().get(&row.id)?.1.clone());
        let progress = here.or_else(|| elsewhere().filter(|_| runs));
        shown::job(row, progress)
    }

    /// The newest jobs with how far they are, newest first.
    pub async fn list(&self, before: Option<i64>, most: i64) -> Result<Vec<api::Job>, Refusal> {
        let mut here: BTreeMap<_, _> = {
            let running = self.running();
            let views = running
                .iter()
                .map(|(job, progress)| (*job, view(*job, progress)));
            views.collect()
        };
        let rows = self.records.jobs(before, most).await?.into_iter();
        Ok(rows
            .map(|row| self.shown(here.remove(&row.id), row))
            .collect())
    }

    /// Whether this service runs a job.
    pub fn is_here(&self, job: i64) -> bool {
        self.running().contains_key(&job)
    }

    fn elsewhere(&self) -> MutexGuard<'_, BTreeMap<i64, (Instant, api::Progress)>> {
        let mut elsewhere = self.elsewhere.lock().unwrap_or_else(|e| e.into_inner());
        elsewhere.retain(|_, (said, _)| said.elapsed() < FRESH);
        elsewhere
    }

    /// Another service says how far a job is that it runs; everybody is told.
    pub fn hear(&self, progress: api::Progress) {
        self.elsewhere()
            .insert(progress.job, (Instant::now(), progress.clone()));
        self.events.bus.tell(News::Progress(progress));
    }

    /// Records a job and starts it on a thread of its own. A request key that was used before
    /// gives the job that it started then.
    pub async fn start(
        self: &Arc<Self>,
        new: NewJob,
        hold: Option<Box<dyn Hold>>,
        work: impl FnOnce(&Work) -> Result<Value, Refusal> + Send + 'static,
    ) -> Result<api::Job, Refusal> {
        if self.is_closing() {
            return Err(Refusal::closing());
        }
        let (job, added) = self.records.add_job(&new).await?;
        if added {
            // By the database's clock, which the tidying compares with its own.
            let began = self.records.job(job).await.map(|row| row.created_at);
            let began = began.unwrap_or(OffsetDateTime::UNIX_EPOCH);
            if let Some(hold) = &hold {
                hold.name_job(job);
            }
            let progress = Arc::new(Progress::default());
            self.running().insert(job, progress.clone());
            let context = Work {
                jobs: self.clone(),
                job,
                operator: new.operator.clone(),
                progress,
                began,
                what: describe(new.kind, &new.subject),
                at_card: new.at.is_some(),
                hold: self.store.vault.hold(),
                runtime: Handle::current(),
            };
            let thread = std::thread::Builder::new().name(format!("job-{job}"));
            let spawned = thread.spawn(move || run(&context, hold, work));
            if let Err(e) = spawned {
                self.running().remove(&job);
                let detail = format!("the job could not be started: {e}");
                let ending = Ending {
                    job,
                    summary: format!("{} failed: {detail}", describe(new.kind, &new.subject)),
                    outcome: Outcome::Failed("no-thread".into(), detail),
                    operator: new.operator.clone(),
                    speeds: None,
                };
                self.records.end_job(&ending).await?;
            }
        }
        self.show(job).await
    }

    /// A job with its progress.
    pub async fn show(&self, job: i64) -> Result<api::Job, Refusal> {
        let here = self.progress(job);
        Ok(self.shown(here, self.records.job(job).await?))
    }

    /// Ends jobs that were recorded while the connection broke, so that nobody works on them; and stops work on those that
    /// another service took for interrupted, because this one was out of reach for so long.
    pub async fn end_orphans(&self) -> Result<(), Refusal> {
        let running: Vec<_> = self.running().keys().copied().collect();
        for job in self.records.over_of(&running).await? {
            self.cancel(job);
        }
        for job in self.records.end_orphans(&running).await? {
            let summary = format!("Job {job} never began: the records were out of reach");
            self.events
                .note("service", "job.interrupted", &job.to_string(), &summary)
                .await?;
        }
        Ok(())
    }

    /// Tells how far every running job is.
    pub fn tell_progress(&self) {
        let running = self.running();
        let views: Vec<_> = running
            .iter()
            .map(|(job, progress)| view(*job, progress))
            .filter(|view| view.stage != Stage::Waiting.name())
            .collect();
        drop(running);
        for progress in views {
            self.events.bus.tell(News::Progress(progress));
        }
    }
}

fn view(job: i64, progress: &Progress) -> api::Progress {
    let seen = progress.snapshot();
    api::Progress {
        job,
        stage: seen.stage.name().into(),
        done: seen.done,
        total: seen.total,
        rate: seen.rate,
        seconds_left: seen.left.map(|left| left.as_secs_f64()),
    }
}

/// What a job's thread works with.
pub struct Work {
    jobs: Arc<Jobs>,
    /// Number of the job.
    pub job: i64,
    /// Who started it.
    pub operator: String,
    /// How far it is, and whether it shall stop.
    pub progress: Arc<Progress>,
    /// When it began, by the clock of the records.
    pub began: OffsetDateTime,
    /// What it is, in words: `Write of quaylink 2.4 for quay-03 to C-0003`.
    what: String,
    /// Whether it works at a card.
    at_card: bool,
    /// What it relies on in the vault, and what it made there.
    pub hold: Arc<vault::Hold>,
    runtime: Handle,
}

/// How long to wait before the records are tried again.
const AGAIN: Duration = Duration::from_millis(500);

impl Work {
    /// The records.
    pub fn records(&self) -> &Records {
        &self.jobs.records
    }

    /// Waits for something asynchronous from the job's thread.
    pub fn wait<T>(&self, future: impl Future<Output = T>) -> T {
        self.runtime.block_on(future)
    }

    /// Records what is so already, however long the records are out of reach; only the end of the
    /// service ends the waiting, and its next start sorts out what was under way.
    pub fn record<T, F: Future<Output = Result<T, RecordError>>>(
        &self,
        what: impl Fn() -> F,
    ) -> Result<T, Refusal> {
        self.keep_trying(what, || false)
    }

    /// Records what must be recorded before the work goes on; a cancel ends the waiting too.
    pub fn record_first<T, F: Future<Output = Result<T, RecordError>>>(
        &self,
        what: impl Fn() -> F,
    ) -> Result<T, Refusal> {
        self.keep_trying(what, || self.progress.is_cancelled())
    }

    fn keep_trying<T, F: Future<Output = Result<T, RecordError>>>(
        &self,
        what: impl Fn() -> F,
        given_up: impl Fn() -> bool,
    ) -> Result<T, Refusal> {
        let mut told = false;
        loop {
            match self.wait(what()) {
                Err(e) if e.is_away() && !self.jobs.is_closing() => {
                    if given_up() {
                        let detail = "stopped on request, while the records were out of reach";
                        return Err(Refusal::invalid("cancelled", detail));
                    }
                    if !std::mem::replace(&mut told, true) {
                        tracing::warn!(job = self.job, "waiting for the records: {e}");
                    }
                    std::thread::sleep(AGAIN);
                }
                result => return Ok(result?),
            }
        }
    }

    /// The end of this job, to be recorded together with what it did.
    pub fn ending(&self, outcome: Outcome) -> Ending {
        let what = &self.what;
        let summary = match &outcome {
            Outcome::Done(_) => format!("{what} done"),
            Outcome::Failed(_, detail) => format!("{what} failed: {detail}"),
            Outcome::Cancelled(detail) => format!("{what} cancelled: {detail}"),
        };
        Ending {
            job: self.job,
            outcome,
            operator: self.operator.clone(),
            summary,
            speeds: self.speeds(),
        }
    }

    /// How fast it was along its card.
    fn speeds(&self) -> Option<Speeds> {
        let mut curves = self.progress.curves();
        // Where the card was at work, and not the service beside it.
        let at_work = [Stage::Writing, Stage::Verifying, Stage::Reading];
        curves.retain(|curve| at_work.iter().any(|stage| stage.name() == curve.stage));
        let mean = |stages: &[Stage]| {
            let of = |curve: &&Curve| stages.iter().any(|stage| stage.name() == curve.stage);
            curves.iter().rev().find(of).and_then(Curve::mean)
        };
        (self.at_card && !curves.is_empty()).then(|| Speeds {
            write: mean(&[Stage::Writing]),
            read: mean(&[Stage::Verifying, Stage::Reading]),
            curves: serde_json::json!(curves),
        })
    }

    /// The end of this job by a failure.
    pub fn failure(&self, error: &Refusal) -> Ending {
        let detail = error.detail.clone();
        self.ending(match error.code {
            "cancelled" => Outcome::Cancelled(detail),
            code => Outcome::Failed(code.into(), detail),
        })
    }
}

/// `Write of quaylink 2.4 for quay-03 to C-0003`.
fn describe(kind: &str, subject: &str) -> String {
    let mut word = kind.to_owned();
    if let Some(first) = word.get_mut(..1) {
        first.make_ascii_uppercase();
    }
    format!("{word} of {subject}")
}

fn run(
    context: &Work,
    hold: Option<Box<dyn Hold>>,
    work: impl FnOnce(&Work) -> Result<Value, Refusal>,
) {
    let jobs = &context.jobs;
    let job = context.job;
    let summary = format!("{} started", context.what);
    // What other services added meanwhile is shared, and not stored once more.
    if let Err(e) = jobs.store.vault.look_again() {
        tracing::warn!(job, "what other services have added to the vault: {e}");
    }
    let turn = jobs.turn(job, &context.progress);
    let started = match &turn {
        Some(_) => {
            context.record_first(|| jobs.records.start_job(job, &context.operator, &summary))
        }
        None => Err(Refusal::invalid(
            "cancelled",
            "stopped on request, while it waited for others to end; nothing was touched",
        )),
    };
    jobs.events.bus.tell(News::Events);
    let caught = std::panic::AssertUnwindSafe(|| started.and_then(|()| work(context)));
    let result = std::panic::catch_unwind(caught).unwrap_or_else(|_| {
        Err(Refusal::invalid(
            "internal",
            "this is a defect of the service; its log says more",
        ))
    });
    drop(turn);
    let made = context.hold.segments();
    context.hold.release();
    if result.is_err() && !made.is_empty() {
        let kept = || Ok(context.wait(jobs.records.manifests_since(context.began))?);
        jobs.store.tidy_after(&made, kept);
    }
    if let Some(hold) = hold {
        hold.over(&context.runtime);
    }
    // Work that recorded its own end, together with what it did, has ended here already.
    let ending = match result {
        Ok(value) => context.ending(Outcome::Done(value)),
        Err(error) => context.failure(&error),
    };
    let ended = context.record(|| jobs.records.end_job(&ending));
    jobs.running().remove(&job);
    jobs.events.bus.tell(News::Events);
    if let Err(e) = ended {
        tracing::error!(job, "the end of the job could not be recorded: {e}");
    }
}
