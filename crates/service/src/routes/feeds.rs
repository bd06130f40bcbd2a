//! Feeds of publishers.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;
use operations::feeds::{Item, password_name};
use operations::names::check_name;
use operations::work::fetch::check_url;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list))
        .routes(routes!(put, remove))
        .routes(routes!(look))
}

async fn view(app: &App, row: records::feeds::Feed) -> Result<api::Feed, ApiError> {
    let items = app.records.feed_items(&row.name).await?;
    Ok(api::Feed {
        name: row.name,
        url: row.url,
        user: row.user_name,
        looked_at: row.looked_at,
        trouble: row.trouble,
        items: items
            .into_iter()
            .filter_map(|item| {
                let described: Item = serde_json::from_value(item.described).ok()?;
                Some(api::FeedItem {
                    item: item.item,
                    appliance: described.appliance,
                    variant: described.variant,
                    version: described.version,
                    date: described.date,
                    size: described.size,
                    notes: described.notes,
                    new: !item.known && item.release.is_none(),
                    first_seen: item.first_seen,
                    release: item.release,
                })
            })
            .collect(),
    })
}

/// Feeds with what is in them.
#[utoipa::path(get, path = "/api/v1/feeds", responses((status = 200, body = Vec<api::Feed>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Feed>>, ApiError> {
    let mut feeds = Vec::new();
    for row in app.records.feeds().await? {
        feeds.push(view(&app, row).await?);
    }
    Ok(Json(feeds))
}

/// Follows a feed, or changes where it is. It is looked at right away.
#[utoipa::path(put, path = "/api/v1/feeds/{name}", request_body = api::NewFeed,
    responses((status = 200, body = api::Feed)))]
async fn put(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(new): Given<api::NewFeed>,
) -> Result<Json<api::Feed>, ApiError> {
    check_name("feed", &name)?;
    check_url(&new.url, app.rules.private_addresses)?;
    let sealed = match &new.password {
        Some(password) => Some(
            app.store
                .keys
                .seal_secret(&password_name(&name), password)?,
        ),
        None => None,
    };
    app.records
        .put_feed(
            &name,
            &new.url,
            new.user.as_deref(),
            sealed.as_deref(),
            &operator,
        )
        .await?;
    app.events
        .note(
            &operator,
            "feed.followed",
            &name,
            &format!("Feed {name} is followed"),
        )
        .await?;
    app.feeds.look(&name, &operator).await?;
    Ok(Json(view(&app, app.records.feed(&name).await?).await?))
}

/// Gives a feed up; releases that came from it stay.
#[utoipa::path(delete, path = "/api/v1/feeds/{name}", responses((status = 200, body = Vec<api::Feed>)))]
async fn remove(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
) -> Result<Json<Vec<api::Feed>>, ApiError> {
    app.records.feed(&name).await?;
    app.records.remove_feed(&name).await?;
    app.events
        .note(
            &operator,
            "feed.given-up",
            &name,
            &format!("Feed {name} is not followed any more"),
        )
        .await?;
    list(State(app)).await
}

/// Looks at a feed now.
#[utoipa::path(post, path = "/api/v1/feeds/{name}/look", responses((status = 200, body = api::Feed)))]
async fn look(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
) -> Result<Json<api::Feed>, ApiError> {
    app.feeds.look(&name, &operator).await?;
    Ok(Json(view(&app, app.records.feed(&name).await?).await?))
}
