//! How settings become files on the card.

use std::collections::BTreeMap;

use imagecraft::compose::{Change, PlacedFile, Target};
use imagecraft::fs::ext::Attributes;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::edit::{Edit, Filled};
use crate::template::{self, Context, GIVEN, OF_EACH, Templates};
use crate::{Effective, Field, Subject};

/// A file that is made from settings: exactly one of `template`, `content`, `edits`, `link` and
/// `remove`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Placement {
    /// `"boot"`, `"root"`, a label, or the number of a partition.
    #[serde(deserialize_with = "read_target", serialize_with = "write_target")]
    pub partition: Target,
    /// Path on that partition, a template too.
    pub path: String,
    /// Template of the content, with field names as variables.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub template: Option<String>,
    /// The content as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub content: Option<String>,
    /// Edits of the text file that the image has there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub edits: Vec<Edit>,
    /// Template of the target of a symbolic link.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<String>,
    /// Whether the file is removed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub remove: bool,
    /// Permission bits in octal, such as `"0600"` (ext only).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
    /// Number of the user (ext only).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<u32>,
    /// Number of the group (ext only).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<u32>,
    /// Expression; the file is made only if it holds. The name of a field holds if it is set.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<String>,
    /// Name of a field with a list; a file is made for each `item`, with its `number` from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub each: Option<String>,
}

/// Longest path, in bytes, and the folders in it, at most.
const MOST_PATH: usize = 1024;
const MOST_FOLDERS: usize = 32;
/// Edits of one file, at most.
const MOST_EDITS: usize = 200;

/// Refuses a path that nobody would make.
fn check_path(path: &str) -> Result<(), String> {
    if path.len() > MOST_PATH || path.matches('/').count() > MOST_FOLDERS {
        return Err(format!(
            "the path has more than {MOST_PATH} bytes or {MOST_FOLDERS} folders"
        ));
    }
    Ok(())
}

fn read_target<'de, D: Deserializer<'de>>(from: D) -> Result<Target, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Either {
        Number(u32),
        Name(String),
    }
    Ok(match Either::deserialize(from)? {
        Either::Number(number) => Target::Number(number),
        Either::Name(role) if role == "boot" => Target::Boot,
        Either::Name(role) if role == "root" => Target::Root,
        Either::Name(label) => Target::Label(label),
    })
}

fn write_target<S: Serializer>(target: &Target, to: S) -> Result<S::Ok, S::Error> {
    match target {
        Target::Number(number) => to.serialize_u32(*number),
        other => to.serialize_str(&other.to_string()),
    }
}

/// Why a placement cannot be laid out.
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
pub struct Laid {
    /// What is put where.
    pub file: PlacedFile,
    /// The text before, where the release has such a file and it is text.
    pub before: Option<String>,
    /// The text after for the eye, secrets masked; `None` where nothing is left or it is a link.
    pub after: Option<String>,
}

/// Reads a file of the release: its bytes, or `None` where there is none.
pub type ReadBase<'a> = &'a mut dyn FnMut(&Target, &str) -> Result<Option<Vec<u8>>, String>;

impl Placement {
    fn error(&self, message: impl ToString) -> PlacementError {
        PlacementError {
            path: self.path.clone(),
            message: message.to_string(),
        }
    }

    /// Checks that templates and expressions are such, and name only what is known.
    pub(crate) fn check(&self, fields: &[Field]) -> Result<(), PlacementError> {
        let wrong = |message: String| self.error(message);
        let ways = [
            self.template.is_some(),
            self.content.is_some(),
            !self.edits.is_empty(),
            self.link.is_some(),
            self.remove,
        ];
        if ways.iter().filter(|way| **way).count() != 1 {
            return Err(
                self.error("it takes exactly one of template, content, edits, link and remove")
            );
        }
        if self.path.trim_matches('/').is_empty() {
            return Err(self.error("the path names no file"));
        }
        check_path(&self.path).map_err(wrong)?;
        if self.edits.len() > MOST_EDITS {
            return Err(self.error(format!("it has more than {MOST_EDITS} edits")));
        }
        self.mode_bits()?;
        let is_field = |name: &str| fields.iter().any(|field| field.name == name);
        if let Some(each) = &self.each
            && !is_field(each)
        {
            return Err(self.error(format!("{each:?} is not a field of this sheet")));
        }
        let known = |name: &str| {
            is_field(name)
                || GIVEN.contains(&name)
                || self.each.is_some() && OF_EACH.contains(&name)
        };
        let templates = Templates::new(None);
        let edited = self.edits.iter().filter_map(|edit| edit.value.as_ref());
        for text in [Some(&self.path), self.template.as_ref(), self.link.as_ref()]
            .into_iter()
            .flatten()
            .chain(edited)
        {
            templates.check(text, &known).map_err(wrong)?;
        }
        for edit in &self.edits {
            edit.check().map_err(wrong)?;
        }
        let of_edits = self.edits.iter().flat_map(|edit| [&edit.when, &edit.on]);
        for expression in of_edits.chain([&self.when]).flatten() {
            templates
                .check_expression(expression, &known)
                .map_err(wrong)?;
        }
        Ok(())
    }

