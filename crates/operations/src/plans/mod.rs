//! Plans: what a write or restore would do, bound to the card that was seen, confirmed by its
//! label. They live in memory, so a restart voids them.

mod losses;
mod on_card;
mod stops;
mod wanted;

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use cardwork::{Access, Bound, CardError, Insertion};
use imagecraft::compose::{Change, PlacedFile, compose};
use imagecraft::{ByteKind, Disk};
use records::Records;
use records::cards::{Card, Standing};
use records::devices::Device;
use records::jobs::{NewJob, RequestKey};
use serde_json::json;
use settings::Grow;

use self::stops::Stops;
use crate::benches::Spot;
use crate::catalogue::Catalogue;
use crate::in_force::{IMAGE_GROWS, InForce, growth_words, shrunk_words};
use crate::jobs::Jobs;
use crate::refusal::{Refusal, Why};
use crate::slots::{Inserted, Slots};
use crate::store::{Store, own_id};
use crate::work::{CardOrder, CardWork, WriteOrder, work_on_card, write_card};
use api::SlotName;

/// A plan that nobody confirmed for this long is void.
const LIFE: Duration = Duration::from_secs(30 * 60);

/// Plans that wait at most, and the bytes that the files of all of them may take.
const MOST: usize = 64;
const MOST_BYTES: usize = 64 << 20;

/// What a plan would do.
enum Order {
    Write(Box<WriteOrder>),
    Card(CardOrder),
}

impl Order {
    fn at(&self) -> &Spot {
        match self {
            Self::Write(order) => &order.at,
            Self::Card(order) => &order.at,
        }
    }

    fn slot(&self) -> SlotName {
        self.at().slot
    }

    fn bound(&self) -> &Bound {
        match self {
            Self::Write(order) => &order.bound,
            Self::Card(order) => &order.bound,
        }
    }

    /// Number and label of the card.
    fn card(&self) -> (i64, &str) {
        match self {
            Self::Write(order) => (order.card_id, &order.card),
            Self::Card(order) => (order.card_id, &order.card),
        }
    }

    /// What it is about, for people.
    fn subject(&self) -> String {
        match self {
            Self::Write(order) => match &order.device {
                Some((_, device)) => format!("{} for {device} to {}", order.base_name, order.card),
                None => format!("{} to {}", order.base_name, order.card),
            },
            Self::Card(order) => match order.work {
                CardWork::Full => format!("card {}, every byte", order.card),
                _ => format!("card {}", order.card),
            },
        }
    }
}

struct Held {
    order: Order,
    kind: &'static str,
    made: Instant,
    /// What the records said of the card.
    standing: Standing,
    /// Name of the release, if it is one.
    release: Option<String>,
    /// Names of the cautions that have to be accepted.
    cautions: Vec<String>,
}

fn names_of(cautions: &[api::Caution]) -> Vec<String> {
    cautions.iter().map(|one| one.name.clone()).collect()
}

impl Held {
    fn bytes(&self) -> usize {
        let of = |file: &PlacedFile| match &file.change {
            Change::File(bytes) => bytes.len(),
            _ => 0,
        };
        match &self.order {
            Order::Write(order) => order.files.iter().map(of).sum(),
            Order::Card(_) => 0,
        }
    }
}

/// Makes plans, keeps those that wait for a confirmation, and starts what was confirmed.
pub struct Plans {
    records: Records,
    store: Arc<Store>,
    slots: Arc<Slots>,
    jobs: Arc<Jobs>,
    catalogue: Catalogue,
    in_force: InForce,
    held: Mutex<HashMap<String, Held>>,
}

impl Plans {
    /// No plan waits yet.
    pub fn new(
        records: Records,
        store: Arc<Store>,
        slots: Arc<Slots>,
        jobs: Arc<Jobs>,
        catalogue: Catalogue,
        in_force: InForce,
    ) -> Self {
        Self {
            records,
            store,
            slots,
            jobs,
            catalogue,
            in_force,
            held: Mutex::default(),
        }
    }

    fn held(&self) -> MutexGuard<'_, HashMap<String, Held>> {
        let mut held = self.held.lock().unwrap_or_else(|e| e.into_inner());
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

/// What is known of a write before any card is there.
pub struct Foreseen {
    /// The device that it is for.
    pub device: Option<Device>,
    /// Name of the release or backup.
    pub base: String,
    /// Fewest bytes that a card must hold for it.
    pub smallest_card: u64,
    /// What has to be accepted by name, whichever card it goes onto.
    pub cautions: Vec<api::Caution>,
}

impl Plans {
    /// What a plan would come to before any card is there, or why there can be none.
    pub async fn foresee(&self, new: &api::NewPlan) -> Result<Foreseen, Refusal> {
        let wanted = self.wanted(new).await?;
        let mut cautions = losses::cautions_of_content(&wanted);
        if let Some(device) = &wanted.device {
            cautions.extend(losses::second_card(device, None));
        }
        Ok(Foreseen {
            device: wanted.device,
            base: wanted.base_name,
            smallest_card: wanted.smallest_card,
            cautions,
        })
    }

