//! Numbers out of foreign bytes.
//!
//! Where foreign bytes are read, arithmetic that would overflow ends at the largest or smallest number
//! instead: a place that no disk has is refused where it is read, a count that nothing has where it is
//! held against its bound. `clippy::arithmetic_side_effects` is denied for that. The editor of ext is an
//! exception: it changes only what has passed the check, and would rather stop, with nothing written,
//! than put a number somewhere that is not the right one.

/// A little-endian field of an on-disk structure; `None` past its end.
pub(crate) fn le16(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(
        bytes.get(at..at.checked_add(2)?)?.try_into().ok()?,
    ))
}

/// Like [`le16`], of 32 bits.
pub(crate) fn le32(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(
        bytes.get(at..at.checked_add(4)?)?.try_into().ok()?,
    ))
}

/// Like [`le16`], of 64 bits.
pub(crate) fn le64(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_le_bytes(
        bytes.get(at..at.checked_add(8)?)?.try_into().ok()?,
    ))
}

/// How often `part` fits into `whole`, and what is left of it; nothing where the part is empty.
pub(crate) fn split(whole: u64, part: u64) -> (u64, u64) {
    let times = whole.checked_div(part).unwrap_or(0);
    (times, whole.checked_rem(part).unwrap_or(0))
}

/// How often `part` fits into `whole`; see [`split`].
pub(crate) fn times(whole: u64, part: u64) -> u64 {
    split(whole, part).0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_fits_into_what_is_empty_and_fields_end_with_their_bytes() {
        assert_eq!(split(7, 3), (2, 1));
        assert_eq!(split(7, 0), (0, 0));
        assert_eq!(le32(&[1, 0, 0, 0], 0), Some(1));
        assert_eq!(le32(&[1, 0, 0, 0], 1), None);
        assert_eq!(le64(&[0; 8], usize::MAX), None);
    }
}
