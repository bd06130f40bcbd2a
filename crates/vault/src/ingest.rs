//! Taking a whole disk in: chunks come in order, are named, packed and sealed on several
//! threads, and land in segments.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::JoinHandle;

use imagecraft::CHUNK;
use imagecraft::packed::Packer;

use crate::error::VaultError;
use crate::hold::Hold;
use crate::manifest::{self, Noting};
use crate::page::PAGE;
use crate::piece::Kind;
use crate::writer::Writer;
use crate::{Entry, Growth, Manifest};

/// Chunks that may wait in front of each thread.
const QUEUE: usize = 32;

type Given = (u64, Arc<Vec<u8>>);
/// Chunks with what they turned out to be, in no particular order, and what they cost.
type Collected = Result<(Vec<(u64, Entry)>, Growth), VaultError>;
type Taken = Result<(u64, Entry, Option<Vec<u8>>), VaultError>;

/// A disk on its way into the vault. What is dropped half-way leaves segments behind that nothing names; tidying
/// takes them.
pub struct Ingest {
    hold: Arc<Hold>,
    workers: Vec<SyncSender<Given>>,
    next: usize,
    threads: Vec<JoinHandle<()>>,
    collector: JoinHandle<Collected>,
}

impl Ingest {
    /// Starts the threads. `threads` is how many pack and seal, at least one.
    pub fn start(hold: Arc<Hold>, threads: usize) -> Self {
        let (out, collected) = sync_channel(QUEUE);
        let mut workers = Vec::new();
        let mut handles = Vec::new();
        for _ in 0..threads.max(1) {
            let (give, given) = sync_channel(QUEUE);
            let (hold, out) = (hold.clone(), out.clone());
            workers.push(give);
            handles.push(std::thread::spawn(move || work(&hold, &given, &out)));
        }
        let collector = {
            let hold = hold.clone();
            std::thread::spawn(move || collect(&hold, &collected))
        };
        Self {
            hold,
            workers,
            next: 0,
            threads: handles,
            collector,
        }
    }

    /// Gives the bytes of one chunk. Chunks that are never given are free.
    ///
    /// # Errors
    /// [`VaultError::Stopped`] where the vault takes no more; [`Ingest::finish`] says why.
    pub fn push(&mut self, chunk: u64, bytes: Arc<Vec<u8>>) -> Result<(), VaultError> {
        self.next = (self.next + 1) % self.workers.len();
        self.workers[self.next]
            .send((chunk, bytes))
            .map_err(|_| VaultError::Stopped)
    }

    /// Ends the disk at `len` bytes and stores its manifest, told from that of a disk that is `like` it where that is
    /// shorter. Everything counts as stored when this returns.
    ///
    /// # Errors
    /// What the store says.
    pub fn finish(
        self,
        len: u64,
        like: Option<&Manifest>,
        note: Noting<'_>,
    ) -> Result<(Manifest, Growth), VaultError> {
        let hold = self.hold.clone();
        let (found, growth) = self.join()?;
        let mut entries = vec![Entry::Free; len.div_ceil(CHUNK) as usize];
        for (chunk, entry) in found {
            if let Some(place) = entries.get_mut(chunk as usize) {
                *place = entry;
            }
        }
        let mut pages = entries.chunks(PAGE);
        let next = || Ok(pages.next().map(<[Entry]>::to_vec));
        let (manifest, mut all) = manifest::store(Writer::new(&hold), len, like, next, note)?;
        all.add(growth);
        Ok((manifest, all))
    }

    /// Gives it up.
    pub fn abandon(self) {
        // How it would have ended is no matter.
        drop(self.join());
    }

    /// Waits for the threads.
    fn join(self) -> Collected {
        drop(self.workers);
        let collected = self.collector.join().map_err(|_| VaultError::Stopped)?;
        for thread in self.threads {
            thread.join().map_err(|_| VaultError::Stopped)?;
        }
        collected
    }
}

fn work(hold: &Hold, given: &Receiver<Given>, out: &SyncSender<Taken>) {
    let mut packer = Packer::default();
    let vault = hold.vault();
    for (chunk, bytes) in given {
        let taken = if is_zero(&bytes) {
            Ok((chunk, Entry::Zero, None))
        } else {
            let name = vault.name(Kind::Chunk, &bytes);
            let sealed = if hold.has(name) {
                Ok(None)
            } else {
                vault.seal(Kind::Chunk, name, &bytes, &mut packer).map(Some)
            };
            sealed.map(|sealed| (chunk, Entry::Data(name), sealed))
        };
        if out.send(taken).is_err() {
            return;
        }
    }
}

fn collect(hold: &Hold, collected: &Receiver<Taken>) -> Collected {
    let mut writer = Writer::new(hold);
    let mut entries = Vec::new();
    for taken in collected {
        let (chunk, entry, sealed) = taken?;
        if let (Entry::Data(name), Some(sealed)) = (entry, sealed) {
            writer.put_sealed(Kind::Chunk, name, &sealed)?;
        }
        entries.push((chunk, entry));
    }
    writer.flush()?;
    Ok((entries, writer.growth()))
}

/// Whether all bytes are zero, sixteen at a time.
fn is_zero(bytes: &[u8]) -> bool {
    let (words, rest) = bytes.as_chunks::<16>();
    words.iter().all(|word| u128::from_ne_bytes(*word) == 0) && rest.iter().all(|byte| *byte == 0)
}
