//! What tells of many chunks lies twice: no loss of one object costs a manifest or a page. What an inspection finds whole in
//! one place is made good in the other. Damage is done to the files, and what is judged is what disks read like.

mod common;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use common::{blocking, files, folder, noise, open, root, take_in, take_in_like, tidy};
use imagecraft::{CHUNK_LEN, Disk};
use vault::{Entry, Manifest, ManifestDisk, Name, Vault, VaultError, store_at};

/// Three disks, each but the first told from the one before, and the bytes of each.
async fn three_disks(dir: &Path) -> Vec<(Name, Vec<u8>)> {
    let vault = open(dir).await;
    blocking(move || {
        let mut bytes = noise(1500 * CHUNK_LEN / 10, 5);
        let mut all = Vec::new();
        let mut like: Option<Manifest> = None;
        for turn in 0..3_u32 {
            let at = turn as usize * 3 * CHUNK_LEN;
            bytes[at..at + CHUNK_LEN].copy_from_slice(&noise(CHUNK_LEN, 90 + turn));
            let (manifest, _) = take_in_like(&vault, &bytes, like.as_ref());
            all.push((manifest.name(), bytes.clone()));
            like = Some(manifest);
        }
        all
    })
    .await
}

/// The entries of a disk can be told: nothing but chunks is missing.
fn is_told(vault: &Arc<Vault>, name: Name) {
    let manifest = Manifest::load(vault, name).unwrap_or_else(|e| panic!("{name:?}: {e}"));
    let chunks = manifest.len.div_ceil(CHUNK_LEN as u64);
    for chunk in 0..chunks {
        manifest.entry(chunk).unwrap_or_else(|e| panic!("{e}"));
    }
}

fn reads(vault: &Arc<Vault>, (name, bytes): &(Name, Vec<u8>)) {
    let disk = ManifestDisk::open(vault, *name).unwrap();
    assert!(disk.read_vec(0, bytes.len()).unwrap() == *bytes, "{name:?}");
}

fn inspected(vault: &Vault) -> vault::Inspected {
    vault.inspect(None, u64::MAX, &mut |_, _| true).unwrap()
}

fn spoil(file: &Path, how: usize) {
    let mut raw = std::fs::read(file).unwrap();
    match how {
        0 => std::fs::remove_file(file).unwrap(),
        1 => {
            raw.fill(0);
            std::fs::write(file, raw).unwrap();
        }
        _ => {
            raw.truncate(raw.len() / 3);
            std::fs::write(file, raw).unwrap();
        }
    }
}

/// Each segment in turn is lost or spoilt: all three manifests can be told all the same; after an inspection everything
/// lies twice again, so that the next loss costs none either.
#[tokio::test(flavor = "multi_thread")]
async fn no_loss_of_one_object_costs_a_manifest() {
    for how in 0..3 {
        let dir = tempfile::tempdir().unwrap();
        let disks = three_disks(dir.path()).await;
        let mut tried: Vec<PathBuf> = Vec::new();
        for _ in 0..8 {
            let segment = files(dir.path(), "segment")
                .into_iter()
                .find(|file| !tried.contains(file));
            let Some(segment) = segment else { break };
            spoil(&segment, how);
            tried.push(segment);
            let vault = open(dir.path()).await;
            let names: Vec<Name> = disks.iter().map(|(name, _)| *name).collect();
            blocking(move || {
                names.iter().for_each(|name| is_told(&vault, *name));
                inspected(&vault);
                names.iter().for_each(|name| is_told(&vault, *name));
            })
            .await;
        }
        assert!(tried.len() >= 6, "{tried:?}");
        // The same content stored again mends what is left: chunks.
        let vault = open(dir.path()).await;
        blocking(move || {
            for disk in &disks {
                take_in(&vault, &disk.1);
                reads(&vault, disk);
            }
        })
        .await;
    }
}

/// Put together by tidying, or sealed anew, it still lies in two segments.
#[tokio::test(flavor = "multi_thread")]
async fn what_lies_twice_does_so_after_tidying() {
    let dir = tempfile::tempdir().unwrap();
    let disks = three_disks(dir.path()).await;
    let vault = open(dir.path()).await;
    let kept: Vec<Name> = disks.iter().map(|(name, _)| *name).collect();
    blocking(move || {
        for seed in 0..20 {
            take_in(&vault, &noise(3 * CHUNK_LEN, 1000 + seed));
        }
        for _ in 0..3 {
            let said = tidy(&vault, &kept, 90).unwrap();
            assert!(said.broken.is_empty());
            vault.bury(std::time::Duration::ZERO).unwrap();
        }
    })
    .await;
    for segment in files(dir.path(), "segment") {
        let raw = std::fs::read(&segment).unwrap();
        std::fs::remove_file(&segment).unwrap();
        let vault = open(dir.path()).await;
        let names: Vec<Name> = disks.iter().map(|(name, _)| *name).collect();
        blocking(move || names.iter().for_each(|name| is_told(&vault, *name))).await;
        std::fs::write(&segment, raw).unwrap();
    }
    let vault = open(dir.path()).await;
    let once = blocking(move || inspected(&vault).doubled).await;
    assert_eq!(once, 0);
}

