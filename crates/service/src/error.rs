//! Refusals as problem details (RFC 9457): a stable code and a sentence that says what to do.

use axum::Json;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use operations::refusal::{Refusal, Why};

/// A refusal on its way to whoever asked.
#[derive(Debug)]
pub struct ApiError {
    pub status: StatusCode,
    pub refusal: Refusal,
}

impl ApiError {
    pub fn new(status: StatusCode, code: &'static str, detail: impl Into<String>) -> Self {
        Self {
            status,
            refusal: Refusal::invalid(code, detail),
        }
    }

    /// The request itself cannot be carried out as it stands.
    pub fn invalid(code: &'static str, detail: impl Into<String>) -> Self {
        Refusal::invalid(code, detail).into()
    }

    /// The state of things forbids it now.
    pub fn conflict(code: &'static str, detail: impl Into<String>) -> Self {
        Refusal::conflict(code, detail).into()
    }

    pub fn missing(detail: impl Into<String>) -> Self {
        Refusal::missing(detail).into()
    }

    /// More is asked at once than can be served.
    pub fn busy(what: &str) -> Self {
        Refusal::busy(what).into()
    }
}

impl<E: Into<Refusal>> From<E> for ApiError {
    fn from(error: E) -> Self {
        let refusal = error.into();
        let status = match refusal.why {
            Why::Invalid => StatusCode::UNPROCESSABLE_ENTITY,
            Why::Conflict => StatusCode::CONFLICT,
            Why::Missing => StatusCode::NOT_FOUND,
            Why::Void => StatusCode::GONE,
            Why::Busy => StatusCode::SERVICE_UNAVAILABLE,
            Why::NoRoom => StatusCode::INSUFFICIENT_STORAGE,
            Why::NotSignedIn => StatusCode::UNAUTHORIZED,
            Why::NotAllowed => StatusCode::FORBIDDEN,
            Why::TooOften => StatusCode::TOO_MANY_REQUESTS,
            Why::Internal => StatusCode::INTERNAL_SERVER_ERROR,
        };
        Self { status, refusal }
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let Refusal {
            code,
            detail,
            besides,
            ..
        } = self.refusal;
        if self.status.is_server_error() {
            tracing::error!(code, "{detail}");
        }
        let problem = api::Problem {
            title: self.status.canonical_reason().unwrap_or("refused").into(),
            status: self.status.as_u16(),
            code: code.into(),
            detail,
            besides,
            request: crate::request::current(),
        };
        (
            self.status,
            [(header::CONTENT_TYPE, "application/problem+json")],
            Json(problem),
        )
            .into_response()
    }
}
