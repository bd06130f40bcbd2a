//! From the card in its board to the board that does its job. What happens is played by the stand-in's boards,
//! which read the cards by themselves; what becomes of devices and cards is read from the records.

use std::time::{Duration, Instant};

use api::{ArrivalDetail, ArrivalEnd, ClientError, Hello, NewArrival, Problem, Standing};
use testbed::{Browser, Testbed, demo_image, demo_sheet};

const SIZE: &str = "700000256";

fn bed(flags: &[&str]) -> Testbed {
    let bed = Testbed::start_with(&[&["--private-addresses"], flags].concat());
    bed.load_catalogue();
    bed.done(&[
        "board",
        "add",
        "curlew",
        "--title",
        "Curlew",
        "--architecture",
        "armhf",
        "--ports",
        "Wi-Fi",
        "--boot-minutes",
        "2",
        "--lamp",
        "steady=none=running",
        "--lamp",
        "dark=power=no power",
        "--lamp",
        "short,short,short,long=card=the software on the card is damaged",
    ]);
    bed
}

/// A bed whose service uses a radio: the stand-in's, and what it is asked is kept.
fn bed_with_radio() -> Testbed {
    let bed = Testbed::start_after(&["--private-addresses"], |bed| {
        let (radio, asked) = (bed.dir().join("radio"), bed.dir().join("radio.asked"));
        let script = format!(
            "#!/bin/sh\necho \"$*\" >> {}\nexec {} --at {} radio \"$@\"\n",
            asked.display(),
            testbed::binary("duplicarium-standin").display(),
            bed.standin_address()
        );
        std::fs::write(&radio, script).unwrap();
        let all = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(&radio, all).unwrap();
        let program = radio.to_str().unwrap().to_owned();
        bed.environment
            .push(("DUPLICARIUM_RADIO_PROGRAM".into(), program));
    });
    bed.load_catalogue();
    bed
}

/// Revises a sheet so that whoever is waited for is late at once.
fn late_at_once(bed: &Testbed) {
    let sheet = std::fs::read_to_string(testbed::demo_sheet("quaylink-2.4.toml")).unwrap();
    let quick = sheet.replace("minutes = 2", "minutes = 0.02");
    let file = bed.dir().join("quick.toml");
    std::fs::write(&file, quick).unwrap();
    bed.done(&[
        "release",
        "sheet",
        "quaylink 2.4",
        "--revise",
        file.to_str().unwrap(),
    ]);
}

/// A card of a device, written and out of its slot.
fn card_of(bed: &Testbed, device: &str, card: &str) -> String {
    bed.make_card(card, SIZE, &[]);
    bed.put(card, 1);
    let plan = bed.json(&["write", device, "--slot", "1", "--plan"]);
    let label = plan["card"].as_str().unwrap().to_owned();
    bed.done(&[
        "write",
        device,
        "--slot",
        "1",
        "--yes",
        &label,
        "--accept",
        "second-card",
    ]);
    bed.standin(&["pull", "--slot", "1"]);
    label
}

fn boot(bed: &Testbed, card: &str, more: &[&str]) {
    bed.standin(&[&["boot", card, "--model", "curlew"], more].concat());
}

