//! Several services over one vault: each finds what the others stored, and nothing goes that another relies on.

mod common;
mod workers;

use std::collections::HashSet;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use common::{blocking, noise, open, take_in};
use imagecraft::{CHUNK, CHUNK_LEN, Disk};
use vault::{Kind, ManifestDisk, Name, Others, Round, SegmentId, Vault, VaultError};
use workers::{Recorded, tidy_by, work};

/// Services that know each other, without anything between them.
#[derive(Default)]
struct Team {
    all: Mutex<Vec<Arc<Vault>>>,
    /// The turn of tidying.
    turn: Mutex<()>,
    rounds: AtomicU64,
}

impl Team {
    /// Another service begins to work with the vault.
    async fn join(self: &Arc<Self>, dir: &Path) -> Arc<Vault> {
        let vault = open(dir).await;
        vault.share_with(Arc::new(Seen {
            team: self.clone(),
            by: self.all.lock().unwrap().len(),
        }));
        let others = {
            let mut all = self.all.lock().unwrap();
            all.push(vault.clone());
            all.clone()
        };
        for other in &others {
            vault.others_delete(&other.leaving());
        }
        vault
    }
}

/// The team as one of its services sees it.
struct Seen {
    team: Arc<Team>,
    by: usize,
}

impl Seen {
    fn others(&self) -> Vec<Arc<Vault>> {
        let all = self.team.all.lock().unwrap();
        let others = all.iter().enumerate().filter(|(at, _)| *at != self.by);
        others.map(|(_, vault)| vault.clone()).collect()
    }
}

impl Others for Seen {
    fn begin(&self) -> Result<Box<dyn Round>, VaultError> {
        let number = self.team.rounds.fetch_add(1, Ordering::Relaxed);
        let name = format!("round {number}");
        for other in self.others() {
            if !other.begin_for_another(&name) {
                return Err(VaultError::Others("another one tidies".into()));
            }
        }
        Ok(Box::new(Begun {
            seen: Self {
                team: self.team.clone(),
                by: self.by,
            },
            name,
        }))
    }

    fn forget(&self, names: &[Name]) {
        for other in self.others() {
            other.forget_damaged(names);
        }
    }
}

struct Begun {
    seen: Seen,
    name: String,
}

impl Round for Begun {
    fn give_up(&self, segments: &[SegmentId]) -> Result<HashSet<SegmentId>, VaultError> {
        let mut stay = HashSet::new();
        for other in self.seen.others() {
            // As over a network: names, not numbers of anybody's index.
            let asked: Vec<_> = segments
                .iter()
                .map(|one| SegmentId::named(&one.to_string()))
                .collect();
            stay.extend(other.give_up_for_another(&self.name, &asked));
        }
        Ok(stay)
    }
}

impl Drop for Begun {
    fn drop(&mut self) {
        for other in self.seen.others() {
            other.end_for_another(&self.name);
        }
    }
}

fn turn(team: &Team) -> MutexGuard<'_, ()> {
    team.turn.lock().unwrap_or_else(|e| e.into_inner())
}

