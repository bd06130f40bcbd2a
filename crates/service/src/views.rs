//! Records as the interface shows them.

use api::{PlannedFile, Setting};
use records::{backups, cards, devices, events, imprints, jobs, releases};
use serde_json::Value;
use settings::{Effective, Field, MASK, Sheet};

use crate::error::ApiError;

fn list<T: serde::de::DeserializeOwned>(value: &Value) -> Vec<T> {
    serde_json::from_value(value.clone()).unwrap_or_default()
}

pub fn device(row: devices::Device) -> api::Device {
    api::Device {
        name: row.name,
        board: row.board,
        appliance: row.appliance,
        variant: row.variant,
        site: row.site,
        notes: row.notes,
        state: row.state,
        host_name: row.host_name,
        card: row.card,
        added_by: row.added_by,
        added_at: row.added_at,
    }
}

pub fn release(row: &releases::Release) -> api::Release {
    api::Release {
        name: row.name.clone(),
        appliance: row.appliance.clone(),
        variant: row.variant.clone(),
        version: row.version.clone(),
        dated: row.dated.clone(),
        boards: row.boards.clone(),
        state: row.state.clone(),
        source: row.source.clone(),
        packing: row.packing.clone(),
        packed_size: row.packed_size as u64,
        packed_sha256: hex::encode(&row.packed_sha256),
        raw_size: row.raw_size as u64,
        raw_sha256: hex::encode(&row.raw_sha256),
        smallest_card: row.smallest_card as u64,
        stored: row.stored as u64,
        added_by: row.added_by.clone(),
        added_at: row.added_at,
    }
}

pub fn release_detail(row: &releases::Release) -> Result<api::ReleaseDetail, ApiError> {
    let fields = sheet(row)?.fields;
    Ok(api::ReleaseDetail {
        release: release(row),
        table: row.table_kind.clone(),
        disk_id: row.disk_id.clone(),
        partitions: list(&row.partitions),
        sheet: row.sheet.clone(),
        fields: fields.iter().map(|field| setting(field, None)).collect(),
    })
}

/// The sheet that a release was recorded with; it was checked then.
pub fn sheet(row: &releases::Release) -> Result<Sheet, ApiError> {
    Sheet::parse(&row.sheet).map_err(|e| {
        ApiError::invalid(
            "bad-sheet",
            format!("the sheet of {:?} is not valid any more: {e}", row.name),
        )
    })
}

/// A field with its value, masked if it is a secret.
pub fn setting(field: &Field, value: Option<&Effective>) -> Setting {
    let word = |value: Value| value.as_str().map(str::to_owned).unwrap_or_default();
    let found = value.and_then(|value| value.value.clone());
    Setting {
        name: field.name.clone(),
        label: field.label.clone(),
        kind: serde_json::to_value(field.kind)
            .map(word)
            .unwrap_or_default(),
        help: field.help.clone(),
        required: field.required,
        secret: field.kind.is_secret(),
        value: found.map(|value| {
            if field.kind.is_secret() {
                MASK.into()
            } else {
                value
            }
        }),
        origin: value
            .and_then(|value| value.origin)
            .and_then(|origin| serde_json::to_value(origin).ok())
            .map(word),
    }
}

pub fn partitions(layout: &imagecraft::Layout) -> Vec<api::Partition> {
    let parts = layout.partitions.iter();
    parts
        .map(|part| api::Partition {
            number: part.number,
            start: part.start,
            len: part.len,
            kind: part.kind.clone(),
            name: part.name.clone(),
            file_system: part.file_system.as_ref().map(|fs| fs.kind.clone()),
            label: part.file_system.as_ref().and_then(|fs| fs.label.clone()),
        })
        .collect()
}

pub fn card(row: cards::Card, slot: Option<u32>) -> api::Card {
    api::Card {
        label: row.label,
        size: row.size as u64,
        kind: row.kind,
        state: row.state,
        device: row.device,
        slot,
        added_by: row.added_by,
        added_at: row.added_at,
    }
}

pub fn imprint(row: imprints::Imprint) -> api::Imprint {
    api::Imprint {
        id: row.id,
        card: row.card,
        device: row.device,
        base: row.base,
        from_backup: row.from_backup,
        state: row.state,
        settings: list(&row.settings),
        files: list::<PlannedFile>(&row.files),
        slot: row.slot,
        operator: row.operator,
        job: row.job_id,
        written: row.written.map(|bytes| bytes as u64),
        verified: row.verified.map(|bytes| bytes as u64),
        started_at: row.started_at,
        finished_at: row.finished_at,
    }
}

pub fn backup(row: backups::Backup) -> api::Backup {
    api::Backup {
        name: row.name,
        card: row.card,
        device: row.device,
        card_size: row.card_size as u64,
        content: row.content as u64,
        smallest_card: row.smallest_card as u64,
        stored: row.stored as u64,
        verified: row.verified,
        table: row.table_kind,
        partitions: list(&row.partitions),
        taken_by: row.taken_by,
        taken_at: row.taken_at,
    }
}

pub fn job(row: jobs::Job, progress: Option<api::Progress>) -> api::Job {
    api::Job {
        id: row.id,
        kind: row.kind,
        state: row.state,
        subject: row.subject,
        slot: row.slot,
        card: row.card,
        operator: row.operator,
        created_at: row.created_at,
        finished_at: row.finished_at,
        error_code: row.error_code,
        error: row.error,
        result: row.result,
        progress,
    }
}

pub fn event(row: events::Event) -> api::Event {
    api::Event {
        id: row.id,
        at: row.at,
        operator: row.operator,
        kind: row.kind,
        subject: row.subject,
        summary: row.summary,
    }
}
