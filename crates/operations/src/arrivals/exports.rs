//! Settings that a running board exports of itself: fetched where its sheet says, kept sealed, compared, given back
//! after its card was made anew.

use std::collections::BTreeMap;

use arrival::locate::Sighting;
use arrival::look::{give_page, read_page, value_at};
use records::arrivals::Arrival;
use records::devices::Device;
use records::exports::{Export, NewExport};
use serde_json::Value;

use super::awaited::{Awaited, WantedExport, all_awaited};
use super::looked::may_be_ours;
use super::told::seen_of;
use super::{Arrivals, now};
use crate::refusal::{Refusal, Why};

/// What an export of a device is sealed under.
fn sealed_under(device: i64) -> String {
    format!("export of device {device}")
}

/// How often the watch of devices in service takes one.
pub(super) const EACH: time::Duration = time::Duration::hours(20);

fn refuse(detail: String) -> Refusal {
    Refusal::new(Why::Conflict, "no-export", detail)
}

/// Fetches the export of a board, and refuses one that is cut off or somebody else's.
async fn fetch(device: &str, wanted: &WantedExport, at: &Sighting) -> Result<String, Refusal> {
    let page = read_page(at, &wanted.page, None).await;
    let page =
        page.map_err(|why| refuse(format!("{device} gives no export: {why}; nothing was kept")))?;
    if page.status >= 400 {
        let detail = format!(
            "{device} gives no export: {} answers with status {}; nothing was kept",
            wanted.page, page.status
        );
        return Err(refuse(detail));
    }
    if page.cut {
        let detail = format!(
            "the export of {device} broke off, or is longer than 256 KiB; nothing was kept. Try again"
        );
        return Err(refuse(detail));
    }
    if page.text.contains('\u{fffd}') {
        return Err(refuse(format!(
            "the export of {device} is no text in UTF-8; nothing was kept"
        )));
    }
    if wanted.rule.json && serde_json::from_str::<serde_json::Value>(&page.text).is_err() {
        return Err(refuse(format!(
            "the export of {device} is not whole; nothing was kept. Try again"
        )));
    }
    if let Some(whose) = &wanted.whose {
        let found = value_at(&page, wanted.rule.at.as_deref()).unwrap_or_default();
        if found.trim() != whose.trim() {
            let found: String = found.chars().filter(|c| !c.is_control()).take(80).collect();
            let detail = format!(
                "what answers exports the settings of {found:?}, not those of {device}; nothing was kept"
            );
            return Err(refuse(detail));
        }
    }
    Ok(page.text)
}

/// An export as it is told; `before` is the one before it.
fn told(export: &Export, before: Option<&Export>) -> api::Export {
    api::Export {
        id: export.id,
        device: export.device.clone(),
        base: export.base.clone(),
        version: export.version.clone(),
        bytes: export.bytes as u64,
        taken_by: export.taken_by.clone(),
        taken_at: export.taken_at,
        seen_at: export.seen_at,
        changed: before.is_some_and(|before| before.digest != export.digest),
    }
}

/// At most so many changes are said.
const MOST_CHANGES: usize = 500;

/// What is another thing in one text than in another: values by their place where both are JSON, else lines.
fn changes(before: &str, now: &str) -> Vec<api::ExportChange> {
    let parsed = (
        serde_json::from_str::<Value>(before),
        serde_json::from_str::<Value>(now),
    );
    let mut found = Vec::new();
    if let (Ok(before), Ok(now)) = parsed {
        let (mut then, mut values) = (BTreeMap::new(), BTreeMap::new());
        flatten("", &before, &mut then);
        flatten("", &now, &mut values);
        for (at, before) in &then {
            let now = values.get(at);
            if now != Some(before) {
                found.push((at.clone(), Some(before.clone()), now.cloned()));
            }
        }
        let new = values.into_iter().filter(|(at, _)| !then.contains_key(at));
        found.extend(new.map(|(at, now)| (at, None, Some(now))));
        found.sort();
    } else {
        let diff = similar::TextDiff::from_lines(before, now);
        for change in diff.iter_all_changes() {
            let line = change.value().trim_end().to_owned();
            let place = |index: Option<usize>| index.map_or(0, |index| index + 1).to_string();
            match change.tag() {
                similar::ChangeTag::Equal => {}
                similar::ChangeTag::Delete => {
                    found.push((place(change.old_index()), Some(line), None));
                }
                similar::ChangeTag::Insert => {
                    found.push((place(change.new_index()), None, Some(line)));
                }
            }
        }
    }
    found.truncate(MOST_CHANGES);
    let told = |(at, before, now)| api::ExportChange { at, before, now };
    found.into_iter().map(told).collect()
}

