//! The key file, the ring of keys that it opens, and sealing.
//!
//! The key file holds the root: 32 random bytes. It opens the ring, which lies in the vault: one key that never
//! changes, for names and fingerprints, and the keys that things are sealed under, each with a number that stands in
//! whatever is sealed under it. So the root can be changed at any time, and what is sealed from then on is sealed
//! under a new key, while everything older still opens.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::{Arc, RwLock};

use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};

use crate::spoken;

/// Version of the sealed form: one byte, four of the key's number, 24 of nonce, ciphertext with its tag.
const SEALED_FORMAT: u8 = 2;
const NONCE: usize = 24;
const FILE_HEAD: &str = "duplicarium-key-1 ";
/// Version of the ring.
const RING_FORMAT: u8 = 3;
/// Form of a ring of a vault whose pieces are named by their content itself.
const RING_OF_CONTENT: u8 = 2;
/// Most keys that a ring has.
const MOST_KEYS: usize = 10_000;

/// The name of something by its content: a keyed BLAKE3 digest, so that names tell nothing to
/// who has no key.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Name(pub [u8; 32]);

impl std::fmt::Debug for Name {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&hex::encode(&self.0[..8]))
    }
}

/// Why the key file could not be used, or something sealed does not open.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum KeyError {
    /// The file could not be read or made.
    #[error("the key file {path} cannot be used: {source}")]
    File {
        /// Where it is.
        path: String,
        /// Why.
        source: io::Error,
    },
    /// The file holds something else.
    #[error("{path} is no key file; put back the copy that you keep elsewhere")]
    NotAKey {
        /// Where it is.
        path: String,
    },
    /// What was typed is no key.
    #[error("that is no key: {why}")]
    Typed {
        /// Why.
        why: String,
    },
    /// Something sealed does not open: another key, or damage.
    #[error("{what} does not open with this key, or is damaged")]
    Seal {
        /// What was to be opened.
        what: String,
    },
    /// The vault belongs to another key.
    #[error(
        "this vault belongs to another key: it was made with key {theirs}, and the key file holds {ours}; \
         put back the key file that belongs to it, or type in its printed copy"
    )]
    OtherVault {
        /// The keys that open it, by their short names.
        theirs: String,
        /// The one that was given.
        ours: String,
    },
    /// The ring of keys is gone or damaged.
    #[error(
        "the ring of keys in the vault (keys/{id} and its copy) is gone or damaged; without it nothing in the vault \
         opens. Put one of them back from the second vault or a copy of this one"
    )]
    Ring {
        /// Short name of the key that it belongs to.
        id: String,
    },
}

/// The root of all keys: what the key file holds.
#[derive(Clone)]
pub struct Root([u8; 32]);

impl Root {
    /// A root from 32 bytes of a good source of chance.
    pub fn new(bytes: [u8; 32]) -> Self {
        Self(bytes)
    }

    /// A new one.
    ///
    /// # Errors
    /// Where the system gives no chance.
    pub fn by_chance() -> Result<Self, KeyError> {
        Ok(Self(random()?))
    }

    /// Its short name, which says nothing about it: 16 hexadecimal digits.
    pub fn id(&self) -> String {
        let digest = blake3::derive_key("duplicarium 2026 short names of keys", &self.0);
        hex::encode(&digest[..8])
    }

    /// It as text for a drawer: groups of letters and digits that are hard to mistake, the last of which tells
    /// whether the others were typed right.
    pub fn spoken(&self) -> String {
        spoken::of(&self.0)
    }

    /// The key that was typed in.
    ///
    /// # Errors
    /// [`KeyError::Typed`] if it is not whole, or a sign of it is wrong.
    pub fn typed(text: &str) -> Result<Self, KeyError> {
        spoken::read(text)
            .map(Self)
            .map_err(|why| KeyError::Typed { why })
    }

    /// Reads the key file.
    ///
    /// # Errors
    /// [`KeyError::File`] and [`KeyError::NotAKey`].
    pub fn load(path: &Path) -> Result<Self, KeyError> {
        let shown = path.display().to_string();
        let text = fs::read_to_string(path).map_err(|source| KeyError::File {
            path: shown.clone(),
            source,
        })?;
        let root = text
            .strip_prefix(FILE_HEAD)
            .and_then(|rest| hex::decode(rest.trim()).ok());
        let root = root.and_then(|bytes| bytes.try_into().ok());
        Ok(Self(root.ok_or(KeyError::NotAKey { path: shown })?))
    }

