//! What shall be written, before any card is looked at: a release for a device, a release by itself,
//! or a backup.

use cardwork::Insertion;
use imagecraft::grow::Growth;
use records::cards::Card;
use records::devices::Device;
use records::imprints::Base;
use records::releases::Release;
use serde_json::json;
use settings::{Grow, Laid, Sheet};
use vault::Name;

use super::Plans;
use crate::backups::health;
use crate::backups::is_there;
use crate::benches::Spot;
use crate::damage::refuse_damaged;
use crate::in_force::{Counted, growth, open_logins, planned_file, recorded_settings, sheet_text};
use crate::refusal::Refusal;
use crate::shown;
use crate::slots::Inserted;
use crate::store::manifest_name;
use crate::work::WriteOrder;
use api::SlotName;

const UNTOUCHED: &str = "No card was touched";

/// What shall be written, before any card is looked at.
pub struct Wanted {
    pub kind: &'static str,
    pub base: Base,
    pub base_name: String,
    pub manifest: Name,
    /// What a restore test of a backup found that did not pass.
    pub failed_test: Option<String>,
    pub smallest_card: u64,
    /// Where a backup was read, and in which insertion.
    pub read_from: Option<ReadFrom>,
    pub device: Option<Device>,
    pub counted: Option<Counted>,
    /// Of a restore: the settings that its backup's card carried, as recorded, if they are known.
    pub carried: Option<Option<serde_json::Value>>,
    pub laid: Vec<Laid>,
    /// What tells the text of the sheet.
    pub sheet_text: String,
    pub grow: Option<Grow>,
    pub growth: Option<Growth>,
    /// Where data behind the last partition ends, if there is any.
    pub behind: Option<u64>,
    /// Why a damaged file system is changed all the same.
    pub damaged_reason: Option<String>,
    pub leave_out: bool,
    /// Whether what nothing is put onto shall read as zero.
    pub wipe_free: bool,
    pub open_logins: Vec<String>,
    /// State of the release, if it is one.
    pub state: Option<String>,
    pub override_reason: Option<String>,
}

/// The card that a backup was read from, as it lay in a slot then.
pub struct ReadFrom {
    reader: String,
    unit: Option<i32>,
    insertion: Insertion,
    card: Option<String>,
}

impl Wanted {
    /// Refuses the very card that the backup was just read from: it is the only one that surely works.
    pub(super) fn check_source(
        &self,
        slot: SlotName,
        at: &Spot,
        insertion: &Insertion,
    ) -> Result<(), Refusal> {
        let Some(from) = &self.read_from else {
            return Ok(());
        };
        let here = from.reader == at.place.reader && from.unit == Some(at.place.unit as i32);
        if !here || from.insertion != *insertion {
            return Ok(());
        }
        Err(Refusal::conflict(
            "source-card",
            format!(
                "the card in slot {slot} is {}, which {} was just read from; put the original back into its board and take \
                 another card",
                from.card.as_deref().unwrap_or("the one"),
                self.base_name
            ),
        ))
    }
}

/// A reason that was really given.
fn given_reason(text: Option<&str>) -> Option<String> {
    let text = text.map(str::trim).filter(|text| !text.is_empty());
    text.map(str::to_owned)
}

impl Plans {
    /// What a request wants to be written.
    pub(super) async fn wanted(&self, new: &api::NewPlan) -> Result<Wanted, Refusal> {
        match (&new.device, &new.release, &new.backup) {
            (Some(device), release, None) => self.for_device(device, release.as_deref(), new).await,
            (None, Some(release), None) => {
                let release = self.records.release(release).await?;
                self.of_release(release, None, new).await
            }
            (None, None, Some(backup)) => self.of_backup(backup, new).await,
            (Some(device), None, Some(backup)) => self.of_backup_for(backup, device, new).await,
            _ => Err(Refusal::invalid(
                "bad-request",
                "name either a device (with or without a release), or a release, or a backup (with or without a device \
                 whose settings it gets)",
            )),
        }
    }

    async fn for_device(
        &self,
        name: &str,
        release: Option<&str>,
        new: &api::NewPlan,
    ) -> Result<Wanted, Refusal> {
        let device = self.records.device(name).await?;
        let shelf = self.catalogue.shelf().await?;
        let release = match release {
            Some(release) => self.records.release(release).await?,
            None => shelf.followed(&device).cloned().ok_or_else(|| {
                let draft = shelf
                    .releases
                    .iter()
                    .find(|release| release.state == "draft" && shelf.fit(release, &device).fits);
                if let Some(draft) = draft {
                    let detail = format!(
                        "of {} there are only drafts that suit a {}; release {}, or name it to try it",
                        device.appliance, device.board, draft.name
                    );
                    return Refusal::conflict("no-release", detail);
                }
                Refusal::conflict(
                    "no-release",
                    format!(
                        "the catalogue has no release of {} that suits a {}; add one",
                        device.appliance, device.board
                    ),
                )
            })?,
        };
        let fit = shelf.fit(&release, &device);
        if !fit.fits {
            return Err(Refusal::conflict(
                "wrong-board",
                format!(
                    "{} does not suit {name}: {}",
                    release.name,
                    fit.reasons.join("; ")
                ),
            ));
        }
        self.of_release(release, Some(device), new).await
    }

