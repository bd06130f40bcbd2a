//! Values that only one device may have: host names and fixed addresses on a site, and whatever a
//! sheet calls unique.

use std::collections::HashMap;

use crate::{Address, Effective, Field, FieldKind, Unique};

/// A device with the settings that count for it (`'v`).
pub struct Owned<'a, 'v> {
    /// Name of the device.
    pub device: &'a str,
    /// Its site.
    pub site: &'a str,
    /// Its appliance: fields of one name mean the same only there.
    pub appliance: &'v str,
    /// The fields of its release.
    pub fields: &'v [Field],
    /// Their values.
    pub settings: &'v [Effective],
}

/// A value that another device has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Collision {
    /// Name of the field.
    pub field: String,
    /// The other device.
    pub with: String,
    /// What is wrong. Holds no secret.
    pub rule: String,
}

/// What a value is compared by, and among whom.
#[derive(PartialEq, Eq, Hash)]
struct Claim {
    scope: Unique,
    /// What kind of thing it is: a host name is one whatever its field is called.
    thing: String,
    key: String,
}

fn claim(owned: &Owned<'_, '_>, field: &Field, value: &str) -> Option<Claim> {
    Some(match field.kind {
        FieldKind::HostName => Claim {
            scope: field.unique.unwrap_or(Unique::Site),
            thing: "host name".into(),
            key: value.to_ascii_lowercase(),
        },
        FieldKind::Address => Claim {
            scope: Unique::Site,
            thing: "address".into(),
            key: Address::parse(value).ok()?.fixed()?.to_string(),
        },
        _ => Claim {
            scope: field.unique?,
            thing: format!("{} {}", owned.appliance, field.name),
            key: value.into(),
        },
    })
}

fn claims<'o>(owned: &'o Owned<'_, '_>) -> impl Iterator<Item = (&'o Field, Claim)> {
    let pairs = owned.fields.iter().zip(owned.settings);
    pairs.filter_map(|(field, one)| {
        let value = one.value.as_deref()?;
        Some((field, claim(owned, field, value)?))
    })
}

/// Most others that are named for one value: the first of them say enough.
pub const MOST_NAMED: usize = 5;

/// Devices by the values that only one of them may have, so that each of thousands is held against all others at once.
#[derive(Default)]
pub struct Claimed<'a> {
    by_claim: HashMap<Claim, Vec<Claimant<'a>>>,
}

/// Who has a value.
struct Claimant<'a> {
    device: &'a str,
    site: &'a str,
}

impl<'a> Claimed<'a> {
    /// Adds what a device has. Those that are added first are named first.
    pub fn add(&mut self, owned: &Owned<'a, '_>) {
        let (device, site) = (owned.device, owned.site);
        for (_, value) in claims(owned) {
            let claimants = self.by_claim.entry(value).or_default();
            claimants.push(Claimant { device, site });
        }
    }

    /// What `own` has in common with these and must not, with [`MOST_NAMED`] of them at most for each value. The device
    /// itself among them does not count: a spare is the same device.
    pub fn collisions(&self, own: &Owned<'_, '_>) -> Vec<Collision> {
        let mut found = Vec::new();
        for (field, value) in claims(own) {
            let others = self.by_claim.get(&value).map_or(&[][..], Vec::as_slice);
            let near = others.iter().filter(|other| {
                other.device != own.device
                    && (value.scope == Unique::Team || other.site == own.site)
            });
            for other in near.take(MOST_NAMED) {
                let shown = match field.kind.is_secret() {
                    true => "the same value",
                    false => &value.key,
                };
                let place = match value.scope {
                    Unique::Team => "in the team".into(),
                    Unique::Site => format!("on site {}", own.site),
                };
                found.push(Collision {
                    field: field.name.clone(),
                    with: other.device.into(),
                    rule: format!(
                        "{}: must be the only one {place}, but {} has {shown} too",
                        field.label, other.device
                    ),
                });
            }
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Layer, Settings, Subject, effective};

    fn fields() -> Vec<Field> {
        let field = |name: &str, more: &str| {
            let text = format!("name = \"{name}\"\nlabel = \"{name}\"\n{more}");
            toml::from_str(&text).unwrap()
        };
        vec![
            field("host_name", "kind = \"host-name\""),
            field("address", "kind = \"address\""),
            field("call_name", "kind = \"text\"\nunique = \"team\""),
            field("account", "kind = \"secret\"\nunique = \"site\""),
        ]
    }

    #[test]
    fn names_and_addresses_are_one_on_a_site_and_a_spare_is_the_same_device() {
        let fields = fields();
        let settings = |host_name: &str, address: &str| {
            let own = [
                ("host_name", host_name),
                ("address", address),
                ("call_name", "heron"),
                ("account", "tell no one"),
            ];
            let own: Settings = own.map(|(name, value)| (name.into(), value.into())).into();
            effective(&fields, &[Layer::device(&own)], &Subject::default()).0
        };
        let one = settings("quay-03", "192.0.2.7/24");
        let other = settings("QUAY-03", "192.0.2.7/24 gateway 192.0.2.1");
        let owned = |device, site, settings| Owned {
            device,
            site,
            appliance: "quaylink",
            fields: &fields,
            settings,
        };
        let among = |site, device| {
            let mut others = Claimed::default();
            others.add(&owned(device, site, &other));
            others.add(&owned("quay-03", "quay", &one));
            let found = others.collisions(&owned("quay-03", "quay", &one));
            assert!(
                found.iter().all(|one| !one.rule.contains("tell")),
                "{found:?}"
            );
            found.into_iter().map(|one| one.field).collect::<Vec<_>>()
        };
        assert_eq!(
            among("quay", "b"),
            ["host_name", "address", "call_name", "account"]
        );
        // Of many the first say enough, and only those that are near.
        let mut many = Claimed::default();
        for (place, name) in ["a", "b", "c", "d", "e", "f", "g"].into_iter().enumerate() {
            let site = if place == 0 { "hall" } else { "quay" };
            many.add(&owned(name, site, &other));
        }
        let found = many.collisions(&owned("quay-03", "quay", &one));
        let with = |field: &str| {
            let of = found.iter().filter(|one| one.field == field);
            of.map(|one| one.with.as_str()).collect::<String>()
        };
        assert_eq!(with("host_name"), "bcdef");
        assert_eq!(with("call_name"), "abcde");
        assert_eq!(among("hall", "b"), ["call_name"]);
        assert_eq!(among("quay", "quay-03"), [""; 0]);
    }
}
