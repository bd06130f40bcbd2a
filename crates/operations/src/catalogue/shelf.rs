//! The shelf: everything about releases that answers are made of, at hand in memory.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex};

use api::Standing;
use records::boards::BoardModel;
use records::devices::Device;
use records::releases::{Carried, Current, Evidence, Release};
use settings::{Sheet, compare_versions};
use time::macros::format_description;

use crate::refusal::Refusal;
use crate::shown;

/// What decides which release counts for a device that stays with none.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Kind {
    /// Appliance that it becomes.
    pub appliance: String,
    /// Variant of it.
    pub variant: Option<String>,
    /// Board model.
    pub board: String,
}

impl Kind {
    /// That of a device.
    pub fn of(device: &Device) -> Self {
        Self {
            appliance: device.appliance.clone(),
            variant: device.variant.clone(),
            board: device.board.clone(),
        }
    }
}

/// Everything about releases that answers are made of. It does not change; when the catalogue does,
/// another one is made.
pub struct Shelf {
    /// Newest version first.
    pub releases: Vec<Release>,
    /// Which release is current where, now and before.
    pub currents: Vec<Current>,
    /// What was seen at the bench.
    pub evidence: Vec<Evidence>,
    boards: BTreeMap<String, BoardModel>,
    /// Architectures found in each release.
    architectures: HashMap<i64, Vec<String>>,
    /// Index into `releases` by number.
    places: HashMap<i64, usize>,
    /// Sheets that were read already, by release and revision: many devices follow one release.
    sheets: Mutex<HashMap<(i64, i32), Arc<Sheet>>>,
    /// The release that counts for a kind of device, as far as it was asked for.
    counts_for: Mutex<HashMap<Kind, Option<i64>>>,
}

/// Whether a release suits a device, and what is known about that.
#[derive(Debug, PartialEq, Eq)]
pub struct Fit {
    /// Whether it does.
    pub fits: bool,
    /// Why not, or what speaks for it.
    pub reasons: Vec<String>,
}

impl Shelf {
    /// The shelf with these on it.
    pub fn new(
        mut releases: Vec<Release>,
        currents: Vec<Current>,
        evidence: Vec<Evidence>,
        boards: Vec<BoardModel>,
    ) -> Self {
        // Releases of one version stay in the order in which they were added, newest first.
        releases.sort_by(|a, b| compare_versions(&b.version, &a.version));
        let places = releases.iter().enumerate();
        Self {
            architectures: releases
                .iter()
                .map(|release| (release.id, shown::inspection_of(release).architectures))
                .collect(),
            places: places.map(|(place, release)| (release.id, place)).collect(),
            releases,
            currents,
            evidence,
            boards: boards
                .into_iter()
                .map(|board| (board.name.clone(), board))
                .collect(),
            sheets: Mutex::default(),
            counts_for: Mutex::default(),
        }
    }

    /// A release with where it is current and how many carry it.
    pub fn release(&self, row: &Release, carried: Carried) -> api::Release {
        api::Release {
            name: row.name.clone(),
            appliance: row.appliance.clone(),
            variant: row.variant.clone(),
            version: row.version.clone(),
            dated: row.dated.clone(),
            boards: row.boards.clone(),
            state: row.state.clone(),
            source: row.source.clone(),
            packing: row.packing.clone(),
            packed_size: row.packed_size as u64,
            packed_sha256: hex::encode(&row.packed_sha256),
            raw_size: row.raw_size as u64,
            raw_sha256: hex::encode(&row.raw_sha256),
            content: row.content as u64,
            smallest_card: row.smallest_card as u64,
            stored: row.stored as u64,
            current_for: self.current_for(&row.name),
            devices: carried.devices as u32,
            added_by: row.added_by.clone(),
            added_at: row.added_at,
        }
    }

    /// The sheet of a release, read once.
    pub fn sheet(&self, release: &Release) -> Result<Arc<Sheet>, Refusal> {
        // A text may have been revised since: the revision belongs to what is kept.
        let key = (release.id, release.sheet_revision);
        let mut sheets = self.sheets.lock().unwrap_or_else(|e| e.into_inner());
        if let Some(sheet) = sheets.get(&key) {
            return Ok(sheet.clone());
        }
        let sheet = Arc::new(shown::sheet(release)?);
        sheets.insert(key, sheet.clone());
        Ok(sheet)
    }

