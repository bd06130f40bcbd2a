//! Figures for whoever watches the service, in the text format of Prometheus (version 0.0.4).

use std::fmt::{Display, Write as _};
use std::sync::Arc;
use std::time::Instant;

use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use records::figures::Counted;
use time::OffsetDateTime;

use crate::app::App;
use crate::error::ApiError;

/// Lines of figures.
#[derive(Default)]
struct Text(String);

impl Text {
    /// What a figure is; its values follow.
    fn about(&mut self, name: &str, kind: &str, help: &str) {
        let _ = writeln!(self.0, "# HELP duplicarium_{name} {help}");
        let _ = writeln!(self.0, "# TYPE duplicarium_{name} {kind}");
    }

    fn value(&mut self, name: &str, labels: &[(&str, &str)], value: impl Display) {
        let labels: Vec<_> = labels
            .iter()
            .map(|(key, text)| {
                let text = text.replace('\\', "\\\\").replace('"', "\\\"");
                format!("{key}=\"{}\"", text.replace('\n', "\\n"))
            })
            .collect();
        let labels = match labels.is_empty() {
            true => String::new(),
            false => format!("{{{}}}", labels.join(",")),
        };
        let _ = writeln!(self.0, "duplicarium_{name}{labels} {value}");
    }

    /// A figure with one value.
    fn one(&mut self, name: &str, kind: &str, help: &str, value: impl Display) {
        self.about(name, kind, help);
        self.value(name, &[], value);
    }

    fn states(&mut self, name: &str, help: &str, counted: &[Counted]) {
        self.about(name, "gauge", help);
        for one in counted {
            self.value(name, &[("state", &one.what)], one.count);
        }
    }
}

/// Jobs as the records have them: those that are over count up, those under way are now.
fn jobs(text: &mut Text, counted: &[Counted]) {
    let under_way = |one: &&Counted| matches!(one.how.as_deref(), Some("waiting" | "running"));
    text.about("jobs", "gauge", "Jobs that wait or run, by kind.");
    for one in counted.iter().filter(under_way) {
        let state = one.how.as_deref().unwrap_or_default();
        text.value("jobs", &[("kind", &one.what), ("state", state)], one.count);
    }
    text.about(
        "jobs_ended_total",
        "counter",
        "Jobs that ended, by kind and how.",
    );
    for one in counted.iter().filter(|one| !under_way(one)) {
        let state = one.how.as_deref().unwrap_or_default();
        let labels = [("kind", one.what.as_str()), ("state", state)];
        text.value("jobs_ended_total", &labels, one.count);
    }
    text.about(
        "job_seconds_total",
        "counter",
        "Seconds that ended jobs took, by kind and how they ended.",
    );
    for one in counted.iter().filter(|one| !under_way(one)) {
        let state = one.how.as_deref().unwrap_or_default();
        let labels = [("kind", one.what.as_str()), ("state", state)];
        text.value("job_seconds_total", &labels, one.seconds);
    }
}

/// All figures. They stand outside of the interface's path, where such programs look for them.
pub async fn metrics(
    State((app, since)): State<(Arc<App>, Instant)>,
) -> Result<impl IntoResponse, ApiError> {
    let figures = app.records.figures().await?;
    let mut text = Text::default();
    text.about("build_info", "gauge", "The version that runs.");
    text.value("build_info", &[("version", env!("CARGO_PKG_VERSION"))], 1);
    text.one(
        "up_seconds",
        "gauge",
        "Seconds since the service started.",
        since.elapsed().as_secs(),
    );
    jobs(&mut text, &figures.jobs);
    text.states(
        "cards",
        "Cards by what is on them or became of them.",
        &figures.cards,
    );
    text.states("devices", "Devices by state.", &figures.devices);
    text.one(
        "written_bytes_total",
        "counter",
        "Bytes that were put on cards.",
        figures.written,
    );
    text.one(
        "verified_bytes_total",
        "counter",
        "Bytes that were read back from cards and found equal.",
        figures.verified,
    );
    text.one(
        "backups",
        "gauge",
        "Backups whose content is there.",
        figures.backups,
    );
    let waits = figures.unproven_since.map_or(0, |since| {
        (OffsetDateTime::now_utc() - since).whole_seconds().max(0)
    });
    text.one(
        "unproven_seconds",
        "gauge",
        "Age of the oldest card in a device without a newer backup that is proven to hold its files.",
        waits,
    );
    text.about("slots", "gauge", "Slots by what is the matter with them.");
    let slots = app.slots.views();
    for (state, count) in [
        (
            "empty",
            slots
                .iter()
                .filter(|one| one.card.is_none() && one.trouble.is_none())
                .count(),
        ),
        (
            "card",
            slots
                .iter()
                .filter(|one| one.card.is_some() && one.job.is_none())
                .count(),
        ),
        ("busy", slots.iter().filter(|one| one.job.is_some()).count()),
        (
            "no answer",
            slots.iter().filter(|one| one.trouble.is_some()).count(),
        ),
    ] {
        text.value("slots", &[("state", state)], count);
    }
    text.one(
        "readers_answer",
        "gauge",
        "Whether every card reader answered when it was asked last.",
        u8::from(app.slots.readers_answer()),
    );
    let vault = &app.store.vault;
    text.one(
        "vault_bytes",
        "gauge",
        "Bytes that the vault takes.",
        vault.stored(),
    );
    text.about("vault_pieces", "gauge", "Pieces in the vault, by kind.");
    for (kind, count, _) in vault.counts() {
        let kind = format!("{kind:?}").to_lowercase();
        text.value("vault_pieces", &[("kind", &kind)], count);
    }
    if let Some(free) = app.store.free() {
        text.one(
            "vault_free_bytes",
            "gauge",
            "Bytes that are free where the vault lies.",
            free,
        );
    }
    let attention = app.attention().await?;
    text.about("attention", "gauge", "What needs a hand, by kind.");
    let mut kinds: Vec<&str> = attention.iter().map(|one| one.kind.as_str()).collect();
    kinds.sort_unstable();
    for kind in kinds.chunk_by(|a, b| a == b) {
        text.value("attention", &[("kind", kind[0])], kind.len());
    }
    let kind = [(
        header::CONTENT_TYPE,
        "text/plain; version=0.0.4; charset=utf-8",
    )];
    Ok((kind, text.0))
}
