//! Backups are kept, proven, looked into and let go; the vault is inspected, tidied, mended and brought back. What is
//! judged is the vault's folder, files that come out, and cards, by the system's own tools.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use api::{ClientError, NewInspection};
use testbed::{Testbed, path};

const SIZE: &str = "700000256";

/// A device with a card that was written, in slot 1.
fn with_card(bed: &Testbed, device: &str, card: &str) -> String {
    bed.add_device(device);
    bed.make_card(card, SIZE, &[]);
    bed.put(card, 1);
    write_to(bed, device, 1)
}

/// Writes the card in a slot for a device; gives its label.
fn write_to(bed: &Testbed, device: &str, slot: u32) -> String {
    let slot = slot.to_string();
    let plan = bed.json(&["write", device, "--slot", &slot, "--plan"]);
    let label = plan["card"].as_str().unwrap().to_owned();
    bed.done(&["write", device, "--slot", &slot, "--yes", &label]);
    label
}

/// Waits until a card was seen, and is in this state.
fn is_seen(bed: &Testbed, label: &str, state: &str) {
    let begun = Instant::now();
    loop {
        let card = bed.json(&["card", "show", label]);
        let open = card["imprints"][0]["state"] == "in doubt";
        if !open && card["card"]["state"] == state {
            return;
        }
        assert!(begun.elapsed() < Duration::from_secs(30), "{card:#}");
        std::thread::sleep(Duration::from_millis(100));
    }
}

fn backup(bed: &Testbed, reason: &str) -> String {
    let taken = bed.json(&["backup", "take", "--slot", "1", "--reason", reason]);
    taken["name"].as_str().unwrap().to_owned()
}

/// What a tool of the system says.
fn tool(program: &str, args: &[&str], dir: &Path) -> String {
    let out = Command::new(program).args(args).current_dir(dir).output();
    let out = out.unwrap_or_else(|e| panic!("{program} must be installed: {e}"));
    let said = String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned();
    assert!(out.status.success(), "{program} {args:?}: {said}");
    said
}

/// Files of a folder, the largest first.
fn files(dir: &Path) -> Vec<PathBuf> {
    let mut all: Vec<_> = std::fs::read_dir(dir)
        .map(|entries| entries.map(|entry| entry.unwrap().path()).collect())
        .unwrap_or_default();
    all.sort_by_key(|file: &PathBuf| std::cmp::Reverse(file.metadata().unwrap().len()));
    all
}

/// Bytes of all files below a folder.
fn weight(dir: &Path) -> u64 {
    ["segment", "index", "keys"]
        .iter()
        .flat_map(|kind| files(&dir.join(kind)))
        .map(|file| file.metadata().unwrap().len())
        .sum()
}

fn vault(bed: &Testbed) -> PathBuf {
    bed.data_dir().join("vault")
}

/// Damages the middle of the segments that are new since `before`.
fn damage_new(bed: &Testbed, before: &[PathBuf]) {
    let new: Vec<_> = files(&vault(bed).join("segment"))
        .into_iter()
        .filter(|file| !before.contains(file))
        .collect();
    assert!(!new.is_empty());
    let mut raw = std::fs::read(&new[0]).unwrap();
    let at = raw.len() / 2;
    raw[at] ^= 0x40;
    std::fs::write(&new[0], raw).unwrap();
}

/// Puts a file onto the card of slot 1 that nothing else holds, behind the service's back, as a board tunes its card.
fn tune(bed: &Testbed, card: &str, seed: u32) {
    let file = bed.card_file(card);
    let part = bed.dir().join("tuned");
    let mut noise = vec![0; 3 << 20];
    let mut state = seed;
    for byte in &mut noise {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        *byte = state as u8;
    }
    std::fs::write(&part, noise).unwrap();
    let root = format!("{}?offset={}", path(&file), 52 << 20);
    // What was tuned before is gone then.
    let order = format!(
        "rm /var/tuned-{}\nwrite {} /var/tuned-{seed}\n",
        seed - 1,
        path(&part)
    );
    let orders = bed.dir().join("orders");
    std::fs::write(&orders, order).unwrap();
    let said = Command::new("debugfs")
        .args(["-w", "-f", path(&orders), &root])
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .output()
        .unwrap();
    assert!(said.status.success(), "{said:?}");
}

