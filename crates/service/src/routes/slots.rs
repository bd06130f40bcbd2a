//! The slots of the bench.

use api::SlotName;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list))
        .routes(routes!(release))
        .routes(routes!(attach))
}

/// The slots as they were seen last, a few hundred milliseconds ago.
#[utoipa::path(get, path = "/api/v1/slots", responses((status = 200, body = Vec<api::Slot>)))]
async fn list(State(app): State<Arc<App>>) -> Json<Vec<api::Slot>> {
    // What lies in the slots is told also while the records are away.
    let judged = app.slots.judged().await;
    Json(judged.unwrap_or_else(|_| app.slots.views()))
}

/// Lets go of the card in a slot where the bench's computer uses it: what is mounted from it is unmounted.
#[utoipa::path(post, path = "/api/v1/slots/{slot}/release", responses((status = 200, body = Vec<api::Slot>)))]
async fn release(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(slot): Path<SlotName>,
) -> Result<Json<Vec<api::Slot>>, ApiError> {
    let released = app.slots.release(slot).await?;
    if !released.is_empty() {
        let summary = format!(
            "The card in slot {slot} was unmounted from {}",
            released.join(", ")
        );
        app.events
            .note(&operator, "slot.released", &slot.typed(), &summary)
            .await?;
    }
    Ok(Json(app.slots.views()))
}

/// Says which card it is that is in a slot and does not say it itself: the label stands on its sticker.
#[utoipa::path(put, path = "/api/v1/slots/{slot}/label", request_body = api::Sticker,
    responses((status = 200, body = Vec<api::Slot>)))]
async fn attach(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(slot): Path<SlotName>,
    Given(sticker): Given<api::Sticker>,
) -> Result<Json<Vec<api::Slot>>, ApiError> {
    app.slots.attach_label(slot, &sticker, &operator).await?;
    Ok(Json(app.slots.views()))
}
