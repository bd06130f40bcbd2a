//! Backups after they were taken, and the vault as a whole.

use reqwest::Method;

use super::{Answer, Client, part};
use crate::{
    Backup, BackupChange, BackupInterval, Headroom, Job, KeepChange, KeepNow, KeepReport, NewCopy,
    NewImageBackup, NewInspection, NewProof, NewTidying, NotedContent, Reindexed, VaultView,
};

impl Client {
    /// Says whose a backup is, why it was taken, whether it stays.
    pub async fn change_backup(&self, name: &str, change: &BackupChange) -> Answer<Backup> {
        self.give(Method::PATCH, &format!("backups/{}", part(name)), change)
            .await
    }

    /// Takes a disk image that was uploaded in as a backup.
    pub async fn bring_in(&self, new: &NewImageBackup, key: Option<&str>) -> Answer<Job> {
        self.start("backup-images", key, new).await
    }

    /// Lets the content of a backup go.
    pub async fn let_backup_go(&self, name: &str, why: &str) -> Answer<()> {
        self.take_away(&format!("backups/{}?why={}", part(name), part(why)))
            .await
    }

    /// Proves a backup up to a level.
    pub async fn prove_backup(&self, name: &str, level: &str, key: Option<&str>) -> Answer<Job> {
        let new = NewProof {
            level: level.into(),
        };
        self.start(&format!("backups/{}/proofs", part(name)), key, &new)
            .await
    }

    /// How the used data of a device grew over its backups.
    pub async fn headroom(&self, device: &str) -> Answer<Headroom> {
        self.get(&format!("devices/{}/headroom", part(device)))
            .await
    }

    /// The keep rules, and what they would do now.
    pub async fn keep_rules(&self) -> Answer<KeepReport> {
        self.get("keep").await
    }

    /// Sets a keep rule, or takes it away.
    pub async fn set_keep_rule(&self, change: &KeepChange) -> Answer<KeepReport> {
        self.give(Method::PUT, "keep", change).await
    }

    /// Lets backups go whose time is over.
    pub async fn keep_now(&self, dry_run: bool) -> Answer<KeepReport> {
        self.give(Method::POST, "keep/now", &KeepNow { dry_run })
            .await
    }

    /// How often devices and appliances shall be backed up.
    pub async fn backup_intervals(&self) -> Answer<Vec<BackupInterval>> {
        self.get("backup-intervals").await
    }

    /// Says how often.
    pub async fn set_backup_interval(
        &self,
        change: &BackupInterval,
    ) -> Answer<Vec<BackupInterval>> {
        self.give(Method::PUT, "backup-intervals", change).await
    }

    /// What the vault is and holds.
    pub async fn vault(&self) -> Answer<VaultView> {
        self.get("vault").await
    }

    /// Reads and authenticates the vault, or a share of it.
    pub async fn inspect_vault(&self, new: &NewInspection, key: Option<&str>) -> Answer<Job> {
        self.start("vault/inspections", key, new).await
    }

    /// Takes away what nothing refers to.
    pub async fn tidy_vault(&self, new: &NewTidying, key: Option<&str>) -> Answer<Job> {
        self.start("vault/tidyings", key, new).await
    }

    /// Copies what the second vault does not have.
    pub async fn copy_vault(&self, new: &NewCopy, key: Option<&str>) -> Answer<Job> {
        self.start("vault/copies", key, new).await
    }

    /// Keeps all records in the vault.
    pub async fn keep_records(&self, key: Option<&str>) -> Answer<Job> {
        self.start("vault/records", key, &()).await
    }

    /// What the vault itself says that it holds.
    pub async fn vault_contents(&self) -> Answer<Vec<NotedContent>> {
        self.get("vault/contents").await
    }

    /// Puts what only the vault knows into the records.
    pub async fn reindex(&self) -> Answer<Reindexed> {
        self.give(Method::POST, "vault/reindex", &()).await
    }

    /// Changes the key of the vault.
    pub async fn change_key(&self) -> Answer<String> {
        self.give(Method::POST, "vault/key", &()).await
    }
}
