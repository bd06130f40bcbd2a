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
    let found = compare(&a, &b, &mut |_| true).unwrap().unwrap();
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
    let nothing = compare(&a, &a, &mut |_| true).unwrap().unwrap();
    assert_eq!(
        (nothing.files.len(), nothing.facts.len(), nothing.same),
        (0, 0, 6)
    );

    // It can be stopped at any piece that was read.
    let mut read = 0;
    let stopped = compare(&a, &b, &mut |bytes| {
        read += bytes;
        read < 6
    });
    assert!(stopped.unwrap().is_none());
}
