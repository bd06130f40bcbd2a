//! What templates can call: quoting, and the open formats that boards really read.

use std::fmt::Write;

use minijinja::{Environment, Error, ErrorKind, Value};

use crate::network::Security;
use crate::password::shadow_hash;
use crate::{MASK, Subject};

/// Names of the functions.
pub(crate) const NAMES: [&str; 6] = [
    "wpa_supplicant",
    "network_manager",
    "interfaces",
    "networkd",
    "hosts",
    "authorized_keys",
];

/// A network as templates see it.
#[derive(Clone, Debug)]
pub(crate) struct TemplateNetwork {
    pub name: String,
    pub hidden: bool,
    pub security: Security,
    pub passphrase: String,
    /// The 256-bit key of WPA2 as hex digits; empty for others.
    pub key: String,
}

impl TemplateNetwork {
    pub fn to_value(&self) -> Value {
        Value::from_pairs([
            ("name", Value::from(&self.name)),
            ("hidden", Value::from(self.hidden)),
            ("security", Value::from(self.security.word())),
            ("passphrase", Value::from(&self.passphrase)),
            ("key", Value::from(&self.key)),
        ])
    }

    fn from_value(value: &Value) -> Result<Self, Error> {
        let security = text(value, "security")?;
        Ok(Self {
            name: text(value, "name")?,
            hidden: value.get_attr("hidden")?.is_true(),
            security: Security::from_word(&security)
                .ok_or_else(|| wrong("a network whose security is not known"))?,
            passphrase: text(value, "passphrase")?,
            key: text(value, "key")?,
        })
    }
}

/// An address as templates see it.
#[derive(Clone, Debug, Default)]
pub(crate) struct TemplateAddress {
    pub dhcp: bool,
    pub address: String,
    pub prefix: u8,
    pub netmask: String,
    pub gateway: String,
    pub dns: Vec<String>,
}

impl TemplateAddress {
    pub fn to_value(&self) -> Value {
        Value::from_pairs([
            ("dhcp", Value::from(self.dhcp)),
            ("address", Value::from(&self.address)),
            ("prefix", Value::from(self.prefix)),
            ("netmask", Value::from(&self.netmask)),
            ("gateway", Value::from(&self.gateway)),
            ("dns", Value::from(self.dns.clone())),
        ])
    }

    /// An address that is not set comes from the network.
    fn from_value(value: &Value) -> Result<Self, Error> {
        if !value.is_true() || value.get_attr("dhcp")?.is_true() {
            return Ok(Self {
                dhcp: true,
                ..Self::default()
            });
        }
        let dns = value.get_attr("dns")?;
        Ok(Self {
            dhcp: false,
            address: text(value, "address")?,
            prefix: u8::try_from(value.get_attr("prefix")?)?,
            netmask: text(value, "netmask")?,
            gateway: text(value, "gateway")?,
            dns: dns.try_iter()?.map(|one| one.to_string()).collect(),
        })
    }
}

fn text(value: &Value, name: &str) -> Result<String, Error> {
    Ok(value.get_attr(name)?.to_string())
}

pub(crate) fn add_to(environment: &mut Environment<'static>, subject: Option<&Subject>) {
    // A string as TOML and JSON both write it.
    environment.add_filter("quoted", |text: String| {
        serde_json::to_string(&text).unwrap_or_default()
    });
    environment.add_filter("shell_quoted", |text: String| {
        format!("'{}'", text.replace('\'', "'\\''"))
    });
    let subject = subject.cloned();
    environment.add_filter("shadow_hash", move |password: String| {
        if password == MASK {
            return Ok(MASK.to_owned());
        }
        let subject = subject.as_ref();
        subject
            .and_then(|subject| shadow_hash(&password, &subject.device, &subject.salt_key))
            .ok_or_else(|| wrong("a password that cannot be hashed"))
    });
    environment.add_function("wpa_supplicant", |networks: Value, country: String| {
        let networks = networks
            .try_iter()?
            .map(|one| TemplateNetwork::from_value(&one));
        Ok::<_, Error>(wpa_supplicant(
            &networks.collect::<Result<Vec<_>, _>>()?,
            &country,
        ))
    });
    environment.add_function(
        "network_manager",
        |network: Value, address: Option<Value>, priority: Option<i64>| {
            let network = TemplateNetwork::from_value(&network)?;
            let address = address
                .as_ref()
                .map(TemplateAddress::from_value)
                .transpose()?;
            Ok::<_, Error>(network_manager(
                &network,
                address.as_ref(),
                priority.unwrap_or(0),
            ))
        },
    );
    environment.add_function("interfaces", |interface: String, address: Value| {
        Ok::<_, Error>(interfaces(
            &interface,
            &TemplateAddress::from_value(&address)?,
        ))
    });
    environment.add_function("networkd", |interface: String, address: Value| {
        Ok::<_, Error>(networkd(
            &interface,
            &TemplateAddress::from_value(&address)?,
        ))
    });
    environment.add_function("hosts", |host_name: String| {
        format!(
            "127.0.0.1\tlocalhost\n127.0.1.1\t{host_name}\n\n\
             ::1\tlocalhost ip6-localhost ip6-loopback\nff02::1\tip6-allnodes\nff02::2\tip6-allrouters\n"
        )
    });
    environment.add_function("authorized_keys", |keys: Vec<String>| {
        keys.iter()
            .fold(String::new(), |text, key| text + key + "\n")
    });
}

