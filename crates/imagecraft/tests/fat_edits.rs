//! Random edits of FAT file systems, compared with a plain model, read back by an independent
//! package, and judged by fsck.fat.

use std::collections::BTreeMap;
use std::io::{Cursor, Read};
use std::process::Command;

use imagecraft::fs::fat::{Fat, FatError, Structure, read_file};
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

/// Files to put, and without bytes, files and folders to remove.
fn edits() -> impl Strategy<Value = Vec<(String, Option<Vec<u8>>)>> {
    let bytes = proptest::option::weighted(0.75, proptest::collection::vec(any::<u8>(), 0..6000));
    proptest::collection::vec((paths(), bytes), 1..40)
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
            let Some(bytes) = bytes else {
                let there = model.remove(&path.to_lowercase()).is_some();
                match fat.remove(path) {
                    Ok(removed) => prop_assert!(removed || !there, "{path}"),
                    Err(FatError::WrongKind(_)) => prop_assert!(!there, "{path}"),
                    Err(other) => prop_assert!(false, "{path}: {other}"),
                }
                if there {
                    spelled.remove(&path.to_lowercase());
                }
                continue;
            };
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
        Fat::open(&disk).unwrap().check().unwrap();
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
fn a_damaged_file_system_is_not_edited() {
    let mut disk = formatted(16 << 20, fatfs::FatType::Fat16);
    let mut fat = Fat::open(&mut disk).unwrap();
    fat.put("one.bin", &[1; 20_000]).unwrap();
    fat.put("two.bin", &[2; 20_000]).unwrap();
    fat.close().unwrap();
    let sound = disk.clone();
    let spoilt = |edit: &dyn Fn(&mut Vec<u8>)| {
        let mut bytes = sound.bytes().to_vec();
        edit(&mut bytes);
        let said = Fat::open(&MemoryDisk::from(bytes)).unwrap().check();
        match said.unwrap_err() {
            FatError::Damaged { structure, .. } => structure,
            other => panic!("{other}"),
        }
    };
    Fat::open(&sound).unwrap().check().unwrap();
    let table = usize::from(u16::from_le_bytes([sound.bytes()[14], sound.bytes()[15]])) * 512;
    assert_eq!(
        spoilt(&|bytes| bytes[table + 30] ^= 1),
        Structure::AllocationTable
    );
    let table_len = usize::from(u16::from_le_bytes([sound.bytes()[22], sound.bytes()[23]])) * 512;
    let root = sound
        .bytes()
        .windows(11)
        .position(|w| w == b"TWO     BIN")
        .unwrap();
    assert_eq!(spoilt(&|bytes| bytes[root + 26] = 2), Structure::Chain);
    assert_eq!(spoilt(&|bytes| bytes[root + 30] = 9), Structure::File);
    let out = |bytes: &mut Vec<u8>| {
        for copy in [table, table + table_len] {
            bytes[copy + 4..copy + 6].copy_from_slice(&0xfff0_u16.to_le_bytes());
        }
    };
    assert_eq!(spoilt(&out), Structure::Chain);
}

#[test]
fn folders_go_only_when_they_are_empty() {
    let mut disk = formatted(16 << 20, fatfs::FatType::Fat16);
    let mut fat = Fat::open(&mut disk).unwrap();
    fat.put("a long folder name/file.txt", b"x").unwrap();
    fat.put_folder("other/deeper").unwrap();
    assert!(matches!(
        fat.remove("A LONG folder name"),
        Err(FatError::WrongKind(_))
    ));
    assert!(fat.remove("a long folder name/FILE.TXT").unwrap());
    assert!(!fat.remove("a long folder name/file.txt").unwrap());
    assert!(fat.remove("a long folder name").unwrap());
    assert!(fat.remove("other/deeper").unwrap());
    fat.close().unwrap();
    let said = fsck(disk.bytes());
    assert!(
        !said.contains("Reclaim") && !said.contains("rphan"),
        "{said}"
    );
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
