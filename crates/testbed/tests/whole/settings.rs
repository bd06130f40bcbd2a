//! Settings as a team uses them: presets, files on both partitions, cards that use all of their
//! space, what is out of date, tables, and secrets that show up nowhere.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde_json::Value;
use testbed::{Testbed, demo_image, demo_sheet, path};

const OLD: &str = "plane the long edge";
const NEW: &str = "quarter-sawn oak 26";

fn tool(program: &str, args: &[&str]) -> (String, i32) {
    let paths = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap());
    let output = Command::new(program).args(args).env("PATH", paths).output();
    let output = output.unwrap_or_else(|e| panic!("{program}: {e}"));
    let words = [output.stdout, output.stderr].concat();
    let code = output.status.code().unwrap_or(-1);
    (String::from_utf8_lossy(&words).into_owned(), code)
}

/// Gives a secret to a command on its standard input.
fn with_input(bed: &Testbed, words: &[&str], input: &str) -> String {
    let mut command = bed.cli_command(words);
    command
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    child
        .stdin
        .take()
        .unwrap()
        .write_all(input.as_bytes())
        .unwrap();
    let output = child.wait_with_output().unwrap();
    let err = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{words:?}: {err}");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn add(bed: &Testbed, name: &str, board: &str, appliance: &str, values: &[&str]) {
    bed.done(&[
        "device",
        "add",
        name,
        "--board",
        board,
        "--appliance",
        appliance,
        "--site",
        "workshop",
    ]);
    let host_name = format!("host_name={name}");
    bed.done(&[&["device", "set", name, &host_name], values].concat());
}

/// Writes a card for a device and gives its label.
fn write(bed: &Testbed, device: &str, slot: &str) -> String {
    let plan = bed.json(&["write", device, "--slot", slot, "--plan"]);
    let label = plan["card"].as_str().unwrap().to_owned();
    bed.done(&["write", device, "--slot", slot, "--yes", &label]);
    label
}

/// Boots a card, tells what a bystander sees, and takes the card out of the board again.
fn boot(bed: &Testbed, card: &str, model: &str) -> Value {
    let board = bed.boot(card, model);
    bed.standin(&["halt", card]);
    board
}

fn add_release(bed: &Testbed, image: &str, sheet: &str) {
    let (image, sheet) = (demo_image(image), demo_sheet(sheet));
    bed.done(&["release", "add", path(&image), "--sheet", path(&sheet)]);
}

fn list(value: &Value) -> Vec<&str> {
    value
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one.as_str().unwrap())
        .collect()
}

/// The last partition of a card, as a file.
fn root_of(bed: &Testbed, card: &str, number: usize) -> PathBuf {
    let file = bed.card_file(card);
    let (words, _) = tool("sfdisk", &["-J", path(&file)]);
    let table: Value = serde_json::from_str(&words).unwrap_or_else(|e| panic!("{e}: {words}"));
    let part = &table["partitiontable"]["partitions"][number];
    let (start, size) = (
        part["start"].as_u64().unwrap(),
        part["size"].as_u64().unwrap(),
    );
    let out = bed.dir().join("standin").join(format!("{card}.root"));
    let of = format!("of={}", out.display());
    let from = format!("if={}", file.display());
    let (skip, count) = (
        format!("skip={}", start * 512),
        format!("count={}", size * 512),
    );
    let flags = [
        "iflag=skip_bytes,count_bytes",
        "conv=sparse",
        "bs=1M",
        "status=none",
    ];
    let args: Vec<&str> = [from.as_str(), &of, &skip, &count]
        .into_iter()
        .chain(flags)
        .collect();
    let (words, code) = tool("dd", &args);
    assert_eq!(code, 0, "{words}");
    fs::File::options()
        .write(true)
        .open(&out)
        .unwrap()
        .set_len(size * 512)
        .unwrap();
    out
}

