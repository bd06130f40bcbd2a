//! Presets: values that several devices share, and which devices they touch.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use records::devices::{Change, Device};
use records::presets::Preset;
use records::releases::Release;
use serde::Deserialize;
use settings::{Effective, Field, Origin, Settings};
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::boards::check_name;
use super::devices::{known_fields, with_kept_secrets};
use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;
use operations::in_force::{Team, of_preset, recorded_settings};
use operations::shown;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, add))
        .routes(routes!(show, remove))
        .routes(routes!(change))
        .routes(routes!(networks))
}

/// Whether a change is only tried.
#[derive(Deserialize, IntoParams)]
struct Trial {
    /// Says what the change would touch, and changes nothing.
    #[serde(default)]
    dry_run: bool,
}

/// Presets by name.
#[utoipa::path(get, path = "/api/v1/presets", responses((status = 200, body = Vec<api::Preset>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Preset>>, ApiError> {
    let team = app.in_force.team().await?;
    let mut shown = Vec::new();
    for (preset, values) in &team.presets {
        let devices = takers(&team, &preset.name).into_iter();
        let names = devices.map(|(device, ..)| device.name.clone());
        shown.push(view(preset, values, names.collect()));
    }
    Ok(Json(shown))
}

/// Makes a preset.
#[utoipa::path(post, path = "/api/v1/presets", request_body = api::NewPreset,
    responses((status = 201, body = api::PresetDetail)))]
async fn add(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Given(new): Given<api::NewPreset>,
) -> Result<(StatusCode, Json<api::PresetDetail>), ApiError> {
    check_name("preset", &new.name)?;
    app.records
        .add_preset(&new.name, &new.title, new.site.as_deref(), &operator)
        .await?;
    let summary = format!("Preset {} made", new.name);
    app.events
        .note(&operator, "preset.added", &new.name, &summary)
        .await?;
    Ok((StatusCode::CREATED, Json(detail(&app, &new.name).await?)))
}

/// One preset with its values and the devices that it touches.
#[utoipa::path(get, path = "/api/v1/presets/{name}", responses((status = 200, body = api::PresetDetail)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<api::PresetDetail>, ApiError> {
    Ok(Json(detail(&app, &name).await?))
}

/// Takes a preset and its values away.
#[utoipa::path(delete, path = "/api/v1/presets/{name}", responses((status = 204)))]
async fn remove(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let preset = app.records.preset(&name).await?;
    app.records.remove_preset(preset.id).await?;
    let summary = format!("Preset {name} taken away");
    app.events
        .note(&operator, "preset.removed", &name, &summary)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Changes values of a preset, all or none; says which devices that touches and which cards are
/// out of date then.
#[utoipa::path(patch, path = "/api/v1/presets/{name}/settings", params(Trial),
    request_body = api::SettingsChange, responses((status = 200, body = api::PresetDetail)))]
