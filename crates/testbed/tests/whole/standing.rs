//! How a device stands is one answer: its page, lists, filters, the catalogue, rounds, status and attention say the same,
//! whatever changed. The oracle is what the test itself did to settings, releases and cards.

use serde_json::Value;
use testbed::{Testbed, demo_image, demo_sheet, path};

const SIZE: &str = "700000256";

/// Everything that says how devices stand, held against what they should stand as.
fn everywhere(bed: &Testbed, what: &str, expected: &[(&str, &str)]) {
    let list = |more: &[&str]| -> Vec<(String, String)> {
        let page = bed.json(&[&["device", "list"][..], more].concat());
        let rows = page["items"].as_array().unwrap().iter();
        rows.map(|row| {
            let word = |key: &str| row[key].as_str().unwrap().to_owned();
            (word("name"), word("standing"))
        })
        .collect()
    };
    let expected: Vec<(String, String)> = expected
        .iter()
        .map(|(name, standing)| ((*name).into(), (*standing).into()))
        .collect();
    assert_eq!(list(&[]), expected, "{what}: the list");
    let writes = [
        "settings changed",
        "outdated",
        "not booting",
        "withdrawn",
        "incomplete",
    ];
    let to_write: Vec<_> = expected
        .iter()
        .filter(|(_, standing)| writes.contains(&standing.as_str()))
        .cloned()
        .collect();
    for (name, standing) in &expected {
        let shown = bed.json(&["device", "show", name]);
        assert_eq!(
            shown["device"]["standing"], *standing,
            "{what}: the page of {name}"
        );
        assert_eq!(
            shown["device"]["reasons"].as_array().unwrap().is_empty(),
            standing == "up to date",
            "{what}: why {name} is {standing}"
        );
        let of_it = list(&["--standing", &standing.replace(' ', "-")]);
        assert!(of_it.iter().all(|(_, other)| other == standing), "{what}");
        assert!(
            of_it.iter().any(|(other, _)| other == name),
            "{what}: the filter"
        );
    }
    assert_eq!(
        list(&["--standing", "to-write"]),
        to_write,
        "{what}: to write"
    );
    let outdated = bed.done(&["device", "outdated"]);
    for (name, standing) in &expected {
        let is_there = to_write.iter().any(|(other, _)| other == name);
        assert_eq!(
            outdated.contains(name),
            is_there,
            "{what}: {standing}: {outdated}"
        );
    }
    let lines = bed.json(&["release", "list"]);
    let in_all: u64 = lines
        .as_array()
        .unwrap()
        .iter()
        .map(|line| line["to_write"].as_u64().unwrap())
        .sum();
    assert_eq!(in_all, to_write.len() as u64, "{what}: the catalogue");
    let status = bed.json(&["status"]);
    let attention: Vec<&Value> = status["attention"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["kind"] == "standing")
        .collect();
    let told: String = attention
        .iter()
        .map(|one| one["words"].as_str().unwrap())
        .collect();
    for (name, standing) in &expected {
        let is_there = to_write.iter().any(|(other, _)| other == name);
        assert_eq!(
            told.contains(name.as_str()),
            is_there,
            "{what}: {standing}: {told}"
        );
    }
    match to_write.is_empty() {
        true => assert!(
            bed.refused(&["round", "plan", "--standing", "to-write"])
                .contains("none is found"),
            "{what}"
        ),
        false => {
            let round = bed
                .json(&["round", "plan", "--standing", "to-write"])
                .to_string();
            for (name, _) in &to_write {
                assert!(round.contains(name.as_str()), "{what}: {round}");
            }
        }
    }
}

fn write(bed: &Testbed, device: &str, more: &[&str]) {
    let card = format!("card-of-{device}");
    if !bed.json(&["device", "show", device])["device"]["card"].is_string() {
        bed.make_card(&card, SIZE, &[]);
    }
    bed.put(&card, 1);
    let words = [&["write", device, "--slot", "1"][..], more].concat();
    let plan = bed.json(&[&words[..], &["--plan"]].concat());
    let label = plan["card"].as_str().unwrap().to_owned();
    bed.done(&[&words[..], &["--yes", &label]].concat());
    bed.standin(&["pull", "--slot", "1"]);
}

