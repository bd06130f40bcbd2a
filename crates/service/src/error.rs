//! Refusals as problem details (RFC 9457): a stable code and a sentence that says what to do.

use axum::Json;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use cardwork::{CardError, Unsafe};
use imagecraft::compose::ComposeError;
use records::RecordError;
use vault::{KeyError, VaultError};

/// A refusal.
#[derive(Debug, thiserror::Error)]
#[error("{detail}")]
pub struct ApiError {
    pub status: StatusCode,
    /// Stable word for programs.
    pub code: &'static str,
    /// What happened and what to do.
    pub detail: String,
}

impl ApiError {
    pub fn new(status: StatusCode, code: &'static str, detail: impl Into<String>) -> Self {
        Self {
            status,
            code,
            detail: detail.into(),
        }
    }

    /// The request itself cannot be carried out as it stands.
    pub fn invalid(code: &'static str, detail: impl Into<String>) -> Self {
        Self::new(StatusCode::UNPROCESSABLE_ENTITY, code, detail)
    }

    /// The state of things forbids it now.
    pub fn conflict(code: &'static str, detail: impl Into<String>) -> Self {
        Self::new(StatusCode::CONFLICT, code, detail)
    }

    pub fn missing(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, "unknown", detail)
    }

    /// More is asked at once than can be served.
    pub fn busy(what: &str) -> Self {
        Self::new(
            StatusCode::SERVICE_UNAVAILABLE,
            "busy",
            format!("{what}; try again in a moment"),
        )
    }

    /// The service is about to end.
    pub fn closing() -> Self {
        Self::new(
            StatusCode::SERVICE_UNAVAILABLE,
            "ending",
            "the service is about to end and begins nothing new; try again when it is back",
        )
    }

    fn internal(code: &'static str, error: impl std::error::Error + 'static) -> Self {
        if is_full(&error) {
            return Self::new(
                StatusCode::INSUFFICIENT_STORAGE,
                "no-room",
                format!(
                    "the disk that the service keeps its data on is full ({error}); nothing that was recorded is lost. \
                     Make room there and try again"
                ),
            );
        }
        let mut detail = error.to_string();
        if is_cut(&error) {
            detail = format!("a file ended before it should ({detail})");
        }
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, code, detail)
    }
}

/// Looks for something among an error and its causes.
fn any_cause(error: &(dyn std::error::Error + 'static), is: fn(&std::io::Error) -> bool) -> bool {
    let mut cause = Some(error);
    while let Some(error) = cause {
        if error.downcast_ref::<std::io::Error>().is_some_and(is) {
            return true;
        }
        // An I/O error shows the one that it wraps, and not itself, as its source.
        let inner = error
            .downcast_ref::<std::io::Error>()
            .and_then(|e| e.get_ref());
        if let Some(inner) = inner
            && any_cause(inner, is)
        {
            return true;
        }
        cause = error.source();
    }
    false
}

/// Whether a disk that is full, or a quota, is behind an error.
fn is_full(error: &(dyn std::error::Error + 'static)) -> bool {
    any_cause(error, |e| {
        matches!(
            e.kind(),
            std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded
        )
    })
}

fn is_cut(error: &(dyn std::error::Error + 'static)) -> bool {
    any_cause(error, |e| e.kind() == std::io::ErrorKind::UnexpectedEof)
}

impl From<crate::work::WorkError> for ApiError {
    fn from(error: crate::work::WorkError) -> Self {
        Self::invalid(error.code, error.detail)
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        if self.status.is_server_error() {
            tracing::error!(code = self.code, "{}", self.detail);
        }
        let problem = api::Problem {
            title: self.status.canonical_reason().unwrap_or("refused").into(),
            status: self.status.as_u16(),
            code: self.code.into(),
            detail: self.detail,
        };
        (
            self.status,
            [(header::CONTENT_TYPE, "application/problem+json")],
            Json(problem),
        )
            .into_response()
    }
}

impl From<RecordError> for ApiError {
    fn from(error: RecordError) -> Self {
        match error {
            RecordError::Unknown { .. } => Self::missing(error.to_string()),
            RecordError::Conflict(detail) => Self::conflict("taken", detail),
            RecordError::OtherRequest { .. } => Self::conflict("other-request", error.to_string()),
            RecordError::Text => Self::invalid("bad-text", error.to_string()),
            away if away.is_away() => Self::new(
                StatusCode::SERVICE_UNAVAILABLE,
                "records-away",
                "the records are out of reach for the moment; nothing was changed, try again",
            ),
            other => Self::internal("records", other),
        }
    }
}

impl From<VaultError> for ApiError {
    fn from(error: VaultError) -> Self {
        Self::internal("vault", error)
    }
}

impl From<KeyError> for ApiError {
    fn from(error: KeyError) -> Self {
        Self::internal("key", error)
    }
}

impl From<std::io::Error> for ApiError {
    fn from(error: std::io::Error) -> Self {
        Self::internal("storage", error)
    }
}

impl From<CardError> for ApiError {
    fn from(error: CardError) -> Self {
        Self::from(&error)
    }
}

impl From<&CardError> for ApiError {
    fn from(error: &CardError) -> Self {
        let code = match error {
            CardError::Empty => "slot-empty",
            CardError::Gone => "card-gone",
            CardError::Locked => "card-locked",
            CardError::Reader(_) => "reader",
            _ => "card-failed",
        };
        Self::conflict(code, error.to_string())
    }
}

impl From<Unsafe> for ApiError {
    fn from(error: Unsafe) -> Self {
        match error {
            Unsafe::Swapped => Self::conflict("card-swapped", error.to_string()),
            Unsafe::Locked => Self::conflict("card-locked", error.to_string()),
            Unsafe::InUse(_) => Self::conflict("card-in-use", error.to_string()),
            Unsafe::Card(error) => error.into(),
            other => Self::internal("card", other),
        }
    }
}

impl From<ComposeError> for ApiError {
    fn from(error: ComposeError) -> Self {
        match error {
            ComposeError::CardTooSmall { .. } => {
                Self::conflict("card-too-small", error.to_string())
            }
            ComposeError::Damaged { .. } => Self::conflict(
                "damaged",
                format!(
                    "{error}. Nothing was touched; leave that partition as it is (--leave-out), or insist with a reason \
                     that is recorded (--although-damaged)"
                ),
            ),
            ComposeError::NotEditable { .. } => Self::conflict(
                "cannot-edit",
                format!(
                    "{error}. Nothing was touched; leave that partition out (--leave-out) to write the rest"
                ),
            ),
            other => Self::invalid("cannot-compose", other.to_string()),
        }
    }
}
