//! The bench's side: does at its cards what the service asks for.

mod cache;
mod dial;
mod work;

pub use cache::Cache;
pub use dial::{Dial, run};

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{SyncSender, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, Weak};
use std::thread;
use std::time::Duration;

use bench::linux::Disk;
use bench::{Bench, Bindings};
use cardwork::{CardError, CardIo, Progress, Slot};

use crate::message::{Ask, Given, Reply, SlotSeen, ToBench, ToService, Wish, decode, encode};
use crate::session::{Over, Session};

/// Seconds that work goes on without its service, as long as that has not said otherwise.
const PATIENCE: u64 = 120;
/// How often the readers are asked what lies in them.
const EVERY: Duration = Duration::from_millis(300);

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|e| e.into_inner())
}

/// The places for cards that a bench has. [`Bench`] is one; tests have others.
pub trait Places: Send + Sync {
    /// What lies in each slot. Cheap enough to be asked several times a second.
    fn survey(&self) -> Vec<SlotSeen>;

    /// One slot for work.
    ///
    /// # Errors
    /// [`CardError::Reader`] where its reader does not answer.
    fn slot(&self, number: u32) -> Result<Option<Arc<dyn Slot>>, CardError>;

    /// Every disk of the computer, which of its places are slots, and why the file that says so cannot be used.
    ///
    /// # Errors
    /// [`CardError::Reader`] where the computer does not say.
    fn disks(&self) -> Result<(Vec<Disk>, Bindings, Option<String>), CardError>;

    /// Says which places are slots, all of them.
    ///
    /// # Errors
    /// A sentence.
    fn bind(&self, bindings: Bindings) -> Result<(), String>;
}

impl Places for Bench {
    fn survey(&self) -> Vec<SlotSeen> {
        let mut all = Vec::new();
        for reader in self.readers() {
            match Bench::survey(self, reader.as_ref()) {
                Ok(slots) => all.extend(slots),
                Err(e) => tracing::debug!("survey of {}: {e}", reader.name()),
            }
        }
        all.sort_by_key(|slot| slot.number);
        let seen = all.into_iter().map(|slot| SlotSeen {
            number: slot.number,
            place: slot.place,
            title: slot.title,
            medium: slot.medium,
            trouble: slot.trouble,
        });
        seen.collect()
    }

    fn slot(&self, number: u32) -> Result<Option<Arc<dyn Slot>>, CardError> {
        Bench::slot(self, number)
    }

    fn disks(&self) -> Result<(Vec<Disk>, Bindings, Option<String>), CardError> {
        let (bindings, trouble) = self.bindings();
        Ok((self.scan()?, bindings, trouble))
    }

    fn bind(&self, bindings: Bindings) -> Result<(), String> {
        Bench::bind(self, bindings).map_err(|e| e.to_string())
    }
}

/// The slots of this computer, whatever session they are used in.
pub struct Slots {
    places: Box<dyn Places>,
    /// What of their content was here before.
    cache: Cache,
    /// Numbers pieces of work, whatever session they belong to.
    next: AtomicU64,
    /// Work of sessions that are over which has not let go of its card yet, and the slot of that.
    ending: Mutex<HashMap<u64, u32>>,
}

impl Slots {
    /// Those of a bench.
    pub fn new(places: impl Places + 'static, cache: Cache) -> Arc<Self> {
        Arc::new(Self {
            places: Box::new(places),
            cache,
            next: AtomicU64::new(0),
            ending: Mutex::default(),
        })
    }

    /// Whether work that lost its service has not let go of its card yet.
    pub fn is_ending(&self) -> bool {
        !lock(&self.ending).is_empty()
    }

    /// What lies in them.
    fn survey(&self) -> Vec<SlotSeen> {
        let mut seen = self.places.survey();
        let ending = lock(&self.ending);
        for slot in &mut seen {
            if ending.values().any(|ends| *ends == slot.number) {
                slot.medium = None;
                slot.trouble = Some("work that lost its service is being ended".into());
            }
        }
        seen
    }
}

type Answered = (Result<Given, String>, Vec<u8>);

/// A card that the service holds here.
struct Held {
    slot: u32,
    card: Box<dyn CardIo>,
}

/// A piece of work that is under way.
struct UnderWay {
    progress: Arc<Progress>,
    slot: u32,
    /// Its number among all work of this computer.
    number: u64,
}

