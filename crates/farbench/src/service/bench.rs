//! A bench that is somewhere else: whether it is connected, what lies in its slots.

use std::collections::HashSet;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use bench::Bindings;
use bench::linux::Disk;
use cardwork::{Access, CardError, CardIo, Insertion, Medium, Place, Slot};
use tokio::io::{AsyncRead, AsyncWrite};

use super::card::FarCard;
use super::{Talk, Waiting, lock};
use crate::message::{Ask, Reply, SlotSeen};
use crate::session::Session;

/// How long a bench may be gone before its slots are neither shown nor asked about.
const GONE: Duration = Duration::from_secs(6);
/// How long a question about a slot may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// Slots of one bench, at most.
const SLOTS: usize = 256;
/// Bytes of the largest card that there may be: a pebibyte.
const LARGEST: u64 = 1 << 50;
/// Characters of a name that a bench gives something.
const NAME: usize = 200;

/// Foreign text, bounded and without what steers a terminal.
fn cut(text: &str) -> String {
    text.chars()
        .filter(|c| !c.is_control())
        .take(NAME)
        .collect()
}

/// Why a medium cannot be as its bench says.
fn impossible(medium: &Medium) -> Option<String> {
    if medium.size > LARGEST {
        return Some(format!(
            "its reader says that the card holds {} bytes, which none does",
            medium.size
        ));
    }
    let block = medium.block;
    (!block.is_power_of_two() || !(512..=65_536).contains(&block))
        .then(|| format!("its reader counts in blocks of {block} bytes, which none does"))
}

/// A bench on another computer.
pub struct FarBench {
    name: String,
    /// What its cache is sealed with; it keeps this in memory only.
    cache_key: [u8; 32],
    /// How long a session goes on without a connection.
    patience: Duration,
    state: Mutex<State>,
    /// Called whenever slots or the connection change.
    changed: Box<dyn Fn() + Send + Sync>,
}

#[derive(Default)]
struct State {
    talk: Option<Arc<Talk>>,
    /// Name of the session, which the bench gives when it comes back.
    session: String,
    slots: Arc<Mutex<Vec<SlotSeen>>>,
    /// The newest attempt, and the start of the program that made it.
    attempt: (String, u64),
    /// Version of the worker's program.
    version: String,
}

/// How a bench connects.
pub struct Coming {
    /// Session that it was in; empty for a new one.
    pub session: String,
    /// The newest message that it has seen of it.
    pub seen: u64,
    /// Names the start of its program.
    pub start: String,
    /// Counts the attempts of that.
    pub attempt: u64,
    /// Version of its program.
    pub version: String,
}

/// A connection that was let in, to be spoken over.
pub struct Line {
    talk: Arc<Talk>,
    generation: u64,
    /// Name of the session.
    pub session: String,
    /// The newest message of the bench that the service has seen.
    pub seen: u64,
}

impl Line {
    /// Speaks until the connection ends.
    pub async fn run(self, io: impl AsyncRead + AsyncWrite + Send) {
        if let Err(e) = self.talk.session.run(self.generation, io).await {
            tracing::debug!("connection of bench {}: {e}", self.talk.bench);
        }
    }
}

