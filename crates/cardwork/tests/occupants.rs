//! What a slot says of whatever is put into it.

use cardwork::{Access, Mark, MemorySlot, Occupant, Slot, look};
use imagecraft::compose::{Recipe, compose};
use imagecraft::fs::fat::Fat;
use imagecraft::{ByteKind, Disk, Map, MemoryDisk, Stamp, StampBase, Window};
use proptest::prelude::*;
use time::OffsetDateTime;

const MIB: usize = 1 << 20;

fn seen(bytes: Vec<u8>) -> (Occupant, String) {
    let slot = MemorySlot::default();
    let insertion = slot.put(bytes, false);
    let found = look(slot.open(&insertion, Access::Hold).unwrap().as_ref()).unwrap();
    (found.occupant, found.summary)
}

/// A FAT16 file system made by an independent package.
fn fat(len: usize) -> Vec<u8> {
    let mut cursor = std::io::Cursor::new(vec![0; len]);
    let options = fatfs::FormatVolumeOptions::new().volume_label(*b"HOLIDAYS   ");
    fatfs::format_volume(&mut cursor, options).unwrap();
    cursor.into_inner()
}

/// A card of 24 MiB with one FAT partition of 16 MiB behind a master boot record.
fn partitioned() -> MemoryDisk {
    let mut bytes = vec![0; 24 * MIB];
    bytes[446 + 4] = 0x0e;
    bytes[446 + 8..446 + 12].copy_from_slice(&2048_u32.to_le_bytes());
    bytes[446 + 12..446 + 16].copy_from_slice(&32_768_u32.to_le_bytes());
    bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
    bytes[MIB..17 * MIB].copy_from_slice(&fat(16 * MIB));
    MemoryDisk::from(bytes)
}

fn stamp() -> Stamp {
    Stamp {
        format: 1,
        card: "C-0012".into(),
        imprint: 40,
        base: StampBase::Backup("quay-01.2026-11-24".into()),
        device: Some("quay-01".into()),
        hello: None,
        made: OffsetDateTime::UNIX_EPOCH,
    }
}

#[test]
fn nothing_somebody_elses_and_what_cannot_be_told() {
    assert_eq!(seen(vec![0; 2 * MIB]), (Occupant::Blank, "blank".into()));
    assert_eq!(
        seen(fat(16 * MIB)),
        (
            Occupant::Foreign,
            "FAT16 HOLIDAYS without a partition table".into()
        )
    );
    assert_eq!(
        seen(vec![0x5a; 2 * MIB]),
        (Occupant::Foreign, "unknown data".into())
    );
    let (occupant, summary) = seen(partitioned().bytes().to_vec());
    assert_eq!(
        (occupant, summary.as_str()),
        (Occupant::Foreign, "MBR, 1 partition: FAT16 HOLIDAYS")
    );
    // A card smaller than anything that is looked for.
    assert_eq!(seen(vec![0; 512]).0, Occupant::Blank);
}

#[test]
fn a_composed_card_is_known_by_its_stamp() {
    let base = partitioned();
    let map = Map::uniform(base.len(), ByteKind::Data);
    let recipe = Recipe {
        stamp: Some(stamp()),
        ..Recipe::default()
    };
    let composed = compose(&base, &map, base.len(), &recipe).unwrap();
    let bytes = composed.disk.read_vec(0, base.len() as usize).unwrap();
    assert_eq!(seen(bytes.clone()).0, Occupant::Stamped(stamp()));

    // A stamp of a format to come, or one that somebody edited, is no stamp.
    for changed in [b"{\"format\": 2}".as_slice(), b"not JSON", b""] {
        let mut disk = MemoryDisk::from(bytes.clone());
        let mut fat =
            Fat::open(Window::new(&mut disk, MIB as u64, 16 * MIB as u64).unwrap()).unwrap();
        fat.put(imagecraft::STAMP_PATH, changed).unwrap();
        fat.close().unwrap();
        assert_eq!(seen(disk.bytes().to_vec()).0, Occupant::Foreign);
    }
}

#[test]
fn the_mark_is_read_by_people_and_by_nothing_that_boots() {
    let mark = Mark {
        format: 1,
        card: "C-0012".into(),
        job: 77,
        began: OffsetDateTime::UNIX_EPOCH,
    };
    let block = mark.to_block();
    assert!(block.starts_with(b"DUPLICARIUM: THIS CARD IS UNFINISHED\n"));
    assert_ne!(block[510..512], [0x55, 0xaa]);
    let mut bytes = partitioned().bytes().to_vec();
    bytes[..block.len()].copy_from_slice(&block);
    let (occupant, summary) = seen(bytes);
    assert_eq!(occupant, Occupant::Unfinished(mark));
    assert_eq!(summary, "unfinished, writing stopped in job 77");
}

proptest! {
    /// Whatever stands at the beginning of a card, a look at it gives an answer.
    #[test]
    fn any_head_is_looked_at(head in proptest::collection::vec(any::<u8>(), 0..2000), table in any::<bool>()) {
        let mut bytes = partitioned().bytes()[..2 * MIB].to_vec();
        bytes[..head.len()].copy_from_slice(&head);
        if table {
            bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
        }
        let (occupant, summary) = seen(bytes);
        prop_assert!(!summary.is_empty());
        prop_assert!(!matches!(occupant, Occupant::Stamped(_)));
    }
}
