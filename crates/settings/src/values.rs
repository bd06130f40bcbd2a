//! Values of fields, in layers: release default, preset, device.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::Field;

/// Values by field name.
pub type Settings = BTreeMap<String, String>;

/// Which layer a value comes from. Later ones win.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Origin {
    /// The release sheet's default.
    Release,
    /// A preset, such as a site's.
    Preset,
    /// The device itself.
    Device,
}

/// A field with the value that counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Effective {
    /// Name of the field.
    pub name: String,
    /// The value, if any layer has one.
    pub value: Option<String>,
    /// Where it comes from, if there is one.
    pub origin: Option<Origin>,
    /// Whether it must never be shown.
    pub secret: bool,
}

/// A setting that keeps a card from being made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{field}: {rule}")]
pub struct Problem {
    /// Name of the field.
    pub field: String,
    /// What the rule is and what to do. Never holds a secret.
    pub rule: String,
}

/// The values that count for one device, and everything that is wrong with them. Values for
/// fields that the sheet does not declare are kept aside, not an error: another release of the
/// same appliance may want them.
pub fn effective(
    fields: &[Field],
    preset: &Settings,
    device: &Settings,
) -> (Vec<Effective>, Vec<Problem>) {
    let mut values = Vec::new();
    let mut problems = Vec::new();
    for field in fields {
        let layers = [
            (Origin::Device, device.get(&field.name)),
            (Origin::Preset, preset.get(&field.name)),
            (Origin::Release, field.default.as_ref()),
        ];
        let found = layers
            .into_iter()
            .find_map(|(origin, value)| Some((origin, value?)));
        let rule = match found {
            Some((_, value)) => field.kind.check(value).err().map(|refused| refused.0),
            None => field
                .required
                .then(|| format!("{} must be set", field.label)),
        };
        problems.extend(rule.map(|rule| Problem {
            field: field.name.clone(),
            rule,
        }));
        values.push(Effective {
            name: field.name.clone(),
            value: found.map(|(_, value)| value.clone()),
            origin: found.map(|(origin, _)| origin),
            secret: field.kind.is_secret(),
        });
    }
    (values, problems)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{FieldKind, MASK, Placement, render};
    use imagecraft::compose::Target;

    fn field(name: &str, kind: FieldKind, required: bool, default: Option<&str>) -> Field {
        Field {
            name: name.into(),
            kind,
            label: name.to_uppercase(),
            help: None,
            required,
            default: default.map(Into::into),
        }
    }

    fn fields() -> Vec<Field> {
        vec![
            field("host_name", FieldKind::HostName, true, None),
            field("country", FieldKind::Country, true, Some("NO")),
            field("passphrase", FieldKind::Passphrase, false, None),
        ]
    }

    fn set(pairs: &[(&str, &str)]) -> Settings {
        pairs
            .iter()
            .map(|(k, v)| ((*k).into(), (*v).into()))
            .collect()
    }

    #[test]
    fn the_nearest_layer_wins_and_says_so() {
        let preset = set(&[("country", "GB"), ("passphrase", "of the site")]);
        let device = set(&[("host_name", "quay-03"), ("passphrase", "of its own")]);
        let (values, problems) = effective(&fields(), &preset, &device);
        assert_eq!(problems, []);
        let origins: Vec<_> = values
            .iter()
            .map(|v| (v.value.as_deref().unwrap(), v.origin.unwrap()))
            .collect();
        assert_eq!(
            origins,
            [
                ("quay-03", Origin::Device),
                ("GB", Origin::Preset),
                ("of its own", Origin::Device)
            ]
        );
    }

    #[test]
    fn every_problem_is_named_at_once_without_secrets() {
        let device = set(&[("country", "Norway"), ("passphrase", "short")]);
        let (_, problems) = effective(&fields(), &Settings::new(), &device);
        let named: Vec<_> = problems.iter().map(|p| p.field.as_str()).collect();
        assert_eq!(named, ["host_name", "country", "passphrase"]);
        assert!(!problems[2].rule.contains("short"), "{}", problems[2]);
    }

    #[test]
    fn files_are_rendered_with_secrets_masked_for_the_eye() {
        let placement = Placement {
            partition: Target::Boot,
            path: "network.toml".into(),
            template: "host = {{ host_name | quoted }}\nkey = {{ passphrase | quoted }}\n".into(),
            when: Some("passphrase".into()),
        };
        let device = set(&[
            ("host_name", "quay-03"),
            ("passphrase", "tide \"and\" time"),
        ]);
        let (values, _) = effective(&fields(), &Settings::new(), &device);
        let files = render(std::slice::from_ref(&placement), &values).unwrap();
        assert_eq!(
            files[0].content,
            "host = \"quay-03\"\nkey = \"tide \\\"and\\\" time\"\n"
        );
        assert_eq!(
            files[0].shown,
            format!("host = \"quay-03\"\nkey = \"{MASK}\"\n")
        );
        let (without, _) = effective(&fields(), &Settings::new(), &set(&[("host_name", "q")]));
        assert_eq!(render(&[placement], &without).unwrap(), []);
    }
}
