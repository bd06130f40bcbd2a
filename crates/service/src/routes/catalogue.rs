//! Questions to the catalogue as a whole: its lines, who is behind, what suits a device, what two
//! releases differ in, what lies in the import folder.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use records::jobs::NewJob;
use serde::Deserialize;
use settings::compare_sheets;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, RequestKey};
use crate::app::App;
use crate::error::ApiError;
use operations::shown;
use operations::work::compare_releases;

/// Files that a comparison lists; the counts are of all.
const SHOWN_FILES: usize = 2000;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(catalogue))
        .routes(routes!(choices))
        .routes(routes!(follow))
        .routes(routes!(comparison, compare))
        .routes(routes!(folder))
}

/// The catalogue by appliance and variant, versions newest first.
#[utoipa::path(get, path = "/api/v1/catalogue", responses((status = 200, body = Vec<api::Line>)))]
async fn catalogue(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Line>>, ApiError> {
    let shelf = app.catalogue.shelf().await?;
    let classes = app.records.device_classes().await?;
    let carried = app.records.carried_counts().await?;
    Ok(Json(shelf.lines(&classes, &carried)))
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
    Ok(Json(shelf.device(device)))
}

#[derive(Deserialize)]
struct Pair {
    a: String,
    b: String,
}

/// What changed between two releases: partitions, files, sheets; once they were compared.
#[utoipa::path(get, path = "/api/v1/comparison", params(("a" = String, Query), ("b" = String, Query)),
    responses((status = 200, body = api::Comparison)))]
async fn comparison(
    State(app): State<Arc<App>>,
    Query(Pair { a, b }): Query<Pair>,
) -> Result<Json<api::Comparison>, ApiError> {
    let (a, b) = (
        app.records.release(&a).await?,
        app.records.release(&b).await?,
    );
    let found = app.catalogue.compared(&a, &b).ok_or_else(|| {
        let detail = format!(
            "{} and {} were not compared yet; start the comparison first",
            a.name, b.name
        );
        ApiError::new(StatusCode::NOT_FOUND, "not-compared", detail)
    })?;
    Ok(Json(api::Comparison {
        partitions: shown::fact_differences(&found),
        files: shown::file_differences(&found, SHOWN_FILES),
        counts: shown::file_counts(&found),
        sheet: compare_sheets(&a.sheet, &b.sheet)
            .into_iter()
            .map(|change| api::Difference {
                what: change.key,
                a: change.before,
                b: change.after,
            })
            .collect(),
        a: a.name,
        b: b.name,
    }))
}

/// Compares two releases: a job. What it found is asked for when it is done.
#[utoipa::path(post, path = "/api/v1/comparison", request_body = api::NewComparison,
    responses((status = 202, body = api::Job)))]
async fn compare(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(request_key): RequestKey,
    Given(given): Given<api::NewComparison>,
) -> Result<(StatusCode, Json<api::Job>), ApiError> {
    let a = app.records.release(&given.a).await?;
    let b = app.records.release(&given.b).await?;
    let job = NewJob {
        kind: "compare",
        subject: format!("{} with {}", a.name, b.name),
        at: None,
        card: None,
        operator,
        request_key,
    };
    let catalogue = app.catalogue.clone();
    let job = app
        .jobs
        .start(job, None, move |work| {
            compare_releases(work, &catalogue, &a, &b)
        })
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
