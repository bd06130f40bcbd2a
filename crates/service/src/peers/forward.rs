//! Passes requests on to the service that has what they are about.

use std::sync::Arc;
use std::time::Duration;

use anyhow::Result;
use api::{BENCH_LINE, Belongs, SlotName, belongs};
use axum::body::{Body, Bytes};
use axum::extract::{MatchedPath, Request, State};
use axum::http::{HeaderMap, HeaderName, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use hyper_util::rt::TokioIo;
use operations::refusal::Refusal;
use operations::store::giver_of;
use percent_encoding::percent_decode_str;
use records::services::Service;
use serde_json::Value;

use super::{Forwarded, HERE, ORIGIN, Peers, TOKEN, away};
use crate::admit::{From, Peer};
use crate::app::App;
use crate::error::ApiError;
use crate::{guard, request};

/// How long another service may take before it begins to answer.
const PATIENCE: Duration = Duration::from_secs(90);
/// Heads that are about one connection, or about who asks whom.
const OF_CONNECTION: [HeaderName; 8] = [
    header::HOST,
    header::ORIGIN,
    header::CONNECTION,
    header::UPGRADE,
    header::CONTENT_LENGTH,
    header::TRANSFER_ENCODING,
    header::TE,
    header::TRAILER,
];

/// Passes a request on that another service has to answer; answers all others here.
pub async fn forward(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let Some(peers) = &app.peers else {
        return next.run(request).await;
    };
    // What was passed on once is answered, as far as it can be: services that do not agree on who has something do not
    // send it to and fro.
    if request.extensions().get::<Forwarded>().is_some() {
        return next.run(request).await;
    }
    let path = request.extensions().get::<MatchedPath>();
    let path = path
        .map(|path| path.as_str().to_owned())
        .unwrap_or_default();
    let kind = belongs(request.method().as_str(), &path);
    if kind == Belongs::Anywhere {
        return next.run(request).await;
    }
    let (parts, body) = request.into_parts();
    let Ok(bytes) = axum::body::to_bytes(body, api::PART + 1024).await else {
        let detail = "the request is too long, or was cut off";
        return ApiError::invalid("bad-request", detail).into_response();
    };
    let asked = Asked {
        pattern: &path,
        path: parts.uri.path(),
        query: parts.uri.query().unwrap_or_default(),
        headers: &parts.headers,
        body: &bytes,
    };
    let to = match whose(&app, peers, kind, &parts.method, &asked).await {
        Ok(to) => to,
        Err(refusal) => return ApiError::from(refusal).into_response(),
    };
    let request = Request::from_parts(parts, Body::from(bytes.clone()));
    match to {
        None => next.run(request).await,
        Some(to) if kind == Belongs::BenchLine => tunnel(&app, peers, &to, request).await,
        Some(to) => pass_on(&app, peers, &to, request, bytes).await,
    }
}

/// What of a request says what it is about.
struct Asked<'a> {
    pattern: &'a str,
    path: &'a str,
    query: &'a str,
    headers: &'a HeaderMap,
    body: &'a [u8],
}

impl Asked<'_> {
    /// What stands in the path where the pattern has a name.
    fn in_path(&self) -> Option<String> {
        let mut pairs = self.pattern.split('/').zip(self.path.split('/'));
        let (_, text) = pairs.find(|(part, _)| part.starts_with('{'))?;
        Some(percent_decode_str(text).decode_utf8().ok()?.into_owned())
    }

    fn in_body(&self, field: &str) -> Option<Value> {
        match serde_json::from_slice(self.body).ok()? {
            Value::Object(mut fields) => fields.remove(field),
            _ => None,
        }
    }

    fn in_query(&self, field: &str) -> Option<String> {
        let pairs = self
            .query
            .split('&')
            .filter_map(|pair| pair.split_once('='));
        let (_, text) = pairs.into_iter().find(|(name, _)| *name == field)?;
        let text = text.replace('+', " ");
        Some(percent_decode_str(&text).decode_utf8().ok()?.into_owned())
    }
}