#[test]
fn a_backup_is_proven_damage_is_found_and_named_and_mended() {
    let second = tempfile::tempdir().unwrap();
    let bed = Testbed::start_with(&["--second-vault", path(second.path()), "--vault-hours", "0"]);
    bed.load_catalogue();
    with_card(&bed, "quay-01", "mica");
    bed.standin(&["pull", "--slot", "1"]);
    tune(&bed, "mica", 7);
    bed.put("mica", 1);
    let before = files(&vault(&bed).join("segment"));
    let name = backup(&bed, "before changing the level sensor");
    let shown = bed.done(&["backup", "show", &name]);
    for words in [
        "before changing the level sensor",
        "compared with what the vault gives back, every byte",
    ] {
        assert!(shown.contains(words), "{words}: {shown}");
    }
    let proven = bed.done(&["backup", "prove", &name]);
    for level in ["bytes ", "file-systems ", "files "] {
        assert!(proven.contains(level), "{level}: {proven}");
    }
    assert!(!proven.contains("NOT HOLD"), "{proven}");
    let listed = bed.json(&["backup", "list"]);
    assert_eq!(listed["items"][0]["proven"], "files", "{listed}");
    assert!(
        bed.done(&["vault", "inspect"])
            .contains("everything that is kept is whole")
    );
    assert!(bed.done(&["vault", "copy"]).contains("read back"));
    let again = bed.json(&["vault", "copy"]);
    assert!(
        again["words"][0]
            .as_str()
            .unwrap()
            .starts_with("0 segments"),
        "{again}"
    );

    // Damage is never handed out, and touches what it touches.
    damage_new(&bed, &before);
    let said = bed.refused(&["backup", "prove", &name, "--level", "bytes"]);
    assert!(said.contains("not proven"), "{said}");
    let shown = bed.done(&["backup", "show", &name]);
    assert!(shown.contains("DOES NOT HOLD"), "{shown}");
    assert_eq!(
        bed.json(&["backup", "list"])["items"][0]["proven"],
        serde_json::Value::Null
    );
    // The second vault has it still.
    let mended = bed.done(&["vault", "inspect"]);
    assert!(
        mended.contains("one piece is damaged") && mended.contains("one piece is mended"),
        "{mended}"
    );
    assert!(bed.done(&["backup", "prove", &name]).contains("files "));

    // Where nobody has it, it is said what it touches; and the card itself brings it back.
    let before = files(&vault(&bed).join("segment"));
    bed.standin(&["pull", "--slot", "1"]);
    tune(&bed, "mica", 8);
    bed.put("mica", 1);
    let later = backup(&bed, "");
    damage_new(&bed, &before);
    let said = bed.refused(&["vault", "inspect"]);
    assert!(said.contains("needs a hand"), "{said}");
    let told = bed.json(&["vault", "show"]);
    let look = told["looks"]
        .as_array()
        .unwrap()
        .iter()
        .find(|look| look["what"] == "inspect")
        .unwrap();
    assert_eq!(look["bad"], true);
    let touched: Vec<_> = look["touched"]
        .as_array()
        .unwrap()
        .iter()
        .map(|hurt| hurt["name"].as_str().unwrap())
        .collect();
    assert_eq!(touched, [later.as_str()], "this one and no other: {look}");
    let status = bed.done(&["status"]);
    assert!(
        status.contains("may not bring it back") && status.contains(&later),
        "{status}"
    );
    let whole = backup(&bed, "after the damage");
    assert!(bed.done(&["backup", "prove", &whole]).contains("files "));
    assert!(
        bed.done(&["backup", "prove", &later]).contains("files "),
        "it shares what came again"
    );
    bed.done(&["vault", "inspect"]);
    assert!(!bed.done(&["status"]).contains("may not bring it back"));
}

