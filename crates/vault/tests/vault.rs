//! The vault over each store: what goes in comes out, equal content costs once, a wrong key is noticed.

mod common;

use std::sync::Arc;

use common::{blocking, folder, noise, root, take_in, tidy};
use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk};
use object_store::ObjectStore;
use object_store::memory::InMemory;
use vault::{Entry, KeyError, Manifest, ManifestDisk, Name, Vault, VaultError};

/// A disk with text, zeros, noise and a short last chunk.
fn disk(seed: u32) -> Vec<u8> {
    let mut bytes = "salt marsh tide table\n".repeat(40_000).into_bytes();
    bytes.resize(9 * CHUNK_LEN, 0);
    bytes.extend(noise(3 * CHUNK_LEN + 77, seed));
    bytes
}

/// What every store must do under the vault.
async fn conforms(store: Arc<dyn ObjectStore>) {
    let vault = Vault::open(store.clone(), &root(1)).await.unwrap();
    let bytes = disk(7);
    let (name, gone) = blocking({
        let (vault, bytes) = (vault.clone(), bytes.clone());
        move || {
            let (manifest, growth) = take_in(&vault, &bytes);
            assert!(
                growth.stored > 3 * CHUNK && growth.stored < 5 * CHUNK,
                "{growth:?}"
            );
            assert_eq!(manifest.entry(8).unwrap(), Entry::Zero);
            let map = manifest.map().unwrap();
            assert_eq!(map.total(ByteKind::Zero), 2 * CHUNK);
            let (again, growth) = take_in(&vault, &bytes);
            assert_eq!(
                (again.name(), growth.new),
                (manifest.name(), 0),
                "equal content costs nothing"
            );
            let mut changed = bytes.clone();
            changed[5 * CHUNK_LEN] ^= 1;
            let (other, growth) = take_in(&vault, &changed);
            assert_ne!(other.name(), manifest.name());
            assert_eq!(growth.new, 3, "one chunk, its page, the manifest");
            let (left, _) = take_in(&vault, &noise(4 * CHUNK_LEN, 99));
            (manifest.name(), left.name())
        }
    })
    .await;

    // Another process opens the same store.
    drop(vault);
    let vault = Vault::open(store.clone(), &root(1)).await.unwrap();
    assert_eq!(vault.opened(), &vault::Opened::default());
    let tidied = blocking({
        let (vault, bytes) = (vault.clone(), bytes.clone());
        move || {
            let disk = ManifestDisk::open(&vault, name).unwrap();
            assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
            let mut part = vec![0; 1000];
            disk.read_at(9 * CHUNK - 500, &mut part).unwrap();
            assert!(part == bytes[9 * CHUNK_LEN - 500..][..1000]);
            assert!(disk.read_at(bytes.len() as u64 - 10, &mut part).is_err());
            let missing = ManifestDisk::open(&vault, Name([9; 32]));
            assert!(matches!(missing.err(), Some(VaultError::Missing { .. })));
            let seen = vault.inspect(None, u64::MAX, &mut |_, _| true).unwrap();
            assert!(seen.bad.is_empty() && seen.next.is_none() && seen.pieces > 6);
            let tidied = tidy(&vault, &[name], 50).unwrap();
            assert_eq!(
                vault.bury(std::time::Duration::ZERO).unwrap(),
                tidied.segments
            );
            tidied
        }
    })
    .await;
    assert!(tidied.freed > 4 * CHUNK, "{tidied:?}");
    let vault = Vault::open(store.clone(), &root(1)).await.unwrap();
    assert_eq!(vault.opened(), &vault::Opened::default());
    blocking(move || {
        let disk = ManifestDisk::open(&vault, name).unwrap();
        assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
        assert!(Manifest::load(&vault, gone).is_err());
    })
    .await;
    let wrong = Vault::open(store, &root(2)).await;
    assert!(
        matches!(
            wrong.err(),
            Some(VaultError::Key(KeyError::OtherVault { .. }))
        ),
        "another key does not open it"
    );
}