/// Heads of pieces are of no use while there is an index, and everything without one: an inspection makes them good.
#[tokio::test(flavor = "multi_thread")]
async fn damaged_heads_are_found_while_there_is_an_index() {
    let dir = tempfile::tempdir().unwrap();
    let disks = three_disks(dir.path()).await;
    let mut hit = 0;
    for (turn, file) in files(dir.path(), "segment").into_iter().enumerate() {
        let mut raw = std::fs::read(&file).unwrap();
        let heads: Vec<usize> = (16..raw.len() - 4)
            .filter(|at| &raw[*at..*at + 4] == b"\xd5pc2")
            .collect();
        for head in heads.iter().step_by(3) {
            raw[head + [0, 2, 4, 9, 12, 43][turn % 6]] ^= 0x20;
            hit += 1;
        }
        if turn == 1 {
            raw[3] ^= 1;
        }
        std::fs::write(&file, raw).unwrap();
    }
    assert!(hit > 10);
    let vault = open(dir.path()).await;
    let seen = blocking(move || inspected(&vault)).await;
    assert!(seen.bad.is_empty() && seen.undescribed >= hit, "{seen:?}");
    for index in files(dir.path(), "index") {
        std::fs::remove_file(index).unwrap();
    }
    let vault = open(dir.path()).await;
    blocking(move || disks.iter().for_each(|disk| reads(&vault, disk))).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_index_that_is_spoilt_while_the_vault_is_open_is_made_again() {
    let dir = tempfile::tempdir().unwrap();
    three_disks(dir.path()).await;
    let vault = open(dir.path()).await;
    let indexes = files(dir.path(), "index");
    std::fs::write(&indexes[0], b"nonsense").unwrap();
    std::fs::remove_file(&indexes[1]).unwrap();
    let seen = blocking(move || inspected(&vault)).await;
    assert_eq!(seen.indexes, 2);
    assert_eq!(open(dir.path()).await.opened(), &vault::Opened::default());
}

/// What is damaged is met when it is read, counts as not there from then on, and is stored anew by whoever brings the
/// same content, although nobody inspected the vault.
#[tokio::test(flavor = "multi_thread")]
async fn damage_that_is_met_is_no_content_to_share() {
    let dir = tempfile::tempdir().unwrap();
    let disks = three_disks(dir.path()).await;
    let vault = open(dir.path()).await;
    let largest = files(dir.path(), "segment")
        .into_iter()
        .max_by_key(|file| file.metadata().unwrap().len())
        .unwrap();
    let mut raw = std::fs::read(&largest).unwrap();
    let middle = raw.len() / 2;
    raw[middle] ^= 4;
    std::fs::write(&largest, raw).unwrap();
    let name = disks[2].0;
    blocking(move || {
        assert!(!vault.met_damage());
        let disk = ManifestDisk::open(&vault, name).unwrap();
        assert!(disk.read_vec(0, disk.len() as usize).is_err());
        assert!(vault.met_damage() && !vault.met_damage());
        assert_eq!(vault.missing(&[name], 10)[0].1.len(), 1);
        let like = Manifest::load(&vault, disks[1].0).unwrap();
        let (again, growth) = take_in_like(&vault, &disks[2].1, Some(&like));
        assert_eq!((again.name(), growth.new), (name, 1));
        reads(&vault, &disks[2]);
    })
    .await;
}

/// A page that memory still has and the store has lost in both places is stored with the next content that is told from it.
#[tokio::test(flavor = "multi_thread")]
async fn what_only_memory_has_is_stored_again() {
    let dir = tempfile::tempdir().unwrap();
    let vault = open(dir.path()).await;
    let mut bytes = noise(40 * CHUNK_LEN, 3);
    let (before, first) = {
        let (vault, bytes) = (vault.clone(), bytes.clone());
        blocking(move || {
            let (manifest, _) = take_in(&vault, &bytes);
            let Entry::Data(_) = manifest.entry(0).unwrap() else {
                panic!("its page was read")
            };
            (files(dir.path(), "segment"), (manifest, dir))
        })
        .await
    };
    let (manifest, dir) = first;
    // The small ones hold pages and roots alone.
    for file in before {
        if file.metadata().unwrap().len() < 100_000 {
            std::fs::remove_file(file).unwrap();
        }
    }
    bytes[..CHUNK_LEN].copy_from_slice(&noise(CHUNK_LEN, 4));
    let kept = {
        let (vault, bytes) = (vault.clone(), bytes.clone());
        blocking(move || {
            let (again, _) = take_in_like(&vault, &bytes, Some(&manifest));
            (again.name(), bytes)
        })
        .await
    };
    let vault = open(dir.path()).await;
    blocking(move || reads(&vault, &kept)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_vault_is_read_and_what_is_damaged_there_goes_there_again() {
    let (dir, second) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let disks = three_disks(dir.path()).await;
    let to = store_at(second.path().to_str().unwrap()).unwrap();
    let vault = open(dir.path()).await;
    {
        let (vault, to) = (vault.clone(), to.clone());
        blocking(move || {
            let all = &mut |_, _| true;
            let empty = vault.copy_to(&to, &root(3), false, &[], all);
            assert!(matches!(empty, Err(VaultError::Empty)), "{empty:?}");
            let empty = vault.check_second(&to, None, u64::MAX, all);
            assert!(matches!(empty, Err(VaultError::Empty)), "{empty:?}");
            vault.copy_to(&to, &root(3), true, &[], all).unwrap();
        })
        .await;
        assert!(files(second.path(), "segment").len() >= 6);
    }
    // The same length, one bit: a sealed byte here, a head there; and an index.
    let segments = files(second.path(), "segment");
    for (file, at) in [(&segments[0], 17), (&segments[1], 200)] {
        let mut raw = std::fs::read(file).unwrap();
        raw[at] ^= 1;
        std::fs::write(file, raw).unwrap();
    }
    std::fs::remove_file(&files(second.path(), "index")[2]).unwrap();
    blocking(move || {
        let all = &mut |_, _| true;
        let (mut found, mut after, mut shares) = (Vec::new(), None, 0);
        loop {
            let checked = vault
                .check_second(&to, after.as_deref(), vault.stored() / 3, all)
                .unwrap();
            found.extend(checked.damaged);
            shares += 1;
            match checked.next {
                Some(next) => after = Some(next.to_string()),
                None => break,
            }
        }
        assert!(shares > 1);
        assert_eq!(found.len(), 3, "{found:?}");
        let copied = vault.copy_to(&to, &root(3), false, &found, all).unwrap();
        assert_eq!(copied.replaced, 3, "{copied:?}");
        let checked = vault.check_second(&to, None, u64::MAX, all).unwrap();
        assert!(checked.damaged.is_empty());
    })
    .await;
    let copy = open(second.path()).await;
    blocking(move || disks.iter().for_each(|disk| reads(&copy, disk))).await;
}

/// What tidying frees is what was said before, however much the contents share.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_said_to_be_freed_is_freed() {
    for seed in 0..6_u32 {
        let dir = tempfile::tempdir().unwrap();
        let vault = open(dir.path()).await;
        blocking(move || {
            let mut shared = noise(30 * CHUNK_LEN, seed + 1);
            let mut names = Vec::new();
            for turn in 0..5 {
                let at = (turn as usize * 7 + seed as usize) % 25 * CHUNK_LEN;
                shared[at..at + 4 * CHUNK_LEN].copy_from_slice(&noise(4 * CHUNK_LEN, 50 + turn));
                names.push(take_in(&vault, &shared).0.name());
            }
            let kept: Vec<Name> = names.split_off(1 + seed as usize % 4);
            let said = vault.would_free(&kept, &|_, _| false, 50).unwrap();
            let before = vault.stored();
            tidy(&vault, &kept, 50).unwrap();
            let freed = before - vault.stored();
            // A new segment has a head of its own.
            assert!(freed.abs_diff(said) <= 64, "{said} were said, {freed} went");
            assert!(
                vault
                    .would_free(&[Name([7; 32])], &|_, _| false, 50)
                    .is_none()
            );
        })
        .await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_vault_that_is_not_there_is_not_begun_unasked() {
    let dir = tempfile::tempdir().unwrap();
    let refused = Vault::open_existing(folder(dir.path()), &root(3)).await;
    assert!(matches!(refused, Err(VaultError::Empty)));
    assert!(std::fs::read_dir(dir.path()).unwrap().next().is_none());
    let vault = open(dir.path()).await;
    vault.answers().await.unwrap();
    Vault::open_existing(folder(dir.path()), &root(3))
        .await
        .unwrap();
    std::fs::remove_dir_all(dir.path().join("keys")).unwrap();
    assert!(matches!(vault.answers().await, Err(VaultError::Empty)));
}

#[tokio::test(flavor = "multi_thread")]
async fn names_that_no_object_has_do_not_stop_the_start() {
    use std::os::unix::ffi::OsStrExt;
    let dir = tempfile::tempdir().unwrap();
    let disks = three_disks(dir.path()).await;
    for (kind, name) in [
        ("segment", &b"p\xe4ge"[..]),
        ("segment", b"0123#2"),
        ("index", b"\xff"),
        ("keys", b"k\xfcy"),
    ] {
        let file = dir
            .path()
            .join(kind)
            .join(std::ffi::OsStr::from_bytes(name));
        std::fs::write(file, "of another").unwrap();
    }
    let store = store_at(dir.path().to_str().unwrap()).unwrap();
    let vault = Vault::open(store, &root(3)).await.unwrap();
    blocking(move || disks.iter().for_each(|disk| reads(&vault, disk))).await;
}