#[test]
fn a_passphrase_changes_without_a_device_going_dark() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.done(&["preset", "add", "hall", "--site", "workshop"]);
    let network = |words: &[&str], secret: &str| {
        let words = [&["preset", "network", "hall"], words].concat();
        with_input(&bed, &words, &format!("{secret}\n"))
    };
    network(&["Saltmarsh-Workshop", "--passphrase-file", "-"], OLD);
    add(&bed, "tide-bench", "plover", "tidegauge", &[]);
    add(
        &bed,
        "tide-field",
        "plover-field",
        "tidegauge",
        &["bus_number=9"],
    );
    // Another device adds a network of its own to what it had, and is not touched by the preset.
    add(&bed, "tide-own", "plover", "tidegauge", &[]);
    let own = [
        "device",
        "network",
        "tide-own",
        "Elsewhere",
        "--security",
        "open",
    ];
    bed.done(&own);
    let device = bed.json(&["device", "show", "tide-own"]);
    let setting = device["settings"].as_array().unwrap().iter();
    let setting = setting
        .clone()
        .find(|one| one["name"] == "networks")
        .unwrap();
    assert_eq!(
        setting["value"],
        "Saltmarsh-Workshop (WPA2, ••••••••); Elsewhere (open)"
    );
    assert_eq!(setting["origin"], "device");

    let preset = bed.json(&["preset", "show", "hall"]);
    assert_eq!(preset["touches"]["items"][0]["device"], "tide-bench");
    assert_eq!(preset["touches"]["items"].as_array().unwrap().len(), 1);
    let device = bed.json(&["device", "show", "tide-bench"]);
    let setting = device["settings"].as_array().unwrap().iter();
    let setting = setting
        .clone()
        .find(|one| one["name"] == "networks")
        .unwrap();
    assert_eq!(setting["preset"], "hall");
    assert_eq!(setting["value"], "Saltmarsh-Workshop (WPA2, ••••••••)");

    bed.make_card("mica", "4GB", &[]);
    bed.put("mica", 1);
    let label = write(&bed, "tide-bench", "1");
    let board = boot(&bed, "mica", "plover");
    assert_eq!(board["joined"], "Saltmarsh-Workshop", "{board}");
    assert_eq!(board["host_name"], "tide-bench");
    assert_eq!(
        bed.json(&["device", "show", "tide-bench"])["device"]["reasons"]
            .as_array()
            .unwrap()
            .len(),
        0
    );

    // The new one is put first, the old one stays behind it.
    let words = [
        "Workshop-Loft",
        "--first",
        "--passphrase-file",
        "-",
        "--dry-run",
    ];
    let said = network(&words, NEW);
    assert!(
        said.contains("tide-bench") && said.contains("settings changed"),
        "{said}"
    );
    let kept = bed.json(&["preset", "show", "hall"]);
    assert_eq!(
        kept["settings"][0]["networks"].as_array().unwrap().len(),
        1,
        "only tried"
    );
    network(&words[..4], NEW);
    let device = bed.json(&["device", "show", "tide-bench"]);
    let why = list(&device["device"]["reasons"]).join(" ");
    assert!(
        why.contains("Workshop-Loft") && why.contains(&label),
        "{why}"
    );

    // While the card in its board is the old one, the list says who carries what.
    let carried = |name: &str| {
        let networks = bed.json(&["preset", "networks"]);
        let found = networks
            .as_array()
            .unwrap()
            .iter()
            .find(|one| one["name"] == name)
            .cloned();
        found.unwrap_or_else(|| panic!("{name} in {networks}"))
    };
    assert_eq!(
        list(&carried("Saltmarsh-Workshop")["devices"]["names"]),
        ["tide-bench"]
    );
    assert_eq!(list(&carried("Workshop-Loft")["devices"]["names"]), [""; 0]);
    assert_eq!(
        list(&carried("Workshop-Loft")["set_on"]["names"]),
        ["tide-bench"]
    );
    bed.put("mica", 1);
    write(&bed, "tide-bench", "1");
    assert_eq!(
        list(&carried("Workshop-Loft")["devices"]["names"]),
        ["tide-bench"]
    );
    // The old network is all there is in the air still, and the card knows it too.
    let board = boot(&bed, "mica", "plover");
    assert_eq!(board["joined"], "Saltmarsh-Workshop", "{board}");
    let air = bed.dir().join("air.json");
    fs::write(
        &air,
        format!(r#"[{{"name":"Workshop-Loft","passphrase":"{NEW}","country":"NO"}}]"#),
    )
    .unwrap();
    bed.standin(&["air", path(&air)]);
    let board = boot(&bed, "mica", "plover");
    assert_eq!(board["joined"], "Workshop-Loft", "{board}");
    bed.done(&[
        "preset",
        "network",
        "hall",
        "Saltmarsh-Workshop",
        "--remove",
    ]);
    let last = bed.json(&["preset", "show", "hall"]);
    assert_eq!(last["settings"][0]["networks"][0]["name"], "Workshop-Loft");
    // Its passphrase was kept though nobody typed it again.
    bed.put("mica", 1);
    write(&bed, "tide-bench", "1");
    assert_eq!(boot(&bed, "mica", "plover")["joined"], "Workshop-Loft");
}

