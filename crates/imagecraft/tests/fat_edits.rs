//! Random edits of FAT file systems, compared with a plain model, read back by an independent
//! package, and judged by fsck.fat.

use std::collections::BTreeMap;
use std::io::{Cursor, Read};
use std::process::Command;

use imagecraft::fs::fat::{Fat, FatError, read_file};
use imagecraft::{Disk, MemoryDisk, Overlay};
use proptest::prelude::*;

fn formatted(len: usize, bits: fatfs::FatType) -> MemoryDisk {
    let mut cursor = Cursor::new(vec![0; len]);
    fatfs::format_volume(
        &mut cursor,
        fatfs::FormatVolumeOptions::new().fat_type(bits),
    )
    .unwrap();
    MemoryDisk::from(cursor.into_inner())
}

fn names() -> impl Strategy<Value = String> {
    prop_oneof![
        Just("network.txt".to_owned()),
        Just("README.TXT".to_owned()),
        Just("Ærlig talt.conf".to_owned()),
        Just("a name that is a good deal longer than thirteen units.toml".to_owned()),
        "[a-z]{1,3}",
        "[a-zA-Z0-9]{1,12}\\.[a-z]{1,4}",
    ]
}

fn paths() -> impl Strategy<Value = String> {
    prop_oneof![
        names(),
        ("[de]", names()).prop_map(|(folder, name)| format!("folder-{folder}/{name}")),
        ("[de]", names()).prop_map(|(folder, name)| format!("folder-{folder}/inner folder/{name}")),
    ]
}

fn edits() -> impl Strategy<Value = Vec<(String, Vec<u8>)>> {
    proptest::collection::vec(
        (paths(), proptest::collection::vec(any::<u8>(), 0..6000)),
        1..40,
    )
}

/// What fsck.fat says of the bytes; a clean file system has nothing said about it.
fn fsck(bytes: &[u8]) -> String {
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), bytes).unwrap();
    let out = Command::new("fsck.fat")
        .args(["-n", "-v"])
        .arg(file.path())
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .output()
        .expect("fsck.fat must be installed");
    let said = String::from_utf8_lossy(&out.stdout).into_owned();
    assert!(out.status.success(), "{said}");
    said
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, ..ProptestConfig::default() })]

    #[test]
    fn edits_are_what_a_plain_model_says(edits in edits(), bits in 0usize..3) {
        let (len, bits) = [
            (2 << 20, fatfs::FatType::Fat12),
            (16 << 20, fatfs::FatType::Fat16),
            (40 << 20, fatfs::FatType::Fat32),
        ][bits];
        let base = formatted(len, bits);
        let mut disk = Overlay::new(&base, base.len());
        let mut model = BTreeMap::new();
        let mut spelled = BTreeMap::new();
        let mut fat = Fat::open(&mut disk).unwrap();
        for (path, bytes) in &edits {
            match fat.put(path, bytes) {
                Ok(()) => {
                    // Names are found without regard to case; the first spelling stays.
                    spelled.entry(path.to_lowercase()).or_insert_with(|| path.clone());
                    model.insert(path.to_lowercase(), bytes.clone());
                }
                // A file of the name of a folder, or a root that holds no more entries.
                Err(FatError::WrongKind(_) | FatError::Full(_)) => {}
                Err(other) => prop_assert!(false, "{path}: {other}"),
            }
        }
        fat.close().unwrap();
        let bytes = disk.read_vec(0, len).unwrap();
        for (path, content) in &model {
            prop_assert_eq!(&read_file(&disk, path).unwrap().unwrap(), content, "{}", path);
        }
        let reader = fatfs::FileSystem::new(Cursor::new(bytes.clone()), fatfs::FsOptions::new()).unwrap();
        for (path, content) in &model {
            let mut found = Vec::new();
            reader.root_dir().open_file(&spelled[path]).unwrap().read_to_end(&mut found).unwrap();
            prop_assert_eq!(&found, content, "another reader, {}", path);
        }
        let said = fsck(&bytes);
        for word in ["differ", "wrong", "Orphan", "Bad", "Unused", "Dirty", "Start"] {
            prop_assert!(!said.contains(word), "fsck.fat found {:?}: {}", word, said);
        }
    }
}

#[test]
fn replacing_a_file_again_and_again_leaks_nothing() {
    let base = formatted(1 << 20, fatfs::FatType::Fat12);
    let mut disk = Overlay::new(&base, base.len());
    for round in 0..200u32 {
        let mut fat = Fat::open(&mut disk).unwrap();
        fat.put("settings/network.toml", &vec![round as u8; 40_000])
            .unwrap();
        fat.close().unwrap();
    }
    assert_eq!(
        read_file(&disk, "settings/network.toml").unwrap().unwrap(),
        vec![199; 40_000]
    );
    fsck(&disk.read_vec(0, 1 << 20).unwrap());
}

#[test]
fn a_full_file_system_keeps_the_old_file() {
    let mut disk = formatted(1 << 20, fatfs::FatType::Fat12);
    let mut fat = Fat::open(&mut disk).unwrap();
    fat.put("kept.txt", b"the old content").unwrap();
    assert!(matches!(
        fat.put("kept.txt", &vec![1; 2 << 20]),
        Err(FatError::Full(_))
    ));
    fat.close().unwrap();
    assert_eq!(
        read_file(&disk, "KEPT.TXT").unwrap().unwrap(),
        b"the old content"
    );
    fsck(disk.bytes());
}
