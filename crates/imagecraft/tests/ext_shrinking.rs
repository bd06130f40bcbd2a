//! ext file systems made shorter: judged by e2fsck and by the kernel, which must find every file as it
//! was and be able to go on with what is left.

mod judges;

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use imagecraft::Disk;
use imagecraft::fs::ext::{Editor, ExtError, Shrunk};
use judges::{carry_over, is_sound, mke2fs, mount, overlay, run, seen, tool};
use tempfile::TempDir;

/// Sets and reads extended attributes.
const PYTHON: &str = "/usr/bin/python3";

/// Numbers that are the same in each run (splitmix64).
struct Random(u64);

impl Random {
    fn below(&mut self, end: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (mixed ^ (mixed >> 31)) % end
    }

    fn bytes(&mut self, len: u64) -> Vec<u8> {
        let words = (0..len.div_ceil(8)).flat_map(|_| self.below(u64::MAX).to_le_bytes());
        words.take(len as usize).collect()
    }
}

/// Shrinks an image to `len` bytes at most.
fn shrink(image: &Path, len: u64) -> Result<Shrunk, ExtError> {
    let whole = fs::metadata(image).unwrap().len();
    let mut disk = overlay(image, whole);
    let mut editor = Editor::open(&mut disk)?;
    let done = editor.shrink(len)?;
    editor.close()?;
    disk.cut(len.min(whole));
    carry_over(&disk, image);
    Ok(done)
}

fn grow(image: &Path, len: u64) {
    let mut disk = overlay(image, len);
    let mut editor = Editor::open(&mut disk).unwrap();
    editor.grow(false).unwrap();
    editor.close().unwrap();
    carry_over(&disk, image);
}

/// Puts files of many kinds all over a file system: folders at its root lie in groups far apart.
fn fill(at: &Path, random: &mut Random, folders: usize) {
    for number in 0..folders {
        let folder = at.join(format!("folder-{number}"));
        let below = folder.join("below");
        if fs::create_dir_all(&below).is_err() {
            return;
        }
        for file in 0..1 + random.below(40) {
            let len = random.below(60_000);
            let bytes = random.bytes(len);
            let place = if file % 3 == 0 { &below } else { &folder };
            let path = place.join(format!("file {file} with a name that takes some room"));
            if fs::write(&path, bytes).is_err() {
                return;
            }
            if file % 7 == 0 {
                let _ = fs::hard_link(&path, folder.join(format!("again {file}")));
                let _ = std::os::unix::fs::symlink(
                    "x".repeat(file as usize * 9),
                    folder.join(format!("long {file}")),
                );
                let _ = std::os::unix::fs::symlink("short", folder.join(format!("short {file}")));
            }
        }
        if number % 5 == 0 {
            // A file with holes, one with reserved blocks, attributes that need a block, a device.
            use std::os::unix::fs::FileExt;
            if let Ok(file) = fs::File::create(folder.join("holes")) {
                for place in 0..30 {
                    let _ = file.write_all_at(&[7; 5000], place * 40_000);
                }
            }
            let holes = folder.join("reserved");
            tool("fallocate", &["-l", "400000", holes.to_str().unwrap()]);
            tool(
                "mknod",
                &[folder.join("device").to_str().unwrap(), "c", "1", "3"],
            );
        }
    }
    let script = "import glob, os, sys
for n, path in enumerate(sorted(glob.glob(sys.argv[1] + '/folder*/holes') + glob.glob(sys.argv[1] + '/folder*'))):
    try: os.setxattr(path, 'user.kept', b'v' * (300 + n % 3))
    except OSError: pass";
    run(PYTHON, &["-c", script, at.to_str().unwrap()]);
    // A folder with an index, at last.
    let large = at.join("large");
    let _ = fs::create_dir(&large);
    for number in 0..700 {
        let _ = fs::write(
            large.join(format!("one of very many files, number {number}")),
            [1],
        );
    }
}

fn attributes(at: &Path) -> String {
    let script = "import os, sys
for path, folders, files in os.walk(sys.argv[1]):
    folders.sort()
    for name in [path] + [path + '/' + file for file in sorted(files)]:
        for key in sorted(os.listxattr(name, follow_symlinks=False)):
            print(name, key, os.getxattr(name, key, follow_symlinks=False))";
    run(PYTHON, &["-c", script, at.to_str().unwrap()])
}

