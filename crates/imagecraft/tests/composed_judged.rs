//! Cards composed with files on FAT and ext and with the last partition grown: judged by the
//! tools for tables and file systems, and mounted by the kernel.

mod judges;

use std::fs;
use std::path::{Path, PathBuf};

use imagecraft::compose::{Change, ComposeError, PlacedFile, Recipe, Target, compose, read_base};
use imagecraft::fs::ext::Attributes;
use imagecraft::grow::Growth;
use imagecraft::{ByteKind, Disk, FileDisk, Layout, Stamp, StampBase};
use judges::{Content, is_sound, mke2fs, mount, part_of, put, run, seen, tool};
use tempfile::TempDir;

const MIB: u64 = 1 << 20;

/// Tables as sfdisk reads them: what stands in front, the boot and the root partition, both in
/// MiB.
const MBR: (&str, u64, u64) = (
    "label: dos\nlabel-id: 0x5a17ab1e\nstart=8192, size=32768, type=c, bootable\nstart=40960, size=81920, type=83\n",
    4,
    20,
);
const LOGICAL: (&str, u64, u64) = (
    "label: dos\nlabel-id: 0x0c0ffee0\nstart=8192, size=32768, type=c, bootable\nstart=40960, size=122880, type=5\nstart=43008, size=20480, type=83\nstart=65536, size=81920, type=83\n",
    4,
    32,
);
const GPT: (&str, u64, u64) = (
    "label: gpt\nstart=8192, size=32768, type=uefi, name=boot\nstart=40960, size=81920, type=linux, name=root\n",
    4,
    20,
);

