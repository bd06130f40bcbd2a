//! What is known of cards: checks of good, forged and worn ones, a check that is cut off, cards that are
//! cleared, mistrusted or held, and devices that are down meanwhile. Judged at the medium.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use api::{ClientError, NewCardPlan, NewPlan, Problem};
use testbed::model::{Medium, medium};
use testbed::{Testbed, path};

const SIZE: u64 = 700_000_256;

fn bed() -> Testbed {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.add_device("quay-02");
    bed
}

fn written(bed: &Testbed, card: &str, slot: u32, device: &str) -> String {
    bed.put(card, slot);
    let plan = bed.json(&["write", device, "--slot", &slot.to_string(), "--plan"]);
    let label = plan["card"].as_str().unwrap().to_owned();
    bed.done(&[
        "write",
        device,
        "--slot",
        &slot.to_string(),
        "--yes",
        &label,
    ]);
    label
}

#[test]
fn a_quick_check_gives_back_what_was_on_the_card_and_finds_forged_ones() {
    let bed = bed();
    bed.make_card("good", &SIZE.to_string(), &[]);
    let label = written(&bed, "good", 1, "quay-01");
    let before = bed.card_digest("good");
    let said = bed.done(&["card", "check", "--slot", "1", "--yes", &label]);
    assert!(
        said.contains("No sign of forgery") && said.contains("safe to pull"),
        "{said}"
    );
    assert_eq!(bed.card_digest("good"), before, "the card is another");
    let card = bed.json(&["card", "show", &label]);
    assert_eq!(card["card"]["state"], "imprinted");
    assert_eq!(card["card"]["verdict"], "no sign");
    assert_eq!(card["checks"][0]["kind"], "quick");
    assert!(
        card["speeds"]
            .as_array()
            .is_some_and(|speeds| speeds.len() > 1),
        "{card:#}"
    );
    assert_eq!(bed.json(&["slot", "list"])[0]["card"]["device"], "quay-01");
    assert!(
        std::fs::read_dir(bed.data_dir().join("checks"))
            .unwrap()
            .next()
            .is_none()
    );

    // Forged: told with its true size, and no target any more, whatever somebody says.
    for (name, fault) in [("wraps", "wraps=300MB"), ("drops", "drops=300MB")] {
        bed.make_card(name, "8GB", &["--fault", fault]);
        bed.put(name, 2);
        let plan = bed.json(&["card", "check", "--slot", "2", "--plan"]);
        assert_eq!(plan["lost"], serde_json::json!([]));
        let label = plan["card"].as_str().unwrap();
        let refused = bed.refused(&["card", "check", "--slot", "2", "--yes", label]);
        assert!(refused.contains("no good"), "{refused}");
        let card = bed.json(&["card", "show", label]);
        let check = &card["checks"][0];
        assert_eq!(check["verdict"], "forged", "{card:#}");
        let (least, most) = (
            check["least"].as_u64().unwrap(),
            check["most"].as_u64().unwrap(),
        );
        // The stand-in ends at a whole sector.
        assert!(
            least <= 300_000_000 && 300_000_000 <= most + 511,
            "{check:#}"
        );
        assert!(most - least < 64 << 20, "{check:#}");
        let refused = bed.refused(&["write", "quay-02", "--slot", "2", "--yes", label]);
        assert!(
            refused.contains("forged") && refused.contains("Take another card"),
            "{refused}"
        );
        assert!(
            bed.refused(&["card", "trust", label])
                .contains("full check")
        );
    }
}

