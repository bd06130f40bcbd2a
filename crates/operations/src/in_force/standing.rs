//! How devices stand against what they should run: the one place that tells it. Lists, filters, a device's page,
//! presets, the catalogue and what needs attention ask here.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::sync::Arc;

use api::Standing;
use records::devices::Device;
use records::imprints::Imprint;
use records::releases::Release;
use settings::{Effective, Field, compare_versions};
use tokio::sync::Mutex;
use vault::Keys;

use super::networks::SetBy;
use super::{Counted, InForce, Presets, Team};
use crate::catalogue::{Shelf, is_said_by};
use crate::refusal::Refusal;
use crate::shown;

/// Devices whose settings are read in one go.
const TOGETHER: usize = 500;

/// How a device stands, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceStanding {
    /// The most serious of what holds.
    pub standing: Standing,
    /// A sentence for each thing that holds, the most serious first.
    pub reasons: Vec<String>,
}

/// How all devices that are not retired stand.
pub struct Fleet {
    /// Each device with how it stands.
    pub devices: Vec<(Device, DeviceStanding)>,
    /// The releases that this was told by.
    pub shelf: Arc<Shelf>,
}

/// Standings as they were told of these presets and releases, each with the device that it was told of.
#[derive(Default)]
pub(super) struct Standings(Mutex<Option<Told>>);

struct Told {
    presets: Arc<Presets>,
    shelf: Arc<Shelf>,
    of: HashMap<i64, (Device, DeviceStanding)>,
}

impl InForce {
    /// How these devices stand, by their numbers, with the releases that this was told by. What has not changed
    /// since it was asked for last is at hand.
    async fn standings_of(
        &self,
        devices: &[Device],
    ) -> Result<(Arc<Shelf>, HashMap<i64, DeviceStanding>), Refusal> {
        let team = self.team(&[]).await?;
        let mut kept = self.standings.0.lock().await;
        let same = |told: &Told| {
            Arc::ptr_eq(&told.presets, &team.presets) && Arc::ptr_eq(&told.shelf, &team.shelf)
        };
        if !kept.as_ref().is_some_and(same) {
            *kept = None;
        }
        let told = kept.get_or_insert_with(|| Told {
            presets: team.presets.clone(),
            shelf: team.shelf.clone(),
            of: HashMap::new(),
        });
        let changed = devices.iter().filter(|device| {
            let before = told.of.get(&device.id);
            before.is_none_or(|(before, _)| before != *device)
        });
        let changed: Vec<_> = changed.cloned().collect();
        for some in changed.chunks(TOGETHER) {
            let found = self.tell(&team, some.to_vec()).await?;
            told.of.extend(found);
        }
        let standings = devices.iter().filter_map(|device| {
            let (_, standing) = told.of.get(&device.id)?;
            Some((device.id, standing.clone()))
        });
        Ok((team.shelf.clone(), standings.collect()))
    }

    /// These devices as people see them, in their order.
    pub async fn shown(&self, devices: Vec<Device>) -> Result<Vec<api::Device>, Refusal> {
        let (shelf, mut standings) = self.standings_of(&devices).await?;
        let all = devices.into_iter().filter_map(|device| {
            let standing = standings.remove(&device.id)?;
            Some(shown_device(&shelf, device, standing))
        });
        Ok(all.collect())
    }

    /// A device as people see it.
    pub async fn shown_one(&self, device: Device) -> Result<api::Device, Refusal> {
        let name = device.name.clone();
        let shown = self.shown(vec![device]).await?.pop();
        shown.ok_or_else(|| Refusal::missing(format!("there is no device {name:?}")))
    }

    /// How every device that is not retired stands.
    pub async fn fleet(&self) -> Result<Arc<Fleet>, Refusal> {
        let digest = self.records.fleet_digest().await?;
        let team = self.team(&[]).await?;
        let by = SetBy(digest, team.presets, team.shelf);
        let make = async || {
            let mut devices = self.records.devices().await?;
            devices.retain(|device| device.state != "retired");
            let (shelf, mut standings) = self.standings_of(&devices).await?;
            let all = devices.into_iter().filter_map(|device| {
                let standing = standings.remove(&device.id)?;
                Some((device, standing))
            });
            Ok(Fleet {
                devices: all.collect(),
                shelf,
            })
        };
        self.fleet.from(by, make).await
    }