#[test]
fn cards_carry_files_on_the_root_use_all_of_their_space_and_say_what_drifted() {
    let bed = Testbed::start();
    bed.load_catalogue();
    add_release(
        &bed,
        "import/tidegauge-1.8-rc1.img",
        "tidegauge-1.8-rc1.toml",
    );
    add_release(
        &bed,
        "toolpost-2026-06-01.img.zst",
        "toolpost-2026-06-01.toml",
    );
    bed.make_card("slate", "9GB", &[]);
    bed.put("slate", 1);
    let values = ["bus_number=17", "address=192.0.2.17/24 gateway 192.0.2.1"];
    add(&bed, "tide-harbour", "plover-field", "tidegauge", &values);
    let plan = bed.json(&[
        "write",
        "tide-harbour",
        "--slot",
        "1",
        "--plan",
        "--release",
        "tidegauge 1.8-rc1",
    ]);
    let growth = plan["growth"].as_str().unwrap();
    assert!(
        growth.starts_with("partition 2 grows from 151.0 MB to 8.9"),
        "{growth}"
    );
    assert!(plan["unallocated"].as_u64().unwrap() < 2_000_000, "{plan}");
    let label = plan["card"].as_str().unwrap();
    let words = [
        "write",
        "tide-harbour",
        "--slot",
        "1",
        "--yes",
        label,
        "--release",
        "tidegauge 1.8-rc1",
    ];
    bed.done(&words);
    let board = boot(&bed, "slate", "plover-field");
    assert_eq!(board["joined"], "wired network as 192.0.2.17/24", "{board}");
    assert!(list(&board["found"]).contains(&"level probe 17"), "{board}");
    let root = root_of(&bed, "slate", 1);
    let (words, code) = tool("e2fsck", &["-fn", path(&root)]);
    assert!(code == 0 && !words.contains("Fix"), "{words}");
    assert!(fs::metadata(&root).unwrap().len() > 8_800_000_000);
    let (words, _) = tool(
        "debugfs",
        &["-R", "stat /etc/init.d/use-whole-card", path(&root)],
    );
    assert!(
        words.contains("File not found"),
        "the image's own grower is gone: {words}"
    );
    fs::remove_file(&root).unwrap();

    // A login of its own, and keys that only their owner may change.
    add(
        &bed,
        "tool-saws",
        "plover",
        "toolpost",
        &["opening=day", "badge_reader=yes"],
    );
    let device = bed.json(&["device", "show", "tool-saws"]);
    let logins = list(&device["open_logins"]).join(" ");
    assert!(
        logins.contains("kiosk") && logins.contains("everybody knows"),
        "{logins}"
    );
    let said = with_input(
        &bed,
        &["device", "set", "tool-saws", "--generate", "kiosk_password"],
        "",
    );
    assert!(said.contains("kiosk_password   ••••"), "{said}");
    let keys = bed.dir().join("keys.pub");
    fs::copy(testbed::workspace().join("demo/keepers.pub"), &keys).unwrap();
    bed.done(&["preset", "add", "keepers"]);
    let file = format!("ssh_keys={}", keys.display());
    bed.done(&["preset", "set", "keepers", "--file", &file]);
    assert_eq!(
        bed.json(&["device", "show", "tool-saws"])["open_logins"]
            .as_array()
            .unwrap()
            .len(),
        0
    );
    bed.make_card("chalk", "4GB", &[]);
    bed.put("chalk", 2);
    let plan = bed.json(&["write", "tool-saws", "--slot", "2", "--plan"]);
    let growth = plan["growth"].as_str().unwrap();
    assert!(
        growth.contains("swap"),
        "the last partition is no ext: {growth}"
    );
    let label = write(&bed, "tool-saws", "2");
    let board = boot(&bed, "chalk", "plover");
    let found = list(&board["found"]);
    for words in [
        "open: day",
        "bookings by badge only",
        "login with a password of its own",
        "2 SSH keys",
    ] {
        assert!(found.contains(&words), "{words}: {board}");
    }

    // Nothing drifted; then a file was changed on the card, and one was added.
    bed.put("chalk", 2);
    let drift = bed.json(&["card", "compare", "2"]);
    assert_eq!(
        (&drift["counts"]["new"], &drift["counts"]["changed"]),
        (&0.into(), &0.into())
    );
    bed.standin(&["pull", "--slot", "2"]);
    let at = format!("{}?offset={}", bed.card_file("chalk").display(), 53 << 20);
    let note = bed.dir().join("note");
    fs::write(&note, "sharpened").unwrap();
    for request in [
        format!("write {} /home/kiosk/note", note.display()),
        "rm /etc/hosts".into(),
    ] {
        let (words, code) = tool("debugfs", &["-w", "-R", &request, &at]);
        assert!(code == 0 && !words.contains("rror"), "{words}");
    }
    bed.put("chalk", 2);
    let said = bed.done(&["card", "compare", "2"]);
    assert!(
        said.contains("5:/home/kiosk/note") && said.contains("gone"),
        "{said}"
    );
    let drift = bed.json(&["card", "compare", "2"]);
    assert_eq!(drift["card"], label.as_str());
    assert_eq!(
        (&drift["counts"]["new"], &drift["counts"]["gone"]),
        (&1.into(), &1.into()),
        "{drift}"
    );
    bed.make_card("blank", "1GB", &[]);
    bed.put("blank", 3);
    let said = bed.refused(&["card", "compare", "3"]);
    assert!(said.contains("no imprint of ours"), "{said}");
}

