//! Arrivals: devices that are waited for after their card went in; the settings that they export of themselves; and
//! what needs a hand.

use std::sync::Arc;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use operations::photos;
use serde::Deserialize;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;

const PAGE: i64 = 50;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, begin))
        .routes(routes!(show, tell))
        .routes(routes!(step))
        .routes(routes!(end))
        .routes(routes!(newest))
        .routes(routes!(sighting))
        .routes(routes!(first_join, hand_over))
        .routes(routes!(join_values))
        .routes(routes!(ports))
        .routes(routes!(line, listen, hang_up))
        .routes(routes!(exports, take_export))
        .routes(routes!(read_export))
        .routes(routes!(give_back))
        .routes(routes!(compare_exports))
        .routes(routes!(photo, put_photo, remove_photo))
        .routes(routes!(photo_content))
        .routes(routes!(hello))
        .routes(routes!(attention))
}

#[derive(Deserialize)]
struct Before {
    before: Option<i64>,
}

/// Arrivals: those that go on, the oldest first, then those that are over, newest first.
#[utoipa::path(get, path = "/api/v1/arrivals", params(("before" = Option<i64>, Query)),
    responses((status = 200, body = api::Arrivals)))]
async fn list(
    State(app): State<Arc<App>>,
    Query(Before { before }): Query<Before>,
) -> Result<Json<api::Arrivals>, ApiError> {
    Ok(Json(app.arrivals.list(before, PAGE).await?))
}

/// Says that a card is in its device now: the device is waited for.
#[utoipa::path(post, path = "/api/v1/arrivals", request_body = api::NewArrival,
    responses((status = 201, body = api::ArrivalDetail)))]
async fn begin(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::NewArrival>,
) -> Result<(StatusCode, Json<api::ArrivalDetail>), ApiError> {
    let id = app.arrivals.begin(&operator, &new).await?;
    Ok((StatusCode::CREATED, Json(app.arrivals.show(id).await?)))
}

/// One arrival with all that is seen of it.
#[utoipa::path(get, path = "/api/v1/arrivals/{id}", responses((status = 200, body = api::ArrivalDetail)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(id): Path<i64>,
) -> Result<Json<api::ArrivalDetail>, ApiError> {
    Ok(Json(app.arrivals.show(id).await?))
}

/// Says what somebody sees of a board that is waited for: its lamp, its address.
#[utoipa::path(patch, path = "/api/v1/arrivals/{id}", request_body = api::ArrivalChange,
    responses((status = 200, body = api::ArrivalDetail)))]
async fn tell(
    State(app): State<Arc<App>>,
    Path(id): Path<i64>,
    Given(change): Given<api::ArrivalChange>,
) -> Result<Json<api::ArrivalDetail>, ApiError> {
    app.arrivals.tell(id, &change).await?;
    Ok(Json(app.arrivals.show(id).await?))
}

/// Says that a step was done, or takes that back.
#[utoipa::path(put, path = "/api/v1/arrivals/{id}/steps/{place}", request_body = api::StepChange,
    responses((status = 200, body = api::ArrivalDetail)))]
async fn step(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path((id, place)): Path<(i64, i32)>,
    Given(change): Given<api::StepChange>,
) -> Result<Json<api::ArrivalDetail>, ApiError> {
    app.arrivals.step(&operator, id, place, &change).await?;
    Ok(Json(app.arrivals.show(id).await?))
}

/// Accepts a device, refuses it, or waits for it no more.
#[utoipa::path(post, path = "/api/v1/arrivals/{id}/end", request_body = api::ArrivalEnd,
    responses((status = 200, body = api::ArrivalDetail)))]
async fn end(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(id): Path<i64>,
    Given(end): Given<api::ArrivalEnd>,
) -> Result<Json<api::ArrivalDetail>, ApiError> {
    app.arrivals.end(&operator, id, &end).await?;
    Ok(Json(app.arrivals.show(id).await?))
}

