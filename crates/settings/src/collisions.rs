//! Values that only one device may have: host names and fixed addresses on a site, and whatever a
//! sheet calls unique.

use crate::{Address, Effective, Field, FieldKind, Unique};

/// A device with the settings that count for it.
pub struct Owned<'a> {
    /// Name of the device.
    pub device: &'a str,
    /// Its site.
    pub site: &'a str,
    /// Its appliance: fields of one name mean the same only there.
    pub appliance: &'a str,
    /// The fields of its release.
    pub fields: &'a [Field],
    /// Their values.
    pub settings: &'a [Effective],
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
#[derive(PartialEq, Eq)]
struct Claim {
    scope: Unique,
    /// What kind of thing it is: a host name is one whatever its field is called.
    thing: String,
    key: String,
}

fn claim(owned: &Owned<'_>, field: &Field, value: &str) -> Option<Claim> {
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

/// What `own` has in common with one of `others` and must not. The device itself among them does
/// not count: a spare is the same device.
pub fn collisions(own: &Owned<'_>, others: &[Owned<'_>]) -> Vec<Collision> {
    let mut found = Vec::new();
    for (field, value) in claims(own) {
        for other in others.iter().filter(|other| other.device != own.device) {
            let near = value.scope == Unique::Team || other.site == own.site;
            if !near || !claims(other).any(|(_, theirs)| theirs == value) {
                continue;
            }
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

fn claims<'a>(owned: &'a Owned<'a>) -> impl Iterator<Item = (&'a Field, Claim)> {
    let pairs = owned.fields.iter().zip(owned.settings);
    pairs.filter_map(|(field, one)| {
        let value = one.value.as_deref()?;
        Some((field, claim(owned, field, value)?))
    })
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
            effective(&fields, &[Layer::device(own)], &Subject::default()).0
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
            let others = [owned(device, site, &other), owned("quay-03", "quay", &one)];
            let found = collisions(&owned("quay-03", "quay", &one), &others);
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
        assert_eq!(among("hall", "b"), ["call_name"]);
        assert_eq!(among("quay", "quay-03"), [""; 0]);
    }
}