impl FarBench {
    /// A bench that has not called yet.
    pub fn new(
        name: &str,
        cache_key: [u8; 32],
        patience: Duration,
        changed: impl Fn() + Send + Sync + 'static,
    ) -> Self {
        Self {
            name: name.into(),
            cache_key,
            patience,
            state: Mutex::default(),
            changed: Box::new(changed),
        }
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Version of the program that it runs; empty before it called.
    pub fn version(&self) -> String {
        lock(&self.state).version.clone()
    }

    /// Whether it is connected.
    pub fn is_connected(&self) -> bool {
        let talk = lock(&self.state).talk.clone();
        talk.is_some_and(|talk| talk.session.connected().0)
    }

    /// Whether it has a session that is not over, connected or not.
    pub fn has_session(&self) -> bool {
        let talk = lock(&self.state).talk.clone();
        talk.is_some_and(|talk| talk.session.over().is_none())
    }

    /// Bytes that went to it and came from it in its present session.
    pub fn moved(&self) -> (u64, u64) {
        let talk = lock(&self.state).talk.clone();
        talk.map_or((0, 0), |talk| talk.session.moved())
    }

    /// Lets it in: into the session that it was in, or a new one, which ends what was under way in the old one.
    /// Nothing for a call that was overtaken by a later one.
    pub fn come(self: &Arc<Self>, coming: Coming, fresh: impl FnOnce() -> String) -> Option<Line> {
        let mut state = lock(&self.state);
        // One that was long on its way ends nothing that came after it.
        let (start, attempt) = &state.attempt;
        if *start == coming.start && coming.attempt <= *attempt {
            return None;
        }
        state.attempt = (coming.start, coming.attempt);
        let same = state.talk.clone().filter(|talk| {
            !coming.session.is_empty()
                && state.session == coming.session
                && talk.session.over().is_none()
        });
        if let Some(talk) = same {
            let generation = talk.session.attach(coming.attempt, coming.seen)?;
            let session = state.session.clone();
            drop(state);
            (self.changed)();
            let seen = talk.session.seen();
            return Some(Line {
                talk,
                generation,
                session,
                seen,
            });
        }
        if let Some(old) = state.talk.take() {
            old.end("it came back and knows nothing of what was under way");
        }
        let waiting = Arc::new(Waiting::default());
        let slots = Arc::new(Mutex::new(Vec::new()));
        let (ears, shelf, bench) = (waiting.clone(), slots.clone(), Arc::downgrade(self));
        let session = Session::new(move |message| {
            if let Some(seen) = ears.hear(message)
                && let Some(bench) = bench.upgrade()
            {
                *lock(&shelf) = bench.own(seen);
                (bench.changed)();
            }
        });
        let talk = Arc::new(Talk {
            bench: self.name.clone(),
            session,
            patience: self.patience,
            waiting,
        });
        let generation = talk.session.attach(coming.attempt, 0)?;
        state.talk = Some(talk.clone());
        state.session = fresh();
        state.slots = slots;
        state.version = coming.version;
        let session = state.session.clone();
        drop(state);
        (self.changed)();
        let greeted = talk.clone();
        let (key, patience) = (self.cache_key, self.patience.as_secs());
        // Nobody waits for the answer: a bench without the key goes without its cache.
        std::thread::spawn(move || {
            greeted
                .ask(Ask::Greet { patience }, &key, PATIENCE)
                .map(drop)
        });
        Some(Line {
            talk,
            generation,
            session,
            seen: 0,
        })
    }

    /// Ends a session that has been without a connection for too long; what was under way in it fails.
    pub fn look_after(&self) {
        let talk = lock(&self.state).talk.clone();
        if let Some(talk) = talk
            && talk.session.over().is_none()
            && let (false, since) = talk.session.connected()
            && since.elapsed() >= self.patience
        {
            let seconds = self.patience.as_secs();
            talk.end(&format!("it was not heard of for {seconds} seconds"));
            (self.changed)();
        }
    }

    /// Sends it away.
    pub fn leave(&self, why: &str) {
        let talk = lock(&self.state).talk.take();
        if let Some(talk) = talk {
            talk.end(why);
        }
    }

    fn talk(&self) -> Result<Arc<Talk>, CardError> {
        let talk = lock(&self.state).talk.clone();
        let talk = talk.ok_or_else(|| self.away("it has not called yet"))?;
        match talk.session.over() {
            None => Ok(talk),
            Some(over) => Err(self.away(&over.0)),
        }
    }

    fn away(&self, why: &str) -> CardError {
        CardError::Reader(format!("bench {}: {why}", self.name))
    }

    /// Readers of two benches may be called alike: in records each is named with its bench. What a bench says is bounded
    /// before anybody relies on it.
    fn own(&self, slots: Vec<SlotSeen>) -> Vec<SlotSeen> {
        let mut numbers = HashSet::new();
        let own = slots.into_iter().filter(|slot| numbers.insert(slot.number));
        let own = own.take(SLOTS).map(|mut slot| {
            slot.place.reader = format!("{}/{}", self.name, cut(&slot.place.reader));
            slot.title = cut(&slot.title);
            slot.trouble = slot.trouble.as_deref().map(cut);
            if let Some(medium) = &slot.medium
                && let Some(why) = impossible(medium)
            {
                slot.trouble = Some(why);
                slot.medium = None;
            }
            slot
        });
        own.collect()
    }

    /// What lies in its slots, as it said last.
    ///
    /// # Errors
    /// [`CardError::Reader`] where it is away.
    pub fn slots(&self) -> Result<Vec<SlotSeen>, CardError> {
        let talk = self.talk()?;
        match talk.session.connected() {
            (false, since) if since.elapsed() > GONE => Err(self.away("it is away")),
            _ => Ok(lock(&lock(&self.state).slots).clone()),
        }
    }

    /// The same, asked anew: it tells of changes a moment late.
    ///
    /// # Errors
    /// [`CardError::Reader`] where it is away.
    pub fn slots_now(&self) -> Result<Vec<SlotSeen>, CardError> {
        match self.ask(Ask::Slots)? {
            (_, Reply::Done) => self.slots(),
            (talk, _) => Err(talk.surprise()),
        }
    }

    /// Every disk of its computer, which of its places are slots, and why the file that says so cannot be used.
    ///
    /// # Errors
    /// [`CardError::Reader`] where it is away.
    pub fn disks(&self) -> Result<(Vec<Disk>, Bindings, Option<String>), CardError> {
        match self.ask(Ask::Disks)? {
            (_, Reply::Disks(disks, bindings, trouble)) => Ok((disks, bindings, trouble)),
            (talk, _) => Err(talk.surprise()),
        }
    }

    /// Says which places are slots, all of them; gives a sentence where that is refused.
    ///
    /// # Errors
    /// [`CardError::Reader`] where it is away.
    pub fn bind(&self, bindings: Bindings) -> Result<Result<(), String>, CardError> {
        match self.ask(Ask::Bind(bindings))? {
            (_, Reply::Done) => Ok(Ok(())),
            (_, Reply::Refused(why)) => Ok(Err(why)),
            (talk, _) => Err(talk.surprise()),
        }
    }

    fn ask(&self, ask: Ask) -> Result<(Arc<Talk>, Reply), CardError> {
        let talk = self.talk()?;
        if let (false, since) = talk.session.connected()
            && since.elapsed() > GONE
        {
            return Err(self.away("it is away"));
        }
        let (reply, _) = talk.ask(ask, &[], PATIENCE)?;
        Ok((talk, reply))
    }

    /// One of its slots for work.
    pub fn slot(self: &Arc<Self>, number: u32) -> Option<FarSlot> {
        let slots = self.slots().ok()?;
        let seen = slots.into_iter().find(|slot| slot.number == number)?;
        Some(FarSlot {
            bench: self.clone(),
            number,
            place: seen.place,
        })
    }
}

/// A slot of a bench on another computer.
pub struct FarSlot {
    bench: Arc<FarBench>,
    number: u32,
    place: Place,
}

impl Slot for FarSlot {
    fn place(&self) -> Place {
        self.place.clone()
    }

    fn medium(&self) -> Result<Option<Medium>, CardError> {
        match self.bench.ask(Ask::Medium { slot: self.number })? {
            (talk, Reply::Medium(medium)) => match medium.as_ref().and_then(impossible) {
                None => Ok(medium),
                Some(why) => Err(CardError::Reader(format!("bench {}: {why}", talk.bench))),
            },
            (talk, _) => Err(talk.surprise()),
        }
    }

    fn open(&self, insertion: &Insertion, access: Access) -> Result<Box<dyn CardIo>, CardError> {
        let ask = Ask::Open {
            slot: self.number,
            insertion: insertion.clone(),
            access,
        };
        match self.bench.ask(ask)? {
            (talk, Reply::Opened { card, size }) if size <= LARGEST => {
                Ok(Box::new(FarCard { talk, card, size }))
            }
            (talk, _) => Err(talk.surprise()),
        }
    }

    fn release(&self) -> Result<Vec<String>, CardError> {
        match self.bench.ask(Ask::Release { slot: self.number })? {
            (_, Reply::Released(what)) => Ok(what),
            (talk, _) => Err(talk.surprise()),
        }
    }
}
