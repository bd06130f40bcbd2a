//! The disks of a computer, as sysfs describes them (kernel documentation, `ABI/stable/sysfs-block`).

use std::fs;
use std::path::{Path, PathBuf};

use cardwork::{CardError, Place};
use serde::{Deserialize, Serialize};

use super::Computer;
use super::usage::Usage;

/// Unit of the sizes in sysfs, in bytes, whatever the blocks of the disk.
const SECTOR: u64 = 512;

/// A disk of a computer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Disk {
    /// Name in the kernel, such as `sdb`.
    pub name: String,
    /// Its device file.
    pub node: PathBuf,
    /// Port and unit, where it is at a port that cards come to.
    pub place: Option<Place>,
    /// What its maker calls it: vendor and model.
    pub model: Option<String>,
    /// Serial number of reader or disk.
    pub serial: Option<String>,
    /// Kind of medium in the trade's words.
    pub kind: String,
    /// Size in bytes; 0 where nothing is in.
    pub size: u64,
    /// Least that is read or written, in bytes.
    pub block: u32,
    /// What the medium itself handles as one, in bytes.
    pub physical_block: u32,
    /// Whether the medium can leave its reader.
    pub removable: bool,
    /// Whether it refuses writes.
    pub locked: bool,
    /// Whether it can be told that a range need not be kept.
    pub discards: bool,
    /// What the computer uses it for, if it does.
    pub in_use: Option<String>,
    /// What the medium says of itself that no other says.
    pub identity: Option<String>,
    /// Counts the media of the computer (`diskseq`); none of a kernel before 5.15.
    pub sequence: Option<u64>,
}

/// Everything sysfs has in one small file, without blanks around it.
fn attribute(folder: &Path, name: &str) -> Option<String> {
    let text = fs::read_to_string(folder.join(name)).ok()?;
    let text = text.trim();
    (!text.is_empty()).then(|| text.to_owned())
}

fn number<T: std::str::FromStr>(folder: &Path, name: &str) -> Option<T> {
    attribute(folder, name)?.parse().ok()
}

impl Computer {
    /// All disks but those that are made of memory or of other disks.
    ///
    /// # Errors
    /// [`CardError::Reader`] where sysfs or proc cannot be read.
    pub fn disks(&self) -> Result<Vec<Disk>, CardError> {
        let mut disks = self.disks_where(|place, folder| {
            let made_up = folder
                .components()
                .any(|part| part.as_os_str() == "virtual");
            place.is_some() || !made_up
        })?;
        // A loop device without a file is no disk.
        disks.retain(|disk| !disk.name.starts_with("loop") || disk.size > 0);
        disks.sort_by(|one, two| one.name.cmp(&two.name));
        Ok(disks)
    }

    /// The disks at one port.
    pub(super) fn disks_at(&self, port: &str) -> Result<Vec<Disk>, CardError> {
        self.disks_where(|place, _| place.is_some_and(|place| place.reader == port))
    }

    fn disks_where(
        &self,
        wanted: impl Fn(Option<&Place>, &Path) -> bool,
    ) -> Result<Vec<Disk>, CardError> {
        let folder = self.0.sys.join("block");
        let failed = |e: std::io::Error| CardError::Reader(format!("{}: {e}", folder.display()));
        let mut found = Vec::new();
        for entry in fs::read_dir(&folder).map_err(failed)?.flatten() {
            // One that goes away meanwhile is not there.
            let Ok(path) = fs::canonicalize(entry.path()) else {
                continue;
            };
            let place = place_of(&path);
            if wanted(place.as_ref(), &path) {
                found.push((path, place));
            }
        }
        if found.is_empty() {
            return Ok(Vec::new());
        }
        let usage = Usage::read(&self.0.proc).map_err(failed)?;
        Ok(found
            .into_iter()
            .map(|(path, place)| self.describe(&path, place, &usage))
            .collect())
    }

    fn describe(&self, folder: &Path, place: Option<Place>, usage: &Usage) -> Disk {
        let name = folder.file_name().unwrap_or_default().to_string_lossy();
        let usb = folder
            .ancestors()
            .find(|above| above.join("idVendor").exists());
        let device = folder.join("device");
        let words = |folder: &Path, names: [&str; 2]| {
            let words: Vec<_> = names
                .iter()
                .filter_map(|name| attribute(folder, name))
                .collect();
            (!words.is_empty()).then(|| words.join(" "))
        };
        let model = usb
            .and_then(|usb| words(usb, ["manufacturer", "product"]))
            .or_else(|| words(&device, ["vendor", "model"]))
            .or_else(|| attribute(&device, "name"));
        let serial = usb
            .and_then(|usb| attribute(usb, "serial"))
            .or_else(|| attribute(&device, "serial"));
        let removable = number::<u8>(folder, "removable") == Some(1);
        let queue = folder.join("queue");
        let kind = match (attribute(&device, "type").as_deref(), usb.is_some()) {
            (Some("SD"), _) => "SD card",
            (Some("MMC"), _) => "eMMC",
            (_, true) if removable => "card or stick",
            (_, true) if number::<u8>(&queue, "rotational") == Some(0) => "SSD",
            (_, true) => "USB disk",
            _ if name.starts_with("loop") => "loop device",
            _ => "disk",
        };
        Disk {
            node: self.0.dev.join(name.as_ref()),
            model,
            serial,
            kind: kind.into(),
            size: number::<u64>(folder, "size")
                .unwrap_or(0)
                .saturating_mul(SECTOR),
            block: number(&queue, "logical_block_size").unwrap_or(512),
            physical_block: number(&queue, "physical_block_size").unwrap_or(512),
            removable,
            locked: number::<u8>(folder, "ro") == Some(1),
            discards: number::<u64>(&queue, "discard_max_bytes").unwrap_or(0) > 0,
            in_use: usage.of(folder),
            identity: attribute(&device, "cid"),
            sequence: number(folder, "diskseq"),
            name: name.into_owned(),
            place,
        }
    }

