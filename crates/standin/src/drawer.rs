//! The drawer: cards as sparse files, the slots they sit in, their faults.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use bench::wire::{CardState, Fault, Network, NewCard, Refusal, SlotState};
use serde::{Deserialize, Serialize};

/// Why something was not done.
#[derive(Debug)]
pub struct Refused(pub Refusal, pub String);

impl From<io::Error> for Refused {
    fn from(error: io::Error) -> Self {
        Self(Refusal::Failed, error.to_string())
    }
}

fn unknown(message: String) -> Refused {
    Refused(Refusal::Unknown, message)
}

#[derive(Default, Serialize, Deserialize)]
struct Slot {
    insertion: u64,
    card: Option<String>,
}

/// What is kept over restarts.
#[derive(Serialize, Deserialize)]
struct Kept {
    /// Tells this drawer from any other: insertions are counted by it, over restarts too.
    #[serde(default)]
    id: String,
    slots: BTreeMap<u32, Slot>,
    cards: BTreeMap<String, NewCard>,
    #[serde(default)]
    air: Vec<Network>,
}

/// All cards, in slots, boards or the drawer itself.
pub struct Drawer {
    dir: PathBuf,
    kept: Kept,
    /// Models of the boards that are on, by the name of their card.
    pub boards: BTreeMap<String, String>,
    /// Bytes written since the card was put in, by slot.
    written: BTreeMap<u32, u64>,
    /// When each slot's card may move its next byte.
    ready: BTreeMap<u32, Instant>,
}

impl Drawer {
    /// Opens the drawer in a folder, or makes one with this many slots.
    pub fn open(dir: &Path, slots: u32) -> io::Result<Self> {
        fs::create_dir_all(dir.join("cards"))?;
        let mut kept: Kept = match fs::read(dir.join("drawer.json")) {
            Ok(text) => serde_json::from_slice(&text)?,
            Err(e) if e.kind() == io::ErrorKind::NotFound => Kept {
                id: String::new(),
                slots: (1..=slots)
                    .map(|number| (number, Slot::default()))
                    .collect(),
                cards: BTreeMap::new(),
                air: Vec::new(),
            },
            Err(e) => return Err(e),
        };
        if kept.id.is_empty() {
            let since = std::time::UNIX_EPOCH.elapsed().map_err(io::Error::other)?;
            kept.id = format!("drawer {:x} {:x}", since.as_micros(), std::process::id());
        }
        Ok(Self {
            dir: dir.into(),
            kept,
            boards: BTreeMap::new(),
            written: BTreeMap::new(),
            ready: BTreeMap::new(),
        })
    }

    fn save(&self) -> io::Result<()> {
        let new = self.dir.join("drawer.json.new");
        fs::write(&new, serde_json::to_vec_pretty(&self.kept)?)?;
        fs::rename(new, self.dir.join("drawer.json"))
    }

    fn file(&self, name: &str) -> io::Result<File> {
        File::options().read(true).write(true).open(self.path(name))
    }

