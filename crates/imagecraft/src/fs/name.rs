//! Names of files as text. A file system keeps bytes; those that are no UTF-8 are written as `\\xe4`, so that no two names
//! become one, and each leads back to its bytes.

/// Whether `\\x` and these two digits stand for a byte: one that is no text by itself, or the backslash.
fn escape(rest: &[u8]) -> Option<u8> {
    let [b'\\', b'x', high, low, ..] = rest else {
        return None;
    };
    // Small letters only, as they are written.
    let digit = |byte: &u8| b"0123456789abcdef".iter().position(|one| one == byte);
    let byte = u8::try_from(digit(high)? << 4 | digit(low)?).ok()?;
    (byte >= 0x80 || byte == b'\\').then_some(byte)
}

/// A name, or the target of a link, as text.
pub fn text_of(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len());
    let mut rest = bytes;
    while !rest.is_empty() {
        let (valid, behind) = match std::str::from_utf8(rest) {
            Ok(all) => (all, &[][..]),
            Err(e) => {
                let (valid, behind) = rest.split_at(e.valid_up_to());
                (std::str::from_utf8(valid).unwrap_or_default(), behind)
            }
        };
        for (at, sign) in valid.char_indices() {
            // What would be taken for an escape is one itself.
            match sign == '\\' && escape(&rest[at..]).is_some() {
                true => text.push_str("\\x5c"),
                false => text.push(sign),
            }
        }
        rest = behind;
        if let Some((byte, behind)) = rest.split_first() {
            text.push_str(&format!("\\x{byte:02x}"));
            rest = behind;
        }
    }
    text
}

/// The bytes of a name that [`text_of`] wrote.
pub fn bytes_of(text: &str) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some(first) = rest.first() {
        match escape(rest) {
            Some(byte) => {
                bytes.push(byte);
                rest = &rest[4..];
            }
            None => {
                bytes.push(*first);
                rest = &rest[1..];
            }
        }
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_that_are_no_text_are_told_apart() {
        for (bytes, text) in [
            (&b"notes"[..], "notes"),
            ("M\u{f6}we".as_bytes(), "M\u{f6}we"),
            (b"caf\xe4", "caf\\xe4"),
            (b"caf\xf6", "caf\\xf6"),
            // As the system's own units are called: that stays as it is.
            (b"dev-disk\\x2d1", "dev-disk\\x2d1"),
            (b"a\\xe4", "a\\x5cxe4"),
            (b"a\\x5cxe4", "a\\x5cx5cxe4"),
        ] {
            assert_eq!(text_of(bytes), text);
            assert_eq!(bytes_of(text), bytes);
        }
    }

    proptest! {
        #[test]
        fn every_name_leads_back_to_its_bytes(
            bytes in prop::collection::vec(prop_oneof![3 => prop::sample::select(b"\\x5ce4f".to_vec()), 1 => any::<u8>()], 0..40)
        ) {
            prop_assert_eq!(bytes_of(&text_of(&bytes)), bytes);
        }
    }
}
