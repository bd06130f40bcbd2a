//! Devices that are down because their card is out, and what was seen in the field.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;
use operations::news::News;
use operations::shown;

/// Length of a reason or symptom at most, in characters.
const WORDS: usize = 500;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, begin))
        .routes(routes!(end))
        .routes(routes!(seen))
}

async fn open(app: &App) -> Result<Json<Vec<api::Outage>>, ApiError> {
    let rows = app.records.outages(None).await?.into_iter();
    Ok(Json(rows.map(shown::outage).collect()))
}

fn words(text: &str) -> Result<&str, ApiError> {
    let text = text.trim();
    if text.chars().count() > WORDS || text.contains('\0') {
        let detail = format!("say it in at most {WORDS} characters");
        return Err(ApiError::invalid("bad-value", detail));
    }
    Ok(text)
}

/// Devices that are down, the longest first.
#[utoipa::path(get, path = "/api/v1/outages", responses((status = 200, body = Vec<api::Outage>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Outage>>, ApiError> {
    open(&app).await
}

/// Says that the card of a device was taken out: the device is down, its card is held.
#[utoipa::path(post, path = "/api/v1/outages", request_body = api::NewOutage,
    responses((status = 201, body = Vec<api::Outage>)))]
async fn begin(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::NewOutage>,
) -> Result<(StatusCode, Json<Vec<api::Outage>>), ApiError> {
    let device = app.records.device(&new.device).await?;
    let card = new.card.or(device.card);
    let reason = words(&new.reason)?;
    app.records
        .take_out(&device.name, card.as_deref(), reason, &operator)
        .await?;
    app.events.bus.tell(News::Events);
    Ok((StatusCode::CREATED, open(&app).await?))
}

/// Says that a device works again, with its original card or with a new one. What was held for it is free.
#[utoipa::path(post, path = "/api/v1/outages/end", request_body = api::OutageEnd,
    responses((status = 200, body = Vec<api::Outage>)))]
async fn end(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(given): Given<api::OutageEnd>,
) -> Result<Json<Vec<api::Outage>>, ApiError> {
    if !matches!(given.card.as_str(), "original" | "new") {
        let detail = "a device works again with its original card or with a new one";
        return Err(ApiError::invalid("bad-value", detail));
    }
    let device = app.records.device(&given.device).await?;
    app.records
        .bring_back(&device.name, &given.card, &operator)
        .await?;
    app.events.bus.tell(News::Events);
    open(&app).await
}

/// Keeps what was seen of a card or device in the field. The card is mistrusted from then on.
#[utoipa::path(post, path = "/api/v1/faults", request_body = api::NewFault,
    responses((status = 201, body = api::Fault)))]
async fn seen(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::NewFault>,
) -> Result<(StatusCode, Json<api::Fault>), ApiError> {
    let symptom = words(&new.symptom)?;
    if symptom.is_empty() || (new.card.is_none() && new.device.is_none()) {
        let detail = "say what was seen, and of which card or device";
        return Err(ApiError::invalid("bad-value", detail));
    }
    let device = match &new.device {
        Some(name) => Some(app.records.device(name).await?),
        None => None,
    };
    let card = new
        .card
        .or_else(|| device.as_ref().and_then(|device| device.card.clone()));
    let name = device.as_ref().map(|device| device.name.as_str());
    app.records
        .add_fault(card.as_deref(), name, symptom, &operator)
        .await?;
    app.events.bus.tell(News::Events);
    let newest = app.records.faults(card.as_deref(), name).await?;
    let newest = newest.into_iter().next();
    let mut fault = newest
        .map(shown::fault)
        .ok_or_else(|| ApiError::missing("the fault is not there any more".to_owned()))?;
    // What its lamp says is on the sheet of its board.
    if let Some(device) = device {
        let boards = app.records.boards().await?;
        let own = boards.into_iter().find(|board| board.name == device.board);
        fault.lamps = own.map(|board| board.lamps).filter(|text| !text.is_empty());
    }
    Ok((StatusCode::CREATED, Json(fault)))
}
