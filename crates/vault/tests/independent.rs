//! A reader of another hand, written from docs/vault-format.md, reads what the vault wrote: that is what the document
//! is worth.

mod common;

use std::path::Path;
use std::process::Command;

use common::{blocking, noise, tidy};
use imagecraft::{ByteKind, CHUNK, CHUNK_LEN, Disk, Overlay};
use vault::{ManifestDisk, Root, Vault};

/// Reads a disk out with the system's Python.
fn read_out(key: &Path, vault: &Path, manifest: &str, out: &Path) {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/read_vault.py");
    let said = Command::new("/usr/bin/python3")
        .arg(script)
        .args([key, vault])
        .arg(manifest)
        .arg(out)
        .output();
    let said = said.expect("python3 must be installed");
    let why = String::from_utf8_lossy(&said.stderr);
    assert!(
        said.status.success(),
        "python3-nacl and python3-zstandard must be installed: {why}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reader_of_another_hand_reads_what_was_stored() {
    let dir = tempfile::tempdir().unwrap();
    let (key, folder) = (dir.path().join("team.key"), dir.path().join("vault"));
    let root = Root::by_chance().unwrap();
    root.save(&key).unwrap();
    std::fs::create_dir(&folder).unwrap();
    let vault = Vault::open(common::folder(&folder), &root).await.unwrap();
    let disks = blocking(move || {
        // More than a page, text and noise and zeros, the end within a chunk.
        let mut bytes = "the tide comes in\n".repeat(900_000).into_bytes();
        bytes.extend(noise(20 * CHUNK_LEN, 3));
        bytes.resize(1100 * CHUNK_LEN + 300, 0);
        bytes.extend(b"the end");
        let (release, _) = common::take_in(&vault, &bytes);
        // An imprint of it, grown, told from it.
        let mut card = Overlay::new(ManifestDisk::new(release.clone()), 3000 * CHUNK);
        card.write_at(5 * CHUNK + 17, b"quay-03").unwrap();
        card.write_at(2500 * CHUNK, b"grown").unwrap();
        let mut map = card.map(&release.map().unwrap());
        map.set(2900 * CHUNK, 3000 * CHUNK, ByteKind::Zero);
        let (imprint, _) = release
            .changed(&vault.hold(), &card, &map, card.changed_chunks(), None)
            .unwrap();
        // A backup of that under another key, after a tidying that copied.
        let mut whole = vec![0; 3000 * CHUNK_LEN];
        card.read_at(0, &mut whole).unwrap();
        let handle = tokio::runtime::Handle::current();
        let next = Root::by_chance().unwrap();
        handle.block_on(vault.rekey(&next)).unwrap();
        std::fs::remove_file(&key).unwrap();
        next.save(&key).unwrap();
        let mut changed = whole.clone();
        changed[1024 * CHUNK_LEN] = 9;
        let (backup, _) = common::take_in_like(&vault, &changed, Some(&imprint));
        tidy(&vault, &[release.name(), imprint.name(), backup.name()], 99).unwrap();
        vault.bury(std::time::Duration::ZERO).unwrap();
        (
            key,
            [
                (release.name(), bytes),
                (imprint.name(), whole),
                (backup.name(), changed),
            ],
        )
    })
    .await;
    let (key, disks) = disks;
    for (number, (manifest, bytes)) in disks.into_iter().enumerate() {
        let out = dir.path().join(format!("out-{number}"));
        read_out(&key, &folder, &hex::encode(manifest.0), &out);
        assert!(std::fs::read(&out).unwrap() == bytes, "disk {number}");
    }
}
