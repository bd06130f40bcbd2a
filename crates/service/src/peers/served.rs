//! What other services ask of this one. Nobody else may: these addresses stand in no document.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use api::PeerNews;
use axum::body::{Body, Bytes};
use axum::extract::{DefaultBodyLimit, Path, Request, State};
use axum::http::StatusCode;
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use operations::news::News;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::mpsc::{Sender, channel};
use tokio_stream::wrappers::ReceiverStream;
use vault::{Name, SegmentId};

use super::FromPeer;
use crate::app::App;
use crate::error::ApiError;

/// How often something is said, also where nothing happens.
const EVERY: Duration = Duration::from_secs(2);
/// Longest list that is taken, in bytes.
const LIST: usize = 8 << 20;

/// The addresses for other services.
pub fn router(app: Arc<App>) -> Router<Arc<App>> {
    Router::new()
        .route("/peers/news", get(news))
        .route("/peers/leaving", get(leaving))
        .route("/peers/rounds/{round}", post(begin).delete(end))
        .route("/peers/rounds/{round}/segments", post(give_up))
        .route("/peers/damaged", post(damaged))
        .route("/peers/originals", post(has_original))
        .route("/peers/comparisons", post(has_comparison))
        .layer(DefaultBodyLimit::max(LIST))
        .layer(axum::middleware::from_fn_with_state(app, only_peers))
}

async fn only_peers(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    match request.extensions().get::<FromPeer>() {
        Some(FromPeer) if app.peers.is_some() => next.run(request).await,
        _ => ApiError::missing("there is nothing here").into_response(),
    }
}

/// What happens here, a line each, for as long as the other listens.
async fn news(State(app): State<Arc<App>>) -> Response {
    let (send, receive) = channel::<Result<Bytes, Infallible>>(64);
    let mut news = app.events.bus.listen();
    tokio::spawn(async move {
        let told = async {
            tell_slots(&app, &send).await?;
            let mut again = tokio::time::interval(EVERY);
            loop {
                tokio::select! {
                    heard = news.recv() => match heard {
                        Ok(News::Slots(_)) | Err(RecvError::Lagged(_)) => tell_slots(&app, &send).await?,
                        Ok(News::Progress(progress)) if app.jobs.is_here(progress.job) => {
                            tell(&send, &PeerNews::Progress(progress)).await?;
                        }
                        Ok(_) => {}
                        Err(RecvError::Closed) => return Some(()),
                    },
                    _ = again.tick() => tell_slots(&app, &send).await?,
                }
                if app.jobs.is_closing() && app.jobs.is_idle() {
                    return Some(());
                }
            }
        };
        // `None`: the other went away.
        let _: Option<()> = told.await;
    });
    Body::from_stream(ReceiverStream::new(receive)).into_response()
}

async fn tell(send: &Sender<Result<Bytes, Infallible>>, what: &PeerNews) -> Option<()> {
    let mut line = serde_json::to_vec(what).ok()?;
    line.push(b'\n');
    send.send(Ok(line.into())).await.ok()
}

async fn tell_slots(app: &App, send: &Sender<Result<Bytes, Infallible>>) -> Option<()> {
    // Where the records are away, slots are told all the same.
    let benches = app.slots.benches().connected_here().await;
    let news = PeerNews::Slots(app.slots.own_views(), benches.unwrap_or_default());
    tell(send, &news).await
}

async fn leaving(State(app): State<Arc<App>>) -> Json<Vec<String>> {
    let leaving = app.store.vault.leaving();
    Json(leaving.iter().map(ToString::to_string).collect())
}

async fn begin(
    State(app): State<Arc<App>>,
    Path(round): Path<String>,
) -> Result<Json<bool>, ApiError> {
    match app.store.vault.begin_for_another(&round) {
        true => Ok(Json(true)),
        false => Err(ApiError::conflict("tidies", "this service tidies itself")),
    }
}

async fn give_up(
    State(app): State<Arc<App>>,
    Path(round): Path<String>,
    Json(segments): Json<Vec<String>>,
) -> Json<Vec<String>> {
    let segments: Vec<_> = segments.iter().map(|name| SegmentId::named(name)).collect();
    let stay = app.store.vault.give_up_for_another(&round, &segments);
    Json(stay.iter().map(ToString::to_string).collect())
}

async fn end(State(app): State<Arc<App>>, Path(round): Path<String>) -> StatusCode {
    app.store.vault.end_for_another(&round);
    StatusCode::NO_CONTENT
}

/// Whether the packed file of this digest is kept here.
async fn has_original(State(app): State<Arc<App>>, Json(digest): Json<String>) -> Json<bool> {
    let plain = !digest.is_empty() && digest.bytes().all(|byte| byte.is_ascii_hexdigit());
    Json(plain && app.store.originals.join(digest).exists())
}

/// Whether two contents were compared here.
async fn has_comparison(
    State(app): State<Arc<App>>,
    Json((a, b)): Json<(String, String)>,
) -> Json<bool> {
    Json(app.inside.compared(&a, &b).await.is_ok())
}

async fn damaged(State(app): State<Arc<App>>, Json(names): Json<Vec<String>>) -> Json<bool> {
    let names = names.iter().filter_map(|name| {
        let raw: [u8; 32] = hex::decode(name).ok()?.try_into().ok()?;
        Some(Name(raw))
    });
    let names: Vec<_> = names.collect();
    app.store.vault.forget_damaged(&names);
    Json(true)
}