#[test]
fn one_standing_is_told_everywhere_whatever_changes() {
    let bed = Testbed::start();
    bed.load_catalogue();
    let names = ["quay-01", "quay-02", "quay-03"];
    for name in names {
        bed.add_device(name);
    }
    let all = |standing| names.map(|name| (name, standing));
    everywhere(&bed, "registered", &all("no card"));
    write(&bed, "quay-01", &[]);
    write(&bed, "quay-02", &[]);
    let with = |one, two| [("quay-01", one), ("quay-02", two), ("quay-03", "no card")];
    everywhere(&bed, "written", &with("up to date", "up to date"));

    // A value of its own, a preset, and both taken back.
    let (fine, changed) = ("up to date", "settings changed");
    bed.done(&["device", "set", "quay-01", "wifi_country=SE"]);
    everywhere(&bed, "set", &with(changed, fine));
    let since = || {
        let status = bed.json(&["status"]);
        let all = status["attention"].as_array().unwrap().clone();
        let one = all.into_iter().find(|one| one["kind"] == "standing");
        one.unwrap()["since"].as_str().unwrap().to_owned()
    };
    let before = since();
    bed.done(&["preset", "add", "pier", "--site", "quay"]);
    bed.done(&["preset", "set", "pier", "wifi_country=DK"]);
    everywhere(&bed, "a preset", &with(changed, changed));
    assert_eq!(since(), before, "it stands so since it was noticed first");
    bed.done(&["preset", "set", "pier", "--clear", "wifi_country"]);
    everywhere(&bed, "the preset taken back", &with(changed, fine));
    write(&bed, "quay-01", &[]);
    everywhere(&bed, "written anew", &with(fine, fine));
    for (turn, country) in ["FI", "SE", "DK", "EE"].iter().enumerate() {
        // Again and again: nothing that is kept at hand goes stale.
        bed.done(&[
            "device",
            "set",
            "quay-02",
            &format!("wifi_country={country}"),
        ]);
        everywhere(&bed, &format!("turn {turn}"), &with(fine, changed));
        if turn % 2 == 0 {
            write(&bed, "quay-02", &[]);
        } else {
            bed.done(&["device", "set", "quay-02", "--clear", "wifi_country"]);
            // The card has another country than the one that was set in the last turn, or none.
            everywhere(&bed, &format!("turn {turn}, unset"), &with(fine, changed));
            write(&bed, "quay-02", &[]);
        }
        everywhere(&bed, &format!("turn {turn}, written"), &with(fine, fine));
    }

    // A newer release; it is withdrawn; what boots and what does not.
    let text = std::fs::read_to_string(demo_sheet("quaylink-2.4.toml")).unwrap();
    let newer = bed.dir().join("newer.toml");
    std::fs::write(
        &newer,
        text.replace("version = \"2.4\"", "version = \"2.5\""),
    )
    .unwrap();
    let image = demo_image("quaylink-2.4.img.xz");
    bed.done(&["release", "add", path(&image), "--sheet", path(&newer)]);
    everywhere(&bed, "a newer release", &with("outdated", "outdated"));
    write(&bed, "quay-01", &[]);
    everywhere(&bed, "one has it", &with(fine, "outdated"));
    let note = |boots: &str| {
        let words = [
            "release",
            "note",
            "quaylink 2.5",
            "--board",
            "curlew",
            boots,
        ];
        bed.done(&[&words[..], &["dark"]].concat())
    };
    note("--does-not-boot");
    everywhere(&bed, "it does not boot", &with("not booting", fine));
    note("--boots");
    everywhere(&bed, "it boots", &with(fine, "outdated"));
    let words = [
        "release",
        "state",
        "quaylink 2.5",
        "withdrawn",
        "--reason",
        "hot",
    ];
    bed.done(&words);
    everywhere(&bed, "withdrawn", &with("withdrawn", fine));
    bed.done(&["device", "follow", "quay-01", "quaylink 2.4"]);
    everywhere(&bed, "pinned to another", &with("withdrawn", fine));

    // A retired device stands in no list of what is to be written.
    bed.done(&["device", "retire", "quay-01"]);
    let list = bed.json(&["device", "list", "--standing", "to-write"]);
    assert_eq!(list["total"], 0);
    let status = bed.json(&["status"]).to_string();
    assert!(!status.contains("quay-01"), "{status}");
}

