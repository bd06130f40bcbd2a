//! Damage, cuts and full disks. What is judged is what disks read like, compared with the bytes that were given; what
//! the vault says of itself counts for nothing.

mod common;

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

use common::failing::Failing;
use common::{blocking, files, folder, noise, open, root, take_in, tidy};
use imagecraft::{CHUNK_LEN, Disk};
use object_store::memory::InMemory;
use vault::{Entry, KeyError, Manifest, ManifestDisk, Name, Vault, VaultError};

/// The chunks of a disk that are not read as they were given; one that is read otherwise is the end of the test.
fn lost(vault: &Arc<Vault>, name: Name, bytes: &[u8]) -> Option<BTreeSet<usize>> {
    let disk = ManifestDisk::open(vault, name).ok()?;
    let mut lost = BTreeSet::new();
    for (chunk, part) in bytes.chunks(CHUNK_LEN).enumerate() {
        match disk.read_vec((chunk * CHUNK_LEN) as u64, part.len()) {
            Ok(read) => assert!(read == part, "chunk {chunk} reads as something else"),
            Err(_) => {
                lost.insert(chunk);
            }
        }
    }
    Some(lost)
}

fn none() -> Option<BTreeSet<usize>> {
    Some(BTreeSet::new())
}

struct Chance(u64);

impl Chance {
    fn below(&mut self, end: usize) -> usize {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % end.max(1)
    }
}

/// A vault in a folder with one disk in it.
async fn one_disk(dir: &Path, chunks: usize, seed: u32) -> (Name, Vec<u8>) {
    let vault = open(dir).await;
    let bytes = noise(chunks * CHUNK_LEN - 100, seed);
    blocking(move || (take_in(&vault, &bytes).0.name(), bytes)).await
}

#[tokio::test(flavor = "multi_thread")]
async fn an_index_that_is_gone_or_damaged_costs_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let (name, bytes) = one_disk(dir.path(), 200, 1).await;
    let mut chance = Chance(7);
    for round in 0..12 {
        let indexes = files(dir.path(), "index");
        assert!(indexes.len() >= 2);
        let one = &indexes[chance.below(indexes.len())];
        let mut raw = std::fs::read(one).unwrap();
        match round % 4 {
            0 => std::fs::remove_file(one).unwrap(),
            1 => std::fs::write(one, &raw[..chance.below(raw.len())]).unwrap(),
            2 => std::fs::write(one, b"").unwrap(),
            _ => {
                let at = chance.below(raw.len());
                raw[at] ^= 1 << chance.below(8);
                std::fs::write(one, raw).unwrap();
            }
        }
        let vault = open(dir.path()).await;
        assert_eq!(vault.opened().made_again.len(), 1, "round {round}");
        let bytes = bytes.clone();
        blocking(move || assert_eq!(lost(&vault, name, &bytes), none())).await;
        assert_eq!(
            open(dir.path()).await.opened(),
            &vault::Opened::default(),
            "it was put back"
        );
    }
    // All of them at once, and rubbish among the segments.
    for one in files(dir.path(), "index") {
        std::fs::remove_file(one).unwrap();
    }
    std::fs::write(dir.path().join("segment/rubbish"), noise(5000, 3)).unwrap();
    std::fs::write(dir.path().join("segment/empty"), b"").unwrap();
    let vault = open(dir.path()).await;
    blocking(move || assert_eq!(lost(&vault, name, &bytes), none())).await;
}

