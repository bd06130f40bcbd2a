//! What is looked after while the service runs: its PostgreSQL, jobs that nobody works on, uploads
//! that nobody came back for.

use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::app::App;
use crate::bus::News;
use crate::uploads::clear_old_uploads;

/// How often the database is looked at.
const EVERY: Duration = Duration::from_secs(1);
/// How often jobs that nobody works on are looked for.
const JOBS: Duration = Duration::from_secs(10);
/// How often old uploads are cleared away.
const UPLOADS: Duration = Duration::from_secs(3600);

/// Looks after these until the service ends.
pub async fn keep_house(app: Arc<App>) {
    let (mut jobs, mut uploads) = (Instant::now(), Instant::now());
    loop {
        tokio::time::sleep(EVERY).await;
        if app.is_closing() {
            return;
        }
        revive_database(&app).await;
        if jobs.elapsed() >= JOBS {
            jobs = Instant::now();
            if let Err(e) = app.renew_claim().await {
                tracing::error!("the records are not this service's alone any more: {e}");
            }
            if let Err(e) = app.end_orphans().await {
                tracing::debug!("looking for jobs that nobody works on: {e}");
            }
        }
        if uploads.elapsed() >= UPLOADS {
            uploads = Instant::now();
            let app = app.clone();
            let cleared = tokio::task::spawn_blocking(move || {
                clear_old_uploads(&app.uploads, |path| app.claims.holds(path), false);
            });
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
        Some(server) if !for_it.is_closing() => server.restart().map_err(|e| e.to_string()),
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
                .note("service", "records.revived", "records", summary)
                .await
            {
                tracing::debug!("{e}");
            }
            app.bus.tell(News::Events);
        }
        Err(e) => tracing::error!("the own PostgreSQL could not be started again: {e}"),
    }
}
