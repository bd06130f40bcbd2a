//! Passwords and PINs: what they must be, and what is kept of them.

use argon2::password_hash::phc::PasswordHash;
use argon2::{Argon2, PasswordHasher, PasswordVerifier};

use crate::refusal::Refusal;

/// Length of a password, in characters.
const LENGTH: std::ops::RangeInclusive<usize> = 10..=200;
/// Digits of a PIN.
const PIN: std::ops::RangeInclusive<usize> = 4..=8;

/// Refuses a password that is no hurdle.
pub fn check(password: &str, name: &str) -> Result<(), Refusal> {
    let length = password.chars().count();
    if !LENGTH.contains(&length) {
        let detail =
            "a password has 10 to 200 characters; a few words in a row are easy to keep in mind";
        return Err(Refusal::invalid("bad-password", detail));
    }
    let mut letters: Vec<_> = password.chars().collect();
    letters.sort_unstable();
    letters.dedup();
    if letters.len() < 4
        || password.to_lowercase().contains(&name.to_lowercase()) && !name.is_empty()
    {
        let detail = "this password is easily guessed: take one without your name, of more than a few letters";
        return Err(Refusal::invalid("bad-password", detail));
    }
    Ok(())
}

/// Refuses what is no PIN.
pub fn check_pin(pin: &str) -> Result<(), Refusal> {
    let digits = pin.bytes().all(|byte| byte.is_ascii_digit());
    let same = pin.bytes().all(|byte| Some(byte) == pin.bytes().next());
    match digits && PIN.contains(&pin.len()) && !same {
        true => Ok(()),
        false => Err(Refusal::invalid(
            "bad-pin",
            "a PIN has 4 to 8 digits that are not all the same",
        )),
    }
}

/// Bytes of chance.
pub fn chance<const N: usize>() -> Result<[u8; N], Refusal> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes)
        .map_err(|e| Refusal::busy(&format!("the system gives no random bytes ({e})")))?;
    Ok(bytes)
}

/// What is kept of a password or PIN: Argon2id with a salt of its own, as a PHC string.
pub fn kept(secret: &str) -> Result<String, Refusal> {
    let salt = chance::<16>()?;
    let hash = Argon2::default().hash_password_with_salt(secret.as_bytes(), &salt);
    let hash = hash.map_err(|e| Refusal::busy(&format!("the password cannot be kept ({e})")))?;
    Ok(hash.to_string())
}

/// Whether a secret is the kept one. Where none is kept it takes as long, and is not.
pub fn matches(secret: &str, kept: Option<&str>) -> bool {
    let parsed = kept.and_then(|kept| PasswordHash::new(kept).ok());
    match parsed {
        Some(kept) => Argon2::default()
            .verify_password(secret.as_bytes(), &kept)
            .is_ok(),
        None => {
            let mut out = [0; 32];
            let salt = b"nobody has this one";
            let _ = Argon2::default().hash_password_into(secret.as_bytes(), salt, &mut out);
            false
        }
    }
}

/// What is kept of the secret that a pass shows.
pub fn digest_of_pass(secret: &str) -> Vec<u8> {
    blake3::hash(secret.as_bytes()).as_bytes().to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_same_password_matches_and_two_are_never_kept_alike() {
        let (one, two) = (
            kept("ebb and flow 7").unwrap(),
            kept("ebb and flow 7").unwrap(),
        );
        assert_ne!(one, two);
        assert!(one.starts_with("$argon2id$v=19$m="), "{one}");
        assert!(matches("ebb and flow 7", Some(&one)));
        for wrong in ["ebb and flow 8", "", "ebb and flow 7 ", "Ebb and flow 7"] {
            assert!(!matches(wrong, Some(&one)), "{wrong}");
        }
        assert!(!matches("ebb and flow 7", None));
        assert!(!matches("ebb and flow 7", Some("not a digest")));
    }

    #[test]
    fn what_is_easily_guessed_is_refused() {
        check("ebb and flow 7", "Ilse").unwrap();
        for (password, name) in [
            ("short", "Ilse"),
            ("aaaaaaaaaaaa", "Ilse"),
            ("ilse ilse ilse", "Ilse"),
        ] {
            assert_eq!(
                check(password, name).unwrap_err().code,
                "bad-password",
                "{password}"
            );
        }
        check_pin("4711").unwrap();
        for pin in ["471", "1111", "47a1", "123456789", ""] {
            assert_eq!(check_pin(pin).unwrap_err().code, "bad-pin", "{pin}");
        }
    }
}
