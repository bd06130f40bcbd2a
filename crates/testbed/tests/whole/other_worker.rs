//! A bench worker of another hand (`farbench/tests/worker.py`), written from docs/bench-protocol.md: what it does right counts,
//! and what it does wrong, on purpose or not, is refused in words and leaves nothing false in the records.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use testbed::lines::says_unfinished;
use testbed::{Testbed, path, workspace};

const SIZE: u64 = 700_000_256;

/// A worker of another hand with a card that is a file.
struct Worker {
    child: Child,
    card: PathBuf,
}

impl Drop for Worker {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Worker {
    /// Enrols a bench and starts a worker that does something wrong, or nothing.
    async fn start(bed: &Testbed, name: &str, error: &str, fill: impl FnOnce(&File)) -> Self {
        let code = bed.json(&["bench", "add", name])["code"]
            .as_str()
            .unwrap()
            .to_owned();
        let enrolled = bed.client().enrol(&code).await.unwrap();
        let card = bed.dir().join(format!("card-of-{name}"));
        let file = File::create(&card).unwrap();
        file.set_len(SIZE).unwrap();
        fill(&file);
        let log = File::create(bed.dir().join(format!("worker-{name}.log"))).unwrap();
        let child = Command::new("/usr/bin/python3")
            .arg(workspace().join("crates/farbench/tests/worker.py"))
            .arg(bed.url().replace("http://", ""))
            .arg(&enrolled.credential)
            .arg(&card)
            .arg(error)
            .stdin(Stdio::null())
            .stderr(log)
            .spawn()
            .expect("python3 must be installed");
        let worker = Self { child, card };
        let begun = Instant::now();
        loop {
            let slots = bed.json(&["slot", "list"]).to_string();
            if slots.contains(&format!("\"{name}:1\""))
                && !slots.contains("\"occupant\":\"unseen\"")
            {
                return worker;
            }
            assert!(
                begun.elapsed() < Duration::from_secs(30),
                "{name} does not come: {slots}\n{}",
                worker.log(bed, name)
            );
            std::thread::sleep(Duration::from_millis(200));
        }
    }

    fn log(&self, bed: &Testbed, name: &str) -> String {
        std::fs::read_to_string(bed.dir().join(format!("worker-{name}.log"))).unwrap_or_default()
    }

