//! The HTTP interface: one module a noun.

mod arrivals;
mod backups;
mod bench;
mod benches;
mod boards;
mod cards;
mod catalogue;
mod devices;
mod events;
mod extract;
mod feeds;
mod files;
mod filters;
mod health;
mod history;
mod jobs;
mod metrics;
mod notices;
mod outages;
mod people;
mod plans;
mod presets;
mod releases;
mod rounds;
mod services;
mod slots;
mod table;
mod uploads;
mod vault;

use std::sync::Arc;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use tower_http::timeout::RequestBodyTimeoutLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;

use crate::admit;
use crate::app::App;
use crate::console;
use crate::error::ApiError;
use crate::guard;
use crate::peers::{self, forward, served};
use crate::request;
use crate::serve;

#[derive(OpenApi)]
#[openapi(
    components(schemas(api::Problem, api::Drift)),
    info(
        title = "Duplicarium",
        description = "Provision appliance boards from a versioned image catalogue, and keep backups that restore. \
                   Errors are problem details (RFC 9457) with a stable code."
    )
)]
struct Document;

fn interface() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(Document::openapi())
        .merge(health::routes())
        .merge(people::routes())
        .merge(history::routes())
        .merge(notices::routes())
        .merge(boards::routes())
        .merge(devices::routes())
        .merge(table::routes())
        .merge(presets::routes())
        .merge(uploads::routes())
        .merge(releases::routes())
        .merge(files::routes())
        .merge(catalogue::routes())
        .merge(feeds::routes())
        .merge(bench::routes())
        .merge(benches::routes())
        .merge(services::routes())
        .merge(slots::routes())
        .merge(outages::routes())
        .merge(plans::routes())
        .merge(rounds::routes())
        .merge(arrivals::routes())
        .merge(backups::routes())
        .merge(vault::routes())
        .merge(cards::routes())
        .merge(jobs::routes())
        .merge(events::routes())
}

/// Names each operation by its method and path, since programs that are made from the document tell
/// operations apart by that.
fn name_operations(document: &mut utoipa::openapi::OpenApi) {
    for (path, item) in &mut document.paths.paths {
        let words: Vec<_> = path
            .trim_start_matches("/api/v1/")
            .split('/')
            .map(|word| word.trim_matches(['{', '}']))
            .collect();
        for (method, operation) in [
            ("get", &mut item.get),
            ("put", &mut item.put),
            ("post", &mut item.post),
            ("patch", &mut item.patch),
            ("delete", &mut item.delete),
        ] {
            if let Some(operation) = operation {
                operation.operation_id = Some(format!("{method}-{}", words.join("-")));
                let access = api::access(method, path);
                let role = access.and_then(|access| access.role);
                let takes = role.map_or_else(
                    || "Anybody may.".into(),
                    |role| format!("Takes {}.", role.one()),
                );
                operation.description = Some(match operation.description.take() {
                    Some(words) => format!("{words}\n\n{takes}"),
                    None => takes,
                });
            }
        }
    }
}

/// The OpenAPI document as JSON.
pub fn document() -> String {
    let mut document = interface().into_openapi();
    name_operations(&mut document);
    document.to_pretty_json().unwrap_or_default()
}

/// What is asked for under the interface's path and is not there.
async fn nothing_here(uri: axum::http::Uri) -> ApiError {
    ApiError::missing(format!(
        "there is no {} in this interface; /api/v1/openapi.json describes what there is",
        uri.path()
    ))
}

/// Everything that is served.
pub fn router(app: Arc<App>) -> Router {
    let (interface, mut document) = interface().split_for_parts();
    name_operations(&mut document);
    let document = document.to_json().unwrap_or_default();
    let figures = Router::new()
        .route("/metrics", axum::routing::get(metrics::metrics))
        .with_state((app.clone(), std::time::Instant::now()));
    let described =
        axum::routing::get(
            move || async move { ([("content-type", "application/json")], document) },
        );
    interface
        .route("/api/v1/openapi.json", described)
        .merge(figures)
        .route("/api/{*rest}", axum::routing::any(nothing_here))
        .route("/api", axum::routing::any(nothing_here))
        .merge(console::router(app.console_dir.as_deref()))
        .layer(axum::middleware::from_fn_with_state(
            app.clone(),
            extract::once,
        ))
        .layer(axum::middleware::from_fn_with_state(
            app.clone(),
            admit::admit,
        ))
        .layer(axum::middleware::from_fn_with_state(
            app.clone(),
            forward::forward,
        ))
        .merge(served::router(app.clone()))
        .layer(axum::middleware::from_fn_with_state(
            app.clone(),
            serve::bound_bodies,
        ))
        .layer(RequestBodyTimeoutLayer::new(serve::BODY))
        .layer(DefaultBodyLimit::max(api::PART + 1024))
        .layer(axum::middleware::from_fn_with_state(
            app.clone(),
            guard::guard,
        ))
        .layer(axum::middleware::from_fn_with_state(
            app.clone(),
            peers::recognise::recognise,
        ))
        .layer(axum::middleware::from_fn(request::number_it))
        .with_state(app)
}
