//! Jobs.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use serde::Deserialize;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::Operator;
use crate::app::App;
use crate::error::ApiError;

const PAGE: i64 = 50;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list))
        .routes(routes!(show))
        .routes(routes!(cancel))
        .routes(routes!(seen))
}

#[derive(Deserialize)]
struct Before {
    before: Option<i64>,
}

/// Jobs, newest first.
#[utoipa::path(get, path = "/api/v1/jobs", params(("before" = Option<i64>, Query)),
    responses((status = 200, body = api::Jobs)))]
async fn list(
    State(app): State<Arc<App>>,
    Query(Before { before }): Query<Before>,
) -> Result<Json<api::Jobs>, ApiError> {
    let items = app.jobs.list(before, PAGE).await?;
    let next = (items.len() as i64 == PAGE)
        .then(|| items.last().map(|job| job.id))
        .flatten();
    Ok(Json(api::Jobs { items, next }))
}

/// One job with its progress.
#[utoipa::path(get, path = "/api/v1/jobs/{id}", responses((status = 200, body = api::Job)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(id): Path<i64>,
) -> Result<Json<api::Job>, ApiError> {
    Ok(Json(app.jobs.show(id).await?))
}

/// Asks a job to stop at the next safe place.
#[utoipa::path(post, path = "/api/v1/jobs/{id}/cancel", responses((status = 200, body = api::Job)))]
async fn cancel(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(id): Path<i64>,
) -> Result<Json<api::Job>, ApiError> {
    let job = app.jobs.show(id).await?;
    if !app.jobs.cancel(id) {
        return Err(ApiError::conflict(
            "job-over",
            format!(
                "job {id} is over ({}); there is nothing to cancel",
                job.state
            ),
        ));
    }
    app.events
        .note(
            &operator,
            "job.cancel-asked",
            &id.to_string(),
            &format!("Job {id} asked to stop"),
        )
        .await?;
    Ok(Json(job))
}

/// Keeps that somebody has seen how a job ended: its slot does not say so any more.
#[utoipa::path(post, path = "/api/v1/jobs/{id}/seen", responses((status = 200, body = api::Job)))]
async fn seen(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(id): Path<i64>,
) -> Result<Json<api::Job>, ApiError> {
    let job = app.jobs.show(id).await?;
    if matches!(job.state.as_str(), "waiting" | "running") {
        let detail = format!("job {id} is under way; there is no end to have seen");
        return Err(ApiError::conflict("job-runs", detail));
    }
    app.records.see_job(id, &operator).await?;
    app.slots.learn_failures().await;
    Ok(Json(job))
}
