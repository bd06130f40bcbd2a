//! What is damaged, cut off, empty or of the wrong time is said so, wherever somebody relies on it: retention, plans, lists,
//! attention, recovery, the second vault. Damage is done to files; what is judged is files, cards and the database.

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::{Duration, Instant};

use testbed::{Testbed, path};

const SIZE: &str = "700000256";

fn vault(bed: &Testbed) -> PathBuf {
    bed.data_dir().join("vault")
}

/// Files of a folder by name.
fn files(dir: &Path) -> Vec<PathBuf> {
    let mut all: Vec<_> = std::fs::read_dir(dir)
        .map(|entries| entries.map(|entry| entry.unwrap().path()).collect())
        .unwrap_or_default();
    all.sort();
    all
}

/// Pieces of a segment by the heads that describe them: kind, first byte of the sealed form, its length.
fn pieces(segment: &[u8]) -> Vec<(u8, usize, usize)> {
    let mut found = Vec::new();
    let mut at = 16;
    while at + 44 <= segment.len() && segment[at..at + 4] == *b"\xd5pc2" {
        let len = u32::from_le_bytes(segment[at + 8..at + 12].try_into().unwrap()) as usize;
        found.push((segment[at + 4], at + 44, len));
        at += 44 + len;
    }
    found
}

const CHUNK: u8 = 1;
const PAGE: u8 = 2;
const MANIFEST: u8 = 3;
const NOTE: u8 = 4;

/// Flips a bit in the pieces of a kind that are in segments which were not there `before`; gives in how many.
fn damage(dir: &Path, before: &[PathBuf], kind: u8, most: usize) -> usize {
    let mut hit = 0;
    for file in files(&dir.join("segment")) {
        if before.contains(&file) {
            continue;
        }
        let mut raw = std::fs::read(&file).unwrap();
        for (_, at, len) in pieces(&raw).into_iter().filter(|one| one.0 == kind) {
            if hit < most {
                raw[at + len / 2] ^= 0x10;
                hit += 1;
            }
        }
        std::fs::write(&file, raw).unwrap();
    }
    assert!(hit > 0);
    hit
}

fn segments(bed: &Testbed) -> Vec<PathBuf> {
    files(&vault(bed).join("segment"))
}

/// A device with a card that was written, in slot 1.
fn with_card(bed: &Testbed) -> String {
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", SIZE, &[]);
    bed.put("mica", 1);
    let plan = bed.json(&["write", "quay-01", "--slot", "1", "--plan"]);
    let label = plan["card"].as_str().unwrap().to_owned();
    bed.done(&["write", "quay-01", "--slot", "1", "--yes", &label]);
    label
}

/// Writes noise over free blocks of the card that a file takes, as a board tunes its card.
fn tune(bed: &Testbed, card: &str, seed: u32) {
    bed.standin(&["pull", "--slot", "1"]);
    let part = bed.dir().join("tuned");
    let mut state = seed;
    let noise: Vec<u8> = (0..2_u32 << 20)
        .map(|_| {
            state ^= state << 13;
            state ^= state >> 17;
            state ^= state << 5;
            state as u8
        })
        .collect();
    std::fs::write(&part, noise).unwrap();
    let orders = bed.dir().join("orders");
    // What was tuned before is gone then.
    let order = format!("rm /var/tuned\nwrite {} /var/tuned\n", path(&part));
    std::fs::write(&orders, order).unwrap();
    let root = format!("{}?offset={}", path(&bed.card_file(card)), 52 << 20);
    let said = std::process::Command::new("debugfs")
        .args(["-w", "-f", path(&orders), &root])
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .output()
        .unwrap();
    assert!(said.status.success(), "{said:?}");
    bed.put(card, 1);
}

fn backup(bed: &Testbed) -> String {
    let taken = bed.json(&["backup", "take", "--slot", "1"]);
    taken["name"].as_str().unwrap().to_owned()
}

fn item<'a>(list: &'a serde_json::Value, name: &str) -> &'a serde_json::Value {
    let items = list["items"].as_array().unwrap();
    items.iter().find(|item| item["name"] == name).unwrap()
}

/// Bytes of all objects of a vault.
fn weight(dir: &Path) -> u64 {
    let all = ["segment", "index"]
        .iter()
        .flat_map(|kind| files(&dir.join(kind)));
    all.map(|file| file.metadata().unwrap().len()).sum()
}

