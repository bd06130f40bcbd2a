//! Rounds: cards made in turn as blank ones go in. Judged at the cards themselves, by the stand-in's boards,
//! which share no code with what writes them.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::FileExt;
use std::time::{Duration, Instant};

use api::{ClientError, NewRound, Problem, RoundConfirmation, RoundDetail};
use testbed::Testbed;

const SIZE: &str = "700000256";

fn bed(devices: u32) -> Testbed {
    let bed = Testbed::start();
    bed.load_catalogue();
    for number in 1..=devices {
        bed.add_device(&name(number));
    }
    bed
}

fn name(number: u32) -> String {
    format!("quay-0{number}")
}

/// A card with somebody's own bytes on it.
fn foreign(bed: &Testbed, card: &str) {
    bed.make_card(card, SIZE, &[]);
    let file = std::fs::File::options()
        .write(true)
        .open(bed.card_file(card))
        .unwrap();
    let line = b"the tide tables of somebody else ".repeat(4096);
    for at in [0, 300_000_000, 690_000_000] {
        file.write_all_at(&line, at).unwrap();
    }
}

/// What a board becomes with a card: its host name, if it comes up at all.
fn boots_as(bed: &Testbed, card: &str) -> Option<String> {
    let board = bed.boot(card, "curlew");
    (board["lamp"] == "steady").then(|| board["host_name"].as_str().unwrap_or("").to_owned())
}

fn code(answer: Result<RoundDetail, ClientError>) -> String {
    match answer {
        Err(ClientError::Refused(Problem { code, .. })) => code,
        other => panic!("this should have been refused: {other:?}"),
    }
}

/// Names of everything there is to be careful about in a round.
fn all_of(round: &RoundDetail) -> RoundConfirmation {
    RoundConfirmation {
        cards: round.round.waiting,
        accept: round.cautions.iter().map(|one| one.name.clone()).collect(),
    }
}

