//! Versions in the order that people expect: 1.9 before 1.10, days as days, `-rc1` before the
//! real one, a suffix such as `b` or `-2` behind it.

use std::cmp::Ordering;

/// A part of a version, in the order in which parts of one place sort.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Part<'a> {
    /// A word that says "not yet", by how early.
    Before(u8),
    /// Nothing follows.
    End,
    /// Any other word.
    Word(&'a str),
    /// Digits behind a hyphen, such as the count of a repeated build; without leading zeros, so
    /// that more digits are more.
    Revision(usize, &'a str),
    /// Other digits, without leading zeros.
    Number(usize, &'a str),
}

fn part(text: &str, behind_hyphen: bool) -> Part<'_> {
    if text.starts_with(|c: char| c.is_ascii_digit()) {
        let digits = text.trim_start_matches('0');
        return match behind_hyphen {
            true => Part::Revision(digits.len(), digits),
            false => Part::Number(digits.len(), digits),
        };
    }
    match text {
        "dev" | "snapshot" | "nightly" => Part::Before(0),
        "alpha" => Part::Before(1),
        "beta" => Part::Before(2),
        "pre" | "preview" | "test" => Part::Before(3),
        "rc" | "candidate" => Part::Before(4),
        _ => Part::Word(text),
    }
}

/// Runs of digits and of other letters; separators only separate.
fn parts(version: &str) -> Vec<Part<'_>> {
    let mut found = Vec::new();
    let version = match version.strip_prefix('v') {
        Some(rest) if rest.starts_with(|c: char| c.is_ascii_digit()) => rest,
        _ => version,
    };
    let mut behind_hyphen = false;
    for run in version.split_inclusive(['.', '-', '_', '+', '~', ' ']) {
        let mut rest = run.trim_end_matches(['.', '-', '_', '+', '~', ' ']);
        while let Some(first) = rest.chars().next() {
            let digits = first.is_ascii_digit();
            let end = rest
                .find(|c: char| c.is_ascii_digit() != digits)
                .unwrap_or(rest.len());
            found.push(part(&rest[..end], behind_hyphen));
            behind_hyphen = false;
            rest = &rest[end..];
        }
        behind_hyphen = run.ends_with('-');
    }
    found
}

/// Which of two versions is the newer one.
pub fn compare_versions(a: &str, b: &str) -> Ordering {
    let (lower_a, lower_b) = (a.to_lowercase(), b.to_lowercase());
    let (mut a, mut b) = (parts(&lower_a).into_iter(), parts(&lower_b).into_iter());
    loop {
        let (one, two) = (a.next(), b.next());
        if one.is_none() && two.is_none() {
            return Ordering::Equal;
        }
        match one.unwrap_or(Part::End).cmp(&two.unwrap_or(Part::End)) {
            Ordering::Equal => {}
            order => return order,
        }
    }
}

/// Endings that say how a file is packed or that it is an image, and nothing about which.
const ENDINGS: [&str; 13] = [
    ".zip", ".gz", ".xz", ".bz2", ".zst", ".img", ".raw", ".bin", ".iso", ".wic", ".dd", ".image",
    ".sdcard",
];

/// Appliance and version out of a file name such as `quaylink-street_2.4-rc1.img.xz`; `None` where
/// it does not look like that.
pub fn split_file_name(name: &str) -> Option<(String, String)> {
    let mut stem = name.to_lowercase();
    while let Some(ending) = ENDINGS.iter().find(|ending| stem.ends_with(**ending)) {
        stem.truncate(stem.len() - ending.len());
    }
    let starts_version = |rest: &str| {
        let rest = rest.strip_prefix('v').unwrap_or(rest);
        rest.starts_with(|c: char| c.is_ascii_digit())
    };
    let cut = stem
        .match_indices(['-', '_'])
        .map(|(at, _)| at)
        .find(|at| starts_version(&stem[at + 1..]))?;
    let word = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    let appliance = stem[..cut].replace(['_', '.', ' '], "-");
    let version = stem[cut + 1..].replace(' ', "-");
    (!appliance.is_empty() && appliance.chars().all(word)).then_some((appliance, version))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn versions_sort_as_people_expect() {
        let ordered = [
            "0.9",
            "1.0-alpha2",
            "1.0-beta1",
            "1.0-beta10",
            "1.0-rc1",
            "1.0rc2",
            "1.0",
            "1.0b",
            "1.0-2",
            "1.0.1",
            "v1.9",
            "1.10",
            "1.10.1",
            "2",
            "10.0",
            "2025-12-31",
            "2026-01-02",
            "2026-08-30-2",
            "2026-08-31",
        ];
        for (place, one) in ordered.iter().enumerate() {
            for (other_place, other) in ordered.iter().enumerate() {
                assert_eq!(
                    compare_versions(one, other),
                    place.cmp(&other_place),
                    "{one} and {other}"
                );
            }
        }
        assert_eq!(compare_versions("1.02", "1.2"), Ordering::Equal);
    }

    #[test]
    fn a_file_name_says_appliance_and_version() {
        let split = |name| split_file_name(name);
        let pair = |a: &str, b: &str| Some((a.to_owned(), b.to_owned()));
        assert_eq!(split("quaylink-2.4.img.xz"), pair("quaylink", "2.4"));
        assert_eq!(
            split("Quay_Link_v2.4-rc1.IMG.zip"),
            pair("quay-link", "v2.4-rc1")
        );
        assert_eq!(
            split("toolpost-2026-08-30.raw"),
            pair("toolpost", "2026-08-30")
        );
        for none in [
            "image.img",
            "-2.4.img",
            "quaylink",
            "2.4.img",
            "kai\u{e6}-1.img",
        ] {
            assert_eq!(split(none), None, "{none}");
        }
    }

    proptest! {
        #[test]
        fn the_order_is_an_order(a in "[0-9a-z.~-]{0,8}", b in "[0-9a-z.~-]{0,8}", c in "[0-9a-z.~-]{0,8}") {
            prop_assert_eq!(compare_versions(&a, &b), compare_versions(&b, &a).reverse());
            if compare_versions(&a, &b).is_le() && compare_versions(&b, &c).is_le() {
                prop_assert!(compare_versions(&a, &c).is_le());
            }
        }
    }
}