/// The first of the others that says yes.
async fn who_has(
    peers: &Peers,
    path: &str,
    about: &(impl serde::Serialize + Sync),
) -> std::result::Result<Option<Service>, Refusal> {
    for other in peers.others().await? {
        // One that does not answer has nothing now.
        if let Ok(true) = peers.ask(&other, Method::POST, path, Some(about)).await {
            return Ok(Some(other));
        }
    }
    Ok(None)
}

/// The other service that has what a request is about; nothing where this one has, or nobody.
async fn whose(
    app: &App,
    peers: &Peers,
    kind: Belongs,
    method: &Method,
    asked: &Asked<'_>,
) -> std::result::Result<Option<Service>, Refusal> {
    match kind {
        Belongs::Anywhere => Ok(None),
        Belongs::SlotInPath | Belongs::SlotInBody => {
            let slot: Option<SlotName> = match kind {
                Belongs::SlotInPath => asked.in_path().and_then(|slot| slot.parse().ok()),
                _ => asked
                    .in_body("slot")
                    .and_then(|slot| serde_json::from_value(slot).ok()),
            };
            match slot {
                // It is refused where it came.
                None => Ok(None),
                Some(slot) => of_bench(app, peers, slot.bench()).await,
            }
        }
        Belongs::PlanInPath | Belongs::UploadInPath | Belongs::UploadInBody => {
            let id = match kind {
                Belongs::UploadInBody => {
                    let upload = asked.in_body("upload");
                    upload.and_then(|upload| Some(upload.as_str()?.to_owned()))
                }
                _ => asked.in_path(),
            };
            match id.as_deref().and_then(giver_of) {
                Some(giver) => peers.other(giver).await,
                None => Ok(None),
            }
        }
        Belongs::BenchInQuery => of_bench(app, peers, asked.in_query("bench").as_deref()).await,
        Belongs::BenchInPath => of_bench(app, peers, asked.in_path().as_deref()).await,
        Belongs::BenchLine => {
            let shown = asked.headers.get(header::AUTHORIZATION);
            let shown = shown.and_then(|value| value.to_str().ok()?.strip_prefix("Bearer "));
            let bench = app.slots.benches().whose(shown.unwrap_or_default().trim());
            match bench.await? {
                Some((bench, _)) => of_bench(app, peers, Some(&bench)).await,
                None => Ok(None),
            }
        }
        Belongs::JobInPath => {
            let Some(job) = asked.in_path().and_then(|job| job.parse().ok()) else {
                return Ok(None);
            };
            // What runs here is stopped here, also while the records are away.
            if app.jobs.is_here(job) {
                return Ok(None);
            }
            match app.records.job_elsewhere(job).await? {
                Some(number) => peers.other(number).await,
                None => Ok(None),
            }
        }
        Belongs::Original => {
            let name = asked.in_path().unwrap_or_default();
            let release = app.records.release(&name).await?;
            let digest = hex::encode(&release.packed_sha256);
            if !release.kept || app.store.originals.join(&digest).exists() {
                return Ok(None);
            }
            match who_has(peers, "/peers/originals", &digest).await? {
                None => Err(Refusal::busy(
                    "the service that keeps this file is not there now; it has it when it is back",
                )),
                other => Ok(other),
            }
        }
        Belongs::Comparison => {
            let pair = (
                asked.in_query("a").unwrap_or_default(),
                asked.in_query("b").unwrap_or_default(),
            );
            match app.inside.compared(&pair.0, &pair.1).await {
                Err(refusal) if refusal.code == "not-compared" => {
                    who_has(peers, "/peers/comparisons", &pair).await
                }
                _ => Ok(None),
            }
        }
        Belongs::Leader => {
            let all = app.records.services().await?;
            let leader = all.into_iter().find(|service| service.leads);
            match leader {
                Some(leader) if leader.number == peers.number => Ok(None),
                None if method != Method::GET => Err(Refusal::busy(
                    "the service that looks after this has ended, and another one takes its place; try again in a moment",
                )),
                other => Ok(other),
            }
        }
    }
}

