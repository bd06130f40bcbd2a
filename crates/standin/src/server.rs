//! The server behind the wire: one thread a connection, one drawer for all.

use std::collections::BTreeMap;
use std::io;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard};
use std::thread;

use bench::wire::{Reply, Request, receive, send};

use crate::board;
use crate::drawer::{Drawer, Refused};
use crate::page::Page;

/// The stand-in's server.
pub struct Server {
    listener: TcpListener,
    state: Arc<State>,
}

struct State {
    drawer: Mutex<Drawer>,
    /// Pages of the boards that are on, by card.
    pages: Mutex<BTreeMap<String, Page>>,
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
                pages: Mutex::default(),
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
            Request::Boards => Reply::Boards(drawer.boards.values().cloned().collect()),
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
            Request::Air { networks } => drawer.set_air(networks).map(|()| Reply::Done)?,
            Request::Boot { card, model } => {
                drawer.take_out(&card)?;
                let mut state = board::boot(&drawer.path(&card), &card, &model, drawer.air())?;
                lock(&self.pages).remove(&card);
                if state.joined.is_some() {
                    let page = Page::serve(&state)?;
                    state.page = Some(page.url.clone());
                    lock(&self.pages).insert(card.clone(), page);
                }
                drawer.boards.insert(card, state.clone());
                Reply::Boards(vec![state])
            }
            Request::Halt { card } => {
                lock(&self.pages).remove(&card);
                drawer.boards.remove(&card);
                Reply::Done
            }
        };
        Ok((reply, Vec::new()))
    }
}
