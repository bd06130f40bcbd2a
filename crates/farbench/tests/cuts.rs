//! Whatever becomes of the connection, a card that is called verified is right, and any other is plainly unfinished or
//! as it was. The oracle looks at the medium.

mod line;

use std::time::{Duration, Instant};

use cardwork::{
    Access, Left, Mark, MemorySlot, Options, Progress, Slot, Unknown, WriteError, read_out, write,
};
use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Map, MemoryDisk};
use line::{Fate, OneSlot, Pair};
use proptest::prelude::*;
use time::OffsetDateTime;

const CHUNKS: usize = 48;
const CARD: usize = CHUNKS * CHUNK_LEN + 5 * 512;

fn mark() -> Mark {
    Mark {
        format: 1,
        card: "C-0007".into(),
        job: 31,
        began: OffsetDateTime::UNIX_EPOCH,
    }
}

fn content(seed: u64) -> (MemoryDisk, Map) {
    let mut state = seed | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    };
    let mut map = Map::uniform(CARD as u64, ByteKind::Data);
    let mut bytes: Vec<u8> = (0..CARD).map(|_| (next() >> 32) as u8 | 1).collect();
    for chunk in 1..CHUNKS {
        let kind = match next() % 6 {
            0 => ByteKind::Zero,
            1 => ByteKind::Free,
            _ => continue,
        };
        bytes[chunk * CHUNK_LEN..][..CHUNK_LEN].fill(0);
        map.set(chunk as u64 * CHUNK, (chunk as u64 + 1) * CHUNK, kind);
    }
    (MemoryDisk::from(bytes), map)
}

fn a_fate() -> impl Strategy<Value = Fate> {
    (
        prop_oneof![0..40_000_u64, 0..3_000_000_u64, 0..20_000_000_u64],
        prop_oneof![Just(0_u64), Just(0), 0..3_u64],
        prop_oneof![0..30_u64, 0..200_u64],
        any::<bool>(),
    )
        .prop_map(|(bytes, slow, away, straggler)| Fate {
            bytes,
            slow: Duration::from_millis(slow),
            away: Duration::from_millis(away),
            straggler,
        })
}

/// Everything but what nobody cares about is as it should be.
fn is_right(found: &[u8], disk: &MemoryDisk, map: &Map) -> bool {
    let kept = map.runs().iter().filter(|run| run.kind != ByteKind::Free);
    let mut same = kept.map(|run| {
        let range = run.start as usize..run.end as usize;
        found[range.clone()] == disk.bytes()[range]
    });
    same.all(|same| same)
}

/// It says itself that it is unfinished, or is as it was before.
fn is_told(found: &[u8]) -> bool {
    Mark::find(&found[..4096]).is_some() || found.iter().all(|byte| *byte == 0xe5)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: ProptestConfig::default().cases.min(24), ..ProptestConfig::default() })]

    #[test]
    fn cuts_that_end_in_time_end_nothing(seed in any::<u64>(), fates in prop::collection::vec(a_fate(), 0..8)) {
        let (slot, cache) = (MemorySlot::default(), tempfile::tempdir().unwrap());
        // Those that carry less than the content surely end before the work does.
        let short = fates.iter().take_while(|fate| fate.bytes < 1_000_000).count() as u64;
        let pair = Pair::new(OneSlot(slot.clone()), cache.path(), Duration::from_secs(60), fates);
        pair.ready();
        let (disk, map) = content(seed);
        let insertion = slot.put(vec![0xe5; CARD], false);
        let card = loop {
            // A look that the connection did not let through is had again, as the service does.
            if let Some(far) = pair.bench.slot(1) && let Ok(card) = far.open(&insertion, Access::Hold) {
                break card;
            }
        };
        let written = write(card.as_ref(), &disk, &map, &mark(), Options::default(), &Progress::default());
        prop_assert!(written.is_ok(), "{:?}", written.err());
        prop_assert!(is_right(&slot.bytes().unwrap(), &disk, &map));
        prop_assert!(pair.calls.load(std::sync::atomic::Ordering::SeqCst) > short);
        let mut back = vec![0; CARD];
        let read = read_out::<WriteError>(card.as_ref(), &map, &Unknown, &Progress::default(), |chunk, bytes| {
            back[chunk as usize * CHUNK_LEN..][..bytes.len()].copy_from_slice(bytes);
            Ok(())
        });
        prop_assert!(read.is_ok(), "{:?}", read.err());
        prop_assert!(is_right(&back, &disk, &map));
    }

    #[test]
    fn a_bench_that_stays_away_leaves_a_card_that_says_so(
        seed in any::<u64>(),
        fates in prop::collection::vec(a_fate(), 0..3),
        last in 0..12_000_000_u64,
    ) {
        const PATIENCE: Duration = Duration::from_millis(700);
        let (slot, cache) = (MemorySlot::default(), tempfile::tempdir().unwrap());
        let mut fates: Vec<_> = fates.into_iter().map(|fate| Fate { away: fate.away.min(Duration::from_millis(50)), ..fate }).collect();
        fates.push(Fate { bytes: last, slow: Duration::ZERO, away: PATIENCE * 3, straggler: false });
        let pair = Pair::new(OneSlot(slot.clone()), cache.path(), PATIENCE, fates);
        let (disk, map) = content(seed);
        let insertion = slot.put(vec![0xe5; CARD], false);
        let begun = Instant::now();
        let card = loop {
            if let Some(far) = pair.bench.slot(1) && let Ok(card) = far.open(&insertion, Access::Hold) {
                break card;
            }
            prop_assert!(begun.elapsed() < Duration::from_secs(40), "the bench does not come");
            std::thread::sleep(Duration::from_millis(5));
        };
        let written = write(card.as_ref(), &disk, &map, &mark(), Options::default(), &Progress::default());
        drop(card);
        match &written {
            Ok(_) => prop_assert!(is_right(&slot.bytes().unwrap(), &disk, &map)),
            Err(unwritten) => {
                // The bench gives up by itself; then the medium tells.
                let begun = Instant::now();
                while pair.slots.is_ending() || begun.elapsed() < PATIENCE * 4 {
                    prop_assert!(begun.elapsed() < Duration::from_secs(30), "the bench does not let go of the card");
                    std::thread::sleep(Duration::from_millis(20));
                }
                let found = slot.bytes().unwrap();
                match unwritten.left {
                    Left::Untouched => prop_assert!(found.iter().all(|byte| *byte == 0xe5)),
                    Left::Unfinished => prop_assert!(Mark::find(&found[..4096]).is_some()),
                    // Nobody knew: it may have come to its end there, and is right then.
                    Left::MayBoot => prop_assert!(is_told(&found) || is_right(&found, &disk, &map)),
                }
            }
        }
    }
}
