//! Plans: what a write or restore would do, bound to the card that was seen, confirmed by its
//! label. They live in memory, so a restart voids them.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use cardwork::{CardError, Occupant};
use imagecraft::compose::{Change, PlacedFile, compose};
use imagecraft::grow::Growth;
use imagecraft::{ByteKind, Disk};
use records::cards::{Card, Standing};
use records::devices::Device;
use records::imprints::Base;
use records::jobs::{NewJob, RequestKey};
use records::releases::Release;
use serde_json::json;
use settings::{Grow, Laid};
use time::OffsetDateTime;
use vault::{ManifestDisk, Name};

use crate::app::App;
use crate::error::ApiError;
use crate::settings::{
    Counted, IMAGE_GROWS, growth, growth_words, open_logins, planned_file, recorded_settings,
    sheet_text,
};
use crate::slots::{Found, base_name};
use crate::views;
use crate::work::{WriteOrder, write_card};

/// A plan that nobody confirmed for this long is void.
const LIFE: Duration = Duration::from_secs(30 * 60);

/// Plans that wait at most, and the bytes that the files of all of them may take.
const MOST: usize = 64;
const MOST_BYTES: usize = 64 << 20;

struct Held {
    order: WriteOrder,
    kind: &'static str,
    made: Instant,
    /// What the records said of the card.
    standing: Standing,
    /// Name of the release, if it is one.
    release: Option<String>,
}

impl Held {
    fn bytes(&self) -> usize {
        let of = |file: &PlacedFile| match &file.change {
            Change::File(bytes) => bytes.len(),
            _ => 0,
        };
        self.order.files.iter().map(of).sum()
    }
}

/// The plans that wait for a confirmation.
#[derive(Default)]
pub struct Plans(Mutex<HashMap<String, Held>>);

impl Plans {
    fn held(&self) -> MutexGuard<'_, HashMap<String, Held>> {
        let mut held = self.0.lock().unwrap_or_else(|e| e.into_inner());
        held.retain(|_, plan| plan.made.elapsed() < LIFE);
        held
    }

    /// Keeps a plan; the oldest ones give way when there are too many.
    fn keep(&self, id: String, plan: Held) {
        let mut held = self.held();
        held.insert(id, plan);
        while held.len() > MOST || held.values().map(Held::bytes).sum::<usize>() > MOST_BYTES {
            let oldest = held.iter().min_by_key(|(_, plan)| plan.made);
            let Some(id) = oldest.map(|(id, _)| id.clone()).filter(|_| held.len() > 1) else {
                break;
            };
            held.remove(&id);
        }
    }
}

/// What shall be written, before any card is looked at.
struct Wanted {
    kind: &'static str,
    base: Base,
    base_name: String,
    manifest: Name,
    smallest_card: u64,
    device: Option<Device>,
    counted: Option<Counted>,
    /// Of a restore: the settings that its backup's card carried, as recorded, if they are known.
    carried: Option<Option<serde_json::Value>>,
    laid: Vec<Laid>,
    /// What tells the text of the sheet.
    sheet_text: String,
    grow: Option<Grow>,
    growth: Option<Growth>,
    /// Where data behind the last partition ends, if there is any.
    behind: Option<u64>,
    /// Why a damaged file system is changed all the same.
    damaged_reason: Option<String>,
    leave_out: bool,
    open_logins: Vec<String>,
    /// State of the release, if it is one.
    state: Option<String>,
    override_reason: Option<String>,
}

/// What composing a card without writing it came to.
struct Tried {
    /// Bytes that would be written.
    to_write: u64,
    /// First byte behind the last partition.
    end: u64,
    growth: Option<String>,
    left_out: Vec<String>,
    /// Places of the files that do not land, because their partition is left out.
    missing: Vec<usize>,
    /// Why there is no stamp on it.
    unstamped: Option<String>,
}

pub fn manifest_name(bytes: &[u8]) -> Result<Name, ApiError> {
    let name = bytes.try_into().map(Name);
    name.map_err(|_| ApiError::invalid("records", "the records hold no usable name of the content"))
}

impl App {
    async fn wanted(self: &Arc<Self>, new: &api::NewPlan) -> Result<Wanted, ApiError> {
        match (&new.device, &new.release, &new.backup) {
            (Some(device), release, None) => self.for_device(device, release.as_deref(), new).await,
            (None, Some(release), None) => {
                let release = self.records.release(release).await?;
                self.of_release(release, None, new).await
            }
            (None, None, Some(backup)) => self.of_backup(backup, new).await,
            _ => Err(ApiError::invalid(
                "bad-request",
                "name either a device (with or without a release), or a release, or a backup",
            )),
        }
    }

