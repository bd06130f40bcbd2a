//! Releases in the catalogue.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use records::jobs::NewJob;
use settings::Sheet;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, RequestKey};
use crate::app::App;
use crate::error::ApiError;
use crate::views;
use crate::work::{Import, import};

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, add))
        .routes(routes!(show))
}

/// Releases, newest first.
#[utoipa::path(get, path = "/api/v1/releases", responses((status = 200, body = Vec<api::Release>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Release>>, ApiError> {
    Ok(Json(
        app.records
            .releases()
            .await?
            .iter()
            .map(views::release)
            .collect(),
    ))
}

/// One release.
#[utoipa::path(get, path = "/api/v1/releases/{name}", responses((status = 200, body = api::ReleaseDetail)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<api::ReleaseDetail>, ApiError> {
    Ok(Json(views::release_detail(
        &app.records.release(&name).await?,
    )?))
}

/// A sheet that can become a release now: valid, of a new name, for board models that are known.
pub async fn check_sheet(app: &App, text: &str) -> Result<Sheet, ApiError> {
    let sheet = Sheet::parse(text)
        .map_err(|e| ApiError::invalid("bad-sheet", format!("release sheet, {e}")))?;
    let name = sheet.name();
    if app.records.release(&name).await.is_ok() {
        let detail =
            format!("the catalogue has a release {name:?} already; give the sheet another version");
        return Err(ApiError::conflict("taken", detail));
    }
    let known: Vec<_> = app
        .records
        .boards()
        .await?
        .into_iter()
        .map(|board| board.name)
        .collect();
    if let Some(board) = sheet.boards.iter().find(|board| !known.contains(board)) {
        let detail = format!(
            "the sheet names board model {board:?}, which is not known here; known are {}",
            known.join(", ")
        );
        return Err(ApiError::invalid("unknown-board", detail));
    }
    Ok(sheet)
}

/// Adds a release from an upload that is whole: a job.
#[utoipa::path(post, path = "/api/v1/releases", request_body = api::NewRelease,
    responses((status = 202, body = api::Job)))]
async fn add(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(request_key): RequestKey,
    Given(new): Given<api::NewRelease>,
) -> Result<(StatusCode, Json<api::Job>), ApiError> {
    if let Some(key) = &request_key
        && let Some(job) = app.records.job_of_request(key).await?
    {
        return Ok((StatusCode::ACCEPTED, Json(app.job_view(job).await?)));
    }
    let sheet = check_sheet(&app, &new.sheet).await?;
    let name = sheet.name();
    let (files, kept) = app.upload_files(&new.upload)?;
    let received = std::fs::metadata(&files.bytes)?.len();
    if received != kept.size {
        let detail = format!(
            "{} is not whole: {received} of {} bytes have arrived",
            kept.file_name, kept.size
        );
        return Err(ApiError::conflict("upload-not-whole", detail));
    }
    let order = Import {
        path: files.bytes,
        file_name: kept.file_name,
        sheet,
        sheet_text: new.sheet,
    };
    let job = NewJob {
        kind: "import",
        subject: name,
        slot: None,
        card: None,
        operator,
        request_key,
    };
    let job = app
        .start_job(job, None, move |work| import(work, &order))
        .await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}
