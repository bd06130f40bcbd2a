//! Login passwords: strong ones made, and their hash as in shadow(5).

use sha_crypt::ShaCrypt;
use sha_crypt::password_hash::PasswordHasher;

/// Letters and digits that are not taken for each other when they are read from a sticker.
const CLEAR: &[u8; 31] = b"abcdefghjkmnpqrstuvwxyz23456789";
/// Bytes of a salt, which become 16 characters.
const SALT: usize = 12;
/// Groups and letters in a group of a password that is made.
const GROUPS: usize = 4;
const GROUP: usize = 4;

/// A password of four groups of four letters and digits, out of 16 random bytes: 79 bits.
pub fn make_password(random: [u8; GROUPS * GROUP]) -> String {
    let mut password = String::new();
    for (place, byte) in random.iter().enumerate() {
        if place > 0 && place % GROUP == 0 {
            password.push('-');
        }
        password.push(char::from(CLEAR[usize::from(*byte) % CLEAR.len()]));
    }
    password
}

/// The hash of a password as shadow(5) holds it: SHA-512 in the form of crypt(5). The salt comes
/// from `key` and `subject`, so that the same card is composed of the same settings.
pub fn shadow_hash(password: &str, subject: &str, key: &[u8; 32]) -> Option<String> {
    let key = ring::hmac::Key::new(ring::hmac::HMAC_SHA256, key);
    let tag = ring::hmac::sign(&key, format!("{subject}\0{password}").as_bytes());
    ShaCrypt::SHA512
        .hash_password_with_salt(password.as_bytes(), &tag.as_ref()[..SALT])
        .ok()
        .map(|hash| hash.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use sha_crypt::password_hash::PasswordVerifier;

    #[test]
    fn a_hash_is_the_same_again_and_another_for_another_device() {
        let hash =
            |subject: &str, key: u8| shadow_hash("salt & marsh", subject, &[key; 32]).unwrap();
        let one = hash("quay-03", 1);
        assert!(one.starts_with("$6$"), "{one}");
        assert_eq!(one, hash("quay-03", 1));
        assert_ne!(one, hash("quay-04", 1));
        assert_ne!(one, hash("quay-03", 2));
        let read = sha_crypt::PasswordHash::new(&one).unwrap();
        assert!(
            ShaCrypt::SHA512
                .verify_password(b"salt & marsh", &read)
                .is_ok()
        );
        assert!(ShaCrypt::SHA512.verify_password(b"salt", &read).is_err());
    }

    #[test]
    fn passwords_are_made_of_clear_letters() {
        let password = make_password(std::array::from_fn(|at| (at as u8).wrapping_mul(31)));
        assert_eq!(password.len(), 19);
        assert_eq!(password.matches('-').count(), 3);
        assert!(!password.contains(['0', 'o', '1', 'l', 'i']), "{password}");
    }
}
