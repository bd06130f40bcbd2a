//! The table of devices as CSV (RFC 4180): out, and in again, all of it or nothing. Its columns are
//! described in `docs/device-table.md`.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use records::devices::{Change, Device, TableRow};
use settings::{Settings, Sheet};
use time::OffsetDateTime;
use vault::Keys;

use crate::in_force::{Beside, Team, change_of};
use crate::names::{check_name, mac};
use crate::refusal::Refusal;

/// Columns that are no fields.
const COLUMNS: [&str; 9] = [
    "name",
    "revision",
    "board",
    "appliance",
    "variant",
    "site",
    "notes",
    "attached",
    "macs",
];
/// What stands between several items in one column.
const BETWEEN: char = ';';
/// Longest table, in bytes.
pub const MOST: usize = 16 << 20;

/// A cell that no spreadsheet takes for a formula: one that begins like one gets an apostrophe in
/// front, which spreadsheets read as "this is text".
pub(crate) fn harmless(cell: &str) -> std::borrow::Cow<'_, str> {
    match cell.starts_with(['=', '+', '-', '@', '\t', '\r', '\'']) {
        true => format!("'{cell}").into(),
        false => cell.into(),
    }
}

/// A cell without the apostrophe that [`harmless`] puts in front.
fn as_meant(cell: &str) -> &str {
    match cell.strip_prefix('\'') {
        Some(meant) if harmless(meant) == cell => meant,
        _ => cell,
    }
}

fn sheet_of(team: &Team, device: &Device) -> Option<Arc<Sheet>> {
    team.shelf.sheet(team.shelf.followed(device)?).ok()
}

/// All devices with what is set on them, without secrets.
pub fn export(team: &Team, devices: &[Device]) -> Result<Vec<u8>, Refusal> {
    let mut fields = BTreeSet::new();
    let mut rows = Vec::new();
    for device in devices {
        let mut row: BTreeMap<String, String> = BTreeMap::new();
        let values = [
            device.name.clone(),
            device.revision.to_string(),
            device.board.clone(),
            device.appliance.clone(),
            device.variant.clone().unwrap_or_default(),
            device.site.clone(),
            device.notes.clone(),
            device.attached.join("; "),
            device.macs.join("; "),
        ];
        row.extend(COLUMNS.map(str::to_owned).into_iter().zip(values));
        let sheet = sheet_of(team, device);
        let known = sheet.as_ref().map_or(&[][..], |sheet| &sheet.fields);
        let sealed = team.sealed_on(device.id);
        for (name, value) in team.own(device) {
            let field = known.iter().find(|field| field.name == name);
            if field.is_some_and(|field| !field.kind.is_secret()) && !sealed.contains(&name) {
                fields.insert(name.clone());
                row.insert(name, value);
            }
        }
        rows.push(row);
    }
    let header: Vec<String> = COLUMNS
        .map(str::to_owned)
        .into_iter()
        .chain(fields)
        .collect();
    let mut writer = csv::Writer::from_writer(Vec::new());
    let wrong = |e: csv::Error| Refusal::invalid("table", e.to_string());
    writer.write_record(&header).map_err(wrong)?;
    for row in rows {
        let cells = header
            .iter()
            .map(|name| harmless(row.get(name).map_or("", String::as_str)).into_owned());
        writer.write_record(cells).map_err(wrong)?;
    }
    writer
        .into_inner()
        .map_err(|e| Refusal::invalid("table", e.to_string()))
}

/// What a table is read beside.
pub struct Known {
    /// All devices.
    pub devices: Vec<Device>,
    /// What counts on them.
    pub team: Team,
    /// Board models.
    pub boards: BTreeSet<String>,
    /// Sites.
    pub sites: BTreeSet<String>,
}