    fn first_block(&self) -> [u8; 512] {
        let mut block = [0; 512];
        File::open(&self.card)
            .unwrap()
            .read_exact_at(&mut block, 0)
            .unwrap();
        block
    }
}

fn bed_with(flags: &[&str]) -> Testbed {
    let bed = Testbed::start_with(&[&["--private-addresses"], flags].concat());
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed
}

/// The label of the card that is planned for a device in a slot.
fn planned(bed: &Testbed, slot: &str) -> String {
    let plan = bed.json(&["write", "quay-01", "--slot", slot, "--plan"]);
    plan["card"].as_str().unwrap().to_owned()
}

/// Puts a small FAT file system onto a card, and gives its bytes.
fn small_file_system(bed: &Testbed, card: &File) -> Vec<u8> {
    let image = bed.dir().join("small.img");
    File::create(&image).unwrap().set_len(4 << 20).unwrap();
    let made = Command::new("/usr/sbin/mkfs.fat").arg(&image).output();
    assert!(made.unwrap().status.success());
    let bytes = std::fs::read(&image).unwrap();
    // One partition of 8,192 blocks from block 2,048.
    let mut table = [0; 512];
    table[446..462].copy_from_slice(&[0, 0, 0, 0, 0x0c, 0, 0, 0, 0, 8, 0, 0, 0, 32, 0, 0]);
    table[510..].copy_from_slice(&[0x55, 0xaa]);
    card.write_all_at(&table, 0).unwrap();
    card.write_all_at(&bytes, 1 << 20).unwrap();
    bytes
}

/// The words that write a card for the device, whatever card it had before.
fn writing<'a>(slot: &'a str, label: &'a str) -> Vec<&'a str> {
    let words = ["write", "quay-01", "--slot", slot, "--yes", label];
    [&words[..], &["--accept", "second-card"]].concat()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_worker_of_another_hand_writes_and_reads_cards() {
    let bed = bed_with(&[]);
    let yard = Worker::start(&bed, "yard", "", |_| {}).await;
    let label = planned(&bed, "yard:1");
    let said = bed.done(&["write", "quay-01", "--slot", "yard:1", "--yes", &label]);
    assert!(
        said.contains("safe to pull"),
        "{said}\n{}",
        yard.log(&bed, "yard")
    );
    // The system's own tools are the oracle of what is on it.
    let card = path(&yard.card);
    let table = Command::new("/usr/sbin/sfdisk").args(["-J", card]).output();
    let table: serde_json::Value = serde_json::from_slice(&table.unwrap().stdout).unwrap();
    let parts = table["partitiontable"]["partitions"].as_array().unwrap();
    let root = parts.last().unwrap()["start"].as_u64().unwrap() * 512;
    let checked = Command::new("/usr/sbin/e2fsck")
        .args(["-fn", &format!("{card}?offset={root}")])
        .output()
        .unwrap();
    assert!(checked.status.success(), "{checked:?}");

    // A backup of a card with a little on it: the worker names what it reads by digests of its own making.
    let mut small = Vec::new();
    let mole = Worker::start(&bed, "mole", "", |file| {
        small = small_file_system(&bed, file)
    })
    .await;
    let taken = bed.json(&["backup", "take", "--slot", "mole:1"]);
    let name = taken["name"].as_str().or_else(|| taken["backup"].as_str());
    let backups = bed.json(&["backup", "list"]);
    let listed = backups["items"][0]["name"].as_str();
    let name = name.or(listed).unwrap().to_owned();
    let back = bed.dir().join("backup.img");
    bed.done(&["backup", "export", &name, path(&back)]);
    let mut found = vec![0; 4 << 20];
    File::open(&back)
        .unwrap()
        .read_exact_at(&mut found, 1 << 20)
        .unwrap();
    assert!(
        small == found,
        "the backup is another one: {}",
        mole.log(&bed, "mole")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_worker_claims_is_looked_at_and_what_it_asks_for_is_bounded() {
    let bed = bed_with(&["--bench-seconds", "5"]);
    for (name, error, said) in [
        ("lazy", "lazy", "is another one when the service reads it"),
        ("wild", "wild-chunks", "does not belong to its work"),
        ("many", "many-chunks", "does not belong to its work"),
    ] {
        let worker = Worker::start(&bed, name, error, |_| {}).await;
        let slot = format!("{name}:1");
        let label = planned(&bed, &slot);
        let refused = bed.refused(&writing(&slot, &label));
        assert!(refused.contains(said), "{name}: {refused}");
        // Nothing false is recorded: the oracle is the medium.
        let blank = worker.first_block() == [0; 512];
        let device = bed.json(&["device", "show", "quay-01"]);
        assert_ne!(
            device["device"]["card_state"], "verified",
            "{name}: {device}"
        );
        assert!(blank || says_unfinished(&worker.card), "{name}");
        bed.done(&["bench", "remove", name]);
    }
    // A read that offers what no card has.
    let fill = |file: &File| drop(small_file_system(&bed, file));
    let _worker = Worker::start(&bed, "offer", "wild-offer", fill).await;
    let refused = bed.refused(&["backup", "take", "--slot", "offer:1"]);
    assert!(refused.contains("does not belong to its work"), "{refused}");
    assert_eq!(bed.json(&["backup", "list"])["total"], 0);
    bed.done(&["bench", "remove", "offer"]);

    // A card that holds more than any is no card, and numbers that cannot be stop nothing.
    let _worker = Worker::start(&bed, "huge", "huge", |_| {}).await;
    let slots = bed.json(&["slot", "list"]).to_string();
    assert!(slots.contains("which none does"), "{slots}");
    bed.done(&["bench", "remove", "huge"]);
    let _worker = Worker::start(&bed, "odd", "wild-numbers", |_| {}).await;
    let label = bed.json(&["card", "check", "--full", "--slot", "odd:1", "--plan"])["card"]
        .as_str()
        .unwrap()
        .to_owned();
    let checked = bed.cli(&[
        "card", "check", "--full", "--slot", "odd:1", "--yes", &label,
    ]);
    let card = bed.json(&["card", "show", &label]);
    assert_ne!(card["card"]["verdict"], "proven", "{checked:?} {card}");
    assert_eq!(bed.json(&["status"])["status"], "ready");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_worker_that_is_deaf_or_removed_holds_no_job() {
    let bed = bed_with(&["--bench-seconds", "5"]);
    let deaf = Worker::start(&bed, "deaf", "deaf", |_| {}).await;
    let begin = |slot: &str| {
        let label = planned(&bed, slot);
        let mut command = bed.cli_command(&writing(slot, &label));
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        command.spawn().unwrap()
    };
    let under_way = || {
        let begun = Instant::now();
        loop {
            let job = bed.json(&["job", "list"])["items"][0].clone();
            if job["kind"] == "write" && job["state"] == "running" {
                std::thread::sleep(Duration::from_secs(3));
                return job["id"].as_i64().unwrap().to_string();
            }
            assert!(begun.elapsed() < Duration::from_secs(20), "{job}");
            std::thread::sleep(Duration::from_millis(100));
        }
    };
    let state = |job: &str| {
        bed.json(&["job", "show", job])["state"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    let ends = |job: &str, within: u64| {
        let begun = Instant::now();
        while state(job) == "running" {
            assert!(
                begun.elapsed() < Duration::from_secs(within),
                "job {job} goes on and on"
            );
            std::thread::sleep(Duration::from_millis(200));
        }
    };
    // Cancelled, it ends although its bench does not say so.
    let (mut child, job) = (begin("deaf:1"), under_way());
    bed.done(&["job", "cancel", &job]);
    ends(&job, 90);
    let _ = child.wait();
    assert_ne!(state(&job), "done");
    drop(deaf);

    // Removed, its work ends at once.
    let _gone = Worker::start(&bed, "gone", "deaf", |_| {}).await;
    let (mut child, job) = (begin("gone:1"), under_way());
    bed.done(&["bench", "remove", "gone"]);
    ends(&job, 10);
    let _ = child.wait();
    assert_eq!(state(&job), "failed");
    let said = bed.json(&["job", "show", &job]).to_string();
    assert!(said.contains("removed from the service"), "{said}");
}
