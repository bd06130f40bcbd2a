//! Values of fields, in layers: release default, preset, device.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::template::{self, Templates};
use crate::{Field, FieldKind};

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

/// What is known of a device beside its settings.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Subject {
    /// Name of the device.
    pub device: String,
    /// Its board model.
    pub board: String,
    /// Its site.
    pub site: String,
    /// What is plugged into it.
    pub attached: Vec<String>,
    /// The key from which salts of password hashes are made.
    pub salt_key: [u8; 32],
}

/// Nothing that was set as a secret.
static NO_SECRETS: BTreeSet<String> = BTreeSet::new();

/// Values of one layer, and what it is called. Borrowed, since devices share their presets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Layer<'a> {
    /// Which layer it is.
    pub origin: Origin,
    /// Name of the preset, if it is one.
    pub name: Option<&'a str>,
    /// Its values.
    pub values: &'a Settings,
    /// Names of those that were set as secrets: they stay such, whatever a sheet calls them now.
    pub sealed: &'a BTreeSet<String>,
}

impl<'a> Layer<'a> {
    /// The values of the device itself.
    pub fn device(values: &'a Settings) -> Self {
        Self {
            origin: Origin::Device,
            name: None,
            values,
            sealed: &NO_SECRETS,
        }
    }

    /// The values of a preset.
    pub fn preset(name: &'a str, values: &'a Settings) -> Self {
        Self {
            origin: Origin::Preset,
            name: Some(name),
            values,
            sealed: &NO_SECRETS,
        }
    }

    /// The same with these values set as secrets.
    pub fn sealed(self, sealed: &'a BTreeSet<String>) -> Self {
        Self { sealed, ..self }
    }
}

/// A field with the value that counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Effective {
    /// Name of the field.
    pub name: String,
    /// Kind of the value.
    pub kind: FieldKind,
    /// The value, if any layer has one and the field counts.
    pub value: Option<String>,
    /// Where it comes from, if there is one.
    pub origin: Option<Origin>,
    /// Name of the preset that it comes from, if it does.
    pub preset: Option<String>,
    /// Whether it holds a secret.
    pub secret: bool,
    /// Whether the field counts on this device, by its condition.
    pub applies: bool,
}

