//! A backup about to be taken: of which card, of whose, and what it will come to.

use std::sync::Arc;

use cardwork::{Access, CardDisk, CardError, Medium, Occupant};
use imagecraft::inspect::glance;
use imagecraft::packed::Packer;
use imagecraft::{ByteKind, CHUNK, Disk, DiskError, Map};
use records::Records;
use vault::{Kind, Vault};

use crate::backups::Backups;
use crate::benches::Spot;
use crate::refusal::{Refusal, Why};
use crate::shown;
use crate::slots::{Found, Inserted, Slots};
use crate::store::{Store, manifest_name};
use crate::work::{BackupOrder, remarks_of};
use api::SlotName;
use api::words::size;

/// Places of a card that are read before a backup, to tell how much of it is new to the vault.
const SAMPLES: usize = 96;
/// Likewise of a card at another bench, whose line they come over.
const SAMPLES_AFAR: usize = 24;

/// What is in use on a card.
struct InUse {
    /// Bytes.
    content: u64,
    /// What is noteworthy about its file systems.
    remarks: Vec<String>,
    partitions: Vec<api::Partition>,
    sampled: Sampled,
}

/// What a sample of what is in use showed: chunks, and the bytes that they would take in the vault.
#[derive(Default)]
struct Sampled {
    read: u64,
    known: u64,
    /// Bytes of the chunks that were read.
    bytes: u64,
    /// What those of them take that the vault does not have.
    packed: u64,
    /// Whether that was all that is in use.
    all: bool,
}

impl Sampled {
    /// Bytes that so much content is likely to add to the vault.
    fn expected(&self, content: u64) -> u64 {
        // What is new may lie between the places.
        let packed = match self.all {
            true => self.packed,
            false => self.packed.max(CHUNK / 2),
        };
        match self.bytes {
            0 => 0,
            bytes => (u128::from(packed) * u128::from(content) / u128::from(bytes)) as u64,
        }
    }

    fn words(&self) -> String {
        let new = self.read - self.known;
        match self.all {
            true => format!("{new} of its {} pieces are new to the vault", self.read),
            false => format!(
                "{new} of {} places that were read on it are new to the vault",
                self.read
            ),
        }
    }
}

/// Reads some of the chunks that are in use, spread over the disk, and looks which of them the vault has.
fn sample(disk: &dyn Disk, map: &Map, vault: &Vault, most: usize) -> Result<Sampled, DiskError> {
    let used: Vec<u64> = map
        .chunks()
        .filter(|(_, kind)| *kind == ByteKind::Data)
        .map(|(chunk, _)| chunk)
        .collect();
    let mut sampled = Sampled {
        all: used.len() <= most,
        ..Sampled::default()
    };
    let mut packer = Packer::default();
    let count = used.len().min(most);
    for turn in 0..count {
        // The middle of each of so many equal stretches.
        let chunk = used[(2 * turn + 1) * used.len() / (2 * count)];
        let start = chunk * CHUNK;
        let mut bytes = disk.read_vec(start, CHUNK.min(disk.len() - start) as usize)?;
        map.clear_free(start, &mut bytes);
        sampled.read += 1;
        sampled.bytes += bytes.len() as u64;
        if bytes.iter().all(|byte| *byte == 0) || vault.holds(vault.name(Kind::Chunk, &bytes)) {
            sampled.known += 1;
        } else {
            sampled.packed += packer.pack(&bytes)?.len() as u64;
        }
    }
    Ok(sampled)
}

/// Prepares backups.
#[derive(Clone)]
pub struct Taking {
    records: Records,
    store: Arc<Store>,
    slots: Arc<Slots>,
}

impl Taking {
    /// Of cards in these slots.
    pub fn new(records: Records, store: Arc<Store>, slots: Arc<Slots>) -> Self {
        Self {
            records,
            store,
            slots,
        }
    }

    /// What is read of the card in a slot, and whose it is. A card without a label gets one.
    ///
    /// # Errors
    /// No card, one with nothing whole on it, too little room in the vault.
    pub async fn order(
        &self,
        operator: &str,
        new: &api::NewBackup,
    ) -> Result<BackupOrder, Refusal> {
        let inserted = self.slots.card_in(new.slot).await?;
        whole(&inserted.found, new.slot)?;
        let reason = Backups::reason(&new.reason)?;
        let outlook = self.outlook_of(&inserted, new.slot, false).await?;
        if let Some(why) = outlook.too_much {
            return Err(Refusal::new(Why::NoRoom, "no-room", why));
        }
        let Inserted { at, medium, found } = inserted;
        let label = match &found.label {
            Some(label) => label.clone(),
            None => {
                let edges = &found.bound.edges;
                let given = self.slots.give_label(new.slot, &medium, edges, operator);
                given.await?.label
            }
        };
        let whose = self.whose(&found).await?;
        Ok(BackupOrder {
            at,
            insertion: medium.insertion,
            behind: whose.behind,
            like: self.like(&whose).await?,
            unverified: new.unverified,
            reason,
            imprint: whose.imprint,
            device: whose.device,
            card: label,
        })
    }

    /// What a backup of the card in a slot would come to; nothing is done.
    ///
    /// # Errors
    /// No card, one with nothing whole on it, one that cannot be read.
    pub async fn outlook(&self, slot: SlotName) -> Result<api::BackupOutlook, Refusal> {
        let inserted = self.slots.card_in(slot).await?;
        whole(&inserted.found, slot)?;
        self.outlook_of(&inserted, slot, true).await
    }

