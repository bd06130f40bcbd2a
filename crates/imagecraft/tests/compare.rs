//! What two images differ in, file by file, as the maker of both knows.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;

use imagecraft::FileDisk;
use imagecraft::compare::{FileChangeKind, compare};
use tempfile::TempDir;

fn tree(dir: &Path, second: bool) {
    fs::create_dir_all(dir.join("etc")).unwrap();
    let put = |name: &str, bytes: &[u8]| fs::write(dir.join(name), bytes).unwrap();
    put("etc/same", b"same");
    put("etc/bytes", if second { b"aXc" } else { b"abc" });
    put("etc/longer", if second { b"abcd" } else { b"abc" });
    put("etc/mode", b"mode");
    let mode = if second { 0o600 } else { 0o644 };
    fs::set_permissions(dir.join("etc/mode"), fs::Permissions::from_mode(mode)).unwrap();
    symlink(if second { "bytes" } else { "same" }, dir.join("etc/link")).unwrap();
    if second {
        put("etc/new", b"new");
        symlink("same", dir.join("etc/kind")).unwrap();
    } else {
        put("etc/gone", b"gone");
        put("etc/kind", b"same");
    }
}

fn image(dir: &TempDir, name: &str, second: bool, uuid: &str) -> PathBuf {
    let (source, path) = (
        dir.path().join(format!("{name}.tree")),
        dir.path().join(name),
    );
    fs::create_dir(&source).unwrap();
    tree(&source, second);
    fs::File::create(&path).unwrap().set_len(8 << 20).unwrap();
    let made = Command::new("/usr/sbin/mke2fs")
        .args(["-q", "-F", "-t", "ext4", "-U", uuid, "-d"])
        .arg(&source)
        .arg(&path)
        .status()
        .unwrap();
    assert!(made.success());
    path
}

#[test]
fn every_kind_of_change_is_named() {
    let dir = TempDir::new().unwrap();
    let one = image(&dir, "one", false, "51a7c0de-0000-4000-8000-000000000001");
    let two = image(&dir, "two", true, "51a7c0de-0000-4000-8000-000000000002");
    let (a, b) = (FileDisk::open(&one).unwrap(), FileDisk::open(&two).unwrap());
    let found = compare(&a, &b, &|_, _| false, &mut |_| true)
        .unwrap()
        .unwrap();
    let mut changes: Vec<_> = found
        .files
        .iter()
        .map(|file| (file.path.as_str(), file.kind))
        .collect();
    changes.sort_by_key(|(path, _)| *path);
    assert_eq!(
        changes,
        [
            ("/etc/bytes", FileChangeKind::Content),
            ("/etc/gone", FileChangeKind::Gone),
            ("/etc/kind", FileChangeKind::Kind),
            ("/etc/link", FileChangeKind::Content),
            ("/etc/longer", FileChangeKind::Content),
            ("/etc/mode", FileChangeKind::Mode),
            ("/etc/new", FileChangeKind::New),
        ]
    );
    assert_eq!(found.same, 1);
    let facts: Vec<_> = found.facts.iter().map(|fact| fact.what.as_str()).collect();
    assert_eq!(facts, ["partition 0: file-system UUID"]);
    let nothing = compare(&a, &a, &|_, _| false, &mut |_| true)
        .unwrap()
        .unwrap();
    assert_eq!(
        (nothing.files.len(), nothing.facts.len(), nothing.same),
        (0, 0, 6)
    );

    // It can be stopped at any piece that was read.
    let mut read = 0;
    let stopped = compare(&a, &b, &|_, _| false, &mut |bytes| {
        read += bytes;
        read < 6
    });
    assert!(stopped.unwrap().is_none());
}

/// What is known to be alike needs no reading, and changes nothing of what is found.
#[test]
fn what_lies_in_equal_chunks_is_not_read_and_counts_all_the_same() {
    const CHUNK: u64 = 128 << 10;
    let dir = TempDir::new().unwrap();
    let one = image(&dir, "one", false, "51a7c0de-0000-4000-8000-000000000001");
    // The same image with one file changed in place, and one whose blocks moved.
    let big = dir.path().join("big");
    fs::write(&big, vec![7; 3 << 20]).unwrap();
    let debugfs = |image: &Path, request: &str| {
        let done = Command::new("/usr/sbin/debugfs")
            .args(["-w", "-R", request])
            .arg(image)
            .output()
            .unwrap();
        assert!(done.status.success(), "{done:?}");
    };
    debugfs(&one, &format!("write {} big", big.display()));
    let two = dir.path().join("two");
    fs::copy(&one, &two).unwrap();
    fs::write(&big, [vec![7; (3 << 20) - 1], vec![8]].concat()).unwrap();
    debugfs(&two, "rm etc/same");
    debugfs(
        &two,
        &format!(
            "write {} etc/new",
            dir.path().join("one.tree/etc/same").display()
        ),
    );
    debugfs(&two, &format!("write {} other", big.display()));
    let (a, b) = (FileDisk::open(&one).unwrap(), FileDisk::open(&two).unwrap());
    let (left, right) = (fs::read(&one).unwrap(), fs::read(&two).unwrap());
    let asked = std::sync::atomic::AtomicU64::new(0);
    let alike = |at: u64, len: u64| {
        asked.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        let from = (at / CHUNK * CHUNK) as usize;
        let to = ((at + len).next_multiple_of(CHUNK) as usize).min(left.len());
        left[from..to] == right[from..to]
    };
    let plain = compare(&a, &b, &|_, _| false, &mut |_| true)
        .unwrap()
        .unwrap();
    let quick = compare(&a, &b, &alike, &mut |_| true).unwrap().unwrap();
    assert_eq!(plain, quick);
    assert!(asked.into_inner() > 5);
    let names: Vec<_> = quick
        .files
        .iter()
        .map(|file| (file.path.as_str(), file.kind))
        .collect();
    let new = |path| (path, FileChangeKind::New);
    assert_eq!(
        names,
        [
            new("/etc/new"),
            ("/etc/same", FileChangeKind::Gone),
            new("/other")
        ]
    );
    // One byte of a file that lies where it lay: what is known decides whether it is looked at.
    let inside = left
        .windows(4096)
        .position(|bytes| bytes.iter().all(|byte| *byte == 7));
    let mut third = left.clone();
    third[inside.unwrap() + 2000] = 9;
    let c = imagecraft::MemoryDisk::from(third);
    let found = compare(&a, &c, &|_, _| false, &mut |_| true)
        .unwrap()
        .unwrap();
    let names: Vec<_> = found
        .files
        .iter()
        .map(|file| (file.path.as_str(), file.kind))
        .collect();
    assert_eq!(names, [("/big", FileChangeKind::Content)]);
    let believed = compare(&a, &c, &|_, _| true, &mut |_| true)
        .unwrap()
        .unwrap();
    assert!(
        believed.files.is_empty(),
        "what is known to be alike is not read"
    );
}
