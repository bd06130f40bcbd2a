//! Which Wi-Fi networks are set on devices, by name and passphrase.

use std::collections::{BTreeMap, HashMap, HashSet};

use records::imprints::Some20;
use settings::{FieldKind, Sheet};

use super::{InForce, Team, recorded_settings};
use crate::catalogue::Kind;
use crate::refusal::Refusal;

/// A network by its name and the fingerprint of its passphrase; empty where it has none.
pub type Network = (String, String);

/// The names that are said of a longer list.
const NAMES: usize = 20;

impl InForce {
    /// On how many devices each network is set, whether their cards carry it or not.
    pub async fn networks_set(&self, team: &Team) -> Result<BTreeMap<Network, Some20>, Refusal> {
        // Devices that set none of it themselves have what the presets of their site give to their
        // release: that is found out once for each site and release.
        let mut alike: Vec<(String, (String, i64))> = Vec::new();
        let mut of_device: Vec<(String, Vec<Network>)> = Vec::new();
        let mut alone: HashSet<i64> = HashSet::new();
        let rows = self.records.own_fields(None).await?;
        // One device stands for all that are alike.
        let mut asked: HashMap<(String, i64), i64> = HashMap::new();
        for row in &rows {
            let kind = Kind {
                appliance: row.appliance.clone(),
                variant: row.variant.clone(),
                board: row.board.clone(),
            };
            let Some(release) = team.shelf.followed_by(&kind, row.pinned_release_id) else {
                continue;
            };
            let sheet = team.shelf.sheet(release)?;
            let own = network_fields(&sheet).any(|(name, conditional)| {
                conditional || row.fields.iter().any(|field| field == name)
            });
            match own {
                true => {
                    alone.insert(row.id);
                }
                false => {
                    let key = (row.site.clone(), release.id);
                    asked.entry(key.clone()).or_insert(row.id);
                    alike.push((row.name.clone(), key));
                }
            }
        }
        let ids: Vec<i64> = alone.iter().chain(asked.values()).copied().collect();
        let own = Team {
            presets: team.presets.clone(),
            shelf: team.shelf.clone(),
            own: self.own(&ids).await?,
            salt_key: team.salt_key,
        };
        let devices = self.records.devices_of(&ids).await?;
        let keys = self.store.keys.clone();
        let seen = tokio::task::spawn_blocking(move || {
            let of = |device: &records::devices::Device| {
                let release = own.shelf.followed(device)?;
                let sheet = own.shelf.sheet(release).ok()?;
                let counted = own.alone(device, &sheet.fields);
                let now = recorded_settings(&keys, &counted.fields, &counted.values);
                Some(named_networks(&now))
            };
            let seen = devices
                .iter()
                .map(|device| (device.id, device.name.clone(), of(device)));
            seen.collect::<Vec<_>>()
        });
        let seen = seen
            .await
            .map_err(|e| Refusal::invalid("settings", e.to_string()))?;
        let mut standing_for: HashMap<i64, Vec<Network>> = HashMap::new();
        for (id, name, networks) in seen {
            match alone.contains(&id) {
                true => of_device.push((name, networks.unwrap_or_default())),
                false => {
                    standing_for.insert(id, networks.unwrap_or_default());
                }
            }
        }
        for (name, key) in alike {
            let networks = asked.get(&key).and_then(|id| standing_for.get(id));
            of_device.push((name, networks.cloned().unwrap_or_default()));
        }
        of_device.sort();
        let mut found: BTreeMap<Network, Some20> = BTreeMap::new();
        for (name, networks) in of_device {
            for network in networks {
                let place = found.entry(network).or_default();
                place.total += 1;
                if place.names.len() < NAMES {
                    place.names.push(name.clone());
                }
            }
        }
        Ok(found)
    }
}

/// Fields of a sheet that networks are made of, and whether each counts under a condition only.
fn network_fields(sheet: &Sheet) -> impl Iterator<Item = (&str, bool)> {
    let of_network = |kind: FieldKind| {
        matches!(
            kind,
            FieldKind::Networks | FieldKind::NetworkName | FieldKind::Passphrase
        )
    };
    let fields = sheet
        .fields
        .iter()
        .filter(move |field| of_network(field.kind));
    fields.map(|field| (field.name.as_str(), field.when.is_some()))
}

/// The networks among settings: lists of them, or a name and the passphrase that is set with it.
fn named_networks(settings: &[api::Setting]) -> Vec<Network> {
    let mut found: Vec<_> = settings
        .iter()
        .flat_map(|one| &one.networks)
        .map(|network| {
            (
                network.name.clone(),
                network.fingerprint.clone().unwrap_or_default(),
            )
        })
        .collect();
    let of_kind = |kind: &str| {
        let one = settings.iter().find(|one| one.kind == kind)?;
        one.value.clone()
    };
    if let Some(name) = of_kind("network-name") {
        let fingerprint = of_kind("passphrase").unwrap_or_default();
        found.push((
            name,
            fingerprint.trim_start_matches("fingerprint ").to_owned(),
        ));
    }
    found.sort();
    found.dedup();
    found
}
