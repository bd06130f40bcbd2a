//! What handlers take out of requests.

use axum::Json;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::request::Parts;
use percent_encoding::percent_decode_str;
use serde::de::DeserializeOwned;

use crate::error::ApiError;

/// Who acts, as the request says. Until there are accounts it is taken at its word.
pub struct Operator(pub String);

impl<S: Send + Sync> FromRequestParts<S> for Operator {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ApiError> {
        // Percent-encoded, because a header takes no other letters than plain ones.
        let given = parts
            .headers
            .get(api::OPERATOR)
            .map_or("operator", |value| value.to_str().unwrap_or(""));
        let name = percent_decode_str(given).decode_utf8().unwrap_or_default();
        let name = name.trim();
        if name.is_empty() || name.chars().count() > 64 || name.chars().any(char::is_control) {
            let detail =
                "the operator's name takes 1 to 64 characters, percent-encoded in the header";
            return Err(ApiError::invalid("bad-operator", detail));
        }
        Ok(Self(name.into()))
    }
}

/// The caller's key for work that must not start twice.
pub struct RequestKey(pub Option<String>);

impl<S: Send + Sync> FromRequestParts<S> for RequestKey {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ApiError> {
        let Some(value) = parts.headers.get(api::REQUEST_KEY) else {
            return Ok(Self(None));
        };
        match value.to_str() {
            Ok(key) if (1..=128).contains(&key.len()) => Ok(Self(Some(key.into()))),
            _ => Err(ApiError::invalid(
                "bad-key",
                "an Idempotency-Key takes 1 to 128 plain characters",
            )),
        }
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