    /// Where the bytes of a card lie.
    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.join("cards").join(format!("{name}.card"))
    }

    /// The networks in the air.
    pub fn air(&self) -> &[Network] {
        &self.kept.air
    }

    /// Says which networks there are.
    pub fn set_air(&mut self, networks: Vec<Network>) -> Result<(), Refused> {
        self.kept.air = networks;
        Ok(self.save()?)
    }

    /// Makes a card; one of that name is left as it is.
    pub fn make(&mut self, card: NewCard) -> Result<(), Refused> {
        let plain = |c: char| c.is_ascii_alphanumeric() || c == '-';
        if card.name.is_empty() || !card.name.chars().all(plain) {
            return Err(unknown(
                "a card's name takes letters, digits and hyphens".into(),
            ));
        }
        if self.kept.cards.contains_key(&card.name) {
            return Err(unknown(format!("there is a card {:?} already", card.name)));
        }
        File::create_new(self.path(&card.name))?.set_len(card.size)?;
        self.kept.cards.insert(card.name.clone(), card);
        Ok(self.save()?)
    }

    fn card(&self, name: &str) -> Result<&NewCard, Refused> {
        self.kept
            .cards
            .get(name)
            .ok_or_else(|| unknown(format!("there is no card {name:?}")))
    }

    /// Where a card is.
    fn place(&self, name: &str) -> String {
        if let Some(board) = self.boards.get(name) {
            return format!("board {board}");
        }
        let slot = self
            .kept
            .slots
            .iter()
            .find(|(_, slot)| slot.card.as_deref() == Some(name));
        slot.map_or("drawer".into(), |(number, _)| format!("slot {number}"))
    }

    fn state(&self, name: &str) -> Option<CardState> {
        let card = self.kept.cards.get(name)?.clone();
        Some(CardState {
            place: self.place(name),
            card,
        })
    }

    /// All cards by name.
    pub fn cards(&self) -> Vec<CardState> {
        self.kept
            .cards
            .keys()
            .filter_map(|name| self.state(name))
            .collect()
    }

    /// All slots. A card that vanished is not in its slot.
    pub fn slots(&self) -> Vec<SlotState> {
        self.kept
            .slots
            .iter()
            .map(|(number, slot)| SlotState {
                number: *number,
                boot: self.kept.id.clone(),
                insertion: slot.insertion,
                card: slot
                    .card
                    .as_deref()
                    .filter(|_| !self.vanished(*number))
                    .and_then(|name| self.state(name)),
            })
            .collect()
    }

    /// Puts a card into a slot.
    pub fn put(&mut self, name: &str, number: u32) -> Result<(), Refused> {
        self.card(name)?;
        if self.boards.contains_key(name) {
            return Err(unknown(format!(
                "card {name:?} is in a board; halt it first"
            )));
        }
        for slot in self.kept.slots.values_mut() {
            slot.card = slot.card.take().filter(|held| held != name);
        }
        let slot = self
            .kept
            .slots
            .get_mut(&number)
            .ok_or_else(|| unknown(format!("there is no slot {number}")))?;
        slot.card = Some(name.into());
        slot.insertion += 1;
        self.written.insert(number, 0);
        Ok(self.save()?)
    }

    /// Pulls the card out of a slot.
    pub fn pull(&mut self, number: u32) -> Result<(), Refused> {
        let slot = self
            .kept
            .slots
            .get_mut(&number)
            .ok_or_else(|| unknown(format!("there is no slot {number}")))?;
        if slot.card.take().is_none() {
            return Err(Refused(Refusal::Empty, format!("slot {number} is empty")));
        }
        Ok(self.save()?)
    }

    /// Takes a card out of whatever slot it is in.
    pub fn take_out(&mut self, name: &str) -> Result<(), Refused> {
        self.card(name)?;
        for slot in self.kept.slots.values_mut() {
            slot.card = slot.card.take().filter(|held| held != name);
        }
        Ok(self.save()?)
    }

    /// Notes that a card is in a board of a model.
    pub fn in_board(&mut self, name: &str, model: &str) {
        self.boards.insert(name.into(), model.into());
    }

    /// Gives a card a fault, or none.
    pub fn set_fault(&mut self, name: &str, fault: Option<Fault>) -> Result<(), Refused> {
        self.card(name)?;
        if let Some(card) = self.kept.cards.get_mut(name) {
            card.fault = fault;
        }
        Ok(self.save()?)
    }

    fn vanished(&self, number: u32) -> bool {
        let fault = || {
            self.kept
                .cards
                .get(self.kept.slots.get(&number)?.card.as_ref()?)?
                .fault
                .as_ref()
        };
        let written = self.written.get(&number).copied().unwrap_or(0);
        matches!(fault(), Some(Fault::Vanishes { after }) if written >= *after)
    }

    /// The card of an insertion, if it is still there.
    fn held(&self, number: u32, insertion: u64) -> Result<&NewCard, Refused> {
        let slot = self
            .kept
            .slots
            .get(&number)
            .ok_or_else(|| unknown(format!("there is no slot {number}")))?;
        let name = slot
            .card
            .as_ref()
            .ok_or_else(|| Refused(Refusal::Empty, "the slot is empty".into()))?;
        if slot.insertion != insertion || self.vanished(number) {
            return Err(Refused(Refusal::Gone, "the card is gone".into()));
        }
        self.card(name)
    }

    /// How long a card takes to move these bytes; the caller sleeps without holding the drawer.
    fn delay(&mut self, number: u32, rate: Option<u64>, bytes: u64) -> Duration {
        let Some(rate) = rate.filter(|rate| *rate > 0) else {
            return Duration::ZERO;
        };
        let now = Instant::now();
        let start = self.ready.get(&number).copied().unwrap_or(now).max(now);
        let ready = start + Duration::from_secs_f64(bytes as f64 / rate as f64);
        self.ready.insert(number, ready);
        ready - now
    }

    /// Opens a card for one access: its file, its state, how long the access takes.
    pub fn access(
        &mut self,
        number: u32,
        insertion: u64,
        offset: u64,
        bytes: u64,
    ) -> Result<Access, Refused> {
        let card = self.held(number, insertion)?.clone();
        if offset.checked_add(bytes).is_none_or(|end| end > card.size) {
            return Err(Refused(Refusal::Failed, "past the end of the card".into()));
        }
        let delay = self.delay(number, card.rate, bytes);
        let written = self.written.get(&number).copied().unwrap_or(0);
        let worn = matches!(card.fault, Some(Fault::ReadOnly { after }) if written >= after);
        Ok(Access {
            worn,
            file: self.file(&card.name)?,
            card,
            delay,
        })
    }

    /// Counts written bytes, for the fault that waits for them.
    pub fn count_written(&mut self, number: u32, bytes: u64) {
        *self.written.entry(number).or_default() += bytes;
    }
}