/// Damage anywhere in a segment costs the pieces that it hit; an inspection names them, and the same content stored
/// again makes everything whole.
#[tokio::test(flavor = "multi_thread")]
async fn damage_costs_what_it_hit_is_named_and_goes_when_the_content_comes_again() {
    let mut chance = Chance(11);
    for round in 0..8 {
        let dir = tempfile::tempdir().unwrap();
        let (name, bytes) = one_disk(dir.path(), 60, round + 1).await;
        let segments = files(dir.path(), "segment");
        for _ in 0..=chance.below(4) {
            let one = &segments[chance.below(segments.len())];
            let mut raw = std::fs::read(one).unwrap();
            let at = chance.below(raw.len());
            match chance.below(3) {
                0 => raw[at] ^= 1 << chance.below(8),
                1 => {
                    let end = (at + 70_000).min(raw.len());
                    raw[at..end].fill(0);
                }
                // The index says another length then, and is made again.
                _ => raw.truncate(at),
            }
            std::fs::write(one, raw).unwrap();
        }
        let vault = open(dir.path()).await;
        let (bytes_again, vault_again) = (bytes.clone(), vault.clone());
        let hit = blocking(move || lost(&vault_again, name, &bytes_again)).await;
        let seen = {
            let vault = open(dir.path()).await;
            blocking(move || vault.inspect(None, u64::MAX, &mut |_, _| true).unwrap()).await
        };
        // What is read falsely is named, or was not there for the index that was made again.
        if let Some(hit) = hit.clone() {
            let vault = vault.clone();
            blocking(move || {
                let manifest = Manifest::load(&vault, name).unwrap();
                let bad: BTreeSet<Name> = seen.bad.iter().map(|bad| bad.name).collect();
                for chunk in hit {
                    if let Ok(Entry::Data(name)) = manifest.entry(chunk as u64) {
                        let is_named = bad.contains(&name) || !vault.holds(name);
                        assert!(is_named, "round {round}: {name:?}");
                    }
                }
            })
            .await;
        }
        let vault = open(dir.path()).await;
        let missing = {
            let vault = vault.clone();
            blocking(move || vault.missing(&[name], 1000)).await
        };
        let is_hurt = hit != none();
        assert_eq!(
            !missing.is_empty(),
            is_hurt,
            "round {round}: {missing:?} {hit:?}"
        );
        let bytes = bytes.clone();
        blocking(move || {
            let (again, growth) = take_in(&vault, &bytes);
            assert_eq!(again.name(), name);
            assert_eq!(growth.new > 0, is_hurt, "round {round}: {growth:?}");
            assert_eq!(lost(&vault, name, &bytes), none());
            assert!(vault.missing(&[name], 1000).is_empty());
        })
        .await;
    }
}

