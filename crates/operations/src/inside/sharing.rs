//! A backup made ready to be handed to somebody else: without the secrets of its device, without private keys, and
//! with a list of what was taken out and of what cannot be known.
//!
//! Three nets, each under the other: files that a placement put secrets into become what they look like with the
//! secrets masked; every other file is searched for the secrets themselves and for private keys; and the image is
//! searched once more while it goes out, so that it breaks off before a secret that all that did not find.

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::io::{self, Write};

use imagecraft::compose::{Change, PlacedFile, Recipe, Target, compose};
use imagecraft::fs::{self, FileError, NodeKind, walk};
use imagecraft::{Disk, DiskError, Layout, Map, Overlay, Partition, STAMP_PATH};
use memchr::memmem::Finder;
use settings::MASK;
use vault::ManifestDisk;

use super::out::write_packed;
use super::{Content, Inside, Of, Packing};
use crate::refusal::Refusal;

/// What stands in place of a secret in a file that was laid out.
const REMOVED: &str = "removed";
/// Secrets shorter than this are too likely to stand somewhere by chance, in bytes.
const SHORTEST: usize = 8;
/// The largest file in which a secret is blanked; a larger one goes as a whole, in bytes.
const MOST_BLANKED: u64 = 16 << 20;
/// How far into a file the head of a private key is looked for, in bytes.
const KEY_HEAD: usize = 128;
/// Files that tell one machine from another, by path on its root.
const IDENTITY: [&str; 3] = [
    "/etc/machine-id",
    "/var/lib/dbus/machine-id",
    "/var/lib/systemd/random-seed",
];
/// Backups that were restored one from the other are followed so far back.
const MOST_ANCESTORS: usize = 20;

/// A backup without what nobody else shall have.
pub struct ForSharing {
    name: String,
    disk: Clean,
    secrets: Vec<String>,
    /// What was taken out, and what cannot be known.
    pub report: api::Shared,
}

/// What is known of the secrets on a card.
struct Known {
    /// Files that were laid out onto it, secrets masked.
    files: Vec<api::PlannedFile>,
    secrets: Vec<String>,
    unknown: Vec<String>,
}

impl Inside {
    /// Takes the secrets and keys of its device out of a backup; nothing in the vault changes.
    ///
    /// # Errors
    /// No such backup, one whose files cannot be changed.
    pub async fn for_sharing(&self, backup: &str) -> Result<ForSharing, Refusal> {
        let content = self.find(Of::Backup(backup)).await?;
        let known = self.known_secrets(&content.name).await?;
        let made = tokio::task::spawn_blocking(move || take_out(&content, known));
        made.await
            .map_err(|e| Refusal::invalid("files", e.to_string()))?
    }

    async fn known_secrets(&self, name: &str) -> Result<Known, Refusal> {
        let backup = self.records.backup(name).await?;
        let mut known = Known {
            files: Vec::new(),
            secrets: Vec::new(),
            unknown: vec![
                "What people and programs wrote by themselves (histories of shells, accounts, databases, logs) is known \
                 to nobody here; look through it before you hand it on."
                    .into(),
            ],
        };
        let mut at = backup.imprint_id;
        let mut release = None;
        let mut settings = None;
        for _ in 0..MOST_ANCESTORS {
            let Some(id) = at else { break };
            let Some(imprint) = self.records.imprint(id).await? else {
                break;
            };
            let files: Vec<api::PlannedFile> =
                serde_json::from_value(imprint.files).unwrap_or_default();
            known.files.extend(files);
            if settings.is_none() && imprint.settings_known {
                settings = Some(imprint.settings);
            }
            release = match release {
                None => self.records.origin_release(id).await?,
                found => found,
            };
            at = match imprint.from_backup {
                true => self.records.backup(&imprint.base).await?.imprint_id,
                false => None,
            };
        }
        let carried: Vec<api::Setting> = settings
            .and_then(|settings| serde_json::from_value(settings).ok())
            .unwrap_or_default();
        let Some(release) = release else {
            known.unknown.push(
                "Which settings its card was made with is not recorded, so that only private keys were looked for.".into(),
            );
            return Ok(known);
        };
        let now = match &backup.device {
            Some(device) => self.secrets_now(device, &release, &mut known).await?,
            None => Vec::new(),
        };
        for one in carried.iter().filter(|one| one.secret) {
            let same = now
                .iter()
                .any(|other| other.name == one.name && other.value == one.value);
            if one.value.is_some() && !same {
                known.unknown.push(format!(
                    "{} has another value now than on its card: it was taken out of the files that it was put into, and \
                     copies elsewhere could not be looked for.",
                    one.label
                ));
            }
        }
        Ok(known)
    }

