//! The release sheet: a TOML file beside an image that says what it is and what it needs.
//! Every key is described in `docs/release-sheet.md`.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::check::check_address;
use crate::template::{GIVEN, OF_EACH, Templates};
use crate::{BootLine, Check, Export, Field, FirstJoin, Placement};

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
    /// Licence of the image, as an SPDX expression or in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub licence: Option<String>,
    /// Guides and pages to read.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub links: Vec<Link>,
    /// Logins that the image comes with and that everybody knows.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub logins: Vec<Login>,
    /// Which card it takes.
    #[serde(default)]
    pub card: CardNeeds,
    /// What the first boot looks like.
    #[serde(default)]
    pub first_boot: FirstBoot,
    /// What can be set. Shared with everything that counts what is set on thousands of devices.
    #[serde(default)]
    pub fields: Arc<[Field]>,
    /// How settings land on the card.
    #[serde(default)]
    pub placements: Vec<Placement>,
    /// What is looked at on a board that has come up.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<Check>,
    /// Where a running board exports its settings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub export: Option<Export>,
    /// How it takes its settings on a network of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_join: Option<FirstJoin>,
}

/// A page to read.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Link {
    /// What is found there.
    pub title: String,
    /// Where: http or https.
    pub url: String,
}

/// A login that the image comes with.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Login {
    /// User name.
    pub user: String,
    /// Password that everybody knows; none if it has to be set at first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// Where it is asked for, such as `console` or `web page`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// The field that changes it. Where that has no value, every plan says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed_by: Option<String>,
    /// A page that asks for it by HTTP's Basic scheme (RFC 7617). It is tried there once when the board has come
    /// up, and nowhere else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<String>,
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
    /// Who grows the last partition; if it is not said, the image where it does so at its first
    /// start, else here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grow: Option<Grow>,
    /// Megabytes to leave at the card's end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub leave_mb: Option<u64>,
    /// Whether growth may go on with the feature meta_bg where there is no room for more group
    /// descriptors.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub meta_bg: bool,
}

/// Who grows the last partition over the card.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Grow {
    /// Duplicarium, before the card is written.
    Here,
    /// The image itself, at its first start.
    Image,
    /// Nobody.
    None,
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
    /// The page that answers then, such as `http://{host_name}/`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<String>,
    /// The page that gives the stamp of the card that the board runs from, where the appliance shows it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stamp: Option<String>,
    /// Kinds of services that it announces on its network, such as `_http._tcp` (RFC 6763).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub services: Vec<String>,
    /// What a person has to do at the first start, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<String>,
    /// Lines of its boot log that mean something.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lines: Vec<BootLine>,
}

