//! Checks of cards that lie, fail and vanish; judged by the medium, which the test sees and the check does
//! not.

use std::sync::Arc;

use cardwork::check::{
    self, Before, CheckError, Fault as Found, Keep, Kept, QUICK_BYTES, Verdict, full, is_back,
    put_back, quick,
};
use cardwork::{CardError, Mark, Progress};
use proptest::prelude::*;
use time::OffsetDateTime;

mod cards;
use cards::{Event, Fault, LyingCard};

const MB: u64 = 1_000_000;

#[derive(Default)]
struct Memory(Vec<(u64, Vec<u8>)>, bool);

impl Keep for Memory {
    fn save(&mut self, offset: u64, bytes: &[u8]) -> Result<(), String> {
        self.0.push((offset, bytes.to_vec()));
        Ok(())
    }

    fn settle(&mut self) -> Result<(), String> {
        self.1 = true;
        Ok(())
    }
}

impl Kept for Memory {
    fn len(&self) -> usize {
        self.0.len()
    }

    fn bytes(&self) -> u64 {
        self.0.iter().map(|(_, bytes)| bytes.len() as u64).sum()
    }

    fn place(&self, number: usize) -> Result<(u64, Vec<u8>), String> {
        Ok(self.0[number].clone())
    }
}

fn mark() -> Mark {
    Mark {
        format: 1,
        card: "C-0042".into(),
        job: 7,
        began: OffsetDateTime::UNIX_EPOCH,
    }
}

fn card(size: u64, fault: Fault, event: Option<(u64, Event)>) -> (LyingCard, Arc<Progress>) {
    let progress = Arc::new(Progress::default());
    let card = LyingCard::new(size, 0x5a, fault, event, progress.clone());
    // Something to lose at the beginning, in the middle and at the end.
    let words: Vec<u8> = (0..20_000_u32).flat_map(u32::to_le_bytes).collect();
    for at in [0, size / 2, size - words.len() as u64] {
        card.engrave(at, &words);
    }
    (card, progress)
}

/// All that the medium holds and was ever written, and what lies around it.
fn medium(card: &LyingCard) -> Vec<(u64, Vec<u8>)> {
    let filled = |page: &(u64, Vec<u8>)| page.1.iter().any(|byte| *byte != 0x5a);
    card.changed().into_iter().filter(filled).collect()
}

#[test]
fn a_quick_check_leaves_a_good_card_as_it_was() {
    for size in [200 * MB, 3_965_190_144, 64_021_856_256, 127_865_454_592] {
        let (card, progress) = card(size, Fault::None, None);
        let before = medium(&card);
        let mut kept = Memory::default();
        let checked = quick(&card, &mark(), &mut kept, &progress).unwrap();
        assert_eq!(checked.before, Before::PutBack);
        let report = checked.report;
        assert_eq!(report.verdict, Verdict::NoSign, "{size}: {report:?}");
        assert!(report.written <= QUICK_BYTES && report.wrong == 0);
        assert!(
            kept.1,
            "what was kept was not made safe before the first byte"
        );
        assert!(
            medium(&card) == before,
            "{size}: what was on the card is not there again"
        );
    }
}

#[test]
fn forged_cards_of_every_usual_size_are_told_with_their_true_one() {
    for size in [3_965_190_144, 64_021_856_256, 127_865_454_592] {
        for capacity in [
            64 * MB,
            128 << 20,
            500 * MB,
            1_000_000_000,
            1 << 30,
            2_003_828_736,
            3_900_000_256,
        ] {
            for fault in [Fault::Wraps(capacity), Fault::Drops(capacity)] {
                let (card, progress) = card(size, fault, None);
                let checked = quick(&card, &mark(), &mut Memory::default(), &progress).unwrap();
                let report = checked.report;
                let Verdict::Forged { least, most } = report.verdict else {
                    panic!("{fault:?} of {size}: {report:?}");
                };
                assert!(
                    least <= capacity && capacity <= most && most - least <= size / 64,
                    "{fault:?} of {size}: between {least} and {most}"
                );
            }
        }
    }
}