/// The newest arrival of a device.
#[utoipa::path(get, path = "/api/v1/devices/{name}/arrival", responses((status = 200, body = api::ArrivalDetail)))]
async fn newest(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<api::ArrivalDetail>, ApiError> {
    let id = app.arrivals.newest(&name).await?;
    Ok(Json(app.arrivals.show(id).await?))
}

/// What was seen of a device since it was accepted.
#[utoipa::path(get, path = "/api/v1/devices/{name}/sighting", responses((status = 200, body = api::Watched)))]
async fn sighting(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<api::Watched>, ApiError> {
    app.records.device(&name).await?;
    let found = app.records.watched(Some(&name), None, 1).await?.pop();
    let row = found.ok_or_else(|| ApiError::missing(format!("{name} was never accepted")))?;
    Ok(Json(operations::shown::watched(row)))
}

/// Which network a board opens for its first settings, and what it takes there; no secrets.
#[utoipa::path(get, path = "/api/v1/arrivals/{id}/first-join", responses((status = 200, body = api::FirstJoin)))]
async fn first_join(
    State(app): State<Arc<App>>,
    Path(id): Path<i64>,
) -> Result<Json<api::FirstJoin>, ApiError> {
    Ok(Json(app.arrivals.first_join(id).await?))
}

/// Hands a board its settings from the service's computer, which has joined the board's network, or joins it for that.
#[utoipa::path(post, path = "/api/v1/arrivals/{id}/first-join", request_body = api::HandOver,
    responses((status = 200, body = api::ArrivalDetail)))]
async fn hand_over(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(id): Path<i64>,
    Given(given): Given<api::HandOver>,
) -> Result<Json<api::ArrivalDetail>, ApiError> {
    app.arrivals.hand_over(&operator, id, given).await?;
    Ok(Json(app.arrivals.show(id).await?))
}

/// The settings that a board takes on its own network, secrets too, for whoever hands them over from a phone. That
/// they were read is recorded.
#[utoipa::path(post, path = "/api/v1/arrivals/{id}/first-join/values",
    responses((status = 200, body = std::collections::BTreeMap<String, String>)))]
async fn join_values(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(id): Path<i64>,
) -> Result<Json<std::collections::BTreeMap<String, String>>, ApiError> {
    Ok(Json(app.arrivals.join_values(&operator, id).await?))
}

/// The serial ports of the service's computer that its configuration names: only those are ever opened.
#[utoipa::path(get, path = "/api/v1/serial-ports", responses((status = 200, body = Vec<api::SerialPort>)))]
async fn ports(State(app): State<Arc<App>>) -> Json<Vec<api::SerialPort>> {
    Json(app.arrivals.serial_ports())
}

/// What a board said on its serial line.
#[utoipa::path(get, path = "/api/v1/arrivals/{id}/serial", responses((status = 200, body = api::SerialLog)))]
async fn line(
    State(app): State<Arc<App>>,
    Path(id): Path<i64>,
) -> Result<Json<api::SerialLog>, ApiError> {
    Ok(Json(app.arrivals.line(id).await?))
}

/// Listens to a board on a serial line; what was heard of this arrival before is forgotten.
#[utoipa::path(put, path = "/api/v1/arrivals/{id}/serial", request_body = api::NewSerial,
    responses((status = 200, body = api::SerialLog)))]
async fn listen(
    State(app): State<Arc<App>>,
    Path(id): Path<i64>,
    Given(new): Given<api::NewSerial>,
) -> Result<Json<api::SerialLog>, ApiError> {
    app.arrivals.listen(id, &new).await?;
    Ok(Json(app.arrivals.line(id).await?))
}

/// Listens no more. What was heard stays.
#[utoipa::path(delete, path = "/api/v1/arrivals/{id}/serial", responses((status = 204)))]
async fn hang_up(State(app): State<Arc<App>>, Path(id): Path<i64>) -> StatusCode {
    app.arrivals.hang_up(id);
    StatusCode::NO_CONTENT
}