#[test]
fn backups_go_by_rules_and_what_they_took_is_free_then() {
    let bed = Testbed::start_with(&["--vault-hours", "0"]);
    bed.load_catalogue();
    with_card(&bed, "quay-01", "mica");
    let mut names = Vec::new();
    for seed in 1..=4 {
        bed.standin(&["pull", "--slot", "1"]);
        tune(&bed, "mica", seed);
        bed.put("mica", 1);
        names.push(backup(&bed, &format!("round {seed}")));
    }
    let [first, second, third, fourth] = names.as_slice() else {
        panic!("{names:?}")
    };
    bed.done(&["backup", "pin", first]);
    let rule = bed.json(&["backup", "keep", "--newest", "1", "--device", "quay-01"]);
    assert_eq!(rule["go"], serde_json::json!([third, second]), "{rule}");
    assert_eq!(rule["done"], false);
    assert!(
        bed.done(&["backup", "list"]).contains(second.as_str()),
        "a rule alone does nothing"
    );
    let refused = bed.refused(&["backup", "let-go", first, "--yes", first]);
    assert!(refused.contains("pinned"), "{refused}");
    let before = weight(&vault(&bed));
    let went = bed.json(&["backup", "keep", "--now"]);
    assert_eq!(went["go"].as_array().unwrap().len(), 2, "{went}");
    let listed = bed.json(&["backup", "list"]);
    assert_eq!(listed["items"].as_array().unwrap().len(), 2);
    let with_gone = bed.json(&["backup", "list", "--gone"]);
    assert_eq!(with_gone["items"].as_array().unwrap().len(), 4);
    // What went is not restored, looked into or taken out any more.
    bed.standin(&["pull", "--slot", "1"]);
    bed.make_card("onyx", SIZE, &[]);
    bed.put("onyx", 1);
    for words in [
        &["restore", second, "--slot", "1", "--plan"][..],
        &["backup", "files", second, "2:/"],
        &["backup", "prove", second],
    ] {
        let said = bed.refused(words);
        assert!(said.contains("let go"), "{words:?}: {said}");
    }
    let tidied = bed.done(&["vault", "tidy"]);
    assert!(tidied.contains("are free"), "{tidied}");
    // The objects go a little later, when nobody can be on the way there any more; here at the next start.
    let told = bed.json(&["vault", "show"])["stored"].as_u64().unwrap();
    assert!(before - told > 5 << 20, "{before} {told}");
    for name in [first, fourth] {
        bed.done(&["backup", "prove", name]);
    }
    let plan = bed.json(&["restore", first, "--slot", "1", "--plan"]);
    let label = plan["card"].as_str().unwrap();
    bed.done(&[
        "restore",
        first,
        "--slot",
        "1",
        "--yes",
        label,
        "--accept",
        "second-card",
    ]);
}

#[test]
fn a_backup_is_looked_into_and_taken_out_in_open_formats() {
    let bed = Testbed::start_with(&["--vault-hours", "0"]);
    bed.load_catalogue();
    let label = with_card(&bed, "quay-01", "mica");
    let name = backup(&bed, "");
    let listed = bed.done(&["backup", "files", &name, "2:/etc"]);
    assert!(
        listed.contains("hostname") && listed.contains("0644"),
        "{listed}"
    );
    assert_eq!(
        bed.done(&["backup", "read", &name, "2:/etc/hostname"])
            .trim(),
        "quaylink"
    );
    assert!(
        bed.refused(&["backup", "read", &name, "2:/etc/none"])
            .contains("none")
    );
    let dir = tempfile::tempdir().unwrap();
    let at = |name: &str| dir.path().join(name);
    for out in ["card.img", "card.img.gz", "card.img.xz", "card.img.zst"] {
        bed.done(&["backup", "export", &name, path(&at(out))]);
        let sums = format!("{out}.sha256");
        tool("sha256sum", &["--check", &sums], dir.path());
    }
    assert!(
        bed.refused(&["backup", "export", &name, path(&at("card.img"))])
            .contains("already")
    );
    let raw = at("card.img").metadata().unwrap();
    assert_eq!(raw.len().to_string(), SIZE);
    assert!(
        raw.blocks() * 512 < raw.len() / 2,
        "it is sparse: {} blocks",
        raw.blocks()
    );
    for (program, args, out) in [
        ("gzip", ["-dk"].as_slice(), "card.img.gz"),
        ("xz", &["-dk"], "card.img.xz"),
        ("zstd", &["-dkq"], "card.img.zst"),
    ] {
        std::fs::rename(at("card.img"), at("first.img")).ok();
        tool(program, &[args, &[out]].concat(), dir.path());
        tool("cmp", &["first.img", "card.img"], dir.path());
        std::fs::remove_file(at("card.img")).unwrap();
    }
    // What was in use on the card is in it, and the system's tools find nothing wrong.
    let part = at("root.part");
    let (from, to) = (
        format!("if={}", path(&at("first.img"))),
        format!("of={}", path(&part)),
    );
    tool(
        "dd",
        &[&from, &to, "bs=1M", "skip=52", "conv=sparse"],
        dir.path(),
    );
    tool("/usr/sbin/e2fsck", &["-fn", path(&part)], dir.path());

    // Of a card that nobody knows, it is said later whose it is.
    bed.done(&["backup", "assign", &name]);
    assert_eq!(
        bed.json(&["backup", "show", &name])["device"],
        serde_json::Value::Null
    );
    bed.done(&["backup", "assign", &name, "--to", "quay-01"]);
    assert_eq!(bed.json(&["backup", "show", &name])["device"], "quay-01");
    assert!(
        bed.refused(&["backup", "assign", &name, "--to", "nobody"])
            .contains("nobody")
    );

    // Read once only, it says so.
    let taken = bed.done(&["backup", "take", "--slot", "1", "--unverified"]);
    assert!(taken.contains("NOT VERIFIED"), "{taken}");
    bed.standin(&["pull", "--slot", "1"]);
    assert!(!label.is_empty());
}

