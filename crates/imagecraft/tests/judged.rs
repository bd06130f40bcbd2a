//! Composed cards judged by the system's own tools: sfdisk, sgdisk, fsck.fat, e2fsck.
//! They return 0 with problems found, so their words are read too.

mod judges;

use std::path::{Path, PathBuf};

use imagecraft::compose::{ComposeError, PlacedFile, Recipe, Target, compose};
use imagecraft::table::TableKind;
use imagecraft::{ByteKind, Disk, FileDisk, Layout, Map, Stamp, StampBase};
use judges::run;

const MIB: u64 = 1 << 20;

/// An image with a FAT boot and an ext4 root partition, made by the system's tools.
fn image(dir: &Path, table: TableKind) -> PathBuf {
    let path = dir.join("image.raw");
    let name = path.to_str().unwrap();
    FileDisk::create(&path, 64 * MIB).unwrap();
    let script = match table {
        TableKind::Mbr => {
            "label: dos\nlabel-id: 0x5a17ab1e\nstart=8192, size=32768, type=c, bootable\nstart=40960, size=65536, type=83\n"
        }
        _ => {
            "label: gpt\nstart=8192, size=32768, type=uefi, name=boot\nstart=40960, size=65536, type=linux, name=root\n"
        }
    };
    let rules = dir.join("rules");
    std::fs::write(&rules, script).unwrap();
    run(
        "sh",
        &["-c", &format!("sfdisk -q {name} < {}", rules.display())],
    );
    let (boot, root) = (dir.join("boot"), dir.join("root"));
    FileDisk::create(&boot, 16 * MIB).unwrap();
    FileDisk::create(&root, 32 * MIB).unwrap();
    run(
        "mkfs.fat",
        &["-F", "16", "-n", "BOOT", boot.to_str().unwrap()],
    );
    run(
        "mkfs.ext4",
        &["-q", "-b", "4096", "-L", "root", root.to_str().unwrap()],
    );
    for (part, seek) in [(&boot, 4), (&root, 20)] {
        run(
            "dd",
            &[
                &format!("if={}", part.display()),
                &format!("of={name}"),
                "bs=1M",
                &format!("seek={seek}"),
                "conv=notrunc",
            ],
        );
        std::fs::remove_file(part).unwrap();
    }
    path
}

fn stamp() -> Stamp {
    Stamp {
        format: 1,
        card: "C-0007".into(),
        imprint: 12,
        base: StampBase::Release("quaylink 2.4".into()),
        device: Some("quay-03".into()),
        hello: None,
        made: time::OffsetDateTime::UNIX_EPOCH,
    }
}

fn recipe(path: &str) -> Recipe {
    Recipe {
        files: vec![PlacedFile::file(Target::Boot, path, "country = \"NO\"\n")],
        stamp: Some(stamp()),
        ..Recipe::default()
    }
}

/// Writes out a composed disk and asks every judge about it.
fn judge(dir: &Path, disk: &impl Disk, table: TableKind) {
    let out = dir.join("card.raw");
    let name = out.to_str().unwrap();
    let mut file = FileDisk::create(&out, disk.len()).unwrap();
    for at in (0..disk.len()).step_by(1 << 20) {
        let len = MIB.min(disk.len() - at) as usize;
        file.write_at(at, &disk.read_vec(at, len).unwrap()).unwrap();
    }
    let said = run("sfdisk", &["--verify", name]);
    assert!(said.contains("No errors detected"), "{said}");
    if table == TableKind::Gpt {
        let said = run("sgdisk", &["-v", name]);
        assert!(said.contains("No problems found"), "{said}");
    }
    let part = dir.join("part");
    for (skip, count, tool, args, bad) in [
        (
            4,
            16,
            "fsck.fat",
            &["-n", "-v"][..],
            &["differ", "Dirty", "wrong", "Orphan"][..],
        ),
        (20, 32, "e2fsck", &["-fn"][..], &["Fix?", "error"][..]),
    ] {
        run(
            "dd",
            &[
                &format!("if={name}"),
                &format!("of={}", part.display()),
                "bs=1M",
                &format!("skip={skip}"),
                &format!("count={count}"),
            ],
        );
        let said = run(tool, &[args, &[part.to_str().unwrap()]].concat());
        for word in bad {
            assert!(!said.contains(word), "{tool} found {word:?}: {said}");
        }
    }
    run(
        "dd",
        &[
            &format!("if={name}"),
            &format!("of={}", part.display()),
            "bs=1M",
            "skip=4",
            "count=16",
        ],
    );
    assert_eq!(
        run(
            "mtype",
            &["-i", part.to_str().unwrap(), "::conf/network.toml"]
        ),
        "country = \"NO\"\n"
    );
}

