//! What counts on a device: presets and its own values, what is wrong with them, the files they
//! become, and whether its card still carries them.

use std::collections::{BTreeSet, HashMap};
use std::sync::{Arc, Mutex};

use imagecraft::compose::{Change, read_base};
use imagecraft::grow::{Grown, Growth};
use imagecraft::{Disk, Layout};
use records::Records;
use records::devices::{Device, Setting};
use records::presets::Preset;
use records::releases::Release;
use settings::{
    Collision, Effective, Field, FieldKind, Grow, Laid, Layer, Owned, Problem, Settings, Sheet,
    Subject, collisions, effective, lay_out,
};
use vault::{Keys, Name};

use crate::catalogue::{Catalogue, Shelf};
use crate::refusal::Refusal;
use crate::shown;
use crate::store::Store;

/// What a secret of a device is sealed under.
pub fn of_device(device: i64, field: &str) -> String {
    format!("device/{device}/{field}")
}

/// What a secret of a preset is sealed under.
pub fn of_preset(preset: i64, field: &str) -> String {
    format!("preset/{preset}/{field}")
}

/// The devices, presets and releases of the team, read once to answer one question.
pub struct Team {
    /// The devices.
    pub devices: Vec<Device>,
    /// The presets with their values.
    pub presets: Vec<(Preset, Settings)>,
    /// The releases.
    pub shelf: Shelf,
    own: HashMap<i64, Settings>,
    /// Names of what was set as a secret on each device and preset. It stays one, whatever a sheet
    /// calls it now.
    sealed_own: HashMap<i64, BTreeSet<String>>,
    sealed_presets: HashMap<i64, BTreeSet<String>>,
    /// Sheets that were read already: many devices follow one release.
    sheets: Mutex<HashMap<i64, Arc<Sheet>>>,
    salt_key: [u8; 32],
}

/// The settings that count for a device with a release.
#[derive(Clone)]
pub struct Counted {
    /// The fields of the release.
    pub fields: Vec<Field>,
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
}

impl InForce {
    /// By these records and releases.
    pub fn new(records: Records, store: Arc<Store>, catalogue: Catalogue) -> Self {
        Self {
            records,
            store,
            catalogue,
        }
    }

    /// Reads everything that settings depend on, secrets opened.
    pub async fn team(&self) -> Result<Team, Refusal> {
        let keys = &self.store.keys;
        let mut presets: Vec<(Preset, Settings)> = self
            .records
            .presets()
            .await?
            .into_iter()
            .map(|preset| (preset, Settings::new()))
            .collect();
        let mut sealed_presets: HashMap<i64, BTreeSet<String>> = HashMap::new();
        let mut sealed_own: HashMap<i64, BTreeSet<String>> = HashMap::new();
        for one in self.records.preset_settings().await? {
            let sealed_under = of_preset(one.owner, &one.field);
            let field = one.field.clone();
            if one.sealed.is_some() {
                let names = sealed_presets.entry(one.owner).or_default();
                names.insert(field.clone());
            }
            if let Some((_, values)) = presets.iter_mut().find(|(p, _)| p.id == one.owner) {
                values.insert(field, open(keys, &sealed_under, one.setting())?);
            }
        }
        let mut own: HashMap<i64, Settings> = HashMap::new();
        for one in self.records.device_settings().await? {
            let (device, field) = (one.owner, one.field.clone());
            if one.sealed.is_some() {
                sealed_own.entry(device).or_default().insert(field.clone());
            }
            let value = open(keys, &of_device(device, &field), one.setting())?;
            own.entry(device).or_default().insert(field, value);
        }
        Ok(Team {
            devices: self.records.devices().await?,
            presets,
            shelf: self.catalogue.shelf(None).await?,
            own,
            sealed_own,
            sealed_presets,
            sheets: Mutex::default(),
            salt_key: keys.salts(),
        })
    }

