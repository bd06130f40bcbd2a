//! Time-based one-time codes (RFC 6238): six digits, a step of thirty seconds, HMAC-SHA-1, as every authenticator
//! reads them.

use ring::hmac;

/// Seconds of a step.
const STEP: i64 = 30;
/// Steps before and behind the present one whose codes count too: clocks differ.
const SLACK: i64 = 1;
const BASE32: &[u8; 32] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZ234567";

/// The code of a step (RFC 4226).
fn code(secret: &[u8], step: i64) -> String {
    let key = hmac::Key::new(hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, secret);
    let tag = hmac::sign(&key, &step.to_be_bytes());
    let tag = tag.as_ref();
    let at = usize::from(tag[19] & 15);
    let number = u32::from_be_bytes([tag[at] & 0x7f, tag[at + 1], tag[at + 2], tag[at + 3]]);
    format!("{:06}", number % 1_000_000)
}

/// The step whose code was typed, at a moment in seconds since 1970.
pub fn step_of(secret: &[u8], typed: &str, now: i64) -> Option<i64> {
    let typed: String = typed
        .chars()
        .filter(|letter| !letter.is_whitespace())
        .collect();
    let present = now.div_euclid(STEP);
    (present - SLACK..=present + SLACK).find(|step| code(secret, *step) == typed)
}

/// A secret as authenticators take it (RFC 4648, base32 without padding).
pub fn spoken(secret: &[u8]) -> String {
    let (mut text, mut bits, mut held) = (String::new(), 0_u32, 0_u32);
    for byte in secret {
        bits = (bits << 8) | u32::from(*byte);
        held += 8;
        while held >= 5 {
            held -= 5;
            text.push(char::from(BASE32[(bits >> held & 31) as usize]));
            bits &= (1 << held) - 1;
        }
    }
    if held > 0 {
        text.push(char::from(BASE32[(bits << (5 - held) & 31) as usize]));
    }
    text
}

/// The secret of a spoken form.
pub fn read(spoken: &str) -> Option<Vec<u8>> {
    let (mut secret, mut bits, mut held) = (Vec::new(), 0_u32, 0_u32);
    for letter in spoken.bytes().filter(|byte| !byte.is_ascii_whitespace()) {
        let value = BASE32
            .iter()
            .position(|one| *one == letter.to_ascii_uppercase())?;
        bits = (bits << 5) | u32::try_from(value).ok()?;
        held += 5;
        if held >= 8 {
            held -= 8;
            secret.push((bits >> held & 255) as u8);
            bits &= (1 << held) - 1;
        }
    }
    Some(secret)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The vectors of RFC 6238, appendix B, SHA-1, whose codes have eight digits: the last six are ours.
    #[test]
    fn codes_are_those_of_the_standard() {
        let secret = b"12345678901234567890";
        for (now, code) in [
            (59, "287082"),
            (1_111_111_109, "081804"),
            (1_111_111_111, "050471"),
            (1_234_567_890, "005924"),
            (2_000_000_000, "279037"),
            (20_000_000_000, "353130"),
        ] {
            assert_eq!(step_of(secret, code, now), Some(now / 30), "{now}");
            assert_eq!(step_of(secret, code, now + 30), Some(now / 30));
            assert_eq!(step_of(secret, code, now + 90), None);
        }
        assert_eq!(step_of(secret, "287 082", 59), Some(1));
        assert_eq!(step_of(secret, "", 59), None);
    }

    /// The vectors of RFC 4648, section 10.
    #[test]
    fn secrets_are_spoken_as_the_standard_says() {
        assert_eq!(read("no1"), None);
        for (plain, spelt) in [
            ("", ""),
            ("f", "MY"),
            ("fo", "MZXQ"),
            ("foo", "MZXW6"),
            ("foob", "MZXW6YQ"),
            ("fooba", "MZXW6YTB"),
            ("foobar", "MZXW6YTBOI"),
        ] {
            assert_eq!(spoken(plain.as_bytes()), spelt);
            assert_eq!(
                read(&spelt.to_lowercase()).as_deref(),
                Some(plain.as_bytes())
            );
        }
    }
}
