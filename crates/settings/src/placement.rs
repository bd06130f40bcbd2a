//! How settings become files on the card.

use imagecraft::compose::Target;
use minijinja::syntax::SyntaxConfig;
use minijinja::{Environment, UndefinedBehavior};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::{Effective, Field, MASK, Settings};

/// A file that is made from settings.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Placement {
    /// `"boot"`, or the number of a partition.
    #[serde(deserialize_with = "read_target", serialize_with = "write_target")]
    pub partition: Target,
    /// Path on that partition.
    pub path: String,
    /// Template of the content, with field names as variables.
    pub template: String,
    /// Name of a field; the file is made only if it has a value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<String>,
}

fn read_target<'de, D: Deserializer<'de>>(from: D) -> Result<Target, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Either {
        Number(u32),
        Role(String),
    }
    match Either::deserialize(from)? {
        Either::Number(number) => Ok(Target::Number(number)),
        Either::Role(role) if role == "boot" => Ok(Target::Boot),
        Either::Role(role) => Err(serde::de::Error::custom(format!(
            "partition {role:?} is not known; it takes \"boot\" or a number"
        ))),
    }
}

fn write_target<S: Serializer>(target: &Target, to: S) -> Result<S::Ok, S::Error> {
    match target {
        Target::Boot => to.serialize_str("boot"),
        Target::Number(number) => to.serialize_u32(*number),
    }
}

/// Why a placement cannot be rendered.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("placement {path}: {message}")]
pub struct PlacementError {
    /// Path of the file.
    pub path: String,
    /// What is wrong.
    pub message: String,
}

/// A file as it will land.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rendered {
    /// Where to.
    pub target: Target,
    /// Path on that partition.
    pub path: String,
    /// The content itself.
    pub content: String,
    /// The content for the eye: secrets masked.
    pub shown: String,
}

fn environment() -> Environment<'static> {
    let mut environment = Environment::new();
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    if let Ok(syntax) = SyntaxConfig::builder().keep_trailing_newline(true).build() {
        environment.set_syntax(syntax);
    }
    // A string as TOML and JSON both write it.
    environment.add_filter("quoted", |text: String| {
        serde_json::to_string(&text).unwrap_or_default()
    });
    environment
}

impl Placement {
    fn error(&self, message: impl ToString) -> PlacementError {
        PlacementError {
            path: self.path.clone(),
            message: message.to_string(),
        }
    }

    /// Checks that the template is one, and names only declared fields.
    pub(crate) fn check(&self, fields: &[Field]) -> Result<(), PlacementError> {
        let known = |name: &str| fields.iter().any(|field| field.name == name);
        let environment = environment();
        let template = environment
            .template_from_str(&self.template)
            .map_err(|e| self.error(e))?;
        let mut unknown: Vec<_> = template
            .undeclared_variables(false)
            .into_iter()
            .chain(self.when.clone())
            .collect();
        unknown.retain(|name| !known(name));
        unknown.sort();
        match unknown.first() {
            Some(name) => Err(self.error(format!("{name:?} is not a field of this sheet"))),
            None => Ok(()),
        }
    }

    fn fill(&self, values: &Settings) -> Result<String, PlacementError> {
        environment()
            .render_str(&self.template, values.clone())
            .map_err(|e| self.error(e))
    }
}

/// Renders every placement that applies. Fields without a value are empty text.
pub fn render(
    placements: &[Placement],
    settings: &[Effective],
) -> Result<Vec<Rendered>, PlacementError> {
    let values = |masked: bool| -> Settings {
        settings
            .iter()
            .map(|one| {
                let value = match &one.value {
                    Some(_) if masked && one.secret => MASK.to_owned(),
                    value => value.clone().unwrap_or_default(),
                };
                (one.name.clone(), value)
            })
            .collect()
    };
    let (plain, masked) = (values(false), values(true));
    let set = |name: &String| {
        settings
            .iter()
            .any(|one| one.name == *name && one.value.is_some())
    };
    placements
        .iter()
        .filter(|placement| placement.when.as_ref().is_none_or(set))
        .map(|placement| {
            Ok(Rendered {
                target: placement.partition.clone(),
                path: placement.path.clone(),
                content: placement.fill(&plain)?,
                shown: placement.fill(&masked)?,
            })
        })
        .collect()
}