    fn mode_bits(&self) -> Result<Option<u16>, PlacementError> {
        let Some(mode) = &self.mode else {
            return Ok(None);
        };
        match u16::from_str_radix(mode, 8) {
            Ok(bits) if bits <= 0o7777 => Ok(Some(bits)),
            _ => Err(self.error(format!(
                "{mode:?} is no mode; it takes octal digits such as 0600"
            ))),
        }
    }

    fn place(&self, path: String, change: Change) -> Result<PlacedFile, PlacementError> {
        Ok(PlacedFile {
            target: self.partition.clone(),
            path,
            change,
            attributes: Attributes {
                mode: self.mode_bits()?,
                owner: self.owner,
                group: self.group,
            },
        })
    }
}

impl Edit {
    fn check(&self) -> Result<(), String> {
        let ways = [&self.key, &self.line, &self.block, &self.record];
        if ways.iter().filter(|way| way.is_some()).count() != 1 {
            return Err("an edit takes exactly one of key, line, block and record".into());
        }
        let needs = |name: &str, there: bool, wanted: bool| match (there, wanted) {
            (false, true) => Err(format!("an edit of this kind needs {name}")),
            (true, false) => Err(format!("an edit of this kind takes no {name}")),
            _ => Ok(()),
        };
        needs("value", self.value.is_some(), self.line.is_none())?;
        needs("on", self.on.is_some(), self.line.is_some())?;
        needs("column", self.column.is_some(), self.record.is_some())?;
        let section = self.section.is_some() && self.key.is_none();
        needs("section", section, false)
    }

    /// The edit with its values, `None` if its condition does not hold.
    fn fill(
        &self,
        templates: &Templates,
        context: &Context,
        masked: &Context,
    ) -> Result<Option<Filled<'_>>, String> {
        if !templates.holds(self.when.as_deref(), masked)? {
            return Ok(None);
        }
        let value = match &self.value {
            Some(value) => templates.fill(value, context)?,
            None => String::new(),
        };
        let comment = self.comment.as_deref().unwrap_or("#");
        Ok(Some(
            match (&self.key, &self.line, &self.block, &self.record) {
                (Some(key), ..) => Filled::Key {
                    section: self.section.as_deref(),
                    key,
                    value,
                    comment,
                },
                (_, Some(line), ..) => Filled::Line {
                    line,
                    on: templates.holds(self.on.as_deref(), masked)?,
                    comment,
                },
                (_, _, Some(name), _) => Filled::Block {
                    name,
                    content: value,
                    comment,
                },
                (_, _, _, record) => Filled::Record {
                    record: record.as_deref().unwrap_or_default(),
                    column: self.column.unwrap_or(1),
                    value,
                },
            },
        ))
    }
}

/// What a path holds while placements are laid out one behind the other.
#[derive(Clone)]
struct Held {
    plain: Option<Vec<u8>>,
    masked: Option<String>,
    before: Option<String>,
}

/// Lays out every placement that applies, in order; a later one sees what an earlier one made.
///
/// # Errors
/// The first placement that cannot be made: a template that fails, a file that cannot be edited.
/// Messages hold no secrets.
pub fn lay_out(
    placements: &[Placement],
    settings: &[Effective],
    subject: &Subject,
    read: ReadBase<'_>,
) -> Result<Vec<Laid>, PlacementError> {
    let mut work = Work {
        templates: Templates::new(Some(subject)),
        held: BTreeMap::new(),
        read,
    };
    let plain = template::context(settings, subject, false);
    let masked = template::context(settings, subject, true);
    let mut laid = Vec::new();
    for placement in placements {
        let rounds = match &placement.each {
            None => vec![(plain.clone(), masked.clone())],
            Some(each) => each_item(each, &plain, &masked),
        };
        for (plain, masked) in rounds {
            laid.extend(work.lay(placement, &plain, &masked)?);
        }
    }
    Ok(laid)
}

