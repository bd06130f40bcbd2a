//! Devices, what is told about them, and their settings.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use records::devices::{About, Change, Device, NewDevice};
use serde::Deserialize;
use settings::{Field, FieldKind, Grow, Network, Security};
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::boards::check_name;
use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;
use operations::in_force::{diff, growth, of_device, open_logins, planned_file, sheet_text};
use operations::shown;
use operations::store::manifest_name;

/// Imprints shown with a device.
const IMPRINTS: i64 = 50;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, add))
        .routes(routes!(show, describe))
        .routes(routes!(change))
        .routes(routes!(preview))
        .routes(routes!(fact, put_fact))
}

/// Devices by name.
#[utoipa::path(get, path = "/api/v1/devices", responses((status = 200, body = Vec<api::Device>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Device>>, ApiError> {
    Ok(Json(
        app.records
            .devices()
            .await?
            .into_iter()
            .map(shown::device)
            .collect(),
    ))
}

/// Registers a device.
#[utoipa::path(post, path = "/api/v1/devices", request_body = api::NewDevice,
    responses((status = 201, body = api::DeviceDetail)))]
async fn add(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::NewDevice>,
) -> Result<(StatusCode, Json<api::DeviceDetail>), ApiError> {
    check_name("device", &new.name)?;
    check_name("appliance", &new.appliance)?;
    let row = NewDevice {
        name: new.name.clone(),
        board: new.board,
        appliance: new.appliance,
        variant: new.variant,
        site: new.site,
        notes: new.notes,
        added_by: operator.clone(),
    };
    app.records.add_device(&row).await?;
    app.events
        .note(
            &operator,
            "device.added",
            &new.name,
            &format!("Device {} registered", new.name),
        )
        .await?;
    Ok((StatusCode::CREATED, Json(detail(&app, &new.name).await?)))
}

/// One device with its settings and imprints.
#[utoipa::path(get, path = "/api/v1/devices/{name}", responses((status = 200, body = api::DeviceDetail)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<api::DeviceDetail>, ApiError> {
    Ok(Json(detail(&app, &name).await?))
}

async fn detail(app: &App, name: &str) -> Result<api::DeviceDetail, ApiError> {
    let device = app.records.device(name).await?;
    let team = app.in_force.team().await?;
    let release = team.shelf.followed(&device);
    let (mut shown, mut problems) = (Vec::new(), Vec::new());
    let (mut outdated, mut logins) = (Vec::new(), Vec::new());
    if let Some(release) = release {
        let sheet = shown::sheet(release)?;
        let counted = team.count(&device, &sheet);
        let pairs = counted.fields.iter().zip(&counted.values);
        shown = pairs
            .map(|(field, value)| shown::masked_setting(field, Some(value), &app.store.keys))
            .collect();
        outdated = app
            .in_force
            .outdated(&device, &counted, Some(release))
            .await?;
        logins = open_logins(&sheet, &counted.values);
        problems = problems_of(counted.problems);
    }
    let imprints = app.records.imprints(None, Some(name), IMPRINTS).await?;
    let facts = app.records.device_facts(device.id).await?;
    Ok(api::DeviceDetail {
        release: release.map(|release| release.name.clone()),
        device: shown::device(device),
        settings: shown,
        problems,
        outdated,
        open_logins: logins,
        facts: facts
            .into_iter()
            .map(|fact| api::DeviceFact {
                name: fact.name,
                set_by: fact.set_by,
                set_at: fact.set_at,
            })
            .collect(),
        imprints: imprints.into_iter().map(shown::imprint).collect(),
    })
}

fn problems_of(problems: Vec<settings::Problem>) -> Vec<api::SettingProblem> {
    problems
        .into_iter()
        .map(|problem| api::SettingProblem {
            field: problem.field,
            rule: problem.rule,
        })
        .collect()
}