#[test]
fn a_suspect_card_and_a_fault_stand_in_attention_until_they_are_handled() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    write(&bed, "quay-01", &[]);
    let told = || {
        let status = bed.json(&["status"]);
        let all = status["attention"].as_array().unwrap().iter();
        let mut kinds: Vec<_> = all
            .map(|one| one["kind"].as_str().unwrap().to_owned())
            .collect();
        kinds.sort();
        kinds
    };
    assert_eq!(told(), [""; 0]);
    bed.done(&["device", "fault", "quay-01", "goes off at night"]);
    assert_eq!(told(), ["card-suspect", "fault"]);
    let status = bed.json(&["status"]);
    let fault = status["attention"].as_array().unwrap().iter();
    let fault = fault.clone().find(|one| one["kind"] == "fault").unwrap();
    assert!(
        fault["words"]
            .as_str()
            .unwrap()
            .contains("goes off at night")
    );
    assert_eq!(fault["device"], "quay-01");
    // It stays over a restart, with since when.
    let since = status["attention"][0]["since"].clone();
    let status = bed.json(&["status"]);
    assert_eq!(status["attention"][0]["since"], since);
    bed.done(&["card", "trust", "C-0001"]);
    assert_eq!(told(), [""; 0], "handled");
    bed.done(&["card", "fault", "C-0001", "slow"]);
    assert_eq!(told(), ["card-suspect"]);
    bed.done(&["card", "retire", "C-0001"]);
    assert_eq!(told(), [""; 0], "retired");
}

#[test]
fn lists_of_cards_and_of_slots_say_the_same_of_a_card() {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    write(&bed, "quay-01", &[]);
    let (cards, slots) = (
        || bed.done(&["card", "list"]),
        || bed.done(&["slot", "list"]),
    );
    bed.put("card-of-quay-01", 1);
    let begun = std::time::Instant::now();
    while !slots().contains("C-0001") {
        assert!(begun.elapsed().as_secs() < 20, "{}", slots());
    }
    assert!(
        !cards().contains("suspect") && !cards().contains("its slot shows"),
        "{}",
        cards()
    );
    // What somebody reports in the field stands in both.
    bed.done(&["card", "fault", "C-0001", "loses files"]);
    assert!(cards().contains("suspect"), "{}", cards());
    assert!(slots().contains("suspect"), "{}", slots());
    bed.done(&["card", "trust", "C-0001"]);
    assert!(!cards().contains("suspect"), "{}", cards());
    assert!(!slots().contains("suspect"), "{}", slots());

    // Restored, its plan names the backup that what is on it came from.
    bed.done(&["backup", "take", "--slot", "1"]);
    let backups = bed.json(&["backup", "list"]);
    let name = backups["items"][0]["name"].as_str().unwrap().to_owned();
    bed.make_card("spare", SIZE, &[]);
    bed.put("spare", 2);
    let plan = bed.json(&["restore", &name, "--slot", "2", "--plan"]);
    let label = plan["card"].as_str().unwrap().to_owned();
    let words = ["restore", &name, "--slot", "2", "--yes", &label];
    bed.done(&[&words[..], &["--accept", "old-data,second-card"]].concat());
    let plan = bed.done(&["write", "quay-01", "--slot", "2", "--plan"]);
    assert!(
        plan.contains(&format!("restored from backup {name}")),
        "{plan}"
    );
    assert!(
        !plan.contains("there is no backup of what is on it"),
        "{plan}"
    );
}
