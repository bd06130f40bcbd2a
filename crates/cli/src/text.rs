//! How things are said on a terminal.

pub use api::words::{exact, size};
use comfy_table::{Cell, CellAlignment, Table, presets};
use time::OffsetDateTime;
use time::macros::format_description;

/// A moment, in UTC.
pub fn moment(at: OffsetDateTime) -> String {
    let form = format_description!("[year]-[month]-[day] [hour]:[minute] UTC");
    at.to_offset(time::UtcOffset::UTC)
        .format(&form)
        .unwrap_or_default()
}

/// A span in seconds.
pub fn span(seconds: f64) -> String {
    let whole = seconds.ceil() as u64;
    match whole {
        0..60 => format!("{whole} s"),
        60..3600 => format!("{}:{:02} min", whole / 60, whole % 60),
        _ => format!("{}:{:02} h", whole / 3600, whole % 3600 / 60),
    }
}

/// A value, or a dash.
pub fn or_dash(value: &Option<String>) -> String {
    value.clone().unwrap_or("-".into())
}

/// Prints rows in columns; columns named in `numbers` stand to the right.
pub fn table<const N: usize>(
    head: [&str; N],
    numbers: &[usize],
    rows: impl Iterator<Item = [String; N]>,
) {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    let mut any = false;
    let cell = |(at, text): (usize, String)| match numbers.contains(&at) {
        true => Cell::new(text).set_alignment(CellAlignment::Right),
        false => Cell::new(text),
    };
    table.set_header(
        head.map(str::to_uppercase)
            .into_iter()
            .enumerate()
            .map(cell)
            .collect::<Vec<_>>(),
    );
    for row in rows {
        any = true;
        table.add_row(row.into_iter().enumerate().map(cell).collect::<Vec<_>>());
    }
    if any {
        println!("{}", table.trim_fmt());
    } else {
        println!("none");
    }
}

/// What came of a job.
pub fn closing(job: &api::Job) {
    for sentence in &job.closing {
        println!("{sentence}");
    }
}

/// A text under a heading, indented.
pub fn block(heading: &str, text: &str) {
    println!("{heading}");
    for line in text.lines() {
        println!("    {line}");
    }
}

/// One setting with its origin.
pub fn setting(one: &api::Setting) {
    let value = one
        .value
        .as_deref()
        .unwrap_or("not set")
        .replace('\n', ", ");
    let origin = match (&one.preset, &one.origin) {
        (Some(preset), _) => format!("  (preset {preset})"),
        (None, Some(origin)) => format!("  ({origin})"),
        (None, None) => String::new(),
    };
    println!("  {:<16} {value}{origin}", one.name);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_and_spans_read_as_people_say_them() {
        assert_eq!(size(15_931_539_456), "15.93 GB");
        assert_eq!(size(999), "999 B");
        assert_eq!(exact(1500), "1.5 kB (1500 bytes)");
        assert_eq!(span(4.2), "5 s");
        assert_eq!(span(75.0), "1:15 min");
        assert_eq!(span(3700.0), "1:01 h");
    }
}