    /// Writes the key file, which only its owner can read. An existing file is never replaced.
    ///
    /// # Errors
    /// [`KeyError::File`].
    pub fn save(&self, path: &Path) -> Result<(), KeyError> {
        let written = || {
            let mut file = File::options()
                .write(true)
                .create_new(true)
                .mode(0o600)
                .open(path)?;
            writeln!(file, "{FILE_HEAD}{}", hex::encode(self.0))?;
            file.sync_all()?;
            File::open(path.parent().unwrap_or(Path::new(".")))?.sync_all()
        };
        written().map_err(|source| KeyError::File {
            path: path.display().to_string(),
            source,
        })
    }

    fn cipher(&self) -> XChaCha20Poly1305 {
        cipher(&blake3::derive_key(
            "duplicarium 2026 wrapping of the ring",
            &self.0,
        ))
    }
}

fn cipher(key: &[u8; 32]) -> XChaCha20Poly1305 {
    XChaCha20Poly1305::new(&Key::from(*key))
}

fn random<const N: usize>() -> Result<[u8; N], KeyError> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|_| KeyError::Seal {
        what: "what the system gives of chance".into(),
    })?;
    Ok(bytes)
}

/// A key that things are sealed under, with those derived from it for each purpose.
#[derive(Clone)]
struct Sealing {
    /// Stands in whatever is sealed under it.
    id: u32,
    key: [u8; 32],
    objects: XChaCha20Poly1305,
    secrets: XChaCha20Poly1305,
    kept: XChaCha20Poly1305,
}

impl Sealing {
    fn new(id: u32, key: [u8; 32]) -> Self {
        let of = |purpose: &str| cipher(&blake3::derive_key(purpose, &key));
        Self {
            id,
            key,
            objects: of("duplicarium 2026 sealing of vault objects"),
            secrets: of("duplicarium 2026 sealing of secrets in records"),
            kept: of("duplicarium 2026 sealing of what was on cards"),
        }
    }
}

/// What something is sealed for; each purpose has keys of its own.
#[derive(Clone, Copy)]
enum Purpose {
    Object,
    Secret,
    Kept,
}

impl Purpose {
    fn cipher(self, sealing: &Sealing) -> &XChaCha20Poly1305 {
        match self {
            Self::Object => &sealing.objects,
            Self::Secret => &sealing.secrets,
            Self::Kept => &sealing.kept,
        }
    }
}

/// Every key of a vault and of the records beside it.
pub struct Keys {
    /// Never changes: names, fingerprints and salts come from it.
    fixed: [u8; 32],
    /// Whether names are made of the digest of the content, and not of the content itself: whoever has that digest can
    /// be told whether the vault has it. Vaults of the first days differ.
    of_digest: bool,
    /// The newest, last, seals what is new. Long lived work sees a key that was added meanwhile.
    sealing: RwLock<Arc<Vec<Sealing>>>,
}

impl Keys {
    /// Keys that follow from a root alone, without a ring: for what is sealed and opened in one place.
    pub fn new(bytes: [u8; 32]) -> Self {
        let of = |purpose: &str| blake3::derive_key(purpose, &bytes);
        Self {
            fixed: of("duplicarium 2026 fixed key without a ring"),
            of_digest: true,
            sealing: RwLock::new(Arc::new(vec![Sealing::new(
                1,
                of("duplicarium 2026 sealing key without a ring"),
            )])),
        }
    }

    /// Keys of a new vault.
    pub(crate) fn by_chance() -> Result<Self, KeyError> {
        Ok(Self {
            fixed: random()?,
            of_digest: true,
            sealing: RwLock::new(Arc::new(vec![Sealing::new(1, random()?)])),
        })
    }

    fn sealing(&self) -> Arc<Vec<Sealing>> {
        self.sealing
            .read()
            .unwrap_or_else(|e| e.into_inner())
            .clone()
    }

    /// Number of the key that new things are sealed under.
    pub fn newest(&self) -> u32 {
        self.sealing().last().map_or(0, |newest| newest.id)
    }

