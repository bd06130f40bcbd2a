//! ext file systems made by the system's own tools with many options: which blocks are in use is
//! compared with dumpe2fs block by block, files with debugfs and a second reader, and file systems
//! that were not unmounted are restored and checked.

mod judges;

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::Command;

use imagecraft::fs::{Files, NodeKind, State, usage, walk};
use imagecraft::{ByteKind, Disk, FileDisk, MemoryDisk, Overlay};
use judges::{mount, run};
use tempfile::TempDir;

/// A folder with files of many shapes; gives path and content of each.
fn tree(dir: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut files = BTreeMap::new();
    let mut put = |path: &str, bytes: Vec<u8>| {
        let at = dir.join(path.trim_start_matches('/'));
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(at, &bytes).unwrap();
        files.insert(path.to_owned(), bytes);
    };
    put("/empty", Vec::new());
    put("/tiny", b"tiny".to_vec());
    put("/etc/host name", b"quay-01\n".to_vec());
    put(
        "/large",
        (0..3_000_000u32)
            .map(|i| (i.wrapping_mul(i) >> 9) as u8)
            .collect(),
    );
    for number in 0..400 {
        put(
            &format!("/many/a file with a longer name, number {number:04}"),
            vec![number as u8; number],
        );
    }
    std::os::unix::fs::symlink("/etc/host name", dir.join("short link")).unwrap();
    let long = format!("{}etc/host name", "./".repeat(60));
    std::os::unix::fs::symlink(long, dir.join("long link")).unwrap();
    std::os::unix::fs::symlink("again", dir.join("again")).unwrap();
    let sparse = fs::File::create(dir.join("sparse")).unwrap();
    sparse.set_len(200_000).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&sparse, b"end", 150_000).unwrap();
    files
}

/// Blocks that dumpe2fs lists as free.
fn free_blocks(image: &Path) -> Vec<(u64, u64)> {
    let text = run("dumpe2fs", &[image.to_str().unwrap()]);
    let mut free = Vec::new();
    for line in text.lines() {
        if let Some(list) = line.strip_prefix("  Free blocks: ") {
            for range in list.split(", ").filter(|range| !range.is_empty()) {
                let (first, last) = range.split_once('-').unwrap_or((range, range));
                free.push((first.parse().unwrap(), last.parse().unwrap()));
            }
        }
    }
    free
}

/// Block and cluster length in bytes.
fn block_len(image: &Path) -> (u64, u64) {
    let text = run("dumpe2fs", &["-h", image.to_str().unwrap()]);
    let number = |start: &str| -> Option<u64> {
        let line = text.lines().find(|line| line.starts_with(start))?;
        line.split_whitespace().last()?.parse().ok()
    };
    let block = number("Block size:").unwrap();
    (block, number("Cluster size:").unwrap_or(block))
}

/// Bytes that dumpe2fs does not call free and no system reads: of inode tables that were never
/// written, and of the room for more descriptors behind copies of the superblock.
fn raw_tables(image: &Path) -> Vec<(u64, u64)> {
    let text = run("dumpe2fs", &[image.to_str().unwrap()]);
    let (block_len, _) = block_len(image);
    let number = |start: &str| -> Option<u64> {
        let line = text.lines().find(|line| line.starts_with(start))?;
        line.split_whitespace().last()?.parse().ok()
    };
    let (inodes, inode_len) = (
        number("Inodes per group:").unwrap(),
        number("Inode size:").unwrap_or(128),
    );
    let lazy = text.contains("metadata_csum") || text.contains("uninit_bg");
    let (mut zeroed, mut first_group) = (true, true);
    let (mut table, mut found) = ((0, 0), Vec::new());
    for line in text.lines() {
        if line.starts_with("Group ") {
            zeroed = !lazy || line.contains("ITABLE_ZEROED");
            first_group = line.starts_with("Group 0:");
        }
        if let Some(range) = line.trim().strip_prefix("Inode table at ") {
            let (first, last) = range.split(' ').next().unwrap().split_once('-').unwrap();
            table = (first.parse().unwrap(), last.parse::<u64>().unwrap() + 1);
        }
        if let Some(range) = line.trim().strip_prefix("Reserved GDT blocks at ") {
            let (first, last) = range.split_once('-').unwrap_or((range, range));
            let (first, last): (u64, u64) = (first.parse().unwrap(), last.parse().unwrap());
            if !first_group {
                found.push((first * block_len, (last + 1) * block_len));
            }
        }
        let unused = line.trim().strip_suffix(" unused inodes");
        if let Some(unused) = unused.filter(|_| !zeroed) {
            let unused: u64 = unused.rsplit(' ').next().unwrap().parse().unwrap();
            let written = ((inodes - unused) * inode_len).div_ceil(block_len);
            found.push(((table.0 + written) * block_len, table.1 * block_len));
        }
    }
    found
}

