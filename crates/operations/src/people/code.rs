//! One-time codes: what lets somebody choose a password, or makes a computer a bench.

use time::{Duration, OffsetDateTime};

use super::password::chance;
use crate::refusal::Refusal;

/// Letters of codes: none that is taken for another.
const LETTERS: &[u8; 32] = b"ABCDEFGHJKLMNPQRSTUVWXYZ23456789";
/// Letters of a code; five bits each.
const LENGTH: usize = 20;

/// A code that was just made.
pub(crate) struct Code {
    /// As people read it: groups of five letters and digits, a hundred bits.
    pub text: String,
    /// What is kept of it.
    pub digest: Vec<u8>,
    /// When it is good no more.
    pub until: OffsetDateTime,
}

impl Code {
    /// A new code that is good for so long.
    pub fn good_for(time: Duration) -> Result<Self, Refusal> {
        let letters = chance::<LENGTH>()?.map(|byte| LETTERS[usize::from(byte & 31)]);
        let groups = letters.chunks(5).map(String::from_utf8_lossy);
        let text = groups.collect::<Vec<_>>().join("-");
        Ok(Self {
            digest: digest_of(&text),
            text,
            until: OffsetDateTime::now_utc() + time,
        })
    }
}

/// What is kept of a code, however it was typed.
pub(crate) fn digest_of(typed: &str) -> Vec<u8> {
    let plain: String = typed
        .chars()
        .filter(char::is_ascii_alphanumeric)
        .map(|letter| letter.to_ascii_uppercase())
        .collect();
    blake3::hash(plain.as_bytes()).as_bytes().to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_code_counts_however_it_is_typed() {
        let code = Code::good_for(Duration::HOUR).unwrap();
        assert_eq!(code.text.len(), 23);
        assert!(code.until > OffsetDateTime::now_utc());
        let typed = format!(" {} ", code.text.to_lowercase().replace('-', " "));
        assert_eq!(code.digest, digest_of(&typed));
        assert_ne!(code.digest, digest_of(&code.text[1..]));
        assert_ne!(code.text, Code::good_for(Duration::HOUR).unwrap().text);
    }
}
