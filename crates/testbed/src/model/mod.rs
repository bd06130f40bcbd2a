//! A small model of the job, played against the real service at random: what is on which card is
//! read off the medium itself, with the system's own tools; after every step what the service says
//! of cards, devices, releases and backups must agree with it.

mod boards;
mod checks;
mod harm;
mod medium;

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use api::{Client, ClientError, Job, NewPlan, NewRelease, NewState, Standing};
use bench::Bench;
use rustix::process::{Pid, Signal, kill_process};

use crate::{Testbed, demo_image, demo_sheet};
use medium::passphrase_on;
pub use medium::{Medium, medium};

/// Devices that cards are made for.
const DEVICES: [&str; 2] = ["quay-01", "quay-02"];
/// Cards by name and size: two are equal.
const CARDS: [(&str, u64); 4] = [
    ("mica", 3_965_190_144),
    ("flint", 3_965_190_144),
    ("chalk", 1_010_000_896),
    ("slate", 7_990_152_192),
];
/// The passphrase that the network of the boards takes.
const RIGHT: &str = "ebb and flow 1907";
const RELEASE: &str = "quaylink 2.4";
/// How long the service may take to find out what a card is.
const PATIENCE: Duration = Duration::from_secs(40);

/// Numbers that look like chance and come again with the same seed.
pub struct Chance(u64);

impl Chance {
    /// From a seed.
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    /// A number below `end`.
    pub fn below(&mut self, end: u64) -> u64 {
        // SplitMix64.
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (z ^ (z >> 31)) % end
    }

    fn pick<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.below(all.len() as u64) as usize]
    }
}

/// What happens while a job runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fate {
    /// Nothing.
    Well,
    /// Somebody cancels it after so many milliseconds.
    Cancelled(u64),
    /// The card vanishes after so many bytes.
    Vanishes(u64),
    /// The card holds only so much, and lands on its beginning behind that.
    Wraps(u64),
    /// The card holds only so much, and loses the rest.
    Drops(u64),
    /// What is read has a bit wrong in every stretch of so many bytes.
    Flips(u64),
    /// The MiB behind this byte cannot be read.
    Bad(u64),
    /// The service is killed after so many milliseconds.
    Killed(u64),
    /// The service is killed as soon as the last block is on the card: a board would boot it, and the
    /// records do not know yet.
    KilledAtLastBlock,
    /// The database is killed after so many milliseconds.
    DatabaseKilled(u64),
}

/// What a run of the model came to.
#[derive(Clone, Copy, Debug, Default)]
pub struct Played {
    /// Steps.
    pub steps: u64,
    /// Jobs that were recorded as done.
    pub done: u64,
    /// Times that the service was killed.
    pub kills: u64,
    /// Of these, between the last block and the record.
    pub last_block_kills: u64,
    /// Jobs on cards that lie, fail or vanish.
    pub faults: u64,
    /// Times that the database was killed.
    pub database_kills: u64,
    /// Checks of cards that were cut off.
    pub cut_checks: u64,
    /// Boards that were accepted or rejected.
    pub arrivals: u64,
    /// Pieces of the vault that were damaged.
    pub harmed: u64,
    /// Times that the clock jumped.
    pub jumps: u64,
}

impl std::ops::AddAssign for Played {
    fn add_assign(&mut self, more: Self) {
        self.steps += more.steps;
        self.done += more.done;
        self.kills += more.kills;
        self.last_block_kills += more.last_block_kills;
        self.faults += more.faults;
        self.database_kills += more.database_kills;
        self.cut_checks += more.cut_checks;
        self.arrivals += more.arrivals;
        self.harmed += more.harmed;
        self.jumps += more.jumps;
    }
}

/// What the model knows.
pub struct Model {
    bed: Testbed,
    client: Client,
    chance: Chance,
    /// Labels that cards were given.
    labels: BTreeMap<&'static str, String>,
    /// Slot of each card that is in one.
    slots: BTreeMap<u32, &'static str>,
    /// The last write that touched each card: a number that ascends, and for whom.
    last: BTreeMap<&'static str, (u64, Option<String>)>,
    /// Backups with the release that is in them.
    backups: BTreeMap<String, Option<String>>,
    /// Those of them whose content was let go.
    gone: BTreeSet<String>,
    /// Where the second vault lies.
    second: tempfile::TempDir,
    imported: Vec<String>,
    imports: u64,
    withdrawn: bool,
    /// What a person decided last about each device's board: in service, or down.
    decided: BTreeMap<&'static str, &'static str>,
    /// The passphrase that is set on each device.
    set: BTreeMap<&'static str, String>,
    played: Played,
    /// Cards that failed while they were written or read: the records must say that they are mistrusted.
    mistrusted: BTreeSet<&'static str>,
    /// The slot whose card has a bad region: it may not be readable where its stamp lies.
    bad: Option<u32>,
    what: String,
    /// Everything it did, told when something is untrue.
    done: Vec<String>,
}

impl Drop for Model {
    fn drop(&mut self) {
        if std::thread::panicking() {
            eprintln!("what was done:");
            for what in &self.done {
                eprintln!("  {what}");
            }
        }
    }
}

impl Fate {
    /// The fault that the stand-in is given for it.
    fn fault(self) -> Option<String> {
        match self {
            Self::Vanishes(after) => Some(format!("vanishes={after}")),
            Self::Wraps(capacity) => Some(format!("wraps={capacity}")),
            Self::Drops(capacity) => Some(format!("drops={capacity}")),
            Self::Flips(every) => Some(format!("flips={every}")),
            Self::Bad(place) => Some(format!("bad={place}+1048576")),
            _ => None,
        }
    }
}

