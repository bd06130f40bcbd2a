//! Settings handed to a board on the network that it opens itself: from a phone that has joined it, or from the
//! service's own computer where that has.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use arrival::locate::{Sighting, is_elsewhere};
use arrival::look::{give_page, port_of};
use arrival::radio::Heard;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use records::devices::Device;
use settings::FirstJoin;

use super::Arrivals;
use crate::refusal::{Refusal, Why};

/// The keys that a page knows, with the field, its label, its value and whether that is a secret.
struct Value {
    key: String,
    label: String,
    value: Option<String>,
    secret: bool,
}

fn refuse(detail: String) -> Refusal {
    Refusal::new(Why::Conflict, "no-first-join", detail)
}

/// The settings as the page takes them: kind of the content, and the content.
fn body(join: &FirstJoin, values: &BTreeMap<String, String>) -> (&'static str, String) {
    if join.json {
        return ("application/json", serde_json::json!(values).to_string());
    }
    let part = |text: &str| utf8_percent_encode(text, NON_ALPHANUMERIC).to_string();
    let pairs: Vec<_> = values
        .iter()
        .map(|(key, value)| format!("{}={}", part(key), part(value)))
        .collect();
    ("application/x-www-form-urlencoded", pairs.join("&"))
}

/// Which networks may be the one that a board opens.
#[derive(Clone)]
struct Own {
    device: String,
    join: FirstJoin,
    /// Their names; of a board without a known MAC address, as far as they are known.
    names: Vec<String>,
    /// Whether the board's MAC address is known, so that the names are exact.
    exact: bool,
    /// Networks of other devices.
    others: Vec<String>,
}

impl Own {
    fn may_be(&self, network: &str) -> bool {
        match self.exact {
            true => self.names.iter().any(|name| name == network),
            false => self.join.may_be(network) && !self.others.iter().any(|one| one == network),
        }
    }

    /// The network to join, of those that are heard; or the one that was named.
    fn choose(&self, heard: &[Heard], named: Option<&str>) -> Result<String, String> {
        let device = &self.device;
        if let Some(named) = named {
            return match self.may_be(named) {
                true => Ok(named.to_owned()),
                false => Err(format!(
                    "{named} is no network that {device} opens; that is {}",
                    self.names.join(" or ")
                )),
            };
        }
        let own: Vec<&str> = heard
            .iter()
            .map(|one| one.name.as_str())
            .filter(|name| self.may_be(name))
            .collect();
        match own.as_slice() {
            [one] => Ok((*one).to_owned()),
            [first, ..] if self.exact => Ok((*first).to_owned()),
            [] => {
                let others: Vec<_> = heard.iter().take(5).map(|one| one.name.as_str()).collect();
                Err(format!(
                    "no network named {} is heard here now{}",
                    self.names.join(" or "),
                    match others.is_empty() {
                        true => String::new(),
                        false => format!("; {} are", others.join(", ")),
                    }
                ))
            }
            several => Err(format!(
                "which of {} is the network of {device} is not known: name it (--network), or tell the MAC address of \
                 {device} (duplicarium device describe {device} --mac ADDRESS)",
                several.join(", ")
            )),
        }
    }
}

impl Arrivals {
    async fn own_networks(&self, device: &Device, join: &FirstJoin) -> Result<Own, Refusal> {
        let marks = self.records.marks().await?.into_iter();
        let others = marks.filter(|one| one.device != device.name && !one.macs.is_empty());
        Ok(Own {
            device: device.name.clone(),
            names: join.networks(&device.macs),
            exact: !device.macs.is_empty() || !join.may_differ(),
            others: others.flat_map(|one| join.networks(&one.macs)).collect(),
            join: join.clone(),
        })
    }

