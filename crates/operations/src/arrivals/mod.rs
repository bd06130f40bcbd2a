//! Arrivals: devices that are waited for after their card went in, watched until somebody accepts them; and a
//! light watch of those in service.

mod air;
mod awaited;
mod exports;
mod first_join;
mod lines;
mod looked;
mod looks;
mod told;
mod watch;

use std::collections::HashMap;
use std::net::IpAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use arrival::locate::{Locator, is_elsewhere};
use arrival::radio::{Heard, Radio};
use records::Records;
use records::arrivals::{Arrival, ArrivalEnd, NewArrival, Sighting as Kept};
use records::devices::Device;
use records::rounds::Turn;
use serde_json::json;
use time::OffsetDateTime;
use tokio::sync::Notify;
use vault::Keys;

use self::air::Air;
use self::awaited::{Awaited, all_awaited, awaited_by};
use self::lines::Lines;
use self::looked::may_be_ours;
use self::looks::{IDLE, KNOWN_FOR, Look};
use self::told::{Telling, row, seen_of};
use crate::in_force::InForce;
use crate::news::{Events, News};
use crate::refusal::Refusal;
use crate::rounds::Rounds;
use crate::work::word_of;

pub use told::lamps_of;

/// Arrivals that go on at once at most.
const MOST: i64 = 1000;
/// Length of a note at most, in characters.
const NOTE: usize = 1000;

/// How boards are watched.
pub struct Watching {
    /// The ways of finding them.
    pub locators: Vec<Box<dyn Locator>>,
    /// How often a device in service is looked at.
    pub every: Duration,
    /// The serial ports that may be listened at.
    pub serial_ports: Vec<PathBuf>,
    /// The radio of this computer, where there is one that may be used.
    pub radio: Option<Radio>,
    /// Whether a board may be at an address of this computer, as those of a demonstration are.
    pub own_addresses: bool,
}

/// The arrivals of the team.
pub struct Arrivals {
    records: Records,
    events: Events,
    in_force: InForce,
    rounds: Arc<Rounds>,
    keys: Arc<Keys>,
    watching: Watching,
    lines: Lines,
    /// Told when somebody said something, so that nobody waits for the next look.
    stirred: Notify,
    /// What is known of each arrival that goes on, only to look at it: all else is in the records.
    looks: Mutex<HashMap<i64, Look>>,
    /// What the radio hears.
    air: Air,
}

/// Refuses words that are too long.
fn note(text: &str) -> Result<&str, Refusal> {
    let text = text.trim();
    if text.chars().count() > NOTE || text.contains('\0') {
        let detail = format!("say it in at most {NOTE} characters");
        return Err(Refusal::invalid("bad-value", detail));
    }
    Ok(text)
}

fn address(text: Option<&str>) -> Result<Option<&str>, Refusal> {
    let given = text.map(str::trim).filter(|text| !text.is_empty());
    match given.map(str::parse::<IpAddr>) {
        Some(Err(_)) => {
            let detail = "an address is four numbers with dots between, or one of IPv6";
            Err(Refusal::invalid("bad-value", detail))
        }
        _ => Ok(given),
    }
}

