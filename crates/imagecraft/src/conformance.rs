//! What every [`Disk`] must do. Each implementation's tests call [`suite`] with a disk and the bytes
//! that it was made to hold.

#![allow(
    clippy::arithmetic_side_effects,
    clippy::unwrap_used,
    reason = "a suite of tests, which ends with a panic at the first breach"
)]

use crate::{CHUNK, Disk, DiskError};

/// What becomes of a write.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Writes {
    /// It is there at the next read.
    Kept,
    /// It is refused, and changes nothing.
    Refused,
}

/// Runs the whole suite on a disk that holds `bytes`; panics with a sentence at the first breach.
pub fn suite(disk: &mut dyn Disk, bytes: &[u8], writes: Writes) {
    let len = bytes.len() as u64;
    assert_eq!(disk.len(), len, "it is as long as what it holds");
    assert_eq!(disk.is_empty(), len == 0);
    holds(disk, bytes);
    tells_digests(disk, bytes);
    reaches_past_the_end(disk, bytes);
    match writes {
        Writes::Kept => keeps(disk, bytes.to_vec()),
        Writes::Refused => {
            if len > 0 {
                let written = disk.write_at(0, &[bytes[0] ^ 1]);
                assert!(
                    matches!(written, Err(DiskError::ReadOnly)),
                    "a write is refused: {written:?}"
                );
                let zeroed = disk.zero_at(0, 1);
                assert!(
                    matches!(zeroed, Err(DiskError::ReadOnly)),
                    "so are zeros: {zeroed:?}"
                );
            }
            holds(disk, bytes);
        }
    }
}

/// What is read without being proven is the same bytes, wherever it begins and ends.
fn reads_unproven(disk: &dyn Disk, bytes: &[u8]) {
    let places = borders(bytes.len() as u64);
    for (number, from) in places.iter().enumerate() {
        // Long and short ones, over borders and within.
        for to in places[number..].iter().step_by(3) {
            let range = *from as usize..*to as usize;
            let mut found = vec![0x5a; range.len()];
            disk.read_unproven(*from, &mut found).unwrap();
            assert!(found == bytes[range], "bytes {from}..{to} read unproven");
        }
    }
    let behind = disk.read_unproven(bytes.len() as u64, &mut [0]);
    assert!(
        matches!(behind, Err(DiskError::OutOfRange { .. })),
        "nothing is behind its end: {behind:?}"
    );
}

/// A digest that it says a chunk has is the digest of what it reads there, and of nothing else.
fn tells_digests(disk: &dyn Disk, bytes: &[u8]) {
    for (chunk, part) in bytes.chunks(CHUNK as usize).enumerate() {
        let chunk = chunk as u64;
        let right = *blake3::hash(part).as_bytes();
        let mut wrong = right;
        wrong[31] ^= 1;
        let told = disk.has_digest(chunk, &right).unwrap();
        assert_ne!(
            told,
            Some(false),
            "chunk {chunk} has the digest of its bytes"
        );
        let of_other = disk.has_digest(chunk, &wrong).unwrap();
        assert_eq!(of_other, told.map(|_| false), "and no other one");
    }
}

/// Places where something could end within the disk: at its edges and at those of chunks and sectors.
fn borders(len: u64) -> Vec<u64> {
    let near = |at: u64| [at.saturating_sub(1), at, at + 1];
    let marks = [0, 512, 4096, CHUNK, 2 * CHUNK, 8 * CHUNK, len / 2, len];
    let mut found: Vec<u64> = marks
        .into_iter()
        .flat_map(near)
        .filter(|at| *at <= len)
        .collect();
    found.sort_unstable();
    found.dedup();
    found
}

fn holds(disk: &dyn Disk, bytes: &[u8]) {
    let whole = disk.read_vec(0, bytes.len()).unwrap();
    assert!(whole == bytes, "read at once it is what it holds");
    reads_unproven(disk, bytes);
    let borders = borders(bytes.len() as u64);
    for from in &borders {
        for to in borders.iter().filter(|to| *to >= from) {
            let found = disk.read_vec(*from, (to - from) as usize).unwrap();
            assert!(
                found == bytes[*from as usize..*to as usize],
                "bytes {from}..{to}"
            );
        }
    }
    // Backwards, as nothing that reads ahead expects it.
    for from in borders.iter().rev() {
        let mut one = vec![0; 1.min(bytes.len() - *from as usize)];
        disk.read_at(*from, &mut one).unwrap();
        assert_eq!(one.first(), bytes.get(*from as usize), "byte {from}");
    }
    // By several at once.
    std::thread::scope(|scope| {
        for hand in 0..3 {
            let borders = &borders;
            scope.spawn(move || {
                for from in borders.iter().cycle().skip(hand * 5).take(60) {
                    let len = 700.min(bytes.len() - *from as usize);
                    let found = disk.read_vec(*from, len).unwrap();
                    assert!(
                        found == bytes[*from as usize..][..len],
                        "bytes at {from}, by several"
                    );
                }
            });
        }
    });
}

fn reaches_past_the_end(disk: &mut dyn Disk, bytes: &[u8]) {
    let len = bytes.len() as u64;
    for (offset, count) in [
        (len, 1),
        (len.saturating_sub(1), 2),
        (len + 7, 0),
        (u64::MAX, 1),
        (u64::MAX - 3, 9),
    ] {
        let mut buf = vec![0xaa; count];
        let read = disk.read_at(offset, &mut buf);
        let outside = matches!(read, Err(DiskError::OutOfRange { .. }));
        assert!(
            outside,
            "reading {count} bytes at {offset} of {len}: {read:?}"
        );
        assert!(buf.iter().all(|byte| *byte == 0xaa), "and touches nothing");
        if count > 0 {
            let written = disk.write_at(offset, &buf);
            assert!(
                written.is_err(),
                "writing {count} bytes at {offset} of {len}"
            );
        }
    }
    assert!(
        disk.read_vec(0, usize::MAX).is_err(),
        "more than there can be costs no memory"
    );
    assert!(
        disk.read_at(len, &mut []).is_ok(),
        "nothing at the end is fine"
    );
    holds(disk, bytes);
}

fn keeps(disk: &mut dyn Disk, mut bytes: Vec<u8>) {
    let borders = borders(bytes.len() as u64);
    for (number, from) in borders.iter().enumerate() {
        let len = [1, 513, 5000, 200_000][number % 4].min(bytes.len() - *from as usize);
        let at = *from as usize;
        if number % 3 == 2 {
            disk.zero_at(*from, len as u64).unwrap();
            bytes[at..at + len].fill(0);
        } else {
            let data: Vec<u8> = (0..len)
                .map(|place| (place * 7 + number + 1) as u8)
                .collect();
            disk.write_at(*from, &data).unwrap();
            bytes[at..at + len].copy_from_slice(&data);
        }
    }
    holds(disk, &bytes);
    tells_digests(disk, &bytes);
}

/// Bytes for a disk under test: text, zeros and noise, and an end that is no whole chunk.
pub fn sample() -> Vec<u8> {
    let mut bytes = "salt marsh tide table\n".repeat(9000).into_bytes();
    bytes.resize(3 * CHUNK as usize, 0);
    let mut state = 7_u32;
    bytes.extend((0..2 * CHUNK as usize + 333).map(|_| {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        state as u8
    }));
    bytes
}
