//! ext file systems edited and grown at random, and compared with a plain model: by the kernel,
//! by e2fsck and by the reader here.

mod judges;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use imagecraft::fs::ext::{Attributes, Editor, ExtError};
use imagecraft::fs::{NodeKind, walk};
use imagecraft::{Disk, FileDisk};
use judges::{Content, Seen, carry_over, is_sound, mke2fs, mount, overlay, run, seen, tool};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use tempfile::TempDir;

/// Megabytes and options of file systems as makers of images choose them, and of some that
/// nobody chooses.
const KINDS: &[(u64, &str)] = &[
    (24, "-t ext4 -b 4096"),
    (24, "-t ext4 -b 1024"),
    (24, "-t ext4 -b 1024 -g 1024 -G 4"),
    (24, "-t ext4 -b 2048 -O ^64bit"),
    (40, "-t ext4 -O ^metadata_csum,uninit_bg -b 1024 -g 2048"),
    (24, "-t ext4 -O ^metadata_csum,^uninit_bg -b 1024"),
    (24, "-t ext4 -O ^flex_bg -b 1024"),
    (24, "-t ext4 -O ^extent,^64bit -b 1024"),
    (24, "-t ext4 -O ^dir_index -b 1024"),
    (24, "-t ext4 -O ^dir_nlink,^huge_file -I 128"),
    (24, "-t ext4 -O sparse_super2 -b 1024"),
    (24, "-t ext4 -O ^sparse_super,^resize_inode -b 1024 -g 2048"),
    (24, "-t ext4 -O meta_bg,^resize_inode -b 1024 -g 512"),
    (24, "-t ext4 -O ^resize_inode"),
    (24, "-t ext4 -O ^has_journal -b 1024"),
    (24, "-t ext4 -O orphan_file,metadata_csum_seed"),
    (
        24,
        "-t ext4 -N 700 -b 1024 -E hash_seed=0db0e9e7-85a3-4b4a-9b7b-0c6a8e3f6f0a",
    ),
    (
        24,
        "-t ext4 -E nodiscard,lazy_itable_init=1 -b 1024 -g 4096",
    ),
    (24, "-t ext3 -b 1024"),
    (24, "-t ext3 -b 4096 -I 128"),
    (16, "-t ext2 -b 1024 -g 2048"),
    (24, "-t ext2 -b 4096"),
    (8, "-t ext2 -r 0 -b 1024"),
];