#[test]
fn the_newest_whole_backup_stays_and_a_damaged_one_is_not_restored() {
    let mut bed = Testbed::start_with(&["--vault-hours", "0", "--time-zone", "Pacific/Auckland"]);
    with_card(&bed);
    let mut names = Vec::new();
    for seed in 1..=3 {
        tune(&bed, "mica", seed);
        names.push(backup(&bed));
    }
    let before = segments(&bed);
    tune(&bed, "mica", 4);
    names.push(backup(&bed));
    let [first, second, third, newest] = names.as_slice() else {
        panic!()
    };
    damage(&vault(&bed), &before, CHUNK, 3);
    bed.refused(&["vault", "inspect"]);
    // Lists, a restore and attention say so.
    let listed = bed.json(&["backup", "list"]);
    assert_eq!(item(&listed, newest)["health"], "damaged");
    assert_eq!(item(&listed, third)["health"], "verified");
    let status = bed.done(&["status"]);
    assert!(
        status.contains("the newest backup of quay-01, may not bring it back"),
        "{status}"
    );
    bed.make_card("onyx", SIZE, &[]);
    bed.put("onyx", 2);
    let untouched = bed.card_digest("onyx");
    let said = bed.refused(&["restore", newest, "--slot", "2", "--plan"]);
    assert!(
        said.contains("is damaged in the vault") && said.contains("No card was touched"),
        "{said}"
    );
    assert_eq!(bed.card_digest("onyx"), untouched);
    // So do the rules: the newest stays because it is that, and the newest whole one in any case.
    let rule = bed.json(&["backup", "keep", "--newest", "1", "--device", "quay-01"]);
    assert_eq!(rule["go"], serde_json::json!([second, first]), "{rule}");
    assert_eq!(rule["zone"], "Pacific/Auckland");
    bed.done(&["backup", "keep", "--now"]);
    assert_eq!(
        bed.json(&["backup", "list"])["items"]
            .as_array()
            .unwrap()
            .len(),
        2
    );
    bed.done(&["backup", "prove", third]);

    // The same content again makes it whole, and all of them say so.
    bed.standin(&["pull", "--slot", "1"]);
    bed.put("mica", 1);
    let again = backup(&bed);
    bed.done(&["vault", "inspect"]);
    let listed = bed.json(&["backup", "list"]);
    for name in [newest, third, &again] {
        assert_eq!(item(&listed, name)["health"], "verified", "{name}");
    }
    assert!(!bed.done(&["status"]).contains("may not bring it back"));
    // What is said to go free goes free: to within what keeping the records takes meanwhile.
    bed.done(&["vault", "keep-records"]);
    bed.done(&["vault", "tidy"]);
    let said = bed.json(&["backup", "keep", "--newest", "1", "--device", "quay-01"]);
    let frees = said["frees"].as_u64().unwrap();
    bed.done(&["backup", "keep", "--now"]);
    bed.done(&["vault", "keep-records"]);
    let before = bed.json(&["vault", "show"])["stored"].as_u64().unwrap();
    bed.done(&["vault", "tidy"]);
    let after = bed.json(&["vault", "show"])["stored"].as_u64().unwrap();
    let freed = before - after;
    assert!(
        frees > 1_000_000 && freed.abs_diff(frees) < frees / 5,
        "{frees} said, {freed} went"
    );

    // A damage that is met by reading alone is recorded too.
    let now = segments(&bed);
    tune(&bed, "mica", 9);
    let last = backup(&bed);
    damage(&vault(&bed), &now, CHUNK, 2);
    bed.stop_service();
    bed.start_service();
    bed.refused(&["backup", "prove", &last, "--level", "bytes"]);
    let listed = bed.json(&["backup", "list"]);
    assert_ne!(item(&listed, &last)["health"], "verified");
    let said = bed.refused(&["restore", &last, "--slot", "2", "--plan"]);
    assert!(said.contains("damaged in the vault"), "{said}");
}

