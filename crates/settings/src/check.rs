//! What is looked at on a running board: pages and ports that a release sheet names, and what must be there.

use std::collections::BTreeMap;
use std::net::Ipv4Addr;

use serde::{Deserialize, Serialize};

use crate::Field;

/// Something that is looked at on a board that has come up.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Check {
    /// What it is, for people.
    pub title: String,
    /// The page that is read: http or https, with fields in braces, such as `http://{host_name}/status`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<String>,
    /// The port that must answer, where it is no page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// Where in a page of JSON the value lies (RFC 6901); else the whole page is the value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// A text that must be in the value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// The field whose setting the value must be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// The value is the size of its root file system in bytes: so many hundredths of the card at least.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fills: Option<u8>,
    /// Whether the value is the version that runs.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub version: bool,
}

impl Check {
    /// What a sheet must say of a check.
    pub(crate) fn check(&self, fields: &[Field]) -> Result<(), String> {
        if self.title.trim().is_empty() {
            return Err("say in its title what it looks at".into());
        }
        let Some(page) = &self.page else {
            let of_pages = self.at.is_some()
                || self.text.is_some()
                || self.field.is_some()
                || self.fills.is_some();
            return match self.port {
                None => Err("name a page or a port".into()),
                Some(_) if of_pages || self.version => {
                    Err("at, text, field, fills and version are for pages, not for ports".into())
                }
                Some(_) => Ok(()),
            };
        };
        if self.port.is_some() {
            return Err(
                "name a page or a port, not both; a page's port stands in its address".into(),
            );
        }
        check_address(page, fields)?;
        if self
            .at
            .as_ref()
            .is_some_and(|at| !at.is_empty() && !at.starts_with('/'))
        {
            return Err("at is a JSON pointer, such as /status/version".into());
        }
        if self
            .fills
            .is_some_and(|percent| !(1..=100).contains(&percent))
        {
            return Err("fills is a number from 1 to 100: hundredths of the card".into());
        }
        let Some(name) = &self.field else {
            return Ok(());
        };
        match fields.iter().find(|field| field.name == *name) {
            None => Err(format!("{name:?} is not a field of this sheet")),
            Some(field) if field.kind.is_secret() => {
                Err(format!("{name:?} is a secret, which no page should show"))
            }
            Some(_) => Ok(()),
        }
    }
}

/// How an appliance takes its settings on a network that it opens itself.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FirstJoin {
    /// Name of its own network, with `{mac_tail}` for the last four digits of its hardware address.
    pub network: String,
    /// The page that takes the settings, at the address that it always has there.
    pub page: String,
    /// Whether they are sent as JSON; else as a form (`application/x-www-form-urlencoded`).
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub json: bool,
    /// What is sent: names that the page knows, and the field whose setting each gets.
    pub values: BTreeMap<String, String>,
}

/// Stands for the last four digits of a hardware address in the name of a network.
const MAC_TAIL: &str = "{mac_tail}";

impl FirstJoin {
    /// What a sheet must say of a first join.
    pub(crate) fn check(&self, fields: &[Field]) -> Result<(), String> {
        let name = self.network.replace(MAC_TAIL, "0000");
        if name.is_empty() || name.len() > 32 || name.contains(['{', '}']) {
            return Err("its network has 1 to 32 bytes, {mac_tail} among them or not".into());
        }
        check_address(&self.page, &[])?;
        // A sheet comes from a publisher, and passphrases go to that address.
        let host = self.page.split("//").nth(1).unwrap_or("");
        let host = host.split(['/', ':', '?', '#', '@']).next().unwrap_or("");
        let near = host
            .parse()
            .is_ok_and(|ip: Ipv4Addr| ip.is_private() || ip.is_link_local());
        if !near || self.page.contains('@') {
            return Err(format!(
                "{:?} is no address of a board's own network: write a private one of IPv4, such as \
                 http://192.168.4.1/setup",
                self.page
            ));
        }
        if self.values.is_empty() {
            return Err("say which values are sent".into());
        }
        let unknown = self
            .values
            .values()
            .find(|name| !fields.iter().any(|field| field.name == **name));
        match unknown {
            Some(name) => Err(format!("{name:?} is not a field of this sheet")),
            None => Ok(()),
        }
    }