#[test]
fn overdue_backups_are_on_the_first_page_and_in_status() {
    let bed = Testbed::start_with(&["--vault-hours", "0"]);
    bed.load_catalogue();
    with_card(&bed, "quay-01", "mica");
    bed.done(&["backup", "every", "30", "--appliance", "quaylink"]);
    assert!(
        !bed.done(&["status"]).contains("backed up"),
        "its card is new"
    );
    let said = bed.refused(&["backup", "every", "0", "--device", "quay-01"]);
    assert!(said.contains("1 to 3650"), "{said}");
    assert!(
        bed.done(&["backup", "every"])
            .contains("each quaylink: every 30 days")
    );
    bed.done(&["backup", "every", "--appliance", "quaylink", "--never"]);
    assert!(bed.done(&["backup", "every"]).contains("Nobody"));
}

#[test]
fn the_key_is_changed_printed_and_typed_in_again() {
    let mut bed = Testbed::start_with(&["--vault-hours", "0"]);
    bed.load_catalogue();
    with_card(&bed, "quay-01", "mica");
    let name = backup(&bed, "");
    let key_file = bed.data_dir().join("team.key");
    let old = std::fs::read_to_string(&key_file).unwrap();
    let said = bed.done(&["vault", "rekey"]);
    assert!(said.contains("Keep a copy of the new key file"), "{said}");
    let new = std::fs::read_to_string(&key_file).unwrap();
    assert_ne!(old, new);
    assert_eq!(std::fs::metadata(&key_file).unwrap().mode() & 0o777, 0o600);
    bed.done(&["vault", "tidy", "--seal-anew"]);
    bed.done(&["backup", "prove", &name]);
    // Settings that were sealed before are still opened: the card is written again.
    bed.stop_service();
    bed.start_service();
    bed.done(&["backup", "prove", &name]);
    let label = bed.json(&["device", "show", "quay-01"])["device"]["card"]
        .as_str()
        .unwrap()
        .to_owned();
    bed.done(&["write", "quay-01", "--slot", "1", "--yes", &label]);

    let daemon = |more: &[&str], typed: &str| {
        let mut command = bed.service_command();
        let mut child = command
            .args(more)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), typed.as_bytes()).unwrap();
        let out = child.wait_with_output().unwrap();
        (
            out.status.success(),
            String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned(),
        )
    };
    let (shown, printed) = daemon(&["--show-key"], "");
    assert!(shown && printed.contains('█'), "{printed}");
    // The code is square, with light around it: a camera finds it.
    let drawn: Vec<_> = printed.lines().filter(|line| line.contains('█')).collect();
    let width = drawn[0].chars().count();
    assert!(
        drawn.iter().all(|line| line.chars().count() == width),
        "{printed}"
    );
    assert_eq!(drawn.len(), width.div_ceil(2), "{printed}");
    assert!(
        drawn[..2].iter().all(|line| line.chars().all(|c| c == '█')),
        "{printed}"
    );
    assert!(drawn[2].contains(' '), "{printed}");
    let groups: Vec<_> = printed.lines().skip(2).take(2).collect();
    let typed = groups.join("\n").to_lowercase();
    std::fs::rename(&key_file, bed.data_dir().join("away")).unwrap();
    let wrong = typed.replacen(|c: char| c.is_ascii_alphanumeric(), "!", 1);
    assert!(!daemon(&["--enter-key"], &wrong).0);
    assert!(!key_file.exists());
    let (entered, said) = daemon(&["--enter-key"], &format!("{typed}\n\n"));
    assert!(entered, "{said}");
    assert_eq!(std::fs::read_to_string(&key_file).unwrap(), new);
    assert!(
        !daemon(&["--enter-key"], &format!("{typed}\n\n")).0,
        "never replaced"
    );
    // The old key opens nothing any more, and says so.
    bed.stop_service();
    std::fs::write(&key_file, &old).unwrap();
    let (started, said) = {
        let out = bed.service_command().output().unwrap();
        (
            out.status.success(),
            String::from_utf8_lossy(&out.stderr).into_owned(),
        )
    };
    assert!(!started && said.contains("another key"), "{said}");
    std::fs::write(&key_file, &new).unwrap();
    bed.start_service();
    bed.done(&["backup", "prove", &name]);
}

