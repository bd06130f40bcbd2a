//! The whole job through the command line: catalogue, settings, card, record, board, backup,
//! restore; and the cards judged by the system's own tools.

use std::path::Path;
use std::process::Command;

use testbed::{Testbed, path};

/// What a tool of the system says, both streams.
fn judge(tool: &str, args: &[&str]) -> String {
    let out = Command::new(tool)
        .args(args)
        .env("LC_ALL", "C")
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .output();
    let out = out.unwrap_or_else(|e| panic!("{tool} must be installed: {e}"));
    let said = String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned();
    assert!(out.status.success(), "{tool}: {said}");
    said
}

/// A card's partitions must have nothing wrong in anybody's eyes.
fn judge_card(card: &Path, dir: &Path) {
    let said = judge("sfdisk", &["--verify", path(card)]);
    assert!(said.contains("No errors detected"), "{said}");
    let part = dir.join("judged.part");
    for (skip, count, tool, args, bad) in [
        (
            "4",
            Some("48"),
            "fsck.fat",
            "-nv",
            &["differ", "Dirty", "wrong", "Orphan", "Unused"][..],
        ),
        // Grown up to the card's end.
        (
            "52",
            None,
            "e2fsck",
            "-fn",
            &["Fix?", "error", "WARNING"][..],
        ),
    ] {
        let (from, to) = (
            format!("if={}", card.display()),
            format!("of={}", part.display()),
        );
        let skip = format!("skip={skip}");
        let mut args_of_dd = vec![from.as_str(), &to, "bs=1M", "conv=sparse", &skip];
        let count = count.map(|count| format!("count={count}"));
        args_of_dd.extend(count.as_deref());
        judge("dd", &args_of_dd);
        let said = judge(tool, &[args, path(&part)]);
        for word in bad {
            assert!(!said.contains(word), "{tool} found {word:?}: {said}");
        }
    }
}

