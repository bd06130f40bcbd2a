//! What people asked for, in a chain that shows when a row was changed or taken away.

use std::sync::Arc;

use records::Records;
use records::history::{Act, Asked};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use vault::{Keys, Vault};

use crate::note::Note;
use crate::people::Caller;
use crate::refusal::Refusal;
use crate::table::harmless;

/// Rows that are read at once.
const BATCH: i64 = 1000;
/// Findings that are told; further ones are counted.
const MOST_TOLD: usize = 50;
/// Length of what a request named, in bytes.
const ABOUT: usize = 400;

/// What a look at the whole chain found.
#[derive(Clone, Debug, Default)]
pub struct Checked {
    /// Rows that were read.
    pub rows: i64,
    /// What is wrong, a sentence each.
    pub wrong: Vec<String>,
}

/// Where the history ended once, as somebody else than the database knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Anchor {
    /// Number of its newest row then.
    pub id: i64,
    /// Digest of that row, in hexadecimal digits.
    pub digest: String,
    /// When the records were kept that had it.
    pub at: OffsetDateTime,
}

/// Where the history ended each time the records were kept in the vault. It reads every note.
pub fn anchors(vault: &Vault) -> Vec<Anchor> {
    let notes = vault.notes().filter_map(|(_, text)| Note::read(&text));
    let of_records = notes.filter(|note| note.what == "records");
    let found = of_records.filter_map(|note| {
        let end = note.about.get("history")?;
        Some(Anchor {
            id: end.get("id")?.as_i64()?,
            digest: end.get("digest")?.as_str()?.to_owned(),
            at: note.at,
        })
    });
    found.collect()
}

/// The history.
#[derive(Clone)]
pub struct History {
    records: Records,
    keys: Arc<Keys>,
}

/// What was asked, before it is done.
pub struct Asking<'a> {
    /// In words.
    pub act: &'a str,
    /// The path.
    pub target: &'a str,
    /// What the request named.
    pub about: &'a str,
    /// Number of the request.
    pub request: &'a str,
}

/// Fields with their lengths, so that no two acts look alike.
fn plain(act: &Act, before: &[u8]) -> Vec<u8> {
    let (id, at) = (
        act.id.to_be_bytes(),
        act.at.unix_timestamp_nanos().to_be_bytes(),
    );
    let parts: [&[u8]; 11] = [
        before,
        &id,
        &at,
        act.who.as_bytes(),
        act.role.as_bytes(),
        act.how.as_bytes(),
        act.origin.as_bytes(),
        act.act.as_bytes(),
        act.target.as_bytes(),
        act.about.as_bytes(),
        act.request.as_bytes(),
    ];
    let mut bytes = Vec::new();
    for part in parts {
        bytes.extend((part.len() as u64).to_be_bytes());
        bytes.extend(part);
    }
    bytes
}

fn chained(keys: &Keys, act: &Act, before: &[u8]) -> Vec<u8> {
    keys.cover("history", &plain(act, before)).to_vec()
}

fn answered(keys: &Keys, digest: &[u8], status: i32) -> Vec<u8> {
    let bytes = [digest, &status.to_be_bytes()].concat();
    keys.cover("answers in the history", &bytes).to_vec()
}

fn sealed(keys: &Keys, id: i64, digest: &[u8]) -> Vec<u8> {
    let bytes = [&id.to_be_bytes(), digest].concat();
    keys.cover("end of the history", &bytes).to_vec()
}

/// Text that a row can hold, not too long.
fn bounded(text: &str, most: usize) -> String {
    let mut text: String = text
        .chars()
        .map(|c| if c.is_control() { ' ' } else { c })
        .collect();
    let end = (0..=most.min(text.len()))
        .rev()
        .find(|at| text.is_char_boundary(*at));
    text.truncate(end.unwrap_or(0));
    text
}