/// Reads a table. Gives what is to be taken over and a report, which names everything that is wrong.
/// Takes seconds with ten thousand rows.
///
/// # Errors
/// [`Refusal`] where it is no table at all.
pub fn read(
    body: &str,
    mut known: Known,
    keys: &Keys,
) -> Result<(Vec<TableRow>, api::DeviceTableReport), Refusal> {
    if body.len() > MOST {
        return Err(Refusal::invalid("table", "the table is longer than 16 MB"));
    }
    let (mut rows, in_all, mut problems) = rows_of(body, &known, keys)?;
    // Each device beside all others as they would be then.
    let mut places: HashMap<i64, usize> = known
        .devices
        .iter()
        .enumerate()
        .map(|(place, one)| (one.id, place))
        .collect();
    for (number, row) in rows.iter_mut().enumerate() {
        if row.fresh {
            row.device.id = -1 - number as i64;
        }
        let place = places.entry(row.device.id).or_insert_with(|| {
            known.devices.push(row.device.clone());
            known.devices.len() - 1
        });
        if let Some(device) = known.devices.get_mut(*place) {
            *device = row.device.clone();
        }
        known.team.suppose_own(&row.device, row.own.clone());
    }
    let mut ports: HashMap<&str, Vec<&str>> = HashMap::new();
    for device in &known.devices {
        for mac in &device.macs {
            ports.entry(mac).or_default().push(&device.name);
        }
    }
    let beside = Beside::new(&known.team, &known.devices);
    for row in rows.iter().filter(|row| row.fresh || row.changed) {
        let mut wrong = |column: &str, problem: String| {
            problems.push(api::RowProblem {
                line: row.line,
                column: column.into(),
                problem,
            });
        };
        for mac in &row.device.macs {
            let others = ports.get(mac.as_str()).map_or(&[][..], Vec::as_slice);
            if let Some(other) = others.iter().find(|other| **other != row.device.name) {
                wrong(
                    "macs",
                    format!("{other} has the hardware address {mac} too"),
                );
            }
        }
        // What is still missing can be set later; what cannot stand beside others cannot.
        for problem in beside.collisions(&row.device) {
            wrong(&problem.field, problem.rule);
        }
    }
    problems.sort_by_key(|one| one.line);
    problems.dedup();
    let wrong: BTreeSet<u32> = problems.iter().map(|one| one.line).collect();
    let names = |fresh: bool| -> Vec<String> {
        rows.iter()
            .filter(|row| row.fresh == fresh && (fresh || row.changed))
            .filter(|row| !wrong.contains(&row.line))
            .map(|row| row.device.name.clone())
            .collect()
    };
    let report = api::DeviceTableReport {
        rows: in_all,
        wrong: wrong.len() as u32,
        new: names(true),
        changed: names(false),
        problems,
        done: false,
    };
    let taken = rows.into_iter().filter(|row| row.fresh || row.changed);
    let taken = taken.map(|row| TableRow {
        device: row.device,
        fresh: row.fresh,
        changes: row.changes,
    });
    Ok((taken.collect(), report))
}

/// The rows of a table that can be read, how many there are in all, and what is wrong in each.
fn rows_of(
    body: &str,
    known: &Known,
    keys: &Keys,
) -> Result<(Vec<Row>, u32, Vec<api::RowProblem>), Refusal> {
    let places = known.devices.iter().enumerate();
    let mut reading = Reading {
        known,
        keys,
        places: places
            .map(|(place, device)| (device.name.clone(), place))
            .collect(),
        problems: Vec::new(),
    };
    let mut rows: Vec<Row> = Vec::new();
    let mut lines: HashMap<String, u32> = HashMap::new();
    let text = body.trim_start_matches('\u{feff}');
    let mut reader = csv::ReaderBuilder::new()
        .flexible(true)
        .from_reader(text.as_bytes());
    let header = reader
        .headers()
        .map_err(|e| Refusal::invalid("table", format!("the first line is no header: {e}")))?
        .clone();
    if !header.iter().any(|name| name == "name") {
        let detail =
            "the first line must name the columns, among them name; see docs/device-table.md";
        return Err(Refusal::invalid("table", detail));
    }
    let mut in_all = 0_u32;
    for (number, record) in reader.records().enumerate() {
        in_all = in_all.saturating_add(1);
        let record = match record {
            Ok(record) => record,
            Err(e) => {
                reading.wrong(number as u32 + 2, "", e.to_string());
                continue;
            }
        };
        let line = record.position().map_or(0, |at| at.line() as u32);
        if record.len() != header.len() {
            let words = format!("has {} cells, the header {}", record.len(), header.len());
            reading.wrong(line, "", words);
            continue;
        }
        let cells = header.iter().zip(record.iter().map(as_meant)).collect();
        if let Some(row) = reading.row(line, &cells) {
            if let Some(other) = lines.get(&row.device.name) {
                let words = format!("{} stands in line {other} already", row.device.name);
                reading.wrong(line, "name", words);
            }
            lines.entry(row.device.name.clone()).or_insert(line);
            rows.push(row);
        }
    }
    Ok((rows, in_all, reading.problems))
}

/// A row that was read, with the device it is about as it would be.
struct Row {
    line: u32,
    device: Device,
    fresh: bool,
    changed: bool,
    own: Settings,
    changes: Vec<(String, Change)>,
}

/// Reads a table, collecting everything that is wrong.
struct Reading<'a> {
    known: &'a Known,
    keys: &'a Keys,
    /// Places in `known.devices` by name.
    places: HashMap<String, usize>,
    problems: Vec<api::RowProblem>,
}

