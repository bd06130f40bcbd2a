//! Whenever a write says *verified*, the medium holds every byte as composed; whenever it says
//! anything else, no table is found on the card, or not a byte was changed, or it says that the
//! card may boot. Tried at random: contents, sizes, every kind of fault, and a cut, an error or
//! a cancel at every call.
//!
//! The judge looks at the medium itself, and at what sfdisk, sgdisk and our own reader find.

mod cards;

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::{Arc, OnceLock};

use cards::{Discards, Event, Fault, LyingCard};
use cardwork::{Left, Mark, Options, Progress, WriteError, Written, write};
use imagecraft::{ByteKind, CHUNK, Disk, DiskError, FileDisk, Layout, Map, MemoryDisk, Overlay};
use proptest::prelude::*;
use time::OffsetDateTime;

fn mark() -> Mark {
    Mark {
        format: 1,
        card: "C-0007".into(),
        job: 31,
        began: OffsetDateTime::UNIX_EPOCH,
    }
}

/// The sizes of cards that are tried, in bytes; none is a whole number of chunks.
const SIZES: [u64; 3] = [31 * CHUNK + 3 * 512, 64 * CHUNK + 8192, 120 * CHUNK - 512];
/// How far a table and its backup reach.
const TABLE: usize = 40 * 512;

#[derive(Clone, Copy, Debug, PartialEq)]
enum Table {
    Mbr,
    Gpt,
}

/// The first and the last bytes of a disk with a table, made by the system's own tool.
fn edges(table: Table, size: u64) -> (Vec<u8>, Vec<u8>) {
    type Made = Vec<(Table, u64, (Vec<u8>, Vec<u8>))>;
    static MADE: OnceLock<Made> = OnceLock::new();
    let made = MADE.get_or_init(|| {
        let dir = tempfile::tempdir().unwrap();
        let mut made = Vec::new();
        for size in SIZES {
            for (table, word) in [(Table::Mbr, "dos"), (Table::Gpt, "gpt")] {
                let path = dir.path().join(format!("{size}.{word}"));
                let file = File::options();
                let file = file
                    .clone()
                    .read(true)
                    .write(true)
                    .create_new(true)
                    .open(&path);
                let file = file.unwrap();
                file.set_len(size).unwrap();
                let script = format!("label: {word}\nstart=2048, size=2048\nstart=4096\n");
                let mut child = Command::new("sfdisk")
                    .args(["-q", "--wipe", "never"])
                    .arg(&path)
                    .stdin(Stdio::piped())
                    .spawn()
                    .expect("sfdisk is there");
                std::io::Write::write_all(&mut child.stdin.take().unwrap(), script.as_bytes())
                    .unwrap();
                assert!(child.wait().unwrap().success());
                let (mut head, mut tail) = (vec![0; TABLE], vec![0; TABLE]);
                file.read_exact_at(&mut head, 0).unwrap();
                file.read_exact_at(&mut tail, size - TABLE as u64).unwrap();
                made.push((table, size, (head, tail)));
            }
        }
        made
    });
    let is = |(t, s, _): &&(Table, u64, _)| *t == table && *s == size;
    made.iter().find(is).unwrap().2.clone()
}

/// What tools say of a card, if any of them finds a table.
fn table_found(card: &LyingCard, size: u64, dir: &Path) -> Option<String> {
    let path = dir.join("card");
    let file = File::create(&path).unwrap();
    file.set_len(size).unwrap();
    file.write_all_at(&card.readable(0, size as usize), 0)
        .unwrap();
    let said = |tool: &str, flag: &str| {
        let output = Command::new(tool).arg(flag).arg(&path).output().unwrap();
        let words = [output.stdout, output.stderr].concat();
        (
            String::from_utf8_lossy(&words).into_owned(),
            output.status.success(),
        )
    };
    let (words, found) = said("sfdisk", "-d");
    if found {
        return Some(format!("sfdisk: {words}"));
    }
    // It says so where there is neither an MBR nor either copy of a GPT.
    let (words, _) = said("sgdisk", "-p");
    if !words.contains("Creating new GPT entries") {
        return Some(format!("sgdisk: {words}"));
    }
    let layout = Layout::read(&FileDisk::open(&path).unwrap());
    layout.ok().map(|layout| format!("{layout:?}"))
}

