//! What is inside a release, a backup, or the card in a slot: its files, what two of them differ in, the image itself
//! in open formats.

mod compared;
mod out;
mod sharing;
mod versions;

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use cardwork::{Access, CardDisk, CardError, CardIo};
use imagecraft::compare::Differences;
use imagecraft::fs::{self, FileError, Files, NodeKind};
use imagecraft::{Disk, DiskError, Layout, Map};
use records::Records;
use vault::{Manifest, ManifestDisk, Name};

use crate::backups::is_there;
use crate::catalogue::Catalogue;
use crate::damage;
use crate::in_force::InForce;
use crate::refusal::Refusal;
use crate::slots::Slots;
use crate::store::{Store, manifest_name};
use api::SlotName;

pub use out::{Packing, write_archive, write_image};
pub use sharing::ForSharing;

/// Whose content is asked for.
#[derive(Clone, Copy, Debug)]
pub enum Of<'a> {
    /// Of the release with this name.
    Release(&'a str),
    /// Of the backup with this name.
    Backup(&'a str),
    /// Of the card in the slot with this number.
    Card(SlotName),
    /// Of the release or backup with this name.
    Either(&'a str),
}

/// A content that can be looked into.
#[derive(Clone)]
pub struct Content {
    /// What it is called.
    pub name: String,
    /// Bytes of its image or card.
    pub len: u64,
    from: From,
    /// Text of the sheet, of a release.
    pub sheet: Option<String>,
}

#[derive(Clone)]
enum From {
    Vault(Arc<Store>, Name),
    Card(Arc<dyn CardIo>),
}

/// The bytes of a content. Reading them blocks.
enum Bytes {
    Vault(ManifestDisk),
    Card(Arc<dyn CardIo>),
}

impl Disk for Bytes {
    fn len(&self) -> u64 {
        match self {
            Self::Vault(disk) => disk.len(),
            Self::Card(card) => card.size(),
        }
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        match self {
            Self::Vault(disk) => disk.read_at(offset, buf),
            Self::Card(card) => CardDisk(card.as_ref()).read_at(offset, buf),
        }
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }
}

impl Content {
    fn open(&self) -> Result<Bytes, Refusal> {
        Ok(match &self.from {
            From::Vault(store, name) => Bytes::Vault(store.disk(*name)?),
            From::Card(card) => Bytes::Card(card.clone()),
        })
    }

    /// Its bytes as the vault holds them, and which of them matter.
    ///
    /// # Errors
    /// Of a card, whose bytes nobody promises to stay; what the vault says.
    pub fn kept(&self) -> Result<(ManifestDisk, Map), Refusal> {
        match &self.from {
            From::Vault(store, name) => {
                let disk = store.disk(*name)?;
                let map = disk.manifest().map()?;
                Ok((disk, map))
            }
            From::Card(_) => Err(Refusal::conflict(
                "not-kept",
                format!("{} is not in the vault; take a backup of it", self.name),
            )),
        }
    }

    fn manifest(&self) -> Option<(&Arc<Store>, Name)> {
        match &self.from {
            From::Vault(store, name) => Some((store, *name)),
            From::Card(_) => None,
        }
    }

    /// Does something with the files of one of its partitions. Blocks.
    ///
    /// # Errors
    /// No such partition, a file system that is not read, what `work` says.
    pub fn with_files<T>(
        &self,
        partition: u32,
        work: impl FnOnce(&dyn Files) -> Result<T, FileError>,
    ) -> Result<T, Refusal> {
        let disk = self.open()?;
        let layout = Layout::survey(&disk)
            .map_err(|e| Refusal::invalid("files", format!("{}: {e}", self.name)))?;
        let found = layout.partitions.iter().find(|one| one.number == partition);
        let found = found.ok_or_else(|| {
            Refusal::missing(format!("{} has no partition {partition}", self.name))
        })?;
        let refuse = |error: FileError| {
            let detail = format!("{}, partition {partition}: {error}", self.name);
            match error {
                FileError::Missing(_) => Refusal::missing(detail),
                _ => Refusal::invalid("files", detail),
            }
        };
        let window = found.window(&disk).map_err(|e| refuse(e.into()))?;
        let files = fs::open(window).map_err(refuse)?.ok_or_else(|| {
            let detail = format!(
                "{}, partition {partition}: files of its kind of file system are not read",
                self.name
            );
            Refusal::invalid("files", detail)
        })?;
        work(files.as_ref()).map_err(refuse)
    }

    /// The names in a folder, folders first. Blocks.
    ///
    /// # Errors
    /// As [`Content::with_files`].
    pub fn folder(&self, partition: u32, path: &str) -> Result<Vec<api::FileNode>, Refusal> {
        let mut nodes = self.with_files(partition, |files| files.list(path))?;
        nodes.sort_by(|a, b| {
            (a.kind != NodeKind::Folder, &a.name).cmp(&(b.kind != NodeKind::Folder, &b.name))
        });
        let shown = nodes.into_iter().map(|node| api::FileNode {
            name: node.name,
            kind: match node.kind {
                NodeKind::File => "file",
                NodeKind::Folder => "folder",
                NodeKind::Link => "link",
                NodeKind::Other => "other",
            }
            .into(),
            len: node.len,
            mode: node.mode.map(|mode| format!("{mode:04o}")),
            owner: node.owner.map(|(user, group)| format!("{user}:{group}")),
            modified: node
                .modified
                .and_then(|at| time::OffsetDateTime::from_unix_timestamp(at).ok()),
            target: node.target,
        });
        Ok(shown.collect())
    }
}

/// Comparisons that are kept; what was compared does not change.
const KEPT: usize = 20;

/// What was compared: two contents of the vault, by name.
type Pair = (Name, Name);

/// Looks into contents.
#[derive(Clone)]
pub struct Inside {
    records: Records,
    store: Arc<Store>,
    slots: Arc<Slots>,
    catalogue: Catalogue,
    in_force: InForce,
    comparisons: Arc<Mutex<HashMap<Pair, Arc<Differences>>>>,
}

impl Inside {
    /// Over these records, this vault and these slots.
    pub fn new(
        records: Records,
        store: Arc<Store>,
        slots: Arc<Slots>,
        catalogue: Catalogue,
        in_force: InForce,
    ) -> Self {
        Self {
            records,
            store,
            slots,
            catalogue,
            in_force,
            comparisons: Arc::default(),
        }
    }

    /// The content that is meant.
    ///
    /// # Errors
    /// No such release or backup, one whose content was let go, no card, a card that a job works on.
    pub async fn find(&self, of: Of<'_>) -> Result<Content, Refusal> {
        match of {
            Of::Release(name) => {
                let release = self.records.release(name).await?;
                Ok(Content {
                    from: From::Vault(self.store.clone(), manifest_name(&release.manifest)?),
                    name: release.name,
                    len: release.raw_size as u64,
                    sheet: Some(release.sheet),
                })
            }
            Of::Backup(name) => {
                let backup = self.records.backup(name).await?;
                is_there(&backup)?;
                Ok(Content {
                    from: From::Vault(self.store.clone(), manifest_name(&backup.manifest)?),
                    name: backup.name,
                    len: backup.card_size as u64,
                    sheet: None,
                })
            }
            Of::Card(slot) => self.card(slot).await,
            Of::Either(name) => match Box::pin(self.find(Of::Release(name))).await {
                Err(refusal) if refusal.code == "unknown" => {
                    let found = Box::pin(self.find(Of::Backup(name))).await;
                    found.map_err(|refusal| match refusal.code {
                        "unknown" => {
                            let detail =
                                format!("there is neither a release nor a backup {name:?}");
                            Refusal::missing(detail)
                        }
                        _ => refusal,
                    })
                }
                found => found,
            },
        }
    }

    /// Refuses a content whose image would end half-way, because pieces of it are missing in the vault.
    ///
    /// # Errors
    /// [`Refusal`] with the code `content-damaged`; what the records say.
    pub async fn refuse_damaged(&self, content: &Content) -> Result<(), Refusal> {
        let Some((store, manifest)) = content.manifest() else {
            return Ok(());
        };
        let what = match content.sheet {
            Some(_) => "release",
            None => "backup",
        };
        let (vault, name) = (&store.vault, content.name.as_str());
        let safe = "Nothing was sent";
        damage::refuse_damaged(&self.records, vault, what, name, manifest, safe).await
    }

    /// The card in a slot, to look at beside whoever else does.
    async fn card(&self, slot: SlotName) -> Result<Content, Refusal> {
        let inserted = self.slots.card_in(slot).await?;
        // What is being written is neither this nor that.
        drop(self.slots.reserve(slot)?);
        let (bench, insertion) = (self.slots.benches().clone(), inserted.medium.insertion);
        let opened = tokio::task::spawn_blocking(move || {
            let slot = bench.slot(slot)?.ok_or(CardError::Empty)?;
            slot.open(&insertion, Access::Look)
        });
        let card = opened
            .await
            .map_err(|e| Refusal::invalid("card-failed", e.to_string()))??;
        let label = inserted.found.label.as_deref().unwrap_or("without a label");
        Ok(Content {
            name: format!("card {label} in slot {slot}"),
            len: card.size(),
            from: From::Card(Arc::from(card)),
            sheet: None,
        })
    }
}

/// A content of the vault by itself, relied upon by nobody.
fn load(store: &Store, name: Name) -> Result<Manifest, Refusal> {
    Ok(Manifest::load(&store.vault, name)?)
}
