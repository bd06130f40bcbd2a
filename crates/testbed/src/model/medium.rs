//! What is on a card, read off its medium as a stranger would: first bytes, and files with mtools.

use std::io::Read;
use std::path::Path;
use std::process::Command;

/// What is on a card, read off its medium.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Medium {
    /// Its beginning reads as zero.
    Blank,
    /// It says that it is unfinished, in this job.
    Unfinished {
        /// Number of the job.
        job: i64,
    },
    /// A board would boot it, and it carries this stamp.
    Whole {
        /// Number of the imprint.
        imprint: i64,
        /// Device.
        device: Option<String>,
        /// Release or backup that was written.
        base: String,
    },
    /// Nothing of these.
    Other,
}

/// Reads a card as a stranger would: by its first bytes, and its stamp with mtools.
pub fn medium(card: &Path) -> Medium {
    let mut head = vec![0; 128 << 10];
    let mut file = std::fs::File::open(card).expect("the card is a file");
    file.read_exact(&mut head).expect("a card has a head");
    if head.iter().all(|byte| *byte == 0) {
        return Medium::Blank;
    }
    let text = String::from_utf8_lossy(&head[..512]).into_owned();
    if let Some((_, rest)) = text.split_once("UNFINISHED\n") {
        let json = rest.lines().next().unwrap_or("");
        let mark: serde_json::Value = serde_json::from_str(json).unwrap_or_default();
        let job = mark["job"].as_i64().unwrap_or(-1);
        return Medium::Unfinished { job };
    }
    if head[510..512] != [0x55, 0xaa] {
        return Medium::Other;
    }
    let start = u32::from_le_bytes([head[454], head[455], head[456], head[457]]);
    let stamp = file_on(card, start, "duplicarium-stamp.json");
    let stamp: serde_json::Value = serde_json::from_slice(&stamp).unwrap_or_default();
    let Some(imprint) = stamp["imprint"].as_i64() else {
        return Medium::Other;
    };
    let base = &stamp["base"];
    let base = base["release"].as_str().or(base["backup"].as_str());
    Medium::Whole {
        imprint,
        device: stamp["device"].as_str().map(str::to_owned),
        base: base.unwrap_or("").to_owned(),
    }
}

/// A file on the first partition of a card, which begins with a block, read with mtools; empty where there is none.
fn file_on(card: &Path, start: u32, path: &str) -> Vec<u8> {
    let image = format!("{}@@{}", card.display(), u64::from(start) * 512);
    let out = Command::new("mtype")
        .args(["-i", &image, &format!("::/{path}")])
        .env("MTOOLS_SKIP_CHECK", "1")
        .output();
    out.expect("mtools are installed").stdout
}

/// The passphrase that a card of the release was written with.
pub(super) fn passphrase_on(card: &Path) -> Option<String> {
    let mut head = [0; 512];
    std::fs::File::open(card).ok()?.read_exact(&mut head).ok()?;
    let start = u32::from_le_bytes([head[454], head[455], head[456], head[457]]);
    let text = String::from_utf8(file_on(card, start, "quaylink/link.toml")).ok()?;
    let line = text
        .lines()
        .find_map(|line| line.strip_prefix("passphrase = "))?;
    Some(line.trim_matches('"').to_owned())
}
