//! Records as the interface shows them.

use api::SlotName;
use api::words::exact;
use api::{PlannedFile, Setting};
use imagecraft::compare::{Differences, FileChangeKind};
use records::{arrivals, backups, cards, checks, events, imprints, jobs, outages, releases};
use serde_json::Value;
use settings::{Effective, Field, FieldKind, MASK, Sheet, parse_networks};
use vault::Keys;

use crate::backups::health;
use crate::refusal::Refusal;

/// What a column of JSON holds, or nothing.
pub fn list<T: serde::de::DeserializeOwned>(value: &Value) -> Vec<T> {
    serde_json::from_value(value.clone()).unwrap_or_default()
}

/// A card that carries a release.
pub fn carrier(row: releases::Carrier) -> api::Carrier {
    api::Carrier {
        device: row.device,
        carried: row.carried,
        card: row.card,
        imprint: row.imprint,
        written_at: row.written_at,
    }
}

/// One page of a list.
pub fn page<T, U>(page: records::lists::Page<T>, change: impl FnMut(T) -> U) -> api::Page<U> {
    let page = page.map(change);
    api::Page {
        items: page.items,
        next: page.next,
        total: page.total as u64,
    }
}

/// What was found in the image of a release beside its partitions.
pub fn inspection_of(row: &releases::Release) -> api::Inspection {
    serde_json::from_value(row.inspection.clone()).unwrap_or_default()
}

/// What was found in an image.
pub fn inspection(seen: &imagecraft::inspect::Inspection) -> api::Inspection {
    api::Inspection {
        architectures: seen.architectures.clone(),
        boot: seen.boot.clone(),
        grower: seen.grower.clone(),
        behind: seen.behind,
        gaps: seen
            .gaps
            .iter()
            .map(|gap| api::Gap {
                start: gap.start,
                len: gap.len,
            })
            .collect(),
        findings: seen
            .findings
            .iter()
            .map(|finding| api::Finding {
                severity: finding.severity.name().into(),
                code: finding.code.clone(),
                text: finding.text.clone(),
            })
            .collect(),
    }
}

/// Where a release is current.
pub fn current(row: &releases::Current) -> api::Current {
    api::Current {
        appliance: row.appliance.clone(),
        variant: (!row.variant.is_empty()).then(|| row.variant.clone()),
        board: row.board.clone(),
        release: row.release.clone(),
        operator: row.operator.clone(),
        from_at: row.from_at,
        until_at: row.until_at,
    }
}

/// The sheet that a release was recorded with; it was checked then.
pub fn sheet(row: &releases::Release) -> Result<Sheet, Refusal> {
    Sheet::parse(&row.sheet).map_err(|e| {
        Refusal::invalid(
            "bad-sheet",
            format!("the sheet of {:?} is not valid any more: {e}", row.name),
        )
    })
}

/// A field with its value, the words of `secret` in place of each secret.
pub fn setting(
    field: &Field,
    value: Option<&Effective>,
    keys: &Keys,
    secret: &dyn Fn(&str) -> String,
) -> Setting {
    let word = |value: Value| value.as_str().map(str::to_owned).unwrap_or_default();
    let plain = value.and_then(|value| value.value.as_deref());
    let networks = match field.kind {
        FieldKind::Networks => plain.and_then(|value| parse_networks(value).ok()),
        _ => None,
    };
    Setting {
        name: field.name.clone(),
        label: field.label.clone(),
        kind: serde_json::to_value(field.kind)
            .map(word)
            .unwrap_or_default(),
        help: field.help.clone(),
        required: field.required,
        secret: value.map_or(field.kind.is_secret(), |value| value.secret),
        value: value.and_then(|value| value.shown(secret)),
        origin: value
            .and_then(|value| value.origin)
            .and_then(|origin| serde_json::to_value(origin).ok())
            .map(word),
        preset: value.and_then(|value| value.preset.clone()),
        applies: value.is_none_or(|value| value.applies),
        choices: field.choices.clone(),
        networks: networks
            .unwrap_or_default()
            .into_iter()
            .map(|network| api::SetNetwork {
                fingerprint: network
                    .passphrase
                    .as_deref()
                    .map(|one| keys.fingerprint(one)),
                security: network.security.word().into(),
                name: network.name,
                hidden: network.hidden,
            })
            .collect(),
    }
}

