//! What is kept of a certificate (X.509, RFC 5280): its fingerprint, and until when it is valid.

use time::{Date, Month, OffsetDateTime, PrimitiveDateTime, Time};

/// A certificate that a board showed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Certificate {
    /// SHA-256 of it, as hex digits.
    pub fingerprint: String,
    /// Until when it is valid; nothing where that cannot be read.
    pub until: Option<OffsetDateTime>,
}

pub(super) fn certificate(der: &[u8]) -> Certificate {
    Certificate {
        fingerprint: hex::encode(ring::digest::digest(&ring::digest::SHA256, der)),
        until: until(der),
    }
}

/// Takes one element of DER off the front: its tag and its content.
fn element<'a>(bytes: &mut &'a [u8]) -> Option<(u8, &'a [u8])> {
    let (tag, rest) = bytes.split_first()?;
    let (first, mut rest) = rest.split_first()?;
    let len = match first {
        0..=0x7f => usize::from(*first),
        0x81..=0x84 => {
            let (digits, behind) = rest.split_at_checked(usize::from(first & 0x7f))?;
            rest = behind;
            digits
                .iter()
                .fold(0, |len, digit| len << 8 | usize::from(*digit))
        }
        _ => return None,
    };
    let (content, behind) = rest.split_at_checked(len)?;
    *bytes = behind;
    Some((*tag, content))
}

fn until(der: &[u8]) -> Option<OffsetDateTime> {
    let (_, mut whole) = element(&mut &*der)?;
    let (_, mut body) = element(&mut whole)?;
    // The version is optional; behind it come number, algorithm and issuer.
    let (tag, _) = element(&mut body)?;
    for _ in 0..if tag == 0xa0 { 3 } else { 2 } {
        element(&mut body)?;
    }
    let (_, mut validity) = element(&mut body)?;
    element(&mut validity)?;
    let (tag, text) = element(&mut validity)?;
    let text = std::str::from_utf8(text).ok()?;
    let (year, rest) = text.split_at_checked(if tag == 0x17 { 2 } else { 4 })?;
    let mut year: i32 = year.parse().ok()?;
    if tag == 0x17 {
        year += if year < 50 { 2000 } else { 1900 };
    }
    let two = |at: usize| rest.get(at..at + 2)?.parse::<u8>().ok();
    let date = Date::from_calendar_date(year, Month::try_from(two(0)?).ok()?, two(2)?).ok()?;
    let time = Time::from_hms(two(4)?, two(6)?, two(8)?).ok()?;
    Some(PrimitiveDateTime::new(date, time).assume_utc())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_end_of_a_certificate_is_read_and_cut_ones_have_none() {
        let validity = |tag: u8, end: &str| {
            let end = [&[tag, end.len() as u8], end.as_bytes()].concat();
            let times = [b"\x17\x0d260101000000Z".as_slice(), &end].concat();
            let times = [&[0x30, times.len() as u8], times.as_slice()].concat();
            let body = [
                b"\xa0\x03\x02\x01\x02\x02\x01\x07\x30\x00\x30\x00".as_slice(),
                &times,
            ]
            .concat();
            let body = [&[0x30, body.len() as u8], body.as_slice()].concat();
            [&[0x30, 0x81, body.len() as u8], body.as_slice()].concat()
        };
        let der = validity(0x17, "270203040506Z");
        let said = |der: &[u8]| until(der).map(|at| at.unix_timestamp());
        assert_eq!(said(&der), Some(1_801_627_506));
        assert_eq!(
            said(&validity(0x18, "20570101000000Z")),
            Some(2_745_532_800)
        );
        assert_eq!(said(&validity(0x17, "279903040506Z")), None);
        for cut in 0..der.len() {
            assert_eq!(said(&der[..cut]), None, "{cut}");
        }
    }
}
