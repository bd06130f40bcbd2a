//! A second vault has what this one had when the copy began, whatever is added, let go and tidied away meanwhile.

mod common;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use common::{blocking, folder, noise, open, root, take_in, tidy};
use imagecraft::{CHUNK_LEN, Disk};
use vault::{ManifestDisk, Name, Vault, VaultError};

/// Contents by the names of their manifests.
type Kept = BTreeMap<Name, Vec<u8>>;

fn add(vault: &Arc<Vault>, kept: &mut Kept, seed: u32) {
    let bytes = noise((1 + seed as usize % 4) * CHUNK_LEN, seed);
    kept.insert(take_in(vault, &bytes).0.name(), bytes);
}

fn tidied(vault: &Arc<Vault>, kept: &Kept, copy_below: u8) {
    let names: Vec<_> = kept.keys().copied().collect();
    let tidied = tidy(vault, &names, copy_below).unwrap();
    assert!(tidied.broken.is_empty(), "{tidied:?}");
    vault.bury(Duration::ZERO).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_kept_is_in_the_second_vault_whatever_is_tidied_meanwhile() {
    let seed = SystemTime::UNIX_EPOCH.elapsed().unwrap().subsec_nanos();
    println!("seed {seed}");
    for turn in 0..6 {
        let (dir, second) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let vault = open(dir.path()).await;
        let to = folder(second.path());
        let wanted = blocking(move || {
            let chance = |number: u32| noise(8, seed ^ (turn * 1000 + number))[7];
            let mut kept = Kept::new();
            for number in 0..12 {
                add(&vault, &mut kept, 1 + turn * 100 + number);
            }
            let before: Vec<_> = kept.keys().copied().collect();
            let mut asked = 0;
            let mut meanwhile = |done: u64, of: u64| {
                assert!(done <= of, "{done} of {of}");
                asked += 1;
                // Not for ever, or it would never end.
                match chance(asked) % 6 {
                    _ if asked > 40 => {}
                    0 => tidied(&vault, &kept, 50),
                    1 => add(&vault, &mut kept, 5000 + asked),
                    2 => {
                        kept.pop_first();
                    }
                    _ => {}
                }
                true
            };
            let copied = vault
                .copy_to(&to, &root(3), true, &[], &mut meanwhile)
                .unwrap();
            assert!(copied.damaged.is_empty() && copied.segments > 0);
            kept.retain(|name, _| before.contains(name));
            kept
        })
        .await;
        let copy = open(second.path()).await;
        blocking(move || reads(&copy, &wanted)).await;
    }
}

fn reads(vault: &Arc<Vault>, wanted: &Kept) {
    for (name, bytes) in wanted {
        let disk = ManifestDisk::open(vault, *name).unwrap();
        assert!(disk.read_vec(0, bytes.len()).unwrap() == *bytes, "{name:?}");
    }
}

/// All small segments are put together into one while they are copied, and they themselves go.
#[tokio::test(flavor = "multi_thread")]
async fn what_moved_while_it_was_copied_is_copied_from_its_new_place() {
    let (dir, second) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let vault = open(dir.path()).await;
    let to = folder(second.path());
    let kept = blocking(move || {
        let mut kept = Kept::new();
        for number in 0..20 {
            add(&vault, &mut kept, 1 + number);
        }
        let mut asked = 0;
        let mut meanwhile = |_, _| {
            asked += 1;
            if asked == 4 {
                tidied(&vault, &kept, 50);
            }
            true
        };
        vault
            .copy_to(&to, &root(3), true, &[], &mut meanwhile)
            .unwrap();
        kept
    })
    .await;
    let copy = open(second.path()).await;
    blocking(move || reads(&copy, &kept)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_that_was_stopped_goes_on_where_it_was() {
    let (dir, second) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let vault = open(dir.path()).await;
    let to = folder(second.path());
    blocking(move || {
        let mut kept = Kept::new();
        for number in 0..10 {
            add(&vault, &mut kept, 1 + number);
        }
        let mut asked = 0;
        let mut some = |_, _| {
            asked += 1;
            asked < 5
        };
        let stopped = vault.copy_to(&to, &root(3), true, &[], &mut some);
        assert!(matches!(stopped, Err(VaultError::Cancelled)), "{stopped:?}");
        let copied = vault
            .copy_to(&to, &root(3), true, &[], &mut |_, _| true)
            .unwrap();
        assert_eq!(copied.there, 4);
        assert_eq!(
            copied.segments + copied.there,
            vault.segments().len() as u64
        );
        let again = vault
            .copy_to(&to, &root(3), true, &[], &mut |_, _| true)
            .unwrap();
        assert_eq!((again.segments, again.bytes), (0, 0));
        assert_eq!(again.there, vault.segments().len() as u64);
    })
    .await;
}
