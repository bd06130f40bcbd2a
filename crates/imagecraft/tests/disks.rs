//! Every disk of this crate does what a disk must do.

use imagecraft::conformance::{Writes, sample, suite};
use imagecraft::{Disk, FileDisk, MemoryDisk, Overlay, Window};

#[test]
fn memory_file_window_and_references_conform() {
    let bytes = sample();
    suite(&mut MemoryDisk::from(bytes.clone()), &bytes, Writes::Kept);
    suite(&mut MemoryDisk::new(0), &[], Writes::Kept);
    let memory = MemoryDisk::from(bytes.clone());
    suite(&mut &memory, &bytes, Writes::Refused);
    suite(
        &mut std::sync::Arc::new(memory.clone()),
        &bytes,
        Writes::Refused,
    );

    let dir = tempfile::TempDir::new().unwrap();
    let path = dir.path().join("disk.img");
    std::fs::write(&path, &bytes).unwrap();
    suite(&mut FileDisk::open(&path).unwrap(), &bytes, Writes::Refused);
    suite(
        &mut FileDisk::open_writable(&path).unwrap(),
        &bytes,
        Writes::Kept,
    );
    let fresh = dir.path().join("fresh.img");
    suite(
        &mut FileDisk::create(&fresh, 300_001).unwrap(),
        &vec![0; 300_001],
        Writes::Kept,
    );

    let (from, len) = (1234, 400_007);
    let part = bytes[from as usize..][..len as usize].to_vec();
    suite(
        &mut Window::new(&memory, from, len).unwrap(),
        &part,
        Writes::Refused,
    );
    let mut below = memory.clone();
    suite(
        &mut Window::new(&mut below, from, len).unwrap(),
        &part,
        Writes::Kept,
    );
    assert_eq!(
        below.read_vec(0, 1234).unwrap(),
        bytes[..1234],
        "what lies outside is as it was"
    );
    let behind = (from + len) as usize;
    assert_eq!(below.bytes()[behind..], bytes[behind..]);
}

#[test]
fn overlays_conform_over_shorter_and_longer_bases() {
    let bytes = sample();
    let base = MemoryDisk::from(bytes.clone());
    for len in [bytes.len(), bytes.len() - 70_001, bytes.len() + 300_123, 0] {
        let mut wanted = bytes.clone();
        wanted.resize(len, 0);
        suite(&mut Overlay::new(&base, len as u64), &wanted, Writes::Kept);
    }
    // One over another.
    let mut below = Overlay::new(&base, bytes.len() as u64);
    below.write_at(100_000, &[9; 70_000]).unwrap();
    let mut wanted = bytes.clone();
    wanted[100_000..170_000].fill(9);
    suite(
        &mut Overlay::new(&below, bytes.len() as u64),
        &wanted,
        Writes::Kept,
    );
    assert_eq!(base.bytes(), bytes, "the base is as it was");
}
