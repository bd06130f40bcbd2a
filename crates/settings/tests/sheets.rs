//! The sheets that ship, from text to the files on a card.

use imagecraft::compose::{Change, Target};
use proptest::prelude::*;
use settings::{
    Effective, Laid, Layer, MASK, Origin, Problem, Settings, Sheet, Subject, effective, lay_out,
};

fn demo(name: &str) -> Sheet {
    let path = format!(
        "{}/../../demo/sheets/{name}.toml",
        env!("CARGO_MANIFEST_DIR")
    );
    Sheet::parse(&std::fs::read_to_string(path).unwrap()).unwrap()
}

fn set(pairs: &[(&str, &str)]) -> Settings {
    pairs
        .iter()
        .map(|(field, value)| ((*field).into(), (*value).into()))
        .collect()
}

type Counted = (Vec<Effective>, Vec<Problem>);

fn count(sheet: &Sheet, board: &str, own: Settings) -> (Counted, Subject) {
    let subject = Subject {
        device: "a device".into(),
        board: board.into(),
        ..Subject::default()
    };
    let counted = effective(&sheet.fields, &[Layer::device(&own)], &subject);
    (counted, subject)
}

/// Files as they land on a card of a release that has `base` at every path.
fn laid(sheet: &Sheet, board: &str, own: Settings, base: &str) -> Vec<Laid> {
    let ((values, problems), subject) = count(sheet, board, own);
    assert_eq!(problems, []);
    let mut read = |_: &Target, _: &str| Ok(Some(base.as_bytes().to_vec()));
    lay_out(&sheet.placements, &values, &subject, &mut read).unwrap()
}

fn text<'a>(files: &'a [Laid], path: &str) -> Option<&'a str> {
    let found = files.iter().find(|one| one.file.path == path)?;
    match &found.file.change {
        Change::File(bytes) => std::str::from_utf8(bytes).ok(),
        _ => None,
    }
}

#[test]
fn a_box_on_the_quay_gets_its_network_file() {
    let sheet = demo("quaylink-2.4");
    assert_eq!(
        (sheet.name().as_str(), sheet.boards.len()),
        ("quaylink 2.4", 2)
    );
    let device = set(&[
        ("host_name", "quay-07"),
        ("wifi_network", "Søndre \"molo\""),
        ("wifi_passphrase", "back\\slash and \"quote\""),
    ]);
    let ((values, _), _) = count(&sheet, "curlew", device.clone());
    let country = values
        .iter()
        .find(|one| one.name == "wifi_country")
        .unwrap();
    assert_eq!(
        (country.value.as_deref(), country.origin),
        (Some("NO"), Some(Origin::Release))
    );
    let files = laid(&sheet, "curlew", device, "");
    assert_eq!(files[0].file.target, Target::Boot);
    // What lands is valid TOML whatever stands in the values, and reads back as what was set.
    let link: toml::Table = text(&files, "quaylink/link.toml").unwrap().parse().unwrap();
    assert_eq!(link["host_name"].as_str(), Some("quay-07"));
    assert_eq!(link["wifi"]["network"].as_str(), Some("Søndre \"molo\""));
    assert_eq!(
        link["wifi"]["passphrase"].as_str(),
        Some("back\\slash and \"quote\"")
    );
    let shown = files[0].after.as_deref().unwrap();
    assert!(shown.contains(MASK) && !shown.contains("quote"), "{shown}");
}

#[test]
fn a_post_gets_the_lines_of_its_board() {
    let sheet = demo("tidegauge-1.7");
    let base = "# The level probe.\n[bus]\nenabled=no\nnumber=1\nspeed=9600\n";
    let own = set(&[("host_name", "tide-north"), ("bus_number", "17")]);
    let files = laid(&sheet, "plover-field", own, base);
    assert_eq!(
        text(&files, "/etc/systemd/network/20-wired.network"),
        Some("[Match]\nName=end0\n\n[Network]\nDHCP=yes\n")
    );
    let probe = base
        .replace("enabled=no", "enabled=yes")
        .replace("number=1", "number=17");
    assert_eq!(
        text(&files, "/etc/tidegauge/probe.conf"),
        Some(probe.as_str())
    );
    assert_eq!(
        text(&files, "/etc/wpa_supplicant/wpa_supplicant-wlan0.conf"),
        None
    );
    let zone = files
        .iter()
        .find(|one| one.file.path == "/etc/localtime")
        .unwrap();
    let link = Change::Link("../usr/share/zoneinfo/Europe/Oslo".into());
    assert_eq!(zone.file.change, link);

    let own = set(&[
        ("host_name", "tide-bench"),
        ("address", "192.0.2.7/24 gateway 192.0.2.1"),
        (
            "networks",
            r#"[{"name":"Saltmarsh","security":"wpa2","passphrase":"plane the long edge"}]"#,
        ),
    ]);
    let files = laid(&sheet, "plover", own, base);
    let wired = text(&files, "/etc/systemd/network/20-wired.network").unwrap();
    assert!(
        wired.contains("Name=eth0") && wired.contains("Gateway=192.0.2.1"),
        "{wired}"
    );
    assert_eq!(text(&files, "/etc/tidegauge/probe.conf"), None);
    let wifi = files
        .iter()
        .find(|one| one.file.path.contains("wpa_supplicant"))
        .unwrap();
    assert_eq!(wifi.file.attributes.mode, Some(0o600));
    let content = text(&files, &wifi.file.path).unwrap();
    let key = content
        .lines()
        .find_map(|line| line.trim().strip_prefix("psk="))
        .unwrap();
    assert_eq!(key.len(), 64);
    // Neither the passphrase nor the key that is derived from it is for the eye.
    let shown = wifi.after.as_deref().unwrap();
    assert!(
        !content.contains("plane the") && shown.contains(MASK),
        "{shown}"
    );
    assert!(
        !shown.contains(key) && !shown.contains("plane the"),
        "{shown}"
    );
}

