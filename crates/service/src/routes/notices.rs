//! Notices: who is told when something needs a person, and what was told.

use std::sync::Arc;

use api::Role;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use operations::people::Caller;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(matters))
        .routes(routes!(ways, add))
        .routes(routes!(remove))
        .routes(routes!(try_now))
        .routes(routes!(list))
}

/// The kinds of matters that are told.
#[utoipa::path(get, path = "/api/v1/notice-matters", responses((status = 200, body = Vec<api::Matter>)))]
async fn matters() -> Json<Vec<api::Matter>> {
    let all = api::MATTERS.iter().map(|(kind, when)| api::Matter {
        kind: (*kind).into(),
        when: (*when).into(),
    });
    Json(all.collect())
}

/// The ways in which somebody is told; whole addresses for owners, for others without what may open something.
#[utoipa::path(get, path = "/api/v1/notice-ways", responses((status = 200, body = Vec<api::NoticeWay>)))]
async fn ways(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
) -> Result<Json<Vec<api::NoticeWay>>, ApiError> {
    let whole = caller.role == Some(Role::Owner);
    Ok(Json(app.notices.ways(whole).await?))
}

/// Adds a way: an address of mail, or an URL that is called with JSON. What needs a person now is told at once.
#[utoipa::path(post, path = "/api/v1/notice-ways", request_body = api::NewNoticeWay,
    responses((status = 201, body = Vec<api::NoticeWay>)))]
async fn add(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::NewNoticeWay>,
) -> Result<(StatusCode, Json<Vec<api::NoticeWay>>), ApiError> {
    app.notices.add(&new, &operator).await?;
    Ok((StatusCode::CREATED, Json(app.notices.ways(true).await?)))
}

/// Removes a way; what was to be told by it is not told any more.
#[utoipa::path(delete, path = "/api/v1/notice-ways/{name}", responses((status = 204)))]
async fn remove(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    app.notices.remove(&name, &operator).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Tells something by a way at once, to see whether it arrives.
#[utoipa::path(post, path = "/api/v1/notice-ways/{name}/try", responses((status = 204)))]
async fn try_now(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    app.notices.try_now(&name, &operator).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What was told lately, or is to be; the newest first.
#[utoipa::path(get, path = "/api/v1/notices", responses((status = 200, body = Vec<api::Notice>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Notice>>, ApiError> {
    Ok(Json(app.notices.list().await?))
}
