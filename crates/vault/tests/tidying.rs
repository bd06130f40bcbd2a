//! Tidying beside running work: what anybody refers to or relies on stays, and what nobody does goes.

mod common;
mod workers;

use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use common::{blocking, noise, open, take_in, tidy};
use imagecraft::{CHUNK, CHUNK_LEN, Disk};
use vault::{Ingest, ManifestDisk, Name, Tidying, VaultError};
use workers::{Recorded, tidy_by, work};

#[tokio::test(flavor = "multi_thread")]
async fn what_nobody_refers_to_goes_and_segments_of_which_little_is_left_shrink() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    let kept = blocking({
        let vault = vault.clone();
        move || {
            let bytes = noise(300 * CHUNK_LEN, 1);
            let (whole, _) = take_in(&vault, &bytes);
            let (part, _) = take_in(&vault, &bytes[..30 * CHUNK_LEN]);
            assert_eq!(
                tidy(&vault, &[whole.name(), part.name()], 50)
                    .unwrap()
                    .freed,
                0
            );
            let before = vault.stored();
            let tidied = tidy(&vault, &[part.name()], 50).unwrap();
            assert!(tidied.broken.is_empty());
            assert!(tidied.freed > 260 * CHUNK, "{tidied:?}");
            assert!(vault.stored() <= before - tidied.freed);
            // Nobody who was on the way there stumbles.
            let disk = ManifestDisk::new(part.clone());
            assert!(disk.read_vec(0, 30 * CHUNK_LEN).unwrap() == bytes[..30 * CHUNK_LEN]);
            vault.bury(Duration::from_secs(60)).unwrap();
            assert!(common::files(dir.path(), "segment").len() > 2, "not yet");
            vault.bury(Duration::ZERO).unwrap();
            (part.name(), bytes, dir)
        }
    })
    .await;
    let (name, bytes, dir) = kept;
    assert!(vault.stored() < 40 * CHUNK);
    let on_disk: u64 = common::files(dir.path(), "segment")
        .iter()
        .map(|file| file.metadata().unwrap().len())
        .sum();
    assert_eq!(
        on_disk,
        vault.stored(),
        "what is gone is gone from the disk"
    );
    let vault = open(dir.path()).await;
    blocking(move || {
        let disk = ManifestDisk::open(&vault, name).unwrap();
        assert!(disk.read_vec(0, 30 * CHUNK_LEN).unwrap() == bytes[..30 * CHUNK_LEN]);
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn small_segments_are_put_together() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    blocking(move || {
        let all: Vec<_> = (0..20)
            .map(|seed| {
                let bytes = noise(2 * CHUNK_LEN, seed + 1);
                (take_in(&vault, &bytes).0.name(), bytes)
            })
            .collect();
        let names: Vec<Name> = all.iter().map(|(name, _)| *name).collect();
        assert!(common::files(dir.path(), "segment").len() >= 20);
        tidy(&vault, &names, 30).unwrap();
        vault.bury(Duration::ZERO).unwrap();
        // One, and one for what lies twice.
        assert_eq!(common::files(dir.path(), "segment").len(), 2);
        for (name, bytes) in all {
            let disk = ManifestDisk::open(&vault, name).unwrap();
            assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
        }
    })
    .await;
}

/// A page from which another one is told is itself a page of a content, whose own chunks stay: whichever of the two is
/// looked at first.
#[tokio::test(flavor = "multi_thread")]
async fn what_another_content_is_told_from_stays_whole() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    blocking(move || {
        let bytes = noise(200 * CHUNK_LEN, 1);
        let (release, _) = take_in(&vault, &bytes);
        // Ten imprints, each with a chunk of its own in place of the same one of the release's.
        let mut all = vec![(release.name(), bytes.clone())];
        for imprint in 0..10 {
            let mut changed = bytes.clone();
            changed[5 * CHUNK_LEN..][..CHUNK_LEN].copy_from_slice(&noise(CHUNK_LEN, 100 + imprint));
            let mut ingest = Ingest::start(vault.hold(), 2);
            for (chunk, part) in (0..).zip(changed.chunks(CHUNK_LEN)) {
                ingest.push(chunk, Arc::new(part.to_vec())).unwrap();
            }
            let len = changed.len() as u64;
            let (imprint, growth) = ingest.finish(len, Some(&release), None).unwrap();
            assert!(growth.stored < 2 * CHUNK, "it is told from the release");
            all.push((imprint.name(), changed));
        }
        for turn in 0..all.len() {
            all.rotate_left(1);
            let names: Vec<Name> = all.iter().map(|(name, _)| *name).collect();
            let tidied = tidy(&vault, &names, 100).unwrap();
            assert!(tidied.broken.is_empty(), "{turn}: {tidied:?}");
            vault.bury(Duration::ZERO).unwrap();
            for (name, bytes) in &all {
                let disk = ManifestDisk::open(&vault, *name).unwrap();
                let read = disk.read_vec(0, bytes.len());
                assert!(
                    read.unwrap_or_else(|e| panic!("turn {turn}: {e}")) == *bytes,
                    "turn {turn}"
                );
            }
        }
    })
    .await;
}