#[test]
fn one_board_gets_its_card() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", "3965190144", &[]);
    bed.make_card("flint", "7948206080", &[]);
    bed.put("mica", 1);

    // The catalogue knows what it was given.
    let shown = bed.json(&["release", "show", "quaylink 2.4"]);
    let sum = judge(
        "sha256sum",
        &[path(&testbed::demo_image("quaylink-2.4.img.xz"))],
    );
    assert!(
        sum.starts_with(shown["release"]["packed_sha256"].as_str().unwrap()),
        "{sum}"
    );
    let raw = judge(
        "sh",
        &[
            "-c",
            &format!(
                "xz -dc {} | sha256sum",
                testbed::demo_image("quaylink-2.4.img.xz").display()
            ),
        ],
    );
    assert!(
        raw.starts_with(shown["release"]["raw_sha256"].as_str().unwrap()),
        "{raw}"
    );
    assert_eq!(shown["release"]["raw_size"], 209_715_200);
    let kinds: Vec<_> = shown["partitions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|p| p["file_system"].as_str().unwrap())
        .collect();
    assert_eq!(kinds, ["FAT16", "ext4"]);

    // Secrets are hidden wherever the device is shown.
    let device = bed.done(&["device", "show", "quay-01"]);
    assert!(
        device.contains("••••") && !device.contains("ebb and flow"),
        "{device}"
    );

    // The plan says everything before anything happens.
    let plan = bed.done(&["write", "quay-01", "--slot", "1", "--plan"]);
    for said in [
        "quaylink 2.4 for quay-01",
        "C-0001",
        "lost       nothing",
        "network = \"Saltmarsh-Quay\"",
        "••••",
    ] {
        assert!(plan.contains(said), "{said}: {plan}");
    }
    assert!(!plan.contains("ebb and flow"), "{plan}");
    let slots = bed.json(&["slot", "list"]);
    assert_eq!(
        (&slots[0]["card"]["label"], &slots[0]["card"]["occupant"]),
        (&"C-0001".into(), &"blank".into())
    );

    let written = bed.done(&["write", "quay-01", "--slot", "1", "--yes", "C-0001"]);
    assert!(
        written.contains("Card C-0001 is safe to pull."),
        "{written}"
    );

    // Records, stamp and slot agree.
    let card = bed.json(&["card", "show", "C-0001"]);
    let imprint = &card["imprints"][0];
    assert_eq!(card["card"]["state"], "imprinted");
    assert_eq!(
        (&imprint["state"], &imprint["base"]),
        (&"verified".into(), &"quaylink 2.4".into())
    );
    assert_eq!(
        (&imprint["device"], &imprint["operator"]),
        (&"quay-01".into(), &"marit".into())
    );
    assert!(!card.to_string().contains("ebb and flow"));
    let device = bed.json(&["device", "show", "quay-01"]);
    assert_eq!(
        (&device["device"]["card"], &device["device"]["state"]),
        (&"C-0001".into(), &"carded".into())
    );
    bed.standin(&["pull", "--slot", "1"]);
    bed.put("mica", 3);
    let plan = bed.done(&[
        "write",
        "--release",
        "quaylink 2.4",
        "--slot",
        "3",
        "--plan",
    ]);
    assert!(
        plan.contains("this is the card of quay-01")
            && plan.contains("there is no backup of what is on it now"),
        "{plan}"
    );
    let slots = bed.json(&["slot", "list"]);
    assert_eq!(
        (&slots[2]["card"]["device"], &slots[2]["card"]["label"]),
        (&"quay-01".into(), &"C-0001".into())
    );

    judge_card(&bed.card_file("mica"), bed.dir());
    let board = bed.boot("mica", "curlew");
    assert_eq!(
        (&board["host_name"], &board["joined"]),
        (&"quay-01".into(), &"Saltmarsh-Quay".into()),
        "{board}"
    );
    assert_eq!(board["lamp"], "steady");
    let page = testbed::fetch(board["page"].as_str().unwrap());
    assert!(
        page.contains("quay-01") && page.contains("connected to Saltmarsh-Quay"),
        "{page}"
    );

    // Backup, and its restore onto another, larger card: the board boots it just the same.
    bed.standin(&["halt", "mica"]);
    bed.put("mica", 1);
    let backup = bed.json(&["backup", "take", "--slot", "1"]);
    let name = backup["name"].as_str().unwrap();
    assert!(name.starts_with("quay-01.20"), "{name}");
    assert_eq!(backup["device"], "quay-01");
    let raw = shown["release"]["raw_size"].as_u64().unwrap();
    assert!(
        backup["stored"].as_u64().unwrap() < raw / 100,
        "a fresh device's backup shares its release's chunks: {backup}"
    );
    let refusal = bed.refused(&["restore", name, "--slot", "1", "--yes", "C-0001"]);
    assert!(refusal.contains("was just read from"), "{refusal}");
    bed.put("flint", 2);
    let restored = bed.done(&[
        "restore",
        name,
        "--slot",
        "2",
        "--yes",
        "C-0002",
        "--accept",
        "second-card",
    ]);
    assert!(
        restored.contains("Card C-0002 is safe to pull."),
        "{restored}"
    );
    judge_card(&bed.card_file("flint"), bed.dir());
    let board = bed.boot("flint", "curlew");
    assert_eq!(
        (&board["host_name"], &board["joined"]),
        (&"quay-01".into(), &"Saltmarsh-Quay".into()),
        "{board}"
    );
    let second = bed.json(&["backup", "take", "--slot", "1"]);
    assert_eq!(second["name"], format!("{name}.2"));
    assert!(bed.done(&["backup", "list"]).contains(name));
}

#[test]
fn a_wrong_passphrase_or_country_is_a_board_that_never_joins() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", "3965190144", &[]);
    for (change, said) in [
        ("passphrase", "refused the passphrase"),
        ("country", "may not use there"),
    ] {
        match change {
            "passphrase" => bed.set_passphrase("quay-01", "Ebb And Flow 1907"),
            _ => {
                bed.set_passphrase("quay-01", "ebb and flow 1907");
                bed.done(&["device", "set", "quay-01", "wifi_country=US"]);
            }
        }
        bed.standin(&["halt", "mica"]);
        bed.put("mica", 1);
        bed.done(&["write", "quay-01", "--slot", "1", "--yes", "C-0001"]);
        let board = bed.boot("mica", "curlew");
        assert!(
            board["not_joined"].as_str().unwrap_or("").contains(said),
            "{board}"
        );
        assert_eq!(
            (&board["joined"], &board["page"]),
            (&serde_json::Value::Null, &serde_json::Value::Null)
        );
    }
    // And the wrong board does not start at all.
    bed.standin(&["halt", "mica"]);
    assert_eq!(bed.boot("mica", "plover-field")["lamp"], "two long");
}

