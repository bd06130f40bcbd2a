//! What this user's command line is signed in with, for each service, in the user's own configuration folder.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::PathBuf;

use anyhow::Context;
use serde::{Deserialize, Serialize};

/// What is kept for one service.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Kept {
    /// The token.
    pub token: String,
    /// Fingerprint of the certificate that was compared, where no authority vouches for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fingerprint: Option<String>,
    /// What says that somebody was signed in here before; it opens nothing, and stays when they sign out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
}

/// The file, if the user has a folder for such.
fn place() -> Option<PathBuf> {
    let folder = |name: &str| std::env::var_os(name).filter(|path| !path.is_empty());
    let base = folder("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .or_else(|| Some(PathBuf::from(folder("HOME")?).join(".config")))?;
    Some(base.join("duplicarium").join("signed-in.json"))
}

fn all() -> BTreeMap<String, Kept> {
    let text = place().and_then(|path| fs::read_to_string(path).ok());
    text.and_then(|text| serde_json::from_str(&text).ok())
        .unwrap_or_default()
}

fn key(service: &str) -> String {
    service.trim_end_matches('/').to_lowercase()
}

/// What is kept for a service.
pub fn of(service: &str) -> Option<Kept> {
    all().remove(&key(service))
}

/// Keeps this for a service, or forgets the token that was kept. Only this user can read the file.
pub fn keep(service: &str, kept: Option<Kept>) -> anyhow::Result<PathBuf> {
    let path =
        place().context("there is no HOME to keep the token in; give it as DUPLICARIUM_TOKEN")?;
    let mut tokens = all();
    match kept {
        Some(kept) => tokens.insert(key(service), kept),
        None => match tokens.remove(&key(service)).and_then(|kept| kept.device) {
            Some(device) => tokens.insert(
                key(service),
                Kept {
                    device: Some(device),
                    ..Kept::default()
                },
            ),
            None => None,
        },
    };
    let shown = path.display().to_string();
    let written = || -> std::io::Result<()> {
        if let Some(folder) = path.parent() {
            fs::DirBuilder::new()
                .recursive(true)
                .mode(0o700)
                .create(folder)?;
        }
        let fresh = path.with_extension(format!("{}.new", std::process::id()));
        let mut file = File::options()
            .write(true)
            .create_new(true)
            .mode(0o600)
            .open(&fresh)?;
        file.write_all(serde_json::to_string_pretty(&tokens)?.as_bytes())?;
        file.sync_all()?;
        fs::rename(&fresh, &path)
    };
    written().with_context(|| format!("cannot write {shown}"))?;
    Ok(path)
}
