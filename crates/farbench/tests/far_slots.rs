//! A slot of another bench is a slot like any other, and content travels once.

mod line;

use std::collections::HashMap;
use std::sync::atomic::Ordering;
use std::time::Duration;

use cardwork::check::{Before, Keep, Kept, Verdict, full, put_back, quick};
use cardwork::{
    Access, Likely, Mark, MemorySlot, Options, Progress, Slot, Stage, Unknown, WriteError,
    conformance, read_again, read_out, write,
};
use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Map, MemoryDisk};
use line::{OneSlot, Pair};
use time::OffsetDateTime;

const CARD: usize = 200 * CHUNK_LEN + 3 * 512;
const PATIENCE: Duration = Duration::from_secs(30);

fn mark() -> Mark {
    Mark {
        format: 1,
        card: "C-0007".into(),
        job: 31,
        began: OffsetDateTime::UNIX_EPOCH,
    }
}

/// Content that hardly packs, with zeros and what nobody cares about.
fn content(seed: u32) -> (MemoryDisk, Map) {
    let mut state = seed | 1;
    let mut bytes: Vec<u8> = (0..CARD)
        .map(|_| {
            state ^= state << 13;
            state ^= state >> 17;
            state ^= state << 5;
            state as u8
        })
        .collect();
    let mut map = Map::uniform(CARD as u64, ByteKind::Data);
    for (from, to, kind) in [(40, 60, ByteKind::Zero), (90, 130, ByteKind::Free)] {
        bytes[from * CHUNK_LEN..to * CHUNK_LEN].fill(0);
        map.set(from as u64 * CHUNK, to as u64 * CHUNK, kind);
    }
    // Half of a chunk is free.
    map.set(70 * CHUNK, 70 * CHUNK + 65_536, ByteKind::Free);
    bytes[70 * CHUNK_LEN..70 * CHUNK_LEN + 65_536].fill(0);
    (MemoryDisk::from(bytes), map)
}

fn pair(slot: &MemorySlot, cache: &tempfile::TempDir) -> Pair {
    let pair = Pair::new(OneSlot(slot.clone()), cache.path(), PATIENCE, Vec::new());
    pair.ready();
    pair
}

#[test]
fn a_slot_of_another_bench_conforms() {
    struct Hands(MemorySlot);
    impl conformance::Hands for Hands {
        fn put(&mut self, locked: bool) {
            self.0.put(vec![0; 1 << 20], locked);
        }
        fn pull(&mut self) {
            self.0.pull();
        }
    }
    let (slot, cache) = (MemorySlot::default(), tempfile::tempdir().unwrap());
    let pair = pair(&slot, &cache);
    let far = pair.bench.slot(1).unwrap();
    conformance::suite(&far, &mut Hands(slot));
    assert_eq!(far.place().reader, "loft/memory");
    assert!(pair.bench.slot(2).is_none());
}

#[test]
fn what_was_sent_once_is_not_sent_again() {
    let (slot, cache) = (MemorySlot::default(), tempfile::tempdir().unwrap());
    let pair = pair(&slot, &cache);
    let far = pair.bench.slot(1).unwrap();
    let (disk, map) = content(1);
    let data = map.total(ByteKind::Data);
    let mut sent = Vec::new();
    let mut edited = disk.bytes().to_vec();
    edited[5 * CHUNK_LEN..5 * CHUNK_LEN + 9].copy_from_slice(b"this card");
    for bytes in [disk.bytes().to_vec(), edited] {
        let insertion = slot.put(vec![0xe5; CARD], false);
        let card = far.open(&insertion, Access::Hold).unwrap();
        let before = pair.to_bench.load(Ordering::SeqCst);
        let progress = Progress::default();
        let wanted = MemoryDisk::from(bytes);
        let done = write(
            card.as_ref(),
            &wanted,
            &map,
            &mark(),
            Options::default(),
            &progress,
        )
        .unwrap();
        assert!(done.verified >= data && !done.size_proven, "{done:?}");
        assert_eq!(progress.snapshot().stage, Stage::Verifying);
        sent.push(pair.to_bench.load(Ordering::SeqCst) - before);
        drop(card);
        let found = slot.pull().unwrap();
        for run in map.runs().iter().filter(|run| run.kind != ByteKind::Free) {
            let range = run.start as usize..run.end as usize;
            assert!(
                found[range.clone()] == wanted.bytes()[range],
                "from {} on",
                run.start
            );
        }
    }
    // The map has half a chunk that is free, whose zeros travel packed.
    assert!(sent[0] as f64 <= data as f64 * 1.05, "{sent:?} of {data}");
    assert!(sent[1] as f64 <= data as f64 * 0.05, "{sent:?} of {data}");
}

