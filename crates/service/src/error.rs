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

    fn internal(code: &'static str, error: impl std::fmt::Display) -> Self {
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, code, error.to_string())
    }
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
