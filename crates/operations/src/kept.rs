//! What is on a card is kept here while it is checked, so that the card gets it back, also after a crash.
//!
//! A file a job, `checks/job-N.kept`: after a line that names the format, each place as the length of what
//! follows (four bytes, little-endian) and the sealed bytes of its offset (eight bytes, little-endian) and
//! content. Cards carry passphrases, so that nothing of this is readable without the key.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use cardwork::check::{Keep, Kept};
use vault::Keys;

use crate::refusal::Refusal;

const HEAD: &[u8] = b"DUPLICARIUM KEEPS WHAT WAS ON A CARD, FORMAT 1\n";
/// Length of one sealed place at most, in bytes.
const MOST: u32 = 2 << 20;

/// Whether a job kept something, which is still here.
pub fn is_kept(folder: &Path, job: i64) -> bool {
    path_of(folder, job).is_file()
}

/// Gives up what a job kept, if it did: its card is not used any more.
pub fn give_up(folder: &Path, job: i64) {
    let path = path_of(folder, job);
    match std::fs::remove_file(&path) {
        Ok(()) => tracing::info!("gave up {}", path.display()),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
        Err(e) => tracing::warn!("{} stays there: {e}", path.display()),
    }
}

/// What was on the card of one job.
pub struct KeptFile {
    keys: Arc<Keys>,
    job: i64,
    path: PathBuf,
    file: Mutex<File>,
    /// First byte and length of each sealed place.
    places: Vec<(u64, u32)>,
    end: u64,
}

/// Where what a job kept lies.
fn path_of(folder: &Path, job: i64) -> PathBuf {
    folder.join(format!("job-{job}.kept"))
}

impl KeptFile {
    /// A new file for a job.
    pub fn create(folder: &Path, keys: Arc<Keys>, job: i64) -> Result<Self, Refusal> {
        let path = path_of(folder, job);
        let mut file = File::options()
            .read(true)
            .write(true)
            .create_new(true)
            .open(&path)?;
        file.write_all(HEAD)?;
        Ok(Self {
            keys,
            job,
            path,
            file: Mutex::new(file),
            places: Vec::new(),
            end: HEAD.len() as u64,
        })
    }

    /// What a job kept, if it is still there.
    pub fn open(folder: &Path, keys: Arc<Keys>, job: i64) -> Result<Self, Refusal> {
        let path = path_of(folder, job);
        let damaged = |why: &str| {
            Refusal::conflict(
                "kept-damaged",
                format!("{} cannot be used: {why}", path.display()),
            )
        };
        let mut file = match File::open(&path) {
            Ok(file) => file,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
                return Err(Refusal::conflict(
                    "nothing-kept",
                    format!("nothing is kept here of what job {job} found on the card"),
                ));
            }
            Err(e) => return Err(e.into()),
        };
        let len = file.metadata()?.len();
        let mut head = vec![0; HEAD.len()];
        if file.read_exact(&mut head).is_err() || head != HEAD {
            return Err(damaged("it does not begin as such a file does"));
        }
        let (mut at, mut places) = (HEAD.len() as u64, Vec::new());
        while at < len {
            let mut four = [0; 4];
            if len - at < 4 {
                return Err(damaged("it ends within a place"));
            }
            file.read_exact(&mut four)?;
            let sealed = u32::from_le_bytes(four);
            if sealed > MOST || len - at - 4 < u64::from(sealed) {
                return Err(damaged("it ends within a place"));
            }
            places.push((at + 4, sealed));
            at += 4 + u64::from(sealed);
            file.seek(SeekFrom::Start(at))?;
        }
        Ok(Self {
            keys,
            job,
            path,
            file: Mutex::new(file),
            places,
            end: len,
        })
    }

    /// Takes it away: the card has it back, or somebody gave it up.
    pub fn remove(self) {
        if let Err(e) = std::fs::remove_file(&self.path) {
            tracing::warn!("{} stays there: {e}", self.path.display());
        }
    }

    fn name(&self, number: usize) -> String {
        format!("place {number} of job {}", self.job)
    }
}

