//! Answers out of the catalogue: what suits a device and why not, what is newest, current, behind.

use std::cmp::Ordering;
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex};

use imagecraft::compare::Differences;
use records::Records;
use records::boards::BoardModel;
use records::devices::Device;
use records::releases::{Carrier, Current, Evidence, Release};
use settings::compare_versions;
use time::macros::format_description;
use vault::ManifestDisk;

use crate::refusal::Refusal;
use crate::shown;
use crate::store::{Store, manifest_name};

/// Everything about releases that answers are made of, read once for each question.
pub struct Shelf {
    /// Newest version first.
    pub releases: Vec<Release>,
    /// Which release is current where, now and before.
    pub currents: Vec<Current>,
    /// What was seen at the bench.
    pub evidence: Vec<Evidence>,
    /// Cards with a release on them.
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
    /// Whether it does.
    pub fits: bool,
    /// Why not, or what speaks for it.
    pub reasons: Vec<String>,
}

/// What was found between two releases, by their numbers.
type Comparisons = HashMap<(i64, i64), Arc<Differences>>;

/// The catalogue: what is in it, and what it answers.
#[derive(Clone)]
pub struct Catalogue {
    records: Records,
    store: Arc<Store>,
    /// Comparisons of releases that were made: releases do not change.
    comparisons: Arc<Mutex<Comparisons>>,
}

/// Comparisons that are kept; releases do not change, so that each is made once.
const KEPT: usize = 32;

impl Catalogue {
    /// The catalogue of these records, its images in this store.
    pub fn new(records: Records, store: Arc<Store>) -> Self {
        Self {
            records,
            store,
            comparisons: Arc::default(),
        }
    }

    /// The image of a release as a disk. Opening and reading it block.
    pub fn disk(&self, release: &Release) -> Result<ManifestDisk, Refusal> {
        self.store.disk(manifest_name(&release.manifest)?)
    }

    /// What two releases differ in, where they were compared.
    pub fn compared(&self, a: &Release, b: &Release) -> Option<Arc<Differences>> {
        let kept = self.comparisons.lock().unwrap_or_else(|e| e.into_inner());
        kept.get(&(a.id, b.id)).cloned()
    }

    /// Keeps what two releases differ in.
    pub fn keep_comparison(&self, a: &Release, b: &Release, found: Differences) {
        let mut kept = self.comparisons.lock().unwrap_or_else(|e| e.into_inner());
        if kept.len() >= KEPT {
            kept.clear();
        }
        kept.insert((a.id, b.id), Arc::new(found));
    }

    /// The shelf of one appliance, or of all.
    pub async fn shelf(&self, appliance: Option<&str>) -> Result<Shelf, Refusal> {
        let mut releases = match appliance {
            Some(appliance) => self.records.releases_of(appliance).await?,
            None => self.records.releases().await?,
        };
        // Releases of one version stay in the order in which they were added, newest first.
        releases.sort_by(|a, b| compare_versions(&b.version, &a.version));
        let boards = self.records.boards().await?.into_iter();
        let carriers = self.records.carriers().await?;
        let found = |release: &Release| (release.id, shown::inspection_of(release).architectures);
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

    /// A release with its history, which is read here.
    pub async fn detail(&self, name: &str) -> Result<api::ReleaseDetail, Refusal> {
        let row = self.records.release(name).await?;
        let shelf = self.shelf(Some(&row.appliance)).await?;
        let sheet = shown::sheet(&row)?;
        let revisions = self.records.sheet_revisions(row.id).await?;
        let states = self.records.release_states(row.id).await?;
        let bytes = |gb: f64| (gb * 1e9) as u64;
        Ok(api::ReleaseDetail {
            release: shelf.release(&row),
            origin: serde_json::from_value(row.origin.clone()).unwrap_or_default(),
            kept: row.kept,
            table: row.table_kind.clone(),
            disk_id: row.disk_id.clone(),
            partitions: shown::list(&row.partitions),
            inspection: shown::inspection_of(&row),
            computed_card: row.computed_card as u64,
            shrunk_card: row.shrunk_card.map(|bytes| bytes as u64),
            declared_card: sheet.card.smallest_gb.map(bytes),
            advised_card: sheet.card.advised_gb.map(bytes),
            fields: sheet
                .fields
                .iter()
                .map(|field| shown::masked_setting(field, None, &self.store.keys))
                .collect(),
            notes: sheet.notes,
            licence: sheet.licence,
            links: sheet
                .links
                .into_iter()
                .map(|link| api::Link {
                    title: link.title,
                    url: link.url,
                })
                .collect(),
            logins: sheet
                .logins
                .into_iter()
                .map(|login| api::Login {
                    user: login.user,
                    password: login.password,
                    at: login.at,
                })
                .collect(),
            first_boot: api::FirstBoot {
                minutes: sheet.first_boot.minutes,
                internet: sheet.first_boot.internet,
                page: sheet.first_boot.page,
                steps: sheet.first_boot.steps,
            },
            sheet: row.sheet.clone(),
            sheet_revision: row.sheet_revision,
            revisions: revisions
                .into_iter()
                .map(|one| api::SheetRevision {
                    revision: one.revision,
                    sheet: one.sheet,
                    operator: one.operator,
                    at: one.at,
                })
                .collect(),
            states: states
                .into_iter()
                .map(|one| api::StateChange {
                    state: one.state,
                    reason: one.reason,
                    operator: one.operator,
                    at: one.at,
                })
                .collect(),
            currents: shelf
                .currents
                .iter()
                .filter(|one| one.release == row.name)
                .map(shown::current)
                .collect(),
            evidence: shelf
                .evidence
                .iter()
                .filter(|one| one.release == row.name)
                .map(|one| api::Evidence {
                    release: one.release.clone(),
                    board: one.board.clone(),
                    boots: one.boots,
                    note: one.note.clone(),
                    operator: one.operator.clone(),
                    at: one.at,
                })
                .collect(),
            carriers: shelf
                .carriers
                .iter()
                .filter(|one| one.release == row.name)
                .map(|one| api::Carrier {
                    device: one.device.clone(),
                    carried: one.carried,
                    card: one.card.clone(),
                    imprint: one.imprint,
                    written_at: one.written_at,
                })
                .collect(),
        })
    }
}

impl Shelf {
    /// A release with where it is current and who carries it.
    pub fn release(&self, row: &Release) -> api::Release {
        let carriers = self.carriers.iter();
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
            devices: carriers
                .filter(|carrier| carrier.release == row.name && carrier.carried)
                .count() as u32,
            added_by: row.added_by.clone(),
            added_at: row.added_at,
        }
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
                    currents: currents.map(shown::current).collect(),
                    releases: self
                        .of_line(&appliance, variant.as_deref())
                        .map(|release| self.release(release))
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
                .map(|release| (release.id, shown::inspection_of(release).architectures))
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
