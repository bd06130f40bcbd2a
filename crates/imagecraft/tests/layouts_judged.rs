//! Tables made by sfdisk, and whole images inspected: what sfdisk says and what is found here is
//! the same; findings name what is wrong.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use imagecraft::inspect::inspect;
use imagecraft::table::TableKind;
use imagecraft::{ByteKind, Disk, FileDisk, Layout, Severity};
use tempfile::TempDir;

const MIB: u64 = 1 << 20;

fn run(program: &str, args: &[&str], input: &str) -> String {
    let mut child = Command::new(program)
        .env(
            "PATH",
            format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap()),
        )
        .env("LC_ALL", "C")
        .args(args)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap_or_else(|e| panic!("{program}: {e}"));
    child
        .stdin
        .take()
        .unwrap()
        .write_all(input.as_bytes())
        .unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(
        output.status.success(),
        "{program} {args:?}: {}",
        String::from_utf8_lossy(&output.stderr)
    );
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn disk(dir: &TempDir, len: u64, script: &str, sector: u64) -> PathBuf {
    let path = dir.path().join(format!("disk-{len}-{}", script.len()));
    let _ = std::fs::remove_file(&path);
    std::fs::File::create(&path).unwrap().set_len(len).unwrap();
    if sector == 512 {
        run("sfdisk", &["-q", path.to_str().unwrap()], script);
    } else {
        run(
            "fdisk",
            &["-b", &sector.to_string(), path.to_str().unwrap()],
            script,
        );
    }
    path
}

/// Number, start and length as sfdisk tells them, extended partitions left out.
fn judged(path: &Path) -> Vec<(u32, u64, u64)> {
    let text = run("sfdisk", &["--json", path.to_str().unwrap()], "");
    let json: serde_json::Value = serde_json::from_str(&text).unwrap();
    let parts = json["partitiontable"]["partitions"].as_array().unwrap();
    parts
        .iter()
        .filter(|part| part["type"] != "f" && part["type"] != "5")
        .map(|part| {
            let node = part["node"].as_str().unwrap();
            let number = node.rsplit(|c: char| !c.is_ascii_digit()).next().unwrap();
            (
                number.parse().unwrap(),
                part["start"].as_u64().unwrap() * 512,
                part["size"].as_u64().unwrap() * 512,
            )
        })
        .collect()
}

fn found(layout: &Layout) -> Vec<(u32, u64, u64)> {
    layout
        .partitions
        .iter()
        .map(|p| (p.number, p.start, p.len))
        .collect()
}

fn codes(layout: &Layout) -> Vec<&str> {
    layout
        .findings
        .iter()
        .map(|finding| finding.code.as_str())
        .collect()
}

#[test]
fn partitions_are_those_that_sfdisk_names() {
    let dir = TempDir::new().unwrap();
    let logical = "label: dos\nlabel-id: 0x5a17ab1e\n1:start=2048,size=8192,type=c\n2:start=12288,size=118784,type=f\n5:start=14336,size=8192,type=83\n6:start=24576,size=16384,type=83\n7:start=43008,size=4096,type=82\n";
    let path = disk(&dir, 64 * MIB, logical, 512);
    // sfdisk counts the node's digits behind the number of the file's name.
    let numbers: Vec<_> = judged(&path)
        .iter()
        .map(|(_, start, len)| (*start, *len))
        .collect();
    let layout = Layout::read(&FileDisk::open(&path).unwrap()).unwrap();
    assert_eq!(
        layout
            .partitions
            .iter()
            .map(|p| p.number)
            .collect::<Vec<_>>(),
        [1, 5, 6, 7]
    );
    assert_eq!(
        found(&layout)
            .iter()
            .map(|(_, s, l)| (*s, *l))
            .collect::<Vec<_>>(),
        numbers
    );
    assert_eq!(layout.partitions[1].uuid.as_deref(), Some("5a17ab1e-05"));
    assert_eq!(
        layout.smallest_card(),
        64 * MIB,
        "up to the end of the extended partition"
    );

    let gpt = "label: gpt\nsize=8MiB,type=uefi,name=boot\nsize=16MiB,type=linux,name=root\n";
    let path = disk(&dir, 64 * MIB + 512, gpt, 512);
    let layout = Layout::read(&FileDisk::open(&path).unwrap()).unwrap();
    let spans: Vec<_> = judged(&path).iter().map(|(_, s, l)| (*s, *l)).collect();
    assert_eq!(
        found(&layout)
            .iter()
            .map(|(_, s, l)| (*s, *l))
            .collect::<Vec<_>>(),
        spans
    );
    assert!(codes(&layout).is_empty());

    let keys = "g\nn\n1\n256\n+8M\nn\n2\n\n+16M\nw\n";
    let path = disk(&dir, 64 * MIB + 4096, keys, 4096);
    let layout = Layout::read(&FileDisk::open(&path).unwrap()).unwrap();
    let told = run(
        "fdisk",
        &[
            "-b",
            "4096",
            "-l",
            "-o",
            "Start,Sectors",
            path.to_str().unwrap(),
        ],
        "",
    );
    let spans: Vec<_> = told
        .lines()
        .filter_map(|line| line.trim().split_once(' '))
        .filter_map(|(start, len)| {
            Some((
                start.parse::<u64>().ok()? * 4096,
                len.trim().parse::<u64>().ok()? * 4096,
            ))
        })
        .collect();
    assert_eq!(spans.len(), 2, "{told}");
    assert_eq!(
        found(&layout)
            .iter()
            .map(|(_, s, l)| (*s, *l))
            .collect::<Vec<_>>(),
        spans
    );
    assert_eq!(layout.gpt.as_ref().unwrap().sector, 4096);
    assert_eq!(codes(&layout), ["sector-size"]);
}

