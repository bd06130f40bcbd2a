//! A board that boots a card: it finds the partitions itself, reads the files on both and does
//! what the appliance would do.

use std::collections::BTreeMap;
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

impl ext4_view::Ext4Read for Part {
    fn read(
        &mut self,
        start: u64,
        dst: &mut [u8],
    ) -> Result<(), Box<dyn std::error::Error + Send + Sync + 'static>> {
        self.at = start;
        self.read_exact(dst)?;
        Ok(())
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
        let mut found = Vec::new();
        for raw in head[446..510].chunks_exact(16).filter(|raw| raw[4] != 0) {
            let start = number::<4>(raw, 8) * 512;
            match raw[4] {
                0x05 | 0x0f => found.extend(logical(file, start)?),
                _ => found.push(Extent {
                    start,
                    len: number::<4>(raw, 12) * 512,
                }),
            }
        }
        found
    };
    Ok((!extents.is_empty()).then_some(extents))
}

/// The logical partitions of an extended one; a chain that runs in a circle ends somewhere.
fn logical(file: &mut File, extended: u64) -> io::Result<Vec<Extent>> {
    let (mut found, mut at) = (Vec::new(), extended);
    while found.len() < 16 {
        let mut record = [0; 512];
        file.seek(SeekFrom::Start(at))?;
        file.read_exact(&mut record)?;
        let (own, next) = (&record[446..462], &record[462..478]);
        if record[510..] != [0x55, 0xaa] || own[4] == 0 {
            break;
        }
        found.push(Extent {
            start: at + number::<4>(own, 8) * 512,
            len: number::<4>(own, 12) * 512,
        });
        if next[4] == 0 {
            break;
        }
        at = extended + number::<4>(next, 8) * 512;
    }
    Ok(found)
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

/// How a network on the card is known to the radio.
enum Secret {
    None,
    Passphrase(String),
    /// The key that is derived from name and passphrase, as hex digits.
    Key(String),
}

/// A network that the card names.
struct Known {
    name: String,
    secret: Secret,
}

/// What the card tells the appliance.
#[derive(Default)]
struct Wanted {
    host_name: Option<String>,
    country: Option<String>,
    /// Networks in the order in which they are tried.
    networks: Vec<Known>,
    /// Address of the wired port: dhcp, or a fixed one.
    wired: Option<String>,
    /// What more a bystander can find out.
    found: Vec<String>,
}

/// The files of both partitions.
struct Files {
    boot: fatfs::FileSystem<Part>,
    root: ext4_view::Ext4,
}

impl Files {
    fn boot(&self, path: &str) -> Result<String, String> {
        let bytes = file_of(&self.boot, path)
            .ok_or_else(|| format!("{path} is not on the boot partition"))?;
        String::from_utf8(bytes).map_err(|_| format!("{path} is not text"))
    }

    fn root(&self, path: &str) -> Result<String, String> {
        let bytes = self.root.read(path).map_err(|e| format!("{path}: {e}"))?;
        String::from_utf8(bytes).map_err(|_| format!("{path} is not text"))
    }
}

/// Reads the settings where this appliance keeps them.
fn settings(files: &Files, appliance: &str, model: &str) -> Result<Wanted, String> {
    match appliance {
        "quaylink" => of_quaylink(files),
        "tidegauge" => of_tidegauge(files, model),
        "toolpost" => of_toolpost(files),
        other => Err(format!("{other} is not known to this board")),
    }
}

/// A file on the boot partition says everything.
fn of_quaylink(files: &Files) -> Result<Wanted, String> {
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
    let link: Link = toml::from_str(&files.boot("quaylink/link.toml")?)
        .map_err(|e| format!("link.toml: {}", e.message()))?;
    let mut wanted = Wanted {
        host_name: Some(link.host_name),
        ..Wanted::default()
    };
    if let Some(wifi) = link.wifi {
        wanted.country = Some(wifi.country);
        wanted.networks.push(Known {
            name: wifi.network,
            secret: Secret::Passphrase(wifi.passphrase),
        });
    }
    Ok(wanted)
}

/// The system's own files on the root: the wired port by systemd-networkd, Wi-Fi by
/// wpa_supplicant, and the level probe where the board has a field bus.
fn of_tidegauge(files: &Files, model: &str) -> Result<Wanted, String> {
    let port = if model == "plover-field" {
        "end0"
    } else {
        "eth0"
    };
    let mut wanted = Wanted {
        host_name: Some(files.root("/etc/hostname")?.trim().to_owned()),
        ..Wanted::default()
    };
    let wired = files
        .root("/etc/systemd/network/20-wired.network")
        .unwrap_or_default();
    let value = |text: &str, key: &str| {
        let lines = text.lines().filter_map(|line| line.trim().split_once('='));
        let mut found = lines.filter(|(name, _)| name.trim() == key);
        found.next().map(|(_, value)| value.trim().to_owned())
    };
    if value(&wired, "Name").as_deref() == Some(port) {
        wanted.wired = match value(&wired, "DHCP").as_deref() {
            Some("yes") => Some("dhcp".into()),
            _ => value(&wired, "Address"),
        };
    }
    if model == "plover-field" {
        let probe = files.root("/etc/tidegauge/probe.conf")?;
        if value(&probe, "enabled").as_deref() != Some("yes") {
            return Err("the level probe is switched off in probe.conf".into());
        }
        let number = value(&probe, "number").unwrap_or_default();
        wanted.found.push(format!("level probe {number}"));
    }
    let wifi = "/etc/wpa_supplicant/wpa_supplicant-wlan0.conf";
    if files.root.exists(wifi).unwrap_or(false) {
        let text = files.root(wifi)?;
        wanted.country = value(&text, "country");
        for part in text.split("network={").skip(1) {
            let part = part.split('}').next().unwrap_or("");
            let unquoted =
                |key: &str| value(part, key).map(|text| text.trim_matches('"').to_owned());
            let secret = match (value(part, "psk"), unquoted("sae_password")) {
                (Some(key), _) if !key.starts_with('"') => Secret::Key(key),
                (Some(text), _) => Secret::Passphrase(text.trim_matches('"').to_owned()),
                (None, Some(text)) => Secret::Passphrase(text),
                (None, None) => Secret::None,
            };
            let name = unquoted("ssid").unwrap_or_default();
            wanted.networks.push(Known { name, secret });
        }
    }
    let zone = files.root.read_link("/etc/localtime");
    if let Some(zone) = zone
        .ok()
        .and_then(|zone| zone.to_str().ok().map(str::to_owned))
    {
        let zone = zone.rsplit("zoneinfo/").next().unwrap_or("").to_owned();
        wanted.found.push(format!("time zone {zone}"));
    }
    Ok(wanted)
}

/// Keys in a configuration that the image came with, a login and the keys of those who may use it.
fn of_toolpost(files: &Files) -> Result<Wanted, String> {
    let config = files.root("/etc/toolpost/kiosk.conf")?;
    let mut wanted = Wanted::default();
    let (mut section, mut network, mut passphrase) = (String::new(), None, None);
    for line in config
        .lines()
        .map(str::trim)
        .filter(|line| !line.starts_with('#'))
    {
        if let Some(name) = line.strip_prefix('[') {
            section = name.trim_end_matches(']').to_owned();
        } else if line == "badges-only" {
            wanted.found.push("bookings by badge only".into());
        } else if let Some((key, value)) = line.split_once('=') {
            let value = value.trim().to_owned();
            match (section.as_str(), key.trim()) {
                ("", "host") => wanted.host_name = Some(value),
                ("booking", "hours") => wanted.found.push(format!("open: {value}")),
                ("wifi", "country") => wanted.country = Some(value),
                ("wifi", "network") => network = Some(value),
                ("wifi", "passphrase") => passphrase = Some(value),
                _ => {}
            }
        }
    }
    wanted.networks.extend(network.map(|name| Known {
        name,
        secret: passphrase.map_or(Secret::None, Secret::Passphrase),
    }));
    let shadow = files.root("/etc/shadow")?;
    let hash = shadow.lines().find_map(|line| line.strip_prefix("kiosk:"));
    let hash = hash.and_then(|rest| rest.split(':').next()).unwrap_or("");
    wanted.found.push(match hash.starts_with("$6$") {
        true => "login with a password of its own".into(),
        false => "login as delivered".into(),
    });
    let keys = "/home/kiosk/.ssh/authorized_keys";
    if let Ok(about) = files.root.metadata(keys) {
        // The server takes no keys that others could change.
        wanted
            .found
            .push(match about.mode() & 0o077 == 0 && about.uid() == 1000 {
                true => format!("{} SSH keys", files.root(keys)?.lines().count()),
                false => "SSH keys that others could change, which are not taken".into(),
            });
    }
    Ok(wanted)
}

/// Whether a network takes this secret.
fn takes(network: &Network, secret: &Secret) -> bool {
    match secret {
        Secret::None => network.passphrase.is_empty(),
        Secret::Passphrase(text) => *text == network.passphrase,
        Secret::Key(key) => *key == derived_key(&network.name, &network.passphrase),
    }
}

/// The key of WPA2 (IEEE 802.11, annex J).
fn derived_key(name: &str, passphrase: &str) -> String {
    let mut key = [0; 32];
    let rounds = std::num::NonZeroU32::MIN.saturating_add(4095);
    ring::pbkdf2::derive(
        ring::pbkdf2::PBKDF2_HMAC_SHA1,
        rounds,
        name.as_bytes(),
        passphrase.as_bytes(),
        &mut key,
    );
    key.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Whether the board gets onto a network with these settings, or why not.
fn join(wanted: &Wanted, model: &str, air: &[Network]) -> Result<String, String> {
    let mut why = None;
    for known in &wanted.networks {
        match join_one(known, wanted, air) {
            Ok(name) => return Ok(name),
            Err(refused) => why = why.or(Some(refused)),
        }
    }
    match (why, model, wanted.wired.as_deref()) {
        (_, "plover" | "plover-field", Some("dhcp")) => Ok("wired network".into()),
        (_, "plover" | "plover-field", Some(address)) => Ok(format!("wired network as {address}")),
        (Some(why), ..) => Err(why),
        (None, "curlew", _) => Err("no network is set, and this board has no wired port".into()),
        (None, "plover-field", None) => Err("no settings for its wired port".into()),
        (None, ..) => Ok("wired network".into()),
    }
}

fn join_one(known: &Known, wanted: &Wanted, air: &[Network]) -> Result<String, String> {
    let name = &known.name;
    let network = air.iter().find(|network| network.name == *name);
    let network = network.ok_or_else(|| format!("no network named {name:?} is in reach"))?;
    let country = wanted.country.as_deref().unwrap_or("none");
    if network.country != country {
        return Err(format!(
            "country {country}: {name:?} is on a channel that the radio may not use there"
        ));
    }
    match takes(network, &known.secret) {
        true => Ok(name.clone()),
        false => Err(format!("{name:?} refused the passphrase")),
    }
}

/// A board that has started, or tried to.
pub struct Booted {
    /// What a bystander would see. It has no page yet.
    pub state: BoardState,
    /// The stamp on its card.
    pub stamp: Option<String>,
    /// The login that it came with, while it is open: user and password with a colon between.
    pub login: Option<String>,
}

/// Lamps of a board that is on its way.
pub const STARTING: (&str, &str) = ("two short", "starting");

/// What a board becomes with settings that it got on its own network: as with those of a card.
pub fn join_with(
    given: &BTreeMap<String, String>,
    model: &str,
    air: &[Network],
) -> Result<String, String> {
    let of = |key: &str| given.get(key).cloned().unwrap_or_default();
    let wanted = Wanted {
        country: Some(of("country")),
        networks: vec![Known {
            name: of("ssid"),
            secret: Secret::Passphrase(of("psk")),
        }],
        ..Wanted::default()
    };
    join(&wanted, model, air)
}

/// Boots the card in `path` and says what a bystander would see.
pub fn boot(path: &Path, card: &str, model: &str, air: &[Network]) -> io::Result<Booted> {
    let dead = |state| Booted {
        state,
        stamp: None,
        login: None,
    };
    let lamp = |(lamp, meaning): (&str, &str)| BoardState {
        model: model.into(),
        card: card.into(),
        lamp: lamp.into(),
        meaning: meaning.into(),
        appliance: None,
        host_name: None,
        joined: None,
        not_joined: None,
        found: Vec::new(),
        page: None,
        mac: None,
        ports: std::collections::BTreeMap::new(),
        own_network: None,
        root_bytes: None,
    };
    let mut file = File::open(path)?;
    let Some(extents) = partitions(&mut file)? else {
        return Ok(dead(lamp(DARK)));
    };
    let mut extents = extents.into_iter();
    let (Some(boot), Some(root)) = (extents.next(), extents.next()) else {
        return Ok(dead(lamp(DARK)));
    };
    let mut head = [0; 0x3a];
    file.seek(SeekFrom::Start(root.start + 1024))?;
    file.read_exact(&mut head)?;
    let word = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
    let (blocks, block, magic) = (word(4), word(0x18), [head[0x38], head[0x39]]);
    let part = Part {
        file,
        extent: boot,
        at: 0,
    };
    let Ok(fs) = fatfs::FileSystem::new(part, fatfs::FsOptions::new()) else {
        return Ok(dead(lamp(DARK)));
    };
    let appliance = file_of(&fs, "appliance.toml").and_then(|bytes| String::from_utf8(bytes).ok());
    let appliance = appliance.and_then(|text| toml::from_str::<Appliance>(&text).ok());
    let kernel = file_of(&fs, "kernel.bin");
    let (Some(appliance), Some(kernel)) = (appliance, kernel) else {
        return Ok(dead(lamp(DAMAGED)));
    };
    if crc32fast::hash(&kernel) != appliance.kernel_crc32 || magic != [0x53, 0xef] {
        return Ok(dead(lamp(DAMAGED)));
    }
    if !appliance.boards.iter().any(|board| board == model) {
        return Ok(dead(lamp(WRONG_BOARD)));
    }
    let root = Part {
        file: File::open(path)?,
        extent: root,
        at: 0,
    };
    let Ok(root) = ext4_view::Ext4::load(Box::new(root)) else {
        return Ok(dead(lamp(DAMAGED)));
    };
    let files = Files { boot: fs, root };
    let mut state = lamp(STEADY);
    state.appliance = Some(format!("{} {}", appliance.name, appliance.version));
    state.root_bytes = Some(u64::from(blocks) * (1024 << block.min(6)));
    match settings(&files, &appliance.name, model) {
        Err(why) => state.not_joined = Some(why),
        Ok(wanted) => {
            match join(&wanted, model, air) {
                Ok(network) => state.joined = Some(network),
                Err(why) => state.not_joined = Some(why),
            }
            state.host_name = wanted.host_name;
            state.found = wanted.found;
        }
    }
    let changed = |found: &String| found == "login with a password of its own";
    let login = match appliance.name.as_str() {
        "quaylink" => Some("keeper:keeper"),
        "toolpost" if !state.found.iter().any(changed) => Some("kiosk:kiosk"),
        _ => None,
    };
    Ok(Booted {
        stamp: files.boot("duplicarium-stamp.json").ok(),
        login: login.map(Into::into),
        state,
    })
}
