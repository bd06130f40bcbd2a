//! The neighbour table of this computer: whom its kernel has spoken to on its own networks, by hardware address.
//! It is only read; nothing is sent.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use std::path::PathBuf;

use futures::future::BoxFuture;

use super::{Blind, Locator, Sighting, Sought};

/// No table is longer, in bytes: a few thousand neighbours.
const MOST: u64 = 1 << 20;
/// The kernel's flag of an entry that was confirmed.
const COMPLETE: u32 = 0x2;

/// Looks into the table of the kernel.
#[derive(Debug)]
pub struct Neighbours {
    file: PathBuf,
}

impl Default for Neighbours {
    fn default() -> Self {
        Self::in_file("/proc/net/arp")
    }
}

impl Neighbours {
    /// A table in a file, in the form of `/proc/net/arp` (proc(5)).
    pub fn in_file(file: impl Into<PathBuf>) -> Self {
        Self { file: file.into() }
    }

    fn read(&self) -> Result<Vec<(Ipv4Addr, String)>, Blind> {
        use std::io::Read as _;
        let mut text = String::new();
        let file = std::fs::File::open(&self.file);
        let read = file.and_then(|file| file.take(MOST).read_to_string(&mut text));
        read.map_err(|e| Blind(format!("the table of neighbours cannot be read ({e})")))?;
        Ok(neighbours(&text))
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
                    address: IpAddr::V4(*address),
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
