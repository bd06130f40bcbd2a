//! The address of a device on its network.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr};

use ipnet::Ipv4Net;

use crate::refused::Refused;

/// How a device gets its address.
///
/// As text `dhcp`, or `192.0.2.7/24 gateway 192.0.2.1 dns 192.0.2.1 192.0.2.2`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Address {
    /// From the network.
    Dhcp,
    /// A fixed one.
    Fixed {
        /// The address.
        address: Ipv4Addr,
        /// Bits of the network's part, 1 to 30.
        prefix: u8,
        /// The way out, if there is one.
        gateway: Option<Ipv4Addr>,
        /// Name servers.
        dns: Vec<IpAddr>,
    },
}

/// The mask of a network with this many bits, 32 at most.
pub fn netmask(prefix: u8) -> Ipv4Addr {
    Ipv4Net::new(Ipv4Addr::UNSPECIFIED, prefix.min(32))
        .map_or(Ipv4Addr::BROADCAST, |net| net.netmask())
}

impl Address {
    /// Reads and checks an address.
    pub fn parse(value: &str) -> Result<Self, Refused> {
        let refuse = |why: String| Err(Refused(why));
        let mut words = value.split_whitespace();
        let first = words.next().unwrap_or("");
        if first.eq_ignore_ascii_case("dhcp") && words.next().is_none() {
            return Ok(Self::Dhcp);
        }
        let Some((address, prefix)) = first.split_once('/') else {
            return refuse(format!(
                "{first:?} is no address; it takes dhcp, or an address with its prefix such as 192.0.2.7/24"
            ));
        };
        let Ok(address) = address.parse::<Ipv4Addr>() else {
            return refuse(format!("{address:?} is no IPv4 address"));
        };
        let prefix = match prefix.parse::<u8>() {
            Ok(prefix @ 1..=30) => prefix,
            _ => return refuse(format!("{prefix:?} is no prefix; it takes 1 to 30")),
        };
        let (mut gateway, mut dns) = (None, Vec::new());
        let mut key = "";
        for word in words {
            match (word, key) {
                ("gateway" | "dns", _) => key = word,
                (_, "gateway") if gateway.is_none() => match word.parse::<Ipv4Addr>() {
                    Ok(found) => gateway = Some(found),
                    Err(_) => return refuse(format!("gateway {word:?} is no IPv4 address")),
                },
                (_, "dns") => match word.parse::<IpAddr>() {
                    Ok(found) => dns.push(found),
                    Err(_) => return refuse(format!("name server {word:?} is no address")),
                },
                _ => {
                    return refuse(format!(
                        "{word:?} is not understood; it takes gateway and dns"
                    ));
                }
            }
        }
        let found = Self::Fixed {
            address,
            prefix,
            gateway,
            dns,
        };
        found.check()?;
        Ok(found)
    }

    fn check(&self) -> Result<(), Refused> {
        let Self::Fixed {
            address,
            prefix,
            gateway,
            ..
        } = self
        else {
            return Ok(());
        };
        let refuse = |why: String| Err(Refused(why));
        let net = |address: &Ipv4Addr| {
            let net = Ipv4Net::new(*address, *prefix);
            net.map_err(|_| Refused(format!("{prefix} is no prefix; it takes 1 to 30")))
        };
        for (what, one) in [("", Some(address)), ("gateway ", gateway.as_ref())] {
            let Some(one) = one else { continue };
            let around = net(one)?;
            if *one == around.network() {
                return refuse(format!(
                    "{what}{one} is the network itself, not an address in it"
                ));
            }
            if *one == around.broadcast() {
                return refuse(format!("{what}{one} is the network's broadcast address"));
            }
            if one.is_loopback() || one.is_multicast() || one.is_unspecified() {
                return refuse(format!("{what}{one} is no address of a device"));
            }
        }
        let Some(gateway) = gateway else {
            return Ok(());
        };
        let own = net(address)?;
        if !own.contains(gateway) {
            return refuse(format!("gateway {gateway} lies outside of {}", own.trunc()));
        }
        match gateway == address {
            true => refuse(format!("gateway {gateway} is the device's own address")),
            false => Ok(()),
        }
    }

    /// The fixed address, if it is one.
    pub fn fixed(&self) -> Option<Ipv4Addr> {
        match self {
            Self::Dhcp => None,
            Self::Fixed { address, .. } => Some(*address),
        }
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self::Fixed {
            address,
            prefix,
            gateway,
            dns,
        } = self
        else {
            return f.write_str("dhcp");
        };
        write!(f, "{address}/{prefix}")?;
        if let Some(gateway) = gateway {
            write!(f, " gateway {gateway}")?;
        }
        for (place, server) in dns.iter().enumerate() {
            f.write_str(if place == 0 { " dns " } else { " " })?;
            write!(f, "{server}")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_read_and_written_the_same() {
        for text in [
            "dhcp",
            "192.0.2.7/24",
            "192.0.2.7/24 gateway 192.0.2.1",
            "10.1.2.3/8 gateway 10.0.0.1 dns 10.0.0.1 2001:db8::53",
        ] {
            assert_eq!(Address::parse(text).unwrap().to_string(), text);
        }
        assert_eq!(netmask(24).to_string(), "255.255.255.0");
        assert_eq!(netmask(1).to_string(), "128.0.0.0");
    }

    #[test]
    fn impossible_addresses_name_their_rule() {
        for (text, says) in [
            ("", "is no address"),
            ("192.0.2.7", "with its prefix"),
            ("192.0.2.300/24", "no IPv4"),
            ("192.0.2.7/31", "1 to 30"),
            ("192.0.2.0/24", "the network itself"),
            ("192.0.2.255/24", "broadcast"),
            ("192.0.2.7/24 gateway 192.0.3.1", "outside of 192.0.2.0/24"),
            ("192.0.2.7/24 gateway 192.0.2.7", "own address"),
            ("192.0.2.7/24 gateway 192.0.2.255", "broadcast"),
            ("192.0.2.7/24 dns here", "name server"),
            ("192.0.2.7/24 via 192.0.2.1", "not understood"),
            ("127.0.0.1/8", "no address of a device"),
        ] {
            let why = Address::parse(text).unwrap_err().to_string();
            assert!(why.contains(says), "{text}: {why}");
        }
    }
}
