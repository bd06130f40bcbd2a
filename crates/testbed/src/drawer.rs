//! A stand-in card reader with its drawer of cards.

use std::hash::{DefaultHasher, Hasher};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::fs::{SeekFrom, seek};

use crate::{Said, binary, free_port};

/// What [`Drawer::card_digest`] takes together, in bytes.
const BLOCK: u64 = 4096;

/// A stand-in reader, gone when this is dropped.
pub struct Drawer {
    dir: PathBuf,
    port: u16,
    child: Child,
}

impl Drop for Drawer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drawer {
    /// A reader with so many slots, its cards in a folder.
    pub fn start(dir: &Path, slots: u32) -> Self {
        let port = free_port();
        let child = Command::new(binary("duplicarium-standin"))
            .args([
                "--at",
                &format!("127.0.0.1:{port}"),
                "serve",
                "--slots",
                &slots.to_string(),
                "--dir",
            ])
            .arg(dir)
            .stdout(Stdio::null())
            .spawn()
            .expect("the stand-in starts");
        let drawer = Self {
            dir: dir.into(),
            port,
            child,
        };
        let begun = Instant::now();
        while std::net::TcpStream::connect(drawer.address()).is_err() {
            assert!(
                begun.elapsed() < Duration::from_secs(20),
                "the stand-in does not listen"
            );
            std::thread::sleep(Duration::from_millis(20));
        }
        drawer
    }

    /// Where it listens.
    pub fn address(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }

    /// Runs `duplicarium-standin` with these words.
    pub fn order(&self, words: &[&str]) -> String {
        let output = Command::new(binary("duplicarium-standin"))
            .args(words)
            .args(["--at", &self.address()])
            .output();
        let said = Said::from(output.expect("duplicarium-standin runs"));
        assert_eq!(said.code, 0, "duplicarium-standin {words:?}: {said:?}");
        said.out
    }

    /// Makes a card in the drawer.
    pub fn make_card(&self, name: &str, size: &str, more: &[&str]) {
        self.order(&[&["make", name, "--size", size], more].concat());
    }

    /// Where the bytes of a card lie.
    pub fn card_file(&self, name: &str) -> PathBuf {
        self.dir.join(format!("cards/{name}.card"))
    }

    /// Stands for everything that is on a card, read past the product: equal as long as no byte changes.
    pub fn card_digest(&self, name: &str) -> u64 {
        let file = std::fs::File::open(self.card_file(name)).expect("the card lies there");
        let size = file.metadata().expect("it has a size").len();
        let mut digest = DefaultHasher::new();
        let mut buf = vec![0; 1 << 20];
        let mut at = 0;
        // Holes read as zero, and so do blocks of zeros, which are told by being left out.
        while let Ok(data) = seek(&file, SeekFrom::Data(at)) {
            let end = seek(&file, SeekFrom::Hole(data)).map_or(size, |hole| hole.min(size));
            at = data / BLOCK * BLOCK;
            while at < end {
                let len = buf.len().min((size - at) as usize);
                file.read_exact_at(&mut buf[..len], at).expect("it reads");
                for (place, block) in buf[..len].chunks(BLOCK as usize).enumerate() {
                    if block.iter().any(|byte| *byte != 0) {
                        digest.write_u64(at + place as u64 * BLOCK);
                        digest.write(block);
                    }
                }
                at += len as u64;
            }
        }
        digest.finish()
    }

    /// Puts a card into a slot.
    pub fn put(&self, name: &str, slot: u32) {
        self.order(&["put", name, "--slot", &slot.to_string()]);
    }

    /// Name of the card in a slot.
    pub fn card_in(&self, slot: u32) -> Option<String> {
        let out = self.order(&["cards", "--json"]);
        let listed: serde_json::Value = serde_json::from_str(&out).expect("JSON");
        let cards = listed["cards"].as_array().expect("cards");
        let place = format!("slot {slot}");
        let found = cards.iter().find(|card| card["place"] == *place)?;
        Some(found["name"].as_str().expect("a name").to_owned())
    }

    /// Boots a card and gives the lines about it.
    pub fn boot(&self, card: &str, model: &str) -> serde_json::Value {
        let out = self.order(&["boot", card, "--model", model, "--json"]);
        let boards: serde_json::Value = serde_json::from_str(&out).expect("JSON");
        boards["boards"][0].clone()
    }
}
