//! Backups.

use api::SlotName;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use records::backups::Wanted;
use records::jobs::NewJob;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, RequestKey, asked};
use super::filters;
use crate::app::App;
use crate::error::ApiError;
use operations::backups::Backups;
use operations::backups::headroom::headroom_of;
use operations::shown;
use operations::work::{ImportOrder, Named, Place, bring_in, take_backup};

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, take))
        .routes(routes!(show, tell, let_go))
        .routes(routes!(prove))
        .routes(routes!(outlook))
        .routes(routes!(bring_in_image))
        .routes(routes!(headroom))
        .routes(routes!(keep, set_rule))
        .routes(routes!(keep_now))
        .routes(routes!(intervals, set_interval))
}

/// Backups, newest first, or in another order: a page of those that are asked for.
#[utoipa::path(get, path = "/api/v1/backups", params(api::BackupQuery, api::Paging),
    responses((status = 200, body = api::Page<api::Backup>)))]
async fn list(
    State(app): State<Arc<App>>,
    Query(query): Query<api::BackupQuery>,
    Query(page): Query<api::Paging>,
) -> Result<Json<api::Page<api::Backup>>, ApiError> {
    filters::card(&app, query.card.as_deref()).await?;
    filters::device(&app, query.device.as_deref()).await?;
    let wanted = Wanted {
        search: query.search,
        card: query.card,
        device: query.device,
        gone_too: query.gone.unwrap_or(false),
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

/// Says whose a backup is, why it was taken, whether it stays whatever the keep rules say.
#[utoipa::path(patch, path = "/api/v1/backups/{name}", request_body = api::BackupChange,
    responses((status = 200, body = api::Backup)))]
async fn tell(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(change): Given<api::BackupChange>,
) -> Result<Json<api::Backup>, ApiError> {
    app.backups.tell(&operator, &name, &change).await?;
    Ok(Json(shown::backup(app.records.backup(&name).await?)))
}

#[derive(serde::Deserialize)]
struct Because {
    #[serde(default)]
    why: String,
}

/// Lets the content of a backup go. Its record stays, and what it took in the vault is free when that is tidied next.
#[utoipa::path(delete, path = "/api/v1/backups/{name}", params(("why" = Option<String>, Query)),
    responses((status = 204)))]
async fn let_go(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Query(Because { why }): Query<Because>,
) -> Result<StatusCode, ApiError> {
    app.backups.let_go(&operator, &name, &why).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Takes a disk image from elsewhere in as a backup of a device, or of nobody yet: a job.
#[utoipa::path(post, path = "/api/v1/backup-images", request_body = api::NewImageBackup,
    responses((status = 202, body = api::Job)))]
async fn bring_in_image(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(request_key): RequestKey,
    Given(new): Given<api::NewImageBackup>,
) -> Result<(StatusCode, Json<api::Job>), ApiError> {
    let reason = Backups::reason(&new.reason)?;
    let device = match &new.device {
        Some(name) => Some(app.records.device(name).await?.name),
        None => None,
    };
    let (claim, kept) = app.uploads.claim(&new.upload)?;
    let order = ImportOrder {
        place: Place::Taken(claim),
        way: "upload",
        from: kept.file_name.clone(),
        file_name: kept.file_name.clone(),
        sheet: None,
        named: Named::default(),
        expected: None,
        member: None,
        keep_file: false,
        draft: false,
        feed: None,
    };
    let job = NewJob {
        kind: "take in",
        subject: format!("{} as a backup", kept.file_name),
        at: None,
        card: None,
        operator,
        request_key,
    };
    let (store, rules) = (app.store.clone(), app.rules);
    let job = app
        .jobs
        .start(job, None, move |work| {
            bring_in(work, &store, rules, &order, device.as_deref(), &reason)
        })
        .await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}

/// How the used data of a device grew over its backups, and when its card will be full if it goes on so.
#[utoipa::path(get, path = "/api/v1/devices/{name}/headroom", responses((status = 200, body = api::Headroom)))]
async fn headroom(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<api::Headroom>, ApiError> {
    let device = app.records.device(&name).await?;
    let backups = app.records.backups_of(Some(device.id)).await?;
    let shelf = app.catalogue.shelf().await?;
    let sheet = shelf
        .followed(&device)
        .and_then(|release| shelf.sheet(release).ok());
    let advised = sheet.and_then(|sheet| sheet.card.advised_gb);
    Ok(Json(headroom_of(
        &backups,
        advised.map(|gb| (gb * 1e9) as u64),
    )))
}

/// Proves a backup up to a level, the lower ones first, and keeps what was shown with the date: a job.
#[utoipa::path(post, path = "/api/v1/backups/{name}/proofs", request_body = api::NewProof,
    responses((status = 202, body = api::Job)))]