/// A fresh computer, the second vault and the printed key: everything is back.
#[test]
fn vault_and_key_alone_bring_everything_back() {
    let second = tempfile::tempdir().unwrap();
    std::fs::set_permissions(
        second.path(),
        std::os::unix::fs::PermissionsExt::from_mode(0o755),
    )
    .unwrap();
    let mut bed =
        Testbed::start_with(&["--second-vault", path(second.path()), "--vault-hours", "0"]);
    bed.load_catalogue();
    let label = with_card(&bed, "quay-01", "mica");
    for device in ["quay-02", "quay-03"] {
        bed.add_device(device);
    }
    let name = backup(&bed, "the first");
    bed.done(&["vault", "keep-records"]);
    // What came after the records were kept is told by the vault itself.
    bed.standin(&["pull", "--slot", "1"]);
    tune(&bed, "mica", 3);
    bed.put("mica", 1);
    let later = backup(&bed, "after the records were kept");
    // So do cards that were written since: one whole, and one that was pulled while it was written.
    bed.standin(&["pull", "--slot", "1"]);
    bed.make_card("onyx", SIZE, &[]);
    bed.put("onyx", 2);
    let whole = write_to(&bed, "quay-02", 2);
    bed.standin(&["pull", "--slot", "2"]);
    bed.make_card("flint", "800000256", &["--fault", "vanishes=30MB"]);
    bed.put("flint", 3);
    let plan = bed.json(&["write", "quay-03", "--slot", "3", "--plan"]);
    let cut = plan["card"].as_str().unwrap().to_owned();
    bed.refused(&["write", "quay-03", "--slot", "3", "--yes", &cut]);
    bed.done(&["vault", "copy"]);
    let devices = bed.json(&["device", "show", "quay-01"]);
    let on_whole = bed.json(&["card", "show", &whole]);
    let key = std::fs::read(bed.data_dir().join("team.key")).unwrap();
    bed.stop_service();

    // The computer is gone.
    let dir = bed.data_dir();
    bed.forget_computer();
    std::fs::create_dir(&dir).unwrap();
    let out = bed.service_command().arg("--recover").output().unwrap();
    assert!(
        !out.status.success(),
        "without the key nothing is brought back"
    );
    std::fs::write(dir.join("team.key"), key).unwrap();
    tool(
        "cp",
        &[
            "-a",
            &format!("{}/.", path(second.path())),
            path(&dir.join("vault")),
        ],
        Path::new("/"),
    );
    let out = bed.service_command().arg("--recover").output().unwrap();
    let said = String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned();
    assert!(
        out.status.success() && said.contains("Everything is back"),
        "{said}"
    );
    assert!(
        said.contains("1 backup, 2 imprints") && !said.contains("Not back"),
        "{said}"
    );
    let again = bed.service_command().arg("--recover").output().unwrap();
    assert!(!again.status.success(), "records are never replaced");
    bed.start_service();
    let back = bed.json(&["device", "show", "quay-01"]);
    assert_eq!(back["settings"], devices["settings"], "settings and all");
    assert_eq!(back["imprints"], devices["imprints"]);
    assert!(bed.done(&["backup", "list"]).contains(&name));
    let shown = bed.done(&["backup", "show", &later]);
    assert!(shown.contains("after the records were kept"), "{shown}");
    bed.done(&["backup", "prove", &later]);
    // What became of the cards shows when they are put in, and not before.
    assert_eq!(
        bed.json(&["card", "show", &whole])["card"]["state"],
        "incomplete"
    );
    assert_eq!(
        bed.json(&["device", "show", "quay-02"])["device"]["state"],
        "planned"
    );
    bed.standin(&["pull", "--slot", "3"]);
    for (card, slot) in [("onyx", 2), ("flint", 3)] {
        bed.put(card, slot);
    }
    is_seen(&bed, &whole, "imprinted");
    is_seen(&bed, &cut, "incomplete");
    let back = bed.json(&["card", "show", &whole]);
    assert_eq!(back["card"]["device"], "quay-02");
    for what in ["settings", "files", "base", "slot"] {
        assert_eq!(
            back["imprints"][0][what], on_whole["imprints"][0][what],
            "{what}"
        );
    }
    assert_eq!(
        bed.json(&["device", "show", "quay-02"])["device"]["state"],
        "carded"
    );
    assert_eq!(
        bed.json(&["device", "show", "quay-03"])["device"]["state"],
        "planned"
    );
    assert!(bed.done(&["vault", "inspect"]).contains("whole"));

    // Records that lost what the vault knows are told of it; twice is once.
    bed.sql(&format!("delete from backups where name = '{later}'"));
    let listed = bed.done(&["vault", "list"]);
    assert!(
        listed.contains("NOT IN THE RECORDS") && listed.contains(&later),
        "{listed}"
    );
    bed.done(&["vault", "tidy"]);
    let found = bed.json(&["vault", "reindex"]);
    assert_eq!(found["backups"], serde_json::json!([later]), "{found}");
    let found = bed.json(&["vault", "reindex"]);
    for what in ["backups", "releases", "imprints", "problems"] {
        assert_eq!(found[what], serde_json::json!([]), "{what}");
    }
    bed.done(&["backup", "prove", &later]);
    // And a card is made of it, under a label that stands on no sticker yet.
    bed.make_card("opal", SIZE, &[]);
    bed.put("opal", 1);
    let plan = bed.json(&["restore", &later, "--slot", "1", "--plan"]);
    let new = plan["card"].as_str().unwrap();
    assert_eq!(new, "C-0101", "not {label}, {whole} or {cut}");
    bed.done(&[
        "restore",
        &later,
        "--slot",
        "1",
        "--yes",
        new,
        "--accept",
        "second-card",
    ]);
}

