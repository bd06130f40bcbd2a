//! What is inside a release, a backup or the card in a slot: its files, and the image itself.

use api::SlotName;
use std::io::Write;
use std::sync::Arc;

use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::HeaderValue;
use axum::http::header::{CONTENT_DISPOSITION, CONTENT_LENGTH, CONTENT_TYPE};
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use imagecraft::fs::{FileError, NodeKind};
use operations::inside::{Content, Of, Packing, write_archive, write_image};
use operations::refusal::Refusal;
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
        .routes(routes!(archive))
        .routes(routes!(backup_folder))
        .routes(routes!(backup_file))
        .routes(routes!(backup_image))
        .routes(routes!(backup_archive))
        .routes(routes!(sharing))
        .routes(routes!(shared_image))
        .routes(routes!(card_folder))
        .routes(routes!(card_file))
        .routes(routes!(versions))
        .routes(routes!(original))
}

#[derive(Deserialize)]
struct At {
    partition: u32,
    #[serde(default)]
    path: String,
}

/// Something that blocks, with a content, on a thread that may.
async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, Refusal> + Send + 'static,
) -> Result<T, ApiError> {
    let done = tokio::task::spawn_blocking(work).await;
    Ok(done.map_err(|e| ApiError::invalid("files", e.to_string()))??)
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
    names_in(&app, Of::Release(&name), at).await
}

/// The names in a folder of a partition of a backup.
#[utoipa::path(get, path = "/api/v1/backups/{name}/folder",
    params(("partition" = u32, Query), ("path" = Option<String>, Query)),
    responses((status = 200, body = Vec<api::FileNode>)))]
async fn backup_folder(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(at): Query<At>,
) -> Result<Json<Vec<api::FileNode>>, ApiError> {
    names_in(&app, Of::Backup(&name), at).await
}

/// The names in a folder of a partition of the card in a slot.
#[utoipa::path(get, path = "/api/v1/slots/{slot}/folder",
    params(("partition" = u32, Query), ("path" = Option<String>, Query)),
    responses((status = 200, body = Vec<api::FileNode>)))]
async fn card_folder(
    State(app): State<Arc<App>>,
    Path(slot): Path<SlotName>,
    Query(at): Query<At>,
) -> Result<Json<Vec<api::FileNode>>, ApiError> {
    names_in(&app, Of::Card(slot), at).await
}

async fn names_in(app: &App, of: Of<'_>, at: At) -> Result<Json<Vec<api::FileNode>>, ApiError> {
    let content = app.inside.find(of).await?;
    let names = blocking(move || content.folder(at.partition, &at.path));
    Ok(Json(names.await?))
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
    one_file(app.inside.find(Of::Release(&name)).await?, at).await
}

/// One file of a backup.
#[utoipa::path(get, path = "/api/v1/backups/{name}/file",
    params(("partition" = u32, Query), ("path" = String, Query)),
    responses((status = 200, content_type = "application/octet-stream")))]
async fn backup_file(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(at): Query<At>,
) -> Result<Response, ApiError> {
    one_file(app.inside.find(Of::Backup(&name)).await?, at).await
}

/// One file of the card in a slot.
#[utoipa::path(get, path = "/api/v1/slots/{slot}/file",
    params(("partition" = u32, Query), ("path" = String, Query)),
    responses((status = 200, content_type = "application/octet-stream")))]
async fn card_file(
    State(app): State<Arc<App>>,
    Path(slot): Path<SlotName>,
    Query(at): Query<At>,
) -> Result<Response, ApiError> {
    one_file(app.inside.find(Of::Card(slot)).await?, at).await
}

async fn one_file(content: Content, at: At) -> Result<Response, ApiError> {
    let wanted = at.path.clone();
    let (give, take) = mpsc::channel(QUEUE);
    let (tell, told) = tokio::sync::oneshot::channel();
    let reading = tokio::spawn(blocking(move || {
        content.with_files(at.partition, |files| {
            let path = at.path.as_str();
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
    }));
    match told.await {
        Ok(len) => Ok(download(
            &wanted,
            Some(len),
            Body::from_stream(ReceiverStream::<std::io::Result<Bytes>>::new(take)),
        )),
        // It failed before the first byte: the reason is the answer.
        Err(_) => Err(match reading.await {
            Ok(Err(e)) => e,
            _ => ApiError::invalid("files", "the file could not be read"),
        }),
    }
}

#[derive(Deserialize)]
struct How {
    /// How it is packed: `gz`, `xz`, `zst` or `zip`; not at all otherwise.
    pack: Option<String>,
}

/// The raw image of a release, packed or not; free bytes are zero.
#[utoipa::path(get, path = "/api/v1/releases/{name}/image", params(("pack" = Option<String>, Query)),
    responses((status = 200, content_type = "application/octet-stream")))]
async fn image(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(how): Query<How>,
) -> Result<Response, ApiError> {
    whole(&app, Of::Release(&name), &how).await
}

/// The raw image of a backup, packed or not; what was not in use on its card is zero.
#[utoipa::path(get, path = "/api/v1/backups/{name}/image", params(("pack" = Option<String>, Query)),
    responses((status = 200, content_type = "application/octet-stream")))]
async fn backup_image(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(how): Query<How>,
) -> Result<Response, ApiError> {
    whole(&app, Of::Backup(&name), &how).await
}

async fn whole(app: &App, of: Of<'_>, how: &How) -> Result<Response, ApiError> {
    let packing = Packing::named(how.pack.as_deref())?;
    let content = app.inside.find(of).await?;
    app.inside.refuse_damaged(&content).await?;
    let name = format!("{}.img{}", content.name, packing.ending());
    let len = (packing == Packing::None).then_some(content.len);
    Ok(written(&name, len, move |out| {
        write_image(&content, packing, out)
    }))
}