    /// Why the card of a device is out of date; nothing if it is not, or if there is none.
    pub async fn outdated(
        &self,
        device: &Device,
        counted: &Counted,
        followed: Option<&Release>,
    ) -> Result<Vec<String>, Refusal> {
        let Some(card) = &device.card else {
            return Ok(Vec::new());
        };
        let Some(imprint) = self
            .records
            .current_imprint(None, Some(&device.name))
            .await?
        else {
            return Ok(Vec::new());
        };
        let imprint = shown::imprint(imprint);
        match imprint.state.as_str() {
            "verified" => {}
            "writing" => return Ok(vec![format!("card {card} is being written")]),
            "in doubt" => {
                return Ok(vec![format!(
                    "card {card} was being written when the service ended; put it in, and what it is will be found out"
                )]);
            }
            _ => {
                return Ok(vec![format!(
                    "card {card} is not whole: its last write, imprint {}, did not end well; write it again",
                    imprint.id
                )]);
            }
        }
        if !imprint.settings_known {
            return Ok(vec![format!(
                "which settings card {card} carries is not known: it was restored from {}",
                imprint.base
            )]);
        }
        let mut reasons = Vec::new();
        let other = |release: &&Release| release.name != imprint.base && !imprint.from_backup;
        if let Some(followed) = followed.filter(other) {
            reasons.push(format!(
                "card {card} has {}, and {} follows {}",
                imprint.base, device.name, followed.name
            ));
        }
        let now = recorded_settings(&self.store.keys, &counted.fields, &counted.values);
        reasons.extend(differences(&imprint.settings, &now, card));
        Ok(reasons)
    }

    /// The files that settings become, beside the release's own.
    pub async fn laid(
        &self,
        sheet: &Sheet,
        counted: &Counted,
        manifest: Name,
    ) -> Result<Vec<Laid>, Refusal> {
        let (store, placements) = (self.store.clone(), sheet.placements.clone());
        let (values, subject) = (counted.values.clone(), counted.subject.clone());
        let laid = tokio::task::spawn_blocking(move || {
            let disk = store.disk(manifest)?;
            let layout = Layout::read(&disk as &dyn Disk)
                .map_err(|e| Refusal::invalid("cannot-compose", e.to_string()))?;
            let mut read = |target: &_, path: &str| {
                read_base(&disk, &layout, target, path).map_err(|e| e.to_string())
            };
            lay_out(&placements, &values, &subject, &mut read).map_err(|e| {
                let device = &subject.device;
                Refusal::invalid("settings", format!("device {device}: {e}"))
            })
        });
        laid.await
            .map_err(|e| Refusal::invalid("cannot-compose", e.to_string()))?
    }
}

fn open(keys: &Keys, sealed_under: &str, setting: Setting) -> Result<String, Refusal> {
    match (setting.value, setting.sealed) {
        (Some(value), _) => Ok(value),
        (None, Some(sealed)) => Ok(keys.open_secret(sealed_under, &sealed)?),
        (None, None) => Ok(String::new()),
    }
}

impl Team {
    /// The sheet of a release, read once.
    pub fn sheet(&self, release: &Release) -> Result<Arc<Sheet>, Refusal> {
        let mut sheets = self.sheets.lock().unwrap_or_else(|e| e.into_inner());
        if let Some(sheet) = sheets.get(&release.id) {
            return Ok(sheet.clone());
        }
        let sheet = Arc::new(shown::sheet(release)?);
        sheets.insert(release.id, sheet.clone());
        Ok(sheet)
    }

    /// The values set on a device itself.
    pub fn own(&self, device: &Device) -> Settings {
        self.own.get(&device.id).cloned().unwrap_or_default()
    }

    /// Names of what was set as a secret on a device.
    pub fn sealed_on(&self, device: i64) -> BTreeSet<String> {
        self.sealed_own.get(&device).cloned().unwrap_or_default()
    }

    /// Names of what was set as a secret in a preset.
    pub fn sealed_in_preset(&self, preset: i64) -> BTreeSet<String> {
        self.sealed_presets
            .get(&preset)
            .cloned()
            .unwrap_or_default()
    }

    /// Puts other values in place of those of a device, to see what would come of them.
    pub fn suppose_own(&mut self, device: &Device, values: Settings) {
        self.own.insert(device.id, values);
    }