/// Loses everything but vault and key, brings back what they tell of, and gives what was said of it.
fn lose_and_recover(bed: &mut Testbed) -> String {
    bed.lose_records();
    let out = bed.service_command().arg("--recover").output().unwrap();
    let said = String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned();
    assert!(out.status.success(), "{said}");
    bed.start_service();
    said
}

/// What was let go or taken away after the records were kept is there when they come back, or is known to have gone.
#[test]
fn nothing_that_comes_back_is_hollow() {
    let mut bed = Testbed::start_with(&["--vault-hours", "0"]);
    bed.load_catalogue();
    with_card(&bed, "quay-01", "mica");
    let name = backup(&bed, "the first");
    bed.standin(&["pull", "--slot", "1"]);
    tune(&bed, "mica", 5);
    bed.put("mica", 1);
    backup(&bed, "another one");
    bed.done(&["vault", "keep-records"]);
    let go = |bed: &Testbed| {
        bed.done(&["backup", "let-go", &name, "--yes", &name]);
        bed.done(&["release", "remove", "tidegauge 1.7"]);
    };
    let is_listed = |bed: &Testbed| {
        let has = |noun: &str, name: &str| {
            let listed = bed.json(&[noun, "list"]).to_string();
            listed.contains(&format!("\"{name}\""))
        };
        let backup = has("backup", &name);
        assert_eq!(backup, has("release", "tidegauge 1.7"));
        backup
    };
    let is_whole = |bed: &Testbed| {
        let seen = bed.done(&["vault", "inspect"]);
        assert!(seen.contains("everything that is kept is whole"), "{seen}");
        let tidied = bed.done(&["vault", "tidy"]);
        assert!(!tidied.contains("nothing went"), "{tidied}");
    };
    go(&bed);
    // A start after work was cut off clears away what nothing names.
    bed.sql(
        "insert into jobs (kind, state, subject, operator, service)
         select 'inspect', 'running', 'the vault', 'Marit', max(number) from services",
    );
    bed.kill_service();
    bed.start_service();
    let begun = Instant::now();
    let log = bed.log();
    while !std::fs::read_to_string(&log)
        .unwrap()
        .contains("cleared away")
    {
        assert!(begun.elapsed() < Duration::from_secs(60));
        std::thread::sleep(Duration::from_millis(100));
    }
    let said = lose_and_recover(&mut bed);
    assert!(!said.contains("Not whole"), "{said}");
    assert!(is_listed(&bed), "the records were kept before they went");
    bed.done(&["backup", "prove", &name]);
    is_whole(&bed);
    // Where their place is free, the records that come back know it.
    go(&bed);
    let tidied = bed.done(&["vault", "tidy"]);
    assert!(tidied.contains("records were kept before"), "{tidied}");
    bed.stop_service();
    bed.start_service();
    let said = lose_and_recover(&mut bed);
    assert!(!said.contains("Not whole"), "{said}");
    assert!(!is_listed(&bed), "they went, and the records knew it");
    is_whole(&bed);
}

