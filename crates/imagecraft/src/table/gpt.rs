//! The GUID partition table (UEFI specification, 5.3): a header in sector 1 and a copy of it in
//! the last sector, each with a CRC-32 and an array of entries.

use crate::number::{le32, le64, split, times};
use crate::{Disk, DiskError, SECTOR};

/// Sector sizes that a table can be made for, in bytes.
pub const SECTOR_SIZES: [u64; 2] = [512, 4096];

const SIGNATURE: &[u8; 8] = b"EFI PART";
/// The largest entry array that is accepted, in bytes; the standard's usual one is 16 KiB.
const MOST_ENTRY_BYTES: u64 = 1 << 20;

/// One partition entry in use.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Position in the array, from 1.
    pub number: u32,
    /// Partition type GUID as text.
    pub kind: String,
    /// Unique GUID as text.
    pub uuid: String,
    /// Name.
    pub name: String,
    /// First byte on the disk.
    pub start: u64,
    /// Length in bytes.
    pub len: u64,
}

/// A table whose header and entries have passed their checksums.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gpt {
    header: Vec<u8>,
    array: Vec<u8>,
    /// The sector size it was made for, in bytes.
    pub sector: u64,
    /// The disk's GUID as text.
    pub uuid: String,
    /// The entries in use.
    pub entries: Vec<Entry>,
}

