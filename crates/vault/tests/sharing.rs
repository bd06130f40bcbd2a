//! What manifests share, what grows, several writers at once.

mod common;

use std::sync::Arc;

use common::{blocking, noise, numbered, open, take_in, take_in_like};
use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk, Map, MemoryDisk, Overlay};
use vault::{Entry, Ingest, Manifest, ManifestDisk};

#[tokio::test(flavor = "multi_thread")]
async fn an_imprint_costs_its_changed_chunks_alone() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    blocking(move || {
        // The base ends in the middle of a chunk, the card is longer.
        let mut bytes = numbered(20);
        bytes.truncate(20 * CHUNK_LEN - 1000);
        let base = take_in(&vault, &bytes).0;
        let len = 30 * CHUNK;
        let mut card = Overlay::new(ManifestDisk::new(base.clone()), len);
        card.write_at(7 * CHUNK + 5, b"settings").unwrap();
        card.write_at(20 * CHUNK - 500, b"beyond the base").unwrap();
        let map = card.map(&base.map().unwrap());
        let hold = vault.hold();
        let note = |name| format!("{name:?}");
        let (imprint, growth) = base
            .changed(&hold, &card, &map, card.changed_chunks(), Some(&note))
            .unwrap();
        assert_eq!(
            growth.new, 5,
            "two chunks, their page, the manifest, a note: {growth:?}"
        );
        assert_eq!(vault.notes().next().unwrap().1, note(imprint.name()));
        assert_eq!(imprint.entry(3).unwrap(), base.entry(3).unwrap());
        assert_eq!(imprint.entry(25).unwrap(), Entry::Free);
        assert_eq!(imprint.map().unwrap().total(ByteKind::Free), 10 * CHUNK);
        let stored = ManifestDisk::open(&vault, imprint.name()).unwrap();
        let mut wanted = vec![0; len as usize];
        card.read_at(0, &mut wanted).unwrap();
        assert!(
            stored.read_vec(0, len as usize).unwrap() == wanted,
            "it reads like the card"
        );

        // A chunk that became zero is not stored; one the map calls free is not kept.
        let mut card = Overlay::new(ManifestDisk::new(base.clone()), base.len);
        card.write_at(2 * CHUNK, &vec![0; CHUNK_LEN]).unwrap();
        let mut map = card.map(&base.map().unwrap());
        map.set(10 * CHUNK, 11 * CHUNK, ByteKind::Free);
        let (imprint, growth) = base
            .changed(&hold, &card, &map, card.changed_chunks(), None)
            .unwrap();
        assert_eq!(
            (imprint.entry(2).unwrap(), imprint.entry(10).unwrap()),
            (Entry::Zero, Entry::Free)
        );
        assert_eq!(growth.new, 2, "a page and the manifest");
    })
    .await;
}

/// A short last chunk that is in the middle of a disk that has grown reads as what it is, and zeros behind it.
#[tokio::test(flavor = "multi_thread")]
async fn a_short_chunk_of_a_grown_disk_reads_as_what_it_is() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    blocking(move || {
        for short in [1, 511, 4096, CHUNK_LEN - 1] {
            let mut bytes = numbered(5);
            bytes.truncate(4 * CHUNK_LEN + short);
            let base = take_in(&vault, &bytes).0;
            let card = Overlay::new(ManifestDisk::new(base.clone()), 9 * CHUNK);
            let mut map = card.map(&base.map().unwrap());
            map.set(bytes.len() as u64, 9 * CHUNK, ByteKind::Zero);
            let (grown, _) = base
                .changed(&vault.hold(), &card, &map, std::iter::empty(), None)
                .unwrap();
            let disk = ManifestDisk::open(&vault, grown.name()).unwrap();
            let mut wanted = bytes.clone();
            wanted.resize(9 * CHUNK_LEN, 0);
            assert!(disk.read_vec(0, wanted.len()).unwrap() == wanted, "{short}");
            let at = 4 * CHUNK + short as u64 - 1;
            assert_eq!(disk.read_vec(at, 2).unwrap(), [5, 0]);
        }
    })
    .await;
}