    /// The presets that a device gets, nearest first: those of its site, those of the team.
    pub fn presets_of(&self, site: &str) -> impl Iterator<Item = &(Preset, Settings)> {
        let of = |wanted: Option<String>| {
            self.presets
                .iter()
                .filter(move |(preset, _)| preset.site == wanted)
        };
        of(Some(site.into())).chain(of(None))
    }

    fn layers(&self, device: &Device) -> Vec<Layer> {
        let presets = self.presets_of(&device.site).map(|(preset, values)| {
            let sealed = self.sealed_in_preset(preset.id);
            Layer::preset(preset.name.clone(), values.clone()).sealed(sealed)
        });
        let own = Layer::device(self.own(device)).sealed(self.sealed_on(device.id));
        std::iter::once(own).chain(presets).collect()
    }

    /// What counts for a device with the fields of a sheet, without a look at other devices.
    pub fn alone(&self, device: &Device, fields: &[Field]) -> Counted {
        let subject = Subject {
            device: device.name.clone(),
            board: device.board.clone(),
            site: device.site.clone(),
            attached: device.attached.clone(),
            salt_key: self.salt_key,
        };
        let (values, problems) = effective(fields, &self.layers(device), &subject);
        Counted {
            fields: fields.to_vec(),
            values,
            problems,
            subject,
        }
    }

    /// What counts for a device with a sheet, and everything that is wrong with it, also beside
    /// other devices.
    pub fn count(&self, device: &Device, sheet: &Sheet) -> Counted {
        let mut counted = self.alone(device, &sheet.fields);
        for one in self.collisions(device, &counted) {
            counted.problems.push(Problem {
                field: one.field,
                rule: one.rule,
            });
        }
        counted
    }

    fn collisions(&self, device: &Device, counted: &Counted) -> Vec<Collision> {
        // Values that must be the only ones are few and nearly always set on the device itself,
        // so that most others need not be looked at.
        let claimed = |field: &&Field| {
            field.unique.is_some() || matches!(field.kind, FieldKind::HostName | FieldKind::Address)
        };
        let pairs = counted.fields.iter().zip(&counted.values);
        let mine: Vec<&Effective> = pairs
            .filter(|(field, one)| claimed(field) && one.value.is_some())
            .map(|(_, one)| one)
            .collect();
        let shared = mine.iter().any(|one| one.preset.is_some());
        let near = |value: &str| {
            let word = |text: &str| {
                let first = text.split(['/', ' ']).next().unwrap_or("");
                first.to_ascii_lowercase()
            };
            mine.iter()
                .filter_map(|one| one.value.as_deref())
                .any(|own| word(own) == word(value))
        };
        let mut others = Vec::new();
        for other in &self.devices {
            if other.id == device.id || other.state == "retired" {
                continue;
            }
            let own = self.own.get(&other.id);
            if !shared && !own.is_some_and(|own| own.values().any(|value| near(value))) {
                continue;
            }
            let Some(release) = self.shelf.followed(other) else {
                continue;
            };
            if let Ok(sheet) = self.sheet(release) {
                others.push((other, self.alone(other, &sheet.fields)));
            }
        }
        let listed: Vec<Owned<'_>> = others
            .iter()
            .map(|(other, counted)| owned(other, counted))
            .collect();
        collisions(&owned(device, counted), &listed)
    }
}

