//! The bench: the disks of its computer, and which places are slots.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Query, State};
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

/// Every disk of a bench's computer, the service's own where no other is named, why it is offered as a card or not, and which places are slots.
#[utoipa::path(get, path = "/api/v1/bench", params(("bench" = Option<String>, Query)),
    responses((status = 200, body = api::Bench)))]
async fn show(
    State(app): State<Arc<App>>,
    Query(at): Query<api::AtBench>,
) -> Result<Json<api::Bench>, ApiError> {
    let (benches, largest) = (app.slots.benches(), app.slots.largest());
    let shown = readers::survey(benches, at.bench.as_deref(), largest).await?;
    Ok(Json(shown))
}

/// Says which places are slots, all of them; they count at once.
#[utoipa::path(put, path = "/api/v1/bench/slots", params(("bench" = Option<String>, Query)), request_body = Vec<api::SlotBinding>,
    responses((status = 200, body = api::Bench)))]
async fn bind(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Query(at): Query<api::AtBench>,
    Given(slots): Given<Vec<api::SlotBinding>>,
) -> Result<Json<api::Bench>, ApiError> {
    // A job holds on to its place; its number must not come to mean another one meanwhile.
    app.slots.refuse_while_busy_at(at.bench.as_deref())?;
    let words: Vec<_> = slots
        .iter()
        .map(|slot| format!("slot {} at {}, unit {}", slot.number, slot.port, slot.unit))
        .collect();
    readers::bind(app.slots.benches(), at.bench.as_deref(), slots).await?;
    let computer = match &at.bench {
        None => "this computer".into(),
        Some(bench) => format!("bench {bench}"),
    };
    let summary = match words.is_empty() {
        true => format!("No place of {computer} is a slot any more"),
        false => format!("Slots of {computer}: {}", words.join("; ")),
    };
    let subject = at.bench.as_deref().unwrap_or("bench");
    app.events
        .note(&operator, "bench.changed", subject, &summary)
        .await?;
    show(State(app), Query(at)).await
}