impl Effective {
    /// The value for the eye, with the words of `secret` in place of each secret.
    pub fn shown(&self, secret: &dyn Fn(&str) -> String) -> Option<String> {
        let value = self.value.as_deref()?;
        Some(match self.secret && !self.kind.is_secret() {
            true => secret(value),
            false => self.kind.shown(value, secret),
        })
    }
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

/// The values that count for one device, and everything that is wrong with them; `layers` with
/// the nearest first. Values for fields that the sheet does not declare are kept aside, not an
/// error: another release of the same appliance may want them.
pub fn effective(
    fields: &[Field],
    layers: &[Layer<'_>],
    subject: &Subject,
) -> (Vec<Effective>, Vec<Problem>) {
    // Most sheets have no conditions, and what these need takes longer than everything else here.
    let mut conditions = fields
        .iter()
        .any(|field| field.when.is_some())
        .then(|| (Templates::new(None), template::given(subject)));
    let (mut values, mut problems) = (Vec::new(), Vec::new());
    for field in fields {
        let held = match &conditions {
            Some((templates, context)) => templates.holds(field.when.as_deref(), context),
            None => Ok(true),
        };
        let (applies, mut rule) = match held {
            Ok(applies) => (applies, None),
            Err(why) => (
                true,
                Some(format!("has a condition that cannot be told: {why}")),
            ),
        };
        let set = layers.iter().find_map(|layer| {
            let value = layer.values.get(&field.name)?;
            let sealed = layer.sealed.contains(&field.name);
            Some((layer.origin, layer.name, value, sealed))
        });
        let default = field.default.as_ref();
        let found = set
            .or(default.map(|value| (Origin::Release, None, value, false)))
            .filter(|_| applies);
        rule = rule.or(match &found {
            // A rule for plain text quotes what breaks it.
            Some((.., value, true)) if !field.kind.is_secret() => {
                let broken = field.check(value).is_err();
                broken.then(|| "does not follow the rule of this release".into())
            }
            Some((.., value, _)) => field.check(value).err().map(|refused| refused.0),
            None => (field.required && applies).then(|| "must be set".into()),
        });
        problems.extend(rule.map(|rule| Problem {
            field: field.name.clone(),
            rule: format!("{}: {rule}", field.label),
        }));
        let value = found.as_ref().map(|(.., value, _)| (*value).clone());
        let secret = field.kind.is_secret() || found.as_ref().is_some_and(|(.., sealed)| *sealed);
        if let Some((_, context)) = &mut conditions {
            let seen = template::value_of(field.kind, value.as_deref(), secret);
            context.insert(field.name.clone(), seen);
        }
        values.push(Effective {
            name: field.name.clone(),
            kind: field.kind,
            origin: found.as_ref().map(|(origin, ..)| *origin),
            preset: found.and_then(|(_, preset, ..)| preset.map(str::to_owned)),
            value,
            secret,
            applies,
        });
    }
    (values, problems)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Laid, MASK, Placement, PlacementError, lay_out};
    use imagecraft::compose::Change;

    fn fields() -> Vec<Field> {
        #[derive(Deserialize)]
        struct Fields {
            fields: Vec<Field>,
        }
        let text = r#"
            [[fields]]
            name = "host_name"
            kind = "host-name"
            label = "Host name"
            required = true
            [[fields]]
            name = "country"
            kind = "country"
            label = "Country"
            required = true
            default = "NO"
            [[fields]]
            name = "passphrase"
            kind = "passphrase"
            label = "Passphrase"
            [[fields]]
            name = "bus_number"
            kind = "number"
            label = "Number on the bus"
            required = true
            when = "board == 'plover-field' and 'level probe' in attached"
        "#;
        toml::from_str::<Fields>(text).unwrap().fields
    }

    fn count(layers: &[Layer]) -> (Vec<Effective>, Vec<Problem>) {
        effective(&fields(), layers, &Subject::default())
    }

    fn set(pairs: &[(&str, &str)]) -> Settings {
        pairs
            .iter()
            .map(|(k, v)| ((*k).into(), (*v).into()))
            .collect()
    }

    #[test]
    fn the_nearest_layer_wins_and_says_so() {
        let site = set(&[("country", "GB"), ("passphrase", "of the site")]);
        let own = set(&[("host_name", "quay-03"), ("passphrase", "of its own")]);
        let (values, problems) = count(&[
            Layer::device(&own),
            Layer::preset("quay", &site),
            Layer::preset("team", &set(&[("country", "SE")])),
        ]);
        assert_eq!(problems, []);
        let origins: Vec<_> = values
            .iter()
            .filter(|one| one.applies)
            .map(|one| {
                let value = one.value.as_deref().unwrap();
                (value, one.origin.unwrap(), one.preset.as_deref())
            })
            .collect();
        assert_eq!(
            origins,
            [
                ("quay-03", Origin::Device, None),
                ("GB", Origin::Preset, Some("quay")),
                ("of its own", Origin::Device, None)
            ]
        );
    }

    #[test]
    fn every_problem_is_named_at_once_without_secrets() {
        let own = set(&[("country", "Norway"), ("passphrase", "short")]);
        let (_, problems) = count(&[Layer::device(&own)]);
        let named: Vec<_> = problems.iter().map(|p| p.field.as_str()).collect();
        assert_eq!(named, ["host_name", "country", "passphrase"]);
        assert!(!problems[2].rule.contains("short"), "{}", problems[2]);
    }

    #[test]
    fn a_field_counts_where_its_condition_holds() {
        let own = set(&[("host_name", "a"), ("bus_number", "many")]);
        let own = [Layer::device(&own)];
        let mut subject = Subject {
            board: "plover-field".into(),
            ..Subject::default()
        };
        let (values, problems) = effective(&fields(), &own, &subject);
        assert!(!values[3].applies && values[3].value.is_none() && problems.is_empty());
        subject.attached = vec!["level probe".into()];
        let (values, problems) = effective(&fields(), &own, &subject);
        assert!(values[3].applies);
        assert!(
            problems[0].rule.contains("\"many\" is no number"),
            "{problems:?}"
        );
    }

    fn laid(
        placement: &str,
        own: &[(&str, &str)],
        base: &str,
    ) -> Result<Vec<Laid>, PlacementError> {
        let placement: Placement = toml::from_str(placement).unwrap();
        placement.check(&fields())?;
        let (values, _) = count(&[Layer::device(&set(own))]);
        lay_out(&[placement], &values, &Subject::default(), &mut |_, _| {
            Ok((!base.is_empty()).then(|| base.as_bytes().to_vec()))
        })
    }

    #[test]
    fn files_are_filled_with_secrets_masked_for_the_eye() {
        let placement = r#"
            partition = "boot"
            path = "network.toml"
            when = "passphrase"
            template = """
host = {{ host_name | quoted }}
key = {{ passphrase | quoted }}
hash = {{ passphrase | shadow_hash }}
"""
        "#;
        let own = [
            ("host_name", "quay-03"),
            ("passphrase", "tide \"and\" time"),
        ];
        let files = laid(placement, &own, "").unwrap();
        let Change::File(bytes) = &files[0].file.change else {
            panic!("{files:?}")
        };
        let text = String::from_utf8(bytes.clone()).unwrap();
        let begin = "host = \"quay-03\"\nkey = \"tide \\\"and\\\" time\"\nhash = $6$";
        assert!(text.starts_with(begin), "{text}");
        let shown = format!("host = \"quay-03\"\nkey = \"{MASK}\"\nhash = {MASK}\n");
        assert_eq!(files[0].after.as_deref(), Some(shown.as_str()));
        assert_eq!(laid(placement, &[("host_name", "q")], "").unwrap(), []);
    }

    #[test]
    fn edits_of_the_releases_file_stack_and_need_one() {
        let placement = r#"
            partition = "root"
            path = "/etc/kiosk.conf"
            mode = "0640"
            owner = 7
            [[edits]]
            key = "name"
            value = "{{ host_name }}"
            [[edits]]
            key = "pass"
            value = "{{ passphrase }}"
            when = "passphrase"
            [[edits]]
            line = "radio"
            on = "country == 'NO'"
        "#;
        let own = [("host_name", "quay-03"), ("passphrase", "tell no one")];
        let files = laid(placement, &own, "name=x\n#radio\n").unwrap();
        let expected = "name=quay-03\nradio\npass=tell no one\n";
        let change = &files[0].file.change;
        assert_eq!(change, &Change::File(expected.as_bytes().to_vec()));
        assert_eq!(files[0].before.as_deref(), Some("name=x\n#radio\n"));
        let shown = expected.replace("tell no one", MASK);
        assert_eq!(files[0].after.as_deref(), Some(shown.as_str()));
        let given = files[0].file.attributes;
        assert_eq!((given.mode, given.owner), (Some(0o640), Some(7)));
        let missing = laid(placement, &own, "").unwrap_err().to_string();
        assert!(missing.contains("no such file"), "{missing}");
    }

    #[test]
    fn what_a_placement_cannot_be_is_said_when_the_sheet_is_read() {
        for (placement, says) in [
            ("template = \"{{ nobody }}\"", "\"nobody\" is not a field"),
            ("template = \"{{ item }}\"", "\"item\" is not a field"),
            ("template = \"{% if %}\"", "syntax error"),
            ("template = \"x\"\nlink = \"y\"", "exactly one"),
            ("remove = false", "exactly one"),
            ("template = \"x\"\nmode = \"0888\"", "no mode"),
            ("template = \"x\"\nwhen = \"nobody\"", "not a field"),
            ("template = \"x\"\neach = \"nobody\"", "not a field"),
            ("[[edits]]\nkey = \"x\"", "needs value"),
            ("[[edits]]\nline = \"x\"", "needs on"),
            (
                "[[edits]]\nline = \"x\"\non = \"true\"\nvalue = \"y\"",
                "takes no value",
            ),
            (
                "[[edits]]\nkey = \"x\"\nvalue = \"y\"\nline = \"z\"",
                "exactly one of key",
            ),
        ] {
            let text = format!("partition = 2\npath = \"/x\"\n{placement}");
            let placement: Placement = toml::from_str(&text).unwrap();
            let why = placement.check(&fields()).unwrap_err().to_string();
            assert!(why.contains(says), "{text}: {why}");
        }
    }

    #[test]
    fn secrets_stay_out_of_paths_and_of_what_goes_wrong() {
        let own = [("host_name", "q"), ("passphrase", "tell no one")];
        for wrong in [
            "path = \"/etc/{{ passphrase }}\"\ntemplate = \"x\"",
            "path = \"/etc/x\"\nlink = \"{{ passphrase }}\"",
            "path = \"/etc/x\"\ntemplate = \"{{ passphrase | int }}\"",
            "path = \"/etc/x\"\ntemplate = \"{{ passphrase.nothing.more }}\"",
            "path = \"/etc/x\"\ntemplate = \"x\"\nwhen = \"passphrase | int\"",
        ] {
            let why = laid(&format!("partition = 2\n{wrong}"), &own, "").unwrap_err();
            assert!(!why.to_string().contains("tell"), "{wrong}: {why}");
        }
    }
}
