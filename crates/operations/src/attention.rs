//! What needs attention of cards and of how devices stand. What devices in the field, backups and the vault need
//! stands with those.

use std::collections::{BTreeMap, HashMap};

use api::{Attention, Standing};
use records::Records;
use records::devices::Device;
use time::OffsetDateTime;
use tokio::sync::Mutex;

use crate::in_force::{DeviceStanding, InForce};
use crate::refusal::Refusal;

/// Names that are said of a longer list.
const NAMED: usize = 5;

/// Says what needs attention of cards and devices.
pub struct NeedsAttention {
    records: Records,
    in_force: InForce,
    /// What was recorded last of how devices stand, and since when.
    noted: Mutex<Noted>,
}

#[derive(Default)]
struct Noted {
    standings: Vec<(i64, &'static str)>,
    since: HashMap<i64, OffsetDateTime>,
}

impl NeedsAttention {
    /// By these records.
    pub fn new(records: Records, in_force: InForce) -> Self {
        Self {
            records,
            in_force,
            noted: Mutex::default(),
        }
    }

    /// Cards that are suspect, what was seen of devices, and devices whose card must be written again or whose version
    /// is unknown.
    pub async fn list(&self) -> Result<Vec<Attention>, Refusal> {
        let mut all = self.cards().await?;
        all.extend(self.faults().await?);
        all.extend(self.standings().await?);
        Ok(all)
    }

    async fn cards(&self) -> Result<Vec<Attention>, Refusal> {
        let rows = self.records.suspect_cards().await?.into_iter();
        let all = rows.map(|row| {
            let whose = match &row.device {
                Some(device) => format!(", the card of {device},"),
                None => String::new(),
            };
            let todo = match row.verdict.as_deref() {
                Some("forged") => "Write nothing to it any more, and retire it",
                _ => "Check it in full (duplicarium card check --full), or retire it",
            };
            Attention {
                kind: "card-suspect".into(),
                device: row.device.unwrap_or_default(),
                words: format!(
                    "card {}{whose} is suspect: {}. {todo} (duplicarium card retire {})",
                    row.label, row.why, row.label
                ),
                since: row.since,
                arrival: None,
                card: Some(row.label),
            }
        });
        Ok(all.collect())
    }

    async fn faults(&self) -> Result<Vec<Attention>, Refusal> {
        let rows = self.records.open_faults().await?.into_iter();
        let all = rows.map(|row| {
            let device = row.device.unwrap_or_default();
            Attention {
                kind: "fault".into(),
                words: format!(
                    "{device}: {} saw this: {}. Take its card out (duplicarium device out {device}), or wait for the \
                     board and accept it when it works again",
                    row.operator, row.symptom
                ),
                device,
                since: row.at,
                arrival: None,
                card: None,
            }
        });
        Ok(all.collect())
    }

    async fn standings(&self) -> Result<Vec<Attention>, Refusal> {
        let fleet = self.in_force.fleet().await?;
        let since = self.since(&fleet.devices).await?;
        let mut groups: BTreeMap<Standing, Vec<&(Device, DeviceStanding)>> = BTreeMap::new();
        for one in &fleet.devices {
            let standing = one.1.standing;
            if standing.needs_a_write() || standing == Standing::UnknownVersion {
                groups.entry(standing).or_default().push(one);
            }
        }
        let all = groups.into_iter().rev().map(|(standing, group)| {
            let first = group.iter().filter_map(|(one, _)| since.get(&one.id)).min();
            Attention {
                kind: "standing".into(),
                device: match group.as_slice() {
                    [(device, _)] => device.name.clone(),
                    _ => String::new(),
                },
                words: group_words(standing, &group),
                since: first.copied().unwrap_or_else(OffsetDateTime::now_utc),
                arrival: None,
                card: None,
            }
        });
        Ok(all.collect())
    }

    /// Since when each device stands as it does; recorded where that is another standing than before.
    async fn since(
        &self,
        fleet: &[(Device, DeviceStanding)],
    ) -> Result<HashMap<i64, OffsetDateTime>, Refusal> {
        let mut noted = self.noted.lock().await;
        let standings: Vec<_> = fleet
            .iter()
            .map(|(device, stands)| (device.id, stands.standing.words()))
            .collect();
        if noted.standings != standings {
            noted.since = self.records.note_standings(&standings).await?;
            noted.standings = standings;
        }
        Ok(noted.since.clone())
    }
}

/// How some devices stand, and what to do, in a sentence or two.
fn group_words(standing: Standing, group: &[&(Device, DeviceStanding)]) -> String {
    let todo = match standing {
        Standing::UnknownVersion => {
            "Look at the board; import its release, or write its card again (duplicarium device list --standing \
             unknown-version)"
                .to_owned()
        }
        _ => format!(
            "Write {} again (duplicarium round plan --standing {})",
            if group.len() == 1 {
                "its card"
            } else {
                "their cards"
            },
            standing.words().replace(' ', "-")
        ),
    };
    match group {
        [(device, stands)] => format!(
            "{} {}: {}. {todo}",
            device.name,
            state_words(standing, false),
            stands.reasons.join("; ")
        ),
        several => {
            let names = several.iter().take(NAMED);
            let names: Vec<_> = names.map(|(device, _)| device.name.as_str()).collect();
            let more = match several.len() - names.len() {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            format!(
                "{} devices {}: {}{more}. {todo}",
                several.len(),
                state_words(standing, true),
                names.join(", ")
            )
        }
    }
}

/// What is so of one device, or of several, because of how they stand.
fn state_words(standing: Standing, several: bool) -> &'static str {
    match (standing, several) {
        (Standing::SettingsChanged, false) => "has settings that are not on its card",
        (Standing::SettingsChanged, true) => "have settings that are not on their cards",
        (Standing::NotBooting, false) => "runs a release that does not boot on its board",
        (Standing::NotBooting, true) => "run releases that do not boot on their boards",
        (Standing::Withdrawn, false) => "runs a withdrawn release",
        (Standing::Withdrawn, true) => "run withdrawn releases",
        (Standing::UnknownVersion, false) => "runs an unknown version",
        (Standing::UnknownVersion, true) => "run unknown versions",
        (Standing::Incomplete, false) => "has an incomplete card",
        (Standing::Incomplete, true) => "have incomplete cards",
        (_, false) => "is outdated",
        (_, true) => "are outdated",
    }
}