#[tokio::test(flavor = "multi_thread")]
async fn each_finds_what_the_others_stored_and_shares_it() {
    let dir = tempfile::tempdir().unwrap();
    let team = Arc::new(Team::default());
    let (one, two) = (team.join(dir.path()).await, team.join(dir.path()).await);
    blocking(move || {
        let bytes = noise(20 * CHUNK_LEN, 1);
        let (manifest, _) = take_in(&one, &bytes);
        let disk = ManifestDisk::open(&two, manifest.name()).unwrap();
        assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
        let (_, again) = take_in(&two, &bytes);
        assert_eq!(again.new, 0, "nothing of it is stored twice");
        let unknown = two.get(Kind::Chunk, Name([7; 32]));
        assert!(matches!(unknown, Err(VaultError::Missing { .. })));
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_stored_twice_is_found_where_it_stays() {
    let dir = tempfile::tempdir().unwrap();
    let team = Arc::new(Team::default());
    let (one, two) = (team.join(dir.path()).await, team.join(dir.path()).await);
    blocking(move || {
        let bytes = noise(20 * CHUNK_LEN, 1);
        let (manifest, _) = take_in(&one, &bytes);
        let (_, growth) = take_in(&two, &bytes);
        assert!(growth.new > 20, "it has not looked: stored once more");
        // Each knows both places now, and goes by its own.
        one.look_again().unwrap();
        two.look_again().unwrap();
        let records = Mutex::new(Recorded::from([(0, (manifest.name(), bytes.clone()))]));
        assert!(tidy_by(&one, &records).unwrap().segments > 0);
        one.bury(Duration::ZERO).unwrap();
        for vault in [&one, &two] {
            let disk = ManifestDisk::open(vault, manifest.name()).unwrap();
            assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
        }
        // What damage took away for one is stored anew by the other.
        let names = [two.name(Kind::Chunk, &bytes[..CHUNK_LEN])];
        two.forget_damaged(&names);
        let (_, again) = take_in(&two, &bytes);
        assert_eq!(again.new, 1);
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_goes_that_another_relies_on_or_that_cannot_be_asked_for() {
    let dir = tempfile::tempdir().unwrap();
    let team = Arc::new(Team::default());
    let (one, two) = (team.join(dir.path()).await, team.join(dir.path()).await);
    let folder = dir.path().to_owned();
    let three = blocking(move || {
        let bytes = noise(20 * CHUNK_LEN, 1);
        take_in(&one, &bytes);
        two.look_again().unwrap();
        // Held by the other, and not in any record yet.
        let hold = two.hold();
        let mut ingest = vault::Ingest::start(hold.clone(), 1);
        for (chunk, part) in (0..).zip(bytes.chunks(CHUNK_LEN)) {
            ingest.push(chunk, Arc::new(part.to_vec())).unwrap();
        }
        let (manifest, growth) = ingest.finish(bytes.len() as u64, None, None).unwrap();
        assert_eq!(growth.new, 0);
        let nothing = Mutex::new(Recorded::new());
        assert_eq!(tidy_by(&one, &nothing).unwrap().segments, 0);
        // It lets go in the middle of a round: what it made may be recorded by now.
        let records = Mutex::new(Recorded::new());
        let mut hold = Some(hold);
        let tidied = one.tidy(vault::Tidying {
            kept: &mut || {
                hold.take();
                records
                    .lock()
                    .unwrap()
                    .insert(0, (manifest.name(), bytes.clone()));
                Ok(Vec::new())
            },
            note_stays: &|_, _| false,
            only: None,
            copy_below: 0,
            seal_anew: false,
            progress: &mut |_, _| true,
        });
        assert_eq!(tidied.unwrap().segments, 0);
        one.bury(Duration::ZERO).unwrap();
        let disk = ManifestDisk::open(&one, manifest.name()).unwrap();
        assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
        // Nobody needs it now: it goes, here and there.
        assert!(tidy_by(&one, &nothing).unwrap().segments > 0);
        // Whoever reads it there still can, and nobody shares it any more.
        assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
        let (_, again) = take_in(&two, &bytes);
        assert!(again.new > 20, "{again:?}");
        (one, folder)
    })
    .await;
    // Whoever comes now does not rely on what is about to be deleted.
    let (one, folder) = three;
    let three = team.join(&folder).await;
    blocking(move || {
        let bytes = noise(20 * CHUNK_LEN, 1);
        let (manifest, _) = take_in(&three, &bytes);
        one.bury(Duration::ZERO).unwrap();
        let disk = ManifestDisk::open(&three, manifest.name()).unwrap();
        assert!(disk.read_vec(0, bytes.len()).unwrap() == bytes);
    })
    .await;
    drop(dir);
}

/// Three services work and tidy in turn, others come meanwhile; what the records name is whole at every moment, for each
/// of them and on the disk.
#[tokio::test(flavor = "multi_thread", worker_threads = 6)]
async fn services_beside_each_other_lose_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let team = Arc::new(Team::default());
    let records: Arc<Mutex<Recorded>> = Arc::default();
    let stop = Arc::new(AtomicBool::new(false));
    let rounds = Arc::new(AtomicU32::new(0));
    let mut tasks = Vec::new();
    for number in 0..4_u32 {
        let vault = team.join(dir.path()).await;
        let (records, stop) = (records.clone(), stop.clone());
        let worker = {
            let (vault, records, stop) = (vault.clone(), records.clone(), stop.clone());
            tokio::task::spawn_blocking(move || work(&vault, number, &records, &stop))
        };
        tasks.push(worker);
        let (team, rounds) = (team.clone(), rounds.clone());
        tasks.push(tokio::task::spawn_blocking(move || {
            while !stop.load(Ordering::Relaxed) {
                std::thread::sleep(Duration::from_millis(20 * u64::from(number)));
                let tidied = {
                    let _turn = turn(&team);
                    tidy_by(&vault, &records).unwrap()
                };
                assert!(tidied.broken.is_empty(), "{tidied:?}");
                std::thread::sleep(Duration::from_millis(30));
                vault.bury(Duration::from_millis(30)).unwrap();
                rounds.fetch_add(1, Ordering::Relaxed);
            }
        }));
        tokio::time::sleep(Duration::from_secs(3)).await;
    }
    stop.store(true, Ordering::Relaxed);
    for task in tasks {
        task.await.unwrap();
    }
    assert!(rounds.load(Ordering::Relaxed) > 4);
    // By one that was there from the start, with what it knows, and by a new one.
    let kept = records.lock().unwrap().clone();
    let first = team.all.lock().unwrap()[0].clone();
    let again = open(dir.path()).await;
    blocking(move || {
        for vault in [first, again] {
            for (name, bytes) in kept.values() {
                let disk = ManifestDisk::open(&vault, *name).unwrap();
                assert!(disk.read_vec(0, bytes.len()).unwrap() == *bytes);
            }
        }
    })
    .await;
    let left = open(dir.path()).await;
    blocking(move || {
        tidy_by(&left, &records).unwrap();
        left.bury(Duration::ZERO).unwrap();
        assert!(left.stored() < 16 * CHUNK + 300_000, "{}", left.stored());
    })
    .await;
}
