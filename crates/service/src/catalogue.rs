//! Answers out of the catalogue: what suits a device and why not, what is newest, current, behind.

use std::cmp::Ordering;
use std::collections::{BTreeMap, HashMap};

use records::boards::BoardModel;
use records::devices::Device;
use records::releases::{Carrier, Current, Evidence, Release};
use settings::compare_versions;
use time::macros::format_description;

use crate::app::App;
use crate::error::ApiError;
use crate::views;

/// Everything about releases that answers are made of, read once for each question.
pub struct Shelf {
    /// Newest version first.
    pub releases: Vec<Release>,
    pub currents: Vec<Current>,
    pub evidence: Vec<Evidence>,
    pub carriers: Vec<Carrier>,
    boards: BTreeMap<String, BoardModel>,
    /// Architectures found in each release.
    architectures: HashMap<i64, Vec<String>>,
    /// Index into `carriers` by device.
    carried: HashMap<String, usize>,
}

/// Whether a release suits a device, and what is known about that.
#[derive(Debug, PartialEq, Eq)]
pub struct Fit {
    pub fits: bool,
    pub reasons: Vec<String>,
}

impl App {
    /// The shelf of one appliance, or of all.
    pub async fn shelf(&self, appliance: Option<&str>) -> Result<Shelf, ApiError> {
        let mut releases = match appliance {
            Some(appliance) => self.records.releases_of(appliance).await?,
            None => self.records.releases().await?,
        };
        // Releases of one version stay in the order in which they were added, newest first.
        releases.sort_by(|a, b| compare_versions(&b.version, &a.version));
        let boards = self.records.boards().await?.into_iter();
        let carriers = self.records.carriers().await?;
        let found = |release: &Release| (release.id, views::inspection_of(release).architectures);
        Ok(Shelf {
            architectures: releases.iter().map(found).collect(),
            carried: carriers
                .iter()
                .enumerate()
                .filter(|(_, carrier)| carrier.carried)
                .filter_map(|(at, carrier)| Some((carrier.device.clone()?, at)))
                .collect(),
            releases,
            currents: self.records.currents().await?,
            evidence: self.records.evidence().await?,
            carriers,
            boards: boards.map(|board| (board.name.clone(), board)).collect(),
        })
    }
}