fn compare_blocks(image: &Path, what: &str) {
    let disk = FileDisk::open(image).unwrap();
    let found = usage(&disk).unwrap().unwrap();
    assert_eq!(found.state, State::Clean, "{what}");
    let (block_len, cluster_len) = block_len(image);
    let mut expected = imagecraft::Map::uniform(found.len, ByteKind::Data);
    for (first, last) in free_blocks(image) {
        // A range of clusters is told by the first block of its last one.
        expected.set(
            first * block_len,
            last * block_len + cluster_len,
            ByteKind::Free,
        );
    }
    let raw = raw_tables(image);
    let lazily = what.contains("lazy_itable_init=1");
    assert!(!lazily || raw.len() > 30, "{what}");
    for (start, end) in raw {
        expected.set(start, end, ByteKind::Free);
    }
    let mut mine = found.map.clone();
    // What lies behind the file system is no block of it.
    mine.set(found.len, disk.len(), ByteKind::Free);
    let expected = expected.resized(disk.len());
    assert_eq!(mine, expected, "{what}");
    assert_eq!(found.used + found.free, found.len, "{what}");
}

fn compare_files(files: &dyn Files, expected: &BTreeMap<String, Vec<u8>>, what: &str) {
    for (path, bytes) in expected {
        let mut found = Vec::new();
        files
            .read_into(path, &mut |piece| {
                found.extend_from_slice(piece);
                Ok(())
            })
            .unwrap_or_else(|e| panic!("{what}: {path}: {e}"));
        assert!(found == *bytes, "{what}: {path} differs");
    }
    let mut names = 0;
    walk(files, &mut |_, node| {
        names += usize::from(node.kind == NodeKind::File);
        Ok(())
    })
    .unwrap();
    assert_eq!(names, expected.len() + 1, "{what}: with the sparse file");
    for link in ["/short link", "/long link"] {
        assert_eq!(
            files.read_head(link, 100).unwrap(),
            b"quay-01\n",
            "{what}: {link}"
        );
    }
    let sparse = files.read_head("/sparse", 300_000).unwrap();
    // Some versions of the maker cut it behind its last block.
    assert!(sparse.len() >= 150_003, "{what}");
    assert_eq!(
        sparse.len() as u64,
        files.find("/sparse").unwrap().unwrap().len,
        "{what}"
    );
    assert_eq!(&sparse[150_000..150_003], b"end", "{what}");
    assert!(sparse[..150_000].iter().all(|byte| *byte == 0), "{what}");
    assert!(
        files.read_head("/again", 1).is_err(),
        "{what}: a link to itself"
    );
    assert!(files.find("/many/none").unwrap().is_none(), "{what}");
}