/// Work that shares content which nobody refers to keeps it, from its first look until it lets go.
#[tokio::test(flavor = "multi_thread")]
async fn what_work_relies_on_stays() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    blocking(move || {
        let bytes = noise(20 * CHUNK_LEN, 1);
        take_in(&vault, &bytes);
        let hold = vault.hold();
        let mut ingest = Ingest::start(hold.clone(), 2);
        for (chunk, part) in (0..).zip(bytes.chunks(CHUNK_LEN)) {
            ingest.push(chunk, Arc::new(part.to_vec())).unwrap();
        }
        let (manifest, growth) = ingest.finish(bytes.len() as u64, None, None).unwrap();
        assert_eq!(growth.new, 0);
        assert_eq!(tidy(&vault, &[], 90).unwrap().segments, 0, "it is held");
        take_in(&vault, &noise(CHUNK_LEN, 2));
        // It is recorded while somebody tidies, who asked the records before.
        let mut hold = Some(hold);
        let tidied = vault.tidy(Tidying {
            kept: &mut || {
                hold.take();
                Ok(Vec::new())
            },
            note_stays: &|_, _| false,
            only: None,
            copy_below: 90,
            seal_anew: false,
            progress: &mut |_, _| true,
        });
        let tidied = tidied.unwrap();
        assert!(
            tidied.freed < 2 * CHUNK,
            "it was held when the round began: {tidied:?}"
        );
        let disk = ManifestDisk::new(manifest);
        assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
        assert!(
            tidy(&vault, &[], 90).unwrap().segments > 0,
            "nobody holds it any more"
        );
    })
    .await;
}

/// Where what somebody refers to cannot be read whole, nothing goes: what it names is not known.
#[tokio::test(flavor = "multi_thread")]
async fn nothing_goes_as_long_as_something_that_is_kept_is_broken() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    blocking(move || {
        take_in(&vault, &noise(4 * CHUNK_LEN, 1));
        let tidied = tidy(&vault, &[Name([7; 32])], 90).unwrap();
        assert_eq!((tidied.segments, tidied.broken), (0, vec![Name([7; 32])]));
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tidying_stops_when_it_is_asked_to() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    blocking(move || {
        take_in(&vault, &noise(4 * CHUNK_LEN, 1));
        let stopped = vault.tidy(Tidying {
            kept: &mut || Ok(Vec::new()),
            note_stays: &|_, _| false,
            only: None,
            copy_below: 90,
            seal_anew: false,
            progress: &mut |_, _| false,
        });
        assert!(matches!(stopped, Err(VaultError::Cancelled)));
    })
    .await;
}

/// Several take in what overlaps, forget it again and read what is kept, while another tidies without a pause. The
/// records are a map; what is in it reads as it was given, at every moment.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn tidying_beside_work_loses_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    let records: Arc<Mutex<Recorded>> = Arc::default();
    let stop = Arc::new(AtomicBool::new(false));
    let rounds = Arc::new(AtomicU32::new(0));
    let workers: Vec<_> = (0..3_u32)
        .map(|worker| {
            let (vault, records, stop) = (vault.clone(), records.clone(), stop.clone());
            tokio::task::spawn_blocking(move || work(&vault, worker, &records, &stop))
        })
        .collect();
    let tidier = {
        let (vault, records, stop, rounds) =
            (vault.clone(), records.clone(), stop.clone(), rounds.clone());
        tokio::task::spawn_blocking(move || {
            while !stop.load(Ordering::Relaxed) {
                let tidied = tidy_by(&vault, &records).unwrap();
                assert!(tidied.broken.is_empty());
                vault.bury(Duration::ZERO).unwrap();
                rounds.fetch_add(1, Ordering::Relaxed);
            }
        })
    };
    tokio::time::sleep(Duration::from_secs(6)).await;
    stop.store(true, Ordering::Relaxed);
    for worker in workers {
        worker.await.unwrap();
    }
    tidier.await.unwrap();
    assert!(rounds.load(Ordering::Relaxed) > 3);
    // On the disk itself, too.
    let kept = records.lock().unwrap().clone();
    let again = open(dir.path()).await;
    blocking(move || {
        for (name, bytes) in kept.values() {
            let disk = ManifestDisk::open(&again, *name).unwrap();
            assert!(disk.read_vec(0, bytes.len()).unwrap() == *bytes);
        }
        let names: Vec<Name> = kept.values().map(|(name, _)| *name).collect();
        tidy(&again, &names, 95).unwrap();
        again.bury(Duration::ZERO).unwrap();
        assert!(again.stored() < 16 * CHUNK + 200_000, "{}", again.stored());
    })
    .await;
}