/// One access to a card's bytes.
pub struct Access {
    file: File,
    card: NewCard,
    /// Whether it takes no writes any more.
    worn: bool,
    /// How long it takes.
    pub delay: Duration,
}

impl Access {
    /// Splits a range where the true capacity makes it land elsewhere: place in the file, length.
    fn pieces(&self, offset: u64, len: u64) -> Vec<(Option<u64>, u64)> {
        match self.card.fault {
            Some(Fault::Wraps { capacity }) if capacity > 0 => {
                let mut pieces = Vec::new();
                let mut at = offset;
                while at < offset + len {
                    let within = at % capacity;
                    let piece = (capacity - within).min(offset + len - at);
                    pieces.push((Some(within), piece));
                    at += piece;
                }
                pieces
            }
            Some(Fault::Drops { capacity }) => {
                let kept = capacity.saturating_sub(offset).min(len);
                vec![(Some(offset), kept), (None, len - kept)]
            }
            _ => vec![(Some(offset), len)],
        }
    }

    /// Fills a buffer as the card would.
    pub fn read(&self, offset: u64, buf: &mut [u8]) -> Result<(), Refused> {
        let len = buf.len() as u64;
        if let Some(Fault::BadRegion {
            offset: bad,
            len: size,
        }) = self.card.fault
            && offset < bad.saturating_add(size)
            && bad < offset + len
        {
            return Err(Refused(
                Refusal::Failed,
                "the card reports a medium error".into(),
            ));
        }
        let mut rest = &mut *buf;
        for (place, piece) in self.pieces(offset, len) {
            let (part, later) = rest.split_at_mut(piece as usize);
            rest = later;
            match place {
                Some(at) => self.file.read_exact_at(part, at)?,
                None => part.fill(0),
            }
        }
        if let Some(Fault::FlipsBits { every }) = self.card.fault {
            let first = offset.next_multiple_of(every.max(1));
            for at in (first..offset + len).step_by(every.max(1) as usize) {
                buf[(at - offset) as usize] ^= 0x10;
            }
        }
        Ok(())
    }

    /// Takes bytes as the card would.
    pub fn write(&self, offset: u64, data: &[u8]) -> Result<(), Refused> {
        if self.card.locked {
            return Err(Refused(Refusal::Locked, "the card is locked".into()));
        }
        if self.worn {
            return Err(Refused(
                Refusal::Failed,
                "the card takes no writes any more".into(),
            ));
        }
        if self.card.fault == Some(Fault::KeepsNothing) {
            return Ok(());
        }
        let mut rest = data;
        for (place, piece) in self.pieces(offset, data.len() as u64) {
            let (part, later) = rest.split_at(piece as usize);
            rest = later;
            if let Some(at) = place {
                self.file.write_all_at(part, at)?;
            }
        }
        Ok(())
    }

    /// Puts what was written on the medium.
    pub fn flush(&self) -> Result<(), Refused> {
        Ok(self.file.sync_data()?)
    }
}