#[test]
fn a_kiosk_keeps_what_its_configuration_says_beside() {
    let sheet = demo("toolpost-2026-09-15");
    let base = "host = toolpost\n[booking]\nhours = evening\n#badges-only\n[wifi]\n#network = \nkiosk:x:1\n";
    let own = set(&[
        ("host_name", "tool-saws"),
        ("opening", "always"),
        ("badge_reader", "yes"),
        ("kiosk_password", "saws & planes"),
    ]);
    let files = laid(&sheet, "plover", own, base);
    let config = text(&files, "/etc/toolpost/kiosk.conf").unwrap();
    let expected = base
        .replace("= toolpost", "= tool-saws")
        .replace("= evening", "= always")
        .replace("#badges", "badges");
    assert_eq!(config, expected);
    let shadow = text(&files, "/etc/shadow").unwrap();
    assert!(shadow.contains("kiosk:$6$"), "{shadow}");
    assert_eq!(text(&files, "/home/kiosk/.ssh/authorized_keys"), None);
}

proptest! {
    /// Whatever a secret is, no file for the eye holds it, its key or its hash, and the file for
    /// the card holds what the board needs.
    #[test]
    fn no_secret_shows_in_any_file(
        passphrase in "[ -~]{8,63}",
        login in "[a-zA-Z0-9 æøå'\"$]{8,40}",
        name in "[a-zA-Zæøå' ]{1,16}",
    ) {
        prop_assume!(!login.contains('\u{2022}') && login.len() >= 8);
        let network = serde_json::json!([{
            "name": name, "hidden": true, "security": "wpa2", "passphrase": passphrase,
        }, {
            "name": "another", "security": "wpa3", "passphrase": passphrase,
        }]);
        let post = set(&[("host_name", "tide-bench"), ("networks", &network.to_string())]);
        let kiosk = set(&[
            ("host_name", "tool-saws"),
            ("wifi_network", &name),
            ("wifi_passphrase", &passphrase),
            ("kiosk_password", &login),
        ]);
        let base = "[bus]\nenabled=no\n[wifi]\nkiosk:x:1\n";
        for (sheet, own) in [("tidegauge-1.7", post), ("toolpost-2026-09-15", kiosk)] {
            let sheet = demo(sheet);
            for file in laid(&sheet, "plover", own.clone(), base) {
                let shown = file.after.clone().unwrap_or_default();
                prop_assert!(!shown.contains(&passphrase), "{}: {}", file.file.path, shown);
                prop_assert!(!shown.contains(&login), "{}: {}", file.file.path, shown);
                prop_assert!(!shown.contains("$6$"), "{}", shown);
                let Change::File(bytes) = &file.file.change else { continue };
                let content = String::from_utf8(bytes.clone()).unwrap();
                let keys = content.lines().filter_map(|line| line.trim().strip_prefix("psk="));
                for key in keys {
                    prop_assert_eq!(key.len(), 64);
                    prop_assert!(!shown.contains(key), "{}", shown);
                }
            }
        }
    }
}

#[test]
fn values_for_other_releases_are_kept_aside() {
    let sheet = demo("tidegauge-1.7");
    let device = set(&[("host_name", "tide-north"), ("lamp_colour", "green")]);
    let ((values, problems), _) = count(&sheet, "plover", device);
    assert_eq!(problems, []);
    assert!(values.iter().all(|value| value.name != "lamp_colour"));
}

#[test]
fn a_sheet_survives_being_written_out() {
    for name in [
        "quaylink-2.4",
        "tidegauge-1.7",
        "tidegauge-1.8-rc1",
        "toolpost-2026-09-15",
    ] {
        let sheet = demo(name);
        let written = toml::to_string(&sheet).unwrap();
        assert_eq!(Sheet::parse(&written).unwrap(), sheet);
    }
}