#[test]
fn file_systems_of_all_kinds_shrink_with_all_their_files() {
    let dir = TempDir::new().unwrap();
    let (image, at) = (dir.path().join("image"), dir.path().join("mnt"));
    let mut random = Random(17);
    let mut renumbered = 0;
    for (megabytes, to, options) in [
        (1200, 300, "-t ext4 -b 4096"),
        (
            1200,
            260,
            "-t ext4 -b 4096 -O ^64bit,^metadata_csum,uninit_bg",
        ),
        (1200, 300, "-t ext4 -b 4096 -O ^flex_bg"),
        (900, 300, "-t ext4 -b 4096 -O ^metadata_csum,^uninit_bg"),
        (300, 99, "-t ext4 -b 1024"),
        (300, 130, "-t ext4 -b 1024 -O ^flex_bg"),
        (300, 120, "-t ext4 -b 2048 -O sparse_super2"),
        (200, 110, "-t ext4 -b 1024 -O ^sparse_super,^resize_inode"),
        (300, 120, "-t ext4 -b 1024 -O meta_bg,^resize_inode"),
        (
            300,
            120,
            "-t ext4 -b 1024 -O meta_bg,^resize_inode,^flex_bg",
        ),
        (300, 101, "-t ext3 -b 1024"),
        (900, 280, "-t ext3 -b 4096 -I 128"),
        (300, 120, "-t ext2 -b 1024 -g 1024"),
        (300, 140, "-t ext4 -b 1024 -N 6000 -G 8"),
        (
            300,
            100,
            "-t ext4 -b 1024 -O orphan_file,metadata_csum_seed",
        ),
        (3000, 300, "-t ext4 -b 1024 -E resize=5000000"),
    ] {
        let what = format!("mkfs {options}, {megabytes} MB to {to}");
        if !mke2fs(&image, megabytes, options, None) {
            continue;
        }
        let Some(mounted) = mount(&image, &at, "rw,user_xattr") else {
            return;
        };
        let folders = if megabytes > 800 { 90 } else { 40 };
        fill(&mounted.0, &mut random, folders);
        let (before, kept) = (seen(&mounted.0), attributes(&mounted.0));
        assert!(kept.lines().count() > 10, "{what}: {kept}");
        drop(mounted);
        is_sound(&image, &format!("{what}, before"));
        let len = (to << 20) + 3 * 4096 + 512;
        let done = shrink(&image, len).unwrap_or_else(|e| panic!("{what}: {e}"));
        assert!(
            done.after <= len && done.after + (40 << 20) > len,
            "{what}: {done:?}"
        );
        renumbered += done.renumbered;
        is_sound(&image, &what);
        let Some(mounted) = mount(&image, &at, "rw,user_xattr") else {
            return;
        };
        assert!(
            seen(&mounted.0) == before,
            "{what}: files are not as they were"
        );
        assert_eq!(attributes(&mounted.0), kept, "{what}");
        assert_eq!(
            fs::metadata(mounted.0.join("folder-0")).unwrap().nlink(),
            3,
            "{what}"
        );
        fill(&mounted.0, &mut random, 60);
        drop(mounted);
        is_sound(&image, &format!("{what}, used by the kernel"));
        println!("{what}: {done:?}");
    }
    assert!(renumbered > 500, "only {renumbered} inodes had to move");
}

#[test]
fn shrinking_and_growing_by_turns_keeps_everything() {
    let dir = TempDir::new().unwrap();
    let (image, at) = (dir.path().join("image"), dir.path().join("mnt"));
    let seed = 5;
    let mut random = Random(seed);
    for options in [
        "-t ext4 -b 4096",
        "-t ext4 -b 1024",
        "-t ext4 -b 1024 -O ^flex_bg",
        "-t ext3 -b 1024",
    ] {
        let mut megabytes = 400;
        mke2fs(&image, megabytes, options, None);
        for turn in 0..8 {
            let what = format!("mkfs {options}, seed {seed}, turn {turn}");
            let Some(mounted) = mount(&image, &at, "rw") else {
                return;
            };
            if turn == 4 {
                for number in 0..20 {
                    let _ = fs::remove_dir_all(mounted.0.join(format!("folder-{number}")));
                }
            }
            fill(&mounted.0, &mut random, 12);
            let before = seen(&mounted.0);
            drop(mounted);
            if turn % 2 == 0 {
                let to = 60 + random.below(megabytes - 60);
                match shrink(&image, to << 20) {
                    Ok(_) => megabytes = to,
                    Err(ExtError::CannotShrink(why)) => println!("{what} to {to}: {why}"),
                    Err(e) => panic!("{what} to {to}: {e}"),
                }
            } else {
                megabytes = megabytes + 20 + random.below(1180 - megabytes);
                grow(&image, megabytes << 20);
            }
            is_sound(&image, &format!("{what}, {megabytes} MB"));
            let Some(mounted) = mount(&image, &at, "ro") else {
                return;
            };
            assert!(
                seen(&mounted.0) == before,
                "{what}: files are not as they were"
            );
        }
    }
}