#[test]
fn blocks_and_files_are_those_that_the_judges_see() {
    let dir = TempDir::new().unwrap();
    let source = dir.path().join("tree");
    fs::create_dir(&source).unwrap();
    let expected = tree(&source);
    let image = dir.path().join("image");
    for (megabytes, options) in [
        (24, "-t ext2 -b 1024"),
        (24, "-t ext2 -b 4096 -O ^resize_inode"),
        (40, "-t ext2 -r 0 -b 1024"),
        (40, "-t ext3 -b 1024 -g 1024"),
        (64, "-t ext3 -b 4096 -I 128"),
        (64, "-t ext4 -b 1024"),
        (64, "-t ext4 -b 2048 -O ^metadata_csum,uninit_bg"),
        (400, "-t ext4 -b 4096"),
        (400, "-t ext4 -b 4096 -O ^has_journal -G 1"),
        (400, "-t ext4 -O ^64bit,^metadata_csum,^flex_bg"),
        (400, "-t ext4 -O ^uninit_bg,^metadata_csum"),
        (64, "-t ext4 -O meta_bg,^resize_inode -b 1024 -g 256"),
        (
            300,
            "-t ext4 -O meta_bg,^resize_inode,^flex_bg -b 1024 -g 2048",
        ),
        (300, "-t ext4 -O bigalloc -C 16384"),
        (300, "-t ext4 -O bigalloc -b 1024 -C 65536"),
        (300, "-t ext4 -O metadata_csum_seed"),
        (300, "-t ext4 -O sparse_super2 -b 1024"),
        (300, "-t ext4 -O ^sparse_super,^resize_inode -b 1024"),
        (64, "-t ext4 -O inline_data -I 256"),
        (64, "-t ext4 -O quota,project,verity,large_dir,ea_inode"),
        (300, "-t ext4 -O orphan_file"),
        (
            300,
            "-t ext4 -E nodiscard,lazy_itable_init=1,lazy_journal_init=1 -b 1024",
        ),
        (300, "-t ext4 -b 1024 -J size=16 -i 4096"),
        (300, "-t ext4 -b 65536"),
    ] {
        let what = format!("mkfs {options}");
        let _ = fs::remove_file(&image);
        fs::File::create(&image)
            .unwrap()
            .set_len(megabytes << 20)
            .unwrap();
        let mut args = vec!["-q", "-F", "-d", source.to_str().unwrap()];
        args.extend(options.split(' '));
        args.push(image.to_str().unwrap());
        let made = Command::new("/usr/sbin/mke2fs")
            .args(&args)
            .output()
            .unwrap();
        if !made.status.success() {
            // The installed tool may be older than a feature.
            let why = String::from_utf8_lossy(&made.stderr);
            println!("skipped: {what}: {}", why.trim());
            assert!(why.contains("Invalid filesystem option"), "{what}: {why}");
            continue;
        }
        compare_blocks(&image, &what);
        let disk = FileDisk::open(&image).unwrap();
        let files = imagecraft::fs::open(&disk).unwrap().unwrap();
        compare_files(files.as_ref(), &expected, &what);
        let node = files.find("/tiny").unwrap().unwrap();
        let stat = run("debugfs", &["-R", "stat /tiny", image.to_str().unwrap()]);
        let mode = format!("Mode:  0{:o}", node.mode.unwrap());
        assert!(stat.contains(&mode), "{what}: {mode} not in {stat}");
    }
}

#[test]
fn a_second_reader_sees_the_same_files() {
    let dir = TempDir::new().unwrap();
    let source = dir.path().join("tree");
    fs::create_dir(&source).unwrap();
    let expected = tree(&source);
    let image = dir.path().join("image");
    fs::File::create(&image).unwrap().set_len(64 << 20).unwrap();
    let args = [
        "-q",
        "-F",
        "-d",
        source.to_str().unwrap(),
        "-t",
        "ext4",
        image.to_str().unwrap(),
    ];
    run("mke2fs", &args);
    let disk = FileDisk::open(&image).unwrap();
    let files = imagecraft::fs::open(&disk).unwrap().unwrap();
    let other = ext4_view::Ext4::load_from_path(&image).unwrap();
    for path in expected.keys() {
        let theirs = other.read(path.as_str()).unwrap();
        assert!(
            files.read_head(path, theirs.len() + 1).unwrap() == theirs,
            "{path}"
        );
    }
    let theirs = other.read_dir("/many").unwrap().count() - 2;
    assert_eq!(files.list("/many").unwrap().len(), theirs);
}

