//! Benches on other computers: who they are, and the connection over which each of them is worked at.

use std::sync::Arc;

use api::{
    BENCH_LINE, LINE_ATTEMPT, LINE_PROTOCOL, LINE_SEEN, LINE_SESSION, LINE_START, LINE_VERSION,
};
use axum::extract::{Path, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use farbench::message::VERSION;
use farbench::service::Coming;
use hyper_util::rt::TokioIo;
use operations::people::Caller;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, add))
        .routes(routes!(renew))
        .routes(routes!(remove))
        .routes(routes!(enrol))
        .routes(routes!(line))
}

/// The benches on other computers, and whether each is connected.
#[utoipa::path(get, path = "/api/v1/benches", responses((status = 200, body = Vec<api::FarBench>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::FarBench>>, ApiError> {
    Ok(Json(app.slots.benches().list().await?))
}

/// Adds a bench; the code in the answer makes a computer that bench, once.
#[utoipa::path(post, path = "/api/v1/benches", request_body = api::NewBench,
    responses((status = 201, body = api::BenchCode)))]
async fn add(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::NewBench>,
) -> Result<(StatusCode, Json<api::BenchCode>), ApiError> {
    let code = app.slots.benches().add(new.name.trim(), &operator).await?;
    let summary = format!("{} may become a bench", code.name);
    app.events
        .note(&operator, "bench.added", &code.name, &summary)
        .await?;
    Ok((StatusCode::CREATED, Json(code)))
}

/// A new code for a bench: another computer takes its place as soon as that is used.
#[utoipa::path(post, path = "/api/v1/benches/{name}/code", responses((status = 200, body = api::BenchCode)))]
async fn renew(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<api::BenchCode>, ApiError> {
    Ok(Json(app.slots.benches().renew(&name).await?))
}

/// Removes a bench: its computer is let in no more. What was recorded of its slots stays.
#[utoipa::path(delete, path = "/api/v1/benches/{name}", responses((status = 204)))]
async fn remove(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let busy = app.slots.refuse_while_busy_at(Some(&name)).is_err();
    app.slots.benches().remove(&name).await?;
    let summary = match busy {
        true => format!("{name} is no bench any more; what was under way there was ended"),
        false => format!("{name} is no bench any more"),
    };
    app.events
        .note(&operator, "bench.removed", &name, &summary)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Makes a computer the bench that a code was made for; what it shows from then on is in the answer, and nowhere else.
#[utoipa::path(post, path = "/api/v1/enrol", request_body = api::Enrolment,
    responses((status = 200, body = api::Enrolled)))]
async fn enrol(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Given(enrolment): Given<api::Enrolment>,
) -> Result<Json<api::Enrolled>, ApiError> {
    let enrolled = app.slots.benches().enrol(&enrolment.code);
    let enrolled = app.people.try_code(&caller.origin, enrolled).await?;
    let summary = format!(
        "The computer at {} is bench {}",
        caller.origin, enrolled.name
    );
    app.events
        .note(&enrolled.name, "bench.enrolled", &enrolled.name, &summary)
        .await?;
    Ok(Json(enrolled))
}

fn told<'a>(headers: &'a HeaderMap, name: &str) -> &'a str {
    headers
        .get(name)
        .and_then(|value| value.to_str().ok())
        .unwrap_or_default()
}

/// The connection of a bench: an upgrade to `duplicarium-bench`, over which `docs/bench-protocol.md` is spoken. The
/// bench shows its credential as a bearer token.
#[utoipa::path(get, path = "/api/v1/bench-line", responses((status = 101)))]
async fn line(State(app): State<Arc<App>>, mut request: Request) -> Result<Response, ApiError> {
    let upgrade = request
        .extensions_mut()
        .remove::<hyper::upgrade::OnUpgrade>();
    let headers = request.headers();
    let wanted = told(headers, "upgrade").eq_ignore_ascii_case(BENCH_LINE);
    let Some(upgrade) = upgrade.filter(|_| wanted) else {
        let detail = "this is the connection of a bench; duplicarium-bench makes it";
        return Err(ApiError::invalid("no-upgrade", detail));
    };
    let version = told(headers, LINE_VERSION);
    let protocol = told(headers, LINE_PROTOCOL);
    if protocol != VERSION.to_string() {
        let detail = format!(
            "the program of this bench is version {version} and speaks protocol {protocol}, this service is version {} \
             and speaks {VERSION}; install duplicarium-bench of the service's version there. Nothing was changed",
            env!("CARGO_PKG_VERSION")
        );
        return Err(ApiError::conflict("other-version", detail));
    }
    let credential = told(headers, "authorization")
        .strip_prefix("Bearer ")
        .unwrap_or_default()
        .trim()
        .to_owned();
    let number = |name: &str| told(headers, name).parse().unwrap_or(0);
    let coming = Coming {
        session: told(headers, LINE_SESSION).into(),
        seen: number(LINE_SEEN),
        start: told(headers, LINE_START).into(),
        attempt: number(LINE_ATTEMPT),
        version: version.into(),
    };
    let (bench, line) = app.slots.benches().come(&credential, coming).await?;
    tracing::info!(bench = bench.name(), "a bench is connected");
    let answer = [
        (LINE_SESSION, line.session.clone()),
        (LINE_SEEN, line.seen.to_string()),
    ];
    tokio::spawn(async move {
        match upgrade.await {
            Ok(io) => line.run(TokioIo::new(io)).await,
            Err(e) => tracing::debug!("connection of bench {}: {e}", bench.name()),
        }
        tracing::info!(bench = bench.name(), "the connection of a bench ended");
    });
    let mut response = StatusCode::SWITCHING_PROTOCOLS.into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONNECTION, HeaderValue::from_static("upgrade"));
    headers.insert(header::UPGRADE, HeaderValue::from_static(BENCH_LINE));
    for (name, value) in answer {
        if let Ok(value) = HeaderValue::from_str(&value) {
            headers.insert(name, value);
        }
    }
    Ok(response)
}
