//! The two checksums of ext: CRC-32C without its final inversion, and CRC-16 with the polynomial
//! 0x8005 reflected.

/// CRC-32C that goes on from `state` and is not inverted at its end.
pub fn crc32c(state: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!state, bytes)
}

const CRC_16: crc::Crc<u16> = crc::Crc::<u16>::new(&crc::CRC_16_ARC);

/// CRC-16 that goes on from `state`.
pub fn crc16(state: u16, bytes: &[u8]) -> u16 {
    // The package takes its start in the order of the polynomial's bits.
    let mut digest = CRC_16.digest_with_initial(state.reverse_bits());
    digest.update(bytes);
    digest.finalize()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn known_values() {
        assert_eq!(!crc32c(!0, b"123456789"), 0xe306_9283);
        assert_eq!(crc16(0, b"123456789"), 0xbb3d);
        assert_eq!(crc16(crc16(0, b"1234"), b"56789"), 0xbb3d);
        assert_eq!(
            crc32c(crc32c(!0, b"1234"), b"56789"),
            crc32c(!0, b"123456789")
        );
    }
}
