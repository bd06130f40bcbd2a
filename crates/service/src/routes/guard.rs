//! Keeps web pages of others away. The service has no accounts yet and trusts whoever reaches it
//! on loopback; a browser on this computer reaches it too, on behalf of any page it shows.

use axum::extract::Request;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::error::ApiError;

/// Refuses requests under another host name (a name that was made to lead here), and requests
/// that a page of another origin has caused.
pub async fn guard(request: Request, next: Next) -> Response {
    let interface = request.uri().path().starts_with("/api");
    let response = match check(request.headers()) {
        Ok(()) => next.run(request).await,
        Err(why) => ApiError::new(StatusCode::FORBIDDEN, "foreign-page", why).into_response(),
    };
    let mut response = match interface {
        true => as_problem(response).await,
        false => response,
    };
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

fn check(headers: &HeaderMap) -> Result<(), &'static str> {
    let text = |name| headers.get(name).map(|value| value.to_str().unwrap_or("?"));
    let host = text(header::HOST).unwrap_or("");
    let name = host.rsplit_once(':').map_or(host, |(name, _)| name);
    if !matches!(name, "127.0.0.1" | "localhost" | "[::1]") {
        return Err("the service answers under the name of this computer's loopback only");
    }
    match text(header::ORIGIN) {
        Some(origin) if origin.strip_prefix("http://") != Some(host) => {
            Err("a page from elsewhere may not act here; open the console itself")
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn verdict(pairs: &[(header::HeaderName, &str)]) -> bool {
        let headers = pairs
            .iter()
            .map(|(name, value)| (name.clone(), value.parse().unwrap()))
            .collect();
        check(&headers).is_ok()
    }

    #[test]
    fn only_own_pages_and_programs_pass() {
        let host = (header::HOST, "127.0.0.1:7640");
        assert!(verdict(std::slice::from_ref(&host)), "a program");
        assert!(
            verdict(&[host.clone(), (header::ORIGIN, "http://127.0.0.1:7640")]),
            "the console"
        );
        assert!(verdict(&[
            (header::HOST, "localhost:7640"),
            (header::ORIGIN, "http://localhost:7640")
        ]));
        assert!(
            !verdict(&[host.clone(), (header::ORIGIN, "http://tides.example")]),
            "a page of others"
        );
        assert!(
            !verdict(&[host, (header::ORIGIN, "null")]),
            "a page without an origin"
        );
        assert!(
            !verdict(&[(header::HOST, "tides.example:7640")]),
            "a name made to lead here"
        );
        assert!(!verdict(&[]));
    }
}