#[test]
fn a_root_that_cannot_be_edited_is_refused_by_name_or_left_out() {
    let bed = Testbed::start();
    bed.load_catalogue();
    // The same release with a feature that is not handled.
    let image = bed.dir().join("odd.img");
    fs::copy(demo_image("import/tidegauge-1.8-rc1.img"), &image).unwrap();
    let part = bed.dir().join("part");
    let (from, to) = (
        format!("if={}", image.display()),
        format!("of={}", part.display()),
    );
    tool(
        "dd",
        &[&from, &to, "bs=1M", "skip=52", "count=144", "status=none"],
    );
    let (words, code) = tool("tune2fs", &["-O", "quota", path(&part)]);
    assert_eq!(code, 0, "{words}");
    let (from, to) = (
        format!("if={}", part.display()),
        format!("of={}", image.display()),
    );
    tool(
        "dd",
        &[
            &from,
            &to,
            "bs=1M",
            "seek=52",
            "conv=notrunc",
            "status=none",
        ],
    );
    bed.done(&[
        "release",
        "add",
        path(&image),
        "--sheet",
        path(&demo_sheet("tidegauge-1.8-rc1.toml")),
    ]);
    add(&bed, "tide-odd", "plover-field", "tidegauge", &[]);
    bed.make_card("mica", "4GB", &[]);
    bed.put("mica", 1);
    let release = ["--release", "tidegauge 1.8-rc1"];
    let said = bed.refused(
        &[
            &["write", "tide-odd", "--slot", "1", "--plan"][..],
            &release,
        ]
        .concat(),
    );
    assert!(
        said.contains("quota") && said.contains("partition 2"),
        "{said}"
    );
    let words = [
        &["write", "tide-odd", "--slot", "1", "--plan", "--leave-out"][..],
        &release,
    ]
    .concat();
    let plan = bed.json(&words);
    let left = list(&plan["left_out"]).join(" ");
    assert!(left.contains("quota"), "{left}");
    let label = plan["card"].as_str().unwrap();
    let words = [
        &[
            "write",
            "tide-odd",
            "--slot",
            "1",
            "--yes",
            label,
            "--leave-out",
        ][..],
        &release,
    ]
    .concat();
    bed.done(&words);
    let card = bed.json(&["card", "show", label]);
    assert!(
        list(&card["imprints"][0]["left_out"])
            .join(" ")
            .contains("quota"),
        "{card}"
    );
}

