//! Whom a preset touches.

use std::collections::{BTreeSet, HashMap};

use records::devices::{Device, Group, OwnFields};
use records::presets::Preset;
use settings::Sheet;

use super::{InForce, Team};
use crate::catalogue::Kind;
use crate::refusal::Refusal;

/// A device that takes values from a preset.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Taker {
    /// Number of the preset.
    pub preset: i64,
    /// Number of the device.
    pub device: i64,
    /// Its name.
    pub name: String,
    /// Fields that it takes, in the order of its release.
    pub fields: Vec<String>,
}

/// Fields that presets give on a site to devices that follow a release, and whether each counts under
/// a condition only.
type Given = Vec<(i64, String, bool)>;

impl InForce {
    /// How many devices take values from each of these presets.
    pub async fn taker_counts(
        &self,
        team: &Team,
        presets: &[&Preset],
    ) -> Result<HashMap<i64, u64>, Refusal> {
        let mut counts: HashMap<i64, u64> = HashMap::new();
        let mut given: HashMap<(String, i64), Given> = HashMap::new();
        for group in self.groups().await?.1.iter() {
            let kind = kind_of_group(group);
            let Some(release) = team.shelf.followed_by(&kind, group.pinned_release_id) else {
                continue;
            };
            let Ok(sheet) = team.shelf.sheet(release) else {
                continue;
            };
            let fields = given
                .entry((group.site.clone(), release.id))
                .or_insert_with(|| given_on(team, &group.site, &sheet));
            let open = fields
                .iter()
                .filter(|(_, field, _)| !group.fields.contains(field));
            let mut takes: Vec<i64> = Vec::new();
            for (preset, _, conditional) in open {
                if *conditional {
                    // Whether a condition holds is told of each device alone.
                    return self.counts_one_by_one(team, presets).await;
                }
                if !takes.contains(preset) {
                    takes.push(*preset);
                }
            }
            for preset in takes {
                *counts.entry(preset).or_default() += group.devices as u64;
            }
        }
        Ok(counts)
    }

    async fn counts_one_by_one(
        &self,
        team: &Team,
        presets: &[&Preset],
    ) -> Result<HashMap<i64, u64>, Refusal> {
        let mut counts = HashMap::new();
        for taker in self.takers(team, presets).await? {
            *counts.entry(taker.preset).or_default() += 1;
        }
        Ok(counts)
    }

    /// The devices that take values from these presets, by name. Only which fields are set on each
    /// device is read, not what they hold.
    pub async fn takers(&self, team: &Team, presets: &[&Preset]) -> Result<Vec<Taker>, Refusal> {
        let sites: Vec<_> = presets
            .iter()
            .map(|preset| preset.site.as_deref())
            .collect();
        let site = match sites.as_slice() {
            [first, rest @ ..] if rest.iter().all(|one| one == first) => *first,
            _ => None,
        };
        let rows = self.records.own_fields(site, &[]).await?;
        let wanted = |id: i64| presets.iter().any(|preset| preset.id == id);
        let mut given: HashMap<(String, i64), Given> = HashMap::new();
        let (mut found, mut unsure) = (Vec::new(), BTreeSet::new());
        for row in rows {
            let Some(release) = team
                .shelf
                .followed_by(&kind_of(&row), row.pinned_release_id)
            else {
                continue;
            };
            let key = (row.site.clone(), release.id);
            let given = match given.get(&key) {
                Some(given) => given,
                None => {
                    let fields = match team.shelf.sheet(release) {
                        Ok(sheet) => given_on(team, &row.site, &sheet),
                        Err(_) => Vec::new(),
                    };
                    given.entry(key).or_insert(fields)
                }
            };
            let mut of_device: HashMap<i64, Vec<String>> = HashMap::new();
            for (preset, field, conditional) in given {
                if !wanted(*preset) || row.fields.contains(field) {
                    continue;
                }
                of_device.entry(*preset).or_default().push(field.clone());
                if *conditional {
                    unsure.insert(row.id);
                }
            }
            for (preset, fields) in of_device {
                found.push(Taker {
                    preset,
                    device: row.id,
                    name: row.name.clone(),
                    fields,
                });
            }
        }
        let unsure: Vec<_> = unsure.into_iter().collect();
        self.keep_what_counts(team, &mut found, &unsure).await?;
        Ok(found)
    }

    /// Takes away fields whose condition does not hold on their device.
    async fn keep_what_counts(
        &self,
        team: &Team,
        found: &mut Vec<Taker>,
        unsure: &[i64],
    ) -> Result<(), Refusal> {
        if unsure.is_empty() {
            return Ok(());
        }
        let own = self.own(unsure).await?;
        let asked = Team {
            presets: team.presets.clone(),
            shelf: team.shelf.clone(),
            own,
            salt_key: team.salt_key,
        };
        let mut counts: HashMap<i64, Vec<String>> = HashMap::new();
        for device in self.records.devices_of(unsure).await? {
            counts.insert(device.id, taken_by(&asked, &device));
        }
        for taker in found.iter_mut() {
            if let Some(fields) = counts.get(&taker.device) {
                taker.fields.retain(|field| fields.contains(field));
            }
        }
        found.retain(|taker| !taker.fields.is_empty());
        Ok(())
    }
}

pub(super) fn kind_of(row: &OwnFields) -> Kind {
    Kind {
        appliance: row.appliance.clone(),
        variant: row.variant.clone(),
        board: row.board.clone(),
    }
}

pub(super) fn kind_of_group(group: &Group) -> Kind {
    Kind {
        appliance: group.appliance.clone(),
        variant: group.variant.clone(),
        board: group.board.clone(),
    }
}

fn given_on(team: &Team, site: &str, sheet: &Sheet) -> Given {
    let fields = sheet.fields.iter();
    fields
        .filter_map(|field| {
            let preset = team.presets.giving(site, &field.name)?;
            Some((preset.id, field.name.clone(), field.when.is_some()))
        })
        .collect()
}

/// Fields that a device takes from presets.
fn taken_by(team: &Team, device: &Device) -> Vec<String> {
    let sheet = team
        .shelf
        .followed(device)
        .and_then(|release| team.shelf.sheet(release).ok());
    let Some(sheet) = sheet else {
        return Vec::new();
    };
    let values = team.alone(device, &sheet.fields).values.into_iter();
    values
        .filter(|one| one.preset.is_some())
        .map(|one| one.name)
        .collect()
}