#[test]
fn copies_of_a_table_are_told_apart() {
    let dir = TempDir::new().unwrap();
    let script = "label: gpt\nsize=8MiB,name=boot\nsize=16MiB,name=root\n";
    let path = disk(&dir, 64 * MIB, script, 512);
    let sound = std::fs::read(&path).unwrap();
    let with = |change: &dyn Fn(&mut Vec<u8>)| {
        let mut bytes = sound.clone();
        change(&mut bytes);
        let layout = Layout::survey(&imagecraft::MemoryDisk::from(bytes)).unwrap();
        (
            found(&layout),
            codes(&layout)
                .into_iter()
                .map(str::to_owned)
                .collect::<Vec<_>>(),
        )
    };
    let expected = with(&|_| {}).0;
    assert_eq!(expected.len(), 2);
    let end = sound.len();
    type Case<'a> = (&'a str, &'a dyn Fn(&mut Vec<u8>));
    let cases: [Case<'_>; 5] = [
        ("gpt-from-backup", &|bytes| bytes[512 + 20] ^= 1),
        ("gpt-from-backup", &|bytes| bytes[1024 + 33] ^= 1),
        ("no-backup", &|bytes| bytes[end - 512] ^= 1),
        ("backup-not-at-end", &|bytes| bytes.resize(end + 4096, 0)),
        ("no-protective-record", &|bytes| bytes[..512].fill(0)),
    ];
    for (code, change) in cases {
        assert_eq!(
            with(change),
            (expected.clone(), vec![code.to_owned()]),
            "{code}"
        );
    }
    // A new table in front, the backup of another one left at the end.
    let other = disk(&dir, 64 * MIB, "label: gpt\nsize=4MiB,name=only\n", 512);
    let other = std::fs::read(other).unwrap();
    let mixed = with(&|bytes| bytes[end - 34 * 512..].copy_from_slice(&other[end - 34 * 512..]));
    assert_eq!(mixed, (expected.clone(), vec!["stale-backup".into()]));
    // The record names a partition of its own beside the protective one.
    let hybrid = with(&|bytes| {
        bytes[446 + 16 + 4] = 0x0c;
        bytes[446 + 16 + 8..446 + 16 + 16].copy_from_slice(&[0, 8, 0, 0, 0, 8, 0, 0]);
    });
    assert_eq!(hybrid, (expected, vec!["hybrid".into()]));
    // An old backup behind a plain record does not count.
    let dos = disk(&dir, 64 * MIB, "label: dos\n2048,8192,83\n", 512);
    let mut bytes = std::fs::read(dos).unwrap();
    bytes[end - 34 * 512..].copy_from_slice(&sound[end - 34 * 512..]);
    let layout = Layout::survey(&imagecraft::MemoryDisk::from(bytes)).unwrap();
    assert_eq!(
        (layout.table, codes(&layout)),
        (TableKind::Mbr, vec!["old-gpt"])
    );
}