#[test]
fn what_only_one_device_may_have_is_said_of_both() {
    let bed = Testbed::start();
    bed.load_catalogue();
    let address = "address=192.0.2.17/24 gateway 192.0.2.1";
    add(&bed, "tide-one", "plover-field", "tidegauge", &[address]);
    add(
        &bed,
        "tide-two",
        "plover-field",
        "tidegauge",
        &["address=192.0.2.17/24"],
    );
    let device = bed.json(&["device", "show", "tide-two"]);
    let problem = device["problems"][0]["rule"].as_str().unwrap();
    assert!(
        problem.contains("192.0.2.17") && problem.contains("tide-one"),
        "{problem}"
    );
    bed.make_card("mica", "4GB", &[]);
    bed.put("mica", 1);
    let said = bed.refused(&["write", "tide-two", "--slot", "1", "--plan"]);
    assert!(
        said.contains("tide-two") && said.contains("tide-one"),
        "{said}"
    );
    bed.done(&["device", "set", "tide-two", "address=192.0.2.18/24"]);
    bed.json(&["write", "tide-two", "--slot", "1", "--plan"]);
    for (words, says) in [
        (
            &["device", "set", "tide-two", "address=192.0.2.0/24"][..],
            "the network itself",
        ),
        (
            &[
                "device",
                "set",
                "tide-two",
                "address=192.0.2.9/24 gateway 192.0.3.1",
            ],
            "outside of",
        ),
        (
            &["device", "set", "tide-two", "bus_number=300"],
            "more than 247",
        ),
        (
            &["device", "set", "tide-two", "time_zone=Oslo town"],
            "no time zone",
        ),
        (
            &["preset", "set", "nobody", "time_zone=UTC"],
            "no preset \"nobody\"",
        ),
        (
            &["preset", "add", "moon", "--site", "moon"],
            "no site \"moon\"",
        ),
    ] {
        let said = bed.refused(words);
        assert!(said.contains(says), "{words:?}: {said}");
    }
    bed.done(&[
        "device",
        "describe",
        "tide-one",
        "--mac",
        "5A-17-00-00-00-01",
    ]);
    let said = bed.refused(&[
        "device",
        "describe",
        "tide-two",
        "--mac",
        "5a:17:00:00:00:01",
    ]);
    assert!(said.contains("tide-one has the hardware address"), "{said}");
    bed.done(&["preset", "add", "one", "--site", "workshop"]);
    bed.done(&["preset", "add", "two", "--site", "workshop"]);
    bed.done(&["preset", "set", "one", "time_zone=UTC"]);
    let said = bed.refused(&["preset", "set", "two", "time_zone=Europe/Oslo"]);
    assert!(said.contains("preset one sets time_zone"), "{said}");
}

