//! Uploads as files: bytes that arrived, what is known of them, and who uses them.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::refusal::Refusal;

/// What is kept beside an upload's bytes.
#[derive(Serialize, Deserialize)]
pub struct Kept {
    /// Name of the file at its sender.
    pub file_name: String,
    /// Its length, in bytes.
    pub size: u64,
    /// What the sender knows this upload again by.
    #[serde(default)]
    pub key: Option<String>,
}

/// The uploads: what has arrived of each, and which are being used. Each serves one import at a time.
pub struct Uploads {
    dir: PathBuf,
    held: Mutex<HashSet<PathBuf>>,
}

/// The files of one upload.
pub struct Files {
    /// What has arrived.
    pub bytes: PathBuf,
    /// What is known of it.
    pub kept: PathBuf,
}

impl Uploads {
    /// Uploads in this folder. What was begun before the last start and is too old goes.
    pub fn new(dir: PathBuf) -> Self {
        let uploads = Self {
            dir,
            held: Mutex::default(),
        };
        uploads.clear(true);
        uploads
    }

    /// The folder.
    pub fn dir(&self) -> &Path {
        &self.dir
    }

    /// The files of an upload; refuses an identifier that was not given out.
    pub fn upload_files(&self, id: &str) -> Result<(Files, Kept), Refusal> {
        let unknown = || Refusal::missing("there is no such upload; begin it anew");
        if id.is_empty() || !id.bytes().all(|b| b.is_ascii_hexdigit()) {
            return Err(unknown());
        }
        let files = Files {
            bytes: self.dir.join(id),
            kept: self.dir.join(format!("{id}.json")),
        };
        let kept = std::fs::read(&files.kept).map_err(|_| unknown())?;
        let kept = serde_json::from_slice(&kept).map_err(|_| unknown())?;
        Ok((files, kept))
    }
}

/// An upload that is kept for one import. It stays for another try until the import is done.
pub struct Claim {
    uploads: Arc<Uploads>,
    path: PathBuf,
}

impl Claim {
    /// The file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Takes the upload away: it has become a release.
    pub fn used_up(&self) {
        for path in [self.path.clone(), self.path.with_extension("json")] {
            match std::fs::remove_file(&path) {
                Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                    tracing::warn!("{} stays behind: {e}", path.display());
                }
                _ => {}
            }
        }
    }
}

impl Drop for Claim {
    fn drop(&mut self) {
        self.uploads.held().remove(&self.path);
    }
}

impl Uploads {
    fn held(&self) -> MutexGuard<'_, HashSet<PathBuf>> {
        self.held.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Whether an import uses this file.
    fn holds(&self, path: &Path) -> bool {
        self.held().contains(path)
    }

    /// Keeps a whole upload for one import.
    pub fn claim(self: &Arc<Self>, id: &str) -> Result<(Claim, Kept), Refusal> {
        let (files, kept) = self.upload_files(id)?;
        let received = std::fs::metadata(&files.bytes)?.len();
        if received != kept.size {
            let detail = format!(
                "{} is not whole: {received} of {} bytes have arrived; send the rest, and this again",
                kept.file_name, kept.size
            );
            return Err(Refusal::conflict("upload-not-whole", detail));
        }
        if !self.held().insert(files.bytes.clone()) {
            let detail = format!("{} is being imported already", kept.file_name);
            return Err(Refusal::conflict("upload-in-use", detail));
        }
        let claim = Claim {
            uploads: self.clone(),
            path: files.bytes,
        };
        Ok((claim, kept))
    }

    /// An upload that was begun can go on after a restart, for some days. At a start what was being fetched or unpacked goes too: it is begun anew.
    pub fn clear(&self, starting: bool) {
        const KEPT: Duration = Duration::from_secs(3 * 24 * 3600);
        for entry in std::fs::read_dir(&self.dir).into_iter().flatten().flatten() {
            let path = entry.path();
            let age = entry.metadata().and_then(|meta| meta.modified()).ok();
            let old = age.is_none_or(|at| at.elapsed().is_ok_and(|age| age > KEPT));
            let name = entry.file_name();
            let scratch = !name
                .to_string_lossy()
                .starts_with(|c: char| c.is_ascii_hexdigit());
            let gone = if scratch { starting } else { old };
            if gone
                && !self.holds(&path.with_extension(""))
                && let Err(e) = std::fs::remove_file(&path)
            {
                tracing::warn!("{} stays behind: {e}", path.display());
            }
        }
    }
}
