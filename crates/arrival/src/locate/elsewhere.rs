//! No board is this computer, nor the place where a cloud tells its machines their secrets: what a setting, a person or an
//! answer on the network names there is not asked.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, UdpSocket};

use futures::future::BoxFuture;

use super::{Blind, Locator, Sighting, Sought};

/// Where clouds tell a machine who it is, with passwords for what it may do.
const TOLD_BY_CLOUDS: [IpAddr; 4] = [
    IpAddr::V4(Ipv4Addr::new(169, 254, 169, 254)),
    IpAddr::V4(Ipv4Addr::new(169, 254, 170, 2)),
    IpAddr::V4(Ipv4Addr::new(100, 100, 100, 200)),
    IpAddr::V6(Ipv6Addr::new(0xfd00, 0xec2, 0, 0, 0, 0, 0, 0x254)),
];

/// Whether somebody else than this computer can be at an address: not on loopback, at none of its own addresses, and not where
/// a cloud answers.
pub fn is_elsewhere(address: IpAddr) -> bool {
    let address = address.to_canonical();
    if address.is_loopback()
        || address.is_unspecified()
        || address.is_multicast()
        || TOLD_BY_CLOUDS.contains(&address)
        || address == IpAddr::V4(Ipv4Addr::BROADCAST)
        // The whole of 0.0.0.0/8 leads here on some systems.
        || matches!(address, IpAddr::V4(address) if address.octets()[0] == 0)
    {
        return false;
    }
    // Only an address of its own is lent to a socket.
    UdpSocket::bind((address, 0)).is_err()
}

/// A way of finding boards that leaves this computer out.
pub struct Elsewhere<L>(pub L);

impl<L: Locator> Locator for Elsewhere<L> {
    fn name(&self) -> &'static str {
        self.0.name()
    }

    fn find<'a>(
        &'a self,
        sought: &'a [Sought],
    ) -> BoxFuture<'a, Result<Vec<Vec<Sighting>>, Blind>> {
        Box::pin(async move {
            let sought: Vec<Sought> = sought
                .iter()
                .map(|one| Sought {
                    address: one.address.filter(|address| is_elsewhere(*address)),
                    ..one.clone()
                })
                .collect();
            let mut found = self.0.find(&sought).await?;
            for sightings in &mut found {
                sightings.retain(|sighting| is_elsewhere(sighting.address));
            }
            Ok(found)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeMap;

    /// Finds whatever it is asked for where it was told, and counts that.
    struct Everywhere;

    impl Locator for Everywhere {
        fn name(&self) -> &'static str {
            "everywhere"
        }

        fn find<'a>(
            &'a self,
            sought: &'a [Sought],
        ) -> BoxFuture<'a, Result<Vec<Vec<Sighting>>, Blind>> {
            Box::pin(async move {
                let at = |address| Sighting {
                    address,
                    ports: BTreeMap::new(),
                    mac: None,
                    host_name: None,
                };
                let all = sought.iter().map(|one| {
                    let answers = ["127.0.0.1", "192.0.2.9", "::1", "fd00:ec2::254"];
                    let answers = answers.iter().map(|text| text.parse().unwrap());
                    one.address.into_iter().chain(answers).map(at).collect()
                });
                Ok(all.collect())
            })
        }
    }

    #[test]
    fn this_computer_and_clouds_are_no_boards() {
        for no in [
            "127.0.0.1",
            "127.200.3.4",
            "::1",
            "::ffff:127.0.0.1",
            "0.0.0.0",
            "0.1.2.3",
            "::",
            "169.254.169.254",
            "::ffff:169.254.169.254",
            "255.255.255.255",
            "224.0.0.251",
            "ff02::fb",
        ] {
            assert!(!is_elsewhere(no.parse().unwrap()), "{no}");
        }
        for yes in ["192.0.2.9", "10.0.0.7", "169.254.7.9", "2001:db8::7"] {
            assert!(is_elsewhere(yes.parse().unwrap()), "{yes}");
        }
    }

    #[tokio::test]
    async fn what_is_named_here_is_neither_asked_nor_told() {
        let sought = |address: &str| Sought {
            address: Some(address.parse().unwrap()),
            ..Sought::default()
        };
        let all = [
            sought("127.0.0.1"),
            sought("169.254.169.254"),
            sought("192.0.2.7"),
        ];
        let found = Elsewhere(Everywhere).find(&all).await.unwrap();
        let told: Vec<Vec<String>> = found
            .iter()
            .map(|one| {
                one.iter()
                    .map(|sighting| sighting.address.to_string())
                    .collect()
            })
            .collect();
        assert_eq!(
            told,
            [
                vec!["192.0.2.9"],
                vec!["192.0.2.9"],
                vec!["192.0.2.7", "192.0.2.9"]
            ]
        );
    }
}
