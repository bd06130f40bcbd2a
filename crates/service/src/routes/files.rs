//! What is inside a release or a backup: its files, and the image itself.

use std::io::Write;
use std::sync::Arc;

use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::HeaderValue;
use axum::http::header::{CONTENT_DISPOSITION, CONTENT_LENGTH, CONTENT_TYPE};
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use imagecraft::fs::{self, FileError, NodeKind};
use imagecraft::{Disk, Layout};
use operations::backups::is_there;
use operations::store::manifest_name;
use serde::Deserialize;
use tokio::sync::mpsc;
use tokio_stream::wrappers::ReceiverStream;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use vault::{ManifestDisk, Name};

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
        .routes(routes!(backup_folder))
        .routes(routes!(backup_file))
        .routes(routes!(backup_image))
        .routes(routes!(original))
}

#[derive(Deserialize)]
struct At {
    partition: u32,
    #[serde(default)]
    path: String,
}

fn explain(name: &str, at: &At, error: &FileError) -> ApiError {
    let detail = format!("{name}, partition {}: {error}", at.partition);
    match error {
        FileError::Missing(_) => ApiError::missing(detail),
        _ => ApiError::invalid("files", detail),
    }
}

/// Whose content is asked for.
#[derive(Clone, Copy)]
enum Of {
    Release,
    Backup,
}

/// A content that is kept.
struct Content {
    name: String,
    manifest: Name,
    len: u64,
}

impl Of {
    async fn find(self, app: &App, name: &str) -> Result<Content, ApiError> {
        Ok(match self {
            Self::Release => {
                let release = app.records.release(name).await?;
                Content {
                    manifest: manifest_name(&release.manifest)?,
                    name: release.name,
                    len: release.raw_size as u64,
                }
            }
            Self::Backup => {
                let backup = app.records.backup(name).await?;
                is_there(&backup)?;
                Content {
                    manifest: manifest_name(&backup.manifest)?,
                    name: backup.name,
                    len: backup.card_size as u64,
                }
            }
        })
    }
}

/// Does something with the files of a partition of a content, on a thread that may block.
async fn with_files<T: Send + 'static>(
    app: &Arc<App>,
    of: Of,
    name: &str,
    at: At,
    work: impl FnOnce(&dyn fs::Files, &str) -> Result<T, FileError> + Send + 'static,
) -> Result<T, ApiError> {
    let content = of.find(app, name).await?;
    let app = app.clone();
    let done = tokio::task::spawn_blocking(move || {
        let disk = app.store.disk(content.manifest)?;
        let layout = Layout::survey(&disk)
            .map_err(|e| ApiError::invalid("files", format!("{}: {e}", content.name)))?;
        let partition = layout
            .partitions
            .iter()
            .find(|partition| partition.number == at.partition)
            .ok_or_else(|| {
                ApiError::missing(format!(
                    "{} has no partition {}",
                    content.name, at.partition
                ))
            })?;
        let refuse = |e: FileError| explain(&content.name, &at, &e);
        let window = partition.window(&disk).map_err(|e| refuse(e.into()))?;
        let files = fs::open(window).map_err(refuse)?.ok_or_else(|| {
            ApiError::invalid(
                "files",
                format!(
                    "{}, partition {}: files of its kind of file system are not read",
                    content.name, at.partition
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
    names_in(&app, Of::Release, &name, at).await
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
    names_in(&app, Of::Backup, &name, at).await
}

async fn names_in(
    app: &Arc<App>,
    of: Of,
    name: &str,
    at: At,
) -> Result<Json<Vec<api::FileNode>>, ApiError> {
    let mut nodes = with_files(app, of, name, at, |files, path| files.list(path)).await?;
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
    one_file(app, Of::Release, name, at).await
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
    one_file(app, Of::Backup, name, at).await
}

async fn one_file(app: Arc<App>, of: Of, name: String, at: At) -> Result<Response, ApiError> {
    let wanted = at.path.clone();
    let (give, take) = mpsc::channel(QUEUE);
    let (tell, told) = tokio::sync::oneshot::channel();
    let reading = tokio::spawn(async move {
        with_files(&app, of, &name, at, move |files, path| {
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
    /// How it is packed: `gz`, `xz` or `zst`; not at all otherwise.
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
    whole(&app, Of::Release, &name, how.pack).await
}

/// The raw image of a backup, packed or not; what was not in use on its card is zero.
#[utoipa::path(get, path = "/api/v1/backups/{name}/image", params(("pack" = Option<String>, Query)),
    responses((status = 200, content_type = "application/octet-stream")))]
async fn backup_image(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(how): Query<How>,
) -> Result<Response, ApiError> {
    whole(&app, Of::Backup, &name, how.pack).await
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

/// Writes a disk out from its first byte to its last.
fn write_out(disk: &ManifestDisk, len: u64, out: &mut dyn Write) -> std::io::Result<()> {
    let mut at = 0;
    while at < len {
        let take = (len - at).min(PIECE as u64);
        let piece = disk.read_vec(at, take as usize);
        out.write_all(&piece.map_err(std::io::Error::other)?)?;
        at += take;
    }
    Ok(())
}

async fn whole(
    app: &Arc<App>,
    of: Of,
    name: &str,
    pack: Option<String>,
) -> Result<Response, ApiError> {
    let content = of.find(app, name).await?;
    let ending = match pack.as_deref() {
        None | Some("") => "",
        Some("gz") => ".gz",
        Some("xz") => ".xz",
        Some("zst") => ".zst",
        Some(other) => {
            let detail =
                format!("{other:?} is no way of packing here; say gz, xz or zst, or nothing");
            return Err(ApiError::invalid("bad-value", detail));
        }
    };
    let len = content.len;
    let file_name = format!("{}.img{ending}", content.name.replace(' ', "-"));
    let (give, take) = mpsc::channel::<std::io::Result<Bytes>>(QUEUE);
    let store = app.store.clone();
    tokio::task::spawn_blocking(move || {
        let mut passing = Passing {
            give: give.clone(),
            waiting: Vec::with_capacity(PIECE),
        };
        let written = store
            .disk(content.manifest)
            .map_err(|e| std::io::Error::other(e.detail))
            .and_then(|disk| match ending {
                "" => write_out(&disk, len, &mut passing),
                ".gz" => {
                    let level = flate2::Compression::default();
                    let mut packer = flate2::write::GzEncoder::new(&mut passing, level);
                    write_out(&disk, len, &mut packer)?;
                    packer.finish().map(|_| ())
                }
                ".xz" => {
                    let mut packer = liblzma::write::XzEncoder::new(&mut passing, 3);
                    write_out(&disk, len, &mut packer)?;
                    packer.finish().map(|_| ())
                }
                _ => {
                    let mut packer = zstd::stream::write::Encoder::new(&mut passing, 3)?;
                    packer.include_checksum(true)?;
                    write_out(&disk, len, &mut packer)?;
                    packer.finish().map(|_| ())
                }
            })
            .and_then(|()| passing.flush());
        if let Err(e) = written {
            let _ = give.blocking_send(Err(e));
        }
    });
    let body = Body::from_stream(ReceiverStream::new(take));
    Ok(download(&file_name, ending.is_empty().then_some(len), body))
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
