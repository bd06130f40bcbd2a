//! The service's side: benches on other computers as slots and cards like any others.

mod bench;
mod card;
mod work;

pub use bench::{Coming, FarBench, FarSlot, Line};

use std::collections::HashMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, channel, sync_channel};
use std::time::Duration;

use cardwork::CardError;

use crate::message::{Ask, Given, Reply, ToBench, ToService, Wish, decode, encode};
use crate::session::{Over, Session};

/// What a piece of work hears of its bench.
enum Heard {
    /// A question with its body.
    Wish { id: u64, wish: Wish, body: Vec<u8> },
    /// How far it is.
    Progress(cardwork::Stage, u64, u64),
    /// It is over.
    Ended(crate::message::End),
}

type Answered = (Result<Reply, CardError>, Vec<u8>);

/// Questions that wait for their answer, and work that is under way, of one session.
#[derive(Default)]
struct Waiting {
    next: AtomicU64,
    asked: Mutex<HashMap<u64, SyncSender<Answered>>>,
    works: Mutex<HashMap<u64, std::sync::mpsc::Sender<Heard>>>,
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|e| e.into_inner())
}

impl Waiting {
    fn number(&self) -> u64 {
        self.next.fetch_add(1, Ordering::Relaxed) + 1
    }

    /// What the bench said. Slots are given back: they are its bench's affair.
    fn hear(&self, message: &[u8]) -> Option<Vec<crate::message::SlotSeen>> {
        let (message, body) = decode::<ToService>(message)?;
        let tell = |work: u64, heard: Heard| {
            if let Some(to) = lock(&self.works).get(&work) {
                let _ = to.send(heard);
            }
        };
        match message {
            ToService::Answer { id, answer } => {
                if let Some(to) = lock(&self.asked).remove(&id) {
                    let _ = to.send((answer, body.to_vec()));
                }
            }
            ToService::Ask { id, work, wish } => tell(
                work,
                Heard::Wish {
                    id,
                    wish,
                    body: body.to_vec(),
                },
            ),
            ToService::Progress {
                work,
                stage,
                total,
                done,
            } => tell(work, Heard::Progress(stage, total, done)),
            ToService::Ended { work, end } => tell(work, Heard::Ended(*end)),
            ToService::Slots(slots) => return Some(slots),
        }
        None
    }

    /// Nobody is answered any more.
    fn give_up(&self) {
        lock(&self.asked).clear();
        lock(&self.works).clear();
    }
}

/// How long a question about a held card may take while there is a connection: a card that is full of writes takes its
/// time to bring them to an end.
const CARD: Duration = Duration::from_secs(60);
/// How long work may say nothing while there is a connection.
const QUIET: Duration = Duration::from_secs(600);

/// One session with a bench, as those see it who work at its cards.
struct Talk {
    bench: String,
    session: Session,
    /// How long the session goes on without a connection.
    patience: Duration,
    waiting: std::sync::Arc<Waiting>,
}

impl Talk {
    fn away(&self, over: &Over) -> CardError {
        CardError::Reader(format!("bench {}: {over}", self.bench))
    }

    /// Asks about a held card. The connection may be cut meanwhile, and come back.
    fn ask_card(&self, ask: Ask, body: &[u8]) -> Result<(Reply, Vec<u8>), CardError> {
        self.ask(ask, body, CARD + self.patience)
    }

    /// Asks, and waits for the answer for `patience`, and as long as the session goes on.
    fn ask(
        &self,
        ask: Ask,
        body: &[u8],
        patience: Duration,
    ) -> Result<(Reply, Vec<u8>), CardError> {
        let id = self.waiting.number();
        let (to, answer) = sync_channel(1);
        lock(&self.waiting.asked).insert(id, to);
        let sent = self.session.send(encode(&ToBench::Ask { id, ask }, body));
        let answered = sent.and_then(|()| self.wait(&answer, patience));
        lock(&self.waiting.asked).remove(&id);
        let (answer, body) = answered.map_err(|over| self.away(&over))?;
        Ok((answer?, body))
    }

    fn wait(&self, answer: &Receiver<Answered>, patience: Duration) -> Result<Answered, Over> {
        let over = || {
            let ended = self.session.over();
            ended.unwrap_or_else(|| Over("it went away".into()))
        };
        match answer.recv_timeout(patience) {
            Ok(answered) => Ok(answered),
            Err(RecvTimeoutError::Disconnected) => Err(over()),
            Err(RecvTimeoutError::Timeout) => Err(Over(format!(
                "it did not answer within {} seconds",
                patience.as_secs()
            ))),
        }
    }

    /// Ends the session: the bench stops all work when it calls again, and its cards show what became of them.
    fn end(&self, why: &str) {
        self.session.end(why);
        self.waiting.give_up();
    }

    /// Answers a question of the bench.
    fn answer(&self, id: u64, answer: Result<Given, String>, body: &[u8]) -> Result<(), CardError> {
        let sent = self
            .session
            .send(encode(&ToBench::Answer { id, answer }, body));
        sent.map_err(|over| self.away(&over))
    }

    /// Opens the ears for a piece of work, before it begins.
    fn hear_of(&self, work: u64) -> Receiver<Heard> {
        let (to, heard) = channel();
        // A session that is over has nobody who would clear this again.
        if self.session.over().is_none() {
            lock(&self.waiting.works).insert(work, to);
        }
        heard
    }

    fn surprise(&self) -> CardError {
        CardError::Reader(format!(
            "bench {} gave an answer that does not belong to the question",
            self.bench
        ))
    }
}
