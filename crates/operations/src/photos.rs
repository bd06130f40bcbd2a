//! Pictures of devices and their labels, as somebody at the board takes them with a phone. Sealed: a sticker may show a
//! passphrase.

use records::Records;
use vault::Keys;

use crate::refusal::{Refusal, Why};

/// No picture is longer, in bytes.
pub const MOST: usize = 4 << 20;

/// What a picture of a device is sealed under.
fn sealed_under(device: i64) -> String {
    format!("photo of device {device}")
}

/// The kind of a picture, by its first bytes: JPEG (ISO/IEC 10918-1), PNG (ISO/IEC 15948) or WebP (RFC 9649).
pub fn kind_of(bytes: &[u8]) -> Option<&'static str> {
    match bytes {
        [0xff, 0xd8, 0xff, ..] => Some("image/jpeg"),
        [0x89, b'P', b'N', b'G', b'\r', b'\n', 0x1a, b'\n', ..] => Some("image/png"),
        [
            b'R',
            b'I',
            b'F',
            b'F',
            _,
            _,
            _,
            _,
            b'W',
            b'E',
            b'B',
            b'P',
            ..,
        ] => Some("image/webp"),
        _ => None,
    }
}

/// Keeps the picture of a device in place of the one before.
///
/// # Errors
/// Of what is no picture, or longer than [`MOST`] bytes.
pub async fn keep(
    records: &Records,
    keys: &Keys,
    operator: &str,
    device: &str,
    bytes: &[u8],
) -> Result<(), Refusal> {
    let device = records.device(device).await?;
    let kind = kind_of(bytes).filter(|_| bytes.len() <= MOST);
    let kind = kind.ok_or_else(|| {
        let detail = "a picture is a JPEG, PNG or WebP of 4 MiB at most; nothing was kept";
        Refusal::invalid("bad-value", detail)
    })?;
    let sealed = keys.seal_kept(&sealed_under(device.id), bytes)?;
    let len = bytes.len() as i64;
    records
        .put_photo(device.id, kind, &sealed, len, operator)
        .await?;
    Ok(())
}

/// What there is to say of a device's picture.
pub async fn about(records: &Records, device: &str) -> Result<Option<api::Photo>, Refusal> {
    let device = records.device(device).await?;
    let row = records.photo(device.id).await?;
    Ok(row.map(|row| api::Photo {
        kind: row.kind,
        bytes: row.bytes as u64,
        taken_by: row.taken_by,
        taken_at: row.taken_at,
    }))
}

/// Kind and bytes of a device's picture.
pub async fn read(
    records: &Records,
    keys: &Keys,
    device: &str,
) -> Result<(String, Vec<u8>), Refusal> {
    let row = records.device(device).await?;
    let found = records.photo_content(row.id).await?;
    let (kind, sealed) = found.ok_or_else(|| none(device))?;
    Ok((kind, keys.open_kept(&sealed_under(row.id), &sealed)?))
}

/// Takes the picture of a device away.
pub async fn remove(records: &Records, device: &str) -> Result<(), Refusal> {
    let row = records.device(device).await?;
    match records.remove_photo(row.id).await? {
        true => Ok(()),
        false => Err(none(device)),
    }
}

fn none(device: &str) -> Refusal {
    Refusal::new(
        Why::Missing,
        "unknown",
        format!("there is no picture of {device}"),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_are_known_by_their_first_bytes() {
        assert_eq!(kind_of(&[0xff, 0xd8, 0xff, 0xe0, 0]), Some("image/jpeg"));
        assert_eq!(kind_of(b"\x89PNG\r\n\x1a\n...."), Some("image/png"));
        assert_eq!(kind_of(b"RIFF\0\0\0\0WEBPVP8 "), Some("image/webp"));
        for not in [
            &b"<svg onload=alert(1)>"[..],
            b"",
            b"RIFF\0\0\0\0WAVE",
            b"\xff\xd8",
        ] {
            assert_eq!(kind_of(not), None);
        }
    }
}
