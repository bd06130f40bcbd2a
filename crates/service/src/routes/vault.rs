//! The vault as a whole.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, RequestKey};
use crate::app::App;
use crate::error::ApiError;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(show))
        .routes(routes!(inspect))
        .routes(routes!(tidy))
        .routes(routes!(copy))
        .routes(routes!(keep_records))
        .routes(routes!(contents))
        .routes(routes!(reindex))
        .routes(routes!(change_key))
}

type Started = Result<(StatusCode, Json<api::Job>), ApiError>;

/// What the vault is and holds, and what was found when it was looked at.
#[utoipa::path(get, path = "/api/v1/vault", responses((status = 200, body = api::VaultView)))]
async fn show(State(app): State<Arc<App>>) -> Result<Json<api::VaultView>, ApiError> {
    Ok(Json(app.care.view().await?))
}

/// Reads and authenticates everything in the vault, or a share of it, and says what damage touches: a job.
#[utoipa::path(post, path = "/api/v1/vault/inspections", request_body = api::NewInspection,
    responses((status = 202, body = api::Job)))]
async fn inspect(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(key): RequestKey,
    Given(new): Given<api::NewInspection>,
) -> Started {
    let job = app.care.inspect(&operator, key, new.share).await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}

/// Takes away what nothing refers to, beside running work: a job.
#[utoipa::path(post, path = "/api/v1/vault/tidyings", request_body = api::NewTidying,
    responses((status = 202, body = api::Job)))]
async fn tidy(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(key): RequestKey,
    Given(new): Given<api::NewTidying>,
) -> Started {
    let job = app.care.tidy(&operator, key, new.seal_anew).await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}

/// Copies what the second vault does not have, reads a share of what it has, and copies again what is damaged there: a job.
#[utoipa::path(post, path = "/api/v1/vault/copies", request_body = api::NewCopy,
    responses((status = 202, body = api::Job)))]
async fn copy(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(key): RequestKey,
    Given(new): Given<api::NewCopy>,
) -> Started {
    let job = app.care.copy(&operator, key, new.begin).await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}

/// Keeps all records in the vault, so that vault and key bring everything back: a job.
#[utoipa::path(post, path = "/api/v1/vault/records", responses((status = 202, body = api::Job)))]
async fn keep_records(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(key): RequestKey,
) -> Started {
    let job = app.care.keep_records(&operator, key).await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}

/// What the vault itself says that it holds, newest first.
#[utoipa::path(get, path = "/api/v1/vault/contents", responses((status = 200, body = Vec<api::NotedContent>)))]
async fn contents(State(app): State<Arc<App>>) -> Result<Json<Vec<api::NotedContent>>, ApiError> {
    Ok(Json(app.care.notes().await?))
}

/// Puts backups, releases and imprints into the records that the vault tells of and the records do not know.
#[utoipa::path(post, path = "/api/v1/vault/reindex", responses((status = 200, body = api::Reindexed)))]
async fn reindex(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
) -> Result<Json<api::Reindexed>, ApiError> {
    let done = app.care.reindex(&operator).await?;
    // Cards in the slots may be those of imprints that were unknown.
    app.slots.look_anew();
    Ok(Json(done))
}

/// Changes the key of the vault: a new key file, of which a copy must be kept elsewhere. Gives its short name.
#[utoipa::path(post, path = "/api/v1/vault/key", responses((status = 200, body = String)))]
async fn change_key(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
) -> Result<Json<String>, ApiError> {
    Ok(Json(app.care.change_key(&operator).await?))
}
