//! The history: who asked what, from where, and whether it is still as it was written.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use operations::history::{anchors, csv};
use records::history::{Act, Asked};
use serde::Deserialize;
use time::format_description::well_known::Rfc3339;
use time::{Date, OffsetDateTime, macros::format_description};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;
use crate::error::ApiError;

const PAGE: i64 = 100;
/// Rows that are taken out at once at most.
const MOST: i64 = 100_000;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list))
        .routes(routes!(rows))
        .routes(routes!(check))
}

/// A day, which begins at midnight UTC, or a moment.
fn moment(text: Option<&str>) -> Result<Option<OffsetDateTime>, ApiError> {
    let Some(text) = text.filter(|text| !text.is_empty()) else {
        return Ok(None);
    };
    let day = Date::parse(text, format_description!("[year]-[month]-[day]"));
    let moment = match day {
        Ok(day) => Ok(day.midnight().assume_utc()),
        Err(_) => OffsetDateTime::parse(text, &Rfc3339),
    };
    moment.map(Some).map_err(|_| {
        let detail = format!(
            "{text:?} is no day; write one as 2026-11-29, or a moment as 2026-11-29T10:00:00Z"
        );
        ApiError::invalid("bad-value", detail)
    })
}

fn asked(given: &api::ActsAsked) -> Result<Asked, ApiError> {
    Ok(Asked {
        who: given.who.clone().filter(|who| !who.is_empty()),
        since: moment(given.since.as_deref())?,
        until: moment(given.until.as_deref())?,
        search: given.search.clone().filter(|text| !text.is_empty()),
    })
}

fn shown(act: Act) -> api::Act {
    api::Act {
        id: act.id,
        at: act.at,
        who: act.who,
        role: act.role,
        how: act.how,
        origin: act.origin,
        act: act.act,
        target: act.target,
        about: act.about,
        request: act.request,
        status: act.status,
    }
}

/// What people asked for, newest first.
#[utoipa::path(get, path = "/api/v1/history", params(("who" = Option<String>, Query), ("since" = Option<String>, Query),
    ("until" = Option<String>, Query), ("search" = Option<String>, Query), ("before" = Option<i64>, Query)),
    responses((status = 200, body = api::Acts)))]
async fn list(
    State(app): State<Arc<App>>,
    Query(given): Query<api::ActsAsked>,
) -> Result<Json<api::Acts>, ApiError> {
    let rows = app
        .history
        .page(&asked(&given)?, given.before, PAGE)
        .await?;
    let next = (rows.len() as i64 == PAGE)
        .then(|| rows.last().map(|row| row.id))
        .flatten();
    Ok(Json(api::Acts {
        items: rows.into_iter().map(shown).collect(),
        next,
    }))
}

#[derive(Deserialize)]
struct Form {
    form: String,
}

/// The history for programs: comma-separated values, or JSON, an object a line. The newest rows first.
#[utoipa::path(get, path = "/api/v1/history/rows", params(("form" = String, Query), ("who" = Option<String>, Query),
    ("since" = Option<String>, Query), ("until" = Option<String>, Query), ("search" = Option<String>, Query)),
    responses((status = 200, content_type = "text/csv", body = String)))]
async fn rows(
    State(app): State<Arc<App>>,
    Query(Form { form }): Query<Form>,
    Query(given): Query<api::ActsAsked>,
) -> Result<Response, ApiError> {
    let rows = app
        .history
        .page(&asked(&given)?, given.before, MOST)
        .await?;
    let rows = rows.into_iter().map(shown);
    let unwritable = |e: String| ApiError::invalid("bad-value", e);
    let (kind, text) = match form.as_str() {
        "csv" => {
            let text = csv(rows)?;
            ("text/csv; charset=utf-8", text)
        }
        "jsonl" => {
            let lines = rows.map(|row| serde_json::to_string(&row).map(|line| line + "\n"));
            let text = lines.collect::<Result<String, _>>();
            (
                "application/jsonl",
                text.map_err(|e| unwritable(e.to_string()))?,
            )
        }
        _ => {
            let detail = "the history comes as csv or as jsonl";
            return Err(ApiError::invalid("bad-value", detail));
        }
    };
    let name = format!("attachment; filename=\"history.{form}\"");
    let headers = [
        (header::CONTENT_TYPE, kind.to_owned()),
        (header::CONTENT_DISPOSITION, name),
    ];
    Ok((headers, text).into_response())
}

/// Goes through all of it, and says which rows were changed or taken away since they were written.
#[utoipa::path(post, path = "/api/v1/history/check", responses((status = 200, body = api::HistoryCheck)))]
async fn check(State(app): State<Arc<App>>) -> Result<Json<api::HistoryCheck>, ApiError> {
    let vault = app.store.vault.clone();
    let anchors = tokio::task::spawn_blocking(move || anchors(&vault))
        .await
        .map_err(|e| ApiError::invalid("vault", e.to_string()))?;
    let found = app.history.check(&anchors).await?;
    Ok(Json(api::HistoryCheck {
        rows: found.rows,
        wrong: found.wrong,
    }))
}