    /// The secrets that count on a device now, and what stands for them in records.
    async fn secrets_now(
        &self,
        device: &str,
        release: &str,
        known: &mut Known,
    ) -> Result<Vec<api::Setting>, Refusal> {
        let device = self.records.device(device).await?;
        let shelf = self.catalogue.shelf().await?;
        let sheet = shelf.sheet(&self.records.release(release).await?)?;
        let team = self.in_force.team(&[device.id]).await?;
        let counted = self.in_force.count(&team, &device, &sheet).await?;
        let found = RefCell::new(BTreeSet::new());
        for value in &counted.values {
            value.shown(&|secret| {
                found.borrow_mut().insert(secret.to_owned());
                String::new()
            });
        }
        let (long, short): (Vec<_>, Vec<_>) = found
            .into_inner()
            .into_iter()
            .partition(|secret| secret.len() >= SHORTEST);
        if !short.is_empty() {
            known.unknown.push(format!(
                "{} of its secrets are shorter than {SHORTEST} characters: they were taken out of the files that they were \
                 put into, and could not be looked for elsewhere.",
                short.len()
            ));
        }
        known.secrets = long;
        Ok(crate::in_force::recorded_settings(
            &self.store.keys,
            &counted.fields,
            &counted.values,
        ))
    }
}

/// Does it. Blocks.
fn take_out(content: &Content, known: Known) -> Result<ForSharing, Refusal> {
    let (disk, map) = content.kept()?;
    let layout = Layout::survey(&disk)
        .map_err(|e| Refusal::invalid("files", format!("{}: {e}", content.name)))?;
    let mut report = api::Shared {
        backup: content.name.clone(),
        removed: Vec::new(),
        unknown: known.unknown,
    };
    let mut files = Vec::new();
    laid_out(&disk, &layout, &known.files, &mut files, &mut report);
    let handled: BTreeSet<(u32, String)> = files
        .iter()
        .filter_map(|file: &PlacedFile| {
            let partition = file.target.find(&disk, &layout)?;
            Some((partition.number, file.path.clone()))
        })
        .collect();
    for partition in &layout.partitions {
        let found = search(
            &disk,
            partition,
            &known.secrets,
            &handled,
            &mut files,
            &mut report,
        );
        if let Err(e) = found {
            report.unknown.push(format!(
                "{} could not be looked through: {e}.",
                partition.title()
            ));
        } else if !partition.is_ext() && !partition.is_fat() {
            report.unknown.push(format!(
                "{} holds {}, which is not looked into.",
                partition.title(),
                partition.holds()
            ));
        }
    }
    let recipe = Recipe {
        files,
        ..Recipe::default()
    };
    let composed = compose(disk, &map, content.len.max(layout.smallest_card()), &recipe)?;
    let mut disk = composed.disk;
    for partition in composed.layout.partitions.iter().filter(|one| one.is_ext()) {
        let window = partition
            .window(&mut disk)
            .map_err(|e| Refusal::invalid("files", e.to_string()))?;
        fs::ext::clear_journal(window)
            .map_err(|e| Refusal::invalid("files", format!("{}: {e}", content.name)))?;
    }
    // What the files gave up is free now, and reads as zero.
    let now = composed
        .layout
        .map(&disk)
        .map_err(|e| Refusal::invalid("files", e.to_string()))?;
    Ok(ForSharing {
        name: format!("{} for sharing", content.name),
        disk: Clean { disk, now },
        secrets: known.secrets,
        report,
    })
}