/// Services that begin one vault at the same moment have the same keys; each reads what another stored.
async fn is_begun_once(fresh: impl Fn() -> Arc<dyn ObjectStore>) {
    for round in 0..15 {
        let store = fresh();
        let start = Arc::new(tokio::sync::Barrier::new(4));
        let begun: Vec<_> = (0..4)
            .map(|_| {
                let (store, start) = (store.clone(), start.clone());
                tokio::spawn(async move {
                    start.wait().await;
                    Vault::open(store, &root(1)).await
                })
            })
            .collect();
        let mut all = Vec::new();
        for one in begun {
            let one = one.await.unwrap();
            all.push(one.unwrap_or_else(|e| panic!("round {round}: {e}")));
        }
        let sealed = all[0].keys().seal_secret("quay", "ebb and flow").unwrap();
        for vault in &all {
            let opened = vault.keys().open_secret("quay", &sealed).unwrap();
            assert_eq!(opened, "ebb and flow", "round {round}");
        }
        // What each of them stored is read by whoever comes later.
        let stored = blocking(move || {
            let each = all.iter().enumerate();
            each.map(|(number, vault)| {
                let bytes = noise(2 * CHUNK_LEN, number as u32);
                (take_in(vault, &bytes).0.name(), bytes)
            })
            .collect::<Vec<_>>()
        })
        .await;
        let later = Vault::open(store, &root(1)).await.unwrap();
        blocking(move || {
            for (name, bytes) in stored {
                let disk = ManifestDisk::open(&later, name).unwrap();
                assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
            }
        })
        .await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn memory_conforms() {
    conforms(Arc::new(InMemory::new())).await;
    is_begun_once(|| Arc::new(InMemory::new())).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_local_folder_conforms() {
    let dir = tempfile::tempdir().unwrap();
    let at = |name: &str| {
        let folder = dir.path().join(name);
        std::fs::create_dir_all(&folder).unwrap();
        vault::store_at(folder.to_str().unwrap()).unwrap()
    };
    conforms(at("one")).await;
    let number = std::sync::atomic::AtomicU32::new(0);
    is_begun_once(|| {
        let number = number.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        at(&format!("begun-{number}"))
    })
    .await;
}

/// A server that speaks S3 over a folder, on loopback, until it is dropped. `scripts/setup test` installs it.
struct S3Server(std::process::Child, String);

impl Drop for S3Server {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl S3Server {
    fn start(folder: &std::path::Path) -> Self {
        let port = {
            let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
            free.local_addr().unwrap().port()
        };
        let program = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/tools/bin/s3s-fs");
        let child = std::process::Command::new(program)
            .args(["--host", "127.0.0.1", "--port", &port.to_string()])
            .args(["--access-key", "marit", "--secret-key", "salt"])
            .arg(folder)
            .stderr(std::process::Stdio::null())
            .stdout(std::process::Stdio::null())
            .spawn()
            .expect("scripts/setup test installs the server");
        let begun = std::time::Instant::now();
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(begun.elapsed().as_secs() < 20, "the server does not answer");
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        Self(child, format!("http://127.0.0.1:{port}"))
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bucket_of_a_server_that_speaks_s3_conforms() {
    let dir = tempfile::tempdir().unwrap();
    std::fs::create_dir(dir.path().join("quay")).unwrap();
    let server = S3Server::start(dir.path());
    // Only the first call counts.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let bucket = object_store::aws::AmazonS3Builder::new()
        .with_endpoint(server.1.clone())
        .with_allow_http(true)
        .with_bucket_name("quay")
        .with_access_key_id("marit")
        .with_secret_access_key("salt")
        .with_region("us-east-1")
        .build()
        .unwrap();
    conforms(Arc::new(object_store::prefix::PrefixStore::new(
        bucket, "vault",
    )))
    .await;
    let stored = std::fs::read_dir(dir.path().join("quay/vault/segment")).unwrap();
    assert!(stored.count() > 0, "it is all in the bucket");
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_readable_on_the_disk() {
    let dir = tempfile::tempdir().unwrap();
    let vault = Vault::open(folder(dir.path()), &root(1)).await.unwrap();
    blocking(move || {
        let (manifest, _) = take_in(&vault, &disk(3));
        vault::note(&vault.hold(), "salt marsh of quay-03").unwrap();
        assert_eq!(vault.notes().next().unwrap().1, "salt marsh of quay-03");
        manifest.name()
    })
    .await;
    let mut seen = 0;
    for kind in ["segment", "index", "keys"] {
        for file in common::files(dir.path(), kind) {
            let raw = std::fs::read(&file).unwrap();
            assert!(!raw.windows(10).any(|w| w == b"salt marsh"), "{file:?}");
            seen += 1;
        }
    }
    assert!(seen >= 4);
}

/// A disk out of the vault is a disk like any other, also where chunks come out of the cache.
#[tokio::test(flavor = "multi_thread")]
async fn a_disk_out_of_the_vault_conforms() {
    use imagecraft::conformance::{Writes, sample, suite};
    let vault = Vault::open(Arc::new(InMemory::new()), &root(1))
        .await
        .unwrap();
    blocking(move || {
        let bytes = sample();
        let (manifest, _) = take_in(&vault, &bytes);
        for _ in 0..2 {
            let mut disk = ManifestDisk::open(&vault, manifest.name()).unwrap();
            suite(&mut disk, &bytes, Writes::Refused);
        }
    })
    .await;
}

/// The root can be changed at any time, and the end of the service between any two steps leaves one that opens it.
#[tokio::test(flavor = "multi_thread")]
async fn the_key_is_changed_and_the_old_one_opens_nothing_new() {
    let store: Arc<dyn ObjectStore> = Arc::new(InMemory::new());
    let vault = Vault::open(store.clone(), &root(1)).await.unwrap();
    let before = disk(1);
    let old = blocking({
        let (vault, bytes) = (vault.clone(), before.clone());
        move || take_in(&vault, &bytes).0.name()
    })
    .await;
    let secret = vault.keys().seal_secret("x", "y").unwrap();
    vault.rekey(&root(2)).await.unwrap();
    // Between the two, either opens it.
    for byte in [1, 2] {
        let vault = Vault::open(store.clone(), &root(byte)).await.unwrap();
        assert_eq!(vault.keys().open_secret("x", &secret).unwrap(), "y");
    }
    vault.forget_root(&root(1).id()).await.unwrap();
    assert!(Vault::open(store.clone(), &root(1)).await.is_err());
    let after = disk(2);
    let new = blocking({
        let (vault, bytes) = (vault.clone(), after.clone());
        move || take_in(&vault, &bytes).0.name()
    })
    .await;
    drop(vault);
    let vault = Vault::open(store.clone(), &root(2)).await.unwrap();
    blocking({
        let vault = vault.clone();
        move || {
            // What was sealed before is sealed anew when it is tidied.
            let tidied = vault.tidy(vault::Tidying {
                kept: &mut || Ok(vec![old, new]),
                note_stays: &|_, _| false,
                only: None,
                copy_below: 0,
                seal_anew: true,
                progress: &mut |_, _| true,
            });
            assert!(tidied.unwrap().copied > 3 * CHUNK);
            vault.bury(std::time::Duration::ZERO).unwrap();
            for (name, bytes) in [(old, &before), (new, &after)] {
                let disk = ManifestDisk::open(&vault, name).unwrap();
                assert!(disk.read_vec(0, bytes.len()).unwrap() == *bytes);
            }
        }
    })
    .await;
    // Every segment says the new key's number now.
    let mut segments =
        futures::TryStreamExt::try_collect::<Vec<_>>(store.list(Some(&"segment".into())))
            .await
            .unwrap();
    segments.sort_by_key(|object| object.location.clone());
    for object in segments {
        use object_store::ObjectStoreExt;
        let head = store.get_range(&object.location, 0..16).await.unwrap();
        assert_eq!(head[12..], vault.keys().newest().to_le_bytes());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_vault_of_the_former_format_is_refused_in_words() {
    let dir = tempfile::tempdir().unwrap();
    for (kind, content) in [("segment", vec![1; 5000]), ("index", vec![1; 80])] {
        std::fs::create_dir_all(dir.path().join(kind)).unwrap();
        std::fs::write(dir.path().join(kind).join("00ff"), content).unwrap();
    }
    let refused = Vault::open(folder(dir.path()), &root(1))
        .await
        .err()
        .unwrap();
    assert!(refused.to_string().contains("format 1"), "{refused}");
    assert!(
        common::files(dir.path(), "keys").is_empty(),
        "nothing was touched"
    );
}
