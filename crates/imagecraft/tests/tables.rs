//! Partition tables: what is recovered, what is refused, and that no bytes make a parser panic.

use imagecraft::table::{TableKind, gpt, mbr};
use imagecraft::{ByteKind, Disk, Layout, LayoutError, MemoryDisk};
use proptest::prelude::*;

const SECTOR: usize = 512;

/// One entry of a master boot record: type, first sector, number of sectors.
type Row = (u8, u32, u32);

fn mbr_disk(sectors: usize, rows: &[Row]) -> MemoryDisk {
    let mut bytes = vec![0; sectors * SECTOR];
    bytes[440..444].copy_from_slice(&0x5a17_ab1e_u32.to_le_bytes());
    for (raw, (kind, start, len)) in bytes[446..510].chunks_exact_mut(16).zip(rows) {
        raw[4] = *kind;
        raw[8..12].copy_from_slice(&start.to_le_bytes());
        raw[12..16].copy_from_slice(&len.to_le_bytes());
    }
    bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
    MemoryDisk::from(bytes)
}

/// A disk with a GUID partition table of one partition, made by our own hand.
fn gpt_disk(sectors: u64, first: u64, last: u64) -> MemoryDisk {
    let mut disk = mbr_disk(
        sectors as usize,
        &[(mbr::PROTECTIVE, 1, sectors as u32 - 1)],
    );
    let mut array = vec![0; 128 * 128];
    array[..16].copy_from_slice(&[0xaf; 16]);
    array[16..32].copy_from_slice(&[0x11; 16]);
    array[32..40].copy_from_slice(&first.to_le_bytes());
    array[40..48].copy_from_slice(&last.to_le_bytes());
    for (at, unit) in (56..).step_by(2).zip("boot".encode_utf16()) {
        array[at..at + 2].copy_from_slice(&unit.to_le_bytes());
    }
    for (own, other, array_at) in [(1, sectors - 1, 2), (sectors - 1, 1, sectors - 33)] {
        let mut header = vec![0; 92];
        header[..8].copy_from_slice(b"EFI PART");
        header[8..12].copy_from_slice(&0x0001_0000_u32.to_le_bytes());
        header[12..16].copy_from_slice(&92_u32.to_le_bytes());
        for (at, value) in [
            (24, own),
            (32, other),
            (40, 34),
            (48, sectors - 34),
            (72, array_at),
        ] {
            header[at..at + 8].copy_from_slice(&u64::to_le_bytes(value));
        }
        header[80..84].copy_from_slice(&128_u32.to_le_bytes());
        header[84..88].copy_from_slice(&128_u32.to_le_bytes());
        header[88..92].copy_from_slice(&crc(&array).to_le_bytes());
        let sum = crc(&header);
        header[16..20].copy_from_slice(&sum.to_le_bytes());
        disk.write_at(own * 512, &header).unwrap();
        disk.write_at(array_at * 512, &array).unwrap();
    }
    disk
}

/// CRC-32 as the UEFI specification wants it, bit by bit.
fn crc(bytes: &[u8]) -> u32 {
    let mut sum = u32::MAX;
    for byte in bytes {
        sum ^= u32::from(*byte);
        for _ in 0..8 {
            sum = if sum & 1 == 1 {
                sum >> 1 ^ 0xedb8_8320
            } else {
                sum >> 1
            };
        }
    }
    !sum
}

#[test]
fn a_master_boot_record_is_read_with_its_gaps() {
    let disk = mbr_disk(4096, &[(0x0c, 64, 1000), (0, 0, 0), (0x83, 2048, 1024)]);
    let layout = Layout::read(&disk).unwrap();
    assert_eq!(
        (layout.table, layout.disk_id.as_str()),
        (TableKind::Mbr, "5a17ab1e")
    );
    let numbers: Vec<_> = layout
        .partitions
        .iter()
        .map(|p| (p.number, p.start, p.len))
        .collect();
    assert_eq!(
        numbers,
        [(1, 64 * 512, 1000 * 512), (3, 2048 * 512, 1024 * 512)]
    );
    assert_eq!(layout.partitions[0].kind, "FAT32");
    assert_eq!(layout.smallest_card(), 3072 * 512);
    // The last MiB of a disk is never free.
    let map = layout.map(&disk).unwrap();
    assert_eq!(map.total(ByteKind::Data), disk.len());
    let map = layout.plain_map(4 << 20);
    assert_eq!(
        (map.total(ByteKind::Data), map.total(ByteKind::Free)),
        (3072 * 512 + (1 << 20), 5120 * 512 - (1 << 20))
    );
}

#[test]
fn what_is_no_table_is_refused() {
    let zero = MemoryDisk::new(1 << 20);
    assert!(matches!(Layout::read(&zero), Err(LayoutError::NoTable)));
    assert!(matches!(
        Layout::read(&MemoryDisk::new(100)),
        Err(LayoutError::NoTable)
    ));
    let empty = mbr_disk(100, &[]);
    assert!(matches!(Layout::read(&empty), Err(LayoutError::NoTable)));
    let mut status = mbr_disk(4096, &[(0x83, 64, 64)]);
    status.write_at(446, &[0x12]).unwrap();
    assert!(
        matches!(Layout::read(&status), Err(LayoutError::NoTable)),
        "a boot sector of a file system"
    );
}

