//! Names and hardware addresses as people type them.

use crate::refusal::Refusal;

/// A short name: small letters, digits, hyphens.
pub fn check_name(noun: &str, name: &str) -> Result<(), Refusal> {
    let plain = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
    if (1..=40).contains(&name.len()) && name.bytes().all(plain) {
        return Ok(());
    }
    let detail = format!(
        "{name:?} cannot name a {noun}; it takes 1 to 40 small letters, digits and hyphens"
    );
    Err(Refusal::invalid("bad-name", detail))
}

/// A hardware address in its usual form.
pub fn mac(text: &str) -> Result<String, String> {
    let digits: String = text
        .chars()
        .filter(|c| !matches!(c, ':' | '-' | '.' | ' '))
        .collect();
    if digits.len() != 12 || !digits.bytes().all(|b| b.is_ascii_hexdigit()) {
        return Err(format!(
            "{text:?} is no hardware address; it takes six pairs of hex digits"
        ));
    }
    let pairs: Vec<_> = (0..6)
        .map(|at| digits[at * 2..at * 2 + 2].to_lowercase())
        .collect();
    Ok(pairs.join(":"))
}

#[cfg(test)]
mod tests {
    use super::mac;

    #[test]
    fn hardware_addresses_take_one_form() {
        for text in ["5A-17-00-AB-cd-01", "5a:17:00:ab:cd:01", "5a1700abcd01"] {
            assert_eq!(mac(text).as_deref(), Ok("5a:17:00:ab:cd:01"));
        }
        assert!(mac("5a:17:00:ab:cd").is_err() && mac("here").is_err());
    }
}