/// Files that a placement put secrets into become what they look like with the secrets masked.
fn laid_out(
    disk: &ManifestDisk,
    layout: &Layout,
    known: &[api::PlannedFile],
    files: &mut Vec<PlacedFile>,
    report: &mut api::Shared,
) {
    let there = |target: &Target, path: &str| {
        let partition = target.find(disk, layout)?;
        let opened = fs::open(partition.window(disk).ok()?).ok()??;
        let node = opened.find(path).ok()??;
        (node.kind == NodeKind::File).then_some(partition.number)
    };
    let mut add = |target: Target, path: &str, change: Change, why: &str| {
        let Some(number) = there(&target, path) else {
            return;
        };
        let known = |file: &PlacedFile| file.path == path && file.target == target;
        if files.iter().any(known) {
            return;
        }
        report.removed.push(api::TakenOut {
            partition: number,
            path: path.into(),
            why: why.into(),
        });
        files.push(PlacedFile {
            target,
            path: path.into(),
            change,
            attributes: Default::default(),
        });
    };
    for file in known.iter().filter(|file| file.content.contains(MASK)) {
        let clean = file.content.replace(MASK, REMOVED);
        // As a walk through the partition gives it.
        let path = format!("/{}", file.path.trim_start_matches('/'));
        add(
            Target::named(&file.partition),
            &path,
            Change::File(clean.into_bytes()),
            "settings were put into it: it is as it was laid out, without its secrets",
        );
    }
    for target in [Target::Boot, Target::Root] {
        add(
            target,
            &format!("/{STAMP_PATH}"),
            Change::Remove,
            "it says which card and device this was",
        );
    }
    for path in IDENTITY {
        add(
            Target::Root,
            path,
            Change::File(Vec::new()),
            "it tells this machine from others, and is made anew at the first start",
        );
    }
}

/// Looks through the files of a partition for secrets and private keys.
fn search(
    disk: &ManifestDisk,
    partition: &Partition,
    secrets: &[String],
    handled: &BTreeSet<(u32, String)>,
    files: &mut Vec<PlacedFile>,
    report: &mut api::Shared,
) -> Result<(), FileError> {
    let Some(opened) = fs::open(partition.window(disk)?)? else {
        return Ok(());
    };
    let number = partition.number;
    let longest = secrets.iter().map(String::len).max().unwrap_or(0);
    walk(opened.as_ref(), &mut |path, node| {
        if node.kind != NodeKind::File || handled.contains(&(number, path.to_owned())) {
            return Ok(());
        }
        let mut head = Vec::new();
        let mut scan = Scan::new(secrets, longest);
        let mut kept = Vec::new();
        opened.read_node(node, &mut |piece| {
            let missing = KEY_HEAD.saturating_sub(head.len()).min(piece.len());
            head.extend_from_slice(&piece[..missing]);
            scan.look(piece);
            if node.len <= MOST_BLANKED {
                kept.extend_from_slice(piece);
            }
            Ok(())
        })?;
        let (change, why) = if is_private_key(&head) {
            (Change::Remove, "it is a private key".to_owned())
        } else if !scan.found {
            return Ok(());
        } else if node.len <= MOST_BLANKED {
            blank(&mut kept, secrets);
            (
                Change::File(std::mem::take(&mut kept)),
                "secrets of the device stood in it, and are blanked".into(),
            )
        } else {
            (
                Change::Remove,
                format!(
                    "secrets of the device stand in it, and it is larger than {MOST_BLANKED} bytes"
                ),
            )
        };
        report.removed.push(api::TakenOut {
            partition: number,
            path: path.to_owned(),
            why,
        });
        files.push(PlacedFile {
            target: Target::Number(number),
            path: path.to_owned(),
            change,
            attributes: Default::default(),
        });
        Ok(())
    })
}

fn is_private_key(head: &[u8]) -> bool {
    let text = String::from_utf8_lossy(head);
    text.contains("-----BEGIN ") && text.contains("PRIVATE KEY")
}

/// Puts as many letters in place of each secret.
fn blank(bytes: &mut [u8], secrets: &[String]) {
    for secret in secrets {
        let finder = Finder::new(secret.as_bytes());
        let mut at = 0;
        while let Some(found) = finder.find(&bytes[at..]) {
            let from = at + found;
            bytes[from..from + secret.len()].fill(b'x');
            at = from + secret.len();
        }
    }
}

/// Looks for any of some texts in bytes that come piece by piece.
struct Scan<'a> {
    finders: Vec<Finder<'a>>,
    /// The last bytes that were looked at, in which a text may have begun.
    before: Vec<u8>,
    longest: usize,
    found: bool,
}