/// The settings that a device exported of itself, newest first. What they hold is sealed.
#[utoipa::path(get, path = "/api/v1/devices/{name}/exports", responses((status = 200, body = Vec<api::Export>)))]
async fn exports(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<Vec<api::Export>>, ApiError> {
    Ok(Json(app.arrivals.exports(&name).await?))
}

/// Takes what a device exports of itself, where its release sheet says and where it was seen.
#[utoipa::path(post, path = "/api/v1/devices/{name}/exports", responses((status = 201, body = api::Export)))]
async fn take_export(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
) -> Result<(StatusCode, Json<api::Export>), ApiError> {
    let taken = app.arrivals.take_export(&operator, &name).await?;
    Ok((StatusCode::CREATED, Json(taken)))
}

/// What an export holds, secrets and all. That it was read is recorded.
#[utoipa::path(get, path = "/api/v1/devices/{name}/exports/{id}", responses((status = 200, body = String, content_type = "text/plain")))]
async fn read_export(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path((name, id)): Path<(String, i64)>,
) -> Result<String, ApiError> {
    Ok(app.arrivals.read_export(&operator, &name, id).await?)
}

/// Gives a device an export back, where it was seen and as its release sheet says.
#[utoipa::path(post, path = "/api/v1/devices/{name}/exports/{id}/give", responses((status = 204)))]
async fn give_back(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path((name, id)): Path<(String, i64)>,
) -> Result<StatusCode, ApiError> {
    app.arrivals.give_back(&operator, &name, id).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize)]
struct With {
    with: Option<i64>,
}

/// What is another thing in an export than in the one before it, or in the one of the number `with`; secrets and all.
/// That they were read is recorded.
#[utoipa::path(get, path = "/api/v1/devices/{name}/exports/{id}/changes", params(("with" = Option<i64>, Query)),
    responses((status = 200, body = Vec<api::ExportChange>)))]
async fn compare_exports(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path((name, id)): Path<(String, i64)>,
    Query(With { with }): Query<With>,
) -> Result<Json<Vec<api::ExportChange>>, ApiError> {
    let changes = app.arrivals.compare_exports(&operator, &name, id, with);
    Ok(Json(changes.await?))
}

/// What there is to say of the picture of a device and its label.
#[utoipa::path(get, path = "/api/v1/devices/{name}/photo", responses((status = 200, body = Option<api::Photo>)))]
async fn photo(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<Option<api::Photo>>, ApiError> {
    Ok(Json(photos::about(&app.records, &name).await?))
}

/// Keeps a picture of a device and its label, a JPEG, PNG or WebP of 4 MiB at most, in place of the one before.
#[utoipa::path(put, path = "/api/v1/devices/{name}/photo", request_body(content = Vec<u8>, content_type = "image/*"),
    responses((status = 204)))]
async fn put_photo(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    body: Bytes,
) -> Result<StatusCode, ApiError> {
    photos::keep(&app.records, &app.store.keys, &operator, &name, &body).await?;
    let summary = format!("A picture of {name} was kept");
    app.events
        .note(&operator, "device.photo", &name, &summary)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Takes the picture of a device away.
#[utoipa::path(delete, path = "/api/v1/devices/{name}/photo", responses((status = 204)))]
async fn remove_photo(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    photos::remove(&app.records, &name).await?;
    let summary = format!("The picture of {name} was taken away");
    app.events
        .note(&operator, "device.photo", &name, &summary)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// The picture of a device and its label.
#[utoipa::path(get, path = "/api/v1/devices/{name}/photo/content",
    responses((status = 200, body = Vec<u8>, content_type = "image/*")))]
async fn photo_content(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Response, ApiError> {
    let (kind, bytes) = photos::read(&app.records, &app.store.keys, &name).await?;
    let headers = [
        (header::CONTENT_TYPE, kind.as_str()),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::CACHE_CONTROL, "no-store"),
    ];
    Ok((headers, bytes).into_response())
}

/// A board says by itself that it came up. The word of its card's stamp is good once, and tells which board it is.
#[utoipa::path(post, path = "/api/v1/hello", request_body = api::Hello, responses((status = 204)))]
async fn hello(
    State(app): State<Arc<App>>,
    Given(hello): Given<api::Hello>,
) -> Result<StatusCode, ApiError> {
    app.arrivals.hello(&hello).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What needs a hand: devices in the field, backups that are overdue, the vault; the oldest first.
#[utoipa::path(get, path = "/api/v1/attention", responses((status = 200, body = Vec<api::Attention>)))]
async fn attention(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Attention>>, ApiError> {
    Ok(Json(app.attention().await?))
}