#[test]
fn a_full_check_proves_a_card_and_finds_what_others_do_not() {
    let bed = bed();
    let size = 300_000_256_u64;
    bed.make_card("sound", &size.to_string(), &[]);
    let plan = |slot: &str| {
        let plan = bed.json(&["card", "check", "--full", "--slot", slot, "--plan"]);
        plan["card"].as_str().unwrap().to_owned()
    };
    bed.put("sound", 1);
    let label = plan("1");
    let said = bed.done(&["card", "check", "--full", "--slot", "1", "--yes", &label]);
    assert!(
        said.contains("Every byte was written and read back"),
        "{said}"
    );
    let card = bed.json(&["card", "show", &label]);
    assert_eq!(
        (&card["card"]["verdict"], &card["card"]["state"]),
        (&"proven".into(), &"blank".into())
    );
    // It knows itself, carries no table, and is called proven from then on.
    bed.standin(&["pull", "--slot", "1"]);
    bed.put("sound", 2);
    until("it is known", || {
        bed.json(&["slot", "list"])[1]["card"]["label"] == *label
    });
    assert_eq!(bed.json(&["slot", "list"])[1]["card"]["occupant"], "empty");
    let table = Command::new("sfdisk")
        .arg("--dump")
        .arg(bed.card_file("sound"))
        .output()
        .unwrap();
    assert!(!table.status.success());

    for (name, fault) in [
        ("flips", "flips=90000001"),
        ("nothing", "keeps-nothing"),
        ("bad", "bad=200MB+5"),
    ] {
        bed.make_card(name, &size.to_string(), &["--fault", fault]);
        bed.put(name, 1);
        let label = plan("1");
        let refused = bed.refused(&["card", "check", "--full", "--slot", "1", "--yes", &label]);
        assert!(refused.contains("no good"), "{name}: {refused}");
        let card = bed.json(&["card", "show", &label]);
        assert!(card["card"]["suspicion"].is_string(), "{name}: {card:#}");
        assert_ne!(card["card"]["verdict"], "proven");
    }
    // Once its fault is gone, only a check from end to end makes it good again.
    let label = bed.json(&["slot", "list"])[0]["card"]["label"]
        .as_str()
        .unwrap()
        .to_owned();
    bed.standin(&["fault", "bad"]);
    bed.done(&["card", "check", "--full", "--slot", "1", "--yes", &label]);
    let card = bed.json(&["card", "show", &label]);
    assert_eq!(card["card"]["suspicion"], serde_json::Value::Null);
    assert_eq!(card["card"]["verdict"], "proven");
}

#[test]
fn a_check_that_is_cut_off_loses_nothing() {
    let mut bed = bed();
    bed.make_card("mica", &SIZE.to_string(), &["--rate", "12MB"]);
    let label = written(&bed, "mica", 1, "quay-01");
    let before = bed.card_digest("mica");
    let client = bed.client();
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let begin = || {
        let plan = NewCardPlan {
            slot: api::SlotName::here(1),
            work: "quick-check".into(),
        };
        let plan = runtime.block_on(client.card_plan(&plan)).unwrap();
        let job = runtime
            .block_on(client.confirm(&plan.id, plan.agreed(), None))
            .unwrap();
        let stage = |job: &api::Job| job.progress.as_ref().map(|progress| progress.stage.clone());
        until("test data is put on", || {
            let now = runtime.block_on(client.job(job.id)).unwrap();
            stage(&now).as_deref() == Some("checking")
        });
        job.id
    };
    // Cancelled, it is given back at once.
    let job = begin();
    runtime.block_on(client.cancel(job)).unwrap();
    until("it ends", || {
        runtime
            .block_on(client.job(job))
            .unwrap()
            .finished_at
            .is_some()
    });
    assert_eq!(
        runtime.block_on(client.job(job)).unwrap().state,
        "cancelled"
    );
    assert_eq!(bed.card_digest("mica"), before);

    // Pulled, it says that it is unfinished, and is given back when it is there again.
    let job = begin();
    std::thread::sleep(Duration::from_millis(500));
    bed.standin(&["pull", "--slot", "1"]);
    until("it ends", || {
        runtime
            .block_on(client.job(job))
            .unwrap()
            .finished_at
            .is_some()
    });
    assert_ne!(bed.card_digest("mica"), before);
    assert_eq!(
        bed.json(&["card", "show", &label])["card"]["state"],
        "incomplete"
    );
    bed.put("mica", 3);
    until("it is known", || {
        bed.json(&["slot", "list"])[2]["card"]["label"] == *label
    });
    bed.done(&["card", "put-back", "--slot", "3", "--yes", &label]);
    assert_eq!(bed.card_digest("mica"), before);
    assert_eq!(
        bed.json(&["card", "show", &label])["card"]["state"],
        "imprinted"
    );

    // So it is after the service died.
    bed.put("mica", 1);
    until("it is known", || {
        bed.json(&["slot", "list"])[0]["card"]["label"] == *label
    });
    begin();
    std::thread::sleep(Duration::from_millis(700));
    bed.kill_service();
    assert_ne!(bed.card_digest("mica"), before);
    bed.start_service();
    until("it is known", || {
        bed.json(&["slot", "list"])[0]["card"]["label"] == *label
    });
    assert_eq!(
        bed.json(&["card", "show", &label])["card"]["state"],
        "incomplete"
    );
    let plan = bed.json(&["write", "quay-01", "--slot", "1", "--plan"]);
    assert!(
        plan["card_holds"]
            .as_str()
            .unwrap()
            .contains("nothing whole"),
        "{plan:#}"
    );
    bed.done(&["card", "put-back", "--slot", "1", "--yes", &label]);
    assert_eq!(bed.card_digest("mica"), before);
    assert!(
        bed.refused(&["card", "put-back", "--slot", "1", "--yes", &label])
            .contains("nothing to put back")
    );
    assert_eq!(bed.json(&["slot", "list"])[0]["card"]["device"], "quay-01");
}

