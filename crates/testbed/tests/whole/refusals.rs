//! Bad input: each refusal names the thing and says what to do, before anything is touched.

use std::io::{Read as _, Write as _};

use testbed::{Testbed, demo_image, demo_sheet, path};

/// Every refusal of the catalogue, on one service.
#[test]
fn the_catalogue_refuses_what_is_no_release() {
    let bed = Testbed::start();
    bed.load_catalogue();
    let file = |name: &str, bytes: &[u8]| {
        let path = bed.dir().join(name);
        std::fs::File::create(&path)
            .unwrap()
            .write_all(bytes)
            .unwrap();
        path
    };
    let sheet_text = std::fs::read_to_string(demo_sheet("quaylink-2.4.toml"))
        .unwrap()
        .replace("\"2.4\"", "\"2.5\"");
    let sheet = file("2.5.toml", sheet_text.as_bytes());
    let good = std::fs::read(demo_image("quaylink-2.4.img.xz")).unwrap();
    for (name, bytes, says) in [
        (
            "letter.txt",
            b"Dear neighbours, the tide comes at four.\n".repeat(40_000),
            "this is no disk image",
        ),
        (
            "cut.img.xz",
            good[..good.len() / 2].to_vec(),
            "xz data end early",
        ),
        (
            "photo.zip",
            b"PK\x03\x04 whatever".to_vec(),
            "the zip archive cannot be used",
        ),
    ] {
        let image = file(name, &bytes);
        let said = bed.refused(&["release", "add", path(&image), "--sheet", path(&sheet)]);
        assert!(said.contains(name) && said.contains(says), "{said}");
    }
    let empty = file("empty.img", b"");
    let said = bed.refused(&["release", "add", path(&empty), "--sheet", path(&sheet)]);
    assert!(said.contains("empty.img is empty"), "{said}");

    let image = demo_image("quaylink-2.4.img.xz");
    for (from, to, says) in [
        (
            "smallest_gb",
            "smalest_gb",
            "line 12, column 1: unknown field `smalest_gb`, expected one of `smallest_gb`, `advised_gb`, `grow`, `leave_mb`, `meta_bg`; did you mean `smallest_gb`?",
        ),
        (
            "boards = [\"plover\", \"curlew\"]\n",
            "",
            "missing field `boards`",
        ),
        (
            "\"curlew\"",
            "\"sandpiper\"",
            "board model \"sandpiper\", which is not known here",
        ),
        (
            "\"2.5\"",
            "\"2.4\"",
            "has a release \"quaylink 2.4\" already",
        ),
    ] {
        let sheet = file("bad.toml", sheet_text.replacen(from, to, 1).as_bytes());
        let said = bed.refused(&["release", "add", path(&image), "--sheet", path(&sheet)]);
        assert!(said.contains(says), "{said}");
        assert!(!says.contains("field") || said.contains("line "), "{said}");
    }
    let lines = bed.json(&["release", "list"]);
    let releases = lines.as_array().unwrap().iter();
    let count: usize = releases
        .map(|line| line["releases"].as_array().unwrap().len())
        .sum();
    assert_eq!(count, 2, "nothing was added");
    let left = std::fs::read_dir(bed.data_dir().join("uploads")).unwrap();
    assert_eq!(
        left.count(),
        0,
        "a failed import leaves nothing behind, a refused sheet is refused before the upload"
    );
}

#[test]
fn devices_refuse_wrong_values_by_name() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.done(&[
        "device",
        "add",
        "quay-02",
        "--board",
        "curlew",
        "--appliance",
        "quaylink",
        "--site",
        "quay",
    ]);
    for (words, says) in [
        (
            &["device", "set", "quay-02", "host_name=quay 2"][..],
            "\"quay 2\" is no host name",
        ),
        (
            &["device", "set", "quay-02", "host_name=QUAY-01"],
            "another device on site \"quay\" has the host name",
        ),
        (
            &[
                "device",
                "set",
                "quay-02",
                "wifi_network=a-network-name-of-thirty-three-by",
            ],
            "33 bytes long; a network name has at most 32",
        ),
        (
            &["device", "set", "quay-02", "wifi_country=Norway"],
            "no country code of ISO 3166-1",
        ),
        (
            &["device", "set", "quay-02", "wifi_pasphrase=x"],
            "no field \"wifi_pasphrase\"",
        ),
        (
            &["device", "set", "quay-02", "wifi_passphrase=on the line"],
            "words of a command end up in histories",
        ),
        (
            &["device", "show", "quay-99"],
            "there is no device \"quay-99\"",
        ),
        (
            &[
                "device",
                "add",
                "quay-02",
                "--board",
                "curlew",
                "--appliance",
                "quaylink",
                "--site",
                "quay",
            ],
            "a device \"quay-02\" already",
        ),
        (
            &[
                "device",
                "add",
                "quay-03",
                "--board",
                "heron",
                "--appliance",
                "quaylink",
                "--site",
                "quay",
            ],
            "no board model \"heron\"",
        ),
        (
            &[
                "device",
                "add",
                "quay-03",
                "--board",
                "curlew",
                "--appliance",
                "quaylink",
                "--site",
                "moon",
            ],
            "no site \"moon\"",
        ),
        (
            &["write", "quay-99", "--slot", "1", "--yes", "C-0001"],
            "there is no device \"quay-99\"",
        ),
        (
            &["write", "quay-02", "--slot", "1", "--yes", "C-0001"],
            "Host name: must be set",
        ),
    ] {
        let said = bed.refused(words);
        assert!(said.contains(says), "{words:?}: {said}");
    }
    let short = bed.dir().join("short");
    std::fs::write(&short, "seven77").unwrap();
    let said = bed.refused(&[
        "device",
        "set",
        "quay-02",
        "--secret-file",
        &format!("wifi_passphrase={}", short.display()),
    ]);
    assert!(
        said.contains("has 7 characters; a passphrase has 8 to 63") && !said.contains("seven77"),
        "{said}"
    );
}

