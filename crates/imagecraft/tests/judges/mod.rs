//! The system's own tools as judges: they make file systems and tables, and say whether those
//! that were edited here are still right.
#![allow(dead_code, reason = "each test file uses some of it")]

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use imagecraft::{ByteKind, CHUNK, Disk, FileDisk, Map, Overlay};

/// Runs a tool; gives its words and its exit code.
pub fn tool(program: &str, args: &[&str]) -> (String, i32) {
    let output = Command::new(program)
        .env(
            "PATH",
            format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap()),
        )
        .env("LC_ALL", "C")
        .args(args)
        .output()
        .unwrap_or_else(|e| panic!("{program}: {e}"));
    let words = [output.stdout, output.stderr].concat();
    (
        String::from_utf8_lossy(&words).into_owned(),
        output.status.code().unwrap_or(-1),
    )
}

/// Runs a tool that must succeed.
pub fn run(program: &str, args: &[&str]) -> String {
    let (words, code) = tool(program, args);
    assert_eq!(code, 0, "{program} {args:?}: {words}");
    words
}

/// Makes an ext file system, with the files of a folder if one is given. `false`, with the
/// reason printed, where the installed tool is older than an option.
pub fn mke2fs(image: &Path, megabytes: u64, options: &str, source: Option<&Path>) -> bool {
    let _ = fs::remove_file(image);
    let file = fs::File::create(image).unwrap();
    file.set_len(megabytes << 20).unwrap();
    let mut args = vec!["-q", "-F"];
    if let Some(source) = source {
        args.extend(["-d", source.to_str().unwrap()]);
    }
    args.extend(options.split(' ').filter(|word| !word.is_empty()));
    args.push(image.to_str().unwrap());
    let (words, code) = tool("mke2fs", &args);
    if code != 0 {
        println!("skipped: mkfs {options}: {}", words.trim());
        assert!(
            words.contains("Invalid filesystem option"),
            "{options}: {words}"
        );
    }
    code == 0
}

/// The judge of ext file systems finds nothing wrong.
pub fn is_sound(image: &Path, what: &str) {
    let (words, code) = tool("e2fsck", &["-fn", image.to_str().unwrap()]);
    let complains = words.contains("Fix") || words.contains("WARNING") || words.contains("wrong");
    assert!(
        code == 0 && !complains,
        "{what}: e2fsck says {code}: {words}"
    );
}

/// Opens an image, to be edited in an overlay of `len` bytes.
pub fn overlay(image: &Path, len: u64) -> Overlay<FileDisk> {
    Overlay::new(FileDisk::open(image).unwrap(), len)
}

/// Carries what an overlay changed over to its image; gives the number of chunks.
pub fn carry_over(overlay: &Overlay<FileDisk>, image: &Path) -> usize {
    let before = fs::metadata(image).unwrap().len();
    let file = fs::OpenOptions::new().write(true).open(image).unwrap();
    // What was moved is read from where it stood, which may lie behind a new end.
    file.set_len(overlay.len().max(before)).unwrap();
    let touched = overlay.touched_chunks(&Map::uniform(overlay.len(), ByteKind::Data));
    for chunk in &touched {
        let at = chunk * CHUNK;
        let len = CHUNK.min(overlay.len() - at);
        let bytes = overlay.read_vec(at, len as usize).unwrap();
        if at < before || bytes.iter().any(|byte| *byte != 0) {
            std::os::unix::fs::FileExt::write_all_at(&file, &bytes, at).unwrap();
        }
    }
    file.set_len(overlay.len()).unwrap();
    touched.len()
}

/// A file, folder or link as the kernel shows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    pub content: Content,
    /// Permission bits; nothing is told of a link's.
    pub mode: u32,
    pub owner: u32,
    pub group: u32,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Content {
    File(Vec<u8>),
    Folder,
    Link(String),
}

/// A mounted file system, unmounted when this is dropped.
pub struct Mounted(pub PathBuf);

impl Drop for Mounted {
    fn drop(&mut self) {
        // A process that another thread is just starting may hold a file of it for a moment.
        for _ in 0..100 {
            let done = Command::new("umount").arg(&self.0).output();
            if done.is_ok_and(|done| done.status.success()) {
                return;
            }
            std::thread::sleep(std::time::Duration::from_millis(30));
        }
        println!("{} could not be unmounted", self.0.display());
    }
}

/// Mounts an image through a loop device; `None`, with the reason printed, where that is not
/// possible.
pub fn mount(image: &Path, at: &Path, options: &str) -> Option<Mounted> {
    fs::create_dir_all(at).unwrap();
    let (words, code) = tool(
        "mount",
        &[
            "-o",
            &format!("loop,{options}"),
            image.to_str().unwrap(),
            at.to_str().unwrap(),
        ],
    );
    if code == 0 {
        return Some(Mounted(at.into()));
    }
    println!("skipped: mounting is not possible here: {}", words.trim());
    None
}

/// Everything below a folder but `lost+found`, by path from there.
pub fn seen(below: &Path) -> BTreeMap<String, Seen> {
    let mut found = BTreeMap::new();
    let mut open = vec![below.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path
                .strip_prefix(below)
                .unwrap()
                .to_str()
                .unwrap()
                .to_owned();
            if name == "lost+found" {
                continue;
            }
            let about = fs::symlink_metadata(&path).unwrap();
            let content = if about.is_dir() {
                open.push(path);
                Content::Folder
            } else if about.is_symlink() {
                Content::Link(fs::read_link(&path).unwrap().to_str().unwrap().to_owned())
            } else {
                Content::File(fs::read(&path).unwrap())
            };
            found.insert(
                format!("/{name}"),
                Seen {
                    mode: if about.is_symlink() {
                        0
                    } else {
                        about.mode() & 0o7777
                    },
                    owner: about.uid(),
                    group: about.gid(),
                    content,
                },
            );
        }
    }
    found
}

/// Puts a partition into an image, `at` so many MiB.
pub fn put(image: &Path, part: &Path, at: u64) {
    run(
        "dd",
        &[
            &format!("if={}", part.display()),
            &format!("of={}", image.display()),
            "bs=1M",
            &format!("seek={at}"),
            "conv=notrunc,sparse",
            "status=none",
        ],
    );
}

/// Cuts a partition out of a card, as a file with holes.
pub fn part_of(card: &Path, start: u64, len: u64, to: &Path) {
    run(
        "dd",
        &[
            &format!("if={}", card.display()),
            &format!("of={}", to.display()),
            "bs=1M",
            "iflag=skip_bytes,count_bytes",
            "conv=sparse",
            "status=none",
            &format!("skip={start}"),
            &format!("count={len}"),
        ],
    );
    fs::File::options()
        .write(true)
        .open(to)
        .unwrap()
        .set_len(len)
        .unwrap();
}