/// The service in a folder with nothing but key and vault, as on another computer.
fn elsewhere(bed: &Testbed) -> tempfile::TempDir {
    let fresh = tempfile::tempdir().unwrap();
    std::fs::set_permissions(fresh.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let data = fresh.path().join("service");
    std::fs::create_dir(&data).unwrap();
    let copied = std::process::Command::new("cp")
        .args(["-r", path(&vault(bed)), path(&data)])
        .status();
    assert!(copied.unwrap().success());
    std::fs::copy(bed.data_dir().join("team.key"), data.join("team.key")).unwrap();
    fresh
}

fn daemon(fresh: &Path, args: &[&str]) -> std::process::Command {
    let mut command = std::process::Command::new(testbed::binary("duplicariumd"));
    command
        .args(["--data-dir", path(&fresh.join("service"))])
        .args(["--listen", &format!("127.0.0.1:{}", testbed::free_port())])
        .args(args)
        .stdin(Stdio::null());
    command
}

fn said(mut command: std::process::Command) -> (bool, String) {
    let out = command.output().unwrap();
    let said = String::from_utf8_lossy(&[out.stderr, out.stdout].concat()).into_owned();
    (out.status.success(), said)
}

/// Ends the PostgreSQL of a data folder, if one runs.
fn end_postgres(fresh: &Path) {
    for folder in [
        fresh.join("service/postgres"),
        PathBuf::from("/var/lib/duplicarium-postgres"),
    ] {
        let Ok(text) = std::fs::read_to_string(folder.join("postmaster.pid")) else {
            continue;
        };
        if let Some(pid) = text.lines().next().filter(|_| text.contains(path(fresh))) {
            let _ = std::process::Command::new("kill")
                .args(["-INT", pid])
                .status();
        }
    }
}

#[test]
fn damaged_copies_of_the_records_are_named_and_recovery_says_what_it_took() {
    let mut bed = Testbed::start_with(&["--vault-hours", "0"]);
    with_card(&bed);
    backup(&bed);
    bed.done(&["site", "add", "pier", "--title", "First"]);
    bed.done(&["vault", "keep-records"]);
    let before = segments(&bed);
    bed.done(&["site", "add", "weir", "--title", "Second"]);
    bed.done(&["vault", "keep-records"]);
    // The clock of the first ran ahead: it is told by its note, and both are counted.
    damage(&vault(&bed), &before, CHUNK, 50);
    bed.stop_service();

    // Recovered from the older one: that is said, and what is missing last of all.
    let fresh = elsewhere(&bed);
    let (fine, told) = said(daemon(fresh.path(), &["--recover"]));
    assert!(fine && !told.contains("Everything is back"), "{told}");
    assert!(told.contains("TAKEN") && told.contains("DAMAGED"), "{told}");
    let last = told.lines().last().unwrap();
    assert!(
        last.starts_with("The records of ") && last.contains("Missing: "),
        "{told}"
    );
    end_postgres(fresh.path());
    let fresh = elsewhere(&bed);
    let (fine, told) = said(daemon(
        fresh.path(),
        &["--recover", "--records", "1999-01-01"],
    ));
    assert!(
        !fine && told.contains("holds no copy of the records of 1999-01-01"),
        "{told}"
    );
    let (fine, told) = said(daemon(fresh.path(), &["--recover", "--records", "1"]));
    assert!(
        fine && told.contains("The records of ") && told.contains("(number 1) are back"),
        "{told}"
    );
    end_postgres(fresh.path());

    // An inspection names the damaged copy, keeps another one, and tidying is not held up by it.
    bed.start_service();
    let inspected = bed.cli(&["vault", "inspect"]);
    let words = format!("{}{}", inspected.out, inspected.err);
    assert!(
        words.contains("copy of the records") && words.contains("is damaged"),
        "{words}"
    );
    assert!(
        words.contains("another copy of the records was kept"),
        "{words}"
    );
    assert!(bed.done(&["status"]).contains("copy of the records"));
    let tidied = bed.done(&["vault", "tidy"]);
    assert!(!tidied.contains("nothing went"), "{tidied}");
    assert!(
        bed.done(&["vault", "inspect"])
            .contains("everything that is kept is whole")
    );
    bed.stop_service();
    let fresh = elsewhere(&bed);
    let (fine, told) = said(daemon(fresh.path(), &["--recover"]));
    assert!(fine && told.contains("Everything is back"), "{told}");
    end_postgres(fresh.path());
}

/// Killed at any moment, a recovery is no service that works; begun again, everything is back.
#[test]
fn a_recovery_that_was_cut_off_is_begun_again() {
    let mut bed = Testbed::start_with(&["--vault-hours", "0"]);
    with_card(&bed);
    let name = backup(&bed);
    bed.done(&["vault", "keep-records"]);
    bed.stop_service();
    let fresh = elsewhere(&bed);
    let mut cut = 0;
    for moment in [300, 900, 1500, 2100, 2600, 3200_u64] {
        let mut child = daemon(fresh.path(), &["--recover"])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(moment));
        if child.try_wait().unwrap().is_some() {
            break;
        }
        child.kill().unwrap();
        child.wait().unwrap();
        if !fresh.path().join("service/recovery.unfinished").exists() {
            continue;
        }
        cut += 1;
        let (fine, told) = said(daemon(fresh.path(), &[]));
        assert!(
            !fine && told.contains("was cut off") && told.contains("--recover"),
            "{told}"
        );
    }
    assert!(cut > 0, "none was cut off");
    let finished = !fresh.path().join("service/recovery.unfinished").exists();
    if !finished {
        let (fine, told) = said(daemon(fresh.path(), &["--recover"]));
        assert!(fine && told.contains("Everything is back"), "{told}");
    }
    end_postgres(fresh.path());
    // It is a service again, with all of it.
    let port = testbed::free_port();
    let address = format!("127.0.0.1:{port}");
    let mut service = std::process::Command::new(testbed::binary("duplicariumd"))
        .args(["--data-dir", path(&fresh.path().join("service"))])
        .args(["--listen", &address, "--vault-hours", "0"])
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let begun = Instant::now();
    let service_at = format!("http://{address}");
    let is_ready = || {
        let asked = std::process::Command::new(testbed::binary("duplicarium"))
            .args(["--service", &service_at, "status"])
            .output();
        asked.is_ok_and(|out| out.status.success())
    };
    while !is_ready() {
        assert!(
            begun.elapsed() < Duration::from_secs(60),
            "it does not start"
        );
        std::thread::sleep(Duration::from_millis(200));
    }
    let backups = testbed::fetch(&format!("http://{address}/api/v1/backups"));
    assert!(backups.contains(&name), "{backups}");
    let pid = service.id().to_string();
    std::process::Command::new("kill")
        .args(["-TERM", &pid])
        .status()
        .unwrap();
    service.wait().unwrap();
}