/// A hardware address in its usual form.
pub fn mac(text: &str) -> Result<String, String> {
    let digits: String = text
        .chars()
        .filter(|c| !matches!(c, ':' | '-' | '.' | ' '))
        .collect();
    if digits.len() != 12 || !digits.bytes().all(|b| b.is_ascii_hexdigit()) {
        return Err(format!(
            "{text:?} is no hardware address; it takes six pairs of hex digits"
        ));
    }
    let pairs: Vec<_> = (0..6)
        .map(|at| digits[at * 2..at * 2 + 2].to_lowercase())
        .collect();
    Ok(pairs.join(":"))
}

/// Whose port has one of these addresses already.
pub fn mac_taken(devices: &[Device], name: &str, macs: &[String]) -> Option<String> {
    devices
        .iter()
        .filter(|other| other.name != name)
        .find_map(|other| {
            let mac = macs.iter().find(|mac| other.macs.contains(mac))?;
            Some(format!("{} has the hardware address {mac} too", other.name))
        })
}

/// Changes what is told about a device: notes, attached hardware, hardware addresses.
#[utoipa::path(patch, path = "/api/v1/devices/{name}", request_body = api::DeviceChange,
    responses((status = 200, body = api::DeviceDetail)))]
async fn describe(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(given): Given<api::DeviceChange>,
) -> Result<Json<api::DeviceDetail>, ApiError> {
    let device = app.records.device(&name).await?;
    let wrong = |why: String| ApiError::invalid("bad-value", format!("device {name}: {why}"));
    let macs = given
        .macs
        .map(|macs| macs.iter().map(|one| mac(one)).collect());
    let macs: Option<Vec<String>> = macs.transpose().map_err(wrong)?;
    let devices = app.records.devices().await?;
    if let Some(taken) = mac_taken(&devices, &name, macs.as_deref().unwrap_or(&[])) {
        return Err(ApiError::conflict(
            "taken",
            format!("device {name}: {taken}"),
        ));
    }
    let attached = given.attached.map(|list| {
        let words = list.iter().map(|one| one.trim().to_owned());
        words.filter(|one| !one.is_empty()).collect()
    });
    let about = About {
        notes: given.notes,
        attached,
        macs,
    };
    app.records.describe_device(device.id, &about).await?;
    let summary = format!("What is told about {name} changed");
    app.events
        .note(&operator, "device.changed", &name, &summary)
        .await?;
    Ok(Json(detail(&app, &name).await?))
}

/// Names of fields for a sentence.
pub fn known_fields(fields: &[Field]) -> String {
    let mut names: Vec<_> = fields.iter().map(|field| field.name.as_str()).collect();
    names.dedup();
    names.join(", ")
}

/// A value with the secrets that a form left out because it does not know them: networks without
/// a passphrase keep the one that they have.
pub fn with_kept_secrets(
    field: &Field,
    value: String,
    before: Option<&String>,
) -> Result<String, ApiError> {
    if field.kind != FieldKind::Networks {
        return Ok(value);
    }
    let Ok(mut networks) = serde_json::from_str::<Vec<Network>>(&value) else {
        return Ok(value);
    };
    let mut kept: Vec<Network> = before
        .and_then(|before| settings::parse_networks(before).ok())
        .unwrap_or_default();
    let mut result: Vec<Network> = Vec::new();
    let wanted = networks.clone();
    for mut network in networks.drain(..) {
        let same = kept.iter().position(|one| one.name == network.name);
        if network.security != Security::Open && network.passphrase.is_none() {
            // Each keeps one: of two entries of one name the first keeps the first.
            network.passphrase = same.and_then(|at| kept.remove(at).passphrase);
            result.push(network);
            continue;
        }
        // A new passphrase for a network that stays: until no card carries only the old one, that
        // stays behind it.
        let old = same.map(|at| kept[at].clone()).filter(|old| {
            let others = wanted.iter().filter(|one| one.name == network.name).count();
            old.passphrase.is_some() && old.passphrase != network.passphrase && others == 1
        });
        result.push(network);
        result.extend(old);
    }
    serde_json::to_string(&result)
        .map_err(|e| ApiError::invalid("bad-value", format!("{}: {e}", field.label)))
}