fn wrong(what: &'static str) -> Error {
    Error::new(ErrorKind::InvalidOperation, what)
}

/// Text in quotes where every reader takes it so, else its bytes as hex digits.
fn ssid(name: &str) -> String {
    let plain = |b: u8| (0x20..0x7f).contains(&b) && b != b'"' && b != b'\\';
    match name.bytes().all(plain) {
        true => format!("\"{name}\""),
        false => name.bytes().map(|byte| format!("{byte:02x}")).collect(),
    }
}

/// A file of wpa_supplicant.conf(5).
fn wpa_supplicant(networks: &[TemplateNetwork], country: &str) -> String {
    let mut text = "ctrl_interface=DIR=/run/wpa_supplicant GROUP=netdev\n".to_owned();
    if !country.is_empty() {
        let _ = writeln!(text, "country={country}");
    }
    for (place, network) in networks.iter().enumerate() {
        let _ = writeln!(text, "\nnetwork={{\n\tssid={}", ssid(&network.name));
        if network.hidden {
            text.push_str("\tscan_ssid=1\n");
        }
        let _ = writeln!(text, "\tpriority={}", networks.len() - place);
        let _ = match network.security {
            Security::Open => writeln!(text, "\tkey_mgmt=NONE"),
            Security::Wpa2 => writeln!(text, "\tkey_mgmt=WPA-PSK\n\tpsk={}", network.key),
            Security::Wpa3 => writeln!(
                text,
                "\tkey_mgmt=SAE\n\tieee80211w=2\n\tsae_password=\"{}\"",
                network.passphrase
            ),
        };
        text.push_str("}\n");
    }
    text
}

/// Text as a key file holds it: backslashes and blanks at the beginning are escaped.
fn key_file_text(text: &str) -> String {
    let escaped = text.replace('\\', "\\\\");
    match escaped.strip_prefix(' ') {
        Some(rest) => format!("\\s{rest}"),
        None => escaped,
    }
}

/// A connection profile in the key file format of nm-settings-keyfile(5).
fn network_manager(
    network: &TemplateNetwork,
    address: Option<&TemplateAddress>,
    priority: i64,
) -> String {
    let name = key_file_text(&network.name);
    let id = name.replace(';', "-");
    let ssid = match network.name.contains(';') {
        // Semicolons end the items of a list there, so that the bytes are listed instead.
        true => network
            .name
            .bytes()
            .map(|byte| format!("{byte};"))
            .collect(),
        false => name,
    };
    let mut text = format!(
        "[connection]\nid={id}\ntype=wifi\nautoconnect-priority={priority}\n\n[wifi]\nmode=infrastructure\nssid={ssid}\n"
    );
    if network.hidden {
        text.push_str("hidden=true\n");
    }
    let _ = match network.security {
        Security::Open => Ok(()),
        Security::Wpa2 => write!(
            text,
            "\n[wifi-security]\nkey-mgmt=wpa-psk\npsk={}\n",
            network.key
        ),
        Security::Wpa3 => write!(
            text,
            "\n[wifi-security]\nkey-mgmt=sae\npsk={}\n",
            key_file_text(&network.passphrase)
        ),
    };
    match address.filter(|address| !address.dhcp) {
        None => text.push_str("\n[ipv4]\nmethod=auto\n"),
        Some(address) => {
            let gateway = match address.gateway.as_str() {
                "" => String::new(),
                gateway => format!(",{gateway}"),
            };
            let _ = write!(
                text,
                "\n[ipv4]\nmethod=manual\naddress1={}/{}{gateway}\n",
                address.address, address.prefix
            );
            let v4: Vec<_> = address
                .dns
                .iter()
                .filter(|one| !one.contains(':'))
                .collect();
            if !v4.is_empty() {
                text.push_str("dns=");
                for server in v4 {
                    let _ = write!(text, "{server};");
                }
                text.push('\n');
            }
        }
    }
    text.push_str("\n[ipv6]\nmethod=auto\n");
    text
}