    /// The ring with one more key to seal under, which counts once [`Keys::take_over`] was told.
    pub(crate) fn with_another(&self) -> Result<Self, KeyError> {
        let mut all = self.sealing().to_vec();
        let id = all.iter().map(|one| one.id).max().unwrap_or(0);
        all.push(Sealing::new(id.saturating_add(1), random()?));
        Ok(Self {
            fixed: self.fixed,
            of_digest: self.of_digest,
            sealing: RwLock::new(Arc::new(all)),
        })
    }

    /// Seals under the newest key of another ring of the same vault from now on.
    pub(crate) fn take_over(&self, other: &Self) {
        *self.sealing.write().unwrap_or_else(|e| e.into_inner()) = other.sealing();
    }

    /// The ring, wrapped under a root.
    pub(crate) fn wrap(&self, root: &Root) -> Result<Vec<u8>, KeyError> {
        let all = self.sealing();
        let mut plain = self.fixed.to_vec();
        plain.extend((all.len() as u32).to_le_bytes());
        for one in all.iter() {
            plain.extend(one.id.to_le_bytes());
            plain.extend(one.key);
        }
        let nonce: [u8; NONCE] = random()?;
        let id = root.id();
        let payload = Payload {
            msg: &plain,
            aad: id.as_bytes(),
        };
        let body = root.cipher().encrypt(&XNonce::from(nonce), payload);
        let body = body.map_err(|_| KeyError::Seal {
            what: "the ring of keys".into(),
        })?;
        let form = match self.of_digest {
            true => RING_FORMAT,
            false => RING_OF_CONTENT,
        };
        Ok([&[form][..], &nonce, &body].concat())
    }

    /// Opens a wrapped ring; nothing if it is damaged, or wrapped under another root.
    pub(crate) fn unwrap(root: &Root, wrapped: &[u8]) -> Option<Self> {
        let id = root.id();
        let (format, rest) = wrapped.split_first()?;
        let (nonce, body) = rest.split_first_chunk::<NONCE>()?;
        let of_digest = match *format {
            RING_FORMAT => true,
            RING_OF_CONTENT => false,
            _ => return None,
        };
        let payload = Payload {
            msg: body,
            aad: id.as_bytes(),
        };
        let plain = root.cipher().decrypt(&XNonce::from(*nonce), payload).ok()?;
        let (fixed, rest) = plain.split_first_chunk::<32>()?;
        let (count, mut rest) = rest.split_first_chunk::<4>()?;
        let count = u32::from_le_bytes(*count) as usize;
        if count == 0 || count > MOST_KEYS {
            return None;
        }
        let mut all = Vec::with_capacity(count);
        for _ in 0..count {
            let (id, more) = rest.split_first_chunk::<4>()?;
            let (key, more) = more.split_first_chunk::<32>()?;
            all.push(Sealing::new(u32::from_le_bytes(*id), *key));
            rest = more;
        }
        rest.is_empty().then(|| Self {
            fixed: *fixed,
            of_digest,
            sealing: RwLock::new(Arc::new(all)),
        })
    }

    /// The key from which salts of login passwords are made.
    pub fn salts(&self) -> [u8; 32] {
        blake3::derive_key("duplicarium 2026 salts of login passwords", &self.fixed)
    }

    /// Whether names are made of the digest of the content.
    pub(crate) fn names_digests(&self) -> bool {
        self.of_digest
    }

    /// The key that names one kind of thing.
    pub(crate) fn naming(&self, kind: &str) -> [u8; 32] {
        blake3::derive_key(&format!("duplicarium 2026 names of {kind}"), &self.fixed)
    }

    fn seal(&self, purpose: Purpose, name: &[u8], plain: &[u8]) -> Result<Vec<u8>, KeyError> {
        let failed = || KeyError::Seal {
            what: "sealing".into(),
        };
        let all = self.sealing();
        let newest = all.last().ok_or_else(failed)?;
        let nonce: [u8; NONCE] = random()?;
        let payload = Payload {
            msg: plain,
            aad: name,
        };
        let body = purpose
            .cipher(newest)
            .encrypt(&XNonce::from(nonce), payload)
            .map_err(|_| failed())?;
        let mut sealed = Vec::with_capacity(SEALED_HEAD + body.len());
        sealed.push(SEALED_FORMAT);
        sealed.extend(newest.id.to_le_bytes());
        sealed.extend(nonce);
        sealed.extend(body);
        Ok(sealed)
    }