async fn change(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Query(trial): Query<Trial>,
    Given(given): Given<api::SettingsChange>,
) -> Result<Json<api::PresetDetail>, ApiError> {
    let mut team = app.in_force.team().await?;
    let place = place(&team, &name)?;
    let (preset, before) = team.presets[place].clone();
    let fields = catalogue_fields(&team);
    let (mut after, mut changes) = (before.clone(), Vec::new());
    for (field_name, value) in given.set {
        let Some(value) = value else {
            after.remove(&field_name);
            changes.push((field_name, Change::Clear));
            continue;
        };
        let known: Vec<&Field> = fields.iter().filter(|f| f.name == field_name).collect();
        let Some(first) = known.first() else {
            let names = known_fields(&fields);
            let detail = format!("no release has a field {field_name:?}; there are {names}");
            return Err(ApiError::invalid("unknown-field", detail));
        };
        if let Some(other) = rival(&team, &preset, &field_name) {
            let detail = format!(
                "preset {other} sets {field_name} for the same devices already; one of them must go"
            );
            return Err(ApiError::conflict("taken", detail));
        }
        let value = with_kept_secrets(first, value, before.get(&field_name))?;
        // Appliances may declare one name with rules of their own; one of them must take it.
        if known.iter().all(|field| field.check(&value).is_err()) {
            let why = first
                .check(&value)
                .err()
                .map(|why| why.0)
                .unwrap_or_default();
            let detail = format!("preset {name}, {}: {why}", first.label);
            return Err(ApiError::invalid("bad-value", detail));
        }
        let secret = known.iter().any(|field| field.kind.is_secret())
            || team.sealed_in_preset(preset.id).contains(&field_name);
        let change = match secret {
            true => Change::Sealed(
                app.store
                    .keys
                    .seal_secret(&of_preset(preset.id, &field_name), &value)?,
            ),
            false => Change::Plain(value.clone()),
        };
        after.insert(field_name.clone(), value);
        changes.push((field_name, change));
    }
    if !trial.dry_run {
        app.records
            .change_preset(preset.id, &changes, &operator)
            .await?;
        let names: Vec<_> = changes.iter().map(|(field, _)| field.as_str()).collect();
        let summary = format!("Preset {name} changed: {}", names.join(", "));
        app.events
            .note(&operator, "preset.changed", &name, &summary)
            .await?;
    }
    team.presets[place].1 = after;
    Ok(Json(detail_of(&app, &team, place).await?))
}

/// Wi-Fi networks by name and passphrase: whose cards carry them, and on whom they are set. So a
/// passphrase can be changed without a device going dark: the new network first, the old one
/// behind it, until no card carries only that.
#[utoipa::path(get, path = "/api/v1/networks", responses((status = 200, body = Vec<api::CarriedNetwork>)))]
async fn networks(State(app): State<Arc<App>>) -> Result<Json<Vec<api::CarriedNetwork>>, ApiError> {
    let team = app.in_force.team().await?;
    #[derive(Default)]
    struct Where {
        carried: Vec<String>,
        set_on: Vec<String>,
    }
    let mut found: BTreeMap<(String, Option<String>), Where> = BTreeMap::new();
    let carried: BTreeMap<_, _> = app
        .records
        .carried_settings()
        .await?
        .into_iter()
        .map(|one| (one.device, one.settings))
        .collect();
    let mut unknown = Vec::new();
    for device in &team.devices {
        match carried.get(&device.name) {
            None => {}
            // Whoever may carry a network counts as carrying it.
            Some(None) => unknown.push(device.name.clone()),
            Some(Some(settings)) => {
                for network in named_networks(&shown::settings_of(settings)) {
                    let place = found.entry(network).or_default();
                    place.carried.push(device.name.clone());
                }
            }
        }
        let Some(release) = team.shelf.followed(device) else {
            continue;
        };
        let counted = team.alone(device, &team.sheet(release)?.fields);
        let now = recorded_settings(&app.store.keys, &counted.fields, &counted.values);
        for network in named_networks(&now) {
            let place = found.entry(network).or_default();
            place.set_on.push(device.name.clone());
        }
    }
    let shown = found
        .into_iter()
        .map(|((name, fingerprint), place)| api::CarriedNetwork {
            name,
            fingerprint,
            devices: place.carried,
            not_known: unknown.clone(),
            set_on: place.set_on,
        });
    Ok(Json(shown.collect()))
}

/// The networks among settings: lists of them, or a name and the passphrase that is set with it.
fn named_networks(settings: &[api::Setting]) -> Vec<(String, Option<String>)> {
    let mut found: Vec<_> = settings
        .iter()
        .flat_map(|one| &one.networks)
        .map(|network| (network.name.clone(), network.fingerprint.clone()))
        .collect();
    let of_kind = |kind: &str| {
        let one = settings.iter().find(|one| one.kind == kind)?;
        one.value.clone()
    };
    if let Some(name) = of_kind("network-name") {
        let fingerprint = of_kind("passphrase");
        let fingerprint =
            fingerprint.map(|text| text.trim_start_matches("fingerprint ").to_owned());
        found.push((name, fingerprint));
    }
    found
}