async fn prove(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(request_key): RequestKey,
    Path(name): Path<String>,
    Given(new): Given<api::NewProof>,
) -> Result<(StatusCode, Json<api::Job>), ApiError> {
    let backup = app.records.backup(&name).await?;
    let proof = app
        .care
        .prove(&operator, request_key, backup, Some(&new.level));
    let job = proof.await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}

/// How many backups stay: the rules, and what they would do now.
#[utoipa::path(get, path = "/api/v1/keep", responses((status = 200, body = api::KeepReport)))]
async fn keep(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
) -> Result<Json<api::KeepReport>, ApiError> {
    Ok(Json(app.backups.keep(&operator, true).await?))
}

/// Sets the keep rule of the team or of a device, or takes it away. Gives what the rules would do then.
#[utoipa::path(put, path = "/api/v1/keep", request_body = api::KeepChange, responses((status = 200, body = api::KeepReport)))]
async fn set_rule(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(change): Given<api::KeepChange>,
) -> Result<Json<api::KeepReport>, ApiError> {
    app.backups.set_rule(&operator, &change).await?;
    Ok(Json(app.backups.keep(&operator, true).await?))
}

/// Lets go the content of backups whose time is over by the keep rules; in a dry run it is only said which.
#[utoipa::path(post, path = "/api/v1/keep/now", request_body = api::KeepNow, responses((status = 200, body = api::KeepReport)))]
async fn keep_now(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::KeepNow>,
) -> Result<Json<api::KeepReport>, ApiError> {
    Ok(Json(app.backups.keep(&operator, new.dry_run).await?))
}

/// How often devices and appliances shall be backed up.
#[utoipa::path(get, path = "/api/v1/backup-intervals", responses((status = 200, body = Vec<api::BackupInterval>)))]
async fn intervals(
    State(app): State<Arc<App>>,
) -> Result<Json<Vec<api::BackupInterval>>, ApiError> {
    Ok(Json(app.backups.intervals().await?))
}

/// Says how often a device, or each of an appliance, shall be backed up.
#[utoipa::path(put, path = "/api/v1/backup-intervals", request_body = api::BackupInterval,
    responses((status = 200, body = Vec<api::BackupInterval>)))]
async fn set_interval(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(change): Given<api::BackupInterval>,
) -> Result<Json<Vec<api::BackupInterval>>, ApiError> {
    app.backups.set_interval(&operator, &change).await?;
    Ok(Json(app.backups.intervals().await?))
}

/// Reads the card in a slot into the vault, twice: a job.
#[utoipa::path(post, path = "/api/v1/backups", request_body = api::NewBackup, responses((status = 202, body = api::Job)))]
async fn take(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(request_key): RequestKey,
    Given(new): Given<api::NewBackup>,
) -> Result<(StatusCode, Json<api::Job>), ApiError> {
    let order = app.taking.order(&operator, &new).await?;
    let card = order.card.clone();
    let reserved = app.slots.reserve(new.slot)?;
    let job = NewJob {
        kind: "backup",
        subject: match &order.device {
            Some(device) => format!("card {card} of {device}"),
            None => format!("card {card}"),
        },
        at: Some(order.at.at()),
        card: Some(card),
        operator,
        request_key,
    };
    let (bench, store) = (app.slots.benches().clone(), app.store.clone());
    let job = app
        .jobs
        .start(job, Some(Box::new(reserved)), move |work| {
            take_backup(work, &bench, &store, &order)
        })
        .await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}

/// What a backup of the card in a slot would come to: how much is read, how much of it is likely to be new, whether
/// there is room. Nothing is done.
#[utoipa::path(get, path = "/api/v1/slots/{slot}/outlook", responses((status = 200, body = api::BackupOutlook)))]
async fn outlook(
    State(app): State<Arc<App>>,
    Path(slot): Path<SlotName>,
) -> Result<Json<api::BackupOutlook>, ApiError> {
    Ok(Json(app.taking.outlook(slot).await?))
}
