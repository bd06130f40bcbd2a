//! A loop device as a slot for cards: a real block device, where this machine has one and lets the tests
//! have it.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::Command;

use bench::linux::{BlockSlot, Computer};
use cardwork::Place;
use cardwork::conformance::Hands;

/// A loop device that was free, and the files that are its cards.
pub struct LoopDevice {
    /// Name in the kernel, which is its port as well.
    pub name: String,
    block: u32,
    folder: tempfile::TempDir,
    made: u32,
    _turn: File,
}

/// Runs a program of the system; gives what it printed, or what it complained of.
pub fn run(program: &str, words: &[&str]) -> Result<String, String> {
    let done = Command::new(program).args(words).output();
    let done = done.map_err(|e| format!("{program}: {e}"))?;
    if !done.status.success() {
        return Err(String::from_utf8_lossy(&done.stderr).into_owned());
    }
    Ok(String::from_utf8_lossy(&done.stdout).trim().to_owned())
}

impl LoopDevice {
    /// One with blocks of so many bytes. Nothing, with the reason printed, where there are none.
    pub fn find(block: u32) -> Option<Self> {
        Self::find_in(block, &std::env::temp_dir())
    }

    /// The same, with its cards in a folder of this one.
    pub fn find_in(block: u32, place: &Path) -> Option<Self> {
        // Between two cards the device is free for anybody: those who use one take turns.
        let turn = std::env::temp_dir().join("duplicarium-loop-devices.lock");
        let turn = match File::create(&turn) {
            Ok(turn) => turn,
            Err(why) => {
                eprintln!("SKIPPED: {} is somebody else's: {why}", turn.display());
                return None;
            }
        };
        rustix::fs::flock(&turn, rustix::fs::FlockOperation::LockExclusive).unwrap();
        let folder = tempfile::tempdir_in(place).unwrap();
        let probe = folder.path().join("probe");
        File::create(&probe).unwrap().set_len(1 << 20).unwrap();
        match run("losetup", &["-f", "--show", probe.to_str().unwrap()]) {
            Ok(node) => {
                run("losetup", &["-d", &node]).unwrap();
                Some(Self {
                    name: node.trim_start_matches("/dev/").into(),
                    block,
                    folder,
                    made: 0,
                    _turn: turn,
                })
            }
            Err(why) => {
                eprintln!("SKIPPED: no loop device can be had here: {why}");
                None
            }
        }
    }

    /// The folder of its cards.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// Its device file.
    pub fn node(&self) -> String {
        format!("/dev/{}", self.name)
    }

    /// It as a slot.
    pub fn slot(&self) -> BlockSlot {
        let place = Place {
            reader: self.name.clone(),
            unit: 0,
        };
        BlockSlot::at(Computer::here(), place)
    }

    /// Puts a fresh card in; gives the file that holds its bytes.
    pub fn attach(&mut self, size: u64, locked: bool) -> PathBuf {
        self.made += 1;
        let card = self.folder.path().join(format!("card-{}", self.made));
        File::create(&card).unwrap().set_len(size).unwrap();
        self.put_in(&card, locked);
        card
    }

    /// Puts a card in, again or for the first time.
    pub fn put_in(&self, card: &Path, locked: bool) {
        let block = self.block.to_string();
        let node = self.node();
        let mut words = vec!["--sector-size", &block, &node, card.to_str().unwrap()];
        if locked {
            words.insert(0, "-r");
        }
        run("losetup", &words).unwrap();
    }

    /// Takes the card out; its file stays.
    pub fn detach(&self) {
        let _ = run("losetup", &["-d", &self.node()]);
    }
}

impl Hands for LoopDevice {
    fn put(&mut self, locked: bool) {
        self.detach();
        self.attach(4 << 20, locked);
    }

    fn pull(&mut self) {
        self.detach();
    }

    fn can_pull_held(&self) -> bool {
        false
    }
}

impl Drop for LoopDevice {
    fn drop(&mut self) {
        self.detach();
    }
}
