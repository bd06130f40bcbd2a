//! Backups after they were taken: whose they are, how many stay, how often they shall be taken, what was shown of them.

pub mod headroom;
pub mod health;
pub mod keep;

use std::collections::BTreeMap;
use std::sync::Arc;

use records::Records;
use records::backups::Backup;
use records::devices::Device;

use crate::damage;
use crate::news::{Events, News};
use crate::refusal::{Refusal, Why};
use crate::store::Store;

/// What is done with backups.
#[derive(Clone)]
pub struct Backups {
    records: Records,
    store: Arc<Store>,
    events: Events,
    /// The team's time zone.
    zone: Arc<str>,
}

/// Longest reason, in characters.
const REASON: usize = 500;

fn reason(text: &str) -> Result<&str, Refusal> {
    let text = text.trim();
    if text.chars().count() > REASON || text.contains('\0') {
        let detail = format!("say why in at most {REASON} characters");
        return Err(Refusal::invalid("bad-value", detail));
    }
    Ok(text)
}

fn told_rule(row: &records::backups::KeepRule) -> api::KeepRule {
    api::KeepRule {
        newest: row.newest as u32,
        daily: row.daily as u32,
        weekly: row.weekly as u32,
        monthly: row.monthly as u32,
    }
}

impl Backups {
    /// Over these records, with the name of the team's time zone.
    pub fn new(records: Records, store: Arc<Store>, events: Events, zone: &str) -> Self {
        Self {
            records,
            store,
            events,
            zone: zone.into(),
        }
    }

    /// Checks why a backup is taken.
    ///
    /// # Errors
    /// Of what is too long.
    pub fn reason(text: &str) -> Result<String, Refusal> {
        reason(text).map(str::to_owned)
    }

    /// Says whose a backup is, why it was taken, whether it stays.
    pub async fn tell(
        &self,
        operator: &str,
        name: &str,
        change: &api::BackupChange,
    ) -> Result<(), Refusal> {
        let backup = self.records.backup(name).await?;
        let why = change.reason.as_deref().map(reason).transpose()?;
        if let Some(device) = change.device.as_deref().map(str::trim) {
            let found = match device {
                "" => None,
                device => Some(self.records.device(device).await?),
            };
            let summary = match &found {
                Some(device) => format!("Backup {} is of {} now", backup.name, device.name),
                None => format!("Backup {} is of no device now", backup.name),
            };
            let id = found.map(|device| device.id);
            self.records
                .assign_backup(backup.id, id, operator, &summary)
                .await?;
        }
        self.records
            .tell_backup(backup.id, why, change.pinned)
            .await?;
        if let Some(pinned) = change.pinned.filter(|pinned| *pinned != backup.pinned) {
            let word = if pinned {
                "pinned"
            } else {
                "not pinned any more"
            };
            let summary = format!("Backup {} is {word}", backup.name);
            self.events
                .note(operator, "backup.pinned", &backup.name, &summary)
                .await?;
        }
        self.events.bus.tell(News::Events);
        Ok(())
    }

    /// Lets the content of one backup go. Its record stays.
    pub async fn let_go(&self, operator: &str, name: &str, why: &str) -> Result<(), Refusal> {
        let backup = self.records.backup(name).await?;
        if backup.gone_at.is_some() {
            let detail = format!("the content of backup {} was let go already", backup.name);
            return Err(Refusal::conflict("gone", detail));
        }
        if backup.pinned {
            let detail = format!(
                "backup {0} is pinned; unpin it first: duplicarium backup unpin {0}",
                backup.name
            );
            return Err(Refusal::conflict("pinned", detail));
        }
        let why = match reason(why)? {
            "" => "let go by hand",
            why => why,
        };
        let gone = self
            .records
            .let_backups_go(&[backup.id], operator, why)
            .await?;
        if gone.is_empty() {
            let detail = format!("backup {} was pinned or let go meanwhile", backup.name);
            return Err(Refusal::conflict("gone", detail));
        }
        self.events.bus.tell(News::Events);
        Ok(())
    }