    /// What would be lost with the card in a slot, a sentence each.
    pub async fn would_lose(&self, slot: SlotName, card: &Card) -> Result<Vec<String>, Refusal> {
        let inserted = self.slots.card_in(slot).await?;
        losses::lost(&self.records, &inserted.found, card).await
    }

    /// Makes a plan. Every refusal comes before anything is touched; the only trace it leaves is
    /// a label for a card that had none.
    pub async fn make(&self, operator: &str, new: &api::NewPlan) -> Result<api::Plan, Refusal> {
        self.make_for(operator, new, None).await
    }

    /// The same for the card of one insertion, if it is given: what somebody has judged is what is planned.
    pub async fn make_for(
        &self,
        operator: &str,
        new: &api::NewPlan,
        judged: Option<&Insertion>,
    ) -> Result<api::Plan, Refusal> {
        let wanted = self.wanted(new).await?;
        let inserted = self.slots.card_in(new.slot).await?;
        let Inserted { at, medium, found } = &inserted;
        if judged.is_some_and(|insertion| *insertion != medium.insertion) {
            return Err(cardwork::Unsafe::Swapped.into());
        }
        // By the card that was just looked at: what was seen a moment ago may be another one.
        wanted.check_source(new.slot, at, &medium.insertion)?;
        let mut stops = Stops::default();
        stops.medium(new.slot, medium);
        stops.size(new.slot, medium, &wanted.base_name, wanted.smallest_card);
        if let Some(label) = &found.label {
            let card = self.records.card(label).await?;
            stops.standing(new.slot, &card, CardWork::Full);
            stops.suspicion(new.slot, &card);
        }
        stops.settle()?;
        let (card, new_label) = self.label(new.slot, medium, found, operator).await?;
        // Before anything is said about the card, so that what changes meanwhile voids the plan.
        let standing = self.records.standing(card.id).await?;
        let mut order = self.order(&wanted, &inserted, &card);
        order.size_proven = self.records.is_proven(card.id).await?;
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
        let mut cautions = losses::cautions(&wanted, &card);
        let mut notes = losses::notes(&wanted, &card, new.slot);
        let usual = self.records.largest_used().await?;
        cautions.extend(losses::much_larger(
            medium.size,
            wanted.smallest_card,
            usual,
        ));
        if let Some(why) = &tried.unstamped {
            notes.push(format!(
                "no stamp finds a place on it ({why}): the card will not say by itself what it is"
            ));
        }
        let id = own_id(&self.records)?;
        let to_write = match order.wipe_free {
            true => medium.size,
            false => tried.to_write,
        };
        let known_rates = card.write_rate.zip(card.read_rate);
        let rates = match known_rates {
            Some(rates) => Some(rates),
            None => {
                let (write, read) = self
                    .records
                    .rates_at(&at.place.reader, at.place.unit as i32)
                    .await?;
                write.zip(read)
            }
        };
        let seconds =
            rates.map(|(write, verify)| to_write as f64 / write + to_write as f64 / verify);
        if !order.wipe_free
            && let Some(whose) = losses::stays_readable(found, wanted.device.as_ref())
        {
            cautions.push(whose);
        }
        let size_proven = order.size_proven;
        let plan = api::Plan {
            id: id.clone(),
            seconds,
            seconds_by: seconds.map(|_| match known_rates {
                Some(_) => "card".into(),
                None => "slot".into(),
            }),
            kind: wanted.kind.into(),
            slot: new.slot,
            card: card.label.clone(),
            new_label,
            card_size: medium.size,
            size_proven,
            card_holds: losses::holds(found, &card),
            base: wanted.base_name.clone(),
            device: wanted.device.as_ref().map(|device| device.name.clone()),
            to_write,
            smallest_card: wanted.smallest_card,
            unallocated: medium.size.saturating_sub(tried.end),
            settings: self.shown_settings(&wanted),
            files: landing,
            growth,
            left_out: tried.left_out,
            lost: losses::lost(&self.records, found, &card).await?,
            cautions,
            notes,
        };
        self.keep(
            id,
            Held {
                cautions: names_of(&plan.cautions),
                order: Order::Write(Box::new(order)),
                kind: wanted.kind,
                made: Instant::now(),
                standing,
                release: wanted.state.as_ref().map(|_| wanted.base_name.clone()),
            },
        );
        Ok(plan)
    }

    /// Composes the card without writing it.
    async fn try_compose(&self, order: &WriteOrder) -> Result<Tried, Refusal> {
        let (store, order) = (self.store.clone(), order.clone());
        let composed = tokio::task::spawn_blocking(move || {
            let disk = store.disk(order.manifest)?;
            let map = disk.manifest().map()?;
            let composed = compose(disk, &map, order.bound.size, &order.recipe(0, &store.keys))?;
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
            Ok::<_, Refusal>(Tried {
                missing: missing.collect(),
                unstamped: composed.unstamped.clone(),
                to_write: composed.map.total(ByteKind::Data) + composed.map.total(ByteKind::Zero),
                end: composed.layout.smallest_card(),
                growth: match &composed.shrunk {
                    Some(shrunk) => Some(shrunk_words(shrunk)),
                    None => composed.grown.as_ref().map(growth_words),
                },
                left_out: left_out.collect(),
            })
        });
        composed
            .await
            .map_err(|e| Refusal::invalid("cannot-compose", e.to_string()))?
    }

