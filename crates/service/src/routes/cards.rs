//! Cards.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use cardwork::Occupant;
use records::jobs::NewJob;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, RequestKey};
use crate::app::App;
use crate::error::ApiError;
use operations::shown;
use operations::slots::base_name;
use operations::store::manifest_name;
use operations::work::{DriftOrder, compare_card};

/// Imprints shown with a card.
const IMPRINTS: i64 = 50;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list))
        .routes(routes!(show))
        .routes(routes!(compare))
}

/// Cards by label.
#[utoipa::path(get, path = "/api/v1/cards", responses((status = 200, body = Vec<api::Card>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Card>>, ApiError> {
    let rows = app.records.cards().await?.into_iter();
    let cards = rows.map(|row| {
        let slot = app.slots.slot_of(&row.label);
        shown::card(row, slot)
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
        card: shown::card(row, app.slots.slot_of(&label)),
        imprints: imprints.into_iter().map(shown::imprint).collect(),
        backups: backups.map(shown::backup).collect(),
    }))
}

/// Compares the card in a slot with what was written onto it, file by file: a job whose result is
/// a `Drift`.
#[utoipa::path(post, path = "/api/v1/drift", request_body = api::NewDrift,
    responses((status = 202, body = api::Job)))]
async fn compare(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(request_key): RequestKey,
    Given(new): Given<api::NewDrift>,
) -> Result<(StatusCode, Json<api::Job>), ApiError> {
    if let Some(key) = &request_key
        && let Some(job) = app.records.job_of_request(key).await?
    {
        return Ok((StatusCode::ACCEPTED, Json(app.jobs.show(job).await?)));
    }
    let (medium, found) = app.slots.card_in(new.slot).await?;
    let slot = new.slot;
    let refuse = |why: String| {
        ApiError::conflict(
            "nothing-to-compare",
            format!("the card in slot {slot} {why}"),
        )
    };
    let Occupant::Stamped(stamp) = &found.contents.occupant else {
        return Err(refuse(
            "carries no imprint of ours to compare it with".into(),
        ));
    };
    let content = app.records.imprint_content(stamp.imprint).await?;
    let Some((label, manifest)) = content.filter(|(label, _)| *label == stamp.card) else {
        return Err(refuse(format!(
            "says that it is imprint {} on {}, which these records do not know",
            stamp.imprint, stamp.card
        )));
    };
    let order = DriftOrder {
        slot,
        insertion: medium.insertion,
        card: label.clone(),
        device: stamp.device.clone(),
        imprint: stamp.imprint,
        base: base_name(&stamp.base).to_owned(),
        manifest: manifest_name(&manifest)?,
    };
    let reserved = app.slots.reserve(slot)?;
    let job = NewJob {
        kind: "compare",
        subject: format!("card {label} with its imprint"),
        slot: Some(slot as i32),
        card: Some(label),
        operator,
        request_key,
    };
    let (bench, store) = (app.slots.bench().clone(), app.store.clone());
    let job = app
        .jobs
        .start(job, Some(Box::new(reserved)), move |work| {
            compare_card(work, &bench, &store, &order)
        })
        .await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}
