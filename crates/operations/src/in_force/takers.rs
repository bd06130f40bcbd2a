//! Whom a preset touches.

use std::collections::{BTreeSet, HashMap};

use records::devices::{Device, Group, OwnFields, OwnFieldsOf};
use records::lists::{Asked, MOST, Page};
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
        let of = OwnFieldsOf {
            site,
            ..OwnFieldsOf::default()
        };
        let rows = self.records.own_fields(&of).await?;
        self.takers_among(&mut Finder::new(team, presets), rows)
            .await
    }

    /// One page of the devices that take values from a preset, by name, with a text in it if one is looked for. A
    /// preset of the whole team touches thousands: no more of them are read than the page takes.
    pub async fn takers_page(
        &self,
        team: &Team,
        preset: &Preset,
        search: Option<&str>,
        asked: &Asked,
    ) -> Result<Page<Taker>, Refusal> {
        let limit = asked.limit.clamp(1, MOST) as usize;
        let presets = [preset];
        let mut finder = Finder::new(team, &presets);
        let all = OwnFieldsOf {
            site: preset.site.as_deref(),
            search,
            ..OwnFieldsOf::default()
        };
        let (mut found, mut after) = (Vec::new(), asked.after.clone());
        loop {
            let of = OwnFieldsOf {
                after: after.as_deref(),
                // Those that a text was found in are counted here, since no group of them is known.
                most: search.is_none().then_some(MOST),
                ..all
            };
            let rows = self.records.own_fields(&of).await?;
            let more = of.most.is_some_and(|most| rows.len() as i64 == most);
            after = rows.last().map(|row| row.name.clone());
            found.extend(self.takers_among(&mut finder, rows).await?);
            if !more || found.len() > limit {
                break;
            }
        }
        let total = match (search, &asked.after) {
            (None, _) => {
                let counts = self.taker_counts(team, &presets).await?;
                counts.get(&preset.id).copied().unwrap_or(0) as i64
            }
            (Some(_), None) => found.len() as i64,
            (Some(_), Some(_)) => {
                let rows = self.records.own_fields(&all).await?;
                self.takers_among(&mut finder, rows).await?.len() as i64
            }
        };
        let more = found.len() > limit;
        found.truncate(limit);
        let next = found.last().filter(|_| more).map(|last| last.name.clone());
        Ok(Page {
            items: found,
            next,
            total,
        })
    }

    /// Those among some devices that take values from the presets that the finder looks for.
    async fn takers_among(
        &self,
        finder: &mut Finder<'_>,
        rows: Vec<OwnFields>,
    ) -> Result<Vec<Taker>, Refusal> {
        let (mut found, mut unsure) = (Vec::new(), BTreeSet::new());
        for row in rows {
            finder.look(row, &mut found, &mut unsure);
        }
        let unsure: Vec<_> = unsure.into_iter().collect();
        self.keep_what_counts(finder.team, &mut found, &unsure)
            .await?;
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

/// Tells of each device what it takes from some presets, by what is set on it itself.
struct Finder<'a> {
    team: &'a Team,
    presets: &'a [&'a Preset],
    /// What presets give on a site with a release, told once for all devices there.
    given: HashMap<(String, i64), Given>,
}

impl<'a> Finder<'a> {
    fn new(team: &'a Team, presets: &'a [&'a Preset]) -> Self {
        Self {
            team,
            presets,
            given: HashMap::new(),
        }
    }

    /// Adds what a device takes to `found`, and its number to `unsure` where that depends on a condition.
    fn look(&mut self, row: OwnFields, found: &mut Vec<Taker>, unsure: &mut BTreeSet<i64>) {
        let (team, shelf) = (self.team, &self.team.shelf);
        let Some(release) = shelf.followed_by(&kind_of(&row), row.pinned_release_id) else {
            return;
        };
        let key = (row.site.clone(), release.id);
        let given = match self.given.get(&key) {
            Some(given) => given,
            None => {
                let fields = match shelf.sheet(release) {
                    Ok(sheet) => given_on(team, &row.site, &sheet),
                    Err(_) => Vec::new(),
                };
                self.given.entry(key).or_insert(fields)
            }
        };
        let mut of_device: HashMap<i64, Vec<String>> = HashMap::new();
        for (preset, field, conditional) in given {
            let wanted = self.presets.iter().any(|one| one.id == *preset);
            if !wanted || row.fields.contains(field) {
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
