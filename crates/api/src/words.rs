//! Sizes as people say them, the same wherever they are told.

/// Bytes in decimal units, as printed on cards.
pub fn size(bytes: u64) -> String {
    let value = bytes as f64;
    match bytes {
        1_000_000_000.. => format!("{:.2} GB", value / 1e9),
        1_000_000.. => format!("{:.1} MB", value / 1e6),
        1_000.. => format!("{:.1} kB", value / 1e3),
        _ => format!("{bytes} B"),
    }
}

/// Bytes in decimal units with the exact number behind.
pub fn exact(bytes: u64) -> String {
    format!("{} ({bytes} bytes)", size(bytes))
}
