//! The looks at boards that are waited for: who is due, where it is found, what is new of it.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

use arrival::known::Marks;
use arrival::locate::Sighting;
use futures::stream::{self, StreamExt};
use records::arrivals::Arrival;
use serde_json::json;

use super::awaited::{Awaited, all_awaited, awaited_by};
use super::looked::{Looked, look, may_be_ours, try_logins};
use super::told::seen_of;
use super::{Arrivals, MOST, now};
use crate::news::News;
use crate::refusal::Refusal;

/// How often a board that is waited for is looked at, and one that is all there.
const SOON: Duration = Duration::from_secs(2);
const LATER: Duration = Duration::from_secs(20);
/// A board that is all there is looked at as often as before for so long.
const SETTLES: Duration = Duration::from_secs(60);
/// How often it is asked whether anything is due.
const TICK: Duration = Duration::from_millis(500);
pub(super) const IDLE: Duration = Duration::from_secs(5);
/// What is waited for is made out anew after this long: settings may have changed.
pub(super) const KNOWN_FOR: Duration = Duration::from_secs(20);
/// Boards that are looked at at once, and of one name at most.
const AT_ONCE: usize = 16;
const OF_ONE_NAME: usize = 4;

/// When an arrival is looked at next, and how it was.
pub(super) struct Look {
    pub due: Instant,
    awaited: Arc<Awaited>,
    ours: Marks,
    pub made: Instant,
    /// Whether it was there at the last look.
    was_there: bool,
}

impl Arrivals {
    /// Looks at arrivals for as long as the service runs.
    pub async fn watch(self: Arc<Self>) {
        loop {
            let pause = match self.look_at_all().await {
                Ok(true) => TICK,
                Ok(false) => IDLE,
                Err(e) => {
                    tracing::debug!("looking after arrivals: {e}");
                    IDLE
                }
            };
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                () = self.stirred.notified() => {}
            }
        }
    }

    /// Looks at what is due; whether anything is waited for.
    async fn look_at_all(&self) -> Result<bool, Refusal> {
        let now = Instant::now();
        {
            let looks = self.looks();
            if !looks.is_empty() && looks.values().all(|look| look.due > now) {
                return Ok(true);
            }
        }
        let open = self.records.arrivals(true, None, None, MOST).await?;
        self.looks()
            .retain(|id, _| open.iter().any(|one| one.id == *id));
        if open.is_empty() {
            return Ok(false);
        }
        if open.iter().any(|one| one.answered_at.is_none()) {
            self.air.listen_now_and_then();
        }
        self.find_out(&open, now).await?;
        let due: Vec<_> = {
            let looks = self.looks();
            let due = |one: &&Arrival| looks.get(&one.id).is_none_or(|look| look.due <= now);
            open.iter().filter(due).collect()
        };
        let awaited: Vec<Arc<Awaited>> = {
            let looks = self.looks();
            due.iter()
                .filter_map(|one| Some(looks.get(&one.id)?.awaited.clone()))
                .collect()
        };
        if awaited.len() != due.len() {
            return Ok(true);
        }
        let sought: Vec<_> = awaited.iter().map(|one| one.sought.clone()).collect();
        let mut found: Vec<BTreeMap<Sighting, Vec<String>>> = vec![BTreeMap::new(); due.len()];
        let mut blind = Vec::new();
        for locator in &self.watching.locators {
            match locator.find(&sought).await {
                Ok(seen) => {
                    for (found, seen) in found.iter_mut().zip(seen) {
                        for sighting in seen {
                            found
                                .entry(sighting)
                                .or_default()
                                .push(locator.name().to_owned());
                        }
                    }
                }
                Err(why) => blind.push(why.to_string()),
            }
        }
        let marks = self.marks().await?;
        let all = due
            .into_iter()
            .zip(awaited)
            .zip(found.into_iter().map(one_each));
        let looks = all.map(|((arrival, awaited), found)| {
            self.look_at(arrival, awaited, found, blind.clone(), &marks)
        });
        let looks: Vec<_> = looks.collect();
        let ended: Vec<_> = stream::iter(looks)
            .buffer_unordered(AT_ONCE)
            .collect()
            .await;
        ended.into_iter().collect::<Result<(), _>>()?;
        Ok(true)
    }

    /// What tells devices apart.
    async fn marks(&self) -> Result<Vec<Marks>, Refusal> {
        let rows = self.records.marks().await?.into_iter();
        let marks = rows.map(|row| Marks {
            device: row.device,
            imprint: row.imprint_id,
            macs: row.macs,
            host_key: row.host_key,
            former: Vec::new(),
        });
        Ok(marks.collect())
    }

    /// Finds out what is waited for with arrivals of which that is not known, or not any more.
    async fn find_out(&self, open: &[Arrival], now: Instant) -> Result<(), Refusal> {
        let old: Vec<_> = {
            let looks = self.looks();
            let stale = |one: &&Arrival| {
                looks
                    .get(&one.id)
                    .is_none_or(|look| now.duration_since(look.made) >= KNOWN_FOR)
            };
            open.iter().filter(stale).collect()
        };
        if old.is_empty() {
            return Ok(());
        }
        let names: Vec<_> = old.iter().map(|one| one.device.clone()).collect();
        let devices = self.records.devices_named(&names).await?;
        let awaited = all_awaited(&self.in_force, &devices).await?;
        let ids: Vec<_> = devices.iter().map(|device| device.id).collect();
        let mut former = self.records.imprints_of(&ids).await?;
        let known: HashMap<_, _> = devices
            .iter()
            .zip(awaited)
            .map(|(device, awaited)| (device.name.as_str(), (device, awaited)))
            .collect();
        let mut looks = self.looks();
        for arrival in old {
            let Some((device, awaited)) = known.get(arrival.device.as_str()) else {
                continue;
            };
            let before = looks.get(&arrival.id);
            let look = Look {
                due: before.map_or(now, |look| look.due),
                was_there: before.is_some_and(|look| look.was_there),
                awaited: Arc::new(awaited_by(awaited.clone(), arrival)),
                ours: Marks {
                    device: device.name.clone(),
                    imprint: arrival.imprint_id,
                    macs: device.macs.clone(),
                    host_key: None,
                    former: former.remove(&device.id).unwrap_or_default(),
                },
                made: now,
            };
            looks.insert(arrival.id, look);
        }
        Ok(())
    }

    /// Looks at one arrival where it was found, and records what is new.
    async fn look_at(
        &self,
        arrival: &Arrival,
        awaited: Arc<Awaited>,
        found: Vec<(Sighting, Vec<String>)>,
        blind: Vec<String>,
        marks: &[Marks],
    ) -> Result<(), Refusal> {
        let (mut ours, was_there) = match self.looks().get(&arrival.id) {
            Some(look) => (look.ours.clone(), look.was_there),
            None => return Ok(()),
        };
        let is_ours = |one: &&Marks| one.device == ours.device;
        ours.host_key = marks
            .iter()
            .find(is_ours)
            .and_then(|one| one.host_key.clone());
        let others: Vec<_> = marks
            .iter()
            .filter(|one| one.device != ours.device)
            .cloned()
            .collect();
        let before = seen_of(arrival);
        let mut looked: Vec<(Looked, Sighting)> = Vec::new();
        for (sighting, by) in found.into_iter().take(OF_ONE_NAME) {
            let one = look(&awaited, &sighting, by, &ours, &others).await;
            looked.push((one, sighting));
        }
        // What is proven to be ours comes first; a name alone counts where nothing is proven.
        looked.sort_by_key(|(one, _)| match one.board.whose.as_str() {
            "this" => 0,
            "name-only" => 1,
            _ => 2,
        });
        let best = looked.first().filter(|(one, _)| may_be_ours(&one.board));
        let logins = match (best, before.logins.is_empty()) {
            (Some((one, sighting)), true) if one.board.answers => {
                try_logins(&awaited, sighting).await
            }
            _ => before.logins.clone(),
        };
        let is_there = best.is_some();
        let checks = match best {
            Some((one, _)) => one.checks.clone(),
            None => awaited
                .checks
                .iter()
                .map(|wanted| api::CheckResult {
                    title: wanted.check.title.clone(),
                    state: "waiting".into(),
                    words: "it is not found yet".into(),
                })
                .collect(),
        };
        let state = match best {
            None => "expected",
            Some((one, _)) if !one.board.answers => "found",
            Some((one, _))
                if one
                    .checks
                    .iter()
                    .all(|check| matches!(check.state.as_str(), "passed" | "question")) =>
            {
                "ready"
            }
            Some(_) => "answers",
        };
        let seen = api::ArrivalSeen {
            boards: looked.iter().map(|(one, _)| one.board.clone()).collect(),
            blind,
            checks,
            logins,
            falls: before.falls + u32::from(was_there && !is_there),
        };
        if seen != before || state != arrival.state {
            self.records
                .arrival_seen(arrival.id, state, &json!(seen))
                .await?;
            self.events.bus.tell(News::Events);
        }
        if let Some(look) = self.looks().get_mut(&arrival.id) {
            look.was_there = is_there;
            // One that is all there may still go in circles.
            let settled =
                arrival.ready_at.is_some_and(|at| now() - at > SETTLES) && seen.falls == 0;
            let calm = state == "ready" && settled;
            look.due = Instant::now() + if calm { LATER } else { SOON };
        }
        Ok(())
    }
}

