//! A disk that is full loses nothing, says so, and is no longer full when there is room again: the
//! whole data folder, own database included, on a small file system of its own.

use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use api::{Client, ClientError, NewPlan, NewRelease};
use testbed::model::{Chance, Medium, medium};
use testbed::{Testbed, demo_sheet};

/// A file system in memory, taken away again when this is dropped.
struct SmallDisk(PathBuf);

impl SmallDisk {
    /// `None`, with the reason printed, where this machine does not allow it.
    fn at(dir: &Path, size: &str) -> Option<Self> {
        std::fs::create_dir_all(dir).expect("the folder is ours");
        let mounted = Command::new("mount")
            .args([
                "-t",
                "tmpfs",
                "-o",
                &format!("size={size},mode=755"),
                "small",
            ])
            .arg(dir)
            .output();
        match mounted {
            Ok(out) if out.status.success() => Some(Self(dir.to_owned())),
            other => {
                println!("skipped: no file system can be mounted here: {other:?}");
                None
            }
        }
    }

    fn ballast(&self) -> PathBuf {
        self.0.join("ballast")
    }

    /// Fills the disk until so many bytes are left; 0 fills it to the last block.
    fn fill(&self, left: u64) {
        let file = std::fs::File::create(self.ballast()).expect("there is room for a name");
        let mut at = 0;
        for len in [1 << 20, 4 << 10] {
            let block = vec![1; len];
            while file.write_all_at(&block, at).is_ok() {
                at += len as u64;
            }
        }
        file.set_len(at.saturating_sub(left))
            .expect("it becomes smaller");
    }

