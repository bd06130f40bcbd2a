//! What the tests of the vault share.
#![allow(dead_code)] // each test uses a part of it

pub mod failing;

use std::path::Path;
use std::sync::Arc;

use imagecraft::CHUNK_LEN;
use object_store::ObjectStore;
use object_store::local::LocalFileSystem;
use vault::{Growth, Ingest, Manifest, Name, Root, Tidied, Tidying, Vault, VaultError};

pub fn root(byte: u8) -> Root {
    Root::new([byte; 32])
}

pub fn folder(dir: &Path) -> Arc<dyn ObjectStore> {
    Arc::new(LocalFileSystem::new_with_prefix(dir).unwrap())
}

pub async fn open(dir: &Path) -> Arc<Vault> {
    Vault::open(folder(dir), &root(3)).await.unwrap()
}

/// Runs what blocks.
pub async fn blocking<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> T {
    tokio::task::spawn_blocking(work).await.unwrap()
}

/// Bytes that do not pack.
pub fn noise(len: usize, seed: u32) -> Vec<u8> {
    let mut state = seed.wrapping_mul(2_654_435_761) | 1;
    (0..len)
        .map(|_| {
            state ^= state << 13;
            state ^= state >> 17;
            state ^= state << 5;
            state as u8
        })
        .collect()
}

/// Chunks of which each is of one byte, no two alike.
pub fn numbered(chunks: usize) -> Vec<u8> {
    (0..chunks * CHUNK_LEN)
        .map(|at| (at / CHUNK_LEN) as u8 + 1)
        .collect()
}

pub fn take_in(vault: &Arc<Vault>, bytes: &[u8]) -> (Manifest, Growth) {
    take_in_like(vault, bytes, None)
}

pub fn take_in_like(
    vault: &Arc<Vault>,
    bytes: &[u8],
    like: Option<&Manifest>,
) -> (Manifest, Growth) {
    let mut ingest = Ingest::start(vault.hold(), 2);
    for (chunk, part) in bytes.chunks(CHUNK_LEN).enumerate() {
        ingest.push(chunk as u64, Arc::new(part.to_vec())).unwrap();
    }
    ingest.finish(bytes.len() as u64, like, None).unwrap()
}

/// Tidies with these manifests kept.
pub fn tidy(vault: &Arc<Vault>, kept: &[Name], copy_below: u8) -> Result<Tidied, VaultError> {
    vault.tidy(Tidying {
        kept: &mut || Ok(kept.to_vec()),
        note_stays: &|_, _| false,
        only: None,
        copy_below,
        seal_anew: false,
        progress: &mut |_, _| true,
    })
}

/// The files of one kind of object in a folder.
pub fn files(dir: &Path, kind: &str) -> Vec<std::path::PathBuf> {
    let Ok(entries) = std::fs::read_dir(dir.join(kind)) else {
        return Vec::new();
    };
    let mut all: Vec<_> = entries.map(|entry| entry.unwrap().path()).collect();
    all.sort();
    all
}