#[test]
fn empty_records_and_empty_vaults_are_no_beginning() {
    let mut bed = Testbed::start_with(&["--vault-hours", "0"]);
    with_card(&bed);
    bed.done(&["vault", "keep-records"]);
    bed.stop_service();

    // The vault's disk is not mounted: nothing is written where it should lie.
    let away = bed.dir().join("away");
    std::fs::rename(vault(&bed), &away).unwrap();
    for made in [false, true] {
        if made {
            std::fs::create_dir(vault(&bed)).unwrap();
        }
        let (fine, told) = said(bed.service_command());
        assert!(
            !fine && told.contains("mounted") && told.contains("Nothing was written"),
            "{told}"
        );
        assert_eq!(vault(&bed).exists(), made);
        assert!(files(&vault(&bed)).is_empty());
    }
    std::fs::remove_dir(vault(&bed)).unwrap();
    std::fs::rename(&away, vault(&bed)).unwrap();
    bed.start_service();
    // Taken away while it runs, that is said; and that it was, when it is back.
    std::fs::rename(vault(&bed), &away).unwrap();
    let health = testbed::fetch(&format!("{}/api/v1/health", bed.url()));
    assert!(
        health.contains("vault-away") && health.contains("away_since"),
        "{health}"
    );
    assert!(
        bed.done(&["status"])
            .contains("the vault cannot be reached")
    );
    let remains = files(&vault(&bed));
    assert!(remains.is_empty(), "{remains:?}");
    if vault(&bed).exists() {
        std::fs::remove_dir_all(vault(&bed)).unwrap();
    }
    std::fs::rename(&away, vault(&bed)).unwrap();
    let health = testbed::fetch(&format!("{}/api/v1/health", bed.url()));
    assert!(
        health.contains("\"ready\"") && health.contains("last_away_until\":\"2"),
        "{health}"
    );

    // Vault and key in a new folder without their records: those are not begun anew unasked.
    bed.stop_service();
    let fresh = elsewhere(&bed);
    let (fine, told) = said(daemon(fresh.path(), &[]));
    assert!(
        !fine && told.contains("--recover") && told.contains("--empty-records"),
        "{told}"
    );
    let running = std::fs::read_to_string(fresh.path().join("service/postgres/postmaster.pid"));
    assert!(
        running.is_err(),
        "a start that failed ends the database that it began"
    );
}