/// Random runs of chunks of each kind, with a table in front, and its backup at the end.
fn content(table: Table, size: u64, kinds: &[(u8, u64)], seed: u64) -> (MemoryDisk, Map) {
    let mut map = Map::uniform(size, ByteKind::Free);
    let mut bytes = vec![0_u8; size as usize];
    let mut at = 0;
    for (kind, chunks) in kinds.iter().cycle() {
        let end = (at + chunks * CHUNK).min(size);
        let kind = [
            ByteKind::Data,
            ByteKind::Data,
            ByteKind::Zero,
            ByteKind::Free,
        ][*kind as usize];
        map.set(at, end, kind);
        if kind == ByteKind::Data {
            let mut filler = blake3::Hasher::new();
            filler.update(&(seed ^ at).to_le_bytes());
            filler
                .finalize_xof()
                .fill(&mut bytes[at as usize..end as usize]);
        }
        at = end;
        if at == size {
            break;
        }
    }
    let (head, tail) = edges(table, size);
    bytes[..TABLE].copy_from_slice(&head);
    map.set(0, TABLE as u64, ByteKind::Data);
    if table == Table::Gpt {
        let from = size as usize - TABLE;
        bytes[from..].copy_from_slice(&tail);
        map.set(from as u64, size, ByteKind::Data);
    }
    (MemoryDisk::from(bytes), map)
}

fn a_table() -> impl Strategy<Value = Table> {
    prop_oneof![Just(Table::Mbr), Just(Table::Gpt)]
}

fn a_fault(size: u64) -> impl Strategy<Value = Fault> {
    // Not only whole sectors: a card cheats as it likes, and right at the edges too.
    let capacity = prop_oneof![
        (CHUNK..size),
        (CHUNK / 512..size / 512).prop_map(|sectors| sectors * 512),
        (size - 2 * CHUNK..size),
        (CHUNK..3 * CHUNK),
    ];
    let place = prop_oneof![0..size, size - CHUNK..size, 0..CHUNK];
    let len = prop_oneof![1_u64..9000, CHUNK..4 * CHUNK];
    prop_oneof![
        3 => Just(Fault::None),
        4 => capacity.clone().prop_map(Fault::Wraps),
        3 => capacity.prop_map(Fault::Drops),
        2 => (0..size).prop_map(Fault::KeepsFirst),
        1 => (place.clone(), len.clone()).prop_map(|(at, len)| Fault::Unreadable(at, len)),
        1 => (place, len).prop_map(|(at, len)| Fault::Bad(at, len)),
        1 => (3..size).prop_map(Fault::FlipsRead),
        1 => (3..size).prop_map(Fault::FlipsWritten),
    ]
}

fn a_discard() -> impl Strategy<Value = Discards> {
    prop_oneof![
        Just(Discards::Never),
        Just(Discards::Zeroes),
        Just(Discards::Lies)
    ]
}

fn an_event() -> impl Strategy<Value = Option<(u64, Event)>> {
    let what = prop_oneof![
        Just(Event::Pulled),
        Just(Event::FailsOnce),
        Just(Event::Cancelled)
    ];
    prop_oneof![
        1 => Just(None),
        3 => (1_u64..60, what).prop_map(Some),
    ]
}

#[derive(Clone, Debug)]
struct Case {
    size: u64,
    old: Table,
    new: Table,
    kinds: Vec<(u8, u64)>,
    fault: Fault,
    event: Option<(u64, Event)>,
    seed: u64,
    size_proven: bool,
    wipe_free: bool,
    discards: Discards,
}

fn a_case() -> impl Strategy<Value = Case> {
    prop::sample::select(SIZES.to_vec()).prop_flat_map(|size| {
        (
            a_table(),
            a_table(),
            prop::collection::vec((0_u8..4, 1_u64..12), 1..8),
            a_fault(size),
            an_event(),
            any::<u64>(),
            any::<bool>(),
            (prop::bool::weighted(0.3), a_discard()),
        )
            .prop_map(
                move |(old, new, kinds, fault, event, seed, size_proven, (wipe_free, discards))| {
                    Case {
                        size,
                        old,
                        new,
                        kinds,
                        fault,
                        event,
                        seed,
                        size_proven,
                        wipe_free,
                        discards,
                    }
                },
            )
    })
}