#[test]
fn copies_of_the_superblock_serve_after_shrinking() {
    let dir = TempDir::new().unwrap();
    let image = dir.path().join("image");
    for options in [
        "-t ext4 -b 1024",
        "-t ext4 -b 1024 -O meta_bg,^resize_inode",
    ] {
        mke2fs(&image, 300, options, None);
        shrink(&image, 90 << 20).unwrap();
        is_sound(&image, options);
        let image = image.to_str().unwrap();
        let args = ["-fn", "-b", "8193", "-B", "1024", image];
        let (words, code) = tool("e2fsck", &args);
        assert!(code <= 4 && !words.contains("orrupt"), "{options}: {words}");
        assert!(run("dumpe2fs", &[image]).contains("Block count:              92160"));
    }
}

#[test]
fn what_does_not_fit_is_refused_with_numbers() {
    let dir = TempDir::new().unwrap();
    let (image, source) = (dir.path().join("image"), dir.path().join("source"));
    fs::create_dir(&source).unwrap();
    fs::write(source.join("large"), vec![1; 50_000_000]).unwrap();
    mke2fs(&image, 200, "-t ext4", Some(&source));
    let before = fs::read(&image).unwrap();
    let refused = shrink(&image, 52 << 20).unwrap_err();
    let ExtError::CannotShrink(why) = &refused else {
        panic!("{refused}");
    };
    assert!(
        why.contains("needs") && why.contains("there would be"),
        "{why}"
    );
    let refused = shrink(&image, 3000).unwrap_err();
    assert!(matches!(refused, ExtError::CannotShrink(_)), "{refused}");
    assert!(fs::read(&image).unwrap() == before);
    // As far as it goes, which is what is said of it beforehand.
    let usage = imagecraft::fs::ext::usage(&imagecraft::FileDisk::open(&image).unwrap()).unwrap();
    let shrunk = usage.shrunk.unwrap();
    assert!(shrink(&image, shrunk).unwrap().after <= shrunk);
    is_sound(&image, "as far as was said");
    assert_eq!(shrink(&image, 1 << 40).unwrap().moved, 0);
}

#[test]
fn little_memory_is_needed_to_move_much() {
    let dir = TempDir::new().unwrap();
    let (image, at) = (dir.path().join("image"), dir.path().join("mnt"));
    mke2fs(&image, 2000, "-t ext4 -b 4096 -O ^flex_bg", None);
    let Some(mounted) = mount(&image, &at, "rw") else {
        return;
    };
    // The first one fills the front and goes, so that the other lies behind.
    for name in ["first", "second"] {
        let path = mounted.0.join(name);
        fs::write(&path, vec![name.len() as u8; 700_000_000]).unwrap();
        run("sync", &[]);
    }
    fs::remove_file(mounted.0.join("first")).unwrap();
    drop(mounted);
    let mut disk = overlay(&image, 2000 << 20);
    let mut editor = Editor::open(&mut disk).unwrap();
    let done = editor.shrink(900 << 20).unwrap();
    editor.close().unwrap();
    println!("{done:?}");
    assert!(done.moved > 300_000_000, "{done:?}");
    assert!(
        disk.held() < 8_000_000,
        "{} bytes are held in memory",
        disk.held()
    );
    assert_eq!(disk.len(), 2000 << 20);
}

/// Puts a file system behind a table of one partition, as cards have it.
fn card_with(image: &Path, card: &Path) {
    const START: u64 = 4 << 20;
    let len = fs::metadata(image).unwrap().len();
    let file = fs::File::create(card).unwrap();
    file.set_len(START + len).unwrap();
    let mut table = [0; 512];
    table[450] = 0x83;
    table[454..458].copy_from_slice(&((START / 512) as u32).to_le_bytes());
    table[458..462].copy_from_slice(&((len / 512) as u32).to_le_bytes());
    table[510..].copy_from_slice(&[0x55, 0xaa]);
    use std::os::unix::fs::FileExt;
    file.write_all_at(&table, 0).unwrap();
    drop(file);
    let out = format!("of={}", card.display());
    let from = format!("if={}", image.display());
    run(
        "dd",
        &[
            &from,
            &out,
            "bs=1M",
            "seek=4",
            "conv=notrunc,sparse",
            "status=none",
        ],
    );
}