#[test]
fn the_second_vault_is_read_and_mended_in_both_directions() {
    let second = tempfile::tempdir().unwrap();
    let at = path(second.path()).to_owned();
    let bed = Testbed::start_with(&["--second-vault", &at, "--vault-hours", "0"]);
    with_card(&bed);
    let before = segments(&bed);
    tune(&bed, "mica", 1);
    let name = backup(&bed);
    bed.done(&["vault", "copy"]);
    // Damaged there, the length as it was: found by a look at a share, in the end, and copied again.
    let there = files(&second.path().join("segment"));
    let spoilt = &there[there.len() / 2];
    let whole = std::fs::read(spoilt).unwrap();
    let mut raw = whole.clone();
    let middle = raw.len() / 2;
    raw[middle] ^= 1;
    std::fs::write(spoilt, raw).unwrap();
    let mut found = false;
    for _ in 0..60 {
        let copied = bed.done(&["vault", "copy"]);
        found = copied.contains("one segment was damaged in the second vault");
        if found {
            break;
        }
    }
    assert!(found, "a look at all shares finds it");
    assert!(std::fs::read(spoilt).unwrap() == whole);

    // Damaged here while the second is away: told all the same, and mended when it is back.
    damage(&vault(&bed), &before, CHUNK, 2);
    let away = second.path().with_extension("away");
    std::fs::rename(second.path(), &away).unwrap();
    let refused = bed.refused(&["vault", "inspect"]);
    assert!(refused.contains("needs a hand"), "{refused}");
    assert_eq!(
        item(&bed.json(&["backup", "list"]), &name)["health"],
        "damaged"
    );
    assert!(!second.path().exists(), "nothing is made where it lay");
    // An empty folder in its place is no second vault.
    std::fs::create_dir(second.path()).unwrap();
    let refused = bed.refused(&["vault", "copy"]);
    assert!(
        refused.contains("mounted") && refused.contains("--begin"),
        "{refused}"
    );
    assert!(files(second.path()).is_empty());
    std::fs::remove_dir(second.path()).unwrap();
    std::fs::rename(&away, second.path()).unwrap();
    let mended = bed.done(&["vault", "inspect"]);
    assert!(mended.contains("mended from the second vault"), "{mended}");
    assert_eq!(
        item(&bed.json(&["backup", "list"]), &name)["health"],
        "verified"
    );
    // Every piece of a kind, wherever it lies twice.
    for kind in [CHUNK, PAGE, MANIFEST, NOTE] {
        bed.done(&["vault", "copy"]);
        damage(&vault(&bed), &[], kind, 10_000);
        let mended = bed.done(&["vault", "inspect"]);
        assert!(
            mended.contains("mended from the second vault"),
            "kind {kind}: {mended}"
        );
        bed.done(&["backup", "prove", &name]);
        let whole = bed.done(&["vault", "inspect"]);
        assert!(
            whole.contains("everything that is kept is whole") && !whole.contains("mended"),
            "kind {kind}: {whole}"
        );
    }
}

/// Notes tell of contents where the records are gone: they are written again from what the records know.
#[test]
fn damaged_notes_are_written_again() {
    let mut bed = Testbed::start_with(&["--vault-hours", "0"]);
    with_card(&bed);
    let name = backup(&bed);
    damage(&vault(&bed), &[], NOTE, 1000);
    bed.stop_service();
    bed.start_service();
    let inspected = bed.done(&["vault", "inspect"]);
    assert!(
        inspected.contains("was written again from the records"),
        "{inspected}"
    );
    for what in [name.as_str(), "quaylink"] {
        assert!(bed.done(&["vault", "list"]).contains(what), "{what}");
    }
    // They bring it back.
    let shown = bed.json(&["backup", "show", &name]);
    bed.sql(&format!("delete from backups where name = '{name}'"));
    let found = bed.json(&["vault", "reindex"]);
    assert_eq!(found["backups"], serde_json::json!([name]), "{found}");
    let again = bed.json(&["backup", "show", &name]);
    for what in [
        "device",
        "card",
        "content",
        "taken_at",
        "partitions",
        "verified",
    ] {
        assert_eq!(again[what], shown[what], "{what}");
    }
    bed.done(&["backup", "prove", &name]);
    let weight = weight(&vault(&bed));
    assert!(weight > 1_000_000);
}
