//! A key as people write it down and type it in again: groups of four signs out of 32 that are hard to mistake, with
//! four more that tell whether the others are right.

/// Digits and letters without I, L, O and U; five bits each.
const SIGNS: &[u8; 32] = b"0123456789ABCDEFGHJKMNPQRSTVWXYZ";
/// Signs of a key of 32 bytes, and those that check them.
const OF_KEY: usize = 52;
const OF_CHECK: usize = 4;
const GROUP: usize = 4;

fn sign(value: u8) -> char {
    char::from(SIGNS[usize::from(value & 31)])
}

/// What the last group of a key must be.
fn check(key: &[u8; 32]) -> [u8; OF_CHECK] {
    let digest = blake3::derive_key("duplicarium 2026 check of a written key", key);
    std::array::from_fn(|at| digest[at] & 31)
}

/// A key as text: 14 groups.
pub fn of(key: &[u8; 32]) -> String {
    let bit = |at: usize| key.get(at / 8).map_or(0, |byte| byte >> (7 - at % 8) & 1);
    let values = (0..OF_KEY).map(|at| (0..5).fold(0, |value, one| value << 1 | bit(at * 5 + one)));
    let mut text = String::new();
    for (at, value) in values.chain(check(key)).enumerate() {
        if at > 0 && at % GROUP == 0 {
            text.push(if at % (GROUP * 7) == 0 { '\n' } else { ' ' });
        }
        text.push(sign(value));
    }
    text
}

/// Reads what was typed: small letters, spaces, lines and dashes are no matter, O is 0, I and L are 1.
pub fn read(text: &str) -> Result<[u8; 32], String> {
    let mut values = Vec::new();
    for sign in text.chars().filter(|c| !c.is_whitespace() && *c != '-') {
        let plain = match sign.to_ascii_uppercase() {
            'O' => '0',
            'I' | 'L' => '1',
            other => other,
        };
        let value = SIGNS.iter().position(|known| char::from(*known) == plain);
        let value = value.ok_or_else(|| format!("{sign:?} does not occur in keys"))?;
        values.push(value as u8);
        if values.len() > OF_KEY + OF_CHECK {
            break;
        }
    }
    if values.len() != OF_KEY + OF_CHECK {
        let groups = (OF_KEY + OF_CHECK) / GROUP;
        return Err(format!(
            "it has {groups} groups of {GROUP} signs, all of them"
        ));
    }
    let (signs, typed_check) = values.split_at(OF_KEY);
    let mut key = [0; 32];
    for (at, value) in signs.iter().enumerate() {
        for one in 0..5 {
            let bit = at * 5 + one;
            if value >> (4 - one) & 1 == 1 {
                // The last sign holds one bit of the key alone.
                match key.get_mut(bit / 8) {
                    Some(byte) => *byte |= 1 << (7 - bit % 8),
                    None => return Err("its last sign before the check is wrong".into()),
                }
            }
        }
    }
    match check(&key) == typed_check {
        true => Ok(key),
        false => Err("a sign of it is wrong; the last group does not fit the others".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_written_down_and_typed_in_again() {
        let key: [u8; 32] = std::array::from_fn(|at| (at * 37 + 11) as u8);
        let text = of(&key);
        assert_eq!(text.split_whitespace().count(), 14);
        assert_eq!(read(&text).unwrap(), key);
        let sloppy = text
            .to_lowercase()
            .replace('0', "o")
            .replace('1', "l")
            .replace(' ', "-");
        assert_eq!(read(&sloppy).unwrap(), key);
        assert_eq!(read(&of(&[0xff; 32])).unwrap(), [0xff; 32]);
    }

    #[test]
    fn every_wrong_sign_and_every_swap_is_noticed() {
        let key = [0x5a; 32];
        let text: Vec<char> = of(&key).chars().filter(|c| !c.is_whitespace()).collect();
        for at in 0..text.len() {
            let mut wrong = text.clone();
            wrong[at] = if wrong[at] == '7' { '8' } else { '7' };
            assert!(
                read(&wrong.iter().collect::<String>()).is_err(),
                "sign {at}"
            );
            let mut missing = text.clone();
            missing.remove(at);
            assert!(read(&missing.iter().collect::<String>()).is_err());
            if at + 1 < text.len() && text[at] != text[at + 1] {
                let mut swapped = text.clone();
                swapped.swap(at, at + 1);
                assert!(
                    read(&swapped.iter().collect::<String>()).is_err(),
                    "swap at {at}"
                );
            }
        }
        assert!(read("").is_err() && read(&"0".repeat(5000)).is_err());
        assert!(read("!").unwrap_err().contains("does not occur"));
    }
}