    async fn for_device(
        self: &Arc<Self>,
        name: &str,
        release: Option<&str>,
        new: &api::NewPlan,
    ) -> Result<Wanted, ApiError> {
        let device = self.records.device(name).await?;
        let shelf = self.shelf(Some(&device.appliance)).await?;
        let release = match release {
            Some(release) => self.records.release(release).await?,
            None => shelf.followed(&device).cloned().ok_or_else(|| {
                let draft = shelf.releases.iter().find(|release| {
                    release.state == "draft" && shelf.fit(release, &device).fits
                });
                if let Some(draft) = draft {
                    let detail = format!(
                        "of {} there are only drafts that suit a {}; release {}, or name it to try it",
                        device.appliance, device.board, draft.name
                    );
                    return ApiError::conflict("no-release", detail);
                }
                ApiError::conflict(
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
            return Err(ApiError::conflict(
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
        self: &Arc<Self>,
        release: Release,
        device: Option<Device>,
        new: &api::NewPlan,
    ) -> Result<Wanted, ApiError> {
        let override_reason = self.check_withdrawn(&release, new).await?;
        let sheet = views::sheet(&release)?;
        let manifest = manifest_name(&release.manifest)?;
        let (mut counted, mut laid) = (None, Vec::new());
        if let Some(device) = &device {
            let found = self.team().await?.count(device, &sheet);
            if !found.problems.is_empty() {
                let list: Vec<_> = found.problems.iter().map(|p| p.rule.clone()).collect();
                return Err(ApiError::invalid(
                    "settings",
                    format!(
                        "device {} cannot get its card yet: {}",
                        device.name,
                        list.join("; ")
                    ),
                ));
            }
            laid = self.laid(&sheet, &found, manifest).await?;
            counted = Some(found);
        }
        let values = counted.as_ref().map_or(&[][..], |found| &found.values);
        let open_logins = open_logins(&sheet, values);
        let (grow, how) = growth(&sheet, &release);
        let behind = views::inspection_of(&release).behind;
        Ok(Wanted {
            kind: "write",
            base: Base::Release(release.id),
            base_name: release.name.clone(),
            manifest,
            smallest_card: release.smallest_card as u64,
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
    ) -> Result<Option<String>, ApiError> {
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
        Err(ApiError::conflict(
            "withdrawn",
            format!(
                "{} was withdrawn{why}. Write another release; or give a reason to write this one all the same, which is recorded",
                release.name
            ),
        ))
    }

    async fn of_backup(&self, name: &str, new: &api::NewPlan) -> Result<Wanted, ApiError> {
        let slot = new.slot;
        let backup = self.records.backup(name).await?;
        let device = match &backup.device {
            Some(device) => Some(self.records.device(device).await?),
            None => None,
        };
        let seen = self.slots.insertion(slot);
        let same = backup.slot == slot as i32
            && seen.is_some_and(|insertion| insertion as i64 == backup.insertion);
        if same {
            return Err(ApiError::conflict(
                "source-card",
                format!(
                    "the card in slot {slot} is {}, which {name} was just read from; put the original back into its board \
                     and take another card",
                    backup.card
                ),
            ));
        }
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
            manifest: manifest_name(&backup.manifest)?,
            smallest_card: backup.smallest_card as u64,
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
            open_logins: Vec::new(),
            state: None,
            override_reason: None,
        })
    }

    /// Makes a plan. Every refusal comes before anything is touched; the only trace it leaves is
    /// a label for a card that had none.
    pub async fn make_plan(
        self: &Arc<Self>,
        operator: &str,
        new: &api::NewPlan,
    ) -> Result<api::Plan, ApiError> {
        let wanted = self.wanted(new).await?;
        let (medium, found) = self.card_in(new.slot).await?;
        if medium.locked {
            let detail = format!(
                "the card in slot {} is locked; move its slider and put it in again",
                new.slot
            );
            return Err(ApiError::conflict("card-locked", detail));
        }
        if wanted.smallest_card > medium.size {
            let detail = format!(
                "the card in slot {} holds {} bytes, {} needs {}; take a larger card",
                new.slot, medium.size, wanted.base_name, wanted.smallest_card
            );
            return Err(ApiError::conflict("card-too-small", detail));
        }
        let (card, new_label) = match &found.label {
            Some(label) => (self.records.card(label).await?, false),
            None => {
                let card = self
                    .give_label(new.slot, &medium, &found.bound.edges, operator)
                    .await?;
                (card, true)
            }
        };
        // Before anything is said about the card, so that what changes meanwhile voids the plan.
        let standing = self.records.standing(card.id).await?;
        let mut order = self.order(&wanted, new.slot, &found, &card);
        let tried = self.try_compose(&order).await?;
        let growth = tried.growth.or_else(|| match wanted.grow {
            Some(Grow::Image) => Some(IMAGE_GROWS.into()),
            _ => None,
        });
        (order.growth_words, order.left_out) = (growth.clone(), tried.left_out.clone());
        let landing: Vec<_> = self
            .shown_files(&wanted)
            .into_iter()
            .enumerate()
            .filter(|(place, _)| !tried.missing.contains(place))
            .map(|(_, file)| file)
            .collect();
        order.shown = json!(landing);
        let mut cautions = cautions(&wanted, &card, new.slot);
        if let Some(why) = &tried.unstamped {
            cautions.push(format!(
                "no stamp finds a place on it ({why}): the card will not say by itself what it is"
            ));
        }
        let id = random_id()?;
        let plan = api::Plan {
            id: id.clone(),
            kind: wanted.kind.into(),
            slot: new.slot,
            card: card.label.clone(),
            new_label,
            card_size: medium.size,
            size_proven: false,
            card_holds: holds(&found, &card),
            base: wanted.base_name.clone(),
            device: wanted.device.as_ref().map(|device| device.name.clone()),
            to_write: tried.to_write,
            smallest_card: wanted.smallest_card,
            unallocated: medium.size.saturating_sub(tried.end),
            settings: self.shown_settings(&wanted),
            files: landing,
            growth,
            left_out: tried.left_out,
            lost: self.lost(&found, &card).await?,
            cautions,
        };
        self.plans.keep(
            id,
            Held {
                order,
                kind: wanted.kind,
                made: Instant::now(),
                standing,
                release: wanted.state.as_ref().map(|_| wanted.base_name.clone()),
            },
        );
        Ok(plan)
    }

    fn order(&self, wanted: &Wanted, slot: u32, found: &Found, card: &Card) -> WriteOrder {
        let settings = wanted.counted.as_ref().map_or_else(Vec::new, |counted| {
            recorded_settings(&self.keys, &counted.fields, &counted.values)
        });
        WriteOrder {
            slot,
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
            settings: match &wanted.carried {
                Some(carried) => carried.clone().unwrap_or_else(|| json!([])),
                None => json!(settings),
            },
            settings_known: !matches!(wanted.carried, Some(None)),
            shown: json!(self.shown_files(wanted)),
        }
    }

    fn shown_settings(&self, wanted: &Wanted) -> Vec<api::Setting> {
        let Some(counted) = &wanted.counted else {
            return Vec::new();
        };
        let pairs = counted.fields.iter().zip(&counted.values);
        pairs
            .filter(|(_, value)| value.applies)
            .map(|(field, value)| views::masked_setting(field, Some(value), &self.keys))
            .collect()
    }

    fn shown_files(&self, wanted: &Wanted) -> Vec<api::PlannedFile> {
        let laid = wanted.laid.iter();
        laid.map(|one| planned_file(one, &self.keys, &wanted.sheet_text))
            .collect()
    }

    /// Composes the card without writing it.
    async fn try_compose(self: &Arc<Self>, order: &WriteOrder) -> Result<Tried, ApiError> {
        let (app, order) = (self.clone(), order.clone());
        let composed = tokio::task::spawn_blocking(move || {
            let disk = ManifestDisk::open(app.vault.clone(), order.manifest)?;
            let map = disk.manifest().map();
            let composed = compose(disk, &map, order.bound.size, &order.recipe(0))?;
            debug_assert_eq!(composed.disk.len(), order.bound.size);
            let left_out = composed.left_out.iter().map(|left| {
                let files = left.files.iter().filter_map(|at| order.files.get(*at));
                let paths: Vec<_> = files.map(|file| file.path.as_str()).collect();
                format!(
                    "partition {} is left as it is, without {}: {}",
                    left.partition,
                    paths.join(", "),
                    left.why
                )
            });
            let missing = composed.left_out.iter().flat_map(|left| left.files.clone());
            Ok::<_, ApiError>(Tried {
                missing: missing.collect(),
                unstamped: composed.unstamped.clone(),
                to_write: composed.map.total(ByteKind::Data) + composed.map.total(ByteKind::Zero),
                end: composed.layout.smallest_card(),
                growth: composed.grown.as_ref().map(growth_words),
                left_out: left_out.collect(),
            })
        });
        composed
            .await
            .map_err(|e| ApiError::invalid("cannot-compose", e.to_string()))?
    }

    /// What writing over this card would cost, with the newest backup.
    async fn lost(&self, found: &Found, card: &Card) -> Result<Vec<String>, ApiError> {
        Ok(match &found.contents.occupant {
            Occupant::Blank | Occupant::Unfinished(_) => Vec::new(),
            Occupant::Foreign => {
                let kept = match self.records.last_backup(card.id, None).await? {
                    Some((name, at)) => format!(
                        "It was backed up as {name}, {} ago, and may have changed since",
                        age(OffsetDateTime::now_utc() - at)
                    ),
                    None => "There is no backup of it here".into(),
                };
                vec![format!(
                    "the card holds data that is not ours: {}. {kept}",
                    found.contents.summary
                )]
            }
            Occupant::Stamped(stamp) => {
                let whose = match &stamp.device {
                    Some(device) => format!("this is the card of {device}"),
                    None => "this is a card made for nobody in particular".into(),
                };
                let newest = self
                    .records
                    .last_backup(card.id, Some(stamp.imprint))
                    .await?;
                let kept = match newest {
                    Some((name, at)) => format!(
                        "its newest backup is {name}, {} old",
                        age(OffsetDateTime::now_utc() - at)
                    ),
                    None => "there is no backup of what is on it now".into(),
                };
                vec![format!(
                    "{whose}, written {} ago with {}; whatever changed on it since is lost, {kept}",
                    age(OffsetDateTime::now_utc() - stamp.made),
                    base_name(&stamp.base)
                )]
            }
        })
    }

    /// Confirms a plan and starts the work. A label that is not this card's voids the plan.
    pub async fn confirm_plan(
        self: &Arc<Self>,
        operator: &str,
        id: &str,
        label: &str,
        request_key: Option<RequestKey>,
    ) -> Result<api::Job, ApiError> {
        if let Some(key) = &request_key
            && let Some(job) = self.records.job_of_request(key).await?
        {
            return self.job_view(job).await;
        }
        let held = self.plans.held().remove(id);
        let held = held.ok_or_else(|| {
            ApiError::new(
                axum::http::StatusCode::GONE,
                "plan-void",
                "this plan does not hold any more (used, too old, or the service was started anew); make it again",
            )
        })?;
        let Held {
            order,
            kind,
            standing,
            release,
            ..
        } = held;
        if label != order.card {
            return Err(ApiError::conflict(
                "wrong-label",
                format!(
                    "the card in slot {} is {}, not {label}; nothing was touched. Look at the sticker, then make the plan again",
                    order.slot, order.card
                ),
            ));
        }
        let reserved = self.reserve(order.slot)?;
        self.check_bound(&order).await?;
        self.check_standing(&order, &standing, release.as_deref())
            .await?;
        let subject = match &order.device {
            Some((_, device)) => format!("{} for {device} to {}", order.base_name, order.card),
            None => format!("{} to {}", order.base_name, order.card),
        };
        let new = NewJob {
            kind,
            subject,
            slot: Some(order.slot as i32),
            card: Some(order.card.clone()),
            operator: operator.into(),
            request_key,
        };
        self.start_job(new, Some(reserved), move |work| write_card(work, &order))
            .await
    }

    /// What the records say of the card, and of the release, must still be what they said.
    async fn check_standing(
        &self,
        order: &WriteOrder,
        seen: &Standing,
        release: Option<&str>,
    ) -> Result<(), ApiError> {
        let now = self.records.standing(order.card_id).await?;
        if now != *seen {
            return Err(ApiError::conflict(
                "plan-void",
                format!(
                    "what the records say of card {} has changed since the plan was made: it was {}, it is {} now.                      Nothing was touched; make the plan again and read what would be lost",
                    order.card,
                    seen.describe(),
                    now.describe()
                ),
            ));
        }
        let Some(name) = release else {
            return Ok(());
        };
        let release = self.records.release(name).await?;
        if release.state == "withdrawn" && order.override_reason.is_none() {
            return Err(ApiError::conflict(
                "withdrawn",
                format!(
                    "{name} was withdrawn since the plan was made. Nothing was touched; make the plan again to write                      another release, or this one with a reason"
                ),
            ));
        }
        Ok(())
    }

    /// The card must still be the one that was seen; the job checks it again before it writes.
    async fn check_bound(&self, order: &WriteOrder) -> Result<(), ApiError> {
        let (bench, bound, number) = (self.bench.clone(), order.bound.clone(), order.slot);
        let (card, slot) = (&order.card, order.slot);
        let checked = tokio::task::spawn_blocking(move || {
            let slot = bench.slot(number)?.ok_or(CardError::Empty)?;
            let medium = slot.medium()?.ok_or(CardError::Empty)?;
            if medium.insertion != bound.insertion {
                return Err(ApiError::from(cardwork::Unsafe::Swapped));
            }
            let held = slot.open(bound.insertion)?;
            Ok(bound.check(&medium, held.as_ref())?)
        });
        let checked = checked
            .await
            .map_err(|e| ApiError::invalid("reader", e.to_string()))?;
        checked.map_err(|mut e| {
            e.detail = format!(
                "slot {slot}, planned for card {card}: {}. Nothing was touched",
                e.detail
            );
            e
        })
    }
}

/// A reason that was really given.
fn given_reason(text: Option<&str>) -> Option<String> {
    let text = text.map(str::trim).filter(|text| !text.is_empty());
    text.map(str::to_owned)
}

fn random_id() -> Result<String, ApiError> {
    let mut bytes = [0; 12];
    getrandom::fill(&mut bytes).map_err(|e| ApiError::invalid("no-chance", e.to_string()))?;
    Ok(hex::encode(bytes))
}

fn holds(found: &Found, card: &Card) -> String {
    match &found.contents.occupant {
        Occupant::Stamped(stamp) => {
            let device = stamp
                .device
                .as_ref()
                .map(|device| format!(" for {device}"))
                .unwrap_or_default();
            format!("{}{device}", base_name(&stamp.base))
        }
        Occupant::Unfinished(_) => format!("nothing whole: {}", found.contents.summary),
        Occupant::Blank if card.state == "blank" => "nothing, it is blank".into(),
        _ => found.contents.summary.clone(),
    }
}

fn cautions(wanted: &Wanted, card: &Card, slot: u32) -> Vec<String> {
    let mut cautions = Vec::new();
    if card.state == "blank" {
        cautions.push(format!(
            "the card in slot {slot} carries no mark of ours yet: {} must stand on its sticker",
            card.label
        ));
    }
    if wanted.state.as_deref() == Some("draft") {
        cautions.push(format!(
            "{} is a draft, to be tried before others get it",
            wanted.base_name
        ));
    }
    if let Some(reason) = &wanted.override_reason {
        cautions.push(format!(
            "{} was withdrawn; it is written all the same: {reason}",
            wanted.base_name
        ));
    }
    cautions.extend(wanted.open_logins.iter().cloned());
    let counted = wanted.counted.iter().flat_map(|counted| &counted.values);
    for one in counted.filter(|one| one.secret && !one.kind.is_secret()) {
        cautions.push(format!(
            "{} was set as a secret, and this release calls it plain text; it stays a secret here, but lies on the card \
             as the release wants it",
            one.name
        ));
    }
    let Some(device) = &wanted.device else {
        if wanted.kind == "write" {
            cautions.push("no device is named, so no settings go onto the card".into());
        }
        return cautions;
    };
    if let Some(other) = device.card.as_ref().filter(|label| **label != card.label) {
        cautions.push(format!(
            "{} has card {other} already; with both in boards, two would come up under one name",
            device.name
        ));
    }
    if let Some(other) = card.device.as_ref().filter(|name| **name != device.name) {
        cautions.push(format!(
            "{} is the card of {other}, not of {}",
            card.label, device.name
        ));
    }
    cautions
}

/// A span of time in its largest unit.
fn age(span: time::Duration) -> String {
    let (number, unit) = match span.whole_minutes() {
        ..1 => return "less than a minute".into(),
        minutes @ 1..120 => (minutes, "minute"),
        minutes @ 120..2880 => (minutes / 60, "hour"),
        minutes => (minutes / 1440, "day"),
    };
    format!("{number} {unit}{}", if number == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::age;

    #[test]
    fn ages_are_said_in_their_largest_unit() {
        for (seconds, said) in [
            (5, "less than a minute"),
            (60, "1 minute"),
            (3 * 3600, "3 hours"),
            (50 * 3600, "2 days"),
        ] {
            assert_eq!(age(time::Duration::seconds(seconds)), said);
        }
    }
}
