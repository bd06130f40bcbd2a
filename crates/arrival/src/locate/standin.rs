//! The boards of the stand-in: on loopback, at ports of their own.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use bench::wire::{BoardState, Line, Reply, Request};
use futures::future::BoxFuture;

use super::{Blind, Locator, Sighting, Sought};

/// Asks the stand-in which boards have joined a network.
pub struct StandIn {
    line: Arc<Line>,
}

impl StandIn {
    /// The stand-in at this address.
    pub fn at(address: SocketAddr) -> Self {
        let line = Line::new(Some(address)).patient(Duration::from_secs(2));
        Self {
            line: Arc::new(line),
        }
    }
}

fn sighting(board: &BoardState) -> Option<Sighting> {
    board.joined.as_ref()?;
    Some(Sighting {
        address: IpAddr::V4(Ipv4Addr::LOCALHOST),
        ports: board.ports.clone().into_iter().collect::<BTreeMap<_, _>>(),
        mac: board.mac.clone(),
        host_name: board.host_name.clone(),
    })
}

impl Locator for StandIn {
    fn name(&self) -> &'static str {
        "boards of the stand-in"
    }

    fn find<'a>(
        &'a self,
        sought: &'a [Sought],
    ) -> BoxFuture<'a, Result<Vec<Vec<Sighting>>, Blind>> {
        Box::pin(async move {
            if sought.is_empty() {
                return Ok(Vec::new());
            }
            let line = self.line.clone();
            let asked = tokio::task::spawn_blocking(move || line.ask(&Request::Boards, &[]));
            let boards = match asked.await {
                Ok(Ok((Reply::Boards(boards), _))) => boards,
                _ => return Err(Blind("the stand-in does not answer".into())),
            };
            let boards: Vec<_> = boards.iter().filter_map(sighting).collect();
            let of = |one: &Sought| {
                let is = |board: &&Sighting| {
                    let by_name = one.host_name.is_some() && board.host_name == one.host_name;
                    by_name || board.mac.as_ref().is_some_and(|mac| one.macs.contains(mac))
                };
                boards.iter().filter(is).cloned().collect()
            };
            Ok(sought.iter().map(of).collect())
        })
    }
}