/// One session with the service.
pub struct Talk {
    slots: Arc<Slots>,
    session: Session,
    next: AtomicU64,
    asked: Mutex<HashMap<u64, SyncSender<Answered>>>,
    held: Mutex<HashMap<u64, Arc<Held>>>,
    works: Mutex<HashMap<u64, UnderWay>>,
    over: AtomicBool,
    begun: AtomicBool,
    /// What the service was told last of the slots. Held while they are asked, so that it hears nothing older later.
    told: Mutex<Option<Vec<SlotSeen>>>,
    /// Seconds that work goes on without a connection; the service says how many.
    patience: AtomicU64,
}

impl Talk {
    /// A session that has no connection yet.
    pub fn new(slots: Arc<Slots>) -> Arc<Self> {
        Arc::new_cyclic(|this: &Weak<Self>| {
            let this = this.clone();
            Self {
                slots,
                session: Session::new(move |message| {
                    if let Some(this) = this.upgrade() {
                        this.hear(message);
                    }
                }),
                next: AtomicU64::new(0),
                asked: Mutex::default(),
                held: Mutex::default(),
                works: Mutex::default(),
                over: AtomicBool::new(false),
                begun: AtomicBool::new(false),
                told: Mutex::default(),
                patience: AtomicU64::new(PATIENCE),
            }
        })
    }

    /// The session.
    pub fn session(&self) -> &Session {
        &self.session
    }

    /// How long work goes on without a connection.
    fn patience(&self) -> Duration {
        Duration::from_secs(self.patience.load(Ordering::SeqCst))
    }

    /// Begins to tell the service what lies in the slots, if it does not yet.
    pub fn begin(self: &Arc<Self>) {
        if self.begun.swap(true, Ordering::SeqCst) {
            return;
        }
        let this = Arc::downgrade(self);
        thread::spawn(move || {
            while let Some(talk) = this.upgrade()
                && !talk.over.load(Ordering::SeqCst)
            {
                talk.tell_slots();
                drop(talk);
                thread::sleep(EVERY);
            }
        });
    }

    /// Tells what lies in the slots, if that has changed.
    fn tell_slots(&self) {
        let mut told = lock(&self.told);
        let seen = self.slots.survey();
        if told.as_ref() != Some(&seen) {
            self.tell(&ToService::Slots(seen.clone()));
            *told = Some(seen);
        }
    }

    /// Ends it: what is under way stops, and leaves its card plainly unfinished.
    pub fn end(&self, why: &str) {
        self.over.store(true, Ordering::SeqCst);
        self.session.end(why);
        lock(&self.asked).clear();
        lock(&self.held).clear();
        let works = lock(&self.works);
        let mut ending = lock(&self.slots.ending);
        for work in works.values() {
            work.progress.cancel();
            ending.insert(work.number, work.slot);
        }
    }

    fn tell(&self, message: &ToService) {
        let _ = self.session.send(encode(message, &[]));
    }

    /// Asks the service, and waits for the answer as long as the session goes on.
    fn ask(&self, work: u64, wish: Wish, body: &[u8]) -> Result<(Given, Vec<u8>), String> {
        let id = self.next.fetch_add(1, Ordering::Relaxed);
        let (to, answer) = sync_channel(1);
        lock(&self.asked).insert(id, to);
        let over = |over: Over| format!("the service is away: {over}");
        let sent = self.session.wait_for_room();
        let sent = sent.and_then(|()| {
            self.session
                .send(encode(&ToService::Ask { id, work, wish }, body))
        });
        sent.map_err(over)?;
        let ended = || {
            over(
                self.session
                    .over()
                    .unwrap_or_else(|| Over("it went away".into())),
            )
        };
        // Who ended the session meanwhile cleared the questions before this one was among them.
        if self.over.load(Ordering::SeqCst) {
            lock(&self.asked).remove(&id);
        }
        let (answer, body) = answer.recv().map_err(|_| ended())?;
        Ok((answer?, body))
    }

