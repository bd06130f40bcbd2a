//! What every [`Slot`] and [`CardIo`](crate::CardIo) must do. Each implementation's tests call
//! [`suite`] with a way to put cards in and pull them.

use crate::{Access, CardError, Insertion, Slot};

/// Hands that act on the slot under test.
pub trait Hands {
    /// Puts a fresh zeroed card in, of at least a MiB; it replaces the one before.
    fn put(&mut self, locked: bool);
    /// Pulls the card.
    fn pull(&mut self);
    /// Whether a card can be pulled while it is held. Where it cannot, as with a loop device, the suite
    /// lets go of it first, and another test must show what becomes of a held one.
    fn can_pull_held(&self) -> bool {
        true
    }
}

/// Runs the whole suite; panics with a sentence at the first breach.
pub fn suite(slot: &dyn Slot, hands: &mut dyn Hands) {
    let medium = || slot.medium().expect("a slot says what is in it");
    let never = Insertion {
        boot: "a start that never was".into(),
        number: 1,
    };
    assert_eq!(medium(), None, "the suite starts with an empty slot");
    for access in [Access::Look, Access::Hold] {
        assert!(
            matches!(slot.open(&never, access), Err(CardError::Empty)),
            "an empty slot opens no card"
        );
    }

    hands.put(false);
    let first = medium().expect("a card that was put in is seen");
    assert!(!first.locked);
    assert_eq!(
        medium().as_ref(),
        Some(&first),
        "a card that stays is the same each time"
    );
    let held = slot
        .open(&first.insertion, Access::Hold)
        .expect("the card that was seen opens");
    assert_eq!(held.size(), first.size);
    reads_and_writes(held.as_ref());
    assert_eq!(
        medium().map(|medium| medium.insertion),
        Some(first.insertion.clone()),
        "writing makes no new insertion"
    );
    let next = Insertion {
        number: first.insertion.number + 1,
        ..first.insertion.clone()
    };
    for other in [next, never] {
        assert!(
            matches!(slot.open(&other, Access::Look), Err(CardError::Gone)),
            "an insertion that never was opens no card"
        );
    }
    let held = hands.can_pull_held().then_some(held);

    hands.pull();
    assert_eq!(medium(), None, "a pulled card is not seen any more");
    let mut byte = [0];
    if let Some(held) = &held {
        assert!(
            matches!(held.read_at(0, &mut byte), Err(CardError::Gone)),
            "a pulled card is gone"
        );
    }
    hands.put(false);
    let second = medium().expect("the second card is seen");
    assert_eq!(second.insertion.boot, first.insertion.boot);
    assert!(
        second.insertion.number > first.insertion.number,
        "each insertion has a new number"
    );
    if let Some(held) = held {
        assert!(
            matches!(held.write_at(0, &[1]), Err(CardError::Gone)),
            "a handle of the old insertion never reaches the new card"
        );
    }
    assert!(matches!(
        slot.open(&first.insertion, Access::Hold),
        Err(CardError::Gone)
    ));

    hands.put(true);
    let locked = medium().expect("a locked card is seen");
    assert!(locked.locked, "a locked card is seen as locked");
    let held = slot
        .open(&locked.insertion, Access::Hold)
        .expect("a locked card can be read");
    held.read_at(0, &mut byte).unwrap();
    assert!(
        matches!(held.write_at(0, &[1]), Err(CardError::Locked)),
        "a locked card takes no byte"
    );
    drop(held);
    hands.pull();
}

fn reads_and_writes(card: &dyn crate::CardIo) {
    let size = card.size();
    let data: Vec<u8> = (0..200_000u32).map(|i| (i % 253) as u8).collect();
    for at in [0, 4096, 131_072, size - data.len() as u64] {
        card.write_at(at, &data).unwrap();
        card.flush().unwrap();
        let mut back = vec![0; data.len()];
        card.read_at(at, &mut back).unwrap();
        assert!(back == data, "what was written at {at} reads back");
    }
    // Whatever the blocks of the medium: what stands around a short write stays.
    card.write_at(131_072 + 700, b"short").unwrap();
    let mut around = [0; 1500];
    card.read_at(131_072 + 1, &mut around).unwrap();
    let mut expected = data[1..1501].to_vec();
    expected[699..704].copy_from_slice(b"short");
    assert!(around[..] == expected, "a short write changes only itself");
    let mut buf = [0; 2];
    assert!(
        card.read_at(size - 1, &mut buf).is_err(),
        "a read past the end fails"
    );
    assert!(
        card.write_at(size - 1, &buf).is_err(),
        "a write past the end fails"
    );
}
