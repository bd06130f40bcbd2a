//! Faults that must end well, as one table: each work at a card with each fault at a random moment. Afterwards
//! the records say what is true of the card, the work in the next slot went on, and the card can be used again
//! or is refused with a reason. Judged at the card itself and by the stand-in's boards.

use std::time::{Duration, Instant};

use api::{Client, ClientError, NewCardPlan, NewPlan};
use testbed::Testbed;

const SIZE: &str = "520000512";

#[derive(Clone, Copy, Debug, PartialEq)]
enum Work {
    Write,
    Backup,
    QuickCheck,
    FullCheck,
    Clear,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Fault {
    Pulled,
    ReadOnly,
    BadRegion,
    Flips,
    Forged,
    Cancelled,
    Killed,
}

const WORKS: [Work; 5] = [
    Work::Write,
    Work::Backup,
    Work::QuickCheck,
    Work::FullCheck,
    Work::Clear,
];
const FAULTS: [Fault; 7] = [
    Fault::Pulled,
    Fault::ReadOnly,
    Fault::BadRegion,
    Fault::Flips,
    Fault::Forged,
    Fault::Cancelled,
    Fault::Killed,
];

impl Fault {
    /// What the stand-in calls it, if it is a fault of the card and not of a hand.
    fn order(self, dice: &mut Dice) -> Option<String> {
        Some(match self {
            Self::ReadOnly => format!("read-only={}", dice.below(30_000_000)),
            Self::BadRegion => format!("bad={}+8192", 6_000_128 + dice.below(40) * 1_048_576),
            Self::Flips => "flips=3000000".into(),
            Self::Forged => "drops=20000256".into(),
            Self::Pulled | Self::Cancelled | Self::Killed => return None,
        })
    }
}

fn boots(bed: &Testbed, card: &str) -> bool {
    let board = bed.boot(card, "curlew");
    bed.standin(&["halt", card]);
    board["lamp"] == "steady"
}

fn for_device(name: &str, slot: u32) -> NewPlan {
    NewPlan {
        device: Some(name.into()),
        slot: slot.into(),
        ..NewPlan::default()
    }
}

/// Plans and confirms; the refusal where there is one.
async fn write(client: &Client, new: &NewPlan) -> Result<api::Job, ClientError> {
    let plan = client.plan(new).await?;
    client.confirm(&plan.id, plan.agreed(), None).await
}

async fn on_card(client: &Client, work: &str, slot: u32) -> Result<api::Job, ClientError> {
    let work = work.into();
    let plan = client
        .card_plan(&NewCardPlan {
            slot: slot.into(),
            work,
        })
        .await?;
    client.confirm(&plan.id, plan.agreed(), None).await
}

async fn begin(client: &Client, work: Work) -> Result<api::Job, ClientError> {
    match work {
        Work::Write => write(client, &for_device("quay-01", 1)).await,
        Work::Backup => client.take_backup(&testbed::backup_of(1), None).await,
        Work::QuickCheck => on_card(client, "quick-check", 1).await,
        Work::FullCheck => on_card(client, "full-check", 1).await,
        Work::Clear => on_card(client, "clear-all", 1).await,
    }
}

/// A job that is over.
async fn over(bed: &Testbed, id: i64) -> api::Job {
    let begun = Instant::now();
    loop {
        let job = bed.client().job(id).await.unwrap();
        if !matches!(job.state.as_str(), "waiting" | "running") {
            return job;
        }
        assert!(begun.elapsed() < Duration::from_secs(60), "{job:?}");
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
}

/// The card in a slot, once the service has looked at it.
async fn seen(bed: &Testbed, slot: u32) -> api::SlotCard {
    let begun = Instant::now();
    loop {
        let slots = bed.client().slots().await.unwrap();
        let card = slots
            .iter()
            .find(|one| one.number == slot && one.job.is_none());
        if let Some(card) = card.and_then(|slot| slot.card.clone())
            && card.occupant != "busy"
        {
            return card;
        }
        assert!(begun.elapsed() < Duration::from_secs(30), "{slots:?}");
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
}

/// Pulls the card of a slot, if it is still there, and puts one in, once the service has seen both.
async fn put_again(bed: &Testbed, card: &str, slot: u32) -> api::SlotCard {
    if bed.standin(&["cards"]).lines().any(|line| {
        line.split_whitespace().next() == Some(card) && line.contains(&format!("slot {slot}"))
    }) {
        bed.standin(&["pull", "--slot", &slot.to_string()]);
    }
    let begun = Instant::now();
    loop {
        let slots = bed.client().slots().await.unwrap();
        if slots
            .iter()
            .any(|one| one.number == slot && one.card.is_none())
        {
            break;
        }
        assert!(begun.elapsed() < Duration::from_secs(30), "{slots:?}");
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    bed.put(card, slot);
    seen(bed, slot).await
}

fn every_case() -> impl Iterator<Item = (usize, Work, Fault)> {
    let all = WORKS
        .into_iter()
        .flat_map(|work| FAULTS.into_iter().map(move |fault| (work, fault)));
    all.enumerate().map(|(at, (work, fault))| (at, work, fault))
}

#[tokio::test(flavor = "multi_thread")]
async fn work_that_writes_what_a_device_gets_ends_well_whatever_the_fault() {
    table(|work| matches!(work, Work::Write | Work::Backup)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn work_at_the_card_itself_ends_well_whatever_the_fault() {
    table(|work| !matches!(work, Work::Write | Work::Backup)).await;
}

async fn table(wanted: impl Fn(Work) -> bool) {
    let seed = std::env::var("FAULTS_SEED")
        .ok()
        .and_then(|text| text.parse().ok());
    let mut bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    bed.add_device("quay-02");
    for (at, work, fault) in every_case().filter(|(_, work, _)| wanted(*work)) {
        let mut dice = Dice(seed.unwrap_or(0x7135) + 7 * at as u64 + 1);
        case(&mut bed, at, work, fault, &mut dice).await;
    }
}

async fn case(bed: &mut Testbed, at: usize, work: Work, fault: Fault, dice: &mut Dice) {
    let what = format!("case {at}, {work:?} with {fault:?}");
    let (card, other) = (format!("card{at}"), format!("other{at}"));
    // Slow enough to be struck in the middle of it.
    let rate = match work {
        Work::FullCheck | Work::Clear => "700MB",
        _ => "150MB",
    };
    bed.make_card(&card, SIZE, &["--rate", rate]);
    bed.make_card(&other, SIZE, &["--rate", "60MB"]);
    bed.put(&card, 1);
    bed.put(&other, 2);
    seen(bed, 1).await;
    seen(bed, 2).await;
    let client = bed.client();
    if work != Work::Write {
        let job = write(&client, &for_device("quay-01", 1)).await.unwrap();
        assert_eq!(over(bed, job.id).await.state, "done", "{what}");
        seen(bed, 1).await;
    }
    let before = bed.card_digest(&card);
    let order = fault.order(dice);
    if let Some(order) = &order {
        bed.standin(&["fault", &card, order]);
        put_again(bed, &card, 1).await;
    }
    let next_door = write(&client, &for_device("quay-02", 2)).await.unwrap();
    let job = match begin(&client, work).await {
        Ok(job) => job,
        Err(ClientError::Refused(problem)) => {
            // What cannot be read where its stamp could lie is nobody's, and is not touched.
            assert_eq!(
                (fault, problem.code.as_str()),
                (Fault::BadRegion, "card-unreadable"),
                "{what}: {problem:?}"
            );
            assert_eq!(over(bed, next_door.id).await.state, "done", "{what}");
            assert_eq!(bed.card_digest(&card), before, "{what}");
            for slot in ["1", "2"] {
                bed.standin(&["pull", "--slot", slot]);
            }
            return;
        }
        Err(e) => panic!("{what}: {e}"),
    };
    let wait = Duration::from_millis(dice.below(700));
    match fault {
        Fault::Pulled => {
            tokio::time::sleep(wait).await;
            bed.standin(&["pull", "--slot", "1"]);
        }
        Fault::Cancelled => {
            tokio::time::sleep(wait).await;
            let _ = client.cancel(job.id).await;
        }
        Fault::Killed => {
            tokio::time::sleep(wait).await;
            bed.kill_service();
            bed.start_service();
        }
        _ => {}
    }
    let ended = over(bed, job.id).await;
    let client = bed.client();
    if fault != Fault::Killed {
        let next_door = over(bed, next_door.id).await;
        assert_eq!(next_door.state, "done", "{what}: next door: {next_door:?}");
    }
    if ended.state == "failed" {
        let error = ended.error.clone().unwrap_or_default();
        assert!(error.len() > 30, "{what}: {error}");
    }
    // The fault is gone, the card is put in again, and what it is is found out.
    let after = bed.card_digest(&card);
    if order.is_some() {
        bed.standin(&["fault", &card]);
    }
    put_again(bed, &card, 1).await;
    let honest = !matches!(fault, Fault::Flips | Fault::Forged);
    let kept = honest.then_some((&before, &after));
    let now = true_of_it(bed, &what, work, &card, &ended, kept).await;
    // A check that was cut off gives back what was there.
    if now.occupant == "unfinished" && work == Work::QuickCheck {
        let back = on_card(&client, "put-back", 1).await.unwrap();
        let back = over(bed, back.id).await;
        assert_eq!(back.state, "done", "{what}: {back:?}");
        // A card that gives other bytes than it holds was not read as it was either.
        if honest {
            assert_eq!(bed.card_digest(&card), before, "{what}: not what was on it");
        }
        seen(bed, 1).await;
    }
    // Used again, or refused with a reason and a way on.
    match write(&client, &for_device("quay-01", 1)).await {
        Ok(job) => {
            let job = over(bed, job.id).await;
            assert_eq!(job.state, "done", "{what}: {job:?}");
            bed.standin(&["pull", "--slot", "1"]);
            assert!(
                boots(bed, &card),
                "{what}: written again, and does not boot"
            );
        }
        Err(ClientError::Refused(problem)) => {
            assert_eq!(problem.code, "card-mistrusted", "{what}: {problem:?}");
            assert!(
                problem.detail.contains("duplicarium card"),
                "{what}: {problem:?}"
            );
            let blamed = [
                Fault::ReadOnly,
                Fault::BadRegion,
                Fault::Flips,
                Fault::Forged,
            ];
            assert!(blamed.contains(&fault), "{what}: {problem:?}");
            bed.standin(&["pull", "--slot", "1"]);
        }
        Err(e) => panic!("{what}: {e}"),
    }
    bed.standin(&["pull", "--slot", "2"]);
    assert!(
        fault == Fault::Killed || boots(bed, &other),
        "{what}: next door"
    );
}

/// What the records say of the card beside what it is.
async fn true_of_it(
    bed: &Testbed,
    what: &str,
    work: Work,
    card: &str,
    ended: &api::Job,
    kept: Option<(&u64, &u64)>,
) -> api::SlotCard {
    let label = ended.card.clone().unwrap();
    let detail = bed.client().card(&label).await.unwrap();
    let state = detail.card.state.as_str();
    bed.standin(&["pull", "--slot", "1"]);
    let boots = boots(bed, card);
    let newest = detail.imprints.first();
    let what = format!("{what}: {} and {state}, {:?}", ended.state, ended.error);
    match state {
        "imprinted" => assert!(boots, "{what}: it does not boot"),
        "incomplete" => {
            let may = newest.is_some_and(|one| one.left_as.as_deref() == Some("may boot"));
            assert!(!boots || may, "{what}: it boots");
        }
        "blank" => assert!(!boots, "{what}: it boots"),
        other => panic!("{what}: {other}"),
    }
    match (work, ended.state.as_str()) {
        (Work::Write, "done") => assert_eq!(state, "imprinted", "{what}"),
        (Work::FullCheck | Work::Clear, "done") => assert_ne!(state, "imprinted", "{what}"),
        _ => {}
    }
    // A card that does not read what is on it cannot be given back what was.
    if let Some((before, after)) = kept
        && (work == Work::Backup
            || work == Work::QuickCheck && ended.state == "done" && state != "incomplete")
    {
        assert_eq!(after, before, "{what}: it was to leave the card as it was");
    }
    if work == Work::Backup && ended.state == "done" {
        let backup = ended.result.as_ref().unwrap()["backup"].as_str().unwrap();
        bed.client().backup(backup).await.unwrap();
    }
    put_again(bed, card, 1).await
}

/// Numbers that look random and are the same each time.
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: u64) -> u64 {
        for _ in 0..3 {
            self.0 ^= self.0 << 13;
            self.0 ^= self.0 >> 7;
            self.0 ^= self.0 << 17;
        }
        (self.0 >> 11) % most
    }
}