/// An image with a table, a FAT boot partition and an ext root of 40 MiB.
fn image(dir: &Path, (script, boot_at, root_at): (&str, u64, u64), options: &str) -> PathBuf {
    let path = dir.join("image.raw");
    let _ = fs::remove_file(&path);
    FileDisk::create(&path, 80 * MIB).unwrap();
    let rules = dir.join("rules");
    fs::write(&rules, script).unwrap();
    let command = format!("sfdisk -q {} < {}", path.display(), rules.display());
    run("sh", &["-c", &command]);
    let part = dir.join("part");
    let _ = fs::remove_file(&part);
    FileDisk::create(&part, 16 * MIB).unwrap();
    run(
        "mkfs.fat",
        &["-F", "16", "-n", "BOOT", part.to_str().unwrap()],
    );
    put(&path, &part, boot_at);
    let tree = dir.join("tree");
    if !tree.exists() {
        fs::create_dir_all(tree.join("etc/network")).unwrap();
        fs::write(tree.join("etc/hostname"), "image\n").unwrap();
        fs::write(tree.join("etc/old"), "goes").unwrap();
        fs::create_dir(tree.join("home")).unwrap();
    }
    assert!(mke2fs(
        &part,
        40,
        &format!("{options} -L system"),
        Some(&tree)
    ));
    put(&path, &part, root_at);
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

fn recipe() -> Recipe {
    let root = |path: &str, change| PlacedFile {
        target: Target::Root,
        path: path.into(),
        change,
        attributes: Attributes::default(),
    };
    let mut keys = PlacedFile::file(
        Target::Label("system".into()),
        "/home/keys",
        "ssh-ed25519 A\n",
    );
    keys.attributes = Attributes {
        mode: Some(0o600),
        owner: Some(1000),
        group: Some(1001),
    };
    Recipe {
        files: vec![
            PlacedFile::file(Target::Boot, "link/network.toml", "country = \"NO\"\n"),
            root("/etc/hostname", Change::File(b"quay-03\n".to_vec())),
            keys,
            root(
                "/etc/localtime",
                Change::Link("../usr/share/zoneinfo/Europe/Oslo".into()),
            ),
            root("/etc/old", Change::Remove),
        ],
        growth: Some(Growth::default()),
        go_on: false,
        although_damaged: false,
        behind: None,
        shrinks: false,
        block: None,
        stamp: Some(stamp()),
    }
}

/// Writes what a card would get to a file, over noise where nothing is written.
fn write_out<D: Disk>(composed: &imagecraft::compose::Composed<D>, to: &Path, noise: bool) {
    let _ = fs::remove_file(to);
    let mut out = FileDisk::create(to, composed.disk.len()).unwrap();
    for run in composed.map.runs() {
        let mut at = run.start;
        while at < run.end {
            let len = (run.end - at).min(4 << 20) as usize;
            if run.kind == ByteKind::Data {
                out.write_at(at, &composed.disk.read_vec(at, len).unwrap())
                    .unwrap();
            } else if run.kind == ByteKind::Free && noise {
                out.write_at(at, &vec![0xa5; len]).unwrap();
            }
            at += len as u64;
        }
    }
}

fn judge_tables(card: &Path, gpt: bool) {
    let said = run("sfdisk", &["--verify", card.to_str().unwrap()]);
    assert!(said.contains("No errors detected"), "{said}");
    if gpt {
        let said = run("sgdisk", &["-v", card.to_str().unwrap()]);
        assert!(said.contains("No problems found"), "{said}");
    }
}

#[test]
fn cards_of_every_table_are_filled_and_grown() {
    let dir = TempDir::new().unwrap();
    for (table, options) in [
        (MBR, "-t ext4 -b 4096"),
        (MBR, "-t ext4 -O ^metadata_csum,^uninit_bg -b 1024"),
        (LOGICAL, "-t ext4 -b 1024"),
        (LOGICAL, "-t ext3 -b 1024"),
        (GPT, "-t ext4 -b 4096 -O ^flex_bg"),
        (GPT, "-t ext2 -b 4096"),
    ] {
        let what = format!("{} mkfs {options}", table.0.lines().next().unwrap());
        let base = FileDisk::open(&image(dir.path(), table, options)).unwrap();
        let layout = Layout::read(&base).unwrap();
        let map = layout.map(&base).unwrap();
        let card_len = 300 * MIB + 77 * 512;
        let composed =
            compose(&base, &map, card_len, &recipe()).unwrap_or_else(|e| panic!("{what}: {e}"));
        assert!(
            composed.unstamped.is_none() && composed.left_out.is_empty(),
            "{what}"
        );
        let grown = composed.grown.clone().unwrap().unwrap();
        let last = composed.layout.partitions.last().unwrap();
        let before = layout.partitions.last().unwrap();
        assert_eq!(
            (grown.partition, grown.before),
            (last.number, before.len),
            "{what}"
        );
        assert_eq!(grown.after, last.len, "{what}");
        assert_eq!(last.end() % MIB, 0, "{what}: aligned");
        assert!(card_len - last.end() < 2 * MIB, "{what}: {}", last.end());
        assert_eq!(composed.layout.disk_id, layout.disk_id, "{what}");
        for (one, other) in composed.layout.partitions.iter().zip(&layout.partitions) {
            assert_eq!((one.start, &one.uuid), (other.start, &other.uuid), "{what}");
            assert_eq!(one.file_system, other.file_system, "{what}");
        }
        let card = dir.path().join("card");
        write_out(&composed, &card, true);
        judge_tables(&card, layout.gpt.is_some());
        let (boot, root) = (dir.path().join("boot"), dir.path().join("root"));
        let first = &layout.partitions[0];
        part_of(&card, first.start, first.len, &boot);
        let said = run("fsck.fat", &["-n", "-v", boot.to_str().unwrap()]);
        for word in ["differ", "Dirty", "wrong", "Orphan", "Unused"] {
            assert!(!said.contains(word), "{what}: {said}");
        }
        let args = ["-i", boot.to_str().unwrap(), "::link/network.toml"];
        assert_eq!(run("mtype", &args), "country = \"NO\"\n");
        part_of(&card, last.start, last.len, &root);
        is_sound(&root, &what);
        // What counts on the card is what was composed: a backup of it reads no more.
        let again = FileDisk::open(&card).unwrap();
        let again_map = Layout::read(&again).unwrap().map(&again).unwrap();
        let used = again_map.total(ByteKind::Data);
        let composed_used = composed.map.total(ByteKind::Data) + composed.map.total(ByteKind::Zero);
        assert!(
            used <= composed_used + 2 * MIB,
            "{what}: {used}, {composed_used}"
        );

        let offset = format!("ro,offset={}", last.start);
        let Some(mounted) = mount(&card, &dir.path().join("mnt"), &offset) else {
            continue;
        };
        let found = seen(&mounted.0);
        let file = |path: &str| {
            let seen = &found[path];
            (seen.content.clone(), seen.mode, seen.owner, seen.group)
        };
        let bytes = |text: &str| Content::File(text.as_bytes().to_vec());
        assert_eq!(file("/etc/hostname").0, bytes("quay-03\n"), "{what}");
        let keys = (bytes("ssh-ed25519 A\n"), 0o600, 1000, 1001);
        assert_eq!(file("/home/keys"), keys, "{what}");
        let link = Content::Link("../usr/share/zoneinfo/Europe/Oslo".into());
        assert_eq!(file("/etc/localtime").0, link, "{what}");
        assert!(!found.contains_key("/etc/old"), "{what}");
        assert_eq!(found.len(), 6, "{what}: {:?}", found.keys());
    }
}

#[test]
fn what_was_on_a_larger_card_fits_onto_a_smaller_one() {
    let dir = TempDir::new().unwrap();
    for (table, options) in [
        (MBR, "-t ext4 -b 4096"),
        (LOGICAL, "-t ext4 -b 1024"),
        (LOGICAL, "-t ext3 -b 1024"),
        (GPT, "-t ext4 -b 1024 -O ^flex_bg"),
        (GPT, "-t ext2 -b 1024"),
    ] {
        let what = format!("{} mkfs {options}", table.0.lines().next().unwrap());
        let base = FileDisk::open(&image(dir.path(), table, options)).unwrap();
        let map = Layout::read(&base).unwrap().map(&base).unwrap();
        let large = dir.path().join("large");
        let composed = compose(&base, &map, 400 * MIB, &recipe()).unwrap();
        write_out(&composed, &large, true);
        let root = composed.layout.partitions.last().unwrap().clone();
        // The board fills its card, and most of it goes again: what is left lies far behind.
        let offset = format!("rw,offset={},sizelimit={}", root.start, root.len);
        let Some(mounted) = mount(&large, &dir.path().join("mnt"), &offset) else {
            return;
        };
        for number in 0..60_u8 {
            let folder = mounted.0.join(format!("log {number}"));
            fs::create_dir(&folder).unwrap();
            fs::write(folder.join("lines"), vec![number; 4_000_000]).unwrap();
            fs::write(folder.join("index"), format!("index {number}")).unwrap();
        }
        drop(mounted);
        let Some(mounted) = mount(&large, &dir.path().join("mnt"), &offset) else {
            return;
        };
        for number in (0..60).filter(|number| number % 10 != 9) {
            fs::remove_dir_all(mounted.0.join(format!("log {number}"))).unwrap();
        }
        let before = seen(&mounted.0);
        drop(mounted);

        let taken = FileDisk::open(&large).unwrap();
        let layout = Layout::read(&taken).unwrap();
        let map = layout.map(&taken).unwrap();
        let card_len = 150 * MIB + 33 * 512;
        let mut onto = Recipe {
            growth: Some(Growth::default()),
            stamp: Some(stamp()),
            ..Recipe::default()
        };
        let refused = compose(&taken, &map, card_len, &onto).unwrap_err();
        assert!(
            matches!(refused, ComposeError::CardTooSmall { why: None, .. }),
            "{what}: {refused}"
        );
        onto.shrinks = true;
        let composed =
            compose(&taken, &map, card_len, &onto).unwrap_or_else(|e| panic!("{what}: {e}"));
        let shrunk = composed.shrunk.clone().unwrap();
        let last = composed.layout.partitions.last().unwrap();
        assert_eq!(
            (shrunk.before, shrunk.after),
            (root.len, last.len),
            "{what}"
        );
        assert!(
            shrunk.moved > 10_000_000 || shrunk.renumbered > 0,
            "{what}: {shrunk:?}"
        );
        assert!(
            card_len - last.end() < 2 * MIB && composed.grown.is_none(),
            "{what}"
        );
        assert_eq!(composed.disk.len(), card_len);
        assert_eq!(composed.map.len(), card_len);
        let card = dir.path().join("card");
        write_out(&composed, &card, true);
        judge_tables(&card, layout.gpt.is_some());
        let alone = dir.path().join("root");
        part_of(&card, last.start, last.len, &alone);
        is_sound(&alone, &what);
        let offset = format!("ro,offset={}", last.start);
        let Some(mounted) = mount(&card, &dir.path().join("mnt"), &offset) else {
            return;
        };
        assert!(
            seen(&mounted.0) == before,
            "{what}: files are not as they were"
        );
        // And what does not fit is refused with the reason.
        let refused = compose(&taken, &map, 36 * MIB, &onto)
            .unwrap_err()
            .to_string();
        assert!(refused.contains("made smaller"), "{what}: {refused}");
    }
}

#[test]
fn growth_leaves_what_it_is_told_to_and_says_why_it_does_not_grow() {
    let dir = TempDir::new().unwrap();
    let base = FileDisk::open(&image(dir.path(), GPT, "-t ext4")).unwrap();
    let map = Layout::read(&base).unwrap().map(&base).unwrap();
    let mut recipe = Recipe {
        growth: Some(Growth {
            leave: 100 * MIB,
            scattered: false,
        }),
        ..Recipe::default()
    };
    let composed = compose(&base, &map, 400 * MIB, &recipe).unwrap();
    assert_eq!(composed.layout.partitions[1].end(), 300 * MIB);
    let said = |card_len, recipe: &Recipe| {
        let composed = compose(&base, &map, card_len, recipe).unwrap();
        composed.grown.unwrap().unwrap_err()
    };
    recipe.growth = Some(Growth::default());
    let why = said(62 * MIB, &recipe);
    assert!(why.contains("reaches the card's end"), "{why}");

    // The last partition is one that is not grown.
    let path = dir.path().join("image.raw");
    run("sfdisk", &["-q", "--delete", path.to_str().unwrap(), "2"]);
    let base = FileDisk::open(&path).unwrap();
    let map = Layout::read(&base).unwrap().map(&base).unwrap();
    let composed = compose(&base, &map, 200 * MIB, &recipe).unwrap();
    let why = composed.grown.unwrap().unwrap_err();
    assert!(why.contains("BOOT") && why.contains("only ext"), "{why}");
}

#[test]
fn a_partition_that_cannot_be_edited_is_refused_or_left_out() {
    let dir = TempDir::new().unwrap();
    let base = FileDisk::open(&image(dir.path(), MBR, "-t ext4 -O quota")).unwrap();
    let map = Layout::read(&base).unwrap().map(&base).unwrap();
    let mut recipe = recipe();
    let refused = compose(&base, &map, 200 * MIB, &recipe).unwrap_err();
    assert!(
        matches!(refused, ComposeError::NotEditable { number: 2, .. }),
        "{refused}"
    );
    assert!(refused.to_string().contains("quota"), "{refused}");
    recipe.go_on = true;
    let composed = compose(&base, &map, 200 * MIB, &recipe).unwrap();
    assert_eq!(composed.unstamped, None);
    let left = &composed.left_out[0];
    assert_eq!(
        (left.partition, left.files.as_slice()),
        (2, &[1, 2, 3, 4][..]),
        "{left:?}"
    );
    assert!(left.why.contains("quota"), "{left:?}");
    assert!(composed.grown.unwrap().unwrap_err().contains("quota"));
    let found = read_base(
        &composed.disk,
        &composed.layout,
        &Target::Boot,
        "/link/network.toml",
    );
    assert_eq!(found.unwrap().unwrap(), b"country = \"NO\"\n");
    let found = read_base(
        &composed.disk,
        &composed.layout,
        &Target::Root,
        "/etc/hostname",
    );
    assert_eq!(found.unwrap().unwrap(), b"image\n");
    let none = read_base(
        &composed.disk,
        &composed.layout,
        &Target::Root,
        "/etc/none/at all",
    );
    assert_eq!(none.unwrap(), None);
    let wrong = read_base(
        &composed.disk,
        &composed.layout,
        &Target::Label("none".into()),
        "/x",
    );
    assert!(wrong.unwrap_err().to_string().contains("labelled none"));
}

#[test]
fn a_card_without_fat_carries_its_stamp_on_the_root() {
    let dir = TempDir::new().unwrap();
    let path = dir.path().join("image");
    let tree = dir.path().join("tree");
    fs::create_dir_all(tree.join("etc")).unwrap();
    assert!(mke2fs(&path, 40, "-t ext4", Some(&tree)));
    let base = FileDisk::open(&path).unwrap();
    let map = Layout::read(&base).unwrap().map(&base).unwrap();
    let recipe = Recipe {
        stamp: Some(stamp()),
        growth: Some(Growth::default()),
        ..Recipe::default()
    };
    let composed = compose(&base, &map, 100 * MIB, &recipe).unwrap();
    assert_eq!(Stamp::find(&composed.disk, &composed.layout), Some(stamp()));
    let card = dir.path().join("card");
    write_out(&composed, &card, true);
    is_sound(&card, "without a table");
    let (words, code) = tool("dumpe2fs", &["-h", card.to_str().unwrap()]);
    assert!(
        code == 0 && words.contains("Block count:              102400"),
        "{words}"
    );
}

/// Writes a composed card out and asks the judges about its root partition.
fn judge_root(dir: &Path, composed: &imagecraft::compose::Composed<&FileDisk>, what: &str) {
    let card = dir.join("card");
    write_out(composed, &card, true);
    let root = composed.layout.partitions.iter().find(|one| one.is_ext());
    let root = root.unwrap();
    let part = dir.join("root");
    let _ = fs::remove_file(&part);
    run(
        "dd",
        &[
            &format!("if={}", card.display()),
            &format!("of={}", part.display()),
            "bs=1M",
            &format!("skip={}", root.start / MIB),
            &format!("count={}", root.len / MIB),
            "status=none",
        ],
    );
    is_sound(&part, what);
}

#[test]
fn a_full_root_is_left_whole_and_says_that_it_takes_no_stamp() {
    let dir = TempDir::new().unwrap();
    let path = dir.path().join("image.raw");
    // One ext partition and no FAT, filled to the last block.
    FileDisk::create(&path, 30 * MIB).unwrap();
    let tree = dir.path().join("full");
    fs::create_dir_all(tree.join("etc")).unwrap();
    fs::write(tree.join("large"), vec![7_u8; 22 << 20]).unwrap();
    let part = dir.path().join("part");
    assert!(mke2fs(
        &part,
        26,
        "-t ext4 -b 4096 -O ^has_journal -m 0",
        Some(&tree)
    ));
    for number in 0..2000 {
        let small = dir.path().join("small");
        fs::write(&small, vec![1_u8; 16_384]).unwrap();
        let command = format!("write {} n{number}", small.display());
        let (words, _) = tool("debugfs", &["-w", "-R", &command, part.to_str().unwrap()]);
        if words.contains("Could not allocate") || words.contains("No space") {
            break;
        }
    }
    tool("e2fsck", &["-fy", part.to_str().unwrap()]);
    let rules = dir.path().join("rules");
    fs::write(&rules, "label: dos\nstart=8192, size=53248, type=83\n").unwrap();
    let command = format!("sfdisk -q {} < {}", path.display(), rules.display());
    run("sh", &["-c", &command]);
    put(&path, &part, 4);
    let base = FileDisk::open(&path).unwrap();
    let map = Layout::read(&base).unwrap().map(&base).unwrap();
    let mut recipe = Recipe {
        stamp: Some(stamp()),
        ..Recipe::default()
    };
    let composed = compose(&base, &map, 30 * MIB, &recipe).unwrap();
    let why = composed.unstamped.clone().expect("there is no room for it");
    assert!(why.contains("full"), "{why}");
    judge_root(dir.path(), &composed, "without a stamp");
    // Files that are wanted and find no room are refused, not left out in silence.
    recipe.files = vec![PlacedFile::file(
        Target::Root,
        "/etc/keys",
        vec![b'k'; 90_000],
    )];
    let refused = compose(&base, &map, 30 * MIB, &recipe).unwrap_err();
    assert!(matches!(refused, ComposeError::Edit { .. }), "{refused}");
    // Grown, there is room for all of it.
    recipe.growth = Some(Growth::default());
    let composed = compose(&base, &map, 90 * MIB, &recipe).unwrap();
    assert_eq!(composed.unstamped, None);
    judge_root(dir.path(), &composed, "grown");
}

#[test]
fn a_damaged_file_system_is_refused_by_what_is_wrong_with_it() {
    let dir = TempDir::new().unwrap();
    let options = "-t ext4 -b 4096 -O ^metadata_csum,^has_journal";
    // What debugfs does to the root, and a word of what is said about it.
    for (commands, says) in [
        (
            "set_inode_field /etc/hostname block[0] 0x0003f30a",
            "extent",
        ),
        (
            "set_inode_field /etc/hostname block[1] 0x00090004",
            "extent",
        ),
        (
            "set_inode_field /etc/hostname block[5] 0x7fffffff",
            "outside",
        ),
        ("set_inode_field /etc/hostname block[5] 2", "belongs to"),
        ("link etc etc/circle", "reached twice"),
        ("link <900> etc/ghost", "not in use"),
        (
            "set_super_value inodes_count 4294967280",
            "number of inodes",
        ),
    ] {
        let path = image(dir.path(), MBR, options);
        let root = dir.path().join("root");
        let _ = fs::remove_file(&root);
        run(
            "dd",
            &[
                &format!("if={}", path.display()),
                &format!("of={}", root.display()),
                "bs=1M",
                "skip=20",
                "count=40",
                "status=none",
            ],
        );
        run("debugfs", &["-w", "-R", commands, root.to_str().unwrap()]);
        put(&path, &root, 20);
        let base = FileDisk::open(&path).unwrap();
        let map = Layout::read(&base).unwrap().map(&base).unwrap();
        let mut recipe = recipe();
        let Err(refused) = compose(&base, &map, 200 * MIB, &recipe) else {
            panic!("{commands}: nothing was found");
        };
        assert!(
            matches!(refused, ComposeError::Damaged { number: 2, .. })
                && refused.to_string().contains(says),
            "{commands}: {refused}"
        );
        // The rest can be written without it, and the damaged one stays as it is.
        recipe.go_on = true;
        let composed = compose(&base, &map, 200 * MIB, &recipe).unwrap();
        assert_eq!(composed.left_out[0].partition, 2, "{commands}");
        assert!(composed.grown.unwrap().is_err(), "{commands}");
        let mut found = vec![0; 40 << 20];
        composed.disk.read_at(20 * MIB, &mut found).unwrap();
        assert!(
            found == fs::read(&root).unwrap(),
            "{commands}: it was changed"
        );
    }
}

#[test]
fn data_behind_the_last_partition_goes_along_and_is_not_grown_over() {
    let dir = TempDir::new().unwrap();
    for table in [MBR, GPT] {
        let path = image(dir.path(), table, "-t ext4");
        let disk = FileDisk::open(&path).unwrap();
        let seen = imagecraft::inspect::inspect(&disk).unwrap();
        assert_eq!(seen.behind, None, "the backup of a table is no data behind");
        let file = fs::OpenOptions::new().write(true).open(&path).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&file, b"a raw boot area", 65 * MIB + 1000)
            .unwrap();
        let disk = FileDisk::open(&path).unwrap();
        let seen = imagecraft::inspect::inspect(&disk).unwrap();
        assert_eq!(seen.behind, Some(65 * MIB + 1015));
        assert!(seen.findings.iter().any(|one| one.code == "data-behind"));
        assert!(seen.smallest_card > 65 * MIB);
        let mut recipe = recipe();
        recipe.behind = seen.behind;
        let composed = compose(&disk, &seen.map, 200 * MIB, &recipe).unwrap();
        let why = composed.grown.clone().unwrap().unwrap_err();
        assert!(why.contains("behind the last partition"), "{why}");
        let card = dir.path().join("card");
        write_out(&composed, &card, true);
        let bytes = fs::read(&card).unwrap();
        let at = (65 * MIB + 1000) as usize;
        assert_eq!(&bytes[at..at + 15], b"a raw boot area");
        let small = compose(&disk, &seen.map, 62 * MIB, &recipe).unwrap_err();
        assert!(
            matches!(small, ComposeError::CardTooSmall { .. }),
            "{small}"
        );
    }
}

