//! `make fuzz`: damaged seeds through every parser of foreign bytes. Nothing may panic, run on
//! without end, or ask for memory without bound. Short and fixed: the same damage each time.
//! FUZZ_ROUNDS makes it longer, FUZZ_SEED makes it other damage.
//!
//! The seeds in `seeds/` are small file systems, tables and packed files made by the system's own
//! tools, one of them copied while it was mounted.

use std::io::Cursor;
use std::path::Path;
use std::time::{Duration, Instant};

use imagecraft::container::{Limits, Source};
use imagecraft::inspect::inspect;
use imagecraft::{Disk, Layout, MemoryDisk, Overlay, blocks, fs};

/// Longest that one input may take, in an unoptimised build on a busy machine.
const PATIENCE: Duration = Duration::from_secs(20);

fn seed(name: &str) -> Vec<u8> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("tests/seeds/{name}.zst"));
    zstd::stream::decode_all(std::fs::File::open(path).unwrap()).unwrap()
}

fn number(name: &str, usual: u64) -> u64 {
    std::env::var(name)
        .ok()
        .and_then(|text| text.parse().ok())
        .unwrap_or(usual)
}

/// A source of damage that is the same each time.
struct Chance(u64);

impl Chance {
    fn below(&mut self, most: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % most.max(1) as u64) as usize
    }

    /// Damages bytes where structures lie: anywhere, but mostly where something stands.
    fn damage(&mut self, bytes: &mut [u8]) {
        const NUMBERS: [u32; 10] = [
            0,
            1,
            2,
            0x7f,
            0xff,
            0xffff,
            0x8000_0000,
            0xffff_ffff,
            0x7fff_ffff,
            0x1000,
        ];
        for _ in 0..1 + self.below(10) {
            let mut at = self.below(bytes.len());
            for _ in 0..64 {
                if bytes[at] != 0 {
                    break;
                }
                at = self.below(bytes.len());
            }
            match self.below(5) {
                0 => bytes[at] ^= 1 << self.below(8),
                1 => bytes[at] = self.below(256) as u8,
                2 | 3 => {
                    let at = at & !3;
                    let raw = NUMBERS[self.below(NUMBERS.len())].to_le_bytes();
                    let len = raw.len().min(bytes.len() - at);
                    bytes[at..at + len].copy_from_slice(&raw[..len]);
                }
                _ => {
                    let from = self.below(bytes.len());
                    let len = self.below(64).min(bytes.len() - from.max(at));
                    bytes.copy_within(from..from + len, at);
                }
            }
        }
    }
}

/// Runs one parser over damaged seeds.
fn target(names: &[&str], rounds: u64, mut parse: impl FnMut(Vec<u8>)) {
    let rounds = number("FUZZ_ROUNDS", rounds);
    let mut chance = Chance(number("FUZZ_SEED", 0x2545_f491_4f6c_dd1d));
    for name in names {
        let whole = seed(name);
        for round in 0..rounds {
            let mut bytes = whole.clone();
            if round > 0 {
                chance.damage(&mut bytes);
            }
            if chance.below(20) == 0 {
                bytes.truncate(chance.below(whole.len()));
            }
            let begun = Instant::now();
            parse(bytes);
            let took = begun.elapsed();
            assert!(took < PATIENCE, "{name}, round {round}: {took:?}");
        }
    }
}

const FILE_SYSTEMS: [&str; 9] = [
    "ext2",
    "ext3",
    "ext4",
    "ext4-plain",
    "ext4-meta",
    "ext4-unclean",
    "fat12",
    "fat16",
    "fat32",
];

#[test]
fn tables() {
    target(&["mbr", "gpt"], 3000, |bytes| {
        let disk = MemoryDisk::from(bytes);
        if let Ok(layout) = Layout::survey(&disk) {
            let _ = layout.map(&disk);
            if let Some(table) = &layout.gpt {
                let mut other = Overlay::new(&disk, disk.len() + (1 << 20));
                let _ = table.fit(&mut other);
            }
            for block in [512, 4096] {
                let mut other = Overlay::new(&disk, disk.len() + (1 << 20));
                let _ = blocks::recount(&mut other, &mut layout.clone(), block);
            }
        }
        let _ = Layout::early_map(&disk);
    });
}

#[test]
fn what_is_in_use() {
    target(&FILE_SYSTEMS, 150, |bytes| {
        let disk = MemoryDisk::from(bytes);
        if let Ok(Some(usage)) = fs::usage(&disk) {
            assert_eq!(usage.map.len(), disk.len());
        }
        let mut other = Overlay::new(&disk, disk.len());
        if fs::fat::enlarge_sectors(&mut other, 4096).is_ok() {
            assert!(fs::recognise(&other).unwrap().is_some());
        }
    });
}