    async fn join_of(&self, id: i64) -> Result<(Device, FirstJoin, Vec<Value>), Refusal> {
        let arrival = self.records.arrival(id).await?;
        if arrival.ended_at.is_some() {
            return Err(Refusal::conflict("over", format!("arrival {id} is over")));
        }
        let device = self.records.device(&arrival.device).await?;
        let team = self.in_force.team(&[device.id]).await?;
        let carried = device
            .carried_release_id
            .and_then(|id| team.shelf.by_id(id));
        let sheet = match carried.or_else(|| team.shelf.followed(&device)) {
            Some(release) => Some(team.shelf.sheet(release)?),
            None => None,
        };
        let found = sheet.and_then(|sheet| Some((sheet.first_join.clone()?, sheet)));
        let (join, sheet) = found.ok_or_else(|| {
            refuse(format!(
                "the release of {} opens no network of its own; its settings are on its card",
                device.name
            ))
        })?;
        let counted = team.alone(&device, &sheet.fields);
        let values = join.values.iter().map(|(key, name)| {
            let field = sheet.fields.iter().find(|field| field.name == *name);
            let counted = counted
                .values
                .iter()
                .find(|one| one.name == *name && one.applies);
            Value {
                key: key.clone(),
                label: field.map_or_else(|| name.clone(), |field| field.label.clone()),
                value: counted.and_then(|one| one.value.clone()),
                secret: counted.is_some_and(|one| one.secret),
            }
        });
        let values = values.collect();
        Ok((device, join, values))
    }

    /// Which network will appear, and what is handed over there; no secrets.
    pub async fn first_join(&self, id: i64) -> Result<api::FirstJoin, Refusal> {
        let (device, join, values) = self.join_of(id).await?;
        let values = values.into_iter().map(|one| api::JoinValue {
            key: one.key,
            label: one.label,
            value: if one.secret { None } else { one.value.clone() },
            secret: one.secret,
            is_set: one.value.is_some(),
        });
        let own = self.own_networks(&device, &join).await?;
        let heard = self.air.heard().unwrap_or_default().into_iter();
        Ok(api::FirstJoin {
            can_join: self.air.is_there(),
            heard: heard
                .filter(|one| own.may_be(&one.name))
                .map(|one| api::HeardNetwork {
                    name: one.name,
                    strength: one.strength,
                })
                .collect(),
            networks: own.names,
            page: join.page,
            json: join.json,
            values: values.collect(),
        })
    }

    /// All values for whoever hands them over from a phone, secrets too; that they were read is recorded.
    pub async fn join_values(
        &self,
        operator: &str,
        id: i64,
    ) -> Result<BTreeMap<String, String>, Refusal> {
        let (device, _, values) = self.join_of(id).await?;
        let summary = format!(
            "The settings of {} were read, to be handed over on its own network",
            device.name
        );
        self.events
            .note(operator, "secret.read", &device.name, &summary)
            .await?;
        Ok(values
            .into_iter()
            .filter_map(|one| Some((one.key, one.value?)))
            .collect())
    }

    /// Hands the settings over from this computer, which has joined the board's network, or does now where `joins` says
    /// so, and leaves it afterwards.
    pub async fn hand_over(
        &self,
        operator: &str,
        id: i64,
        given: api::HandOver,
    ) -> Result<(), Refusal> {
        let api::HandOver { at, joins, network } = given;
        let (device, join, values) = self.join_of(id).await?;
        let name = &device.name;
        let own = self.own_networks(&device, &join).await?;
        let names = own.names.join(" or ");
        let values: BTreeMap<_, _> = values
            .into_iter()
            .filter_map(|one| Some((one.key, one.value?)))
            .collect();
        let own_addresses = self.watching.own_addresses;
        let through = if joins {
            let join = join.clone();
            let choose = move |heard: &[Heard]| own.choose(heard, network.as_deref());
            let given_over = self.air.inside(choose, move |network, gateway| async move {
                // What the board says it is reached at there, somebody may know better.
                let page = page_at(&join, at.or(gateway).as_deref(), own_addresses)?;
                give(&join, page, &values).await?;
                Ok(network)
            });
            let network = given_over.await.map_err(|why| {
                refuse(format!(
                    "{name} took nothing: {why}. This computer is in its usual network again"
                ))
            })?;
            format!("{network}, which this computer joined for it")
        } else {
            let page = page_at(&join, at.as_deref(), own_addresses)
                .map_err(|why| Refusal::invalid("bad-value", why))?;
            give(&join, page, &values).await.map_err(|why| {
                refuse(format!(
                    "{name} took nothing: {why}. Join its network {names} with this computer first, or hand it over from a phone"
                ))
            })?;
            "its own network".into()
        };
        let summary = format!("{name} got its settings on {through}");
        self.events
            .note(operator, "arrival.handed", name, &summary)
            .await?;
        self.stir();
        Ok(())
    }
}

