//! The data folder belongs to one service, or to one recovery, at a time.

use std::fs::File;
use std::path::Path;

use anyhow::{Context, Result, bail};

/// Takes the data folder for as long as the file is open.
pub fn lock(dir: &Path) -> Result<File> {
    let path = dir.join("service.lock");
    let file = File::create(&path).with_context(|| format!("cannot make {}", path.display()))?;
    if rustix::fs::flock(&file, rustix::fs::FlockOperation::NonBlockingLockExclusive).is_err() {
        bail!(
            "another service uses the data folder {}; stop it, or choose another with --data-dir",
            dir.display()
        );
    }
    Ok(file)
}
