//! Workers that take in what overlaps, forget it again and read what is kept; their records are a map.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use imagecraft::{CHUNK_LEN, Disk};
use vault::{Ingest, ManifestDisk, Name, Tidied, Tidying, Vault, VaultError};

use crate::common::noise;

/// What is referred to, with the bytes that it must read like.
pub type Recorded = BTreeMap<u32, (Name, Vec<u8>)>;

/// Works until it is told to stop. What is in the records reads as it was given, at every moment.
pub fn work(vault: &Arc<Vault>, worker: u32, records: &Mutex<Recorded>, stop: &AtomicBool) {
    let mut number = 0;
    let mut state = worker * 77 + 5;
    let mut below = move |end: u32| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 8) % end
    };
    while !stop.load(Ordering::Relaxed) {
        number += 1;
        // Few different chunks, so that everybody shares with everybody, also what was just forgotten.
        let bytes: Vec<u8> = (0..6)
            .flat_map(|_| noise(CHUNK_LEN, below(12) + 1))
            .collect();
        let hold = vault.hold();
        if below(3) == 0 {
            vault.look_again().unwrap();
        }
        let mut ingest = Ingest::start(hold.clone(), 1);
        for (chunk, part) in (0..).zip(bytes.chunks(CHUNK_LEN)) {
            ingest.push(chunk, Arc::new(part.to_vec())).unwrap();
        }
        if below(5) == 0 {
            ingest.abandon();
            continue;
        }
        let (manifest, _) = ingest.finish(bytes.len() as u64, None, None).unwrap();
        records
            .lock()
            .unwrap()
            .insert(worker * 1_000_000 + number, (manifest.name(), bytes));
        drop(hold);
        // Each forgets its own, so that nobody reads what another forgets.
        let mine = {
            let records = records.lock().unwrap();
            let range = records.range(worker * 1_000_000..(worker + 1) * 1_000_000);
            range
                .map(|(key, one)| (*key, one.clone()))
                .collect::<Vec<_>>()
        };
        let (key, (name, bytes)) = &mine[below(mine.len() as u32) as usize];
        let disk = ManifestDisk::open(vault, *name).unwrap();
        assert!(disk.read_vec(0, bytes.len()).unwrap() == *bytes);
        if mine.len() > 3 {
            records.lock().unwrap().remove(key);
        }
    }
}

/// Tidies by the records.
pub fn tidy_by(vault: &Arc<Vault>, records: &Mutex<Recorded>) -> Result<Tidied, VaultError> {
    vault.tidy(Tidying {
        kept: &mut || {
            let records = records.lock().unwrap();
            Ok(records.values().map(|(name, _)| *name).collect())
        },
        note_stays: &|_, _| false,
        only: None,
        copy_below: 95,
        seal_anew: false,
        progress: &mut |_, _| true,
    })
}