    /// Names of the networks that a device with these hardware addresses opens; of one without any, the name as far
    /// as it is known.
    pub fn networks(&self, macs: &[String]) -> Vec<String> {
        if !self.network.contains(MAC_TAIL) || macs.is_empty() {
            return vec![self.network.replace(MAC_TAIL, "…")];
        }
        let tail = |mac: &String| {
            let digits: String = mac.chars().filter(char::is_ascii_hexdigit).collect();
            digits[digits.len().saturating_sub(4)..].to_uppercase()
        };
        let names = macs
            .iter()
            .map(|mac| self.network.replace(MAC_TAIL, &tail(mac)));
        names.collect()
    }

    /// Whether the name of the network differs from board to board.
    pub fn may_differ(&self) -> bool {
        self.network.contains(MAC_TAIL)
    }

    /// Whether a network may be that of a board of this appliance, whatever its hardware address.
    pub fn may_be(&self, network: &str) -> bool {
        let Some((before, behind)) = self.network.split_once(MAC_TAIL) else {
            return network == self.network;
        };
        let rest = network.strip_prefix(before);
        let tail = rest.and_then(|rest| rest.strip_suffix(behind));
        tail.is_some_and(|tail| {
            tail.len() == 4
                && tail
                    .bytes()
                    .all(|digit| matches!(digit, b'0'..=b'9' | b'A'..=b'F'))
        })
    }
}

/// A line of a board's boot log that means something.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BootLine {
    /// A text that is in the line.
    pub text: String,
    /// What it means, for people.
    pub means: String,
    /// Whether that is as it should be.
    #[serde(default)]
    pub good: bool,
}

/// Where a running board exports the settings that it was given since its card was made.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Export {
    /// The page that gives them.
    pub page: String,
    /// The page that takes them back, by a POST of the same bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back: Option<String>,
    /// Whether they are JSON, so that it can be told whether they are whole.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub json: bool,
    /// Where in them it stands whose they are (RFC 6901).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// The field whose setting that must be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
}

impl Export {
    /// What a sheet must say of an export.
    pub(crate) fn check(&self, fields: &[Field]) -> Result<(), String> {
        for page in std::iter::once(&self.page).chain(&self.back) {
            check_address(page, fields)?;
        }
        if self.at.is_some() != self.field.is_some() || (self.at.is_some() && !self.json) {
            return Err("at and field stand together, with json = true".into());
        }
        let as_check = Check {
            title: "export".into(),
            page: Some(self.page.clone()),
            at: self.at.clone(),
            field: self.field.clone(),
            ..Check::default()
        };
        as_check.check(fields)
    }
}

/// Parts of an address: text, and names of fields that stood in braces.
fn parts(address: &str) -> Result<Vec<(&str, Option<&str>)>, String> {
    let mut found = Vec::new();
    let mut rest = address;
    while let Some((before, behind)) = rest.split_once('{') {
        let (name, after) = behind
            .split_once('}')
            .ok_or("a brace in the address is not closed")?;
        found.push((before, Some(name)));
        rest = after;
    }
    found.push((rest, None));
    Ok(found)
}

/// Whether an address of a page can be filled with these fields.
pub(crate) fn check_address(address: &str, fields: &[Field]) -> Result<(), String> {
    if !address.starts_with("http://") && !address.starts_with("https://") {
        return Err(format!("{address:?} is no address of a page"));
    }
    for (_, name) in parts(address)? {
        let Some(name) = name else { continue };
        match fields.iter().find(|field| field.name == name) {
            None => {
                return Err(format!(
                    "{name:?} in its address is not a field of this sheet"
                ));
            }
            Some(field) if field.kind.is_secret() => {
                return Err(format!("{name:?} is a secret, which stands in no address"));
            }
            Some(_) => {}
        }
    }
    Ok(())
}

