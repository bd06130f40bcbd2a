//! An arrival as it is told: what will happen, what was seen, why it may be late, what stands against accepting it.

use std::time::Duration;

use arrival::causes::{Cause, Lamp, Stage, causes};
use arrival::radio::Heard;
use records::arrivals::{Arrival, Step};
use records::boards::BoardModel;
use time::OffsetDateTime;

use super::awaited::Awaited;
use super::looked::may_be_ours;

/// What is taken for a board whose sheet and model say nothing.
const USUAL: Duration = Duration::from_secs(180);
/// A board is late when it took so many times as long as expected.
const LATE: f64 = 1.5;

/// What an arrival is told from.
pub(super) struct Telling<'a> {
    pub arrival: &'a Arrival,
    pub awaited: &'a Awaited,
    pub board: Option<&'a BoardModel>,
    /// Middle of earlier arrivals of this kind in seconds, and how many there were.
    pub usual: (Option<f64>, i64),
    pub steps: Vec<Step>,
    /// The key that was seen of the device with the same imprint before.
    pub host_key: Option<String>,
    /// The certificate that was seen of it before.
    pub certificate: Option<String>,
    /// What can be given back to it.
    pub to_give_back: Option<api::Export>,
    /// The networks that the service's own computer hears.
    pub heard: Option<Vec<Heard>>,
}

/// What was seen of an arrival, as the records have it.
pub(super) fn seen_of(arrival: &Arrival) -> api::ArrivalSeen {
    serde_json::from_value(arrival.seen.clone()).unwrap_or_default()
}

/// The lamp patterns of a board model.
pub fn lamps_of(board: &BoardModel) -> Vec<api::Lamp> {
    serde_json::from_value(board.lamp_table.clone()).unwrap_or_default()
}

impl Telling<'_> {
    /// Seconds until it answers, and where that comes from.
    fn seconds(&self) -> (f64, String) {
        let minutes = |minutes: f64| (minutes * 60.0).max(1.0);
        match (
            self.usual,
            self.awaited.minutes,
            self.board.and_then(|board| board.boot_minutes),
        ) {
            ((Some(middle), earlier), ..) => {
                let many = if earlier == 1 { "one" } else { "the middle of" };
                let those = if earlier == 1 {
                    "earlier arrival".into()
                } else {
                    format!("{earlier} earlier arrivals")
                };
                (middle, format!("{many} {those} of this kind"))
            }
            (_, Some(said), _) => (minutes(said), "its release sheet".into()),
            (_, _, Some(said)) => (minutes(said), "its board model".into()),
            _ => (USUAL.as_secs_f64(), "a guess".into()),
        }
    }

    fn due(&self) -> OffsetDateTime {
        self.arrival.began_at + Duration::from_secs_f64(self.seconds().0.clamp(1.0, 86_400.0))
    }

    fn is_late(&self) -> bool {
        let waits = self.arrival.ended_at.is_none() && self.arrival.answered_at.is_none();
        let took = (OffsetDateTime::now_utc() - self.arrival.began_at).as_seconds_f64();
        waits && took > self.seconds().0 * LATE
    }

    /// It as a row of a list.
    pub fn row(&self) -> api::Arrival {
        row(self.arrival, Some(self.due()), self.is_late())
    }

    fn causes(&self, seen: &api::ArrivalSeen) -> Vec<api::Cause> {
        let lamps = self.board.map(lamps_of).unwrap_or_default();
        let lamp = self.arrival.lamp.as_ref();
        let lamp = lamp.and_then(|pattern| lamps.iter().find(|one| one.pattern == *pattern));
        let is_dead = lamp.is_some_and(|lamp| !matches!(lamp.cause.as_str(), "" | "none"));
        if self.arrival.ended_at.is_some() || (!self.is_late() && !is_dead) {
            return Vec::new();
        }
        let other = seen.boards.iter().find(|board| board.whose == "other");
        let ours = || seen.boards.iter().filter(|board| may_be_ours(board));
        let stage = Stage {
            lamp: lamp.map(|lamp| Lamp {
                means: lamp.means.clone(),
                cause: lamp.cause.clone(),
            }),
            found: ours().next().is_some(),
            answers: ours().any(|board| board.answers),
            networks: self.awaited.networks.clone(),
            country: self.awaited.country.clone(),
            wired: self
                .board
                .is_some_and(|board| board.ports.contains("wired")),
            address: self.awaited.address.clone(),
            clash: other
                .and_then(|board| board.words.split(',').next())
                .map(str::to_owned),
            internet: self.awaited.internet,
            blind: seen.blind.clone(),
            heard: self.heard.clone(),
        };
        let told = |Cause { what, todo }| api::Cause { what, todo };
        causes(&stage).into_iter().map(told).collect()
    }

    /// What has to be accepted by name when it is accepted.
    pub fn cautions(&self, seen: &api::ArrivalSeen) -> Vec<api::Caution> {
        let mut all = Vec::new();
        let mut add = |name: &str, words: String| all.push(api::Caution::new(name, words));
        let device = &self.arrival.device;
        let ours: Vec<_> = seen
            .boards
            .iter()
            .filter(|board| may_be_ours(board))
            .collect();
        match ours.as_slice() {
            [] => add(
                "not-seen",
                format!("{device} is not seen on its network from here"),
            ),
            [board] if board.whose == "name-only" => add("not-proven", board.words.clone()),
            [_] => {}
            several => add(
                "two-of-one-name",
                format!("{} boards answer to the name of {device}", several.len()),
            ),
        }
        for board in &seen.boards {
            match board.whose.as_str() {
                "other" => add("other-board", board.words.clone()),
                "other-card" => add("other-card", board.words.clone()),
                _ => {}
            }
        }
        let ahead = ours.iter().find_map(|board| board.clock_ahead);
        if let Some(ahead) = ahead.filter(|ahead| ahead.unsigned_abs() > CLOCK_OFF) {
            add("clock-off", clock_words(ahead));
        }
        let of = |states: &[&str]| -> Vec<String> {
            let found = seen.checks.iter();
            let found = found.filter(|check| states.contains(&check.state.as_str()));
            found
                .map(|check| format!("{}: {}", check.title, check.words))
                .collect()
        };
        let failed = of(&["failed", "waiting"]);
        if !failed.is_empty() {
            add("check-failed", failed.join("; "));
        }
        let questions = of(&["question"]);
        if !questions.is_empty() {
            add("other-version", questions.join("; "));
        }
        if ours.iter().any(|board| !board.answers) {
            let why = ours.iter().find_map(|board| board.problem.clone());
            add(
                "no-answer",
                why.unwrap_or_else(|| "its page does not answer".into()),
            );
        }
        if let Some(key) = changed(&self.host_key, ours.iter().map(|board| &board.host_key)) {
            add(
                "other-key",
                format!(
                    "its SSH key is {key} now, and was another with the same card; somebody may stand between"
                ),
            );
        }
        if let Some(certificate) = changed(
            &self.certificate,
            ours.iter().map(|board| &board.certificate),
        ) {
            add(
                "other-certificate",
                format!("its page's certificate is {certificate} now, and was another"),
            );
        }
        for login in &seen.logins {
            let user = &login.user;
            match login.state.as_str() {
                "open" => add(
                    "login-open",
                    format!(
                        "{user} gets in with the password that everybody knows; change it at once"
                    ),
                ),
                "not asked" => add(
                    "no-password",
                    format!(
                        "its page for {user} opens without a password; set one, or correct the sheet"
                    ),
                ),
                "any password" => add(
                    "no-password",
                    format!("its page for {user} opens with any password; set one that it checks"),
                ),
                _ => {}
            }
        }
        if seen.falls >= FALLS {
            add(
                "in-circles",
                format!("it went away {} times after it had come up", seen.falls),
            );
        }
        let open = self
            .steps
            .iter()
            .filter(|step| step.done_at.is_none())
            .count();
        if open > 0 {
            add(
                "steps-open",
                format!("{open} of {} steps are not done", self.steps.len()),
            );
        }
        all
    }

    /// All of it.
    pub fn detail(self) -> api::ArrivalDetail {
        let seen = seen_of(self.arrival);
        let (seconds, seconds_by) = self.seconds();
        let awaited = self.awaited;
        let cautions = match self.arrival.ended_at {
            None => self.cautions(&seen),
            Some(_) => Vec::new(),
        };
        api::ArrivalDetail {
            arrival: self.row(),
            expected: api::Expected {
                seconds: Some(seconds),
                seconds_by,
                internet: awaited.internet,
                host_name: awaited.sought.host_name.clone(),
                page: awaited.page.clone(),
                networks: awaited.networks.clone(),
                address: awaited.address.clone(),
                lamps: self
                    .board
                    .map(|board| board.lamps.clone())
                    .unwrap_or_default(),
                lamp_table: self.board.map(lamps_of).unwrap_or_default(),
            },
            causes: self.causes(&seen),
            cautions,
            seen,
            lamp: self.arrival.lamp.clone(),
            address: self.arrival.address.clone(),
            to_give_back: self.to_give_back,
            steps: self.steps.into_iter().map(step).collect(),
        }
    }
}