/// The values of a JSON text by their place (RFC 6901). Empty lists and objects are values.
fn flatten(at: &str, value: &Value, found: &mut BTreeMap<String, String>) {
    match value {
        Value::Object(inner) if !inner.is_empty() => {
            for (key, value) in inner {
                let key = key.replace('~', "~0").replace('/', "~1");
                flatten(&format!("{at}/{key}"), value, found);
            }
        }
        Value::Array(inner) if !inner.is_empty() => {
            for (place, value) in inner.iter().enumerate() {
                flatten(&format!("{at}/{place}"), value, found);
            }
        }
        value => {
            found.insert(at.to_owned(), value.to_string());
        }
    }
}

impl Arrivals {
    /// Where a device is now: as an arrival that goes on saw it, else as it was seen last.
    async fn whereabouts(&self, device: &str) -> Result<Sighting, Refusal> {
        let open = self.records.arrivals(true, Some(device), None, 1).await?;
        let seen = open.first().map(seen_of).unwrap_or_default();
        let board = seen.boards.into_iter().find(may_be_ours);
        let (address, ports) = match board {
            Some(board) => (Some(board.address), board.ports),
            None => {
                let watched = self.records.watched(Some(device), None, 1).await?.pop();
                let ports = watched
                    .as_ref()
                    .map(|one| one.ports.clone())
                    .unwrap_or_default();
                let ports: BTreeMap<u16, u16> = serde_json::from_value(ports).unwrap_or_default();
                (watched.and_then(|one| one.address), ports)
            }
        };
        let address = address.and_then(|text| text.parse().ok());
        let address = address.ok_or_else(|| {
            refuse(format!("{device} was not seen on its network yet; wait for it first (duplicarium arrival expect {device})"))
        })?;
        Ok(Sighting {
            address,
            ports,
            mac: None,
            host_name: None,
        })
    }

    async fn export_rule(&self, device: &Device) -> Result<(Awaited, WantedExport), Refusal> {
        let awaited = all_awaited(&self.in_force, std::slice::from_ref(device))
            .await?
            .remove(0);
        let wanted = awaited.export.clone().ok_or_else(|| {
            refuse(format!(
                "the release of {} does not say where its settings can be exported",
                device.name
            ))
        })?;
        Ok((awaited, wanted))
    }

    /// Takes the export of a device where it is now; whether it is another one than before.
    pub async fn take_export(&self, operator: &str, device: &str) -> Result<api::Export, Refusal> {
        let device = self.records.device(device).await?;
        let (_, wanted) = self.export_rule(&device).await?;
        let at = self.whereabouts(&device.name).await?;
        self.keep_export(operator, &device, &wanted, &at).await?;
        let mut all = self.exports(&device.name).await?;
        match all.is_empty() {
            true => Err(refuse(format!(
                "the export of {} is not there any more",
                device.name
            ))),
            false => Ok(all.remove(0)),
        }
    }

    /// The same for a place that is known.
    pub(super) async fn keep_export(
        &self,
        operator: &str,
        device: &Device,
        wanted: &WantedExport,
        at: &Sighting,
    ) -> Result<(), Refusal> {
        let text = fetch(&device.name, wanted, at).await?;
        let release = device.carried_release_id;
        let team = self.in_force.team(&[]).await?;
        let base = release
            .and_then(|id| team.shelf.by_id(id))
            .map(|release| release.name.clone());
        let version = self
            .records
            .watched(Some(&device.name), None, 1)
            .await?
            .pop();
        let version = version.and_then(|one| one.version).unwrap_or_default();
        let sealed = self.keys.seal_secret(&sealed_under(device.id), &text)?;
        let new = NewExport {
            device: device.id,
            name: &device.name,
            base: base.as_deref().unwrap_or_default(),
            version: &version,
            sealed: &sealed,
            digest: &self.keys.fingerprint(&text),
            bytes: text.len() as i64,
            operator,
        };
        if self.records.add_export(&new).await?.1 {
            self.events.bus.tell(crate::news::News::Events);
        }
        Ok(())
    }

    /// Takes the export of a device that was just looked at, if none was taken for long.
    pub(super) async fn take_in_passing(&self, device: &Device, awaited: &Awaited, at: &Sighting) {
        let Some(wanted) = &awaited.export else {
            return;
        };
        let newest = self.records.exports(&device.name).await.unwrap_or_default();
        if newest
            .first()
            .is_some_and(|newest| now() - newest.seen_at < EACH)
        {
            return;
        }
        if let Err(e) = self.keep_export("service", device, wanted, at).await {
            tracing::debug!("the export of {}: {e}", device.name);
        }
    }