impl App {
    /// What becomes of a field of a device, its value checked and sealed where it is a secret, or
    /// was set as one before (`sealed`), whatever the sheet calls it now.
    pub fn change_of(
        &self,
        device: &Device,
        field: &Field,
        value: String,
        sealed: bool,
    ) -> Result<Change, ApiError> {
        let (name, label) = (&device.name, &field.label);
        field.check(&value).map_err(|why| {
            ApiError::invalid("bad-value", format!("device {name}, {label}: {why}"))
        })?;
        Ok(match field.kind {
            FieldKind::HostName => Change::HostName(value),
            kind if kind.is_secret() || sealed => Change::Sealed(
                self.store
                    .keys
                    .seal_secret(&of_device(device.id, &field.name), &value)?,
            ),
            _ => Change::Plain(value),
        })
    }
}

/// Changes settings, all or none. Secrets are sealed before they are kept.
#[utoipa::path(patch, path = "/api/v1/devices/{name}/settings", request_body = api::SettingsChange,
    responses((status = 200, body = api::DeviceDetail)))]
async fn change(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(given): Given<api::SettingsChange>,
) -> Result<Json<api::DeviceDetail>, ApiError> {
    let device = app.records.device(&name).await?;
    let team = app.in_force.team().await?;
    let release = team.shelf.followed(&device).ok_or_else(|| {
        let detail = format!(
            "what can be set on {name} stands in the release sheet, and the catalogue has no release of {} for a {}; add one first",
            device.appliance, device.board
        );
        ApiError::conflict("no-release", detail)
    })?;
    let fields = shown::sheet(release)?.fields;
    // A list of networks that came from a preset so far becomes the device's own with all of its
    // secrets.
    let counted = team.alone(&device, &fields).values;
    let before = |name: &str| {
        let found = counted.iter().find(|one| one.name == name);
        found.and_then(|one| one.value.as_ref())
    };
    let is_secret = |name: &str| counted.iter().any(|one| one.name == name && one.secret);
    let mut changes = Vec::new();
    for (field_name, value) in given.set {
        let change = match value {
            // What another release wanted may be cleared too.
            None => Change::Clear,
            Some(value) => {
                let field = fields.iter().find(|field| field.name == field_name);
                let field = field.ok_or_else(|| {
                    let known = known_fields(&fields);
                    let detail = format!(
                        "{} has no field {field_name:?}; it has {known}",
                        release.name
                    );
                    ApiError::invalid("unknown-field", detail)
                })?;
                let value = with_kept_secrets(field, value, before(&field_name))?;
                let sealed =
                    team.sealed_on(device.id).contains(&field_name) || is_secret(&field_name);
                app.change_of(&device, field, value, sealed)?
            }
        };
        changes.push((field_name, change));
    }
    app.records
        .change_settings(&device, &changes, &operator)
        .await?;
    let names: Vec<_> = changes.iter().map(|(field, _)| field.as_str()).collect();
    let summary = format!("Settings of {name} changed: {}", names.join(", "));
    app.events
        .note(&operator, "device.changed", &name, &summary)
        .await?;
    Ok(Json(detail(&app, &name).await?))
}

/// Which release a preview takes.
#[derive(Deserialize, IntoParams)]
struct Taken {
    /// The one that the device follows, if it is not said.
    release: Option<String>,
}

/// The files of a device as they would land on its card, beside the release's own.
#[utoipa::path(get, path = "/api/v1/devices/{name}/preview", params(Taken),
    responses((status = 200, body = api::Preview)))]
