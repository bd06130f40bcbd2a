//! Values that only one device may have: the database finds who could have the same, the rules of the
//! settings say who does.

use std::collections::HashMap;

use records::devices::Device;
use settings::{Effective, Field, FieldKind, Owned, Problem, collisions};

use super::{Counted, InForce, Taker, Team};
use crate::refusal::Refusal;

/// Devices that share a preset's value and are looked at: the first of them say enough.
const SHARING: usize = 3;

/// Whether a field's value must be the only one.
fn claims(field: &Field) -> bool {
    field.unique.is_some() || matches!(field.kind, FieldKind::HostName | FieldKind::Address)
}

/// The first word of a value in small letters, without the length of an address: as the records find
/// values by.
fn word(value: &str) -> String {
    value.split(['/', ' ']).next().unwrap_or("").to_lowercase()
}

impl InForce {
    /// What devices have in common with others and must not; each problem with the number of its
    /// device.
    pub async fn collisions(
        &self,
        team: &Team,
        devices: &[(&Device, &Counted)],
    ) -> Result<Vec<(i64, Problem)>, Refusal> {
        let (mut words, mut secrets) = (Vec::new(), Vec::new());
        let mut shared: Vec<(String, String)> = Vec::new();
        for (_, counted) in devices {
            for (field, one) in claimed(counted) {
                let value = one.value.as_deref().unwrap_or("");
                match one.secret {
                    true => secrets.push(field.name.clone()),
                    false => words.push(word(value)),
                }
                if let Some(preset) = &one.preset {
                    shared.push((preset.clone(), field.name.clone()));
                }
            }
        }
        if words.is_empty() && secrets.is_empty() {
            return Ok(Vec::new());
        }
        let mut others = self.records.devices_with_word(&words).await?;
        if !secrets.is_empty() {
            others.extend(self.records.devices_with_secret(&secrets).await?);
        }
        // Others may have the value from a preset.
        for (preset, values) in team.presets.all() {
            let sealed = team.presets.sealed_in(preset.id);
            for (field, value) in values {
                let may = match sealed.contains(field) {
                    true => secrets.contains(field),
                    false => words.contains(&word(value)),
                };
                if may {
                    shared.push((preset.name.clone(), field.clone()));
                }
            }
        }
        shared.sort();
        shared.dedup();
        if !shared.is_empty() {
            let named = |(preset, _): &(String, String)| team.presets.find(preset).ok();
            let presets: Vec<_> = shared
                .iter()
                .filter_map(named)
                .map(|(preset, _)| preset)
                .collect();
            let takers = self.takers(team, &presets).await?;
            for (preset, field) in &shared {
                let Ok((preset, _)) = team.presets.find(preset) else {
                    continue;
                };
                let takes = |one: &&Taker| one.preset == preset.id && one.fields.contains(field);
                others.extend(
                    takers
                        .iter()
                        .filter(takes)
                        .take(SHARING)
                        .map(|one| one.device),
                );
            }
        }
        others.sort_unstable();
        others.dedup();
        let only_itself =
            matches!((devices, others.as_slice()), ([(device, _)], [other]) if device.id == *other);
        if others.is_empty() || only_itself {
            return Ok(Vec::new());
        }
        let theirs = Team {
            presets: team.presets.clone(),
            shelf: team.shelf.clone(),
            own: self.own(&others).await?,
            salt_key: team.salt_key,
        };
        let mut beside = self.records.devices_of(&others).await?;
        beside.retain(|other| other.state != "retired");
        beside.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(beside_others(devices, &theirs, &beside))
    }
}

/// The values of a device that must be the only ones.
fn claimed(counted: &Counted) -> impl Iterator<Item = (&Field, &Effective)> {
    let pairs = counted.fields.iter().zip(&counted.values);
    pairs.filter(|(field, one)| claims(field) && one.value.is_some())
}

/// Devices that are looked at for one value: the first of those that have it say enough.
const ALIKE: usize = 5;

/// All devices of a team at once, each of which can be held against the others.
pub struct Beside<'a> {
    counted: HashMap<i64, (&'a Device, Counted)>,
    /// Devices by the first words of their values that must be the only ones.
    by_word: HashMap<String, Vec<i64>>,
}

impl<'a> Beside<'a> {
    /// Counts what is set on each; takes a while for thousands.
    pub fn new(team: &Team, devices: &'a [Device]) -> Self {
        let mut counted = HashMap::new();
        let mut by_word: HashMap<String, Vec<i64>> = HashMap::new();
        for device in devices.iter().filter(|device| device.state != "retired") {
            let release = team.shelf.followed(device);
            let Some(sheet) = release.and_then(|release| team.shelf.sheet(release).ok()) else {
                continue;
            };
            let one = team.alone(device, &sheet.fields);
            for (_, value) in claimed(&one) {
                let word = word(value.value.as_deref().unwrap_or(""));
                by_word.entry(word).or_default().push(device.id);
            }
            counted.insert(device.id, (device, one));
        }
        Self { counted, by_word }
    }

    /// What a device has in common with others and must not.
    pub fn collisions(&self, device: &Device) -> Vec<Problem> {
        let Some((device, counted)) = self.counted.get(&device.id) else {
            return Vec::new();
        };
        let mut others = Vec::new();
        for (_, value) in claimed(counted) {
            let word = word(value.value.as_deref().unwrap_or(""));
            let alike = self.by_word.get(&word).map_or(&[][..], Vec::as_slice);
            others.extend(alike.iter().filter(|id| **id != device.id).take(ALIKE));
        }
        others.sort_unstable();
        others.dedup();
        let listed: Vec<_> = others
            .iter()
            .filter_map(|id| self.counted.get(id))
            .map(|(other, counted)| owned(other, counted))
            .collect();
        let found = collisions(&owned(device, counted), &listed).into_iter();
        let problems = found.map(|one| Problem {
            field: one.field,
            rule: one.rule,
        });
        problems.collect()
    }
}

/// What devices have in common with some others, by the rules.
fn beside_others(
    devices: &[(&Device, &Counted)],
    theirs: &Team,
    beside: &[Device],
) -> Vec<(i64, Problem)> {
    let counted: Vec<_> = beside
        .iter()
        .filter_map(|other| {
            let release = theirs.shelf.followed(other)?;
            let sheet = theirs.shelf.sheet(release).ok()?;
            Some((other, theirs.alone(other, &sheet.fields)))
        })
        .collect();
    let listed: Vec<Owned<'_>> = counted
        .iter()
        .map(|(other, counted)| owned(other, counted))
        .collect();
    let mut found = Vec::new();
    for (device, counted) in devices {
        for one in collisions(&owned(device, counted), &listed) {
            let problem = Problem {
                field: one.field,
                rule: one.rule,
            };
            found.push((device.id, problem));
        }
    }
    found
}

/// A device as the rules see it.
fn owned<'a>(device: &'a Device, counted: &'a Counted) -> Owned<'a> {
    Owned {
        device: &device.name,
        site: &device.site,
        appliance: &device.appliance,
        fields: &counted.fields,
        settings: &counted.values,
    }
}