#[test]
fn cards_are_refused_before_anything_is_touched() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("pebble", "128000000", &[]);
    bed.make_card("shale", "3965190144", &["--locked"]);
    bed.make_card("mica", "3965190144", &[]);
    let write = |slot: &str, label: &str| {
        bed.refused(&["write", "quay-01", "--slot", slot, "--yes", label])
    };

    let said = write("1", "C-0001");
    assert!(said.contains("slot 1 is empty; put a card in"), "{said}");
    let said = write("9", "C-0001");
    assert!(said.contains("the bench has no slot 9"), "{said}");
    bed.put("pebble", 1);
    let said = write("1", "C-0001");
    assert!(
        said.contains("holds 128.0 MB (128000000 bytes)")
            && said.contains("needs 500.0 MB (500000000 bytes)"),
        "{said}"
    );
    bed.put("shale", 1);
    let said = write("1", "C-0001");
    assert!(said.contains("locked; move its slider"), "{said}");
    bed.put("mica", 1);
    let said = write("1", "C-0007");
    assert!(
        said.contains("the card in slot 1 is C-0001, not C-0007; nothing was touched"),
        "{said}"
    );
    let said = bed.refused(&["write", "quay-01", "--slot", "1"]);
    assert!(
        said.contains("nothing was touched: confirm with --yes"),
        "{said}"
    );
    let said = bed.refused(&["backup", "take", "--slot", "1"]);
    assert!(
        said.contains("is blank; there is nothing to back up"),
        "{said}"
    );
    let said = bed.refused(&["restore", "quay-01.1999-01-01", "--slot", "1"]);
    assert!(said.contains("there is no backup"), "{said}");
    for name in ["pebble", "shale", "mica"] {
        let mut head = vec![0; 1 << 20];
        std::fs::File::open(bed.card_file(name))
            .unwrap()
            .read_exact(&mut head)
            .unwrap();
        assert!(head.iter().all(|byte| *byte == 0), "{name} was touched");
    }
}

#[test]
fn a_card_that_vanishes_lies_or_flips_bits_is_never_called_good() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", "3965190144", &["--fault", "vanishes=20MB"]);
    bed.put("mica", 1);
    let said = bed.refused(&["write", "quay-01", "--slot", "1", "--yes", "C-0001"]);
    assert!(
        said.contains(
            "card C-0001 in slot 1: it vanished from slot 1. It is incomplete and says so itself"
        ),
        "{said}"
    );
    let card = bed.json(&["card", "show", "C-0001"]);
    assert_eq!(
        (&card["card"]["state"], &card["imprints"][0]["state"]),
        (&"incomplete".into(), &"incomplete".into())
    );
    assert!(
        bed.done(&["status"]).contains("ready"),
        "the service is fine"
    );
    assert_eq!(
        bed.boot("mica", "curlew")["lamp"],
        "dark",
        "no board takes it for whole"
    );

    // The same card, mended, is recognised by its mark and can be written again.
    bed.standin(&["fault", "mica"]);
    bed.standin(&["halt", "mica"]);
    bed.put("mica", 1);
    let plan = bed.done(&["write", "quay-01", "--slot", "1", "--plan"]);
    assert!(
        plan.contains("C-0001") && plan.contains("nothing whole: unfinished"),
        "{plan}"
    );
    let said = bed.refused(&["backup", "take", "--slot", "1"]);
    assert!(
        said.contains("is incomplete; there is nothing whole to back up"),
        "{said}"
    );
    bed.done(&["write", "quay-01", "--slot", "1", "--yes", "C-0001"]);
    assert_eq!(bed.boot("mica", "curlew")["lamp"], "steady");

    for (name, size, fault) in [
        ("pumice", "3965190144", "wraps=100MB"),
        ("marl", "3980394496", "flips=1MB"),
        ("gneiss", "3980394624", "keeps-nothing"),
        ("schist", "3980394752", "bad=4194304+1MB"),
    ] {
        bed.make_card(name, size, &["--fault", fault]);
        bed.put(name, 2);
        let label = bed.json(&["write", "quay-01", "--slot", "2", "--plan"])["card"]
            .as_str()
            .unwrap()
            .to_owned();
        let said = bed.refused(&[
            "write",
            "quay-01",
            "--slot",
            "2",
            "--yes",
            &label,
            "--accept",
            "second-card,old-data",
        ]);
        assert!(
            said.contains(&label) && said.contains("take another card"),
            "{fault}: {said}"
        );
        let card = bed.json(&["card", "show", &label]);
        assert_eq!(
            card["imprints"][0]["state"], "incomplete",
            "{fault}: {card}"
        );
    }
}

