//! The vault over each store: what goes in comes out, equal content costs once, damage and a
//! wrong key are noticed.

use std::sync::Arc;

use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk};
use object_store::ObjectStore;
use object_store::local::LocalFileSystem;
use object_store::memory::InMemory;
use vault::{Entry, Ingest, Keys, Manifest, ManifestDisk, Name, Vault, VaultError};

fn keys(byte: u8) -> Arc<Keys> {
    Arc::new(Keys::new([byte; 32]))
}

/// Bytes that do not pack.
fn noise(len: usize, seed: u32) -> Vec<u8> {
    let mut state = seed;
    (0..len)
        .map(|_| {
            state ^= state << 13;
            state ^= state >> 17;
            state ^= state << 5;
            state as u8
        })
        .collect()
}

/// A disk with text, zeros, noise and a short last chunk.
fn disk(seed: u32) -> Vec<u8> {
    let mut bytes = "salt marsh tide table\n".repeat(40_000).into_bytes();
    bytes.resize(9 * CHUNK_LEN, 0);
    bytes.extend(noise(3 * CHUNK_LEN + 77, seed));
    bytes
}

fn take_in(vault: &Arc<Vault>, bytes: &[u8]) -> (Name, Manifest, vault::Growth) {
    let mut ingest = Ingest::start(vault.clone(), 2);
    for (chunk, part) in bytes.chunks(CHUNK_LEN).enumerate() {
        ingest.push(chunk as u64, Arc::new(part.to_vec())).unwrap();
    }
    ingest.finish(bytes.len() as u64).unwrap()
}

