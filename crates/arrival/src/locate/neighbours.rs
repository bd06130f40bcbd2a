//! The neighbour table of this computer: whom its kernel has spoken to on its own networks, by hardware address.
//! It is only read; nothing is sent to anybody. IPv4 neighbours stand in a file, those of IPv6 the kernel is asked for
//! over a socket (rtnetlink(7)).

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::PathBuf;

use futures::future::BoxFuture;
use rustix::net::netlink::SocketAddrNetlink;
use rustix::net::sockopt::Timeout;
use rustix::net::sockopt::set_socket_timeout;
use rustix::net::{
    AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, recv, sendto, socket_with,
};

use super::{Blind, Locator, Sighting, Sought};

/// No table is longer, in bytes: a few thousand neighbours.
const MOST: u64 = 1 << 20;
/// The kernel's flag of an entry that was confirmed.
const COMPLETE: u32 = 0x2;

/// Looks into the table of the kernel.
#[derive(Debug)]
pub struct Neighbours {
    file: PathBuf,
    /// Whether the kernel is asked for IPv6 neighbours too.
    asks_kernel: bool,
}

impl Default for Neighbours {
    fn default() -> Self {
        Self {
            asks_kernel: true,
            ..Self::in_file("/proc/net/arp")
        }
    }
}

impl Neighbours {
    /// A table in a file, in the form of `/proc/net/arp` (proc(5)).
    pub fn in_file(file: impl Into<PathBuf>) -> Self {
        Self {
            file: file.into(),
            asks_kernel: false,
        }
    }

    fn read(&self) -> Result<Vec<(IpAddr, String)>, Blind> {
        use std::io::Read as _;
        let mut text = String::new();
        let file = std::fs::File::open(&self.file);
        let read = file.and_then(|file| file.take(MOST).read_to_string(&mut text));
        read.map_err(|e| Blind(format!("the table of neighbours cannot be read ({e})")))?;
        let mut all: Vec<(IpAddr, String)> = neighbours(&text)
            .into_iter()
            .map(|(address, mac)| (address.into(), mac))
            .collect();
        if self.asks_kernel {
            // Where there is no IPv6 the kernel knows nobody.
            all.extend(ask_kernel().unwrap_or_default());
        }
        Ok(all)
    }
}

/// Addresses and hardware addresses of the entries that were confirmed.
fn neighbours(text: &str) -> Vec<(Ipv4Addr, String)> {
    let entry = |line: &str| {
        let mut words = line.split_whitespace();
        let address = words.next()?.parse().ok()?;
        let flags = words.nth(1)?.trim_start_matches("0x");
        let complete = u32::from_str_radix(flags, 16).ok()? & COMPLETE != 0;
        let mac = words.next()?.to_lowercase();
        complete.then_some((address, mac))
    };
    text.lines().skip(1).filter_map(entry).collect()
}

/// Numbers of rtnetlink(7), netlink(7) and the kernel's `neighbour.h`.
mod rt {
    pub const GET_NEIGHBOURS: u16 = 30;
    pub const NEIGHBOUR: u16 = 28;
    pub const DONE: u16 = 3;
    /// A request, for all there are.
    pub const DUMP: u16 = 0x301;
    pub const INET6: u8 = 10;
    pub const HEAD: usize = 16;
    pub const NEIGHBOUR_HEAD: usize = 12;
    pub const ADDRESS: u16 = 1;
    pub const HARDWARE_ADDRESS: u16 = 2;
    /// Reachable, stale, delayed, being probed, permanent: it answered at some time.
    pub const ANSWERED: u16 = 0x02 | 0x04 | 0x08 | 0x10 | 0x80;
}

/// Asks the kernel for its IPv6 neighbours.
fn ask_kernel() -> rustix::io::Result<Vec<(IpAddr, String)>> {
    let socket = socket_with(
        AddressFamily::NETLINK,
        SocketType::RAW,
        SocketFlags::CLOEXEC,
        // NETLINK_ROUTE, which is 0.
        None,
    )?;
    let patience = std::time::Duration::from_secs(2);
    set_socket_timeout(&socket, Timeout::Recv, Some(patience))?;
    let mut request = Vec::with_capacity(rt::HEAD + rt::NEIGHBOUR_HEAD);
    request.extend(((rt::HEAD + rt::NEIGHBOUR_HEAD) as u32).to_ne_bytes());
    request.extend(rt::GET_NEIGHBOURS.to_ne_bytes());
    request.extend(rt::DUMP.to_ne_bytes());
    request.extend([0; 8]);
    request.push(rt::INET6);
    request.resize(rt::HEAD + rt::NEIGHBOUR_HEAD, 0);
    sendto(
        &socket,
        &request,
        SendFlags::empty(),
        &SocketAddrNetlink::new(0, 0),
    )?;
    let mut found = Vec::new();
    let mut answer = vec![0; 1 << 16];
    let mut read = 0;
    while read < MOST as usize {
        let (len, _) = recv(&socket, &mut answer[..], RecvFlags::empty())?;
        read += len.max(1);
        if !neighbours_in(&answer[..len.min(answer.len())], &mut found) {
            break;
        }
    }
    Ok(found)
}

