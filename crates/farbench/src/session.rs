//! Messages in order, each exactly once, however often the connection under them is cut.
//!
//! Each side numbers its messages and keeps them until the other one has said that it saw them. A new connection
//! begins with what each side saw last; the rest is sent again. What came twice is dropped. A session ends when one
//! side says so, or was alone for too long; then everything that waits for it is told.

use std::collections::VecDeque;
use std::io;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard};
use std::time::{Duration, Instant};

use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::sync::Notify;

use crate::message::MOST;

/// How often something is said on a connection, so that the other side knows that it is there.
const PING: Duration = Duration::from_secs(4);
/// A connection on which nothing was heard for so long is dead.
pub const DEAD: Duration = Duration::from_secs(15);
/// Whoever sends large bodies waits while so many bytes were not seen by the other side.
const ROOM: usize = 16 << 20;
/// Length, number, and what was seen.
const FRAME: usize = 20;

/// The session is over; a sentence says why.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Over(pub String);

struct State {
    /// Number of the next message.
    next: u64,
    /// Messages that the other side has not said to have seen, with their numbers.
    unseen: VecDeque<(u64, Arc<Vec<u8>>)>,
    /// Bytes of those.
    bytes: usize,
    /// The newest of them that the present connection has been given.
    given: u64,
    /// The newest message of the other side that was said to have been seen.
    told: u64,
    /// Counts connections: an older one stops.
    generation: u64,
    /// The newest attempt of the other side to connect.
    attempt: u64,
    connected: bool,
    /// Since when it is, or is not.
    since: Instant,
    over: Option<Over>,
}

type Handler = Box<dyn Fn(&[u8]) + Send + Sync>;

/// One side of a session.
pub struct Session {
    state: Mutex<State>,
    /// Number of the newest message of the other side. Held while that is handled, so that none overtakes another.
    inbox: Mutex<u64>,
    /// The same, for whoever only wants to know.
    seen: AtomicU64,
    handler: Handler,
    room: Condvar,
    wake: Notify,
    /// Bytes that went out and came in, for figures.
    moved: (AtomicU64, AtomicU64),
}