impl<'a> Scan<'a> {
    fn new(secrets: &'a [String], longest: usize) -> Self {
        Self {
            finders: secrets
                .iter()
                .map(|secret| Finder::new(secret.as_bytes()))
                .collect(),
            before: Vec::new(),
            longest,
            found: false,
        }
    }

    fn look(&mut self, piece: &[u8]) {
        if self.found || self.longest == 0 {
            return;
        }
        let most = self.longest - 1;
        let mut over_border = std::mem::take(&mut self.before);
        over_border.extend_from_slice(&piece[..most.min(piece.len())]);
        self.found = self
            .finders
            .iter()
            .any(|finder| finder.find(&over_border).is_some() || finder.find(piece).is_some());
        let seen = if piece.len() < most {
            &over_border[..]
        } else {
            piece
        };
        self.before = seen[seen.len().saturating_sub(most)..].to_vec();
    }
}

/// The disk without what files gave up.
struct Clean {
    disk: Overlay<ManifestDisk>,
    now: Map,
}

impl Disk for Clean {
    fn len(&self) -> u64 {
        self.disk.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        self.disk.read_at(offset, buf)?;
        self.now.clear_free(offset, buf);
        Ok(())
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }
}

/// Lets nothing through in which a secret stands.
struct Guard<'a, D> {
    disk: &'a D,
    scan: std::sync::Mutex<(u64, Scan<'a>)>,
}

impl<D: Disk> Disk for Guard<'_, D> {
    fn len(&self) -> u64 {
        self.disk.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<(), DiskError> {
        self.disk.read_at(offset, buf)?;
        let mut held = self.scan.lock().unwrap_or_else(|e| e.into_inner());
        let (next, scan) = &mut *held;
        // It is read from its first byte to its last.
        debug_assert_eq!(*next, offset);
        *next = offset + buf.len() as u64;
        scan.look(buf);
        match scan.found {
            false => Ok(()),
            true => Err(io::Error::other(format!(
                "a secret of the device still stands about byte {offset}, where no file lies; it was not given out"
            ))
            .into()),
        }
    }

    fn write_at(&mut self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }
}

impl ForSharing {
    /// Writes it out. Blocks.
    ///
    /// # Errors
    /// A secret that is found in it still, before it goes out; what cannot be read; who takes the bytes.
    pub fn write(&self, packing: Packing, out: &mut dyn Write) -> io::Result<()> {
        let longest = self.secrets.iter().map(String::len).max().unwrap_or(0);
        let guard = Guard {
            disk: &self.disk,
            scan: std::sync::Mutex::new((0, Scan::new(&self.secrets, longest))),
        };
        write_packed(&guard, self.disk.len(), &self.name, packing, out)
    }

    /// Bytes of the image.
    pub fn bytes(&self) -> u64 {
        self.disk.len()
    }

    /// What it is called.
    pub fn name(&self) -> &str {
        &self.name
    }
}

#[cfg(test)]
mod tests {
    use super::{Scan, blank};
    use proptest::prelude::*;

    proptest! {
        /// However the bytes are cut, a text is found where it stands and only there.
        #[test]
        fn a_text_is_found_over_any_border(
            bytes in proptest::collection::vec(b'a'..b'd', 0..200),
            cuts in proptest::collection::vec(1usize..40, 1..20),
            texts in proptest::collection::vec("[a-c]{2,6}", 1..4),
        ) {
            let longest = texts.iter().map(String::len).max().unwrap();
            let mut scan = Scan::new(&texts, longest);
            let mut rest = &bytes[..];
            for cut in cuts.iter().cycle() {
                if rest.is_empty() {
                    break;
                }
                let (piece, later) = rest.split_at((*cut).min(rest.len()));
                scan.look(piece);
                rest = later;
            }
            let text = String::from_utf8(bytes.clone()).unwrap();
            prop_assert_eq!(scan.found, texts.iter().any(|one| text.contains(one.as_str())));
            let mut blanked = bytes;
            blank(&mut blanked, &texts);
            let text = String::from_utf8(blanked).unwrap();
            prop_assert!(!texts.iter().any(|one| text.contains(one.as_str())));
        }
    }
}
