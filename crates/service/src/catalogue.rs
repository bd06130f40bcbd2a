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
                .map(|(at, carrier)| (carrier.device.clone(), at))
                .collect(),
            releases,
            currents: self.records.currents().await?,
            evidence: self.records.evidence().await?,
            carriers,
            boards: boards.map(|board| (board.name.clone(), board)).collect(),
        })
    }

    /// The release that a device would be written with as things stand.
    pub async fn release_for(&self, device: &Device) -> Result<Option<Release>, ApiError> {
        let shelf = self.shelf(Some(&device.appliance)).await?;
        Ok(shelf.followed(device).cloned())
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
