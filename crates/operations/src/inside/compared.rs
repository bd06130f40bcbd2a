//! Two contents compared, file by file, and one file of both line by line.

use std::sync::Arc;

use cardwork::Stage;
use imagecraft::ByteKind;
use imagecraft::compare::{Differences, compare};
use imagecraft::fs::{FileError, NodeKind};
use serde_json::{Value, json};
use settings::compare_sheets;

use super::{Content, Inside, Of, load};
use crate::in_force::lines_of;
use crate::jobs::Work;
use crate::refusal::Refusal;
use crate::shown;

/// Files that a comparison lists; the counts are of all.
const SHOWN_FILES: usize = 2000;
/// The longest file that is compared line by line, in bytes.
const MOST_TEXT: usize = 1 << 20;

impl Inside {
    fn known(&self, a: &Content, b: &Content) -> Option<Arc<Differences>> {
        let ((_, a), (_, b)) = (a.manifest()?, b.manifest()?);
        let kept = self.comparisons.lock().unwrap_or_else(|e| e.into_inner());
        kept.get(&(a, b)).cloned()
    }

    /// What two releases or backups differ in, once they were compared.
    ///
    /// # Errors
    /// No such content; the code `not-compared`.
    pub async fn compared(&self, a: &str, b: &str) -> Result<api::Comparison, Refusal> {
        let (a, b) = (
            self.find(Of::Either(a)).await?,
            self.find(Of::Either(b)).await?,
        );
        let found = self.known(&a, &b).ok_or_else(|| {
            let detail = format!(
                "{} and {} were not compared yet; start the comparison first",
                a.name, b.name
            );
            Refusal {
                code: "not-compared",
                ..Refusal::missing(detail)
            }
        })?;
        let sheet = match (&a.sheet, &b.sheet) {
            (Some(a), Some(b)) => compare_sheets(a, b),
            _ => Vec::new(),
        };
        Ok(api::Comparison {
            partitions: shown::fact_differences(&found),
            files: shown::file_differences(&found, SHOWN_FILES),
            counts: shown::file_counts(&found),
            sheet: sheet
                .into_iter()
                .map(|change| api::Difference {
                    what: change.key,
                    a: change.before,
                    b: change.after,
                })
                .collect(),
            a: a.name,
            b: b.name,
        })
    }

    /// Compares two contents of the vault and keeps what was found. Blocks.
    ///
    /// # Errors
    /// One that cannot be read; a stop on request.
    pub fn compare(&self, work: &Work, a: &Content, b: &Content) -> Result<Value, Refusal> {
        let names = format!("{} and {}", a.name, b.name);
        let (Some((store, one)), Some((_, two))) = (a.manifest(), b.manifest()) else {
            let detail = format!("{names}: only what is in the vault is compared so");
            return Err(Refusal::conflict("not-kept", detail));
        };
        let (before, after) = (load(store, one)?, load(store, two)?);
        before.rely(&work.hold)?;
        after.rely(&work.hold)?;
        let (before, after) = (store.disk(one)?, store.disk(two)?);
        let content = |disk: &vault::ManifestDisk| {
            Ok::<_, Refusal>(disk.manifest().map()?.total(ByteKind::Data))
        };
        let total = content(&before)?.saturating_add(content(&after)?);
        work.progress.begin(Stage::Comparing, total);
        // What lies in equal chunks is equal without a look at it.
        let alike = |at, len| before.manifest().holds_alike(after.manifest(), at, len);
        let compared = compare(&before, &after, &alike, &mut |bytes| {
            work.progress.advance(bytes);
            !work.progress.is_cancelled()
        });
        let found = compared
            .map_err(|e| Refusal::invalid("compare", format!("{names} cannot be compared: {e}")))?
            .ok_or_else(|| Refusal::invalid("cancelled", format!("{names} were not compared")))?;
        let mut kept = self.comparisons.lock().unwrap_or_else(|e| e.into_inner());
        if kept.len() >= super::KEPT {
            kept.clear();
        }
        kept.insert((one, two), Arc::new(found));
        Ok(json!({ "a": a.name, "b": b.name }))
    }

    /// One file of two contents, line by line.
    ///
    /// # Errors
    /// No such content; a file that is in neither.
    pub async fn compared_file(
        &self,
        a: Of<'_>,
        b: Of<'_>,
        partition: u32,
        path: &str,
    ) -> Result<api::FileComparison, Refusal> {
        let (a, b) = (self.find(a).await?, self.find(b).await?);
        let path = path.to_owned();
        let read = tokio::task::spawn_blocking(move || {
            let of = |content: &Content| text_in(content, partition, &path);
            let (one, two) = (of(&a)?, of(&b)?);
            if matches!((&one, &two), (Text::Missing, Text::Missing)) {
                let detail = format!(
                    "neither {} nor {} has {path} on partition {partition}",
                    a.name, b.name
                );
                return Err(Refusal::missing(detail));
            }
            let why = [(&a, &one), (&b, &two)]
                .into_iter()
                .find_map(|(content, text)| match text {
                    Text::Unreadable(why) => Some(format!("in {} it {why}", content.name)),
                    _ => None,
                });
            let lines = match &why {
                Some(_) => Vec::new(),
                None => lines_of(one.text(), two.text()),
            };
            Ok(api::FileComparison {
                lines,
                why_not: why,
                a: a.name,
                b: b.name,
                path,
                partition,
            })
        });
        read.await
            .map_err(|e| Refusal::invalid("files", e.to_string()))?
    }
}

/// A file as text.
enum Text {
    Missing,
    Read(String),
    Unreadable(String),
}

impl Text {
    fn text(&self) -> &str {
        match self {
            Self::Read(text) => text,
            _ => "",
        }
    }
}

fn text_in(content: &Content, partition: u32, path: &str) -> Result<Text, Refusal> {
    let read = content.with_files(partition, |files| {
        let Some(node) = files.find(path)? else {
            return Ok(Text::Missing);
        };
        if node.kind != NodeKind::File {
            return Err(FileError::WrongKind(path.into()));
        }
        if node.len > MOST_TEXT as u64 {
            let why = format!(
                "has {} bytes; at most {MOST_TEXT} are compared line by line",
                node.len
            );
            return Ok(Text::Unreadable(why));
        }
        let bytes = files.read_head(path, MOST_TEXT)?;
        Ok(match String::from_utf8(bytes) {
            Ok(text) if !text.contains('\0') => Text::Read(text),
            _ => Text::Unreadable("is no text".into()),
        })
    });
    match read {
        // A link that leads nowhere there.
        Err(refusal) if refusal.code == "unknown" => Ok(Text::Missing),
        read => read,
    }
}
