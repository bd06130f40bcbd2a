//! Journals replayed by e2fsck on the disk and here in the reader's eyes only: both must come to
//! the same bytes, block by block. The transactions are written by debugfs, with blocks that are
//! given up later, blocks that come twice, and blocks that look like the journal's own.

mod judges;

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use imagecraft::fs::ext::{Replayed, Superblock};
use imagecraft::fs::{State, usage};
use imagecraft::{ByteKind, Disk, FileDisk, MemoryDisk};
use judges::tool as run;
use tempfile::TempDir;

fn made(dir: &TempDir, options: &str) -> PathBuf {
    let path = dir.path().join("image");
    let _ = fs::remove_file(&path);
    fs::File::create(&path).unwrap().set_len(32 << 20).unwrap();
    let mut args = vec!["-q", "-F"];
    args.extend(options.split(' '));
    args.push(path.to_str().unwrap());
    let (words, code) = run("mke2fs", &args);
    assert_eq!(code, 0, "{words}");
    path
}

/// Blocks of `len` bytes, each with its own look; every third begins like a block of a journal.
fn content(dir: &TempDir, name: &str, len: usize, count: usize, seed: u8) -> PathBuf {
    let mut bytes = Vec::new();
    for number in 0..count {
        let mut block = vec![seed.wrapping_add(number as u8 * 17) | 1; len];
        if number % 3 == 0 {
            block[..4].copy_from_slice(&0xc03b_3998_u32.to_be_bytes());
        }
        bytes.extend(block);
    }
    let path = dir.path().join(name);
    fs::write(&path, bytes).unwrap();
    path
}

/// Gives commands to debugfs.
fn write_journal(dir: &TempDir, image: &Path, commands: &[String]) {
    let file = dir.path().join("commands");
    fs::write(&file, commands.join("\n")).unwrap();
    let args = ["-w", "-f", file.to_str().unwrap(), image.to_str().unwrap()];
    let (words, code) = run("debugfs", &args);
    assert_eq!(code, 0, "{words}");
    assert!(
        !words.contains("rror") && !words.contains("Usage"),
        "{words}"
    );
}

/// Blocks of the journal itself, which a replay empties.
fn journal_blocks(image: &Path) -> BTreeSet<u64> {
    let (words, _) = run("debugfs", &["-R", "blocks <8>", image.to_str().unwrap()]);
    words
        .split_whitespace()
        .filter_map(|word| word.parse().ok())
        .collect()
}

/// Compares what is read here with what e2fsck left on a copy; gives the number of transactions.
fn compare(dir: &TempDir, image: &Path, what: &str) -> u32 {
    let copy = dir.path().join("copy");
    fs::copy(image, &copy).unwrap();
    let args = ["-y", "-E", "journal_only", copy.to_str().unwrap()];
    let (words, code) = run("e2fsck", &args);
    assert!(code <= 1, "{what}: {words}");
    let disk = FileDisk::open(image).unwrap();
    let superblock = Superblock::read(&disk).unwrap();
    assert!(superblock.needs_recovery(), "{what}");
    let replayed = Replayed::new(&disk, &superblock).unwrap();
    let judged = FileDisk::open(&copy).unwrap();
    let journal = journal_blocks(image);
    assert!(!journal.is_empty(), "{what}");
    let len = superblock.block_len;
    for block in 0..superblock.blocks {
        // The judge also writes into the superblock that it was here.
        let holds_superblock = block * len <= 1024 && 1024 < (block + 1) * len;
        if holds_superblock || journal.contains(&block) {
            continue;
        }
        let mine = replayed.read_vec(block * len, len as usize).unwrap();
        let theirs = judged.read_vec(block * len, len as usize).unwrap();
        assert!(mine == theirs, "{what}: block {block}");
    }
    replayed.transactions()
}

#[test]
fn replaying_here_and_on_the_disk_comes_to_the_same_bytes() {
    let dir = TempDir::new().unwrap();
    for (options, opened) in [
        ("-t ext3 -b 1024 -J size=4", "jo"),
        ("-t ext3 -b 4096 -J size=4", "jo"),
        ("-t ext4 -b 1024 -J size=4", "jo -c -v 3"),
        ("-t ext4 -b 4096 -J size=4", "jo -c -v 2"),
        ("-t ext4 -b 1024 -J size=4 -O ^64bit,^metadata_csum", "jo"),
    ] {
        let image = made(&dir, options);
        let len = if options.contains("4096") { 4096 } else { 1024 };
        let first = content(&dir, "first", len, 6, 3);
        let second = content(&dir, "second", len, 3, 90);
        let base = if len == 4096 { 6000 } else { 20_000 };
        let list = |from: u64, count: u64| {
            let numbers: Vec<_> = (from..from + count)
                .map(|block| block.to_string())
                .collect();
            numbers.join(",")
        };
        write_journal(
            &dir,
            &image,
            &[
                opened.into(),
                format!("jw -b {} {}", list(base, 6), first.display()),
                // The second and third are given up, and the third comes back.
                format!("jw -r {}", list(base + 1, 2)),
                format!("jw -b {} {}", list(base + 2, 3), second.display()),
                "jc".into(),
            ],
        );
        let transactions = compare(&dir, &image, options);
        assert_eq!(transactions, 3, "{options}");
        let disk = FileDisk::open(&image).unwrap();
        let state = usage(&disk).unwrap().unwrap().state;
        assert_eq!(state, State::Replayed { transactions: 3 }, "{options}");
    }
}

#[test]
fn a_transaction_without_its_end_never_took_place_and_a_damaged_one_is_not_replayed() {
    let dir = TempDir::new().unwrap();
    let image = made(&dir, "-t ext4 -b 1024 -J size=4");
    let blocks = content(&dir, "blocks", 1024, 4, 7);
    let list = "20000,20001,20002,20003";
    write_journal(
        &dir,
        &image,
        &[
            "jo -c -v 3".into(),
            format!("jw -b {list} {}", blocks.display()),
            format!("jw -b {list} {}", blocks.display()),
            "jc".into(),
        ],
    );
    assert_eq!(compare(&dir, &image, "whole"), 2);
    let journal: Vec<_> = journal_blocks(&image).into_iter().collect();
    let whole = fs::read(&image).unwrap();
    let with = |change: &dyn Fn(&mut Vec<u8>)| {
        let mut bytes = whole.clone();
        change(&mut bytes);
        let disk = MemoryDisk::from(bytes);
        usage(&disk).unwrap().unwrap()
    };
    // Superblock, descriptor, four blocks, commit; the same again.
    let at = |number: usize| journal[number] as usize * 1024;
    let commit_gone = with(&|bytes| bytes[at(12) + 4] ^= 0xff);
    assert_eq!(commit_gone.state, State::Replayed { transactions: 1 });
    let descriptor_gone = with(&|bytes| bytes[at(7) + 30] ^= 1);
    assert_eq!(descriptor_gone.state, State::Replayed { transactions: 1 });
    for (what, byte) in [("copy of a block", at(8) + 500), ("superblock", at(0) + 40)] {
        let damaged = with(&|bytes| bytes[byte] ^= 0x40);
        let State::Whole(reason) = &damaged.state else {
            panic!("{what}: {:?}", damaged.state);
        };
        assert!(reason.contains("cannot be replayed"), "{what}: {reason}");
        assert_eq!(damaged.map.total(ByteKind::Free), 0, "{what}");
    }
}
