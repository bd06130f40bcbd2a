//! Presets and their values, opened and at hand.

use std::collections::{BTreeSet, HashMap};

use records::devices::OwnedSetting;
use records::presets::Preset;
use settings::Settings;
use vault::Keys;

use super::{of_preset, open};
use crate::refusal::Refusal;

/// The presets of the team by name, with their values. They do not change; when one does, others are
/// made.
#[derive(Clone)]
pub struct Presets {
    all: Vec<(Preset, Settings)>,
    /// Names of what was set as a secret in each. It stays one, whatever a sheet calls it now.
    sealed: HashMap<i64, BTreeSet<String>>,
    /// Places in `all` by site; those of the whole team under none.
    places: HashMap<Option<String>, Vec<usize>>,
}

impl Presets {
    /// Opens their secrets.
    pub(super) fn open(
        keys: &Keys,
        rows: Vec<Preset>,
        values: Vec<OwnedSetting>,
    ) -> Result<Self, Refusal> {
        let mut by_id: HashMap<i64, Settings> = HashMap::new();
        let mut sealed: HashMap<i64, BTreeSet<String>> = HashMap::new();
        for one in values {
            let (owner, field) = (one.owner, one.field.clone());
            if one.sealed.is_some() {
                sealed.entry(owner).or_default().insert(field.clone());
            }
            let value = open(keys, &of_preset(owner, &field), one.setting())?;
            by_id.entry(owner).or_default().insert(field, value);
        }
        let mut places: HashMap<Option<String>, Vec<usize>> = HashMap::new();
        for (place, preset) in rows.iter().enumerate() {
            places.entry(preset.site.clone()).or_default().push(place);
        }
        let with_values = |preset: Preset| {
            let values = by_id.remove(&preset.id).unwrap_or_default();
            (preset, values)
        };
        Ok(Self {
            all: rows.into_iter().map(with_values).collect(),
            sealed,
            places,
        })
    }

    /// All of them, by name.
    pub fn all(&self) -> &[(Preset, Settings)] {
        &self.all
    }

    /// One by name.
    pub fn find(&self, name: &str) -> Result<&(Preset, Settings), Refusal> {
        let found = self.all.iter().find(|(preset, _)| preset.name == name);
        found.ok_or_else(|| Refusal::missing(format!("there is no preset {name:?}")))
    }

    /// Those that a device on a site gets, nearest first: those of the site, those of the team.
    pub fn of(&self, site: &str) -> impl Iterator<Item = &(Preset, Settings)> {
        let at = |site: Option<String>| self.places.get(&site).map_or(&[][..], Vec::as_slice);
        let places = at(Some(site.into())).iter().chain(at(None));
        places.filter_map(|place| self.all.get(*place))
    }

    /// The one that gives a field its value on a site, where the device does not set it itself.
    pub fn giving(&self, site: &str, field: &str) -> Option<&Preset> {
        let found = self.of(site).find(|(_, values)| values.contains_key(field));
        found.map(|(preset, _)| preset)
    }

    /// Names of what was set as a secret in a preset.
    pub fn sealed_in(&self, preset: i64) -> &BTreeSet<String> {
        static NONE: BTreeSet<String> = BTreeSet::new();
        self.sealed.get(&preset).unwrap_or(&NONE)
    }

    /// The same with other values in one preset.
    pub fn suppose(&self, preset: i64, values: Settings) -> Self {
        let mut other = self.clone();
        if let Some(found) = other.all.iter_mut().find(|(one, _)| one.id == preset) {
            found.1 = values;
        }
        other
    }
}
