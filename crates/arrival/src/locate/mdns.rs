//! Multicast DNS (RFC 6762): a host name asked for on this computer's own networks, and services that
//! say by their name or text whose they are (RFC 6763). A board that found its name taken comes up under
//! another one, and is found by its service.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use futures::future::BoxFuture;
use mdns_sd::{
    HostnameResolutionEvent, IfKind, ResolvedService, ScopedIp, ServiceDaemon, ServiceEvent,
};

use super::{Blind, Locator, Sighting, Sought};

type Seen = Arc<Mutex<BTreeSet<IpAddr>>>;
/// Services of one kind, by their full names.
type Services = Arc<Mutex<BTreeMap<String, ResolvedService>>>;
/// Services of one kind that are remembered; a network with more has something wrong.
const MOST_SERVICES: usize = 500;

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
    /// Which services there are of each kind that is asked for, and when it was sought last.
    browsed: HashMap<String, (Services, Instant)>,
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

    /// Begins to ask for services of a kind.
    fn browse(&mut self, kind: &str, mdns: &Mdns) -> Result<Services, Blind> {
        if let Some((seen, sought)) = self.browsed.get_mut(kind) {
            *sought = Instant::now();
            return Ok(seen.clone());
        }
        let daemon = match &self.daemon {
            Some(daemon) => daemon,
            None => self.daemon.insert(mdns.daemon().map_err(no_mdns)?),
        };
        let events = daemon.browse(kind).map_err(no_mdns)?;
        let seen = Services::default();
        self.browsed
            .insert(kind.to_owned(), (seen.clone(), Instant::now()));
        let kept = seen.clone();
        tokio::spawn(async move {
            while let Ok(event) = events.recv_async().await {
                let mut seen = kept.lock().unwrap_or_else(|e| e.into_inner());
                match event {
                    ServiceEvent::ServiceResolved(one) if seen.len() < MOST_SERVICES => {
                        seen.insert(one.fullname.clone(), *one);
                    }
                    ServiceEvent::ServiceRemoved(_, name) => {
                        seen.remove(&name);
                    }
                    ServiceEvent::SearchStopped(_) => return,
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
        self.browsed.retain(|kind, (_, sought)| {
            let keep = sought.elapsed() < keeps;
            if !keep {
                let _ = daemon.stop_browse(kind);
            }
            keep
        });
        if self.asked.is_empty() && self.browsed.is_empty() {
            let _ = daemon.shutdown();
            self.daemon = None;
        }
    }
}

/// Whether a service says that it is of the board that is sought: by its own name or that of its host, which may have
/// got a number behind it (RFC 6762, section 9), or by the end of a hardware address in its name or text.
fn is_meant(service: &ResolvedService, sought: &Sought) -> bool {
    let host = service.host.trim_end_matches('.');
    let host = host.strip_suffix(".local").unwrap_or(host).to_lowercase();
    let instance = service.fullname.strip_suffix(&service.ty_domain);
    let instance = instance.unwrap_or(&service.fullname);
    let instance = instance.trim_end_matches('.').to_lowercase();
    if let Some(name) = &sought.host_name {
        let name = name.to_lowercase();
        let numbered = |text: &str| {
            let rest = text.strip_prefix(&name);
            let rest = rest.map(|rest| rest.trim_matches(['-', ' ', '(', ')', '#']));
            rest.is_some_and(|rest| rest.bytes().all(|byte| byte.is_ascii_digit()))
        };
        if numbered(&host) || numbered(&instance) {
            return true;
        }
    }
    let plain = |text: &str| {
        let kept = text.chars().filter(char::is_ascii_alphanumeric);
        kept.collect::<String>().to_lowercase()
    };
    let texts = service.txt_properties.iter();
    let texts: Vec<String> = texts
        .map(|one| plain(&String::from_utf8_lossy(one.val().unwrap_or_default())))
        .chain([plain(&instance), plain(&host)])
        .collect();
    let ends = sought.macs.iter().map(|mac| plain(mac));
    let mut ends = ends.filter_map(|mac| mac.get(6..12).map(str::to_owned));
    ends.any(|end| texts.iter().any(|text| text.ends_with(&end)))
}

fn full_name(one: &Sought) -> Option<String> {
    let name = one.host_name.as_ref()?;
    Some(format!("{}.local.", name.to_lowercase()))
}

impl Locator for Mdns {
    fn name(&self) -> &'static str {
        "its name or service, by mDNS"
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
                let mut found = BTreeMap::new();
                if let Some(name) = full_name(one) {
                    let seen = state.ask(&name, self)?;
                    for address in lock(&seen).iter() {
                        found.insert(*address, one.host_name.clone());
                    }
                }
                for kind in &one.services {
                    let seen = state.browse(&format!("{kind}.local."), self)?;
                    let seen = seen.lock().unwrap_or_else(|e| e.into_inner());
                    for service in seen.values().filter(|service| is_meant(service, one)) {
                        let host = service.host.trim_end_matches('.');
                        let host = host.strip_suffix(".local").unwrap_or(host);
                        for address in &service.addresses {
                            let known = found.entry(address.to_ip_addr());
                            known.or_insert_with(|| Some(host.to_owned()));
                        }
                    }
                }
                let sightings = found.into_iter().map(|(address, host_name)| Sighting {
                    address,
                    ports: BTreeMap::new(),
                    mac: None,
                    host_name,
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