#[test]
fn a_card_is_read_and_only_what_is_not_known_comes() {
    let (slot, cache) = (MemorySlot::default(), tempfile::tempdir().unwrap());
    let pair = pair(&slot, &cache);
    let far = pair.bench.slot(1).unwrap();
    let (disk, map) = content(2);
    let mut on_card = disk.bytes().to_vec();
    // What is free holds something.
    on_card[100 * CHUNK_LEN] = 9;
    on_card[70 * CHUNK_LEN] = 9;
    on_card[150 * CHUNK_LEN + 77] ^= 1;
    let insertion = slot.put(on_card.clone(), false);
    let card = far.open(&insertion, Access::Hold).unwrap();
    let mut received = Vec::new();
    for likely in [&Unknown as &dyn Likely, &disk] {
        let (_, before) = pair.bench.moved();
        let mut next = map.chunks().map(|(chunk, _)| chunk);
        let progress = Progress::default();
        read_out::<WriteError>(card.as_ref(), &map, likely, &progress, |chunk, bytes| {
            assert_eq!(Some(chunk), next.next(), "chunks come in order");
            let mut wanted = on_card[chunk as usize * CHUNK_LEN..][..bytes.len()].to_vec();
            map.clear_free(chunk * CHUNK, &mut wanted);
            assert!(wanted == bytes, "chunk {chunk}");
            Ok(())
        })
        .unwrap();
        assert_eq!(next.next(), None);
        received.push(pair.bench.moved().1 - before);
    }
    // At no place where anybody would look for it, and at hand all the same.
    struct Somewhere(HashMap<[u8; 32], Vec<u8>>);
    impl Likely for Somewhere {
        fn chunk(&self, _: u64, _: usize) -> Option<Vec<u8>> {
            None
        }
        fn of_digest(&self, digest: &[u8; 32]) -> Option<Vec<u8>> {
            self.0.get(digest).cloned()
        }
    }
    let mut somewhere = HashMap::new();
    for (chunk, _) in map.chunks() {
        let rest = &on_card[chunk as usize * CHUNK_LEN..];
        let mut bytes = rest[..rest.len().min(CHUNK_LEN)].to_vec();
        map.clear_free(chunk * CHUNK, &mut bytes);
        // One of them is not what its digest says: it comes from the card.
        let digest = *blake3::hash(&bytes).as_bytes();
        bytes[7] ^= u8::from(chunk == 3);
        somewhere.insert(digest, bytes);
    }
    let (_, before) = pair.bench.moved();
    let somewhere = Somewhere(somewhere);
    let progress = Progress::default();
    read_out::<WriteError>(
        card.as_ref(),
        &map,
        &somewhere,
        &progress,
        |chunk, bytes| {
            let mut wanted = on_card[chunk as usize * CHUNK_LEN..][..bytes.len()].to_vec();
            map.clear_free(chunk * CHUNK, &mut wanted);
            assert!(wanted == bytes, "chunk {chunk}");
            Ok(())
        },
    )
    .unwrap();
    received.push(pair.bench.moved().1 - before);
    let data = map.total(ByteKind::Data) as f64;
    assert!(received[2] as f64 <= data * 0.02, "{received:?}");
    assert!(received[0] as f64 > data * 0.95, "{received:?}");
    assert!(received[1] as f64 <= data * 0.02, "{received:?}");

    let kept = |chunk: u64, bytes: &mut [u8]| {
        bytes.copy_from_slice(&on_card[chunk as usize * CHUNK_LEN..][..bytes.len()]);
        map.clear_free(chunk * CHUNK, bytes);
        Ok::<_, WriteError>(())
    };
    read_again(card.as_ref(), &map, &Progress::default(), kept).unwrap();
    card.write_at(160 * CHUNK + 3, b"\0").unwrap();
    let differs = read_again(card.as_ref(), &map, &Progress::default(), kept).unwrap_err();
    assert!(
        matches!(differs, WriteError::Differs { offset } if offset == 160 * CHUNK),
        "{differs}"
    );
    // Whoever takes may stop it, and says why.
    let mut taken = 0;
    let stopped = read_out(
        card.as_ref(),
        &map,
        &Unknown,
        &Progress::default(),
        |_, _| {
            taken += 1;
            if taken == 30 {
                Err(WriteError::Lost { offset: 4711 })
            } else {
                Ok(())
            }
        },
    );
    assert!(matches!(stopped, Err(WriteError::Lost { offset: 4711 })));
}