/// The same with dots for secrets.
pub fn masked_setting(field: &Field, value: Option<&Effective>, keys: &Keys) -> Setting {
    setting(field, value, keys, &|_| MASK.into())
}

fn partition(part: &imagecraft::Partition) -> api::Partition {
    let fs = part.file_system.as_ref();
    api::Partition {
        number: part.number,
        start: part.start,
        len: part.len,
        kind: part.kind.clone(),
        name: part.name.clone(),
        file_system: fs.map(|fs| fs.kind.clone()),
        label: fs.and_then(|fs| fs.label.clone()),
        uuid: part.uuid.clone(),
        fs_uuid: fs.and_then(|fs| fs.uuid.clone()),
        used: None,
        free: None,
    }
}

/// The partitions of a disk.
pub fn partitions(layout: &imagecraft::Layout) -> Vec<api::Partition> {
    layout.partitions.iter().map(partition).collect()
}

/// Partitions with how full they are.
pub fn filled_partitions(filled: &[imagecraft::inspect::Filled]) -> Vec<api::Partition> {
    filled
        .iter()
        .map(|filled| api::Partition {
            used: filled.used,
            free: filled.free,
            ..partition(&filled.partition)
        })
        .collect()
}

/// A slot as it was recorded.
pub fn slot(text: &str) -> SlotName {
    text.parse().unwrap_or_default()
}

/// A card, and the slot that it is in.
pub fn card(row: cards::Card, shown_in: Option<(SlotName, String)>) -> api::Card {
    let (slot, shows) = shown_in.unzip();
    api::Card {
        shows,
        label: row.label,
        size: row.size as u64,
        kind: row.kind,
        state: row.state,
        device: row.device,
        slot,
        notes: row.notes,
        brand: row.brand,
        seller: row.seller,
        batch: row.batch,
        price: row.price,
        suspicion: row.suspicion,
        verdict: row.verdict,
        added_by: row.added_by,
        added_at: row.added_at,
    }
}

/// A check of a card.
pub fn check(row: checks::Check) -> api::Check {
    let words = match row.verdict.as_deref() {
        None if row.finished_at.is_none() => "it has not ended".into(),
        None => "it came to no verdict".into(),
        Some(verdict) => verdict_words(verdict, row.least, row.most, &row.report),
    };
    api::Check {
        job: row.job_id,
        kind: row.kind,
        words,
        verdict: row.verdict,
        least: row.least.map(|bytes| bytes as u64),
        most: row.most.map(|bytes| bytes as u64),
        operator: row.operator,
        started_at: row.started_at,
        finished_at: row.finished_at,
    }
}

/// What a verdict means.
fn verdict_words(verdict: &str, least: Option<i64>, most: Option<i64>, report: &Value) -> String {
    let size = |bytes: i64| exact(bytes as u64);
    match verdict {
        "proven" => "Every byte was written and read back: it holds what it says.".into(),
        "no sign" => "No sign of forgery or of a fault was found; that proves nothing.".into(),
        "forged" => match (least, most) {
            (Some(least), Some(most)) if least == most => {
                format!("It is forged: its true size is {}.", size(least))
            }
            (Some(least), Some(most)) => format!(
                "It is forged: its true size is between {} and {}.",
                size(least),
                size(most)
            ),
            _ => "It is forged.".into(),
        },
        "bad" => {
            let first = report["regions"][0]["start"].as_u64();
            format!(
                "It is bad: {} were not kept{}.",
                exact(report["wrong"].as_u64().unwrap_or(0)),
                first.map_or(String::new(), |at| format!(", the first at byte {at}"))
            )
        }
        _ => format!(
            "It was stopped; nothing wrong was found in {} until then.",
            exact(report["right"].as_u64().unwrap_or(0))
        ),
    }
}

/// How fast a card was.
pub fn speeds((job, kind, curves): (i64, String, Value)) -> Vec<api::Speed> {
    let curves = list::<cardwork::Curve>(&curves).into_iter();
    curves
        .map(|curve| api::Speed {
            job,
            kind: kind.clone(),
            stage: curve.stage,
            points: curve.points,
        })
        .collect()
}

