//! Which backups of a device hold which version of a file.

use imagecraft::fs::{FileError, NodeKind};
use records::backups::Wanted;
use records::lists::Asked;
use ring::digest::{Context, SHA256};

use super::{Content, Inside, Of};
use crate::refusal::Refusal;

/// Backups that are looked through at once: each is read and hashed.
const AT_ONCE: i64 = 25;

impl Inside {
    /// The versions of a file in some backups of a device, the newest first, behind where those before ended.
    ///
    /// # Errors
    /// No such device, a device without backups, no such file in any of them.
    pub async fn versions(
        &self,
        device: &str,
        partition: u32,
        path: &str,
        after: Option<&str>,
    ) -> Result<api::FileVersions, Refusal> {
        let device = self.records.device(device).await?;
        let wanted = Wanted {
            device: Some(device.name.clone()),
            ..Wanted::default()
        };
        let asked = Asked {
            limit: AT_ONCE,
            after: after.map(str::to_owned),
            ..Asked::default()
        };
        let page = self.records.backup_page(&wanted, &asked).await?;
        let backups = page.items;
        if backups.is_empty() {
            let detail = format!("there is no backup of {} to look through", device.name);
            return Err(Refusal::missing(detail));
        }
        let mut found: Vec<api::FileVersion> = Vec::new();
        for backup in &backups {
            let content = self.find(Of::Backup(&backup.name)).await?;
            let path = path.to_owned();
            let digest = tokio::task::spawn_blocking(move || digest_in(&content, partition, &path));
            let digest = digest
                .await
                .map_err(|e| Refusal::invalid("files", e.to_string()))??;
            let Some((sha256, len, modified)) = digest else {
                continue;
            };
            let held = api::HeldBy {
                backup: backup.name.clone(),
                taken_at: backup.taken_at,
            };
            match found.iter_mut().find(|version| version.sha256 == sha256) {
                Some(version) => version.backups.push(held),
                None => found.push(api::FileVersion {
                    sha256,
                    len,
                    modified: modified
                        .and_then(|at| time::OffsetDateTime::from_unix_timestamp(at).ok()),
                    backups: vec![held],
                }),
            }
        }
        match found.is_empty() && after.is_none() && page.next.is_none() {
            true => Err(Refusal::missing(format!(
                "none of the {} backups of {} has {path} on partition {partition}",
                backups.len(),
                device.name
            ))),
            false => Ok(api::FileVersions {
                versions: found,
                looked_through: backups.len() as u32,
                next: page.next,
            }),
        }
    }
}

/// SHA-256, length and time of change of a file, where there is one.
fn digest_in(
    content: &Content,
    partition: u32,
    path: &str,
) -> Result<Option<(String, u64, Option<i64>)>, Refusal> {
    let read = content.with_files(partition, |files| {
        let Some(node) = files.find(path)? else {
            return Ok(None);
        };
        if node.kind != NodeKind::File {
            return Err(FileError::WrongKind(path.into()));
        }
        let mut hasher = Context::new(&SHA256);
        let len = files.read_into(path, &mut |piece| {
            hasher.update(piece);
            Ok(())
        })?;
        Ok(Some((hex::encode(hasher.finish()), len, node.modified)))
    });
    match read {
        // That backup has no such partition, or a link there leads nowhere.
        Err(refusal) if refusal.code == "unknown" => Ok(None),
        read => read,
    }
}