    /// Where file systems of one disk are mounted.
    pub(super) fn mounts_of(&self, name: &str) -> Result<Vec<PathBuf>, CardError> {
        let failed = |e: std::io::Error| CardError::Reader(e.to_string());
        let folder = fs::canonicalize(self.0.sys.join("block").join(name)).map_err(failed)?;
        Ok(Usage::read(&self.0.proc)
            .map_err(failed)?
            .mounts_of(&folder))
    }

    /// What sysfs says of the medium of one disk right now: its sequence and size.
    pub(super) fn medium_now(&self, name: &str) -> Option<(u64, u64)> {
        let folder = self.0.sys.join("block").join(name);
        let sequence = number(&folder, "diskseq")?;
        let size = number::<u64>(&folder, "size")?.saturating_mul(SECTOR);
        Some((sequence, size))
    }
}

/// Where a disk hangs, told from its folder in sysfs, if cards come to such a place: the controller and
/// the chain of ports of a USB reader with the unit in it (`0000:00:14.0/2.3`, 1), the controller of a
/// built-in slot (`fe340000.mmc/card`, 0), a loop device by its name.
fn place_of(folder: &Path) -> Option<Place> {
    let parts: Vec<_> = folder
        .iter()
        .map(|part| part.to_string_lossy().into_owned())
        .collect();
    let name = parts.last()?;
    if name.starts_with("loop") {
        return Some(Place {
            reader: name.clone(),
            unit: 0,
        });
    }
    let bus = parts
        .iter()
        .position(|part| digits_behind(part, "usb").is_some());
    if let Some(bus) = bus.filter(|bus| *bus > 0) {
        // `1-2.3` is what hangs at port 3 of the hub at port 2 of bus 1; `1-2.3:1.0` is a part of it.
        let chain = parts[bus + 1..]
            .iter()
            .take_while(|part| part.starts_with(|c: char| c.is_ascii_digit()))
            .filter(|part| !part.contains(':'))
            .filter_map(|part| part.split_once('-'))
            .last()?
            .1;
        // Host, channel, target and unit of the disk.
        let unit = parts[bus..]
            .iter()
            .filter(|part| part.split(':').count() == 4)
            .find_map(|part| part.rsplit(':').next()?.parse().ok())?;
        return Some(Place {
            reader: format!("{}/{chain}", parts[bus - 1]),
            unit,
        });
    }
    let host = parts.iter().position(|part| part == "mmc_host")?;
    // Parts of one medium that are disks of their own, such as boot areas, are no place for cards.
    let whole = digits_behind(name, "mmcblk").is_some();
    let above = parts[..host].iter().rev();
    let controller: Vec<_> = above.take(2).collect();
    let controller = match controller.as_slice() {
        [] => return None,
        // Under a PCI device there may be several: `0000:02:00.0/rtsx_pci_sdmmc.0`.
        [own, pci] if pci.matches(':').count() == 2 => format!("{pci}/{own}"),
        [own, ..] => (*own).clone(),
    };
    whole.then(|| Place {
        reader: format!("{controller}/card"),
        unit: 0,
    })
}

/// `usb12` and `usb` give 12.
fn digits_behind(text: &str, word: &str) -> Option<u32> {
    text.strip_prefix(word)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn place(path: &str) -> Option<String> {
        place_of(Path::new(path)).map(|place| format!("{} {}", place.reader, place.unit))
    }

    #[test]
    fn places_are_told_from_the_way_to_a_disk() {
        for (path, told) in [
            (
                "/sys/devices/pci0000:00/0000:00:14.0/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb",
                Some("0000:00:14.0/1 0"),
            ),
            (
                "/sys/devices/pci0000:00/0000:00:14.0/usb1/1-2/1-2.3/1-2.3.4/1-2.3.4:1.0/host7/target7:0:0/7:0:0:3/block/sdf",
                Some("0000:00:14.0/2.3.4 3"),
            ),
            (
                "/sys/devices/platform/soc/3f980000.usb/usb1/1-1/1-1.5/1-1.5:1.0/host0/target0:0:0/0:0:0:1/block/sda",
                Some("3f980000.usb/1.5 1"),
            ),
            (
                "/sys/devices/platform/emmc2bus/fe340000.mmc/mmc_host/mmc0/mmc0:aaaa/block/mmcblk0",
                Some("fe340000.mmc/card 0"),
            ),
            (
                "/sys/devices/pci0000:00/0000:00:1c.2/0000:02:00.0/rtsx_pci_sdmmc.0/mmc_host/mmc0/mmc0:0001/block/mmcblk0",
                Some("0000:02:00.0/rtsx_pci_sdmmc.0/card 0"),
            ),
            (
                "/sys/devices/platform/emmc2bus/fe340000.mmc/mmc_host/mmc0/mmc0:0001/block/mmcblk0boot1",
                None,
            ),
            (
                "/sys/devices/pci0000:00/0000:00:17.0/ata1/host0/target0:0:0/0:0:0:0/block/sda",
                None,
            ),
            (
                "/sys/devices/pci0000:00/0000:00:04.0/virtio1/block/vda",
                None,
            ),
            ("/sys/devices/virtual/block/dm-0", None),
            ("/sys/devices/virtual/block/loop3", Some("loop3 0")),
            // A bus without a way to it, and a disk of no unit, are no places.
            ("/usb1/1-1/block/sda", None),
            ("/sys/devices/x/usb1/block/sda", None),
            ("/", None),
        ] {
            assert_eq!(place(path).as_deref(), told, "{path}");
        }
    }
}