#[test]
fn a_full_check_tells_the_true_size_to_the_byte_however_little_is_missing() {
    for size in [48 * MB, (32 << 20) + 512] {
        for missing in [
            512, 1024, 2048, 3584, 4096, 4608, 8192, 65_536, 300, 700, 4095, 4097,
        ] {
            let capacity = size - missing;
            let (card, progress) = card(size, Fault::Wraps(capacity), None);
            let report = full(&card, &mark(), &progress).unwrap();
            let exact = Verdict::Forged {
                least: capacity,
                most: capacity,
            };
            assert_eq!(
                report.verdict, exact,
                "{missing} of {size} are missing: {report:?}"
            );
        }
    }
}

/// Whatever a full check says is held against the medium.
fn judge_full(size: u64, fault: Fault, event: Option<(u64, Event)>) -> Result<(), TestCaseError> {
    let (card, progress) = card(size, fault, event);
    match full(&card, &mark(), &progress) {
        Ok(report) => {
            let holds_all = fault == Fault::None;
            if report.verdict == Verdict::Proven {
                // Flips in what nobody writes are no flips.
                let silent = matches!(fault, Fault::KeepsFirst(most) if most >= size)
                    || matches!(fault, Fault::FlipsRead(every) | Fault::FlipsWritten(every) if every >= size);
                prop_assert!(holds_all || silent, "{fault:?} was proven");
                prop_assert_eq!(report.right, size);
                let first = card.medium(0, 4096);
                prop_assert_eq!(Mark::find_empty(&first), Some(mark()));
                let tail = card.medium(size - 65536, 65536);
                prop_assert!(
                    tail.iter().all(|byte| *byte == 0),
                    "a table may lie at the end"
                );
            }
            match (report.verdict, fault) {
                (
                    Verdict::Forged { least, most },
                    Fault::Wraps(capacity) | Fault::Drops(capacity),
                ) => {
                    // A sector that lies across the end is on neither side of it.
                    prop_assert!(
                        least <= capacity + 512 && capacity <= most + 1024,
                        "{fault:?} of {size}: {least} to {most}"
                    );
                }
                (Verdict::Forged { least, .. }, Fault::KeepsFirst(most)) => {
                    prop_assert!(
                        least <= most.next_multiple_of(512) + 512,
                        "{least} of {most}"
                    );
                }
                (Verdict::Forged { .. }, _) => prop_assert!(false, "{fault:?} is no forgery"),
                (Verdict::Bad, Fault::None) => {
                    prop_assert!(event.is_some(), "a good card is called bad: {report:?}");
                }
                (Verdict::Bad, Fault::Bad(at, len)) => {
                    let near = |region: &check::Region| {
                        matches!(region.fault, Found::Unwritable | Found::Unreadable)
                            && region.start < at + len
                            && at < region.end
                    };
                    prop_assert!(report.regions.iter().any(near), "{fault:?}: {report:?}");
                }
                (Verdict::Stopped, _) => {
                    prop_assert!(matches!(event, Some((_, Event::Cancelled))), "{report:?}");
                }
                (Verdict::NoSign, _) => prop_assert!(false, "a full check has no doubts"),
                _ => {}
            }
        }
        Err(CheckError::Card(CardError::Gone)) => {
            prop_assert!(matches!(event, Some((_, Event::Pulled))));
        }
        Err(CheckError::Card(CardError::Failed { .. })) => {
            // Block 0, or a flush: without them there is no check.
            let at_the_beginning = matches!(fault, Fault::Bad(at, _) if at < 4096);
            prop_assert!(at_the_beginning || matches!(event, Some((_, Event::FailsOnce))));
        }
        Err(CheckError::Cancelled) => {
            prop_assert!(matches!(event, Some((_, Event::Cancelled))));
        }
        Err(other) => prop_assert!(false, "{fault:?}: {other}"),
    }
    Ok(())
}