impl Session {
    /// A session that has no connection yet. `handler` gets each message and must not wait for anything.
    pub fn new(handler: impl Fn(&[u8]) + Send + Sync + 'static) -> Self {
        Self {
            state: Mutex::new(State {
                next: 1,
                unseen: VecDeque::new(),
                bytes: 0,
                given: 0,
                told: 0,
                generation: 0,
                attempt: 0,
                connected: false,
                since: Instant::now(),
                over: None,
            }),
            inbox: Mutex::new(0),
            seen: AtomicU64::new(0),
            handler: Box::new(handler),
            room: Condvar::new(),
            wake: Notify::new(),
            moved: Default::default(),
        }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Sends a message as soon as there is a connection.
    ///
    /// # Errors
    /// [`Over`].
    pub fn send(&self, message: Vec<u8>) -> Result<(), Over> {
        let mut state = self.state();
        if let Some(over) = &state.over {
            return Err(over.clone());
        }
        let number = state.next;
        state.next += 1;
        state.bytes += message.len();
        state.unseen.push_back((number, Arc::new(message)));
        drop(state);
        self.wake.notify_one();
        Ok(())
    }

    /// Waits until the other side has seen most of what was sent; for threads that send much.
    ///
    /// # Errors
    /// [`Over`].
    pub fn wait_for_room(&self) -> Result<(), Over> {
        let mut state = self.state();
        while state.bytes > ROOM && state.over.is_none() {
            state = self.room.wait(state).unwrap_or_else(|e| e.into_inner());
        }
        state.over.clone().map_or(Ok(()), Err)
    }

    /// Number of the newest message that was seen.
    pub fn seen(&self) -> u64 {
        self.seen.load(Ordering::SeqCst)
    }

    /// Whether there is a connection, and since when that is so.
    pub fn connected(&self) -> (bool, Instant) {
        let state = self.state();
        (state.connected, state.since)
    }

    /// Why it is over, if it is.
    pub fn over(&self) -> Option<Over> {
        self.state().over.clone()
    }

    /// Bytes that went out and came in.
    pub fn moved(&self) -> (u64, u64) {
        let (out, into) = &self.moved;
        (out.load(Ordering::Relaxed), into.load(Ordering::Relaxed))
    }

    /// Ends it: nothing more is sent or taken.
    pub fn end(&self, why: &str) {
        let mut state = self.state();
        state.over.get_or_insert_with(|| Over(why.into()));
        state.unseen.clear();
        state.bytes = 0;
        state.connected = false;
        drop(state);
        self.room.notify_all();
        self.wake.notify_waiters();
        self.wake.notify_one();
    }

    /// Makes room for a new connection, whose other end has seen what it says; the one before stops. Gives its
    /// number, or nothing where the session is over, the attempt is older than one that was taken, or the other side
    /// speaks of messages that never were.
    pub fn attach(&self, attempt: u64, their_seen: u64) -> Option<u64> {
        let mut state = self.state();
        if state.over.is_some() || attempt < state.attempt || their_seen >= state.next {
            return None;
        }
        state.attempt = attempt;
        state.generation += 1;
        state.saw(their_seen);
        state.given = their_seen;
        state.connected = true;
        state.since = Instant::now();
        let generation = state.generation;
        drop(state);
        self.room.notify_all();
        self.wake.notify_waiters();
        Some(generation)
    }

    /// Speaks over a connection until it, the session, or its turn ends.
    ///
    /// # Errors
    /// What became of the connection.
    pub async fn run<T>(&self, generation: u64, io: T) -> io::Result<()>
    where
        T: AsyncRead + AsyncWrite + Send,
    {
        let (from, to) = tokio::io::split(io);
        let ended = tokio::select! {
            ended = self.listen(generation, from) => ended,
            ended = self.talk(generation, to) => ended,
        };
        let mut state = self.state();
        if state.generation == generation && state.connected {
            state.connected = false;
            state.since = Instant::now();
        }
        drop(state);
        // This one may have taken the word that was meant for its successor.
        self.wake.notify_one();
        ended
    }

    /// What is sent next over this connection: nothing yet, or bytes; an error where its turn is over.
    fn next_frame(&self, generation: u64) -> io::Result<Option<Vec<u8>>> {
        let seen = self.seen();
        let mut state = self.state();
        if state.generation != generation || state.over.is_some() {
            return Err(io::ErrorKind::ConnectionAborted.into());
        }
        let given = state.given;
        let place = state.unseen.partition_point(|(number, _)| *number <= given);
        let message = state.unseen.get(place).cloned();
        if message.is_none() && state.told >= seen {
            return Ok(None);
        }
        state.told = seen;
        if let Some((number, _)) = &message {
            state.given = *number;
        }
        Ok(Some(frame(message.as_ref(), seen)))
    }

    async fn talk(&self, generation: u64, mut to: impl AsyncWrite + Unpin) -> io::Result<()> {
        loop {
            let bytes = match self.next_frame(generation)? {
                Some(bytes) => bytes,
                None => {
                    to.flush().await?;
                    match tokio::time::timeout(PING, self.wake.notified()).await {
                        Ok(()) => continue,
                        Err(_) => frame(None, self.seen()),
                    }
                }
            };
            to.write_all(&bytes).await?;
            self.moved
                .0
                .fetch_add(bytes.len() as u64, Ordering::Relaxed);
        }
    }

    async fn listen(&self, generation: u64, mut from: impl AsyncRead + Unpin) -> io::Result<()> {
        let mut head = [0; FRAME];
        loop {
            let message = tokio::time::timeout(DEAD, async {
                from.read_exact(&mut head).await?;
                let len = u32::from_le_bytes([head[0], head[1], head[2], head[3]]) as usize;
                if len > MOST {
                    return Err(io::Error::new(
                        io::ErrorKind::InvalidData,
                        "longer than allowed",
                    ));
                }
                let mut message = vec![0; len];
                from.read_exact(&mut message).await?;
                Ok(message)
            });
            let message = message.await.map_err(|_| io::ErrorKind::TimedOut)??;
            self.moved
                .1
                .fetch_add((FRAME + message.len()) as u64, Ordering::Relaxed);
            let number = |at: usize| u64::from_le_bytes(std::array::from_fn(|i| head[at + i]));
            self.take(generation, number(4), number(12), &message)?;
        }
    }

    fn take(
        &self,
        generation: u64,
        number: u64,
        their_seen: u64,
        message: &[u8],
    ) -> io::Result<()> {
        let mut newest = self.inbox.lock().unwrap_or_else(|e| e.into_inner());
        {
            let mut state = self.state();
            if state.generation != generation || state.over.is_some() {
                return Err(io::ErrorKind::ConnectionAborted.into());
            }
            if their_seen >= state.next || number > *newest + 1 {
                return Err(io::Error::new(
                    io::ErrorKind::InvalidData,
                    "messages are missing",
                ));
            }
            state.saw(their_seen);
        }
        self.room.notify_all();
        if number == *newest + 1 {
            *newest = number;
            self.seen.store(number, Ordering::SeqCst);
            (self.handler)(message);
            drop(newest);
            self.wake.notify_one();
        }
        Ok(())
    }
}

impl State {
    /// The other side has seen messages up to this number.
    fn saw(&mut self, number: u64) {
        while let Some((first, message)) = self.unseen.front()
            && *first <= number
        {
            self.bytes -= message.len();
            self.unseen.pop_front();
        }
    }
}

fn frame(message: Option<&(u64, Arc<Vec<u8>>)>, seen: u64) -> Vec<u8> {
    let (number, bytes) = match message {
        Some((number, bytes)) => (*number, bytes.as_slice()),
        None => (0, &[][..]),
    };
    let mut frame = Vec::with_capacity(FRAME + bytes.len());
    frame.extend((bytes.len() as u32).to_le_bytes());
    frame.extend(number.to_le_bytes());
    frame.extend(seen.to_le_bytes());
    frame.extend(bytes);
    frame
}
