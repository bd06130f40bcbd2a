//! Plans and their confirmation.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, RequestKey};
use crate::app::App;
use crate::error::ApiError;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(make))
        .routes(routes!(make_for_card))
        .routes(routes!(confirm))
}

/// Makes a plan for the card in a slot. Nothing is touched.
#[utoipa::path(post, path = "/api/v1/plans", request_body = api::NewPlan, responses((status = 201, body = api::Plan)))]
async fn make(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::NewPlan>,
) -> Result<(StatusCode, Json<api::Plan>), ApiError> {
    Ok((
        StatusCode::CREATED,
        Json(app.plans.make(&operator, &new).await?),
    ))
}

/// Makes a plan for work on the card in a slot itself: to check it, to clear it, to put back what a check
/// that was cut off had found on it. Nothing is touched.
#[utoipa::path(post, path = "/api/v1/card-plans", request_body = api::NewCardPlan,
    responses((status = 201, body = api::CardPlan)))]
async fn make_for_card(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::NewCardPlan>,
) -> Result<(StatusCode, Json<api::CardPlan>), ApiError> {
    Ok((
        StatusCode::CREATED,
        Json(app.plans.make_for_card(&operator, &new).await?),
    ))
}

/// Confirms a plan with the label on the card and the names of all its cautions: a job.
#[utoipa::path(post, path = "/api/v1/plans/{id}/confirm", request_body = api::Confirmation,
    responses((status = 202, body = api::Job)))]
async fn confirm(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(key): RequestKey,
    Path(id): Path<String>,
    Given(given): Given<api::Confirmation>,
) -> Result<(StatusCode, Json<api::Job>), ApiError> {
    Ok((
        StatusCode::ACCEPTED,
        Json(app.plans.confirm(&operator, &id, &given, key).await?),
    ))
}
