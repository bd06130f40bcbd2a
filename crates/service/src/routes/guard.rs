//! Keeps web pages of others away. The service has no accounts yet and trusts whoever reaches it
//! on loopback; a browser on this computer reaches it too, on behalf of any page it shows.

use axum::extract::Request;
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::error::ApiError;

/// Refuses requests under another host name (a name that was made to lead here), and requests
/// that a page of another origin has caused.
pub async fn guard(request: Request, next: Next) -> Response {
    match check(request.headers()) {
        Ok(()) => next.run(request).await,
        Err(why) => ApiError::new(StatusCode::FORBIDDEN, "foreign-page", why).into_response(),
    }
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