impl Reading<'_> {
    fn wrong(&mut self, line: u32, column: &str, problem: impl Into<String>) {
        self.problems.push(api::RowProblem {
            line,
            column: column.into(),
            problem: problem.into(),
        });
    }

    fn row(&mut self, line: u32, cells: &BTreeMap<&str, &str>) -> Option<Row> {
        let cell = |name: &str| cells.get(name).map(|text| text.trim());
        let name = cell("name").unwrap_or("");
        if let Err(e) = check_name("device", name) {
            self.wrong(line, "name", e.detail);
            return None;
        }
        let place = self.places.get(name).copied();
        let before = place
            .and_then(|place| self.known.devices.get(place))
            .cloned();
        let fresh = before.is_none();
        let mut device = before.clone().unwrap_or_else(|| blank(name));
        for (column, place) in [
            ("board", &mut device.board),
            ("appliance", &mut device.appliance),
            ("site", &mut device.site),
        ] {
            match cell(column).filter(|text| !text.is_empty()) {
                Some(text) if !fresh && text != place => {
                    let words = format!("{name} has {place} there; that is not changed by a table");
                    self.wrong(line, column, words);
                }
                Some(text) => *place = text.into(),
                None if fresh => self.wrong(line, column, "a new device needs it"),
                None => {}
            }
        }
        if let Some(variant) = cell("variant").filter(|text| !text.is_empty()) {
            device.variant = Some(variant.into());
        }
        if fresh && !device.board.is_empty() && !self.known.boards.contains(&device.board) {
            self.wrong(
                line,
                "board",
                format!("there is no board model {:?}", device.board),
            );
        }
        if fresh && !device.site.is_empty() && !self.known.sites.contains(&device.site) {
            self.wrong(line, "site", format!("there is no site {:?}", device.site));
        }
        let items = |text: &str| -> Vec<String> {
            let parts = text.split(BETWEEN).map(|part| part.trim().to_owned());
            parts.filter(|part| !part.is_empty()).collect()
        };
        if let Some(notes) = cell("notes") {
            device.notes = notes.into();
        }
        if let Some(attached) = cell("attached") {
            device.attached = items(attached);
        }
        if let Some(macs) = cell("macs") {
            match items(macs).iter().map(|one| mac(one)).collect() {
                Ok(macs) => device.macs = macs,
                Err(why) => self.wrong(line, "macs", why),
            }
        }
        let (own, changes) = self.values(line, &device, cells);
        let told = |one: &Device| {
            (
                one.notes.clone(),
                one.attached.clone(),
                one.macs.clone(),
                one.variant.clone(),
            )
        };
        let changed =
            before.is_some_and(|before| told(&before) != told(&device)) || !changes.is_empty();
        let then = cell("revision").filter(|text| !text.is_empty());
        if let Some(then) = then.filter(|_| changed)
            && *then != device.revision.to_string()
        {
            let words = format!(
                "{name} was changed since this table was taken out (revision {then} then, {} now); take it out again, or empty this cell to overrule",
                device.revision
            );
            self.wrong(line, "revision", words);
        }
        Some(Row {
            line,
            changed,
            device,
            fresh,
            own,
            changes,
        })
    }

    fn values(
        &mut self,
        line: u32,
        device: &Device,
        cells: &BTreeMap<&str, &str>,
    ) -> (Settings, Vec<(String, Change)>) {
        let sheet = sheet_of(&self.known.team, device);
        let before = self.known.team.own(device);
        let (mut own, mut changes) = (before.clone(), Vec::new());
        let fields = sheet.as_ref().map_or(&[][..], |sheet| &sheet.fields);
        for (column, value) in cells {
            if COLUMNS.contains(column) {
                continue;
            }
            let Some(field) = fields.iter().find(|field| field.name == *column) else {
                if !value.is_empty() {
                    let words =
                        format!("the release that {} follows has no such field", device.name);
                    self.wrong(line, column, words);
                }
                continue;
            };
            let sealed = self.known.team.sealed_on(device.id).contains(*column);
            if field.kind.is_secret() || sealed {
                if !value.is_empty() {
                    self.wrong(
                        line,
                        column,
                        "is a secret and does not belong into a table; set it in a preset, or on the device",
                    );
                }
                continue;
            }
            if value.is_empty() {
                if own.remove(*column).is_some() {
                    changes.push(((*column).into(), Change::Clear));
                }
                continue;
            }
            if before.get(*column).map(String::as_str) == Some(*value) {
                continue;
            }
            match change_of(self.keys, device, field, (*value).into(), false) {
                Ok(change) => {
                    own.insert((*column).into(), (*value).into());
                    changes.push(((*column).into(), change));
                }
                Err(e) => self.wrong(line, column, e.detail),
            }
        }
        (own, changes)
    }
}

fn blank(name: &str) -> Device {
    Device {
        id: 0,
        name: name.into(),
        board: String::new(),
        appliance: String::new(),
        variant: None,
        site: String::new(),
        notes: String::new(),
        state: "planned".into(),
        host_name: None,
        added_by: String::new(),
        added_at: OffsetDateTime::UNIX_EPOCH,
        pinned_release_id: None,
        carried_release_id: None,
        runs_release_id: None,
        card_bytes: None,
        imprint_id: None,
        seen_version: None,
        revision: 0,
        pinned: None,
        card: None,
        card_state: None,
        attached: Vec::new(),
        macs: Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_cell_starts_a_formula_and_each_comes_back_as_it_was() {
        for cell in [
            "=1+1", "+47", "-2", "@here", "'quoted", "''=x", "plain", "", "\ttab",
        ] {
            let written = harmless(cell);
            assert!(
                !written.starts_with(['=', '+', '-', '@', '\t']),
                "{written}"
            );
            assert_eq!(as_meant(&written), cell);
        }
    }
}
