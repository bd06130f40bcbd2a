//! Two hands at two services on one vault: each writes, backs up and lets backups go at a bench of its own, through
//! whichever service, while the vault is tidied without a pause and services are killed. Whatever backup was said to be
//! taken comes back onto a card, and a board starts with just the settings of that moment.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::{Duration, Instant};

use crate::{FarBench, Said, Services, Testbed, binary};

/// What was played.
#[derive(Debug, Default)]
pub struct Hands {
    /// Backups that were said to be taken.
    pub taken: u32,
    /// Those that were let go.
    pub let_go: u32,
    /// Tidyings that came to an end.
    pub tidied: u32,
    /// Services that were killed.
    pub kills: u32,
}

/// Small, so that a round does not take long: the release fits.
const CARD: &str = "1003487232";
/// Backups that each hand keeps.
const KEPT: usize = 3;

/// A number that is hard to foresee, below another.
fn below(state: &mut u64, most: u64) -> u64 {
    *state ^= *state << 13;
    *state ^= *state >> 7;
    *state ^= *state << 17;
    *state % most
}

/// One hand: its bench, its device, and the services that it asks.
struct Hand<'a> {
    bench: &'a FarBench,
    device: String,
    services: [String; 2],
    chance: u64,
}

impl Hand<'_> {
    /// Runs `duplicarium` at whichever service.
    fn try_to(&mut self, words: &[&str]) -> Said {
        let service = &self.services[below(&mut self.chance, 2) as usize];
        std::process::Command::new(binary("duplicarium"))
            .args(words)
            .args(["--service", service])
            .env_remove("DUPLICARIUM_TOKEN")
            .output()
            .expect("duplicarium runs")
            .into()
    }

    /// The same again and again, as somebody does who is told that a service is away.
    fn insist(&mut self, words: &[&str]) -> String {
        let begun = Instant::now();
        loop {
            let said = self.try_to(words);
            if said.code == 0 {
                return said.out;
            }
            assert!(
                begun.elapsed() < Duration::from_secs(120),
                "{words:?}: {said:?}\n{}",
                self.bench.log()
            );
            std::thread::sleep(Duration::from_millis(300));
        }
    }

    /// Writes or restores the card with everything accepted; whether that was said to be done.
    fn put_on(&mut self, words: &[&str]) -> bool {
        let slot = self.bench.slot(1);
        let words = [words, &["--slot", &slot]].concat();
        let plan = self.insist(&[&words[..], &["--plan", "--json"]].concat());
        let plan: serde_json::Value = serde_json::from_str(&plan).expect("a plan is JSON");
        let label = plan["card"].as_str().expect("a label").to_owned();
        let names = plan["cautions"].as_array().expect("cautions").iter();
        let names: Vec<_> = names.filter_map(|one| one["name"].as_str()).collect();
        let names = names.join(",");
        let mut words = [&words[..], &["--yes", &label]].concat();
        if !names.is_empty() {
            words.extend(["--accept", &names]);
        }
        self.try_to(&words).code == 0
    }

    fn rounds(&mut self, rounds: u64, hands: &Mutex<Hands>) -> Vec<(String, String)> {
        let mut kept: Vec<(String, String)> = Vec::new();
        for round in 0..rounds {
            let host = format!("{}-{round}", self.device);
            let device = self.device.clone();
            self.insist(&["device", "set", &device, &format!("host_name={host}")]);
            if !self.put_on(&["write", &device]) {
                continue;
            }
            let slot = self.bench.slot(1);
            let said = self.try_to(&["backup", "take", "--slot", &slot, "--json"]);
            if said.code == 0 {
                let backup: serde_json::Value =
                    serde_json::from_str(&said.out).expect("a backup is JSON");
                let name = backup["name"].as_str().expect("a name").to_owned();
                kept.push((name, host));
                hands.lock().expect("nobody panicked").taken += 1;
            }
            if kept.len() > KEPT {
                let (name, _) = kept.remove(0);
                // What the first try did although its answer was lost is refused the second time.
                self.try_to(&["backup", "let-go", &name, "--yes", &name]);
                hands.lock().expect("nobody panicked").let_go += 1;
            }
        }
        kept
    }
}

