//! What shows which bench this computer is, in a file that only its user can read.

use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use serde::{Deserialize, Serialize};

/// What is kept.
#[derive(Serialize, Deserialize)]
pub struct Kept {
    /// Address of the service.
    pub service: String,
    /// Name of the bench.
    pub name: String,
    /// What shows that it is that.
    pub credential: String,
    /// Fingerprint of the certificate that was compared, where no authority vouches for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fingerprint: Option<String>,
}

const FILE: &str = "enrolled.json";

impl Kept {
    /// Makes the folder, and sees to it that something can be written there: a code is good once.
    pub fn prepare(folder: &Path) -> Result<()> {
        let cannot = || format!("cannot write in {}", folder.display());
        fs::DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(folder)
            .with_context(cannot)?;
        let probe = folder.join(".probe");
        fs::write(&probe, b"").with_context(cannot)?;
        fs::remove_file(&probe).with_context(cannot)
    }

    /// What is kept in a folder.
    pub fn load(folder: &Path) -> Result<Self> {
        let path = folder.join(FILE);
        let text = fs::read_to_string(&path).with_context(|| {
            format!(
                "this computer is no bench yet ({} is not there); an owner gives a code: duplicarium bench add NAME",
                path.display()
            )
        })?;
        serde_json::from_str(&text).with_context(|| {
            format!(
                "{} makes no sense; enrol this computer again: duplicarium bench code NAME gives a code",
                path.display()
            )
        })
    }

    /// Keeps it.
    pub fn store(&self, folder: &Path) -> Result<PathBuf> {
        let path = folder.join(FILE);
        let fresh = folder.join(format!("{FILE}.new"));
        let written = || -> std::io::Result<()> {
            let mut file = File::options()
                .write(true)
                .create(true)
                .truncate(true)
                .mode(0o600)
                .open(&fresh)?;
            file.write_all(serde_json::to_string_pretty(self)?.as_bytes())?;
            file.sync_all()?;
            fs::rename(&fresh, &path)
        };
        written().with_context(|| format!("cannot write {}", path.display()))?;
        Ok(path)
    }
}
