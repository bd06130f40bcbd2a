//! Values that only one device may have: the database finds who could have the same, the rules of the
//! settings say who does.

use std::collections::HashMap;

use records::devices::Device;
use settings::{Claimed, Effective, Field, FieldKind, Owned, Problem};

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
        beside.sort_by(|a, b| a.name.cmp(&b.name));
        let claimed = Beside::new(&theirs, &beside).claimed;
        let found = devices.iter().flat_map(|(device, counted)| {
            problems(&claimed, device, counted).map(|problem| (device.id, problem))
        });
        Ok(found.collect())
    }
}

/// The values of a device that must be the only ones.
fn claimed(counted: &Counted) -> impl Iterator<Item = (&Field, &Effective)> {
    let pairs = counted.fields.iter().zip(&counted.values);
    pairs.filter(|(field, one)| claims(field) && one.value.is_some())
}

/// All devices of a team at once, each of which can be held against the others.
pub struct Beside<'a> {
    counted: HashMap<i64, Counted>,
    claimed: Claimed<'a>,
}

impl<'a> Beside<'a> {
    /// Counts what is set on each; takes a while for thousands.
    pub fn new(team: &Team, devices: &'a [Device]) -> Self {
        let (mut counted, mut claimed) = (HashMap::new(), Claimed::default());
        for device in devices.iter().filter(|device| device.state != "retired") {
            let release = team.shelf.followed(device);
            let Some(sheet) = release.and_then(|release| team.shelf.sheet(release).ok()) else {
                continue;
            };
            let one = team.alone(device, &sheet.fields);
            claimed.add(&owned(device, &one));
            counted.insert(device.id, one);
        }
        Self { counted, claimed }
    }

    /// What a device has in common with others and must not.
    pub fn collisions(&self, device: &Device) -> Vec<Problem> {
        let counted = self.counted.get(&device.id);
        counted.map_or_else(Vec::new, |counted| {
            problems(&self.claimed, device, counted).collect()
        })
    }
}

fn problems(
    claimed: &Claimed<'_>,
    device: &Device,
    counted: &Counted,
) -> impl Iterator<Item = Problem> + use<> {
    let found = claimed.collisions(&owned(device, counted)).into_iter();
    found.map(|one| Problem {
        field: one.field,
        rule: one.rule,
    })
}

/// A device as the rules see it.
fn owned<'a, 'v>(device: &'a Device, counted: &'v Counted) -> Owned<'a, 'v>
where
    'a: 'v,
{
    Owned {
        device: &device.name,
        site: &device.site,
        appliance: &device.appliance,
        fields: &counted.fields,
        settings: &counted.values,
    }
}