    fn of_line<'a, 'k>(
        &'a self,
        appliance: &'k str,
        variant: Option<&'k str>,
    ) -> impl Iterator<Item = &'a Release> + use<'a, 'k> {
        self.releases.iter().filter(move |release| {
            release.appliance == appliance && release.variant.as_deref() == variant
        })
    }

    /// A release by name.
    pub fn find(&self, name: &str) -> Option<&Release> {
        self.releases.iter().find(|release| release.name == name)
    }

    /// A release by number.
    pub fn by_id(&self, id: i64) -> Option<&Release> {
        self.places
            .get(&id)
            .and_then(|place| self.releases.get(*place))
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
    fn current(&self, kind: &Kind) -> Option<&Release> {
        let variant = kind.variant.as_deref().unwrap_or("");
        let current = self.currents.iter().find(|current| {
            current.until_at.is_none()
                && current.appliance == kind.appliance
                && current.variant == variant
                && current.board == kind.board
        })?;
        self.find(&current.release)
    }

    /// What a device follows: its pinned release, else what counts for its kind.
    pub fn followed(&self, device: &Device) -> Option<&Release> {
        self.followed_by(&Kind::of(device), device.pinned_release_id)
    }

    /// What devices of a kind follow: the release that they stay with, else the current one, else the
    /// newest that is released and suits them.
    pub fn followed_by(&self, kind: &Kind, pinned: Option<i64>) -> Option<&Release> {
        if let Some(pinned) = pinned {
            return self.by_id(pinned);
        }
        let mut counts_for = self.counts_for.lock().unwrap_or_else(|e| e.into_inner());
        if let Some(found) = counts_for.get(kind) {
            return found.and_then(|id| self.by_id(id));
        }
        let found = self.current(kind).or_else(|| {
            self.of_line(&kind.appliance, kind.variant.as_deref())
                .find(|release| {
                    release.state == "released" && self.fit_kind(release, kind, "it").fits
                })
        });
        counts_for.insert(kind.clone(), found.map(|release| release.id));
        found
    }

    /// The newest released version of a line.
    pub fn newest(&self, appliance: &str, variant: Option<&str>) -> Option<&Release> {
        self.of_line(appliance, variant)
            .find(|release| release.state == "released")
    }

    /// Whether a release suits a device by its sheet, by the architecture found in it, and by what
    /// was seen at the bench.
    pub fn fit(&self, release: &Release, device: &Device) -> Fit {
        self.fit_kind(release, &Kind::of(device), &device.name)
    }

    fn fit_kind(&self, release: &Release, device: &Kind, name: &str) -> Fit {
        let mut against = Vec::new();
        let mut reasons = Vec::new();
        if release.appliance != device.appliance {
            against.push(format!(
                "it is {}, {} becomes {}",
                release.appliance, name, device.appliance
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
                name,
                word(&device.variant)
            ));
        }
        if !release.boards.contains(&device.board) {
            against.push(format!(
                "its sheet names {}, {} is a {}",
                release.boards.join(", "),
                name,
                device.board
            ));
        }
        // A release of another appliance may not stand on this shelf.
        let found = match self.architectures.get(&release.id) {
            Some(found) => found.clone(),
            None => shown::inspection_of(release).architectures,
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
        if let Some(seen) = self.seen_at_bench(release, &device.board) {
            match seen.boots {
                true => reasons.push(evidence_words(seen)),
                false => against.push(evidence_words(seen)),
            }
        }
        let fits = against.is_empty();
        against.append(&mut reasons);
        Fit {
            fits,
            reasons: against,
        }
    }

    /// What was noted last of a release on a board model.
    fn seen_at_bench(&self, release: &Release, board: &str) -> Option<&Evidence> {
        let mut seen = self.evidence.iter();
        seen.find(|seen| seen.release == release.name && seen.board == board)
    }

    /// That a release did not boot on a board model, when and by whom that was noted; nothing where it did, or
    /// nobody noted anything.
    pub fn did_not_boot(&self, release: &Release, board: &str) -> Option<String> {
        let seen = self.seen_at_bench(release, board);
        seen.filter(|seen| !seen.boots).map(evidence_words)
    }

    /// All releases of a device's appliance as choices, those that it can get first.
    pub fn choices(&self, device: &Device) -> Vec<api::Choice> {
        let followed = self.followed(device).map(|release| release.id);
        let current = self.current(&Kind::of(device)).map(|release| release.id);
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

    /// The catalogue by appliance and variant; of these devices, with how each stands.
    pub fn lines(
        &self,
        devices: &[(&Device, Standing)],
        carried: &HashMap<i64, Carried>,
    ) -> Vec<api::Line> {
        let mut keys: Vec<_> = self
            .releases
            .iter()
            .map(|release| (release.appliance.clone(), release.variant.clone()))
            .collect();
        keys.sort();
        keys.dedup();
        keys.into_iter()
            .map(|(appliance, variant)| {
                let own = devices.iter().filter(|(device, _)| {
                    device.appliance == appliance && device.variant == variant
                });
                let to_write = own.clone().filter(|(_, one)| one.needs_a_write()).count();
                let devices = own.count();
                let currents = self.currents.iter().filter(|current| {
                    current.until_at.is_none()
                        && current.appliance == appliance
                        && current.variant == variant.as_deref().unwrap_or("")
                });
                api::Line {
                    newest: self
                        .newest(&appliance, variant.as_deref())
                        .map(|release| release.name.clone()),
                    currents: currents.map(shown::current).collect(),
                    releases: self
                        .of_line(&appliance, variant.as_deref())
                        .map(|row| {
                            self.release(row, carried.get(&row.id).copied().unwrap_or_default())
                        })
                        .collect(),
                    devices: devices as u32,
                    to_write: to_write as u32,
                    appliance: appliance.clone(),
                    variant: variant.clone(),
                }
            })
            .collect()
    }
}

/// Whether what a board says of itself is the version of a release, or its name.
pub fn is_said_by(said: &str, name: &str, version: &str) -> bool {
    let said = said.trim().to_lowercase();
    [version, name].iter().any(|one| one.to_lowercase() == said)
}

/// What somebody noted at the bench, as the end of a sentence.
fn evidence_words(seen: &Evidence) -> String {
    let day = seen
        .at
        .format(format_description!("[year]-[month]-[day]"))
        .unwrap_or_default();
    let note = match seen.note.as_str() {
        "" => String::new(),
        note => format!(": {note}"),
    };
    let words = if seen.boots { "boots" } else { "did not boot" };
    format!(
        "{words} on {}, noted on {day} by {}{note}",
        seen.board, seen.operator
    )
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use serde_json::json;
    use time::OffsetDateTime;

    fn board(name: &str, architecture: &str) -> BoardModel {
        BoardModel {
            name: name.into(),
            title: name.into(),
            architecture: architecture.into(),
            memory_mb: None,
            ports: String::new(),
            power: String::new(),
            lamps: String::new(),
            boot_minutes: None,
            card_sits: String::new(),
            lamp_table: serde_json::Value::Null,
        }
    }

    pub(crate) fn release(
        id: i64,
        version: &str,
        state: &str,
        boards: &[&str],
        programs: &[&str],
    ) -> Release {
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

    pub(crate) fn device(name: &str, board: &str, pinned: Option<i64>) -> Device {
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
            pinned_release_id: pinned,
            pinned: None,
            carried_release_id: None,
            runs_release_id: None,
            imprint_id: None,
            seen_version: None,
            card_bytes: None,
            revision: 1,
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
    pub(crate) fn shelf() -> Shelf {
        let both = ["plover", "curlew"];
        let releases = vec![
            release(4, "2.10", "released", &["plover"], &["arm64"]),
            release(3, "2.9", "draft", &both, &["armhf"]),
            release(2, "2.8", "released", &both, &["armhf"]),
            release(1, "2.7", "withdrawn", &both, &["armhf"]),
        ];
        Shelf::new(
            releases,
            Vec::new(),
            Vec::new(),
            vec![board("plover", "arm64"), board("curlew", "armhf")],
        )
    }

    /// The same with other evidence or currents: what was answered before does not count.
    pub(crate) fn again(shelf: Shelf) -> Shelf {
        let boards = shelf.boards.into_values().collect();
        Shelf::new(shelf.releases, shelf.currents, shelf.evidence, boards)
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
        let mut shelf = again(shelf);
        assert_eq!(followed(&shelf, &big).as_deref(), Some("2.8"));
        let pinned = device("c", "plover", Some(1));
        assert_eq!(followed(&shelf, &pinned).as_deref(), Some("2.7"));
        shelf.currents[0].until_at = Some(OffsetDateTime::UNIX_EPOCH);
        let shelf = again(shelf);
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
        let mut shelf = again(shelf);
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
}