async fn preview(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(taken): Query<Taken>,
) -> Result<Json<api::Preview>, ApiError> {
    let device = app.records.device(&name).await?;
    let team = app.in_force.team().await?;
    let release = match &taken.release {
        Some(release) => app.records.release(release).await?,
        None => team.shelf.followed(&device).cloned().ok_or_else(|| {
            let detail = format!("the catalogue has no release for {name} yet; add one");
            ApiError::conflict("no-release", detail)
        })?,
    };
    let sheet = shown::sheet(&release)?;
    let counted = team.count(&device, &sheet);
    let laid = app
        .in_force
        .laid(&sheet, &counted, manifest_name(&release.manifest)?)
        .await?;
    let files = laid.iter().map(|one| api::PreviewFile {
        file: planned_file(one, &app.store.keys, &sheet_text(&release)),
        before: one.before.clone(),
        diff: diff(one),
    });
    Ok(Json(api::Preview {
        device: device.name,
        release: release.name.clone(),
        files: files.collect(),
        grow: match growth(&sheet, &release).0 {
            Grow::Here => "here",
            Grow::Image => "image",
            Grow::None => "none",
        }
        .into(),
        problems: problems_of(counted.problems),
    }))
}

fn of_fact(device: i64, name: &str) -> String {
    format!("fact/{device}/{name}")
}

/// The content of a sealed fact, for whoever asks for this one.
#[utoipa::path(get, path = "/api/v1/devices/{name}/facts/{fact}", responses((status = 200, body = api::FactValue)))]
async fn fact(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path((name, fact)): Path<(String, String)>,
) -> Result<Json<api::FactValue>, ApiError> {
    let device = app.records.device(&name).await?;
    let facts = app.records.device_facts(device.id).await?;
    let found = facts.into_iter().find(|one| one.name == fact);
    let found = found.ok_or_else(|| ApiError::missing(format!("{name} has no fact {fact:?}")))?;
    let value = app
        .store
        .keys
        .open_secret(&of_fact(device.id, &fact), &found.sealed)?;
    let summary = format!("Fact {fact} of {name} was read");
    app.events
        .note(&operator, "secret.read", &name, &summary)
        .await?;
    Ok(Json(api::FactValue { value: Some(value) }))
}

/// Keeps a sealed fact of a device, or takes it away.
#[utoipa::path(put, path = "/api/v1/devices/{name}/facts/{fact}", request_body = api::FactValue,
    responses((status = 200, body = api::DeviceDetail)))]
async fn put_fact(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path((name, fact)): Path<(String, String)>,
    Given(given): Given<api::FactValue>,
) -> Result<Json<api::DeviceDetail>, ApiError> {
    check_name("fact", &fact)?;
    let device = app.records.device(&name).await?;
    let sealed = match given.value.as_deref() {
        Some(value) if value.len() > 16_384 => {
            return Err(ApiError::invalid(
                "bad-value",
                "a fact has at most 16384 bytes",
            ));
        }
        Some(value) => Some(
            app.store
                .keys
                .seal_secret(&of_fact(device.id, &fact), value)?,
        ),
        None => None,
    };
    app.records
        .put_device_fact(device.id, &fact, sealed.as_deref(), &operator)
        .await?;
    let summary = match sealed {
        Some(_) => format!("Fact {fact} of {name} kept"),
        None => format!("Fact {fact} of {name} taken away"),
    };
    app.events
        .note(&operator, "device.changed", &name, &summary)
        .await?;
    Ok(Json(detail(&app, &name).await?))
}

#[cfg(test)]
mod tests {
    use super::mac;

    #[test]
    fn hardware_addresses_take_one_form() {
        for text in ["5A-17-00-AB-cd-01", "5a:17:00:ab:cd:01", "5a1700abcd01"] {
            assert_eq!(mac(text).as_deref(), Ok("5a:17:00:ab:cd:01"));
        }
        assert!(mac("5a:17:00:ab:cd").is_err() && mac("here").is_err());
    }
}