#[test]
fn a_gpt_release_fits_any_card_and_a_card_full_of_something_else() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.done(&[
        "device",
        "add",
        "tide-north",
        "--board",
        "plover-field",
        "--appliance",
        "tidegauge",
        "--site",
        "workshop",
    ]);
    bed.done(&["device", "set", "tide-north", "host_name=tide-north"]);
    bed.make_card("slate", "1003487232", &[]);
    // The card is full of another file system, from its first byte to its last.
    judge(
        "mkfs.ext4",
        &["-q", "-F", "-b", "1024", path(&bed.card_file("slate"))],
    );
    judge(
        "sh",
        &[
            "-c",
            &format!(
                "yes 'an old diary' | dd of={} bs=1M seek=1 count=956 iflag=fullblock conv=notrunc status=none",
                bed.card_file("slate").display()
            ),
        ],
    );
    bed.put("slate", 1);
    let plan = bed.done(&["write", "tide-north", "--slot", "1", "--plan"]);
    assert!(
        plan.contains("LOST       the card holds data that is not ours: ext4"),
        "{plan}"
    );
    bed.done(&[
        "write",
        "tide-north",
        "--slot",
        "1",
        "--yes",
        "C-0001",
        "--accept",
        "old-data",
    ]);

    let card = bed.card_file("slate");
    judge_card(&card, bed.dir());
    let said = judge("sgdisk", &["-v", path(&card)]);
    assert!(said.contains("No problems found"), "{said}");
    // What the old content left in free blocks is nobody's; every file is the release's own.
    let part = bed.dir().join("judged.part");
    for file in ["tables.txt", "library.bin", "driver-1.7.bin"] {
        let place = format!("/usr/lib/tidegauge/{file}");
        let (on_card, wanted) = (bed.dir().join("on-card"), bed.dir().join(file));
        let dump = format!("dump {place} {}", on_card.display());
        judge("debugfs", &["-R", &dump, path(&part)]);
        let from = format!("2:{place}");
        bed.done(&[
            "release",
            "read",
            "tidegauge 1.7",
            &from,
            "--to",
            path(&wanted),
        ]);
        let (found, expected) = (std::fs::read(&on_card), std::fs::read(&wanted));
        let (found, expected) = (found.unwrap(), expected.unwrap());
        assert!(!found.is_empty() && found == expected, "{file}");
    }
    let tail = judge(
        "sh",
        &[
            "-c",
            &format!(
                "tail -c 131072 {} | grep -c 'an old diary' || true",
                card.display()
            ),
        ],
    );
    assert_eq!(tail.trim(), "0");
    let board = bed.boot("slate", "plover-field");
    assert_eq!(
        (&board["host_name"], &board["joined"]),
        (&"tide-north".into(), &"wired network".into()),
        "{board}"
    );
}

#[test]
fn a_release_for_nobody_in_particular_has_its_imprint_all_the_same() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.make_card("chalk", "3965190144", &["--kind", "USB stick"]);
    bed.put("chalk", 2);
    bed.done(&[
        "write",
        "--release",
        "tidegauge 1.7",
        "--slot",
        "2",
        "--yes",
        "C-0001",
    ]);
    let card = bed.json(&["card", "show", "C-0001"]);
    assert_eq!(
        (&card["card"]["device"], &card["card"]["kind"]),
        (&serde_json::Value::Null, &"USB stick".into())
    );
    assert_eq!(
        (&card["imprints"][0]["base"], &card["imprints"][0]["state"]),
        (&"tidegauge 1.7".into(), &"verified".into())
    );
    let job = bed.json(&["job", "list"]);
    assert_eq!(
        (&job["items"][0]["kind"], &job["items"][0]["state"]),
        (&"write".into(), &"done".into())
    );
}