impl Shelf {
    fn of_line<'a, 'k>(
        &'a self,
        appliance: &'k str,
        variant: Option<&'k str>,
    ) -> impl Iterator<Item = &'a Release> + use<'a, 'k> {
        self.releases.iter().filter(move |release| {
            release.appliance == appliance && release.variant.as_deref() == variant
        })
    }

    pub fn find(&self, name: &str) -> Option<&Release> {
        self.releases.iter().find(|release| release.name == name)
    }

    /// Where a release is current now.
    pub fn current_for(&self, release: &str) -> Vec<String> {
        self.currents
            .iter()
            .filter(|current| current.until_at.is_none() && current.release == release)
            .map(|current| current.board.clone())
            .collect()
    }

    /// The release that is current for an appliance, variant and board model.
    fn current(&self, device: &Device) -> Option<&Release> {
        let variant = device.variant.as_deref().unwrap_or("");
        let current = self.currents.iter().find(|current| {
            current.until_at.is_none()
                && current.appliance == device.appliance
                && current.variant == variant
                && current.board == device.board
        })?;
        self.find(&current.release)
    }

    /// What a device follows: its pinned release, else the current one, else the newest that is
    /// released and suits it.
    pub fn followed(&self, device: &Device) -> Option<&Release> {
        if let Some(pinned) = &device.pinned {
            return self.find(pinned);
        }
        self.current(device).or_else(|| {
            self.of_line(&device.appliance, device.variant.as_deref())
                .find(|release| release.state == "released" && self.fit(release, device).fits)
        })
    }

    /// The newest released version of a line.
    pub fn newest(&self, appliance: &str, variant: Option<&str>) -> Option<&Release> {
        self.of_line(appliance, variant)
            .find(|release| release.state == "released")
    }

    /// Whether a release suits a device by its sheet, by the architecture found in it, and by what
    /// was seen at the bench.
    pub fn fit(&self, release: &Release, device: &Device) -> Fit {
        let mut against = Vec::new();
        let mut reasons = Vec::new();
        if release.appliance != device.appliance {
            against.push(format!(
                "it is {}, {} becomes {}",
                release.appliance, device.name, device.appliance
            ));
        }
        if release.variant != device.variant {
            let word = |variant: &Option<String>| match variant {
                Some(variant) => format!("variant {variant}"),
                None => "no variant".into(),
            };
            against.push(format!(
                "it is for {}, {} is set up for {}",
                word(&release.variant),
                device.name,
                word(&device.variant)
            ));
        }
        if !release.boards.contains(&device.board) {
            against.push(format!(
                "its sheet names {}, {} is a {}",
                release.boards.join(", "),
                device.name,
                device.board
            ));
        }
        // A release of another appliance may not stand on this shelf.
        let found = match self.architectures.get(&release.id) {
            Some(found) => found.clone(),
            None => views::inspection_of(release).architectures,
        };
        if let Some(board) = self.boards.get(&device.board) {
            let runs = |image: &String| imagecraft::runs(&board.architecture, image);
            if !found.is_empty() && !found.iter().any(runs) {
                against.push(format!(
                    "its programs are for {}, a {} is {}",
                    found.join(", "),
                    device.board,
                    board.architecture
                ));
            }
        }
        let seen = self
            .evidence
            .iter()
            .find(|seen| seen.release == release.name && seen.board == device.board);
        if let Some(seen) = seen {
            let day = seen
                .at
                .format(format_description!("[year]-[month]-[day]"))
                .unwrap_or_default();
            let note = match seen.note.as_str() {
                "" => String::new(),
                note => format!(": {note}"),
            };
            let words = if seen.boots { "boots" } else { "did not boot" };
            let sentence = format!(
                "{words} on {}, noted on {day} by {}{note}",
                device.board, seen.operator
            );
            if seen.boots {
                reasons.push(sentence)
            } else {
                against.push(sentence)
            }
        }
        let fits = against.is_empty();
        against.append(&mut reasons);
        Fit {
            fits,
            reasons: against,
        }
    }

    /// All releases of a device's appliance as choices, those that it can get first.
    pub fn choices(&self, device: &Device) -> Vec<api::Choice> {
        let followed = self.followed(device).map(|release| release.id);
        let current = self.current(device).map(|release| release.id);
        let mut choices: Vec<_> = self
            .releases
            .iter()
            .filter(|release| release.appliance == device.appliance)
            .map(|release| {
                let Fit { fits, mut reasons } = self.fit(release, device);
                match release.state.as_str() {
                    "draft" => reasons.push("it is a draft".into()),
                    "withdrawn" => reasons.push("it was withdrawn".into()),
                    _ => {}
                }
                api::Choice {
                    release: release.name.clone(),
                    state: release.state.clone(),
                    current: current == Some(release.id),
                    followed: followed == Some(release.id),
                    fits,
                    reasons,
                }
            })
            .collect();
        choices.sort_by_key(|choice| {
            let offered = choice.fits && choice.state == "released";
            (!choice.followed, !offered, !choice.fits)
        });
        choices
    }

    /// Whether the card of a device carries what it follows.
    pub fn standing(&self, device: &Device) -> api::Standing {
        let carrier = self
            .carried
            .get(&device.name)
            .and_then(|at| self.carriers.get(*at));
        let carried = carrier.and_then(|carrier| self.find(&carrier.release));
        let followed = self.followed(device);
        let standing = match (carried, followed) {
            (None, _) if device.card.is_some() && device.whole_card().is_none() => "not whole",
            (None, _) => "no card",
            (Some(_), None) => "no release",
            (Some(carried), Some(followed)) if carried.id == followed.id => "level",
            (Some(carried), Some(followed)) => {
                let same_line =
                    carried.appliance == followed.appliance && carried.variant == followed.variant;
                match compare_versions(&carried.version, &followed.version) {
                    Ordering::Greater if same_line => "ahead",
                    _ => "behind",
                }
            }
        };
        api::Standing {
            device: device.name.clone(),
            board: device.board.clone(),
            appliance: device.appliance.clone(),
            carries: carried.map(|release| release.name.clone()),
            follows: followed.map(|release| release.name.clone()),
            pinned: device.pinned.is_some(),
            standing: standing.into(),
            withdrawn: carried.is_some_and(|release| release.state == "withdrawn"),
        }
    }

    /// The catalogue by appliance and variant.
    pub fn lines(&self, devices: &[Device]) -> Vec<api::Line> {
        let mut keys: Vec<_> = self
            .releases
            .iter()
            .map(|release| (release.appliance.clone(), release.variant.clone()))
            .collect();
        keys.sort();
        keys.dedup();
        keys.into_iter()
            .map(|(appliance, variant)| {
                let own: Vec<_> = devices
                    .iter()
                    .filter(|device| device.appliance == appliance && device.variant == variant)
                    .collect();
                let behind = own
                    .iter()
                    .filter(|device| self.standing(device).standing == "behind")
                    .count();
                let currents = self.currents.iter().filter(|current| {
                    current.until_at.is_none()
                        && current.appliance == appliance
                        && current.variant == variant.as_deref().unwrap_or("")
                });
                api::Line {
                    newest: self
                        .newest(&appliance, variant.as_deref())
                        .map(|release| release.name.clone()),
                    currents: currents.map(views::current).collect(),
                    releases: self
                        .of_line(&appliance, variant.as_deref())
                        .map(|release| views::release(release, self))
                        .collect(),
                    devices: own.len() as u32,
                    behind: behind as u32,
                    appliance: appliance.clone(),
                    variant: variant.clone(),
                }
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;
    use time::OffsetDateTime;

    fn board(name: &str, architecture: &str) -> (String, BoardModel) {
        let board = BoardModel {
            name: name.into(),
            title: name.into(),
            architecture: architecture.into(),
            memory_mb: None,
            ports: String::new(),
            power: String::new(),
            lamps: String::new(),
            boot_minutes: None,
            card_sits: String::new(),
        };
        (name.into(), board)
    }

    fn release(id: i64, version: &str, state: &str, boards: &[&str], programs: &[&str]) -> Release {
        Release {
            id,
            name: format!("quaylink {version}"),
            appliance: "quaylink".into(),
            variant: None,
            version: version.into(),
            dated: None,
            boards: boards.iter().map(|name| (*name).into()).collect(),
            state: state.into(),
            sheet: String::new(),
            source: String::new(),
            packing: String::new(),
            packed_size: 0,
            packed_sha256: Vec::new(),
            raw_size: 0,
            raw_sha256: Vec::new(),
            smallest_card: 0,
            table_kind: String::new(),
            disk_id: String::new(),
            partitions: json!([]),
            manifest: Vec::new(),
            stored: 0,
            added_by: String::new(),
            added_at: OffsetDateTime::UNIX_EPOCH,
            inspection: json!({ "architectures": programs }),
            content: 0,
            computed_card: 0,
            shrunk_card: None,
            origin: json!({}),
            kept: false,
            sheet_revision: 1,
        }
    }

    fn device(name: &str, board: &str, pinned: Option<&str>) -> Device {
        Device {
            id: 1,
            name: name.into(),
            board: board.into(),
            appliance: "quaylink".into(),
            variant: None,
            site: "quay".into(),
            notes: String::new(),
            state: "planned".into(),
            host_name: None,
            added_by: String::new(),
            added_at: OffsetDateTime::UNIX_EPOCH,
            pinned_release_id: None,
            pinned: pinned.map(str::to_owned),
            card: None,
            card_state: None,
            attached: Vec::new(),
            macs: Vec::new(),
        }
    }

    fn current(version: &str, board: &str) -> Current {
        Current {
            appliance: "quaylink".into(),
            variant: String::new(),
            board: board.into(),
            release: format!("quaylink {version}"),
            operator: "marit".into(),
            from_at: OffsetDateTime::UNIX_EPOCH,
            until_at: None,
        }
    }

    /// Newest version first, as a shelf is read.
    fn shelf() -> Shelf {
        let both = ["plover", "curlew"];
        let releases = vec![
            release(4, "2.10", "released", &["plover"], &["arm64"]),
            release(3, "2.9", "draft", &both, &["armhf"]),
            release(2, "2.8", "released", &both, &["armhf"]),
            release(1, "2.7", "withdrawn", &both, &["armhf"]),
        ];
        Shelf {
            architectures: releases
                .iter()
                .map(|release| (release.id, views::inspection_of(release).architectures))
                .collect(),
            releases,
            currents: Vec::new(),
            evidence: Vec::new(),
            carriers: Vec::new(),
            boards: [board("plover", "arm64"), board("curlew", "armhf")].into(),
            carried: HashMap::new(),
        }
    }

    #[test]
    fn a_device_follows_its_pin_then_what_is_current_then_the_newest_that_fits() {
        let mut shelf = shelf();
        let followed = |shelf: &Shelf, device: &Device| {
            let found = shelf.followed(device);
            found.map(|release| release.version.clone())
        };
        let (big, small) = (device("a", "plover", None), device("b", "curlew", None));
        assert_eq!(followed(&shelf, &big).as_deref(), Some("2.10"));
        assert_eq!(
            followed(&shelf, &small).as_deref(),
            Some("2.8"),
            "neither draft nor withdrawn"
        );
        shelf.currents = vec![current("2.8", "plover")];
        assert_eq!(followed(&shelf, &big).as_deref(), Some("2.8"));
        let pinned = device("c", "plover", Some("quaylink 2.7"));
        assert_eq!(followed(&shelf, &pinned).as_deref(), Some("2.7"));
        shelf.currents[0].until_at = Some(OffsetDateTime::UNIX_EPOCH);
        assert_eq!(
            followed(&shelf, &big).as_deref(),
            Some("2.10"),
            "a former one does not count"
        );
        assert_eq!(followed(&shelf, &device("d", "heron", None)), None);
    }

    #[test]
    fn every_reason_against_a_release_is_said() {
        let mut shelf = shelf();
        let small = device("quay-01", "curlew", None);
        let against = shelf.fit(&shelf.releases[0], &small);
        assert!(!against.fits);
        assert_eq!(
            against.reasons,
            [
                "its sheet names plover, quay-01 is a curlew",
                "its programs are for arm64, a curlew is armhf",
            ]
        );
        // The little board's programs run on the large one, not the other way round.
        assert!(
            shelf
                .fit(&shelf.releases[2], &device("x", "plover", None))
                .fits
        );
        let mut seen = Evidence {
            release: "quaylink 2.8".into(),
            board: "curlew".into(),
            boots: false,
            note: "dark".into(),
            operator: "tor".into(),
            at: OffsetDateTime::UNIX_EPOCH,
        };
        shelf.evidence = vec![seen.clone()];
        let fit = shelf.fit(&shelf.releases[2], &small);
        assert_eq!(
            fit,
            Fit {
                fits: false,
                reasons: vec!["did not boot on curlew, noted on 1970-01-01 by tor: dark".into()],
            }
        );
        assert!(shelf.followed(&small).is_none(), "and it is not offered");
        // Whoever looked last is believed.
        seen.boots = true;
        shelf.evidence.insert(0, seen);
        assert!(shelf.fit(&shelf.releases[2], &small).fits);
        let mut other = device("kiosk", "curlew", None);
        other.appliance = "toolpost".into();
        other.variant = Some("street".into());
        let fit = shelf.fit(&shelf.releases[2], &other);
        assert_eq!(
            fit.reasons[..2],
            [
                "it is quaylink, kiosk becomes toolpost".to_owned(),
                "it is for no variant, kiosk is set up for variant street".to_owned(),
            ]
        );
    }

    #[test]
    fn choices_begin_with_what_it_gets_and_end_with_what_does_not_suit() {
        let shelf = shelf();
        let choices = shelf.choices(&device("quay-01", "curlew", None));
        let order: Vec<_> = choices
            .iter()
            .map(|choice| (choice.release.as_str(), choice.followed, choice.fits))
            .collect();
        assert_eq!(
            order,
            [
                ("quaylink 2.8", true, true),
                ("quaylink 2.9", false, true),
                ("quaylink 2.7", false, true),
                ("quaylink 2.10", false, false),
            ]
        );
        assert_eq!(choices[2].reasons, ["it was withdrawn"]);
    }

    #[test]
    fn a_card_is_level_behind_or_ahead_of_what_its_device_follows() {
        let mut shelf = shelf();
        let carrier = |device: &str, version: &str| Carrier {
            release: format!("quaylink {version}"),
            device: Some(device.into()),
            carried: true,
            card: "C-0001".into(),
            imprint: 1,
            written_at: None,
        };
        shelf.carriers = vec![
            carrier("old", "2.7"),
            carrier("even", "2.8"),
            carrier("eager", "2.9"),
        ];
        shelf.carried = [("old", 0), ("even", 1), ("eager", 2)]
            .map(|(name, at)| (name.into(), at))
            .into();
        for (name, standing, withdrawn) in [
            ("old", "behind", true),
            ("even", "level", false),
            ("eager", "ahead", false),
            ("bare", "no card", false),
        ] {
            let found = shelf.standing(&device(name, "curlew", None));
            assert_eq!(
                (found.standing.as_str(), found.withdrawn),
                (standing, withdrawn),
                "{name}"
            );
        }
        let lines = shelf.lines(&[
            device("old", "curlew", None),
            device("even", "curlew", None),
        ]);
        assert_eq!((lines.len(), lines[0].devices, lines[0].behind), (1, 2, 1));
        assert_eq!(lines[0].newest.as_deref(), Some("quaylink 2.10"));
    }
}