async fn until(
    bed: &Testbed,
    device: &str,
    what: &str,
    holds: impl Fn(&ArrivalDetail) -> bool,
) -> ArrivalDetail {
    let begun = Instant::now();
    loop {
        let detail = bed.client().arrival_of(device).await.unwrap();
        if holds(&detail) {
            return detail;
        }
        assert!(
            begun.elapsed() < Duration::from_secs(60),
            "{what}: never; {detail:#?}"
        );
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

fn names(detail: &ArrivalDetail) -> Vec<&str> {
    detail
        .cautions
        .iter()
        .map(|one| one.name.as_str())
        .collect()
}

fn problem<T: std::fmt::Debug>(answer: Result<T, ClientError>) -> Problem {
    match answer {
        Err(ClientError::Refused(problem)) => problem,
        other => panic!("this should have been refused: {other:?}"),
    }
}

fn expect(device: &str) -> NewArrival {
    NewArrival {
        device: device.into(),
        ..NewArrival::default()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_board_comes_up_is_looked_at_and_accepted() {
    let mut bed = bed(&[]);
    bed.add_device("quay-01");
    let label = card_of(&bed, "quay-01", "mica");
    let said = bed.done(&["arrival", "expect", "quay-01", "--waits", "Marit"]);
    for words in [
        "Arrival 1 of quay-01",
        "expected",
        "Marit waits",
        "its release sheet",
        "http://quay-01/",
    ] {
        assert!(said.contains(words), "{words}: {said}");
    }
    assert!(
        bed.refused(&["arrival", "expect", "quay-01"])
            .contains("waited for already")
    );
    let other = bed.refused(&["arrival", "accept", "quay-01"]);
    assert!(
        other.contains("not-seen") && other.contains("steps-open"),
        "{other}"
    );
    // What is under way is in the records: the end of the service takes nothing away.
    bed.kill_service();
    bed.start_service();
    boot(
        &bed,
        "mica",
        &["--seconds", "2", "--mac", "5a:17:00:00:00:01"],
    );
    let ready = until(&bed, "quay-01", "it is ready", |one| {
        one.arrival.state == "ready"
    })
    .await;
    assert_eq!(ready.arrival.card.as_deref(), Some(label.as_str()));
    let [board] = ready.seen.boards.as_slice() else {
        panic!("{ready:#?}");
    };
    assert_eq!(
        (board.whose.as_str(), board.answers),
        ("this", true),
        "{board:?}"
    );
    assert!(board.words.contains("its stamp"), "{board:?}");
    assert_eq!(board.version.as_deref(), Some("quaylink 2.4"));
    assert_eq!(board.host_key.as_ref().map(String::len), Some(64));
    let states: Vec<_> = ready
        .seen
        .checks
        .iter()
        .map(|check| check.state.as_str())
        .collect();
    assert_eq!(states, ["passed"; 4]);
    assert!(ready.seen.checks[0].words.contains("Saltmarsh-Quay"));
    assert_eq!(names(&ready), ["login-open", "steps-open"]);
    let needs: Vec<_> = bed.client().attention().await.unwrap();
    assert_eq!(needs[0].kind, "arrival-ready");
    assert!(bed.done(&["status"]).contains("quay-01 is up"));

    // Nothing is accepted by habit, and a step by whoever did it.
    let end = |accept: &[&str]| ArrivalEnd {
        how: "accepted".into(),
        note: "on the lamp post by the fish hall".into(),
        accept: accept.iter().map(|name| (*name).to_owned()).collect(),
        ..ArrivalEnd::default()
    };
    let refused = problem(bed.client().end_arrival(1, &end(&["login-open"])).await);
    assert_eq!(
        (refused.code.as_str(), refused.detail.contains("steps-open")),
        ("not-accepted", true)
    );
    bed.done(&[
        "arrival",
        "step",
        "quay-01",
        "1",
        "--note",
        "opened the harbour's page",
        "--operator",
        "ingrid",
    ]);
    let step = bed.client().arrival(1).await.unwrap().steps.remove(0);
    assert_eq!(step.done_by.as_deref(), Some("ingrid"));
    assert!(
        bed.refused(&["arrival", "step", "quay-01", "7"])
            .contains("no step 7")
    );
    let said = bed.done(&["arrival", "accept", "quay-01", "--accept", "login-open"]);
    assert!(said.contains("accepted by"), "{said}");
    assert_eq!(
        bed.json(&["device", "show", "quay-01"])["device"]["state"],
        "in service"
    );
    let again = problem(bed.client().end_arrival(1, &end(&[])).await);
    assert!(again.detail.contains("is over"), "{again:?}");
    let seen = bed.client().sighting("quay-01").await.unwrap();
    assert_eq!(seen.version.as_deref(), Some("quaylink 2.4"));

    // The next one is waited for as long as this one took.
    bed.done(&["arrival", "expect", "quay-01"]);
    let next = bed.client().arrival_of("quay-01").await.unwrap();
    assert!(
        next.expected.seconds_by.contains("earlier arrival"),
        "{:?}",
        next.expected
    );
    assert!(next.expected.seconds.unwrap() < 60.0);
    // The same card with another key: somebody may stand between.
    bed.standin(&["halt", "mica"]);
    boot(&bed, "mica", &["--key", "7", "--mac", "5a:17:00:00:00:01"]);
    // What was on until now may have been seen as ready for a moment.
    until(&bed, "quay-01", "its key is another", |one| {
        one.arrival.state == "ready" && names(one).contains(&"other-key")
    })
    .await;
    bed.done(&["arrival", "stop", "quay-01"]);
    assert_eq!(
        bed.json(&["device", "show", "quay-01"])["device"]["state"],
        "in service"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn which_board_answers_is_told_by_what_only_it_has() {
    let bed = bed(&[]);
    let macs = ["5a:17:00:00:00:01", "5a:17:00:00:00:02"];
    for (device, mac) in ["quay-01", "quay-02"].iter().zip(macs) {
        bed.add_device(device);
        bed.done(&["device", "describe", device, "--mac", mac]);
    }
    card_of(&bed, "quay-01", "mica");
    card_of(&bed, "quay-02", "onyx");
    let client = bed.client();
    let refused = problem(
        client
            .expect(&NewArrival {
                card: Some("C-0002".into()),
                ..expect("quay-01")
            })
            .await,
    );
    assert!(refused.detail.contains("made for quay-02"), "{refused:?}");
    client.expect(&expect("quay-01")).await.unwrap();

    // The card of the other one in its board.
    boot(&bed, "onyx", &["--mac", macs[0]]);
    let seen = until(&bed, "quay-01", "the other card", |one| {
        !one.seen.boards.is_empty()
    })
    .await;
    assert_eq!(seen.seen.boards[0].whose, "other-card", "{seen:#?}");
    assert!(seen.seen.boards[0].words.contains("quay-02"));
    assert_eq!(seen.arrival.state, "expected", "it is not up");
    assert!(names(&seen).contains(&"other-card"));
    let needs = client.attention().await.unwrap();
    assert_eq!(needs[0].kind, "arrival-question");
    bed.standin(&["halt", "onyx"]);

    // Its card in the board of the other one.
    boot(&bed, "mica", &["--mac", macs[1]]);
    let is_other = |one: &ArrivalDetail| one.seen.boards.iter().any(|board| board.whose == "other");
    let seen = until(&bed, "quay-01", "the other board", is_other).await;
    assert!(seen.seen.boards[0].words.contains("quay-02"), "{seen:#?}");
    assert_ne!(seen.arrival.state, "ready");
    bed.standin(&["halt", "mica"]);

    // Two boards of one name, with copies of one card.
    std::fs::copy(bed.card_file("mica"), bed.card_file("onyx")).unwrap();
    boot(&bed, "mica", &["--mac", "5a:17:00:00:00:0a"]);
    boot(&bed, "onyx", &["--mac", "5a:17:00:00:00:0b"]);
    let seen = until(&bed, "quay-01", "two of one name", |one| {
        one.seen.boards.len() == 2
    })
    .await;
    assert!(names(&seen).contains(&"two-of-one-name"), "{seen:#?}");
    let said = bed.refused(&[
        "arrival",
        "accept",
        "quay-01",
        "--accept",
        "login-open,steps-open",
    ]);
    assert!(said.contains("two-of-one-name"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_board_that_does_not_come_up_has_likely_causes() {
    let bed = bed(&[]);
    bed.add_device("quay-01");
    bed.set_passphrase("quay-01", "not the tide");
    late_at_once(&bed);
    card_of(&bed, "quay-01", "mica");
    bed.done(&["arrival", "expect", "quay-01"]);
    boot(&bed, "mica", &[]);
    let late = until(&bed, "quay-01", "it is late", |one| one.arrival.late).await;
    assert_eq!(
        late.arrival.state, "expected",
        "the passphrase is wrong: {late:#?}"
    );
    let whats: Vec<_> = late
        .causes
        .iter()
        .map(|cause| cause.what.as_str())
        .collect();
    assert!(
        whats
            .iter()
            .any(|one| one.contains("passphrase of Saltmarsh-Quay")),
        "{whats:?}"
    );
    assert!(
        whats
            .iter()
            .any(|one| one.contains("country that is set, NO")),
        "{whats:?}"
    );
    assert_eq!(
        bed.client().attention().await.unwrap()[0].kind,
        "arrival-late"
    );
    let said = bed.done(&["arrival", "show", "quay-01"]);
    assert!(
        said.contains("It may be:") && said.contains("look for that name with a phone"),
        "{said}"
    );
    // What its lamp says leaves less to guess.
    assert!(
        bed.refused(&["arrival", "lamp", "quay-01", "blinking"])
            .contains("short,short,short,long")
    );
    let said = bed.done(&["arrival", "lamp", "quay-01", "short,short,short,long"]);
    assert!(
        said.contains("software on the card is damaged") && !said.contains("passphrase of"),
        "{said}"
    );
    // The one who stands there gives up on it.
    assert!(
        bed.refused(&["arrival", "refuse", "quay-01", "--note", " "])
            .contains("what was seen")
    );
    bed.done(&[
        "arrival",
        "refuse",
        "quay-01",
        "--note",
        "three short, one long",
    ]);
    assert_eq!(
        bed.json(&["device", "show", "quay-01"])["device"]["state"],
        "down"
    );
    let down = bed.client().outages().await.unwrap();
    assert_eq!(
        (down.len(), down[0].reason.as_str()),
        (1, "three short, one long")
    );
    // Back with the right one: down since ends when it is accepted.
    bed.standin(&["halt", "mica"]);
    bed.set_passphrase("quay-01", "ebb and flow 1907");
    bed.put("mica", 1);
    bed.done(&[
        "write",
        "quay-01",
        "--slot",
        "1",
        "--yes",
        "C-0001",
        "--accept",
        "other-device",
    ]);
    bed.standin(&["pull", "--slot", "1"]);
    bed.done(&["arrival", "expect", "quay-01"]);
    boot(&bed, "mica", &["--in-circles", "--seconds", "3"]);
    until(&bed, "quay-01", "it goes in circles", |one| {
        names(one).contains(&"in-circles")
    })
    .await;
    bed.standin(&["halt", "mica"]);
    boot(&bed, "mica", &[]);
    until(&bed, "quay-01", "it is ready", |one| {
        one.arrival.state == "ready"
    })
    .await;
    bed.done(&[
        "arrival",
        "accept",
        "quay-01",
        "--accept",
        "login-open,steps-open,in-circles",
    ]);
    assert!(bed.client().outages().await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_board_says_hello_once_with_the_word_of_its_card() {
    let bed = bed(&[]);
    bed.add_device("quay-01");
    let label = card_of(&bed, "quay-01", "mica");
    let client = bed.client();
    let board = bed.boot("mica", "curlew");
    let page = format!("{}stamp.json", board["page"].as_str().unwrap());
    let stamp: serde_json::Value = reqwest::get(page).await.unwrap().json().await.unwrap();
    let hello = |imprint: i64, word: &str| Hello {
        imprint,
        word: word.into(),
    };
    let word = stamp["hello"].as_str().unwrap();
    for (imprint, word) in [(1, "other"), (1, ""), (2, word)] {
        let refused = problem(client.hello(&hello(imprint, word)).await);
        assert_eq!(refused.code, "unknown", "{imprint} {word}");
    }
    assert!(client.arrivals(None).await.unwrap().items.is_empty());
    client.hello(&hello(1, word)).await.unwrap();
    let begun = client.arrival_of("quay-01").await.unwrap().arrival;
    assert!(begun.said_hello);
    assert_eq!(
        (begun.card.as_deref(), begun.operator.as_str()),
        (Some(label.as_str()), "the board itself")
    );
    problem(client.hello(&hello(1, word)).await);
    until(&bed, "quay-01", "it is found as well", |one| {
        one.arrival.state == "ready"
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_card_of_a_round_is_accepted_by_its_arrival_and_a_held_card_is_free_then() {
    let bed = bed(&[]);
    for device in ["quay-01", "quay-02"] {
        bed.add_device(device);
    }
    let old = card_of(&bed, "quay-01", "old");
    bed.done(&["device", "out", "quay-01", "--reason", "a new version"]);
    assert_eq!(bed.json(&["card", "show", &old])["card"]["state"], "held");
    for card in ["mica", "onyx"] {
        bed.make_card(card, SIZE, &[]);
    }
    bed.done(&["round", "plan", "quay-01", "quay-02", "--trial-first"]);
    let accept = bed.client().round(1).await.unwrap().cautions;
    let accept: Vec<_> = accept.iter().map(|one| one.name.clone()).collect();
    bed.done(&[
        "round",
        "begin",
        "1",
        "--cards",
        "2",
        "--accept",
        &accept.join(","),
    ]);
    bed.put("mica", 1);
    let begun = Instant::now();
    while bed.client().round(1).await.unwrap().round.state != "trial" {
        assert!(begun.elapsed() < Duration::from_secs(60));
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    bed.standin(&["pull", "--slot", "1"]);
    boot(&bed, "mica", &[]);
    bed.done(&["arrival", "expect", "quay-01"]);
    until(&bed, "quay-01", "it is ready", |one| {
        one.arrival.state == "ready"
    })
    .await;
    bed.done(&[
        "arrival",
        "accept",
        "quay-01",
        "--accept",
        "login-open,steps-open",
    ]);
    assert_eq!(bed.client().round(1).await.unwrap().round.state, "running");
    assert_ne!(bed.json(&["card", "show", &old])["card"]["state"], "held");
    assert!(bed.client().outages().await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn devices_in_service_are_looked_at_again() {
    let bed = bed(&["--watch-minutes", "0.02"]);
    let files = [
        demo_image("quaylink-2.3.zip"),
        demo_sheet("quaylink-2.3.toml"),
    ];
    let [image, sheet] = files.each_ref().map(|file| file.to_str().unwrap());
    bed.done(&["release", "add", image, "--sheet", sheet]);
    bed.add_device("quay-01");
    card_of(&bed, "quay-01", "mica");
    bed.done(&["arrival", "expect", "quay-01"]);
    boot(&bed, "mica", &[]);
    until(&bed, "quay-01", "it is ready", |one| {
        one.arrival.state == "ready"
    })
    .await;
    bed.done(&[
        "arrival",
        "accept",
        "quay-01",
        "--accept",
        "login-open,steps-open",
    ]);
    let until = async |what: &str, silent: bool| {
        let begun = Instant::now();
        loop {
            let seen = bed.client().sighting("quay-01").await.unwrap();
            if seen.silent_since.is_some() == silent && seen.seen_at.is_some() {
                return seen;
            }
            assert!(
                begun.elapsed() < Duration::from_secs(60),
                "{what}: {seen:?}"
            );
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    bed.standin(&["halt", "mica"]);
    until("it is silent", true).await;
    let needs = bed.client().attention().await.unwrap();
    assert_eq!(
        (needs[0].kind.as_str(), needs[0].device.as_str()),
        ("silent", "quay-01")
    );
    assert!(
        bed.done(&["status"])
            .contains("quay-01 does not answer any more")
    );
    // It comes back at other ports, as others come back at other addresses.
    boot(&bed, "mica", &[]);
    until("it answers again", false).await;
    assert!(bed.client().attention().await.unwrap().is_empty());

    // Updated in place, it counts as what it says it runs, until its card is another one.
    let device = async || bed.client().device("quay-01").await.unwrap().device;
    let becomes = async |what: &str, updated_to: Option<&str>| {
        let begun = Instant::now();
        while device().await.updated_to.as_deref() != updated_to {
            assert!(begun.elapsed() < Duration::from_secs(60), "{what}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    let (before, standing) = (device().await, device().await.standing);
    assert_eq!((before.updated_to, standing), (None, Standing::UpToDate));
    for (runs, updated_to, standing) in [
        ("quaylink 2.3", Some("quaylink 2.3"), Standing::Outdated),
        ("2.3", Some("quaylink 2.3"), Standing::Outdated),
        ("quaylink 99", None, Standing::UnknownVersion),
        ("2.3", Some("quaylink 2.3"), Standing::Outdated),
        ("quaylink 2.4", None, Standing::UpToDate),
    ] {
        bed.standin(&["halt", "mica"]);
        boot(&bed, "mica", &["--runs", runs]);
        becomes(runs, updated_to).await;
        let now = device().await;
        assert_eq!(now.standing, standing, "{runs}: {:?}", now.reasons);
        let outdated = bed.done(&["device", "outdated"]);
        assert_eq!(
            outdated.contains("quay-01"),
            standing == Standing::Outdated,
            "{runs}: {outdated}"
        );
        let told = bed.client().attention().await.unwrap();
        assert_eq!(
            told.iter().any(|one| one.kind == "standing"),
            standing != Standing::UpToDate,
            "{runs}: {told:?}"
        );
    }
    bed.standin(&["halt", "mica"]);
    boot(&bed, "mica", &["--runs", "2.3"]);
    becomes("older again", Some("quaylink 2.3")).await;
    let said = bed.done(&["device", "show", "quay-01"]);
    assert!(said.contains("quaylink 2.3, updated in place"), "{said}");
    bed.standin(&["halt", "mica"]);
    let label = device().await.card.unwrap();
    bed.put("mica", 1);
    bed.done(&["write", "quay-01", "--slot", "1", "--yes", &label]);
    assert_eq!(
        (device().await.updated_to, device().await.standing),
        (None, Standing::UpToDate)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_years_off_is_told_and_a_picture_of_the_label_is_kept() {
    let bed = bed(&[]);
    bed.add_device("quay-01");
    card_of(&bed, "quay-01", "mica");
    bed.done(&["arrival", "expect", "quay-01"]);
    let decades = (50 * 365 * 24 * 3600).to_string();
    boot(&bed, "mica", &["--clock-ahead", &format!("-{decades}")]);
    let ready = until(&bed, "quay-01", "it is ready", |one| {
        one.arrival.state == "ready"
    })
    .await;
    let caution = ready.cautions.iter().find(|one| one.name == "clock-off");
    let words = &caution.expect("its clock is off").words;
    assert!(
        words.contains("50 years behind") && words.contains("time server"),
        "{words}"
    );
    let sizes = ready
        .seen
        .checks
        .iter()
        .find(|one| one.title == "Uses the whole card");
    let sizes = sizes.unwrap();
    assert!(
        sizes.state == "passed" && sizes.words.ends_with("of a card of 700.0 MB"),
        "{sizes:?}"
    );
    bed.standin(&["halt", "mica"]);
    boot(&bed, "mica", &["--clock-ahead", "3600"]);
    until(&bed, "quay-01", "an hour is no matter", |one| {
        one.arrival.state == "ready" && !names(one).contains(&"clock-off")
    })
    .await;
    bed.done(&[
        "arrival",
        "accept",
        "quay-01",
        "--accept",
        "login-open,steps-open",
        "--description",
        "On the third lamp post",
    ]);
    let device = bed.client().device("quay-01").await.unwrap().device;
    assert_eq!(device.notes, "On the third lamp post");

    let dir = tempfile::tempdir().unwrap();
    let path = |name: &str| dir.path().join(name).to_str().unwrap().to_owned();
    let picture = [
        &b"\x89PNG\r\n\x1a\n"[..],
        b"the label says under the third bollard",
    ]
    .concat();
    std::fs::write(path("label.png"), &picture).unwrap();
    std::fs::write(path("label.svg"), "<svg onload=\"alert(1)\">").unwrap();
    let said = bed.refused(&["device", "photo", "quay-01", "--keep", &path("label.svg")]);
    assert!(said.contains("JPEG, PNG or WebP"), "{said}");
    assert!(
        bed.done(&["device", "photo", "quay-01"])
            .contains("no picture")
    );
    bed.done(&["device", "photo", "quay-01", "--keep", &path("label.png")]);
    assert!(
        bed.done(&["device", "photo", "quay-01"])
            .contains("image/png")
    );
    bed.done(&["device", "photo", "quay-01", "--save", &path("again.png")]);
    assert_eq!(std::fs::read(path("again.png")).unwrap(), picture);
    let found = std::process::Command::new("grep")
        .args(["-rl", "third bollard"])
        .arg(bed.data_dir())
        .output();
    assert!(found.unwrap().stdout.is_empty(), "it is sealed");
    bed.done(&["device", "photo", "quay-01", "--remove"]);
    assert!(
        bed.refused(&["device", "photo", "quay-01", "--remove"])
            .contains("no picture")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_tuned_is_exported_and_given_back_to_a_card_that_was_made_anew() {
    let bed = bed(&[]);
    bed.add_device("quay-01");
    let label = card_of(&bed, "quay-01", "mica");
    assert!(
        bed.refused(&["export", "take", "quay-01"])
            .contains("not seen on its network yet")
    );
    let up_with = async |anew: bool| {
        bed.done(&["arrival", "expect", "quay-01"]);
        let board = bed.boot("mica", "curlew");
        until(&bed, "quay-01", "it is ready", |one| {
            one.arrival.state == "ready"
        })
        .await;
        let waiting = bed.client().arrival_of("quay-01").await.unwrap();
        assert_eq!(waiting.to_give_back.is_some(), anew, "{waiting:#?}");
        let said = bed.done(&["arrival", "show", "quay-01"]);
        assert_eq!(said.contains("can be given back"), anew, "{said}");
        bed.done(&[
            "arrival",
            "accept",
            "quay-01",
            "--accept",
            "login-open,steps-open",
        ]);
        format!("{}settings.json", board["page"].as_str().unwrap())
    };
    let page = up_with(false).await;
    bed.done(&["export", "take", "quay-01"]);
    // An hour of tuning, some of it secret.
    let tuned = r#"{"host_name": "quay-01", "tuned": {"account": "harbour", "word": "under the third bollard"}}"#;
    let client = bed.client();
    let http = reqwest::Client::new();
    let put = async |page: &str, text: &str| {
        let answer = http.post(page).body(text.to_owned()).send().await.unwrap();
        assert!(answer.status().is_success());
    };
    put(&page, tuned).await;
    bed.done(&["export", "take", "quay-01"]);
    bed.done(&["export", "take", "quay-01"]);
    let all = client.exports("quay-01").await.unwrap();
    // The watch may have taken one before it was tuned; what did not change is not kept twice.
    assert_eq!(bed.done(&["export", "read", "quay-01"]), tuned);
    let kept = all.len();
    bed.done(&["export", "take", "quay-01"]);
    assert_eq!(client.exports("quay-01").await.unwrap().len(), kept);
    let found = std::process::Command::new("grep")
        .args(["-rl", "third bollard"])
        .arg(bed.data_dir())
        .output();
    assert!(found.unwrap().stdout.is_empty(), "it is sealed");
    let changed = bed.done(&["export", "compare", "quay-01"]);
    for words in ["/tuned/account", "\"harbour\"", "under the third bollard"] {
        assert!(changed.contains(words), "{words}: {changed}");
    }
    let history = reqwest::get(format!("{}/api/v1/activity", bed.url()));
    let history = history.await.unwrap().text().await.unwrap();
    assert!(history.contains("secret.read"), "{history}");
    // What is cut off, or somebody else's, is not kept.
    put(&page, &tuned[..40]).await;
    assert!(
        bed.refused(&["export", "take", "quay-01"])
            .contains("not whole")
    );
    put(&page, &tuned.replace("quay-01", "quay-07")).await;
    let said = bed.refused(&["export", "take", "quay-01"]);
    assert!(
        said.contains("quay-07") && said.contains("nothing was kept"),
        "{said}"
    );
    assert_eq!(client.exports("quay-01").await.unwrap().len(), kept);

    // The card is made anew, and what was tuned is gone until it is given back.
    bed.standin(&["halt", "mica"]);
    bed.put("mica", 1);
    bed.done(&["write", "quay-01", "--slot", "1", "--yes", &label]);
    bed.standin(&["pull", "--slot", "1"]);
    let page = up_with(true).await;
    let now = async |page: &str| reqwest::get(page).await.unwrap().text().await.unwrap();
    assert!(!now(&page).await.contains("bollard"));
    let newest = all[0].id.to_string();
    bed.done(&["export", "give", "quay-01", &newest]);
    assert_eq!(now(&page).await, tuned);
    bed.standin(&["halt", "mica"]);
    assert!(
        bed.refused(&["export", "give", "quay-01", &newest])
            .contains("did not take it back")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_board_says_on_its_serial_line_is_kept_and_told() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let (port, missing, log) = (path("port"), path("missing"), path("log"));
    std::fs::write(
        &log,
        "Curlew firmware\nlink: \"Saltmarsh-Quay\" refused the passphrase\n",
    )
    .unwrap();
    let mut line = std::process::Command::new(testbed::binary("duplicarium-standin"))
        .args(["serial", "--link", &port, "--says", &log])
        .stdout(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let mut bed = bed(&["--serial-ports", &format!("{port},{missing}")]);
    bed.add_device("quay-01");
    bed.done(&["arrival", "expect", "quay-01"]);
    // Only what the configuration names is ever opened.
    let said = bed.refused(&["arrival", "listen", "quay-01", "--port", "/dev/tty0"]);
    assert!(
        said.contains("no serial port that the configuration names"),
        "{said}"
    );
    assert!(
        bed.refused(&["arrival", "listen", "quay-01"])
            .contains("say which port")
    );
    let said = bed.refused(&["arrival", "listen", "quay-01", "--port", &missing]);
    assert!(said.contains("plug the adapter in"), "{said}");
    let said = bed.refused(&[
        "arrival", "listen", "quay-01", "--port", &port, "--baud", "7",
    ]);
    assert!(said.contains("115200"), "{said}");
    bed.done(&["arrival", "listen", "quay-01", "--port", &port, "--once"]);
    assert!(
        bed.refused(&["arrival", "listen", "quay-01", "--port", &port])
            .contains("listened at for arrival 1")
    );
    let client = bed.client();
    let begun = Instant::now();
    let heard = loop {
        let heard = client.serial_log(1).await.unwrap();
        if !heard.found.is_empty() {
            break heard;
        }
        assert!(begun.elapsed() < Duration::from_secs(30), "{heard:?}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    };
    assert!(heard.listening && !heard.found[0].good);
    assert!(
        heard.found[0].means.contains("passphrase that is set"),
        "{heard:?}"
    );
    // The end of the service ends listening, and loses nothing that was heard.
    bed.kill_service();
    bed.start_service();
    let kept = client.serial_log(1).await.unwrap();
    assert!(
        !kept.listening && kept.text.contains("refused the passphrase"),
        "{kept:?}"
    );
    assert!(kept.problem.unwrap().contains("service ended"));
    bed.done(&["arrival", "listen", "quay-01", "--port", &port, "--once"]);
    line.kill().unwrap();
    line.wait().unwrap();
    let begun = Instant::now();
    while client.serial_log(1).await.unwrap().listening {
        assert!(begun.elapsed() < Duration::from_secs(20));
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let said = bed.done(&["arrival", "log", "quay-01"]);
    assert!(said.contains("plug the adapter in"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_leads_from_the_card_in_its_board_to_the_device_in_service() {
    let bed = bed(&[]);
    bed.add_device("quay-01");
    let label = card_of(&bed, "quay-01", "mica");
    let browser = Browser::start().await.unwrap();
    let go = async |page: &str, text: &str| {
        browser
            .window
            .goto(&format!("{}/{page}", bed.url()))
            .await
            .unwrap();
        browser.see(text).await.unwrap();
    };
    // As on a phone at the lamp post.
    browser.window.set_window_size(390, 844).await.unwrap();
    go("devices/quay-01", "is in it now").await;
    let now = format!("Card {label} is in it now");
    browser.press(&now).await.unwrap();
    browser.see("since the card went in").await.unwrap();
    browser.see("What does its lamp do?").await.unwrap();
    browser.see("Not found yet.").await.unwrap();
    boot(&bed, "mica", &["--seconds", "1"]);
    browser.see("known by its stamp").await.unwrap();
    browser.see("On the network that is set").await.unwrap();
    let wide = "return document.documentElement.scrollWidth <= window.innerWidth";
    let fits = browser.window.execute(wide, Vec::new()).await.unwrap();
    assert_eq!(fits, true, "nothing scrolls sideways");
    // It asks for what only a person can see, and takes nothing for granted.
    let step = "//li//label[contains(., 'Join its network with a phone')]/input";
    browser.find(step).await.unwrap().click().await.unwrap();
    browser.see("operator,").await.unwrap();
    let accept = browser
        .find("//button[. = 'It does its job']")
        .await
        .unwrap();
    assert_eq!(
        accept.attr("disabled").await.unwrap().as_deref(),
        Some("true")
    );
    browser.accept("login-open").await.unwrap();
    browser.press("It does its job").await.unwrap();
    browser.see("Does its job").await.unwrap();
    assert_eq!(
        bed.json(&["device", "show", "quay-01"])["device"]["state"],
        "in service"
    );
    go("devices/quay-01", "version it says").await;
    browser.press("Take it now").await.unwrap();
    browser.press("Give it back").await.unwrap();
    browser.see("it was taken back").await.unwrap();
    go("arrivals", "accepted").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_board_gets_its_settings_on_the_network_that_it_opens_itself() {
    let bed = bed(&[]);
    bed.add_device("quay-01");
    bed.done(&[
        "device",
        "describe",
        "quay-01",
        "--mac",
        "5a:17:00:00:0b:01",
    ]);
    card_of(&bed, "quay-01", "mica");
    bed.done(&["arrival", "expect", "quay-01"]);
    let own = ["--own-network", "--mac", "5a:17:00:00:0b:01", "--json"];
    let out = bed.standin(&[&["boot", "mica", "--model", "curlew"], &own[..]].concat());
    let boards: serde_json::Value = serde_json::from_str(&out).unwrap();
    let board = &boards["boards"][0];
    let said = bed.done(&["arrival", "hand-over", "quay-01", "--show"]);
    assert!(
        said.contains(board["own_network"].as_str().unwrap()),
        "{said}"
    );
    assert!(
        said.contains("Saltmarsh-Quay") && !said.contains("ebb and flow"),
        "{said}"
    );
    // Passphrases go nowhere but to a board that is near.
    let far = bed.refused(&["arrival", "hand-over", "quay-01", "--at", "203.0.113.9:80"]);
    assert!(far.contains("not sent out into the world"), "{far}");
    let nobody = bed.refused(&["arrival", "hand-over", "quay-01", "--at", "127.0.0.1:1"]);
    assert!(
        nobody.contains("Join its network Quaylink-0B01"),
        "{nobody}"
    );
    let at = format!("127.0.0.1:{}", board["ports"]["80"]);
    bed.done(&["arrival", "hand-over", "quay-01", "--at", &at]);
    until(&bed, "quay-01", "it has joined", |one| {
        one.arrival.state == "ready"
    })
    .await;
    bed.done(&["arrival", "stop", "quay-01"]);
    assert!(
        bed.refused(&["arrival", "hand-over", "quay-01", "--at", &at])
            .contains("is over")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_board_says_wrong_is_named_as_what_it_is() {
    let bed = bed(&[]);
    bed.add_device("quay-01");
    let label = card_of(&bed, "quay-01", "mica");
    let (fault, arrival) = (
        |fault: &str| {
            bed.standin(&["halt", "mica"]);
            boot(&bed, "mica", &["--pages", fault]);
        },
        |state: &'static str| {
            let bed = &bed;
            async move { until(bed, "quay-01", state, |one| one.arrival.state == state).await }
        },
    );
    let words = |detail: &ArrivalDetail| format!("{:?} {:?}", detail.seen, detail.cautions);
    let again = || {
        bed.done(&["arrival", "stop", "quay-01"]);
        bed.done(&["arrival", "expect", "quay-01"]);
    };
    bed.done(&["arrival", "expect", "quay-01"]);
    boot(&bed, "mica", &["--pages", "sends-on"]);
    let seen = arrival("answers").await;
    assert!(
        words(&seen).contains("sends on to http://elsewhere.test/"),
        "{seen:#?}"
    );
    fault("cut");
    again();
    let seen = until(&bed, "quay-01", "a cut page", |one| {
        words(one).contains("broke off")
    })
    .await;
    assert_ne!(seen.arrival.state, "ready");
    // A page that opens for everybody says nothing about the password that everybody knows.
    for (pages, said) in [
        ("no-password", "opens without a password"),
        ("any-password", "opens with any password"),
    ] {
        fault(pages);
        again();
        let ready = arrival("ready").await;
        let cautions = names(&ready);
        assert!(cautions.contains(&"no-password"), "{pages}: {cautions:?}");
        assert!(!cautions.contains(&"login-open"), "{pages}: {cautions:?}");
        assert!(words(&ready).contains(said), "{pages}: {ready:#?}");
    }

    // A version that its card does not have is a question, and nothing that passed.
    bed.standin(&["halt", "mica"]);
    boot(&bed, "mica", &["--runs", "quaylink 9.9"]);
    again();
    let ready = arrival("ready").await;
    let version = ready
        .seen
        .checks
        .iter()
        .find(|one| one.title.contains("version"));
    let version = version.unwrap();
    assert_eq!(version.state, "question", "{ready:#?}");
    assert!(version.words.contains("9.9") && version.words.contains("quaylink 2.4"));
    assert!(names(&ready).contains(&"other-version"), "{ready:#?}");
    let refused = bed.refused(&["arrival", "accept", "quay-01"]);
    assert!(refused.contains("other-version"), "{refused}");
    let accept = names(&ready).join(",");
    bed.done(&["arrival", "accept", "quay-01", "--accept", &accept]);
    let device = bed.client().device("quay-01").await.unwrap().device;
    assert_eq!(device.standing, Standing::UnknownVersion, "{device:?}");
    assert_eq!(device.card.as_deref(), Some(label.as_str()));
    // Its MAC address was learnt.
    assert_eq!(device.macs.len(), 1, "{device:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_not_seen_is_not_said_to_have_been_seen() {
    let bed = bed(&[]);
    bed.add_device("quay-01");
    card_of(&bed, "quay-01", "mica");
    bed.done(&["arrival", "expect", "quay-01"]);
    let waiting = until(&bed, "quay-01", "it is looked for", |one| {
        !one.seen.checks.is_empty()
    })
    .await;
    let accept = names(&waiting).join(",");
    bed.done(&["arrival", "accept", "quay-01", "--accept", &accept]);
    let seen = bed.client().sighting("quay-01").await.unwrap();
    assert_eq!((seen.seen_at, seen.address), (None, None));
    let said = bed.done(&["device", "show", "quay-01"]);
    assert!(!said.contains("last seen"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_network_of_a_board_whose_address_is_not_known_is_taken_only_where_it_is_clear() {
    let bed = bed_with_radio();
    for device in ["quay-01", "quay-02"] {
        bed.add_device(device);
    }
    card_of(&bed, "quay-01", "mica");
    card_of(&bed, "quay-02", "flint");
    for device in ["quay-01", "quay-02"] {
        bed.done(&["arrival", "expect", device]);
    }
    // Two that may be it: none is taken, and the person says which.
    boot(
        &bed,
        "mica",
        &["--own-network", "--mac", "5a:17:00:00:0b:01"],
    );
    boot(
        &bed,
        "flint",
        &["--own-network", "--mac", "5a:17:00:00:0b:02"],
    );
    let join = |more: &[&'static str]| -> Vec<&'static str> {
        [&["arrival", "hand-over", "quay-01", "--join"], more].concat()
    };
    let refused = bed.refused(&join(&[]));
    assert!(
        refused.contains("Quaylink-0B01, Quaylink-0B02") && refused.contains("--network"),
        "{refused}"
    );
    let foreign = bed.refused(&join(&["--network", "Harbour"]));
    assert!(
        foreign.contains("no network that quay-01 opens"),
        "{foreign}"
    );
    let asked = || std::fs::read_to_string(bed.dir().join("radio.asked")).unwrap_or_default();
    assert!(!asked().contains("joins"), "{}", asked());
    bed.done(&join(&["--network", "Quaylink-0B01"]));
    let ready = until(&bed, "quay-01", "it has joined", |one| {
        one.arrival.state == "ready"
    })
    .await;
    let accept = names(&ready).join(",");
    bed.done(&["arrival", "accept", "quay-01", "--accept", &accept]);
    // What was learnt of it is enough the next time, and tells the other one apart.
    let device = bed.client().device("quay-01").await.unwrap().device;
    assert_eq!(device.macs, ["5a:17:00:00:0b:01"]);
    bed.standin(&["halt", "mica"]);
    boot(
        &bed,
        "mica",
        &["--own-network", "--mac", "5a:17:00:00:0b:01"],
    );
    bed.done(&["arrival", "expect", "quay-01"]);
    bed.done(&join(&[]));
    bed.done(&["arrival", "hand-over", "quay-02", "--join"]);
    until(&bed, "quay-02", "the other one has joined", |one| {
        one.arrival.state == "ready"
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_service_joins_the_network_of_a_board_and_comes_back() {
    let bed = bed_with_radio();
    for (device, mac) in [
        ("quay-01", "5a:17:00:00:0b:01"),
        ("quay-02", "5a:17:00:00:0b:02"),
    ] {
        bed.add_device(device);
        bed.done(&["device", "describe", device, "--mac", mac]);
    }
    card_of(&bed, "quay-01", "mica");
    for device in ["quay-01", "quay-02"] {
        bed.done(&["arrival", "expect", device]);
    }
    let own = ["--own-network", "--mac", "5a:17:00:00:0b:01"];
    boot(&bed, "mica", &own);
    let asked = || std::fs::read_to_string(bed.dir().join("radio.asked")).unwrap_or_default();
    // Whose board is not there is said, and nothing is joined for it.
    let refused = bed.refused(&["arrival", "hand-over", "quay-02", "--join"]);
    assert!(
        refused.contains("no network named Quaylink-0B02 is heard here now")
            && refused.contains("Quaylink-0B01"),
        "{refused}"
    );
    assert!(!asked().contains("joins"), "{}", asked());
    let said = bed.done(&["arrival", "hand-over", "quay-01", "--show"]);
    assert!(
        said.contains("Quaylink-0B01 is heard") && said.contains("--join"),
        "{said}"
    );
    bed.done(&["arrival", "hand-over", "quay-01", "--join"]);
    until(&bed, "quay-01", "it has joined", |one| {
        one.arrival.state == "ready"
    })
    .await;
    let all = asked();
    let joined: Vec<_> = all.lines().filter(|line| *line != "hears").collect();
    assert_eq!(joined, ["joins Quaylink-0B01", "leaves"], "{all}");
    let told = bed.done(&["job", "list"]);
    assert!(!told.contains("ebb and flow"), "{told}");
    assert!(!all.contains("ebb and flow"), "{all}");

    // A board that takes nothing does not keep the computer in its network.
    boot(&bed, "mica", &own);
    let refused = bed.refused(&[
        "arrival",
        "hand-over",
        "quay-01",
        "--join",
        "--at",
        "127.0.0.1:1",
    ]);
    assert!(refused.contains("in its usual network again"), "{refused}");
    assert!(asked().ends_with("leaves\n"), "{}", asked());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_lets_the_service_join_the_network_of_a_board() {
    let bed = bed_with_radio();
    bed.add_device("quay-01");
    bed.done(&[
        "device",
        "describe",
        "quay-01",
        "--mac",
        "5a:17:00:00:0b:01",
    ]);
    card_of(&bed, "quay-01", "mica");
    let arrival = bed.json(&["arrival", "expect", "quay-01"])["arrival"]["id"].clone();
    let browser = Browser::start().await.unwrap();
    let page = format!("{}/arrivals/{arrival}", bed.url());
    browser.window.goto(&page).await.unwrap();
    browser
        .see("If it opens a network of its own")
        .await
        .unwrap();
    browser.see("Quaylink-0B01").await.unwrap();
    let join = "Join it, hand over, and come back";
    // Nobody is there yet: said where it was asked for.
    browser.press(join).await.unwrap();
    browser
        .see("no network named Quaylink-0B01 is heard here now")
        .await
        .unwrap();
    boot(
        &bed,
        "mica",
        &["--own-network", "--mac", "5a:17:00:00:0b:01"],
    );
    browser.see("is heard where the service").await.unwrap();
    browser.press(join).await.unwrap();
    browser
        .see("It took its settings and goes to its network")
        .await
        .unwrap();
    let asked = std::fs::read_to_string(bed.dir().join("radio.asked")).unwrap();
    let joined: Vec<_> = asked.lines().filter(|line| *line != "hears").collect();
    assert_eq!(joined, ["joins Quaylink-0B01", "leaves"]);
    let text = browser.text().await.unwrap();
    assert!(!text.contains("ebb and flow"), "no secret is shown: {text}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_radio_hears_tells_why_a_board_is_late() {
    let bed = bed_with_radio();
    bed.add_device("quay-01");
    bed.done(&["device", "set", "quay-01", "wifi_network=saltmarsh-quay"]);
    late_at_once(&bed);
    card_of(&bed, "quay-01", "mica");
    bed.done(&["arrival", "expect", "quay-01"]);
    boot(&bed, "mica", &[]);
    let late = until(
        &bed,
        "quay-01",
        "it is late and the radio has heard",
        |one| {
            let by_radio = |cause: &api::Cause| cause.what.contains("the service's computer hears");
            one.arrival.late && one.causes.iter().any(by_radio)
        },
    )
    .await;
    let whats: Vec<_> = late
        .causes
        .iter()
        .map(|cause| cause.what.as_str())
        .collect();
    assert!(
        whats
            .iter()
            .any(|what| what.contains("no network is called saltmarsh-quay")
                && what.ends_with("is called Saltmarsh-Quay")),
        "{whats:?}"
    );
}
