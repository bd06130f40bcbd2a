//! What other services tell: which slots they have, how far their jobs are.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Context, Result, bail};
use api::PeerNews;
use axum::http::Method;
use futures::StreamExt;
use records::services::Service;
use tokio::task::JoinHandle;

use super::{HEARD, Peers};
use crate::app::App;

/// How often it is looked which services live.
const EVERY: Duration = Duration::from_secs(1);
/// How long to wait before one that did not answer is asked again.
const AGAIN: Duration = Duration::from_millis(500);
/// Longest line that is read, in bytes.
const LINE: usize = 4 << 20;

/// Listens to all other services for as long as this one runs.
pub async fn keep(app: Arc<App>, peers: Arc<Peers>) {
    let mut links: BTreeMap<i32, (Service, JoinHandle<()>)> = BTreeMap::new();
    loop {
        // Where the records are away, nobody knows who lives: what is heard goes on.
        if let Ok(others) = peers.others().await {
            links.retain(|number, (service, link)| {
                let stays = others.contains(service);
                if !stays {
                    link.abort();
                    forget(&app, *number);
                }
                stays
            });
            for other in others {
                links.entry(other.number).or_insert_with(|| {
                    let link = listen(app.clone(), peers.clone(), other.clone());
                    (other, tokio::spawn(link))
                });
            }
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// What a service had is not known any more.
fn forget(app: &App, number: i32) {
    app.slots.hear(number, None);
    app.slots.benches().hear(number, None);
}

async fn listen(app: Arc<App>, peers: Arc<Peers>, to: Service) {
    loop {
        if let Err(e) = hear(&app, &peers, &to).await {
            tracing::debug!(service = to.number, "what another service tells: {e:#}");
        }
        forget(&app, to.number);
        tokio::time::sleep(AGAIN).await;
    }
}

/// Hears until the connection ends.
async fn hear(app: &App, peers: &Peers, to: &Service) -> Result<()> {
    let asked = peers.request(to, Method::GET, "/peers/news")?.send();
    let answer = tokio::time::timeout(HEARD, asked)
        .await
        .context("it does not answer")??;
    let mut pieces = answer.error_for_status()?.bytes_stream();
    let mut line = Vec::new();
    while let Some(piece) = tokio::time::timeout(HEARD, pieces.next())
        .await
        .context("it fell silent")?
    {
        line.extend_from_slice(&piece?);
        while let Some(end) = line.iter().position(|byte| *byte == b'\n') {
            let rest = line.split_off(end + 1);
            match serde_json::from_slice(&line)? {
                PeerNews::Slots(slots, benches) => {
                    app.slots.benches().hear(to.number, Some(benches));
                    app.slots.hear(to.number, Some(slots));
                }
                PeerNews::Progress(progress) => app.jobs.hear(progress),
            }
            line = rest;
            peers.heard().insert(to.number, Instant::now());
        }
        if line.len() > LINE {
            bail!("a line is too long");
        }
    }
    Ok(())
}
