//! What a computer uses its disks for: file systems that are mounted (proc(5), `mountinfo`), swap
//! (`swaps`), and devices that lie on others (`holders` in sysfs: device mapper, RAID). A use in another
//! mount namespace shows only when a disk is held for work: then the kernel refuses.

use std::fs;
use std::path::{Path, PathBuf};

/// What is in use on a computer, at one moment.
pub struct Usage {
    /// Number of the device, its name, where it is mounted.
    mounts: Vec<(String, String, String)>,
    /// Paths of swap areas.
    swaps: Vec<PathBuf>,
}

impl Usage {
    /// Reads it from a `/proc`.
    pub fn read(proc: &Path) -> std::io::Result<Self> {
        let mounts = fs::read_to_string(proc.join("self/mountinfo"))?;
        // There is no such file where a kernel has no swap.
        let swaps = fs::read_to_string(proc.join("swaps")).unwrap_or_default();
        Ok(Self {
            mounts: mounts.lines().filter_map(mount).collect(),
            swaps: swaps
                .lines()
                .skip(1)
                .filter_map(|line| Some(unescape(line.split(' ').next()?).into()))
                .collect(),
        })
    }

    /// What the disk in this folder of sysfs is used for, itself or one of its partitions.
    pub fn of(&self, disk: &Path) -> Option<String> {
        let mut uses = Vec::new();
        for device in devices_of(disk) {
            self.of_device(&device, &mut uses);
        }
        uses.dedup();
        (!uses.is_empty()).then(|| uses.join(", "))
    }

    /// Where file systems of the disk in this folder of sysfs are mounted, the innermost last.
    pub fn mounts_of(&self, disk: &Path) -> Vec<PathBuf> {
        let mut places = Vec::new();
        for device in devices_of(disk) {
            places.extend(self.mounts_of_device(&device).map(PathBuf::from));
        }
        places
    }

    fn mounts_of_device(&self, device: &Path) -> impl Iterator<Item = &str> {
        let number = fs::read_to_string(device.join("dev")).unwrap_or_default();
        let node = node_of(device);
        // A file system that spans disks has a number of its own, and is known by the name.
        let of_it = move |(at, source, _): &&(String, String, String)| {
            *at == number.trim() || *source == node
        };
        self.mounts
            .iter()
            .filter(of_it)
            .map(|(_, _, place)| place.as_str())
    }

    fn of_device(&self, device: &Path, uses: &mut Vec<String>) {
        uses.extend(self.mounts_of_device(device).map(|place| match place {
            "/" => "this computer runs from it".into(),
            place => format!("mounted at {place}"),
        }));
        let node = node_of(device);
        if self
            .swaps
            .iter()
            .any(|swap| swap.as_os_str() == node.as_str())
        {
            uses.push("swap".into());
        }
        for holder in fs::read_dir(device.join("holders"))
            .into_iter()
            .flatten()
            .flatten()
        {
            uses.push(format!("part of {}", holder.file_name().to_string_lossy()));
        }
    }
}

/// A disk and its partitions.
fn devices_of(disk: &Path) -> Vec<PathBuf> {
    let inside = fs::read_dir(disk).into_iter().flatten().flatten();
    let partitions = inside
        .map(|entry| entry.path())
        .filter(|path| path.join("partition").exists());
    std::iter::once(disk.to_owned()).chain(partitions).collect()
}

fn node_of(device: &Path) -> String {
    let name = device.file_name().unwrap_or_default();
    format!("/dev/{}", name.to_string_lossy())
}

/// `36 35 98:0 / /mnt rw - ext4 /dev/sda1 rw`: device number, source, place.
fn mount(line: &str) -> Option<(String, String, String)> {
    let (front, back) = line.split_once(" - ")?;
    let mut front = front.split(' ').skip(2);
    let number = front.next()?.to_owned();
    let place = unescape(front.nth(1)?);
    let source = unescape(back.split(' ').nth(1)?);
    Some((number, source, place))
}

/// The kernel writes blanks in names as `\040`.
fn unescape(text: &str) -> String {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, more)) = rest.split_first() {
        let octal = more.get(..3).filter(|_| *first == b'\\');
        let octal = octal.and_then(|digits| std::str::from_utf8(digits).ok());
        match octal.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(byte) => {
                bytes.push(byte);
                rest = &more[3..];
            }
            None => {
                bytes.push(*first);
                rest = more;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mounts_are_read_with_blanks_and_odd_names() {
        let line = r"36 35 8:17 / /media/my\040card rw,noatime shared:1 - vfat /dev/sdb1 rw";
        let mount = mount(line).unwrap();
        assert_eq!(mount.0, "8:17");
        assert_eq!(mount.1, "/dev/sdb1");
        assert_eq!(mount.2, "/media/my card");
        assert_eq!(super::mount("nonsense"), None);
        assert_eq!(unescape(r"end\04"), r"end\04");
    }
}
