//! Whether the service is alive, and whether it is ready.

use std::sync::Arc;

use api::Role;
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use operations::people::Caller;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;
use crate::error::ApiError;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(health))
        .routes(routes!(alive))
}

/// Answers as long as the service is alive, whether or not it can do anything now: who restarts services looks here.
#[utoipa::path(get, path = "/api/v1/alive", responses((status = 204)))]
async fn alive() -> StatusCode {
    StatusCode::NO_CONTENT
}

/// Answers when the service is ready.
#[utoipa::path(get, path = "/api/v1/health", responses((status = 200, body = api::Health)))]
async fn health(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
) -> Result<Json<api::Health>, ApiError> {
    if !app.records.answers().await {
        let detail = "the database does not answer; the service's log says more";
        return Err(ApiError::new(
            StatusCode::SERVICE_UNAVAILABLE,
            "records",
            detail,
        ));
    }
    let reach = app.care.reach().await;
    let status = match reach.answers {
        true => "ready",
        false => "vault-away",
    };
    Ok(Json(api::Health {
        status: status.into(),
        vault: reach,
        version: env!("CARGO_PKG_VERSION").into(),
        bench: app.slots.readers_answer(),
        vault_bytes: app.store.vault.stored(),
        key_file: (caller.role == Some(Role::Owner)).then(|| app.key_file.display().to_string()),
    }))
}