fn place(team: &Team, name: &str) -> Result<usize, ApiError> {
    let found = team
        .presets
        .iter()
        .position(|(preset, _)| preset.name == name);
    found.ok_or_else(|| ApiError::missing(format!("there is no preset {name:?}")))
}

/// Another preset that sets the field for the same devices.
fn rival<'a>(team: &'a Team, preset: &Preset, field: &str) -> Option<&'a str> {
    team.presets
        .iter()
        .find(|(other, values)| {
            other.id != preset.id && other.site == preset.site && values.contains_key(field)
        })
        .map(|(other, _)| other.name.as_str())
}

/// The fields of all releases, those of newer ones first, without repetitions.
fn catalogue_fields(team: &Team) -> Vec<Field> {
    let mut fields: Vec<Field> = Vec::new();
    for release in &team.shelf.releases {
        let Ok(sheet) = team.sheet(release) else {
            continue;
        };
        for field in &sheet.fields {
            if !fields.contains(field) {
                fields.push(field.clone());
            }
        }
    }
    fields
}

/// Devices that take values from a preset, with their release and the fields they take.
fn takers<'a>(team: &'a Team, preset: &str) -> Vec<(&'a Device, &'a Release, Vec<String>)> {
    let mut found = Vec::new();
    for device in team.devices.iter().filter(|one| one.state != "retired") {
        let Some(release) = team.shelf.followed(device) else {
            continue;
        };
        let Ok(sheet) = team.sheet(release) else {
            continue;
        };
        let values = team.alone(device, &sheet.fields).values.into_iter();
        let taken: Vec<String> = values
            .filter(|one| one.preset.as_deref() == Some(preset))
            .map(|one| one.name)
            .collect();
        if !taken.is_empty() {
            found.push((device, release, taken));
        }
    }
    found
}

fn view(preset: &Preset, values: &Settings, devices: Vec<String>) -> api::Preset {
    api::Preset {
        name: preset.name.clone(),
        title: preset.title.clone(),
        site: preset.site.clone(),
        fields: values.keys().cloned().collect(),
        devices,
        added_by: preset.added_by.clone(),
        added_at: preset.added_at,
    }
}

async fn detail(app: &App, name: &str) -> Result<api::PresetDetail, ApiError> {
    let team = app.in_force.team().await?;
    let place = place(&team, name)?;
    detail_of(app, &team, place).await
}

async fn detail_of(app: &App, team: &Team, place: usize) -> Result<api::PresetDetail, ApiError> {
    let (preset, values) = &team.presets[place];
    let mut touches = Vec::new();
    for (device, release, fields) in takers(team, &preset.name) {
        let counted = team.count(device, &*team.sheet(release)?);
        touches.push(api::Touched {
            device: device.name.clone(),
            card: device.card.clone(),
            fields,
            outdated: app
                .in_force
                .outdated(device, &counted, Some(release))
                .await?,
            problems: counted.problems.into_iter().map(|one| one.rule).collect(),
        });
    }
    let (mut shown, mut unset, mut seen) = (Vec::new(), Vec::new(), Vec::new());
    for field in catalogue_fields(team) {
        if seen.contains(&field.name) {
            continue;
        }
        seen.push(field.name.clone());
        match values.get(&field.name) {
            Some(value) => {
                let one = Effective {
                    name: field.name.clone(),
                    kind: field.kind,
                    value: Some(value.clone()),
                    origin: Some(Origin::Preset),
                    preset: Some(preset.name.clone()),
                    secret: field.kind.is_secret()
                        || team.sealed_in_preset(preset.id).contains(&field.name),
                    applies: true,
                };
                shown.push(shown::masked_setting(&field, Some(&one), &app.store.keys));
            }
            None => unset.push(shown::masked_setting(&field, None, &app.store.keys)),
        }
    }
    let devices = touches.iter().map(|one| one.device.clone()).collect();
    Ok(api::PresetDetail {
        preset: view(preset, values, devices),
        settings: shown,
        unset,
        touches,
    })
}
