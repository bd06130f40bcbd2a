//! What counts on a device: presets and its own values, what is wrong with them, the files they
//! become, and whether its card still carries them.

mod collisions;
mod files;
mod networks;
mod presets;
mod standing;
mod takers;

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

pub use collisions::Beside;
pub use files::{
    IMAGE_GROWS, diff, growth, growth_words, lines_of, open_logins, planned_file, sheet_text,
    shrunk_words,
};
pub use presets::Presets;
use records::devices::{Change, Device, Group, Setting};
use records::releases::Release;
use records::{Changes, Records};
use settings::{Effective, Field, FieldKind, Layer, Problem, Settings, Sheet, Subject, effective};
pub use standing::{DeviceStanding, Fleet, recorded_settings};
pub use takers::Taker;
use vault::Keys;

use crate::at_hand::{AtHand, Follows};
use crate::catalogue::{Catalogue, Shelf};
use crate::refusal::Refusal;
use crate::store::Store;

/// What a secret of a device is sealed under.
pub fn of_device(device: i64, field: &str) -> String {
    format!("device/{device}/{field}")
}

/// What a secret of a preset is sealed under.
pub fn of_preset(preset: i64, field: &str) -> String {
    format!("preset/{preset}/{field}")
}

/// The presets and releases of the team, and what is set on some of its devices.
pub struct Team {
    /// The presets with their values.
    pub presets: Arc<Presets>,
    /// The releases.
    pub shelf: Arc<Shelf>,
    /// What is set on the devices that were asked for.
    own: HashMap<i64, Own>,
    salt_key: [u8; 32],
}

/// What is set on one device.
#[derive(Clone, Debug, Default)]
struct Own {
    values: Settings,
    /// Names of what was set as a secret. It stays one, whatever a sheet calls it now.
    sealed: BTreeSet<String>,
}

/// The settings that count for a device with a release.
#[derive(Clone)]
pub struct Counted {
    /// The fields of the release, shared with its sheet.
    pub fields: Arc<[Field]>,
    /// Their values, in the same order.
    pub values: Vec<Effective>,
    /// What is wrong with them.
    pub problems: Vec<Problem>,
    /// What templates may know of the device.
    pub subject: Subject,
}

/// Answers what counts on devices.
#[derive(Clone)]
pub struct InForce {
    records: Records,
    store: Arc<Store>,
    catalogue: Catalogue,
    /// The presets, until one changes.
    kept: Arc<AtHand<Presets>>,
    /// Devices that are alike, until one changes.
    groups: Arc<Follows<(i64, i64), Vec<Group>>>,
    /// Which networks are set on devices, until one of them, a preset or a release changes.
    networks: Arc<Follows<networks::SetBy, networks::NetworksSet>>,
    carried: Arc<Follows<(i64, i64), networks::NetworksCarried>>,
    /// How devices stand, each until it, a preset or a release changes.
    standings: Arc<standing::Standings>,
    /// The same of all devices that are not retired, until one of them changes.
    fleet: Arc<Follows<networks::SetBy, Fleet>>,
}

impl InForce {
    /// By these records and releases.
    pub fn new(records: Records, store: Arc<Store>, catalogue: Catalogue) -> Self {
        Self {
            records,
            store,
            catalogue,
            kept: Arc::default(),
            groups: Arc::default(),
            networks: Arc::default(),
            carried: Arc::default(),
            standings: Arc::default(),
            fleet: Arc::default(),
        }
    }

    /// What settings of these devices depend on, secrets opened.
    pub async fn team(&self, devices: &[i64]) -> Result<Team, Refusal> {
        let changes = self.records.changes().await?;
        Ok(Team {
            shelf: self.catalogue.shelf_after(changes).await?,
            presets: self.presets_after(changes).await?,
            own: self.own(devices).await?,
            salt_key: self.store.keys.salts(),
        })
    }

    /// The presets as they are after this many changes, or later ones.
    async fn presets_after(&self, changes: Changes) -> Result<Arc<Presets>, Refusal> {
        let read = async || {
            let number = self.records.changes().await?.presets;
            let rows = self.records.presets().await?;
            let values = self.records.preset_settings().await?;
            Ok((number, Presets::open(&self.store.keys, rows, values)?))
        };
        self.kept.after(changes.presets, read).await
    }

    /// The devices that are not retired, those together for which the same counts; with what that follows from.
    async fn groups(&self) -> Result<((i64, i64), Arc<Vec<Group>>), Refusal> {
        let digest = self.records.devices_digest().await?;
        let read = async || Ok(self.records.device_groups().await?);
        Ok((digest, self.groups.from(digest, read).await?))
    }