    /// The exports of a device, newest first.
    pub async fn exports(&self, device: &str) -> Result<Vec<api::Export>, Refusal> {
        self.records.device(device).await?;
        let rows = self.records.exports(device).await?;
        let all = rows.iter().enumerate();
        Ok(all
            .map(|(place, row)| told(row, rows.get(place + 1)))
            .collect())
    }

    fn open_export(&self, export: &Export, sealed: &[u8]) -> Result<String, Refusal> {
        Ok(self
            .keys
            .open_secret(&sealed_under(export.device_id), sealed)?)
    }

    /// What an export holds, secrets and all; that it was read is recorded.
    pub async fn read_export(
        &self,
        operator: &str,
        device: &str,
        id: i64,
    ) -> Result<String, Refusal> {
        let (export, sealed) = self.records.export(device, id).await?;
        let text = self.open_export(&export, &sealed)?;
        let summary = format!("Export {id} of {device} was read");
        self.events
            .note(operator, "secret.read", device, &summary)
            .await?;
        Ok(text)
    }

    /// What is another thing in an export than in the one before it, or in another one; secrets and all, so that it
    /// is recorded that it was read.
    pub async fn compare_exports(
        &self,
        operator: &str,
        device: &str,
        id: i64,
        with: Option<i64>,
    ) -> Result<Vec<api::ExportChange>, Refusal> {
        let before = match with {
            Some(with) => Some(with),
            None => {
                let all = self.records.exports(device).await?;
                all.iter().map(|one| one.id).find(|one| *one < id)
            }
        };
        let before = before.ok_or_else(|| {
            refuse(format!(
                "there is no export of {device} before {id} to compare it with"
            ))
        })?;
        let before = self.read_export(operator, device, before).await?;
        let now = self.read_export(operator, device, id).await?;
        Ok(changes(&before, &now))
    }

    /// What can be given back to a device whose card was made anew since it was taken.
    pub(super) async fn to_give_back(
        &self,
        arrival: &Arrival,
        awaited: &Awaited,
    ) -> Result<Option<api::Export>, Refusal> {
        let takes = awaited
            .export
            .as_ref()
            .is_some_and(|wanted| wanted.back.is_some());
        let (Some(imprint), None, true) = (arrival.imprint_id, arrival.ended_at, takes) else {
            return Ok(None);
        };
        let found = self.records.export_before(&arrival.device, imprint).await?;
        Ok(found.map(|export| told(&export, None)))
    }

    /// Gives a device an export back where it is now, as its sheet says.
    pub async fn give_back(&self, operator: &str, device: &str, id: i64) -> Result<(), Refusal> {
        let device = self.records.device(device).await?;
        let (_, wanted) = self.export_rule(&device).await?;
        let name = &device.name;
        let page = wanted.back.as_ref().ok_or_else(|| {
            refuse(format!("the release of {name} does not say how it takes an export back; do it on its own page"))
        })?;
        let at = self.whereabouts(name).await?;
        let (export, sealed) = self.records.export(name, id).await?;
        let text = self.open_export(&export, &sealed)?;
        let kind = if wanted.rule.json {
            "application/json"
        } else {
            "text/plain; charset=utf-8"
        };
        let answer = give_page(&at, page, kind, text).await;
        let answer = answer.map_err(|why| refuse(format!("{name} did not take it back: {why}")))?;
        if answer.status >= 400 {
            let detail = format!(
                "{name} did not take it back: {page} answers with status {}",
                answer.status
            );
            return Err(refuse(detail));
        }
        self.records.export_given(id).await?;
        let summary = format!("Export {id} was given back to {name}");
        self.events
            .note(operator, "export.given", name, &summary)
            .await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_changed_between_two_exports_is_told_by_its_place() {
        let said = |before, now| {
            let all = changes(before, now).into_iter();
            all.map(|one| {
                let or_none = |text: Option<String>| text.unwrap_or_else(|| "none".into());
                format!("{}: {} > {}", one.at, or_none(one.before), or_none(one.now))
            })
            .collect::<Vec<_>>()
        };
        assert_eq!(
            said(
                r#"{"level":{"offset":3,"probe":"a/b"},"same":[1,2],"gone":{}}"#,
                r#"{"level":{"offset":4,"probe":"a/b"},"same":[1,2],"new/one":[true]}"#
            ),
            [
                "/gone: {} > none",
                "/level/offset: 3 > 4",
                "/new~1one/0: none > true"
            ]
        );
        assert_eq!(
            said(r#"{"a":1}"#, r#"{ "a": 1 }"#),
            Vec::<String>::new(),
            "order and spaces are no matter"
        );
        assert_eq!(
            said("one\ntwo\n", "one\nthree\n"),
            ["2: two > none", "2: none > three"]
        );
        let many = "x\n".repeat(5000);
        assert_eq!(changes("", &many).len(), MOST_CHANGES);
    }
}
