//! A board that boots a card: it finds the partitions itself, reads the files on the boot
//! partition and does what the appliance would do.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;

use bench::wire::{BoardState, Network};
use serde::Deserialize;

/// Lamp patterns and what they mean. They are the same on every model of the stand-in.
const STEADY: (&str, &str) = ("steady", "running");
const DARK: (&str, &str) = (
    "dark",
    "the card has no partition table that the board can start from",
);
const DAMAGED: (&str, &str) = (
    "three short, one long",
    "the software on the card is damaged",
);
const WRONG_BOARD: (&str, &str) = ("two long", "the image on the card is not for this board");

/// What the boot partition says about the appliance.
#[derive(Deserialize)]
struct Appliance {
    name: String,
    version: String,
    boards: Vec<String>,
    kernel_crc32: u32,
}

/// Where a partition lies on the card, in bytes.
struct Extent {
    start: u64,
    len: u64,
}

/// A partition as a stream of its own.
struct Part {
    file: File,
    extent: Extent,
    at: u64,
}

impl Read for Part {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let left = self
            .extent
            .len
            .saturating_sub(self.at)
            .min(buf.len() as u64) as usize;
        self.file
            .seek(SeekFrom::Start(self.extent.start + self.at))?;
        let read = self.file.read(&mut buf[..left])?;
        self.at += read as u64;
        Ok(read)
    }
}

