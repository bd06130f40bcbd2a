//! File names: what FAT can hold, the short form, the long form.

use super::FatError;

/// UTF-16 units in one entry of a long name.
pub const UNITS: usize = 13;

/// The names in an absolute or relative path, refused where FAT could not hold one of them.
pub fn split(path: &str) -> Result<Vec<&str>, FatError> {
    let wrong = || FatError::Path(path.into());
    let parts: Vec<_> = path.split('/').filter(|name| !name.is_empty()).collect();
    let bad = |name: &&str| {
        matches!(*name, "." | "..")
            || name.encode_utf16().count() > 255
            || name.ends_with(['.', ' '])
            || name
                .chars()
                .any(|c| c.is_control() || "\"*:<>?\\|".contains(c))
    };
    if parts.is_empty() || path.ends_with('/') || parts.iter().any(bad) {
        return Err(wrong());
    }
    Ok(parts)
}

/// Whether a byte may stand in a short name.
fn is_short(byte: u8) -> bool {
    byte.is_ascii_uppercase() || byte.is_ascii_digit() || b"!#$%&'()-@^_`{}~".contains(&byte)
}

/// Base and ending of a name, without the dot between them.
fn halves(name: &str) -> (&str, &str) {
    match name.rfind('.') {
        Some(dot) if dot > 0 => (&name[..dot], &name[dot.saturating_add(1)..]),
        _ => (name, ""),
    }
}

/// The eleven bytes of a short name, padded.
fn pack(base: &[u8], ending: &[u8]) -> [u8; 11] {
    let mut short = [b' '; 11];
    short[..base.len()].copy_from_slice(base);
    short[8..ending.len().saturating_add(8)].copy_from_slice(ending);
    short
}

/// A short name for `name` that is not yet `taken`, and whether a long name must go with it.
/// `None` when every candidate is taken.
pub fn shorten(name: &str, taken: impl Fn(&[u8; 11]) -> bool) -> Option<([u8; 11], bool)> {
    let (base, ending) = halves(name);
    let clean = |text: &str| -> Vec<u8> {
        let upper = text.to_ascii_uppercase();
        let kept = upper.chars().filter(|c| *c != ' ' && *c != '.');
        kept.map(|c| {
            u8::try_from(c)
                .ok()
                .filter(|byte| is_short(*byte))
                .unwrap_or(b'_')
        })
        .collect()
    };
    let (short_base, short_ending) = (clean(base), clean(ending));
    let upper = name.to_ascii_uppercase();
    let fits = (1..=8).contains(&short_base.len())
        && short_ending.len() <= 3
        && upper.as_bytes() == plain(&pack_if_fits(&short_base, &short_ending)).as_bytes();
    if fits {
        let short = pack(&short_base, &short_ending);
        if !taken(&short) {
            return Some((short, upper != name));
        }
    }
    let ending = &short_ending[..short_ending.len().min(3)];
    (1..100_000u32).find_map(|number| {
        let tail = format!("~{number}");
        let room = 8_usize.saturating_sub(tail.len()).min(short_base.len());
        let base = [&short_base[..room], tail.as_bytes()].concat();
        let short = pack(&base, ending);
        (!taken(&short)).then_some((short, true))
    })
}

/// [`pack`], cut where a half is too long to fit.
fn pack_if_fits(base: &[u8], ending: &[u8]) -> [u8; 11] {
    pack(&base[..base.len().min(8)], &ending[..ending.len().min(3)])
}

/// A short name as people read it.
pub fn plain(short: &[u8; 11]) -> String {
    let half = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim_end().to_owned();
    let (base, ending) = (half(&short[..8]), half(&short[8..]));
    if ending.is_empty() {
        base
    } else {
        format!("{base}.{ending}")
    }
}

/// A short name in the case that its record says: bit 3 of byte 12 stands for a base in small letters,
/// bit 4 for such an ending. Systems that know of them write no long name then.
pub fn cased(short: &[u8; 11], bits: u8) -> String {
    let whole = plain(short);
    let (base, ending) = halves(&whole);
    let half = |text: &str, small: bool| match small {
        true => text.to_ascii_lowercase(),
        false => text.to_owned(),
    };
    let (base, ending) = (half(base, bits & 0x08 != 0), half(ending, bits & 0x10 != 0));
    match ending.is_empty() {
        true => base,
        false => format!("{base}.{ending}"),
    }
}

/// The checksum that ties the entries of a long name to their short one.
pub fn checksum(short: &[u8; 11]) -> u8 {
    short
        .iter()
        .fold(0u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_names_keep_what_fits_and_number_the_rest() {
        let free = |_: &[u8; 11]| false;
        for (name, short, long) in [
            ("README.TXT", b"README  TXT", false),
            ("network.txt", b"NETWORK TXT", true),
            ("network.toml", b"NETWOR~1TOM", true),
            ("a b.c.d", b"ABC~1   D  ", true),
            (".hidden", b"HIDDEN~1   ", true),
            ("\u{e9}t\u{e9}.cfg", b"_T_~1   CFG", true),
        ] {
            let found = shorten(name, free).unwrap();
            assert_eq!(
                (String::from_utf8_lossy(&found.0), found.1),
                (String::from_utf8_lossy(short), long),
                "{name}"
            );
        }
        let second = shorten("network.toml", |short| short == b"NETWOR~1TOM").unwrap();
        assert_eq!(&second.0, b"NETWOR~2TOM");
    }

    #[test]
    fn a_record_says_the_case_of_its_name() {
        for (short, bits, name) in [
            (b"CONFIG  TXT", 0, "CONFIG.TXT"),
            (b"CONFIG  TXT", 0x08, "config.TXT"),
            (b"CONFIG  TXT", 0x10, "CONFIG.txt"),
            (b"CONFIG  TXT", 0x18, "config.txt"),
            (b"KERNEL     ", 0x18, "kernel"),
            (b"A       B  ", 0xe7, "A.B"),
        ] {
            assert_eq!(cased(short, bits), name);
        }
    }
}