#[test]
fn files() {
    target(&FILE_SYSTEMS, 60, |bytes| {
        let disk = MemoryDisk::from(bytes);
        let Ok(Some(files)) = fs::open(&disk) else {
            return;
        };
        let mut left = 300;
        let _ = fs::walk(files.as_ref(), &mut |path, _| {
            left -= 1;
            let _ = files.read_head(path, 1 << 16);
            match left {
                0 => Err(fs::FileError::Missing("enough".into())),
                _ => Ok(()),
            }
        });
    });
}

/// What is edited in whatever a damaged file system still lets edit.
fn edit_all<D: Disk>(disk: D, paths: &[String]) -> Result<(), fs::ext::ExtError> {
    let given = fs::ext::Attributes::default();
    let mut editor = fs::ext::Editor::open(disk)?;
    let _ = editor.grow(false);
    let _ = editor.put("/etc/a new file", &[7; 5000], &given);
    let _ = editor.make_folder("/new folder/below", &given);
    let _ = editor.link("/etc/link", "target");
    for (number, path) in paths.iter().enumerate() {
        let _ = match number % 3 {
            0 => editor.put(path, &[9; 3000], &given),
            1 => editor.remove(path).map(|_| ()),
            _ => editor.put(&format!("{path}/below"), b"", &given),
        };
    }
    for number in 0..40 {
        let _ = editor.put(&format!("/etc/many {number:0100}"), b"x", &given);
    }
    let _ = editor.grow(true);
    editor.close()
}

#[test]
fn edits() {
    target(&FILE_SYSTEMS, 60, |bytes| {
        let disk = MemoryDisk::from(bytes);
        let mut paths = Vec::new();
        if let Ok(Some(files)) = fs::open(&disk) {
            let _ = fs::walk(files.as_ref(), &mut |path, _| {
                paths.push(path.to_owned());
                match paths.len() {
                    60 => Err(fs::FileError::Missing("enough".into())),
                    _ => Ok(()),
                }
            });
        }
        let mut overlay = Overlay::new(&disk, disk.len() + (40 << 20));
        if let Ok(mut fat) = fs::fat::Fat::open(&mut overlay) {
            let _ = fat.check();
            for path in &paths {
                let _ = fat.remove(path);
                let _ = fat.put(path, &[1; 3000]);
            }
            let _ = fat.close();
            return;
        }
        let _ = edit_all(&mut overlay, &paths);
    });
}

#[test]
fn shorter_file_systems() {
    target(&FILE_SYSTEMS, 200, |bytes| {
        let disk = MemoryDisk::from(bytes);
        for part in [2, 3, 5, 9] {
            let mut overlay = Overlay::new(&disk, disk.len());
            if let Ok(mut editor) = fs::ext::Editor::open(&mut overlay)
                && editor.shrink(disk.len() / 10 * part).is_ok()
            {
                let _ = editor.close();
                let _ = fs::ext::Editor::open(&mut overlay);
            }
        }
    });
}

#[test]
fn longer_tables() {
    target(&["mbr", "gpt"], 600, |bytes| {
        let disk = MemoryDisk::from(bytes);
        let Ok(mut layout) = Layout::read(&disk) else {
            return;
        };
        let len = disk.len() + (40 << 20);
        let mut other = Overlay::new(&disk, len);
        for partition in layout.partitions.clone() {
            let number = partition.number;
            let _ = imagecraft::grow::set_end(&mut other, &mut layout, number, len - (1 << 20));
        }
        let map = imagecraft::Map::uniform(disk.len(), imagecraft::ByteKind::Data);
        let recipe = imagecraft::compose::Recipe {
            growth: Some(Default::default()),
            go_on: true,
            ..Default::default()
        };
        let _ = imagecraft::compose::compose(&disk, &map, len, &recipe);
        let smaller = imagecraft::compose::Recipe {
            shrinks: true,
            ..recipe
        };
        let _ = imagecraft::compose::compose(&disk, &map, disk.len() / 2, &smaller);
    });
}

#[test]
fn whole_inspections() {
    target(&["mbr", "gpt", "fat12", "ext4"], 150, |bytes| {
        let _ = inspect(&MemoryDisk::from(bytes));
    });
}

#[test]
fn containers() {
    target(&["zip", "gzip", "xz", "bzip2", "zstd"], 600, |bytes| {
        let mut file = Cursor::new(bytes);
        for wanted in [None, Some("image.img")] {
            let Ok(source) = Source::open(&mut file, wanted) else {
                continue;
            };
            let limits = Limits {
                raw: 64 << 20,
                swell: 50_000,
            };
            if let Ok(mut unpacker) = source.unpack(&mut file, limits) {
                let mut piece = vec![0; 1 << 16];
                while matches!(unpacker.fill(&mut piece), Ok(read) if read == piece.len()) {}
            }
        }
    });
}