#[test]
fn the_smallest_card_that_is_said_is_one_that_is_accepted_whatever_the_file_system() {
    let dir = TempDir::new().unwrap();
    let image = dir.path().join("image");
    let card = dir.path().join("card");
    let at = dir.path().join("at");
    fs::create_dir(&at).unwrap();
    let mut random = Random(0x5137);
    for (number, options) in [
        "-t ext4",
        "-t ext4 -O bigalloc -C 65536",
        "-t ext4 -O quota",
        "-t ext4 -O ^flex_bg,^resize_inode",
        "-t ext4 -O meta_bg,^resize_inode",
        "-t ext4 -b 1024 -N 60000",
        "-t ext4 -O sparse_super2",
        "-t ext3",
        "-t ext2 -b 1024",
    ]
    .into_iter()
    .enumerate()
    {
        for folders in [0, 60] {
            let what = format!("{options} with {folders} folders");
            if !mke2fs(&image, 300, options, None) {
                continue;
            }
            if folders > 0 {
                let Some(mounted) = mount(&image, &at, "rw") else {
                    continue;
                };
                fill(&at, &mut random, folders);
                // What lies at the end must go a long way.
                let _ = fs::remove_dir_all(at.join("folder-0"));
                drop(mounted);
            }
            card_with(&image, &card);
            let disk = imagecraft::FileDisk::open(&card).unwrap();
            let seen = imagecraft::inspect::inspect(&disk).unwrap();
            let said = seen.shrunk_card.unwrap_or(seen.smallest_card);
            let recipe = imagecraft::compose::Recipe {
                shrinks: true,
                ..imagecraft::compose::Recipe::default()
            };
            let made = imagecraft::compose::compose(&disk, &seen.map, said, &recipe);
            let made = made.unwrap_or_else(|e| panic!("{what}: {said} was said, and refused: {e}"));
            if number % 2 == 0 || folders > 0 {
                let root = dir.path().join("root");
                let len = said - (4 << 20);
                let bytes = made.disk.read_vec(4 << 20, len as usize).unwrap();
                fs::write(&root, bytes).unwrap();
                is_sound(&root, &what);
            }
        }
    }
}

/// What is not shrunk at all needs a card as large as it is, and that is what is said.
#[test]
fn a_hybrid_table_and_a_damaged_file_system_need_the_whole_size() {
    let dir = TempDir::new().unwrap();
    let (image, card) = (dir.path().join("image"), dir.path().join("card"));
    let fits = |card: &Path| {
        let disk = imagecraft::FileDisk::open(card).unwrap();
        let seen = imagecraft::inspect::inspect(&disk).unwrap();
        let said = seen.shrunk_card.unwrap_or(seen.smallest_card);
        let recipe = imagecraft::compose::Recipe {
            shrinks: true,
            ..imagecraft::compose::Recipe::default()
        };
        let made = imagecraft::compose::compose(&disk, &seen.map, said, &recipe);
        made.unwrap_or_else(|e| panic!("{said} was said, and refused: {e}"));
        (seen.shrunk_card, seen.smallest_card)
    };
    // Block bitmaps of which one says nothing true.
    assert!(mke2fs(
        &image,
        300,
        "-t ext4 -b 4096 -O ^metadata_csum",
        None
    ));
    card_with(&image, &card);
    let (shrunk, whole) = fits(&card);
    assert!(shrunk.is_some_and(|shrunk| shrunk < whole / 2));
    let told = run("dumpe2fs", &[image.to_str().unwrap()]);
    let bitmap = told
        .lines()
        .find_map(|line| line.trim().strip_prefix("Block bitmap at "))
        .and_then(|rest| {
            rest.split_whitespace()
                .next()?
                .trim_end_matches(',')
                .parse::<u64>()
                .ok()
        })
        .expect("it has a bitmap");
    use std::os::unix::fs::FileExt;
    let file = fs::File::options().write(true).open(&image).unwrap();
    file.write_all_at(&[0; 4096], bitmap * 4096).unwrap();
    card_with(&image, &card);
    let (shrunk, _) = fits(&card);
    assert_eq!(shrunk, None, "damaged");

    // A master boot record that names the partition of the GUID partition table as well.
    assert!(mke2fs(&image, 300, "-t ext4", None));
    let rules = dir.path().join("rules");
    fs::write(&rules, "label: gpt\nstart=8192, size=614400, type=linux\n").unwrap();
    fs::File::create(&card).unwrap().set_len(320 << 20).unwrap();
    run(
        "sh",
        &[
            "-c",
            &format!("sfdisk -q {} < {}", card.display(), rules.display()),
        ],
    );
    let out = format!("of={}", card.display());
    let from = format!("if={}", image.display());
    let into = ["bs=1M", "seek=4", "conv=notrunc,sparse", "status=none"];
    run("dd", &[&[from.as_str(), out.as_str()][..], &into].concat());
    let (shrunk, whole) = fits(&card);
    assert!(shrunk.is_some_and(|shrunk| shrunk < whole / 2));
    run("sgdisk", &["--hybrid", "1", card.to_str().unwrap()]);
    let (shrunk, _) = fits(&card);
    assert_eq!(shrunk, None, "hybrid");
}
