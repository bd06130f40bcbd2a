//! A number for each request, that stands in the answer, in the log and in each refusal: so that what somebody saw can
//! be found again.

use axum::extract::Request;
use axum::http::{HeaderMap, HeaderName, HeaderValue};
use axum::middleware::Next;
use axum::response::Response;
use tracing::Instrument;

/// The header that carries it, both ways.
const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");
/// Longest one that is taken over from whoever asks.
const LONGEST: usize = 64;

tokio::task_local! {
    static CURRENT: String;
}

/// The number of the request that is being answered.
pub fn current() -> Option<String> {
    CURRENT.try_with(Clone::clone).ok()
}

/// One that a proxy or program gave, if it is a plain word; else a new one.
fn number(headers: &HeaderMap) -> String {
    let given = headers
        .get(REQUEST_ID)
        .and_then(|given| given.to_str().ok());
    let plain = |text: &&str| {
        (1..=LONGEST).contains(&text.len())
            && text
                .bytes()
                .all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b'.'))
    };
    if let Some(given) = given.filter(plain) {
        return given.to_owned();
    }
    let mut raw = [0; 8];
    // Without chance it is no number to find anything by, and nothing else depends on it.
    let _ = getrandom::fill(&mut raw);
    hex::encode(raw)
}

/// Numbers a request and what is logged while it is answered.
pub async fn number_it(request: Request, next: Next) -> Response {
    let id = number(request.headers());
    let span = tracing::info_span!("request", id = %id);
    let (method, path) = (request.method().clone(), request.uri().path().to_owned());
    let begun = std::time::Instant::now();
    let answered = async {
        let response = next.run(request).await;
        let (status, took) = (response.status().as_u16(), begun.elapsed());
        tracing::debug!(%method, path, status, ?took, "answered");
        response
    };
    let mut response = CURRENT.scope(id.clone(), answered.instrument(span)).await;
    if let Ok(value) = HeaderValue::from_str(&id) {
        response.headers_mut().insert(REQUEST_ID, value);
    }
    response
}
