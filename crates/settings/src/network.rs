//! Wi-Fi networks in order of preference.

use serde::{Deserialize, Serialize};

use crate::refused::{Refused, refuse};

/// Most networks of one device.
const MOST_NETWORKS: usize = 16;

/// Checks a WPA passphrase. Never repeats it.
pub(crate) fn check_passphrase(value: &str) -> Result<(), Refused> {
    let printable = value.bytes().all(|b| (0x20..0x7f).contains(&b));
    match value.len() {
        _ if !printable => refuse("must be printable ASCII characters"),
        8..=63 => Ok(()),
        64 if value.bytes().all(|b| b.is_ascii_hexdigit()) => Ok(()),
        len => refuse(format!(
            "has {len} characters; a passphrase has 8 to 63, or is 64 hex digits"
        )),
    }
}

/// How a network keeps strangers out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Security {
    /// Not at all.
    Open,
    /// WPA2 with a passphrase or its key.
    Wpa2,
    /// WPA3 with a passphrase.
    Wpa3,
}

impl Security {
    /// The word that stands for it in sheets and values.
    pub fn word(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Wpa2 => "wpa2",
            Self::Wpa3 => "wpa3",
        }
    }

    /// What a word stands for.
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Open, Self::Wpa2, Self::Wpa3]
            .into_iter()
            .find(|one| one.word() == word)
    }

    /// The name of the trade.
    pub fn title(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Wpa2 => "WPA2",
            Self::Wpa3 => "WPA3",
        }
    }
}

/// One network.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Network {
    /// Its name, 1 to 32 bytes, case kept.
    pub name: String,
    /// Whether it does not announce its name.
    #[serde(default)]
    pub hidden: bool,
    /// How it keeps strangers out.
    pub security: Security,
    /// The passphrase; for WPA2 64 hex digits are its key. A secret.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<String>,
}

impl Network {
    /// Checks one network by the standard's rules. Never repeats the passphrase.
    pub fn check(&self) -> Result<(), Refused> {
        let name = &self.name;
        let refuse = |why: String| Err(Refused(format!("network {name:?} {why}")));
        if name.is_empty() || name.len() > 32 || name.chars().any(char::is_control) {
            let len = name.len();
            return refuse(format!(
                "has a name of {len} bytes; it takes 1 to 32 in one line"
            ));
        }
        match (self.security, &self.passphrase) {
            (Security::Open, None) => Ok(()),
            (Security::Open, Some(_)) => refuse("is open, so that it takes no passphrase".into()),
            (security, None) => refuse(format!("needs a passphrase for {}", security.title())),
            (security, Some(passphrase)) => {
                if security == Security::Wpa3 && passphrase.len() == 64 {
                    return refuse("takes no key of 64 hex digits for WPA3".into());
                }
                check_passphrase(passphrase)
                    .or_else(|why| refuse(format!("has a passphrase that {why}")))
            }
        }
    }

    /// The key that WPA2 derives from name and passphrase (IEEE 802.11, annex J: PBKDF2 with
    /// HMAC-SHA-1, 4096 rounds, 256 bits), as 64 hex digits. As secret as the passphrase.
    pub fn key(&self) -> Option<String> {
        let passphrase = self.passphrase.as_deref()?;
        if self.security != Security::Wpa2 {
            return None;
        }
        if passphrase.len() == 64 {
            return Some(passphrase.to_ascii_lowercase());
        }
        let mut key = [0; 32];
        ring::pbkdf2::derive(
            ring::pbkdf2::PBKDF2_HMAC_SHA1,
            std::num::NonZeroU32::new(4096)?,
            self.name.as_bytes(),
            passphrase.as_bytes(),
            &mut key,
        );
        Some(key.iter().map(|byte| format!("{byte:02x}")).collect())
    }

