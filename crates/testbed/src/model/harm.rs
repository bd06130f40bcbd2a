//! Damage to the vault, of each kind of object: it is named, and mended out of the second vault.

use std::os::unix::fs::FileExt;
use std::path::PathBuf;

use api::NewInspection;

use super::{Fate, Model};

impl Model {
    /// The second vault is brought up to date, some pieces of one kind are damaged here, and an inspection finds them. The
    /// format is read by the text of `docs/vault-format.md`, not by the code of the vault.
    pub(super) async fn harm(&mut self) {
        let copied = self.client.copy_vault(&api::NewCopy::default(), None).await;
        let copied = copied.unwrap_or_else(|e| panic!("{}: {e}", self.what));
        let copied = self.let_happen(&copied, Fate::Well).await;
        assert_eq!(copied.state, "done", "{}: {copied:?}", self.what);
        // 0 is an index, 1 to 4 the kinds of pieces, 5 the head of a piece.
        let kind = self.chance.below(6) as u8;
        let most = 1 + self.chance.below(3);
        self.say(format!(
            "{most} objects of kind {kind} in the vault are damaged"
        ));
        let folder = self.bed.data_dir().join("vault");
        let folder = folder.join(if kind == 0 { "index" } else { "segment" });
        let mut files: Vec<PathBuf> = std::fs::read_dir(folder)
            .expect("the vault is there")
            .map(|entry| entry.expect("it is read").path())
            .filter(|path| !path.to_string_lossy().contains('#'))
            .collect();
        files.sort();
        for _ in 0..most {
            let file = self.chance.pick(&files).clone();
            let Ok(raw) = std::fs::read(&file) else {
                continue;
            };
            let place = match kind {
                0 => Some(raw.len() / 2),
                _ => {
                    let mut found = pieces(&raw);
                    found.retain(|(own, ..)| kind == 5 || *own == kind);
                    (!found.is_empty()).then(|| {
                        let (_, at, len) = *self.chance.pick(&found);
                        if kind == 5 { at - 44 } else { at + len / 2 }
                    })
                }
            };
            let Some(place) = place else { continue };
            let file = std::fs::File::options().write(true).open(&file);
            let file = file.expect("it is ours");
            file.write_all_at(&[raw[place] ^ 0x10], place as u64)
                .expect("it is written");
            self.played.harmed += 1;
        }
        if self.chance.below(2) == 0 {
            self.bed.stop_service();
            self.bed.start_service();
        }
        // The first finds and mends, the second finds nothing more.
        for round in 0..2 {
            let job = self
                .client
                .inspect_vault(&NewInspection::default(), None)
                .await;
            let job = job.unwrap_or_else(|e| panic!("{}: {e}", self.what));
            let ended = self.let_happen(&job, Fate::Well).await;
            let words = format!("{:?} {:?}", ended.result, ended.error);
            assert!(
                ended.state == "done" || round == 0,
                "{}: {words}",
                self.what
            );
        }
        let whole = self.bed.done(&["vault", "inspect"]);
        assert!(
            whole.contains("everything that is kept is whole"),
            "{}: {whole}",
            self.what
        );
        self.settle().await;
    }
}

/// Pieces of a segment by the heads that describe them: kind, first byte of the sealed form, its length.
fn pieces(segment: &[u8]) -> Vec<(u8, usize, usize)> {
    let mut found = Vec::new();
    let mut at = 16;
    while at + 44 <= segment.len() && segment[at..at + 4] == *b"\xd5pc2" {
        let len = u32::from_le_bytes([
            segment[at + 8],
            segment[at + 9],
            segment[at + 10],
            segment[at + 11],
        ]);
        found.push((segment[at + 4], at + 44, len as usize));
        at += 44 + len as usize;
    }
    found
}
