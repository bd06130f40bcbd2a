//! Presets: values that several devices share, and which devices they touch.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use records::devices::Change;
use records::imprints::Some20;
use records::lists;
use records::presets::Preset;
use serde::Deserialize;
use settings::{Effective, Field, Origin, Settings};
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::devices::{known_fields, with_kept_secrets};
use super::extract::{Given, Operator, asked};
use crate::app::App;
use crate::error::ApiError;
use operations::in_force::{Team, of_preset};
use operations::names::check_name;
use operations::shown;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, add))
        .routes(routes!(show, remove, rename))
        .routes(routes!(touches))
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

/// Presets by name: a page of those that are asked for.
#[utoipa::path(get, path = "/api/v1/presets", params(api::NameQuery, api::Paging),
    responses((status = 200, body = api::Page<api::Preset>)))]
async fn list(
    State(app): State<Arc<App>>,
    Query(query): Query<api::NameQuery>,
    Query(page): Query<api::Paging>,
) -> Result<Json<api::Page<api::Preset>>, ApiError> {
    let team = app.in_force.team(&[]).await?;
    let word = query.search.as_deref().unwrap_or("").trim().to_lowercase();
    let found = |(preset, _): &&(Preset, Settings)| {
        let text = format!("{} {}", preset.name, preset.title).to_lowercase();
        text.contains(&word)
    };
    let all: Vec<_> = team.presets.all().iter().filter(found).collect();
    let name = |(preset, _): &&(Preset, Settings)| preset.name.clone();
    let page = page_of(all, name, page);
    let presets: Vec<_> = page.items.iter().map(|(preset, _)| preset).collect();
    let devices = app.in_force.taker_counts(&team, &presets).await?;
    Ok(Json(page_with(page, |(preset, values)| {
        view(
            preset,
            values,
            devices.get(&preset.id).copied().unwrap_or(0),
        )
    })))
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

/// The devices that a preset touches, by name: a page of them.
#[utoipa::path(get, path = "/api/v1/presets/{name}/touches", params(api::NameQuery, api::Paging),
    responses((status = 200, body = api::Page<api::Touched>)))]
async fn touches(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(query): Query<api::NameQuery>,
    Query(page): Query<api::Paging>,
) -> Result<Json<api::Page<api::Touched>>, ApiError> {
    let team = app.in_force.team(&[]).await?;
    let preset = team.presets.find(&name)?.0.clone();
    Ok(Json(touched(&app, &team, &preset, &query, page).await?))
}

/// Gives a preset another name or title.
#[utoipa::path(patch, path = "/api/v1/presets/{name}", request_body = api::PresetChange,
    responses((status = 200, body = api::PresetDetail)))]
async fn rename(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(given): Given<api::PresetChange>,
) -> Result<Json<api::PresetDetail>, ApiError> {
    let preset = app.records.preset(&name).await?;
    if let Some(new) = &given.name {
        check_name("preset", new)?;
    }
    app.records
        .rename_preset(preset.id, given.name.as_deref(), given.title.as_deref())
        .await?;
    let now = given.name.unwrap_or(preset.name);
    let summary = match now == name {
        true => format!("Preset {name} has another title"),
        false => format!("Preset {name} is called {now} now"),
    };
    app.events
        .note(&operator, "preset.changed", &now, &summary)
        .await?;
    Ok(Json(detail(&app, &now).await?))
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
    let mut team = app.in_force.team(&[]).await?;
    let (preset, before) = team.presets.find(&name)?.clone();
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
            || team.presets.sealed_in(preset.id).contains(&field_name);
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
    team.suppose_presets(team.presets.suppose(preset.id, after.clone()));
    Ok(Json(detail_of(&app, &team, &preset, &after).await?))
}

/// Wi-Fi networks by name and passphrase: whose cards carry them, and on whom they are set. So a
/// passphrase can be changed without a device going dark: the new network first, the old one
/// behind it, until no card carries only that.
#[utoipa::path(get, path = "/api/v1/networks", responses((status = 200, body = Vec<api::CarriedNetwork>)))]
async fn networks(State(app): State<Arc<App>>) -> Result<Json<Vec<api::CarriedNetwork>>, ApiError> {
    let team = app.in_force.team(&[]).await?;
    let names = |some: Some20| api::Names {
        names: some.names,
        total: some.total as u64,
    };
    let (set_on, carried) = tokio::try_join!(
        app.in_force.networks_set(&team),
        app.in_force.networks_carried()
    )?;
    let unknown = names(carried.unknown.clone());
    let mut found: BTreeMap<(String, String), Some20> = BTreeMap::new();
    for one in carried.known.iter().cloned() {
        found.insert((one.name, one.fingerprint), one.devices);
    }
    for network in set_on.keys() {
        found.entry(network.clone()).or_default();
    }
    let shown = found
        .into_iter()
        .map(|(network, devices)| api::CarriedNetwork {
            set_on: names(set_on.get(&network).cloned().unwrap_or_default()),
            name: network.0,
            fingerprint: Some(network.1).filter(|text| !text.is_empty()),
            devices: names(devices),
            not_known: unknown.clone(),
        });
    Ok(Json(shown.collect()))
}

