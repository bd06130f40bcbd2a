//! Settings that appliances exported of themselves, sealed.

use time::OffsetDateTime;

use crate::{RecordError, Records, events};

/// An export that was taken.
#[derive(Clone, Debug)]
pub struct NewExport<'a> {
    /// Number of the device.
    pub device: i64,
    /// Its name.
    pub name: &'a str,
    /// What is on its card.
    pub base: &'a str,
    /// The version that it says it runs.
    pub version: &'a str,
    /// The export, sealed.
    pub sealed: &'a [u8],
    /// A keyed digest of it.
    pub digest: &'a str,
    /// Its length in bytes.
    pub bytes: i64,
    /// Who took it.
    pub operator: &'a str,
}

/// An export as the records have it.
#[derive(Clone, Debug)]
pub struct Export {
    /// Number.
    pub id: i64,
    /// Name of the device.
    pub device: String,
    /// Number of the device.
    pub device_id: i64,
    /// What was on its card.
    pub base: String,
    /// The version that it said.
    pub version: String,
    /// A keyed digest of it.
    pub digest: String,
    /// Its length in bytes.
    pub bytes: i64,
    /// Who took it.
    pub taken_by: String,
    /// When.
    pub taken_at: OffsetDateTime,
    /// When it was last found to be still so.
    pub seen_at: OffsetDateTime,
}

impl Records {
    /// Keeps an export; one that is equal to the newest of its device is only found to be still so. Gives its number
    /// and whether it is new.
    pub async fn add_export(&self, new: &NewExport<'_>) -> Result<(i64, bool), RecordError> {
        let mut tx = self.pool.begin().await?;
        // Two that are taken at once would both be new.
        sqlx::query!(
            "select id from devices where id = $1 for no key update",
            new.device
        )
        .fetch_one(&mut *tx)
        .await?;
        let newest = sqlx::query!(
            "select id, digest from device_exports where device_id = $1 order by id desc limit 1",
            new.device
        )
        .fetch_optional(&mut *tx)
        .await?;
        if let Some(same) = newest.filter(|newest| newest.digest == new.digest) {
            sqlx::query!(
                "update device_exports set seen_at = now() where id = $1",
                same.id
            )
            .execute(&mut *tx)
            .await?;
            tx.commit().await?;
            return Ok((same.id, false));
        }
        let id = sqlx::query_scalar!(
            "insert into device_exports (device_id, base, version, sealed, digest, bytes, taken_by)
             values ($1, $2, $3, $4, $5, $6, $7) returning id",
            new.device,
            new.base,
            new.version,
            new.sealed,
            new.digest,
            new.bytes,
            new.operator
        )
        .fetch_one(&mut *tx)
        .await?;
        let summary = format!(
            "The settings that {} exports of itself were taken",
            new.name
        );
        events::add(&mut tx, new.operator, "export.taken", new.name, &summary).await?;
        tx.commit().await?;
        Ok((id, true))
    }

    /// The exports of a device, newest first.
    pub async fn exports(&self, device: &str) -> Result<Vec<Export>, RecordError> {
        let rows = sqlx::query_as!(
            Export,
            "select e.id, d.name as device, e.device_id, e.base, e.version, e.digest, e.bytes, e.taken_by, e.taken_at,
                e.seen_at
             from device_exports e join devices d on d.id = e.device_id where d.name = $1 order by e.id desc limit 200",
            device
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One export of a device, with its sealed content.
    pub async fn export(&self, device: &str, id: i64) -> Result<(Export, Vec<u8>), RecordError> {
        let row = sqlx::query!(
            "select e.id, d.name as device, e.device_id, e.base, e.version, e.digest, e.bytes, e.taken_by, e.taken_at,
                e.seen_at, e.sealed
             from device_exports e join devices d on d.id = e.device_id where e.id = $1 and d.name = $2",
            id,
            device
        );
        let row = row.fetch_optional(&self.pool).await?;
        let row = row.ok_or_else(|| RecordError::unknown("export", id.to_string()))?;
        let export = Export {
            id: row.id,
            device: row.device,
            device_id: row.device_id,
            base: row.base,
            version: row.version,
            digest: row.digest,
            bytes: row.bytes,
            taken_by: row.taken_by,
            taken_at: row.taken_at,
            seen_at: row.seen_at,
        };
        Ok((export, row.sealed))
    }

    /// The newest export of a device, if it was taken before its card was made with this imprint, and nobody found
    /// since that it is so on this card too.
    pub async fn export_before(
        &self,
        device: &str,
        imprint: i64,
    ) -> Result<Option<Export>, RecordError> {
        let row = sqlx::query_as!(
            Export,
            "select e.id, d.name as device, e.device_id, e.base, e.version, e.digest, e.bytes, e.taken_by, e.taken_at,
                e.seen_at
             from device_exports e join devices d on d.id = e.device_id, imprints i
             where d.name = $1 and i.id = $2 and e.seen_at < i.started_at
                and not exists (select from device_exports n where n.device_id = e.device_id and n.id > e.id)",
            device,
            imprint
        );
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// An export was given back: the device has it again.
    pub async fn export_given(&self, id: i64) -> Result<(), RecordError> {
        sqlx::query!(
            "update device_exports set seen_at = now() where id = $1",
            id
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}
