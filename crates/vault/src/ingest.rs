//! Taking a whole disk in: chunks come in order, are named, packed and sealed on several
//! threads, and land in segments.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::JoinHandle;

use imagecraft::CHUNK;

use crate::store::{Kind, Packer, SegmentId, Vault, VaultError, Writer};
use crate::{Entry, Growth, Manifest, Name};

/// Chunks that may wait in front of each thread.
const QUEUE: usize = 32;

type Given = (u64, Arc<Vec<u8>>);
/// Chunks with what they turned out to be, in no particular order, and what they cost.
type Collected = (Result<Vec<(u64, Entry)>, VaultError>, Growth);
type Taken = Result<(u64, Entry, Option<Vec<u8>>), VaultError>;

/// A disk on its way into the vault.
pub struct Ingest {
    vault: Arc<Vault>,
    workers: Vec<SyncSender<Given>>,
    next: usize,
    threads: Vec<JoinHandle<()>>,
    collector: JoinHandle<Collected>,
}

impl Ingest {
    /// Starts the threads. `threads` is how many pack and seal, at least one.
    pub fn start(vault: Arc<Vault>, threads: usize) -> Self {
        let (out, collected) = sync_channel(QUEUE);
        let mut workers = Vec::new();
        let mut handles = Vec::new();
        for _ in 0..threads.max(1) {
            let (give, given) = sync_channel(QUEUE);
            let (vault, out) = (vault.clone(), out.clone());
            workers.push(give);
            handles.push(std::thread::spawn(move || work(&vault, &given, &out)));
        }
        let collector = {
            let vault = vault.clone();
            std::thread::spawn(move || collect(&vault, &collected))
        };
        Self {
            vault,
            workers,
            next: 0,
            threads: handles,
            collector,
        }
    }

    /// Gives the bytes of one chunk. Chunks that are never given are free.
    pub fn push(&mut self, chunk: u64, bytes: Arc<Vec<u8>>) -> Result<(), VaultError> {
        self.next = (self.next + 1) % self.workers.len();
        self.workers[self.next]
            .send((chunk, bytes))
            .map_err(|_| VaultError::Stopped)
    }

    /// Ends the disk at `len` bytes and stores its manifest. Everything counts as stored when
    /// this returns. What an error leaves behind is named with it.
    pub fn finish(self, len: u64) -> Result<(Name, Manifest, Growth), Unfinished> {
        let vault = self.vault.clone();
        let (found, mut growth) = self.join()?;
        let found = match found {
            Ok(found) => found,
            Err(error) => return Err(Unfinished::new(error, growth)),
        };
        let mut entries = vec![Entry::Free; len.div_ceil(CHUNK) as usize];
        for (chunk, entry) in found {
            if let Some(place) = entries.get_mut(chunk as usize) {
                *place = entry;
            }
        }
        let manifest = Manifest::new(len, &entries);
        match manifest.store(&vault) {
            Ok((name, more)) => {
                growth.add(more);
                Ok((name, manifest, growth))
            }
            Err(error) => Err(Unfinished::new(error, growth)),
        }
    }

    /// Gives it up; answers the segments that were stored all the same.
    pub fn abandon(self) -> Vec<SegmentId> {
        match self.join() {
            Ok((_, growth)) => growth.segments,
            Err(unfinished) => unfinished.segments,
        }
    }

    /// Waits for the threads.
    fn join(self) -> Result<Collected, Unfinished> {
        drop(self.workers);
        let stopped = |_| Unfinished::new(VaultError::Stopped, Growth::default());
        let collected = self.collector.join().map_err(stopped)?;
        for thread in self.threads {
            if thread.join().is_err() {
                return Err(Unfinished::new(VaultError::Stopped, collected.1));
            }
        }
        Ok(collected)
    }
}

/// A disk that did not get into the vault whole, and what it left there.
#[derive(Debug, thiserror::Error)]
#[error("{error}")]
pub struct Unfinished {
    /// Why.
    #[source]
    pub error: VaultError,
    /// Segments that were stored before that.
    pub segments: Vec<SegmentId>,
}

impl Unfinished {
    fn new(error: VaultError, growth: Growth) -> Self {
        Self {
            error,
            segments: growth.segments,
        }
    }
}

fn work(vault: &Vault, given: &Receiver<Given>, out: &SyncSender<Taken>) {
    let mut packer = Packer::default();
    for (chunk, bytes) in given {
        let taken = if is_zero(&bytes) {
            Ok((chunk, Entry::Zero, None))
        } else {
            let name = vault.name(Kind::Chunk, &bytes);
            let sealed = if vault.holds(name) {
                Ok(None)
            } else {
                vault.seal(name, &bytes, &mut packer).map(Some)
            };
            sealed.map(|sealed| (chunk, Entry::Data(name), sealed))
        };
        if out.send(taken).is_err() {
            return;
        }
    }
}

fn collect(vault: &Vault, collected: &Receiver<Taken>) -> Collected {
    let mut writer = vault.writer();
    let entries = gather(&mut writer, collected);
    let stored = entries.and_then(|entries| writer.flush().map(|()| entries));
    (stored, writer.into_growth())
}

fn gather(
    writer: &mut Writer<'_>,
    collected: &Receiver<Taken>,
) -> Result<Vec<(u64, Entry)>, VaultError> {
    let mut entries = Vec::new();
    for taken in collected {
        let (chunk, entry, sealed) = taken?;
        if let (Entry::Data(name), Some(sealed)) = (entry, sealed) {
            writer.put_sealed(name, &sealed)?;
        }
        entries.push((chunk, entry));
    }
    Ok(entries)
}

/// Whether all bytes are zero, sixteen at a time.
fn is_zero(bytes: &[u8]) -> bool {
    let (words, rest) = bytes.as_chunks::<16>();
    words.iter().all(|word| u128::from_ne_bytes(*word) == 0) && rest.iter().all(|byte| *byte == 0)
}