    /// The rules that there are: of the team first, then those of devices.
    async fn rules(
        &self,
        devices: &[Device],
    ) -> Result<(Option<api::KeepRule>, BTreeMap<i64, api::KeepRule>), Refusal> {
        let team = self.records.keep_rule(None).await?;
        let mut own = BTreeMap::new();
        for device in devices {
            if let Some(rule) = self.records.keep_rule(Some(device.id)).await? {
                own.insert(device.id, told_rule(&rule));
            }
        }
        Ok((team.as_ref().map(told_rule), own))
    }

    /// Sets the keep rule of the team or of a device, or takes it away.
    pub async fn set_rule(&self, operator: &str, change: &api::KeepChange) -> Result<(), Refusal> {
        let device = match &change.device {
            Some(name) => Some(self.records.device(name).await?),
            None => None,
        };
        let numbers = match &change.rule {
            None => None,
            Some(rule) => {
                let all = [rule.newest, rule.daily, rule.weekly, rule.monthly];
                if rule.newest == 0 || all.iter().any(|number| *number > 1000) {
                    let detail =
                        "a rule keeps at least the newest one, and at most 1000 of each kind";
                    return Err(Refusal::invalid("bad-value", detail));
                }
                Some(all.map(|number| number as i32))
            }
        };
        let of = match &device {
            Some(device) => format!("of {}", device.name),
            None => "of the team".into(),
        };
        let summary = match &change.rule {
            Some(rule) => format!(
                "The keep rule {of} is {} newest, {} days, {} weeks, {} months",
                rule.newest, rule.daily, rule.weekly, rule.monthly
            ),
            None => format!("The keep rule {of} was taken away"),
        };
        let id = device.map(|device| device.id);
        self.records
            .set_keep_rule(id, numbers, operator, &summary)
            .await?;
        self.events.bus.tell(News::Events);
        Ok(())
    }

    /// What the keep rules do now; nothing is done in a dry run.
    pub async fn keep(&self, operator: &str, dry_run: bool) -> Result<api::KeepReport, Refusal> {
        // Damage that was found since counts: the newest whole one of a device stays.
        damage::look_at_backups(&self.records, &self.store.vault).await?;
        let all = self.records.backups_there().await?;
        let moments: Vec<_> = all.iter().map(|backup| backup.taken_at).collect();
        let days = self.records.days_in(&self.zone, &moments).await?;
        let days: BTreeMap<i64, time::Date> =
            all.iter().map(|backup| backup.id).zip(days).collect();
        let mut of: BTreeMap<Option<String>, Vec<&Backup>> = BTreeMap::new();
        for backup in &all {
            of.entry(backup.device.clone()).or_default().push(backup);
        }
        let names: Vec<String> = of.keys().flatten().cloned().collect();
        let devices = self.records.devices_named(&names).await?;
        let (team, own) = self.rules(&devices).await?;
        let mut report = api::KeepReport {
            rules: vec![api::KeptBy {
                device: None,
                rule: team.clone(),
            }],
            zone: self.zone.to_string(),
            ..api::KeepReport::default()
        };
        let mut going: Vec<&Backup> = Vec::new();
        for (name, backups) in of {
            let device = devices
                .iter()
                .find(|device| Some(&device.name) == name.as_ref());
            let own = device.and_then(|device| own.get(&device.id));
            if let Some(rule) = own {
                report.rules.push(api::KeptBy {
                    device: name.clone(),
                    rule: Some(rule.clone()),
                });
            }
            // What belongs to nobody yet waits until somebody says whose it is.
            let rule = match name {
                Some(_) => own.or(team.as_ref()),
                None => None,
            };
            let day = |row: &Backup| days.get(&row.id).copied().unwrap_or(row.taken_at.date());
            let kept: Vec<_> = backups
                .iter()
                .map(|row| keep::Kept::of(row, day(row)))
                .collect();
            for (backup, why) in backups.iter().zip(keep::stay(&kept, rule)) {
                match why {
                    Some(why) => report.stay.push(api::Stays {
                        backup: backup.name.clone(),
                        why: why.into(),
                    }),
                    None => {
                        report.go.push(backup.name.clone());
                        going.push(backup);
                    }
                }
            }
        }
        report.frees = match going.is_empty() {
            true => Some(0),
            false => self.store.would_free(&self.records, &going).await?,
        };
        if !dry_run && !going.is_empty() {
            let going: Vec<i64> = going.iter().map(|backup| backup.id).collect();
            report.go = self
                .records
                .let_backups_go(&going, operator, "its time was over by the keep rules")
                .await?;
            self.events.bus.tell(News::Events);
        }
        report.done = !dry_run;
        Ok(report)
    }