#[test]
fn a_chain_of_logical_partitions_that_breaks_or_runs_in_a_circle_ends() {
    let dir = TempDir::new().unwrap();
    let script = "label: dos\n1:start=2048,size=8192,type=83\n2:start=12288,size=118784,type=f\n5:start=14336,size=8192,type=83\n6:start=24576,size=8192,type=83\n";
    let sound = std::fs::read(disk(&dir, 64 * MIB, script, 512)).unwrap();
    let extended = 12288 * 512;
    for (what, at, bytes, left) in [
        ("no signature", extended + 510, [0, 0, 0, 0], 1),
        ("a link to itself", extended + 462 + 8, [0, 0, 0, 0], 2),
        (
            "a link past the end",
            extended + 462 + 8,
            [0xff, 0xff, 0xff, 0x7f],
            2,
        ),
    ] {
        let mut bytes_of = sound.clone();
        bytes_of[at..at + 4].copy_from_slice(&bytes);
        let layout = Layout::survey(&imagecraft::MemoryDisk::from(bytes_of)).unwrap();
        assert_eq!(codes(&layout), ["broken-extended"], "{what}");
        assert_eq!(layout.partitions.len(), left, "{what}");
    }
}

/// Puts the bytes of one file into another.
fn put(disk: &Path, at: u64, part: &Path) {
    let mut out = FileDisk::open_writable(disk).unwrap();
    out.write_at(at, &std::fs::read(part).unwrap()).unwrap();
}

fn formatted(dir: &TempDir, len: u64, program: &str, options: &str) -> PathBuf {
    let path = dir.path().join("part");
    let _ = std::fs::remove_file(&path);
    std::fs::File::create(&path).unwrap().set_len(len).unwrap();
    let mut args: Vec<_> = options.split(' ').collect();
    args.push(path.to_str().unwrap());
    run(program, &args, "");
    path
}

#[test]
fn an_image_is_inspected_whole() {
    let dir = TempDir::new().unwrap();
    let script = "label: dos\nlabel-id: 0x5a17ab1e\n2048,32768,c\n40960,131072,83\n";
    let path = disk(&dir, 128 * MIB, script, 512);
    let boot = formatted(&dir, 16 * MIB, "mkfs.fat", "-F 16 -n BOOT");
    // A 64-bit ARM kernel and a device tree, as far as their headers go.
    let mut kernel = vec![0; 100_000];
    kernel[0x38..0x3c].copy_from_slice(b"ARM\x64");
    std::fs::write(dir.path().join("kernel.img"), &kernel).unwrap();
    std::fs::write(dir.path().join("board.dtb"), [0xd0, 0x0d, 0xfe, 0xed, 0, 0]).unwrap();
    for name in ["kernel.img", "board.dtb"] {
        let source = dir.path().join(name);
        run(
            "mcopy",
            &["-i", boot.to_str().unwrap(), source.to_str().unwrap(), "::"],
            "",
        );
    }
    put(&path, 2048 * 512, &boot);
    let tree = dir.path().join("tree");
    std::fs::create_dir_all(tree.join("etc/init.d")).unwrap();
    std::fs::create_dir_all(tree.join("usr/bin")).unwrap();
    std::os::unix::fs::symlink("usr/bin", tree.join("bin")).unwrap();
    let mut elf = vec![0; 200];
    elf[..6].copy_from_slice(b"\x7fELF\x02\x01");
    elf[18] = 0xb7;
    std::fs::write(tree.join("usr/bin/sh"), &elf).unwrap();
    std::fs::write(
        tree.join("etc/init.d/grow"),
        "#!/bin/sh\n# resize2fs\nresize2fs /dev/disk\n",
    )
    .unwrap();
    let options = format!("-q -t ext4 -L root -d {}", tree.display());
    put(
        &path,
        40960 * 512,
        &formatted(&dir, 64 * MIB, "mke2fs", &options),
    );

    let disk = FileDisk::open(&path).unwrap();
    let seen = inspect(&disk).unwrap();
    assert_eq!(seen.architectures, ["arm64"]);
    assert_eq!(seen.boot, ["Linux kernel", "device tree"]);
    assert_eq!(seen.grower.as_deref(), Some("/etc/init.d/grow"));
    let codes: Vec<_> = seen
        .findings
        .iter()
        .map(|f| (f.severity, f.code.as_str()))
        .collect();
    assert_eq!(codes, [(Severity::Note, "first-boot-grower")]);
    assert_eq!(seen.smallest_card, (40960 + 131072) * 512);
    let shrunk = seen.shrunk_card.unwrap();
    assert!((40960 * 512..60 * MIB).contains(&shrunk), "{shrunk}");
    let gaps: Vec<_> = seen.gaps.iter().map(|gap| (gap.start, gap.len)).collect();
    assert_eq!(
        gaps,
        [
            (0, MIB),
            (34816 * 512, 6144 * 512),
            (172032 * 512, 44 * MIB)
        ]
    );
    let boot = &seen.partitions[0];
    let label = boot
        .partition
        .file_system
        .as_ref()
        .unwrap()
        .label
        .as_deref();
    assert_eq!((boot.partition.number, label), (1, Some("BOOT")));
    // mkfs.fat makes clusters of 2 KiB here: 49 for the kernel, one for the tree.
    let free_clusters = run(
        "sh",
        &[
            "-c",
            &format!(
                "dd if={} bs=1M skip=1 count=16 status=none of={}/b && fsck.fat -vn {}/b",
                path.display(),
                dir.path().display(),
                dir.path().display()
            ),
        ],
        "",
    );
    let (used, all) = free_clusters
        .lines()
        .find_map(|line| {
            line.split_once(" files, ")?
                .1
                .strip_suffix(" clusters")?
                .split_once('/')
        })
        .map(|(used, all)| (used.parse::<u64>().unwrap(), all.parse::<u64>().unwrap()))
        .unwrap();
    assert_eq!(boot.free.unwrap(), (all - used) * 2048, "{free_clusters}");
    assert!(seen.map.total(ByteKind::Free) > 60 * MIB);
    assert_eq!(seen.map.runs_in(0, 1)[0].kind, ByteKind::Data);
}

