//! Questions to the catalogue as a whole: its lines, who is behind, what suits a device, what two
//! releases differ in, what lies in the import folder.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use records::jobs::NewJob;
use serde::Deserialize;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, RequestKey};
use crate::app::App;
use crate::error::ApiError;
use operations::inside::Of;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(catalogue))
        .routes(routes!(choices))
        .routes(routes!(follow))
        .routes(routes!(comparison, compare))
        .routes(routes!(compared_file))
        .routes(routes!(folder))
}

/// The catalogue by appliance and variant, versions newest first.
#[utoipa::path(get, path = "/api/v1/catalogue", responses((status = 200, body = Vec<api::Line>)))]
async fn catalogue(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Line>>, ApiError> {
    let fleet = app.in_force.fleet().await?;
    let devices: Vec<_> = fleet
        .devices
        .iter()
        .map(|(one, stands)| (one, stands.standing))
        .collect();
    let carried = app.records.carried_counts(None).await?;
    Ok(Json(fleet.shelf.lines(&devices, &carried)))
}

/// The releases of a device's appliance, those that suit it first, with the reasons.
#[utoipa::path(get, path = "/api/v1/devices/{name}/choices", responses((status = 200, body = Vec<api::Choice>)))]
async fn choices(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<Vec<api::Choice>>, ApiError> {
    let device = app.records.device(&name).await?;
    let shelf = app.catalogue.shelf().await?;
    Ok(Json(shelf.choices(&device)))
}

/// Lets a device follow what is current, or stay with one release.
#[utoipa::path(put, path = "/api/v1/devices/{name}/following", request_body = api::Following,
    responses((status = 200, body = api::Device)))]
async fn follow(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(given): Given<api::Following>,
) -> Result<Json<api::Device>, ApiError> {
    let device = app.records.device(&name).await?;
    let shelf = app.catalogue.shelf().await?;
    let release = match &given.pinned {
        None => None,
        Some(pinned) => {
            let release = app.records.release(pinned).await?;
            let fit = shelf.fit(&release, &device);
            if !fit.fits {
                let detail = format!("{pinned} does not suit {name}: {}", fit.reasons.join("; "));
                return Err(ApiError::conflict("wrong-board", detail));
            }
            Some(release)
        }
    };
    app.records
        .pin_device(device.id, release.as_ref().map(|release| release.id))
        .await?;
    let summary = match &release {
        Some(release) => format!("{name} stays with {}", release.name),
        None => format!("{name} follows what is current"),
    };
    app.events
        .note(&operator, "device.changed", &name, &summary)
        .await?;
    let device = app.records.device(&name).await?;
    Ok(Json(app.in_force.shown_one(device).await?))
}

#[derive(Deserialize)]
struct Pair {
    a: String,
    b: String,
}

/// What two releases or backups differ in: partitions, files, sheets; once they were compared.
#[utoipa::path(get, path = "/api/v1/comparison", params(("a" = String, Query), ("b" = String, Query)),
    responses((status = 200, body = api::Comparison)))]
async fn comparison(
    State(app): State<Arc<App>>,
    Query(Pair { a, b }): Query<Pair>,
) -> Result<Json<api::Comparison>, ApiError> {
    Ok(Json(app.inside.compared(&a, &b).await?))
}

#[derive(Deserialize)]
struct OneFile {
    a: String,
    b: String,
    partition: u32,
    path: String,
}

/// One file of two releases or backups, line by line.
#[utoipa::path(get, path = "/api/v1/comparison/file",
    params(("a" = String, Query), ("b" = String, Query), ("partition" = u32, Query), ("path" = String, Query)),
    responses((status = 200, body = api::FileComparison)))]
async fn compared_file(
    State(app): State<Arc<App>>,
    Query(asked): Query<OneFile>,
) -> Result<Json<api::FileComparison>, ApiError> {
    let (a, b) = (Of::Either(&asked.a), Of::Either(&asked.b));
    let found = app.inside.compared_file(a, b, asked.partition, &asked.path);
    Ok(Json(found.await?))
}

/// Compares two releases or backups: a job. What it found is asked for when it is done.
#[utoipa::path(post, path = "/api/v1/comparison", request_body = api::NewComparison,
    responses((status = 202, body = api::Job)))]
async fn compare(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(request_key): RequestKey,
    Given(given): Given<api::NewComparison>,
) -> Result<(StatusCode, Json<api::Job>), ApiError> {
    let a = app.inside.find(Of::Either(&given.a)).await?;
    let b = app.inside.find(Of::Either(&given.b)).await?;
    let job = NewJob {
        kind: "compare",
        subject: format!("{} with {}", a.name, b.name),
        at: None,
        card: None,
        operator,
        request_key,
    };
    let inside = app.inside.clone();
    let job = app
        .jobs
        .start(job, None, move |work| inside.compare(work, &a, &b))
        .await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}

/// The import folder of the service.
#[utoipa::path(get, path = "/api/v1/folder", responses((status = 200, body = api::Folder)))]
async fn folder(State(app): State<Arc<App>>) -> Result<Json<api::Folder>, ApiError> {
    let Some(path) = &app.import_dir else {
        return Ok(Json(api::Folder {
            path: None,
            files: Vec::new(),
        }));
    };
    let read = std::fs::read_dir(path).map_err(|e| {
        ApiError::invalid(
            "folder",
            format!("the import folder {} cannot be read: {e}", path.display()),
        )
    })?;
    let mut files = Vec::new();
    for entry in read.flatten() {
        let (Ok(name), Ok(meta)) = (entry.file_name().into_string(), entry.metadata()) else {
            continue;
        };
        if meta.is_file() && !name.starts_with('.') && !name.ends_with(".toml") {
            files.push(api::FolderFile {
                sheet: api::sheet_beside(&entry.path()).is_some(),
                size: meta.len(),
                name,
            });
        }
    }
    files.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(Json(api::Folder {
        path: Some(path.display().to_string()),
        files,
    }))
}