impl Arrivals {
    /// The address that somebody says a board is at.
    fn address<'a>(&self, text: Option<&'a str>) -> Result<Option<&'a str>, Refusal> {
        let given = address(text)?;
        let parsed = given.and_then(|given| given.parse().ok());
        if let (Some(given), Some(parsed)) = (given, parsed)
            && !self.watching.own_addresses
            && !is_elsewhere(parsed)
        {
            let detail = format!(
                "{given} is this computer, or no board's: nobody is asked there (the setting private_addresses allows it)"
            );
            return Err(Refusal::invalid("bad-address", detail));
        }
        Ok(given)
    }

    /// Nothing was looked at yet.
    pub fn new(
        records: Records,
        events: Events,
        in_force: InForce,
        rounds: Arc<Rounds>,
        keys: Arc<Keys>,
        mut watching: Watching,
    ) -> Self {
        let ports = std::mem::take(&mut watching.serial_ports);
        Self {
            air: Air::of(watching.radio.take()),
            lines: Lines::new(ports),
            records,
            events,
            in_force,
            rounds,
            keys,
            watching,
            stirred: Notify::new(),
            looks: Mutex::default(),
        }
    }

    fn looks(&self) -> MutexGuard<'_, HashMap<i64, Look>> {
        self.looks.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Something was said: what is waited for may be another thing now.
    fn stir(&self) {
        let now = Instant::now();
        for look in self.looks().values_mut() {
            look.due = now;
            look.made = now.checked_sub(KNOWN_FOR).unwrap_or(now);
        }
        self.events.bus.tell(News::Events);
        self.stirred.notify_one();
    }

    /// Begins to wait for a device.
    pub async fn begin(&self, operator: &str, new: &api::NewArrival) -> Result<i64, Refusal> {
        let device = self.records.device(&new.device).await?;
        let card = new.card.clone().or_else(|| device.card.clone());
        self.begin_for(operator, &device, card.as_deref(), new, false)
            .await
    }

    async fn begin_for(
        &self,
        operator: &str,
        device: &Device,
        card: Option<&str>,
        new: &api::NewArrival,
        hello: bool,
    ) -> Result<i64, Refusal> {
        if let Some(label) = card {
            let known = self.records.card(label).await?;
            let other = known.device.as_ref().filter(|name| **name != device.name);
            if let Some(other) = other {
                let detail = format!(
                    "card {label} was made for {other}, not for {}; put it into that one, or write it anew",
                    device.name
                );
                return Err(Refusal::conflict("other-device", detail));
            }
        }
        let awaited = all_awaited(&self.in_force, std::slice::from_ref(device)).await?;
        let id = self
            .records
            .begin_arrival(&NewArrival {
                device: device.id,
                name: &device.name,
                card,
                hello,
                waits_for: note(&new.waits_for)?,
                address: self.address(new.address.as_deref())?,
                steps: &awaited[0].steps,
                operator,
            })
            .await?;
        self.stir();
        Ok(id)
    }

    /// A board says by itself that it came up with the card of an imprint. It is waited for from now on, if it was
    /// not before.
    pub async fn hello(&self, hello: &api::Hello) -> Result<(), Refusal> {
        let wrong = || Refusal::missing("nobody waits for that word, or it was said before");
        if word_of(&self.keys, hello.imprint) != hello.word {
            return Err(wrong());
        }
        let said = self.records.said_hello(hello.imprint).await?;
        let (device, card) = said.ok_or_else(wrong)?;
        let found = self.records.device(&device).await?;
        let open = self.records.arrivals(true, Some(&device), None, 1).await?;
        if open.is_empty() {
            let new = api::NewArrival {
                device,
                ..api::NewArrival::default()
            };
            self.begin_for("the board itself", &found, Some(&card), &new, true)
                .await?;
        }
        self.stir();
        Ok(())
    }

    /// What somebody sees or knows of an arrival.
    pub async fn tell(&self, id: i64, change: &api::ArrivalChange) -> Result<(), Refusal> {
        let lamp = change.lamp.as_deref().map(str::trim);
        if let Some(lamp) = lamp {
            let arrival = self.records.arrival(id).await?;
            let boards = self.records.boards().await?;
            let board = boards.iter().find(|board| board.name == arrival.board);
            let known = board.map(lamps_of).unwrap_or_default();
            if !known.iter().any(|one| one.pattern == lamp) {
                let all: Vec<_> = known.iter().map(|one| one.pattern.as_str()).collect();
                let detail = format!(
                    "the table of {} has no pattern {lamp:?}; it has: {}",
                    arrival.board,
                    all.join("; ")
                );
                return Err(Refusal::invalid("bad-value", detail));
            }
        }
        let address = self.address(change.address.as_deref())?;
        self.records.tell_arrival(id, lamp, address).await?;
        self.stir();
        Ok(())
    }

    /// Somebody did a step, or takes that back.
    pub async fn step(
        &self,
        operator: &str,
        id: i64,
        place: i32,
        change: &api::StepChange,
    ) -> Result<(), Refusal> {
        let words = note(&change.note)?;
        self.records
            .tell_step(id, place, change.done, words, operator)
            .await?;
        self.events.bus.tell(News::Events);
        Ok(())
    }

    /// Ends an arrival. Where it is accepted, what there is to be careful about must be accepted by name.
    pub async fn end(&self, operator: &str, id: i64, end: &api::ArrivalEnd) -> Result<(), Refusal> {
        let words = note(&end.note)?;
        let description = match end.description.as_deref() {
            Some(text) => Some(note(text)?.to_owned()),
            None => None,
        };
        let how = end.how.as_str();
        if !matches!(how, "accepted" | "refused" | "stopped") {
            let detail = format!("an arrival ends accepted, refused or stopped, not {how:?}");
            return Err(Refusal::invalid("bad-value", detail));
        }
        if how == "refused" && words.is_empty() {
            let detail = "say what was seen, so that whoever comes next need not find it out again";
            return Err(Refusal::invalid("bad-value", detail));
        }
        let arrival = self.records.arrival(id).await?;
        let (mut accepted, mut kept) = (Vec::new(), None);
        if how == "accepted" && arrival.ended_at.is_none() {
            let detail = self.show(id).await?;
            accepted = detail.cautions.iter().map(|one| one.name.clone()).collect();
            let open = accepted.iter().filter(|name| !end.accept.contains(name));
            let open: Vec<_> = open.map(String::as_str).collect();
            if !open.is_empty() {
                let words = format!(
                    "{} is not accepted yet: accept by name what there is to be careful about: {}",
                    arrival.device,
                    open.join(", ")
                );
                return Err(Refusal::conflict("not-accepted", words));
            }
            kept = Some(keep(&arrival, &detail.seen));
        }
        let end = ArrivalEnd {
            state: how,
            note: words,
            accepted: &accepted,
            sighting: kept,
            description: description.as_deref(),
            operator,
        };
        self.records.end_arrival(id, &end).await?;
        self.looks().remove(&id);
        self.hang_up(id);
        if how == "accepted" {
            self.accept_trial(operator, &arrival.device).await?;
        }
        self.stir();
        Ok(())
    }

    /// A round that waits for its first card to do its job goes on when that one was accepted.
    async fn accept_trial(&self, operator: &str, device: &str) -> Result<(), Refusal> {
        let Some(round) = self.records.round_under_way().await? else {
            return Ok(());
        };
        if round.state != "trial" {
            return Ok(());
        }
        let entries = self.records.round_entries(round.id).await?;
        let made = |entry: &records::rounds::Entry| {
            entry.state == "done" && entry.device.as_deref() == Some(device)
        };
        if !entries.iter().any(made) {
            return Ok(());
        }
        match self.rounds.turn(operator, round.id, Turn::Accept).await {
            // Somebody else was quicker.
            Err(e) if e.why == crate::refusal::Why::Conflict => Ok(()),
            ended => ended,
        }
    }

    /// The arrivals that go on and a page of those that are over.
    pub async fn list(&self, before: Option<i64>, page: i64) -> Result<api::Arrivals, Refusal> {
        let open = match before {
            None => self.records.arrivals(true, None, None, MOST).await?,
            Some(_) => Vec::new(),
        };
        let mut items = Vec::new();
        for telling in self.tellings(&open).await? {
            items.push(telling.telling(Vec::new()).row());
        }
        let over = self.records.arrivals(false, None, before, page).await?;
        let next = (over.len() as i64 == page).then(|| over.last().map(|one| one.id));
        let over = over.iter().filter(|one| one.ended_at.is_some());
        items.extend(over.map(|arrival| row(arrival, None, false)));
        Ok(api::Arrivals {
            items,
            next: next.flatten(),
        })
    }

    /// The newest arrival of a device.
    pub async fn newest(&self, device: &str) -> Result<i64, Refusal> {
        self.records.device(device).await?;
        let found = self.records.arrivals(false, Some(device), None, 1).await?;
        let found = found.first().map(|one| one.id);
        found.ok_or_else(|| Refusal::missing(format!("{device} was never waited for")))
    }

    /// One arrival with all that is seen of it.
    pub async fn show(&self, id: i64) -> Result<api::ArrivalDetail, Refusal> {
        let arrival = self.records.arrival(id).await?;
        let steps = self.records.arrival_steps(id).await?;
        let mut all = self.tellings(std::slice::from_ref(&arrival)).await?;
        match all.pop() {
            Some(facts) => Ok(facts.telling(steps).detail()),
            None => Err(Refusal::missing(format!("there is no arrival {id}"))),
        }
    }

    /// What these arrivals are told from.
    async fn tellings<'a>(&self, arrivals: &'a [Arrival]) -> Result<Vec<Facts<'a>>, Refusal> {
        if arrivals.is_empty() {
            return Ok(Vec::new());
        }
        let boards = Arc::new(self.records.boards().await?);
        let names: Vec<_> = arrivals.iter().map(|one| one.device.clone()).collect();
        let devices = self.records.devices_named(&names).await?;
        let awaited = all_awaited(&self.in_force, &devices).await?;
        let named = devices.iter().map(|device| device.name.clone());
        let of: HashMap<String, Awaited> = named.zip(awaited).collect();
        let mut usual: HashMap<(String, String), (Option<f64>, i64)> = HashMap::new();
        let mut all = Vec::new();
        for arrival in arrivals {
            let kind = (arrival.appliance.clone(), arrival.board.clone());
            let usual = match usual.get(&kind) {
                Some(usual) => *usual,
                None => {
                    let found = self.records.usual_arrival(&kind.0, &kind.1).await?;
                    usual.insert(kind, found);
                    found
                }
            };
            let before = match arrivals.len() {
                // Only whoever looks at one arrival asks what was seen of its device before.
                1 => self
                    .records
                    .watched(Some(&arrival.device), None, 1)
                    .await?
                    .pop(),
                _ => None,
            };
            let awaited = of.get(&arrival.device).cloned().unwrap_or_default();
            let same = before
                .as_ref()
                .is_some_and(|before| before.imprint_id == arrival.imprint_id);
            let before = before.filter(|_| same);
            all.push(Facts {
                arrival,
                boards: boards.clone(),
                usual,
                host_key: before.as_ref().and_then(|one| one.host_key.clone()),
                certificate: before.and_then(|one| one.certificate),
                to_give_back: match arrivals.len() {
                    1 => self.to_give_back(arrival, &awaited).await?,
                    _ => None,
                },
                awaited: awaited_by(awaited, arrival),
                heard: self.air.heard(),
            });
        }
        Ok(all)
    }

    /// Everything that needs a hand because of a device in the field, the oldest first.
    pub async fn attention(&self) -> Result<Vec<api::Attention>, Refusal> {
        let mut all = Vec::new();
        for outage in self.records.outages(None).await? {
            let why = match outage.reason.as_str() {
                "" => String::new(),
                reason => format!(": {reason}"),
            };
            all.push(api::Attention {
                kind: "down".into(),
                words: format!("{} is down{why}", outage.device),
                device: outage.device,
                since: outage.since,
                arrival: None,
                card: None,
            });
        }
        let open = self.records.arrivals(true, None, None, MOST).await?;
        for facts in self.tellings(&open).await? {
            let arrival = facts.arrival;
            let telling = facts.telling(Vec::new());
            let seen = seen_of(arrival);
            let question = seen
                .boards
                .iter()
                .find(|board| matches!(board.whose.as_str(), "other" | "other-card"));
            let (kind, words) = if let Some(board) = question {
                ("arrival-question", board.words.clone())
            } else if arrival.state == "ready" {
                (
                    "arrival-ready",
                    format!(
                        "{} is up; somebody has to say that it does its job",
                        arrival.device
                    ),
                )
            } else if telling.row().late {
                (
                    "arrival-late",
                    format!("{} did not come up in its time", arrival.device),
                )
            } else {
                continue;
            };
            all.push(api::Attention {
                kind: kind.into(),
                device: arrival.device.clone(),
                words,
                since: arrival.ready_at.unwrap_or(arrival.began_at),
                arrival: Some(arrival.id),
                card: None,
            });
        }
        all.extend(watch::attention(&self.records).await?);
        all.sort_by_key(|one| one.since);
        Ok(all)
    }

    /// Looks at devices in service for as long as the service runs. Apart from arrivals: a network that is away makes
    /// many of them slow.
    pub async fn look_after(self: Arc<Self>) {
        loop {
            let (records, in_force) = (&self.records, &self.in_force);
            match watch::look_again(records, in_force, &self.events, &self.watching).await {
                Ok(seen) => {
                    for one in seen {
                        self.take_in_passing(&one.device, &one.awaited, &one.at)
                            .await;
                    }
                }
                Err(e) => tracing::debug!("looking after devices in service: {e}"),
            }
            tokio::time::sleep(IDLE.min(self.watching.every)).await;
        }
    }
}

