//! Other services that work with the same records and the same vault: who they are, and how each is asked.
//!
//! What they share is in the records and the vault. What one of them has in memory (plans, slots, jobs that run) stays
//! there: requests about it are passed on to it (`forward.rs`), what it shows is told to the others (`links.rs`), and
//! before the vault is tidied each is asked what it relies on (`vault.rs`).

pub mod forward;
pub mod links;
pub mod recognise;
pub mod served;
pub mod vault;

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use ::vault::{Keys, SegmentId};
use anyhow::{Context, Result};
use axum::http::{HeaderMap, HeaderName, Method};
use operations::refusal::Refusal;
use records::Records;
use records::services::Service;
use tokio::runtime::Handle;

/// Shows that a request comes from another service of the team.
const TOKEN: HeaderName = HeaderName::from_static("duplicarium-peer");
/// Where a request comes from that is passed on.
const ORIGIN: HeaderName = HeaderName::from_static("duplicarium-origin");
/// Whether that is the computer of the service that it came to.
const HERE: HeaderName = HeaderName::from_static("duplicarium-here");
/// How long a service that lives is waited for.
const PATIENCE: Duration = Duration::from_secs(3);
/// How long after its last word a service counts as heard.
const HEARD: Duration = Duration::from_secs(6);

/// A request that another service passed on: where it came from there.
#[derive(Clone, Debug)]
pub struct Forwarded {
    pub origin: String,
    pub here: bool,
}

/// The other services.
pub struct Peers {
    records: Records,
    /// Number of this service.
    number: i32,
    /// What all services of the team show each other: whoever has the key file can tell it.
    token: String,
    /// One client for each certificate.
    clients: Mutex<HashMap<Option<String>, reqwest::Client>>,
    /// When each was heard last.
    heard: Mutex<BTreeMap<i32, Instant>>,
    runtime: Handle,
}

impl Peers {
    /// The others, as service of this number. Must be called inside a Tokio runtime.
    pub fn new(records: Records, keys: &Keys, number: i32) -> Arc<Self> {
        Arc::new(Self {
            records,
            number,
            token: hex::encode(keys.derived("what services show each other")),
            clients: Mutex::default(),
            heard: Mutex::default(),
            runtime: Handle::current(),
        })
    }

    /// All other services that live.
    pub async fn others(&self) -> Result<Vec<Service>, Refusal> {
        let mut all = self.records.services().await?;
        all.retain(|service| service.number != self.number);
        Ok(all)
    }

    /// Another service that lives, by its number.
    async fn other(&self, number: i32) -> Result<Option<Service>, Refusal> {
        let others = self.others().await?;
        Ok(others.into_iter().find(|service| service.number == number))
    }

    fn heard(&self) -> MutexGuard<'_, BTreeMap<i32, Instant>> {
        self.heard.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Whether something came from a service a moment ago.
    pub fn hears(&self, number: i32) -> bool {
        let heard = self.heard().get(&number).copied();
        number == self.number || heard.is_some_and(|at| at.elapsed() < HEARD)
    }

    fn client(&self, fingerprint: Option<&str>) -> Result<reqwest::Client> {
        let mut clients = self.clients.lock().unwrap_or_else(|e| e.into_inner());
        if let Some(known) = clients.get(&fingerprint.map(str::to_owned)) {
            return Ok(known.clone());
        }
        let client = match fingerprint {
            // It names its certificate in the records: that one, and no other.
            Some(fingerprint) => api::pinned(fingerprint)?,
            None => api::http_client(|builder| {
                builder
                    .connect_timeout(PATIENCE)
                    .no_proxy()
                    .redirect(reqwest::redirect::Policy::none())
            })?,
        };
        clients.insert(fingerprint.map(str::to_owned), client.clone());
        Ok(client)
    }

    /// A request to another service, with what shows where it comes from.
    fn request(&self, to: &Service, method: Method, path: &str) -> Result<reqwest::RequestBuilder> {
        let address = to
            .address
            .as_deref()
            .context("it does not say where it is reached")?;
        let url = format!("{}{path}", address.trim_end_matches('/'));
        let client = self.client(to.fingerprint.as_deref())?;
        Ok(client
            .request(method, url)
            .header(TOKEN, self.token.as_str()))
    }

    /// Asks another service for something short.
    async fn ask<T: serde::de::DeserializeOwned>(
        &self,
        to: &Service,
        method: Method,
        path: &str,
        body: Option<&(impl serde::Serialize + Sync)>,
    ) -> Result<T> {
        let mut request = self.request(to, method, path)?.timeout(PATIENCE * 10);
        if let Some(body) = body {
            request = request.json(body);
        }
        let answer = request.send().await?.error_for_status()?;
        Ok(answer.json().await?)
    }

    /// Segments of the vault that the others are about to delete.
    pub async fn leaving(&self) -> Result<Vec<SegmentId>, Refusal> {
        let mut all = Vec::new();
        let at_work = self.records.services_at_work().await?;
        let others = self.others().await?.into_iter();
        for other in others.filter(|other| at_work.contains(&other.number)) {
            let asked = self.ask::<Vec<String>>(&other, Method::GET, "/peers/leaving", None::<&()>);
            let names = asked.await.map_err(|e| away(&other, &e))?;
            all.extend(names.iter().map(|name| SegmentId::named(name)));
        }
        Ok(all)
    }

    /// Whether a request shows that it comes from another service of the team.
    fn is_from_peer(&self, headers: &HeaderMap) -> bool {
        let shown = headers
            .get(TOKEN)
            .map(|shown| blake3::hash(shown.as_bytes()));
        // Digests are compared without telling where they differ.
        shown.is_some_and(|shown| shown == blake3::hash(self.token.as_bytes()))
    }
}

/// That a service lives and does not answer.
fn away(service: &Service, error: &anyhow::Error) -> Refusal {
    let address = service.address.as_deref().unwrap_or("no address");
    Refusal::busy(&format!(
        "service {} at {address} does not answer ({error:#}); what it has waits for it. Try again in a moment",
        service.number
    ))
}

/// Marks a request that comes from another service.
#[derive(Clone, Copy)]
pub struct FromPeer;