/// A time in which a device was down.
pub fn outage(row: outages::Outage) -> api::Outage {
    api::Outage {
        device: row.device,
        card: row.card,
        reason: row.reason,
        operator: row.operator,
        since: row.since,
        ended_at: row.ended_at,
        ended_by: row.ended_by,
        ended_how: row.ended_how,
    }
}

/// What was seen of a device in service.
pub fn watched(row: arrivals::Watched) -> api::Watched {
    api::Watched {
        device: row.device,
        address: row.address,
        version: row.version,
        host_key: row.host_key,
        certificate: row.certificate,
        certificate_until: row.certificate_until,
        seen_at: row.seen_at,
        silent_since: row.silent_since,
    }
}

/// Cards of one brand and batch.
pub fn lot(row: cards::Lot) -> api::CardLot {
    let count = |number: i64| number as u64;
    api::CardLot {
        brand: row.brand,
        batch: row.batch,
        cards: count(row.cards),
        written: count(row.written),
        mistrusted: count(row.mistrusted),
        bad: count(row.bad),
        proven: count(row.proven),
        gone: count(row.gone),
        write_rate: row.write_rate,
        read_rate: row.read_rate,
    }
}

/// What was seen of a card or device.
pub fn fault(row: outages::Fault) -> api::Fault {
    api::Fault {
        card: row.card,
        device: row.device,
        symptom: row.symptom,
        operator: row.operator,
        at: row.at,
        lamps: None,
    }
}

/// Settings as an imprint keeps them.
pub fn settings_of(recorded: &Value) -> Vec<Setting> {
    list(recorded)
}

/// An imprint.
pub fn imprint(row: imprints::Imprint) -> api::Imprint {
    api::Imprint {
        id: row.id,
        card: row.card,
        device: row.device,
        base: row.base,
        from_backup: row.from_backup,
        override_reason: row.override_reason,
        accepted: row.accepted,
        growth: row.growth,
        left_out: row.left_out,
        left_as: row.left_as,
        size_proven: row.size_proven,
        settings_known: row.settings_known,
        state: row.state,
        settings: list(&row.settings),
        files: list::<PlannedFile>(&row.files),
        slot: self::slot(&row.slot),
        operator: row.operator,
        job: row.job_id,
        written: row.written.map(|bytes| bytes as u64),
        verified: row.verified.map(|bytes| bytes as u64),
        started_at: row.started_at,
        finished_at: row.finished_at,
    }
}

/// What two disks differ in beside their files.
pub fn fact_differences(found: &Differences) -> Vec<api::Difference> {
    let facts = found.facts.iter().map(|fact| api::Difference {
        what: fact.what.clone(),
        a: fact.before.clone(),
        b: fact.after.clone(),
    });
    facts.collect()
}

/// Files that differ, the first `most` of them.
pub fn file_differences(found: &Differences, most: usize) -> Vec<api::FileDifference> {
    let files = found.files.iter().take(most);
    files
        .map(|file| api::FileDifference {
            partition: file.partition,
            path: file.path.clone(),
            change: file.kind.name().into(),
            a_len: file.before,
            b_len: file.after,
            expected: file.path.strip_prefix('/') == Some(imagecraft::STAMP_PATH),
        })
        .collect()
}

/// How many files differ, and how.
pub fn file_counts(found: &Differences) -> api::FileCounts {
    let of_kind = |kind| found.files.iter().filter(|file| file.kind == kind).count() as u64;
    let (new, gone) = (of_kind(FileChangeKind::New), of_kind(FileChangeKind::Gone));
    api::FileCounts {
        new,
        gone,
        changed: found.files.len() as u64 - new - gone,
        same: found.same,
    }
}

/// Levels of proofs, the lowest first.
pub const LEVELS: [&str; 4] = ["bytes", "file-systems", "files", "boots"];
/// A proof counts for so long.
const PROVEN_FOR: time::Duration = time::Duration::days(90);

/// The highest level of which the newest proof holds and is not too old, with all below it.
fn proven(proofs: &Value) -> Option<String> {
    let proofs: Vec<api::Proof> = list(proofs);
    let now = time::OffsetDateTime::now_utc();
    let holds = |level: &&&str| {
        let proof = proofs.iter().find(|proof| proof.level == ***level);
        proof.is_some_and(|proof| proof.holds && now - proof.at < PROVEN_FOR)
    };
    let reached = LEVELS.iter().take_while(holds).last();
    reached.map(|level| (*level).to_owned())
}