    /// Confirms a plan and starts the work. A label that is not this card's voids the plan; a caution that
    /// is not accepted leaves it as it is.
    pub async fn confirm(
        &self,
        operator: &str,
        id: &str,
        given: &api::Confirmation,
        request_key: Option<RequestKey>,
    ) -> Result<api::Job, Refusal> {
        let held = self.take(id, given)?;
        let Held {
            mut order,
            cautions,
            kind,
            standing,
            release,
            ..
        } = held;
        if let Order::Write(order) = &mut order {
            order.accepted = cautions;
        }
        let (_, card) = order.card();
        let reserved = self.slots.reserve(order.slot())?;
        self.check_bound(&order).await?;
        let insertion = &order.bound().insertion;
        self.slots.must_be(card, order.slot(), insertion)?;
        self.check_standing(&order, &standing, release.as_deref())
            .await?;
        let new = NewJob {
            kind,
            subject: order.subject(),
            at: Some(order.at().at()),
            card: Some(card.to_owned()),
            operator: operator.into(),
            request_key,
        };
        let (bench, store) = (self.slots.benches().clone(), self.store.clone());
        self.jobs
            .start(new, Some(Box::new(reserved)), move |work| match &order {
                Order::Write(order) => write_card(work, &bench, &store, order),
                Order::Card(order) => work_on_card(work, &bench, &store, order),
            })
            .await
    }

    /// Takes a plan out that is confirmed.
    fn take(&self, id: &str, given: &api::Confirmation) -> Result<Held, Refusal> {
        let mut plans = self.held();
        let held = plans.remove(id).ok_or_else(|| {
            Refusal::new(
                Why::Void,
                "plan-void",
                "this plan does not hold any more (used, too old, or the service was started anew); make it again",
            )
        })?;
        let ((_, card), label) = (held.order.card(), &given.card);
        if label != card {
            return Err(Refusal::conflict(
                "wrong-label",
                format!(
                    "the card in slot {} is {card}, not {label}; nothing was touched. Look at the sticker, then make the plan again",
                    held.order.slot()
                ),
            ));
        }
        let open = held
            .cautions
            .iter()
            .filter(|name| !given.accept.contains(name));
        let open: Vec<_> = open.cloned().collect();
        if !open.is_empty() {
            let detail = format!(
                "nothing was touched: accept by name what there is to be careful about with card {card}: {}",
                open.join(", ")
            );
            plans.insert(id.to_owned(), held);
            return Err(Refusal::conflict("not-accepted", detail));
        }
        Ok(held)
    }

    /// What the records say of the card, and of the release, must still be what they said.
    async fn check_standing(
        &self,
        order: &Order,
        seen: &Standing,
        release: Option<&str>,
    ) -> Result<(), Refusal> {
        let (id, card) = order.card();
        let now = self.records.standing(id).await?;
        if now != *seen {
            return Err(Refusal::conflict(
                "plan-void",
                format!(
                    "what the records say of card {} has changed since the plan was made: it was {}, it is {} now. \
                     Nothing was touched; make the plan again and read what would be lost",
                    card,
                    seen.describe(),
                    now.describe()
                ),
            ));
        }
        let Some(name) = release else {
            return Ok(());
        };
        let release = self.records.release(name).await?;
        let overridden = matches!(order, Order::Write(order) if order.override_reason.is_some());
        if release.state == "withdrawn" && !overridden {
            return Err(Refusal::conflict(
                "withdrawn",
                format!(
                    "{name} was withdrawn since the plan was made. Nothing was touched; make the plan again to write \
                     another release, or this one with a reason"
                ),
            ));
        }
        Ok(())
    }

    /// The card must still be the one that was seen; the job checks it again before it writes.
    async fn check_bound(&self, order: &Order) -> Result<(), Refusal> {
        let (bench, bound) = (self.slots.benches().clone(), order.bound().clone());
        let (slot, (_, card)) = (order.slot(), order.card());
        let number = slot;
        let checked = tokio::task::spawn_blocking(move || {
            let slot = bench.slot(number)?.ok_or(CardError::Empty)?;
            let medium = slot.medium()?.ok_or(CardError::Empty)?;
            if medium.insertion != bound.insertion {
                return Err(Refusal::from(cardwork::Unsafe::Swapped));
            }
            let held = slot.open(&bound.insertion, Access::Hold)?;
            Ok(bound.check(&medium, held.as_ref())?)
        });
        let checked = checked
            .await
            .map_err(|e| Refusal::invalid("reader", e.to_string()))?;
        checked.map_err(|mut e| {
            e.detail = format!(
                "slot {slot}, planned for card {card}: {}. Nothing was touched",
                e.detail
            );
            e
        })
    }
}
