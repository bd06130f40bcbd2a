//! Which Wi-Fi networks are set on devices, by name and passphrase.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use records::devices::{Device, Group, OwnFieldsOf};
use records::imprints::{CarriedNetwork, Some20};
use settings::{Field, FieldKind, Sheet};

use super::takers::{kind_of, kind_of_group};
use super::{InForce, Presets, Team, recorded_settings};
use crate::catalogue::{Kind, Shelf};
use crate::refusal::Refusal;

/// A network by its name and the fingerprint of its passphrase; empty where it has none.
pub type Network = (String, String);

/// On whom each network is set.
pub type NetworksSet = BTreeMap<Network, Some20>;

/// Which networks the cards of devices carry, and of which devices that is not known.
pub struct NetworksCarried {
    /// Each network with the devices whose cards carry it.
    pub known: Vec<CarriedNetwork>,
    /// Devices of whose cards it is not known.
    pub unknown: Some20,
}

/// From what it follows what is set on devices, and how they stand: devices, presets and releases. The latter two are
/// told by the place where they are at hand, which holds on to them.
pub struct SetBy(
    pub(super) (i64, i64),
    pub(super) Arc<Presets>,
    pub(super) Arc<Shelf>,
);

impl PartialEq for SetBy {
    fn eq(&self, other: &Self) -> bool {
        self.0 == other.0 && Arc::ptr_eq(&self.1, &other.1) && Arc::ptr_eq(&self.2, &other.2)
    }
}

/// The names that are said of a longer list.
const NAMES: usize = 20;

impl InForce {
    /// On how many devices each network is set, whether their cards carry it or not.
    pub async fn networks_set(&self, team: &Team) -> Result<Arc<NetworksSet>, Refusal> {
        let (digest, groups) = self.groups().await?;
        let by = SetBy(digest, team.presets.clone(), team.shelf.clone());
        let make = async || self.count_networks(team, &groups).await;
        self.networks.from(by, make).await
    }

    /// On whose cards each network is, whether it is still set or not.
    pub async fn networks_carried(&self) -> Result<Arc<NetworksCarried>, Refusal> {
        let digest = self.records.carried_digest().await?;
        let read = async || {
            let (known, unknown) = tokio::try_join!(
                self.records.carried_networks(),
                self.records.unknown_carriers()
            )?;
            Ok(NetworksCarried { known, unknown })
        };
        self.carried.from(digest, read).await
    }

    async fn count_networks(&self, team: &Team, groups: &[Group]) -> Result<NetworksSet, Refusal> {
        let (mut names, mut conditional) = (Vec::new(), HashSet::new());
        for release in &team.shelf.releases {
            let Ok(sheet) = team.shelf.sheet(release) else {
                continue;
            };
            for (name, when) in network_fields(&sheet) {
                names.push(name.to_owned());
                if when {
                    conditional.insert(release.id);
                }
            }
        }
        names.sort_unstable();
        names.dedup();
        if names.is_empty() {
            return Ok(BTreeMap::new());
        }
        // Devices that set none of it themselves have what the presets of their site give to their
        // release: one of a group stands for all of it. Where a condition decides, none does.
        let each = |kind: &Kind, pinned: Option<i64>, fields: &[String]| {
            let release = team.shelf.followed_by(kind, pinned);
            fields.iter().any(|field| names.contains(field))
                || release.is_some_and(|release| conditional.contains(&release.id))
        };
        let (mut alike, mut some_alone) = (Vec::new(), false);
        for group in groups {
            match each(
                &kind_of_group(group),
                group.pinned_release_id,
                &group.fields,
            ) {
                true => some_alone = true,
                false => alike.push(group),
            }
        }
        let mut alone = Vec::new();
        if some_alone {
            let rows = self
                .records
                .own_fields(&OwnFieldsOf::default())
                .await?
                .into_iter();
            let rows = rows.filter(|row| each(&kind_of(row), row.pinned_release_id, &row.fields));
            alone.extend(rows.map(|row| row.id));
        }
        let ids: Vec<i64> = alike.iter().map(|group| group.one).chain(alone).collect();
        let own = Team {
            presets: team.presets.clone(),
            shelf: team.shelf.clone(),
            own: self.own(&ids).await?,
            salt_key: team.salt_key,
        };
        let devices = self.records.devices_of(&ids).await?;
        let keys = self.store.keys.clone();
        let seen = tokio::task::spawn_blocking(move || {
            // Nothing but networks is asked for; a condition may ask for any other field.
            let mut asked: HashMap<i64, Option<Arc<[Field]>>> = HashMap::new();
            let mut of = |device: &Device| {
                let release = own.shelf.followed(device)?;
                let fields = asked.entry(release.id).or_insert_with(|| {
                    let fields = own.shelf.sheet(release).ok()?.fields.clone();
                    if conditional.contains(&release.id) {
                        return Some(fields);
                    }
                    let named = fields.iter().filter(|field| names.contains(&field.name));
                    Some(named.cloned().collect())
                });
                let counted = own.alone(device, fields.as_ref()?);
                let now = recorded_settings(&keys, &counted.fields, &counted.values);
                Some(named_networks(&now))
            };
            let seen = devices.into_iter().filter_map(|device| {
                let networks = of(&device)?;
                Some((device.id, (device.name, networks)))
            });
            seen.collect::<HashMap<_, _>>()
        });
        let mut seen = seen
            .await
            .map_err(|e| Refusal::invalid("settings", e.to_string()))?;
        let mut found = NetworksSet::new();
        let mut add = |networks: Vec<Network>, devices: i64, names: &[String]| {
            for network in networks {
                let place = found.entry(network).or_default();
                place.total += devices;
                place.names.extend_from_slice(names);
            }
        };
        for group in alike {
            if let Some((_, networks)) = seen.remove(&group.one) {
                add(networks, group.devices, &group.names);
            }
        }
        for (name, networks) in seen.into_values() {
            add(networks, 1, &[name]);
        }
        for place in found.values_mut() {
            place.names.sort_unstable();
            place.names.truncate(NAMES);
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
