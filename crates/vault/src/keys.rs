//! The one key file, the keys derived from it for each purpose, and sealing.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};

/// Version of the sealed form: one byte, 24 bytes of nonce, ciphertext with its tag.
const SEALED_FORMAT: u8 = 1;
const NONCE: usize = 24;
const FILE_HEAD: &str = "duplicarium-key-1 ";

/// The name of something by its content: a keyed BLAKE3 digest, so that names tell nothing to
/// who has no key.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Name(pub [u8; 32]);

impl std::fmt::Debug for Name {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&hex::encode(&self.0[..8]))
    }
}

/// Why the key file could not be used.
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
    /// Something sealed does not open: another key, or damage.
    #[error("{what} does not open with this key, or is damaged")]
    Seal {
        /// What was to be opened.
        what: String,
    },
}

/// Every key, derived from one file of 32 random bytes.
pub struct Keys {
    master: [u8; 32],
    objects: XChaCha20Poly1305,
    secrets: XChaCha20Poly1305,
    kept: XChaCha20Poly1305,
}

impl Keys {
    /// Keys from 32 bytes of a good source of chance.
    pub fn new(master: [u8; 32]) -> Self {
        let cipher = |purpose: &str| {
            XChaCha20Poly1305::new(&Key::from(blake3::derive_key(purpose, &master)))
        };
        Self {
            objects: cipher("duplicarium 2026 sealing of vault objects"),
            secrets: cipher("duplicarium 2026 sealing of secrets in records"),
            kept: cipher("duplicarium 2026 sealing of what was on cards"),
            master,
        }
    }

    /// Reads the key file.
    pub fn load(path: &Path) -> Result<Self, KeyError> {
        let shown = path.display().to_string();
        let text = fs::read_to_string(path).map_err(|source| KeyError::File {
            path: shown.clone(),
            source,
        })?;
        let master = text
            .strip_prefix(FILE_HEAD)
            .and_then(|rest| hex::decode(rest.trim()).ok());
        let master = master.and_then(|bytes| bytes.try_into().ok());
        Ok(Self::new(master.ok_or(KeyError::NotAKey { path: shown })?))
    }

    /// Makes a new key file that only its owner can read. An existing file is never replaced.
    pub fn create(path: &Path) -> Result<Self, KeyError> {
        let mut master = [0; 32];
        getrandom::fill(&mut master)
            .map_err(io::Error::other)
            .and_then(|()| {
                let mut file = File::options()
                    .write(true)
                    .create_new(true)
                    .mode(0o600)
                    .open(path)?;
                writeln!(file, "{FILE_HEAD}{}", hex::encode(master))?;
                file.sync_all()?;
                File::open(path.parent().unwrap_or(Path::new(".")))?.sync_all()
            })
            .map_err(|source| KeyError::File {
                path: path.display().to_string(),
                source,
            })?;
        Ok(Self::new(master))
    }

    /// The key from which salts of login passwords are made.
    pub fn salts(&self) -> [u8; 32] {
        blake3::derive_key("duplicarium 2026 salts of login passwords", &self.master)
    }

    /// The key that names one kind of object.
    pub(crate) fn naming(&self, kind: &str) -> [u8; 32] {
        blake3::derive_key(&format!("duplicarium 2026 names of {kind}"), &self.master)
    }

    /// Seals an object of the vault under its name.
    pub(crate) fn seal_object(&self, name: &[u8], plain: &[u8]) -> Result<Vec<u8>, KeyError> {
        seal(&self.objects, name, plain)
    }

    pub(crate) fn open_object(
        &self,
        name: &[u8],
        sealed: &[u8],
        what: impl Fn() -> String,
    ) -> Result<Vec<u8>, KeyError> {
        open(&self.objects, name, sealed).ok_or_else(|| KeyError::Seal { what: what() })
    }

    /// Seals a secret for the records. `name` says whose it is and must be given again to open it.
    pub fn seal_secret(&self, name: &str, secret: &str) -> Result<Vec<u8>, KeyError> {
        seal(&self.secrets, name.as_bytes(), secret.as_bytes())
    }

    /// Opens a secret of the records.
    pub fn open_secret(&self, name: &str, sealed: &[u8]) -> Result<String, KeyError> {
        let plain = open(&self.secrets, name.as_bytes(), sealed);
        plain
            .and_then(|bytes| String::from_utf8(bytes).ok())
            .ok_or_else(|| KeyError::Seal {
                what: format!("the secret {name}"),
            })
    }

    /// Seals what was on a card, to be kept beside the vault. `name` must be given again to open it.
    pub fn seal_kept(&self, name: &str, bytes: &[u8]) -> Result<Vec<u8>, KeyError> {
        seal(&self.kept, name.as_bytes(), bytes)
    }

    /// Opens what was kept of a card.
    pub fn open_kept(&self, name: &str, sealed: &[u8]) -> Result<Vec<u8>, KeyError> {
        open(&self.kept, name.as_bytes(), sealed).ok_or_else(|| KeyError::Seal {
            what: format!("what was kept of a card, {name},"),
        })
    }

    /// A keyed fingerprint that stands for a secret where it must not be shown.
    pub fn fingerprint(&self, secret: &str) -> String {
        let digest = blake3::keyed_hash(&self.naming("secret fingerprints"), secret.as_bytes());
        hex::encode(&digest.as_bytes()[..6])
    }
}

fn seal(cipher: &XChaCha20Poly1305, name: &[u8], plain: &[u8]) -> Result<Vec<u8>, KeyError> {
    let failed = || KeyError::Seal {
        what: "sealing".into(),
    };
    let mut nonce = [0; NONCE];
    getrandom::fill(&mut nonce).map_err(|_| failed())?;
    let payload = Payload {
        msg: plain,
        aad: name,
    };
    let body = cipher
        .encrypt(&XNonce::from(nonce), payload)
        .map_err(|_| failed())?;
    Ok([&[SEALED_FORMAT][..], &nonce, &body].concat())
}

fn open(cipher: &XChaCha20Poly1305, name: &[u8], sealed: &[u8]) -> Option<Vec<u8>> {
    let (format, rest) = sealed.split_first()?;
    let (nonce, body) = rest.split_first_chunk::<NONCE>()?;
    if *format != SEALED_FORMAT {
        return None;
    }
    let payload = Payload {
        msg: body,
        aad: name,
    };
    cipher.decrypt(&XNonce::from(*nonce), payload).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn a_key_file_is_private_made_once_and_read_again() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("team.key");
        let made = Keys::create(&path).unwrap();
        assert_eq!(
            fs::metadata(&path).unwrap().permissions().mode() & 0o777,
            0o600
        );
        let sealed = made
            .seal_secret("device 3 passphrase", "salt and sand")
            .unwrap();
        let again = Keys::load(&path).unwrap();
        assert_eq!(
            again.open_secret("device 3 passphrase", &sealed).unwrap(),
            "salt and sand"
        );
        assert!(
            again.open_secret("device 4 passphrase", &sealed).is_err(),
            "the name is bound"
        );
        assert!(!sealed.windows(4).any(|w| w == b"salt"));
        assert!(Keys::create(&path).is_err(), "a key file is never replaced");
        fs::write(&path, "something else").unwrap();
        assert!(matches!(Keys::load(&path), Err(KeyError::NotAKey { .. })));
    }
}
