//! A disk with one empty volume, judged by the system's own tools.

use std::process::Command;

use imagecraft::fs::fat::empty_volume;
use imagecraft::{ByteKind, Disk, Map, MemoryDisk, Overlay};

fn said(program: &str, words: &[&str]) -> (bool, String) {
    let done = Command::new(program).args(words).output().unwrap();
    let text = [done.stdout, done.stderr].concat();
    (
        done.status.success(),
        String::from_utf8_lossy(&text).into_owned(),
    )
}

#[test]
fn an_empty_volume_is_sound_and_takes_files() {
    let dir = tempfile::tempdir().unwrap();
    for size in [
        64_000_000_u64,
        200_000_000,
        700_000_256,
        3_965_190_144,
        64_021_856_256,
        127_865_454_592,
    ] {
        let mut disk = Overlay::new(MemoryDisk::new(0), size);
        let mut map = Map::uniform(size, ByteKind::Free);
        empty_volume(&mut disk, &mut map, "C-0042", 0x1234_abcd).unwrap();

        // Put onto a medium that is full of something else, as a write puts it: by the map alone.
        let path = dir.path().join("card.img");
        let card = std::fs::File::create(&path).unwrap();
        card.set_len(size).unwrap();
        let put = |at: u64, bytes: &[u8]| {
            std::os::unix::fs::FileExt::write_all_at(&card, bytes, at).unwrap()
        };
        for at in [0, 4 << 20, (4 << 20) + 32 * 512, size / 2, size - (1 << 20)] {
            put(at, &[0xe5; 300_000]);
        }
        put(size - 512, b"EFI PART");
        for run in map.runs().iter().filter(|run| run.kind != ByteKind::Free) {
            let mut at = run.start;
            while at < run.end {
                let mut piece = vec![0; (run.end - at).min(1 << 20) as usize];
                if run.kind == ByteKind::Data {
                    disk.read_at(at, &mut piece).unwrap();
                }
                put(at, &piece);
                at += piece.len() as u64;
            }
        }
        let written = map.total(ByteKind::Data) + map.total(ByteKind::Zero);
        assert!(
            written < size / 20 + (16 << 20),
            "{size}: {written} bytes for nothing"
        );

        let image = path.to_str().unwrap();
        let (_, table) = said("sfdisk", &["--verify", image]);
        assert!(table.contains("No errors"), "{size}: {table}");
        let (_, dump) = said("sfdisk", &["--dump", image]);
        assert!(
            dump.contains("label: dos") && dump.contains("type=c"),
            "{size}: {dump}"
        );
        // The checker takes no offset: it gets the volume by itself.
        let volume = dir.path().join("volume.img");
        let (copied, why) = said(
            "cp",
            &[
                "--sparse=always",
                "--reflink=auto",
                image,
                volume.to_str().unwrap(),
            ],
        );
        assert!(copied, "{why}");
        let (cut, why) = said(
            "fallocate",
            &[
                "--collapse-range",
                "--offset",
                "0",
                "--length",
                "4194304",
                volume.to_str().unwrap(),
            ],
        );
        if !cut {
            let of = format!("if={image}");
            let to = format!("of={}", volume.display());
            let (copied, more) = said(
                "dd",
                &[&of, &to, "bs=4M", "skip=1", "conv=sparse", "status=none"],
            );
            assert!(copied, "{why} {more}");
        }
        let (sound, checked) = said("fsck.fat", &["-n", "-v", volume.to_str().unwrap()]);
        assert!(
            sound && !checked.to_lowercase().contains("differ"),
            "{size}: {checked}"
        );
        let at = format!("{image}@@4M");
        let file = dir.path().join("note.txt");
        std::fs::write(&file, "tide tables").unwrap();
        let (put, why) = said("mcopy", &["-i", &at, file.to_str().unwrap(), "::/note.txt"]);
        assert!(put, "{size}: {why}");
        let (_, listed) = said("mdir", &["-i", &at, "::/"]);
        assert!(
            listed.contains("C-0042") && listed.contains("note"),
            "{size}: {listed}"
        );
    }
}

#[test]
fn what_is_too_small_for_such_a_volume_is_refused() {
    for size in [0, 512, 4 << 20, 30_000_000] {
        let mut disk = Overlay::new(MemoryDisk::new(0), size);
        let mut map = Map::uniform(size, ByteKind::Free);
        assert!(
            empty_volume(&mut disk, &mut map, "C-0042", 1).is_err(),
            "{size}"
        );
        assert_eq!(map.total(ByteKind::Free), size);
    }
}
