//! Backups.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use cardwork::Occupant;
use records::backups::Wanted;
use records::jobs::NewJob;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, RequestKey, asked};
use crate::app::App;
use crate::error::ApiError;
use operations::shown;
use operations::slots::Inserted;
use operations::work::{BackupOrder, take_backup};

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, take))
        .routes(routes!(show))
}

/// Backups, newest first, or in another order: a page of those that are asked for.
#[utoipa::path(get, path = "/api/v1/backups", params(api::BackupQuery, api::Paging),
    responses((status = 200, body = api::Page<api::Backup>)))]
async fn list(
    State(app): State<Arc<App>>,
    Query(query): Query<api::BackupQuery>,
    Query(page): Query<api::Paging>,
) -> Result<Json<api::Page<api::Backup>>, ApiError> {
    let wanted = Wanted {
        search: query.search,
        card: query.card,
        device: query.device,
    };
    let asked = asked(page);
    let page = app.records.backup_page(&wanted, &asked).await?;
    Ok(Json(shown::page(page, shown::backup)))
}

/// One backup.
#[utoipa::path(get, path = "/api/v1/backups/{name}", responses((status = 200, body = api::Backup)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<api::Backup>, ApiError> {
    Ok(Json(shown::backup(app.records.backup(&name).await?)))
}

/// Reads the card in a slot into the vault, twice: a job.
#[utoipa::path(post, path = "/api/v1/backups", request_body = api::NewBackup, responses((status = 202, body = api::Job)))]
async fn take(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(request_key): RequestKey,
    Given(new): Given<api::NewBackup>,
) -> Result<(StatusCode, Json<api::Job>), ApiError> {
    if let Some(key) = &request_key
        && let Some(job) = app.records.job_of_request(key).await?
    {
        return Ok((StatusCode::ACCEPTED, Json(app.jobs.show(job).await?)));
    }
    let Inserted { at, medium, found } = app.slots.card_in(new.slot).await?;
    let refuse = |why: &str| {
        Err(ApiError::conflict(
            "nothing-to-back-up",
            format!("the card in slot {} {why}", new.slot),
        ))
    };
    let stamp = match &found.contents.occupant {
        Occupant::Blank | Occupant::Empty(_) => {
            return refuse("is blank; there is nothing to back up");
        }
        Occupant::Unfinished(_) => {
            return refuse("is incomplete; there is nothing whole to back up");
        }
        Occupant::Foreign if found.contents.layout.is_none() => {
            return refuse("has no partition table that is understood; it cannot be backed up");
        }
        Occupant::Foreign => None,
        Occupant::Stamped(stamp) => Some(stamp),
    };
    let card = match &found.label {
        Some(label) => label.clone(),
        None => {
            let card = app
                .slots
                .give_label(new.slot, &medium, &found.bound.edges, &operator)
                .await?;
            card.label
        }
    };
    // A stamp's word on the device counts if that device is known here.
    let device = match stamp.and_then(|stamp| stamp.device.as_ref()) {
        Some(name) => app
            .records
            .device(name)
            .await
            .ok()
            .map(|device| device.name),
        None => None,
    };
    let on_it = app
        .records
        .on_card(&card)
        .await?
        .filter(|imprint| stamp.is_some_and(|stamp| stamp.imprint == imprint.id));
    let order = BackupOrder {
        at: at.clone(),
        insertion: medium.insertion,
        behind: on_it
            .as_ref()
            .and_then(|imprint| imprint.behind)
            .map(|end| end as u64),
        imprint: on_it.map(|imprint| imprint.id),
        device,
        card: card.clone(),
    };
    let reserved = app.slots.reserve(new.slot)?;
    let job = NewJob {
        kind: "backup",
        subject: match &order.device {
            Some(device) => format!("card {card} of {device}"),
            None => format!("card {card}"),
        },
        at: Some(at),
        card: Some(card),
        operator,
        request_key,
    };
    let (bench, store) = (app.slots.bench().clone(), app.store.clone());
    let job = app
        .jobs
        .start(job, Some(Box::new(reserved)), move |work| {
            take_backup(work, &bench, &store, &order)
        })
        .await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}