/// Plays so many rounds with each hand.
///
/// # Panics
/// At the first thing that was promised and is not so.
pub fn play(seed: u64, rounds: u64) -> Hands {
    let mut team = Services::start(&["--bench-seconds", "5"]);
    team.one.load_catalogue();
    let devices = ["quay-01", "quay-02"];
    for device in devices {
        team.one.add_device(device);
    }
    let (loft, shed) = (
        FarBench::start(&team.one, "loft"),
        FarBench::start(&team.two, "shed"),
    );
    let benches = [&loft, &shed];
    for (bench, device) in benches.iter().zip(devices) {
        bench.drawer.make_card(device, CARD, &[]);
        bench.drawer.put(device, 1);
    }
    let services = [team.one.url(), team.two.url()];
    let hands = Mutex::new(Hands::default());
    let (stop, ended) = (AtomicBool::new(false), AtomicU32::new(0));
    let mut chance = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let kept: Vec<_> = std::thread::scope(|scope| {
        let playing: Vec<_> = (0_u64..)
            .zip(benches.iter().zip(devices))
            .map(|(number, (bench, device))| {
                let mut hand = Hand {
                    bench,
                    device: device.to_owned(),
                    services: services.clone(),
                    chance: chance.wrapping_add(number * 977) | 1,
                };
                let (hands, ended) = (&hands, &ended);
                scope.spawn(move || {
                    let kept = hand.rounds(rounds, hands);
                    ended.fetch_add(1, Ordering::SeqCst);
                    kept
                })
            })
            .collect();
        let tidier = scope.spawn(|| {
            let mut number = 0;
            while !stop.load(Ordering::SeqCst) {
                number += 1;
                let said: Said = std::process::Command::new(binary("duplicarium"))
                    .args(["vault", "tidy", "--service", &services[number % 2]])
                    .output()
                    .expect("duplicarium runs")
                    .into();
                hands.lock().expect("nobody panicked").tidied += u32::from(said.code == 0);
                std::thread::sleep(Duration::from_millis(400));
            }
        });
        let mut turn = 0;
        while ended.load(Ordering::SeqCst) < 2 {
            std::thread::sleep(Duration::from_millis(3000 + below(&mut chance, 9000)));
            if ended.load(Ordering::SeqCst) > 0 {
                continue;
            }
            turn += 1;
            let bed = match turn % 2 {
                0 => &mut team.one,
                _ => &mut team.two,
            };
            bed.kill_service();
            std::thread::sleep(Duration::from_millis(below(&mut chance, 3000)));
            bed.start_service();
            hands.lock().expect("nobody panicked").kills += 1;
        }
        stop.store(true, Ordering::SeqCst);
        tidier.join().expect("the tidier did not panic");
        playing
            .into_iter()
            .map(|hand| hand.join().expect("a hand did not panic"))
            .collect()
    });
    for bench in benches {
        bench.until_it_is(&team.two, "connected");
    }
    all_is_true(&team.two, &team.one);
    // Whatever was said to be there comes back.
    for ((bench, device), kept) in benches.iter().zip(devices).zip(kept) {
        let mut hand = Hand {
            bench,
            device: device.to_owned(),
            services: services.clone(),
            chance,
        };
        // Another card than the one that they were read from, which nobody may take for that.
        let spare = format!("spare-{device}");
        bench.drawer.order(&["pull", "--slot", "1"]);
        bench.drawer.make_card(&spare, CARD, &[]);
        bench.drawer.put(&spare, 1);
        for (name, host) in kept {
            assert!(
                hand.put_on(&["restore", &name]),
                "{name} does not come back"
            );
            let board = bench.drawer.boot(&spare, "curlew");
            assert_eq!(board["host_name"], host.as_str(), "{name}: {board}");
            bench.drawer.order(&["halt", &spare]);
            bench.drawer.put(&spare, 1);
        }
    }
    hands.into_inner().expect("nobody panicked")
}

/// Nothing in the vault is damaged or missing, and each job is over and was one service's.
fn all_is_true(bed: &Testbed, other: &Testbed) {
    let begun = Instant::now();
    loop {
        let open = bed.sql("select count(*) from jobs where state in ('waiting', 'running')");
        if open.trim() == "0" {
            break;
        }
        assert!(begun.elapsed() < Duration::from_secs(60), "jobs stay open");
        std::thread::sleep(Duration::from_millis(200));
    }
    for bed in [bed, other] {
        bed.done(&["vault", "tidy"]);
        bed.done(&["vault", "inspect"]);
        let looks = bed.json(&["vault", "show"])["looks"].clone();
        let looks = looks.as_array().expect("looks");
        assert!(looks.iter().all(|look| look["bad"] == false), "{looks:?}");
    }
    assert_eq!(
        bed.sql("select count(*) from jobs where service is null")
            .trim(),
        "0"
    );
}