/// Copies what matters of `disk` to a new file; everything that is free holds noise there, as on
/// a card that was used before.
fn restore(disk: &FileDisk, to: &Path) {
    let found = usage(disk).unwrap().unwrap();
    let mut out = FileDisk::create(to, disk.len()).unwrap();
    for run in found.map.runs() {
        let mut at = run.start;
        while at < run.end {
            let len = (run.end - at).min(1 << 20) as usize;
            let bytes = match run.kind {
                ByteKind::Free => vec![0xa5; len],
                _ => disk.read_vec(at, len).unwrap(),
            };
            out.write_at(at, &bytes).unwrap();
            at += len as u64;
        }
    }
}

#[test]
fn a_file_system_copied_while_mounted_loses_no_synced_file() {
    for options in [
        "-t ext4 -b 1024",
        "-t ext4 -b 4096",
        "-t ext3 -b 4096",
        "-t ext4 -O ^64bit,^metadata_csum -J size=4 -b 1024",
    ] {
        let dir = TempDir::new().unwrap();
        let (image, copy, back) = (
            dir.path().join("image"),
            dir.path().join("copy"),
            dir.path().join("back"),
        );
        fs::File::create(&image)
            .unwrap()
            .set_len(128 << 20)
            .unwrap();
        let mut args = vec!["-q", "-F"];
        args.extend(options.split(' '));
        args.push(image.to_str().unwrap());
        run("mke2fs", &args);
        let Some(mounted) = mount(&image, &dir.path().join("mnt"), "commit=600") else {
            return;
        };
        let mut expected = BTreeMap::new();
        for round in 0..6u32 {
            let folder = format!("round {round}");
            fs::create_dir(mounted.0.join(&folder)).unwrap();
            for number in 0..150u32 {
                let path = format!("{folder}/file {number}");
                let bytes: Vec<u8> = (0..number * 97 + round)
                    .map(|i| (i * 7 + number) as u8)
                    .collect();
                fs::write(mounted.0.join(&path), &bytes).unwrap();
                expected.insert(format!("/{path}"), bytes);
            }
            if round > 1 {
                let gone = format!("round {}", round - 2);
                fs::remove_dir_all(mounted.0.join(&gone)).unwrap();
                expected.retain(|path, _| !path.starts_with(&format!("/{gone}/")));
            }
            run("sync", &["-f", mounted.0.to_str().unwrap()]);
        }
        // A last change that only the journal knows.
        fs::rename(mounted.0.join("round 5/file 7"), mounted.0.join("renamed")).unwrap();
        let moved = expected.remove("/round 5/file 7").unwrap();
        expected.insert("/renamed".into(), moved);
        fs::File::open(&mounted.0).unwrap().sync_all().unwrap();
        run(
            "cp",
            &[
                "--sparse=always",
                image.to_str().unwrap(),
                copy.to_str().unwrap(),
            ],
        );
        drop(mounted);

        let disk = FileDisk::open(&copy).unwrap();
        let state = usage(&disk).unwrap().unwrap().state;
        assert!(
            matches!(state, State::Replayed { transactions } if transactions > 0),
            "{options}: {state:?}"
        );
        restore(&disk, &back);
        for (which, path) in [("copy", &copy), ("restored", &back)] {
            let disk = FileDisk::open(path).unwrap();
            let files = imagecraft::fs::open(&disk).unwrap().unwrap();
            for (path, bytes) in &expected {
                let found = files.read_head(path, bytes.len() + 1);
                assert!(
                    found.is_ok_and(|found| found == *bytes),
                    "{options}: {which}: {path}"
                );
            }
        }
        // The kernel replays the journal of the restored one, and the judge finds nothing wrong.
        let again = mount(&back, &dir.path().join("mnt"), "rw").unwrap();
        for (path, bytes) in &expected {
            let found = fs::read(again.0.join(path.trim_start_matches('/'))).unwrap();
            assert!(
                found == *bytes,
                "{options}: the kernel reads another {path}"
            );
        }
        drop(again);
        run("e2fsck", &["-fn", back.to_str().unwrap()]);
    }
}

