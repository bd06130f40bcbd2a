//! The services that work with the same records and the same vault.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;
use crate::error::ApiError;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(list))
}

/// The services that live now: usually one, or several that share records and vault.
#[utoipa::path(get, path = "/api/v1/services", responses((status = 200, body = Vec<api::Service>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Service>>, ApiError> {
    let all = app.records.services().await?.into_iter();
    let me = app.records.me();
    let shown = all.map(|one| {
        let answers = Some(one.number) == me;
        let heard = app
            .peers
            .as_ref()
            .is_some_and(|peers| peers.hears(one.number));
        api::Service {
            heard: answers || heard,
            answers,
            number: one.number,
            address: one.address,
            version: one.version,
            started_at: one.started_at,
            leads: one.leads || app.peers.is_none(),
            own_slots: one.own_slots,
        }
    });
    Ok(Json(shown.collect()))
}