/// The files every file system begins with.
fn tree(dir: &Path) -> BTreeMap<String, Seen> {
    let put = |path: &str, bytes: &[u8]| {
        let at = dir.join(path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(at, bytes).unwrap();
    };
    put("etc/hostname", b"old-name\n");
    put("etc/network/interfaces", b"auto lo\n");
    put("large", &vec![0x5a; 900_000]);
    for number in 0..60 {
        put(
            &format!("many/a file with a rather longer name, number {number:03}"),
            &[number],
        );
    }
    std::os::unix::fs::symlink("etc/network", dir.join("net")).unwrap();
    std::os::unix::fs::symlink(format!("{}etc/hostname", "./".repeat(80)), dir.join("far"))
        .unwrap();
    seen(dir)
}

/// What is done to a file system.
#[derive(Clone, Debug)]
enum Step {
    Put(String, usize, Attributes),
    Folder(String, Attributes),
    Link(String, usize),
    Remove(String),
    /// To more megabytes.
    Grow(u64),
    /// Closed and opened again.
    Again,
}

fn content(path: &str, len: usize) -> Vec<u8> {
    let seed = path.len() as u8;
    (0..len)
        .map(|at| (at >> 8) as u8 ^ seed ^ at as u8)
        .collect()
}

fn a_path() -> impl Strategy<Value = String> {
    let folder = prop_oneof![
        Just(String::new()),
        Just("/etc".to_owned()),
        Just("/many".to_owned()),
        Just("/new/deep/er".to_owned()),
        Just("/new/deep".to_owned()),
    ];
    let name = prop_oneof![
        (0..12u8).prop_map(|number| format!("n{number}")),
        (0..60u8)
            .prop_map(|number| format!("a file with a rather longer name, number {number:03}")),
        (0..30u8).prop_map(|number| format!("{number:02}{}", "long ".repeat(36))),
        Just("hostname".to_owned()),
    ];
    (folder, name).prop_map(|(folder, name)| format!("{folder}/{name}"))
}

fn attributes() -> impl Strategy<Value = Attributes> {
    let id = || proptest::option::of(prop_oneof![Just(0), 1..3000u32, Just(70_000)]);
    (proptest::option::of(0..0o10000u16), id(), id()).prop_map(|(mode, owner, group)| Attributes {
        mode,
        owner,
        group,
    })
}

fn a_step() -> impl Strategy<Value = Step> {
    let len = prop_oneof![
        4 => 0..200usize,
        4 => 200..20_000usize,
        1 => 100_000..900_000usize,
    ];
    prop_oneof![
        9 => (a_path(), len, attributes()).prop_map(|(path, len, given)| Step::Put(path, len, given)),
        2 => (a_path(), attributes()).prop_map(|(path, given)| Step::Folder(path, given)),
        2 => (a_path(), prop_oneof![1..59usize, 59..62usize, 62..1000usize])
            .prop_map(|(path, len)| Step::Link(path, len)),
        5 => a_path().prop_map(Step::Remove),
        1 => (0..70u64).prop_map(Step::Grow),
        1 => Just(Step::Again),
    ]
}

type Model = BTreeMap<String, Seen>;

fn parents(path: &str) -> impl Iterator<Item = &str> {
    path.match_indices('/').skip(1).map(|(at, _)| &path[..at])
}

/// Does a step to the model. `false` if it must be refused.
fn model(model: &mut Model, step: &Step) -> bool {
    let fresh = |content, mode, given: &Attributes, before: Option<&Seen>| Seen {
        content,
        mode: given
            .mode
            .map_or(before.map_or(mode, |seen| seen.mode), u32::from),
        owner: given.owner.unwrap_or(before.map_or(0, |seen| seen.owner)),
        group: given.group.unwrap_or(before.map_or(0, |seen| seen.group)),
    };
    let path = match step {
        Step::Put(path, ..) | Step::Folder(path, _) | Step::Link(path, _) => path,
        Step::Remove(path) => {
            let below = format!("{path}/");
            let filled = model.keys().any(|other| other.starts_with(&below));
            if !filled {
                model.remove(path);
            }
            return !filled;
        }
        Step::Grow(_) | Step::Again => return true,
    };
    let blocked = parents(path).any(|above| {
        model
            .get(above)
            .is_some_and(|seen| seen.content != Content::Folder)
    });
    if blocked {
        return false;
    }
    let before = model.get(path);
    let is_folder = before.is_some_and(|seen| seen.content == Content::Folder);
    let is_file = before.is_some_and(|seen| matches!(seen.content, Content::File(_)));
    let made = match step {
        Step::Put(path, len, given) if !is_folder => {
            let before = before.filter(|_| is_file);
            Some(fresh(
                Content::File(content(path, *len)),
                0o644,
                given,
                before,
            ))
        }
        Step::Folder(_, given) if before.is_none() || is_folder => {
            Some(fresh(Content::Folder, 0o755, given, before))
        }
        Step::Link(_, len) if !is_folder => {
            let target = Content::Link("t".repeat(*len));
            Some(fresh(target, 0, &Attributes::default(), None))
        }
        _ => None,
    };
    let Some(made) = made else {
        return false;
    };
    let missing: Vec<String> = parents(path)
        .filter(|above| !model.contains_key(*above))
        .map(str::to_owned)
        .collect();
    for above in missing {
        model.insert(
            above,
            fresh(Content::Folder, 0o755, &Attributes::default(), None),
        );
    }
    model.insert(path.clone(), made);
    true
}

fn edit<D: Disk>(editor: &mut Editor<D>, step: &Step) -> Result<(), ExtError> {
    match step {
        Step::Put(path, len, given) => editor.put(path, &content(path, *len), given),
        Step::Folder(path, given) => editor.make_folder(path, given),
        Step::Link(path, len) => editor.link(path, &"t".repeat(*len)),
        Step::Remove(path) => editor.remove(path).map(|_| ()),
        Step::Grow(_) | Step::Again => Ok(()),
    }
}

/// What the reader here sees.
fn read(image: &Path) -> Model {
    let disk = FileDisk::open(image).unwrap();
    let files = imagecraft::fs::open(&disk).unwrap().unwrap();
    let mut found = Model::new();
    walk(files.as_ref(), &mut |path, node| {
        if path.starts_with("/lost+found") {
            return Ok(());
        }
        let content = match node.kind {
            NodeKind::Folder => Content::Folder,
            NodeKind::Link => Content::Link(node.target.clone().unwrap()),
            _ => Content::File(files.read_head(path, 1 << 24)?),
        };
        let (owner, group) = node.owner.unwrap();
        let mode = if node.kind == NodeKind::Link {
            0
        } else {
            node.mode.unwrap() & 0o7777
        };
        let seen = Seen {
            content,
            mode,
            owner,
            group,
        };
        found.insert(path.to_owned(), seen);
        Ok(())
    })
    .unwrap();
    found
}

fn differences(found: &Model, expected: &Model) -> Vec<String> {
    let short = |seen: Option<&Seen>| {
        seen.map(|seen| {
            let content = match &seen.content {
                Content::File(bytes) => format!("{} bytes", bytes.len()),
                other => format!("{other:?}"),
            };
            format!("{content} {:o} {}:{}", seen.mode, seen.owner, seen.group)
        })
    };
    found
        .keys()
        .chain(expected.keys())
        .filter(|path| found.get(*path) != expected.get(*path))
        .map(|path| {
            format!(
                "{path}: found {:?}, expected {:?}",
                short(found.get(path)),
                short(expected.get(path))
            )
        })
        .collect()
}

struct Bench {
    dir: TempDir,
    image: PathBuf,
    mounts: bool,
    /// Steps that found no room.
    full: usize,
}

impl Bench {
    fn new() -> Self {
        let dir = TempDir::new().unwrap();
        Self {
            image: dir.path().join("image"),
            dir,
            mounts: true,
            full: 0,
        }
    }

    /// All judges find exactly the model.
    fn judge(&mut self, expected: &Model, what: &str) {
        is_sound(&self.image, what);
        let found = read(&self.image);
        assert_eq!(
            differences(&found, expected),
            Vec::<String>::new(),
            "{what}"
        );
        if self.mounts {
            let options = "ro,noload";
            let Some(mounted) = mount(&self.image, &self.dir.path().join("mnt"), options) else {
                self.mounts = false;
                return;
            };
            let found = seen(&mounted.0);
            let differ = differences(&found, expected);
            assert_eq!(differ, Vec::<String>::new(), "the kernel, {what}");
        }
    }

    /// Goes through steps on image and model.
    fn go(&mut self, steps: &[Step], expected: &mut Model, what: &str) {
        let mut len = fs::metadata(&self.image).unwrap().len();
        let mut rest = steps;
        while !rest.is_empty() {
            let mut disk = overlay(&self.image, len);
            let mut editor = Editor::open(&mut disk).unwrap_or_else(|e| panic!("{what}: {e}"));
            while let Some((step, later)) = rest.split_first() {
                rest = later;
                if let Step::Grow(megabytes) = step {
                    len = len.max(megabytes << 20);
                }
                if matches!(step, Step::Again | Step::Grow(_)) {
                    break;
                }
                let mut after = expected.clone();
                let fine = model(&mut after, step);
                match edit(&mut editor, step) {
                    Ok(()) => {
                        assert!(fine, "{what}: {step:?} was not refused");
                        *expected = after;
                    }
                    // Said before anything was changed: not even a folder on the way was made.
                    Err(ExtError::Full(_)) => self.full += 1,
                    Err(ExtError::WrongKind(_)) => assert!(!fine, "{what}: {step:?} refused"),
                    Err(e) => panic!("{what}: {step:?}: {e}"),
                }
            }
            editor.close().unwrap();
            carry_over(&disk, &self.image);
            let mut disk = overlay(&self.image, len);
            let mut editor = Editor::open(&mut disk).unwrap();
            editor.grow(false).unwrap();
            editor.close().unwrap();
            carry_over(&disk, &self.image);
        }
        self.judge(expected, what);
    }
}

#[test]
fn random_edits_and_growth_leave_what_a_plain_model_says() {
    let mut bench = Bench::new();
    let source = bench.dir.path().join("tree");
    fs::create_dir(&source).unwrap();
    let first = tree(&source);
    let cases: u32 = std::env::var("PROPTEST_CASES").map_or(2, |cases| cases.parse().unwrap());
    for (megabytes, options) in KINDS {
        if !mke2fs(&bench.image, *megabytes, options, Some(&source)) {
            continue;
        }
        let made = fs::read(&bench.image).unwrap();
        let config = Config {
            cases,
            failure_persistence: None,
            max_shrink_iters: 60,
            ..Config::default()
        };
        let cell = std::cell::RefCell::new(&mut bench);
        let ran =
            TestRunner::new(config).run(&proptest::collection::vec(a_step(), 1..60), |steps| {
                let mut bench = cell.borrow_mut();
                fs::write(&bench.image, &made).unwrap();
                let mut expected = first.clone();
                bench.go(&steps, &mut expected, &format!("mkfs {options}"));
                Ok(())
            });
        if let Err(e) = ran {
            panic!("mkfs {options}: {e}");
        }
    }
}

/// File systems without a free block, without a free inode, and without either: what finds no room
/// changes nothing, and what does not need any goes on.
#[test]
fn full_file_systems_stay_sound() {
    let mut bench = Bench::new();
    let source = bench.dir.path().join("tree");
    fs::create_dir(&source).unwrap();
    let first = tree(&source);
    let cases: u32 = std::env::var("PROPTEST_CASES").map_or(3, |cases| cases.parse().unwrap());
    for (megabytes, options) in [
        (3, "-t ext4 -b 1024 -O ^has_journal"),
        (3, "-t ext2 -b 1024 -m 0"),
        (8, "-t ext4 -b 4096 -O ^has_journal,^resize_inode -N 96"),
        (3, "-t ext4 -b 1024 -O ^has_journal,^extent,^64bit -N 96"),
    ] {
        assert!(mke2fs(&bench.image, megabytes, options, Some(&source)));
        let made = fs::read(&bench.image).unwrap();
        let config = Config {
            cases,
            failure_persistence: None,
            max_shrink_iters: 60,
            ..Config::default()
        };
        let crowding = prop_oneof![
            3 => a_step().prop_filter("it stays as small as it is", |step| !matches!(step, Step::Grow(_))),
            2 => (a_path(), 60_000..900_000usize)
                .prop_map(|(path, len)| Step::Put(path, len, Attributes::default())),
        ];
        bench.full = 0;
        let cell = std::cell::RefCell::new(&mut bench);
        let ran =
            TestRunner::new(config).run(&proptest::collection::vec(crowding, 40..120), |steps| {
                let mut bench = cell.borrow_mut();
                fs::write(&bench.image, &made).unwrap();
                let mut expected = first.clone();
                bench.go(&steps, &mut expected, &format!("mkfs {options}"));
                Ok(())
            });
        if let Err(e) = ran {
            panic!("mkfs {options}: {e}");
        }
        assert!(bench.full > 0, "mkfs {options} was never full");
    }
}

fn put(editor: &mut Editor<&mut imagecraft::Overlay<FileDisk>>, path: &str, bytes: &[u8]) {
    editor
        .put(path, bytes, &Attributes::default())
        .unwrap_or_else(|e| panic!("{path}: {e}"));
}

#[test]
fn a_large_folder_keeps_an_index_that_is_right() {
    for (options, hash, more) in [
        ("-t ext4 -b 1024", "half_md4", 400),
        ("-t ext4 -b 1024 -O ^metadata_csum", "tea", 400),
        ("-t ext4 -b 4096", "half_md4", 5000),
        ("-t ext3 -b 4096", "legacy", 5000),
        // More than the index has room for: the folder goes on without one.
        ("-t ext4 -b 1024", "half_md4", 5000),
    ] {
        let mut bench = Bench::new();
        let source = bench.dir.path().join("tree");
        fs::create_dir_all(source.join("full")).unwrap();
        for number in 0..1500 {
            fs::write(source.join(format!("full/name of file {number}")), b"x").unwrap();
        }
        let mut expected = seen(&source);
        let options = format!("{options} -N 20000");
        mke2fs(&bench.image, 64, &options, Some(&source));
        let image = bench.image.to_str().unwrap().to_owned();
        tool("tune2fs", &["-E", &format!("hash_alg={hash}"), &image]);
        tool("e2fsck", &["-fyD", &image]);
        let what = format!("mkfs {options}, hash {hash}");
        let mut disk = overlay(&bench.image, 64 << 20);
        let mut editor = Editor::open(&mut disk).unwrap();
        for number in 0..more {
            let path = format!("/full/another, with a length of its own {number:05}");
            put(&mut editor, &path, b"y");
            let content = Content::File(b"y".to_vec());
            let owned = Seen {
                content,
                owner: 0,
                group: 0,
                mode: 0o644,
            };
            expected.insert(path, owned);
            if number % 5 == 0 {
                let gone = format!("/full/name of file {}", number / 5);
                assert!(editor.remove(&gone).unwrap(), "{what}: {gone}");
                expected.remove(&gone);
            }
        }
        editor.close().unwrap();
        carry_over(&disk, &bench.image);
        bench.judge(&expected, &what);
        let stat = tool("debugfs", &["-R", "htree /full", &image]).0;
        let indexed = stat.contains("Number of entries (count)");
        assert_eq!(
            indexed,
            !options.contains("1024") || more < 1000,
            "{what}: {stat}"
        );
    }
}

#[test]
fn a_file_system_that_was_not_unmounted_is_brought_to_rest_first() {
    for options in [
        "-t ext4 -b 1024",
        "-t ext4 -O orphan_file",
        "-t ext3 -b 1024",
        "-t ext4 -O ^extent,^64bit,^metadata_csum -b 1024",
    ] {
        let mut bench = Bench::new();
        if !mke2fs(&bench.image, 64, options, None) {
            continue;
        }
        let kept = bench.dir.path().join("kept");
        let Some(mounted) = mount(&bench.image, &bench.dir.path().join("mnt"), "commit=600") else {
            return;
        };
        let folder = mounted.0.join("work");
        fs::create_dir(&folder).unwrap();
        for number in 0..300u32 {
            let bytes = vec![number as u8; 3000 + number as usize];
            fs::write(folder.join(format!("file {number}")), bytes).unwrap();
        }
        // Deleted while they are open, and one that was cut: orphans.
        let open: Vec<fs::File> = (0..40)
            .map(|number| {
                let path = folder.join(format!("file {number}"));
                let file = fs::File::open(&path).unwrap();
                fs::remove_file(path).unwrap();
                file
            })
            .collect();
        run("sync", &["-f", mounted.0.to_str().unwrap()]);
        let mut expected = seen(&mounted.0);
        fs::copy(&bench.image, &kept).unwrap();
        drop(open);
        drop(mounted);
        fs::rename(&kept, &bench.image).unwrap();
        let mut disk = overlay(&bench.image, 90 << 20);
        let mut editor = Editor::open(&mut disk).unwrap();
        put(&mut editor, "/work/file 100", b"placed");
        editor.grow(false).unwrap();
        editor.close().unwrap();
        carry_over(&disk, &bench.image);
        let changed = expected.get_mut("/work/file 100").unwrap();
        changed.content = Content::File(b"placed".to_vec());
        bench.judge(&expected, &format!("mkfs {options}, copied while mounted"));
    }
}

#[test]
fn what_is_not_handled_is_refused_by_name_and_nothing_is_changed() {
    let bench = Bench::new();
    for (options, name) in [
        ("-t ext4 -O bigalloc -C 16384", "bigalloc"),
        ("-t ext4 -O inline_data", "inline_data"),
        ("-t ext4 -O quota", "quota"),
        ("-t ext4 -O encrypt", "encrypt"),
        ("-t ext4 -O casefold -E encoding=utf8", "casefold"),
        ("-t ext4 -O verity", "verity"),
        ("-t ext4 -O ea_inode", "ea_inode"),
        ("-t ext4 -O quota,project", "project"),
        ("-t ext4 -O mmp", "mmp"),
    ] {
        if !mke2fs(&bench.image, 40, options, None) {
            continue;
        }
        let mut disk = overlay(&bench.image, 60 << 20);
        let refused = match Editor::open(&mut disk) {
            Ok(_) => panic!("{options} was not refused"),
            Err(e) => e,
        };
        assert!(refused.to_string().contains(name), "{options}: {refused}");
        assert_eq!(disk.changed_chunks().count(), 0, "{options}");
    }
}

#[test]
fn extended_attributes_stay_with_their_file() {
    let bench = Bench::new();
    for options in ["-t ext4", "-t ext3 -I 128 -b 1024"] {
        mke2fs(&bench.image, 24, options, None);
        let image = bench.image.to_str().unwrap();
        let dir = bench.dir.path().join("host");
        fs::write(&dir, b"old").unwrap();
        for request in [
            format!("write {} file", dir.to_str().unwrap()),
            "ea_set file user.note kept".into(),
            format!("ea_set file user.long {}", "y".repeat(300)),
        ] {
            run("debugfs", &["-w", "-R", &request, image]);
        }
        let mut disk = overlay(&bench.image, 24 << 20);
        let mut editor = Editor::open(&mut disk).unwrap();
        put(&mut editor, "/file", &[7; 5000]);
        editor.close().unwrap();
        carry_over(&disk, &bench.image);
        is_sound(&bench.image, options);
        let listed = run("debugfs", &["-R", "ea_list file", image]);
        assert!(
            listed.contains("user.note (4) = \"kept\""),
            "{options}: {listed}"
        );
        assert!(listed.contains("user.long (300)"), "{options}: {listed}");
        // With the file goes its block of attributes.
        let mut disk = overlay(&bench.image, 24 << 20);
        let mut editor = Editor::open(&mut disk).unwrap();
        assert!(editor.remove("/file").unwrap());
        assert!(!editor.remove("/file").unwrap());
        editor.close().unwrap();
        carry_over(&disk, &bench.image);
        is_sound(&bench.image, options);
    }
}

#[test]
fn too_much_and_impossible_names_are_refused_with_the_path() {
    let bench = Bench::new();
    mke2fs(&bench.image, 16, "-t ext4 -b 1024 -N 64", None);
    let mut disk = overlay(&bench.image, 16 << 20);
    let mut editor = Editor::open(&mut disk).unwrap();
    let given = Attributes::default();
    let refused = editor
        .put("/var/too-large", &vec![1; 17 << 20], &given)
        .unwrap_err();
    assert!(refused.to_string().contains("/var/too-large"), "{refused}");
    for path in [
        "",
        "/",
        "/etc/",
        "/etc/..",
        "/../x",
        "/a\0b",
        &format!("/{}", "n".repeat(256)),
    ] {
        let refused = editor.put(path, b"x", &given).unwrap_err();
        assert!(matches!(refused, ExtError::Path(_)), "{path}: {refused}");
    }
    for number in 0..100 {
        if let Err(refused) = editor.put(&format!("/one of many {number}"), b"", &given) {
            assert!(refused.to_string().contains("inodes"), "{refused}");
            assert!(number > 40);
            return;
        }
    }
    panic!("there were only 64 inodes");
}