#[test]
fn partitions_past_the_end_or_over_each_other_are_named() {
    let past = mbr_disk(4096, &[(0x83, 64, 64), (0x83, 2048, 4000)]);
    match Layout::read(&past) {
        Err(LayoutError::BeyondEnd { number: 2, end, .. }) => assert_eq!(end, 6048 * 512),
        other => panic!("{other:?}"),
    }
    let over = mbr_disk(4096, &[(0x83, 1000, 500), (0x83, 64, 937)]);
    assert!(matches!(
        Layout::read(&over),
        Err(LayoutError::Overlap(2, 1))
    ));
}

#[test]
fn a_damaged_primary_table_is_recovered_from_its_backup() {
    let mut disk = gpt_disk(4096, 64, 1063);
    let whole = Layout::read(&disk).unwrap();
    assert_eq!(whole.table, TableKind::Gpt);
    assert_eq!(whole.partitions[0].name.as_deref(), Some("boot"));
    assert_eq!(whole.partitions[0].len, 1000 * 512);
    disk.write_at(512 + 60, &[0xff]).unwrap();
    assert!(matches!(
        gpt::read(&disk, 512, 1),
        Err(gpt::GptError::Checksum { sector: 1, .. })
    ));
    let recovered = Layout::read(&disk).unwrap();
    assert_eq!(recovered.partitions, whole.partitions);
    // Fitting writes both copies whole again.
    recovered.gpt.as_ref().unwrap().fit(&mut disk).unwrap();
    let (primary, backup) = (
        gpt::read(&disk, 512, 1).unwrap(),
        gpt::read(&disk, 512, 4095).unwrap(),
    );
    assert_eq!(
        (&primary.entries, &primary.uuid),
        (&backup.entries, &backup.uuid)
    );
    // With both gone there is nothing left to trust.
    disk.write_at(512, &[0]).unwrap();
    disk.write_at(4095 * 512, &[0]).unwrap();
    let lost = Layout::read(&disk).unwrap_err();
    assert!(
        lost.to_string().contains("GUID partition table is damaged"),
        "{lost}"
    );
}

#[test]
fn a_table_moves_to_the_end_of_any_disk_that_can_hold_it() {
    let disk = gpt_disk(4096, 64, 1063);
    let table = gpt::read(&disk, 512, 1).unwrap();
    for sectors in [1064 + 33, 4000, 5000, 100_000] {
        let mut other = disk.bytes().to_vec();
        other.resize(sectors * SECTOR, 0);
        let mut other = MemoryDisk::from(other);
        table.fit(&mut other).unwrap();
        let backup = gpt::read(&other, 512, sectors as u64 - 1).unwrap();
        assert_eq!(backup.entries, table.entries);
        let record = mbr::parse(&other.bytes()[..512], 512).unwrap();
        assert_eq!(
            record.entries[0].len,
            (sectors as u64 - 1) * 512,
            "the protective entry spans the disk"
        );
    }
    let mut small = MemoryDisk::from(disk.bytes()[..(1064 + 32) * SECTOR].to_vec());
    assert!(matches!(table.fit(&mut small), Err(gpt::GptError::NoRoom)));
}

proptest! {
    /// Any damage to a GPT gives a layout or an error, never a panic and never an endless wait.
    #[test]
    fn damaged_tables_never_panic(changes in proptest::collection::vec((0usize..20_000, any::<u8>()), 0..60)) {
        let mut bytes = gpt_disk(4096, 64, 1063).bytes().to_vec();
        for (at, byte) in changes {
            bytes[at] = byte;
        }
        let _ = Layout::read(&MemoryDisk::from(bytes));
    }

    /// Headers with valid checksums and hostile fields are refused, too.
    #[test]
    fn hostile_headers_never_panic(at in 12usize..92, value in any::<u64>()) {
        let disk = gpt_disk(256, 64, 100);
        let mut header = disk.bytes()[512..512 + 92].to_vec();
        let len = 8.min(92 - at);
        header[at..at + len].copy_from_slice(&value.to_le_bytes()[..len]);
        header[16..20].fill(0);
        let sum = crc(&header);
        header[16..20].copy_from_slice(&sum.to_le_bytes());
        let mut disk = disk;
        disk.write_at(512, &header).unwrap();
        let _ = Layout::read(&disk);
    }

    /// A first sector of any bytes is a record with sane entries, or none.
    #[test]
    fn any_first_sector_is_read(mut sector in proptest::collection::vec(any::<u8>(), 512..=512)) {
        sector[510..512].copy_from_slice(&[0x55, 0xaa]);
        if let Some(record) = mbr::parse(&sector, 512) {
            prop_assert!(!record.entries.is_empty() && record.entries.len() <= 4);
            prop_assert!(record.entries.iter().all(|entry| entry.start > 0 && entry.len > 0));
        }
    }
}
