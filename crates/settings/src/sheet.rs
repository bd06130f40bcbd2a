//! The release sheet: a TOML file beside an image that says what it is and what it needs.
//! Every key is described in `docs/release-sheet.md`.

use serde::{Deserialize, Serialize};

use crate::{Field, Placement};

/// A release sheet that has passed every check.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Sheet {
    /// Name of the appliance, such as `quaylink`.
    pub appliance: String,
    /// Tells releases for different set-ups apart.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub variant: Option<String>,
    /// Version as the publisher writes it.
    pub version: String,
    /// Day of the release, `YYYY-MM-DD`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
    /// Board models that the image suits.
    pub boards: Vec<String>,
    /// What is worth knowing, for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub notes: Option<String>,
    /// Which card it takes.
    #[serde(default)]
    pub card: CardNeeds,
    /// What the first boot looks like.
    #[serde(default)]
    pub first_boot: FirstBoot,
    /// What can be set.
    #[serde(default)]
    pub fields: Vec<Field>,
    /// How settings land on the card.
    #[serde(default)]
    pub placements: Vec<Placement>,
}

/// Which card a release takes.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CardNeeds {
    /// Smallest card in decimal gigabytes; the end of the last partition counts if larger.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub smallest_gb: Option<f64>,
    /// Advised card in decimal gigabytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub advised_gb: Option<f64>,
}

/// What the first boot looks like.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FirstBoot {
    /// Minutes until the board answers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub minutes: Option<f64>,
    /// Whether it fetches something first and needs the internet for it.
    #[serde(default)]
    pub internet: bool,
}

/// Why a sheet was refused.
#[derive(Debug, thiserror::Error)]
#[error("line {line}, column {column}: {message}")]
pub struct SheetError {
    /// Line of the trouble, from 1.
    pub line: usize,
    /// Column of the trouble, from 1.
    pub column: usize,
    /// What is wrong and what to do.
    pub message: String,
}

impl Sheet {
    /// Reads and checks a sheet.
    pub fn parse(text: &str) -> Result<Self, SheetError> {
        let sheet: Self = toml::from_str(text).map_err(|e| {
            let (line, column) = position(text, e.span().map_or(0, |span| span.start));
            SheetError {
                line,
                column,
                message: e.message().replace('\n', " "),
            }
        })?;
        sheet.check().map_err(|(word, message)| {
            let (line, column) = position(text, text.find(&word).unwrap_or(0));
            SheetError {
                line,
                column,
                message,
            }
        })?;
        Ok(sheet)
    }

    /// Name in the catalogue: appliance, variant if there is one, version.
    pub fn name(&self) -> String {
        match &self.variant {
            Some(variant) => format!("{} {variant} {}", self.appliance, self.version),
            None => format!("{} {}", self.appliance, self.version),
        }
    }

    /// What TOML alone cannot say. The error holds a word to find the line by.
    fn check(&self) -> Result<(), (String, String)> {
        let word = |text: &str| {
            !text.is_empty()
                && text
                    .bytes()
                    .all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-' || b == b'_')
        };
        for name in [Some(&self.appliance), self.variant.as_ref()]
            .into_iter()
            .flatten()
        {
            if !word(name) {
                return Err((
                    name.clone(),
                    format!("{name:?} must be small letters, digits and hyphens"),
                ));
            }
        }
        if self.version.is_empty()
            || self
                .version
                .chars()
                .any(|c| c.is_whitespace() || c.is_control())
        {
            return Err(("version".into(), "the version must be one word".into()));
        }
        if self.boards.is_empty() {
            return Err((
                "boards".into(),
                "name at least one board model that the image suits".into(),
            ));
        }
        for (place, field) in self.fields.iter().enumerate() {
            if !word(&field.name) || field.name.contains('-') {
                return Err((
                    field.name.clone(),
                    format!(
                        "field {:?}: its name must be small letters, digits and underscores",
                        field.name
                    ),
                ));
            }
            if self.fields[..place]
                .iter()
                .any(|other| other.name == field.name)
            {
                return Err((
                    field.name.clone(),
                    format!("field {:?} is declared twice", field.name),
                ));
            }
            if let Some(Err(why)) = field.default.as_ref().map(|value| field.kind.check(value)) {
                return Err((
                    field.name.clone(),
                    format!("field {:?}: its default {why}", field.name),
                ));
            }
        }
        for placement in &self.placements {
            placement
                .check(&self.fields)
                .map_err(|e| (placement.path.clone(), e.to_string()))?;
        }
        Ok(())
    }
}

/// Line and column of a byte, both from 1.
fn position(text: &str, at: usize) -> (usize, usize) {
    let before = text.get(..at).unwrap_or("");
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or("").chars().count() + 1;
    (line, column)
}

#[cfg(test)]
mod tests {
    use super::*;

    const GOOD: &str = r#"
appliance = "quaylink"
version = "2.4"
boards = ["plover"]

[[fields]]
name = "host_name"
kind = "host-name"
label = "Host name"

[[placements]]
partition = "boot"
path = "network.toml"
template = "name = {{ host_name | quoted }}\n"
"#;

    #[test]
    fn a_good_sheet_is_read() {
        let sheet = Sheet::parse(GOOD).unwrap();
        assert_eq!(sheet.name(), "quaylink 2.4");
        assert_eq!(sheet.fields.len(), 1);
    }

    #[test]
    fn trouble_is_named_with_its_line() {
        for (from, to, line, says) in [
            ("version = \"2.4\"\n", "", 1, "version"),
            ("boards =", "bords =", 4, "bords"),
            (
                "kind = \"host-name\"",
                "kind = \"hostname\"",
                8,
                "host-name",
            ),
            ("label = \"Host name\"\n", "", 6, "label"),
            ("{{ host_name | quoted }}", "{{ hostname }}", 13, "hostname"),
            ("[\"plover\"]", "[]", 4, "board model"),
            ("host_name\"", "host name\"", 7, "underscores"),
            ("partition = \"boot\"", "partition = \"root\"", 12, "root"),
        ] {
            let error = Sheet::parse(&GOOD.replacen(from, to, 1)).unwrap_err();
            assert!(error.message.contains(says), "{to}: {error}");
            assert_eq!(error.line, line, "{to}: {error}");
        }
    }
}
