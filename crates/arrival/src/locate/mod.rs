//! Where a board is: several ways, one seam.

mod elsewhere;
mod fixed;
mod mdns;
mod neighbours;
mod standin;

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};

use futures::future::BoxFuture;

pub use elsewhere::{Elsewhere, is_elsewhere};
pub use fixed::Fixed;
pub use mdns::Mdns;
pub use neighbours::Neighbours;
pub use standin::StandIn;

/// What is looked for. Only what is named here is ever asked for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sought {
    /// Host name, without a domain.
    pub host_name: Option<String>,
    /// Its fixed address, from its settings or from somebody's words.
    pub address: Option<IpAddr>,
    /// A port that it should answer at.
    pub port: u16,
    /// Hardware addresses, small letters with colons.
    pub macs: Vec<String>,
    /// Kinds of services that it announces, such as `_http._tcp` (RFC 6763).
    pub services: Vec<String>,
}

/// A board that was found.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Sighting {
    /// Its address.
    pub address: IpAddr,
    /// Ports that are elsewhere than usual, as with boards that are only stand-ins.
    pub ports: BTreeMap<u16, u16>,
    /// Its hardware address.
    pub mac: Option<String>,
    /// The name that it says it has.
    pub host_name: Option<String>,
}

impl Sighting {
    /// Where a port of it is.
    pub fn at(&self, port: u16) -> SocketAddr {
        let port = self.ports.get(&port).copied().unwrap_or(port);
        SocketAddr::new(self.address, port)
    }
}

/// Why a way of finding boards does not work now.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Blind(pub String);

/// A way of finding boards.
pub trait Locator: Send + Sync {
    /// What it is called, for people.
    fn name(&self) -> &'static str;

    /// Where those are that are sought, in the order of `sought`, all of them with that name or address. It takes
    /// seconds at most, and asks nobody about anything else.
    ///
    /// # Errors
    /// [`Blind`] where it cannot find anything here, with what is in its way.
    fn find<'a>(&'a self, sought: &'a [Sought])
    -> BoxFuture<'a, Result<Vec<Vec<Sighting>>, Blind>>;
}
