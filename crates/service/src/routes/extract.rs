//! What handlers take out of requests.

use std::sync::Arc;

use axum::Json;
use axum::body::Body;
use axum::extract::{FromRequest, FromRequestParts, Request, State};
use axum::http::request::Parts;
use axum::http::{Method, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use operations::people::Caller;
use serde::de::DeserializeOwned;

use crate::app::App;
use crate::error::ApiError;

/// Who acts, by the name that the records keep.
pub struct Operator(pub String);

impl<S: Send + Sync> FromRequestParts<S> for Operator {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ApiError> {
        let caller = parts.extensions.get::<Caller>();
        let known = caller.filter(|caller| !caller.name.is_empty());
        // Where nobody needs to be known: a board that says hello.
        Ok(Self(known.map_or_else(
            || "nobody".to_owned(),
            |caller| caller.name.clone(),
        )))
    }
}

/// The caller's key for work that must not start twice, bound to what is asked under it.
pub struct RequestKey(pub Option<records::jobs::RequestKey>);

impl<S: Send + Sync> FromRequestParts<S> for RequestKey {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ApiError> {
        Ok(Self(parts.extensions.get().cloned()))
    }
}

/// Answers a request that comes again under its key with the job that the first one started, whatever became of what it
/// was about since. Requests under one key come in one after the other; the key is bound to who asks, route and body.
pub async fn once(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let value = request.headers().get(api::REQUEST_KEY);
    let Some(value) = value.filter(|_| request.method() == Method::POST) else {
        return next.run(request).await;
    };
    let key = match value.to_str() {
        Ok(key) if (1..=128).contains(&key.len()) => key.to_owned(),
        _ => {
            let detail = "an Idempotency-Key takes 1 to 128 plain characters";
            return ApiError::invalid("bad-key", detail).into_response();
        }
    };
    let (mut parts, body) = request.into_parts();
    let Ok(body) = axum::body::to_bytes(body, api::PART).await else {
        let detail = "the request is too long, or was cut off";
        return ApiError::invalid("bad-request", detail).into_response();
    };
    let name = parts.extensions.get::<Caller>().map(|caller| &caller.name);
    let mut hasher = blake3::Hasher::new();
    for part in [name.map_or("", |name| name.as_str()), parts.uri.path()] {
        hasher.update(part.as_bytes());
        hasher.update(&[0]);
    }
    hasher.update(&body);
    let bound = records::jobs::RequestKey {
        key,
        digest: hasher.finalize().as_bytes().to_vec(),
    };
    let _turn = app.turns.of(&bound.key).await;
    match started(&app, &bound).await {
        Ok(Some(job)) => return (StatusCode::ACCEPTED, Json(job)).into_response(),
        Ok(None) => {}
        Err(refusal) => return refusal.into_response(),
    }
    parts.extensions.insert(bound);
    next.run(Request::from_parts(parts, Body::from(body))).await
}

/// The job that was started under a key.
async fn started(app: &App, key: &records::jobs::RequestKey) -> Result<Option<api::Job>, ApiError> {
    match app.records.job_of_request(key).await? {
        Some(job) => Ok(Some(app.jobs.show(job).await?)),
        None => Ok(None),
    }
}

/// A JSON body; what cannot be understood is refused with the reason.
pub struct Given<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Given<T> {
    type Rejection = ApiError;

    async fn from_request(request: Request, state: &S) -> Result<Self, ApiError> {
        let given = Json::from_request(request, state).await;
        given
            .map(|Json(given)| Self(given))
            .map_err(|e| ApiError::invalid("bad-request", e.body_text()))
    }
}

/// Rows of a page where the request does not say how many.
const USUAL: u32 = 100;

/// Which page a request asks for, in which order.
pub fn asked(page: api::Paging) -> records::lists::Asked {
    records::lists::Asked {
        after: page.after,
        limit: page.limit.unwrap_or(USUAL).into(),
        sort: page.sort,
        descending: page.descending.unwrap_or(false),
    }
}
