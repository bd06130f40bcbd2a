//! Content that was here before, so that five cards of one release cost one transfer.
//!
//! A file a chunk, sealed under a key that only the service has: this computer keeps it in memory while it is
//! connected, so that a stolen bench tells nothing of what it wrote. What cannot be opened, or is gone, is fetched
//! again. What has no name of the vault goes by its plain digest, so that files are called by keyed digests of names:
//! nobody who has the disk can try guesses at what was written. The file: 24 bytes of nonce, then the packed chunk, sealed with XChaCha20-Poly1305, its name associated.

use std::collections::{BTreeMap, HashMap};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard};
use std::time::SystemTime;

use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};

type Name = [u8; 32];

/// Bytes in front of what is sealed.
const NONCE: usize = 24;

#[derive(Default)]
struct State {
    cipher: Option<XChaCha20Poly1305>,
    /// What names are hidden with.
    hides: [u8; 32],
    /// What is here, by its hidden name: length of its file, and when it was used last.
    known: HashMap<Name, (u64, u64)>,
    /// The same by when it was used last.
    order: BTreeMap<u64, Name>,
    clock: u64,
    bytes: u64,
}

/// The cache of one bench.
pub struct Cache {
    folder: PathBuf,
    most: u64,
    state: Mutex<State>,
}

impl Cache {
    /// A cache in a folder, of at most so many bytes. It holds nothing before it is opened.
    pub fn new(folder: &Path, most: u64) -> Self {
        Self {
            folder: folder.into(),
            most,
            state: Mutex::default(),
        }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn path(&self, name: &Name) -> PathBuf {
        let name = hex::encode(name);
        self.folder.join(&name[..2]).join(name)
    }

    /// Opens it with the key that the service gives.
    pub fn open(&self, key: &[u8; 32]) {
        let mut found = Vec::new();
        let folders = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        for folder in folders {
            let files = fs::read_dir(folder.path()).into_iter().flatten().flatten();
            for file in files {
                let name = file.file_name();
                let name = name.to_str().and_then(|name| hex::decode(name).ok());
                let name = name.and_then(|name| Name::try_from(name).ok());
                let Ok(meta) = file.metadata() else { continue };
                match name {
                    Some(name) => found.push((
                        meta.modified().unwrap_or(SystemTime::UNIX_EPOCH),
                        name,
                        meta.len(),
                    )),
                    // Of a write that was cut off.
                    None => drop(fs::remove_file(file.path())),
                }
            }
        }
        found.sort();
        let mut state = self.state();
        *state = State {
            cipher: Some(XChaCha20Poly1305::new(&Key::from(*key))),
            hides: blake3::derive_key("duplicarium bench cache, names of files", key),
            ..State::default()
        };
        for (_, name, len) in found {
            state.enter(name, len);
        }
        self.make_room(&mut state);
    }

    /// Whether a chunk is here.
    pub fn has(&self, name: &Name) -> bool {
        let state = self.state();
        state.known.contains_key(&state.hidden(name))
    }

    /// Bytes of what is here.
    pub fn bytes(&self) -> u64 {
        self.state().bytes
    }

    /// A chunk, packed, if it is here and whole.
    pub fn get(&self, name: &Name) -> Option<Vec<u8>> {
        let (cipher, name) = {
            let mut state = self.state();
            let name = state.hidden(name);
            let (len, _) = *state.known.get(&name)?;
            state.enter(name, len);
            (state.cipher.clone()?, name)
        };
        let opened = fs::read(self.path(&name)).ok().and_then(|bytes| {
            let (nonce, sealed) = bytes.split_first_chunk::<NONCE>()?;
            let payload = Payload {
                msg: sealed,
                aad: &name,
            };
            cipher.decrypt(&XNonce::from(*nonce), payload).ok()
        });
        if opened.is_none() {
            let mut state = self.state();
            self.forget(&mut state, &name);
        }
        opened
    }

    /// Keeps a packed chunk, in place of those that were not used for longest. What cannot be kept costs a transfer
    /// next time, and nothing else.
    pub fn put(&self, name: &Name, packed: &[u8]) {
        let (cipher, name) = {
            let state = self.state();
            let Some(cipher) = state.cipher.clone() else {
                return;
            };
            (cipher, state.hidden(name))
        };
        let mut nonce = [0; NONCE];
        if getrandom::fill(&mut nonce).is_err() {
            return;
        }
        let payload = Payload {
            msg: packed,
            aad: &name,
        };
        let Ok(sealed) = cipher.encrypt(&XNonce::from(nonce), payload) else {
            return;
        };
        let bytes = [&nonce[..], &sealed].concat();
        let path = self.path(&name);
        let fresh = path.with_extension("new");
        let written = path
            .parent()
            .map_or(Ok(()), fs::create_dir_all)
            .and_then(|()| fs::write(&fresh, &bytes))
            .and_then(|()| fs::rename(&fresh, &path));
        match written {
            Ok(()) => {
                let mut state = self.state();
                state.enter(name, bytes.len() as u64);
                self.make_room(&mut state);
            }
            Err(e) => {
                let _ = fs::remove_file(&fresh);
                tracing::debug!("a chunk is not kept: {e}");
            }
        }
    }

    fn make_room(&self, state: &mut State) {
        while state.bytes > self.most
            && let Some((_, oldest)) = state.order.first_key_value()
        {
            let oldest = *oldest;
            self.forget(state, &oldest);
        }
    }

    fn forget(&self, state: &mut State, name: &Name) {
        if let Some((len, used)) = state.known.remove(name) {
            state.order.remove(&used);
            state.bytes -= len;
            let _ = fs::remove_file(self.path(name));
        }
    }
}

impl State {
    /// The name that a chunk goes by on the disk.
    fn hidden(&self, name: &Name) -> Name {
        *blake3::keyed_hash(&self.hides, name).as_bytes()
    }