    /// How one device stands with settings that count, or would.
    pub fn standing(
        &self,
        shelf: &Shelf,
        device: &Device,
        counted: Option<&Counted>,
        carried: Option<Imprint>,
    ) -> DeviceStanding {
        stands(&self.store.keys, shelf, device, counted, carried)
    }

    /// Works through devices: their settings and imprints are read together.
    async fn tell(
        &self,
        team: &Team,
        devices: Vec<Device>,
    ) -> Result<Vec<(i64, (Device, DeviceStanding))>, Refusal> {
        let ids: Vec<_> = devices.iter().map(|device| device.id).collect();
        let own = Team {
            presets: team.presets.clone(),
            shelf: team.shelf.clone(),
            own: self.own(&ids).await?,
            salt_key: team.salt_key,
        };
        let mut carried = self.records.carried_by(&ids).await?;
        let keys = self.store.keys.clone();
        let work = move || {
            let all = devices.into_iter().map(|device| {
                let sheet = own.shelf.followed(&device);
                let sheet = sheet.and_then(|release| own.shelf.sheet(release).ok());
                let counted = sheet.map(|sheet| own.alone(&device, &sheet.fields));
                let carried = carried.remove(&device.id);
                let standing = stands(&keys, &own.shelf, &device, counted.as_ref(), carried);
                (device.id, (device, standing))
            });
            all.collect()
        };
        tokio::task::spawn_blocking(work)
            .await
            .map_err(|e| Refusal::invalid("settings", e.to_string()))
    }
}

/// A device as people see it.
fn shown_device(shelf: &Shelf, row: Device, stands: DeviceStanding) -> api::Device {
    let carried = row.carried_release_id.and_then(|id| shelf.by_id(id));
    let updated_to = row.runs_release_id.and_then(|id| shelf.by_id(id));
    api::Device {
        follows: shelf.followed(&row).map(|release| release.name.clone()),
        carries: carried.map(|release| release.name.clone()),
        standing: stands.standing,
        reasons: stands.reasons,
        updated_to: updated_to.map(|release| release.name.clone()),
        name: row.name,
        board: row.board,
        appliance: row.appliance,
        variant: row.variant,
        site: row.site,
        notes: row.notes,
        state: row.state,
        host_name: row.host_name,
        card: row.card,
        card_state: row.card_state,
        pinned: row.pinned,
        attached: row.attached,
        macs: row.macs,
        revision: row.revision as u64,
        added_by: row.added_by,
        added_at: row.added_at,
    }
}

/// How a device stands. `counted` are the settings that count for it with the release that it follows, `carried` is
/// the imprint on its card.
fn stands(
    keys: &Keys,
    shelf: &Shelf,
    device: &Device,
    counted: Option<&Counted>,
    carried: Option<Imprint>,
) -> DeviceStanding {
    let only = |standing, reason: String| DeviceStanding {
        standing,
        reasons: vec![reason],
    };
    let (Some(card), Some(imprint)) = (&device.card, carried.map(shown::imprint)) else {
        return only(Standing::NoCard, format!("{} has no card", device.name));
    };
    match imprint.state.as_str() {
        "verified" => {}
        "writing" => {
            return only(
                Standing::Incomplete,
                format!("card {card} is being written"),
            );
        }
        "in doubt" => {
            let words = format!(
                "card {card} was being written when the service ended; put it in, and what it is will be found out"
            );
            return only(Standing::Incomplete, words);
        }
        _ => {
            let words = format!(
                "card {card} is incomplete: its last write, imprint {}, did not end well; write it again",
                imprint.id
            );
            return only(Standing::Incomplete, words);
        }
    }
    let mut all = Vec::new();
    let running = device.runs_release_id.or(device.carried_release_id);
    let running = running.and_then(|id| shelf.by_id(id));
    if let Some(running) = running {
        let of_release = of_release(shelf, device, card, running);
        all.extend(of_release);
    }
    if running.is_none() || !imprint.settings_known {
        let what = match running {
            None => "what",
            Some(_) => "which settings",
        };
        let words = format!(
            "{what} card {card} carries is not known: it was restored from {}",
            imprint.base
        );
        all.push((Standing::NotKnown, words));
    } else if let Some(counted) = counted {
        let now = recorded_settings(keys, &counted.fields, &counted.values);
        let changed = differences(&imprint.settings, &now, card).into_iter();
        all.extend(changed.map(|words| (Standing::SettingsChanged, words)));
    }
    all.sort_by_key(|(standing, _)| std::cmp::Reverse(*standing));
    DeviceStanding {
        standing: all.first().map_or(Standing::UpToDate, |(one, _)| *one),
        reasons: all.into_iter().map(|(_, words)| words).collect(),
    }
}

