//! Devices and their settings.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use records::devices::{Change, NewDevice};
use settings::{FieldKind, Settings, effective};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::boards::check_name;
use super::extract::{Given, Operator};
use crate::app::App;
use crate::error::ApiError;
use crate::plans::secret_name;
use crate::views;

/// Imprints shown with a device.
const IMPRINTS: i64 = 50;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, add))
        .routes(routes!(show))
        .routes(routes!(change))
}

/// Devices by name.
#[utoipa::path(get, path = "/api/v1/devices", responses((status = 200, body = Vec<api::Device>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Device>>, ApiError> {
    Ok(Json(
        app.records
            .devices()
            .await?
            .into_iter()
            .map(views::device)
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
    app.note(
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
    let release = app.release_for(&device).await?;
    let (mut shown, mut problems) = (Vec::new(), Vec::new());
    if let Some(release) = &release {
        let fields = views::sheet(release)?.fields;
        let (values, wrong) = effective(
            &fields,
            &Settings::new(),
            &app.device_values(&device).await?,
        );
        shown = fields
            .iter()
            .zip(&values)
            .map(|(field, value)| views::setting(field, Some(value)))
            .collect();
        problems = wrong
            .into_iter()
            .map(|problem| api::SettingProblem {
                field: problem.field,
                rule: problem.rule,
            })
            .collect();
    }
    let imprints = app.records.imprints(None, Some(name), IMPRINTS).await?;
    Ok(api::DeviceDetail {
        release: release.map(|release| release.name),
        device: views::device(device),
        settings: shown,
        problems,
        imprints: imprints.into_iter().map(views::imprint).collect(),
    })
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
    let release = app.release_for(&device).await?.ok_or_else(|| {
        let detail = format!(
            "what can be set on {name} stands in the release sheet, and the catalogue has no release of {} for a {}; add one first",
            device.appliance, device.board
        );
        ApiError::conflict("no-release", detail)
    })?;
    let fields = views::sheet(&release)?.fields;
    let mut changes = Vec::new();
    for (field_name, value) in given.set {
        let field = fields
            .iter()
            .find(|field| field.name == field_name)
            .ok_or_else(|| {
                let known: Vec<_> = fields.iter().map(|field| field.name.as_str()).collect();
                let detail = format!(
                    "{} has no field {field_name:?}; it has {}",
                    release.name,
                    known.join(", ")
                );
                ApiError::invalid("unknown-field", detail)
            })?;
        let change = match value {
            None => Change::Clear,
            Some(value) => {
                field.kind.check(&value).map_err(|why| {
                    ApiError::invalid(
                        "bad-value",
                        format!("device {name}, {}: {why}", field.label),
                    )
                })?;
                match field.kind {
                    FieldKind::HostName => Change::HostName(value),
                    kind if kind.is_secret() => Change::Sealed(
                        app.keys
                            .seal_secret(&secret_name(device.id, &field_name), &value)?,
                    ),
                    _ => Change::Plain(value),
                }
            }
        };
        changes.push((field_name, change));
    }
    app.records
        .change_settings(&device, &changes, &operator)
        .await?;
    let names: Vec<_> = changes.iter().map(|(field, _)| field.as_str()).collect();
    let summary = format!("Settings of {name} changed: {}", names.join(", "));
    app.note(&operator, "device.changed", &name, &summary)
        .await?;
    Ok(Json(detail(&app, &name).await?))
}
