//! What is inside a release: its files, and the image itself.

use std::sync::Arc;

use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::header::{CONTENT_DISPOSITION, CONTENT_LENGTH, CONTENT_TYPE};
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use imagecraft::fs::{self, FileError, NodeKind};
use imagecraft::{Disk, Layout};
use serde::Deserialize;
use tokio::sync::mpsc;
use tokio_stream::wrappers::ReceiverStream;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;
use crate::error::ApiError;

/// Bytes that are sent on at once.
const PIECE: usize = 1 << 20;
/// Pieces that wait for a slow receiver.
const QUEUE: usize = 4;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(folder))
        .routes(routes!(file))
        .routes(routes!(image))
        .routes(routes!(original))
}

#[derive(Deserialize)]
struct At {
    partition: u32,
    #[serde(default)]
    path: String,
}

fn explain(release: &str, at: &At, error: &FileError) -> ApiError {
    let detail = format!("{release}, partition {}: {error}", at.partition);
    match error {
        FileError::Missing(_) => ApiError::missing(detail),
        _ => ApiError::invalid("files", detail),
    }
}

/// Does something with the files of a partition of a release, on a thread that may block.
async fn with_files<T: Send + 'static>(
    app: &Arc<App>,
    name: &str,
    at: At,
    work: impl FnOnce(&dyn fs::Files, &str) -> Result<T, FileError> + Send + 'static,
) -> Result<T, ApiError> {
    let release = app.records.release(name).await?;
    let app = app.clone();
    let done = tokio::task::spawn_blocking(move || {
        let disk = app.catalogue.disk(&release)?;
        let layout = Layout::survey(&disk)
            .map_err(|e| ApiError::invalid("files", format!("{}: {e}", release.name)))?;
        let partition = layout
            .partitions
            .iter()
            .find(|partition| partition.number == at.partition)
            .ok_or_else(|| {
                ApiError::missing(format!(
                    "{} has no partition {}",
                    release.name, at.partition
                ))
            })?;
        let refuse = |e: FileError| explain(&release.name, &at, &e);
        let window = partition.window(&disk).map_err(|e| refuse(e.into()))?;
        let files = fs::open(window).map_err(refuse)?.ok_or_else(|| {
            ApiError::invalid(
                "files",
                format!(
                    "{}, partition {}: files of its kind of file system are not read",
                    release.name, at.partition
                ),
            )
        })?;
        work(files.as_ref(), &at.path).map_err(refuse)
    });
    done.await
        .map_err(|e| ApiError::invalid("files", e.to_string()))?
}

/// The names in a folder of a partition of a release.
#[utoipa::path(get, path = "/api/v1/releases/{name}/folder",
    params(("partition" = u32, Query), ("path" = Option<String>, Query)),
    responses((status = 200, body = Vec<api::FileNode>)))]
async fn folder(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(at): Query<At>,
) -> Result<Json<Vec<api::FileNode>>, ApiError> {
    let mut nodes = with_files(&app, &name, at, |files, path| files.list(path)).await?;
    nodes.sort_by(|a, b| {
        (a.kind != NodeKind::Folder, &a.name).cmp(&(b.kind != NodeKind::Folder, &b.name))
    });
    let shown = nodes.into_iter().map(|node| api::FileNode {
        name: node.name,
        kind: match node.kind {
            NodeKind::File => "file",
            NodeKind::Folder => "folder",
            NodeKind::Link => "link",
            NodeKind::Other => "other",
        }
        .into(),
        len: node.len,
        mode: node.mode.map(|mode| format!("{mode:04o}")),
        owner: node.owner.map(|(user, group)| format!("{user}:{group}")),
        target: node.target,
    });
    Ok(Json(shown.collect()))
}

/// One file of a release.
#[utoipa::path(get, path = "/api/v1/releases/{name}/file",
    params(("partition" = u32, Query), ("path" = String, Query)),
    responses((status = 200, content_type = "application/octet-stream")))]