#[test]
fn what_cannot_be_trusted_is_kept_whole_and_says_why() {
    let dir = TempDir::new().unwrap();
    let make = |name: &str, options: &str| {
        let path = dir.path().join(name);
        fs::File::create(&path).unwrap().set_len(16 << 20).unwrap();
        let mut args = vec!["-q", "-F"];
        args.extend(options.split(' '));
        args.push(path.to_str().unwrap());
        run("mke2fs", &args);
        path
    };
    let reason = |path: &Path| {
        let disk = FileDisk::open(path).unwrap();
        let found = usage(&disk).unwrap().unwrap();
        assert_eq!(found.map.total(ByteKind::Data), disk.len());
        match found.state {
            State::Whole(reason) => reason,
            state => panic!("{state:?}"),
        }
    };
    let set = |path: &Path, what: &[&str]| {
        let mut args = vec!["-w"];
        let command = what.join(" ");
        args.extend(["-R", &command, path.to_str().unwrap()]);
        run("debugfs", &args);
    };
    let path = make("not unmounted", "-t ext2");
    set(&path, &["ssv", "state", "0"]);
    assert!(
        reason(&path).contains("was not unmounted"),
        "{}",
        reason(&path)
    );
    let path = make("errors", "-t ext4");
    set(&path, &["ssv", "state", "3"]);
    assert!(reason(&path).contains("errors"));
    let path = make("unknown feature", "-t ext4 -O ^metadata_csum");
    set(&path, &["ssv", "feature_incompat", "0x800042"]);
    assert!(reason(&path).contains("0x800000"), "{}", reason(&path));

    let path = make("bitmap", "-t ext4 -b 1024");
    let mut disk = FileDisk::open_writable(&path).unwrap();
    let text = run("dumpe2fs", &[path.to_str().unwrap()]);
    let bitmap: u64 = text
        .lines()
        .find_map(|line| line.trim().strip_prefix("Block bitmap at "))
        .and_then(|rest| rest.split([' ', ',']).next())
        .and_then(|number| number.parse().ok())
        .unwrap();
    disk.write_at(bitmap * 1024 + 900, &[0x55]).unwrap();
    assert!(reason(&path).contains("checksum of the block bitmap of group 0"));

    // Without checksums it is the descriptor's count that tells.
    for (name, options) in [
        ("no checksums", "-t ext4 -O ^metadata_csum -b 1024"),
        (
            "clusters",
            "-t ext4 -O ^metadata_csum,bigalloc -b 1024 -C 16384",
        ),
        ("ext2", "-t ext2 -b 1024"),
    ] {
        let path = make(name, options);
        let at = block_bitmap(&path) * 1024;
        let mut disk = FileDisk::open_writable(&path).unwrap();
        let first = disk.read_vec(at, 1).unwrap()[0];
        disk.write_at(at, &[first & 0xfe]).unwrap();
        assert!(reason(&path).contains("another number of blocks"), "{name}");
    }
}

/// Where the bitmap of the first group lies, in blocks.
fn block_bitmap(path: &Path) -> u64 {
    let text = run("dumpe2fs", &[path.to_str().unwrap()]);
    text.lines()
        .find_map(|line| line.trim().strip_prefix("Block bitmap at "))
        .and_then(|rest| rest.split([' ', ',']).next())
        .and_then(|number| number.parse().ok())
        .unwrap()
}