    async fn of_release(
        &self,
        release: Release,
        device: Option<Device>,
        new: &api::NewPlan,
    ) -> Result<Wanted, Refusal> {
        let override_reason = self.check_withdrawn(&release, new).await?;
        let sheet = self.catalogue.shelf().await?.sheet(&release)?;
        let manifest = manifest_name(&release.manifest)?;
        let (records, vault) = (&self.records, &self.store.vault);
        refuse_damaged(
            records,
            vault,
            "release",
            &release.name,
            manifest,
            UNTOUCHED,
        )
        .await?;
        let (mut counted, mut laid) = (None, Vec::new());
        if let Some(device) = &device {
            let (found, files) = self.laid_for(device, &sheet, manifest).await?;
            (counted, laid) = (Some(found), files);
        }
        let values = counted.as_ref().map_or(&[][..], |found| &found.values);
        let open_logins = open_logins(&sheet, values);
        let (grow, how) = growth(&sheet, &release);
        let behind = shown::inspection_of(&release).behind;
        Ok(Wanted {
            kind: "write",
            base: Base::Release(release.id),
            base_name: release.name.clone(),
            manifest,
            failed_test: None,
            smallest_card: release.smallest_card as u64,
            read_from: None,
            device,
            counted,
            carried: None,
            laid,
            sheet_text: sheet_text(&release),
            grow: Some(grow),
            growth: how,
            behind,
            damaged_reason: given_reason(new.although_damaged.as_deref()),
            leave_out: new.leave_out,
            wipe_free: new.wipe_free,
            open_logins,
            state: Some(release.state),
            override_reason,
        })
    }

    /// A withdrawn release is written only with a reason, which is recorded.
    async fn check_withdrawn(
        &self,
        release: &Release,
        new: &api::NewPlan,
    ) -> Result<Option<String>, Refusal> {
        if release.state != "withdrawn" {
            return Ok(None);
        }
        if let Some(reason) = given_reason(new.override_reason.as_deref()) {
            return Ok(Some(reason));
        }
        let states = self.records.release_states(release.id).await?;
        let why = states
            .first()
            .map(|state| format!(" by {}: {}", state.operator, state.reason))
            .unwrap_or_default();
        Err(Refusal::conflict(
            "withdrawn",
            format!(
                "{} was withdrawn{why}. Write another release; or give a reason to write this one all the same, which is recorded",
                release.name
            ),
        ))
    }

    async fn of_backup(&self, name: &str, new: &api::NewPlan) -> Result<Wanted, Refusal> {
        let backup = self.records.backup(name).await?;
        let device = match &backup.device {
            Some(device) => Some(self.records.device(device).await?),
            None => None,
        };
        is_there(&backup)?;
        let manifest = manifest_name(&backup.manifest)?;
        let (records, vault) = (&self.records, &self.store.vault);
        refuse_damaged(records, vault, "backup", &backup.name, manifest, UNTOUCHED).await?;
        let known = health::of(&backup);
        let failed_test = match known.health {
            api::BackupHealth::TestFailed => known.words,
            _ => None,
        };
        // The settings that the backup's card carried go with it, where they are known.
        let origin = match backup.imprint_id {
            Some(id) => self.records.imprint(id).await?,
            None => None,
        };
        let behind = origin.as_ref().and_then(|origin| origin.behind);
        let carried = origin
            .filter(|origin| origin.settings_known)
            .map(|origin| origin.settings);
        let growth = (!new.keep_size).then(Growth::default);
        Ok(Wanted {
            kind: "restore",
            base: Base::Backup(backup.id),
            base_name: backup.name.clone(),
            manifest,
            failed_test,
            smallest_card: backup.smallest_card as u64,
            read_from: backup.reader.map(|reader| ReadFrom {
                reader,
                unit: backup.unit,
                insertion: Insertion {
                    boot: backup.boot,
                    number: backup.insertion as u64,
                },
                card: backup.card,
            }),
            device,
            counted: None,
            carried: Some(carried),
            laid: Vec::new(),
            sheet_text: String::new(),
            grow: None,
            growth,
            behind: behind.map(|end| end as u64),
            damaged_reason: None,
            // A backup is restored even where its file system cannot be grown or edited.
            leave_out: true,
            wipe_free: new.wipe_free,
            open_logins: Vec::new(),
            state: None,
            override_reason: None,
        })
    }