async fn conforms(store: Arc<dyn ObjectStore>) {
    let vault = Vault::open(store.clone(), keys(1)).await.unwrap();
    let bytes = disk(7);
    let name = tokio::task::spawn_blocking({
        let (vault, bytes) = (vault.clone(), bytes.clone());
        move || {
            let (name, manifest, growth) = take_in(&vault, &bytes);
            assert!(
                growth.stored > 3 * CHUNK && growth.stored < 5 * CHUNK,
                "{growth:?}"
            );
            assert_eq!(manifest.entry(8), Entry::Zero);
            assert_eq!(manifest.map().total(ByteKind::Zero), 2 * CHUNK);
            let (again, _, growth) = take_in(&vault, &bytes);
            assert_eq!(
                (again, growth.new),
                (name, 0),
                "equal content costs nothing"
            );
            let mut changed = bytes.clone();
            changed[5 * CHUNK_LEN] ^= 1;
            let (other, _, growth) = take_in(&vault, &changed);
            assert_ne!(other, name);
            assert_eq!(growth.new, 3, "one chunk, its page, the manifest");
            name
        }
    })
    .await
    .unwrap();

    // Another process opens the same store.
    drop(vault);
    let vault = Vault::open(store.clone(), keys(1)).await.unwrap();
    tokio::task::spawn_blocking(move || {
        let disk = ManifestDisk::open(vault.clone(), name).unwrap();
        assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
        let mut part = vec![0; 1000];
        disk.read_at(9 * CHUNK - 500, &mut part).unwrap();
        assert!(part == bytes[9 * CHUNK_LEN - 500..][..1000]);
        assert!(disk.read_at(bytes.len() as u64 - 10, &mut part).is_err());
        let missing = ManifestDisk::open(vault, Name([9; 32]));
        assert!(matches!(missing.err(), Some(VaultError::Missing { .. })));
    })
    .await
    .unwrap();
    let wrong = Vault::open(store, keys(2)).await;
    assert!(
        matches!(wrong.err(), Some(VaultError::Key(_))),
        "another key does not open it"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn memory_conforms() {
    conforms(Arc::new(InMemory::new())).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_local_folder_conforms() {
    let dir = tempfile::tempdir().unwrap();
    conforms(Arc::new(
        LocalFileSystem::new_with_prefix(dir.path())
            .unwrap()
            .with_fsync(true),
    ))
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn flipped_bits_are_noticed_and_nothing_is_readable_on_the_disk() {
    let dir = tempfile::tempdir().unwrap();
    let store = Arc::new(LocalFileSystem::new_with_prefix(dir.path()).unwrap());
    let vault = Vault::open(store, keys(1)).await.unwrap();
    let bytes = disk(3);
    let segments = dir.path().join("segment");
    tokio::task::spawn_blocking(move || {
        let (name, _, _) = take_in(&vault, &bytes);
        for entry in std::fs::read_dir(segments).unwrap() {
            let path = entry.unwrap().path();
            let mut raw = std::fs::read(&path).unwrap();
            assert!(!raw.windows(10).any(|w| w == b"salt marsh"), "sealed");
            for at in (100..raw.len()).step_by(60_000) {
                raw[at] ^= 4;
            }
            std::fs::write(&path, raw).unwrap();
        }
        let read =
            ManifestDisk::open(vault, name).map(|disk| disk.read_vec(0, bytes.len()).is_err());
        assert!(
            matches!(read, Err(_) | Ok(true)),
            "damage is never handed out"
        );
    })
    .await
    .unwrap();
}

/// What failed work left behind goes away; what anybody else's manifest names stays.
#[tokio::test(flavor = "multi_thread")]
async fn unnamed_segments_are_removed_and_no_others() {
    let store: Arc<dyn ObjectStore> = Arc::new(InMemory::new());
    let vault = Vault::open(store.clone(), keys(1)).await.unwrap();
    let (kept_bytes, left_bytes) = (noise(40 * CHUNK_LEN, 1), noise(40 * CHUNK_LEN, 2));
    let wanted = kept_bytes.clone();
    let kept = tokio::task::spawn_blocking(move || {
        let (kept, _, kept_growth) = take_in(&vault, &kept_bytes);
        let mut ingest = Ingest::start(vault.clone(), 2);
        for (chunk, bytes) in (0..).zip(left_bytes.chunks(CHUNK_LEN)) {
            ingest.push(chunk, Arc::new(bytes.to_vec())).unwrap();
        }
        let left = ingest.abandon();
        assert!(!left.is_empty());
        let before = vault.stored();
        // A disk that came in meanwhile shares one chunk of what was given up.
        let (sharing, ..) = take_in(&vault, &left_bytes[..CHUNK_LEN]);
        assert_eq!(vault.remove_unnamed(&left, &[kept, sharing]).unwrap(), 0);
        // Without it nothing names them.
        let freed = vault.remove_unnamed(&left, &[kept]).unwrap();
        assert!(freed > 39 * CHUNK && vault.stored() < before, "{freed}");
        let named = vault.remove_unnamed(&kept_growth.segments, &[kept]);
        assert_eq!(named.unwrap(), 0);
        kept
    });
    let kept = kept.await.unwrap();
    let again = Vault::open(store, keys(1)).await.unwrap();
    let read = tokio::task::spawn_blocking(move || {
        let disk = ManifestDisk::open(again, kept).unwrap();
        disk.read_vec(0, wanted.len()).unwrap() == wanted
    });
    assert!(read.await.unwrap());
}

/// A disk out of the vault is a disk like any other, also where chunks come out of the cache.
#[tokio::test(flavor = "multi_thread")]
async fn a_disk_out_of_the_vault_conforms() {
    use imagecraft::conformance::{Writes, sample, suite};
    let vault = Vault::open(Arc::new(InMemory::new()), keys(1))
        .await
        .unwrap();
    tokio::task::spawn_blocking(move || {
        let bytes = sample();
        let (name, ..) = take_in(&vault, &bytes);
        for _ in 0..2 {
            let mut disk = ManifestDisk::open(vault.clone(), name).unwrap();
            suite(&mut disk, &bytes, Writes::Refused);
        }
    })
    .await
    .unwrap();
}