#[test]
fn a_composed_card_passes_every_judge_at_any_size() {
    for table in [TableKind::Mbr, TableKind::Gpt] {
        for card_len in [64 * MIB, 97 * MIB + 512 * 7] {
            let dir = tempfile::tempdir().unwrap();
            let base = FileDisk::open(&image(dir.path(), table)).unwrap();
            let layout = Layout::read(&base).unwrap();
            assert_eq!(layout.table, table);
            assert_eq!(layout.partitions.len(), 2);
            let kinds: Vec<_> = layout
                .partitions
                .iter()
                .map(|p| p.file_system.as_ref().unwrap())
                .collect();
            assert_eq!(
                (kinds[0].kind.as_str(), kinds[0].label.as_deref()),
                ("FAT16", Some("BOOT"))
            );
            assert_eq!(
                (kinds[1].kind.as_str(), kinds[1].label.as_deref()),
                ("ext4", Some("root"))
            );

            let map = layout.map(&base).unwrap();
            let composed = compose(&base, &map, card_len, &recipe("conf/network.toml")).unwrap();
            assert_eq!(composed.disk.len(), card_len);
            assert_eq!(composed.unstamped, None);
            assert_eq!(Stamp::find(&composed.disk, &composed.layout), Some(stamp()));
            assert!(composed.disk.changed_chunks().count() < 12);
            judge(dir.path(), &composed.disk, table);
            // Free is what lies behind the partitions, but for the backup of a GPT.
            let behind = card_len - 52 * MIB;
            let free: u64 = composed
                .map
                .runs_in(52 * MIB, card_len)
                .iter()
                .filter(|run| run.kind == ByteKind::Free)
                .map(|run| run.end - run.start.max(52 * MIB))
                .sum();
            let backup = behind - free;
            let expected = if table == TableKind::Gpt {
                16_896..32_768
            } else {
                0..1
            };
            assert!(expected.contains(&backup), "{backup}");
        }
    }
}

#[test]
fn composing_is_reproducible() {
    let dir = tempfile::tempdir().unwrap();
    let base = FileDisk::open(&image(dir.path(), TableKind::Mbr)).unwrap();
    let map = Map::uniform(base.len(), ByteKind::Data);
    let once = compose(&base, &map, 80 * MIB, &recipe("network.toml")).unwrap();
    let again = compose(&base, &map, 80 * MIB, &recipe("network.toml")).unwrap();
    for chunk in once.disk.changed_chunks() {
        let read = |disk: &dyn Disk| {
            disk.read_vec(chunk * imagecraft::CHUNK, imagecraft::CHUNK_LEN)
                .unwrap()
        };
        assert_eq!(read(&once.disk), read(&again.disk), "chunk {chunk}");
    }
}

#[test]
fn refusals_name_the_thing() {
    let dir = tempfile::tempdir().unwrap();
    let base = FileDisk::open(&image(dir.path(), TableKind::Gpt)).unwrap();
    let map = Map::uniform(base.len(), ByteKind::Data);
    let small = compose(&base, &map, 40 * MIB, &Recipe::default()).unwrap_err();
    assert!(
        matches!(small, ComposeError::CardTooSmall { .. }),
        "{small}"
    );

    let mut wrong = recipe("network.toml");
    wrong.files[0].target = Target::Number(5);
    let error = compose(&base, &map, 64 * MIB, &wrong).unwrap_err();
    assert!(
        error
            .to_string()
            .contains("partition 5, which the image does not have"),
        "{error}"
    );

    let cut = FileDisk::open(&image_cut(dir.path())).unwrap();
    let error = compose(
        &cut,
        &Map::uniform(cut.len(), ByteKind::Data),
        64 * MIB,
        &Recipe::default(),
    )
    .unwrap_err();
    assert!(error.to_string().contains("partition"), "{error}");
}

fn image_cut(dir: &Path) -> PathBuf {
    let path = dir.join("image.raw");
    std::fs::File::options()
        .write(true)
        .open(&path)
        .unwrap()
        .set_len(30 * MIB)
        .unwrap();
    path
}

#[test]
fn a_small_file_system_of_32_bits_is_what_it_says() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("boot");
    let mut disk = FileDisk::create(&path, 40 * MIB).unwrap();
    run(
        "mkfs.fat",
        &["-F", "32", "-s", "8", "-n", "BOOT", path.to_str().unwrap()],
    );
    let found = imagecraft::fs::recognise(&disk).unwrap().unwrap();
    assert_eq!(
        (found.kind.as_str(), found.label.as_deref()),
        ("FAT32", Some("BOOT"))
    );
    disk = FileDisk::open_writable(&path).unwrap();
    let mut fat = imagecraft::fs::fat::Fat::open(&mut disk).unwrap();
    fat.put("quaylink/link.toml", &[b'x'; 9000]).unwrap();
    fat.close().unwrap();
    let said = run("fsck.fat", &["-n", "-v", path.to_str().unwrap()]);
    for word in ["differ", "Dirty", "wrong", "Orphan"] {
        assert!(!said.contains(word), "{said}");
    }
    let found = imagecraft::fs::fat::read_file(&disk, "QUAYLINK/LINK.TOML")
        .unwrap()
        .unwrap();
    assert_eq!(found, [b'x'; 9000]);
}