/// A stanza of interfaces(5).
fn interfaces(interface: &str, address: &TemplateAddress) -> String {
    if address.dhcp {
        return format!("auto {interface}\niface {interface} inet dhcp\n");
    }
    let mut text = format!(
        "auto {interface}\niface {interface} inet static\n\taddress {}/{}\n",
        address.address, address.prefix
    );
    if !address.gateway.is_empty() {
        let _ = writeln!(text, "\tgateway {}", address.gateway);
    }
    if !address.dns.is_empty() {
        let _ = writeln!(text, "\tdns-nameservers {}", address.dns.join(" "));
    }
    text
}

/// A file of systemd.network(5).
fn networkd(interface: &str, address: &TemplateAddress) -> String {
    let mut text = format!("[Match]\nName={interface}\n\n[Network]\n");
    if address.dhcp {
        text.push_str("DHCP=yes\n");
        return text;
    }
    let _ = writeln!(text, "Address={}/{}", address.address, address.prefix);
    if !address.gateway.is_empty() {
        let _ = writeln!(text, "Gateway={}", address.gateway);
    }
    for server in &address.dns {
        let _ = writeln!(text, "DNS={server}");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn network(name: &str, security: Security) -> TemplateNetwork {
        let secret = |wanted| {
            if security == wanted {
                "0a".repeat(32)
            } else {
                String::new()
            }
        };
        TemplateNetwork {
            name: name.into(),
            hidden: security == Security::Wpa3,
            security,
            passphrase: "tide and time".into(),
            key: secret(Security::Wpa2),
        }
    }

    fn fixed() -> TemplateAddress {
        TemplateAddress {
            dhcp: false,
            address: "192.0.2.7".into(),
            prefix: 24,
            netmask: "255.255.255.0".into(),
            gateway: "192.0.2.1".into(),
            dns: vec!["192.0.2.1".into(), "2001:db8::53".into()],
        }
    }

    #[test]
    fn networks_stand_in_their_order_with_the_lines_of_their_security() {
        let networks = [
            network("Saltmarsh", Security::Wpa2),
            network("Søndre", Security::Wpa3),
            network("Gjest \"fri\"", Security::Open),
        ];
        let text = wpa_supplicant(&networks, "NO");
        assert!(text.contains("country=NO\n"), "{text}");
        let places: Vec<_> = ["priority=3", "priority=2", "priority=1"]
            .iter()
            .map(|mark| text.find(mark).unwrap())
            .collect();
        assert!(places.is_sorted(), "{text}");
        assert!(text.contains("ssid=\"Saltmarsh\"\n"), "{text}");
        assert!(
            text.contains(&format!("psk={}\n", "0a".repeat(32))),
            "{text}"
        );
        assert!(!text.contains("psk=\"tide"), "{text}");
        assert!(
            text.contains("ssid=53c3b86e647265\n\tscan_ssid=1"),
            "{text}"
        );
        assert!(text.contains("sae_password=\"tide and time\""), "{text}");
        assert!(
            text.contains("ssid=476a65737420226672692 2".replace(' ', "").as_str()),
            "{text}"
        );
        assert!(text.contains("key_mgmt=NONE"), "{text}");
    }

    #[test]
    fn profiles_of_each_network_have_their_address() {
        let text = network_manager(&network("Saltmarsh", Security::Wpa2), Some(&fixed()), 3);
        for line in [
            "autoconnect-priority=3",
            "ssid=Saltmarsh",
            "key-mgmt=wpa-psk",
            "method=manual",
            "address1=192.0.2.7/24,192.0.2.1",
            "dns=192.0.2.1;",
        ] {
            assert!(text.lines().any(|found| found == line), "{line} in {text}");
        }
        let odd = network_manager(&network(" a;b\\", Security::Open), None, 0);
        assert!(odd.contains("ssid=32;97;59;98;92;\n"), "{odd}");
        assert!(
            odd.contains("method=auto") && !odd.contains("wifi-security"),
            "{odd}"
        );
    }

    #[test]
    fn wired_addresses_are_fixed_or_come_from_the_network() {
        let dhcp = TemplateAddress {
            dhcp: true,
            ..TemplateAddress::default()
        };
        assert_eq!(
            interfaces("eth0", &dhcp),
            "auto eth0\niface eth0 inet dhcp\n"
        );
        assert_eq!(
            interfaces("eth0", &fixed()),
            "auto eth0\niface eth0 inet static\n\taddress 192.0.2.7/24\n\tgateway 192.0.2.1\n\tdns-nameservers 192.0.2.1 2001:db8::53\n"
        );
        assert_eq!(
            networkd("end0", &dhcp),
            "[Match]\nName=end0\n\n[Network]\nDHCP=yes\n"
        );
        assert_eq!(
            networkd("end0", &fixed()),
            "[Match]\nName=end0\n\n[Network]\nAddress=192.0.2.7/24\nGateway=192.0.2.1\nDNS=192.0.2.1\nDNS=2001:db8::53\n"
        );
    }
}