/// A card that takes the test data and not what was on it: that stays here until a card has it, whatever the check found;
/// and nothing was changed on one that is pulled while it is only read.
#[test]
fn what_a_card_does_not_take_back_is_kept() {
    let bed = bed();
    bed.make_card("mica", &SIZE.to_string(), &[]);
    let label = written(&bed, "mica", 1, "quay-01");
    let before = bed.card_digest("mica");
    let kept = || {
        std::fs::read_dir(bed.data_dir().join("checks"))
            .unwrap()
            .count()
    };
    // Between what a check puts on it and what it puts back.
    bed.standin(&["fault", "mica", "read-only=50MB"]);
    bed.standin(&["pull", "--slot", "1"]);
    bed.put("mica", 1);
    let said = bed.refused(&["card", "check", "--slot", "1", "--yes", &label]);
    assert!(
        said.contains("not all on it now") && !said.contains("What was on it is on it"),
        "{said}"
    );
    assert_ne!(bed.card_digest("mica"), before);
    assert_eq!(kept(), 1);
    let state = |wanted: &str| bed.json(&["card", "show", &label])["card"]["state"] == wanted;
    assert!(state("incomplete"));
    // Seen again it is that still, and gets back what is kept as soon as it takes it.
    bed.standin(&["pull", "--slot", "1"]);
    bed.standin(&["fault", "mica"]);
    bed.put("mica", 2);
    until("it is known", || {
        bed.json(&["slot", "list"])[1]["card"]["label"] == *label
    });
    assert!(state("incomplete") && kept() == 1);
    bed.done(&["card", "put-back", "--slot", "2", "--yes", &label]);
    assert_eq!(bed.card_digest("mica"), before);
    assert!(state("imprinted") && kept() == 0);

    // Pulled while it is saved, it is as it was, and that is said.
    bed.make_card("onyx", &SIZE.to_string(), &["--rate", "6MB"]);
    let label = written(&bed, "onyx", 3, "quay-02");
    let before = bed.card_digest("onyx");
    let (client, runtime) = (bed.client(), tokio::runtime::Runtime::new().unwrap());
    let plan = NewCardPlan {
        slot: api::SlotName::here(3),
        work: "quick-check".into(),
    };
    let plan = runtime.block_on(client.card_plan(&plan)).unwrap();
    let job = runtime
        .block_on(client.confirm(&plan.id, plan.agreed(), None))
        .unwrap();
    let now = || runtime.block_on(client.job(job.id)).unwrap();
    until("it saves", || {
        now()
            .progress
            .is_some_and(|progress| progress.stage == "saving" && progress.done > 0)
    });
    bed.standin(&["pull", "--slot", "3"]);
    until("it ends", || now().finished_at.is_some());
    let error = now().error.unwrap();
    assert!(error.contains("What was on it is on it"), "{error}");
    assert_eq!(bed.card_digest("onyx"), before);
    assert_eq!(
        bed.json(&["card", "show", &label])["card"]["state"],
        "imprinted"
    );
}

