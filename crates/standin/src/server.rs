//! The server behind the wire: one thread a connection, one drawer for all.

use std::collections::BTreeMap;
use std::io;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard};
use std::thread;
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD as BASE64;
use bench::wire::{BoardKind, BoardState, Network, Reply, Request, receive, send};

use crate::board;
use crate::drawer::{Drawer, Refused};
use crate::page::Page;
use crate::trial::Trials;

/// The stand-in's server.
pub struct Server {
    listener: TcpListener,
    state: Arc<State>,
}

struct State {
    drawer: Mutex<Drawer>,
    trials: Mutex<Trials>,
    /// Boards that are on, by card.
    on: Mutex<BTreeMap<String, On>>,
}

/// A board that is on.
struct On {
    state: BoardState,
    kind: BoardKind,
    since: Instant,
    page: Option<Page>,
    /// The networks that were in the air when it was switched on.
    air: Vec<Network>,
}

impl On {
    fn new(mut state: BoardState, kind: BoardKind, card: &str, air: &[Network]) -> Self {
        let made = || {
            let sum = crc32fast::hash(card.as_bytes()).to_be_bytes();
            format!(
                "5a:17:{:02x}:{:02x}:{:02x}:{:02x}",
                sum[0], sum[1], sum[2], sum[3]
            )
        };
        state.mac = Some(kind.mac.clone().unwrap_or_else(made));
        state.appliance = kind.runs.clone().or(state.appliance);
        Self {
            state,
            kind,
            since: Instant::now(),
            page: None,
            air: air.to_vec(),
        }
    }

    /// A board that opens a network of its own: what it is until it got its settings there, and then.
    fn on_its_own(&self) -> BoardState {
        let mut state = self.state.clone();
        let mac: String = state
            .mac
            .iter()
            .flat_map(|mac| mac.chars())
            .filter(char::is_ascii_hexdigit)
            .collect();
        let tail = mac[mac.len().saturating_sub(4)..].to_uppercase();
        match self.page.as_ref().and_then(Page::set_up) {
            None => {
                (state.joined, state.not_joined) = (None, Some("it waits for its settings".into()));
                state.own_network = Some(format!("Quaylink-{tail}"));
            }
            Some(given) => {
                let joined = board::join_with(&given, &state.model, &self.air);
                (state.joined, state.not_joined) = (joined.clone().ok(), joined.err());
                state.host_name = given.get("name").cloned().or(state.host_name);
            }
        }
        state
    }

    /// What its keys are made of: a card that was written anew has others.
    fn secret(&self, stamp: &Option<String>) -> [u8; 32] {
        let all = format!("{:?} {:?} {}", self.state.card, stamp, self.kind.key);
        let digest = ring::digest::digest(&ring::digest::SHA256, all.as_bytes());
        digest.as_ref().try_into().unwrap_or([0; 32])
    }

    /// What a bystander sees now.
    fn seen(&self) -> BoardState {
        if self.kind.own_network {
            return self.on_its_own();
        }
        let takes = Duration::from_secs(u64::from(self.kind.seconds));
        let mut on_for = self.since.elapsed();
        if self.kind.in_circles {
            // Up for three seconds, then it starts anew.
            let circle = (takes + Duration::from_secs(3)).as_millis();
            on_for = Duration::from_millis((on_for.as_millis() % circle) as u64);
        }
        if self.state.joined.is_none() || on_for >= takes {
            return self.state.clone();
        }
        let (lamp, meaning) = board::STARTING;
        BoardState {
            lamp: lamp.into(),
            meaning: meaning.into(),
            joined: None,
            page: None,
            ports: BTreeMap::new(),
            ..self.state.clone()
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|e| e.into_inner())
}

impl Server {
    /// Opens the drawer in a folder and listens.
    pub fn bind(dir: &Path, slots: u32, listen: SocketAddr) -> io::Result<Self> {
        Ok(Self {
            listener: TcpListener::bind(listen)?,
            state: Arc::new(State {
                drawer: Mutex::new(Drawer::open(dir, slots)?),
                trials: Mutex::new(Trials::open(dir)?),
                on: Mutex::default(),
            }),
        })
    }

    /// Where it listens.
    pub fn address(&self) -> io::Result<SocketAddr> {
        self.listener.local_addr()
    }

