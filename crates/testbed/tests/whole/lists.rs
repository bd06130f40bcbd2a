//! Lists, and what people do to what stands in them, through the command line and the interface.

use std::collections::BTreeSet;

use serde_json::Value;
use testbed::{Testbed, every};

fn names(page: &Value) -> Vec<&str> {
    let items = page["items"].as_array().unwrap().iter();
    items.map(|one| one["name"].as_str().unwrap()).collect()
}

/// A bed with a few devices on two sites.
fn with_devices() -> Testbed {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.done(&["site", "add", "loft", "--title", "The loft"]);
    for (name, site) in [
        ("quay-01", "quay"),
        ("quay-02", "quay"),
        ("loft-01", "loft"),
    ] {
        let place = [
            "--board",
            "curlew",
            "--appliance",
            "quaylink",
            "--site",
            site,
        ];
        bed.done(&[&["device", "add", name][..], &place[..]].concat());
    }
    bed
}

#[test]
fn a_device_is_found_listed_in_pages_renamed_moved_retired_and_taken_away() {
    let bed = with_devices();
    let list = |more: &[&str]| bed.json(&[&["device", "list"][..], more].concat());
    assert_eq!(names(&list(&[])), ["loft-01", "quay-01", "quay-02"]);
    assert_eq!(
        names(&list(&["--descending"])),
        ["quay-02", "quay-01", "loft-01"]
    );
    assert_eq!(names(&list(&["--site", "quay"])), ["quay-01", "quay-02"]);
    assert_eq!(
        names(&list(&["--search", "01", "--sort", "added"])),
        ["quay-01", "loft-01"]
    );
    assert_eq!(names(&list(&["--standing", "no card"])).len(), 3);
    assert!(names(&list(&["--standing", "to-write"])).is_empty());
    assert_eq!(names(&list(&["--follows", "quaylink 2.4"])).len(), 3);
    let first = list(&["--limit", "2"]);
    assert_eq!(
        (names(&first), first["total"].as_u64()),
        (vec!["loft-01", "quay-01"], Some(3))
    );
    let next = first["next"].as_str().unwrap();
    assert_eq!(
        names(&list(&["--limit", "2", "--after", next])),
        ["quay-02"]
    );
    let said = bed.done(&["device", "list", "--limit", "1"]);
    assert!(said.contains("1 of 3 devices"), "{said}");
    // A word that does not exist is refused with those that do, and gives no empty list.
    for (wrong, known) in [
        (["device", "list", "--site", "nowhere"], "loft, quay"),
        (["device", "list", "--state", "broken"], "planned, carded"),
        (["device", "list", "--board", "wren"], "curlew"),
        (["device", "list", "--appliance", "tidelink"], "quaylink"),
        (
            ["device", "list", "--standing", "behnd"],
            "settings changed, outdated",
        ),
        (["card", "list", "--state", "broken"], "blank, writing"),
        (["card", "list", "--site", "nowhere"], "loft, quay"),
        (["card", "list", "--device", "quay-99"], "no device"),
        (["backup", "list", "--device", "quay-99"], "no device"),
        (["backup", "list", "--card", "C-0999"], "no card"),
        (
            ["round", "plan", "--standing", "behnd"],
            "settings changed, outdated",
        ),
    ] {
        let said = bed.refused(&wrong);
        assert!(said.contains(known), "{wrong:?}: {said}");
    }
    let said = bed.refused(&["device", "list", "--sort", "colour"]);
    assert!(said.contains("it can by name, site"), "{said}");
    let said = bed.refused(&["device", "list", "--carries", "quaylink 9"]);
    assert!(said.contains("no release \"quaylink 9\""), "{said}");

    // Settings, and the secret among them, go along with the name.
    bed.done(&[
        "device",
        "set",
        "quay-02",
        "host_name=quay-02",
        "wifi_country=NO",
    ]);
    bed.done(&[
        "device", "change", "quay-02", "--name", "pier-01", "--site", "loft",
    ]);
    assert!(
        bed.done(&["device", "show", "pier-01"])
            .contains("host_name")
    );
    assert!(
        bed.refused(&["device", "show", "quay-02"])
            .contains("no device")
    );
    let said = bed.refused(&["device", "change", "pier-01", "--name", "quay-01"]);
    assert!(said.contains("already"), "{said}");
    let said = bed.refused(&["device", "change", "pier-01", "--site", "moon"]);
    assert!(said.contains("no site \"moon\""), "{said}");
    // A host name that another one on the new site has.
    bed.done(&["device", "set", "loft-01", "host_name=same"]);
    bed.done(&["device", "set", "quay-01", "host_name=same"]);
    let said = bed.refused(&["device", "change", "quay-01", "--site", "loft"]);
    assert!(said.contains("has its host name"), "{said}");
    assert_eq!(
        bed.json(&["device", "show", "quay-01"])["device"]["site"],
        "quay",
        "nothing changed"
    );
    // What it stays with must suit what it becomes.
    bed.done(&["device", "follow", "quay-01", "quaylink 2.4"]);
    let said = bed.refused(&["device", "change", "quay-01", "--appliance", "tidegauge"]);
    assert!(said.contains("stays with quaylink 2.4"), "{said}");

    bed.done(&["device", "retire", "loft-01"]);
    assert_eq!(names(&list(&["--state", "retired"])), ["loft-01"]);
    assert!(!names(&list(&["--standing", "no card"])).contains(&"loft-01"));
    bed.done(&["device", "retire", "loft-01", "--undo"]);
    assert_eq!(
        bed.json(&["device", "show", "loft-01"])["device"]["state"],
        "planned"
    );
    bed.done(&["device", "remove", "loft-01"]);
    assert_eq!(names(&list(&[])), ["pier-01", "quay-01"]);

    bed.done(&["site", "rename", "loft", "attic"]);
    assert_eq!(
        bed.json(&["device", "show", "pier-01"])["device"]["site"],
        "attic"
    );
    bed.done(&["preset", "add", "up", "--site", "attic"]);
    bed.done(&["preset", "set", "up", "wifi_country=SE"]);
    bed.done(&["preset", "rename", "up", "high-up", "--title", "High up"]);
    assert_eq!(
        bed.json(&["preset", "list", "--search", "HIGH"])["items"][0]["name"],
        "high-up"
    );
    let shown = bed.json(&["preset", "show", "high-up"]);
    assert_eq!(
        shown["touches"]["total"], 0,
        "the device says its country itself: {shown}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_written_keeps_its_device_and_release_and_a_lost_card_is_not_written() {
    let bed = with_devices();
    bed.add_device("quay-07");
    bed.make_card("mica", "3965190144", &[]);
    bed.put("mica", 1);
    bed.done(&["write", "quay-07", "--slot", "1", "--yes", "C-0001"]);
    let said = bed.refused(&["device", "remove", "quay-07"]);
    assert!(said.contains("retire it instead"), "{said}");
    let said = bed.refused(&["release", "remove", "quaylink 2.4"]);
    assert!(said.contains("withdraw it"), "{said}");
    // One that nobody carried goes, with all that was noted about it.
    bed.done(&[
        "release",
        "note",
        "tidegauge 1.7",
        "--board",
        "plover",
        "--boots",
    ]);
    bed.done(&["release", "remove", "tidegauge 1.7"]);
    assert!(
        bed.refused(&["release", "show", "tidegauge 1.7"])
            .contains("no release")
    );

    // A slot tells whose card it is by the records, also after a change of name.
    bed.done(&["device", "change", "quay-07", "--name", "pier-07"]);
    let carriers = bed.json(&["release", "carriers", "quaylink 2.4"]);
    assert_eq!(carriers["items"][0]["device"], "pier-07");
    let cards = bed.json(&["card", "list", "--carries", "quaylink 2.4"]);
    assert_eq!(
        (cards["total"].as_u64(), &cards["items"][0]["device"]),
        (Some(1), &"pier-07".into())
    );

    let said = bed.refused(&["card", "lost", "C-0001"]);
    assert!(said.contains("is in slot 1"), "{said}");
    bed.standin(&["pull", "--slot", "1"]);
    let client = bed.client();
    for _ in 0..100 {
        if client.slots().await.unwrap()[0].card.is_none() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    bed.done(&["card", "lost", "C-0001"]);
    bed.done(&["card", "note", "C-0001", "fell into the sea"]);
    let lost = bed.json(&["card", "list", "--state", "lost", "--search", "SEA"]);
    assert_eq!(lost["items"][0]["label"], "C-0001");
    bed.put("mica", 1);
    let said = bed.refused(&["write", "pier-07", "--slot", "1", "--yes", "C-0001"]);
    assert!(
        said.contains("recorded as lost") && said.contains("card found C-0001"),
        "{said}"
    );
    assert!(
        bed.done(&["slot", "list"])
            .contains("quaylink 2.4 for pier-07"),
        "by its new name"
    );
    bed.done(&["card", "found", "C-0001"]);
    assert_eq!(
        bed.json(&["card", "show", "C-0001"])["card"]["state"],
        "imprinted"
    );
    bed.done(&["write", "pier-07", "--slot", "1", "--yes", "C-0001"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_failed_in_a_slot_is_said_there_until_somebody_has_seen_it() {
    let mut bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.make_card("mica", "3965190144", &["--fault", "vanishes=20000000"]);
    bed.put("mica", 1);
    bed.refused(&["write", "quay-01", "--slot", "1", "--yes", "C-0001"]);
    let failed = async |bed: &Testbed, wanted: bool| {
        let client = bed.client();
        for _ in 0..100 {
            let slots = client.slots().await.unwrap_or_default();
            if let Some(slot) = slots.first().filter(|slot| slot.failed.is_some() == wanted) {
                return slot.failed;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("failed: {wanted} was never said");
    };
    let job = failed(&bed, true).await.unwrap();
    assert!(
        bed.done(&["slot", "list"])
            .contains(&format!("job {job} failed"))
    );
    // Also over a restart.
    bed.stop_service();
    bed.start_service();
    assert_eq!(failed(&bed, true).await, Some(job));
    bed.done(&["job", "seen", &job.to_string()]);
    failed(&bed, false).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_of_the_interface_are_the_list_whatever_their_length() {
    let bed = with_devices();
    let client = bed.client();
    let table: String = (0..57)
        .map(|number| {
            format!(
                "post-{number:02},curlew,quaylink,{}\n",
                ["quay", "loft"][number % 2]
            )
        })
        .collect();
    let report = client
        .put_device_table(format!("name,board,appliance,site\n{table}"), false)
        .await
        .unwrap();
    assert!(report.done && report.new.len() == 57, "{report:?}");
    for (limit, sort) in [
        (1, None),
        (7, Some("site")),
        (60, Some("state")),
        (500, Some("board")),
    ] {
        let ask = async |after| {
            let page = api::Paging {
                sort: sort.map(str::to_owned),
                ..api::Paging::behind(after, limit)
            };
            client.devices(&api::DeviceQuery::default(), &page).await
        };
        let all = every(ask).await.unwrap();
        let once: BTreeSet<_> = all.iter().map(|one| one.name.as_str()).collect();
        assert_eq!((all.len(), once.len()), (60, 60), "{limit} by {sort:?}");
    }
    client
        .add_preset(&api::NewPreset {
            name: "quay".into(),
            title: String::new(),
            site: Some("quay".into()),
        })
        .await
        .unwrap();
    let set = api::SettingsChange {
        set: [("wifi_country".to_owned(), Some("NO".to_owned()))].into(),
    };
    let detail = client.change_preset("quay", &set, false).await.unwrap();
    // 29 posts and two of before; those that set it themselves do not take it.
    assert_eq!((detail.touches.total, detail.preset.devices), (31, 31));
    client.change_settings("post-00", &set).await.unwrap();
    let ask = async |after| {
        let page = api::Paging::behind(after, 4);
        client
            .touched("quay", &api::NameQuery::default(), &page)
            .await
    };
    let touched = every(ask).await.unwrap();
    assert_eq!(touched.len(), 30);
    assert!(
        touched
            .iter()
            .all(|one| one.fields == ["wifi_country"] && one.device != "post-00")
    );
    let counted = client
        .presets(&api::NameQuery::default(), &api::Paging::default())
        .await
        .unwrap();
    assert_eq!(counted.items[0].devices, 30);
}

#[test]
fn shells_and_manuals_come_from_the_command_line_itself() {
    let bed = Testbed::start();
    for shell in ["bash", "zsh", "fish"] {
        let said = bed.done(&["completions", shell]);
        assert!(
            said.contains("duplicarium") && said.contains("restore"),
            "{shell}: {said}"
        );
    }
    let folder = bed.dir().join("manual");
    bed.done(&["manual", testbed::path(&folder)]);
    let page = std::fs::read_to_string(folder.join("duplicarium-device-list.1")).unwrap();
    assert!(page.contains("standing"), "{page}");
    let help = bed.done(&["device", "list", "--help"]);
    let (own, everywhere) = help.split_once("Options of every command").unwrap();
    assert!(
        own.contains("--site") && everywhere.contains("--json"),
        "{help}"
    );
}