impl Model {
    /// A service with two devices and four blank cards.
    pub fn new(seed: u64) -> Self {
        let second = tempfile::tempdir().expect("there is room");
        let place = crate::path(second.path());
        let flags = [
            "--private-addresses",
            "--vault-hours",
            "0",
            "--second-vault",
            place,
        ];
        let bed = Testbed::start_with(&flags);
        bed.load_catalogue();
        let mut set = BTreeMap::new();
        for device in DEVICES {
            bed.add_device(device);
            let passphrase = RIGHT;
            bed.set_passphrase(device, passphrase);
            set.insert(device, passphrase.to_owned());
        }
        for (card, size) in CARDS {
            bed.make_card(card, &size.to_string(), &[]);
        }
        let image = bed.import_dir().join("line.img.xz");
        std::fs::copy(demo_image("quaylink-2.4.img.xz"), image).expect("there is room");
        Self {
            client: bed.client(),
            bed,
            chance: Chance::new(seed),
            labels: BTreeMap::new(),
            slots: BTreeMap::new(),
            last: BTreeMap::new(),
            backups: BTreeMap::new(),
            gone: BTreeSet::new(),
            second,
            imported: Vec::new(),
            imports: 0,
            withdrawn: false,
            decided: BTreeMap::new(),
            set,
            played: Played::default(),
            mistrusted: BTreeSet::new(),
            bad: None,
            what: format!("seed {seed}"),
            done: Vec::new(),
        }
    }

    /// What it came to so far.
    pub fn played(&self) -> Played {
        self.played
    }

    fn medium(&self, card: &str) -> Medium {
        medium(&self.bed.card_file(card))
    }

    /// One step of chance; `deadly` says that the service or its database is killed in it.
    pub async fn step(&mut self, deadly: bool) {
        self.played.steps += 1;
        let number = self.played.steps;
        // Little can happen while nothing may be written, so that this does not last.
        if self.withdrawn && (deadly || self.chance.below(3) == 0) {
            self.change_state().await;
            self.check().await;
        }
        match self.chance.below(if deadly { 15 } else { 27 }) {
            0..=5 => self.write_somewhere(deadly).await,
            6..=8 => {
                let fate = self.fate(deadly);
                if !self.back_up(fate).await && deadly {
                    self.write_somewhere(deadly).await;
                }
            }
            9 => {
                let fate = self.fate(deadly);
                if !self.restore(fate).await && deadly {
                    self.write_somewhere(deadly).await;
                }
            }
            10 if deadly || self.imports < 3 => {
                let fate = self.fate(deadly);
                self.import(fate).await;
            }
            11 | 12 if deadly => {
                let fate = self.fate(deadly);
                self.tend(fate).await;
            }
            13 if deadly => self.check_card(true).await,
            14 if deadly => self.arrive(true).await,
            22 => self.check_card(false).await,
            23 => self.arrive(false).await,
            24 | 25 => self.harm().await,
            26 => self.jump().await,
            20 | 21 => {
                let fate = match self.fate(deadly) {
                    Fate::Cancelled(moment) => Fate::Cancelled(moment / 4),
                    // No card has a part in it.
                    _ => Fate::Well,
                };
                self.tend(fate).await;
            }
            11 | 12 => self.put().await,
            13 => self.pull().await,
            14 if self.chance.below(2) == 0 => self.say_it_is_new().await,
            14 => self.wrong_label().await,
            15 => self.stale_plan().await,
            16 => self.two_hands().await,
            17 => self.change_settings().await,
            18 => self.change_state().await,
            _ => self.restart().await,
        }
        self.what = format!("{}; step {number}", self.what);
        if !self.slots.is_empty() {
            let now: Vec<_> = self
                .slots
                .iter()
                .map(|(slot, card)| (slot, card, self.labels.get(card), self.medium(card)))
                .collect();
            self.done.push(format!("  then: {now:?}"));
        }
        self.check().await;
    }

    /// What chance brings seldom, each once: a check, a board, damage to the vault, a clock that is off.
    pub async fn seldom(&mut self, deadly: bool) {
        for device in DEVICES {
            self.say(format!("a card for {device}"));
            let (slot, card) = self.some_slot().await;
            if let Some(plan) = self.plan(slot, device).await {
                self.carry_out(&plan, card, Fate::Well).await;
            }
            self.check().await;
            self.arrive(deadly).await;
            self.check().await;
        }
        self.check_card(deadly).await;
        self.check().await;
        self.harm().await;
        self.check().await;
        self.jump().await;
        self.check().await;
        self.played.steps += 5;
    }

    fn fate(&mut self, deadly: bool) -> Fate {
        let moment = self.chance.below(2500);
        match (deadly, self.chance.below(6)) {
            (true, 0) => Fate::DatabaseKilled(moment),
            (true, 1) => Fate::KilledAtLastBlock,
            (true, _) => Fate::Killed(moment),
            (false, 0) => Fate::Cancelled(moment),
            (false, 1 | 2) => self.fault(),
            _ => Fate::Well,
        }
    }

    fn fault(&mut self) -> Fate {
        match self.chance.below(6) {
            0 => Fate::Wraps(60_000_000 + self.chance.below(4_000_000_000)),
            1 => Fate::Drops(60_000_000 + self.chance.below(4_000_000_000)),
            2 => Fate::Flips(1_000_000 + self.chance.below(60_000_000)),
            3 => Fate::Bad((4 << 20) + self.chance.below(150_000_000)),
            // Very often right at the end, where block 0 is put.
            4 => Fate::Vanishes(47_000_001 + self.chance.below(1_800_000)),
            _ => Fate::Vanishes(1 + self.chance.below(48_000_000)),
        }
    }

    fn say(&mut self, words: String) {
        self.done.push(words.clone());
        self.what = words;
    }

    /// A slot with a card in it; one is put in if there is none.
    async fn some_slot(&mut self) -> (u32, &'static str) {
        if self.slots.is_empty() {
            self.put().await;
        }
        let all: Vec<_> = self
            .slots
            .iter()
            .map(|(slot, card)| (*slot, *card))
            .collect();
        *self.chance.pick(&all)
    }

    async fn put(&mut self) {
        let (card, _) = *self.chance.pick(&CARDS);
        let slot = 1 + self.chance.below(3) as u32;
        self.say(format!("put {card} into slot {slot}"));
        self.slots.retain(|_, held| *held != card);
        self.slots.insert(slot, card);
        self.bed.put(card, slot);
        self.settle().await;
    }

