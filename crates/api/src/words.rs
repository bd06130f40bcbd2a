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
    match bytes {
        1_000.. => format!("{} ({bytes} bytes)", size(bytes)),
        _ => format!("{bytes} bytes"),
    }
}

/// How many there are of something: `1 row`, `2 rows`.
pub fn counted(number: u64, noun: &str) -> String {
    match number {
        1 => format!("1 {noun}"),
        _ => format!("{number} {noun}s"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_decimal_as_printed_on_cards() {
        let told = [0, 999, 1_000, 3_103_720, 31_914_983_424].map(size);
        assert_eq!(told, ["0 B", "999 B", "1.0 kB", "3.1 MB", "31.91 GB"]);
        assert_eq!(exact(31_914_983_424), "31.91 GB (31914983424 bytes)");
        assert_eq!(exact(400), "400 bytes");
    }
}
