//! Uploads that resume: begun with a length, sent in parts, asked how far they are after a cut.

use std::os::unix::fs::FileExt;
use std::sync::Arc;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use serde::Deserialize;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::Given;
use super::releases::check_sheet;
use crate::app::App;
use crate::error::ApiError;
use operations::store::{own_id, room};
use operations::uploads::{Files, Kept};

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(begin))
        .routes(routes!(show, part))
}

/// Stretches of zeros of this length become holes.
const HOLE: usize = 64 << 10;
/// Bytes of an upload that there must be room for when it begins. Of a larger one much may be zeros;
/// each part asks for its own room.
const SURE: u64 = 1 << 30;

fn view(id: &str, files: &Files, kept: &Kept) -> Result<api::Upload, ApiError> {
    Ok(api::Upload {
        id: id.into(),
        size: kept.size,
        received: std::fs::metadata(&files.bytes)?.len(),
    })
}

/// An upload that was begun under the same key and not used yet.
fn begun(app: &App, key: &str, size: u64) -> Option<api::Upload> {
    std::fs::read_dir(app.uploads.dir())
        .ok()?
        .flatten()
        .find_map(|entry| {
            let name = entry.file_name().into_string().ok()?;
            let id = name.strip_suffix(".json")?;
            let (files, kept) = app.uploads.upload_files(id).ok()?;
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
    room(&app.store.uploads.join("x"), new.size.min(SURE))?;
    if let Some(key) = &new.key
        && let Some(found) = begun(&app, key, new.size)
    {
        return Ok((StatusCode::CREATED, Json(found)));
    }
    let id = own_id(&app.records)?;
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
        app.store.uploads.join(format!("{id}.json")),
        serde_json::to_vec(&kept).unwrap_or_default(),
    )?;
    std::fs::File::create_new(app.store.uploads.join(&id))?;
    let (files, kept) = app.uploads.upload_files(&id)?;
    Ok((StatusCode::CREATED, Json(view(&id, &files, &kept)?)))
}

/// How far an upload is.
#[utoipa::path(get, path = "/api/v1/uploads/{id}", responses((status = 200, body = api::Upload)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(id): Path<String>,
) -> Result<Json<api::Upload>, ApiError> {
    let (files, kept) = app.uploads.upload_files(&id)?;
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
    let (files, kept) = app.uploads.upload_files(&id)?;
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
        let file = std::fs::File::options().write(true).open(&files.bytes)?;
        // Zeros take no room: a raw image is mostly those.
        let mut at = offset;
        for piece in bytes.chunks(HOLE) {
            if piece.iter().any(|byte| *byte != 0) {
                room(&files.bytes, piece.len() as u64)?;
                file.write_all_at(piece, at)?;
            }
            at += piece.len() as u64;
        }
        file.set_len(at)?;
        view(&id, &files, &kept)
    });
    let now = written
        .await
        .map_err(|e| ApiError::invalid("storage", e.to_string()))??;
    Ok(Json(now))
}
