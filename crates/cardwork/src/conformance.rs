//! What every [`Slot`] and [`CardIo`](crate::CardIo) must do. Each implementation's tests call
//! [`suite`] with a way to put cards in and pull them.

use crate::{CardError, Slot};

/// Hands that act on the slot under test.
pub trait Hands {
    /// Puts a fresh zeroed card in, of at least a MiB; it replaces the one before.
    fn put(&mut self, locked: bool);
    /// Pulls the card.
    fn pull(&mut self);
}

/// Runs the whole suite; panics with a sentence at the first breach.
pub fn suite(slot: &dyn Slot, hands: &mut dyn Hands) {
    assert_eq!(
        slot.medium().unwrap(),
        None,
        "the suite starts with an empty slot"
    );
    assert!(
        matches!(slot.open(0), Err(CardError::Empty)),
        "an empty slot opens no card"
    );

    hands.put(false);
    let first = slot
        .medium()
        .unwrap()
        .expect("a card that was put in is seen");
    assert!(!first.locked);
    let held = slot
        .open(first.insertion)
        .expect("the card that was seen opens");
    assert_eq!(held.size(), first.size);
    reads_and_writes(held.as_ref());
    assert!(
        matches!(slot.open(first.insertion + 1), Err(CardError::Gone)),
        "an insertion that never was opens no card"
    );

    hands.pull();
    assert_eq!(slot.medium().unwrap(), None);
    let mut byte = [0];
    assert!(
        matches!(held.read_at(0, &mut byte), Err(CardError::Gone)),
        "a pulled card is gone"
    );
    hands.put(false);
    let second = slot.medium().unwrap().expect("the second card is seen");
    assert!(
        second.insertion > first.insertion,
        "each insertion has a new number"
    );
    assert!(
        matches!(held.write_at(0, &[1]), Err(CardError::Gone)),
        "a handle of the old insertion never reaches the new card"
    );
    assert!(matches!(slot.open(first.insertion), Err(CardError::Gone)));

    hands.put(true);
    let locked = slot.medium().unwrap().expect("a locked card is seen");
    assert!(locked.locked, "a locked card is seen as locked");
    let held = slot
        .open(locked.insertion)
        .expect("a locked card can be read");
    held.read_at(0, &mut byte).unwrap();
    assert!(
        matches!(held.write_at(0, &[1]), Err(CardError::Locked)),
        "a locked card takes no byte"
    );
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
