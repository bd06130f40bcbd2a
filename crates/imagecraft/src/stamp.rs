//! The small readable file that lets a card say what it is.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

use crate::compose::root;
use crate::fs::fat;
use crate::fs::name::shown;
use crate::{Disk, Layout};

/// Where the stamp lies: on the first FAT partition, or where there is none, on the root.
pub const STAMP_PATH: &str = "duplicarium-stamp.json";
/// No stamp is longer, in bytes.
const MOST_STAMP: usize = 64 * 1024;

/// What a card holds and whose it is. No secrets.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stamp {
    /// Version of this format: 1.
    pub format: u32,
    /// Label of the card, such as `C-0042`.
    pub card: String,
    /// Number of the imprint in the records.
    pub imprint: i64,
    /// What was written.
    pub base: StampBase,
    /// Name of the device it was made for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// When the imprint was made.
    #[serde(with = "time::serde::rfc3339")]
    pub made: OffsetDateTime,
    /// A word with which a board may say once that it came up with this card.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hello: Option<String>,
}

/// What a card was made from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StampBase {
    /// A release, by its name in the catalogue.
    Release(String),
    /// A backup, by its name.
    Backup(String),
}

impl Stamp {
    /// The stamp as the bytes of its file.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = serde_json::to_vec_pretty(self).expect("a stamp has only plain fields");
        bytes.push(b'\n');
        bytes
    }

    /// Looks for a stamp on a disk. A disk that cannot be understood has none.
    pub fn find<D: Disk + ?Sized>(disk: &D, layout: &Layout) -> Option<Self> {
        let bytes = match layout.boot() {
            Some(boot) => fat::read_file(&boot.window(disk).ok()?, STAMP_PATH).ok()??,
            None => {
                let window = root(disk, layout)?.window(disk).ok()?;
                let files = crate::fs::open(window).ok()??;
                files.read_head(STAMP_PATH, MOST_STAMP).ok()?
            }
        };
        Self::read(&bytes)
    }

    /// The stamp in the bytes of its file, or of a page that shows it; names in it are foreign text, and are as they are shown.
    pub fn read(bytes: &[u8]) -> Option<Self> {
        let stamp: Self = serde_json::from_slice(bytes).ok()?;
        let base = match &stamp.base {
            StampBase::Release(name) => StampBase::Release(shown(name)),
            StampBase::Backup(name) => StampBase::Backup(shown(name)),
        };
        (stamp.format == 1).then(|| Self {
            card: shown(&stamp.card),
            device: stamp.device.as_deref().map(shown),
            base,
            ..stamp
        })
    }
}
