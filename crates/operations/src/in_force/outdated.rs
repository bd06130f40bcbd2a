//! Whether the card of a device still carries what counts now.

use records::devices::Device;
use records::imprints::Imprint;
use records::releases::Release;
use settings::{Effective, Field};
use vault::Keys;

use super::{Counted, InForce};
use crate::shown;

impl InForce {
    /// Why the card of a device is out of date; nothing if it is not, or if there is none.
    /// `carried` is what is on it.
    pub fn outdated(
        &self,
        device: &Device,
        counted: &Counted,
        followed: Option<&Release>,
        carried: Option<Imprint>,
    ) -> Vec<String> {
        let (Some(card), Some(imprint)) = (&device.card, carried) else {
            return Vec::new();
        };
        let imprint = shown::imprint(imprint);
        match imprint.state.as_str() {
            "verified" => {}
            "writing" => return vec![format!("card {card} is being written")],
            "in doubt" => {
                return vec![format!(
                    "card {card} was being written when the service ended; put it in, and what it is will be found out"
                )];
            }
            _ => {
                return vec![format!(
                    "card {card} is not whole: its last write, imprint {}, did not end well; write it again",
                    imprint.id
                )];
            }
        }
        if !imprint.settings_known {
            return vec![format!(
                "which settings card {card} carries is not known: it was restored from {}",
                imprint.base
            )];
        }
        let mut reasons = Vec::new();
        let updated_to = device.runs_release_id;
        let other = |release: &&Release| {
            let carried = release.name == imprint.base || imprint.from_backup;
            updated_to != Some(release.id) && (updated_to.is_some() || !carried)
        };
        if let Some(followed) = followed.filter(other) {
            reasons.push(match updated_to {
                Some(_) => format!(
                    "{} was updated in place to another release, and follows {}",
                    device.name, followed.name
                ),
                None => format!(
                    "card {card} has {}, and {} follows {}",
                    imprint.base, device.name, followed.name
                ),
            });
        }
        let now = recorded_settings(&self.store.keys, &counted.fields, &counted.values);
        reasons.extend(differences(&imprint.settings, &now, card));
        reasons
    }
}

/// Settings for the records: a fingerprint in place of each secret.
pub fn recorded_settings(keys: &Keys, fields: &[Field], values: &[Effective]) -> Vec<api::Setting> {
    let stands_for = |secret: &str| format!("fingerprint {}", keys.fingerprint(secret));
    let pairs = fields.iter().zip(values);
    pairs
        .map(|(field, value)| shown::setting(field, Some(value), keys, &stands_for))
        .collect()
}

/// What a card carries that the settings say otherwise now, a sentence each.
fn differences(before: &[api::Setting], now: &[api::Setting], card: &str) -> Vec<String> {
    let mut found = Vec::new();
    for one in now {
        let then = before.iter().find(|other| other.name == one.name);
        let then = then.and_then(|other| other.value.as_deref());
        let label = &one.label;
        match (then, one.value.as_deref()) {
            (then, now) if then == now => {}
            (_, _)
                if one.secret
                    && one.networks.is_empty()
                    && then.is_some()
                    && one.value.is_some() =>
            {
                found.push(format!("{label} is another one now than on card {card}"));
            }
            (Some(then), Some(now)) => {
                found.push(format!("{label} is {now} now, card {card} has {then}"));
            }
            (None, Some(now)) => {
                let now = if one.secret && one.networks.is_empty() {
                    "set"
                } else {
                    now
                };
                found.push(format!("{label} is {now} now, card {card} has none"));
            }
            (Some(_), None) => {
                found.push(format!("{label} is not set any more, card {card} has it"))
            }
            (None, None) => {}
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn setting(name: &str, secret: bool, value: Option<&str>) -> api::Setting {
        api::Setting {
            name: name.into(),
            label: name.into(),
            secret,
            value: value.map(Into::into),
            applies: true,
            ..api::Setting::default()
        }
    }

    #[test]
    fn what_a_card_carries_is_told_apart_from_what_is_set() {
        let then = [
            setting("host_name", false, Some("quay-03")),
            setting("passphrase", true, Some("fingerprint aa")),
            setting("country", false, Some("NO")),
            setting("same", true, Some("fingerprint cc")),
        ];
        let now = [
            setting("host_name", false, Some("quay-04")),
            setting("passphrase", true, Some("fingerprint bb")),
            setting("country", false, None),
            setting("same", true, Some("fingerprint cc")),
            setting("keys", false, Some("ssh-ed25519 A")),
            setting("never", false, None),
        ];
        assert_eq!(
            differences(&then, &now, "C-0001"),
            [
                "host_name is quay-04 now, card C-0001 has quay-03",
                "passphrase is another one now than on card C-0001",
                "country is not set any more, card C-0001 has it",
                "keys is ssh-ed25519 A now, card C-0001 has none",
            ]
        );
    }
}