/// The other service that a bench is connected to; where none is named, the one that has the slots of its own computer.
async fn of_bench(
    app: &App,
    peers: &Peers,
    bench: Option<&str>,
) -> std::result::Result<Option<Service>, Refusal> {
    match bench {
        None if app.own_slots => Ok(None),
        None => {
            let others = peers.others().await?;
            Ok(others.into_iter().find(|service| service.own_slots))
        }
        Some(bench) if app.slots.benches().has(bench) => Ok(None),
        Some(bench) => match app.records.bench_elsewhere(bench).await? {
            Some(number) => peers.other(number).await,
            None => Ok(None),
        },
    }
}

/// A request to another service as it came here, but for what is about the connection.
fn passed(
    app: &App,
    peers: &Peers,
    to: &Service,
    request: &Request,
) -> Result<reqwest::RequestBuilder> {
    let path = request.uri().path_and_query();
    let path = path.map_or("/", |path| path.as_str());
    let mut again = peers.request(to, request.method().clone(), path)?;
    for (name, value) in request.headers() {
        let of_services = [ORIGIN, HERE, TOKEN].contains(name);
        if !of_services
            && !OF_CONNECTION.contains(name)
            && !name.as_str().starts_with("x-forwarded")
        {
            again = again.header(name, value);
        }
    }
    let peer = request.extensions().get::<Peer>().copied();
    let From { origin, here } = From::of(app, &guard::headers_of(request), peer);
    again = again
        .header(ORIGIN, origin)
        .header(HERE, if here { "yes" } else { "no" });
    Ok(match request::current() {
        Some(id) => again.header("x-request-id", id),
        None => again,
    })
}

/// The heads of an answer, as they go on to whoever asked.
fn heads(answer: &reqwest::Response) -> HeaderMap {
    let mut heads = answer.headers().clone();
    for name in OF_CONNECTION {
        heads.remove(name);
    }
    heads
}

async fn send(again: Result<reqwest::RequestBuilder>) -> Result<reqwest::Response> {
    Ok(tokio::time::timeout(PATIENCE, again?.send()).await??)
}

async fn pass_on(
    app: &App,
    peers: &Peers,
    to: &Service,
    request: Request,
    body: Bytes,
) -> Response {
    let again = passed(app, peers, to, &request);
    match send(again.map(|again| again.body(body))).await {
        Ok(answer) => {
            let (status, heads) = (answer.status(), heads(&answer));
            let mut response = Body::from_stream(answer.bytes_stream()).into_response();
            *response.status_mut() = status;
            *response.headers_mut() = heads;
            response
        }
        Err(e) => ApiError::from(away(to, &e)).into_response(),
    }
}

/// Connects a bench with the service that has its session.
async fn tunnel(app: &App, peers: &Peers, to: &Service, mut request: Request) -> Response {
    let upgrade = request
        .extensions_mut()
        .remove::<hyper::upgrade::OnUpgrade>();
    let Some(upgrade) = upgrade else {
        let detail = "this is the connection of a bench; duplicarium-bench makes it";
        return ApiError::invalid("no-upgrade", detail).into_response();
    };
    let again = passed(app, peers, to, &request).map(|again| {
        again
            .header(header::CONNECTION, "upgrade")
            .header(header::UPGRADE, BENCH_LINE)
    });
    let answer = match send(again).await {
        Ok(answer) => answer,
        Err(e) => return ApiError::from(away(to, &e)).into_response(),
    };
    let (status, mut heads) = (answer.status(), heads(&answer));
    if status != StatusCode::SWITCHING_PROTOCOLS {
        let mut response = Body::from_stream(answer.bytes_stream()).into_response();
        *response.status_mut() = status;
        *response.headers_mut() = heads;
        return response;
    }
    let number = to.number;
    tokio::spawn(async move {
        let both = async {
            let mut there = answer.upgrade().await?;
            let mut here = TokioIo::new(upgrade.await?);
            tokio::io::copy_bidirectional(&mut here, &mut there).await?;
            anyhow::Ok(())
        };
        if let Err(e) = both.await {
            tracing::debug!(service = number, "the connection of a bench: {e:#}");
        }
    });
    heads.insert(
        header::CONNECTION,
        header::HeaderValue::from_static("upgrade"),
    );
    heads.insert(
        header::UPGRADE,
        header::HeaderValue::from_static(BENCH_LINE),
    );
    let mut response = status.into_response();
    *response.headers_mut() = heads;
    response
}
