//! An image becomes a release: unpacked, hashed and stored in one pass.

use std::fs::File;
use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::{self, JoinHandle};

use cardwork::Stage;
use imagecraft::container::{PROBE_LEN, Packing, Unpacker};
use imagecraft::{CHUNK, CHUNK_LEN, Layout, SECTOR, table};
use records::releases::NewRelease;
use ring::digest::{Context, SHA256};
use serde_json::{Value, json};
use settings::Sheet;
use vault::{Ingest, ManifestDisk};

use super::WorkError;
use crate::jobs::Work;
use crate::views;

/// Threads that pack and seal; hashing and unpacking have their own.
const PACKERS: usize = 2;
/// Pieces that wait in front of a hashing thread.
const QUEUE: usize = 16;

/// An upload to import. Its files go away when this is dropped.
pub struct Import {
    pub path: PathBuf,
    pub file_name: String,
    pub sheet: Sheet,
    pub sheet_text: String,
}

impl Drop for Import {
    fn drop(&mut self) {
        for path in [self.path.clone(), self.path.with_extension("json")] {
            if let Err(e) = std::fs::remove_file(&path) {
                tracing::warn!("{} stays behind: {e}", path.display());
            }
        }
    }
}

/// SHA-256 on a thread of its own.
struct Hashing {
    give: SyncSender<Arc<Vec<u8>>>,
    thread: JoinHandle<Vec<u8>>,
}

impl Hashing {
    fn start() -> Self {
        let (give, given) = sync_channel::<Arc<Vec<u8>>>(QUEUE);
        let thread = thread::spawn(move || {
            let mut context = Context::new(&SHA256);
            for bytes in given {
                context.update(&bytes);
            }
            context.finish().as_ref().to_vec()
        });
        Self { give, thread }
    }

    fn update(&self, bytes: Arc<Vec<u8>>) -> io::Result<()> {
        self.give
            .send(bytes)
            .map_err(|_| io::Error::other("hashing stopped"))
    }

    fn finish(self) -> io::Result<Vec<u8>> {
        drop(self.give);
        self.thread
            .join()
            .map_err(|_| io::Error::other("hashing stopped"))
    }
}

/// Passes bytes on to a hash as they are read.
struct Hashed<'a, R> {
    inner: R,
    hashing: Option<&'a Hashing>,
}

impl<R: Read> Read for Hashed<'_, R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buf)?;
        if let Some(hashing) = self.hashing {
            hashing.update(Arc::new(buf[..read].to_vec()))?;
        }
        Ok(read)
    }
}

/// Imports the file and records the release.
pub fn import(work: &Work, import: &Import) -> Result<Value, WorkError> {
    let name = &import.file_name;
    let unfit = |why: String| WorkError::new("not-an-image", format!("{name}: {why}"));
    let mut file = File::open(&import.path)?;
    let packed_size = file.metadata()?.len();
    let mut head = Vec::new();
    file.by_ref()
        .take(PROBE_LEN as u64)
        .read_to_end(&mut head)?;
    let packing = Packing::of(&head).map_err(|e| unfit(e.to_string()))?;
    let file = io::Seek::rewind(&mut file).map(|()| file)?;
    work.progress.begin(Stage::Importing, packed_size);

    let raw_hash = Hashing::start();
    // A plain file is the raw image: one hash serves for both.
    let packed_hash = (packing != Packing::Plain).then(Hashing::start);
    let hashed = Hashed {
        inner: file,
        hashing: packed_hash.as_ref(),
    };
    let mut unpacker = Unpacker::new(hashed, packing);
    let mut ingest = Ingest::start(work.app.vault.clone(), PACKERS);
    let (mut chunk, mut seen) = (0, 0);
    loop {
        if work.progress.is_cancelled() {
            return Err(WorkError::new("cancelled", format!("{name} was not added")));
        }
        let mut bytes = vec![0; CHUNK_LEN];
        let filled = unpacker
            .fill(&mut bytes)
            .map_err(|e| unfit(e.to_string()))?;
        if chunk == 0 && table::mbr::parse(&bytes[..SECTOR as usize]).is_none() {
            return Err(unfit(
                "this is no disk image: it does not begin with a partition table. Give the image of a whole card".into(),
            ));
        }
        bytes.truncate(filled);
        let ended = filled < CHUNK_LEN;
        if filled > 0 {
            let bytes = Arc::new(bytes);
            raw_hash.update(bytes.clone())?;
            if ingest.push(chunk, bytes).is_err() {
                // The cause is known where the work stopped.
                return Err(match ingest.finish(0) {
                    Err(cause) => cause.into(),
                    Ok(_) => WorkError::new("vault", "the vault stopped taking chunks"),
                });
            }
        }
        work.progress.advance(unpacker.packed() - seen);
        seen = unpacker.packed();
        if ended {
            break;
        }
        chunk += 1;
    }
    let raw_size = unpacker.raw();
    drop(unpacker);
    let (manifest_name, manifest, growth) = ingest.finish(raw_size)?;
    let raw_sha256 = raw_hash.finish()?;
    let packed_sha256 = match packed_hash {
        Some(hash) => hash.finish()?,
        None => raw_sha256.clone(),
    };
    work.progress.begin(Stage::Finishing, 0);

    let disk = ManifestDisk::new(work.app.vault.clone(), Arc::new(manifest));
    let layout = Layout::read(&disk).map_err(|e| unfit(e.to_string()))?;
    let sheet = &import.sheet;
    let declared = sheet.card.smallest_gb.map_or(0, |gb| (gb * 1e9) as u64);
    let release = NewRelease {
        name: sheet.name(),
        appliance: sheet.appliance.clone(),
        variant: sheet.variant.clone(),
        version: sheet.version.clone(),
        dated: sheet.date.clone(),
        boards: sheet.boards.clone(),
        sheet: import.sheet_text.clone(),
        source: name.clone(),
        packing: packing.name().into(),
        packed_size: packed_size as i64,
        packed_sha256,
        raw_size: raw_size as i64,
        raw_sha256,
        smallest_card: layout.smallest_card().max(declared) as i64,
        table_kind: layout.table.name().into(),
        disk_id: layout.disk_id.clone(),
        partitions: json!(views::partitions(&layout)),
        manifest: manifest_name.0.to_vec(),
        stored: growth.stored as i64,
        added_by: work.operator.clone(),
    };
    work.wait(async {
        work.app.records.add_release(&release).await?;
        let chunks = raw_size.div_ceil(CHUNK);
        let summary = format!(
            "{} added from {name} ({chunks} chunks, {} bytes new)",
            release.name, growth.stored
        );
        work.app
            .note(&work.operator, "release.added", &release.name, &summary)
            .await?;
        Ok(json!({ "release": release.name }))
    })
}
