//! The table of devices as CSV (RFC 4180): out, and in again, all of it or nothing.
//! Its columns are described in `docs/device-table.md`.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use axum::Json;
use axum::extract::{Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use records::devices::{About, Change, Device, NewDevice, TableRow};
use serde::Deserialize;
use settings::{Field, Settings, Sheet};
use time::OffsetDateTime;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::boards::check_name;
use super::devices::{mac, mac_taken};
use super::extract::Operator;
use crate::app::App;
use crate::error::ApiError;
use operations::in_force::Team;

/// Columns that are no fields.
const COLUMNS: [&str; 8] = [
    "name",
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
const MOST: usize = 4 << 20;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(export, import))
}

/// A cell that no spreadsheet takes for a formula: one that begins like one gets an apostrophe in
/// front, which spreadsheets read as "this is text".
fn harmless(cell: &str) -> std::borrow::Cow<'_, str> {
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
    team.sheet(team.shelf.followed(device)?).ok()
}

/// All devices with what is set on them, without secrets.
#[utoipa::path(get, path = "/api/v1/device-table", responses((status = 200, content_type = "text/csv", body = String)))]
async fn export(State(app): State<Arc<App>>) -> Result<Response, ApiError> {
    let team = app.in_force.team().await?;
    let mut fields = BTreeSet::new();
    let mut rows = Vec::new();
    for device in &team.devices {
        let mut row: BTreeMap<String, String> = BTreeMap::new();
        let values = [
            device.name.clone(),
            device.board.clone(),
            device.appliance.clone(),
            device.variant.clone().unwrap_or_default(),
            device.site.clone(),
            device.notes.clone(),
            device.attached.join("; "),
            device.macs.join("; "),
        ];
        row.extend(COLUMNS.map(str::to_owned).into_iter().zip(values));
        let known = sheet_of(&team, device)
            .map(|sheet| sheet.fields.clone())
            .unwrap_or_default();
        for (name, value) in team.own(device) {
            let field = known.iter().find(|field| field.name == name);
            let secret = team.sealed_on(device.id).contains(&name);
            if field.is_some_and(|field| !field.kind.is_secret() && !secret) {
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
    let wrong = |e: csv::Error| ApiError::invalid("table", e.to_string());
    writer.write_record(&header).map_err(wrong)?;
    for row in rows {
        let cells = header
            .iter()
            .map(|name| harmless(row.get(name).map_or("", String::as_str)).into_owned());
        writer.write_record(cells).map_err(wrong)?;
    }
    let bytes = writer
        .into_inner()
        .map_err(|e| ApiError::invalid("table", e.to_string()))?;
    Ok(([(header::CONTENT_TYPE, "text/csv; charset=utf-8")], bytes).into_response())
}

/// Whether a table is only tried.
#[derive(Deserialize, IntoParams)]
struct Trial {
    /// Lists every problem by row, and takes nothing over.
    #[serde(default)]
    dry_run: bool,
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
    app: &'a App,
    team: &'a Team,
    boards: BTreeSet<String>,
    sites: BTreeSet<String>,
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
            self.wrong(line, "name", e.refusal.detail);
            return None;
        }
        let known = self.team.devices.iter().find(|device| device.name == name);
        let before = known.cloned();
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
        if fresh && !device.board.is_empty() && !self.boards.contains(&device.board) {
            self.wrong(
                line,
                "board",
                format!("there is no board model {:?}", device.board),
            );
        }
        if fresh && !device.site.is_empty() && !self.sites.contains(&device.site) {
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
        let told = |one: &Device| (one.notes.clone(), one.attached.clone(), one.macs.clone());
        let changed = before.is_some_and(|before| told(&before) != told(&device));
        Some(Row {
            line,
            changed: changed || !changes.is_empty(),
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
        let sheet = sheet_of(self.team, device);
        let before = self.team.own(device);
        let (mut own, mut changes) = (before.clone(), Vec::new());
        let fields: Vec<Field> = sheet.map(|sheet| sheet.fields.clone()).unwrap_or_default();
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
            let sealed = self.team.sealed_on(device.id).contains(*column);
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
            match self.app.change_of(device, field, (*value).into(), false) {
                Ok(change) => {
                    own.insert((*column).into(), (*value).into());
                    changes.push(((*column).into(), change));
                }
                Err(e) => self.wrong(line, column, e.refusal.detail),
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
        pinned: None,
        card: None,
        card_state: None,
        attached: Vec::new(),
        macs: Vec::new(),
    }
}

/// Takes a table over: new devices are registered, known ones changed. An empty cell of a field
/// clears it, a column that is missing leaves it as it is.
#[utoipa::path(post, path = "/api/v1/device-table", params(Trial),
    request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = api::DeviceTableReport)))]
async fn import(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Query(trial): Query<Trial>,
    body: String,
) -> Result<Json<api::DeviceTableReport>, ApiError> {
    if body.len() > MOST {
        return Err(ApiError::invalid("table", "the table is longer than 4 MB"));
    }
    let mut team = app.in_force.team().await?;
    let mut reading = Reading {
        app: &app,
        team: &team,
        boards: app
            .records
            .boards()
            .await?
            .into_iter()
            .map(|one| one.name)
            .collect(),
        sites: app
            .records
            .sites()
            .await?
            .into_iter()
            .map(|one| one.name)
            .collect(),
        problems: Vec::new(),
    };
    let mut rows: Vec<Row> = Vec::new();
    let text = body.trim_start_matches('\u{feff}');
    let mut reader = csv::ReaderBuilder::new()
        .flexible(true)
        .from_reader(text.as_bytes());
    let header = reader
        .headers()
        .map_err(|e| ApiError::invalid("table", format!("the first line is no header: {e}")))?
        .clone();
    if !header.iter().any(|name| name == "name") {
        let detail =
            "the first line must name the columns, among them name; see docs/device-table.md";
        return Err(ApiError::invalid("table", detail));
    }
    for (number, record) in reader.records().enumerate() {
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
            if let Some(other) = rows
                .iter()
                .find(|other| other.device.name == row.device.name)
            {
                let words = format!("{} stands in line {} already", row.device.name, other.line);
                reading.wrong(line, "name", words);
            }
            rows.push(row);
        }
    }
    let mut problems = std::mem::take(&mut reading.problems);
    // Each device beside all others as they would be then.
    for (number, row) in rows.iter_mut().enumerate() {
        if row.fresh {
            row.device.id = -1 - number as i64;
            team.devices.push(row.device.clone());
        } else if let Some(known) = team.devices.iter_mut().find(|one| one.id == row.device.id) {
            *known = row.device.clone();
        }
        team.suppose_own(&row.device, row.own.clone());
    }
    for row in &rows {
        let mut wrong = |column: &str, problem: String| {
            problems.push(api::RowProblem {
                line: row.line,
                column: column.into(),
                problem,
            });
        };
        if let Some(taken) = mac_taken(&team.devices, &row.device.name, &row.device.macs) {
            wrong("macs", taken);
        }
        if let Some(sheet) = sheet_of(&team, &row.device) {
            let alone = team.alone(&row.device, &sheet.fields).problems;
            let counted = team.count(&row.device, &sheet).problems;
            // What is still missing can be set later; what cannot stand beside others cannot.
            for problem in counted.into_iter().filter(|one| !alone.contains(one)) {
                wrong(&problem.field, problem.rule);
            }
        }
    }
    problems.sort_by_key(|one| one.line);
    problems.dedup();
    let names = |fresh: bool| -> Vec<String> {
        rows.iter()
            .filter(|row| row.fresh == fresh && (fresh || row.changed))
            .map(|row| row.device.name.clone())
            .collect()
    };
    let mut report = api::DeviceTableReport {
        rows: rows.len() as u32,
        new: names(true),
        changed: names(false),
        problems,
        done: false,
    };
    if trial.dry_run || !report.problems.is_empty() {
        return Ok(Json(report));
    }
    let rows: Vec<TableRow> = rows
        .into_iter()
        .map(|row| table_row(row, &operator))
        .collect();
    app.records.take_table(&rows, &operator).await?;
    report.done = true;
    let summary = format!(
        "Table of devices taken over: {} new, {} changed",
        report.new.len(),
        report.changed.len()
    );
    app.events
        .note(&operator, "device.table", "devices", &summary)
        .await?;
    Ok(Json(report))
}

fn table_row(row: Row, operator: &str) -> TableRow {
    let device = row.device;
    TableRow {
        about: About {
            notes: Some(device.notes.clone()),
            attached: Some(device.attached.clone()),
            macs: Some(device.macs.clone()),
        },
        new: row.fresh.then(|| NewDevice {
            name: device.name.clone(),
            board: device.board.clone(),
            appliance: device.appliance.clone(),
            variant: device.variant.clone(),
            site: device.site.clone(),
            notes: device.notes.clone(),
            added_by: operator.into(),
        }),
        device,
        changes: row.changes,
    }
}
