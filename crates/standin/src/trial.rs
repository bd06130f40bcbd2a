//! Cards that a board only tries: their bytes come over the wire, and go when the board has tried them.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use bench::wire::{BoardState, Network};

use crate::board;

/// Trials at once; older ones that nobody ended give way.
const MOST: usize = 8;

/// What is being tried.
pub struct Trials {
    dir: PathBuf,
    next: u64,
    open: HashMap<u64, File>,
}

impl Trials {
    /// In a folder of their own, which is emptied.
    pub fn open(dir: &Path) -> io::Result<Self> {
        let dir = dir.join("trials");
        let _ = fs::remove_dir_all(&dir);
        fs::create_dir_all(&dir)?;
        Ok(Self {
            dir,
            next: 1,
            open: HashMap::new(),
        })
    }

    fn path(&self, trial: u64) -> PathBuf {
        self.dir.join(trial.to_string())
    }

    /// Room for a card of so many bytes.
    pub fn begin(&mut self, len: u64) -> io::Result<u64> {
        while self.open.len() >= MOST {
            let oldest = self.open.keys().min().copied().unwrap_or_default();
            self.end(oldest);
        }
        let trial = self.next;
        self.next += 1;
        let file = File::create_new(self.path(trial))?;
        file.set_len(len)?;
        self.open.insert(trial, file);
        Ok(trial)
    }

    /// Puts bytes onto it.
    pub fn write(&mut self, trial: u64, offset: u64, bytes: &[u8]) -> io::Result<()> {
        let file = self.open.get(&trial).ok_or(io::ErrorKind::NotFound)?;
        let end = offset.saturating_add(bytes.len() as u64);
        if end > file.metadata()?.len() {
            return Err(io::ErrorKind::InvalidInput.into());
        }
        file.write_all_at(bytes, offset)
    }

    /// Lets a board try it; it is gone then.
    pub fn boot(&mut self, trial: u64, model: &str, air: &[Network]) -> io::Result<BoardState> {
        let booted = board::boot(&self.path(trial), "trial", model, air);
        self.end(trial);
        booted.map(|booted| booted.state)
    }

    fn end(&mut self, trial: u64) {
        self.open.remove(&trial);
        let _ = fs::remove_file(self.path(trial));
    }
}
