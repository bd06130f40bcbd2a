//! Cards for readers with blocks of 4,096 bytes: made out of usual images, and made usual again, judged by the tools for
//! tables and by the kernel behind a loop device that counts in such blocks.

mod judges;

use std::fs;
use std::path::{Path, PathBuf};

use imagecraft::compose::{Change, ComposeError, PlacedFile, Recipe, Target, compose};
use imagecraft::fs::ext::Attributes;
use imagecraft::grow::Growth;
use imagecraft::table::TableKind;
use imagecraft::{ByteKind, Disk, FileDisk, Layout};
use judges::{Content, is_sound, mke2fs, part_of, put, run, seen, tool};
use tempfile::TempDir;

const MIB: u64 = 1 << 20;
const LARGE: u64 = 4096;

/// A table as sfdisk reads it, and where the boot and the root partition lie, in MiB.
type Table = (&'static str, u64, u64);
const MBR: Table = (
    "label: dos\nlabel-id: 0x5a17ab1e\nstart=8192, size=131072, type=c, bootable\nstart=139264, size=81920, type=83\n",
    4,
    68,
);
const LOGICAL: Table = (
    "label: dos\nlabel-id: 0x0c0ffee0\nstart=8192, size=131072, type=c, bootable\nstart=139264, size=122880, type=5\nstart=141312, size=20480, type=83\nstart=163840, size=81920, type=83\n",
    4,
    80,
);
const GPT: Table = (
    "label: gpt\nstart=8192, size=131072, type=uefi, name=boot\nstart=139264, size=81920, type=linux, name=root\n",
    4,
    68,
);
/// FAT whose structures lie on borders of 4,096 bytes: 16 bits, and 32 with its free count and copies.
const FAT16: &[&str] = &["-F", "16", "-s", "8", "-R", "8", "-r", "512"];
const FAT32: &[&str] = &["-F", "32", "-s", "8", "-R", "32"];

/// An image with a table, a FAT boot partition of 64 MiB and an ext root of 40 MiB.
fn image(dir: &Path, (script, boot_at, root_at): Table, fat: &[&str], ext: &str) -> PathBuf {
    let path = dir.join("image.raw");
    let _ = fs::remove_file(&path);
    FileDisk::create(&path, 144 * MIB).unwrap();
    let rules = dir.join("rules");
    fs::write(&rules, script).unwrap();
    let command = format!("sfdisk -q {} < {}", path.display(), rules.display());
    run("sh", &["-c", &command]);
    let part = dir.join("part");
    let _ = fs::remove_file(&part);
    FileDisk::create(&part, 64 * MIB).unwrap();
    let mut words = vec!["-n", "BOOT"];
    words.extend(fat);
    words.push(part.to_str().unwrap());
    run("mkfs.fat", &words);
    put(&path, &part, boot_at);
    let tree = dir.join("tree");
    if !tree.exists() {
        fs::create_dir_all(tree.join("etc")).unwrap();
        fs::write(tree.join("etc/hostname"), "image\n").unwrap();
        fs::write(tree.join("etc/large"), vec![0x2a; 700_001]).unwrap();
    }
    assert!(mke2fs(&part, 40, ext, Some(&tree)));
    put(&path, &part, root_at);
    path
}

fn recipe(block: u64) -> Recipe {
    let file = |target, path: &str, bytes: &[u8]| PlacedFile {
        target,
        path: path.into(),
        change: Change::File(bytes.to_vec()),
        attributes: Attributes::default(),
    };
    Recipe {
        files: vec![
            file(Target::Boot, "KERNEL.IMG", &[0x4b; 300_000]),
            file(Target::Boot, "link/network.toml", b"country = \"NO\"\n"),
            file(Target::Root, "/etc/hostname", b"quay-03\n"),
        ],
        growth: Some(Growth::default()),
        block: Some(block),
        ..Recipe::default()
    }
}

/// Writes what a card of `len` bytes would get to a file, over noise where nothing is written.
fn make_card(image: &Path, len: u64, recipe: &Recipe, to: &Path) -> Result<Layout, ComposeError> {
    let base = FileDisk::open(image).unwrap();
    let map = Layout::read(&base).unwrap().map(&base).unwrap();
    let composed = compose(&base, &map, len, recipe)?;
    let _ = fs::remove_file(to);
    let mut out = FileDisk::create(to, len).unwrap();
    for run in composed.map.runs() {
        let mut at = run.start;
        while at < run.end {
            let len = (run.end - at).min(4 << 20) as usize;
            let bytes = match run.kind {
                ByteKind::Data => composed.disk.read_vec(at, len).unwrap(),
                ByteKind::Zero => vec![0; len],
                ByteKind::Free => vec![0xa5; len],
            };
            out.write_at(at, &bytes).unwrap();
            at += len as u64;
        }
    }
    Ok(composed.layout)
}

/// A file, or a part of it, as a block device that counts in blocks of a size.
struct Loop(String);

impl Loop {
    /// `None`, with the reason printed, where there are no such devices.
    fn over(file: &Path, block: u64, part: Option<(u64, u64)>) -> Option<Self> {
        let (start, len) = part.unwrap_or((0, fs::metadata(file).unwrap().len()));
        let (words, code) = tool(
            "losetup",
            &[
                "--find",
                "--show",
                "--sector-size",
                &block.to_string(),
                "--offset",
                &start.to_string(),
                "--sizelimit",
                &len.to_string(),
                file.to_str().unwrap(),
            ],
        );
        if code == 0 {
            return Some(Self(words.trim().into()));
        }
        println!("skipped: no loop device can be had here: {}", words.trim());
        None
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        let _ = tool("losetup", &["-d", &self.0]);
    }
}

/// The files of a partition as the kernel shows them where the reader counts in such blocks; `Err` with its words where it
/// does not mount, `None` where that is not possible here.
fn mounted(
    card: &Path,
    block: u64,
    part: (u64, u64),
    at: &Path,
) -> Option<Result<Vec<(String, Content)>, String>> {
    let device = Loop::over(card, block, Some(part))?;
    fs::create_dir_all(at).unwrap();
    let (words, code) = tool("mount", &["-o", "ro", &device.0, at.to_str().unwrap()]);
    if code != 0 {
        return match words.contains("permission denied")
            || words.contains("unknown filesystem type")
        {
            true => None,
            false => Some(Err(words)),
        };
    }
    let found = seen(at)
        .into_iter()
        .map(|(path, one)| (path, one.content))
        .collect();
    run("umount", &[at.to_str().unwrap()]);
    Some(Ok(found))
}

/// First byte and length of each partition, by number, as another program reads the table.
fn partitions(card: &Path, block: u64) -> Vec<(u32, u64, u64)> {
    let said = run(
        "partx",
        &[
            "--show",
            "--noheadings",
            "--sector-size",
            &block.to_string(),
            "--output",
            "NR,START,SECTORS,TYPE",
            card.to_str().unwrap(),
        ],
    );
    let mut found = Vec::new();
    for line in said.lines() {
        let words: Vec<_> = line.split_whitespace().collect();
        let number = |at: usize| words[at].parse::<u64>().unwrap();
        if words[3] != "0x5" {
            // It counts in 512 bytes, whatever it was told to read.
            found.push((number(0) as u32, number(1) * 512, number(2) * 512));
        }
    }
    found
}

/// The card is right for a reader with such blocks, as others see it.
fn judge(card: &Path, block: u64, layout: &Layout, dir: &Path, what: &str) {
    let ours: Vec<_> = layout
        .partitions
        .iter()
        .map(|one| (one.number, one.start, one.len))
        .collect();
    assert_eq!(layout.block, block, "{what}");
    assert_eq!(partitions(card, block), ours, "{what}");
    let all = Loop::over(card, block, None);
    if let (Some(device), TableKind::Gpt) = (&all, layout.table) {
        let said = run("sgdisk", &["-v", &device.0]);
        assert!(said.contains("No problems found"), "{what}: {said}");
    }
    if let Some(device) = &all {
        let said = run("sfdisk", &["--verify", &device.0]);
        assert!(said.contains("No errors detected"), "{what}: {said}");
    }
    drop(all);
    for partition in &layout.partitions {
        let part = dir.join("judged");
        let _ = fs::remove_file(&part);
        part_of(card, partition.start, partition.len, &part);
        if partition.is_fat() {
            let said = run("fsck.fat", &["-n", "-v", "-l", part.to_str().unwrap()]);
            assert!(said.to_uppercase().contains("KERNEL.IMG"), "{what}: {said}");
            for word in ["differ", "Dirty", "wrong", "Orphan", "Unused", "no backup"] {
                assert!(!said.contains(word), "{what}: {said}");
            }
            // It takes one of 32 bits for one of 16 where there are few clusters.
            if partition.holds() == "FAT16" {
                let network = run(
                    "mtype",
                    &["-i", part.to_str().unwrap(), "::link/network.toml"],
                );
                assert_eq!(network, "country = \"NO\"\n", "{what}");
            }
        } else if partition.is_ext() {
            is_sound(&part, what);
        }
        if partition.file_system.is_none() {
            continue;
        }
        let at = dir.join("mnt");
        let found = match mounted(card, block, (partition.start, partition.len), &at) {
            None => continue,
            Some(found) => found.unwrap_or_else(|words| panic!("{what}: {words}")),
        };
        let is = |path: &str, bytes: &[u8]| {
            let own = found
                .iter()
                .find(|(name, _)| name.eq_ignore_ascii_case(path));
            assert!(
                matches!(own, Some((_, Content::File(found))) if found == bytes),
                "{what}: {path}"
            );
        };
        if partition.is_fat() {
            is("/kernel.img", &[0x4b; 300_000]);
            is("/link/network.toml", b"country = \"NO\"\n");
        } else {
            is("/etc/hostname", b"quay-03\n");
            is("/etc/large", &[0x2a; 700_001]);
        }
    }
}

#[test]
fn a_card_is_made_for_the_blocks_of_its_reader_and_made_usual_again() {
    let dir = TempDir::new().unwrap();
    for (table, fat) in [
        (MBR, FAT16),
        (MBR, FAT32),
        (LOGICAL, FAT32),
        (GPT, FAT16),
        (GPT, FAT32),
    ] {
        let what = format!("{}, FAT{}", table.0.lines().next().unwrap(), fat[1]);
        let image = image(dir.path(), table, fat, "-t ext4 -b 4096 -L system");
        let usual = Layout::read(&FileDisk::open(&image).unwrap()).unwrap();
        assert_eq!(usual.block, 512, "{what}");
        let large = dir.path().join("large");
        let len = 200 * MIB + 5 * LARGE;
        let layout = make_card(&image, len, &recipe(LARGE), &large).unwrap();
        let seen = |layout: &Layout| {
            let all = layout.partitions.iter();
            all.map(|one| {
                (
                    one.number,
                    one.start,
                    one.uuid.clone(),
                    one.file_system.clone(),
                )
            })
            .collect::<Vec<_>>()
        };
        assert_eq!(seen(&layout), seen(&usual), "{what}");
        judge(&large, LARGE, &layout, dir.path(), &what);
        // A backup of that card goes onto a usual one, and onto one for such a reader, which may be smaller.
        for block in [512, LARGE] {
            let back = dir.path().join("back");
            let len = 150 * MIB;
            let layout = make_card(
                &large,
                len,
                &Recipe {
                    shrinks: true,
                    block: Some(block),
                    ..Recipe::default()
                },
                &back,
            )
            .unwrap();
            assert_eq!(seen(&layout), seen(&usual), "{what}");
            judge(
                &back,
                block,
                &layout,
                dir.path(),
                &format!("{what}, back in {block}"),
            );
        }
    }
}

#[test]
fn what_no_computer_could_use_is_refused_by_name() {
    let dir = TempDir::new().unwrap();
    let card = dir.path().join("card");
    let refused = |image: &Path| {
        let said = make_card(image, 300 * MIB, &recipe(LARGE), &card).unwrap_err();
        assert!(
            matches!(said, ComposeError::Blocks { block: LARGE, .. }),
            "{said:?}"
        );
        said.to_string()
    };
    // As the tools make them unasked: sectors of 512 bytes in clusters of 2048.
    let image_of = |fat: &[&str], ext: &str| image(dir.path(), MBR, fat, ext);
    let small = image_of(&["-F", "16"], "-t ext4 -b 4096");
    let said = refused(&small);
    assert!(said.contains("partition 1 (BOOT) holds FAT16"), "{said}");
    if let Some(found) = mounted(&small, LARGE, (4 * MIB, 64 * MIB), &dir.path().join("mnt")) {
        assert!(found.is_err(), "the kernel uses it: {found:?}");
    }
    let said = refused(&image_of(FAT32, "-t ext4 -b 1024 -L system"));
    assert!(
        said.contains("partition 2 (system) holds ext4, with blocks of 1024 bytes"),
        "{said}"
    );

    // A boot loader between table and partitions.
    let image = image(dir.path(), GPT, FAT32, "-t ext4 -b 4096");
    let mut disk = FileDisk::open_writable(&image).unwrap();
    disk.write_at(20_000, b"first stage").unwrap();
    drop(disk);
    let said = refused(&image);
    assert!(said.contains("a boot loader"), "{said}");
    // Something behind the boot sector that nobody knows.
    let image = image_of(FAT32, "-t ext4 -b 4096");
    let mut disk = FileDisk::open_writable(&image).unwrap();
    disk.write_at(4 * MIB + 12 * 512, b"second stage").unwrap();
    drop(disk);
    let said = refused(&image);
    assert!(said.contains("something unknown in front"), "{said}");
    // Partitions between blocks, and a size for which no tables are made.
    let odd = (
        "label: dos\nstart=8193, size=131072, type=c\nstart=139272, size=81920, type=83\n",
        4,
        68,
    );
    let path = dir.path().join("odd.raw");
    FileDisk::create(&path, 144 * MIB).unwrap();
    fs::write(dir.path().join("rules"), odd.0).unwrap();
    let command = format!(
        "sfdisk -q {} < {}",
        path.display(),
        dir.path().join("rules").display()
    );
    run("sh", &["-c", &command]);
    let plain = Recipe {
        block: Some(LARGE),
        ..Recipe::default()
    };
    let said = make_card(&path, 300 * MIB, &plain, &card)
        .unwrap_err()
        .to_string();
    assert!(said.contains("not on a border of 4096 bytes"), "{said}");
    let two = Recipe {
        block: Some(2048),
        ..Recipe::default()
    };
    let said = make_card(&path, 300 * MIB, &two, &card)
        .unwrap_err()
        .to_string();
    assert!(said.contains("no partition table is made"), "{said}");
}

#[test]
fn images_made_for_large_sectors_are_understood() {
    let dir = TempDir::new().unwrap();
    for label in ["dos", "gpt"] {
        let path = dir.path().join(label);
        FileDisk::create(&path, 144 * MIB).unwrap();
        let keys = match label {
            "dos" => "o\nn\np\n1\n1024\n+64M\nn\np\n2\n17408\n+40M\nw\n",
            _ => "g\nn\n1\n1024\n+64M\nn\n2\n17408\n+40M\nw\n",
        };
        let rules = dir.path().join("keys");
        fs::write(&rules, keys).unwrap();
        let command = format!("fdisk -b 4096 {} < {}", path.display(), rules.display());
        run("sh", &["-c", &command]);
        let part = dir.path().join("part");
        let _ = fs::remove_file(&part);
        FileDisk::create(&part, 64 * MIB).unwrap();
        run(
            "mkfs.fat",
            &[
                "-F",
                "16",
                "-S",
                "4096",
                "-n",
                "BOOT",
                part.to_str().unwrap(),
            ],
        );
        put(&path, &part, 4);
        let tree = dir.path().join("tree");
        fs::create_dir_all(tree.join("etc")).unwrap();
        fs::write(tree.join("etc/large"), vec![0x2a; 700_001]).unwrap();
        assert!(mke2fs(&part, 40, "-t ext4 -b 4096 -L system", Some(&tree)));
        put(&path, &part, 68);
        let layout = Layout::read(&FileDisk::open(&path).unwrap()).unwrap();
        assert_eq!(layout.block, LARGE, "{label}");
        assert!(layout.has_finding("sector-size"), "{label}");
        let ours: Vec<_> = layout
            .partitions
            .iter()
            .map(|one| (one.number, one.start, one.len))
            .collect();
        assert_eq!(partitions(&path, LARGE), ours, "{label}");
        for block in [LARGE, 512] {
            let card = dir.path().join("card");
            let layout = make_card(&path, 300 * MIB, &recipe(block), &card).unwrap();
            judge(
                &card,
                block,
                &layout,
                dir.path(),
                &format!("{label}, {block}"),
            );
        }
    }
}