/// What holds of a device because of the release that it runs.
fn of_release(
    shelf: &Shelf,
    device: &Device,
    card: &str,
    running: &Release,
) -> Vec<(Standing, String)> {
    let (name, mut all) = (&device.name, Vec::new());
    if running.state == "withdrawn" {
        let words = format!("{}, which {name} runs, was withdrawn", running.name);
        all.push((Standing::Withdrawn, words));
    }
    if let Some(words) = shelf.did_not_boot(running, &device.board) {
        let words = format!("{}, which {name} runs, {words}", running.name);
        all.push((Standing::NotBooting, words));
    }
    if let Some(version) = &device.seen_version
        && !is_said_by(version, &running.name, &running.version)
    {
        let words = format!(
            "{name} says that it runs {version}, and card {card} has {}: was it updated in place? No release of {} \
             has that version",
            running.name, device.appliance
        );
        all.push((Standing::UnknownVersion, words));
    }
    let Some(followed) = shelf.followed(device) else {
        let words = format!("no release in the catalogue suits {name}");
        all.push((Standing::NoRelease, words));
        return all;
    };
    if followed.id == running.id {
        return all;
    }
    let words = match device.runs_release_id {
        Some(_) => format!(
            "{name} was updated in place to {}, and follows {}",
            running.name, followed.name
        ),
        None => format!(
            "card {card} has {}, and {name} follows {}",
            running.name, followed.name
        ),
    };
    let same_line =
        (&running.appliance, &running.variant) == (&followed.appliance, &followed.variant);
    let standing = match compare_versions(&running.version, &followed.version) {
        Ordering::Greater if same_line => Standing::NewerThanTarget,
        _ => Standing::Outdated,
    };
    all.push((standing, words));
    all
}

/// Settings for the records: a fingerprint in place of each secret.
pub fn recorded_settings(keys: &Keys, fields: &[Field], values: &[Effective]) -> Vec<api::Setting> {
    let stands_for = |secret: &str| format!("fingerprint {}", keys.fingerprint(secret));
    let pairs = fields.iter().zip(values);
    pairs
        .map(|(field, value)| shown::setting(field, Some(value), keys, &stands_for))
        .collect()
}

