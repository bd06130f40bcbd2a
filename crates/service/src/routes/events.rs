//! Events: the list, and the stream of server-sent events.
//!
//! Named `event`: something recorded, with its number as id, in commit order and never missed:
//! after a reconnect the stream goes on behind `Last-Event-ID`. Named `slots` and `progress`: how
//! things stand now, without id.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::{Query, State};
use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::{Extension, Json};
use futures::Stream;
use serde::Deserialize;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::mpsc::{Sender, channel};
use tokio_stream::wrappers::ReceiverStream;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;
use crate::error::ApiError;
use crate::serve::STREAM;
use crate::shares::Share;
use operations::news::News;
use operations::people::{Caller, How};
use operations::shown;

const PAGE: i64 = 100;
/// How often it is made sure that whoever listens may still.
const SURE: Duration = Duration::from_secs(5);
/// Streams that one person has open at once: a browser has one a window. A newer one ends the oldest.
const MOST_EACH: usize = 16;
/// How long the reader of a stream that was ended by a newer one waits before it asks again.
const REPLACED: Duration = Duration::from_secs(60);

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list))
        .routes(routes!(stream))
}

#[derive(Deserialize)]
struct Before {
    before: Option<i64>,
}

/// What happened, newest first.
#[utoipa::path(get, path = "/api/v1/activity", params(("before" = Option<i64>, Query)),
    responses((status = 200, body = api::Events)))]
async fn list(
    State(app): State<Arc<App>>,
    Query(Before { before }): Query<Before>,
) -> Result<Json<api::Events>, ApiError> {
    let rows = app.records.events(before, PAGE).await?;
    let next = (rows.len() as i64 == PAGE)
        .then(|| rows.last().map(|row| row.id))
        .flatten();
    Ok(Json(api::Events {
        items: rows.into_iter().map(shown::event).collect(),
        next,
    }))
}

/// Changes as they happen, as server-sent events.
#[utoipa::path(get, path = "/api/v1/events",
    responses((status = 200, content_type = "text/event-stream", body = api::Event)))]
async fn stream(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    headers: HeaderMap,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, ApiError> {
    let permit = app.streams.clone().try_acquire_owned();
    let permit = permit.map_err(|_| ApiError::busy("too many streams of events are open"))?;
    let mut share = caller
        .person
        .map(|person| app.streams_of.take(person, MOST_EACH));
    // Listening begins before the start is settled, so that nothing falls between.
    let mut news = app.events.bus.listen();
    let given = headers
        .get("last-event-id")
        .and_then(|id| id.to_str().ok()?.parse().ok());
    let mut last = match given {
        Some(id) => id,
        None => app.records.last_event().await?,
    };
    let (send, receive) = channel(64);
    tokio::spawn(async move {
        let told = async {
            tell_slots(&app, &send).await?;
            last = tell_events(&app, &send, last).await?;
            let mut again = tokio::time::interval(SURE);
            loop {
                let heard = tokio::select! {
                    heard = news.recv() => heard,
                    // The reader is gone: its place is free at once, whether or not there is news.
                    () = send.closed() => return None,
                    () = replaced(&mut share) => {
                        let last = Event::default().event("replaced").retry(REPLACED).data("");
                        return send.send(Ok(last)).await.ok();
                    }
                    _ = again.tick() => {
                        if !still_good(&app, &caller).await {
                            return None;
                        }
                        continue;
                    }
                };
                match heard {
                    Ok(News::Events) => last = tell_events(&app, &send, last).await?,
                    Ok(News::Slots(slots)) => tell(&send, "slots", &slots).await?,
                    Ok(News::Progress(progress)) => tell(&send, "progress", &progress).await?,
                    Err(RecvError::Lagged(_)) => {
                        tell_slots(&app, &send).await?;
                        last = tell_events(&app, &send, last).await?;
                    }
                    Err(RecvError::Closed) => return Some(()),
                }
                if app.jobs.is_closing() {
                    return Some(());
                }
            }
        };
        // `None`: the listener went away.
        let _: Result<Option<()>, _> = tokio::time::timeout(STREAM, told).await;
        drop((permit, share));
    });
    Ok(Sse::new(ReceiverStream::new(receive)).keep_alive(KeepAlive::default()))
}

/// Returns when a newer stream of the same person took the place of this one.
async fn replaced(share: &mut Option<Share>) {
    match share {
        Some(share) => share.ended().await,
        None => std::future::pending().await,
    }
}

/// Whether whoever listens may still: their pass may have been ended meanwhile. Where the records are away, nothing new
/// is told anyway.
async fn still_good(app: &App, caller: &Caller) -> bool {
    let Some(pass) = caller.pass else {
        return true;
    };
    // A station's pass is nobody's, whoever acts there.
    let whose = caller.person.filter(|_| caller.how != How::Station);
    match app.records.passes(whose).await {
        Ok(passes) => passes.iter().any(|one| one.id == pass),
        Err(_) => true,
    }
}

type Line = Sender<Result<Event, Infallible>>;

async fn tell(send: &Line, name: &str, what: &impl serde::Serialize) -> Option<()> {
    let event = Event::default().event(name).json_data(what).ok()?;
    send.send(Ok(event)).await.ok()
}

async fn tell_slots(app: &App, send: &Line) -> Option<()> {
    tell(send, "slots", &app.slots.views()).await
}

/// Sends every event after `last` and gives the number of the newest.
async fn tell_events(app: &App, send: &Line, mut last: i64) -> Option<i64> {
    loop {
        let rows = app.records.events_after(last, PAGE).await.ok()?;
        let whole = rows.len() as i64 == PAGE;
        for row in rows {
            last = row.id;
            let event = Event::default().event("event").id(row.id.to_string());
            send.send(Ok(event.json_data(shown::event(row)).ok()?))
                .await
                .ok()?;
        }
        if !whole {
            return Some(last);
        }
    }
}