/// Whoever makes a card chooses the names on it, and not how the lines around them read.
#[test]
fn names_from_a_card_keep_their_direction_to_themselves() {
    let bed = bed();
    bed.make_card("mica", &SIZE.to_string(), &[]);
    written(&bed, "mica", 1, "quay-01");
    bed.standin(&["pull", "--slot", "1"]);
    // A stamp of another team's, and files beside it, put there with the system's own tools.
    let card = bed.card_file("mica");
    let forged = "{\"format\": 1, \"card\": \"C-\u{202e}7000\", \"imprint\": 900, \"base\": {\"release\": \"quay\u{202e}4.2\"}, \
                  \"device\": \"10-\u{202e}yauq\u{2066}\", \"made\": \"2026-01-01T00:00:00Z\"}";
    let stamp = bed.dir().join("stamp");
    std::fs::write(&stamp, forged).unwrap();
    let boot = format!("{}@@{}", card.display(), 4 << 20);
    let mut put = std::process::Command::new("mcopy");
    put.args(["-o", "-i", &boot, path(&stamp), "::duplicarium-stamp.json"]);
    assert!(
        put.env("MTOOLS_SKIP_CHECK", "1")
            .status()
            .unwrap()
            .success()
    );
    let orders = bed.dir().join("orders");
    let name = "gnp.\u{202e}cod";
    std::fs::write(&orders, format!("write {} /etc/{name}\n", path(&stamp))).unwrap();
    let root = format!("{}?offset={}", path(&card), 52 << 20);
    let said = std::process::Command::new("debugfs")
        .args(["-w", "-f", path(&orders), &root])
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .output()
        .unwrap();
    assert!(said.status.success(), "{said:?}");
    bed.put("mica", 1);
    until("it is looked at", || {
        let card = bed.json(&["slot", "list"])[0]["card"].clone();
        card["insertion"] == 2 && card["occupant"] != "busy"
    });
    let turns = |text: &str| {
        text.chars()
            .any(|c| matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}'))
    };
    let slots = bed.json(&["slot", "list"]).to_string();
    assert!(slots.contains("10-\\\\u{202e}yauq\\\\u{2066}"), "{slots}");
    assert!(!turns(&slots) && !turns(&bed.done(&["slot", "list"])));
    // A file is listed by a name that leads to it.
    let listed = bed
        .json(&["card", "files", "--slot", "1", "2:/etc"])
        .to_string();
    let escaped = "gnp.\\xe2\\x80\\xaecod";
    assert!(
        !turns(&listed) && listed.contains(&escaped.replace('\\', "\\\\")),
        "{listed}"
    );
    let read = bed.done(&["card", "read", "--slot", "1", &format!("2:/etc/{escaped}")]);
    assert!(read.contains("\"imprint\": 900"), "{read}");
}

