//! Multicast DNS (RFC 6762): a host name asked for on this computer's own networks.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use futures::future::BoxFuture;
use mdns_sd::{HostnameResolutionEvent, IfKind, ScopedIp, ServiceDaemon};

use super::{Blind, Locator, Sighting, Sought};

type Seen = Arc<Mutex<BTreeSet<IpAddr>>>;

/// Asks for the names that are sought, for as long as they are.
pub struct Mdns {
    state: Mutex<State>,
    port: u16,
    /// Whether only this computer itself is asked.
    on_loopback: bool,
}

#[derive(Default)]
struct State {
    daemon: Option<ServiceDaemon>,
    /// What has answered to each name that is asked for, and when it was sought last.
    asked: HashMap<String, (Seen, Instant)>,
}

/// A name is asked for as long as it was sought within this: whoever seeks now and then hears what came meanwhile,
/// and whoever seeks others takes nothing away.
const KEEPS: Duration = Duration::from_secs(60);

/// The port of multicast DNS.
pub const PORT: u16 = 5353;

impl Default for Mdns {
    fn default() -> Self {
        Self {
            state: Mutex::default(),
            port: PORT,
            on_loopback: false,
        }
    }
}

impl Mdns {
    /// On loopback only, and on another port than that of the standard: for tests that disturb nobody.
    pub fn on_loopback(port: u16) -> Self {
        Self {
            state: Mutex::default(),
            port,
            on_loopback: true,
        }
    }

    fn daemon(&self) -> Result<ServiceDaemon, mdns_sd::Error> {
        let daemon = ServiceDaemon::new_with_port(self.port)?;
        if self.on_loopback {
            daemon.disable_interface(IfKind::All)?;
            daemon.enable_interface(IfKind::LoopbackV4)?;
        }
        Ok(daemon)
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }
}

fn no_mdns(why: impl std::fmt::Display) -> Blind {
    Blind(format!(
        "names cannot be asked for by mDNS on this computer ({why})"
    ))
}

fn lock(seen: &Seen) -> MutexGuard<'_, BTreeSet<IpAddr>> {
    seen.lock().unwrap_or_else(|e| e.into_inner())
}

impl State {
    /// Begins to ask for a name.
    fn ask(&mut self, name: &str, mdns: &Mdns) -> Result<Seen, Blind> {
        if let Some((seen, sought)) = self.asked.get_mut(name) {
            *sought = Instant::now();
            return Ok(seen.clone());
        }
        let daemon = match &self.daemon {
            Some(daemon) => daemon,
            None => self.daemon.insert(mdns.daemon().map_err(no_mdns)?),
        };
        let events = daemon.resolve_hostname(name, None).map_err(no_mdns)?;
        let seen = Seen::default();
        self.asked
            .insert(name.to_owned(), (seen.clone(), Instant::now()));
        let kept = seen.clone();
        tokio::spawn(async move {
            while let Ok(event) = events.recv_async().await {
                match event {
                    HostnameResolutionEvent::AddressesFound(_, found) => {
                        lock(&kept).extend(found.iter().map(ScopedIp::to_ip_addr));
                    }
                    HostnameResolutionEvent::AddressesRemoved(_, gone) => {
                        let mut seen = lock(&kept);
                        for one in &gone {
                            seen.remove(&one.to_ip_addr());
                        }
                    }
                    HostnameResolutionEvent::SearchStopped(_) => return,
                    _ => {}
                }
            }
        });
        Ok(seen)
    }

    /// Asks for nothing that was not sought for long; with nothing left nobody listens.
    fn forget(&mut self, keeps: Duration) {
        let Some(daemon) = &self.daemon else {
            return;
        };
        self.asked.retain(|name, (_, sought)| {
            let keep = sought.elapsed() < keeps;
            if !keep {
                let _ = daemon.stop_resolve_hostname(name);
            }
            keep
        });
        if self.asked.is_empty() {
            let _ = daemon.shutdown();
            self.daemon = None;
        }
    }
}

fn full_name(one: &Sought) -> Option<String> {
    let name = one.host_name.as_ref()?;
    Some(format!("{}.local.", name.to_lowercase()))
}

impl Locator for Mdns {
    fn name(&self) -> &'static str {
        "its name, by mDNS"
    }

    fn find<'a>(
        &'a self,
        sought: &'a [Sought],
    ) -> BoxFuture<'a, Result<Vec<Vec<Sighting>>, Blind>> {
        Box::pin(async move {
            let mut state = self.state();
            state.forget(KEEPS);
            let mut all = Vec::new();
            for one in sought {
                let Some(name) = full_name(one) else {
                    all.push(Vec::new());
                    continue;
                };
                let seen = state.ask(&name, self)?;
                let addresses = lock(&seen);
                let sightings = addresses.iter().map(|address| Sighting {
                    address: *address,
                    ports: BTreeMap::new(),
                    mac: None,
                    host_name: one.host_name.clone(),
                });
                all.push(sightings.collect());
            }
            Ok(all)
        })
    }
}

impl Drop for Mdns {
    fn drop(&mut self) {
        self.state().forget(Duration::ZERO);
    }
}