/// What is kept of a device that is accepted.
fn keep(arrival: &Arrival, seen: &api::ArrivalSeen) -> Kept {
    let board = seen.boards.first().filter(|board| may_be_ours(board));
    let Some(board) = board else {
        return Kept {
            ports: json!({}),
            imprint_id: arrival.imprint_id,
            ..Kept::default()
        };
    };
    Kept {
        address: Some(board.address.clone()),
        ports: json!(board.ports),
        host_key: board.host_key.clone(),
        certificate: board.certificate.clone(),
        certificate_until: board.certificate_until,
        version: board.version.clone(),
        mac: board.mac.clone(),
        imprint_id: arrival.imprint_id,
    }
}

/// What an arrival is told from, without its steps.
struct Facts<'a> {
    arrival: &'a Arrival,
    awaited: Awaited,
    boards: Arc<Vec<records::boards::BoardModel>>,
    usual: (Option<f64>, i64),
    host_key: Option<String>,
    certificate: Option<String>,
    to_give_back: Option<api::Export>,
    heard: Option<Vec<Heard>>,
}

impl Facts<'_> {
    fn telling(&self, steps: Vec<records::arrivals::Step>) -> Telling<'_> {
        Telling {
            arrival: self.arrival,
            awaited: &self.awaited,
            board: self
                .boards
                .iter()
                .find(|board| board.name == self.arrival.board),
            usual: self.usual,
            steps,
            host_key: self.host_key.clone(),
            certificate: self.certificate.clone(),
            to_give_back: self.to_give_back.clone(),
            heard: self.heard.clone(),
        }
    }
}

/// Now, for those who compare with it.
fn now() -> OffsetDateTime {
    OffsetDateTime::now_utc()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_addresses() {
        assert_eq!(address(Some(" 192.0.2.7 ")).unwrap(), Some("192.0.2.7"));
        assert_eq!(address(Some("")).unwrap(), None);
        assert!(address(Some("quay-01")).is_err());
        assert!(note(&"x".repeat(NOTE + 1)).is_err());
    }
}
