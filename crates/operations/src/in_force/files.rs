//! The files that settings become, and what else a plan or a preview says of them.

use imagecraft::compose::{Change, read_base};
use imagecraft::grow::{Grown, Growth, Shrunk};
use imagecraft::{Disk, Layout};
use records::releases::Release;
use settings::{Effective, Grow, Laid, Sheet, lay_out};
use vault::{Keys, Name};

use super::{Counted, InForce};
use crate::refusal::Refusal;
use crate::shown;
use api::words::size;

impl InForce {
    /// The files that settings become, beside the release's own.
    pub async fn laid(
        &self,
        sheet: &Sheet,
        counted: &Counted,
        manifest: Name,
    ) -> Result<Vec<Laid>, Refusal> {
        let (store, placements) = (self.store.clone(), sheet.placements.clone());
        let (values, subject) = (counted.values.clone(), counted.subject.clone());
        let laid = tokio::task::spawn_blocking(move || {
            let disk = store.disk(manifest)?;
            let layout = Layout::read(&disk as &dyn Disk)
                .map_err(|e| Refusal::invalid("cannot-compose", e.to_string()))?;
            let mut read = |target: &_, path: &str| {
                read_base(&disk, &layout, target, path).map_err(|e| e.to_string())
            };
            lay_out(&placements, &values, &subject, &mut read).map_err(|e| {
                let device = &subject.device;
                Refusal::invalid("settings", format!("device {device}: {e}"))
            })
        });
        laid.await
            .map_err(|e| Refusal::invalid("cannot-compose", e.to_string()))?
    }
}

/// Who grows the last partition of a release, and how.
pub fn growth(sheet: &Sheet, release: &Release) -> (Grow, Option<Growth>) {
    let grower = shown::inspection_of(release).grower.is_some();
    let usual = if grower { Grow::Image } else { Grow::Here };
    let grow = sheet.card.grow.unwrap_or(usual);
    let how = Growth {
        leave: sheet.card.leave_mb.unwrap_or(0).saturating_mul(1_000_000),
        scattered: sheet.card.meta_bg,
    };
    (grow, (grow == Grow::Here).then_some(how))
}

/// What is said where the image grows by itself.
pub const IMAGE_GROWS: &str = "the image grows its last partition itself at its first start";

/// What tells the text of a release's sheet.
pub fn sheet_text(release: &Release) -> String {
    format!("{} {}", release.name, release.sheet_revision)
}

/// What shrinking came to, in a sentence.
pub fn shrunk_words(shrunk: &Shrunk) -> String {
    let moved = match shrunk.moved {
        0 => "no file had to move".into(),
        bytes => format!("{} of files move to the front", size(bytes)),
    };
    format!(
        "the card is smaller than the one it was taken of: partition {} shrinks from {} to {}; {moved}",
        shrunk.partition,
        size(shrunk.before),
        size(shrunk.after)
    )
}

/// What growing came to, in a sentence.
pub fn growth_words(grown: &Result<Grown, String>) -> String {
    match grown {
        Ok(grown) => {
            let limited = match &grown.limited {
                Some(why) => format!(
                    "; its file system reaches {} only, since {why}",
                    size(grown.filled)
                ),
                None => String::new(),
            };
            format!(
                "partition {} grows from {} to {}{limited}",
                grown.partition,
                size(grown.before),
                size(grown.after)
            )
        }
        Err(why) => format!("nothing grows: {why}"),
    }
}

/// Logins of a sheet that everybody knows and no setting changes.
pub fn open_logins(sheet: &Sheet, values: &[Effective]) -> Vec<String> {
    let changed = |name: &String| {
        values
            .iter()
            .any(|one| one.name == *name && one.value.is_some())
    };
    sheet
        .logins
        .iter()
        .filter(|login| !login.changed_by.as_ref().is_some_and(changed))
        .map(|login| {
            let at = login
                .at
                .as_ref()
                .map_or(String::new(), |at| format!(" at the {at}"));
            let todo = match &login.changed_by {
                Some(field) => format!("set {field}, or change it at first"),
                None => "change it at first".into(),
            };
            format!(
                "the login {}{at} keeps the password that everybody knows; {todo}",
                login.user
            )
        })
        .collect()
}

/// A file as plans, records and previews show it.
///
/// `sheet` tells the text of the sheet. Fingerprints of files that were laid out by different texts,
/// or at different paths, are not alike even where the files are: else a sheet that makes a file
/// depend on a secret could be asked, by comparing, what the secret is.
pub fn planned_file(laid: &Laid, keys: &Keys, sheet: &str) -> api::PlannedFile {
    let path = &laid.file.path;
    let fingerprint = |text: &str| keys.fingerprint(&format!("{sheet}\n{path}\n{text}"));
    let file = &laid.file;
    let given = &file.attributes;
    let owner = match (given.owner, given.group) {
        (None, None) => None,
        (owner, group) => {
            let number = |id: Option<u32>| id.map_or(String::new(), |id| id.to_string());
            Some(format!("{}:{}", number(owner), number(group)))
        }
    };
    let (action, content, fingerprint) = match &file.change {
        Change::File(bytes) => (
            if laid.before.is_some() {
                "replace"
            } else {
                "create"
            },
            laid.after.clone().unwrap_or_default(),
            Some(fingerprint(&String::from_utf8_lossy(bytes))),
        ),
        Change::Link(target) => ("link", target.clone(), Some(fingerprint(target))),
        Change::Remove => ("remove", String::new(), None),
    };
    api::PlannedFile {
        partition: file.target.to_string(),
        path: file.path.clone(),
        action: action.into(),
        content,
        mode: given.mode.map(|mode| format!("{mode:04o}")),
        owner,
        fingerprint,
    }
}

/// The lines of a file before and after.
pub fn diff(laid: &Laid) -> Vec<api::DiffLine> {
    let before = laid.before.as_deref().unwrap_or("");
    let after = match &laid.file.change {
        Change::File(_) => laid.after.as_deref().unwrap_or(""),
        _ => "",
    };
    lines_of(before, after)
}

/// The lines of two texts, those that they share and those that one of them has alone.
pub fn lines_of(before: &str, after: &str) -> Vec<api::DiffLine> {
    similar::TextDiff::from_lines(before, after)
        .iter_all_changes()
        .map(|change| api::DiffLine {
            change: match change.tag() {
                similar::ChangeTag::Equal => "same",
                similar::ChangeTag::Insert => "added",
                similar::ChangeTag::Delete => "removed",
            }
            .into(),
            text: change.value().trim_end_matches(['\n', '\r']).into(),
        })
        .collect()
}
