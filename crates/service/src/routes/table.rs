//! The table of devices as CSV: see [`operations::table`].

use std::sync::Arc;

use axum::Json;
use axum::extract::{Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use operations::in_force::Team;
use operations::table;
use records::devices::Device;
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::Operator;
use crate::app::App;
use crate::error::ApiError;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(export, import))
}

/// All devices, and what is set on them.
async fn everyone(app: &App) -> Result<(Vec<Device>, Team), ApiError> {
    let devices = app.records.devices().await?;
    let ids: Vec<_> = devices.iter().map(|device| device.id).collect();
    let team = app.in_force.team(&ids).await?;
    Ok((devices, team))
}

/// Work that would hold up everybody else here, on a thread of its own.
async fn aside<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, operations::refusal::Refusal> + Send + 'static,
) -> Result<T, ApiError> {
    let done = tokio::task::spawn_blocking(work).await;
    Ok(done.map_err(|e| ApiError::invalid("table", e.to_string()))??)
}

/// All devices with what is set on them, without secrets.
#[utoipa::path(get, path = "/api/v1/device-table", responses((status = 200, content_type = "text/csv", body = String)))]
async fn export(State(app): State<Arc<App>>) -> Result<Response, ApiError> {
    let (devices, team) = everyone(&app).await?;
    let bytes = aside(move || table::export(&team, &devices)).await?;
    Ok(([(header::CONTENT_TYPE, "text/csv; charset=utf-8")], bytes).into_response())
}

/// Whether a table is only tried.
#[derive(Deserialize, IntoParams)]
struct Trial {
    /// Lists every problem by row, and takes nothing over.
    #[serde(default)]
    dry_run: bool,
}

/// Takes a table over: new devices are registered, known ones changed. An empty cell of a field
/// clears it, a column that is missing leaves it as it is. A row with the revision of a device that was
/// changed since is refused.
#[utoipa::path(post, path = "/api/v1/device-table", params(Trial),
    request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = api::DeviceTableReport)))]
async fn import(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Query(trial): Query<Trial>,
    body: String,
) -> Result<Json<api::DeviceTableReport>, ApiError> {
    let (devices, team) = everyone(&app).await?;
    let boards = app.records.boards().await?.into_iter();
    let sites = app.records.sites().await?.into_iter();
    let known = table::Known {
        devices,
        team,
        boards: boards.map(|one| one.name).collect(),
        sites: sites.map(|one| one.name).collect(),
    };
    let keys = app.store.keys.clone();
    let (rows, mut report) = aside(move || table::read(&body, known, &keys)).await?;
    if trial.dry_run || !report.problems.is_empty() {
        return Ok(Json(report));
    }
    app.records.take_table(&rows, &operator).await?;
    report.done = true;
    let summary = format!(
        "Table of devices taken over: {} new, {} changed",
        report.new.len(),
        report.changed.len()
    );
    app.events
        .note(&operator, "device.table", "devices", &summary)
        .await?;
    Ok(Json(report))
}
