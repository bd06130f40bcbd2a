//! Uploads that resume: begun with a length, sent in parts, asked how far they are after a cut.

use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::Arc;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::Given;
use super::releases::check_sheet;
use crate::app::App;
use crate::error::ApiError;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(begin))
        .routes(routes!(show, part))
}

/// What is kept beside an upload's bytes.
#[derive(Serialize, Deserialize)]
pub struct Kept {
    pub file_name: String,
    pub size: u64,
    /// What the sender knows this upload again by.
    #[serde(default)]
    key: Option<String>,
}

/// The files of one upload.
pub struct Files {
    pub bytes: PathBuf,
    kept: PathBuf,
}

impl App {
    /// The files of an upload; refuses an identifier that was not given out.
    pub fn upload_files(&self, id: &str) -> Result<(Files, Kept), ApiError> {
        let unknown = || ApiError::missing("there is no such upload; begin it anew");
        if id.is_empty() || !id.bytes().all(|b| b.is_ascii_hexdigit()) {
            return Err(unknown());
        }
        let files = Files {
            bytes: self.uploads.join(id),
            kept: self.uploads.join(format!("{id}.json")),
        };
        let kept = std::fs::read(&files.kept).map_err(|_| unknown())?;
        let kept = serde_json::from_slice(&kept).map_err(|_| unknown())?;
        Ok((files, kept))
    }
}

fn view(id: &str, files: &Files, kept: &Kept) -> Result<api::Upload, ApiError> {
    Ok(api::Upload {
        id: id.into(),
        size: kept.size,
        received: std::fs::metadata(&files.bytes)?.len(),
    })
}

/// An upload that was begun under the same key and not used yet.
fn begun(app: &App, key: &str, size: u64) -> Option<api::Upload> {
    std::fs::read_dir(&app.uploads)
        .ok()?
        .flatten()
        .find_map(|entry| {
            let name = entry.file_name().into_string().ok()?;
            let id = name.strip_suffix(".json")?;
            let (files, kept) = app.upload_files(id).ok()?;
            let same = kept.key.as_deref() == Some(key) && kept.size == size;
            same.then(|| view(id, &files, &kept).ok())?
        })
}

/// Begins an upload, or finds the one that was begun under the same key. A sheet that is given with it is checked first.
#[utoipa::path(post, path = "/api/v1/uploads", request_body = api::NewUpload,
    responses((status = 201, body = api::Upload)))]
async fn begin(
    State(app): State<Arc<App>>,
    Given(new): Given<api::NewUpload>,
) -> Result<(StatusCode, Json<api::Upload>), ApiError> {
    if new.size == 0 {
        return Err(ApiError::invalid(
            "empty",
            format!("{} is empty", new.file_name),
        ));
    }
    if let Some(sheet) = &new.sheet {
        check_sheet(&app, sheet).await?;
    }
    if let Some(key) = &new.key
        && let Some(found) = begun(&app, key, new.size)
    {
        return Ok((StatusCode::CREATED, Json(found)));
    }
    let mut id = [0; 12];
    getrandom::fill(&mut id).map_err(|e| ApiError::invalid("no-chance", e.to_string()))?;
    let id = hex::encode(id);
    let kept = Kept {
        // Only the last part, and only for people: it never becomes a path.
        file_name: new
            .file_name
            .rsplit(['/', '\\'])
            .next()
            .unwrap_or("image")
            .into(),
        size: new.size,
        key: new.key,
    };
    std::fs::write(
        app.uploads.join(format!("{id}.json")),
        serde_json::to_vec(&kept).unwrap_or_default(),
    )?;
    std::fs::File::create_new(app.uploads.join(&id))?;
    let (files, kept) = app.upload_files(&id)?;
    Ok((StatusCode::CREATED, Json(view(&id, &files, &kept)?)))
}

/// How far an upload is.
#[utoipa::path(get, path = "/api/v1/uploads/{id}", responses((status = 200, body = api::Upload)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(id): Path<String>,
) -> Result<Json<api::Upload>, ApiError> {
    let (files, kept) = app.upload_files(&id)?;
    Ok(Json(view(&id, &files, &kept)?))
}

#[derive(Deserialize)]
struct At {
    offset: u64,
}

/// Adds the next part, which must begin where the upload ends so far.
#[utoipa::path(patch, path = "/api/v1/uploads/{id}", params(("offset" = u64, Query)),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = api::Upload)))]
async fn part(
    State(app): State<Arc<App>>,
    Path(id): Path<String>,
    Query(At { offset }): Query<At>,
    bytes: Bytes,
) -> Result<Json<api::Upload>, ApiError> {
    let (files, kept) = app.upload_files(&id)?;
    let written = tokio::task::spawn_blocking(move || {
        let now = view(&id, &files, &kept)?;
        if offset != now.received || offset + bytes.len() as u64 > kept.size {
            return Err(ApiError::conflict(
                "wrong-offset",
                format!(
                    "the upload has {} of {} bytes; go on from there",
                    now.received, kept.size
                ),
            ));
        }
        std::fs::File::options()
            .write(true)
            .open(&files.bytes)?
            .write_all_at(&bytes, offset)?;
        view(&id, &files, &kept)
    });
    let now = written
        .await
        .map_err(|e| ApiError::invalid("storage", e.to_string()))??;
    Ok(Json(now))
}