/// Acts as comma-separated values, with the names of the columns first. Nothing in it is taken for a formula.
pub fn csv(acts: impl Iterator<Item = api::Act>) -> Result<String, Refusal> {
    let wrong = |e: csv::Error| Refusal::invalid("table", e.to_string());
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer
        .write_record([
            "id", "at", "who", "role", "how", "origin", "act", "target", "about", "request",
            "status",
        ])
        .map_err(wrong)?;
    for act in acts {
        let (id, at) = (
            act.id.to_string(),
            act.at.format(&Rfc3339).unwrap_or_default(),
        );
        let status = act
            .status
            .map(|status| status.to_string())
            .unwrap_or_default();
        let cells = [
            &id,
            &at,
            &act.who,
            &act.role,
            &act.how,
            &act.origin,
            &act.act,
            &act.target,
            &act.about,
            &act.request,
            &status,
        ];
        let cells = cells.map(|cell| harmless(cell).into_owned());
        writer.write_record(cells).map_err(wrong)?;
    }
    let bytes = writer
        .into_inner()
        .map_err(|e| Refusal::invalid("table", e.to_string()))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

impl History {
    /// The history in these records, chained under these keys.
    pub fn new(records: Records, keys: Arc<Keys>) -> Self {
        Self { records, keys }
    }

    /// Records that something is asked, before it is done.
    pub async fn begin(&self, caller: &Caller, asking: Asking<'_>) -> Result<i64, Refusal> {
        // The database keeps microseconds.
        let now = OffsetDateTime::now_utc();
        let at = now
            .replace_nanosecond(now.nanosecond() / 1000 * 1000)
            .unwrap_or(now);
        let act = Act {
            id: 0,
            at,
            who: bounded(&caller.name, ABOUT),
            role: caller.role.map_or("", api::Role::name).into(),
            how: caller.how.name().into(),
            origin: bounded(&caller.origin, ABOUT),
            act: asking.act.into(),
            target: bounded(asking.target, 4 * ABOUT),
            about: bounded(asking.about, ABOUT),
            request: bounded(asking.request, ABOUT),
            digest: Vec::new(),
            status: None,
            status_digest: None,
        };
        let added = self.records.begin_act(
            act,
            |act, before| chained(&self.keys, act, before),
            |id, digest| sealed(&self.keys, id, digest),
        );
        Ok(added.await?)
    }

    /// Records how it was answered.
    pub async fn end(&self, id: i64, status: u16) -> Result<(), Refusal> {
        let status = i32::from(status);
        let cover = |digest: &[u8]| answered(&self.keys, digest, status);
        Ok(self.records.end_act(id, status, cover).await?)
    }

    /// A page of it, newest first.
    pub async fn page(
        &self,
        asked: &Asked,
        before: Option<i64>,
        most: i64,
    ) -> Result<Vec<Act>, Refusal> {
        Ok(self.records.acts(asked, before, most).await?)
    }

    /// Goes through all of it and says where it is not as it was written, and where it is not what it was when the records
    /// were kept.
    pub async fn check(&self, anchors: &[Anchor]) -> Result<Checked, Refusal> {
        let mut found = Checked::default();
        let mut more = 0_u64;
        let mut tell = |found: &mut Checked, words: String| match found.wrong.len() < MOST_TOLD {
            true => found.wrong.push(words),
            false => more += 1,
        };
        let head = self.records.history_head().await?;
        let (mut last, mut before) = (0_i64, Some(Vec::new()));
        'all: loop {
            let rows = self.records.acts_after(last, BATCH).await?;
            let whole = rows.len() as i64 == BATCH;
            for act in rows {
                // What was added meanwhile is the next look's.
                if head.as_ref().is_some_and(|head| act.id > head.id) {
                    break 'all;
                }
                if act.id != last + 1 {
                    tell(
                        &mut found,
                        match act.id - last {
                            2 => format!("row {} is gone", last + 1),
                            _ => format!("rows {} to {} are gone", last + 1, act.id - 1),
                        },
                    );
                    before = None;
                }
                let as_written = before
                    .as_ref()
                    .is_none_or(|before| chained(&self.keys, &act, before) == act.digest);
                if !as_written {
                    tell(
                        &mut found,
                        format!(
                            "row {} of {} ({}, {}) was changed",
                            act.id,
                            act.at.date(),
                            act.who,
                            act.act
                        ),
                    );
                }
                let answer = act
                    .status
                    .map(|status| answered(&self.keys, &act.digest, status));
                if answer != act.status_digest {
                    tell(
                        &mut found,
                        format!("the answer to row {} was changed", act.id),
                    );
                }
                let digest = hex::encode(&act.digest);
                let other = |anchor: &&Anchor| anchor.id == act.id && anchor.digest != digest;
                if let Some(anchor) = anchors.iter().find(other) {
                    tell(
                        &mut found,
                        format!(
                            "row {} is not the one that was there when the records were kept on {}",
                            act.id,
                            anchor.at.date()
                        ),
                    );
                }
                found.rows += 1;
                (last, before) = (act.id, Some(act.digest));
            }
            if !whole {
                break;
            }
        }
        // Whoever cuts the newest rows off and writes its end anew cannot do so in the vault.
        if let Some(anchor) = anchors.iter().max_by_key(|anchor| anchor.id)
            && anchor.id > last
        {
            tell(
                &mut found,
                format!(
                    "rows {} to {} are gone: they were there when the records were kept on {}",
                    last + 1,
                    anchor.id,
                    anchor.at.date()
                ),
            );
        }
        match head {
            None if last > 0 => tell(&mut found, "where the history ends is gone".into()),
            Some(head) if head.seal != sealed(&self.keys, head.id, &head.digest) => {
                tell(&mut found, "where the history ends was changed".into());
            }
            Some(head) if head.id > last => {
                tell(
                    &mut found,
                    format!("rows {} to {} are gone", last + 1, head.id),
                );
            }
            Some(head) if before.as_ref() != Some(&head.digest) => {
                tell(&mut found, format!("row {} was changed", head.id));
            }
            _ => {}
        }
        if more > 0 {
            found.wrong.push(format!("and {more} more"));
        }
        Ok(found)
    }
}