#[test]
fn a_table_backup_in_the_middle_is_kept_and_a_hybrid_is_not_grown() {
    let dir = TempDir::new().unwrap();
    let path = image(dir.path(), GPT, "-t ext4");
    // The image is made longer, so that its backup is not at the end any more.
    let file = fs::OpenOptions::new().write(true).open(&path).unwrap();
    file.set_len(120 * MIB).unwrap();
    let disk = FileDisk::open(&path).unwrap();
    let layout = Layout::read(&disk).unwrap();
    let map = layout.map(&disk).unwrap();
    assert!(
        !map.has_free(80 * MIB - 33 * 512, 80 * MIB),
        "the backup is kept"
    );
    let seen = imagecraft::inspect::inspect(&disk).unwrap();
    assert_eq!(seen.behind, None);
    assert!(
        seen.findings
            .iter()
            .any(|one| one.code == "backup-not-at-end")
    );

    let path = image(dir.path(), GPT, "-t ext4");
    run("sgdisk", &["--hybrid", "1:2", path.to_str().unwrap()]);
    let disk = FileDisk::open(&path).unwrap();
    let map = Layout::read(&disk).unwrap().map(&disk).unwrap();
    let composed = compose(&disk, &map, 200 * MIB, &recipe()).unwrap();
    let why = composed.grown.unwrap().unwrap_err();
    assert!(why.contains("beside the GUID partition table"), "{why}");
}