impl Keep for KeptFile {
    fn save(&mut self, offset: u64, bytes: &[u8]) -> Result<(), String> {
        let plain = [&offset.to_le_bytes(), bytes].concat();
        let sealed = self
            .keys
            .seal_kept(&self.name(self.places.len()), &plain)
            .map_err(|e| e.to_string())?;
        let len = u32::try_from(sealed.len()).map_err(|e| e.to_string())?;
        let mut file = self.file.lock().unwrap_or_else(|e| e.into_inner());
        let written = file
            .write_all(&len.to_le_bytes())
            .and_then(|()| file.write_all(&sealed));
        written.map_err(|e| format!("{}: {e}", self.path.display()))?;
        self.places.push((self.end + 4, len));
        self.end += 4 + u64::from(len);
        Ok(())
    }

    fn settle(&mut self) -> Result<(), String> {
        let file = self.file.lock().unwrap_or_else(|e| e.into_inner());
        let folder = self.path.parent().map(File::open).transpose();
        file.sync_all()
            .and(folder)
            .and_then(|folder| folder.map_or(Ok(()), |folder| folder.sync_all()))
            .map_err(|e| format!("{}: {e}", self.path.display()))
    }
}

impl Kept for KeptFile {
    fn len(&self) -> usize {
        self.places.len()
    }

    fn bytes(&self) -> u64 {
        // Without what sealing adds, and the offset.
        let places = self.places.iter();
        places
            .map(|(_, len)| u64::from(len.saturating_sub(48)))
            .sum()
    }

    fn place(&self, number: usize) -> Result<(u64, Vec<u8>), String> {
        let (at, len) = self.places[number];
        let mut sealed = vec![0; len as usize];
        let file = self.file.lock().unwrap_or_else(|e| e.into_inner());
        std::os::unix::fs::FileExt::read_exact_at(&*file, &mut sealed, at)
            .map_err(|e| format!("{}: {e}", self.path.display()))?;
        let plain = self.keys.open_kept(&self.name(number), &sealed);
        let plain = plain.map_err(|e| e.to_string())?;
        let (offset, bytes) = plain
            .split_first_chunk()
            .ok_or_else(|| format!("{} is damaged", self.path.display()))?;
        Ok((u64::from_le_bytes(*offset), bytes.to_vec()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_comes_back_and_is_read_by_nobody_else() {
        let folder = tempfile::tempdir().unwrap();
        let keys = Arc::new(Keys::new([3; 32]));
        let mut kept = KeptFile::create(folder.path(), keys.clone(), 9).unwrap();
        kept.save(0, b"passphrase = ebb and flow").unwrap();
        kept.save(1 << 40, &[7; 4096]).unwrap();
        kept.settle().unwrap();
        assert!(KeptFile::create(folder.path(), keys.clone(), 9).is_err());
        drop(kept);

        let path = path_of(folder.path(), 9);
        let bytes = std::fs::read(&path).unwrap();
        assert!(!bytes.windows(10).any(|window| window == b"passphrase"));
        let kept = KeptFile::open(folder.path(), keys.clone(), 9).unwrap();
        assert_eq!(kept.len(), 2);
        assert_eq!(
            kept.place(0).unwrap(),
            (0, b"passphrase = ebb and flow".to_vec())
        );
        assert_eq!(kept.place(1).unwrap(), (1 << 40, vec![7; 4096]));
        let other = KeptFile::open(folder.path(), Arc::new(Keys::new([4; 32])), 9).unwrap();
        assert!(other.place(0).is_err());
        drop(other);

        // Cut anywhere, or changed anywhere, it is refused, and nothing else is put back instead.
        for cut in [0, 10, HEAD.len() + 2, HEAD.len() + 20, bytes.len() - 1] {
            std::fs::write(&path, &bytes[..cut]).unwrap();
            assert!(
                KeptFile::open(folder.path(), keys.clone(), 9).is_err(),
                "cut at {cut}"
            );
        }
        let mut changed = bytes.clone();
        *changed.last_mut().unwrap() ^= 1;
        std::fs::write(&path, changed).unwrap();
        let kept = KeptFile::open(folder.path(), keys.clone(), 9).unwrap();
        assert!(kept.place(0).is_ok() && kept.place(1).is_err());
        kept.remove();
        assert!(KeptFile::open(folder.path(), keys, 9).is_err());
    }
}