fn a_fault(size: u64) -> impl Strategy<Value = Fault> {
    prop_oneof![
        2 => Just(Fault::None),
        3 => (1 << 20..size).prop_map(|at| Fault::Wraps(at / 512 * 512)),
        1 => (1 << 20..size).prop_map(Fault::Wraps),
        3 => (1 << 20..size - (2 << 20)).prop_map(Fault::Drops),
        2 => (1 << 20..size).prop_map(Fault::KeepsFirst),
        2 => (0..size - 5000, 1..5000_u64).prop_map(|(at, len)| Fault::Bad(at, len)),
        1 => (4096..size - 5000, 1..5000_u64).prop_map(|(at, len)| Fault::Unreadable(at, len)),
        1 => (1000..size).prop_map(Fault::FlipsRead),
        1 => (1000..size).prop_map(Fault::FlipsWritten),
    ]
}

fn an_event() -> impl Strategy<Value = Option<(u64, Event)>> {
    let what = prop_oneof![
        Just(Event::Pulled),
        Just(Event::FailsOnce),
        Just(Event::Cancelled)
    ];
    prop_oneof![2 => Just(None), 1 => (1_u64..60, what).prop_map(Some)]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(
        std::env::var("PROPTEST_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(24)
    ))]

    #[test]
    fn a_full_check_proves_only_what_holds(
        (size, fault) in prop::sample::select(vec![16 << 20, 20_000_256_u64, 24 << 20])
            .prop_flat_map(|size| (Just(size), a_fault(size))),
        event in an_event(),
    ) {
        judge_full(size, fault, event)?;
    }

    /// However a quick check ends, and whatever is wrong with the card: where it says that what was on it is on it, that is
    /// so at the medium; else what was kept gives it back, and the card carries the mark as far as it takes it.
    #[test]
    fn a_quick_check_loses_nothing(
        call in 1_u64..700,
        what in 0..4_usize,
        fault in prop_oneof![
            2 => Just(Fault::None),
            // It takes the test data, and not what was there before.
            4 => (1_u64..110 * MB).prop_map(Fault::KeepsFirst),
            1 => (40 * MB..150 * MB).prop_map(|at| Fault::Wraps(at / 512 * 512)),
            1 => (40 * MB..150 * MB).prop_map(Fault::Drops),
            1 => (1_000_000_u64..20 * MB).prop_map(Fault::FlipsWritten),
        ],
    ) {
        let event = [Event::Pulled, Event::FailsOnce, Event::Cancelled].get(what).copied();
        let size = 160 * MB;
        let (card, progress) = card(size, fault, event.map(|event| (call, event)));
        let before = medium(&card);
        let mut kept = Memory::default();
        let ended = quick(&card, &mark(), &mut kept, &progress);
        let after = medium(&card);
        let said = match &ended {
            Ok(checked) => &checked.before,
            Err(failed) => &failed.before,
        };
        if let Ok(checked) = &ended {
            let lost = matches!(said, Before::Kept(_));
            prop_assert!(
                !lost || checked.report.verdict != Verdict::NoSign,
                "what was on it is not, and nothing is wrong: {checked:?}"
            );
        }
        let Before::Kept(_) = said else {
            prop_assert!(after == before, "{fault:?}: {said:?} but the card is another");
            return Ok(());
        };
        prop_assert!(kept.1, "the card was changed before what it held was safe");
        let first = card.medium(0, 4096);
        let marked = Mark::find(&first) == Some(mark());
        // In the moment of the pull a block may be half written; a card that takes nothing any more takes no mark.
        let may_lack = event == Some(Event::Pulled) || !matches!(fault, Fault::None);
        prop_assert!(marked || may_lack, "{ended:?} without the mark");
        // A new insertion of the same card, if it is a good one.
        if fault == Fault::None {
            let fresh = Arc::new(Progress::default());
            let again = LyingCard::new(size, 0x5a, Fault::None, None, fresh.clone());
            for (at, page) in card.changed() {
                again.engrave(at, &page);
            }
            prop_assert_eq!(is_back(&again, &kept).unwrap(), after == before);
            put_back(&again, &kept, &fresh).unwrap();
            prop_assert!(medium(&again) == before, "what was kept does not give the card back");
        }
    }
}