/// Why a GUID partition table could not be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum GptError {
    /// A header does not begin with the signature.
    #[error("the GPT header in sector {0} has no signature")]
    NoSignature(u64),
    /// A field of a header cannot be.
    #[error("the GPT header in sector {sector} has an impossible {field}")]
    Field {
        /// Where the header lies.
        sector: u64,
        /// The field's name in the specification.
        field: &'static str,
    },
    /// A checksum does not match.
    #[error("the checksum of the GPT {what} of sector {sector} does not match")]
    Checksum {
        /// Where the header lies.
        sector: u64,
        /// Header or entries.
        what: &'static str,
    },
    /// The disk ends before the table does.
    #[error("the disk is too small to hold its GPT")]
    NoRoom,
    /// A partition begins or ends between two blocks.
    #[error("partition {number} does not begin and end on borders of {block} bytes")]
    Border {
        /// Number of the partition.
        number: u32,
        /// The sector size that was wanted, in bytes.
        block: u64,
    },
    /// What lies in front of the first partition would be overwritten by a table of larger sectors.
    #[error("{0} lies where a table of larger sectors would stand")]
    Front(&'static str),
    /// The disk could not be read.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// Whether the first bytes of a disk announce a table, with a protective record or without.
pub fn is_announced(head: &[u8]) -> bool {
    SECTOR_SIZES.iter().any(|at| {
        head.get(*at as usize..)
            .is_some_and(|rest| rest.starts_with(SIGNATURE))
    })
}

/// Reads the table whose header lies in `sector`, on a disk with sectors of `size` bytes.
pub fn read<D: Disk + ?Sized>(disk: &D, size: u64, sector: u64) -> Result<Gpt, GptError> {
    let field = |field| GptError::Field { sector, field };
    let at = sector.checked_mul(size).ok_or(GptError::NoRoom)?;
    let mut header = disk.read_vec(at, SECTOR as usize)?;
    if &header[..8] != SIGNATURE {
        return Err(GptError::NoSignature(sector));
    }
    let header_len = le32(&header, 12).unwrap_or(0) as usize;
    if !(92..=SECTOR as usize).contains(&header_len) {
        return Err(field("HeaderSize"));
    }
    header.truncate(header_len);
    if crc_of_header(&header) != le32(&header, 16).unwrap_or(0) {
        return Err(GptError::Checksum {
            sector,
            what: "header",
        });
    }
    if le64(&header, 24) != Some(sector) {
        return Err(field("MyLBA"));
    }
    let entry_len = u64::from(le32(&header, 84).unwrap_or(0));
    let bytes = u64::from(le32(&header, 80).unwrap_or(0)).saturating_mul(entry_len);
    if entry_len < 128 || !entry_len.is_power_of_two() {
        return Err(field("SizeOfPartitionEntry"));
    }
    if bytes == 0 || bytes > MOST_ENTRY_BYTES {
        return Err(field("NumberOfPartitionEntries"));
    }
    let array_at = le64(&header, 72)
        .and_then(|lba| lba.checked_mul(size))
        .ok_or_else(|| field("PartitionEntryLBA"))?;
    let array = disk.read_vec(array_at, bytes as usize)?;
    if crc32fast::hash(&array) != le32(&header, 88).unwrap_or(0) {
        return Err(GptError::Checksum {
            sector,
            what: "entries",
        });
    }
    let mut entries = Vec::new();
    for (number, raw) in (1..).zip(array.chunks_exact(entry_len as usize)) {
        if raw[..16].iter().all(|byte| *byte == 0) {
            continue;
        }
        let range = |at| le64(raw, at).and_then(|lba| lba.checked_mul(size));
        let start = range(32).ok_or_else(|| field("StartingLBA"))?;
        let end = range(40)
            .and_then(|last| last.checked_add(size))
            .ok_or_else(|| field("EndingLBA"))?;
        let len = end
            .checked_sub(start)
            .filter(|len| *len > 0)
            .ok_or_else(|| field("EndingLBA"))?;
        let name: Vec<u16> = raw[56..128]
            .chunks_exact(2)
            .map(|pair| u16::from_le_bytes([pair[0], pair[1]]))
            .take_while(|unit| *unit != 0)
            .collect();
        entries.push(Entry {
            number,
            kind: guid_text(&raw[..16]),
            uuid: guid_text(&raw[16..32]),
            name: crate::fs::name::shown(&String::from_utf16_lossy(&name)),
            start,
            len,
        });
    }
    Ok(Gpt {
        uuid: guid_text(&header[56..72]),
        header,
        array,
        sector: size,
        entries,
    })
}

impl Gpt {
    /// Bytes that the backup entries and the backup header take at the disk's end.
    pub fn backup_len(&self) -> u64 {
        (self.array.len() as u64)
            .next_multiple_of(self.sector)
            .saturating_add(self.sector)
    }

    /// First byte of the other copy's header, as this copy says.
    pub fn other_at(&self) -> Option<u64> {
        le64(&self.header, 32)?.checked_mul(self.sector)
    }

    /// Whether both copies describe the same disk and partitions.
    pub fn agrees_with(&self, other: &Self) -> bool {
        self.uuid == other.uuid && self.array == other.array
    }

    /// The same table with the partition of this number ending at byte `end`, to be fitted to a
    /// disk; `None` if it has no such partition.
    pub fn with_end(&self, number: u32, end: u64) -> Option<Self> {
        let mut moved = self.clone();
        let entry = moved
            .entries
            .iter_mut()
            .find(|entry| entry.number == number)?;
        entry.len = end.checked_sub(entry.start)?;
        let entry_len = le32(&self.header, 84)? as usize;
        let at = (number as usize).checked_sub(1)?.checked_mul(entry_len)?;
        let last = times(end, self.sector).checked_sub(1)?;
        moved
            .array
            .get_mut(at..)?
            .get_mut(40..48)?
            .copy_from_slice(&last.to_le_bytes());
        let crc = crc32fast::hash(&moved.array);
        moved.header[88..92].copy_from_slice(&crc.to_le_bytes());
        Some(moved)
    }

    /// The first byte behind the first copy, with its entries right behind its header.
    fn front_len(&self) -> u64 {
        let array = (self.array.len() as u64).next_multiple_of(self.sector);
        array.saturating_add(self.sector.saturating_mul(2))
    }

    /// The same partitions in a table of sectors of `block` bytes, to be fitted to a disk.
    pub fn recounted(&self, block: u64) -> Result<Self, GptError> {
        let mut table = Self {
            sector: block,
            ..self.clone()
        };
        let entry_len = le32(&self.header, 84).unwrap_or(0) as usize;
        let front = table.front_len();
        for entry in &self.entries {
            let number = entry.number;
            let border = GptError::Border { number, block };
            let ((first, before), (behind, rest)) = (
                split(entry.start, block),
                split(entry.start.saturating_add(entry.len), block),
            );
            if before != 0 || rest != 0 {
                return Err(border);
            }
            if entry.start < front {
                return Err(GptError::Front("a partition"));
            }
            let at = (number as usize)
                .saturating_sub(1)
                .saturating_mul(entry_len);
            let Some(raw) = table
                .array
                .get_mut(at.saturating_add(32)..at.saturating_add(48))
            else {
                return Err(border);
            };
            raw[..8].copy_from_slice(&first.to_le_bytes());
            raw[8..].copy_from_slice(&behind.saturating_sub(1).to_le_bytes());
        }
        let first_usable = times(front, block);
        for (at, value) in [(24, 1), (40, first_usable), (72, 2)] {
            table.header[at..][..8].copy_from_slice(&u64::to_le_bytes(value));
        }
        let crc = crc32fast::hash(&table.array);
        table.header[88..92].copy_from_slice(&crc.to_le_bytes());
        Ok(table)
    }

    /// Makes room in front of the first partition for a table in place of `former`: what that had there goes; anything else is
    /// refused, such as the first stage of a boot loader.
    pub fn clear_front<D: Disk + ?Sized>(
        &self,
        disk: &mut D,
        former: &Self,
    ) -> Result<(), GptError> {
        let own = [
            (former.sector, former.sector),
            (
                le64(&former.header, 72)
                    .filter(|_| le64(&former.header, 24) == Some(1))
                    .unwrap_or(2)
                    .saturating_mul(former.sector),
                former.array.len() as u64,
            ),
        ];
        let len = self.front_len().max(former.front_len());
        let len = self
            .entries
            .iter()
            .map(|entry| entry.start)
            .fold(len, u64::min);
        let mut front = disk.read_vec(0, len as usize)?;
        for (at, len) in own {
            let from = (at as usize).min(front.len());
            let to = (at.saturating_add(len) as usize).min(front.len());
            front[from..to].fill(0);
        }
        let stays = (self.front_len() as usize).min(front.len());
        if front[SECTOR as usize..stays].iter().any(|byte| *byte != 0) {
            return Err(GptError::Front("a boot loader, or something else,"));
        }
        Ok(disk.write_at(SECTOR, &front[SECTOR as usize..])?)
    }

    /// Writes both copies of the table so that they fit a disk of this length: the backup at its
    /// very end, the usable range up to there. Entries, GUIDs and the place of the primary
    /// entries stay; the protective record in sector 0 is stretched over the disk.
    pub fn fit<D: Disk + ?Sized>(&self, disk: &mut D) -> Result<(), GptError> {
        let size = self.sector;
        let sectors = times(disk.len(), size);
        let backup_at = sectors
            .saturating_mul(size)
            .checked_sub(self.backup_len())
            .ok_or(GptError::NoRoom)?;
        if self
            .entries
            .iter()
            .any(|entry| entry.start.saturating_add(entry.len) > backup_at)
        {
            return Err(GptError::NoRoom);
        }
        let backup_sector = times(backup_at, size);
        let last = sectors.saturating_sub(1);
        // The header that was read may be the backup copy, whose entries lie behind the partitions.
        let primary_array = match le64(&self.header, 24) {
            Some(1) => le64(&self.header, 72).unwrap_or(2),
            _ => 2,
        };
        let copy = |own: u64, other: u64, array: u64| {
            let mut header = self.header.clone();
            header[24..32].copy_from_slice(&own.to_le_bytes());
            header[32..40].copy_from_slice(&other.to_le_bytes());
            header[48..56].copy_from_slice(&backup_sector.saturating_sub(1).to_le_bytes());
            header[72..80].copy_from_slice(&array.to_le_bytes());
            let crc = crc_of_header(&header);
            header[16..20].copy_from_slice(&crc.to_le_bytes());
            header.resize(size as usize, 0);
            header
        };
        disk.write_at(size, &copy(1, last, primary_array))?;
        disk.write_at(primary_array.saturating_mul(size), &self.array)?;
        disk.write_at(backup_at, &self.array)?;
        disk.write_at(last.saturating_mul(size), &copy(last, 1, backup_sector))?;
        stretch_protective(disk, sectors)
    }
}

/// A protective entry spans the disk from sector 1, as far as 32 bits can say. A hybrid record,
/// which has other entries too, is left alone.
fn stretch_protective<D: Disk + ?Sized>(disk: &mut D, sectors: u64) -> Result<(), GptError> {
    let mut sector = disk.read_vec(0, SECTOR as usize)?;
    let only_protective = super::mbr::parse(&sector, SECTOR)
        .is_some_and(|mbr| mbr.entries.len() == 1 && mbr.entries[0].kind == super::mbr::PROTECTIVE);
    if only_protective {
        let used = sector[446..510]
            .chunks_exact(16)
            .position(|raw| raw[4] != 0);
        let at = used.unwrap_or(0).saturating_mul(16).saturating_add(446);
        let len = u32::try_from(sectors.saturating_sub(1)).unwrap_or(u32::MAX);
        sector[at..][12..16].copy_from_slice(&len.to_le_bytes());
        disk.write_at(0, &sector)?;
    }
    Ok(())
}

/// CRC-32 of a header with its own checksum field taken as zero.
fn crc_of_header(header: &[u8]) -> u32 {
    let mut hasher = crc32fast::Hasher::new();
    hasher.update(&header[..16]);
    hasher.update(&[0; 4]);
    hasher.update(&header[20..]);
    hasher.finalize()
}

/// A GUID as text: its first three fields are little-endian on the disk.
fn guid_text(raw: &[u8]) -> String {
    raw.first_chunk().map_or_else(String::new, |bytes| {
        uuid::Uuid::from_bytes_le(*bytes).to_string()
    })
}

/// The trade's name of a partition type GUID.
pub fn type_name(kind: &str) -> &'static str {
    match kind {
        "c12a7328-f81f-11d2-ba4b-00a0c93ec93b" => "EFI system",
        "0fc63daf-8483-4772-8e79-3d69d8477de4" => "Linux",
        "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7" => "basic data",
        "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f" => "Linux swap",
        "21686148-6449-6e6f-744e-656564454649" => "BIOS boot",
        "e6d6d379-f507-44c2-a23c-238f2a3df928" => "Linux LVM",
        "a19d880f-05fc-4d3b-a006-743f0f84911e" => "Linux RAID",
        "bc13c2ff-59e6-4262-a352-b275fd6f7172" => "Linux extended boot",
        "4f68bce3-e8cd-4db1-96e7-fbcaf984b709" => "Linux root (x86-64)",
        "69dad710-2ce4-4e3c-b16c-21a1d49abed3" => "Linux root (ARM)",
        "b921b045-1df0-41c3-af44-4c6f280d3fae" => "Linux root (ARM64)",
        "933ac7e1-2eb4-4f13-b844-0e14e2aef915" => "Linux home",
        _ => "other",
    }
}
