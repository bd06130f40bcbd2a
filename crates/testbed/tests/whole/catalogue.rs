//! The catalogue over the command line and HTTP: every way in, what is checked, what is kept, and
//! every question that it answers.

use std::path::{Path, PathBuf};
use std::time::Duration;

use serde_json::Value;
use testbed::{Publisher, Testbed, demo_image, demo_sheet, path, workspace};

fn loaded() -> Testbed {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed
}

fn sha256(file: &Path) -> String {
    let out = std::process::Command::new("sha256sum")
        .arg(file)
        .output()
        .unwrap();
    String::from_utf8(out.stdout).unwrap()[..64].to_owned()
}

/// The demo publisher's folder, copied so that orders do not reach anyone else.
fn published(bed: &Testbed) -> PathBuf {
    let dir = bed.dir().join("publisher");
    std::fs::create_dir(&dir).unwrap();
    for entry in std::fs::read_dir(workspace().join("demo/images/publisher"))
        .unwrap()
        .flatten()
    {
        std::fs::copy(entry.path(), dir.join(entry.file_name())).unwrap();
    }
    dir
}

fn show(bed: &Testbed, release: &str) -> Value {
    bed.json(&["release", "show", release])
}

#[test]
fn every_packing_gives_one_release_that_says_what_it_is() {
    let bed = loaded();
    for (file, sheet, packing) in [
        ("quaylink-2.3.zip", "quaylink-2.3.toml", "zip"),
        ("tidegauge-1.6.img.bz2", "tidegauge-1.6.toml", "bzip2"),
        (
            "toolpost-2026-06-01.img.zst",
            "toolpost-2026-06-01.toml",
            "zstd",
        ),
        (
            "import/tidegauge-1.8-rc1.img",
            "tidegauge-1.8-rc1.toml",
            "plain",
        ),
    ] {
        let sum = sha256(&demo_image(file));
        let sheet = demo_sheet(sheet);
        let added = bed.json(&[
            "release",
            "add",
            path(&demo_image(file)),
            "--sheet",
            path(&sheet),
            "--sha256",
            &sum,
        ]);
        let release = &added["release"];
        assert_eq!(release["packing"], packing, "{file}");
        assert_eq!(release["state"], "released", "{file}: {added}");
        assert_eq!(release["packed_sha256"], sum, "{file}");
        assert_eq!(added["origin"]["compared_with"], "packed", "{file}");
        let (content, raw) = (
            release["content"].as_u64().unwrap(),
            release["raw_size"].as_u64().unwrap(),
        );
        assert!(
            content < raw / 2,
            "{file}: only what is in use counts: {content} of {raw}"
        );
        assert!(release["stored"].as_u64().unwrap() < content, "{file}");
    }
    let zip = show(&bed, "quaylink 2.3");
    assert_eq!(zip["origin"]["member"], "quaylink-2.3/quaylink-2.3.img");
    let toolpost = show(&bed, "toolpost 2026-06-01");
    let numbers: Vec<_> = toolpost["partitions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|p| p["number"].as_u64().unwrap())
        .collect();
    assert_eq!(numbers, [1, 5, 6]);
    assert_eq!(
        toolpost["inspection"]["architectures"],
        serde_json::json!(["arm64"])
    );
    assert_eq!(toolpost["partitions"][2]["file_system"], "swap");
    assert_eq!(toolpost["declared_card"], 1_000_000_000_u64);
    assert_eq!(
        toolpost["release"]["smallest_card"], 1_000_000_000_u64,
        "the larger counts"
    );
    assert_eq!(toolpost["computed_card"], (106_496 + 376_832) * 512);
    let tidegauge = show(&bed, "tidegauge 1.8-rc1");
    assert_eq!(
        tidegauge["inspection"]["grower"],
        "/etc/init.d/use-whole-card"
    );
    let memory = bed.service_peak_memory();
    assert!(memory < 256 << 20, "whatever the packing: {memory}");
    // People read the same.
    let said = bed.done(&["release", "show", "toolpost 2026-06-01"]);
    for words in [
        "partition 5    151.0 MB",
        "the image needs 247.5 MB, its sheet says 1.00 GB; the larger counts",
        "default login  kiosk / kiosk (screen)",
        "All of partition 6 (swap) is kept",
    ] {
        assert!(said.contains(words), "{words}: {said}");
    }
}

#[test]
fn an_export_equals_the_original_in_everything_but_free_bytes() {
    let bed = loaded();
    let raw = demo_image("import/tidegauge-1.8-rc1.img");
    bed.done(&[
        "release",
        "add",
        path(&raw),
        "--sheet",
        path(&demo_sheet("tidegauge-1.8-rc1.toml")),
        "--keep-file",
    ]);
    let (out, kept) = (bed.dir().join("out.img"), bed.dir().join("kept.img"));
    let said = bed.done(&["release", "export", "tidegauge 1.8-rc1", path(&out)]);
    assert!(said.contains("everything but free bytes"), "{said}");
    bed.done(&[
        "release",
        "export",
        "tidegauge 1.8-rc1",
        path(&kept),
        "--original",
    ]);
    assert_eq!(sha256(&kept), sha256(&raw));
    // The demo image was never used, so its free bytes are zero anyway.
    assert_eq!(sha256(&out), sha256(&raw));
    let refused = bed.refused(&[
        "release",
        "export",
        "quaylink 2.4",
        path(&bed.dir().join("no.img")),
        "--original",
    ]);
    assert!(
        !bed.dir().join("no.img").exists() && refused.contains("not exported"),
        "{refused}"
    );

    let listed = bed.json(&["release", "files", "tidegauge 1.8-rc1", "2:/etc"]);
    let names: Vec<_> = listed
        .as_array()
        .unwrap()
        .iter()
        .map(|n| n["name"].as_str().unwrap())
        .collect();
    assert_eq!(
        names,
        [
            "init.d",
            "systemd",
            "tidegauge",
            "wpa_supplicant",
            "appliance-version",
            "hostname",
            "hosts"
        ]
    );
    assert_eq!(
        bed.done(&[
            "release",
            "read",
            "tidegauge 1.8-rc1",
            "2:/etc/appliance-version"
        ]),
        "tidegauge 1.8-rc1\n"
    );
    let boot = bed.done(&["release", "read", "quaylink 2.4", "1:/appliance.toml"]);
    assert!(boot.starts_with("name = \"quaylink\""), "{boot}");
    for (place, says) in [
        ("2:/etc/none", "there is no /etc/none"),
        ("2:/etc", "/etc is not of the kind that is wanted"),
        ("9:/", "has no partition 9"),
        ("boot", "should be PARTITION:PATH"),
    ] {
        let said = bed.refused(&["release", "read", "quaylink 2.4", place]);
        assert!(said.contains(says), "{place}: {said}");
    }
}

#[test]
fn checksums_are_compared_and_kept_for_good() {
    let bed = loaded();
    let image = demo_image("quaylink-2.3.zip");
    let sheet = demo_sheet("quaylink-2.3.toml");
    let add = |sum: &str| {
        [
            "release",
            "add",
            path(&image),
            "--sheet",
            path(&sheet),
            "--sha256",
            sum,
        ]
        .map(str::to_owned)
    };
    let words =
        |words: &[String; 7]| bed.refused(&words.iter().map(String::as_str).collect::<Vec<_>>());
    let before = std::fs::read_dir(bed.data_dir().join("vault/segment"))
        .unwrap()
        .count();
    let said = words(&add(&"0".repeat(64)));
    assert!(
        said.contains("is not what was published") && said.contains("nothing was added"),
        "{said}"
    );
    let said = words(&add("d41d8cd98f00b204e9800998ecf8427e"));
    assert!(said.contains("64 hex digits"), "{said}");
    let other = bed.dir().join("sums");
    std::fs::write(
        &other,
        format!("{}  a.img\n{}  b.img\n", "1".repeat(64), "2".repeat(64)),
    )
    .unwrap();
    let said = words(&add(path(&other)));
    assert!(
        said.contains("it has no line for quaylink-2.3.zip; it has lines for a.img, b.img"),
        "{said}"
    );
    assert!(
        bed.refused(&["release", "show", "quaylink 2.3"])
            .contains("no release")
    );
    let now = std::fs::read_dir(bed.data_dir().join("vault/segment"))
        .unwrap()
        .count();
    assert_eq!(now, before, "what was refused leaves nothing in the vault");

    // The checksum of the raw image, in a file with a line for each of several.
    let raw = bed.dir().join("raw");
    let unpacked = std::process::Command::new("python3")
        .args(["-c", "import sys,zipfile; sys.stdout.buffer.write(zipfile.ZipFile(sys.argv[1]).read('quaylink-2.3/quaylink-2.3.img'))"])
        .arg(&image)
        .output()
        .unwrap();
    std::fs::write(&raw, unpacked.stdout).unwrap();
    let sums = format!(
        "{}  readme\n{} *quaylink-2.3.img\n",
        "1".repeat(64),
        sha256(&raw)
    );
    std::fs::write(&other, sums).unwrap();
    let added = bed.json(
        &add(path(&other))
            .iter()
            .map(String::as_str)
            .collect::<Vec<_>>(),
    );
    assert_eq!(added["origin"]["compared_with"], "raw");
    assert_eq!(added["release"]["raw_sha256"], sha256(&raw));

    // The same content under another name is recognised.
    let text = std::fs::read_to_string(&sheet)
        .unwrap()
        .replace("version = \"2.3\"", "version = \"2.3.1\"");
    let copy = bed.dir().join("copy.toml");
    std::fs::write(&copy, text).unwrap();
    let added = bed.json(&["release", "add", path(&raw), "--sheet", path(&copy)]);
    assert_eq!(
        added["origin"]["same_as"],
        serde_json::json!(["quaylink 2.3"])
    );
    assert!(
        added["release"]["stored"].as_u64().unwrap() < 100_000,
        "nothing is stored twice: {added}"
    );
}

#[test]
fn a_release_without_a_sheet_is_a_draft_with_what_was_found() {
    let bed = loaded();
    let image = bed.dir().join("Harbour_Cam_v1.2.img.gz");
    std::fs::copy(demo_image("tidegauge-1.7.img.gz"), &image).unwrap();
    let added = bed.json(&["release", "add", path(&image)]);
    assert_eq!(added["release"]["name"], "harbour-cam v1.2");
    assert_eq!(added["release"]["state"], "draft");
    assert_eq!(
        added["release"]["boards"],
        serde_json::json!(["plover", "plover-field"]),
        "what runs arm64"
    );
    let said = bed.refused(&["release", "current", "harbour-cam v1.2"]);
    assert!(
        said.contains("only a released one can be current"),
        "{said}"
    );
    let nameless = bed.dir().join("image.img.gz");
    std::fs::copy(&image, &nameless).unwrap();
    let said = bed.refused(&["release", "add", path(&nameless)]);
    assert!(
        said.contains("does not say appliance and version"),
        "{said}"
    );
    bed.done(&[
        "release",
        "add",
        path(&nameless),
        "--appliance",
        "cam",
        "--as-version",
        "7",
        "--board",
        "plover",
    ]);

    // A sheet given later is a new text; the release stays what it is.
    let sheet = bed.dir().join("cam.toml");
    let text =
        "appliance = \"cam\"\nversion = \"7\"\nboards = [\"plover\"]\n[card]\nsmallest_gb = 3\n";
    std::fs::write(&sheet, text).unwrap();
    let revised = bed.json(&["release", "sheet", "cam 7", "--revise", path(&sheet)]);
    assert_eq!(
        (
            revised["sheet_revision"].as_u64(),
            revised["revisions"].as_array().unwrap().len()
        ),
        (Some(2), 2)
    );
    assert_eq!(revised["release"]["smallest_card"], 3_000_000_000_u64);
    assert_eq!(bed.done(&["release", "sheet", "cam 7"]), text);
    std::fs::write(&sheet, text.replace("\"7\"", "\"8\"")).unwrap();
    let said = bed.refused(&["release", "sheet", "cam 7", "--revise", path(&sheet)]);
    assert!(
        said.contains("keeps its appliance, variant and version"),
        "{said}"
    );
}

#[test]
fn an_archive_with_several_images_wants_one_named_and_a_cut_image_stays_a_draft() {
    let bed = loaded();
    let zip = bed.dir().join("both-1.0.zip");
    let made = std::process::Command::new("python3")
        .args([
            "-c",
            "import sys,zipfile\nwith zipfile.ZipFile(sys.argv[1],'w') as z:\n z.write(sys.argv[2],'a/plover.img.gz')\n z.write(sys.argv[3],'b/curlew.img.xz')\n z.writestr('readme','words')",
        ])
        .arg(&zip)
        .arg(demo_image("tidegauge-1.7.img.gz"))
        .arg(demo_image("quaylink-2.4.img.xz"))
        .status()
        .unwrap();
    assert!(made.success());
    let said = bed.refused(&["release", "add", path(&zip)]);
    assert!(
        said.contains(
            "several disk images, name the one to take: a/plover.img.gz, b/curlew.img.xz"
        ),
        "{said}"
    );
    let added = bed.json(&["release", "add", path(&zip), "--member", "curlew.img.xz"]);
    assert_eq!(added["release"]["packing"], "zip and xz");
    assert_eq!(
        added["origin"]["same_as"],
        serde_json::json!(["quaylink 2.4"])
    );

    let cut = bed.dir().join("cut-1.0.img");
    std::fs::copy(demo_image("import/tidegauge-1.8-rc1.img"), &cut).unwrap();
    std::fs::File::options()
        .write(true)
        .open(&cut)
        .unwrap()
        .set_len(120 << 20)
        .unwrap();
    let added = bed.json(&["release", "add", path(&cut), "--board", "plover"]);
    assert_eq!(added["release"]["state"], "draft");
    let finding = &added["inspection"]["findings"][0];
    assert_eq!(
        (finding["severity"].as_str(), finding["code"].as_str()),
        (Some("serious"), Some("beyond-end"))
    );
    bed.make_card("mica", "3965190144", &[]);
    bed.put("mica", 1);
    let said = bed.refused(&[
        "write",
        "--release",
        "cut 1.0",
        "--slot",
        "1",
        "--yes",
        "C-0001",
    ]);
    assert!(said.contains("the image is cut short"), "{said}");
}

#[test]
fn a_folder_and_addresses_are_ways_in() {
    let bed = loaded();
    let raw = demo_image("import/tidegauge-1.8-rc1.img");
    std::fs::copy(&raw, bed.import_dir().join("tidegauge-1.8-rc1.img")).unwrap();
    std::fs::copy(
        demo_sheet("tidegauge-1.8-rc1.toml"),
        bed.import_dir().join("tidegauge-1.8-rc1.toml"),
    )
    .unwrap();
    std::os::unix::fs::symlink("/etc/passwd", bed.import_dir().join("link.img")).unwrap();
    for name in ["../service/team.key", "link.img", "none.img", ".hidden"] {
        let said = bed.refused(&["release", "add", "--folder", name]);
        assert!(said.contains("there is no file"), "{name}: {said}");
    }
    let added = bed.json(&["release", "add", "--folder", "tidegauge-1.8-rc1.img"]);
    assert_eq!(
        (
            added["release"]["name"].as_str(),
            added["origin"]["way"].as_str()
        ),
        (Some("tidegauge 1.8-rc1"), Some("folder"))
    );
    assert!(
        bed.import_dir().join("tidegauge-1.8-rc1.img").exists(),
        "it is somebody else's file"
    );

    let dir = published(&bed);
    let publisher = Publisher::start(&dir);
    let url = publisher.url("quaylink-2.5.img.zst");
    let sheet = demo_sheet("quaylink-2.5.toml");
    let add = |url: &str| ["release", "add", url, "--sheet", path(&sheet)].map(str::to_owned);
    let refused = |url: &str| bed.refused(&add(url).iter().map(String::as_str).collect::<Vec<_>>());
    for (faults, url, says) in [
        (&[][..], publisher.url("none.img"), "has no such file"),
        (&["--down"], url.clone(), "503"),
        (
            &["--login", "marit:secret"],
            url.clone(),
            "wants a user and a password",
        ),
        (
            &[],
            publisher.url("sent-on?to=file:///etc/passwd"),
            "cannot be fetched",
        ),
    ] {
        publisher.order(faults);
        let said = refused(&url);
        assert!(said.contains(says), "{url}: {said}");
    }
    // Cut off again and again, it goes on from where it was; a password comes from a file.
    publisher.order(
        &["--cut", "500kB", "--login", "marit:secret"]
            .map(|word| if word == "500kB" { "512000" } else { word }),
    );
    let password = bed.dir().join("password");
    std::fs::write(&password, "secret\n").unwrap();
    let mut words: Vec<_> = add(&url).to_vec();
    words.extend(["--user", "marit", "--password-file", path(&password)].map(str::to_owned));
    let added = bed.json(&words.iter().map(String::as_str).collect::<Vec<_>>());
    assert_eq!(
        (
            added["release"]["name"].as_str(),
            added["origin"]["from"].as_str()
        ),
        (Some("quaylink 2.5"), Some(url.as_str()))
    );
    assert_eq!(
        added["release"]["packed_sha256"],
        sha256(&dir.join("quaylink-2.5.img.zst"))
    );
    let log = std::fs::read_to_string(bed.log()).unwrap();
    assert!(
        log.contains("cut off") && !log.contains("marit:secret"),
        "{log}"
    );
    let left = std::fs::read_dir(bed.data_dir().join("uploads"))
        .unwrap()
        .count();
    assert_eq!(left, 0, "nothing is left behind");
}

#[test]
fn addresses_inside_the_own_network_are_refused_unless_configured() {
    let bed = Testbed::start_with(&["--most-raw-gb", "0.1"]);
    bed.done(&[
        "board",
        "add",
        "plover",
        "--title",
        "Plover",
        "--architecture",
        "arm64",
    ]);
    bed.done(&[
        "board",
        "add",
        "curlew",
        "--title",
        "Curlew",
        "--architecture",
        "armhf",
    ]);
    let sheet = demo_sheet("quaylink-2.4.toml");
    for url in [
        "http://127.0.0.1:9/x.img",
        "http://localhost/x.img",
        "http://[::1]/x",
        "http://169.254.169.254/latest",
        "http://10.0.0.1/",
    ] {
        let said = bed.refused(&["release", "add", url, "--sheet", path(&sheet)]);
        assert!(said.contains("own machine or network"), "{url}: {said}");
    }
    let said = bed.refused(&["feed", "follow", "home", "http://192.168.1.1/feed.json"]);
    assert!(said.contains("own machine or network"), "{said}");
    // The limit on raw size is the same for every packing.
    for file in ["quaylink-2.4.img.xz", "import/tidegauge-1.8-rc1.img"] {
        let image = demo_image(file);
        let said = bed.refused(&["release", "add", path(&image), "--sheet", path(&sheet)]);
        assert!(said.contains("larger than 100000000 bytes"), "{said}");
    }
}

#[test]
fn a_feed_shows_what_is_new_and_one_action_adds_it() {
    let bed = loaded();
    let dir = published(&bed);
    let sheet = dir.join("quaylink-2.5.toml");
    let (hidden, image) = (
        dir.join("quaylink-2.5.toml.away"),
        dir.join("quaylink-2.5.img.zst"),
    );
    std::fs::rename(&sheet, &hidden).unwrap();
    let publisher = Publisher::start(&dir);
    let feed = bed.json(&["feed", "follow", "commons", &publisher.url("feed.json")]);
    let items = |feed: &Value| -> Vec<(String, bool)> {
        let items = feed[0]["items"].as_array().unwrap().iter();
        let mut found: Vec<_> = items
            .map(|i| {
                (
                    i["item"].as_str().unwrap().to_owned(),
                    i["new"].as_bool().unwrap(),
                )
            })
            .collect();
        found.sort();
        found
    };
    assert_eq!(items(&feed), [("toolpost-2026-09-15".to_owned(), true)]);
    std::fs::rename(&hidden, &sheet).unwrap();
    let feed = bed.json(&["feed", "look", "commons"]);
    assert_eq!(
        items(&feed),
        [
            ("quaylink-2.5".to_owned(), true),
            ("toolpost-2026-09-15".to_owned(), false)
        ]
    );

    publisher.order(&["--wrong-checksum"]);
    bed.done(&["feed", "look", "commons"]);
    let said = bed.refused(&["release", "add", "--feed", "commons", "quaylink-2.5"]);
    assert!(said.contains("is not what was published"), "{said}");
    publisher.order(&[]);
    bed.done(&["feed", "look", "commons"]);
    let added = bed.json(&["release", "add", "--feed", "commons", "quaylink-2.5"]);
    assert_eq!(added["origin"]["way"], "feed");
    assert_eq!(added["origin"]["published_sha256"], sha256(&image));
    assert_eq!(added["release"]["state"], "released");
    let again = bed.refused(&["release", "add", "--feed", "commons", "quaylink-2.5"]);
    assert!(again.contains("is quaylink 2.5 here already"), "{again}");
    publisher.order(&["--down"]);
    let said = bed.refused(&["feed", "look", "commons"]);
    assert!(said.contains("503"), "{said}");
    let listed = bed.done(&["feed", "list"]);
    assert!(
        listed.contains("trouble:") && listed.contains("added"),
        "{listed}"
    );
    let none = bed.refused(&["release", "add", "--feed", "commons", "nothing"]);
    assert!(none.contains("has no release \"nothing\""), "{none}");
}

#[test]
fn every_question_about_releases_and_devices_has_an_answer() {
    let bed = loaded();
    bed.add_device("quay-01");
    bed.make_card("mica", "3965190144", &[]);
    bed.put("mica", 1);
    bed.done(&["write", "quay-01", "--slot", "1", "--yes", "C-0001"]);
    let behind = |all: bool| {
        let words = if all {
            vec!["device", "outdated", "--up-to-date-too"]
        } else {
            vec!["device", "outdated"]
        };
        bed.json(&words)
    };
    assert_eq!(behind(false)["items"], serde_json::json!([]));
    assert_eq!(behind(true)["items"][0]["standing"], "up to date");

    // An older version that is added later is not the newest.
    bed.done(&[
        "release",
        "add",
        path(&demo_image("quaylink-2.3.zip")),
        "--sheet",
        path(&demo_sheet("quaylink-2.3.toml")),
    ]);
    let text = std::fs::read_to_string(demo_sheet("quaylink-2.4.toml")).unwrap();
    let newer = bed.dir().join("newer.toml");
    std::fs::write(
        &newer,
        text.replace("version = \"2.4\"", "version = \"2.10\""),
    )
    .unwrap();
    bed.done(&[
        "release",
        "add",
        path(&demo_image("quaylink-2.4.img.xz")),
        "--sheet",
        path(&newer),
    ]);
    let lines = bed.json(&["release", "list"]);
    let quaylink = &lines
        .as_array()
        .unwrap()
        .iter()
        .find(|line| line["appliance"] == "quaylink")
        .unwrap();
    let versions: Vec<_> = quaylink["releases"]
        .as_array()
        .unwrap()
        .iter()
        .map(|r| r["version"].as_str().unwrap())
        .collect();
    assert_eq!(versions, ["2.10", "2.4", "2.3"]);
    assert_eq!(
        (quaylink["newest"].as_str(), quaylink["to_write"].as_u64()),
        (Some("quaylink 2.10"), Some(1))
    );
    assert_eq!(behind(false)["items"][0]["follows"], "quaylink 2.10");

    // What is current counts before what is newest; a device can stay with one release.
    bed.done(&["release", "current", "quaylink 2.4", "--board", "curlew"]);
    assert_eq!(behind(true)["items"][0]["standing"], "up to date");
    let said = bed.refused(&[
        "release",
        "current",
        "quaylink 2.4",
        "--board",
        "plover-field",
    ]);
    assert!(said.contains("revise the sheet first"), "{said}");
    bed.done(&["device", "follow", "quay-01", "quaylink 2.3"]);
    let standing = &behind(true)["items"][0];
    assert_eq!(
        (standing["standing"].as_str(), standing["pinned"].as_str()),
        (Some("newer than target"), Some("quaylink 2.3"))
    );
    bed.done(&["device", "follow", "quay-01", "current"]);

    // Evidence from the bench, noted in one action, keeps a release from being offered.
    bed.done(&[
        "release",
        "note",
        "quaylink 2.10",
        "--board",
        "curlew",
        "--does-not-boot",
        "two long lamps",
    ]);
    let choices = bed.json(&["device", "choices", "quay-01"]);
    let order: Vec<_> = choices
        .as_array()
        .unwrap()
        .iter()
        .map(|c| (c["release"].as_str().unwrap(), c["fits"].as_bool().unwrap()))
        .collect();
    assert_eq!(
        order,
        [
            ("quaylink 2.4", true),
            ("quaylink 2.3", true),
            ("quaylink 2.10", false)
        ]
    );
    let why = choices[2]["reasons"][0].as_str().unwrap();
    assert!(
        why.starts_with("did not boot on curlew, noted on ") && why.ends_with("two long lamps"),
        "{why}"
    );
    let said = bed.refused(&[
        "write",
        "quay-01",
        "--release",
        "quaylink 2.10",
        "--slot",
        "1",
        "--yes",
        "C-0001",
    ]);
    assert!(
        said.contains("does not suit quay-01: did not boot on curlew"),
        "{said}"
    );
    let said = bed.refused(&["device", "follow", "quay-01", "tidegauge 1.7"]);
    assert!(
        said.contains("its sheet names plover-field, plover, quay-01 is a curlew"),
        "{said}"
    );
    assert!(
        said.contains("its programs are for arm64, a curlew is armhf"),
        "{said}"
    );

    // A recall: who carries it; and it is not written any more without a reason.
    let carriers = bed.json(&["release", "carriers", "quaylink 2.4"]);
    assert_eq!(
        (
            carriers["items"][0]["device"].as_str(),
            carriers["items"][0]["card"].as_str()
        ),
        (Some("quay-01"), Some("C-0001"))
    );
    let said = bed.refused(&["release", "state", "quaylink 2.4", "withdrawn"]);
    assert!(said.contains("say why"), "{said}");
    bed.done(&[
        "release",
        "state",
        "quaylink 2.4",
        "withdrawn",
        "--reason",
        "loses its clock",
    ]);
    let standing = &behind(false)["items"][0];
    assert_eq!(
        (standing["standing"].as_str(), standing["follows"].as_str()),
        (Some("withdrawn"), Some("quaylink 2.3"))
    );
    let write = [
        "write",
        "quay-01",
        "--release",
        "quaylink 2.4",
        "--slot",
        "1",
        "--yes",
        "C-0001",
    ];
    let said = bed.refused(&write);
    assert!(
        said.contains("was withdrawn by") && said.contains("loses its clock"),
        "{said}"
    );
    let mut all_the_same = write.to_vec();
    all_the_same.extend(["--although-withdrawn", "to look into it"]);
    bed.done(&all_the_same);
    let card = bed.json(&["card", "show", "C-0001"]);
    assert_eq!(card["imprints"][0]["override_reason"], "to look into it");

    // What changed between two releases.
    let compared = bed.json(&["release", "compare", "quaylink 2.3", "quaylink 2.4"]);
    let changes: Vec<_> = compared["files"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| (f["change"].as_str().unwrap(), f["path"].as_str().unwrap()))
        .collect();
    assert_eq!(
        changes,
        [
            ("content", "/appliance.toml"),
            ("content", "/etc/appliance-version"),
            ("gone", "/usr/lib/quaylink/driver-2.3.bin"),
            ("new", "/usr/lib/quaylink/driver-2.4.bin"),
        ]
    );
    assert_eq!(compared["counts"]["same"], 7);
    let keys: Vec<_> = compared["sheet"]
        .as_array()
        .unwrap()
        .iter()
        .map(|d| d["what"].as_str().unwrap())
        .collect();
    assert_eq!(keys, ["date", "notes", "version"]);
    let same = bed.json(&["release", "compare", "quaylink 2.4", "quaylink 2.10"]);
    assert_eq!(
        (
            same["files"].as_array().unwrap().len(),
            same["partitions"].as_array().unwrap().len()
        ),
        (0, 0)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_goes_on_after_a_restart_and_a_cancelled_import_leaves_nothing() {
    let mut bed = loaded();
    let client = bed.client();
    let bytes = std::fs::read(demo_image("quaylink-2.3.zip")).unwrap();
    let begin = api::NewUpload {
        file_name: "quaylink-2.3.zip".into(),
        size: bytes.len() as u64,
        sheet: None,
        key: Some("this very file".into()),
    };
    let upload = client.begin_upload(&begin).await.unwrap();
    client
        .send_part(&upload.id, 0, bytes[..1_000_000].to_vec())
        .await
        .unwrap();
    bed.kill_service();
    bed.start_service();
    let client = bed.client();
    let again = client.begin_upload(&begin).await.unwrap();
    assert_eq!(
        (again.id.as_str(), again.received),
        (upload.id.as_str(), 1_000_000)
    );
    client
        .send_part(&again.id, 1_000_000, bytes[1_000_000..].to_vec())
        .await
        .unwrap();
    let sheet = std::fs::read_to_string(demo_sheet("quaylink-2.3.toml")).unwrap();
    let new = api::NewRelease {
        upload: Some(again.id),
        sheet: Some(sheet.clone()),
        ..Default::default()
    };
    let job = client.add_release(&new, None).await.unwrap();
    assert_eq!(client.follow(job.id, |_| {}).await.unwrap().state, "done");

    let dir = published(&bed);
    let publisher = Publisher::start(&dir);
    publisher.order(&["--rate", "300000"]);
    let new = api::NewRelease {
        url: Some(publisher.url("quaylink-2.5.img.zst")),
        sheet: Some(std::fs::read_to_string(demo_sheet("quaylink-2.5.toml")).unwrap()),
        ..Default::default()
    };
    let job = client.add_release(&new, None).await.unwrap();
    loop {
        let progress = client.job(job.id).await.unwrap().progress;
        if progress.is_some_and(|progress| progress.stage == "fetching" && progress.done > 0) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    client.cancel(job.id).await.unwrap();
    assert_eq!(
        client.follow(job.id, |_| {}).await.unwrap().state,
        "cancelled"
    );
    let left = std::fs::read_dir(bed.data_dir().join("uploads"))
        .unwrap()
        .count();
    assert_eq!(left, 0);
    assert!(client.release("quaylink 2.5").await.is_err());
}

/// Runs a program; `None`, with its words printed, where it fails.
fn tried(program: &str, words: &[&str]) -> Option<()> {
    let done = std::process::Command::new(program)
        .env(
            "PATH",
            format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap()),
        )
        .args(words)
        .output()
        .unwrap();
    if !done.status.success() {
        println!(
            "{program} {words:?}: {}",
            String::from_utf8_lossy(&done.stderr)
        );
    }
    done.status.success().then_some(())
}

/// A mounted file system, unmounted when this is dropped.
struct Mounted(PathBuf);

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = tried("umount", &[path(&self.0)]);
    }
}

fn mount(image: &Path, at: &Path, options: &str) -> Option<Mounted> {
    std::fs::create_dir_all(at).unwrap();
    tried(
        "mount",
        &["-o", &format!("loop,{options}"), path(image), path(at)],
    )?;
    Some(Mounted(at.into()))
}

#[test]
fn an_image_copied_while_it_was_mounted_loses_no_file() {
    const START: u64 = 1 << 20;
    let bed = loaded();
    let (part, disk) = (bed.dir().join("part"), bed.dir().join("field-1.0.img"));
    std::fs::File::create(&part)
        .unwrap()
        .set_len(96 << 20)
        .unwrap();
    tried("mke2fs", &["-q", "-F", "-t", "ext4", path(&part)]).unwrap();
    let Some(mounted) = mount(&part, &bed.dir().join("mnt"), "commit=600") else {
        println!("skipped: mounting is not possible here");
        return;
    };
    let mut expected = Vec::new();
    for number in 0..400_u32 {
        let bytes: Vec<u8> = (0..number * 61).map(|i| (i * 31 + number) as u8).collect();
        std::fs::write(mounted.0.join(format!("log {number}")), &bytes).unwrap();
        if number % 3 > 0 {
            expected.push((format!("log {number}"), bytes));
        }
    }
    tried("sync", &["-f", path(&mounted.0)]).unwrap();
    for number in (0..400).step_by(3) {
        std::fs::remove_file(mounted.0.join(format!("log {number}"))).unwrap();
    }
    tried("sync", &["-f", path(&mounted.0)]).unwrap();
    // As a careless copy of the running board's card would be: behind a table, packed.
    let script = "printf 'label: dos\\nstart=2048,size=196608,type=83\\n' | sfdisk -q \"$1\" && \
                  dd if=\"$2\" of=\"$1\" bs=1M seek=1 conv=notrunc status=none && zstd -q \"$1\"";
    std::fs::File::create(&disk)
        .unwrap()
        .set_len(100 << 20)
        .unwrap();
    tried("sh", &["-c", script, "sh", path(&disk), path(&part)]).unwrap();
    drop(mounted);

    let packed = bed.dir().join("field-1.0.img.zst");
    let added = bed.json(&["release", "add", path(&packed), "--board", "plover"]);
    let finding = &added["inspection"]["findings"]
        .as_array()
        .unwrap()
        .iter()
        .find(|f| f["code"] == "unclean");
    let words = finding.expect("it was not unmounted")["text"]
        .as_str()
        .unwrap();
    assert!(words.contains("its journal holds"), "{words}");
    let (content, raw) = (&added["release"]["content"], &added["release"]["raw_size"]);
    assert!(
        content.as_u64().unwrap() < raw.as_u64().unwrap() / 2,
        "{added}"
    );

    let out = bed.dir().join("out.img");
    bed.done(&["release", "export", "field 1.0", path(&out)]);
    let back = mount(&out, &bed.dir().join("back"), &format!("offset={START}")).unwrap();
    for (name, bytes) in &expected {
        assert!(
            std::fs::read(back.0.join(name)).unwrap() == *bytes,
            "{name}"
        );
    }
    assert_eq!(
        std::fs::read_dir(&back.0).unwrap().count(),
        expected.len() + 1,
        "with lost+found"
    );
    drop(back);
    let script = "dd if=\"$1\" of=\"$2\" bs=1M skip=1 count=96 status=none && e2fsck -fn \"$2\"";
    tried("sh", &["-c", script, "sh", path(&out), path(&part)]).expect("nothing is wrong with it");
}