#[test]
fn a_file_system_without_a_table_and_kinds_that_are_kept_whole() {
    let dir = TempDir::new().unwrap();
    for (program, options, kind) in [
        ("mkfs.fat", "-F 12 -S 512", "FAT12"),
        ("mkfs.fat", "-F 32 -s 1", "FAT32"),
        ("mke2fs", "-q -t ext2", "ext2"),
        ("mkswap", "-q -L swap", "swap"),
    ] {
        let len = if kind == "FAT32" { 64 * MIB } else { 8 * MIB };
        let path = formatted(&dir, len, program, options);
        let seen = inspect(&FileDisk::open(&path).unwrap()).unwrap();
        assert_eq!(seen.layout.table, TableKind::None, "{kind}");
        let fs = seen.partitions[0].partition.file_system.as_ref().unwrap();
        assert_eq!(fs.kind, kind);
        assert_eq!(seen.findings[0].code, "no-table", "{kind}");
        assert_eq!(seen.partitions[0].used.is_some(), kind != "swap", "{kind}");
    }
    // Marks of the kinds whose tools need not be installed.
    for (kind, at, mark) in [
        ("LUKS", 0, b"LUKS\xba\xbe".as_slice()),
        ("LVM", 512, b"LABELONE"),
        ("Btrfs", 0x10040, b"_BHRfS_M"),
        ("F2FS", 1024, &[0x10, 0x20, 0xf5, 0xf2]),
        ("SquashFS", 0, b"hsqs"),
        ("ISO 9660", 0x8001, b"CD001"),
        ("NTFS", 3, b"NTFS    "),
        ("exFAT", 3, b"EXFAT   "),
    ] {
        let mut bytes = vec![0; 4 << 20];
        bytes[446 + 4] = 0x83;
        bytes[446 + 8..446 + 16].copy_from_slice(&[8, 0, 0, 0, 0, 16, 0, 0]);
        bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
        bytes[4096 + at..4096 + at + mark.len()].copy_from_slice(mark);
        let seen = inspect(&imagecraft::MemoryDisk::from(bytes)).unwrap();
        let part = &seen.partitions[0];
        assert_eq!(part.partition.file_system.as_ref().unwrap().kind, kind);
        assert_eq!((part.used, part.free), (None, None), "{kind}");
        let kept = seen.map.runs_in(4096, 4096 + 4096 * 512);
        assert!(kept.iter().all(|run| run.kind == ByteKind::Data), "{kind}");
        assert!(
            seen.findings
                .iter()
                .any(|f| f.code == "kept-whole" && f.text.contains(kind)),
            "{kind}"
        );
    }
}

