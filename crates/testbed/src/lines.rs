//! Writes at a bench on another computer, with whatever can become of its line, its worker and its service at random
//! moments. The medium is looked at past the product, the records in the database itself.

use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use rustix::process::Signal;

use crate::{FarBench, Said, Testbed};

/// What was played.
#[derive(Clone, Copy, Debug, Default)]
pub struct Lines {
    /// Writes that were begun.
    pub writes: u64,
    /// Those that came to a good end.
    pub done: u64,
    /// Cuts that ended in time, and those that did not.
    pub cuts: (u64, u64),
    /// Workers and services that were killed.
    pub kills: (u64, u64),
}

/// Small, so that a round does not take long: the release fits.
const CARD: &str = "1003487232";

/// Whether a card says itself that it is unfinished.
pub fn says_unfinished(card: &Path) -> bool {
    let mut block = [0; 512];
    let file = std::fs::File::open(card).expect("the card lies there");
    file.read_exact_at(&mut block, 0).expect("it reads");
    let text = String::from_utf8_lossy(&block).to_lowercase();
    text.contains("duplicarium") && text.contains("unfinished")
}

struct Chance(u64);

impl Chance {
    fn below(&mut self, most: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % most
    }
}

/// What lies in the bench's slot, once that is known again.
fn occupant(bed: &Testbed, what: &str) -> String {
    let begun = Instant::now();
    loop {
        let slots = bed.json(&["slot", "list"]);
        let seen = slots
            .as_array()
            .and_then(|all| all.iter().find(|one| one["name"] == "loft:1"));
        let seen = seen.and_then(|seen| seen["card"]["occupant"].as_str());
        if let Some(seen) = seen.filter(|seen| *seen != "busy") {
            return seen.to_owned();
        }
        assert!(
            begun.elapsed() < Duration::from_secs(60),
            "{what}: the slot does not come back: {slots}"
        );
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// Plays so many writes.
///
/// # Panics
/// At the first untrue word.
pub fn play(seed: u64, writes: u64) -> Lines {
    let mut chance = Chance(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
    let mut bed = Testbed::start_with(&["--private-addresses", "--bench-seconds", "5"]);
    bed.load_catalogue();
    bed.add_device("quay-01");
    let mut loft = FarBench::start(&bed, "loft");
    let mut played = Lines::default();
    for round in 0..writes {
        let name = format!("card-{round}");
        let rate = format!("{}MB", 6 + chance.below(30));
        loft.drawer.make_card(&name, CARD, &["--rate", &rate]);
        loft.drawer.put(&name, 1);
        let what = format!("seed {seed}, round {round}");
        let begun = Instant::now();
        // What was in it before is seen for another moment.
        while occupant(&bed, &what) != "blank" {
            assert!(
                begun.elapsed() < Duration::from_secs(20),
                "{what}: the new card is not seen"
            );
            std::thread::sleep(Duration::from_millis(100));
        }
        let plan = bed.json(&["write", "quay-01", "--slot", "loft:1", "--plan"]);
        let label = plan["card"].as_str().expect("a label").to_owned();
        let words = ["write", "quay-01", "--slot", "loft:1", "--yes", &label];
        let mut command = bed.cli_command(&words);
        let child = command
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn();
        let child = child.expect("duplicarium runs");
        played.writes += 1;
        for _ in 0..1 + chance.below(3) {
            std::thread::sleep(Duration::from_millis(chance.below(2500)));
            match chance.below(8) {
                0..=3 => {
                    played.cuts.0 += 1;
                    loft.line.block(true);
                    std::thread::sleep(Duration::from_millis(chance.below(1500)));
                    loft.line.block(false);
                }
                4 => {
                    played.cuts.1 += 1;
                    loft.line.block(true);
                    std::thread::sleep(Duration::from_millis(6500 + chance.below(2000)));
                    loft.line.block(false);
                }
                5 => {
                    played.kills.0 += 1;
                    let how = [Signal::KILL, Signal::TERM][chance.below(2) as usize];
                    loft.end(how);
                    loft.run();
                }
                6 => {
                    played.kills.1 += 1;
                    bed.kill_service();
                    bed.start_service();
                }
                _ => loft
                    .line
                    .limit([0, 400_000, 4_000_000][chance.below(3) as usize]),
            }
        }
        loft.line.limit(0);
        let said: Said = child.wait_with_output().expect("it ends").into();
        loft.until_it_is(&bed, "connected");
        let card = loft.drawer.card_file(&name);
        let begun = Instant::now();
        // The last look at a card may be a moment behind its job.
        let state = loop {
            let shown = occupant(&bed, &what);
            let state = bed.sql(&format!(
                "select i.state, coalesce(i.left_as, '') from imprints i join cards c on c.id = i.card_id
                 where c.label = '{label}' order by i.id desc limit 1"
            ));
            let state = state.trim().to_owned();
            match (state.as_str(), shown.as_str()) {
                ("verified|", "ours") | ("incomplete|unfinished", "unfinished") => break state,
                // It ended before the first byte, or was none at all.
                ("void|" | "void|untouched" | "", "blank") => break state,
                other => assert!(
                    begun.elapsed() < Duration::from_secs(20),
                    "{what}: {other:?} after {said:?}\n{}",
                    loft.log()
                ),
            }
            std::thread::sleep(Duration::from_millis(200));
        };
        match state.as_str() {
            "verified|" => {
                played.done += 1;
                let board = loft.drawer.boot(&name, "curlew");
                assert_eq!(board["joined"], "Saltmarsh-Quay", "{what}: {board}");
                loft.drawer.order(&["halt", &name]);
            }
            "incomplete|unfinished" => assert!(says_unfinished(&card), "{what}"),
            _ => assert!(!says_unfinished(&card), "{what}"),
        }
        if said.code == 0 {
            assert_eq!(
                state, "verified|",
                "{what}: it was said to be done: {said:?}"
            );
        }
        if loft.drawer.card_in(1).is_some() {
            loft.drawer.order(&["pull", "--slot", "1"]);
        }
    }
    played
}
