//! Board models and sites.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use records::boards;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;
use operations::names::check_name;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list))
        .routes(routes!(put))
        .routes(routes!(sites))
        .routes(routes!(put_site, rename_site))
}

/// Board models.
#[utoipa::path(get, path = "/api/v1/boards", responses((status = 200, body = Vec<api::BoardModel>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::BoardModel>>, ApiError> {
    let rows = app.records.boards().await?.into_iter();
    let boards = rows.map(|row| api::BoardModel {
        lamp_table: operations::arrivals::lamps_of(&row),
        name: row.name,
        title: row.title,
        architecture: row.architecture,
        memory_mb: row.memory_mb,
        ports: row.ports,
        power: row.power,
        lamps: row.lamps,
        boot_minutes: row.boot_minutes,
        card_sits: row.card_sits,
    });
    Ok(Json(boards.collect()))
}

/// Adds or changes a board model.
#[utoipa::path(put, path = "/api/v1/boards/{name}", request_body = api::BoardModel,
    responses((status = 200, body = api::BoardModel)))]
async fn put(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(board): Given<api::BoardModel>,
) -> Result<Json<api::BoardModel>, ApiError> {
    check_name("board model", &name)?;
    check_lamps(&board.lamp_table)?;
    let row = boards::BoardModel {
        name: name.clone(),
        title: board.title.clone(),
        architecture: board.architecture.clone(),
        memory_mb: board.memory_mb,
        ports: board.ports.clone(),
        power: board.power.clone(),
        lamps: board.lamps.clone(),
        boot_minutes: board.boot_minutes,
        card_sits: board.card_sits.clone(),
        lamp_table: serde_json::json!(board.lamp_table),
    };
    app.records.put_board(&row).await?;
    app.events
        .note(
            &operator,
            "board.changed",
            &name,
            &format!("Board model {name} added or changed"),
        )
        .await?;
    Ok(Json(api::BoardModel { name, ..board }))
}

/// Patterns that can be drawn, each once, with a cause that is known.
fn check_lamps(lamps: &[api::Lamp]) -> Result<(), ApiError> {
    let refuse = |detail: String| Err(ApiError::invalid("bad-value", detail));
    if lamps.len() > 40 {
        return refuse("a board model has at most 40 lamp patterns".into());
    }
    for (place, lamp) in lamps.iter().enumerate() {
        let pattern = lamp.pattern.as_str();
        let row = || {
            pattern
                .split(',')
                .all(|one| matches!(one, "short" | "long"))
        };
        if !matches!(pattern, "steady" | "dark") && (pattern.len() > 100 || !row()) {
            return refuse(format!(
                "a lamp pattern is steady, dark, or short and long with commas between, not {pattern:?}"
            ));
        }
        if lamps[..place].iter().any(|other| other.pattern == pattern) {
            return refuse(format!("the lamp pattern {pattern} stands there twice"));
        }
        let causes = ["", "none", "power", "card", "image", "network"];
        if !causes.contains(&lamp.cause.as_str()) || lamp.means.chars().count() > 200 {
            return refuse(format!(
                "a lamp pattern comes from none, power, card, image or network, not {:?}, and means something in at \
                 most 200 characters",
                lamp.cause
            ));
        }
    }
    Ok(())
}

/// Sites.
#[utoipa::path(get, path = "/api/v1/sites", responses((status = 200, body = Vec<api::Site>)))]
async fn sites(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Site>>, ApiError> {
    let rows = app.records.sites().await?.into_iter();
    let sites = rows.map(|row| api::Site {
        name: row.name,
        title: row.title,
    });
    Ok(Json(sites.collect()))
}

/// Adds or changes a site.
#[utoipa::path(put, path = "/api/v1/sites/{name}", request_body = api::Site,
    responses((status = 200, body = api::Site)))]
async fn put_site(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(site): Given<api::Site>,
) -> Result<Json<api::Site>, ApiError> {
    check_name("site", &name)?;
    let row = boards::Site {
        name: name.clone(),
        title: site.title.clone(),
    };
    app.records.put_site(&row).await?;
    app.events
        .note(
            &operator,
            "site.changed",
            &name,
            &format!("Site {name} added or changed"),
        )
        .await?;
    Ok(Json(api::Site { name, ..site }))
}

/// Gives a site another name; its devices and presets go along.
#[utoipa::path(patch, path = "/api/v1/sites/{name}", request_body = api::SiteChange,
    responses((status = 200, body = api::Site)))]
async fn rename_site(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(given): Given<api::SiteChange>,
) -> Result<Json<api::Site>, ApiError> {
    check_name("site", &given.name)?;
    app.records.rename_site(&name, &given.name).await?;
    let summary = format!("Site {name} is called {} now", given.name);
    app.events
        .note(&operator, "site.changed", &given.name, &summary)
        .await?;
    let sites = app.records.sites().await?;
    let site = sites.into_iter().find(|site| site.name == given.name);
    let site =
        site.ok_or_else(|| ApiError::missing(format!("there is no site {:?}", given.name)))?;
    Ok(Json(api::Site {
        name: site.name,
        title: site.title,
    }))
}