    fn free(&self) {
        std::fs::remove_file(self.ballast()).expect("it was made");
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

/// Set while not a single block is free: a job whose end the database cannot take waits until there is room.
static NOT_A_BLOCK: AtomicBool = AtomicBool::new(false);

async fn ended(client: &Client, id: i64) -> api::Job {
    let begun = Instant::now();
    loop {
        if NOT_A_BLOCK.load(Ordering::Relaxed)
            && begun.elapsed() > Duration::from_secs(15)
            && let Ok(job) = client.job(id).await
        {
            return job;
        }
        if let Ok(job) = client.job(id).await
            && !matches!(job.state.as_str(), "waiting" | "running")
        {
            return job;
        }
        assert!(
            begun.elapsed() < Duration::from_secs(90),
            "job {id} runs for ever"
        );
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Why a job did not come to its end, by its own word; of one that waits for room, by the word of the service's log.
fn why(bed: &Testbed, job: api::Job) -> String {
    job.error.unwrap_or_else(|| {
        let log = std::fs::read_to_string(bed.log()).unwrap_or_default();
        let number = format!("job={}", job.id);
        let line = log.lines().rev().find(|line| {
            line.contains("waiting for the records") && line.trim_end().ends_with(&number)
        });
        line.unwrap_or_else(|| panic!("nobody says why job {} goes on: {log}", job.id))
            .to_owned()
    })
}

/// An image whose one partition holds 40 MB that nothing else holds.
fn unlike_any_other(seed: u64) -> Vec<u8> {
    let mut image = vec![0; 1 << 20];
    image[446..462].copy_from_slice(&[
        0, 0, 2, 0, 0x83, 0xfe, 0xff, 0xff, 0, 8, 0, 0, 0, 0x40, 1, 0,
    ]);
    image[510..512].copy_from_slice(&[0x55, 0xaa]);
    let mut chance = Chance::new(seed);
    let words = (40 << 20) / 8;
    image.extend((0..words).flat_map(|_| chance.below(u64::MAX).to_le_bytes()));
    image
}

/// Imports a release that is not there yet.
async fn import(bed: &Testbed, version: &str) -> Result<api::Job, ClientError> {
    let image = unlike_any_other(version.bytes().map(u64::from).sum());
    std::fs::write(bed.import_dir().join("line.img"), image).expect("there is room");
    let text = std::fs::read_to_string(demo_sheet("tidegauge-1.7.toml")).expect("it ships");
    let sheet = text
        .replace("appliance = \"tidegauge\"", "appliance = \"line\"")
        .replace("version = \"1.7\"", &format!("version = \"{version}\""));
    let new = NewRelease {
        folder_file: Some("line.img".into()),
        sheet: Some(sheet),
        ..NewRelease::default()
    };
    let client = bed.client();
    let job = client.add_release(&new, None).await?;
    Ok(ended(&client, job.id).await)
}

async fn write(bed: &Testbed, slot: u32) -> Result<api::Job, ClientError> {
    let new = NewPlan {
        device: Some("quay-01".into()),
        slot: slot.into(),
        ..NewPlan::default()
    };
    carry_out(&bed.client(), &new).await
}

async fn carry_out(client: &Client, new: &NewPlan) -> Result<api::Job, ClientError> {
    let plan = client.plan(new).await?;
    let job = client.confirm(&plan.id, plan.agreed(), None).await?;
    Ok(ended(client, job.id).await)
}

/// What the records say of the card in a slot, and what is on it, agree.
async fn agrees(bed: &Testbed, card: &str, slot: u32) {
    let client = bed.client();
    let begun = Instant::now();
    loop {
        let on_it = medium(&bed.card_file(card));
        let slots = client.slots().await.unwrap_or_default();
        let label = slots
            .iter()
            .find(|one| one.number == slot)
            .and_then(|one| one.card.as_ref()?.label.clone());
        let mut said = String::from("no answer");
        if let Some(label) = label
            && let Ok(found) = client.card(&label).await
        {
            let newest = found
                .imprints
                .iter()
                .find(|one| !matches!(one.state.as_str(), "planned" | "void"));
            said = format!(
                "{} {:?}",
                found.card.state,
                newest.map(|one| (one.id, &one.state))
            );
            let fine = match &on_it {
                Medium::Blank => found.card.state == "blank" && newest.is_none(),
                Medium::Unfinished { .. } | Medium::Other => found.card.state == "incomplete",
                Medium::Whole { imprint, .. } => {
                    newest.is_some_and(|one| one.id == *imprint && one.state == "verified")
                }
            };
            if fine {
                return;
            }
        }
        assert!(
            begun.elapsed() < Duration::from_secs(40),
            "{card} is {on_it:?}, said: {said}"
        );
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

fn says_full(words: &str) -> bool {
    ["full", "no room", "room for", "space"]
        .iter()
        .any(|word| words.contains(word))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_says_so_loses_nothing_and_ends_with_room() {
    let mut disk = None;
    let bed = Testbed::start_after(&["--private-addresses"], |bed| {
        disk = SmallDisk::at(&bed.data_dir(), "700m");
    });
    let Some(disk) = disk else { return };
    bed.load_catalogue();
    bed.add_device("quay-01");
    for (card, slot) in [("mica", 1), ("flint", 2)] {
        bed.make_card(card, "3965190144", &[]);
        bed.put(card, slot);
    }
    let first = write(&bed, 1).await.unwrap();
    assert_eq!(first.state, "done", "{first:?}");
    agrees(&bed, "mica", 1).await;
    let client = bed.client();

    // From a disk that is nearly full to one without a single block, where the database stops too.
    for (round, left) in [3 << 20, 1 << 20, 256 << 10, 0].into_iter().enumerate() {
        // Another content than on any card, so that a write has something to keep.
        bed.set_passphrase("quay-01", &format!("ebb and flow {round}"));
        disk.fill(left);
        NOT_A_BLOCK.store(left == 0, Ordering::Relaxed);
        println!("{left} bytes left");
        let mut told = Vec::new();
        match import(&bed, &format!("1.{round}")).await {
            Ok(job) if job.state == "done" => panic!("there was no room for it: {job:?}"),
            Ok(job) => told.push(why(&bed, job)),
            Err(e) => told.push(e.to_string()),
        }
        match client.take_backup(&testbed::backup_of(1), None).await {
            Ok(job) => {
                let job = ended(&client, job.id).await;
                if job.state != "done" {
                    told.push(why(&bed, job));
                }
            }
            Err(e) => told.push(e.to_string()),
        }
        match write(&bed, 2).await {
            Ok(job) if job.state == "done" => {}
            Ok(job) => told.push(why(&bed, job)),
            Err(e) => told.push(e.to_string()),
        }
        println!("{told:#?}");
        // Where the database cannot go on, it is that which is said.
        assert!(left > 0 || told.len() >= 2, "a write needs room: {told:#?}");
        let fine = |words: &String| {
            says_full(words) || left == 0 && words.contains("records cannot be reached")
        };
        assert!(told.iter().all(fine), "{left}: {told:#?}");
        disk.free();
        NOT_A_BLOCK.store(false, Ordering::Relaxed);
        // What waited for room ends now.
        for job in client.jobs(None).await.unwrap().items {
            ended(&client, job.id).await;
        }
        agrees(&bed, "mica", 1).await;
        agrees(&bed, "flint", 2).await;
        let releases = client.releases().await.unwrap();
        let half = releases.iter().find(|one| one.name.starts_with("line "));
        assert!(half.is_none(), "{half:?}");
        // What was acknowledged is still there, and reads.
        if let Some(backup) = client
            .backups(&api::BackupQuery::default(), &api::Paging::default())
            .await
            .unwrap()
            .items
            .first()
        {
            let new = NewPlan {
                backup: Some(backup.name.clone()),
                slot: api::SlotName::here(2),
                ..NewPlan::default()
            };
            let restored = carry_out(&client, &new).await.unwrap();
            assert_eq!(restored.state, "done", "{restored:?}");
            agrees(&bed, "flint", 2).await;
        }
    }
    let after = import(&bed, "2.0").await.unwrap();
    assert_eq!(after.state, "done", "{after:?}");
    let again = write(&bed, 2).await.unwrap();
    assert_eq!(again.state, "done", "{again:?}");
    agrees(&bed, "flint", 2).await;
    drop(bed);
}