/// A backup that is taken after a segment was lost is whole: nothing is believed to be there because the index says so.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_lost_is_never_shared() {
    for while_open in [false, true] {
        let dir = tempfile::tempdir().unwrap();
        let (name, bytes) = one_disk(dir.path(), 200, 5).await;
        let early = open(dir.path()).await;
        let segments = files(dir.path(), "segment");
        let largest = segments
            .iter()
            .max_by_key(|file| file.metadata().unwrap().len());
        std::fs::remove_file(largest.unwrap()).unwrap();
        let late = open(dir.path()).await;
        assert_eq!(late.opened().lost.len(), 1);
        let vault = if while_open { early } else { late };
        let again = blocking({
            let bytes = bytes.clone();
            move || {
                let (manifest, growth) = take_in(&vault, &bytes);
                assert!(growth.new > 50, "{growth:?}");
                assert_eq!(lost(&vault, manifest.name(), &bytes), none());
                manifest.name()
            }
        })
        .await;
        assert_eq!(again, name);
        let vault = open(dir.path()).await;
        blocking(move || assert_eq!(lost(&vault, again, &bytes), none())).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_ring_is_kept_twice_and_its_loss_is_said_plainly() {
    let dir = tempfile::tempdir().unwrap();
    let (name, bytes) = one_disk(dir.path(), 3, 9).await;
    let rings = files(dir.path(), "keys");
    assert_eq!(rings.len(), 2);
    let whole = std::fs::read(&rings[0]).unwrap();
    for ring in &rings {
        for bad in [None, Some(&whole[..20]), Some(&b"nonsense"[..])] {
            match bad {
                None => std::fs::remove_file(ring).unwrap(),
                Some(bad) => std::fs::write(ring, bad).unwrap(),
            }
            let vault = open(dir.path()).await;
            let bytes = bytes.clone();
            blocking(move || assert_eq!(lost(&vault, name, &bytes), none())).await;
            assert_eq!(
                std::fs::read(ring).unwrap().len(),
                whole.len(),
                "it was put back"
            );
        }
    }
    for ring in &rings {
        std::fs::write(ring, &whole[1..]).unwrap();
    }
    let refused = Vault::open(folder(dir.path()), &root(3))
        .await
        .err()
        .unwrap();
    assert!(
        matches!(refused, VaultError::Key(KeyError::Ring { .. })),
        "{refused}"
    );
    for ring in &rings {
        std::fs::remove_file(ring).unwrap();
    }
    let refused = Vault::open(folder(dir.path()), &root(3))
        .await
        .err()
        .unwrap();
    assert!(
        matches!(refused, VaultError::Key(KeyError::Ring { .. })),
        "{refused}"
    );
    assert!(
        files(dir.path(), "keys").is_empty(),
        "no other ring was made beside its content"
    );
}

/// Whatever ends at whatever change of the store: what was acknowledged before reads as it was given, and the vault
/// opens.
#[tokio::test(flavor = "multi_thread")]
async fn a_cut_at_any_change_loses_nothing_that_was_acknowledged() {
    let mut changes = 0;
    loop {
        let inner: Arc<dyn object_store::ObjectStore> = Arc::new(InMemory::new());
        let failing = Failing::after(inner.clone(), changes);
        let store: Arc<dyn object_store::ObjectStore> = Arc::new(failing.clone());
        let mut acknowledged: Vec<(Name, Vec<u8>)> = Vec::new();
        let mut went = false;
        if let Ok(vault) = Vault::open(store, &root(3)).await {
            (acknowledged, went) = blocking(move || story(&vault)).await;
        }
        // Before and after another service has tidied.
        for tidied in [false, true] {
            let vault = Vault::open(inner.clone(), &root(3)).await.unwrap();
            let acknowledged = acknowledged.clone();
            blocking(move || {
                if tidied {
                    let kept: Vec<Name> = acknowledged.iter().map(|(name, _)| *name).collect();
                    let said = tidy(&vault, &kept, 90).unwrap();
                    assert!(said.broken.is_empty());
                    vault.bury(std::time::Duration::ZERO).unwrap();
                }
                for (name, bytes) in &acknowledged {
                    assert_eq!(
                        lost(&vault, *name, bytes),
                        none(),
                        "after {changes} changes"
                    );
                }
            })
            .await;
        }
        if went {
            assert!(failing.left() >= 0 && changes > 20);
            return;
        }
        changes += 1;
    }
}

/// Takes in, forgets, tidies, changes the key; gives what was acknowledged and is kept, and whether it came to its end.
fn story(vault: &Arc<Vault>) -> (Vec<(Name, Vec<u8>)>, bool) {
    let mut kept: Vec<(Name, Vec<u8>)> = Vec::new();
    let mut shared = noise(20 * CHUNK_LEN, 1);
    for round in 0..6_u32 {
        let at = round as usize * 2 * CHUNK_LEN;
        shared[at..at + 2 * CHUNK_LEN].copy_from_slice(&noise(2 * CHUNK_LEN, 100 + round));
        let mut ingest = vault::Ingest::start(vault.hold(), 1);
        for (chunk, part) in (0..).zip(shared.chunks(CHUNK_LEN)) {
            if ingest.push(chunk, Arc::new(part.to_vec())).is_err() {
                break;
            }
        }
        match ingest.finish(shared.len() as u64, None, None) {
            Ok((manifest, _)) => kept.push((manifest.name(), shared.clone())),
            Err(_) => return (kept, false),
        }
        if round == 2 {
            let handle = tokio::runtime::Handle::current();
            if handle.block_on(vault.rekey(&root(3))).is_err() {
                return (kept, false);
            }
        }
        if round % 2 == 1 {
            // The oldest is let go, which is acknowledged too.
            kept.remove(0);
            let names: Vec<Name> = kept.iter().map(|(name, _)| *name).collect();
            if tidy(vault, &names, 90).is_err() || vault.bury(std::time::Duration::ZERO).is_err() {
                return (kept, false);
            }
        }
    }
    (kept, true)
}