    /// What is set on these devices themselves.
    async fn own(&self, devices: &[i64]) -> Result<HashMap<i64, Own>, Refusal> {
        let rows = self.records.settings_of(devices).await?;
        let keys = self.store.keys.clone();
        // A team has thousands of secrets, and whoever asks for all of them waits for none.
        let opened = tokio::task::spawn_blocking(move || {
            let mut own: HashMap<i64, Own> = HashMap::new();
            for one in rows {
                let (device, field) = (one.owner, one.field.clone());
                let of = own.entry(device).or_default();
                if one.sealed.is_some() {
                    of.sealed.insert(field.clone());
                }
                let value = open(&keys, &of_device(device, &field), one.setting())?;
                of.values.insert(field, value);
            }
            Ok(own)
        });
        opened
            .await
            .map_err(|e| Refusal::invalid("settings", e.to_string()))?
    }

    /// What counts for a device with a sheet, and everything that is wrong with it, also beside
    /// other devices.
    pub async fn count(
        &self,
        team: &Team,
        device: &Device,
        sheet: &Sheet,
    ) -> Result<Counted, Refusal> {
        let mut counted = team.alone(device, &sheet.fields);
        let found = self.collisions(team, &[(device, &counted)]).await?;
        counted
            .problems
            .extend(found.into_iter().map(|(_, problem)| problem));
        Ok(counted)
    }

    /// What counts for a device with the release that it follows; nothing where there is none.
    pub async fn count_followed(
        &self,
        team: &Team,
        device: &Device,
    ) -> Result<Option<(Release, Arc<Sheet>, Counted)>, Refusal> {
        let Some(release) = team.shelf.followed(device) else {
            return Ok(None);
        };
        let sheet = team.shelf.sheet(release)?;
        let counted = self.count(team, device, &sheet).await?;
        Ok(Some((release.clone(), sheet, counted)))
    }
}

fn open(keys: &Keys, sealed_under: &str, setting: Setting) -> Result<String, Refusal> {
    match (setting.value, setting.sealed) {
        (Some(value), _) => Ok(value),
        (None, Some(sealed)) => Ok(keys.open_secret(sealed_under, &sealed)?),
        (None, None) => Ok(String::new()),
    }
}

/// What becomes of a field of a device, its value checked and sealed where it is a secret, or was set
/// as one before (`sealed`), whatever the sheet calls it now.
pub fn change_of(
    keys: &Keys,
    device: &Device,
    field: &Field,
    value: String,
    sealed: bool,
) -> Result<Change, Refusal> {
    let (name, label) = (&device.name, &field.label);
    field
        .check(&value)
        .map_err(|why| Refusal::invalid("bad-value", format!("device {name}, {label}: {why}")))?;
    Ok(match field.kind {
        FieldKind::HostName => Change::HostName(value),
        kind if kind.is_secret() || sealed => {
            Change::Sealed(keys.seal_secret(&of_device(device.id, &field.name), &value)?)
        }
        _ => Change::Plain(value),
    })
}

impl Team {
    /// The values set on a device itself.
    pub fn own(&self, device: &Device) -> Settings {
        self.own
            .get(&device.id)
            .map(|own| own.values.clone())
            .unwrap_or_default()
    }

    /// Names of what was set as a secret on a device.
    pub fn sealed_on(&self, device: i64) -> BTreeSet<String> {
        self.own
            .get(&device)
            .map(|own| own.sealed.clone())
            .unwrap_or_default()
    }

    /// Puts other values in place of those of a device, to see what would come of them.
    pub fn suppose_own(&mut self, device: &Device, values: Settings) {
        self.own.entry(device.id).or_default().values = values;
    }

    /// The same team with other presets, to see what would come of them.
    pub fn suppose_presets(&mut self, presets: Presets) {
        self.presets = Arc::new(presets);
    }

    fn layers<'a>(&'a self, device: &'a Device) -> Vec<Layer<'a>> {
        let presets = self.presets.of(&device.site).map(|(preset, values)| {
            Layer::preset(&preset.name, values).sealed(self.presets.sealed_in(preset.id))
        });
        let own = self.own.get(&device.id);
        let own = own.map(|own| Layer::device(&own.values).sealed(&own.sealed));
        own.into_iter().chain(presets).collect()
    }

    /// What counts for a device with the fields of a sheet, without a look at other devices.
    pub fn alone(&self, device: &Device, fields: &Arc<[Field]>) -> Counted {
        let subject = Subject {
            device: device.name.clone(),
            board: device.board.clone(),
            site: device.site.clone(),
            attached: device.attached.clone(),
            salt_key: self.salt_key,
        };
        let (values, problems) = effective(fields, &self.layers(device), &subject);
        Counted {
            fields: fields.clone(),
            values,
            problems,
            subject,
        }
    }
}