/// Where the board's page is: at the address that it always has, or another one that is near. Passphrases are not sent
/// out into the world.
fn page_at(join: &FirstJoin, at: Option<&str>, own_addresses: bool) -> Result<SocketAddr, String> {
    let page: Option<SocketAddr> = match at {
        None => {
            let host = join
                .page
                .split("//")
                .nth(1)
                .and_then(|rest| rest.split(['/', ':']).next());
            let address = host.and_then(|host| host.parse().ok());
            address
                .zip(port_of(&join.page))
                .map(|(address, port)| SocketAddr::new(address, port))
        }
        Some(text) => text.parse().ok(),
    };
    let Some(page) = page else {
        let given = at.unwrap_or(&join.page);
        return Err(format!("{given} is no address of a board with a port"));
    };
    let near = match page.ip() {
        std::net::IpAddr::V4(ip) => ip.is_private() || ip.is_loopback() || ip.is_link_local(),
        std::net::IpAddr::V6(ip) => {
            ip.is_unique_local() || ip.is_loopback() || ip.is_unicast_link_local()
        }
    };
    if !own_addresses && !is_elsewhere(page.ip()) {
        return Err(format!(
            "{page} is this computer, or no board's: nothing is handed over there"
        ));
    }
    match near {
        true => Ok(page),
        false => Err(format!(
            "{page} is no address of a board's own network: passphrases are not sent out into the world"
        )),
    }
}

/// Gives the board its settings.
async fn give(
    join: &FirstJoin,
    page: SocketAddr,
    values: &BTreeMap<String, String>,
) -> Result<(), String> {
    let board = Sighting {
        address: page.ip(),
        ports: port_of(&join.page)
            .map(|port| (port, page.port()))
            .into_iter()
            .collect(),
        mac: None,
        host_name: None,
    };
    let (kind, body) = body(join, values);
    let answer = give_page(&board, &join.page, kind, body).await;
    let answer = answer.map_err(|why| why.to_string())?;
    match answer.status {
        status @ 400.. => Err(format!("{} answers with status {status}", join.page)),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_network_of_a_board_is_chosen_only_where_it_can_be_told() {
        let join = FirstJoin {
            network: "Quaylink-{mac_tail}".into(),
            ..FirstJoin::default()
        };
        let own = |macs: &[&str]| {
            let macs: Vec<String> = macs.iter().map(|mac| (*mac).into()).collect();
            Own {
                device: "quay-01".into(),
                names: join.networks(&macs),
                exact: !macs.is_empty(),
                others: vec!["Quaylink-0B02".into()],
                join: join.clone(),
            }
        };
        let heard = |names: &[&str]| -> Vec<Heard> {
            let one = |name: &&str| Heard {
                name: (*name).into(),
                strength: 50,
            };
            names.iter().map(one).collect()
        };
        let known = own(&["5a:17:00:00:0b:01"]);
        let all = heard(&["Harbour", "Quaylink-0B02", "Quaylink-0B01", "Quaylink-0B03"]);
        assert_eq!(known.choose(&all, None), Ok("Quaylink-0B01".into()));
        let unknown = own(&[]);
        let why = unknown.choose(&all, None).unwrap_err();
        assert!(
            why.contains("Quaylink-0B01, Quaylink-0B03 is the network"),
            "{why}"
        );
        assert!(!why.contains("0B02"), "that is another's: {why}");
        let named = |name| unknown.choose(&all, Some(name));
        assert_eq!(named("Quaylink-0B03"), Ok("Quaylink-0B03".into()));
        for foreign in [
            "Harbour",
            "Quaylink-0B02",
            "Quaylink-",
            "Quaylink-0b03",
            "Quaylink-0B033",
        ] {
            assert!(named(foreign).is_err(), "{foreign}");
        }
        let one = heard(&["Harbour", "Quaylink-0B02", "Quaylink-0B01"]);
        assert_eq!(unknown.choose(&one, None), Ok("Quaylink-0B01".into()));
        let none = unknown.choose(&heard(&["Harbour", "Quaylink-0B02"]), None);
        assert!(none.unwrap_err().contains("no network named Quaylink-…"));
    }

    #[test]
    fn values_are_written_as_the_page_takes_them() {
        let values = BTreeMap::from([
            ("psk".to_owned(), "ebb & flow=1".to_owned()),
            ("ssid".to_owned(), "Kai Ø".to_owned()),
        ]);
        let mut join = FirstJoin::default();
        let form = body(&join, &values).1;
        assert_eq!(form, "psk=ebb%20%26%20flow%3D1&ssid=Kai%20%C3%98");
        join.json = true;
        assert_eq!(
            body(&join, &values).1,
            r#"{"psk":"ebb & flow=1","ssid":"Kai Ø"}"#
        );
    }
}
