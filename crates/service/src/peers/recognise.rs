//! Requests that another service passed on.

use std::sync::Arc;

use axum::extract::{Request, State};
use axum::http::{HeaderName, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use super::{Forwarded, FromPeer, HERE, ORIGIN, TOKEN};
use crate::app::App;
use crate::error::ApiError;

/// Takes the word of other services for where a request comes from, and nobody else's.
pub async fn recognise(State(app): State<Arc<App>>, mut request: Request, next: Next) -> Response {
    let headers = request.headers();
    if !headers.contains_key(TOKEN) {
        // Nobody but a service of the team says where a request comes from; what strangers say of it goes no further.
        for name in [ORIGIN, HERE] {
            request.headers_mut().remove(name);
        }
        return next.run(request).await;
    }
    let known = app
        .peers
        .as_ref()
        .is_some_and(|peers| peers.is_from_peer(headers));
    if !known {
        let detail = "this is not a service of the team";
        return ApiError::new(StatusCode::FORBIDDEN, "not-allowed", detail).into_response();
    }
    let told = |name: HeaderName| Some(headers.get(name)?.to_str().ok()?.to_owned());
    let forwarded = told(ORIGIN).map(|origin| Forwarded {
        origin,
        here: told(HERE).is_some_and(|here| here == "yes"),
    });
    for name in [TOKEN, ORIGIN, HERE] {
        request.headers_mut().remove(name);
    }
    request.extensions_mut().insert(FromPeer);
    if let Some(forwarded) = forwarded {
        request.extensions_mut().insert(forwarded);
    }
    next.run(request).await
}