async fn file(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(at): Query<At>,
) -> Result<Response, ApiError> {
    let wanted = at.path.clone();
    let (give, take) = mpsc::channel(QUEUE);
    let (tell, told) = tokio::sync::oneshot::channel();
    let reading = tokio::spawn(async move {
        with_files(&app, &name, at, move |files, path| {
            let node = files
                .find(path)?
                .ok_or_else(|| FileError::Missing(path.into()))?;
            if node.kind != NodeKind::File {
                return Err(FileError::WrongKind(path.into()));
            }
            let _ = tell.send(node.len);
            files.read_into(path, &mut |piece| {
                let sent = give.blocking_send(Ok(Bytes::copy_from_slice(piece)));
                sent.map_err(|_| std::io::Error::other("nobody listens any more"))
            })
        })
        .await
    });
    match told.await {
        Ok(len) => Ok(download(
            &wanted,
            len,
            Body::from_stream(ReceiverStream::<std::io::Result<Bytes>>::new(take)),
        )),
        // It failed before the first byte: the reason is the answer.
        Err(_) => Err(match reading.await {
            Ok(Err(e)) => e,
            _ => ApiError::invalid("files", "the file could not be read"),
        }),
    }
}

/// The raw image of a release; free bytes are zero.
#[utoipa::path(get, path = "/api/v1/releases/{name}/image",
    responses((status = 200, content_type = "application/octet-stream")))]
async fn image(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Response, ApiError> {
    let release = app.records.release(&name).await?;
    let file_name = format!("{}.img", release.name.replace(' ', "-"));
    let len = release.raw_size as u64;
    let (give, take) = mpsc::channel::<std::io::Result<Bytes>>(QUEUE);
    tokio::task::spawn_blocking(move || {
        let disk = match app.catalogue.disk(&release) {
            Ok(disk) => disk,
            Err(e) => {
                let _ = give.blocking_send(Err(std::io::Error::other(e.detail)));
                return;
            }
        };
        let mut at = 0;
        while at < len {
            let take = (len - at).min(PIECE as u64);
            let piece = disk.read_vec(at, take as usize).map(Bytes::from);
            let failed = piece.is_err();
            if give
                .blocking_send(piece.map_err(std::io::Error::other))
                .is_err()
                || failed
            {
                return;
            }
            at += take;
        }
    });
    Ok(download(
        &file_name,
        len,
        Body::from_stream(ReceiverStream::new(take)),
    ))
}

/// The packed file of a release as it came, where it was kept.
#[utoipa::path(get, path = "/api/v1/releases/{name}/original",
    responses((status = 200, content_type = "application/octet-stream")))]
async fn original(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Response, ApiError> {
    let release = app.records.release(&name).await?;
    if !release.kept {
        let detail = format!(
            "the packed file of {} was not kept; its raw image equals the original in everything but free bytes",
            release.name
        );
        return Err(ApiError::conflict("not-kept", detail));
    }
    let path = app
        .store
        .originals
        .join(hex::encode(&release.packed_sha256));
    let mut file = std::fs::File::open(path)?;
    let (give, take) = mpsc::channel::<std::io::Result<Bytes>>(QUEUE);
    tokio::task::spawn_blocking(move || {
        loop {
            let mut piece = vec![0; PIECE];
            match std::io::Read::read(&mut file, &mut piece) {
                Ok(0) => return,
                Ok(read) => {
                    piece.truncate(read);
                    if give.blocking_send(Ok(piece.into())).is_err() {
                        return;
                    }
                }
                Err(e) => {
                    let _ = give.blocking_send(Err(e));
                    return;
                }
            }
        }
    });
    let len = release.packed_size as u64;
    Ok(download(
        &release.source,
        len,
        Body::from_stream(ReceiverStream::new(take)),
    ))
}

fn download(name: &str, len: u64, body: Body) -> Response {
    let plain: String = name
        .rsplit('/')
        .next()
        .unwrap_or("")
        .chars()
        .map(|c| {
            if c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_' | ' ') {
                c
            } else {
                '_'
            }
        })
        .collect();
    let headers = [
        (CONTENT_TYPE, "application/octet-stream".to_owned()),
        (CONTENT_LENGTH, len.to_string()),
        (
            CONTENT_DISPOSITION,
            format!("attachment; filename=\"{plain}\""),
        ),
    ];
    (headers, body).into_response()
}