/// Sightings of one board as one: what one way knows of it, another does not.
fn one_each(found: BTreeMap<Sighting, Vec<String>>) -> Vec<(Sighting, Vec<String>)> {
    let mut all: Vec<(Sighting, Vec<String>)> = Vec::new();
    for (sighting, by) in found {
        let same = |one: &&mut (Sighting, Vec<String>)| {
            one.0.address == sighting.address && one.0.ports == sighting.ports
        };
        match all.iter_mut().find(same) {
            Some((known, known_by)) => {
                known.mac = known.mac.take().or(sighting.mac);
                known.host_name = known.host_name.take().or(sighting.host_name);
                known_by.extend(by);
            }
            None => all.push((sighting, by)),
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use std::net::IpAddr;

    use super::*;

    fn sighting(last: u8, mac: Option<&str>, name: Option<&str>) -> Sighting {
        Sighting {
            address: IpAddr::from([192, 0, 2, last]),
            ports: BTreeMap::new(),
            mac: mac.map(Into::into),
            host_name: name.map(Into::into),
        }
    }

    #[test]
    fn one_board_that_was_found_twice_is_one() {
        let found = BTreeMap::from([
            (sighting(7, None, Some("quay-01")), vec!["mDNS".to_owned()]),
            (
                sighting(7, Some("5a:17:00:00:00:07"), None),
                vec!["neighbours".to_owned()],
            ),
            (sighting(8, None, Some("quay-01")), vec!["mDNS".to_owned()]),
        ]);
        let all = one_each(found);
        assert_eq!(all.len(), 2);
        assert_eq!(
            all[0].0,
            sighting(7, Some("5a:17:00:00:00:07"), Some("quay-01"))
        );
        assert_eq!(all[0].1.len(), 2);
    }
}
