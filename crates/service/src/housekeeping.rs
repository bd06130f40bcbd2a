//! What is looked after while the service runs: its PostgreSQL, jobs that nobody works on, uploads
//! that nobody came back for.

use std::sync::Arc;
use std::time::{Duration, Instant};

use futures::FutureExt;
use futures::future::BoxFuture;
use operations::jobs::Jobs;
use operations::news::News;
use operations::notices::LOOK;
use tokio::task::JoinHandle;

use crate::app::App;
use crate::peers::links;

/// The database needs this much room to write its journal on, in bytes.
const JOURNAL: u64 = 16 << 20;
/// How often the database is looked at.
const EVERY: Duration = Duration::from_secs(1);
/// How often jobs that nobody works on are looked for.
const JOBS: Duration = Duration::from_secs(10);
/// How often old uploads are cleared away.
const UPLOADS: Duration = Duration::from_secs(3600);

/// How often it is told how far jobs are.
const PROGRESS: Duration = Duration::from_millis(300);

/// Begins to watch the slots, to make the cards of rounds, and to look after everything.
pub fn begin(app: &Arc<App>) {
    app.watch(app.slots.clone().watch());
    app.watch(app.slots.benches().clone().look_after());
    app.watch(app.rounds.clone().watch());
    match &app.peers {
        None => {
            for task in of_the_leader(app) {
                app.watch(task);
            }
        }
        Some(peers) => {
            app.watch(app.events.clone().hear_all());
            app.watch(links::keep(app.clone(), peers.clone()));
            app.watch(lead(app.clone()));
        }
    }
    app.watch(tell_progress(app.jobs.clone()));
    app.watch(keep_house(app.clone()));
}

/// What there is once, however many services there are.
fn of_the_leader(app: &Arc<App>) -> Vec<BoxFuture<'static, ()>> {
    vec![
        app.arrivals.clone().watch().boxed(),
        app.arrivals.clone().look_after().boxed(),
        app.care.clone().look_after().boxed(),
        app.notices.clone().look_after().boxed(),
        notice(app.clone()).boxed(),
    ]
}

/// Ends a task with whoever holds this.
struct Task(JoinHandle<()>);

impl Drop for Task {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// Looks after what there is once for all services, as long as no other one does.
async fn lead(app: Arc<App>) {
    let mut tasks: Vec<Task> = Vec::new();
    loop {
        match (app.leads().await, tasks.is_empty()) {
            (true, true) => {
                tracing::info!("this service looks after what there is once for all of them");
                // Whoever did before listens at no serial line any more.
                if let Err(e) = app.records.end_lines().await {
                    tracing::warn!("lines that nobody listens at any more: {e}");
                }
                let all = of_the_leader(&app).into_iter();
                tasks = all.map(|task| Task(tokio::spawn(task))).collect();
            }
            (false, false) => {
                tracing::warn!("another service looks after what there is once for all of them");
                tasks.clear();
            }
            _ => {}
        }
        if !tasks.is_empty()
            && let Err(e) = app.sort_out_gone().await
        {
            tracing::debug!("what services left that live no more: {e}");
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// Tells how far jobs are until the service ends, whatever the readers do.
async fn tell_progress(jobs: Arc<Jobs>) {
    loop {
        jobs.tell_progress();
        tokio::time::sleep(PROGRESS).await;
    }
}

/// Looks what needs a person until the service ends, so that somebody is told.
async fn notice(app: Arc<App>) {
    loop {
        tokio::time::sleep(LOOK).await;
        let noticed = async { app.notices.notice(app.attention().await?).await };
        if let Err(e) = noticed.await {
            tracing::debug!("what needs a person: {e}");
        }
    }
}

/// Looks after these until the service ends.
async fn keep_house(app: Arc<App>) {
    let (mut jobs, mut uploads) = (Instant::now(), Instant::now());
    loop {
        tokio::time::sleep(EVERY).await;
        if app.jobs.is_closing() {
            return;
        }
        let free = app.own_server().and_then(|server| server.free());
        records::note_room(free.is_none_or(|free| free >= JOURNAL));
        revive_database(&app).await;
        if jobs.elapsed() >= JOBS {
            jobs = Instant::now();
            if let Err(e) = app.renew_claim().await {
                tracing::error!("the records are not this service's alone any more: {e}");
            }
            if let Err(e) = app.jobs.end_orphans().await {
                tracing::debug!("looking for jobs that nobody works on: {e}");
            }
        }
        if uploads.elapsed() >= UPLOADS {
            uploads = Instant::now();
            let uploads = app.uploads.clone();
            let cleared = tokio::task::spawn_blocking(move || uploads.clear(false));
            if let Err(e) = cleared.await {
                tracing::warn!("old uploads: {e}");
            }
        }
    }
}

/// Starts the own PostgreSQL again if it was killed. What waited for it goes on by itself.
async fn revive_database(app: &Arc<App>) {
    let dead = app.own_server().is_some_and(|server| !server.is_running());
    if !dead {
        return;
    }
    tracing::error!("the own PostgreSQL is not running; starting it again");
    let for_it = app.clone();
    let started = tokio::task::spawn_blocking(move || match for_it.own_server() {
        Some(server) if !for_it.jobs.is_closing() => server.restart().map_err(|e| e.to_string()),
        _ => Ok(()),
    });
    match started
        .await
        .map_err(|e| e.to_string())
        .and_then(|done| done)
    {
        Ok(()) => {
            tracing::info!("the own PostgreSQL runs again");
            let summary = "The database had stopped and was started again";
            if let Err(e) = app
                .events
                .note("service", "records.revived", "records", summary)
                .await
            {
                tracing::debug!("{e}");
            }
            app.events.bus.tell(News::Events);
        }
        Err(e) => tracing::error!("the own PostgreSQL could not be started again: {e}"),
    }
}