/// Manifests of disks that differ little cost little beside their chunks, however many pages they have, and can be
/// told from one that is told from another itself.
#[tokio::test(flavor = "multi_thread")]
async fn manifests_that_differ_little_cost_little() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    blocking(move || {
        // Four pages of chunks that are all different, of which a few bytes each are enough.
        let mut ingest = Ingest::start(vault.hold(), 2);
        let chunks = 4096_u64;
        for chunk in 0..chunks {
            let bytes = chunk.to_le_bytes().repeat(4).to_vec();
            ingest.push(chunk, Arc::new(bytes)).unwrap();
        }
        let len = 64_000 * CHUNK;
        let (base, _) = ingest.finish(len, None, None).unwrap();
        let mut last = base.clone();
        let mut all = Vec::new();
        for round in 0..20_u64 {
            let mut card = Overlay::new(ManifestDisk::new(last.clone()), len);
            for change in 0..10 {
                let chunk = (round * 31 + change * 397) % chunks;
                card.write_at(chunk * CHUNK, &[round as u8 + 1; 32])
                    .unwrap();
            }
            let map = card.map(&last.map().unwrap());
            let (next, growth) = last
                .changed(&vault.hold(), &card, &map, card.changed_chunks(), None)
                .unwrap();
            assert!(
                growth.stored < 40_000,
                "round {round}: {growth:?}, where the pages alone are 135 kB"
            );
            all.push((
                next.name(),
                (0..64_000)
                    .map(|chunk| next.entry(chunk).unwrap())
                    .collect::<Vec<_>>(),
            ));
            last = next;
        }
        for (name, entries) in all {
            let again = Manifest::load(&vault, name).unwrap();
            assert_eq!(again.len, len);
            assert!(
                (0..64_000)
                    .zip(&entries)
                    .all(|(chunk, entry)| again.entry(chunk).unwrap() == *entry)
            );
        }
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_of_a_disk_that_is_nearly_the_same_costs_what_changed() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    blocking(move || {
        let mut bytes = noise(300 * CHUNK_LEN, 5);
        let (first, _) = take_in(&vault, &bytes);
        bytes[200 * CHUNK_LEN] ^= 1;
        let (second, growth) = take_in_like(&vault, &bytes, Some(&first));
        assert_eq!(growth.new, 3);
        assert!(growth.stored < CHUNK + 1000, "{growth:?}");
        let disk = ManifestDisk::open(&vault, second.name()).unwrap();
        assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
        let (third, growth) = take_in_like(&vault, &bytes, Some(&second));
        assert_eq!((third.name(), growth.new), (second.name(), 0));
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn several_at_once_share_one_vault() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    let works: Vec<_> = (0..4u8)
        .map(|seed| {
            let vault = vault.clone();
            tokio::task::spawn_blocking(move || {
                let mut bytes = numbered(40);
                bytes[10 * CHUNK_LEN] = seed;
                let disk = ManifestDisk::new(take_in(&vault, &bytes).0);
                assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
            })
        })
        .collect();
    for work in works {
        work.await.unwrap();
    }
    let reopened = open(dir.path()).await;
    assert!(reopened.stored() > 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn free_chunks_are_never_asked_for() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    blocking(move || {
        let mut ingest = Ingest::start(vault.hold(), 1);
        ingest.push(0, Arc::new(vec![5; CHUNK_LEN])).unwrap();
        ingest.push(4, Arc::new(vec![6; 10])).unwrap();
        let (manifest, _) = ingest.finish(4 * CHUNK + 10, None, None).unwrap();
        let kinds: Vec<_> = manifest.map().unwrap().chunks().collect();
        assert_eq!(kinds, [(0, ByteKind::Data), (4, ByteKind::Data)]);
        assert_eq!(manifest.map().unwrap(), {
            let mut map = Map::uniform(4 * CHUNK + 10, ByteKind::Free);
            map.set(0, CHUNK, ByteKind::Data);
            map.set(4 * CHUNK, 4 * CHUNK + 10, ByteKind::Data);
            map
        });
        let disk = ManifestDisk::new(manifest);
        let mut wanted = vec![5; CHUNK_LEN];
        wanted.resize(4 * CHUNK_LEN, 0);
        wanted.extend([6; 10]);
        assert_eq!(
            MemoryDisk::from(disk.read_vec(0, wanted.len()).unwrap()),
            MemoryDisk::from(wanted)
        );
    })
    .await;
}
