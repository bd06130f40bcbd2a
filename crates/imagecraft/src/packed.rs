//! A chunk packed: one byte for the method, the plain length in four, little-endian, then the bytes as they are or
//! as a Zstandard frame (RFC 8878).

use std::cell::RefCell;
use std::io;

use crate::CHUNK_LEN;

/// zstd level: content is packed once and read often.
const LEVEL: i32 = 3;
const STORED: u8 = 0;
const ZSTD: u8 = 1;
/// Bytes in front of the packed ones.
const HEAD: usize = 5;

/// Packs one piece of content after the other.
#[derive(Default)]
pub struct Packer {
    zstd: Option<zstd::bulk::Compressor<'static>>,
    out: Vec<u8>,
}

impl Packer {
    /// Packs, if that pays, and gives what came of it.
    ///
    /// # Errors
    /// What the packing library says, which it has no reason to.
    pub fn pack(&mut self, bytes: &[u8]) -> io::Result<&[u8]> {
        let zstd = match &mut self.zstd {
            Some(zstd) => zstd,
            none => none.insert(zstd::bulk::Compressor::new(LEVEL)?),
        };
        let plain = bytes.len();
        let room = HEAD.saturating_add(plain);
        self.out
            .resize(HEAD.saturating_add(plain.max(CHUNK_LEN)), 0);
        self.out[1..HEAD].copy_from_slice(&(plain as u32).to_le_bytes());
        // A buffer no longer than the content makes packing fail where it would not pay.
        let len = match zstd.compress_to_buffer(bytes, &mut self.out[HEAD..room]) {
            Ok(len) => {
                self.out[0] = ZSTD;
                len
            }
            Err(_) => {
                self.out[0] = STORED;
                self.out[HEAD..room].copy_from_slice(bytes);
                plain
            }
        };
        Ok(&self.out[..HEAD.saturating_add(len)])
    }
}

thread_local! {
    /// Making one takes longer than unpacking a chunk with it.
    static UNPACKER: RefCell<Option<zstd::bulk::Decompressor<'static>>> = const { RefCell::new(None) };
}

/// The content again; nothing for what is damaged, or longer than `most`.
pub fn unpack(packed: &[u8], most: usize) -> Option<Vec<u8>> {
    let (head, body) = packed.split_at_checked(HEAD)?;
    let len = u32::from_le_bytes(head[1..].try_into().ok()?) as usize;
    if len > most {
        return None;
    }
    let plain = match head[0] {
        STORED => body.to_vec(),
        ZSTD => UNPACKER.with_borrow_mut(|unpacker| {
            let unpacker = match unpacker {
                Some(unpacker) => unpacker,
                none => none.insert(zstd::bulk::Decompressor::new().ok()?),
            };
            unpacker.decompress(body, len).ok()
        })?,
        _ => return None,
    };
    (plain.len() == len).then_some(plain)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_packed_comes_back_and_damage_is_nothing() {
        let mut packer = Packer::default();
        let noise: Vec<u8> = (0..3000_u32)
            .map(|i| (i.wrapping_mul(2_654_435_761) >> 23) as u8)
            .collect();
        for plain in [&b""[..], b"tide", &[7; CHUNK_LEN], &noise] {
            let packed = packer.pack(plain).unwrap().to_vec();
            assert!(packed.len() <= plain.len() + HEAD);
            assert_eq!(unpack(&packed, CHUNK_LEN).as_deref(), Some(plain));
            assert_eq!(unpack(&packed[..packed.len() - 1], CHUNK_LEN), None);
        }
        let packed = packer.pack(&[7; 4096]).unwrap();
        assert_eq!(unpack(packed, 4095), None);
    }
}