    /// One line about it, with `secret` in place of the passphrase.
    pub fn shown(&self, secret: &str) -> String {
        let hidden = if self.hidden { ", hidden" } else { "" };
        let secret = match self.passphrase {
            Some(_) => format!(", {secret}"),
            None => String::new(),
        };
        format!("{} ({}{hidden}{secret})", self.name, self.security.title())
    }
}

/// Reads the networks of a value, which is a JSON list of them.
pub fn parse_networks(value: &str) -> Result<Vec<Network>, Refused> {
    let networks: Vec<Network> = serde_json::from_str(value).map_err(|_| {
        // What the reader says could repeat a secret.
        Refused("must be a JSON list of networks with name, security and passphrase".into())
    })?;
    if networks.is_empty() || networks.len() > MOST_NETWORKS {
        return Err(Refused(format!("must be 1 to {MOST_NETWORKS} networks")));
    }
    for (place, network) in networks.iter().enumerate() {
        network.check()?;
        let same =
            |other: &&Network| other.name == network.name && other.passphrase == network.passphrase;
        if networks[..place].iter().find(same).is_some() {
            return Err(Refused(format!(
                "network {:?} is there twice",
                network.name
            )));
        }
    }
    Ok(networks)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn network(name: &str, security: Security, passphrase: Option<&str>) -> Network {
        Network {
            name: name.into(),
            hidden: false,
            security,
            passphrase: passphrase.map(Into::into),
        }
    }

    #[test]
    fn the_key_is_that_of_the_standard() {
        // Test vectors of IEEE 802.11, annex J.
        for (name, passphrase, key) in [
            (
                "IEEE",
                "password",
                "f42c6fc52df0ebef9ebb4b90b38a5f902e83fe1b135a70e23aed762e9710a12e",
            ),
            (
                "ThisIsASSID",
                "ThisIsAPassword",
                "0dc0d6eb90555ed6419756b9a15ec3e3209b63df707dd508d14581f8982721af",
            ),
        ] {
            let found = network(name, Security::Wpa2, Some(passphrase)).key();
            assert_eq!(found.as_deref(), Some(key));
        }
        let raw = "AB".repeat(32);
        let raw = network("x", Security::Wpa2, Some(&raw)).key();
        assert_eq!(raw, Some("ab".repeat(32)));
        assert_eq!(network("x", Security::Wpa3, Some("password")).key(), None);
    }

    #[test]
    fn the_rule_depends_on_the_security_and_no_secret_is_repeated() {
        use Security::*;
        let hex = "0f".repeat(32);
        for (network, fine) in [
            (network("Quay", Open, None), true),
            (network("Quay", Open, Some("password")), false),
            (network("Quay", Wpa2, None), false),
            (network("Quay", Wpa2, Some("short")), false),
            (network("Quay", Wpa2, Some(&hex)), true),
            (network("Quay", Wpa3, Some(&hex)), false),
            (network("Quay", Wpa3, Some("long enough")), true),
            (network("", Open, None), false),
            (network(&"å".repeat(17), Open, None), false),
        ] {
            let found = network.check();
            assert_eq!(found.is_ok(), fine, "{network:?}");
            if let (Err(why), Some(secret)) = (found, &network.passphrase) {
                assert!(!why.0.contains(secret.as_str()), "{why}");
            }
        }
    }

    #[test]
    fn lists_are_read_in_their_order() {
        let text = r#"[{"name":"New","security":"wpa2","passphrase":"new secret"},
            {"name":"Old","security":"open","hidden":true}]"#;
        let networks = parse_networks(text).unwrap();
        let shown: Vec<_> = networks.iter().map(|one| one.shown("…")).collect();
        assert_eq!(shown, ["New (WPA2, …)", "Old (open, hidden)"]);
        let broken = parse_networks(r#"[{"name":"X","passphrase":"tell no one"}]"#).unwrap_err();
        assert!(!broken.0.contains("tell"), "{broken}");
        assert!(parse_networks("[]").is_err());
    }
}
