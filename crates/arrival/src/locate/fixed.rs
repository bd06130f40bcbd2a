//! A board at an address that is known beforehand: its port is tried, nothing else.

use std::collections::BTreeMap;
use std::time::Duration;

use futures::future::BoxFuture;
use futures::stream::{self, StreamExt};
use tokio::net::TcpStream;

use super::{Blind, Locator, Sighting, Sought};

/// How long a board may take to answer.
const PATIENCE: Duration = Duration::from_secs(2);
/// Addresses that are tried at once.
const AT_ONCE: usize = 32;

/// Tries the address that is named.
#[derive(Debug, Default)]
pub struct Fixed;

impl Fixed {
    async fn one(sought: &Sought) -> Vec<Sighting> {
        let Some(address) = sought.address else {
            return Vec::new();
        };
        let connect = TcpStream::connect((address, sought.port));
        let answer = tokio::time::timeout(PATIENCE, connect).await;
        let there = match answer {
            Ok(Ok(_)) => true,
            // Whoever refuses is there.
            Ok(Err(e)) => {
                e.kind() == std::io::ErrorKind::ConnectionRefused && !address.is_loopback()
            }
            Err(_) => false,
        };
        let sighting = there.then(|| Sighting {
            address,
            ports: BTreeMap::new(),
            mac: None,
            host_name: None,
        });
        sighting.into_iter().collect()
    }
}

impl Locator for Fixed {
    fn name(&self) -> &'static str {
        "its address"
    }

    fn find<'a>(
        &'a self,
        sought: &'a [Sought],
    ) -> BoxFuture<'a, Result<Vec<Vec<Sighting>>, Blind>> {
        Box::pin(async move {
            let all = stream::iter(sought.iter().map(Self::one));
            Ok(all.buffered(AT_ONCE).collect().await)
        })
    }
}