#[derive(Deserialize)]
struct Which {
    partition: u32,
    #[serde(default)]
    path: String,
    pack: Option<String>,
}

/// The files below a folder of a partition of a release, as a tar archive, packed or not.
#[utoipa::path(get, path = "/api/v1/releases/{name}/archive",
    params(("partition" = u32, Query), ("path" = Option<String>, Query), ("pack" = Option<String>, Query)),
    responses((status = 200, content_type = "application/octet-stream")))]
async fn archive(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(which): Query<Which>,
) -> Result<Response, ApiError> {
    archived(&app, Of::Release(&name), which).await
}

/// The files below a folder of a partition of a backup, as a tar archive, packed or not.
#[utoipa::path(get, path = "/api/v1/backups/{name}/archive",
    params(("partition" = u32, Query), ("path" = Option<String>, Query), ("pack" = Option<String>, Query)),
    responses((status = 200, content_type = "application/octet-stream")))]
async fn backup_archive(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(which): Query<Which>,
) -> Result<Response, ApiError> {
    archived(&app, Of::Backup(&name), which).await
}

async fn archived(app: &App, of: Of<'_>, which: Which) -> Result<Response, ApiError> {
    let packing = Packing::named(which.pack.as_deref())?;
    let content = app.inside.find(of).await?;
    let partition = which.partition;
    let below = match which.path.as_str() {
        "" => "/".to_owned(),
        path => path.to_owned(),
    };
    // A folder that is not there is refused before the first byte.
    let (looked, at) = (content.clone(), below.clone());
    blocking(move || looked.folder(partition, &at).map(|_| ())).await?;
    let name = format!(
        "{}.partition-{partition}.tar{}",
        content.name,
        packing.ending()
    );
    Ok(written(&name, None, move |out| {
        write_archive(&content, partition, &below, packing, out)
    }))
}

/// What would be taken out of a backup before somebody else gets it, and what cannot be known.
#[utoipa::path(get, path = "/api/v1/backups/{name}/sharing", responses((status = 200, body = api::Shared)))]
async fn sharing(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<api::Shared>, ApiError> {
    Ok(Json(app.inside.for_sharing(&name).await?.report))
}

/// The raw image of a backup for somebody else: without the secrets and keys of its device, packed or not.
#[utoipa::path(get, path = "/api/v1/backups/{name}/sharing/image", params(("pack" = Option<String>, Query)),
    responses((status = 200, content_type = "application/octet-stream")))]
async fn shared_image(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(how): Query<How>,
) -> Result<Response, ApiError> {
    let packing = Packing::named(how.pack.as_deref())?;
    let content = app.inside.find(Of::Backup(&name)).await?;
    app.inside.refuse_damaged(&content).await?;
    let shared = app.inside.for_sharing(&name).await?;
    let name = format!("{}.img{}", shared.name(), packing.ending());
    let len = (packing == Packing::None).then_some(shared.bytes());
    Ok(written(&name, len, move |out| shared.write(packing, out)))
}

/// Where the page before ended.
#[derive(Deserialize)]
struct Behind {
    after: Option<String>,
}

/// The versions of a file in some backups of a device, and which of them hold each: the newest, or those behind `after`.
#[utoipa::path(get, path = "/api/v1/devices/{name}/versions",
    params(("partition" = u32, Query), ("path" = String, Query), ("after" = Option<String>, Query)),
    responses((status = 200, body = api::FileVersions)))]
async fn versions(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(at): Query<At>,
    Query(behind): Query<Behind>,
) -> Result<Json<api::FileVersions>, ApiError> {
    let after = behind.after.as_deref();
    let found = app.inside.versions(&name, at.partition, &at.path, after);
    Ok(Json(found.await?))
}

type Pieces = mpsc::Sender<std::io::Result<Bytes>>;

/// Hands what is written on to whoever receives it.
struct Passing {
    give: Pieces,
    waiting: Vec<u8>,
}

impl Write for Passing {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.waiting.extend(bytes);
        if self.waiting.len() >= PIECE {
            self.flush()?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        if self.waiting.is_empty() {
            return Ok(());
        }
        let piece = std::mem::take(&mut self.waiting);
        let sent = self.give.blocking_send(Ok(piece.into()));
        sent.map_err(|_| std::io::Error::other("nobody listens any more"))
    }
}

/// A download of what is written on a thread that may block.
fn written(
    name: &str,
    len: Option<u64>,
    write: impl FnOnce(&mut dyn Write) -> std::io::Result<()> + Send + 'static,
) -> Response {
    let (give, take) = mpsc::channel::<std::io::Result<Bytes>>(QUEUE);
    let shown = name.to_owned();
    tokio::task::spawn_blocking(move || {
        let mut passing = Passing {
            give: give.clone(),
            waiting: Vec::with_capacity(PIECE),
        };
        if let Err(e) = write(&mut passing).and_then(|()| passing.flush()) {
            // Whoever receives it sees only that it broke off.
            tracing::warn!("{shown} was not sent to its end: {e}");
            let _ = give.blocking_send(Err(e));
        }
    });
    let body = Body::from_stream(ReceiverStream::new(take));
    download(&name.replace(' ', "-"), len, body)
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
        Some(len),
        Body::from_stream(ReceiverStream::new(take)),
    ))
}

fn download(name: &str, len: Option<u64>, body: Body) -> Response {
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
        (
            CONTENT_DISPOSITION,
            format!("attachment; filename=\"{plain}\""),
        ),
    ];
    let mut response = (headers, body).into_response();
    if let Some(len) = len {
        response
            .headers_mut()
            .insert(CONTENT_LENGTH, HeaderValue::from(len));
    }
    response
}
