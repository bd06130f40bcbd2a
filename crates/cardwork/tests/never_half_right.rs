//! Writing to cards that are full of something else; what a plan is bound to; reading twice.
//! That a verified card is right whatever the card does is tried in `verified_is_right.rs`.

use cardwork::{
    Access, Bound, Left, Mark, MemorySlot, Options, Progress, Slot, Unknown, Unsafe, WriteError,
    conformance, read_again, read_out, write,
};
use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Map, MemoryDisk};
use time::OffsetDateTime;

const CARD: usize = 24 * CHUNK_LEN + 3 * 512;

fn mark() -> Mark {
    Mark {
        format: 1,
        card: "C-0007".into(),
        job: 31,
        began: OffsetDateTime::UNIX_EPOCH,
    }
}

/// Content with data, zeros and free chunks, and a valid-looking block 0.
fn content() -> (MemoryDisk, Map) {
    let mut bytes: Vec<u8> = (0..CARD as u32)
        .map(|i| (i.wrapping_mul(2_654_435_761) >> 24) as u8 | 1)
        .collect();
    let mut map = Map::uniform(CARD as u64, ByteKind::Data);
    for (chunk, kind) in [
        (3, ByteKind::Zero),
        (4, ByteKind::Zero),
        (9, ByteKind::Free),
        (10, ByteKind::Free),
    ] {
        bytes[chunk * CHUNK_LEN..(chunk + 1) * CHUNK_LEN].fill(0);
        map.set(chunk as u64 * CHUNK, (chunk as u64 + 1) * CHUNK, kind);
    }
    (MemoryDisk::from(bytes), map)
}

#[test]
fn the_memory_slot_conforms() {
    struct Hands(MemorySlot);
    impl conformance::Hands for Hands {
        fn put(&mut self, locked: bool) {
            self.0.put(vec![0; 1 << 20], locked);
        }
        fn pull(&mut self) {
            self.0.pull();
        }
    }
    let slot = MemorySlot::default();
    conformance::suite(&slot, &mut Hands(slot.clone()));
}

#[test]
fn a_card_full_of_something_else_holds_exactly_the_content() {
    let slot = MemorySlot::default();
    let insertion = slot.put(vec![0xe5; CARD], false);
    let card = slot.open(&insertion, Access::Hold).unwrap();
    let (disk, map) = content();
    let progress = Progress::default();
    let done = write(
        card.as_ref(),
        &disk,
        &map,
        &mark(),
        Options::default(),
        &progress,
    )
    .unwrap();
    let needed = map.total(ByteKind::Data) + map.total(ByteKind::Zero);
    assert_eq!(done.verified, needed);
    // Head and tail are put twice; each of the two free chunks takes probes and gets them back.
    assert!(done.written <= needed + 6 * CHUNK, "{done:?}");
    let found = slot.pull().unwrap();
    for (number, (found, wanted)) in found
        .chunks(CHUNK_LEN)
        .zip(disk.bytes().chunks(CHUNK_LEN))
        .enumerate()
    {
        if matches!(number, 9 | 10) {
            assert!(
                found.iter().all(|byte| *byte == 0xe5),
                "free chunk {number} was touched"
            );
        } else {
            assert!(found == wanted, "chunk {number}");
        }
    }
}

#[test]
fn content_longer_than_the_card_is_refused_before_anything_is_touched() {
    let slot = MemorySlot::default();
    let insertion = slot.put(vec![7; CARD - 512], false);
    let card = slot.open(&insertion, Access::Hold).unwrap();
    let (disk, map) = content();
    let refused = write(
        card.as_ref(),
        &disk,
        &map,
        &mark(),
        Options::default(),
        &Progress::default(),
    )
    .unwrap_err();
    assert!(matches!(refused.error, WriteError::TooSmall { .. }));
    assert_eq!(refused.left, Left::Untouched);
    assert_eq!(slot.written(), 0);
}

#[test]
fn a_plan_is_bound_to_the_insertion_and_the_edges() {
    let slot = MemorySlot::default();
    let insertion = slot.put(vec![1; CARD], false);
    let card = slot.open(&insertion, Access::Hold).unwrap();
    let bound = Bound::to(card.as_ref(), &insertion).unwrap();
    let medium = slot.medium().unwrap().unwrap();
    bound.check(&medium, card.as_ref()).unwrap();

    card.write_at(CARD as u64 - 1, &[2]).unwrap();
    assert!(matches!(
        bound.check(&medium, card.as_ref()),
        Err(Unsafe::Swapped)
    ));

    // An equal card, put in later, is still another card.
    let again = slot.put(vec![1; CARD], false);
    let card = slot.open(&again, Access::Hold).unwrap();
    let medium = slot.medium().unwrap().unwrap();
    assert!(matches!(
        bound.check(&medium, card.as_ref()),
        Err(Unsafe::Swapped)
    ));
}

#[test]
fn what_is_read_out_is_read_again_and_compared() {
    let slot = MemorySlot::default();
    let (disk, map) = content();
    let insertion = slot.put(disk.bytes().to_vec(), false);
    let card = slot.open(&insertion, Access::Hold).unwrap();
    let progress = Progress::default();
    let mut seen = Vec::new();
    read_out::<WriteError>(card.as_ref(), &map, &Unknown, &progress, |chunk, bytes| {
        assert_eq!(
            bytes,
            &disk.bytes()[chunk as usize * CHUNK_LEN..][..bytes.len()]
        );
        seen.push(chunk);
        Ok(())
    })
    .unwrap();
    assert_eq!(
        seen,
        map.chunks().map(|(chunk, _)| chunk).collect::<Vec<_>>()
    );
    let same = |chunk: u64, bytes: &mut [u8]| {
        bytes.copy_from_slice(&disk.bytes()[chunk as usize * CHUNK_LEN..][..bytes.len()]);
        Ok::<_, WriteError>(())
    };
    read_again(card.as_ref(), &map, &progress, same).unwrap();
    card.write_at(5 * CHUNK, b"\0").unwrap();
    let differs = read_again(card.as_ref(), &map, &progress, same).unwrap_err();
    assert!(
        matches!(differs, WriteError::Differs { offset } if offset == 5 * CHUNK),
        "{differs}"
    );
}