/// What is due is done by itself: tidied, the records kept, a share inspected, copied.
#[tokio::test(flavor = "multi_thread")]
async fn the_vault_is_looked_after_by_itself() {
    let second = tempfile::tempdir().unwrap();
    let bed = Testbed::start_with(&[
        "--second-vault",
        path(second.path()),
        "--vault-hours",
        "0.001",
    ]);
    bed.load_catalogue();
    let client = bed.client();
    let begun = Instant::now();
    loop {
        let view = client.vault().await.unwrap();
        let mut seen: Vec<_> = view.looks.iter().map(|look| look.what.as_str()).collect();
        seen.sort_unstable();
        if seen == ["copy", "inspect", "records", "tidy"] {
            assert!(view.looks.iter().all(|look| !look.bad), "{:#?}", view.looks);
            break;
        }
        assert!(
            begun.elapsed() < Duration::from_secs(180),
            "{:#?}",
            view.looks
        );
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    // The first copy may have been made before there was anything to copy.
    while weight(second.path()) <= 1 << 20 {
        assert!(begun.elapsed() < Duration::from_secs(180));
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    let share = client
        .inspect_vault(&NewInspection { share: Some(0) }, None)
        .await;
    assert!(matches!(share, Err(ClientError::Refused(problem)) if problem.code == "bad-value"));
}

/// Names that are no text, times of other centuries, attributes, access lists, holes, pipes: what a file system holds
/// comes out as it is. The archive is unpacked by the system's own tar, and read by Python's.
#[test]
fn files_come_out_as_they_are() {
    let bed = Testbed::start_with(&["--vault-hours", "0"]);
    bed.load_catalogue();
    with_card(&bed, "quay-01", "mica");
    bed.standin(&["pull", "--slot", "1"]);
    let dir = tempfile::tempdir().unwrap();
    let at = |name: &str| dir.path().join(name);
    for word in ["umlaut a", "umlaut o"] {
        std::fs::write(at(word.split(' ').next_back().unwrap()), word).unwrap();
    }
    // Two megabytes with a few bytes at both ends.
    let sparse = std::fs::File::create(at("sparse")).unwrap();
    sparse.set_len(2_000_000).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&sparse, b"begin", 0).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&sparse, b"end", 1_999_997).unwrap();
    // An access list as programs set it: the owner may write, user 1000 and the group may read.
    let entries = [
        (0x01_u16, 6_u16, u32::MAX),
        (0x02, 4, 1000),
        (0x04, 4, u32::MAX),
        (0x10, 4, u32::MAX),
        (0x20, 0, u32::MAX),
    ];
    let mut list = 2_u32.to_le_bytes().to_vec();
    for (tag, may, id) in entries {
        list.extend(
            [
                &tag.to_le_bytes()[..],
                &may.to_le_bytes(),
                &id.to_le_bytes(),
            ]
            .concat(),
        );
    }
    std::fs::write(at("list"), list).unwrap();
    let order = [
        format!("write {} /var/M", path(&at("a"))).into_bytes(),
        b"\xe4we\n".to_vec(),
        format!("write {} /var/M", path(&at("o"))).into_bytes(),
        b"\xf6we\n".to_vec(),
        b"symlink /var/to-M M\xf6we\n".to_vec(),
        format!("write {} /var/sparse\n", path(&at("sparse"))).into_bytes(),
        format!("write {} /var/old\n", path(&at("a"))).into_bytes(),
        format!("write {} /var/new\n", path(&at("a"))).into_bytes(),
        b"set_inode_field /var/old mtime 19600102030405\n".to_vec(),
        b"set_inode_field /var/new mtime 20990102030405\n".to_vec(),
        b"ea_set /var/old user.colour moss\n".to_vec(),
        format!(
            "ea_set -f {} /var/old system.posix_acl_access\n",
            path(&at("list"))
        )
        .into_bytes(),
        b"cd /var\nmknod pipe p\n".to_vec(),
    ]
    .concat();
    std::fs::write(at("orders"), order).unwrap();
    let root = format!("{}?offset={}", path(&bed.card_file("mica")), 52 << 20);
    let said = Command::new("debugfs")
        .args(["-w", "-f", path(&at("orders")), &root])
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .output()
        .unwrap();
    assert!(said.status.success(), "{said:?}");
    bed.put("mica", 1);
    let name = backup(&bed, "");

    let listed = bed.done(&["backup", "files", &name, "2:/var"]);
    for words in ["M\\xe4we", "M\\xf6we", "pipe"] {
        assert!(listed.contains(words), "{words}: {listed}");
    }
    let read = |path: &str| bed.done(&["backup", "read", &name, path]);
    assert_eq!(read("2:/var/M\\xe4we"), "umlaut a");
    assert_eq!(
        read("2:/var/to-M"),
        "umlaut o",
        "the link leads where it led"
    );
    let said = bed.refused(&["backup", "read", &name, "2:/var/pipe"]);
    assert!(said.contains("pipes"), "{said}");

    bed.done(&["backup", "archive", &name, "2:/var", path(&at("var.tar"))]);
    let out = at("out");
    std::fs::create_dir(&out).unwrap();
    tool(
        "tar",
        &["-xf", path(&at("var.tar")), "-C", path(&out)],
        dir.path(),
    );
    use std::os::unix::ffi::OsStrExt;
    let file = |name: &[u8]| out.join(std::ffi::OsStr::from_bytes(name));
    assert_eq!(std::fs::read(file(b"M\xe4we")).unwrap(), b"umlaut a");
    assert_eq!(std::fs::read(file(b"M\xf6we")).unwrap(), b"umlaut o");
    assert_eq!(
        std::fs::read_link(file(b"to-M"))
            .unwrap()
            .as_os_str()
            .as_bytes(),
        b"M\xf6we"
    );
    assert_eq!(
        std::fs::read(file(b"sparse")).unwrap(),
        std::fs::read(at("sparse")).unwrap()
    );
    let unpacked = file(b"sparse").metadata().unwrap();
    assert!(
        unpacked.blocks() * 512 < 200_000,
        "{} blocks",
        unpacked.blocks()
    );
    assert!(at("var.tar").metadata().unwrap().len() < 1_500_000 + 2_000_000);
    let year = |name: &[u8]| {
        let seconds = file(name).metadata().unwrap().mtime();
        1970 + seconds.div_euclid(31_556_952)
    };
    assert_eq!((year(b"old"), year(b"new")), (1960, 2099));
    let program = "import sys,tarfile
member = tarfile.open(sys.argv[1]).getmember('old')
print(sorted((key, value) for key, value in member.pax_headers.items() if key.startswith('SCHILY')))";
    let told = tool(
        "python3",
        &["-c", program, path(&at("var.tar"))],
        dir.path(),
    );
    assert!(
        told.contains("('SCHILY.xattr.user.colour', 'moss')"),
        "{told}"
    );
    assert!(
        told.contains("user::rw-,user:1000:r--,group::r--,mask::r--,other::---"),
        "{told}"
    );
}
