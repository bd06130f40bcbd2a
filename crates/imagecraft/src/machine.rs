//! Which kind of computer an image is for, as far as its files tell: the machine in the header of
//! its programs, and the files that firmware and boot loaders of each kind look for.

use std::collections::BTreeSet;

use crate::Finding;
use crate::fs::{FileError, Files, Node, NodeKind};
use crate::number::le16;

/// Programs that nearly every system has, under one of their usual names.
const PROGRAMS: [&str; 8] = [
    "/sbin/init",
    "/bin/sh",
    "/bin/busybox",
    "/usr/bin/env",
    "/bin/ls",
    "/lib/systemd/systemd",
    "/usr/lib/systemd/systemd",
    "/bin/init",
];
/// Folders whose small files run at boot, and files of the kind.
const BOOT_SCRIPTS: [&str; 6] = [
    "/etc/init.d",
    "/etc/rc.local",
    "/etc/local.d",
    "/etc/systemd/system",
    "/etc/cron.d",
    "/etc/firstboot.d",
];
/// Words of the general tools that enlarge a partition or file system.
const GROWERS: [&str; 4] = [
    "resize2fs",
    "growpart",
    "systemd-growfs",
    "x-systemd.growfs",
];
/// Largest script that is searched, in bytes.
const MOST_SCRIPT: u64 = 64 * 1024;
/// Most files that are searched for a grower.
const MOST_SCRIPTS: usize = 500;

/// What files tell about the computer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Machine {
    /// Processor architectures, as Linux distributions call them: `arm64`, `armhf`, `amd64`.
    pub architectures: BTreeSet<String>,
    /// Kinds of boot files.
    pub boot: BTreeSet<String>,
    /// What was noteworthy.
    pub findings: Vec<Finding>,
    /// The file that will enlarge the root by itself.
    pub grower: Option<String>,
}

/// Looks at the files of one partition. Files that cannot be read say nothing.
pub fn look(files: &dyn Files, machine: &mut Machine) {
    for program in PROGRAMS {
        if let Ok(head) = files.read_head(program, 64)
            && let Some(name) = elf_machine(&head)
        {
            machine.architectures.insert(name.into());
            break;
        }
    }
    look_at_boot(files, machine);
    if machine.grower.is_none() {
        machine.grower = grower(files).unwrap_or_default();
    }
}

fn look_at_boot(files: &dyn Files, machine: &mut Machine) {
    for (name, architecture) in [
        ("bootaa64.efi", "arm64"),
        ("bootarm.efi", "armhf"),
        ("bootx64.efi", "amd64"),
        ("bootia32.efi", "i386"),
        ("bootriscv64.efi", "riscv64"),
    ] {
        if ["/efi/boot/", "/EFI/BOOT/", "/EFI/boot/"]
            .iter()
            .any(|folder| {
                exists(files, &format!("{folder}{name}"))
                    || exists(files, &format!("{folder}{}", name.to_uppercase()))
            })
        {
            machine.boot.insert("UEFI".into());
            machine.architectures.insert(architecture.into());
        }
    }
    for folder in ["/", "/boot"] {
        if exists(
            files,
            &format!("{}/extlinux/extlinux.conf", folder.trim_end_matches('/')),
        ) {
            machine.boot.insert("extlinux".into());
        }
        let Ok(nodes) = files.list(folder) else {
            continue;
        };
        for node in nodes
            .iter()
            .filter(|node| node.kind == NodeKind::File)
            .take(200)
        {
            let path = format!("{}/{}", folder.trim_end_matches('/'), node.name);
            if let Ok(head) = files.read_head(&path, 64) {
                boot_file(&head, machine);
            }
        }
    }
}

