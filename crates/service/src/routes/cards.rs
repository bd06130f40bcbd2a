//! Cards.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use cardwork::Occupant;
use records::backups;
use records::cards::{Told, Wanted};
use records::jobs::NewJob;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, RequestKey, asked};
use super::filters;
use crate::app::App;
use crate::error::ApiError;
use operations::kept;
use operations::shown;
use operations::slots::{Inserted, base_name};
use operations::store::manifest_name;
use operations::work::{DriftOrder, compare_card};

/// Imprints shown with a card.
const IMPRINTS: i64 = 50;
/// Checks shown with a card, and jobs whose speed is.
const CHECKS: i64 = 30;
const SPEEDS: i64 = 6;
/// Backups shown with a card; there is a list of all.
const BACKUPS: u32 = 50;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list))
        .routes(routes!(lots))
        .routes(routes!(show, tell))
        .routes(routes!(compare))
}

/// Cards by label, or in another order: a page of those that are asked for.
#[utoipa::path(get, path = "/api/v1/cards", params(api::CardQuery, api::Paging),
    responses((status = 200, body = api::Page<api::Card>)))]
async fn list(
    State(app): State<Arc<App>>,
    Query(query): Query<api::CardQuery>,
    Query(page): Query<api::Paging>,
) -> Result<Json<api::Page<api::Card>>, ApiError> {
    let carries = match &query.carries {
        Some(name) => Some(app.records.release(name).await?.id),
        None => None,
    };
    filters::check("state", query.state.as_deref(), filters::CARD_STATES)?;
    filters::site(&app, query.site.as_deref()).await?;
    filters::device(&app, query.device.as_deref()).await?;
    let wanted = Wanted {
        search: query.search,
        state: query.state,
        device: query.device,
        site: query.site,
        carries,
    };
    let asked = asked(page);
    let page = app.records.card_page(&wanted, &asked).await?;
    Ok(Json(shown::page(page, |row| {
        let shown_in = app.slots.shown_in(&row.label);
        shown::card(row, shown_in)
    })))
}

/// How cards did by brand and batch, the largest lots first.
#[utoipa::path(get, path = "/api/v1/card-lots", responses((status = 200, body = Vec<api::CardLot>)))]
async fn lots(State(app): State<Arc<App>>) -> Result<Json<Vec<api::CardLot>>, ApiError> {
    let rows = app.records.card_lots().await?.into_iter();
    Ok(Json(rows.map(shown::lot).collect()))
}

/// One card with what was written onto it.
#[utoipa::path(get, path = "/api/v1/cards/{label}", responses((status = 200, body = api::CardDetail)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(label): Path<String>,
) -> Result<Json<api::CardDetail>, ApiError> {
    Ok(Json(detail(&app, &label).await?))
}

async fn detail(app: &App, label: &str) -> Result<api::CardDetail, ApiError> {
    let row = app.records.card(label).await?;
    let imprints = app.records.imprints(Some(label), None, IMPRINTS).await?;
    let of_card = backups::Wanted {
        card: Some(label.into()),
        ..backups::Wanted::default()
    };
    let page = asked(api::Paging::behind(None, BACKUPS));
    let backups = app.records.backup_page(&of_card, &page).await?;
    Ok(api::CardDetail {
        card: shown::card(row, app.slots.shown_in(label)),
        imprints: imprints.into_iter().map(shown::imprint).collect(),
        backups: backups.items.into_iter().map(shown::backup).collect(),
        checks: app
            .records
            .checks(label, CHECKS)
            .await?
            .into_iter()
            .map(shown::check)
            .collect(),
        speeds: app
            .records
            .card_speeds(label, SPEEDS)
            .await?
            .into_iter()
            .flat_map(shown::speeds)
            .collect(),
        faults: app
            .records
            .faults(Some(label), None)
            .await?
            .into_iter()
            .map(shown::fault)
            .collect(),
    })
}

/// Keeps what people say of a card: notes; that it is lost, retired, or found again.
#[utoipa::path(patch, path = "/api/v1/cards/{label}", request_body = api::CardChange,
    responses((status = 200, body = api::CardDetail)))]
async fn tell(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(label): Path<String>,
    Given(given): Given<api::CardChange>,
) -> Result<Json<api::CardDetail>, ApiError> {
    let card = app.records.card(&label).await?;
    let (mut state, mut suspicion) = (None, None);
    match given.state.as_deref() {
        None => {}
        Some("found") if card.state == "held" => {
            let detail = format!(
                "card {label} is held for its device; release it by name (duplicarium card free {label})"
            );
            return Err(ApiError::conflict("card-held", detail));
        }
        Some("found" | "free") => state = Some("blank"),
        Some("trusted") => suspicion = Some(String::new()),
        Some("lost") => state = Some("lost"),
        Some("retired") => state = Some("retired"),
        Some(other) => {
            let detail = format!(
                "a card is said to be lost, retired, found, trusted or free, not {other:?}"
            );
            return Err(ApiError::invalid("bad-value", detail));
        }
    }
    let forged = matches!(card.verdict.as_deref(), Some("forged" | "bad"));
    if suspicion.is_some() && forged {
        let detail = format!(
            "a check found card {label} {}; only a full check that proves it makes it good again",
            card.verdict.unwrap_or_default()
        );
        return Err(ApiError::conflict("card-forged", detail));
    }
    if let (Some("lost"), Some(slot)) = (state, app.slots.slot_of(&label)) {
        let detail = format!("card {label} is in slot {slot}, it is not lost");
        return Err(ApiError::conflict("card-here", detail));
    }
    app.records
        .tell_card(
            card.id,
            &Told {
                notes: given.notes,
                state,
                brand: given.brand,
                seller: given.seller,
                batch: given.batch,
                price: given.price,
                suspicion,
            },
        )
        .await?;
    if state == Some("retired")
        && let Some((job, _)) = app.records.unfinished_work(&label).await?
    {
        kept::give_up(&app.store.checks, job);
    }
    let summary = match &given.state {
        Some(word) => format!("Card {label} is {word}"),
        None => format!("What is told of card {label} changed"),
    };
    app.events
        .note(&operator, "card.changed", &label, &summary)
        .await?;
    Ok(Json(detail(&app, &label).await?))
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
    let Inserted { at, medium, found } = app.slots.card_in(new.slot).await?;
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
        at: Some(at.at()),
        card: Some(label),
        operator,
        request_key,
    };
    let (bench, store) = (app.slots.benches().clone(), app.store.clone());
    let job = app
        .jobs
        .start(job, Some(Box::new(reserved)), move |work| {
            compare_card(work, &bench, &store, &order)
        })
        .await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}
