//! The sheets that ship, from text to the files on a card.

use imagecraft::compose::Target;
use settings::{FieldKind, MASK, Origin, Settings, Sheet, effective, render};

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
    let (values, problems) = effective(&sheet.fields, &Settings::new(), &device);
    assert_eq!(problems, []);
    let country = values
        .iter()
        .find(|value| value.name == "wifi_country")
        .unwrap();
    assert_eq!(
        (country.value.as_deref(), country.origin),
        (Some("NO"), Some(Origin::Release))
    );
    let files = render(&sheet.placements, &values).unwrap();
    assert_eq!(
        (files[0].target.clone(), files[0].path.as_str()),
        (Target::Boot, "quaylink/link.toml")
    );
    // What lands is valid TOML whatever stands in the values, and reads back as what was set.
    let link: toml::Table = files[0].content.parse().unwrap();
    assert_eq!(link["host_name"].as_str(), Some("quay-07"));
    assert_eq!(link["wifi"]["network"].as_str(), Some("Søndre \"molo\""));
    assert_eq!(
        link["wifi"]["passphrase"].as_str(),
        Some("back\\slash and \"quote\"")
    );
    assert!(
        files[0].shown.contains(MASK) && !files[0].shown.contains("quote"),
        "{}",
        files[0].shown
    );
}

#[test]
fn a_post_without_wifi_gets_no_wifi_lines() {
    let sheet = demo("tidegauge-1.7");
    let render_with = |device: &Settings| {
        let (values, problems) = effective(&sheet.fields, &Settings::new(), device);
        assert_eq!(problems, []);
        render(&sheet.placements, &values).unwrap()[0]
            .content
            .clone()
    };
    let wired = render_with(&set(&[("host_name", "tide-north")]));
    assert_eq!(
        wired,
        "# Made by Duplicarium; settings of this post.\nhost=tide-north\n"
    );
    let wireless = render_with(&set(&[
        ("host_name", "tide-north"),
        ("wifi_network", "Saltmarsh-Workshop"),
        ("wifi_passphrase", "plane the long edge"),
    ]));
    assert!(
        wireless
            .ends_with("country=NO\nnetwork=Saltmarsh-Workshop\npassphrase=plane the long edge\n"),
        "{wireless}"
    );
}

#[test]
fn values_for_other_releases_are_kept_aside() {
    let sheet = demo("tidegauge-1.7");
    let device = set(&[("host_name", "tide-north"), ("lamp_colour", "green")]);
    let (values, problems) = effective(&sheet.fields, &Settings::new(), &device);
    assert_eq!(problems, []);
    assert!(values.iter().all(|value| value.name != "lamp_colour"));
}

#[test]
fn secrets_are_known_by_their_kind() {
    for sheet in [demo("quaylink-2.4"), demo("tidegauge-1.7")] {
        for field in &sheet.fields {
            assert_eq!(
                field.kind.is_secret(),
                field.kind == FieldKind::Passphrase,
                "{}",
                field.name
            );
        }
    }
}

#[test]
fn a_sheet_survives_being_written_out() {
    for name in ["quaylink-2.4", "tidegauge-1.7"] {
        let sheet = demo(name);
        let written = toml::to_string(&sheet).unwrap();
        assert_eq!(Sheet::parse(&written).unwrap(), sheet);
    }
}
