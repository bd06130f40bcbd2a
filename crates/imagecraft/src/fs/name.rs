//! Names of files as text. A file system keeps bytes; those that are no UTF-8, and those of characters that are not seen, are
//! written as `\\xe4`, so that no two names become one, and each leads back to its bytes.

/// Whether a character is not seen, or changes how others are: control characters, and those that join, break, hide or turn
/// text around (Unicode's format characters, and its separators of lines).
pub fn is_unseen(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{ad}' | '\u{600}'..='\u{605}' | '\u{61c}' | '\u{6dd}' | '\u{70f}' | '\u{890}'..='\u{891}' | '\u{8e2}'
            | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}'
            | '\u{fff9}'..='\u{fffb}' | '\u{110bd}' | '\u{110cd}' | '\u{13430}'..='\u{1343f}' | '\u{1bca0}'..='\u{1bca3}'
            | '\u{1d173}'..='\u{1d17a}' | '\u{e0000}'..='\u{e007f}')
}

/// Foreign text as it is shown: what is not seen is written as its number, such as `\\u{202e}`.
pub fn shown(text: &str) -> String {
    let mut shown = String::with_capacity(text.len());
    for c in text.chars() {
        match is_unseen(c) {
            true => shown.extend(c.escape_unicode()),
            false => shown.push(c),
        }
    }
    shown
}

/// Whether `\\x` and these two digits stand for a byte: one that is no text by itself, or not seen, or the backslash.
fn escape(rest: &[u8]) -> Option<u8> {
    let [b'\\', b'x', high, low, ..] = rest else {
        return None;
    };
    // Small letters only, as they are written.
    let digit = |byte: &u8| b"0123456789abcdef".iter().position(|one| one == byte);
    let byte = u8::try_from(digit(high)? << 4 | digit(low)?).ok()?;
    (byte >= 0x80 || byte == b'\\' || byte.is_ascii_control()).then_some(byte)
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
                false if is_unseen(sign) => {
                    for byte in sign.encode_utf8(&mut [0; 4]).bytes() {
                        text.push_str(&format!("\\x{byte:02x}"));
                    }
                }
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
            // What would turn the rest of a line around, or steer a terminal.
            ("gnp.\u{202e}cod".as_bytes(), "gnp.\\xe2\\x80\\xaecod"),
            (b"a\x1b[31m\n", "a\\x1b[31m\\x0a"),
        ] {
            assert_eq!(text_of(bytes), text);
            assert_eq!(bytes_of(text), bytes);
        }
    }

    #[test]
    fn what_is_not_seen_is_shown_as_what_it_is() {
        assert_eq!(shown("quay\u{202e}10-\u{7}"), "quay\\u{202e}10-\\u{7}");
        // Letters of other scripts, and signs that are put together, stay.
        for plain in ["Åse Østby", "مرسى", "שלום", "港", "e\u{301}", "🚢"] {
            assert_eq!(shown(plain), plain);
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