fn owned<'a>(device: &'a Device, counted: &'a Counted) -> Owned<'a> {
    Owned {
        device: &device.name,
        site: &device.site,
        appliance: &device.appliance,
        fields: &counted.fields,
        settings: &counted.values,
    }
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

/// Who grows the last partition of a release, and how.
pub fn growth(sheet: &Sheet, release: &Release) -> (Grow, Option<Growth>) {
    let grower = shown::inspection_of(release).grower.is_some();
    let usual = if grower { Grow::Image } else { Grow::Here };
    let grow = sheet.card.grow.unwrap_or(usual);
    let how = Growth {
        leave: sheet.card.leave_mb.unwrap_or(0).saturating_mul(1_000_000),
        scattered: sheet.card.meta_bg,
    };
    (grow, (grow == Grow::Here).then_some(how))
}

/// What is said where the image grows by itself.
pub const IMAGE_GROWS: &str = "the image grows its last partition itself at its first start";

/// What tells the text of a release's sheet.
pub fn sheet_text(release: &Release) -> String {
    format!("{} {}", release.name, release.sheet_revision)
}

/// What growing came to, in a sentence.
pub fn growth_words(grown: &Result<Grown, String>) -> String {
    let gb = |bytes: u64| format!("{:.2} GB", bytes as f64 / 1e9);
    match grown {
        Ok(grown) => {
            let limited = match &grown.limited {
                Some(why) => format!(
                    "; its file system reaches {} only, since {why}",
                    gb(grown.filled)
                ),
                None => String::new(),
            };
            format!(
                "partition {} grows from {} to {}{limited}",
                grown.partition,
                gb(grown.before),
                gb(grown.after)
            )
        }
        Err(why) => format!("nothing grows: {why}"),
    }
}

/// Logins of a sheet that everybody knows and no setting changes.
pub fn open_logins(sheet: &Sheet, values: &[Effective]) -> Vec<String> {
    let changed = |name: &String| {
        values
            .iter()
            .any(|one| one.name == *name && one.value.is_some())
    };
    sheet
        .logins
        .iter()
        .filter(|login| !login.changed_by.as_ref().is_some_and(changed))
        .map(|login| {
            let at = login
                .at
                .as_ref()
                .map_or(String::new(), |at| format!(" at the {at}"));
            let todo = match &login.changed_by {
                Some(field) => format!("set {field}, or change it at first"),
                None => "change it at first".into(),
            };
            format!(
                "the login {}{at} keeps the password that everybody knows; {todo}",
                login.user
            )
        })
        .collect()
}

/// A file as plans, records and previews show it.
///
/// `sheet` tells the text of the sheet. Fingerprints of files that were laid out by different texts,
/// or at different paths, are not alike even where the files are: else a sheet that makes a file
/// depend on a secret could be asked, by comparing, what the secret is.
pub fn planned_file(laid: &Laid, keys: &Keys, sheet: &str) -> api::PlannedFile {
    let path = &laid.file.path;
    let fingerprint = |text: &str| keys.fingerprint(&format!("{sheet}\n{path}\n{text}"));
    let file = &laid.file;
    let given = &file.attributes;
    let owner = match (given.owner, given.group) {
        (None, None) => None,
        (owner, group) => {
            let number = |id: Option<u32>| id.map_or(String::new(), |id| id.to_string());
            Some(format!("{}:{}", number(owner), number(group)))
        }
    };
    let (action, content, fingerprint) = match &file.change {
        Change::File(bytes) => (
            if laid.before.is_some() {
                "replace"
            } else {
                "create"
            },
            laid.after.clone().unwrap_or_default(),
            Some(fingerprint(&String::from_utf8_lossy(bytes))),
        ),
        Change::Link(target) => ("link", target.clone(), Some(fingerprint(target))),
        Change::Remove => ("remove", String::new(), None),
    };
    api::PlannedFile {
        partition: file.target.to_string(),
        path: file.path.clone(),
        action: action.into(),
        content,
        mode: given.mode.map(|mode| format!("{mode:04o}")),
        owner,
        fingerprint,
    }
}

/// The lines of a file before and after.
pub fn diff(laid: &Laid) -> Vec<api::DiffLine> {
    let before = laid.before.as_deref().unwrap_or("");
    let after = match &laid.file.change {
        Change::File(_) => laid.after.as_deref().unwrap_or(""),
        _ => "",
    };
    similar::TextDiff::from_lines(before, after)
        .iter_all_changes()
        .map(|change| api::DiffLine {
            change: match change.tag() {
                similar::ChangeTag::Equal => "same",
                similar::ChangeTag::Insert => "added",
                similar::ChangeTag::Delete => "removed",
            }
            .into(),
            text: change.value().trim_end_matches(['\n', '\r']).into(),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

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