#[test]
fn a_table_of_devices_is_taken_over_whole_or_not_at_all() {
    let bed = Testbed::start();
    bed.load_catalogue();
    add(
        &bed,
        "tide-old",
        "plover-field",
        "tidegauge",
        &["bus_number=5"],
    );
    let table = bed.dir().join("devices.csv");
    fs::write(
        &table,
        "name,board,appliance,site,attached,macs,host_name,bus_number,address,wifi_passphrase\n\
         tide-a,plover-field,tidegauge,workshop,level probe; lamp,5a1700000001,tide-a,6,192.0.2.6/24,\n\
         tide-b,heron,tidegauge,workshop,,,tide-b,900,,\n\
         tide-c,plover-field,tidegauge,moon,,5a1700000001,tide c,7,192.0.2.6/24,a secret here\n\
         tide-a,plover-field,tidegauge,workshop,,,tide-a,6,,\n\
         tide-old,plover,,,,,TIDE-A,8,,\n\
         short,row\n",
    )
    .unwrap();
    let said = bed.cli(&["device", "import", path(&table), "--dry-run"]);
    assert_eq!(said.code, 1, "{said:?}");
    for words in [
        "line 3, board: there is no board model \"heron\"",
        "line 4, site: there is no site \"moon\"",
        "line 4, macs: tide-a has the hardware address",
        "no host name",
        "line 5, name: tide-a stands in line 2 already",
        "line 6, board: tide-old has plover-field there",
        "line 6, host_name: Host name: must be the only one",
        "line 7, : has 2 cells",
    ] {
        assert!(said.out.contains(words), "{words}: {}", said.out);
    }
    assert!(!said.out.contains("a secret here"), "{}", said.out);
    let said = bed.cli(&["device", "import", path(&table)]);
    assert_eq!(said.code, 1);
    assert_eq!(
        bed.json(&["device", "list"])["items"]
            .as_array()
            .unwrap()
            .len(),
        1,
        "nothing half-imported"
    );

    fs::write(
        &table,
        "name,board,appliance,site,attached,macs,host_name,bus_number,address\n\
         tide-a,plover-field,tidegauge,workshop,level probe; lamp,5a1700000001,tide-a,6,192.0.2.6/24\n\
         tide-old,,,,,,tide-old,,\n",
    )
    .unwrap();
    let report = bed.json(&["device", "import", path(&table), "--dry-run"]);
    assert_eq!(
        (&report["new"][0], &report["changed"][0]),
        (&"tide-a".into(), &"tide-old".into())
    );
    assert_eq!(report["done"], false);
    assert_eq!(bed.json(&["device", "import", path(&table)])["done"], true);
    let device = bed.json(&["device", "show", "tide-a"]);
    assert_eq!(device["device"]["macs"][0], "5a:17:00:00:00:01");
    assert_eq!(list(&device["device"]["attached"]), ["level probe", "lamp"]);
    let out = bed.done(&["device", "export"]);
    assert!(
        out.starts_with("name,revision,board,appliance,variant,site,notes,attached,macs,"),
        "{out}"
    );
    assert!(
        out.contains("192.0.2.6/24") && !out.contains(",5,"),
        "{out}"
    );
    // What was written out is taken over without a change.
    fs::write(&table, &out).unwrap();
    let again = bed.json(&["device", "import", path(&table), "--dry-run"]);
    assert_eq!(again["changed"].as_array().unwrap().len(), 0, "{again}");
    assert_eq!(again["problems"].as_array().unwrap().len(), 0, "{again}");

    // Somebody changes a device meanwhile; the table that was taken out before does not undo it.
    let late = out
        .replace(",6,tide-a", ",9,tide-a")
        .replace("192.0.2.6", "192.0.2.9");
    bed.done(&["device", "set", "tide-a", "bus_number=7"]);
    fs::write(&table, &late).unwrap();
    let said = bed.refused(&["device", "import", path(&table)]);
    assert!(said.contains("nothing was taken over"), "{said}");
    let out = bed
        .cli(&["device", "import", path(&table), "--dry-run", "--json"])
        .out;
    let report: Value = serde_json::from_str(&out).unwrap();
    let problem = &report["problems"][0];
    assert_eq!(problem["column"], "revision", "{report}");
    assert!(
        problem["problem"]
            .as_str()
            .unwrap()
            .contains("was changed since"),
        "{report}"
    );
    assert_eq!(
        report["problems"].as_array().unwrap().len(),
        1,
        "the other row changes nothing"
    );
    let value = |bed: &Testbed| bed.done(&["device", "show", "tide-a"]);
    assert!(value(&bed).contains(" 7 "), "{}", value(&bed));
    // Whoever means it empties the cell.
    let second = late.lines().nth(1).unwrap();
    let cells: Vec<_> = second.splitn(3, ',').collect();
    let meant = late.replace(second, &format!("{},,{}", cells[0], cells[2]));
    fs::write(&table, &meant).unwrap();
    assert_eq!(bed.json(&["device", "import", path(&table)])["done"], true);
    assert!(value(&bed).contains(" 9 "), "{}", value(&bed));
}

/// Files below a folder.
fn files_below(dir: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(dir).unwrap() {
        let path = entry.unwrap().path();
        match path.is_dir() {
            true => files_below(&path, found),
            false => found.push(path),
        }
    }
}

