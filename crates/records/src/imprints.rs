//! Imprints: what was written onto which card.

use std::collections::HashMap;

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// What an imprint was made from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Base {
    /// A release, by number.
    Release(i64),
    /// A backup, by number.
    Backup(i64),
}

/// An imprint that is about to be made.
#[derive(Clone, Debug)]
pub struct NewImprint {
    /// Card that is written.
    pub card: i64,
    /// Device that it is for.
    pub device: Option<i64>,
    /// What it is made from.
    pub base: Base,
    /// Name of that.
    pub base_name: String,
    /// Job that writes it.
    pub job: i64,
    /// Slot that the card is in.
    pub slot: i32,
    /// Who writes it.
    pub operator: String,
    /// Effective settings with origins; a fingerprint for each secret.
    pub settings: serde_json::Value,
    /// Files as they land, secrets masked.
    pub files: serde_json::Value,
    /// Why a withdrawn release is written all the same.
    pub override_reason: Option<String>,
    /// What growing the last partition came to.
    pub growth: Option<String>,
    /// Partitions that were left as they are, and why.
    pub left_out: Vec<String>,
}

/// A recorded imprint.
#[derive(Clone, Debug)]
#[allow(missing_docs)] // as in NewImprint
pub struct Imprint {
    pub id: i64,
    pub card: String,
    pub device: Option<String>,
    pub base: String,
    pub from_backup: bool,
    pub job_id: i64,
    pub slot: i32,
    pub operator: String,
    /// `planned`, `writing`, `verified`, `incomplete` or `void`.
    pub state: String,
    pub settings: serde_json::Value,
    pub files: serde_json::Value,
    /// Bytes put on the card.
    pub written: Option<i64>,
    /// Bytes read back and found equal.
    pub verified: Option<i64>,
    pub started_at: OffsetDateTime,
    pub finished_at: Option<OffsetDateTime>,
    pub override_reason: Option<String>,
    pub growth: Option<String>,
    pub left_out: Vec<String>,
}

impl Records {
    /// Records an imprint before the card is touched.
    pub async fn begin_imprint(&self, new: &NewImprint) -> Result<i64, RecordError> {
        let (release, backup) = match new.base {
            Base::Release(id) => (Some(id), None),
            Base::Backup(id) => (None, Some(id)),
        };
        let id = sqlx::query_scalar!(
            "insert into imprints (card_id, device_id, release_id, backup_id, base, job_id, slot, operator, settings,
                files, override_reason, growth, left_out)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) returning id",
            new.card,
            new.device,
            release,
            backup,
            new.base_name,
            new.job,
            new.slot,
            new.operator,
            new.settings,
            new.files,
            new.override_reason,
            new.growth,
            &new.left_out
        )
        .fetch_one(&self.pool)
        .await?;
        Ok(id)
    }

    /// Keeps the name of the exact content and says that the card is being written, right before
    /// it is touched.
    pub async fn touch_card(&self, id: i64, manifest: &[u8]) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let row = sqlx::query!(
            "update imprints set state = 'writing', manifest = $2 where id = $1 returning card_id, device_id",
            id,
            manifest
        )
        .fetch_one(&mut *tx)
        .await?;
        sqlx::query!(
            "update cards set state = 'writing', device_id = $2, edges = null where id = $1",
            row.card_id,
            row.device_id
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// Records that the card was written and read back in full: imprint, card and device at once.
    pub async fn finish_imprint(
        &self,
        id: i64,
        written: i64,
        verified: i64,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let row = sqlx::query!(
            "update imprints set state = 'verified', written = $2, verified = $3, finished_at = now()
             where id = $1 returning card_id, device_id",
            id,
            written,
            verified
        )
        .fetch_one(&mut *tx)
        .await?;
        sqlx::query!(
            "update cards set state = 'imprinted' where id = $1",
            row.card_id
        )
        .execute(&mut *tx)
        .await?;
        if let Some(device) = row.device_id {
            sqlx::query!(
                "update devices set state = 'carded' where id = $1 and state = 'planned'",
                device
            )
            .execute(&mut *tx)
            .await?;
        }
        Ok(tx.commit().await?)
    }

    /// Records that the write did not end well: the card is *incomplete* if it was touched.
    pub async fn spoil_imprint(&self, id: i64) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let row = sqlx::query!(
            "update imprints set finished_at = now(),
                state = case state when 'planned' then 'void' else 'incomplete' end
             where id = $1 returning card_id, state",
            id
        )
        .fetch_one(&mut *tx)
        .await?;
        if row.state == "incomplete" {
            sqlx::query!(
                "update cards set state = 'incomplete' where id = $1",
                row.card_id
            )
            .execute(&mut *tx)
            .await?;
        }
        Ok(tx.commit().await?)
    }

    /// The card of an imprint and the name of its exact content, if it was written in full.
    pub async fn imprint_content(&self, id: i64) -> Result<Option<(String, Vec<u8>)>, RecordError> {
        let row = sqlx::query!(
            r#"select c.label as "label!", i.manifest as "manifest!" from imprints i join cards c on c.id = i.card_id
               where i.id = $1 and i.manifest is not null and i.state = 'verified'"#,
            id
        );
        let found = row.fetch_optional(&self.pool).await?;
        Ok(found.map(|row| (row.label, row.manifest)))
    }

    /// The settings on the newest whole card of each device, by the device's name.
    pub async fn carried_settings(
        &self,
    ) -> Result<HashMap<String, serde_json::Value>, RecordError> {
        let rows = sqlx::query!(
            r#"select distinct on (i.device_id) d.name, i.settings
               from imprints i join devices d on d.id = i.device_id
                 join cards c on c.id = i.card_id and c.device_id = d.id
               where i.state = 'verified' order by i.device_id, i.id desc"#
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.map(|row| (row.name, row.settings)).collect())
    }

    /// The imprints of a card or a device, newest first, at most `most`.
    pub async fn imprints(
        &self,
        card: Option<&str>,
        device: Option<&str>,
        most: i64,
    ) -> Result<Vec<Imprint>, RecordError> {
        let rows = sqlx::query_as!(
            Imprint,
            r#"select i.id, c.label as "card!", d.name as "device?", i.base, i.backup_id is not null as "from_backup!",
                 i.job_id, i.slot, i.operator, i.state, i.settings, i.files, i.written, i.verified,
                 i.started_at, i.finished_at, i.override_reason, i.growth, i.left_out
               from imprints i join cards c on c.id = i.card_id left join devices d on d.id = i.device_id
               where ($1::text is null or c.label = $1) and ($2::text is null or d.name = $2)
               order by i.id desc limit $3"#,
            card,
            device,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}
