//! SHA-256 on threads of their own.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::{self, JoinHandle};

use cardwork::Progress;
use ring::digest::{Context, SHA256};

/// Pieces that wait in front of a hashing thread.
const QUEUE: usize = 16;

/// A digest of pieces that are handed over.
pub struct Hashing {
    give: SyncSender<Arc<Vec<u8>>>,
    thread: JoinHandle<Vec<u8>>,
}

impl Hashing {
    pub fn start() -> Self {
        let (give, given) = sync_channel::<Arc<Vec<u8>>>(QUEUE);
        let thread = thread::spawn(move || {
            let mut context = Context::new(&SHA256);
            for bytes in given {
                context.update(&bytes);
            }
            context.finish().as_ref().to_vec()
        });
        Self { give, thread }
    }

    pub fn update(&self, bytes: Arc<Vec<u8>>) -> io::Result<()> {
        self.give
            .send(bytes)
            .map_err(|_| io::Error::other("hashing stopped"))
    }

    pub fn finish(self) -> io::Result<Vec<u8>> {
        drop(self.give);
        self.thread
            .join()
            .map_err(|_| io::Error::other("hashing stopped"))
    }
}

/// The digest of a whole file, read beside the work that unpacks it; it ends early when that is
/// cancelled.
pub struct FileHash(JoinHandle<io::Result<Vec<u8>>>);

impl FileHash {
    pub fn start(path: &Path, progress: Arc<Progress>) -> io::Result<Self> {
        let mut file = File::open(path)?;
        Ok(Self(thread::spawn(move || {
            let mut context = Context::new(&SHA256);
            let mut piece = vec![0; 1 << 18];
            loop {
                match file.read(&mut piece)? {
                    0 => return Ok(context.finish().as_ref().to_vec()),
                    _ if progress.is_cancelled() => return Err(io::Error::other("cancelled")),
                    read => context.update(&piece[..read]),
                }
            }
        })))
    }

    pub fn finish(self) -> io::Result<Vec<u8>> {
        self.0
            .join()
            .map_err(|_| io::Error::other("hashing stopped"))?
    }
}