    /// Serves until the process ends.
    pub fn run(self) -> io::Result<()> {
        for stream in self.listener.incoming() {
            let (stream, state) = (stream?, self.state.clone());
            thread::spawn(move || {
                // The end of a connection is how a client says goodbye.
                let _ = converse(stream, &state);
            });
        }
        Ok(())
    }
}

fn converse(mut stream: TcpStream, state: &State) -> io::Result<()> {
    stream.set_nodelay(true)?;
    loop {
        let (request, body): (Request, _) = receive(&mut stream)?;
        match state.answer(request, &body) {
            Ok((reply, body)) => send(&mut stream, &reply, &body)?,
            Err(Refused(why, message)) => send(&mut stream, &Reply::Refused { why, message }, &[])?,
        }
    }
}

impl State {
    fn answer(&self, request: Request, body: &[u8]) -> Result<(Reply, Vec<u8>), Refused> {
        let mut drawer = lock(&self.drawer);
        let reply = match request {
            Request::Slots => Reply::Slots(drawer.slots()),
            Request::Cards => Reply::Cards(drawer.cards()),
            Request::Boards => Reply::Boards(lock(&self.on).values().map(On::seen).collect()),
            Request::Read {
                slot,
                insertion,
                offset,
                len,
            } => {
                let access = drawer.access(slot, insertion, offset, u64::from(len))?;
                drop(drawer);
                thread::sleep(access.delay);
                let mut bytes = vec![0; len as usize];
                access.read(offset, &mut bytes)?;
                return Ok((Reply::Done, bytes));
            }
            Request::Write {
                slot,
                insertion,
                offset,
            } => {
                let access = drawer.access(slot, insertion, offset, body.len() as u64)?;
                drawer.count_written(slot, body.len() as u64);
                drop(drawer);
                thread::sleep(access.delay);
                access.write(offset, body)?;
                return Ok((Reply::Done, Vec::new()));
            }
            Request::Flush { slot, insertion } => {
                let access = drawer.access(slot, insertion, 0, 0)?;
                drop(drawer);
                access.flush()?;
                return Ok((Reply::Done, Vec::new()));
            }
            Request::Make { card } => drawer.make(card).map(|()| Reply::Done)?,
            Request::Put { card, slot } => drawer.put(&card, slot).map(|()| Reply::Done)?,
            Request::Pull { slot } => drawer.pull(slot).map(|()| Reply::Done)?,
            Request::Fault { card, fault } => {
                drawer.set_fault(&card, fault).map(|()| Reply::Done)?
            }
            Request::Trial { len } => Reply::Trial(lock(&self.trials).begin(len)?),
            Request::TrialWrite { trial, offset } => {
                drop(drawer);
                lock(&self.trials).write(trial, offset, body)?;
                return Ok((Reply::Done, Vec::new()));
            }
            Request::TrialBoot { trial, model } => {
                let tried = lock(&self.trials).boot(trial, &model, drawer.air())?;
                Reply::Boards(vec![tried])
            }
            Request::Heard => {
                let air = drawer.air().iter().map(|network| network.name.clone());
                let on = lock(&self.on);
                let own = on.values().filter_map(|on| on.seen().own_network);
                Reply::Networks(air.chain(own).collect())
            }
            Request::Air { networks } => drawer.set_air(networks).map(|()| Reply::Done)?,
            Request::Boot { card, model, board } => {
                drawer.take_out(&card)?;
                let booted = board::boot(&drawer.path(&card), &card, &model, drawer.air())?;
                let mut on = On::new(booted.state, board, &card, drawer.air());
                if on.state.joined.is_some() || on.kind.own_network {
                    let login = booted
                        .login
                        .map(|login| format!("Basic {}", BASE64.encode(login)));
                    let page = Page::serve(
                        &on.state,
                        booted.stamp.clone(),
                        login,
                        &on.secret(&booted.stamp),
                        &on.kind,
                    )?;
                    (on.state.page, on.state.ports) = (Some(page.url.clone()), page.ports.clone());
                    on.page = Some(page);
                }
                let state = on.seen();
                lock(&self.on).insert(card.clone(), on);
                drawer.in_board(&card, &model);
                Reply::Boards(vec![state])
            }
            Request::Halt { card } => {
                lock(&self.on).remove(&card);
                drawer.boards.remove(&card);
                Reply::Done
            }
        };
        Ok((reply, Vec::new()))
    }
}