#[test]
fn no_secret_and_no_derived_key_shows_up_anywhere() {
    let mut bed = Testbed::start();
    bed.load_catalogue();
    add_release(
        &bed,
        "toolpost-2026-06-01.img.zst",
        "toolpost-2026-06-01.toml",
    );
    let account = "saws@booking.saltmarsh.example";
    let login = "rip, cross and fret";
    bed.done(&["preset", "add", "hall", "--site", "workshop"]);
    let words = [
        "preset",
        "network",
        "hall",
        "Saltmarsh-Workshop",
        "--passphrase-file",
        "-",
    ];
    with_input(&bed, &words, OLD);
    let words = [
        "preset",
        "set",
        "hall",
        "wifi_network=Saltmarsh-Workshop",
        "--secret-file",
        "wifi_passphrase=-",
    ];
    with_input(&bed, &words, NEW);
    add(&bed, "tide-bench", "plover", "tidegauge", &[]);
    add(&bed, "tool-saws", "plover", "toolpost", &[]);
    with_input(
        &bed,
        &[
            "device",
            "set",
            "tool-saws",
            "--secret-file",
            "kiosk_password=-",
        ],
        login,
    );
    with_input(
        &bed,
        &["device", "fact", "tool-saws", "account", "--file", "-"],
        account,
    );
    for card in ["mica", "chalk"] {
        bed.make_card(card, "4GB", &[]);
    }
    bed.put("mica", 1);
    bed.put("chalk", 2);
    write(&bed, "tide-bench", "1");
    write(&bed, "tool-saws", "2");
    assert_eq!(boot(&bed, "mica", "plover")["joined"], "Saltmarsh-Workshop");

    // What the board reads off the card is what must be nowhere else.
    let root = root_of(&bed, "mica", 1);
    let conf = "cat /etc/wpa_supplicant/wpa_supplicant-wlan0.conf";
    let (text, _) = tool("debugfs", &["-R", conf, path(&root)]);
    let key = text
        .lines()
        .find_map(|line| line.trim().strip_prefix("psk="))
        .unwrap()
        .to_owned();
    assert_eq!(key.len(), 64);
    fs::remove_file(&root).unwrap();
    let root = root_of(&bed, "chalk", 2);
    let (text, _) = tool("debugfs", &["-R", "cat /etc/shadow", path(&root)]);
    let hash = text
        .split("kiosk:")
        .nth(1)
        .unwrap()
        .split(':')
        .next()
        .unwrap()
        .to_owned();
    assert!(hash.starts_with("$6$"), "{text}");
    fs::remove_file(&root).unwrap();
    let secrets = [OLD, NEW, login, key.as_str(), hash.as_str(), account];
    let search = |place: &str, text: &[u8]| {
        for secret in secrets {
            let found = text
                .windows(secret.len())
                .any(|part| part == secret.as_bytes());
            assert!(!found, "{secret:?} in {place}");
        }
    };

    // Every answer of the interface that says something about settings.
    for path in [
        "devices",
        "devices/tide-bench",
        "devices/tool-saws",
        "devices/tide-bench/preview",
        "devices/tool-saws/preview",
        "device-table",
        "presets",
        "presets/hall",
        "networks",
        "cards",
        "cards/C-0001",
        "cards/C-0002",
        "jobs",
        "jobs/1",
        "events",
        "releases",
    ] {
        let url = format!("{}/api/v1/{path}", bed.url());
        let (answer, code) = tool("curl", &["-s", "--max-time", "3", &url]);
        assert!(
            path == "events" || code == 0 && answer.len() > 2,
            "{path}: {answer}"
        );
        search(path, answer.as_bytes());
    }
    for words in [
        &["device", "show", "tool-saws"][..],
        &["settings", "preview", "tool-saws", "--whole"],
        &["settings", "preview", "tide-bench"],
        &["write", "tool-saws", "--slot", "2", "--plan"],
        &["preset", "show", "hall"],
    ] {
        search(&words.join(" "), bed.done(words).as_bytes());
    }
    // The fact is told to whoever asks for it, and to nobody else.
    assert_eq!(
        bed.done(&["device", "fact", "tool-saws", "account", "--show"])
            .trim(),
        account
    );

    // The database as text, then everything that lies in the service's folder.
    let password = fs::read_to_string(bed.data_dir().join("postgres.password")).unwrap();
    let port = testbed::postgres_port(&bed.data_dir());
    let url = format!(
        "postgres://duplicarium:{}@127.0.0.1:{port}/duplicarium",
        password.trim()
    );
    let (dump, code) = tool("pg_dump", &["--inserts", &url]);
    assert!(code == 0 && dump.contains("tide-bench"), "{dump}");
    search("the database", dump.as_bytes());
    bed.stop_service();
    search("the log", &fs::read(bed.log()).unwrap());
    let mut files = Vec::new();
    files_below(&bed.data_dir(), &mut files);
    assert!(files.len() > 20, "{files:?}");
    for file in files {
        search(&file.display().to_string(), &fs::read(&file).unwrap());
    }
}
