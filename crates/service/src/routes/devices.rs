//! Devices, what is told about them, and their settings.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use records::devices::{About, Change, Device, NewDevice, Wanted};
use serde::Deserialize;
use settings::{Field, FieldKind, Grow, Network, Security};
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, asked};
use super::filters;
use crate::app::App;
use crate::error::ApiError;
use operations::in_force::{change_of, diff, growth, open_logins, planned_file, sheet_text};
use operations::names::{check_name, mac};
use operations::shown;
use operations::store::manifest_name;

/// Imprints shown with a device.
const IMPRINTS: i64 = 50;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, add))
        .routes(routes!(show, describe, remove))
        .routes(routes!(change))
        .routes(routes!(preview))
        .routes(routes!(fact, put_fact))
}

/// Devices by name, or in another order: a page of those that are asked for.
#[utoipa::path(get, path = "/api/v1/devices", params(api::DeviceQuery, api::Paging),
    responses((status = 200, body = api::Page<api::Device>)))]
async fn list(
    State(app): State<Arc<App>>,
    Query(query): Query<api::DeviceQuery>,
    Query(page): Query<api::Paging>,
) -> Result<Json<api::Page<api::Device>>, ApiError> {
    let standing: Option<api::StandingFilter> = match &query.standing {
        Some(word) => Some(word.parse().map_err(filters::unknown)?),
        None => None,
    };
    filters::check("state", query.state.as_deref(), filters::DEVICE_STATES)?;
    filters::site(&app, query.site.as_deref()).await?;
    filters::board(&app, query.board.as_deref()).await?;
    filters::appliance(&app, query.appliance.as_deref()).await?;
    let shelf = app.catalogue.shelf().await?;
    let release = |name: &Option<String>| match name {
        Some(name) => {
            let found = shelf.find(name).map(|release| release.id);
            let none = || ApiError::missing(format!("there is no release {name:?}"));
            found.map(Some).ok_or_else(none)
        }
        None => Ok(None),
    };
    let (follows, carries) = (release(&query.follows)?, release(&query.carries)?);
    let mut ids = None;
    if follows.is_some() || standing.is_some() {
        // What a device follows and how it stands is known here, not in the records.
        let fleet = app.in_force.fleet().await?;
        let wanted = fleet.devices.iter().filter(|(device, stands)| {
            let followed = || fleet.shelf.followed(device).map(|release| release.id);
            standing.is_none_or(|filter| filter.holds(stands.standing))
                && (follows.is_none() || follows == followed())
        });
        ids = Some(wanted.map(|(device, _)| device.id).collect());
    }
    let wanted = Wanted {
        search: query.search,
        state: query.state,
        site: query.site,
        board: query.board,
        appliance: query.appliance,
        carries,
        active: query.standing.is_some(),
        ids,
    };
    let page = app.records.device_page(&wanted, &asked(page)).await?;
    Ok(Json(api::Page {
        items: app.in_force.shown(page.items).await?,
        next: page.next,
        total: page.total as u64,
    }))
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
    let team = app.in_force.team(&[device.id]).await?;
    let (mut shown, mut problems) = (Vec::new(), Vec::new());
    let (mut logins, mut follows) = (Vec::new(), None);
    if let Some((release, sheet, counted)) = app.in_force.count_followed(&team, &device).await? {
        let pairs = counted.fields.iter().zip(&counted.values);
        shown = pairs
            .map(|(field, value)| shown::masked_setting(field, Some(value), &app.store.keys))
            .collect();
        logins = open_logins(&sheet, &counted.values);
        problems = problems_of(counted.problems);
        follows = Some(release.name);
    }
    let imprints = app.records.imprints(None, Some(name), IMPRINTS).await?;
    let facts = app.records.device_facts(device.id).await?;
    Ok(api::DeviceDetail {
        release: follows,
        device: app.in_force.shown_one(device).await?,
        settings: shown,
        problems,
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

/// Changes what is told about a device: notes, attached hardware, hardware addresses; its name, where it
/// stands, what it is and becomes, whether it is in use.
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
    if let Some(macs) = &macs
        && let Some((other, mac)) = app.records.mac_taken(macs, &name).await?
    {
        let detail = format!("device {name}: {other} has the hardware address {mac} too");
        return Err(ApiError::conflict("taken", detail));
    }
    if let Some(name) = &given.name {
        check_name("device", name)?;
    }
    if let Some(appliance) = &given.appliance {
        check_name("appliance", appliance)?;
    }
    if given.variant.is_some() && given.appliance.is_none() {
        return Err(wrong("a variant goes with its appliance; say both".into()));
    }
    let mut moved = device.clone();
    moved.board = given.board.clone().unwrap_or(moved.board);
    if let Some(appliance) = &given.appliance {
        (moved.appliance, moved.variant) = (appliance.clone(), given.variant.clone());
    }
    check_pin(&app, &device, &moved).await?;
    let attached = given.attached.map(|list| {
        let words = list.iter().map(|one| one.trim().to_owned());
        words.filter(|one| !one.is_empty()).collect()
    });
    let summary = change_summary(&device, &moved, &given.name, &given.site, given.retired);
    let about = About {
        notes: given.notes,
        attached,
        macs,
        name: given.name.clone(),
        site: given.site,
        board: given.board,
        appliance: given.appliance.map(|appliance| (appliance, given.variant)),
        retired: given.retired,
    };
    app.records.describe_device(device.id, &about).await?;
    let name = given.name.unwrap_or(name);
    app.events
        .note(&operator, "device.changed", &name, &summary)
        .await?;
    Ok(Json(detail(&app, &name).await?))
}

/// A device that stays with a release must still suit it as what it becomes.
async fn check_pin(app: &App, device: &Device, moved: &Device) -> Result<(), ApiError> {
    let same = (&device.board, &device.appliance, &device.variant)
        == (&moved.board, &moved.appliance, &moved.variant);
    let Some(pinned) = device.pinned_release_id.filter(|_| !same) else {
        return Ok(());
    };
    let shelf = app.catalogue.shelf().await?;
    let Some(release) = shelf.by_id(pinned) else {
        return Ok(());
    };
    let fit = shelf.fit(release, moved);
    match fit.fits {
        true => Ok(()),
        false => Err(ApiError::conflict(
            "wrong-board",
            format!(
                "{} stays with {}, which would not suit it then: {}; let it follow what is current first",
                device.name,
                release.name,
                fit.reasons.join("; ")
            ),
        )),
    }
}

/// What is changed about a device, in a sentence for the history.
fn change_summary(
    device: &Device,
    moved: &Device,
    name: &Option<String>,
    site: &Option<String>,
    retired: Option<bool>,
) -> String {
    let mut parts = Vec::new();
    if let Some(name) = name.as_ref().filter(|name| **name != device.name) {
        parts.push(format!("it is called {name} now"));
    }
    if let Some(site) = site.as_ref().filter(|site| **site != device.site) {
        parts.push(format!("it stands on {site} now, not on {}", device.site));
    }
    if moved.board != device.board {
        parts.push(format!(
            "it is a {} now, not a {}",
            moved.board, device.board
        ));
    }
    if (&moved.appliance, &moved.variant) != (&device.appliance, &device.variant) {
        parts.push(format!(
            "it becomes {} now, not {}",
            moved.appliance, device.appliance
        ));
    }
    match retired {
        Some(true) => parts.push("it is retired".into()),
        Some(false) => parts.push("it is in use again".into()),
        None => {}
    }
    match parts.is_empty() {
        true => format!("What is told about {} changed", device.name),
        false => format!("{}: {}", device.name, parts.join(", ")),
    }
}

/// Takes a device away for which nothing was ever written.
#[utoipa::path(delete, path = "/api/v1/devices/{name}", responses((status = 204)))]
async fn remove(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let device = app.records.device(&name).await?;
    app.records.remove_device(&device).await?;
    let summary = format!("Device {name} taken away; nothing was ever written for it");
    app.events
        .note(&operator, "device.removed", &name, &summary)
        .await?;
    Ok(StatusCode::NO_CONTENT)
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
    let team = app.in_force.team(&[device.id]).await?;
    let release = team.shelf.followed(&device).ok_or_else(|| {
        let detail = format!(
            "what can be set on {name} stands in the release sheet, and the catalogue has no release of {} for a {}; add one first",
            device.appliance, device.board
        );
        ApiError::conflict("no-release", detail)
    })?;
    let fields = team.shelf.sheet(release)?.fields.clone();
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
                change_of(&app.store.keys, &device, field, value, sealed)?
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
    let team = app.in_force.team(&[device.id]).await?;
    let release = match &taken.release {
        Some(release) => app.records.release(release).await?,
        None => team.shelf.followed(&device).cloned().ok_or_else(|| {
            let detail = format!("the catalogue has no release for {name} yet; add one");
            ApiError::conflict("no-release", detail)
        })?,
    };
    let sheet = team.shelf.sheet(&release)?;
    let counted = app.in_force.count(&team, &device, &sheet).await?;
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