#[test]
fn the_service_says_clearly_why_it_does_not_start() {
    let mut bed = Testbed::start();
    let said = |mut command: std::process::Command| {
        let out = command.output().unwrap();
        assert!(!out.status.success());
        String::from_utf8_lossy(&out.stderr).into_owned()
    };
    let taken = said(bed.service_command());
    assert!(
        taken.contains("cannot listen at 127.0.0.1:") && taken.contains("--listen"),
        "{taken}"
    );
    let other = |words: &[&str]| {
        let mut command = std::process::Command::new(testbed::binary("duplicariumd"));
        command.args(words);
        command
    };
    let everyone = said(other(&[
        "--listen",
        "0.0.0.0:0",
        "--data-dir",
        path(&bed.dir().join("x")),
    ]));
    assert!(everyone.contains("can be reached by others"), "{everyone}");
    let shared = said(other(&[
        "--listen",
        "127.0.0.1:0",
        "--data-dir",
        path(&bed.data_dir()),
    ]));
    assert!(
        shared.contains("another service uses the data folder"),
        "{shared}"
    );

    bed.stop_service();
    let key = bed.data_dir().join("team.key");
    let kept = std::fs::read(&key).unwrap();
    std::fs::remove_file(&key).unwrap();
    let lost = said(bed.service_command());
    assert!(
        lost.contains("team.key is missing") && lost.contains("put back the copy"),
        "{lost}"
    );
    std::fs::write(&key, kept).unwrap();
    std::fs::remove_file(bed.data_dir().join("postgres/duplicarium-made")).unwrap();
    let half = said(bed.service_command());
    assert!(half.contains("half made"), "{half}");
    std::fs::write(bed.data_dir().join("postgres/duplicarium-made"), "").unwrap();
    bed.start_service();
}

/// What the service answers to a request with these lines in its head.
fn status_of(bed: &Testbed, head: &[String]) -> u16 {
    let address = bed.url();
    let address = address.strip_prefix("http://").unwrap();
    let mut line = std::net::TcpStream::connect(address).unwrap();
    let head = head.join("\r\n");
    write!(
        line,
        "GET /api/v1/slots HTTP/1.1\r\n{head}\r\nConnection: close\r\n\r\n"
    )
    .unwrap();
    let mut answer = String::new();
    line.read_to_string(&mut answer).unwrap();
    answer.split(' ').nth(1).unwrap().parse().unwrap()
}

/// A browser on this computer could act for pages of others, and under names that were made to lead here.
#[test]
fn only_own_pages_and_programs_are_answered() {
    let bed = Testbed::start();
    let url = bed.url();
    let port = url.rsplit(':').next().unwrap();
    let host = format!("Host: 127.0.0.1:{port}");
    let passes = |head: &[String]| status_of(&bed, head) == 200;
    assert!(passes(std::slice::from_ref(&host)), "a program");
    assert!(
        passes(&[host.clone(), format!("Origin: http://127.0.0.1:{port}")]),
        "the console"
    );
    let local = format!("localhost:{port}");
    assert!(passes(&[
        format!("Host: {local}"),
        format!("Origin: http://{local}")
    ]));
    for origin in ["http://tides.example", "null", "https://127.0.0.1"] {
        let head = [host.clone(), format!("Origin: {origin}")];
        assert_eq!(status_of(&bed, &head), 403, "{origin}");
    }
    assert_eq!(
        status_of(&bed, &[format!("Host: tides.example:{port}")]),
        403
    );
}
