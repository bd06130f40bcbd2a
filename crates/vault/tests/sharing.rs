//! What manifests share, what a crash leaves, several writers at once.

use std::sync::Arc;

use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk, Map, MemoryDisk, Overlay};
use object_store::local::LocalFileSystem;
use vault::{Entry, Ingest, Keys, Manifest, ManifestDisk, Vault};

async fn open(dir: &std::path::Path) -> Arc<Vault> {
    let store = LocalFileSystem::new_with_prefix(dir).unwrap();
    Vault::open(Arc::new(store), Arc::new(Keys::new([3; 32])))
        .await
        .unwrap()
}

fn numbered(chunks: usize) -> Vec<u8> {
    (0..chunks * CHUNK_LEN)
        .map(|at| (at / CHUNK_LEN) as u8 + 1)
        .collect()
}

fn take_in(vault: &Arc<Vault>, bytes: &[u8]) -> Manifest {
    let mut ingest = Ingest::start(vault.clone(), 2);
    for (chunk, part) in bytes.chunks(CHUNK_LEN).enumerate() {
        ingest.push(chunk as u64, Arc::new(part.to_vec())).unwrap();
    }
    ingest.finish(bytes.len() as u64).unwrap().1
}

#[tokio::test(flavor = "multi_thread")]
async fn an_imprint_costs_its_changed_chunks_alone() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    tokio::task::spawn_blocking(move || {
        // The base ends in the middle of a chunk, the card is longer.
        let mut bytes = numbered(20);
        bytes.truncate(20 * CHUNK_LEN - 1000);
        let base = Arc::new(take_in(&vault, &bytes));
        let len = 30 * CHUNK;
        let mut card = Overlay::new(ManifestDisk::new(vault.clone(), base.clone()), len);
        card.write_at(7 * CHUNK + 5, b"settings").unwrap();
        card.write_at(20 * CHUNK - 500, b"beyond the base").unwrap();
        let map = card.map(&base.map());
        let (name, imprint, growth) = base
            .changed(&vault, &card, &map, card.changed_chunks())
            .unwrap();
        assert_eq!(
            growth.new, 4,
            "two chunks, their page, the manifest: {growth:?}"
        );
        assert_eq!(imprint.entry(3), base.entry(3));
        assert_eq!(imprint.entry(25), Entry::Free);
        assert_eq!(imprint.map().total(ByteKind::Free), 10 * CHUNK);
        let stored = ManifestDisk::open(vault.clone(), name).unwrap();
        let mut wanted = vec![0; len as usize];
        card.read_at(0, &mut wanted).unwrap();
        assert!(
            stored.read_vec(0, len as usize).unwrap() == wanted,
            "it reads like the card"
        );

        // A chunk that became zero is not stored; one the map calls free is not kept.
        let mut card = Overlay::new(ManifestDisk::new(vault.clone(), base.clone()), base.len);
        card.write_at(2 * CHUNK, &vec![0; CHUNK_LEN]).unwrap();
        let mut map = card.map(&base.map());
        map.set(10 * CHUNK, 11 * CHUNK, ByteKind::Free);
        let (_, imprint, growth) = base
            .changed(&vault, &card, &map, card.changed_chunks())
            .unwrap();
        assert_eq!(
            (imprint.entry(2), imprint.entry(10)),
            (Entry::Zero, Entry::Free)
        );
        assert_eq!(growth.new, 2, "a page and the manifest");
    })
    .await
    .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_segment_without_its_index_is_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    let manifest = tokio::task::spawn_blocking({
        let vault = vault.clone();
        move || take_in(&vault, &numbered(3))
    })
    .await
    .unwrap();
    // As after a crash between the two: the newest index is gone.
    for entry in std::fs::read_dir(dir.path().join("index")).unwrap() {
        std::fs::remove_file(entry.unwrap().path()).unwrap();
    }
    let again = open(dir.path()).await;
    let Entry::Data(name) = manifest.entry(0) else {
        panic!("chunk 0 has data")
    };
    assert!(vault.holds(name) && !again.holds(name));
    tokio::task::spawn_blocking(move || {
        // What is not known is stored anew, and reads back.
        let manifest = Arc::new(take_in(&again, &numbered(3)));
        let disk = ManifestDisk::new(again, manifest);
        assert!(disk.read_vec(0, 3 * CHUNK_LEN).unwrap() == numbered(3));
    })
    .await
    .unwrap();
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
                let disk = ManifestDisk::new(vault.clone(), Arc::new(take_in(&vault, &bytes)));
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
    tokio::task::spawn_blocking(move || {
        let mut ingest = Ingest::start(vault.clone(), 1);
        ingest.push(0, Arc::new(vec![5; CHUNK_LEN])).unwrap();
        ingest.push(4, Arc::new(vec![6; 10])).unwrap();
        let (_, manifest, _) = ingest.finish(4 * CHUNK + 10).unwrap();
        let kinds: Vec<_> = manifest.map().chunks().collect();
        assert_eq!(kinds, [(0, ByteKind::Data), (4, ByteKind::Data)]);
        assert_eq!(manifest.map(), {
            let mut map = Map::uniform(4 * CHUNK + 10, ByteKind::Free);
            map.set(0, CHUNK, ByteKind::Data);
            map.set(4 * CHUNK, 4 * CHUNK + 10, ByteKind::Data);
            map
        });
        let disk = ManifestDisk::new(vault, Arc::new(manifest));
        let mut wanted = vec![5; CHUNK_LEN];
        wanted.resize(4 * CHUNK_LEN, 0);
        wanted.extend([6; 10]);
        assert_eq!(
            MemoryDisk::from(disk.read_vec(0, wanted.len()).unwrap()),
            MemoryDisk::from(wanted)
        );
    })
    .await
    .unwrap();
}
