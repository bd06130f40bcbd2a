//! Backups: cards read into the vault.

use time::OffsetDateTime;

use crate::jobs::{self, Ending};
use crate::lists::{self, Asked, List, Page, anywhere};
use crate::{RecordError, Records, events};

/// A backup that was read and verified and is about to be recorded.
#[derive(Clone, Debug)]
pub struct NewBackup {
    /// Name, made by the service.
    pub name: String,
    /// Label of the card that was read.
    pub card: String,
    /// Device whose card it is.
    pub device: Option<String>,
    /// Imprint that the card carries.
    pub imprint: Option<i64>,
    /// Job that read it.
    pub job: i64,
    /// Size of the card in bytes.
    pub card_size: i64,
    /// Bytes that were read.
    pub content: i64,
    /// Fewest bytes that a card must hold.
    pub smallest_card: i64,
    /// Which partition table.
    pub table_kind: String,
    /// Partitions as JSON.
    pub partitions: serde_json::Value,
    /// Name of the content's manifest.
    pub manifest: Vec<u8>,
    /// Bytes that it added to the vault.
    pub stored: i64,
    /// How it was verified.
    pub verified: String,
    /// Slot that the card was in.
    pub slot: i32,
    /// Insertion that it was read in.
    pub insertion: i64,
    /// Which start of the reader's computer counted it.
    pub boot: String,
    /// Who took it.
    pub taken_by: String,
}

/// A recorded backup.
#[derive(Clone, Debug, sqlx::FromRow)]
#[allow(missing_docs)] // as in NewBackup
pub struct Backup {
    pub id: i64,
    pub name: String,
    pub card: String,
    pub device: Option<String>,
    pub imprint_id: Option<i64>,
    pub job_id: i64,
    pub card_size: i64,
    pub content: i64,
    pub smallest_card: i64,
    pub table_kind: String,
    pub partitions: serde_json::Value,
    pub manifest: Vec<u8>,
    pub stored: i64,
    pub verified: String,
    pub slot: i32,
    pub reader: Option<String>,
    pub unit: Option<i32>,
    pub insertion: i64,
    pub boot: String,
    pub taken_by: String,
    pub taken_at: OffsetDateTime,
}

/// Which backups are asked for: those that all of it holds of.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// A text anywhere in its name, card or device.
    pub search: Option<String>,
    /// Label of the card that was read.
    pub card: Option<String>,
    /// Name of the device whose card it was.
    pub device: Option<String>,
}

/// What is read of a backup, from [`FROM`].
const COLUMNS: &str = "b.id, b.name, c.label as card, d.name as device, b.imprint_id, b.job_id, b.card_size,
    b.content, b.smallest_card, b.table_kind, b.partitions, b.manifest, b.stored, b.verified, b.slot,
    j.reader, j.unit, b.insertion, b.boot, b.taken_by, b.taken_at";

const FROM: &str = "backups b join cards c on c.id = b.card_id join jobs j on j.id = b.job_id left join devices d on d.id = b.device_id";

const LIST: List = List {
    noun: "backups",
    columns: COLUMNS,
    from: FROM,
    id: "b.id",
    orders: &[
        lists::newest("newest", "b.id"),
        lists::text("name", "b.name"),
        lists::text("device", "coalesce(d.name, '')"),
        lists::number("card", "c.id"),
    ],
};

impl Wanted {
    fn push(&self, query: &mut sqlx::QueryBuilder<sqlx::Postgres>) {
        if let Some(text) = self
            .search
            .as_deref()
            .filter(|text| !text.trim().is_empty())
        {
            let text = anywhere(&text.to_lowercase());
            query
                .push(" and (lower(b.name || ' ' || c.label) like ")
                .push_bind(text.clone());
            query.push(" or d.words like ").push_bind(text).push(")");
        }
        lists::equal(query, &[("c.label", &self.card), ("d.name", &self.device)]);
    }
}

impl Records {
    /// Records a backup and the end of the job that took it.
    pub async fn add_backup(
        &self,
        new: &NewBackup,
        summary: &str,
        ending: &Ending,
    ) -> Result<i64, RecordError> {
        let taken = format!("there is a backup {:?} already", new.name);
        let mut tx = self.pool.begin().await?;
        let id = sqlx::query_scalar!(
            "insert into backups (name, card_id, device_id, imprint_id, job_id, card_size, content, smallest_card,
                table_kind, partitions, manifest, stored, verified, slot, insertion, boot, taken_by)
             values ($1, (select id from cards where label = $2), (select id from devices where name = $3),
                $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17)
             returning id",
            new.name,
            new.card,
            new.device,
            new.imprint,
            new.job,
            new.card_size,
            new.content,
            new.smallest_card,
            new.table_kind,
            new.partitions,
            new.manifest,
            new.stored,
            new.verified,
            new.slot,
            new.insertion,
            new.boot,
            new.taken_by
        )
        .fetch_one(&mut *tx)
        .await
        .map_err(|e| RecordError::explain(e, &[("backups_name_key", taken)]))?;
        events::add(&mut tx, &new.taken_by, "backup.taken", &new.name, summary).await?;
        jobs::end(&mut tx, ending).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// One page of the backups that are wanted, newest first.
    pub async fn backup_page(
        &self,
        wanted: &Wanted,
        asked: &Asked,
    ) -> Result<Page<Backup>, RecordError> {
        LIST.page(&self.pool, asked, &|query| wanted.push(query))
            .await
    }

    /// One backup by name or number.
    pub async fn backup(&self, name: &str) -> Result<Backup, RecordError> {
        let query = format!("select {COLUMNS} from {FROM} where b.name = $1 or b.id = $2");
        sqlx::query_as(sqlx::AssertSqlSafe(query))
            .bind(name)
            .bind(name.parse::<i64>().ok())
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("backup", name))
    }

    /// Names of backups that begin like this.
    pub async fn backups_named_like(&self, start: &str) -> Result<Vec<String>, RecordError> {
        let rows = sqlx::query_scalar!(
            "select name from backups where starts_with(name, $1)",
            start
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The newest backup of what is on a card: of this imprint, or, of a card that carries none,
    /// of what was there.
    pub async fn last_backup(
        &self,
        card: i64,
        imprint: Option<i64>,
    ) -> Result<Option<(String, OffsetDateTime)>, RecordError> {
        let row = sqlx::query!(
            "select name, taken_at from backups where card_id = $1 and imprint_id is not distinct from $2
             order by id desc limit 1",
            card,
            imprint
        );
        Ok(row
            .fetch_optional(&self.pool)
            .await?
            .map(|row| (row.name, row.taken_at)))
    }
}