/// A backup.
pub fn backup(row: backups::Backup) -> api::Backup {
    let known = health::of(&row);
    // What cannot be read any more was proven once.
    let proven = match known.health {
        api::BackupHealth::Damaged => None,
        _ => proven(&row.proofs),
    };
    api::Backup {
        name: row.name,
        proven,
        health: known.health,
        health_words: known.words,
        proofs: list(&row.proofs),
        card: row.card,
        device: row.device,
        reason: row.reason,
        pinned: row.pinned,
        gone_at: row.gone_at,
        gone_why: row.gone_why.map(|why| match row.gone_by {
            Some(by) => format!("{why}, {by}"),
            None => why,
        }),
        card_size: row.card_size as u64,
        content: row.content as u64,
        smallest_card: row.smallest_card as u64,
        whole_card: row.whole_card as u64,
        remarks: list(&row.remarks),
        stored: row.stored as u64,
        verified: row.verified,
        table: row.table_kind,
        partitions: list(&row.partitions),
        taken_by: row.taken_by,
        taken_at: row.taken_at,
    }
}

/// A job; `progress` is there while its thread is. What it did is recorded together with its end, and
/// its slot is free a moment later: until then it is under way.
pub fn job(mut row: jobs::Job, progress: Option<api::Progress>) -> api::Job {
    if progress.is_some() && row.state != "waiting" {
        row.state = "running".into();
        (row.finished_at, row.error_code, row.error, row.result) = (None, None, None, None);
    }
    let kind = row.kind.clone();
    api::Job {
        closing: match row.state.as_str() {
            "done" => closing(&row.kind, row.result.as_ref().unwrap_or(&Value::Null)),
            _ => Vec::new(),
        },
        id: row.id,
        kind: row.kind,
        state: row.state,
        subject: row.subject,
        slot: row.slot.as_deref().map(slot),
        reader: row.reader,
        unit: row.unit,
        card: row.card,
        operator: row.operator,
        created_at: row.created_at,
        started_at: row.started_at,
        finished_at: row.finished_at,
        speeds: row
            .speeds
            .map_or_else(Vec::new, |curves| speeds((row.id, kind, curves))),
        error_code: row.error_code,
        error: row.error,
        result: row.result,
        progress,
    }
}

/// What a job that is done came to, a sentence each.
fn closing(kind: &str, result: &Value) -> Vec<String> {
    let text = |key: &str| result[key].as_str().unwrap_or_default();
    let number = |key: &str| result[key].as_u64().unwrap_or(0);
    let size = |key: &str| exact(number(key));
    let safe = format!("Card {} is safe to pull.", text("card"));
    match kind {
        "write" | "restore" => vec![
            format!("Written: {}.", size("written")),
            format!("Verified: {} read back and found equal.", size("verified")),
            format!(
                "Recorded as imprint {} on card {}.",
                number("imprint"),
                text("card")
            ),
            safe,
        ],
        "check" => {
            let verdict = verdict_words(
                text("verdict"),
                result["least"].as_i64(),
                result["most"].as_i64(),
                &result["report"],
            );
            let kept = result["before"]["kept"].as_str().map(|why| {
                format!(
                    "What was on it is not all on it now ({why}): it is kept here, and a card that takes it gets it back \
                     (duplicarium card put-back)."
                )
            });
            [vec![verdict], kept.into_iter().collect(), vec![safe]].concat()
        }
        "clear" => vec![
            format!("Written and read back: {}.", size("verified")),
            safe,
        ],
        "put back" => vec!["What was on the card is on it again.".into(), safe],
        "backup" => {
            let taken = match result["verified"] == true {
                true => format!(
                    "{} is in the vault, which gives back what the card holds.",
                    text("backup")
                ),
                false => format!("{} is in the vault; it was not verified.", text("backup")),
            };
            let remarks: Vec<String> = list(&result["remarks"]);
            [vec![taken], remarks, vec![safe]].concat()
        }
        _ => Vec::new(),
    }
}

/// An event.
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
