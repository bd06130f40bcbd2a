//! Long work: a row before it is work, progress in memory, a thread of its own.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard};

use cardwork::{Progress, Stage};
use records::jobs::{NewJob, Outcome};
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
    runtime: Handle,
}

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
        let (job, added) = self.records.add_job(&new).await?;
        if added {
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
                began: OffsetDateTime::now_utc(),
                runtime: Handle::current(),
            };
            let thread = std::thread::Builder::new().name(format!("job-{job}"));
            let spawned =
                thread.spawn(move || run(&context, new.kind, &new.subject, reserved, work));
            if let Err(e) = spawned {
                self.jobs.running().remove(&job);
                let outcome = Outcome::Failed(
                    "no-thread".into(),
                    format!("the job could not be started: {e}"),
                );
                self.records.end_job(job, &outcome).await?;
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
    kind: &str,
    subject: &str,
    reserved: Option<Reserved>,
    work: impl FnOnce(&Work) -> Result<Value, WorkError>,
) {
    let app = &context.app;
    let job = context.job;
    let what = describe(kind, subject);
    let started: Result<(), WorkError> = context.wait(async {
        app.records.start_job(job).await?;
        let summary = format!("{what} started");
        Ok(app
            .note(&context.operator, "job.started", &job.to_string(), &summary)
            .await?)
    });
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
    let (outcome, event, summary) = match result {
        Ok(value) => (Outcome::Done(value), "job.done", format!("{what} done")),
        Err(WorkError {
            code: "cancelled",
            detail,
        }) => {
            let summary = format!("{what} cancelled: {detail}");
            (Outcome::Cancelled(detail), "job.cancelled", summary)
        }
        Err(WorkError { code, detail }) => {
            let summary = format!("{what} failed: {detail}");
            (Outcome::Failed(code.into(), detail), "job.failed", summary)
        }
    };
    if let Some(reserved) = reserved {
        context.wait(reserved.look_again());
    }
    let ended = context.wait(async {
        app.records.end_job(job, &outcome).await?;
        app.jobs.running().remove(&job);
        app.note(&context.operator, event, &job.to_string(), &summary)
            .await
    });
    app.jobs.running().remove(&job);
    if let Err(e) = ended {
        tracing::error!(job, "the end of the job could not be recorded: {e}");
    }
}
