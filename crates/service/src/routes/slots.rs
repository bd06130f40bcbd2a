//! The slots of the bench.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(list))
}

/// The slots as they were seen last, a few hundred milliseconds ago.
#[utoipa::path(get, path = "/api/v1/slots", responses((status = 200, body = Vec<api::Slot>)))]
async fn list(State(app): State<Arc<App>>) -> Json<Vec<api::Slot>> {
    Json(app.slots.views())
}
