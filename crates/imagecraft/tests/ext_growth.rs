//! ext file systems grown far: judged by e2fsck and by the kernel, which must also be able to use
//! what was gained.

mod judges;

use std::collections::BTreeMap;
use std::fs;

use imagecraft::Disk;
use imagecraft::fs::ext::{Attributes, Editor, Grown};
use judges::{carry_over, is_sound, mke2fs, mount, overlay, run, tool};
use tempfile::TempDir;

/// What `dumpe2fs -h` says.
fn head(image: &std::path::Path) -> BTreeMap<String, String> {
    run("dumpe2fs", &["-h", image.to_str().unwrap()])
        .lines()
        .filter_map(|line| line.split_once(':'))
        .map(|(key, value)| (key.to_owned(), value.trim().to_owned()))
        .collect()
}

/// Grows an image to `len` bytes; gives what was done and the number of chunks touched.
fn grow(image: &std::path::Path, len: u64, scattered: bool) -> (Grown, usize) {
    let mut disk = overlay(image, len);
    let mut editor = Editor::open(&mut disk).unwrap();
    editor
        .put("/placed", b"before growth", &Attributes::default())
        .unwrap();
    let grown = editor.grow(scattered).unwrap();
    editor
        .put("/etc/after", b"after growth", &Attributes::default())
        .unwrap();
    editor.close().unwrap();
    (grown, carry_over(&disk, image))
}

#[test]
fn file_systems_of_all_kinds_grow_over_their_partition() {
    let dir = TempDir::new().unwrap();
    let image = dir.path().join("image");
    // To an odd length, so that the last group is a short one.
    for (megabytes, to, options, whole) in [
        (400, 4001, "-t ext4 -b 4096", true),
        (400, 31_000, "-t ext4 -b 4096", true),
        (
            400,
            31_000,
            "-t ext4 -b 4096 -O ^64bit,^metadata_csum,uninit_bg",
            true,
        ),
        (400, 9000, "-t ext4 -b 4096 -O ^flex_bg", true),
        (
            400,
            4100,
            "-t ext4 -b 4096 -O ^metadata_csum,^uninit_bg",
            true,
        ),
        (60, 2000, "-t ext4 -b 1024", true),
        (60, 2000, "-t ext4 -b 1024 -O ^flex_bg", true),
        (60, 900, "-t ext4 -b 2048 -O sparse_super2", true),
        (
            60,
            100,
            "-t ext4 -b 1024 -O ^sparse_super,^resize_inode",
            true,
        ),
        (60, 3000, "-t ext4 -b 1024 -O meta_bg,^resize_inode", true),
        (
            60,
            3000,
            "-t ext4 -b 1024 -O meta_bg,^resize_inode,^flex_bg",
            true,
        ),
        (60, 3000, "-t ext4 -b 1024 -O ^resize_inode", false),
        (60, 5000, "-t ext4 -b 1024 -E resize=500000", false),
        (100, 2000, "-t ext3 -b 4096 -I 128", true),
        (100, 2000, "-t ext3 -b 1024", true),
        (100, 2000, "-t ext2 -b 4096", true),
        (30, 300, "-t ext2 -b 1024 -g 1024", true),
        (30, 700, "-t ext4 -b 1024 -N 300 -G 8", true),
        (
            30,
            1700,
            "-t ext4 -b 1024 -O orphan_file,metadata_csum_seed",
            true,
        ),
    ] {
        let what = format!("mkfs {options}, {megabytes} MB to {to}");
        if !mke2fs(&image, megabytes, options, None) {
            continue;
        }
        let before = head(&image);
        let len = (to << 20) + 5 * 4096 + 1024;
        let (grown, _) = grow(&image, len, false);
        is_sound(&image, &what);
        let block = before["Block size"].parse::<u64>().unwrap();
        assert_eq!(grown.before, megabytes << 20, "{what}");
        assert!(grown.after > grown.before, "{what}: {grown:?}");
        // What is left is shorter than a group's tables.
        let missing = len - grown.after;
        assert_eq!(grown.limited.is_none(), whole, "{what}: {grown:?}");
        assert!(
            !whole || missing < 3000 * block,
            "{what}: {missing} bytes left"
        );
        let after = head(&image);
        for kept in [
            "Filesystem UUID",
            "Filesystem volume name",
            "Directory Hash Seed",
        ] {
            assert_eq!(before.get(kept), after.get(kept), "{what}");
        }
        let kept = |head: &BTreeMap<String, String>| {
            let count = |key: &str| head[key].parse::<f64>().unwrap();
            count("Reserved block count") / count("Block count")
        };
        assert!((kept(&before) - kept(&after)).abs() < 0.002, "{what}");
        // Each copy of the superblock serves when the first is lost.
        let place = tool("dumpe2fs", &[image.to_str().unwrap()]).0;
        let copies: Vec<&str> = place
            .lines()
            .filter_map(|line| line.trim().strip_prefix("Backup superblock at "))
            .filter_map(|rest| rest.split(',').next())
            .collect();
        for copy in copies.iter().take(2).chain(copies.last()) {
            let block = block.to_string();
            let image = image.to_str().unwrap();
            let args = ["-fn", "-b", *copy, "-B", block.as_str(), image];
            let (words, code) = tool("e2fsck", &args);
            // It calls the file system not clean, since it does not trust a copy's state.
            assert!(
                code <= 4 && !words.contains("superblock is corrupt"),
                "{what}: {words}"
            );
            assert!(
                !words.contains("orrupt") && !words.contains("nvalid"),
                "{what}: {words}"
            );
        }
        // The kernel uses all of it.
        let Some(mounted) = mount(&image, &dir.path().join("mnt"), "rw") else {
            continue;
        };
        assert_eq!(
            fs::read(mounted.0.join("placed")).unwrap(),
            b"before growth"
        );
        assert_eq!(
            fs::read(mounted.0.join("etc/after")).unwrap(),
            b"after growth"
        );
        let large = mounted.0.join("large");
        let wanted = (grown.after - grown.before) / 3;
        let file = fs::File::create(&large).unwrap();
        let fallocate = tool(
            "fallocate",
            &["-l", &wanted.to_string(), large.to_str().unwrap()],
        );
        assert!(
            fallocate.1 == 0 || fallocate.0.contains("not supported"),
            "{what}: {}",
            fallocate.0
        );
        drop(file);
        for number in 0..200 {
            fs::create_dir(mounted.0.join(format!("folder {number}"))).unwrap();
        }
        drop(mounted);
        is_sound(&image, &format!("{what}, used by the kernel"));
    }
}