    fn open(&self, purpose: Purpose, name: &[u8], sealed: &[u8]) -> Option<Vec<u8>> {
        let (format, rest) = sealed.split_first()?;
        let (id, rest) = rest.split_first_chunk::<4>()?;
        let (nonce, body) = rest.split_first_chunk::<NONCE>()?;
        if *format != SEALED_FORMAT {
            return None;
        }
        let all = self.sealing();
        let id = u32::from_le_bytes(*id);
        let sealing = all.iter().find(|one| one.id == id)?;
        let payload = Payload {
            msg: body,
            aad: name,
        };
        let cipher = purpose.cipher(sealing);
        cipher.decrypt(&XNonce::from(*nonce), payload).ok()
    }

    /// Seals an object of the vault under its name.
    pub(crate) fn seal_object(&self, name: &[u8], plain: &[u8]) -> Result<Vec<u8>, KeyError> {
        self.seal(Purpose::Object, name, plain)
    }

    /// Opens an object of the vault; nothing if it is damaged, or was sealed under a key that is not in the ring.
    pub(crate) fn open_object(&self, name: &[u8], sealed: &[u8]) -> Option<Vec<u8>> {
        self.open(Purpose::Object, name, sealed)
    }

    /// Seals a secret for the records. `name` says whose it is and must be given again to open it.
    ///
    /// # Errors
    /// Where the system gives no chance.
    pub fn seal_secret(&self, name: &str, secret: &str) -> Result<Vec<u8>, KeyError> {
        self.seal(Purpose::Secret, name.as_bytes(), secret.as_bytes())
    }

    /// Opens a secret of the records.
    ///
    /// # Errors
    /// [`KeyError::Seal`].
    pub fn open_secret(&self, name: &str, sealed: &[u8]) -> Result<String, KeyError> {
        let plain = self.open(Purpose::Secret, name.as_bytes(), sealed);
        plain
            .and_then(|bytes| String::from_utf8(bytes).ok())
            .ok_or_else(|| KeyError::Seal {
                what: format!("the secret {name}"),
            })
    }

    /// Seals what was on a card, to be kept beside the vault. `name` must be given again to open it.
    ///
    /// # Errors
    /// Where the system gives no chance.
    pub fn seal_kept(&self, name: &str, bytes: &[u8]) -> Result<Vec<u8>, KeyError> {
        self.seal(Purpose::Kept, name.as_bytes(), bytes)
    }

    /// Opens what was kept of a card.
    ///
    /// # Errors
    /// [`KeyError::Seal`].
    pub fn open_kept(&self, name: &str, sealed: &[u8]) -> Result<Vec<u8>, KeyError> {
        self.open(Purpose::Kept, name.as_bytes(), sealed)
            .ok_or_else(|| KeyError::Seal {
                what: format!("what was kept of a card, {name},"),
            })
    }

    /// A keyed digest of bytes for one purpose, which nobody makes without the key.
    pub fn cover(&self, purpose: &str, bytes: &[u8]) -> [u8; 32] {
        *blake3::keyed_hash(&self.naming(&format!("covers of {purpose}")), bytes).as_bytes()
    }

    /// A keyed fingerprint that stands for a secret where it must not be shown.
    pub fn fingerprint(&self, secret: &str) -> String {
        let digest = blake3::keyed_hash(&self.naming("secret fingerprints"), secret.as_bytes());
        hex::encode(&digest.as_bytes()[..6])
    }

    /// A key for a purpose outside of vault and records. It stays the same for the life of the vault.
    pub fn derived(&self, purpose: &str) -> [u8; 32] {
        let digest = blake3::keyed_hash(&self.naming("derived keys"), purpose.as_bytes());
        *digest.as_bytes()
    }
}