/// A disk of which some chunks have names that tell their digests, as those out of a vault, and some have names of fewer
/// bytes.
struct Named<'a> {
    disk: &'a MemoryDisk,
    seed: u64,
}

impl Disk for Named<'_> {
    fn len(&self) -> u64 {
        self.disk.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        self.disk.read_at(offset, buf)
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn has_digest(&self, chunk: u64, digest: &[u8; 32]) -> Result<Option<bool>, DiskError> {
        let start = (chunk * CHUNK) as usize;
        let bytes = &self.disk.bytes()[start..];
        let right = blake3::hash(&bytes[..bytes.len().min(CHUNK as usize)]) == *digest;
        Ok(match (self.seed ^ chunk) % 4 {
            0 => None,
            1 => Some(false),
            _ => Some(right),
        })
    }
}

/// Content that comes wrong once when nobody proves it, as if it had been unpacked wrongly.
struct Garbled<'a> {
    disk: &'a MemoryDisk,
    chunk: u64,
    /// Whether it is damaged for good, which shows where it is proven.
    damaged: bool,
}

impl Disk for Garbled<'_> {
    fn len(&self) -> u64 {
        self.disk.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        if self.damaged && offset / CHUNK == self.chunk {
            return Err(DiskError::Io(std::io::Error::other("it is damaged")));
        }
        self.disk.read_at(offset, buf)
    }

    fn read_unproven(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        self.disk.read_at(offset, buf)?;
        if offset / CHUNK == self.chunk {
            buf[buf.len() / 2] ^= 4;
        }
        Ok(())
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn has_digest(&self, chunk: u64, digest: &[u8; 32]) -> Result<Option<bool>, DiskError> {
        let start = (chunk * CHUNK) as usize;
        let bytes = &self.disk.bytes()[start..];
        let right = blake3::hash(&bytes[..bytes.len().min(CHUNK as usize)]);
        Ok(Some(right == *digest))
    }
}

/// What was not proven on its way to the card is proven on its way back; content that is damaged is no fault of the card.
#[test]
fn content_that_came_wrong_is_on_no_verified_card() {
    let size = SIZES[0];
    let (disk, map) = content(Table::Mbr, size, &[(0, 20)], 7);
    for damaged in [false, true] {
        for chunk in 0..=size / CHUNK {
            let garbled = Garbled {
                disk: &disk,
                chunk,
                damaged,
            };
            let progress = Arc::new(Progress::default());
            let card = LyingCard::new(size, 0xe5, Fault::None, None, progress.clone());
            let options = Options::default();
            let result = write(&card, &garbled, &map, &mark(), options, &progress);
            // Edges are read proven.
            let edge = chunk == 0 || chunk >= size / CHUNK - 1;
            match (&result, edge, damaged) {
                (Ok(_), true, false) => {
                    assert!(card.medium(0, size as usize) == disk.bytes());
                }
                (Err(failed), false, false) => {
                    assert!(
                        matches!(failed.error, WriteError::Differs { offset } if offset == chunk * CHUNK),
                        "{failed:?}"
                    );
                    assert_eq!(failed.left, Left::Unfinished);
                }
                (Err(failed), _, true) => {
                    assert!(
                        matches!(failed.error, WriteError::Content(_)),
                        "the card is not blamed: {failed:?}"
                    );
                    assert_ne!(failed.left, Left::Untouched);
                }
                other => panic!("chunk {chunk}, damaged {damaged}: {other:?}"),
            }
        }
    }
}