fn boot_file(head: &[u8], machine: &mut Machine) {
    let magic =
        |at: usize, bytes: &[u8]| head.get(at..at.saturating_add(bytes.len())) == Some(bytes);
    if magic(0, &[0xd0, 0x0d, 0xfe, 0xed]) {
        machine.boot.insert("device tree".into());
    } else if magic(0, &[0x27, 0x05, 0x19, 0x56]) {
        machine.boot.insert("U-Boot image or script".into());
    } else if magic(0x38, b"ARM\x64") {
        machine.boot.insert("Linux kernel".into());
        machine.architectures.insert("arm64".into());
    } else if magic(0x24, &[0x18, 0x28, 0x6f, 0x01]) {
        machine.boot.insert("Linux kernel".into());
        machine.architectures.insert("armhf".into());
    } else if magic(0x38, b"RSC\x05") {
        machine.boot.insert("Linux kernel".into());
        machine.architectures.insert("riscv64".into());
    }
}

fn exists(files: &dyn Files, path: &str) -> bool {
    matches!(
        files.find(path),
        Ok(Some(Node {
            kind: NodeKind::File,
            ..
        }))
    )
}

/// The machine in the header of an ELF program (System V ABI).
fn elf_machine(head: &[u8]) -> Option<&'static str> {
    if !head.starts_with(b"\x7fELF") {
        return None;
    }
    let wide = head.get(4) == Some(&2);
    let big = head.get(5) == Some(&2);
    let machine = le16(head, 18)?;
    let machine = if big { machine.swap_bytes() } else { machine };
    Some(match (machine, wide) {
        (0x28, _) => "armhf",
        (0xb7, _) => "arm64",
        (0x3e, _) => "amd64",
        (0x03, _) => "i386",
        (0xf3, true) => "riscv64",
        (0xf3, false) => "riscv32",
        (0x08, true) => "mips64",
        (0x08, false) => "mips",
        (0x15, _) => "ppc64",
        (0x14, _) => "powerpc",
        _ => "another architecture",
    })
}

/// The first file that runs at boot and enlarges the file system.
fn grower(files: &dyn Files) -> Result<Option<String>, FileError> {
    let says = |path: &str| -> bool {
        let Ok(Some(node)) = files.find(path) else {
            return false;
        };
        node.kind == NodeKind::File
            && node.len <= MOST_SCRIPT
            && files
                .read_head(path, MOST_SCRIPT as usize)
                .is_ok_and(|bytes| {
                    let text = String::from_utf8_lossy(&bytes);
                    text.lines()
                        .map(str::trim_start)
                        .filter(|line| !line.starts_with('#'))
                        .any(|line| GROWERS.iter().any(|word| line.contains(word)))
                })
    };
    for path in ["/etc/fstab", "/cmdline.txt", "/etc/rc.local"] {
        if says(path) {
            return Ok(Some(path.into()));
        }
    }
    for folder in ["/etc/repart.d", "/usr/lib/repart.d"] {
        if let Ok(nodes) = files.list(folder)
            && let Some(node) = nodes.iter().find(|node| node.name.ends_with(".conf"))
        {
            return Ok(Some(format!("{folder}/{}", node.name)));
        }
    }
    let mut left = MOST_SCRIPTS;
    for folder in BOOT_SCRIPTS {
        let mut waiting = vec![folder.to_owned()];
        while let Some(folder) = waiting.pop() {
            let Ok(mut nodes) = files.list(&folder) else {
                continue;
            };
            nodes.sort_by(|a, b| a.name.cmp(&b.name));
            for node in nodes {
                if left == 0 {
                    return Ok(None);
                }
                left = left.saturating_sub(1);
                let path = format!("{folder}/{}", node.name);
                if node.kind == NodeKind::Folder && path.matches('/').count() < 5 {
                    waiting.push(path);
                } else if says(&path) {
                    return Ok(Some(path));
                }
            }
        }
    }
    Ok(None)
}

/// Whether a board whose processor is of one architecture runs programs of another: 64-bit
/// processors of the two usual families run those of 32 bits too.
pub fn runs(board: &str, image: &str) -> bool {
    board == image
        || matches!(
            (board, image),
            ("arm64", "armhf" | "armel") | ("armhf", "armel") | ("amd64", "i386")
        )
}