/// A bitmap that calls a file's block free, and another one used instead, so that its numbers are right: nothing is changed
/// on such a file system, because what is put there could land on that file.
#[test]
fn a_bitmap_that_calls_a_file_s_block_free_is_found_before_anything_is_changed() {
    let dir = TempDir::new().unwrap();
    let (path, tree) = (dir.path().join("image"), dir.path().join("tree"));
    fs::create_dir(&tree).unwrap();
    fs::write(tree.join("kept"), vec![7; 300_000]).unwrap();
    let (image, from) = (path.to_str().unwrap(), tree.to_str().unwrap());
    fs::File::create(&path).unwrap().set_len(16 << 20).unwrap();
    run(
        "mke2fs",
        &["-q", "-F", "-b", "1024", "-t", "ext2", "-d", from, image],
    );
    let told = run("debugfs", &["-R", "blocks /kept", image]);
    // The tool says its version too.
    let numbers = told
        .lines()
        .find(|line| line.split_whitespace().count() > 100);
    let block: u64 = numbers
        .unwrap()
        .split_whitespace()
        .last()
        .unwrap()
        .parse()
        .unwrap();
    assert!(block < 8192, "in the first group");
    let at = block_bitmap(&path) * 1024;
    let mut disk = FileDisk::open_writable(&path).unwrap();
    let mut bitmap = disk.read_vec(at, 1024).unwrap();
    let bit = (block - 1) as usize;
    assert_eq!(
        bitmap[bit / 8] >> (bit % 8) & 1,
        1,
        "block {block} is in use"
    );
    bitmap[bit / 8] &= !(1 << (bit % 8));
    let free = bitmap.iter().rposition(|byte| *byte == 0).unwrap();
    bitmap[free] |= 1;
    disk.write_at(at, &bitmap).unwrap();
    let layout = imagecraft::Layout::read(&disk).unwrap();
    let found = imagecraft::fs::damage(&layout.partitions[0], &disk).expect("it is damaged");
    assert!(
        found.contains("the block bitmap calls some free"),
        "{found}"
    );
}

#[test]
fn damage_anywhere_gives_an_answer_or_an_error() {
    let dir = TempDir::new().unwrap();
    let source = dir.path().join("tree");
    fs::create_dir(&source).unwrap();
    tree(&source);
    for options in [
        "-t ext4 -O ^metadata_csum -b 1024",
        "-t ext2 -b 1024",
        "-t ext4 -b 4096",
    ] {
        let path = dir.path().join("image");
        let _ = fs::remove_file(&path);
        fs::File::create(&path).unwrap().set_len(24 << 20).unwrap();
        let mut args = vec!["-q", "-F", "-d", source.to_str().unwrap()];
        args.extend(options.split(' '));
        args.push(path.to_str().unwrap());
        run("mke2fs", &args);
        let base = MemoryDisk::from(fs::read(&path).unwrap());
        let mut state = 0x2545_f491_4f6c_dd1d_u64;
        let mut next = |below: u64| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state % below
        };
        for _ in 0..150 {
            let mut damaged = Overlay::new(&base, base.len());
            for _ in 0..1 + next(12) {
                // Most of what is parsed lies in the first blocks.
                let reach = [2048, 64 << 10, 1 << 20, base.len()][next(4) as usize];
                damaged.write_at(next(reach), &[next(256) as u8]).unwrap();
            }
            let _ = usage(&damaged);
            if let Ok(Some(files)) = imagecraft::fs::open(&damaged) {
                let mut left = 2000;
                let _ = walk(files.as_ref(), &mut |path, node| {
                    left -= 1;
                    if node.kind == NodeKind::File && left > 0 {
                        let _ = files.read_head(path, 1 << 16);
                    }
                    Ok(())
                });
            }
        }
    }
}