/// What a card carries that the settings say otherwise now, a sentence each.
fn differences(before: &[api::Setting], now: &[api::Setting], card: &str) -> Vec<String> {
    let mut found = Vec::new();
    for one in now {
        let then = before.iter().find(|other| other.name == one.name);
        let then = then.and_then(|other| other.value.as_deref());
        let label = &one.label;
        match (then, one.value.as_deref()) {
            (then, now) if then == now => {}
            (_, _)
                if one.secret
                    && one.networks.is_empty()
                    && then.is_some()
                    && one.value.is_some() =>
            {
                found.push(format!("{label} is another one now than on card {card}"));
            }
            (Some(then), Some(now)) => {
                found.push(format!("{label} is {now} now, card {card} has {then}"));
            }
            (None, Some(now)) => {
                let now = if one.secret && one.networks.is_empty() {
                    "set"
                } else {
                    now
                };
                found.push(format!("{label} is {now} now, card {card} has none"));
            }
            (Some(_), None) => {
                found.push(format!("{label} is not set any more, card {card} has it"))
            }
            (None, None) => {}
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalogue::made_up;

    fn setting(name: &str, secret: bool, value: Option<&str>) -> api::Setting {
        api::Setting {
            name: name.into(),
            label: name.into(),
            secret,
            value: value.map(Into::into),
            applies: true,
            ..api::Setting::default()
        }
    }

    fn imprint(state: &str, settings_known: bool) -> Imprint {
        Imprint {
            id: 7,
            card: "C-0001".into(),
            device: None,
            base: "quaylink 2.8".into(),
            from_backup: false,
            job_id: 1,
            slot: "1".into(),
            operator: "tor".into(),
            state: state.into(),
            settings: serde_json::json!([]),
            files: serde_json::json!([]),
            written: None,
            verified: None,
            started_at: time::OffsetDateTime::UNIX_EPOCH,
            finished_at: None,
            override_reason: None,
            accepted: Vec::new(),
            growth: None,
            left_out: Vec::new(),
            left_as: None,
            size_proven: true,
            settings_known,
            behind: None,
        }
    }

    #[test]
    fn one_standing_says_the_most_serious_and_its_reasons_say_all() {
        let shelf = made_up::shelf();
        let keys = Keys::new([7; 32]);
        let with = |carried: Option<i64>, runs: Option<i64>, said: Option<&str>| Device {
            card: Some("C-0001".into()),
            carried_release_id: carried,
            runs_release_id: runs,
            seen_version: said.map(str::to_owned),
            ..made_up::device("quay-01", "curlew", None)
        };
        let told = |device: &Device, imprint: Option<Imprint>| {
            stands(&keys, &shelf, device, None, imprint)
        };
        let whole = || Some(imprint("verified", true));
        for (device, carried, standing, reasons) in [
            (with(Some(2), None, None), whole(), Standing::UpToDate, 0),
            (
                with(Some(2), None, Some(" 2.8 ")),
                whole(),
                Standing::UpToDate,
                0,
            ),
            (
                with(Some(2), None, Some("quaylink 2.8")),
                whole(),
                Standing::UpToDate,
                0,
            ),
            (
                with(Some(2), None, Some("9.9")),
                whole(),
                Standing::UnknownVersion,
                1,
            ),
            (
                with(Some(3), None, None),
                whole(),
                Standing::NewerThanTarget,
                1,
            ),
            // Withdrawn, and older than what it follows.
            (with(Some(1), None, None), whole(), Standing::Withdrawn, 2),
            (
                with(Some(1), Some(2), Some("2.8")),
                whole(),
                Standing::UpToDate,
                0,
            ),
            (
                with(Some(2), Some(3), Some("2.9")),
                whole(),
                Standing::NewerThanTarget,
                1,
            ),
            (with(None, None, None), whole(), Standing::NotKnown, 1),
            (
                with(Some(2), None, None),
                Some(imprint("verified", false)),
                Standing::NotKnown,
                1,
            ),
            (
                with(None, None, None),
                Some(imprint("incomplete", true)),
                Standing::Incomplete,
                1,
            ),
            (
                with(None, None, None),
                Some(imprint("writing", true)),
                Standing::Incomplete,
                1,
            ),
            (
                with(None, None, None),
                Some(imprint("in doubt", true)),
                Standing::Incomplete,
                1,
            ),
            (with(None, None, None), None, Standing::NoCard, 1),
        ] {
            let found = told(&device, carried);
            assert_eq!(
                (found.standing, found.reasons.len()),
                (standing, reasons),
                "{found:?} of {device:?}"
            );
        }
    }

    #[test]
    fn what_a_card_carries_is_told_apart_from_what_is_set() {
        let then = [
            setting("host_name", false, Some("quay-03")),
            setting("passphrase", true, Some("fingerprint aa")),
            setting("country", false, Some("NO")),
            setting("same", true, Some("fingerprint cc")),
        ];
        let now = [
            setting("host_name", false, Some("quay-04")),
            setting("passphrase", true, Some("fingerprint bb")),
            setting("country", false, None),
            setting("same", true, Some("fingerprint cc")),
            setting("keys", false, Some("ssh-ed25519 A")),
            setting("never", false, None),
        ];
        assert_eq!(
            differences(&then, &now, "C-0001"),
            [
                "host_name is quay-04 now, card C-0001 has quay-03",
                "passphrase is another one now than on card C-0001",
                "country is not set any more, card C-0001 has it",
                "keys is ssh-ed25519 A now, card C-0001 has none",
            ]
        );
    }
}