/// The address with the values of its fields; nothing where one of them has none.
pub fn fill_address(address: &str, value: impl Fn(&str) -> Option<String>) -> Option<String> {
    let mut filled = String::new();
    for (text, name) in parts(address).ok()? {
        filled += text;
        if let Some(name) = name {
            filled += &value(name).filter(|value| !value.is_empty())?;
        }
    }
    Some(filled)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Sheet;

    fn sheet(check: &str) -> Result<Sheet, String> {
        let text = format!(
            "appliance = \"a\"\nversion = \"1\"\nboards = [\"b\"]\n\
             [[fields]]\nname = \"host_name\"\nkind = \"host-name\"\nlabel = \"Host name\"\n\
             [[fields]]\nname = \"pass\"\nkind = \"passphrase\"\nlabel = \"Passphrase\"\n\
             [[checks]]\ntitle = \"it\"\n{check}\n"
        );
        Sheet::parse(&text).map_err(|e| e.to_string())
    }

    #[test]
    fn checks_say_what_can_be_looked_at() {
        for good in [
            "port = 22",
            "page = \"http://{host_name}/status\"\nat = \"/version\"\nversion = true",
            "page = \"https://192.0.2.1/\"\ntext = \"up\"",
            "page = \"http://{host_name}/\"\nat = \"/name\"\nfield = \"host_name\"",
        ] {
            assert_eq!(sheet(good).unwrap().checks.len(), 1, "{good}");
        }
        for (bad, why) in [
            ("", "a page or a port"),
            ("port = 22\ntext = \"up\"", "not for ports"),
            ("page = \"http://x/\"\nport = 1", "not both"),
            ("page = \"ftp://x/\"", "no address of a page"),
            ("page = \"http://{name}/\"", "not a field"),
            ("page = \"http://{pass}/\"", "secret"),
            ("page = \"http://{host_name/\"", "not closed"),
            ("page = \"http://x/\"\nfield = \"pass\"", "secret"),
            ("page = \"http://x/\"\nfield = \"else\"", "not a field"),
            ("page = \"http://x/\"\nat = \"version\"", "pointer"),
            ("page = \"http://x/\"\nfills = 0", "1 to 100"),
            ("port = 80\nfills = 60", "not for ports"),
        ] {
            let refused = sheet(bad).unwrap_err();
            assert!(refused.contains(why), "{bad}: {refused}");
        }
    }

    #[test]
    fn passphrases_go_to_the_own_network_of_a_board_and_nowhere_else() {
        let join = |page: &str| FirstJoin {
            network: "Quaylink".into(),
            page: page.into(),
            values: BTreeMap::from([("psk".to_owned(), "pass".to_owned())]),
            ..FirstJoin::default()
        };
        let fields = sheet("port = 22").unwrap().fields;
        assert!(join("http://192.168.4.1/setup").check(&fields).is_ok());
        assert!(join("http://10.0.0.1:8080/").check(&fields).is_ok());
        for away in [
            "http://203.0.113.9/setup",
            "http://192.168.4.1@203.0.113.9/",
            "http://publisher.example/setup",
            "http://192.168.4.1.example/",
            "https:///setup",
        ] {
            let why = join(away).check(&fields).unwrap_err();
            assert!(why.contains("own network"), "{away}: {why}");
        }
    }

    #[test]
    fn own_networks_are_named_by_the_end_of_an_address() {
        let join = FirstJoin {
            network: "Quaylink-{mac_tail}".into(),
            ..FirstJoin::default()
        };
        let macs = [
            "5a:17:00:00:0b:01".to_owned(),
            "5a:17:00:00:0b:02".to_owned(),
        ];
        assert_eq!(join.networks(&macs), ["Quaylink-0B01", "Quaylink-0B02"]);
        assert_eq!(join.networks(&[]), ["Quaylink-…"]);
        assert_eq!(join.networks(&["5".into()]), ["Quaylink-5"]);
    }

    #[test]
    fn addresses_are_filled_or_not_at_all() {
        let value = |name: &str| (name == "host_name").then(|| "quay-01".to_owned());
        let fill = |address| fill_address(address, value);
        assert_eq!(
            fill("http://{host_name}/a").as_deref(),
            Some("http://quay-01/a")
        );
        assert_eq!(fill("http://{other}/"), None);
        assert_eq!(fill("http://fixed/").as_deref(), Some("http://fixed/"));
    }
}