    /// What is in a backup, with the settings of another device: by the sheet of the release that the
    /// backup's card had been written with.
    async fn of_backup_for(
        &self,
        name: &str,
        device: &str,
        new: &api::NewPlan,
    ) -> Result<Wanted, Refusal> {
        let restored = self.of_backup(name, new).await?;
        let device = self.records.device(device).await?;
        let backup = self.records.backup(name).await?;
        let release = match backup.imprint_id {
            Some(imprint) => self.records.origin_release(imprint).await?,
            None => None,
        };
        let release = release.ok_or_else(|| {
            let detail = format!(
                "it is not known which release is in {name}, and so not where the settings of {} belong; restore it as it \
                 is, or write {} a card of its own",
                device.name, device.name
            );
            Refusal::conflict("no-release", detail)
        })?;
        let release = self.records.release(&release).await?;
        let shelf = self.catalogue.shelf().await?;
        let fit = shelf.fit(&release, &device);
        if !fit.fits {
            let detail = format!(
                "{} is in {name}, and does not suit {}: {}",
                release.name,
                device.name,
                fit.reasons.join("; ")
            );
            return Err(Refusal::conflict("wrong-board", detail));
        }
        let sheet = shelf.sheet(&release)?;
        let (counted, laid) = self.laid_for(&device, &sheet, restored.manifest).await?;
        Ok(Wanted {
            open_logins: open_logins(&sheet, &counted.values),
            counted: Some(counted),
            carried: None,
            laid,
            sheet_text: sheet_text(&release),
            device: Some(device),
            // Whose settings do not land would come up as the one that was copied.
            leave_out: new.leave_out,
            damaged_reason: given_reason(new.although_damaged.as_deref()),
            ..restored
        })
    }

    /// The settings that count on a device, and the files that they become on this content.
    async fn laid_for(
        &self,
        device: &Device,
        sheet: &Sheet,
        manifest: Name,
    ) -> Result<(Counted, Vec<Laid>), Refusal> {
        let team = self.in_force.team(&[device.id]).await?;
        let found = self.in_force.count(&team, device, sheet).await?;
        if !found.problems.is_empty() {
            let list: Vec<_> = found.problems.iter().map(|p| p.rule.clone()).collect();
            return Err(Refusal::invalid(
                "settings",
                format!(
                    "device {} cannot get its card yet: {}",
                    device.name,
                    list.join("; ")
                ),
            ));
        }
        let laid = self.in_force.laid(sheet, &found, manifest).await?;
        Ok((found, laid))
    }

    /// The order that a job carries out.
    pub(super) fn order(
        &self,
        wanted: &Wanted,
        Inserted { at, medium, found }: &Inserted,
        card: &Card,
    ) -> WriteOrder {
        let settings = wanted.counted.as_ref().map_or_else(Vec::new, |counted| {
            recorded_settings(&self.store.keys, &counted.fields, &counted.values)
        });
        WriteOrder {
            at: at.clone(),
            block: medium.block,
            bound: found.bound.clone(),
            card_id: card.id,
            card: card.label.clone(),
            device: wanted
                .device
                .as_ref()
                .map(|device| (device.id, device.name.clone())),
            base: wanted.base,
            base_name: wanted.base_name.clone(),
            manifest: wanted.manifest,
            files: wanted.laid.iter().map(|one| one.file.clone()).collect(),
            growth: wanted.growth,
            // What was tuned on a larger card comes along; a release is what its sheet says.
            shrinks: matches!(wanted.base, Base::Backup(_)),
            leave_out: wanted.leave_out,
            growth_words: None,
            left_out: Vec::new(),
            behind: wanted.behind,
            although_damaged: wanted.damaged_reason.is_some(),
            override_reason: match (&wanted.override_reason, &wanted.damaged_reason) {
                (Some(one), Some(two)) => Some(format!("{one}; damaged: {two}")),
                (None, Some(two)) => Some(format!("damaged: {two}")),
                (one, None) => one.clone(),
            },
            size_proven: false,
            accepted: Vec::new(),
            wipe_free: wanted.wipe_free,
            settings: match &wanted.carried {
                Some(carried) => carried.clone().unwrap_or_else(|| json!([])),
                None => json!(settings),
            },
            settings_known: !matches!(wanted.carried, Some(None)),
            shown: json!(self.shown_files(wanted)),
        }
    }

    /// The settings as people see them.
    pub(super) fn shown_settings(&self, wanted: &Wanted) -> Vec<api::Setting> {
        let Some(counted) = &wanted.counted else {
            return Vec::new();
        };
        let pairs = counted.fields.iter().zip(&counted.values);
        pairs
            .filter(|(_, value)| value.applies)
            .map(|(field, value)| shown::masked_setting(field, Some(value), &self.store.keys))
            .collect()
    }

    /// The files as people see them.
    pub(super) fn shown_files(&self, wanted: &Wanted) -> Vec<api::PlannedFile> {
        let laid = wanted.laid.iter();
        laid.map(|one| planned_file(one, &self.store.keys, &wanted.sheet_text))
            .collect()
    }
}
