//! Cards.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;
use crate::error::ApiError;
use crate::views;

/// Imprints shown with a card.
const IMPRINTS: i64 = 50;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list))
        .routes(routes!(show))
}

/// Cards by label.
#[utoipa::path(get, path = "/api/v1/cards", responses((status = 200, body = Vec<api::Card>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Card>>, ApiError> {
    let rows = app.records.cards().await?.into_iter();
    let cards = rows.map(|row| {
        let slot = app.slots.slot_of(&row.label);
        views::card(row, slot)
    });
    Ok(Json(cards.collect()))
}

/// One card with what was written onto it.
#[utoipa::path(get, path = "/api/v1/cards/{label}", responses((status = 200, body = api::CardDetail)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(label): Path<String>,
) -> Result<Json<api::CardDetail>, ApiError> {
    let row = app.records.card(&label).await?;
    let imprints = app.records.imprints(Some(&label), None, IMPRINTS).await?;
    let backups = app
        .records
        .backups()
        .await?
        .into_iter()
        .filter(|backup| backup.card == label);
    Ok(Json(api::CardDetail {
        card: views::card(row, app.slots.slot_of(&label)),
        imprints: imprints.into_iter().map(views::imprint).collect(),
        backups: backups.map(views::backup).collect(),
    }))
}