/// Whether a text is a kind of service: `_NAME._tcp` or `_NAME._udp`, the name 1 to 15 letters, digits and hyphens
/// (RFC 6335, section 5.1).
fn is_service(text: &str) -> bool {
    let name = text
        .strip_suffix("._tcp")
        .or_else(|| text.strip_suffix("._udp"));
    let name = name.and_then(|name| name.strip_prefix('_'));
    name.is_some_and(|name| {
        (1..=15).contains(&name.len())
            && name
                .bytes()
                .all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
            && name.bytes().any(|byte| byte.is_ascii_alphabetic())
            && !name.starts_with('-')
            && !name.ends_with('-')
    })
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

/// Longest sheet, in bytes. A long one has some 10 KiB.
pub const MOST_SHEET: usize = 512 << 10;
/// How deep arrays and tables may stand in each other: each level costs stack while it is read.
const MOST_NESTED: usize = 200;
/// Fields, placements and the like, at most each.
const MOST_LISTED: usize = 400;
/// Checks of a running board, and steps that a person takes, at most each.
const MOST_LOOKED_AT: usize = 40;

/// Refuses a text that would cost too much to read, before it is read.
fn bound(text: &str) -> Result<(), String> {
    if text.len() > MOST_SHEET {
        return Err(format!("a sheet has at most {MOST_SHEET} bytes"));
    }
    let mut depth = 0_usize;
    for line in text.lines() {
        // A line that names something can only stand outside of arrays, or inside of text.
        if line
            .trim_start()
            .starts_with(|c: char| c.is_ascii_alphabetic())
        {
            depth = 0;
        }
        let mut deepest = depth;
        for byte in line.bytes() {
            match byte {
                b'[' | b'{' => depth += 1,
                b']' | b'}' => depth = depth.saturating_sub(1),
                _ => {}
            }
            deepest = deepest.max(depth);
        }
        if deepest > MOST_NESTED || line.matches('.').count() > MOST_NESTED {
            return Err(format!(
                "brackets or names with dots stand more than {MOST_NESTED} deep in each other"
            ));
        }
    }
    Ok(())
}

impl Sheet {
    /// Reads and checks a sheet.
    pub fn parse(text: &str) -> Result<Self, SheetError> {
        bound(text).map_err(|message| SheetError {
            line: 1,
            column: 1,
            message,
        })?;
        let sheet: Self = toml::from_str(text).map_err(|e| {
            let (line, column) = position(text, e.span().map_or(0, |span| span.start));
            SheetError {
                line,
                column,
                message: explain(&e.message().replace('\n', " ")),
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
        if self.fields.len().max(self.placements.len()) > MOST_LISTED {
            return Err((
                "fields".into(),
                format!("a sheet has at most {MOST_LISTED} fields and as many placements"),
            ));
        }
        if self.boards.is_empty() {
            return Err((
                "boards".into(),
                "name at least one board model that the image suits".into(),
            ));
        }
        self.check_facts()?;
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
            self.check_field(place, field)
                .map_err(|why| (field.name.clone(), format!("field {:?}: {why}", field.name)))?;
        }
        for login in &self.logins {
            if let Some(name) = &login.changed_by
                && !self.fields.iter().any(|field| field.name == *name)
            {
                let why = format!(
                    "login {:?}: {name:?} is not a field of this sheet",
                    login.user
                );
                return Err((name.clone(), why));
            }
        }
        let pages = [&self.first_boot.page, &self.first_boot.stamp];
        let of_logins = self.logins.iter().map(|login| &login.page);
        for page in pages.into_iter().chain(of_logins).flatten() {
            check_address(page, &self.fields).map_err(|why| (page.clone(), why))?;
        }
        if self.checks.len().max(self.first_boot.steps.len()) > MOST_LOOKED_AT {
            let why = format!("a sheet has at most {MOST_LOOKED_AT} checks and as many steps");
            return Err(("checks".into(), why));
        }
        let services = &self.first_boot.services;
        if services.len() > MOST_LOOKED_AT || !services.iter().all(|one| is_service(one)) {
            let why = "services are kinds such as \"_http._tcp\": an underscore, a name, and _tcp or _udp";
            return Err(("services".into(), why.into()));
        }
        let lines = &self.first_boot.lines;
        if lines.len() > MOST_LOOKED_AT || lines.iter().any(|line| line.text.trim().is_empty()) {
            let why =
                format!("at most {MOST_LOOKED_AT} boot lines, each with a text that is in it");
            return Err(("lines".into(), why));
        }
        for check in &self.checks {
            let wrong = |why| {
                (
                    check.title.clone(),
                    format!("check {:?}: {why}", check.title),
                )
            };
            check.check(&self.fields).map_err(wrong)?;
        }
        if let Some(join) = &self.first_join {
            let wrong = |why| (join.page.clone(), format!("first_join: {why}"));
            join.check(&self.fields).map_err(wrong)?;
        }
        if let Some(export) = &self.export {
            let wrong = |why| (export.page.clone(), format!("export: {why}"));
            export.check(&self.fields).map_err(wrong)?;
        }
        for placement in &self.placements {
            placement
                .check(&self.fields)
                .map_err(|e| (placement.path.clone(), e.to_string()))?;
        }
        Ok(())
    }
}

impl Sheet {
    /// What a field declares, and that its condition names only fields above it.
    fn check_field(&self, place: usize, field: &Field) -> Result<(), String> {
        field.check_declared().map_err(|refused| refused.0)?;
        if GIVEN.contains(&field.name.as_str()) || OF_EACH.contains(&field.name.as_str()) {
            return Err("that name stands for something else in templates".into());
        }
        let above = |name: &str| {
            GIVEN.contains(&name) || self.fields[..place].iter().any(|other| other.name == name)
        };
        match &field.when {
            Some(when) => Templates::new(None)
                .check_expression(when, &above)
                .map_err(|why| format!("its condition: {why}, or stands below it")),
            None => Ok(()),
        }
    }

    /// What the facts beside fields and placements must be.
    fn check_facts(&self) -> Result<(), (String, String)> {
        if let Some(date) = &self.date {
            let known = time::Date::parse(
                date,
                time::macros::format_description!("[year]-[month]-[day]"),
            );
            if known.is_err() {
                return Err((
                    date.clone(),
                    format!("{date:?} is no day; write YYYY-MM-DD"),
                ));
            }
        }
        for link in &self.links {
            if !link.url.starts_with("https://") && !link.url.starts_with("http://") {
                return Err((
                    link.url.clone(),
                    format!("{:?} is no address of a page", link.url),
                ));
            }
        }
        for (key, size) in [
            ("smallest_gb", self.card.smallest_gb),
            ("advised_gb", self.card.advised_gb),
        ] {
            if size.is_some_and(|size| !(0.0..=100_000.0).contains(&size)) {
                return Err((key.into(), format!("{key} must be a size in gigabytes")));
            }
        }
        if self
            .first_boot
            .minutes
            .is_some_and(|minutes| !(0.0..=1440.0).contains(&minutes))
        {
            return Err((
                "minutes".into(),
                "the first boot takes between 0 and 1440 minutes".into(),
            ));
        }
        Ok(())
    }

    /// The smallest sheet that says what an image is, for a release that came without one.
    pub fn minimal(
        appliance: &str,
        variant: Option<&str>,
        version: &str,
        boards: &[String],
        notes: &str,
    ) -> String {
        let quoted = |text: &str| toml::Value::String(text.into()).to_string();
        let boards: Vec<_> = boards.iter().map(|board| quoted(board)).collect();
        let variant = variant.map_or(String::new(), |variant| {
            format!("variant = {}\n", quoted(variant))
        });
        format!(
            "# Made from what was found in the image; give it a sheet of its own when there is one.\n\
             appliance = {}\n{variant}version = {}\nboards = [{}]\nnotes = {}\n",
            quoted(appliance),
            quoted(version),
            boards.join(", "),
            quoted(notes),
        )
    }
}

/// A message of the TOML reader; a misspelt key gets the one that was meant.
fn explain(message: &str) -> String {
    let mut words = message.split('`').skip(1).step_by(2);
    let unknown = message.starts_with("unknown field") || message.starts_with("unknown variant");
    let (true, Some(written)) = (unknown, words.next()) else {
        return message.into();
    };
    let nearest = words
        .map(|known| (strsim::levenshtein(written, known), known))
        .min_by_key(|(distance, _)| *distance);
    match nearest {
        Some((distance, known)) if distance <= 1 + written.len() / 3 => {
            format!("{message}; did you mean `{known}`?")
        }
        _ => message.into(),
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
    fn a_misspelt_key_gets_the_one_that_was_meant() {
        for (from, to, meant) in [
            ("boards =", "bords =", "`boards`"),
            ("boards =", "licens = \"x\"\nboards =", "`licence`"),
            ("kind = \"host-name\"", "kind = \"hostname\"", "`host-name`"),
            ("boards =", "[card]\nsmalest_gb = 4\n", "`smallest_gb`"),
        ] {
            let error = Sheet::parse(&GOOD.replacen(from, to, 1)).unwrap_err();
            let says = format!("did you mean {meant}?");
            assert!(error.message.ends_with(&says), "{to}: {error}");
        }
        let far = Sheet::parse(&GOOD.replacen("boards =", "zzz = 1\nboards =", 1)).unwrap_err();
        assert!(!far.message.contains("did you mean"), "{far}");
    }

    #[test]
    fn a_minimal_sheet_is_a_sheet() {
        let boards = ["plover".to_owned()];
        let text = Sheet::minimal(
            "quaylink",
            Some("street"),
            "2.4-rc1",
            &boards,
            "From \"x\".",
        );
        let sheet = Sheet::parse(&text).unwrap();
        assert_eq!(sheet.name(), "quaylink street 2.4-rc1");
        assert_eq!(sheet.notes.as_deref(), Some("From \"x\"."));
    }

    #[test]
    fn facts_that_cannot_be_are_refused() {
        for (line, says) in [
            ("date = \"2026-13-01\"", "YYYY-MM-DD"),
            (
                "links = [{ title = \"Guide\", url = \"ftp://x\" }]",
                "no address",
            ),
            ("card = { smallest_gb = -1.0 }", "gigabytes"),
            ("first_boot = { minutes = 5000.0 }", "minutes"),
            ("first_boot = { services = [\"http\"] }", "services"),
            (
                "first_boot = { services = [\"_a-name-too-long-for-one._tcp\"] }",
                "services",
            ),
        ] {
            let text = GOOD.replacen("boards =", &format!("{line}\nboards ="), 1);
            let error = Sheet::parse(&text).unwrap_err();
            assert!(error.message.contains(says), "{line}: {error}");
        }
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
            ("template =", "mode = \"9\"\ntemplate =", 13, "mode"),
        ] {
            let error = Sheet::parse(&GOOD.replacen(from, to, 1)).unwrap_err();
            assert!(error.message.contains(says), "{to}: {error}");
            assert_eq!(error.line, line, "{to}: {error}");
        }
    }
}
