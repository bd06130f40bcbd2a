//! Long work: a row before it is work, progress in memory, a thread of its own.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use cardwork::{Progress, Stage};
use records::RecordError;
use records::jobs::{Ending, NewJob, Outcome};
use serde_json::Value;
use time::OffsetDateTime;
use tokio::runtime::Handle;
use vault::SegmentId;

use crate::app::App;
use crate::bus::News;
use crate::error::ApiError;
use crate::slots::Reserved;
use crate::work::WorkError;

/// The jobs that run now.
#[derive(Default)]
pub struct Jobs(Mutex<BTreeMap<i64, Arc<Progress>>>);

impl Jobs {
    fn running(&self) -> MutexGuard<'_, BTreeMap<i64, Arc<Progress>>> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

    pub fn is_idle(&self) -> bool {
        self.running().is_empty()
    }

    pub fn cancel_all(&self) {
        for progress in self.running().values() {
            progress.cancel();
        }
    }

    /// Asks one job to stop; whether it was running.
    pub fn cancel(&self, job: i64) -> bool {
        self.running()
            .get(&job)
            .inspect(|progress| progress.cancel())
            .is_some()
    }

    /// How far one job is.
    pub fn progress(&self, job: i64) -> Option<api::Progress> {
        self.running().get(&job).map(|progress| view(job, progress))
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
    pub app: Arc<App>,
    pub job: i64,
    pub operator: String,
    pub progress: Arc<Progress>,
    /// When it began.
    pub began: OffsetDateTime,
    /// What it is, in words: `Write of quaylink 2.4 for quay-03 to C-0003`.
    what: String,
    runtime: Handle,
}

/// How long to wait before the records are tried again.
const AGAIN: Duration = Duration::from_millis(500);

impl Work {
    /// Remembers what this work left in the vault although it failed.
    pub fn left_behind(&self, segments: Vec<SegmentId>) {
        let mut litter = self.app.litter.lock().unwrap_or_else(|e| e.into_inner());
        litter.push((self.began, segments));
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
    ) -> Result<T, WorkError> {
        self.keep_trying(what, || false)
    }

    /// Records what must be recorded before the work goes on; a cancel ends the waiting too.
    pub fn record_first<T, F: Future<Output = Result<T, RecordError>>>(
        &self,
        what: impl Fn() -> F,
    ) -> Result<T, WorkError> {
        self.keep_trying(what, || self.progress.is_cancelled())
    }

    fn keep_trying<T, F: Future<Output = Result<T, RecordError>>>(
        &self,
        what: impl Fn() -> F,
        given_up: impl Fn() -> bool,
    ) -> Result<T, WorkError> {
        let mut told = false;
        loop {
            match self.wait(what()) {
                Err(e) if e.is_away() && !self.app.is_closing() => {
                    if given_up() {
                        let detail = "stopped on request, while the records were out of reach";
                        return Err(WorkError::new("cancelled", detail));
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
        }
    }

    /// The end of this job by a failure.
    pub fn failure(&self, error: &WorkError) -> Ending {
        let detail = error.detail.clone();
        self.ending(match error.code {
            "cancelled" => Outcome::Cancelled(detail),
            code => Outcome::Failed(code.into(), detail),
        })
    }
}

impl App {
    /// Records a job and starts it on a thread of its own. A request key that was used before
    /// gives the job that it started then.
    pub async fn start_job(
        self: &Arc<Self>,
        new: NewJob,
        reserved: Option<Reserved>,
        work: impl FnOnce(&Work) -> Result<Value, WorkError> + Send + 'static,
    ) -> Result<api::Job, ApiError> {
        if self.is_closing() {
            return Err(ApiError::closing());
        }
        let (job, added) = self.records.add_job(&new).await?;
        if added {
            // By the database's clock, which the tidying compares with its own.
            let began = self.records.job(job).await.map(|row| row.created_at);
            let began = began.unwrap_or(OffsetDateTime::UNIX_EPOCH);
            if let Some(reserved) = &reserved {
                reserved.name_job(job);
            }
            let progress = Arc::new(Progress::default());
            self.jobs.running().insert(job, progress.clone());
            let context = Work {
                app: self.clone(),
                job,
                operator: new.operator.clone(),
                progress,
                began,
                what: describe(new.kind, &new.subject),
                runtime: Handle::current(),
            };
            let thread = std::thread::Builder::new().name(format!("job-{job}"));
            let spawned = thread.spawn(move || run(&context, reserved, work));
            if let Err(e) = spawned {
                self.jobs.running().remove(&job);
                let detail = format!("the job could not be started: {e}");
                let ending = Ending {
                    job,
                    summary: format!("{} failed: {detail}", describe(new.kind, &new.subject)),
                    outcome: Outcome::Failed("no-thread".into(), detail),
                    operator: new.operator.clone(),
                };
                self.records.end_job(&ending).await?;
            }
        }
        self.job_view(job).await
    }

    /// A job with its progress.
    pub async fn job_view(&self, job: i64) -> Result<api::Job, ApiError> {
        // Progress first: a job that ends in between shows its end, not progress without end.
        let progress = self.jobs.progress(job);
        let row = self.records.job(job).await?;
        Ok(crate::views::job(row, progress))
    }

    /// Ends jobs that were recorded while the connection broke, so that nobody works on them.
    pub async fn end_orphans(&self) -> Result<(), ApiError> {
        let running: Vec<_> = self.jobs.running().keys().copied().collect();
        for job in self.records.end_orphans(&running).await? {
            let summary = format!("Job {job} never began: the records were out of reach");
            self.note("service", "job.interrupted", &job.to_string(), &summary)
                .await?;
        }
        Ok(())
    }

    /// Tells how far every running job is.
    pub fn tell_progress(&self) {
        let views: Vec<_> = self
            .jobs
            .running()
            .iter()
            .map(|(job, progress)| view(*job, progress))
            .collect();
        for progress in views
            .into_iter()
            .filter(|view| view.stage != Stage::Waiting.name())
        {
            self.bus.tell(News::Progress(progress));
        }
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
    reserved: Option<Reserved>,
    work: impl FnOnce(&Work) -> Result<Value, WorkError>,
) {
    let app = &context.app;
    let job = context.job;
    let summary = format!("{} started", context.what);
    let started = context.record_first(|| app.records.start_job(job, &context.operator, &summary));
    app.bus.tell(News::Events);
    let storing = app.storing.read().unwrap_or_else(|e| e.into_inner());
    let caught = std::panic::AssertUnwindSafe(|| started.and_then(|()| work(context)));
    let result = std::panic::catch_unwind(caught).unwrap_or_else(|_| {
        Err(WorkError::new(
            "internal",
            "this is a defect of the service; its log says more",
        ))
    });
    drop(storing);
    app.tidy(|since| {
        let manifests = context.wait(app.records.manifests_since(since));
        Ok(manifests?)
    });
    if let Some(reserved) = reserved {
        context.wait(reserved.look_again());
    }
    // Work that recorded its own end, together with what it did, has ended here already.
    let ending = match result {
        Ok(value) => context.ending(Outcome::Done(value)),
        Err(error) => context.failure(&error),
    };
    let ended = context.record(|| app.records.end_job(&ending));
    app.jobs.running().remove(&job);
    app.bus.tell(News::Events);
    if let Err(e) = ended {
        tracing::error!(
            job,
            "the end of the job could not be recorded: {}",
            e.detail
        );
    }
}
