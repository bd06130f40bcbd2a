//! Keeps web pages of others away. Until somebody belongs to the team the service trusts whoever reaches it on
//! loopback; a browser on this computer reaches it too, on behalf of any page it shows.

use std::sync::Arc;

use axum::extract::{Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::app::App;
use crate::config::Net;
use crate::error::ApiError;

/// Refuses requests under another host name (a name that was made to lead here), and requests
/// that a page of another origin has caused.
pub async fn guard(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let interface = request.uri().path().starts_with("/api");
    let response = match check(&app.net, &headers_of(&request)) {
        Ok(()) => next.run(request).await,
        Err(why) => ApiError::new(StatusCode::FORBIDDEN, "foreign-page", why).into_response(),
    };
    let mut response = match interface {
        true => as_problem(response).await,
        false => response,
    };
    if app.net.secure {
        response.headers_mut().insert(
            header::STRICT_TRANSPORT_SECURITY,
            HeaderValue::from_static("max-age=31536000"),
        );
    }
    // What was answered to somebody is kept for nobody.
    if interface && !response.headers().contains_key(header::CACHE_CONTROL) {
        let value = HeaderValue::from_static("no-store");
        response.headers_mut().insert(header::CACHE_CONTROL, value);
    }
    for (name, value) in [
        (header::CONTENT_SECURITY_POLICY, POLICY),
        (header::X_FRAME_OPTIONS, "DENY"),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "no-referrer"),
    ] {
        response
            .headers_mut()
            .insert(name, HeaderValue::from_static(value));
    }
    response
}

/// The heads of a request; HTTP/2 says in its address what HTTP/1.1 says in `Host`.
pub fn headers_of(request: &Request) -> HeaderMap {
    let mut headers = request.headers().clone();
    if !headers.contains_key(header::HOST)
        && let Some(authority) = request.uri().authority()
        && let Ok(host) = HeaderValue::from_str(authority.as_str())
    {
        headers.insert(header::HOST, host);
    }
    headers
}

/// What the console's pages may do: run and load what the service serves, and talk to it.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; font-src 'self'; \
    img-src 'self' data:; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";
/// Longest refusal of the framework that is read, in bytes.
const MOST_WORDS: usize = 16 << 10;

/// Puts a refusal that the framework made into the form that all others have.
async fn as_problem(response: Response) -> Response {
    let status = response.status();
    let kind = response.headers().get(header::CONTENT_TYPE);
    let ours = kind.is_some_and(|kind| kind == "application/problem+json");
    if ours || !(status.is_client_error() || status.is_server_error()) {
        return response;
    }
    let (parts, body) = response.into_parts();
    let words = axum::body::to_bytes(body, MOST_WORDS)
        .await
        .unwrap_or_default();
    let words = String::from_utf8_lossy(&words).trim().to_owned();
    let (code, usual) = match status {
        StatusCode::NOT_FOUND => ("unknown", "there is no such address in this interface"),
        StatusCode::METHOD_NOT_ALLOWED => (
            "bad-method",
            "this address does not take requests of this kind",
        ),
        StatusCode::PAYLOAD_TOO_LARGE => {
            ("too-long", "the request is longer than is taken at once")
        }
        _ => ("bad-request", "the request cannot be understood"),
    };
    let detail = if words.is_empty() {
        usual.to_owned()
    } else {
        words
    };
    let mut problem = ApiError::new(status, code, detail).into_response();
    if let Some(allow) = parts.headers.get(header::ALLOW) {
        problem.headers_mut().insert(header::ALLOW, allow.clone());
    }
    problem
}

/// Whether a request goes to one of the names of this computer's loopback.
pub fn is_loopback_name(headers: &HeaderMap) -> bool {
    matches!(
        name_of(host_of(headers)),
        "127.0.0.1" | "localhost" | "[::1]"
    )
}

fn host_of(headers: &HeaderMap) -> &str {
    let text = headers
        .get(header::HOST)
        .map(|value| value.to_str().unwrap_or("?"));
    text.unwrap_or("")
}

fn name_of(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) => name,
        _ => host,
    }
}

fn check(net: &Net, headers: &HeaderMap) -> Result<(), &'static str> {
    let host = host_of(headers);
    // Where others reach the service, nothing is done for whoever merely does, so that a name that was made to lead here
    // gives nothing.
    let name = name_of(host);
    let known = net.remote || net.names.iter().any(|one| one.eq_ignore_ascii_case(name));
    if !known && !is_loopback_name(headers) {
        return Err(
            "the service answers under the name of this computer's loopback only, and under those in host_names",
        );
    }
    let origin = headers
        .get(header::ORIGIN)
        .map(|value| value.to_str().unwrap_or("?"));
    let own = |origin: &str| {
        let schemes = ["http://", "https://"];
        schemes
            .iter()
            .any(|scheme| origin.strip_prefix(scheme) == Some(host))
    };
    match origin {
        Some(origin) if !own(origin) => {
            Err("a page from elsewhere may not act here; open the console itself")
        }
        _ => Ok(()),
    }
}