#[test]
fn a_card_is_cleared_as_far_as_was_asked_for() {
    let bed = bed();
    bed.make_card("flint", &SIZE.to_string(), &[]);
    let file = bed.card_file("flint");
    let label = written(&bed, "flint", 1, "quay-01");
    let secret = b"ebb and flow 1907";
    assert!(contains(&file, secret), "the passphrase is on the card");
    let plan = bed.json(&["card", "clear", "--what", "tables", "--slot", "1", "--plan"]);
    assert!(
        plan["lost"][0].as_str().unwrap().contains("quay-01"),
        "{plan:#}"
    );
    bed.done(&[
        "card", "clear", "--what", "tables", "--slot", "1", "--yes", &label,
    ]);
    for tool in [vec!["sfdisk", "--dump"], vec!["blkid", "-p"]] {
        let said = Command::new(tool[0])
            .args(&tool[1..])
            .arg(&file)
            .output()
            .unwrap();
        assert!(
            !said.status.success(),
            "{tool:?}: {}",
            String::from_utf8_lossy(&said.stdout)
        );
    }
    assert!(contains(&file, secret), "data are not wiped by that");
    assert_eq!(
        bed.json(&["card", "show", &label])["card"]["state"],
        "blank"
    );
    let device = bed.json(&["device", "show", "quay-01"]);
    assert_eq!(
        device["state"]
            .as_str()
            .or(device["device"]["state"].as_str()),
        Some("planned")
    );
    until("it knows itself", || {
        bed.json(&["slot", "list"])[0]["card"]["occupant"] == "empty"
    });

    bed.done(&[
        "card", "clear", "--what", "all", "--slot", "1", "--yes", &label,
    ]);
    assert!(!contains(&file, secret));
    let bytes = std::fs::read(&file).unwrap();
    assert!(
        bytes[4096..].iter().all(|byte| *byte == 0),
        "something is left"
    );

    bed.done(&[
        "card", "clear", "--what", "volume", "--slot", "1", "--yes", &label,
    ]);
    let at = format!("{}@@4M", file.display());
    let listed = Command::new("mdir")
        .args(["-i", &at, "::/"])
        .output()
        .unwrap();
    let listed = String::from_utf8_lossy(&listed.stdout).into_owned();
    assert!(listed.contains(&label), "{listed}");
    // Written anew for another device, with nothing of the first in what stays free.
    until("it is looked at", || {
        bed.json(&["slot", "list"])[0]["card"]["occupant"] == "foreign"
    });
    let write = ["write", "quay-01", "--slot", "1", "--yes", &label];
    assert!(bed.refused(&write).contains("old-data"));
    bed.done(&[&write[..], &["--accept", "old-data"]].concat());
    bed.set_passphrase("quay-02", "another tide 2031");
    let plan = bed.json(&["write", "quay-02", "--slot", "1", "--plan"]);
    let cautions = plan["cautions"].to_string();
    assert!(
        cautions.contains("old data of quay-01") && cautions.contains("--wipe-free"),
        "{cautions}"
    );
    bed.done(&[
        "write",
        "quay-02",
        "--slot",
        "1",
        "--wipe-free",
        "--yes",
        &label,
        "--accept",
        "other-device",
    ]);
    assert!(!contains(&file, secret) && contains(&file, b"another tide 2031"));
    assert_eq!(
        bed.json(&["card", "show", &label])["card"]["device"],
        "quay-02"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn cards_that_are_held_or_mistrusted_are_not_written() {
    let bed = bed();
    bed.make_card("onyx", &SIZE.to_string(), &[]);
    let label = written(&bed, "onyx", 1, "quay-01");
    let client = bed.client();
    let plan = NewPlan {
        device: Some("quay-02".into()),
        slot: api::SlotName::here(1),
        ..NewPlan::default()
    };
    let refusal = async || match client.plan(&plan).await {
        Err(ClientError::Refused(problem)) => problem,
        other => panic!("{other:?}"),
    };
    // A plan that was made before is void as well.
    let made = client.plan(&plan).await.unwrap();
    bed.done(&["device", "out", "quay-01", "--reason", "two long lamps"]);
    let Err(ClientError::Refused(Problem { code, .. })) =
        client.confirm(&made.id, made.agreed(), None).await
    else {
        panic!("a held card was written");
    };
    assert_eq!(code, "plan-void");
    assert_eq!(refusal().await.code, "card-held");
    let full = NewCardPlan {
        slot: api::SlotName::here(1),
        work: "full-check".into(),
    };
    assert!(client.card_plan(&full).await.is_err());
    let down = client.outages().await.unwrap();
    assert_eq!(
        (down[0].device.as_str(), down[0].card.as_deref()),
        ("quay-01", Some(label.as_str()))
    );
    assert_eq!(down[0].reason, "two long lamps");
    assert!(
        bed.refused(&["device", "out", "quay-01"])
            .contains("down already")
    );
    assert!(bed.refused(&["card", "found", &label]).contains("held"));
    let device = bed.json(&["device", "list", "--state", "down"]);
    assert_eq!(device["items"].as_array().unwrap().len(), 1);

    bed.done(&["device", "back", "quay-01", "--with", "original"]);
    assert!(client.outages().await.unwrap().is_empty());
    assert!(
        bed.refused(&["device", "back", "quay-01", "--with", "new"])
            .contains("not down")
    );
    assert_eq!(
        bed.json(&["card", "show", &label])["card"]["state"],
        "imprinted"
    );
    bed.done(&["device", "out", "quay-01"]);
    bed.done(&["card", "free", &label]);
    client.plan(&plan).await.unwrap();

    let said = bed.done(&["device", "fault", "quay-01", "refuses to save settings"]);
    assert!(said.contains(&label), "{said}");
    assert_eq!(refusal().await.code, "card-mistrusted");
    assert!(refusal().await.detail.contains("refuses to save settings"));
    // All that stands against it is said at once.
    bed.done(&["device", "back", "quay-01", "--with", "original"]);
    bed.done(&["device", "out", "quay-01"]);
    let both = refusal().await;
    assert_eq!((both.code.as_str(), both.besides.len()), ("card-held", 1));
    assert!(
        both.besides[0].contains("refuses to save settings"),
        "{both:?}"
    );
    let said = bed.refused(&["write", "quay-01", "--slot", "1", "--yes", &label]);
    assert!(
        said.contains("only way back") && said.contains("besides, card"),
        "{said}"
    );
    bed.done(&["device", "back", "quay-01", "--with", "original"]);
    bed.done(&["card", "trust", &label]);
    client.plan(&plan).await.unwrap();
    let card = bed.json(&["card", "show", &label]);
    assert_eq!(card["faults"][0]["symptom"], "refuses to save settings");

    // Two cards of one stamp are noticed, and neither is written.
    bed.make_card("twin", &SIZE.to_string(), &[]);
    std::fs::copy(bed.card_file("onyx"), bed.card_file("twin")).unwrap();
    bed.put("twin", 3);
    until("the copy is noticed", || {
        bed.json(&["slot", "list"])[2]["card"]["twin"] == 1
    });
    assert_eq!(refusal().await.code, "card-twice");
    bed.standin(&["pull", "--slot", "3"]);
    until("it is gone", || {
        bed.json(&["slot", "list"])[2]["card"].is_null()
    });
    client.plan(&plan).await.unwrap();
    // A card that lost its stamp gets its label back by hand, if it can be the one.
    std::fs::write(bed.card_file("twin"), vec![0x33; 8192]).unwrap();
    File::options()
        .write(true)
        .open(bed.card_file("twin"))
        .unwrap()
        .set_len(SIZE)
        .unwrap();
    bed.standin(&["pull", "--slot", "1"]);
    bed.put("twin", 3);
    until("it is a stranger", || {
        bed.json(&["slot", "list"])[2]["card"]["occupant"] == "foreign"
    });
    let words = ["card", "this-is", &label, "--slot", "3"];
    let said = bed.refused(&words);
    assert!(
        said.contains("--although-recorded") && said.contains("quay-01"),
        "{said}"
    );
    let state = || bed.json(&["card", "show", &label])["card"]["state"].clone();
    assert_ne!(state(), "blank", "what is recorded stays");
    bed.done(&[&words[..], &["--although-recorded"]].concat());
    assert_eq!(state(), "blank");
    bed.standin(&["pull", "--slot", "3"]);
    bed.put("twin", 4);
    until("it is known", || {
        bed.json(&["slot", "list"])[3]["card"]["label"] == *label
    });
    bed.standin(&["pull", "--slot", "4"]);
    bed.make_card("small", "600000000", &[]);
    bed.put("small", 4);
    until("it is seen", || {
        bed.json(&["slot", "list"])[3]["card"]["size"] == 600_000_000_u64 / 512 * 512
    });
    assert!(
        bed.refused(&["card", "this-is", &label, "--slot", "4"])
            .contains("another card")
    );

    // A card that failed while it was written is mistrusted by itself.
    bed.make_card("slate", &SIZE.to_string(), &["--fault", "bad=4194304+10"]);
    bed.put("slate", 2);
    let plan = bed.json(&["write", "quay-02", "--slot", "2", "--plan"]);
    let bad = plan["card"].as_str().unwrap();
    bed.refused(&["write", "quay-02", "--slot", "2", "--yes", bad]);
    assert!(
        bed.refused(&["write", "quay-02", "--slot", "2", "--yes", bad])
            .contains("mistrusted")
    );
    bed.done(&[
        "card", "origin", bad, "--brand", "Gull", "--batch", "2026-07",
    ]);
    let found = bed.json(&["card", "list", "--search", "2026-07"]);
    assert_eq!(found["items"][0]["label"], bad);
}

/// Jobs beyond the limit wait in line, and can be stopped there with nothing touched.
#[tokio::test(flavor = "multi_thread")]
async fn jobs_beyond_the_limit_wait_for_their_turn() {
    let bed = Testbed::start_with(&["--most-jobs", "1"]);
    bed.load_catalogue();
    let client = bed.client();
    let mut jobs = Vec::new();
    for slot in 1..=3 {
        let name = format!("quay-0{slot}");
        bed.add_device(&name);
        // The first is slow enough to be at work still when the last is confirmed.
        let rate = if slot == 1 { "4MB" } else { "40MB" };
        bed.make_card(&name, &SIZE.to_string(), &["--rate", rate]);
        bed.put(&name, slot);
    }
    for slot in 1..=3 {
        let plan = NewPlan {
            device: Some(format!("quay-0{slot}")),
            slot: slot.into(),
            ..NewPlan::default()
        };
        let plan = client.plan(&plan).await.unwrap();
        jobs.push(
            client
                .confirm(&plan.id, plan.agreed(), None)
                .await
                .unwrap()
                .id,
        );
    }
    let untouched = bed.card_digest("quay-03");
    let state = async |at: usize| client.job(jobs[at]).await.unwrap().state;
    let begun = Instant::now();
    while state(0).await != "running" {
        assert!(begun.elapsed() < Duration::from_secs(20));
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    assert_eq!(
        (state(1).await.as_str(), state(2).await.as_str()),
        ("waiting", "waiting")
    );
    client.cancel(jobs[2]).await.unwrap();
    loop {
        // The second first: what it says held before what the first one says then.
        let second = client.job(jobs[1]).await.unwrap();
        let first = client.job(jobs[0]).await.unwrap();
        let stage = first
            .progress
            .map_or(String::new(), |progress| progress.stage);
        if second.state == "running" {
            let at_work = ["composing", "writing", "verifying"].contains(&stage.as_str());
            assert!(!at_work, "both were at work, the first {stage}");
        }
        if second.state == "done" {
            assert_eq!(first.state, "done");
            assert_eq!(state(2).await, "cancelled");
            break;
        }
        assert!(
            begun.elapsed() < Duration::from_secs(120),
            "{}",
            second.state
        );
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    assert_eq!(bed.card_digest("quay-03"), untouched);
}

fn contains(file: &Path, wanted: &[u8]) -> bool {
    let file = File::open(file).unwrap();
    let len = file.metadata().unwrap().len();
    let mut buf = vec![0; (1 << 20) + wanted.len()];
    let mut at = 0;
    while at < len {
        let read = file.read_at(&mut buf, at).unwrap();
        if buf[..read]
            .windows(wanted.len())
            .any(|window| window == wanted)
        {
            return true;
        }
        at += 1 << 20;
    }
    false
}

fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(60), "{what}: never");
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// Equal blank cards cannot be told apart: what one is taken for is put right by whoever sees its sticker.
#[tokio::test(flavor = "multi_thread")]
async fn a_card_that_is_taken_for_an_equal_one_is_put_right() {
    let bed = bed();
    let client = bed.client();
    for card in ["mica", "flint"] {
        bed.make_card(card, &SIZE.to_string(), &[]);
    }
    let label_in = |slot: usize| {
        let card = &bed.json(&["slot", "list"])[slot - 1]["card"];
        card["label"].as_str().map(str::to_owned)
    };
    let in_slot = |slot: usize, label: &str| {
        until(&format!("{label} is in slot {slot}"), || {
            label_in(slot).as_deref() == Some(label)
        });
    };
    let plan = NewPlan {
        device: Some("quay-01".into()),
        slot: 1.into(),
        ..NewPlan::default()
    };
    bed.put("mica", 1);
    let first = client.plan(&plan).await.unwrap().card;
    bed.put("flint", 1);
    in_slot(1, &first);
    let listed = bed.done(&["slot", "list"]);
    assert!(
        listed.contains(&format!("{first} must stand on its sticker")),
        "{listed}"
    );

    // Its sticker is missing: it gets a label of its own, and what was planned for it under the other one is void.
    let planned = client.plan(&plan).await.unwrap();
    assert_eq!(planned.card, first);
    bed.done(&["card", "this-is", "--new", "--slot", "1"]);
    let second = label_in(1).unwrap();
    assert_ne!(second, first);
    let refused = client.confirm(&planned.id, planned.agreed(), None).await;
    let Err(ClientError::Refused(problem)) = refused else {
        panic!("{refused:?}");
    };
    assert_eq!(problem.code, "plan-void");
    assert!(problem.detail.contains(&second), "{problem:?}");
    assert_eq!(medium(&bed.card_file("flint")), Medium::Blank);

    // The first one beside it is the first one, and nobody can call both so.
    bed.put("mica", 2);
    in_slot(2, &first);
    let twice = bed.refused(&["card", "this-is", &first, "--slot", "1"]);
    assert!(twice.contains("cannot have one label"), "{twice}");
    bed.standin(&["pull", "--slot", "2"]);

    // Put in anew, it is taken for the first one again, until it was written as what its sticker says.
    bed.put("flint", 3);
    in_slot(3, &first);
    bed.done(&["card", "this-is", &second, "--slot", "3"]);
    in_slot(3, &second);
    bed.done(&["write", "quay-01", "--slot", "3", "--yes", &second]);
    let Medium::Whole { device, .. } = medium(&bed.card_file("flint")) else {
        panic!("it is not whole");
    };
    assert_eq!(device.as_deref(), Some("quay-01"));
    let carried = &bed.json(&["device", "show", "quay-01"])["device"]["card"];
    assert_eq!(carried.as_str(), Some(second.as_str()));
    for words in [vec!["--new"], vec![first.as_str()]] {
        let mut words = words;
        words.splice(0..0, ["card", "this-is", "--slot", "3"]);
        let kept = bed.refused(&words);
        assert!(kept.contains("says itself"), "{kept}");
    }
    let blank = &bed.json(&["card", "show", &first])["card"]["state"];
    assert_eq!(blank, "blank");
}