#[derive(Default)]
struct Shelf(Vec<(u64, Vec<u8>)>, bool);

impl Keep for Shelf {
    fn save(&mut self, offset: u64, bytes: &[u8]) -> Result<(), String> {
        match self.1 {
            true => Err("the shelf is full".into()),
            false => {
                self.0.push((offset, bytes.to_vec()));
                Ok(())
            }
        }
    }
    fn settle(&mut self) -> Result<(), String> {
        Ok(())
    }
}

impl Kept for Shelf {
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

#[test]
fn cards_are_checked_there_and_what_is_on_them_is_kept_here() {
    let (slot, cache) = (MemorySlot::default(), tempfile::tempdir().unwrap());
    let pair = pair(&slot, &cache);
    let far = pair.bench.slot(1).unwrap();
    let before: Vec<u8> = (0..CARD).map(|i| (i % 251) as u8).collect();
    let insertion = slot.put(before.clone(), false);
    let card = far.open(&insertion, Access::Hold).unwrap();
    let mut shelf = Shelf::default();
    let report = quick(card.as_ref(), &mark(), &mut shelf, &Progress::default()).unwrap();
    assert_eq!(report.report.verdict, Verdict::NoSign);
    assert_eq!(report.before, Before::PutBack);
    assert!(slot.bytes().unwrap() == before && !shelf.0.is_empty());
    assert!(
        std::fs::read_dir(cache.path()).unwrap().next().is_none(),
        "nothing of the card stays there"
    );

    card.write_at(0, &[1; 4096]).unwrap();
    put_back(card.as_ref(), &shelf, &Progress::default()).unwrap();
    assert!(slot.bytes().unwrap() == before);

    let mut full_shelf = Shelf(Vec::new(), true);
    let refused = quick(
        card.as_ref(),
        &mark(),
        &mut full_shelf,
        &Progress::default(),
    )
    .unwrap_err();
    assert!(
        refused.error.to_string().contains("the shelf is full"),
        "{refused:?}"
    );
    assert_eq!(refused.before, Before::Untouched);
    assert!(slot.bytes().unwrap() == before, "nothing was touched");

    let report = full(card.as_ref(), &mark(), &Progress::default()).unwrap();
    assert_eq!(report.verdict, Verdict::Proven);
}

#[test]
fn work_is_cancelled_from_afar() {
    let (slot, cache) = (MemorySlot::default(), tempfile::tempdir().unwrap());
    let pair = pair(&slot, &cache);
    let far = pair.bench.slot(1).unwrap();
    let (disk, map) = content(3);
    let insertion = slot.put(vec![0xe5; CARD], false);
    let card = far.open(&insertion, Access::Hold).unwrap();
    let progress = Progress::default();
    progress.cancel();
    let unwritten = write(
        card.as_ref(),
        &disk,
        &map,
        &mark(),
        Options::default(),
        &progress,
    )
    .unwrap_err();
    assert!(
        matches!(unwritten.error, WriteError::Cancelled),
        "{unwritten}"
    );
    let found = slot.bytes().unwrap();
    match unwritten.left {
        cardwork::Left::Untouched => assert!(found.iter().all(|byte| *byte == 0xe5)),
        _ => assert!(Mark::find(&found[..4096]).is_some()),
    }
}