/// A clock that is off by so many seconds makes logs and certificates worthless.
const CLOCK_OFF: u64 = 24 * 3600;

/// How far a clock is off, and what to do.
fn clock_words(ahead: i64) -> String {
    const DAY: u64 = 24 * 3600;
    let off = match ahead.unsigned_abs() {
        off if off >= 2 * 365 * DAY => format!("{} years", off / (365 * DAY)),
        off => format!("{} days", off.div_ceil(DAY)),
    };
    let side = if ahead < 0 { "behind" } else { "ahead" };
    format!(
        "its clock is {off} {side}: its logs and certificates are dated wrong, and pages with TLS may refuse it; \
         let it reach a time server"
    )
}

/// How often a board may go away again before that is worth a word.
const FALLS: u32 = 3;

/// The first that is another one than was seen before.
fn changed<'a>(
    before: &Option<String>,
    now: impl Iterator<Item = &'a Option<String>>,
) -> Option<String> {
    let before = before.as_ref()?;
    let other = now.flatten().find(|one| *one != before)?;
    Some(other.chars().take(16).collect())
}

/// An arrival as a row of a list.
pub(super) fn row(arrival: &Arrival, due_at: Option<OffsetDateTime>, late: bool) -> api::Arrival {
    api::Arrival {
        id: arrival.id,
        device: arrival.device.clone(),
        card: arrival.card.clone(),
        base: arrival.base.clone(),
        board: arrival.board.clone(),
        state: arrival.state.clone(),
        said_hello: arrival.began_how == "hello",
        waits_for: arrival.waits_for.clone(),
        operator: arrival.operator.clone(),
        began_at: arrival.began_at,
        due_at,
        found_at: arrival.found_at,
        answered_at: arrival.answered_at,
        ready_at: arrival.ready_at,
        ended_at: arrival.ended_at,
        ended_by: arrival.ended_by.clone(),
        note: arrival.note.clone(),
        accepted: arrival.accepted.clone(),
        late,
    }
}

fn step(step: Step) -> api::Step {
    api::Step {
        place: step.place,
        words: step.words,
        note: step.note,
        done_by: step.done_by,
        done_at: step.done_at,
    }
}
