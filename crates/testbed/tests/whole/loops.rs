//! Slots on real block devices: loop devices, where this machine has them and lets the tests make them.
//! What becomes of a card that is pulled while it is held cannot be shown with them; `make readers` does.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;

use std::time::{Duration, Instant};

use cardwork::conformance::suite;
use cardwork::{Access, CardError, Slot};
use testbed::loop_device::{LoopDevice, run};
use testbed::{Testbed, path};

#[test]
fn loop_devices_are_slots_as_any_other() {
    for block in [512, 4096] {
        let Some(mut device) = LoopDevice::find(block) else {
            return;
        };
        suite(&device.slot(), &mut device);

        let card = device.attach(8 << 20, false);
        let slot = device.slot();
        let medium = slot.medium().unwrap().expect("the card is seen");
        assert_eq!(medium.size, 8 << 20);
        assert_eq!(medium.node, Some(device.node()));
        let held = slot.open(&medium.insertion, Access::Hold).unwrap();

        // What is written is in the file behind the device at once, not in a cache on the way.
        held.write_at(5000, b"on the medium").unwrap();
        held.flush().unwrap();
        let mut found = [0; 13];
        File::open(&card)
            .unwrap()
            .read_exact_at(&mut found, 5000)
            .unwrap();
        assert_eq!(&found, b"on the medium");
        // What somebody else changes behind our back is read, and not what was read before.
        held.read_at(4096, &mut [0; 8192]).unwrap();
        let behind = File::options().write(true).open(&card).unwrap();
        behind.write_all_at(b"BEHIND", 5000).unwrap();
        behind.sync_all().unwrap();
        let mut found = [0; 6];
        held.read_at(5000, &mut found).unwrap();
        assert_eq!(&found, b"BEHIND");

        // Held alone: nobody else holds it, not even this service a second time, but anybody may look.
        assert!(matches!(
            slot.open(&medium.insertion, Access::Hold),
            Err(CardError::InUse(_))
        ));
        assert!(matches!(
            device.slot().open(&medium.insertion, Access::Hold),
            Err(CardError::InUse(_))
        ));
        assert!(slot.open(&medium.insertion, Access::Look).is_ok());
        assert!(run("mkfs.ext4", &["-q", "-F", &device.node()]).is_err());
        // What lies in whole blocks is forgotten on wish, the rest stays.
        if held.discard(4096, 8192).unwrap() {
            let mut found = [7; 8192];
            held.read_at(4096, &mut found).unwrap();
            assert!(found.iter().all(|byte| *byte == 0));
        }
        assert!(!held.discard(100, 100).unwrap());
        drop(held);

        // A card that the system uses is not held; it is said what uses it.
        run("mkfs.ext4", &["-q", "-F", &device.node()]).unwrap();
        let place = device.folder().join("my mount");
        std::fs::create_dir(&place).unwrap();
        if run("mount", &[&device.node(), place.to_str().unwrap()]).is_ok() {
            let used = slot.medium().unwrap().unwrap().in_use;
            let held = slot.open(&medium.insertion, Access::Hold).err();
            let looked = slot.open(&medium.insertion, Access::Look).is_ok();
            run("umount", &[place.to_str().unwrap()]).unwrap();
            let expected = format!("mounted at {}", place.display());
            assert_eq!(used, Some(expected.clone()));
            assert!(
                matches!(&held, Some(CardError::InUse(by)) if *by == expected),
                "{held:?}"
            );
            assert!(looked, "looking is allowed meanwhile");
        } else {
            eprintln!("SKIPPED in part: nothing can be mounted here");
        }
        assert!(slot.open(&medium.insertion, Access::Hold).is_ok());
    }
}

