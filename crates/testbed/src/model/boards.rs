//! Boards that come up with a card of theirs, and are accepted or rejected.

use std::time::{Duration, Instant};

use api::{ArrivalEnd, NewArrival};

use super::{DEVICES, Medium, Model, RIGHT, passphrase_on};

/// How long a board that cannot join is waited for.
const QUIET: Duration = Duration::from_secs(4);

impl Model {
    /// The newest card of a device goes into its board; what the board says is waited for, and a person decides. `deadly`
    /// says that the service is killed meanwhile.
    pub(super) async fn arrive(&mut self, deadly: bool) {
        let place = self.chance.below(DEVICES.len() as u64) as usize;
        let device = DEVICES[place];
        let own = self.last.iter();
        let own = own.filter(|(_, (_, whose))| whose.as_deref() == Some(device));
        let Some(card) = own.max_by_key(|(_, (seq, _))| *seq).map(|(card, _)| *card) else {
            return;
        };
        let Medium::Whole { imprint, .. } = self.medium(card) else {
            return;
        };
        // A board with another passphrase never joins.
        let joins = passphrase_on(&self.bed.card_file(card)).as_deref() == Some(RIGHT);
        let accepts = joins && self.chance.below(3) > 0;
        let moment = self.chance.below(2500);
        let does = if accepts { "accepted" } else { "refused" };
        self.say(format!(
            "{device} comes up from {card}, joins: {joins}, and is {does}, deadly: {deadly}"
        ));
        if let Some(slot) = self
            .slots
            .iter()
            .find(|(_, held)| **held == card)
            .map(|(slot, _)| *slot)
        {
            self.bed.standin(&["pull", "--slot", &slot.to_string()]);
            self.slots.remove(&slot);
            self.settle().await;
        }
        let new = NewArrival {
            device: device.into(),
            ..NewArrival::default()
        };
        let arrival = self.client.expect(&new).await;
        let arrival = arrival
            .unwrap_or_else(|e| panic!("{}: {e}", self.what))
            .arrival;
        let mac = format!("5a:17:00:00:00:{:02x}", place + 1);
        self.bed
            .standin(&["boot", card, "--model", "curlew", "--mac", &mac]);
        if deadly {
            tokio::time::sleep(Duration::from_millis(moment)).await;
            self.bed.kill_service();
            self.bed.start_service();
            self.played.kills += 1;
        }
        let begun = Instant::now();
        let ready = loop {
            if let Ok(now) = self.client.arrival(arrival.id).await
                && (now.arrival.state == "ready" || (!joins && begun.elapsed() > QUIET))
            {
                break now;
            }
            assert!(
                begun.elapsed() < Duration::from_secs(60),
                "{}: it never gets ready: {:#?}",
                self.what,
                self.client.arrival(arrival.id).await
            );
            tokio::time::sleep(Duration::from_millis(100)).await;
        };
        let state = ready.arrival.state.as_str();
        assert!(joins || state == "expected", "{}: it is {state}", self.what);
        assert_eq!(
            ready.arrival.card.as_ref(),
            self.labels.get(card),
            "{}: with imprint {imprint}",
            self.what
        );
        let end = ArrivalEnd {
            how: does.into(),
            note: "as the dice fell".into(),
            accept: ready.cautions.iter().map(|one| one.name.clone()).collect(),
            ..ArrivalEnd::default()
        };
        let ended = self.client.end_arrival(arrival.id, &end).await;
        let ended = ended.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        assert_eq!(ended.arrival.state, does, "{}", self.what);
        self.decided
            .insert(device, if accepts { "in service" } else { "down" });
        self.played.arrivals += 1;
        self.bed.standin(&["halt", card]);
    }
}
