//! Before the vault is tidied, each other service is asked what it relies on.

use std::collections::HashSet;
use std::sync::Arc;

use axum::http::Method;
use records::services::{Service, TidyingTurn};
use vault::{Name, Others, Round, SegmentId, VaultError};

use super::Peers;

/// Segments that are asked for at once.
const AT_ONCE: usize = 10_000;

/// The others, to whoever works with the vault.
pub struct Asked(pub Arc<Peers>);

fn cannot(service: &Service, error: &anyhow::Error) -> VaultError {
    VaultError::Others(format!(
        "service {} works with the vault too, and cannot be asked what it relies on: {error:#}",
        service.number
    ))
}

fn away(error: impl std::fmt::Display) -> VaultError {
    VaultError::Others(format!(
        "who else works with the vault is not known: {error}"
    ))
}

impl Others for Asked {
    fn begin(&self) -> Result<Box<dyn Round>, VaultError> {
        let peers = &self.0;
        peers.runtime.block_on(async {
            let turn = peers.records.tidying_turn().await.map_err(away)?;
            let turn = turn
                .ok_or_else(|| VaultError::Others("another service tidies the vault now".into()))?;
            let mut name = [0; 12];
            getrandom::fill(&mut name).map_err(away)?;
            let begun = Begun {
                peers: peers.clone(),
                name: hex::encode(name),
                turn: Some(turn),
            };
            for other in peers.others().await.map_err(|e| away(e.detail))? {
                let path = format!("/peers/rounds/{}", begun.name);
                let asked = peers.ask::<bool>(&other, Method::POST, &path, None::<&()>);
                if let Err(e) = asked.await {
                    begun.unless_gone(&other, &e).await?;
                }
            }
            Ok(Box::new(begun) as Box<dyn Round>)
        })
    }

    fn forget(&self, names: &[Name]) {
        let peers = &self.0;
        let names: Vec<String> = names.iter().map(|name| hex::encode(name.0)).collect();
        peers.runtime.block_on(async {
            for other in peers.others().await.unwrap_or_default() {
                let asked = peers.ask::<bool>(&other, Method::POST, "/peers/damaged", Some(&names));
                if let Err(e) = asked.await {
                    // Its next start reads what is written beside the segments.
                    tracing::warn!(service = other.number, "was not told of damage: {e:#}");
                }
            }
        });
    }
}

/// A round of tidying.
struct Begun {
    peers: Arc<Peers>,
    name: String,
    /// No other service tidies until this is given back.
    turn: Option<TidyingTurn>,
}

impl Begun {
    /// That a service does not answer is in the way as long as it lives.
    async fn unless_gone(
        &self,
        service: &Service,
        error: &anyhow::Error,
    ) -> Result<(), VaultError> {
        match self.peers.other(service.number).await {
            Ok(None) => Ok(()),
            _ => Err(cannot(service, error)),
        }
    }
}

impl Round for Begun {
    fn give_up(&self, segments: &[SegmentId]) -> Result<HashSet<SegmentId>, VaultError> {
        let peers = &self.peers;
        let path = format!("/peers/rounds/{}/segments", self.name);
        peers.runtime.block_on(async {
            let mut stay = HashSet::new();
            for other in peers.others().await.map_err(|e| away(e.detail))? {
                for some in segments.chunks(AT_ONCE) {
                    let names: Vec<String> = some.iter().map(ToString::to_string).collect();
                    let asked = peers.ask::<Vec<String>>(&other, Method::POST, &path, Some(&names));
                    match asked.await {
                        Ok(names) => stay.extend(names.iter().map(|name| SegmentId::named(name))),
                        Err(e) => self.unless_gone(&other, &e).await?,
                    }
                }
            }
            Ok(stay)
        })
    }
}

impl Drop for Begun {
    fn drop(&mut self) {
        let (peers, name, turn) = (self.peers.clone(), self.name.clone(), self.turn.take());
        self.peers.runtime.spawn(async move {
            for other in peers.others().await.unwrap_or_default() {
                let path = format!("/peers/rounds/{name}");
                if let Ok(request) = peers.request(&other, Method::DELETE, &path) {
                    // A round that another one begins counts in its place.
                    let _ = request.timeout(super::PATIENCE).send().await;
                }
            }
            if let Some(turn) = turn {
                turn.over().await;
            }
        });
    }
}