fn judge(case: &Case) -> Result<(), TestCaseError> {
    let (disk, map) = content(case.new, case.size, &case.kinds, case.seed);
    let named = Named {
        disk: &disk,
        seed: case.seed,
    };
    let progress = Arc::new(Progress::default());
    let card = LyingCard::new(case.size, 0xe5, case.fault, case.event, progress.clone());
    let (head, tail) = edges(case.old, case.size);
    card.engrave(0, &head);
    card.engrave(case.size - TABLE as u64, &tail);
    let before = card.medium(0, case.size as usize);
    let options = Options {
        size_proven: case.size_proven,
        wipe_free: case.wipe_free,
    };
    card.discards(case.discards);
    let result = write(&card, &named, &map, &mark(), options, &progress);
    let after = card.medium(0, case.size as usize);
    match result {
        Ok(Written { verified, .. }) => {
            for run in map.runs().iter().filter(|run| run.kind != ByteKind::Free) {
                let range = run.start as usize..run.end as usize;
                prop_assert!(
                    after[range.clone()] == disk.bytes()[range],
                    "verified, but bytes {}..{} are not as composed",
                    run.start,
                    run.end
                );
            }
            let needed = map.total(ByteKind::Data) + map.total(ByteKind::Zero);
            prop_assert!(verified >= needed, "{verified} of {needed} were read back");
            if case.wipe_free {
                for (at, byte) in after.iter().enumerate() {
                    prop_assert!(
                        *byte == 0 || *byte == disk.bytes()[at],
                        "byte {at} still holds what was there before"
                    );
                }
            } else if case.fault == Fault::None {
                let chunks = 1..case.size / CHUNK - 1;
                for chunk in chunks.filter(|c| map.is_free(c * CHUNK, (c + 1) * CHUNK)) {
                    let range = (chunk * CHUNK) as usize..((chunk + 1) * CHUNK) as usize;
                    prop_assert!(
                        after[range.clone()] == before[range],
                        "free chunk {chunk} did not get back what it held"
                    );
                }
            }
        }
        Err(failed) => {
            let honest = case.fault == Fault::None;
            let cut = matches!(case.event, Some((_, Event::Pulled)));
            prop_assert!(
                !honest || cut || failed.left != Left::MayBoot,
                "a good card that stays in its slot can always be marked: {failed:?}"
            );
            match failed.left {
                Left::Untouched => prop_assert!(after == before, "said to be untouched"),
                Left::MayBoot => {}
                Left::Unfinished => {
                    let dir = tempfile::tempdir().unwrap();
                    let found = table_found(&card, case.size, dir.path());
                    prop_assert!(found.is_none(), "{failed:?}, but {found:?}");
                    // A card that wraps may lose its mark in the moment it is pulled.
                    let wraps = matches!(case.fault, Fault::Wraps(_));
                    let marked = Mark::find(&card.readable(0, 4096)) == Some(mark());
                    prop_assert!(marked || (wraps && cut), "{failed:?} without the mark");
                }
            }
        }
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig {
        // `make stress` sets PROPTEST_CASES; whoever waits for `make test` gets as many as find a defect within a few runs.
        cases: std::env::var("PROPTEST_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(80),
        max_shrink_iters: 200,
        ..ProptestConfig::default()
    })]

    #[test]
    fn a_verified_card_is_right_and_any_other_is_plainly_not(case in a_case()) {
        judge(&case)?;
    }
}

/// Each call of one write, cut, failed and cancelled in turn: no stage is left to chance.
#[test]
fn at_every_call_of_a_write() {
    let case = |new, old, event| Case {
        size: SIZES[0],
        old,
        new,
        kinds: vec![(0, 3), (3, 4), (2, 2), (0, 2), (3, 2)],
        fault: Fault::None,
        event,
        seed: 5,
        size_proven: false,
        wipe_free: false,
        discards: Discards::Never,
    };
    for (new, old) in [
        (Table::Gpt, Table::Mbr),
        (Table::Mbr, Table::Gpt),
        (Table::Gpt, Table::Gpt),
    ] {
        let progress = Arc::new(Progress::default());
        let card = LyingCard::new(SIZES[0], 0, Fault::None, None, progress.clone());
        let plain = case(new, old, None);
        let (disk, map) = content(new, SIZES[0], &plain.kinds, plain.seed);
        write(&card, &disk, &map, &mark(), Options::default(), &progress).unwrap();
        let calls = card.calls();
        assert!(calls > 40, "{calls}");
        for call in 1..=calls {
            for event in [Event::Pulled, Event::FailsOnce, Event::Cancelled] {
                judge(&case(new, old, Some((call, event))))
                    .unwrap_or_else(|e| panic!("{event:?} at call {call} of {calls}: {e}"));
            }
        }
    }
}