/// The whole way over a real block device: a place becomes a slot, a card in it is written, judged by the
/// system's own tools, backed up and restored; what the computer uses is never touched.
#[test]
fn a_card_behind_a_block_device_is_written_like_any_other() {
    for block in [512, 4096] {
        let Some(mut device) = LoopDevice::find(block) else {
            return;
        };
        let bed = Testbed::start();
        bed.load_catalogue();
        bed.add_device("quay-01");
        let size = 700_002_304;
        let card = device.attach(size, false);

        // What is bound by nobody is no slot, and is not looked at.
        let bench = bed.json(&["bench", "scan"]);
        let find = |bench: &serde_json::Value| {
            let disks = bench["disks"].as_array().unwrap().iter();
            let mut own = disks.filter(|disk| disk["node"] == device.node());
            own.next().cloned().expect("the device is among the disks")
        };
        assert_eq!(find(&bench)["offered"], false, "{bench:#}");
        let system = bench["disks"].as_array().unwrap().iter();
        for disk in system.filter(|disk| !disk["in_use"].is_null()) {
            assert_eq!(disk["offered"], false, "{disk}");
        }
        let slots = bed.json(&["slot", "list"]);
        assert_eq!(slots.as_array().unwrap().len(), 4, "those of the stand-in");
        assert!(
            bed.refused(&["bench", "bind", "0", "--port", &device.name])
                .contains("from 1")
        );
        bed.done(&[
            "bench",
            "bind",
            "7",
            "--port",
            &device.name,
            "--note",
            "upper left",
        ]);
        let slot = || {
            let slots = bed.json(&["slot", "list"]);
            let slots = slots.as_array().unwrap().clone().into_iter();
            let mut own = slots.filter(|slot| slot["number"] == 7);
            own.next().unwrap_or_default()
        };
        until("the card is seen", || slot()["card"]["occupant"] == "blank");
        assert_eq!(slot()["reader"], device.name);
        assert!(slot()["place"].as_str().unwrap().contains("upper left"));
        assert_eq!(find(&bed.json(&["bench", "scan"]))["slot"], 7);

        if block != 512 {
            in_large_blocks(&bed, &device, &card);
            continue;
        }
        let said = bed.done(&["write", "quay-01", "--slot", "7", "--yes", "C-0001"]);
        assert!(
            said.contains("Verified") && said.contains("safe to pull"),
            "{said}"
        );
        let job = &bed.json(&["job", "list"])["items"][0];
        assert_eq!(
            (&job["slot"], &job["reader"]),
            (&7.into(), &device.name.clone().into())
        );
        // The file behind the device, read by others.
        let image = card.to_str().unwrap();
        let table = run("sfdisk", &["--verify", image]).unwrap();
        assert!(table.contains("No errors"), "{table}");
        let listed = run("sfdisk", &["--dump", image]).unwrap();
        let start = listed
            .lines()
            .filter_map(|line| line.split("start=").nth(1))
            .filter_map(|rest| rest.split(',').next()?.trim().parse::<u64>().ok())
            .next_back()
            .expect("a second partition");
        let root = format!("{image}?offset={}", start * 512);
        run("e2fsck", &["-fn", &root]).unwrap();

        // Put in again it is known by its stamp; a backup is taken, and is not restored onto its own card.
        device.detach();
        until("the slot is empty", || slot()["card"].is_null());
        device.put_in(&card, false);
        until("the card is known", || slot()["card"]["label"] == "C-0001");
        bed.done(&["backup", "take", "--slot", "7"]);
        let backup = bed.json(&["backup", "list"])["items"][0]["name"].clone();
        let backup = backup.as_str().unwrap();
        let refused = bed.refused(&["restore", backup, "--slot", "7", "--yes", "C-0001"]);
        assert!(refused.contains("just read from"), "{refused}");
        device.detach();
        let other = device.attach(size + 4096 * 5, false);
        until("the other is seen", || {
            slot()["card"]["occupant"] == "blank"
        });
        bed.done(&[
            "restore",
            backup,
            "--slot",
            "7",
            "--yes",
            "C-0002",
            "--accept",
            "second-card",
        ]);
        run("sfdisk", &["--verify", other.to_str().unwrap()]).unwrap();

        // A card that the computer uses is not written, until it was let go of.
        let mounted = device.folder().join("mounted");
        std::fs::create_dir(&mounted).unwrap();
        run("mkfs.ext4", &["-q", "-F", &device.node()]).unwrap();
        if run("mount", &[&device.node(), mounted.to_str().unwrap()]).is_err() {
            eprintln!("SKIPPED in part: nothing can be mounted here");
            continue;
        }
        until("the use is seen", || slot()["card"]["in_use"].is_string());
        let refused = bed.refused(&["write", "quay-01", "--slot", "7", "--yes", "C-0002"]);
        assert!(refused.contains(mounted.to_str().unwrap()), "{refused}");
        bed.done(&["slot", "release", "7"]);
        until("it is let go of", || slot()["card"]["in_use"].is_null());
        let mounts = std::fs::read_to_string("/proc/self/mountinfo").unwrap();
        assert!(!mounts.contains(mounted.to_str().unwrap()), "{mounts}");

        // A locked card, and one that is no card by its size.
        device.detach();
        device.put_in(&other, true);
        until("the lock is seen", || slot()["card"]["locked"] == true);
        assert!(
            bed.refused(&["backup", "take", "--slot", "9"])
                .contains("no slot 9")
        );
        let refused = bed.refused(&["write", "quay-01", "--slot", "7", "--yes", "C-0002"]);
        assert!(refused.contains("locked"), "{refused}");
        device.detach();
        device.attach(300_000_000_000, false);
        until("the large one is seen", || {
            slot()["card"]["size"] == 300_000_000_000_u64
        });
        let refused = bed.refused(&["write", "quay-01", "--slot", "7", "--yes", "C-0003"]);
        assert!(refused.contains("no card here"), "{refused}");

        // The file may be changed by hand, and what makes no sense gives no slot.
        let file = bed.data_dir().join("bench.toml");
        let text = std::fs::read_to_string(&file).unwrap();
        std::fs::write(&file, text.replace("number = 7", "number = 8")).unwrap();
        until("the new number counts", || slot().is_null());
        std::fs::write(&file, "[[slot]]\nnumber = 8\nport = 5").unwrap();
        until("nothing is guessed", || {
            bed.json(&["slot", "list"]).as_array().unwrap().len() == 4
        });
        let trouble = bed.json(&["bench", "scan"])["trouble"].clone();
        assert!(
            trouble.as_str().unwrap().contains("bench.toml"),
            "{trouble}"
        );
        std::fs::write(&file, "").unwrap();
        bed.done(&["bench", "bind", "2", "--port", &device.name]);
        until("a bound place goes before the stand-in", || {
            let slots = bed.json(&["slot", "list"]);
            let slots = slots.as_array().unwrap().iter();
            let mut second = slots.filter(|slot| slot["number"] == 2);
            second
                .next()
                .is_some_and(|slot| slot["reader"] == device.name)
                && second.next().is_none()
        });
        bed.done(&["bench", "unbind", "2"]);
        assert_eq!(bed.json(&["bench", "slots"]), serde_json::json!([]));
    }
}