#[test]
fn what_is_wrong_becomes_a_finding_and_frees_nothing() {
    let dir = TempDir::new().unwrap();
    let script = "label: dos\n2048,32768,83\n40960,131072,83\n";
    let path = disk(&dir, 128 * MIB, script, 512);
    put(
        &path,
        MIB,
        &formatted(&dir, 16 * MIB, "mke2fs", "-q -t ext4"),
    );
    std::fs::File::options()
        .write(true)
        .open(&path)
        .unwrap()
        .set_len(60 * MIB)
        .unwrap();
    let seen = inspect(&FileDisk::open(&path).unwrap()).unwrap();
    let first = &seen.findings[0];
    assert_eq!(
        (first.severity, first.code.as_str()),
        (Severity::Serious, "beyond-end")
    );
    assert_eq!(
        first.text,
        "Partition 2 ends at byte 88080384, but there are only 62914560 bytes; the image is cut short."
    );
    assert_eq!(seen.map.total(ByteKind::Free), 0);
    assert!(Layout::read(&FileDisk::open(&path).unwrap()).is_err());
}

#[test]
fn files_on_fat_are_those_that_mdir_lists() {
    let dir = TempDir::new().unwrap();
    for bits in ["12", "16", "32"] {
        let len = if bits == "32" { 64 * MIB } else { 8 * MIB };
        let part = formatted(
            &dir,
            len,
            "mkfs.fat",
            &format!("-F {bits} -s {} -n BOOT", if bits == "12" { 8 } else { 1 }),
        );
        let tree = dir.path().join("a folder of settings");
        std::fs::create_dir_all(tree.join("deeper still")).unwrap();
        let mut expected = Vec::new();
        for number in 0..60_u32 {
            let name = format!("a file with a long name, number {number:03}.txt");
            let bytes = vec![number as u8; number as usize * 333];
            std::fs::write(tree.join("deeper still").join(&name), &bytes).unwrap();
            expected.push((format!("/a folder of settings/deeper still/{name}"), bytes));
        }
        std::fs::write(tree.join("SHORT.TXT"), b"short").unwrap();
        expected.push(("/a folder of settings/SHORT.TXT".into(), b"short".to_vec()));
        let image = part.to_str().unwrap();
        run(
            "mcopy",
            &["-s", "-i", image, tree.to_str().unwrap(), "::/"],
            "",
        );
        let listed = run("mdir", &["-/", "-b", "-i", image, "::/"], "");
        let mut judged: Vec<_> = listed
            .lines()
            .filter_map(|line| line.strip_prefix("::"))
            .filter(|path| !path.ends_with('/'))
            .map(str::to_owned)
            .collect();
        judged.sort();
        let disk = FileDisk::open(&part).unwrap();
        let files = imagecraft::fs::open(&disk).unwrap().unwrap();
        let mut found = Vec::new();
        imagecraft::fs::walk(files.as_ref(), &mut |path, node| {
            if node.kind == imagecraft::fs::NodeKind::File {
                found.push(path.to_owned());
            }
            Ok(())
        })
        .unwrap();
        found.sort();
        assert_eq!(found, judged, "FAT{bits}");
        for (path, bytes) in &expected {
            assert!(
                files.read_head(path, 1 << 20).unwrap() == *bytes,
                "FAT{bits}: {path}"
            );
        }
        std::fs::remove_dir_all(&tree).unwrap();
    }
}

#[test]
fn a_table_of_large_sectors_moves_to_the_end_of_a_larger_disk() {
    let dir = TempDir::new().unwrap();
    let keys = "g\nn\n1\n256\n+8M\nn\n2\n\n+16M\nw\n";
    let path = disk(&dir, 64 * MIB, keys, 4096);
    let layout = Layout::read(&FileDisk::open(&path).unwrap()).unwrap();
    std::fs::File::options()
        .write(true)
        .open(&path)
        .unwrap()
        .set_len(96 * MIB)
        .unwrap();
    let mut larger = FileDisk::open_writable(&path).unwrap();
    layout.gpt.as_ref().unwrap().fit(&mut larger).unwrap();
    let said = run("fdisk", &["-b", "4096", "-l", path.to_str().unwrap()], "");
    assert!(
        said.contains("96 MiB") && said.contains("Disklabel type: gpt"),
        "{said}"
    );
    let again = Layout::survey(&FileDisk::open(&path).unwrap()).unwrap();
    assert_eq!(again.partitions, layout.partitions);
    assert_eq!(
        codes(&again),
        ["sector-size"],
        "both copies agree, the backup at the end"
    );
}