    /// It was put, or used, now.
    fn enter(&mut self, name: Name, len: u64) {
        if let Some((len, used)) = self.known.remove(&name) {
            self.order.remove(&used);
            self.bytes -= len;
        }
        self.clock += 1;
        self.known.insert(name, (len, self.clock));
        self.order.insert(self.clock, name);
        self.bytes += len;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_put_is_there_again_and_nobody_else_reads_it() {
        let folder = tempfile::tempdir().unwrap();
        let cache = Cache::new(folder.path(), 10_000);
        cache.put(&[1; 32], b"nothing is kept before it is opened");
        assert!(!cache.has(&[1; 32]));
        cache.open(&[7; 32]);
        cache.put(&[1; 32], b"passphrase = ebb and flow");
        assert_eq!(cache.get(&[1; 32]).unwrap(), b"passphrase = ebb and flow");

        let place = |cache: &Cache, number: u8| {
            let hidden = cache.state().hidden(&[number; 32]);
            cache.path(&hidden)
        };
        let file = place(&cache, 1);
        assert!(
            !file.ends_with(hex::encode([1; 32])),
            "its name tells what it is"
        );
        let bytes = fs::read(&file).unwrap();
        assert!(!bytes.windows(10).any(|part| part == b"passphrase"));
        let again = Cache::new(folder.path(), 10_000);
        again.open(&[7; 32]);
        assert_eq!(again.get(&[1; 32]).unwrap(), b"passphrase = ebb and flow");
        // Under another name, damaged, or with another key it is not there, and does not stay.
        fs::create_dir_all(place(&again, 2).parent().unwrap()).unwrap();
        fs::copy(&file, place(&again, 2)).unwrap();
        again.open(&[7; 32]);
        assert!(again.get(&[2; 32]).is_none() && !place(&again, 2).exists());
        again.open(&[8; 32]);
        assert!(again.get(&[1; 32]).is_none() && !again.has(&[1; 32]));
    }

    #[test]
    fn it_never_grows_beyond_what_it_may() {
        let folder = tempfile::tempdir().unwrap();
        let cache = Cache::new(folder.path(), 10_000);
        cache.open(&[7; 32]);
        for number in 0..30 {
            // File systems tell times apart only so finely.
            if number == 29 {
                std::thread::sleep(std::time::Duration::from_millis(50));
            }
            cache.put(&[number; 32], &[number; 960]);
            assert!(cache.get(&[0; 32]).is_some(), "what is used stays");
            assert!(cache.bytes() <= 10_000);
        }
        let on_disk = |folder: &Path| -> u64 {
            let folders = fs::read_dir(folder).unwrap().flatten();
            let files = folders.flat_map(|folder| fs::read_dir(folder.path()).unwrap().flatten());
            files.map(|file| file.metadata().unwrap().len()).sum()
        };
        assert_eq!(on_disk(folder.path()), cache.bytes());
        assert!(!cache.has(&[5; 32]) && cache.has(&[29; 32]));
        let smaller = Cache::new(folder.path(), 2_500);
        smaller.open(&[7; 32]);
        assert!(smaller.bytes() <= 2_500 && smaller.has(&[29; 32]));
        assert_eq!(on_disk(folder.path()), smaller.bytes());
    }
}