async fn until(
    bed: &Testbed,
    id: i64,
    what: &str,
    holds: impl Fn(&RoundDetail) -> bool,
) -> RoundDetail {
    let begun = Instant::now();
    loop {
        let round = bed.client().round(id).await.unwrap();
        if holds(&round) {
            return round;
        }
        assert!(
            begun.elapsed() < Duration::from_secs(60),
            "{what}: never; {round:#?}"
        );
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn state_of(round: &RoundDetail, device: &str) -> String {
    let is = |entry: &&api::RoundEntry| entry.device.as_deref() == Some(device);
    round.entries.iter().find(is).unwrap().state.clone()
}

fn words_at(round: &RoundDetail, slot: u32) -> (String, String) {
    let at = round
        .slots
        .iter()
        .find(|one| one.slot == slot.into())
        .unwrap();
    (at.kind.clone(), at.words.clone())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_round_writes_only_where_it_was_said_and_asks_about_what_lies_there() {
    let bed = bed(3);
    let client = bed.client();
    let loft = testbed::FarBench::start(&bed, "loft");
    loft.drawer.make_card("far", SIZE, &[]);
    loft.drawer.put("far", 1);
    for card in ["mica", "jade"] {
        bed.make_card(card, SIZE, &[]);
    }
    bed.put("mica", 1);
    let far = || loft.drawer.card_digest("far");
    let (untouched, before) = (far(), bed.card_digest("mica"));
    let unknown = bed.refused(&["round", "plan", "quay-01", "--at", "attic"]);
    assert!(
        unknown.contains("loft:1") && unknown.contains("here"),
        "{unknown}"
    );

    // What lies in a slot already is named, and nothing begins before it is accepted.
    let planned = bed.json(&["round", "plan", "quay-01", "quay-02"]);
    let id = planned["round"]["id"].as_i64().unwrap();
    assert_eq!(planned["round"]["slots"], serde_json::json!(["here"]));
    let round = until(&bed, id, "a blank card lies there", |round| {
        let mut all = round.cautions.iter();
        all.any(|one| one.words.contains("a blank card of"))
    })
    .await;
    let lies = round
        .cautions
        .iter()
        .find(|one| one.name == "cards-in-slots");
    let lies = &lies.unwrap().words;
    assert!(
        lies.contains("in slot 1") && !lies.contains("loft"),
        "{lies}"
    );
    let silent = RoundConfirmation {
        accept: Vec::new(),
        ..all_of(&round)
    };
    assert_eq!(
        code(client.confirm_round(id, &silent).await),
        "not-accepted"
    );
    std::thread::sleep(Duration::from_secs(1));
    assert!(bed.card_digest("mica") == before, "nothing was begun");

    // A plan promises a label to a card. Blank cards look alike: the round does not give it to another one.
    bed.put("jade", 2);
    let plan = bed.json(&["write", "quay-03", "--slot", "2", "--plan"]);
    let promised = plan["card"].as_str().unwrap().to_owned();
    bed.standin(&["pull", "--slot", "2"]);
    bed.standin(&["pull", "--slot", "1"]);
    let round = until(&bed, id, "nothing lies there", |round| {
        round.cautions.is_empty()
    })
    .await;
    client.confirm_round(id, &all_of(&round)).await.unwrap();
    bed.put("mica", 1);
    let waits = until(&bed, id, "the card is asked about", |round| {
        words_at(round, 1).1.contains(&promised)
    })
    .await;
    assert!(words_at(&waits, 1).1.contains("--new"), "{:?}", waits.slots);
    assert_eq!((waits.round.done, waits.round.at_work), (0, 0));
    bed.done(&["card", "this-is", "--new", "--slot", "1"]);
    let one = until(&bed, id, "one is made", |round| round.round.done == 1).await;
    let made = one.entries.iter().find_map(|entry| entry.card.clone());
    assert_ne!(made.as_deref(), Some(promised.as_str()));
    // The other one is what its plan promised.
    bed.put("jade", 2);
    until(&bed, id, "the other is asked about", |round| {
        words_at(round, 2).1.contains(&promised)
    })
    .await;
    bed.done(&["card", "this-is", &promised, "--slot", "2"]);
    let done = until(&bed, id, "both are made", |round| round.round.done == 2).await;
    assert!(
        done.entries
            .iter()
            .any(|entry| entry.card.as_deref() == Some(&*promised))
    );
    assert!(far() == untouched, "a card of another bench was written");

    // Said so, it is the other bench's turn.
    let planned = bed.json(&["round", "plan", "quay-03", "--at", "loft"]);
    let id = planned["round"]["id"].as_i64().unwrap();
    let round = until(&bed, id, "it lies there", |round| {
        let mut all = round.cautions.iter();
        all.any(|one| one.words.contains("slot 1 of loft"))
    })
    .await;
    client.confirm_round(id, &all_of(&round)).await.unwrap();
    until(&bed, id, "it is made there", |round| {
        round.round.state == "done"
    })
    .await;
    assert!(far() != untouched);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_round_makes_cards_of_blank_ones_and_touches_no_others() {
    let bed = bed(3);
    let client = bed.client();
    foreign(&bed, "clay");
    for card in ["mica", "jade", "opal", "onyx"] {
        bed.make_card(card, SIZE, &[]);
    }
    bed.make_card("flint", SIZE, &["--locked"]);
    bed.make_card("shard", "300000256", &[]);
    // One that is somebody's already.
    bed.put("onyx", 4);
    let plan = bed.json(&["write", "quay-03", "--slot", "4", "--plan"]);
    let used = plan["card"].as_str().unwrap().to_owned();
    bed.done(&["write", "quay-03", "--slot", "4", "--yes", &used]);
    let before: BTreeMap<_, _> = ["clay", "flint", "shard", "onyx"]
        .into_iter()
        .map(|card| (card, bed.card_digest(card)))
        .collect();

    // Refused before anything begins: an unknown device, no device, a wrong number, a caution that is not said.
    assert!(
        bed.refused(&["round", "plan", "quay-77"])
            .contains("quay-77")
    );
    assert!(
        bed.refused(&["round", "plan", "--site", "nowhere"])
            .contains("there is no site")
    );
    let planned = bed.json(&["round", "plan", "quay-01", "--site", "quay"]);
    let id = planned["round"]["id"].as_i64().unwrap();
    let planned = client.round(id).await.unwrap();
    assert_eq!(
        (planned.entries.len(), planned.round.state.as_str()),
        (3, "planned")
    );
    let all = all_of(&planned);
    assert_eq!(
        all.accept,
        ["second-card"],
        "quay-03 has a card: {:?}",
        planned.cautions
    );
    let wrong = RoundConfirmation {
        cards: 2,
        ..all.clone()
    };
    assert_eq!(code(client.confirm_round(id, &wrong).await), "wrong-number");
    let silent = RoundConfirmation {
        accept: Vec::new(),
        ..all.clone()
    };
    assert_eq!(
        code(client.confirm_round(id, &silent).await),
        "not-accepted"
    );
    // A blank card in a slot stays as it is as long as nobody confirmed.
    bed.put("mica", 1);
    bed.put("clay", 2);
    bed.put("flint", 3);
    tokio::time::sleep(Duration::from_millis(900)).await;
    let planned = client.round(id).await.unwrap();
    assert_eq!(planned.round.waiting, 3);
    // It lies there when the round begins, and the others will not be written.
    assert_eq!(code(client.confirm_round(id, &all).await), "not-accepted");
    let mut lies = planned.cautions.iter();
    let lies = lies.find(|one| one.name == "cards-in-slots");
    let lies = &lies.unwrap().words;
    assert!(
        lies.contains("slot 1") && !lies.contains("slot 2"),
        "{lies}"
    );
    client.confirm_round(id, &all_of(&planned)).await.unwrap();

    let made = until(&bed, id, "the first is made", |round| {
        state_of(round, "quay-01") == "done"
    })
    .await;
    let (kind, words) = words_at(&made, 1);
    assert!(kind == "pull" && words.contains("quay-01"), "{words}");
    until(&bed, id, "the others do not count", |round| {
        let (kind, words) = words_at(round, 2);
        kind == "other" && words.contains("not ours") && words_at(round, 3).1.contains("locked")
    })
    .await;
    until(&bed, id, "the used one does not count", |round| {
        let (kind, words) = words_at(round, 4);
        kind == "other" && words.contains(&used)
    })
    .await;
    assert_eq!(made.round.done, 1);
    // A device of this round is in no other one.
    let other = NewRound {
        devices: vec!["quay-02".into()],
        ..NewRound::default()
    };
    assert_eq!(code(client.plan_round(&other).await), "in-other-round");

    // Too small is said, and the slot with the wrong card takes another.
    bed.standin(&["pull", "--slot", "2"]);
    bed.put("shard", 2);
    until(&bed, id, "the small one is refused", |round| {
        let (kind, words) = words_at(round, 2);
        kind == "other" && words.contains("fits")
    })
    .await;
    bed.standin(&["pull", "--slot", "2"]);
    let empty = until(&bed, id, "the slot is empty", |round| {
        words_at(round, 2).0 == "put-in"
    })
    .await;
    assert!(words_at(&empty, 2).1.contains("quay-02"));
    bed.put("jade", 2);
    until(&bed, id, "the second is made", |round| {
        state_of(round, "quay-02") == "done"
    })
    .await;

    // The card that is somebody's counts when it is freed by its label, and goes to its own device.
    let lost = client.free_for_round(id, &used).await.unwrap();
    assert!(lost[0].contains("quay-03"), "{lost:?}");
    let over = until(&bed, id, "it is over", |round| round.round.state == "done").await;
    assert_eq!((over.round.done, over.round.cards), (3, 3));
    for (card, device) in [
        ("mica", "quay-01"),
        ("jade", "quay-02"),
        ("onyx", "quay-03"),
    ] {
        assert_eq!(boots_as(&bed, card).as_deref(), Some(device), "{card}");
    }
    for card in ["clay", "flint", "shard"] {
        assert_eq!(bed.card_digest(card), before[card], "{card} was touched");
    }
    assert_ne!(bed.card_digest("onyx"), before["onyx"]);
    let report = bed.done(&["round", "report"]);
    assert_eq!(report.lines().count(), 4, "{report}");
    assert!(
        report.contains(&format!("quay-03,quaylink 2.4,done,{used},4,")),
        "{report}"
    );
    // Nothing more is made when it is over.
    bed.put("opal", 3);
    let blank = bed.card_digest("opal");
    tokio::time::sleep(Duration::from_secs(1)).await;
    assert_eq!(bed.card_digest("opal"), blank);
    assert_eq!(code(client.turn_round(id, "go-on").await), "taken");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_round_waits_for_its_trial_and_stops_by_itself() {
    let bed = bed(4);
    let client = bed.client();
    let new = NewRound {
        devices: (1..=4).map(name).collect(),
        trial_first: true,
        stop_after: Some(2),
        ..NewRound::default()
    };
    let round = client.plan_round(&new).await.unwrap();
    let id = round.round.id;
    client.confirm_round(id, &all_of(&round)).await.unwrap();
    for (slot, card) in [(1, "mica"), (2, "jade")] {
        bed.make_card(card, SIZE, &[]);
        bed.put(card, slot);
    }
    let trial = until(&bed, id, "the trial is made", |round| {
        round.round.state == "trial"
    })
    .await;
    tokio::time::sleep(Duration::from_millis(900)).await;
    let trial = client.round(trial.round.id).await.unwrap();
    assert_eq!(
        (trial.round.done, trial.round.waiting),
        (1, 3),
        "one card alone"
    );
    // Made again, it is a trial again: with the card that is in the other slot.
    let again = client.turn_round_entry(id, 1, "again").await.unwrap();
    assert_eq!(again.round.state, "running");
    until(&bed, id, "the trial is made again", |round| {
        round.round.state == "trial" && round.entries[0].attempts == 2
    })
    .await;
    bed.make_card("slate", SIZE, &[]);
    bed.standin(&["pull", "--slot", "1"]);
    bed.put("slate", 1);
    client.turn_round(id, "accept").await.unwrap();
    until(&bed, id, "the next is made", |round| round.round.done == 2).await;

    // Skipped, and taken in again; paused, nothing begins.
    client.turn_round(id, "pause").await.unwrap();
    assert_eq!(
        state_of(
            &client.turn_round_entry(id, 3, "skip").await.unwrap(),
            "quay-03"
        ),
        "skipped"
    );
    assert_eq!(
        state_of(
            &client.turn_round_entry(id, 3, "again").await.unwrap(),
            "quay-03"
        ),
        "waiting"
    );
    bed.make_card("opal", SIZE, &["--fault", "keeps-nothing"]);
    bed.put("opal", 3);
    bed.make_card("onyx", SIZE, &["--fault", "vanishes=20MB"]);
    bed.put("onyx", 4);
    tokio::time::sleep(Duration::from_millis(900)).await;
    assert_eq!(client.round(id).await.unwrap().round.waiting, 2);
    client.turn_round(id, "go-on").await.unwrap();
    let stopped = until(&bed, id, "it stops by itself", |round| {
        round.round.state == "paused"
    })
    .await;
    assert_eq!(stopped.round.failures, 2, "{stopped:#?}");
    assert!(
        stopped
            .round
            .why
            .as_deref()
            .is_some_and(|why| why.contains("by itself"))
    );
    assert_eq!((stopped.round.done, stopped.round.waiting), (2, 2));
    // What failed says so in its slot, and is not tried again by itself.
    client.turn_round(id, "go-on").await.unwrap();
    tokio::time::sleep(Duration::from_secs(1)).await;
    let again = client.round(id).await.unwrap();
    assert!(
        again.entries[2..].iter().all(|entry| entry.attempts == 1),
        "{again:#?}"
    );
    assert!(
        ["failed", "other"].contains(&words_at(&again, 3).0.as_str()),
        "{again:#?}"
    );
    for (slot, card) in [(3, "flint"), (4, "clay")] {
        bed.make_card(card, SIZE, &[]);
        bed.standin(&["pull", "--slot", &slot.to_string()]);
        bed.put(card, slot);
    }
    let over = until(&bed, id, "it is over", |round| round.round.state == "done").await;
    let mut made: Vec<_> = ["slate", "jade", "flint", "clay"]
        .map(|card| boots_as(&bed, card))
        .into();
    made.sort();
    let wanted: Vec<_> = (1..=4).map(|number| Some(name(number))).collect();
    assert_eq!(made, wanted, "{over:#?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_card_is_copied_as_it_is_and_for_another_device() {
    let bed = bed(2);
    let client = bed.client();
    for card in ["mica", "jade", "opal"] {
        bed.make_card(card, SIZE, &[]);
    }
    bed.put("mica", 1);
    let plan = bed.json(&["write", "quay-01", "--slot", "1", "--plan"]);
    bed.done(&[
        "write",
        "quay-01",
        "--slot",
        "1",
        "--yes",
        plan["card"].as_str().unwrap(),
    ]);
    // It works for a while in its board, which leaves its own traces.
    bed.standin(&["pull", "--slot", "1"]);
    assert_eq!(boots_as(&bed, "mica").as_deref(), Some("quay-01"));
    bed.standin(&["halt", "mica"]);
    bed.put("mica", 1);
    let planned = bed.json(&[
        "card", "copy", "--slot", "1", "--copies", "1", "--for", "quay-02",
    ]);
    let id = planned["round"]["id"].as_i64().unwrap();
    let round = client.round(id).await.unwrap();
    let clash = round.cautions.iter().find(|one| one.name == "second-card");
    assert!(
        clash.is_some_and(|one| one.words.contains("one name")),
        "{:?}",
        round.cautions
    );
    client.confirm_round(id, &all_of(&round)).await.unwrap();
    bed.put("jade", 2);
    bed.put("opal", 3);
    let over = until(&bed, id, "it is over", |round| round.round.state == "done").await;
    assert_eq!(over.round.done, 2);
    let mut made: Vec<_> = ["jade", "opal"].map(|card| boots_as(&bed, card)).into();
    made.sort();
    assert_eq!(made, [Some(name(1)), Some(name(2))]);
    // The records say whose each of them is.
    let own = bed.json(&["device", "show", "quay-02"]);
    assert!(own["device"]["card"].is_string(), "{own:#}");
}

/// Equal blank cards that go in at once, while the records take their time over a label: each of them is its own card.
#[tokio::test(flavor = "multi_thread")]
async fn equal_blank_cards_are_each_their_own() {
    let bed = bed(3);
    let client = bed.client();
    bed.sql(
        "create function dawdle() returns trigger language plpgsql as $$
            begin perform pg_sleep(1); return new; end $$;
         create trigger dawdle before insert on events for each row
            when (new.kind = 'card.labelled') execute function dawdle()",
    );
    let cards = ["mica", "jade", "opal"];
    for card in cards {
        bed.make_card(card, SIZE, &[]);
    }
    let new = NewRound {
        devices: (1..=3).map(name).collect(),
        ..NewRound::default()
    };
    let round = client.plan_round(&new).await.unwrap();
    let id = round.round.id;
    client.confirm_round(id, &all_of(&round)).await.unwrap();
    for (card, slot) in cards.into_iter().zip(1..) {
        bed.put(card, slot);
        tokio::time::sleep(Duration::from_millis(450)).await;
    }
    let begun = Instant::now();
    while client.round(id).await.unwrap().round.state != "done" {
        let slots = client.slots().await.unwrap();
        let labels = slots
            .iter()
            .filter_map(|slot| slot.card.as_ref()?.label.clone());
        let mut labels: Vec<_> = labels.collect();
        labels.sort();
        let all = labels.len();
        labels.dedup();
        assert_eq!(labels.len(), all, "two cards of one label: {slots:#?}");
        assert!(begun.elapsed() < Duration::from_secs(60), "{slots:#?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let over = client.round(id).await.unwrap();
    let labels: BTreeSet<_> = over.entries.iter().map(|entry| &entry.card).collect();
    assert_eq!((over.round.done, labels.len()), (3, 3), "{over:#?}");
    // So they are on the cards, and each is another device's.
    let made: BTreeSet<_> = cards.into_iter().map(|card| boots_as(&bed, card)).collect();
    assert_eq!(made, (1..=3).map(|number| Some(name(number))).collect());
}

/// A round under hands that do anything, and a service that is killed: whatever happens, cards that are not
/// blank stay as they are, and in the end each device has exactly one card, which comes up as that device.
#[tokio::test(flavor = "multi_thread")]
async fn a_round_is_true_whatever_happens_meanwhile() {
    let seed = std::env::var("ROUND_SEED")
        .ok()
        .and_then(|text| text.parse().ok());
    let mut dice = Dice(seed.unwrap_or(0x51f7_1d35));
    let mut bed = bed(4);
    let blank: Vec<_> = (0..9).map(|number| format!("blank{number}")).collect();
    for card in &blank {
        // Slow enough to be pulled in the middle.
        bed.make_card(card, SIZE, &["--rate", "60MB"]);
    }
    let others = ["clay", "loam"];
    for card in others {
        foreign(&bed, card);
    }
    let before = others.map(|card| bed.card_digest(card));
    let new = NewRound {
        devices: (1..=4).map(name).collect(),
        stop_after: Some(1000),
        ..NewRound::default()
    };
    let round = bed.client().plan_round(&new).await.unwrap();
    let id = round.round.id;
    bed.client()
        .confirm_round(id, &all_of(&round))
        .await
        .unwrap();
    let mut slots: BTreeMap<u32, String> = BTreeMap::new();
    let begun = Instant::now();
    loop {
        // The records are away for a while when their server was killed.
        let Ok(round) = bed.client().round(id).await else {
            assert!(begun.elapsed() < Duration::from_secs(150));
            tokio::time::sleep(Duration::from_millis(100)).await;
            continue;
        };
        if round.round.state == "done" {
            break;
        }
        assert!(
            begun.elapsed() < Duration::from_secs(150),
            "never over: {round:#?}"
        );
        // Late in the day hands become careful, so that it ends.
        let careful = begun.elapsed() > Duration::from_secs(25);
        let slot = 1 + dice.below(4) as u32;
        match dice.below(if careful { 4 } else { 8 }) {
            0..=2 if !slots.contains_key(&slot) => {
                let all = blank.iter().map(String::as_str).chain(others);
                let free: Vec<_> = all
                    .filter(|card| !slots.values().any(|one| one == card))
                    .collect();
                let card = free[dice.below(free.len() as u64) as usize].to_owned();
                bed.put(&card, slot);
                slots.insert(slot, card);
            }
            3 | 4 if slots.contains_key(&slot) => {
                let busy = round
                    .slots
                    .iter()
                    .any(|one| one.slot == slot.into() && one.job.is_some());
                if !(careful && busy) {
                    bed.standin(&["pull", "--slot", &slot.to_string()]);
                    slots.remove(&slot);
                }
            }
            5 if dice.below(3) == 0 => {
                bed.kill_service();
                bed.start_service();
            }
            7 if dice.below(4) == 0 => kill_database(&bed),
            6 if dice.below(4) == 0 => {
                let _ = bed.client().turn_round(id, "pause").await;
                let _ = bed.client().turn_round(id, "go-on").await;
            }
            _ => {}
        }
        tokio::time::sleep(Duration::from_millis(dice.below(400))).await;
    }
    for (card, digest_before) in others.iter().zip(before) {
        assert_eq!(bed.card_digest(card), digest_before, "{card} was touched");
    }
    let over = bed.client().round(id).await.unwrap();
    let mut labels: Vec<_> = over
        .entries
        .iter()
        .map(|entry| entry.card.clone().unwrap())
        .collect();
    labels.sort();
    labels.dedup();
    assert_eq!(labels.len(), 4, "a card was used twice: {over:#?}");
    // Whatever comes up at all comes up as one of them, and no two as the same.
    for slot in slots.keys() {
        bed.standin(&["pull", "--slot", &slot.to_string()]);
    }
    let mut up: Vec<_> = blank
        .iter()
        .filter_map(|card| boots_as(&bed, card))
        .collect();
    up.sort();
    let wanted: Vec<_> = (1..=4).map(name).collect();
    assert_eq!(up, wanted, "{over:#?}");
}

/// Kills the service's PostgreSQL, which is started again by itself.
fn kill_database(bed: &Testbed) {
    let folders = std::fs::read_dir(bed.data_dir()).unwrap();
    let pid = folders.filter_map(|folder| {
        let file = folder.ok()?.path().join("postmaster.pid");
        std::fs::read_to_string(file)
            .ok()?
            .lines()
            .next()?
            .parse()
            .ok()
    });
    let pid: i32 = pid.last().expect("a PostgreSQL runs there");
    let pid = rustix::process::Pid::from_raw(pid).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::KILL).ok();
}

/// Numbers that look random and are the same each time.
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) % most
    }
}