    /// What the service said. Nothing here waits.
    fn hear(self: &Arc<Self>, message: &[u8]) {
        let Some((message, body)) = decode::<ToBench>(message) else {
            self.end("the service says something that this bench does not know");
            return;
        };
        match message {
            ToBench::Answer { id, answer } => {
                if let Some(to) = lock(&self.asked).remove(&id) {
                    let _ = to.send((answer, body.to_vec()));
                }
            }
            ToBench::Cancel { work } => {
                if let Some(work) = lock(&self.works).get(&work) {
                    work.progress.cancel();
                }
            }
            ToBench::Close { card } => {
                lock(&self.held).remove(&card);
            }
            ToBench::Ask { id, ask } => {
                // A reader may take its time; others are asked meanwhile.
                let (talk, body) = (self.clone(), body.to_vec());
                thread::spawn(move || {
                    let (answer, body) = match talk.answer(ask, body) {
                        Ok((reply, body)) => (Ok(reply), body),
                        Err(error) => (Err(error), Vec::new()),
                    };
                    let answer = ToService::Answer { id, answer };
                    let _ = talk.session.send(encode(&answer, &body));
                });
            }
        }
    }

    fn held(&self, card: u64) -> Result<Arc<Held>, CardError> {
        lock(&self.held).get(&card).cloned().ok_or(CardError::Gone)
    }

    fn answer(self: &Arc<Self>, ask: Ask, body: Vec<u8>) -> Result<(Reply, Vec<u8>), CardError> {
        let slot = |number: u32| self.slots.places.slot(number)?.ok_or(CardError::Empty);
        let mut out = Vec::new();
        let reply = match ask {
            Ask::Greet { patience } => {
                self.patience.store(patience, Ordering::SeqCst);
                if let Ok(key) = body.as_slice().try_into() {
                    self.slots.cache.open(key);
                }
                Reply::Done
            }
            Ask::Slots => {
                self.tell_slots();
                Reply::Done
            }
            Ask::Medium { slot: number } => Reply::Medium(slot(number)?.medium()?),
            Ask::Open {
                slot: number,
                insertion,
                access,
            } => {
                let card = slot(number)?.open(&insertion, access)?;
                let size = card.size();
                let id = self.next.fetch_add(1, Ordering::Relaxed);
                let held = Held { slot: number, card };
                lock(&self.held).insert(id, Arc::new(held));
                if self.over.load(Ordering::SeqCst) {
                    lock(&self.held).remove(&id);
                }
                Reply::Opened { card: id, size }
            }
            Ask::Release { slot: number } => Reply::Released(slot(number)?.release()?),
            Ask::Disks => {
                let (disks, bindings, trouble) = self.slots.places.disks()?;
                Reply::Disks(disks, bindings, trouble)
            }
            Ask::Bind(bindings) => match self.slots.places.bind(bindings) {
                Ok(()) => Reply::Done,
                Err(why) => Reply::Refused(why),
            },
            Ask::Read { card, offset, len } => {
                if len as usize > crate::message::MOST {
                    return Err(CardError::Reader(
                        "more is asked for than one answer holds".into(),
                    ));
                }
                out.resize(len as usize, 0);
                self.held(card)?.card.read_at(offset, &mut out)?;
                Reply::Done
            }
            Ask::Write { card, offset } => {
                self.held(card)?.card.write_at(offset, &body)?;
                Reply::Done
            }
            Ask::Flush { card } => {
                self.held(card)?.card.flush()?;
                Reply::Done
            }
            Ask::Discard { card, offset, len } => {
                Reply::Discarded(self.held(card)?.card.discard(offset, len)?)
            }
            Ask::Begin { card, work, order } => {
                let held = self.held(card)?;
                let progress = Arc::new(Progress::default());
                let number = self.slots.next.fetch_add(1, Ordering::SeqCst);
                let under_way = UnderWay {
                    progress: progress.clone(),
                    slot: held.slot,
                    number,
                };
                lock(&self.works).insert(work, under_way);
                // Whoever ended the session meanwhile did not find it there.
                if self.over.load(Ordering::SeqCst) {
                    progress.cancel();
                }
                let talk = self.clone();
                thread::spawn(move || {
                    let card = held.card.as_ref();
                    let end = Box::new(work::done(&talk, work, card, order, body, &progress));
                    // The card first: who is told that the work is over may want it.
                    drop(held);
                    lock(&talk.works).remove(&work);
                    lock(&talk.slots.ending).remove(&number);
                    talk.tell(&ToService::Ended { work, end });
                });
                Reply::Done
            }
        };
        Ok((reply, out))
    }
}
