//! What a browser or program keeps that somebody was signed in with: it opens nothing, and says that this is no stranger.

use records::people::Person;
use vault::Keys;

use super::password;
use crate::refusal::Refusal;

/// What a device of this person shows from now on, until the password is another.
pub fn new(keys: &Keys, person: &Person) -> Result<String, Refusal> {
    let nonce = hex::encode(password::chance::<16>()?);
    let proof = proof(keys, person, &nonce);
    Ok(format!("{}.{nonce}.{proof}", person.id))
}

/// The name of the device that shows this, if it was this person's.
pub fn read(keys: &Keys, person: &Person, shown: &str) -> Option<String> {
    let mut parts = shown.split('.');
    let (id, nonce, proven) = (parts.next()?, parts.next()?, parts.next()?);
    let known = id.parse() == Ok(person.id)
        && nonce.len() == 32
        && parts.next().is_none()
        // Digests of this kind are compared in the same time whatever differs.
        && blake3::hash(proof(keys, person, nonce).as_bytes()) == blake3::hash(proven.as_bytes());
    known.then(|| format!("device {nonce}"))
}

fn proof(keys: &Keys, person: &Person, nonce: &str) -> String {
    let password = person.password.as_deref().unwrap_or_default();
    keys.fingerprint(&format!(
        "device {nonce} of person {} with {password}",
        person.id
    ))
}