/// A card in a reader with blocks of 4,096 bytes: what cannot be used there is refused before it is touched, what can be
/// is written with a table in such blocks.
fn in_large_blocks(bed: &Testbed, device: &LoopDevice, card: &Path) {
    // The boot partition of the demo's image counts in 512 bytes, in clusters of 2,048.
    let said = bed.refused(&["write", "quay-01", "--slot", "7", "--yes", "C-0001"]);
    assert!(
        said.contains("blocks of 4096 bytes") && said.contains("partition 1 (BOOT) holds FAT16"),
        "{said}"
    );
    let mut first = vec![0; 1 << 20];
    let file = File::open(card).unwrap();
    file.read_exact_at(&mut first, 0).unwrap();
    assert!(first.iter().all(|byte| *byte == 0), "it was touched");
    bed.done(&["card", "check", "--slot", "7", "--yes", "C-0001"]);

    let image = device.folder().join("logger.img");
    File::create(&image).unwrap().set_len(64 << 20).unwrap();
    let rules = device.folder().join("rules");
    std::fs::write(
        &rules,
        "label: gpt\nstart=8192, size=98304, type=linux, name=root\n",
    )
    .unwrap();
    let table = format!(
        "PATH=$PATH:/sbin:/usr/sbin sfdisk -q {} < {}",
        image.display(),
        rules.display()
    );
    run("sh", &["-c", &table]).unwrap();
    let tree = device.folder().join("tree");
    std::fs::create_dir_all(tree.join("etc")).unwrap();
    std::fs::write(tree.join("etc/large"), vec![0x2a; 700_001]).unwrap();
    let (root, offset) = (tree.to_str().unwrap(), format!("offset={}", 4 << 20));
    let image = image.to_str().unwrap();
    run(
        "mkfs.ext4",
        &[
            "-q", "-F", "-b", "4096", "-E", &offset, "-d", root, image, "12288",
        ],
    )
    .unwrap();
    let sheet = device.folder().join("logger.toml");
    std::fs::write(
        &sheet,
        "appliance = \"logger\"\nversion = \"1.0\"\nboards = [\"plover\"]\n",
    )
    .unwrap();
    bed.done(&["release", "add", image, "--sheet", path(&sheet)]);
    let said = bed.done(&[
        "write",
        "--release",
        "logger 1.0",
        "--slot",
        "7",
        "--yes",
        "C-0001",
    ]);
    assert!(said.contains("Verified"), "{said}");
    let table = run("sgdisk", &["-v", &device.node()]).unwrap();
    assert!(table.contains("No problems found"), "{table}");
    let judged = |node: &str| {
        let places = run(
            "partx",
            &["--show", "--noheadings", "--output", "START", node],
        )
        .unwrap();
        assert_eq!(
            places.trim(),
            "8192",
            "in 512 bytes, as this program counts"
        );
    };
    judged(&device.node());
    // Its backup goes onto a card in a usual reader, with the usual table.
    bed.done(&["backup", "take", "--slot", "7"]);
    let backup = bed.json(&["backup", "list"])["items"][0]["name"].clone();
    bed.make_card("usual", "400MB", &[]);
    bed.put("usual", 1);
    let usual = bed.done(&[
        "restore",
        backup.as_str().unwrap(),
        "--slot",
        "1",
        "--yes",
        "C-0002",
    ]);
    assert!(usual.contains("Verified"), "{usual}");
    let usual = bed.card_file("usual");
    let table = run("sgdisk", &["-v", path(&usual)]).unwrap();
    assert!(table.contains("No problems found"), "{table}");
    judged(path(&usual));
}

fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(15), "{what}: never");
        std::thread::sleep(Duration::from_millis(50));
    }
}
