//! One release, as people read it.

use api::{Partition, ReleaseDetail};

use crate::text;

/// Columns of the drawn disk.
const COLUMNS: u64 = 64;

pub fn show(detail: &ReleaseDetail) {
    let release = &detail.release;
    let line = |what: &str, value: &str| println!("  {what:<14} {value}");
    println!("{}  ({})", release.name, release.state);
    if let Some(state) = detail
        .states
        .first()
        .filter(|state| !state.reason.is_empty())
    {
        line(
            "because",
            &format!(
                "{} ({}, {})",
                state.reason,
                state.operator,
                text::moment(state.at)
            ),
        );
    }
    line("date", &text::or_dash(&release.dated));
    line("suits", &release.boards.join(", "));
    if !detail.inspection.architectures.is_empty() {
        line("architecture", &detail.inspection.architectures.join(", "));
    }
    if !detail.inspection.boot.is_empty() {
        line("boots by", &detail.inspection.boot.join(", "));
    }
    if !release.current_for.is_empty() {
        line("current on", &release.current_for.join(", "));
    }
    let origin = &detail.origin;
    let from = if origin.from.is_empty() {
        &release.source
    } else {
        &origin.from
    };
    line("from", &format!("{from} ({})", release.packing));
    if let Some(member) = &origin.member {
        line("of the archive", member);
    }
    line("packed", &text::exact(release.packed_size));
    line("packed SHA-256", &release.packed_sha256);
    line("raw", &text::exact(release.raw_size));
    line("raw SHA-256", &release.raw_sha256);
    match (&origin.published_sha256, &origin.compared_with) {
        (Some(_), Some(what)) => line(
            "checked",
            &format!("the published SHA-256 is that of the {what} file"),
        ),
        _ => line("checked", "no published SHA-256 was given"),
    }
    if !origin.same_as.is_empty() {
        line("same content as", &origin.same_as.join(", "));
    }
    line("in use", &text::exact(release.content));
    line("smallest card", &text::exact(release.smallest_card));
    if let Some(declared) = detail
        .declared_card
        .filter(|declared| *declared != detail.computed_card)
    {
        line(
            "",
            &format!(
                "the image needs {}, its sheet says {}; the larger counts",
                text::size(detail.computed_card),
                text::size(declared)
            ),
        );
    }
    if let Some(advised) = detail.advised_card {
        line("advised card", &text::size(advised));
    }
    if let Some(shrunk) = detail.shrunk_card {
        line("if shrunk", &format!("{} would do", text::size(shrunk)));
    }
    line(
        "in the vault",
        &format!("{} new", text::exact(release.stored)),
    );
    if detail.kept {
        line("original", "the packed file is kept");
    }
    line(
        "added",
        &format!("{} by {}", text::moment(release.added_at), release.added_by),
    );
    line("table", &format!("{} {}", detail.table, detail.disk_id));
    println!("  {}", drawn(detail));
    partitions(&detail.partitions);
    for finding in &detail.inspection.findings {
        line(&finding.severity, &finding.text);
    }
    facts(detail);
    let fields: Vec<_> = detail
        .fields
        .iter()
        .map(|field| field.name.as_str())
        .collect();
    line(
        "fields",
        &if fields.is_empty() {
            "none".into()
        } else {
            fields.join(", ")
        },
    );
    for seen in &detail.evidence {
        let words = if seen.boots { "boots" } else { "did not boot" };
        line(
            "noted",
            &format!(
                "{words} on {}, {} by {}  {}",
                seen.board,
                text::moment(seen.at),
                seen.operator,
                seen.note
            ),
        );
    }
    for carrier in &detail.carriers {
        line(
            "carried by",
            &match &carrier.device {
                Some(device) => format!("{device} on card {}", carrier.card),
                None => format!("card {}, of no device", carrier.card),
            },
        );
    }
}

/// What the sheet tells people.
fn facts(detail: &ReleaseDetail) {
    let line = |what: &str, value: &str| println!("  {what:<14} {value}");
    if let Some(notes) = &detail.notes {
        line("notes", notes);
    }
    if let Some(licence) = &detail.licence {
        line("licence", licence);
    }
    for link in &detail.links {
        line("guide", &format!("{}  {}", link.title, link.url));
    }
    for login in &detail.logins {
        let password = login.password.as_deref().unwrap_or("set at first use");
        let at = login
            .at
            .as_ref()
            .map(|at| format!(" ({at})"))
            .unwrap_or_default();
        line("default login", &format!("{} / {password}{at}", login.user));
    }
    let boot = &detail.first_boot;
    let mut first = Vec::new();
    first.extend(boot.minutes.map(|minutes| format!("{minutes} minutes")));
    first.extend(
        boot.page
            .as_ref()
            .map(|page| format!("then {page} answers")),
    );
    first.extend(boot.internet.then(|| "needs the internet".to_owned()));
    if !first.is_empty() {
        line("first boot", &first.join(", "));
    }
    for (number, step) in (1..).zip(&boot.steps) {
        line(&format!("step {number}"), step);
    }
    line("sheet", &format!("text {}", detail.sheet_revision));
}

/// The disk as one line: partitions by number, used darker than free, gaps as dots.
fn drawn(detail: &ReleaseDetail) -> String {
    let whole = detail.release.raw_size.max(1);
    let column = |byte: u64| (u128::from(byte) * u128::from(COLUMNS) / u128::from(whole)) as usize;
    let mut cells = vec!['·'; COLUMNS as usize];
    for part in &detail.partitions {
        let (from, to) = (
            column(part.start),
            column(part.start.saturating_add(part.len)).min(cells.len()),
        );
        if from >= to {
            continue;
        }
        let used = part.used.map_or(part.len, |used| used.min(part.len));
        let filled =
            from + (((to - from) as u64 * used).div_ceil(part.len.max(1)) as usize).min(to - from);
        cells[from..filled].fill('█');
        cells[filled..to].fill('░');
        if let Some(digit) = char::from_digit(part.number % 10, 10) {
            cells[from] = digit;
        }
    }
    format!("[{}]", cells.into_iter().collect::<String>())
}

/// Partitions, one a line.
pub fn partitions(partitions: &[Partition]) {
    for part in partitions {
        let used = part
            .used
            .map(|used| format!(", {} in use", text::size(used)))
            .unwrap_or_default();
        println!(
            "  partition {}    {} at byte {}{used}, {}, {} {}",
            part.number,
            text::size(part.len),
            part.start,
            part.kind,
            part.file_system
                .as_deref()
                .unwrap_or("no known file system"),
            part.label.as_deref().unwrap_or("")
        );
    }
}