/// A bad place in each sector of the last blocks and the first: the table's backup in a sector beside it is
/// wiped all the same.
#[test]
fn a_bad_sector_keeps_no_table_beside_it() {
    let size = SIZES[0];
    let sectors = (0..16).map(|sector| size - 512 * (sector + 1) + 92);
    for at in sectors.chain((1..9).map(|sector| sector * 512 + 92)) {
        for (new, old) in [(Table::Mbr, Table::Gpt), (Table::Gpt, Table::Gpt)] {
            let case = Case {
                size,
                old,
                new,
                kinds: vec![(0, 1)],
                fault: Fault::Bad(at, 1),
                event: None,
                seed: 0,
                size_proven: false,
                wipe_free: false,
                discards: Discards::Never,
            };
            judge(&case).unwrap_or_else(|e| panic!("bad at {at}, {old:?} before {new:?}: {e}"));
        }
    }
}

/// An image in use at the beginning of a large card, grown or not, as they are written every day.
fn everyday(size: u64, gpt: bool) -> (Overlay<MemoryDisk>, Map) {
    let mut disk = Overlay::new(MemoryDisk::new(0), size);
    let mut map = Map::uniform(size, ByteKind::Free);
    let mut seed = blake3::Hasher::new().finalize_xof();
    let mut put = |from: u64, to: u64| {
        let mut bytes = vec![0; (to - from) as usize];
        seed.fill(&mut bytes);
        disk.write_at(from, &bytes).unwrap();
        map.set(from, to, ByteKind::Data);
    };
    put(0, 14 << 20);
    put(15 << 20, 40 << 20);
    if gpt {
        put(size - 33 * 512, size);
    }
    (disk, map)
}

/// Forged cards that were once called good: what is put at the end lands on what was verified.
#[test]
fn forged_cards_are_refused_wherever_their_end_lands() {
    for (size, capacity, gpt) in [
        (4_005_242_880, 1_000_000_000, true),
        (4_005_242_880, 3_995_000_000, true),
        (4_005_242_880, 3_980_000_000, true),
        (3_980_394_496, 3_980_000_000, true),
        (500_000_256, 475_520_896, true),
        // The image fits into what is there, and nothing of it lies behind.
        (4_005_242_880, 1_000_000_000, false),
        (4_005_242_880, 1 << 30, false),
        (32_010_928_128, 8_000_000_000, false),
        (64_021_856_256, 1 << 32, false),
    ] {
        for fault in [Fault::Wraps(capacity), Fault::Drops(capacity)] {
            let (disk, map) = everyday(size, gpt);
            let progress = Arc::new(Progress::default());
            let card = LyingCard::new(size, 0, fault, None, progress.clone());
            let failed =
                write(&card, &disk, &map, &mark(), Options::default(), &progress).unwrap_err();
            assert!(
                matches!(failed.error, WriteError::Lost { .. }),
                "{fault:?} of {size}: {failed:?}"
            );
            assert_eq!(failed.left, Left::Unfinished);
            assert_eq!(Mark::find(&card.medium(0, 4096)), Some(mark()));
        }
    }
}

/// What a write puts where nothing is written, it takes back: an honest card keeps its free
/// bytes, and is not called proven.
#[test]
fn an_honest_card_keeps_its_free_bytes() {
    let size = 4_005_242_880;
    let (disk, map) = everyday(size, true);
    let progress = Arc::new(Progress::default());
    let card = LyingCard::new(size, 0xa7, Fault::None, None, progress.clone());
    let done = write(&card, &disk, &map, &mark(), Options::default(), &progress).unwrap();
    assert!(!done.size_proven);
    let needed = map.total(ByteKind::Data);
    assert!(
        done.written <= needed * 101 / 100 + 6 * CHUNK,
        "{} bytes put for {needed}",
        done.written
    );
    let probed: Vec<_> = card
        .changed()
        .into_iter()
        .filter(|(at, _)| {
            map.is_free(*at / CHUNK * CHUNK, (*at / CHUNK + 1) * CHUNK) && *at < size - 2 * CHUNK
        })
        .collect();
    assert!(probed.len() >= 8, "{}", probed.len());
    for (at, page) in probed {
        assert!(page.iter().all(|byte| *byte == 0xa7), "free bytes at {at}");
    }
}