/// The names of each round of a placement that is made for the items of a list.
fn each_item(each: &str, plain: &Context, masked: &Context) -> Vec<(Context, Context)> {
    let items = |context: &Context| -> Vec<minijinja::Value> {
        let list = context.get(each).and_then(|list| list.try_iter().ok());
        list.map(Iterator::collect).unwrap_or_default()
    };
    let with = |context: &Context, item, number: usize| {
        let mut context = context.clone();
        context.insert("item".into(), item);
        context.insert("number".into(), minijinja::Value::from(number));
        context
    };
    let pairs = items(plain).into_iter().zip(items(masked)).enumerate();
    pairs
        .map(|(at, (one, other))| (with(plain, one, at + 1), with(masked, other, at + 1)))
        .collect()
}

struct Work<'a> {
    templates: Templates,
    held: BTreeMap<(Target, String), Held>,
    read: ReadBase<'a>,
}

impl Work<'_> {
    fn lay(
        &mut self,
        placement: &Placement,
        plain: &Context,
        masked: &Context,
    ) -> Result<Option<Laid>, PlacementError> {
        let wrong = |message: String| placement.error(message);
        if !self
            .templates
            .holds(placement.when.as_deref(), masked)
            .map_err(wrong)?
        {
            return Ok(None);
        }
        let path = self.open_text(&placement.path, masked).map_err(wrong)?;
        check_path(&path).map_err(wrong)?;
        let held = self.held(placement, &path)?;
        let (change, after) = if placement.remove {
            (Change::Remove, None)
        } else if let Some(link) = &placement.link {
            let target = self.open_text(link, masked).map_err(wrong)?;
            (Change::Link(target), None)
        } else if let Some(content) = &placement.content {
            let bytes = content.clone().into_bytes();
            (Change::File(bytes), Some(content.clone()))
        } else if let Some(template) = &placement.template {
            let shown = self
                .templates
                .fill_masked(template, masked)
                .map_err(wrong)?;
            let content = self.templates.fill(template, plain).map_err(wrong)?;
            (Change::File(content.into_bytes()), Some(shown))
        } else {
            let (content, shown) = self.edit(placement, &held, plain, masked)?;
            (Change::File(content.into_bytes()), Some(shown))
        };
        let now = Held {
            plain: match &change {
                Change::File(bytes) => Some(bytes.clone()),
                _ => None,
            },
            masked: after.clone(),
            before: held.before.clone(),
        };
        self.held
            .insert((placement.partition.clone(), path.clone()), now);
        Ok(Some(Laid {
            file: placement.place(path, change)?,
            before: held.before,
            after,
        }))
    }

    /// Text that everybody sees, such as a path. It is never made from secrets, not even to compare:
    /// of those nothing is told but whether they are set.
    fn open_text(&self, template: &str, masked: &Context) -> Result<String, String> {
        let shown = self.templates.fill_masked(template, masked)?;
        match shown.contains(crate::MASK) {
            true => Err("a path or the target of a link cannot hold a secret".into()),
            false => Ok(shown),
        }
    }

    fn held(&mut self, placement: &Placement, path: &str) -> Result<Held, PlacementError> {
        let key = (placement.partition.clone(), path.to_owned());
        if let Some(held) = self.held.get(&key) {
            return Ok(held.clone());
        }
        let plain = match (self.read)(&placement.partition, path) {
            Ok(bytes) => bytes,
            // What is there matters to edits only.
            Err(_) if placement.edits.is_empty() => None,
            Err(e) => return Err(placement.error(e)),
        };
        let text = plain
            .clone()
            .and_then(|bytes| String::from_utf8(bytes).ok());
        Ok(Held {
            plain,
            masked: text.clone(),
            before: text,
        })
    }

    fn edit(
        &self,
        placement: &Placement,
        held: &Held,
        plain: &Context,
        masked: &Context,
    ) -> Result<(String, String), PlacementError> {
        let wrong = |message: String| placement.error(message);
        let Some(bytes) = &held.plain else {
            return Err(
                placement.error("the release has no such file, so that there is nothing to edit")
            );
        };
        let mut content = String::from_utf8(bytes.clone())
            .map_err(|_| placement.error("it is no text in UTF-8, so that it cannot be edited"))?;
        let mut shown = held.masked.clone().unwrap_or_default();
        for edit in &placement.edits {
            let (one, other) = (
                edit.fill(&self.templates, plain, masked).map_err(wrong)?,
                edit.fill(&self.templates, masked, masked).map_err(wrong)?,
            );
            if let Some(one) = one {
                content = one.apply(&content).map_err(wrong)?;
                if let Some(other) = other {
                    shown = other.apply(&shown).map_err(wrong)?;
                }
            }
        }
        Ok((content, shown))
    }
}