/// Takes neighbours out of one answer of the kernel; whether more come.
fn neighbours_in(mut answer: &[u8], found: &mut Vec<(IpAddr, String)>) -> bool {
    while let Some(head) = answer.first_chunk::<{ rt::HEAD }>() {
        let len = u32::from_ne_bytes([head[0], head[1], head[2], head[3]]) as usize;
        let kind = u16::from_ne_bytes([head[4], head[5]]);
        let Some(message) = answer.get(rt::HEAD..len) else {
            return false;
        };
        match kind {
            rt::NEIGHBOUR => found.extend(neighbour_of(message)),
            rt::DONE => return false,
            _ => {}
        }
        answer = answer.get(len.next_multiple_of(4)..).unwrap_or(&[]);
    }
    true
}

/// One neighbour: a head with its state, then attributes of a length, a kind and a value each.
fn neighbour_of(message: &[u8]) -> Option<(IpAddr, String)> {
    let (family, state) = (*message.first()?, message.get(8..10)?);
    let state = u16::from_ne_bytes([state[0], state[1]]);
    if family != rt::INET6 || state & rt::ANSWERED == 0 {
        return None;
    }
    let mut rest = message.get(rt::NEIGHBOUR_HEAD..)?;
    let (mut address, mut mac) = (None, None);
    while let Some(head) = rest.first_chunk::<4>() {
        let len = usize::from(u16::from_ne_bytes([head[0], head[1]]));
        let value = rest.get(4..len)?;
        match u16::from_ne_bytes([head[2], head[3]]) {
            rt::ADDRESS => address = <[u8; 16]>::try_from(value).ok().map(Ipv6Addr::from),
            rt::HARDWARE_ADDRESS if value.len() == 6 => {
                let words: Vec<_> = value.iter().map(|byte| format!("{byte:02x}")).collect();
                mac = Some(words.join(":"));
            }
            _ => {}
        }
        rest = rest.get(len.next_multiple_of(4)..).unwrap_or(&[]);
    }
    // An address of one link says nothing without the link.
    let address = address.filter(|address| !address.is_unicast_link_local())?;
    Some((address.into(), mac?))
}

impl Locator for Neighbours {
    fn name(&self) -> &'static str {
        "neighbours of this computer"
    }

    fn find<'a>(
        &'a self,
        sought: &'a [Sought],
    ) -> BoxFuture<'a, Result<Vec<Vec<Sighting>>, Blind>> {
        Box::pin(async move {
            let all = self.read()?;
            let of = |one: &Sought| {
                let mine = all.iter().filter(|(_, mac)| one.macs.contains(mac));
                let sightings = mine.map(|(address, mac)| Sighting {
                    address: *address,
                    ports: BTreeMap::new(),
                    mac: Some(mac.clone()),
                    host_name: None,
                });
                sightings.collect()
            };
            Ok(sought.iter().map(of).collect())
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A neighbour as the kernel says it.
    fn message(kind: u16, state: u16, address: [u8; 16], mac: [u8; 6]) -> Vec<u8> {
        let mut raw = vec![0; 16 + 12];
        raw[4..6].copy_from_slice(&kind.to_ne_bytes());
        raw[16] = rt::INET6;
        raw[24..26].copy_from_slice(&state.to_ne_bytes());
        raw.extend([20_u16.to_ne_bytes(), rt::ADDRESS.to_ne_bytes()].concat());
        raw.extend(address);
        raw.extend([10_u16.to_ne_bytes(), rt::HARDWARE_ADDRESS.to_ne_bytes()].concat());
        raw.extend(mac);
        raw.extend([0; 2]);
        let len = raw.len() as u32;
        raw[..4].copy_from_slice(&len.to_ne_bytes());
        raw
    }

    #[test]
    fn what_the_kernel_says_of_ipv6_is_read_and_cut_messages_do_no_harm() {
        let ours: Ipv6Addr = "2001:db8::7".parse().unwrap();
        let on_link: Ipv6Addr = "fe80::7".parse().unwrap();
        let mac = [0x5a, 0x17, 0, 0, 0, 7];
        let all = [
            message(rt::NEIGHBOUR, 0x04, ours.octets(), mac),
            message(rt::NEIGHBOUR, 0x20, ours.octets(), [1; 6]),
            message(rt::NEIGHBOUR, 0x02, on_link.octets(), mac),
            message(rt::DONE, 0, [0; 16], [0; 6]),
            message(rt::NEIGHBOUR, 0x02, ours.octets(), [2; 6]),
        ]
        .concat();
        let mut found = Vec::new();
        assert!(!neighbours_in(&all, &mut found), "that was all");
        assert_eq!(found, [(IpAddr::V6(ours), "5a:17:00:00:00:07".to_owned())]);
        for cut in 0..all.len() {
            let mut found = Vec::new();
            neighbours_in(&all[..cut], &mut found);
            assert!(found.len() <= 1);
            let mut odd = all.clone();
            odd[cut] = odd[cut].wrapping_add(0x7b);
            neighbours_in(&odd, &mut Vec::new());
        }
    }

    #[test]
    fn the_kernel_answers() {
        // Whom it knows is its own affair; that it says so is ours.
        ask_kernel().unwrap();
    }

    #[test]
    fn only_what_was_confirmed_counts_and_nonsense_is_passed_over() {
        let text = "IP address       HW type     Flags       HW address            Mask     Device\n\
                    192.0.2.7        0x1         0x2         5A:17:00:00:00:07     *        eth0\n\
                    192.0.2.8        0x1         0x0         00:00:00:00:00:00     *        eth0\n\
                    nonsense\n192.0.2.9 0x1 zz\n\n";
        let one = (Ipv4Addr::new(192, 0, 2, 7), "5a:17:00:00:00:07".to_owned());
        assert_eq!(neighbours(text), [one]);
    }
}