#[test]
fn growth_beyond_the_reserved_room_goes_on_where_it_may() {
    let dir = TempDir::new().unwrap();
    let image = dir.path().join("image");
    for options in [
        "-t ext4 -b 1024 -O ^resize_inode",
        "-t ext4 -b 1024 -O ^resize_inode,^flex_bg",
        "-t ext4 -b 1024 -E resize=300000",
        "-t ext4 -b 1024 -O ^64bit,^metadata_csum -E resize=300000",
        "-t ext3 -b 1024 -E resize=300000",
        "-t ext4 -b 1024 -O sparse_super2,^resize_inode",
    ] {
        for from in [10, 63, 130] {
            mke2fs(&image, from, options, None);
            let what = format!("mkfs {options}, {from} MB");
            let (stopped, _) = grow(&image, 2500 << 20, false);
            let why = stopped.limited.as_deref().unwrap_or_default();
            assert!(why.contains("room for no more"), "{what}: {stopped:?}");
            is_sound(&image, &what);
            let (grown, _) = grow(&image, 2500 << 20, true);
            assert_eq!(grown.limited, None, "{what}");
            assert_eq!(grown.after, 2500 << 20, "{what}");
            is_sound(&image, &format!("{what}, scattered"));
            // Once more, in one go with descriptors in several groups of groups.
            let (grown, _) = grow(&image, 3777 << 20, true);
            assert_eq!(grown.limited, None, "{what}");
            is_sound(&image, &format!("{what}, scattered again"));
            if let Some(mounted) = mount(&image, &dir.path().join("mnt"), "rw") {
                fs::write(mounted.0.join("more"), vec![1; 5_000_000]).unwrap();
                drop(mounted);
                is_sound(&image, &format!("{what}, used by the kernel"));
            }
        }
    }
}

#[test]
fn little_is_written_to_grow_far() {
    let dir = TempDir::new().unwrap();
    let image = dir.path().join("image");
    for options in ["-t ext4 -b 4096", "-t ext4 -b 4096 -O ^flex_bg"] {
        mke2fs(&image, 4000, options, None);
        let (grown, chunks) = grow(&image, 31_900 << 20, false);
        assert_eq!(grown.limited, None);
        println!("mkfs {options}: {chunks} chunks");
        assert!(chunks < 100, "mkfs {options}: {chunks} chunks");
        is_sound(&image, options);
    }
}

#[test]
fn nothing_happens_where_there_is_nothing_to_gain() {
    let dir = TempDir::new().unwrap();
    let image = dir.path().join("image");
    mke2fs(&image, 64, "-t ext4", None);
    let mut disk = overlay(&image, (64 << 20) + 900_000);
    let mut editor = Editor::open(&mut disk).unwrap();
    let grown = editor.grow(false).unwrap();
    editor.close().unwrap();
    assert!(grown.after - grown.before <= 900_000, "{grown:?}");
    let mut shorter = overlay(&image, 64 << 20);
    let mut editor = Editor::open(&mut shorter).unwrap();
    let grown = editor.grow(true).unwrap();
    assert_eq!((grown.before, grown.after), (64 << 20, 64 << 20));
    editor.close().unwrap();
    assert_eq!(shorter.len(), 64 << 20);
    assert_eq!(shorter.changed_chunks().count(), 0, "not even a time");
}
