//! One thing that can be set, and the rule its values follow.

use serde::{Deserialize, Serialize};

/// The kind of a field's value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FieldKind {
    /// One line of text.
    Text,
    /// A name by RFC 1123: labels of letters, digits and inner hyphens.
    HostName,
    /// Two letters of ISO 3166-1.
    Country,
    /// Name of a Wi-Fi network, 1 to 32 bytes, its case kept.
    NetworkName,
    /// WPA passphrase: 8 to 63 printable ASCII characters, or 64 hex digits. A secret.
    Passphrase,
    /// One line of text that is never shown. A secret.
    Secret,
}

/// A field as a release sheet declares it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Field {
    /// Name used in placements and on the command line.
    pub name: String,
    /// Kind of value.
    pub kind: FieldKind,
    /// Name for people.
    pub label: String,
    /// A sentence of help.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub help: Option<String>,
    /// Whether a card cannot be made without it.
    #[serde(default)]
    pub required: bool,
    /// Value where nothing else is set.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
}

/// Why a value was refused: a sentence that names the rule, never the value of a secret.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Refused(pub String);

impl FieldKind {
    /// Whether values of this kind are never shown.
    pub fn is_secret(self) -> bool {
        matches!(self, Self::Passphrase | Self::Secret)
    }

    /// Checks a value against the kind's rule.
    pub fn check(self, value: &str) -> Result<(), Refused> {
        let refuse = |why: String| Err(Refused(why));
        if value.chars().any(char::is_control) {
            return refuse("must be one line without control characters".into());
        }
        match self {
            Self::Text | Self::Secret if value.is_empty() => refuse("must not be empty".into()),
            Self::Text | Self::Secret => Ok(()),
            Self::HostName => check_host_name(value),
            Self::Country if COUNTRIES.split(' ').any(|code| code == value) => Ok(()),
            Self::Country => refuse(format!(
                "{value:?} is no country code of ISO 3166-1; it takes two capital letters, such as NO"
            )),
            Self::NetworkName => match value.len() {
                1..=32 => Ok(()),
                0 => refuse("must not be empty".into()),
                len => refuse(format!(
                    "{value:?} is {len} bytes long; a network name has at most 32"
                )),
            },
            Self::Passphrase => check_passphrase(value),
        }
    }
}

/// Checks a host name by RFC 1123.
pub fn check_host_name(value: &str) -> Result<(), Refused> {
    let label_ok = |label: &str| {
        (1..=63).contains(&label.len())
            && label
                .bytes()
                .all(|b| b.is_ascii_alphanumeric() || b == b'-')
            && !label.starts_with('-')
            && !label.ends_with('-')
    };
    if value.len() <= 253 && value.split('.').all(label_ok) {
        return Ok(());
    }
    Err(Refused(format!(
        "{value:?} is no host name; it takes letters, digits and inner hyphens, at most 63 between dots"
    )))
}

fn check_passphrase(value: &str) -> Result<(), Refused> {
    let printable = value.bytes().all(|b| (0x20..0x7f).contains(&b));
    let refuse = |why: String| Err(Refused(why));
    match value.len() {
        _ if !printable => refuse("must be printable ASCII characters".into()),
        8..=63 => Ok(()),
        64 if value.bytes().all(|b| b.is_ascii_hexdigit()) => Ok(()),
        len => refuse(format!(
            "has {len} characters; a passphrase has 8 to 63, or is 64 hex digits"
        )),
    }
}

/// Codes of ISO 3166-1 alpha-2.
const COUNTRIES: &str = "AD AE AF AG AI AL AM AO AQ AR AS AT AU AW AX AZ BA BB BD BE BF BG BH BI BJ BL BM BN BO BQ BR BS BT BV BW BY BZ CA CC CD CF CG CH CI CK CL CM CN CO CR CU CV CW CX CY CZ DE DJ DK DM DO DZ EC EE EG EH ER ES ET FI FJ FK FM FO FR GA GB GD GE GF GG GH GI GL GM GN GP GQ GR GS GT GU GW GY HK HM HN HR HT HU ID IE IL IM IN IO IQ IR IS IT JE JM JO JP KE KG KH KI KM KN KP KR KW KY KZ LA LB LC LI LK LR LS LT LU LV LY MA MC MD ME MF MG MH MK ML MM MN MO MP MQ MR MS MT MU MV MW MX MY MZ NA NC NE NF NG NI NL NO NP NR NU NZ OM PA PE PF PG PH PK PL PM PN PR PS PT PW PY QA RE RO RS RU RW SA SB SC SD SE SG SH SI SJ SK SL SM SN SO SR SS ST SV SX SY SZ TC TD TF TG TH TJ TK TL TM TN TO TR TT TV TW TZ UA UG UM US UY UZ VA VC VE VG VI VN VU WF WS YE YT ZA ZM ZW";

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_follow_the_standards() {
        use FieldKind::*;
        let long = "x".repeat(33);
        let wide = "å".repeat(17);
        for (kind, good, bad) in [
            (
                HostName,
                &["quay-03", "a.b", "3com"][..],
                &["", "-a", "a-", "a_b", "a..b", "tide gauge"][..],
            ),
            (Country, &["NO", "GB"], &["no", "XX", "NOR", ""]),
            (
                NetworkName,
                &["Saltmarsh", " lead", "ååååå"],
                &["", &long, &wide, "a\nb"],
            ),
            (
                Passphrase,
                &["12345678", "with \"quote\""],
                &["1234567", "", "pässword9", &long.repeat(2)],
            ),
            (Text, &["anything"], &["", "two\nlines"]),
        ] {
            for value in good {
                assert_eq!(kind.check(value), Ok(()), "{kind:?} {value:?}");
            }
            for value in bad {
                assert!(kind.check(value).is_err(), "{kind:?} {value:?}");
            }
        }
        assert_eq!(Passphrase.check(&"ab".repeat(32)), Ok(()));
    }

    #[test]
    fn a_refusal_never_repeats_a_secret() {
        for secret in ["hunter2", "pässword9"] {
            let said = FieldKind::Passphrase.check(secret).unwrap_err().to_string();
            assert!(!said.contains(secret), "{said}");
        }
    }
}