    /// How often devices and appliances shall be backed up.
    pub async fn intervals(&self) -> Result<Vec<api::BackupInterval>, Refusal> {
        let rows = self.records.backup_intervals().await?.into_iter();
        let told = rows.map(|row| api::BackupInterval {
            device: row.device,
            appliance: row.appliance,
            days: Some(row.days as u32),
        });
        Ok(told.collect())
    }

    /// Says how often a device, or each of an appliance, shall be backed up.
    pub async fn set_interval(
        &self,
        operator: &str,
        change: &api::BackupInterval,
    ) -> Result<(), Refusal> {
        let appliance = change.appliance.as_deref().map(str::trim);
        let device = match (&change.device, appliance) {
            (Some(name), None) => Some(self.records.device(name).await?),
            (None, Some(name)) if !name.is_empty() => None,
            _ => {
                let detail = "name a device or an appliance, one of the two";
                return Err(Refusal::invalid("bad-value", detail));
            }
        };
        if change.days.is_some_and(|days| !(1..=3650).contains(&days)) {
            let detail = "between backups lie 1 to 3650 days";
            return Err(Refusal::invalid("bad-value", detail));
        }
        let whose = change.device.as_deref().or(appliance).unwrap_or_default();
        let summary = match change.days {
            Some(days) => format!("{whose} shall be backed up every {days} days"),
            None => format!("{whose} need not be backed up at intervals"),
        };
        let days = change.days.map(|days| days as i32);
        let id = device.map(|device| device.id);
        self.records
            .set_backup_interval(id, appliance, days, operator, &summary)
            .await?;
        self.events.bus.tell(News::Events);
        Ok(())
    }

    /// Devices that should have been backed up.
    pub async fn attention(&self) -> Result<Vec<api::Attention>, Refusal> {
        let rows = self.records.overdue_backups().await?.into_iter();
        let told = rows.map(|row| {
            let last = match row.last {
                Some(at) => format!("the last one is of {}", at.date()),
                None => "there is none".into(),
            };
            api::Attention {
                kind: "backup-overdue".into(),
                words: format!(
                    "{} should be backed up every {} days, and {last}",
                    row.device, row.days
                ),
                device: row.device,
                since: row.since,
                arrival: None,
                card: None,
            }
        });
        let mut doubtful = Vec::new();
        for (backup, is_newest) in self.records.doubtful_backups().await? {
            let known = health::of(&backup);
            let device = backup.device.clone().unwrap_or_default();
            let which = match is_newest {
                true => format!(
                    "{}, the newest backup of {device}, may not bring it back",
                    backup.name
                ),
                false => format!("backup {} may not be restored", backup.name),
            };
            let advice = match (known.health, is_newest) {
                (api::BackupHealth::Damaged, true) => {
                    "Mend it from the second vault (duplicarium vault inspect), or take another one while its card still works"
                }
                (api::BackupHealth::Damaged, false) => {
                    "Mend it from the second vault (duplicarium vault inspect), or delete its content (duplicarium backup \
                     let-go)"
                }
                (_, true) => "Take another one while its card still works",
                (_, false) => {
                    "Prove it again (duplicarium backup prove), or delete its content (duplicarium backup let-go)"
                }
            };
            let kind = match known.health {
                api::BackupHealth::Damaged => "backup-damaged",
                _ => "backup-not-proven",
            };
            doubtful.push(api::Attention {
                kind: kind.into(),
                words: format!("{which}: {}. {advice}", known.words.unwrap_or_default()),
                device,
                since: known.since.unwrap_or(backup.taken_at),
                arrival: None,
                card: None,
            });
        }
        Ok(told.chain(doubtful).collect())
    }
}

/// Refuses a backup whose content was let go.
///
/// # Errors
/// [`Refusal`] with the code `gone`.
pub fn is_there(backup: &Backup) -> Result<(), Refusal> {
    match backup.gone_at {
        None => Ok(()),
        Some(at) => Err(Refusal::new(
            Why::Conflict,
            "gone",
            format!(
                "the content of backup {} was let go on {}: {}",
                backup.name,
                at.date(),
                backup.gone_why.as_deref().unwrap_or_default()
            ),
        )),
    }
}