#[test]
fn a_partition_inside_an_iso_is_not_changed_without_being_asked() {
    let dir = TempDir::new().unwrap();
    let path = image(dir.path(), MBR, "-t ext4");
    let file = fs::OpenOptions::new().write(true).open(&path).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, b"\x01CD001\x01", 16 * 2048).unwrap();
    let disk = FileDisk::open(&path).unwrap();
    let map = Layout::read(&disk).unwrap().map(&disk).unwrap();
    let mut recipe = Recipe {
        stamp: Some(stamp()),
        ..Recipe::default()
    };
    let composed = compose(&disk, &map, 200 * MIB, &recipe).unwrap();
    assert!(composed.unstamped.unwrap().contains("ISO"));
    let boot = |recipe: &Recipe| compose(&disk, &map, 200 * MIB, recipe);
    recipe.files = vec![PlacedFile::file(Target::Boot, "a.toml", "a")];
    assert!(matches!(
        boot(&recipe),
        Err(ComposeError::NoPartition { .. })
    ));
    recipe.files[0].target = Target::Number(1);
    boot(&recipe).unwrap();
}

#[test]
fn recorded_errors_and_a_crooked_fat_are_found() {
    let dir = TempDir::new().unwrap();
    // What the journal would tell the superblock at its next start.
    let path = image(dir.path(), MBR, "-t ext4 -O ^metadata_csum");
    let mut bytes = fs::read(&path).unwrap();
    let journal = (20 << 20..60 << 20)
        .step_by(1024)
        .find(|at| bytes[*at..*at + 4] == [0xc0, 0x3b, 0x39, 0x98])
        .expect("there is a journal");
    bytes[journal + 0x20..journal + 0x24].copy_from_slice(&5_u32.to_be_bytes());
    fs::write(&path, &bytes).unwrap();
    let seen = imagecraft::inspect::inspect(&FileDisk::open(&path).unwrap()).unwrap();
    let whole = seen.findings.iter().find(|one| one.code == "kept-whole");
    assert!(
        whole.is_some_and(|one| one.text.contains("journal recorded an error")),
        "{:?}",
        seen.findings
    );

    // A root folder of 500 entries ends inside of a sector.
    let path = image(dir.path(), MBR, "-t ext4");
    let file = fs::OpenOptions::new().write(true).open(&path).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, &500_u16.to_le_bytes(), 4 * MIB + 17).unwrap();
    let base = FileDisk::open(&path).unwrap();
    let map = Layout::read(&base).unwrap().map(&base).unwrap();
    let refused = compose(&base, &map, 200 * MIB, &recipe()).map(|_| ());
    assert!(
        matches!(&refused, Err(ComposeError::Damaged { number: 1, found }) if found.contains("sectors")),
        "{refused:?}"
    );
    let seen = imagecraft::inspect::inspect(&base).unwrap();
    assert!(seen.findings.iter().any(|one| one.code == "damaged"));
    // Insisted upon, it is done.
    let mut insisted = recipe();
    insisted.although_damaged = true;
    compose(&base, &map, 200 * MIB, &insisted).unwrap();
}
