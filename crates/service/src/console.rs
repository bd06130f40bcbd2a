//! The console's files, and a page that says how to build them where there are none.

use std::path::Path;

use axum::Router;
use axum::response::Html;
use axum::routing::get;
use tower_http::services::{ServeDir, ServeFile};

const NOT_BUILT: &str = "<!doctype html><meta charset=utf-8><title>Duplicarium</title>\
<p>The console is not built. Run <code>make console</code>, and give its folder with <code>--console-dir</code>.</p>";

/// Serves the console under every path that is not the interface's.
pub fn router<S: Clone + Send + Sync + 'static>(dir: Option<&Path>) -> Router<S> {
    match dir.filter(|dir| dir.join("index.html").exists()) {
        Some(dir) => {
            let files = ServeDir::new(dir).fallback(ServeFile::new(dir.join("index.html")));
            Router::new().fallback_service(files)
        }
        None => Router::new().fallback(get(|| async { Html(NOT_BUILT) })),
    }
}