    async fn pull(&mut self) {
        let (slot, card) = self.some_slot().await;
        self.say(format!("pull {card} out of slot {slot}"));
        self.bed.standin(&["pull", "--slot", &slot.to_string()]);
        self.slots.remove(&slot);
        self.settle().await;
    }

    /// Waits until the service has looked at every card in a slot.
    async fn settle(&self) {
        let begun = Instant::now();
        // Which card lies there by now, so that the one before is not taken for it.
        let address = self.bed.standin_address().parse().expect("an address");
        let bench = Bench::new(Some(address), None);
        let insertion = |slot: &u32| {
            let slot = bench.slot(*slot).ok()??;
            Some(slot.medium().ok()??.insertion.number)
        };
        let insertions: BTreeMap<_, _> = self
            .slots
            .keys()
            .filter_map(|slot| Some((*slot, insertion(slot)?)))
            .collect();
        loop {
            let slots = self.client.slots().await.unwrap_or_default();
            let seen = |slot: u32| {
                let found = slots.iter().find(|one| one.number == slot);
                let card = found.and_then(|one| one.card.as_ref());
                let bad = self.bad == Some(slot);
                let now = insertions.get(&slot);
                let card = card.filter(|card| now.is_none_or(|now| *now == card.insertion));
                card.is_some_and(|card| match card.occupant.as_str() {
                    "busy" => false,
                    "unreadable" => bad,
                    _ => true,
                })
            };
            let empty = |slot: u32| {
                let found = slots.iter().find(|one| one.number == slot);
                found.is_some_and(|one| one.card.is_none())
            };
            let fine = (1..=4).all(|slot| match self.slots.contains_key(&slot) {
                true => seen(slot),
                false => empty(slot),
            });
            if fine && slots.iter().all(|slot| slot.job.is_none()) {
                return;
            }
            assert!(
                begun.elapsed() < PATIENCE,
                "{}: the slots are not seen: {slots:?}, {:?}",
                self.what,
                self.slots
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    async fn plan(&mut self, slot: u32, device: &str) -> Option<api::Plan> {
        let new = NewPlan {
            device: Some(device.into()),
            slot: slot.into(),
            ..NewPlan::default()
        };
        self.plan_of(&new).await
    }

    /// Equal blank cards cannot be told apart before one of them is written: the label of one that is in no slot may
    /// be that of another, and what was said of it goes with it.
    fn learn_label(&mut self, card: &'static str, label: &str) {
        let others = self.labels.iter();
        let before = others
            .filter(|(other, own)| **other != card && *own == label)
            .map(|(other, _)| *other)
            .next();
        if let Some(before) = before {
            let size = |name| {
                CARDS
                    .iter()
                    .find(|(card, _)| *card == name)
                    .map(|(_, size)| size)
            };
            assert!(
                self.medium(before) == Medium::Blank
                    && self.medium(card) == Medium::Blank
                    && size(before) == size(card)
                    && self.slots.values().all(|held| *held != before),
                "{}: {label} is {before}, and {card} is taken for it",
                self.what
            );
            self.labels.remove(before);
            if self.mistrusted.remove(before) {
                self.mistrusted.insert(card);
            }
        }
        let own = self.labels.insert(card, label.to_owned());
        assert!(
            own.is_none_or(|own| own == label) || self.medium(card) == Medium::Blank,
            "{}: {card} has another label now",
            self.what
        );
    }

    /// What failed is refused until somebody says that it is good; its fault was taken from it since.
    async fn trust_again(&mut self, new: &NewPlan) {
        let card = self.slots[&new.slot.number()];
        if self.medium(card) == Medium::Blank {
            let slots = self.client.slots().await;
            let slots = slots.unwrap_or_else(|e| panic!("{}: {e}", self.what));
            let seen = slots.into_iter().find(|slot| slot.name == new.slot);
            if let Some(label) = seen.and_then(|slot| slot.card?.label) {
                self.learn_label(card, &label);
            }
        }
        let mistrusted = self.mistrusted.contains(card);
        let Some(label) = self.labels.get(card).filter(|_| mistrusted) else {
            return;
        };
        let refused = self.client.plan(new).await;
        assert!(
            matches!(refused, Err(ClientError::Refused(_))),
            "{}: a mistrusted card is planned for",
            self.what
        );
        let trusted = api::CardChange {
            state: Some("trusted".into()),
            ..api::CardChange::default()
        };
        let told = self.client.tell_card(label, &trusted).await;
        told.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        self.mistrusted.remove(card);
    }

    async fn plan_of(&mut self, new: &NewPlan) -> Option<api::Plan> {
        self.trust_again(new).await;
        match self.client.plan(new).await {
            Ok(plan) => {
                let card = self.slots[&new.slot.number()];
                self.learn_label(card, &plan.card);
                Some(plan)
            }
            Err(ClientError::Refused(problem)) => {
                let expected = match problem.code.as_str() {
                    "source-card" | "card-too-small" => new.backup.is_some(),
                    "no-release" | "withdrawn" => self.withdrawn,
                    "card-unreadable" => self.bad == Some(new.slot.number()),
                    _ => false,
                };
                assert!(expected, "{}: {problem:?}", self.what);
                None
            }
            Err(e) => panic!("{}: {e}", self.what),
        }
    }

    async fn write_somewhere(&mut self, deadly: bool) {
        let fate = self.fate(deadly);
        self.write(fate).await;
    }

    async fn write(&mut self, fate: Fate) {
        let (slot, card) = self.some_slot().await;
        let device = *self.chance.pick(&DEVICES);
        self.say(format!("write {device} to {card} in slot {slot}, {fate:?}"));
        let fate = self.order_fault(card, slot, fate).await;
        match self.plan(slot, device).await {
            Some(plan) => self.carry_out(&plan, card, fate).await,
            None => self.mend(card, slot, fate),
        }
    }

    /// A card with a fault, put in anew: what was written to it before does not count.
    async fn order_fault(&mut self, card: &str, slot: u32, fate: Fate) -> Fate {
        let Some(fault) = fate.fault() else {
            return fate;
        };
        // The mark of a card that reads falsely cannot be told: it would get another label.
        if matches!(fate, Fate::Flips(_)) && matches!(self.medium(card), Medium::Unfinished { .. })
        {
            return Fate::Well;
        }
        self.played.faults += 1;
        self.bad = matches!(fate, Fate::Bad(_)).then_some(slot);
        self.bed.standin(&["fault", card, &fault]);
        self.bed.put(card, slot);
        self.settle().await;
        fate
    }

    fn mend(&mut self, card: &str, slot: u32, fate: Fate) {
        self.bad = None;
        if fate.fault().is_some() {
            self.bed.standin(&["fault", card]);
            self.bed.put(card, slot);
        }
    }

    /// Whether a restore was begun.
    async fn restore(&mut self, fate: Fate) -> bool {
        let names: Vec<_> = self.kept().cloned().collect();
        let (slot, card) = self.some_slot().await;
        if names.is_empty() {
            return false;
        }
        let backup = self.chance.pick(&names).clone();
        self.say(format!(
            "restore {backup} to {card} in slot {slot}, {fate:?}"
        ));
        let new = NewPlan {
            backup: Some(backup),
            slot: slot.into(),
            ..NewPlan::default()
        };
        let fate = self.order_fault(card, slot, fate).await;
        match self.plan_of(&new).await {
            Some(plan) => {
                self.carry_out(&plan, card, fate).await;
                true
            }
            None => {
                self.mend(card, slot, fate);
                false
            }
        }
    }

    /// Confirms a plan, lets its fate happen, and holds what is on the card against what is said.
    async fn carry_out(&mut self, plan: &api::Plan, card: &'static str, fate: Fate) {
        let before = self.medium(card);
        let job = self.client.confirm(&plan.id, plan.agreed(), None).await;
        let job = job.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        let ended = self.let_happen(&job, fate).await;
        self.mend(card, plan.slot.number(), fate);
        self.settle().await;
        let after = self.medium(card);
        let device = plan.device.clone();
        if ended.state == "done" {
            self.played.done += 1;
            let imprint = ended
                .result
                .as_ref()
                .and_then(|one| one["imprint"].as_i64());
            let expected = Medium::Whole {
                imprint: imprint.unwrap_or(-1),
                device: device.clone(),
                base: plan.base.clone(),
            };
            assert_eq!(after, expected, "{}: said to be done", self.what);
        } else {
            self.blame(card, &ended);
            let told = ended.error.clone().unwrap_or_default();
            let unfinished = after == Medium::Unfinished { job: job.id };
            let honest = after == before
                || unfinished
                || told.contains("may boot")
                || (ended.state == "interrupted" && told.contains("found out"));
            assert!(honest, "{}: {ended:?}, but {after:?}", self.what);
            assert!(
                !told.contains("Nothing on it was touched") || after == before,
                "{}: said to be untouched: {after:?}",
                self.what
            );
        }
        if after != before || ended.state == "done" {
            let seq = self.last.values().map(|(seq, _)| *seq).max().unwrap_or(0) + 1;
            self.last.insert(card, (seq, device));
        }
    }

    /// A card that was itself to blame is mistrusted.
    fn blame(&mut self, card: &'static str, ended: &api::Job) {
        let code = ended.error_code.as_deref();
        if matches!(code, Some("verify-failed" | "card-lies" | "card-failed")) {
            self.mistrusted.insert(card);
        }
    }

    /// Whether a backup was begun.
    async fn back_up(&mut self, fate: Fate) -> bool {
        let (slot, card) = self.some_slot().await;
        self.say(format!("back up {card} in slot {slot}, {fate:?}"));
        if !matches!(self.medium(card), Medium::Whole { .. }) {
            return false;
        }
        // What lies when it is read tells the service nothing that it could find out.
        let fate = match fate {
            Fate::Vanishes(_) | Fate::Bad(_) => self.order_fault(card, slot, fate).await,
            Fate::Wraps(_) | Fate::Drops(_) | Fate::Flips(_) => Fate::Well,
            other => other,
        };
        let before = self.medium(card);
        let job = self.client.take_backup(&crate::backup_of(slot), None).await;
        let job = job.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        let ended = self.let_happen(&job, fate).await;
        self.mend(card, slot, fate);
        self.settle().await;
        assert_eq!(self.medium(card), before, "{}: it was only read", self.what);
        self.blame(card, &ended);
        if ended.state == "done" {
            self.played.done += 1;
            let name = ended.result.as_ref().and_then(|one| one["backup"].as_str());
            let release = self.release_on(card);
            self.backups
                .insert(name.expect("a backup has a name").to_owned(), release);
        }
        true
    }

    /// Backups whose content is there.
    fn kept(&self) -> impl Iterator<Item = &String> {
        let all = self.backups.keys();
        all.filter(|name| !self.gone.contains(*name))
    }

    /// Looks after the vault; at times a backup is let go first, so that there is something to tidy.
    async fn tend(&mut self, fate: Fate) {
        let names: Vec<_> = self.kept().cloned().collect();
        if names.len() > 1 && self.chance.below(2) == 0 {
            let name = self.chance.pick(&names).clone();
            let gone = self.client.let_backup_go(&name, "for a while").await;
            gone.unwrap_or_else(|e| panic!("{}: {e}", self.what));
            self.gone.insert(name);
        }
        let seal_anew = self.chance.below(3) == 0;
        let which = self.chance.below(5);
        let words = [
            "tidy",
            "tidy",
            "copy",
            "keep the records in",
            "change the key of",
        ];
        self.say(format!(
            "{} the vault, sealed anew: {seal_anew}, {fate:?}",
            words[which as usize]
        ));
        let started = match which {
            0 | 1 => {
                let new = api::NewTidying { seal_anew };
                self.client.tidy_vault(&new, None).await
            }
            2 => self.client.copy_vault(&api::NewCopy::default(), None).await,
            3 => self.client.keep_records(None).await,
            _ => return self.change_key(fate).await,
        };
        let job = started.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        let ended = self.let_happen(&job, fate).await;
        if ended.state == "done" {
            self.played.done += 1;
        }
        self.settle().await;
    }

    async fn change_key(&mut self, fate: Fate) {
        let client = self.bed.client();
        let changing = tokio::spawn(async move { client.change_key().await });
        match fate {
            Fate::Killed(moment) => {
                tokio::time::sleep(Duration::from_millis(moment / 20)).await;
                self.bed.kill_service();
                self.bed.start_service();
                self.played.kills += 1;
                // Whether it was changed or not: the vault opens.
                let _ = changing.await;
            }
            _ => {
                let changed = changing.await.expect("it does not panic");
                changed.unwrap_or_else(|e| panic!("{}: {e}", self.what));
                self.played.done += 1;
            }
        }
        self.settle().await;
    }

    async fn import(&mut self, fate: Fate) {
        self.imports += 1;
        let version = format!("1.{}", self.imports);
        let text = std::fs::read_to_string(demo_sheet("quaylink-2.4.toml")).expect("it ships");
        let sheet = text
            .replace("appliance = \"quaylink\"", "appliance = \"line\"")
            .replace("version = \"2.4\"", &format!("version = \"{version}\""));
        self.say(format!("import line {version}, {fate:?}"));
        let new = NewRelease {
            folder_file: Some("line.img.xz".into()),
            sheet: Some(sheet),
            ..NewRelease::default()
        };
        let job = self.client.add_release(&new, None).await;
        let job = job.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        if self.let_happen(&job, fate).await.state == "done" {
            self.played.done += 1;
            self.imported.push(format!("line {version}"));
        }
        self.settle().await;
    }

    /// Follows a job to its end, through what happens meanwhile.
    async fn let_happen(&mut self, job: &Job, fate: Fate) -> Job {
        let wait = |millis| tokio::time::sleep(Duration::from_millis(millis));
        match fate {
            fate if fate == Fate::Well || fate.fault().is_some() => {}
            Fate::Cancelled(moment) => {
                wait(moment).await;
                // It may be over by then.
                let _ = self.client.cancel(job.id).await;
            }
            Fate::Killed(moment) => {
                wait(moment).await;
                self.bed.kill_service();
                self.bed.start_service();
                self.played.kills += 1;
            }
            Fate::KilledAtLastBlock => {
                if self.until_bootable(job).await {
                    self.played.last_block_kills += 1;
                }
                self.bed.kill_service();
                self.bed.start_service();
                self.played.kills += 1;
            }
            Fate::DatabaseKilled(moment) => {
                wait(moment).await;
                self.kill_database();
            }
            _ => unreachable!("faults are on the card"),
        }
        self.ended(job).await
    }

    /// A job when it is over.
    async fn ended(&self, job: &Job) -> Job {
        let begun = Instant::now();
        loop {
            if let Ok(now) = self.client.job(job.id).await
                && !matches!(now.state.as_str(), "waiting" | "running")
            {
                return now;
            }
            assert!(
                begun.elapsed() < Duration::from_secs(120),
                "{}: job {} runs for ever",
                self.what,
                job.id
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Waits for the moment in which a write's last block is on its card; false where the job is none,
    /// or was over before that was seen.
    async fn until_bootable(&self, job: &Job) -> bool {
        let card = job.slot.and_then(|slot| self.slots.get(&slot.number()));
        let writes = matches!(job.kind.as_str(), "write" | "restore");
        let (Some(card), true) = (card, writes) else {
            tokio::time::sleep(Duration::from_millis(700)).await;
            return false;
        };
        let file = std::fs::File::open(self.bed.card_file(card)).expect("the card is a file");
        let mut head = [0; 512];
        let mut begun = false;
        let started = Instant::now();
        // Asking the service would take longer than the moment lasts: only the medium is looked at.
        while started.elapsed() < Duration::from_secs(60) {
            std::os::unix::fs::FileExt::read_exact_at(&file, &mut head, 0).expect("it has a head");
            let bootable = head[510..] == [0x55, 0xaa];
            if begun && bootable {
                return true;
            }
            begun |= head.windows(10).any(|part| part == b"UNFINISHED");
            std::thread::sleep(Duration::from_micros(200));
        }
        false
    }

    fn kill_database(&mut self) {
        let file = self.bed.data_dir().join("postgres/postmaster.pid");
        let text = std::fs::read_to_string(file).expect("the database runs");
        let pid = text
            .lines()
            .next()
            .and_then(|line| line.trim().parse().ok());
        let pid = pid.and_then(Pid::from_raw).expect("it has a process");
        kill_process(pid, Signal::KILL).expect("it is there");
        self.played.database_kills += 1;
    }

    async fn wrong_label(&mut self) {
        let (slot, card) = self.some_slot().await;
        self.say(format!("a wrong label for {card} in slot {slot}"));
        let before = self.medium(card);
        let Some(plan) = self.plan(slot, DEVICES[0]).await else {
            return;
        };
        let refused = self.client.confirm(&plan.id, "C-9999", None).await;
        assert!(code(&refused, "wrong-label"), "{}: {refused:?}", self.what);
        let again = self.client.confirm(&plan.id, plan.agreed(), None).await;
        assert!(code(&again, "plan-void"), "{}: {again:?}", self.what);
        assert_eq!(self.medium(card), before, "{}", self.what);
    }

    /// A plan that was made before the card got something else from another one.
    /// A card that does not say itself which it is has no sticker: it gets a label of its own.
    async fn say_it_is_new(&mut self) {
        let (slot, card) = self.some_slot().await;
        // What is on such a one is known by how it looks, and would be lost sight of.
        if self.medium(card) == Medium::Other {
            return;
        }
        self.say(format!("{card} in slot {slot} has no sticker"));
        let before = self.labels.get(card).cloned();
        let told = self
            .client
            .attach_label(slot.into(), &api::Sticker::default())
            .await;
        if self.medium(card) == Medium::Blank {
            let slots = told.unwrap_or_else(|e| panic!("{}: {e}", self.what));
            let seen = slots.into_iter().find(|seen| seen.name == slot.into());
            let label = seen.and_then(|seen| seen.card?.label);
            let label = label.unwrap_or_else(|| panic!("{}: it has none", self.what));
            assert!(
                before.as_ref() != Some(&label)
                    && self.labels.values().all(|other| *other != label),
                "{}: {label} is another card",
                self.what
            );
            self.labels.insert(card, label);
            self.mistrusted.remove(card);
        } else {
            assert!(code(&told, "has-label"), "{}: {told:?}", self.what);
        }
    }

    async fn stale_plan(&mut self) {
        let (slot, card) = self.some_slot().await;
        self.say(format!("a plan for {card} that grows old"));
        let Some(old) = self.plan(slot, DEVICES[0]).await else {
            return;
        };
        if let Some(new) = self.plan(slot, DEVICES[1]).await {
            self.carry_out(&new, card, Fate::Well).await;
        }
        let before = self.medium(card);
        let refused = self.client.confirm(&old.id, old.agreed(), None).await;
        let Err(ClientError::Refused(problem)) = refused else {
            panic!("{}: {refused:?}", self.what);
        };
        assert!(
            matches!(problem.code.as_str(), "plan-void" | "card-swapped"),
            "{}: {problem:?}",
            self.what
        );
        assert_eq!(self.medium(card), before, "{}", self.what);
    }

    /// Two plans for one card, confirmed at once: one is carried out.
    async fn two_hands(&mut self) {
        let (slot, card) = self.some_slot().await;
        self.say(format!("two hands at {card} in slot {slot}"));
        let new = |device: &str| NewPlan {
            device: Some(device.into()),
            slot: slot.into(),
            ..NewPlan::default()
        };
        let (new_1, new_2) = (new(DEVICES[0]), new(DEVICES[1]));
        self.trust_again(&new_1).await;
        let (one, two) = tokio::join!(self.client.plan(&new_1), self.client.plan(&new_2));
        let (Ok(one), Ok(two)) = (one, two) else {
            assert!(self.withdrawn, "{}", self.what);
            return;
        };
        assert_eq!(one.card, two.card, "{}: one card, one label", self.what);
        self.labels.insert(card, one.card.clone());
        let (first, second) = tokio::join!(
            self.client.confirm(&one.id, one.agreed(), None),
            self.client.confirm(&two.id, two.agreed(), None)
        );
        let (plan, job) = match (first, second) {
            (Ok(job), Err(_)) => (one, job),
            (Err(_), Ok(job)) => (two, job),
            both => panic!("{}: {both:?}", self.what),
        };
        let ended = self.let_happen(&job, Fate::Well).await;
        assert_eq!(ended.state, "done", "{}: {ended:?}", self.what);
        self.played.done += 1;
        self.settle().await;
        let seq = self.last.values().map(|(seq, _)| *seq).max().unwrap_or(0) + 1;
        self.last.insert(card, (seq, plan.device));
    }

    async fn change_settings(&mut self) {
        // What can be set stands in the sheet of a release that is there.
        if self.withdrawn {
            return;
        }
        let device = *self.chance.pick(&DEVICES);
        // Sometimes one that a card may have.
        let word = self.chance.below(3);
        self.say(format!("another passphrase on {device}"));
        let passphrase = match word {
            0 => RIGHT.into(),
            word => format!("ebb and flow {word}"),
        };
        self.bed.set_passphrase(device, &passphrase);
        self.set.insert(device, passphrase);
    }

    async fn change_state(&mut self) {
        let withdrawn = !self.withdrawn;
        let state = if withdrawn { "withdrawn" } else { "released" };
        self.say(format!("{RELEASE} becomes {state}"));
        let new = NewState {
            state: state.into(),
            reason: "for a while".into(),
        };
        // A plan that was made before the withdrawal is void with it.
        let (slot, _) = self.some_slot().await;
        let plan = self.plan(slot, DEVICES[0]).await;
        let set = self.client.set_state(RELEASE, &new).await;
        set.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        self.withdrawn = withdrawn;
        if let Some(plan) = plan.filter(|_| withdrawn) {
            let refused = self.client.confirm(&plan.id, plan.agreed(), None).await;
            assert!(code(&refused, "withdrawn"), "{}: {refused:?}", self.what);
        }
    }

    /// The records are kept in the vault, work goes on, and everything but vault and key is lost: what is on the cards
    /// is known again as soon as they are in slots, what was acknowledged is there, no label is given twice, and what is
    /// said to be there is whole.
    pub async fn lose_everything(&mut self, steps: u64) {
        self.say("keep the records".into());
        let kept = self.client.keep_records(None).await;
        let kept = kept.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        assert_eq!(self.let_happen(&kept, Fate::Well).await.state, "done");
        let (mistrusted, gone) = (self.mistrusted.clone(), self.gone.clone());
        for _ in 0..steps {
            let fate = match self.chance.below(3) {
                0 => self.fate(true),
                _ => self.fate(false),
            };
            match self.chance.below(7) {
                0 => self.import(fate).await,
                1 => drop(self.back_up(fate).await),
                2 => drop(self.restore(fate).await),
                3 | 4 => self.tend(fate).await,
                _ => self.write(fate).await,
            }
            self.check().await;
            if self.chance.below(3) == 0 {
                self.put().await;
            }
        }
        self.say(format!(
            "everything is lost, {steps} steps after the records were kept"
        ));
        let labels: BTreeSet<_> = self.labels.values().cloned().collect();
        self.bed.lose_records();
        let recovered = self.bed.service_command().arg("--recover").output();
        let recovered = crate::Said::from(recovered.expect("the service is there"));
        assert_eq!(recovered.code, 0, "{recovered:?}");
        assert!(!recovered.out.contains("Not back"), "{recovered:?}");
        self.bed.start_service();
        // What nobody but the records knew is as it was when they were kept last, then or later: a card that was called
        // bad or good meanwhile is either.
        for (card, _) in CARDS {
            if mistrusted.contains(card) == self.mistrusted.contains(card) {
                continue;
            }
            let found = match self.labels.get(card) {
                Some(label) => self.client.card(label).await.ok(),
                None => None,
            };
            match found.is_some_and(|found| found.card.suspicion.is_some()) {
                true => self.mistrusted.insert(card),
                false => self.mistrusted.remove(card),
            };
        }
        self.forget_unwritten_labels().await;
        self.take_what_came_back(&gone).await;
        self.take_what_was_not_acknowledged().await;
        for (place, (card, _)) in CARDS.iter().enumerate() {
            let slot = place as u32 + 1;
            self.slots.insert(slot, card);
            self.bed.put(card, slot);
        }
        self.settle().await;
        self.check().await;
        self.slots.remove(&4);
        self.bed.standin(&["pull", "--slot", "4"]);
        for (card, _) in CARDS {
            if self.labels.contains_key(card) {
                continue;
            }
            let slot = *self
                .slots
                .iter()
                .find(|(_, held)| **held == card)
                .map_or(&3, |(slot, _)| slot);
            self.slots.retain(|_, held| *held != card);
            self.slots.insert(slot, card);
            self.bed.put(card, slot);
            self.settle().await;
            if let Some(plan) = self.plan(slot, DEVICES[0]).await {
                assert!(
                    !labels.contains(&plan.card),
                    "{}: {} stands on a sticker",
                    self.what,
                    plan.card
                );
            }
        }
        self.settle().await;
        self.check().await;
        let tidied = self
            .client
            .tidy_vault(&api::NewTidying::default(), None)
            .await;
        let tidied = tidied.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        let ended = self.let_happen(&tidied, Fate::Well).await;
        let words = ended.result.unwrap_or_default().to_string();
        assert!(
            ended.state == "done" && !words.contains("nothing went"),
            "{}: {words}",
            self.what
        );
        self.check().await;
    }

    /// A backup that was let go after the records were kept may stand there again, and is whole then. One of which
    /// they knew that it went, went.
    async fn take_what_came_back(&mut self, gone: &BTreeSet<String>) {
        for name in self.gone.clone() {
            let found = self.client.backup(&name).await;
            let found = found.unwrap_or_else(|e| panic!("{}: {e}", self.what));
            if found.gone_at.is_some() {
                continue;
            }
            assert!(!gone.contains(&name), "{}: {name} had gone", self.what);
            self.bed.done(&["backup", "prove", &name]);
            self.gone.remove(&name);
        }
    }

    /// A card that was given a label, and not touched since, is known to nobody any more.
    async fn forget_unwritten_labels(&mut self) {
        for (card, label) in self.labels.clone() {
            let found = self.client.card(&label).await;
            if code(&found, "unknown") {
                assert_eq!(
                    self.medium(card),
                    Medium::Blank,
                    "{}: {label} is unknown",
                    self.what
                );
                self.labels.remove(card);
                self.last.remove(card);
            }
        }
    }

    /// A job that was killed right before its end was recorded may have left all that it made: it is whole, though nobody
    /// was told of it.
    async fn take_what_was_not_acknowledged(&mut self) {
        let page = api::Paging::default();
        let backups = self
            .client
            .backups(&api::BackupQuery::default(), &page)
            .await;
        let backups = backups.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        for backup in backups.items {
            if !self.backups.contains_key(&backup.name) {
                self.bed.done(&["backup", "prove", &backup.name]);
                let gone = self
                    .client
                    .let_backup_go(&backup.name, "nobody was told of it")
                    .await;
                gone.unwrap_or_else(|e| panic!("{}: {e}", self.what));
                self.gone.insert(backup.name.clone());
                self.backups.insert(backup.name, None);
            }
        }
        let releases = self.client.releases().await;
        let releases = releases.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        for release in releases {
            if release.name.starts_with("line ") && !self.imported.contains(&release.name) {
                self.imported.push(release.name);
            }
        }
    }

    /// The computer's clock is years off from one start to the next, as without a battery.
    async fn jump(&mut self) {
        let days = self.chance.below(1500) as i64 - 700;
        self.say(format!("the clock is {days} days off"));
        self.bed.stop_service();
        if self.bed.set_clock(days) {
            self.played.jumps += 1;
        }
        self.bed.start_service();
        self.settle().await;
    }

    async fn restart(&mut self) {
        self.say("restart".into());
        self.bed.stop_service();
        self.bed.start_service();
        self.settle().await;
    }

    /// The release that is on a card, through a backup too.
    fn release_on(&self, card: &str) -> Option<String> {
        match self.medium(card) {
            Medium::Whole { base, .. } => match self.backups.get(&base) {
                Some(release) => release.clone(),
                None => Some(base),
            },
            _ => None,
        }
    }

    /// What the service says of everything, held against what is.
    async fn check(&mut self) {
        let begun = Instant::now();
        // While the database comes back, an answer may be a refusal, but never an untrue one.
        let wrong = loop {
            match self.compare().await {
                Ok(()) => return,
                Err(wrong) if wrong.passing && begun.elapsed() < PATIENCE => {
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
                Err(wrong) => break wrong,
            }
        };
        panic!("after {}: {}", self.what, wrong.words);
    }

    async fn compare(&mut self) -> Result<(), Wrong> {
        let in_slot: Vec<_> = self.slots.values().copied().collect();
        for (card, label) in self.labels.clone() {
            let found = self.client.card(&label).await.map_err(Wrong::asking)?;
            let medium = self.medium(card);
            let newest = found
                .imprints
                .iter()
                .find(|one| !matches!(one.state.as_str(), "planned" | "void"));
            let said = (
                found.card.state.as_str(),
                newest.map(|one| (one.id, one.state.as_str())),
            );
            let agrees = match &medium {
                Medium::Blank => said == ("blank", None),
                Medium::Unfinished { .. } => {
                    said.0 == "incomplete" && said.1.is_some_and(|(_, state)| state == "incomplete")
                }
                Medium::Whole { imprint, .. } => {
                    said == ("imprinted", Some((*imprint, "verified")))
                }
                Medium::Other => said.0 == "incomplete",
            };
            // What a card is of which it is not known shows when it is in a slot.
            let unseen =
                !in_slot.contains(&card) && newest.is_some_and(|one| one.state == "in doubt");
            if !agrees && !unseen {
                let passing = newest.is_some_and(|one| one.state == "in doubt");
                let words = format!("{card} is {medium:?}, and {label} is said to be {said:?}");
                return Err(Wrong { words, passing });
            }
            if self.mistrusted.contains(card) && found.card.suspicion.is_none() {
                return Err(Wrong::lasting(format!("{label} failed and is trusted")));
            }
            let whose = self.last.get(card).and_then(|(_, device)| device.clone());
            if found.card.device != whose {
                return Err(Wrong::lasting(format!(
                    "{label} is that of {whose:?}, and is said to be that of {:?}",
                    found.card.device
                )));
            }
        }
        for device in DEVICES {
            let found = self
                .client
                .device(device)
                .await
                .map_err(Wrong::asking)?
                .device;
            let own = self
                .last
                .iter()
                .filter(|(_, (_, whose))| whose.as_deref() == Some(device));
            let newest = own.max_by_key(|(_, (seq, _))| *seq).map(|(card, _)| *card);
            let label = newest.map(|card| self.labels[card].clone());
            let whole =
                newest.is_some_and(|card| matches!(self.medium(card), Medium::Whole { .. }));
            let said = (
                found.card.clone(),
                found.card_state.as_deref() == Some("verified"),
                match self.decided.get(device) {
                    Some(decided) => {
                        if found.state != *decided {
                            return Err(Wrong::lasting(format!(
                                "{device} is {decided}, and is said to be {}",
                                found.state
                            )));
                        }
                        whole
                    }
                    None => found.state == "carded",
                },
            );
            let expected = match newest.map(|card| (card, self.medium(card))) {
                None => Standing::NoCard,
                Some((card, Medium::Whole { .. })) => {
                    let has = passphrase_on(&self.bed.card_file(card));
                    match self.release_on(card).as_deref() {
                        Some(RELEASE) if self.withdrawn => Standing::Withdrawn,
                        Some(RELEASE) if has.as_ref() == self.set.get(device) => Standing::UpToDate,
                        Some(RELEASE) => Standing::SettingsChanged,
                        // A backup that nobody was told of.
                        _ => found.standing,
                    }
                }
                Some(_) => Standing::Incomplete,
            };
            if said == (label.clone(), whole, whole) && found.standing != expected {
                return Err(Wrong::lasting(format!(
                    "{device} is {expected}, and is said to be {}: {:?}",
                    found.standing, found.reasons
                )));
            }
            if said != (label.clone(), whole, whole) {
                return Err(Wrong::lasting(format!(
                    "{device} carries {label:?}, whole: {whole}, and is said to carry {said:?}"
                )));
            }
        }
        let detail = self.client.release(RELEASE).await.map_err(Wrong::asking)?;
        let mut said: Vec<_> = detail.carriers.into_iter().map(|one| one.card).collect();
        let mut are: Vec<_> = self
            .labels
            .iter()
            .filter(|(card, _)| self.release_on(card).as_deref() == Some(RELEASE))
            .map(|(_, label)| label.clone())
            .collect();
        said.sort();
        are.sort();
        if said != are {
            return Err(Wrong::lasting(format!(
                "{RELEASE} is on {are:?}, said: {said:?}"
            )));
        }
        // In pages of two, so that where one ends is tried as well.
        let ask = async |after| {
            let all = api::BackupQuery::default();
            let page = api::Paging::behind(after, 2);
            self.client.backups(&all, &page).await
        };
        let mut backups = crate::every(ask).await.map_err(Wrong::asking)?;
        backups.sort_by(|a, b| a.name.cmp(&b.name));
        let said: Vec<_> = backups.iter().map(|one| &one.name).collect();
        let kept: Vec<_> = self.kept().collect();
        if said != kept {
            return Err(Wrong::lasting(format!("{kept:?}, said: {said:?}")));
        }
        let releases = self.client.releases().await.map_err(Wrong::asking)?;
        let mut said: Vec<_> = releases.into_iter().map(|one| one.name).collect();
        said.retain(|name| name.starts_with("line "));
        said.sort();
        let mut are = self.imported.clone();
        are.sort();
        match said == are {
            true => Ok(()),
            false => Err(Wrong::lasting(format!("imported {are:?}, said: {said:?}"))),
        }
    }

    /// At the end: everything that was acknowledged is there and reads, and boards boot what is
    /// called whole, under the name of whose card it is.
    pub async fn finish(self) -> Played {
        let history = self.bed.done(&["job", "list"]);
        assert!(!history.contains("running"), "{history}");
        let log = std::fs::read_to_string(self.bed.log()).unwrap_or_default();
        assert!(!log.contains("panicked"), "{log}");
        for name in self.imported.clone() {
            let to = self.bed.dir().join("out.img");
            self.bed
                .done(&["release", "export", &name, crate::path(&to)]);
            std::fs::remove_file(&to).expect("it was made");
            std::fs::remove_file(to.with_file_name("out.img.sha256")).expect("it was made");
        }
        for name in self.kept() {
            let to = self.bed.dir().join("out.img.zst");
            let path = crate::path(&to);
            self.bed.done(&["backup", "export", name, path]);
            std::fs::remove_file(&to).expect("it was made");
            std::fs::remove_file(format!("{path}.sha256")).expect("it was made");
        }
        self.bed.done(&["vault", "copy"]);
        let whole = self.bed.done(&["vault", "inspect"]);
        assert!(
            whole.contains("everything that is kept is whole"),
            "{whole}"
        );
        assert!(self.second.path().join("keys").exists());
        for (card, _) in CARDS {
            let Medium::Whole { device, .. } = self.medium(card) else {
                continue;
            };
            let board = self.bed.boot(card, "curlew");
            assert_eq!(board["lamp"], "steady", "{card}: {board}");
            assert_eq!(board["host_name"].as_str(), device.as_deref(), "{card}");
            self.bed.standin(&["halt", card]);
        }
        self.played
    }
}

/// Why what is said is not what is.
struct Wrong {
    words: String,
    /// Whether it may be right a moment later, because it is a refusal or a word of doubt.
    passing: bool,
}

impl Wrong {
    fn asking(error: ClientError) -> Self {
        Self {
            words: error.to_string(),
            passing: true,
        }
    }

    fn lasting(words: String) -> Self {
        Self {
            words,
            passing: false,
        }
    }
}

fn code<T>(answer: &Result<T, ClientError>, code: &str) -> bool {
    matches!(answer, Err(ClientError::Refused(problem)) if problem.code == code)
}