/// Another preset that sets the field for the same devices.
fn rival<'a>(team: &'a Team, preset: &Preset, field: &str) -> Option<&'a str> {
    let mut all = team.presets.all().iter();
    let found = all.find(|(other, values)| {
        other.id != preset.id && other.site == preset.site && values.contains_key(field)
    });
    found.map(|(other, _)| other.name.as_str())
}

/// The fields of all releases, those of newer ones first, without repetitions.
fn catalogue_fields(team: &Team) -> Vec<Field> {
    let mut fields: Vec<Field> = Vec::new();
    for release in &team.shelf.releases {
        let Ok(sheet) = team.shelf.sheet(release) else {
            continue;
        };
        for field in sheet.fields.iter() {
            if !fields.contains(field) {
                fields.push(field.clone());
            }
        }
    }
    fields
}

/// One page of a list that is at hand in memory, in the order of its names.
fn page_of<T>(all: Vec<T>, name: impl Fn(&T) -> String, page: api::Paging) -> api::Page<T> {
    let asked = asked(page);
    let limit = asked.limit.clamp(1, lists::MOST) as usize;
    let total = all.len() as u64;
    let after = asked.after.as_deref();
    let behind = |one: &T| after.is_none_or(|after| name(one).as_str() > after);
    let mut items: Vec<T> = all.into_iter().filter(behind).take(limit + 1).collect();
    let more = items.len() > limit;
    items.truncate(limit);
    let next = items.last().filter(|_| more).map(name);
    api::Page { items, next, total }
}

fn page_with<T, U>(page: api::Page<T>, change: impl FnMut(T) -> U) -> api::Page<U> {
    api::Page {
        items: page.items.into_iter().map(change).collect(),
        next: page.next,
        total: page.total,
    }
}

fn view(preset: &Preset, values: &Settings, devices: u64) -> api::Preset {
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
    let team = app.in_force.team(&[]).await?;
    let (preset, values) = team.presets.find(name)?;
    detail_of(app, &team, preset, values).await
}

/// A page of the devices that a preset touches; with the presets of `team`, as they are or are
/// supposed to be.
async fn touched(
    app: &App,
    team: &Team,
    preset: &Preset,
    query: &api::NameQuery,
    page: api::Paging,
) -> Result<api::Page<api::Touched>, ApiError> {
    let search = query
        .search
        .as_deref()
        .filter(|text| !text.trim().is_empty());
    let page = app
        .in_force
        .takers_page(team, preset, search, &asked(page))
        .await?;
    let ids: Vec<_> = page.items.iter().map(|taker| taker.device).collect();
    let mut asked = app.in_force.team(&ids).await?;
    asked.presets = team.presets.clone();
    let devices = app.records.devices_of(&ids).await?;
    let mut carried = app.records.carried_by(&ids).await?;
    let mut counted = Vec::new();
    for device in &devices {
        if let Some(release) = asked.shelf.followed(device) {
            let sheet = asked.shelf.sheet(release)?;
            counted.push((device, asked.alone(device, &sheet.fields)));
        }
    }
    let pairs: Vec<_> = counted
        .iter()
        .map(|(device, counted)| (*device, counted))
        .collect();
    let mut problems: HashMap<i64, Vec<String>> = HashMap::new();
    for (device, problem) in app.in_force.collisions(&asked, &pairs).await? {
        problems.entry(device).or_default().push(problem.rule);
    }
    let mut rows: HashMap<i64, api::Touched> = HashMap::new();
    for (device, counted) in counted {
        let own = counted.problems.iter().map(|one| one.rule.clone());
        let beside = problems.remove(&device.id).unwrap_or_default();
        let carried = carried.remove(&device.id);
        let stands = app
            .in_force
            .standing(&asked.shelf, device, Some(&counted), carried);
        let row = api::Touched {
            device: device.name.clone(),
            card: device.card.clone(),
            fields: Vec::new(),
            problems: own.chain(beside).collect(),
            standing: stands.standing,
            reasons: stands.reasons,
        };
        rows.insert(device.id, row);
    }
    let items = page.items.into_iter().filter_map(|taker| {
        let row = rows.remove(&taker.device)?;
        Some(api::Touched {
            fields: taker.fields,
            ..row
        })
    });
    Ok(api::Page {
        items: items.collect(),
        next: page.next,
        total: page.total as u64,
    })
}

async fn detail_of(
    app: &App,
    team: &Team,
    preset: &Preset,
    values: &Settings,
) -> Result<api::PresetDetail, ApiError> {
    let touches = touched(
        app,
        team,
        preset,
        &api::NameQuery::default(),
        api::Paging::default(),
    )
    .await?;
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
                        || team.presets.sealed_in(preset.id).contains(&field.name),
                    applies: true,
                };
                shown.push(shown::masked_setting(&field, Some(&one), &app.store.keys));
            }
            None => unset.push(shown::masked_setting(&field, None, &app.store.keys)),
        }
    }
    Ok(api::PresetDetail {
        preset: view(preset, values, touches.total),
        settings: shown,
        unset,
        touches,
    })
}
