//! The bench: the disks of its computer, and which places are slots.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;
use operations::readers;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(show))
        .routes(routes!(bind))
}

/// Every disk of the bench's computer, why it is offered as a card or not, and which places are slots.
#[utoipa::path(get, path = "/api/v1/bench", responses((status = 200, body = api::Bench)))]
async fn show(State(app): State<Arc<App>>) -> Result<Json<api::Bench>, ApiError> {
    let bench = app.slots.bench();
    Ok(Json(readers::survey(bench, app.slots.largest()).await?))
}

/// Says which places are slots, all of them; they count at once.
#[utoipa::path(put, path = "/api/v1/bench/slots", request_body = Vec<api::SlotBinding>,
    responses((status = 200, body = api::Bench)))]
async fn bind(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(slots): Given<Vec<api::SlotBinding>>,
) -> Result<Json<api::Bench>, ApiError> {
    // A job holds on to its place; its number must not come to mean another one meanwhile.
    app.slots.refuse_while_busy()?;
    let words: Vec<_> = slots
        .iter()
        .map(|slot| format!("slot {} at {}, unit {}", slot.number, slot.port, slot.unit))
        .collect();
    readers::bind(app.slots.bench(), slots).await?;
    let summary = match words.is_empty() {
        true => "No place of this computer is a slot any more".into(),
        false => format!("Slots of this computer: {}", words.join("; ")),
    };
    app.events
        .note(&operator, "bench.changed", "bench", &summary)
        .await?;
    show(State(app)).await
}