impl Seek for Part {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => at as i64,
            SeekFrom::End(by) => self.extent.len as i64 + by,
            SeekFrom::Current(by) => self.at as i64 + by,
        };
        self.at = u64::try_from(at).map_err(|_| io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

impl io::Write for Part {
    /// The board's own software does not write in this stand-in; only its reader wants the trait.
    fn write(&mut self, data: &[u8]) -> io::Result<usize> {
        Ok(data.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn number<const N: usize>(bytes: &[u8], at: usize) -> u64 {
    let mut wide = [0; 8];
    wide[..N].copy_from_slice(&bytes[at..at + N]);
    u64::from_le_bytes(wide)
}

/// Partitions out of the table, in order.
fn partitions(file: &mut File) -> io::Result<Option<Vec<Extent>>> {
    let mut head = vec![0; 512 * 34];
    file.seek(SeekFrom::Start(0))?;
    file.read_exact(&mut head)?;
    if head[510..512] != [0x55, 0xaa] {
        return Ok(None);
    }
    let types: Vec<u8> = (0..4).map(|entry| head[446 + entry * 16 + 4]).collect();
    let extents: Vec<_> = if types.contains(&0xee) {
        if &head[512..520] != b"EFI PART" {
            return Ok(None);
        }
        let entries = head[1024..]
            .chunks_exact(128)
            .filter(|raw| raw[..16].iter().any(|byte| *byte != 0));
        entries
            .map(|raw| Extent {
                start: number::<8>(raw, 32) * 512,
                len: (number::<8>(raw, 40) + 1 - number::<8>(raw, 32)) * 512,
            })
            .collect()
    } else {
        head[446..510]
            .chunks_exact(16)
            .filter(|raw| raw[4] != 0)
            .map(|raw| Extent {
                start: number::<4>(raw, 8) * 512,
                len: number::<4>(raw, 12) * 512,
            })
            .collect()
    };
    Ok((!extents.is_empty()).then_some(extents))
}

fn file_of(fs: &fatfs::FileSystem<Part>, path: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    fs.root_dir()
        .open_file(path)
        .ok()?
        .read_to_end(&mut bytes)
        .ok()?;
    Some(bytes)
}

/// What the card tells the appliance about its network.
#[derive(Default)]
struct Wanted {
    host_name: Option<String>,
    country: Option<String>,
    network: Option<String>,
    passphrase: Option<String>,
}

/// Reads the settings where this appliance keeps them.
fn settings(fs: &fatfs::FileSystem<Part>, appliance: &str) -> Result<Wanted, String> {
    let text = |path: &str| {
        let bytes =
            file_of(fs, path).ok_or_else(|| format!("{path} is not on the boot partition"))?;
        String::from_utf8(bytes).map_err(|_| format!("{path} is not text"))
    };
    if appliance == "quaylink" {
        #[derive(Deserialize)]
        struct Wifi {
            country: String,
            network: String,
            passphrase: String,
        }
        #[derive(Deserialize)]
        struct Link {
            host_name: String,
            wifi: Option<Wifi>,
        }
        let link: Link = toml::from_str(&text("quaylink/link.toml")?)
            .map_err(|e| format!("link.toml: {}", e.message()))?;
        let wifi = link.wifi;
        return Ok(Wanted {
            host_name: Some(link.host_name),
            country: wifi.as_ref().map(|wifi| wifi.country.clone()),
            network: wifi.as_ref().map(|wifi| wifi.network.clone()),
            passphrase: wifi.map(|wifi| wifi.passphrase),
        });
    }
    let mut wanted = Wanted::default();
    for line in text("network.txt")?.lines() {
        let Some((key, value)) = line.split_once('=').filter(|_| !line.starts_with('#')) else {
            continue;
        };
        let place = match key.trim() {
            "host" => &mut wanted.host_name,
            "country" => &mut wanted.country,
            "network" => &mut wanted.network,
            "passphrase" => &mut wanted.passphrase,
            _ => continue,
        };
        *place = Some(value.to_owned());
    }
    Ok(wanted)
}

/// Whether the board gets onto a network with these settings, or why not.
fn join(wanted: &Wanted, model: &str, air: &[Network]) -> Result<String, String> {
    let Some(name) = &wanted.network else {
        return match model {
            "curlew" => Err("no network is set, and this board has no wired port".into()),
            _ => Ok("wired network".into()),
        };
    };
    let network = air.iter().find(|network| network.name == *name);
    let network = network.ok_or_else(|| format!("no network named {name:?} is in reach"))?;
    let country = wanted.country.as_deref().unwrap_or("none");
    if network.country != country {
        return Err(format!(
            "country {country}: {name:?} is on a channel that the radio may not use there"
        ));
    }
    if wanted.passphrase.as_deref() != Some(&network.passphrase) {
        return Err(format!("{name:?} refused the passphrase"));
    }
    Ok(name.clone())
}

/// Boots the card in `path` and says what a bystander would see. It has no page yet.
pub fn boot(path: &Path, card: &str, model: &str, air: &[Network]) -> io::Result<BoardState> {
    let lamp = |(lamp, meaning): (&str, &str)| BoardState {
        model: model.into(),
        card: card.into(),
        lamp: lamp.into(),
        meaning: meaning.into(),
        appliance: None,
        host_name: None,
        joined: None,
        not_joined: None,
        page: None,
    };
    let mut file = File::open(path)?;
    let Some(extents) = partitions(&mut file)? else {
        return Ok(lamp(DARK));
    };
    let mut extents = extents.into_iter();
    let (Some(boot), Some(root)) = (extents.next(), extents.next()) else {
        return Ok(lamp(DARK));
    };
    let mut magic = [0; 2];
    file.seek(SeekFrom::Start(root.start + 1024 + 0x38))?;
    file.read_exact(&mut magic)?;
    let part = Part {
        file,
        extent: boot,
        at: 0,
    };
    let Ok(fs) = fatfs::FileSystem::new(part, fatfs::FsOptions::new()) else {
        return Ok(lamp(DARK));
    };
    let appliance = file_of(&fs, "appliance.toml").and_then(|bytes| String::from_utf8(bytes).ok());
    let appliance = appliance.and_then(|text| toml::from_str::<Appliance>(&text).ok());
    let kernel = file_of(&fs, "kernel.bin");
    let (Some(appliance), Some(kernel)) = (appliance, kernel) else {
        return Ok(lamp(DAMAGED));
    };
    if crc32fast::hash(&kernel) != appliance.kernel_crc32 || magic != [0x53, 0xef] {
        return Ok(lamp(DAMAGED));
    }
    if !appliance.boards.iter().any(|board| board == model) {
        return Ok(lamp(WRONG_BOARD));
    }
    let mut state = lamp(STEADY);
    state.appliance = Some(format!("{} {}", appliance.name, appliance.version));
    match settings(&fs, &appliance.name) {
        Err(why) => state.not_joined = Some(why),
        Ok(wanted) => {
            match join(&wanted, model, air) {
                Ok(network) => state.joined = Some(network),
                Err(why) => state.not_joined = Some(why),
            }
            state.host_name = wanted.host_name;
        }
    }
    Ok(state)
}