/// Bytes of a sealed form before its ciphertext.
const SEALED_HEAD: usize = 1 + 4 + NONCE;

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn a_key_file_is_private_made_once_and_read_again() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("team.key");
        let root = Root::by_chance().unwrap();
        root.save(&path).unwrap();
        assert_eq!(
            fs::metadata(&path).unwrap().permissions().mode() & 0o777,
            0o600
        );
        assert_eq!(Root::load(&path).unwrap().id(), root.id());
        assert!(root.save(&path).is_err(), "a key file is never replaced");
        fs::write(&path, "something else").unwrap();
        assert!(matches!(Root::load(&path), Err(KeyError::NotAKey { .. })));
    }

    #[test]
    fn a_vault_of_the_first_days_keeps_its_names() {
        use crate::piece::{Kind, Naming};
        let root = Root::by_chance().unwrap();
        let new = Keys::by_chance().unwrap();
        let old = Keys {
            of_digest: false,
            fixed: new.fixed,
            sealing: RwLock::new(new.sealing()),
        };
        let opened = |keys: &Keys| {
            let wrapped = keys.wrap(&root).unwrap();
            (wrapped[0], Keys::unwrap(&root, &wrapped).unwrap())
        };
        let ((three, new), (two, old)) = (opened(&new), opened(&old));
        assert_eq!((three, two), (3, 2));
        let (bytes, key) = (b"a chunk".as_slice(), new.naming("chunks"));
        let digest = blake3::hash(bytes);
        let by_content = *blake3::keyed_hash(&key, bytes).as_bytes();
        let by_digest = *blake3::keyed_hash(&key, digest.as_bytes()).as_bytes();
        let (of_new, of_old) = (Naming::new(&new), Naming::new(&old));
        assert_eq!(of_new.name(Kind::Chunk, bytes).0, by_digest);
        let told = of_new.of_digest(Kind::Chunk, digest.as_bytes());
        assert_eq!(told.unwrap().0, by_digest);
        assert_eq!(of_old.name(Kind::Chunk, bytes).0, by_content);
        assert!(of_old.of_digest(Kind::Chunk, digest.as_bytes()).is_none());
        // Also when another sealing key came.
        let (two, old) = opened(&old.with_another().unwrap());
        assert!(two == 2 && !old.of_digest);
    }

    #[test]
    fn what_is_sealed_opens_under_its_name_and_stays_so_with_further_keys() {
        let keys = Keys::by_chance().unwrap();
        let sealed = keys
            .seal_secret("device 3 passphrase", "salt and sand")
            .unwrap();
        assert!(!sealed.windows(4).any(|w| w == b"salt"));
        let open = |keys: &Keys, sealed: &[u8]| keys.open_secret("device 3 passphrase", sealed);
        assert_eq!(open(&keys, &sealed).unwrap(), "salt and sand");
        assert!(
            keys.open_secret("device 4 passphrase", &sealed).is_err(),
            "the name is bound"
        );
        assert!(
            keys.open_kept("device 3 passphrase", &sealed).is_err(),
            "so is the purpose"
        );
        // Every byte counts.
        for at in 0..sealed.len() {
            let mut damaged = sealed.clone();
            damaged[at] ^= 1;
            assert!(open(&keys, &damaged).is_err(), "byte {at}");
            assert!(open(&keys, &sealed[..at]).is_err(), "{at} bytes");
        }
        let (names, salts) = (keys.fingerprint("word"), keys.salts());
        keys.take_over(&keys.with_another().unwrap());
        let newer = keys.seal_secret("device 3 passphrase", "reed").unwrap();
        assert_ne!(newer[1..5], sealed[1..5], "another key");
        assert_eq!(open(&keys, &sealed).unwrap(), "salt and sand");
        assert_eq!(open(&keys, &newer).unwrap(), "reed");
        assert_eq!((keys.fingerprint("word"), keys.salts()), (names, salts));
    }

    #[test]
    fn a_ring_opens_with_its_root_alone_and_only_whole() {
        let root = Root::new([1; 32]);
        let keys = Keys::by_chance().unwrap().with_another().unwrap();
        let wrapped = keys.wrap(&root).unwrap();
        let again = Keys::unwrap(&root, &wrapped).unwrap();
        let sealed = keys.seal_kept("x", b"y").unwrap();
        assert_eq!(again.open_kept("x", &sealed).unwrap(), b"y");
        assert_eq!(again.newest(), 2);
        assert!(Keys::unwrap(&Root::new([2; 32]), &wrapped).is_none());
        for at in 0..wrapped.len() {
            let mut damaged = wrapped.clone();
            damaged[at] ^= 0x10;
            assert!(Keys::unwrap(&root, &damaged).is_none(), "byte {at}");
            assert!(Keys::unwrap(&root, &wrapped[..at]).is_none(), "{at} bytes");
        }
    }
}
