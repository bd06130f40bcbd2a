//! Rounds: cards made in turn as blank ones go in.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::http::header::CONTENT_TYPE;
use axum::response::IntoResponse;
use records::rounds::Turn;
use serde::Deserialize;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;
use operations::rounds::report;

const PAGE: i64 = 50;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, plan))
        .routes(routes!(show))
        .routes(routes!(confirm))
        .routes(routes!(turn))
        .routes(routes!(turn_entry))
        .routes(routes!(free))
        .routes(routes!(as_table))
}

#[derive(Deserialize)]
struct Before {
    before: Option<i64>,
}

/// Rounds, newest first.
#[utoipa::path(get, path = "/api/v1/rounds", params(("before" = Option<i64>, Query)),
    responses((status = 200, body = api::Rounds)))]
async fn list(
    State(app): State<Arc<App>>,
    Query(Before { before }): Query<Before>,
) -> Result<Json<api::Rounds>, ApiError> {
    Ok(Json(app.rounds.list(before, PAGE).await?))
}

/// Plans a round. No card is touched before it is confirmed.
#[utoipa::path(post, path = "/api/v1/rounds", request_body = api::NewRound,
    responses((status = 201, body = api::RoundDetail)))]
async fn plan(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::NewRound>,
) -> Result<(StatusCode, Json<api::RoundDetail>), ApiError> {
    let id = app.rounds.plan(&operator, &new).await?;
    Ok((StatusCode::CREATED, Json(app.rounds.show(id).await?)))
}

/// One round with its cards and what each slot waits for.
#[utoipa::path(get, path = "/api/v1/rounds/{id}", responses((status = 200, body = api::RoundDetail)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(id): Path<i64>,
) -> Result<Json<api::RoundDetail>, ApiError> {
    Ok(Json(app.rounds.show(id).await?))
}

/// Confirms a round with the number of its cards and the names of all its cautions: from now on every blank
/// card that goes into a slot is written.
#[utoipa::path(post, path = "/api/v1/rounds/{id}/confirm", request_body = api::RoundConfirmation,
    responses((status = 200, body = api::RoundDetail)))]
async fn confirm(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(id): Path<i64>,
    Given(given): Given<api::RoundConfirmation>,
) -> Result<Json<api::RoundDetail>, ApiError> {
    app.rounds.confirm(&operator, id, &given).await?;
    Ok(Json(app.rounds.show(id).await?))
}

/// Pauses a round, lets it go on, accepts its first card, or ends it. Cards that are being made are made.
#[utoipa::path(post, path = "/api/v1/rounds/{id}/turn", request_body = api::RoundChange,
    responses((status = 200, body = api::RoundDetail)))]
async fn turn(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(id): Path<i64>,
    Given(given): Given<api::RoundChange>,
) -> Result<Json<api::RoundDetail>, ApiError> {
    let turn = match given.turn.as_str() {
        "pause" => Turn::Pause,
        "go-on" => Turn::GoOn,
        "accept" => Turn::Accept,
        "stop" => Turn::Stop,
        other => {
            let detail = format!("a round takes pause, go-on, accept and stop, not {other:?}");
            return Err(ApiError::invalid("bad-value", detail));
        }
    };
    app.rounds.turn(&operator, id, turn).await?;
    Ok(Json(app.rounds.show(id).await?))
}

/// Leaves one card of a round out, or takes it in again.
#[utoipa::path(post, path = "/api/v1/rounds/{id}/entries/{place}/turn", request_body = api::RoundEntryChange,
    responses((status = 200, body = api::RoundDetail)))]
async fn turn_entry(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path((id, place)): Path<(i64, i32)>,
    Given(given): Given<api::RoundEntryChange>,
) -> Result<Json<api::RoundDetail>, ApiError> {
    let skip = match given.turn.as_str() {
        "skip" => true,
        "again" => false,
        other => {
            let detail = format!("a card of a round takes skip and again, not {other:?}");
            return Err(ApiError::invalid("bad-value", detail));
        }
    };
    app.rounds.turn_entry(&operator, id, place, skip).await?;
    Ok(Json(app.rounds.show(id).await?))
}

/// Frees a card for a round although it is not blank. Gives what would be lost with it.
#[utoipa::path(post, path = "/api/v1/rounds/{id}/cards", request_body = api::FreedCard,
    responses((status = 201, body = Vec<String>)))]
async fn free(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(id): Path<i64>,
    Given(given): Given<api::FreedCard>,
) -> Result<(StatusCode, Json<Vec<String>>), ApiError> {
    let lost = app.rounds.free(&operator, id, &given.card).await?;
    Ok((StatusCode::CREATED, Json(lost)))
}

/// What came of a round, a line of comma-separated values for each card.
#[utoipa::path(get, path = "/api/v1/rounds/{id}/report",
    responses((status = 200, body = String, content_type = "text/csv")))]
async fn as_table(
    State(app): State<Arc<App>>,
    Path(id): Path<i64>,
) -> Result<impl IntoResponse, ApiError> {
    let text = report(&app.rounds.show(id).await?)?;
    Ok(([(CONTENT_TYPE, "text/csv; charset=utf-8")], text))
}