    async fn outlook_of(
        &self,
        inserted: &Inserted,
        slot: SlotName,
        always: bool,
    ) -> Result<api::BackupOutlook, Refusal> {
        let found = &inserted.found;
        let whose = self.whose(found).await?;
        let InUse {
            content,
            remarks,
            partitions,
            sampled,
        } = self.in_use(slot, &inserted.medium, always).await?;
        let expected = sampled.expected(content);
        let by = sampled.words();
        let free = self.store.free();
        let seconds = self.seconds(&inserted.at, found, content).await?;
        let too_much = free
            .filter(|free| expected.min(content) > *free)
            .map(|free| {
                format!(
                    "there is no room for a backup of the card in slot {slot}: {} are in use on it, of which about {} are new \
                     to the vault, and {} are free where that lies. Nothing was read; make room there, or let old backups go \
                     (duplicarium backup keep, then duplicarium vault tidy)",
                    size(content),
                    size(expected),
                    size(free)
                )
            });
        Ok(api::BackupOutlook {
            slot,
            card: found.label.clone(),
            device: whose.device,
            content,
            expected: expected.min(content),
            by,
            free,
            seconds,
            remarks,
            partitions,
            too_much,
        })
    }

    /// What is in use on the card in a slot, and how much of a sample of it the vault has. Where that is not asked for
    /// `always`, only if room may be short: a sample costs time, and at another bench its line.
    async fn in_use(
        &self,
        slot: SlotName,
        medium: &Medium,
        always: bool,
    ) -> Result<InUse, Refusal> {
        let free = self.store.free();
        let (bench, insertion) = (self.slots.benches().clone(), medium.insertion.clone());
        let vault = self.store.vault.clone();
        let looked = tokio::task::spawn_blocking(move || {
            let found = bench.slot(slot)?.ok_or(CardError::Empty)?;
            let card = found.open(&insertion, Access::Look)?;
            let disk = CardDisk(card.as_ref());
            let unfit = |why: String| {
                let detail = format!("the card in slot {slot} cannot be backed up: {why}");
                Refusal::invalid("no-layout", detail)
            };
            let seen = glance(&disk).map_err(|e| unfit(e.to_string()))?;
            let content = seen.map.total(ByteKind::Data);
            let most = match card.beside() {
                Some(_) => SAMPLES_AFAR,
                None => SAMPLES,
            };
            let sampled = match always || free.is_some_and(|free| free < content) {
                true => sample(&disk, &seen.map, &vault, most).map_err(|e| unfit(e.to_string()))?,
                false => Sampled::default(),
            };
            Ok::<_, Refusal>(InUse {
                content,
                remarks: remarks_of(&seen.findings),
                partitions: shown::filled_partitions(&seen.partitions),
                sampled,
            })
        });
        looked
            .await
            .map_err(|e| Refusal::invalid("card-failed", e.to_string()))?
    }

    /// How long it takes, in seconds: it is read twice, with the speed that this card or its slot had.
    async fn seconds(
        &self,
        at: &Spot,
        found: &Found,
        content: u64,
    ) -> Result<Option<f64>, Refusal> {
        let own = match &found.label {
            Some(label) => self.records.card(label).await?.read_rate,
            None => None,
        };
        let rate = match own {
            Some(rate) => Some(rate),
            None => {
                self.records
                    .rates_at(&at.place.reader, at.place.unit as i32)
                    .await?
                    .1
            }
        };
        Ok(rate
            .filter(|rate| *rate > 0.0)
            .map(|rate| 2.0 * content as f64 / rate))
    }

    async fn like(&self, whose: &Whose) -> Result<Option<vault::Name>, Refusal> {
        let like = self
            .records
            .content_like(whose.imprint, whose.device.as_deref())
            .await?;
        Ok(like.and_then(|raw| manifest_name(&raw).ok()))
    }

    /// A stamp's word on device and imprint counts if these records know them.
    async fn whose(&self, found: &Found) -> Result<Whose, Refusal> {
        let Occupant::Stamped(stamp) = &found.contents.occupant else {
            return Ok(Whose::default());
        };
        let device = match &stamp.device {
            Some(name) => self.records.device(name).await.ok(),
            None => None,
        };
        let on_it = match &found.label {
            Some(label) => self.records.on_card(label).await?,
            None => None,
        };
        let on_it = on_it.filter(|imprint| stamp.imprint == imprint.id);
        Ok(Whose {
            device: device.map(|device| device.name),
            behind: on_it
                .as_ref()
                .and_then(|imprint| imprint.behind)
                .map(|end| end as u64),
            imprint: on_it.map(|imprint| imprint.id),
        })
    }
}

/// Whose card it is, and what was written onto it.
#[derive(Default)]
struct Whose {
    device: Option<String>,
    imprint: Option<i64>,
    behind: Option<u64>,
}

/// Refuses a card with nothing whole on it.
fn whole(found: &Found, slot: SlotName) -> Result<(), Refusal> {
    let why = match &found.contents.occupant {
        Occupant::Blank | Occupant::Empty(_) => "is blank; there is nothing to back up",
        Occupant::Unfinished(_) => "is incomplete; there is nothing whole to back up",
        Occupant::Foreign if found.contents.layout.is_none() => {
            "has no partition table that is understood; it cannot be backed up"
        }
        Occupant::Foreign | Occupant::Stamped(_) => return Ok(()),
    };
    Err(Refusal::conflict(
        "nothing-to-back-up",
        format!("the card in slot {slot} {why}"),
    ))
}
