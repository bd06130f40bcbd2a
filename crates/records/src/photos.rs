//! Pictures of devices and their labels, sealed.

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// The picture of a device, without its content.
#[derive(Clone, Debug)]
pub struct Photo {
    /// Its media type.
    pub kind: String,
    /// Its length in bytes.
    pub bytes: i64,
    /// Who took it.
    pub taken_by: String,
    /// When.
    pub taken_at: OffsetDateTime,
}

impl Records {
    /// Keeps the picture of a device in place of the one before.
    pub async fn put_photo(
        &self,
        device: i64,
        kind: &str,
        sealed: &[u8],
        bytes: i64,
        operator: &str,
    ) -> Result<(), RecordError> {
        sqlx::query!(
            "insert into device_photos (device_id, kind, sealed, bytes, taken_by) values ($1, $2, $3, $4, $5)
             on conflict (device_id) do update set kind = $2, sealed = $3, bytes = $4, taken_by = $5, taken_at = now()",
            device,
            kind,
            sealed,
            bytes,
            operator
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// What there is to say of a device's picture, if it has one.
    pub async fn photo(&self, device: i64) -> Result<Option<Photo>, RecordError> {
        let row = sqlx::query_as!(
            Photo,
            "select kind, bytes, taken_by, taken_at from device_photos where device_id = $1",
            device
        );
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Media type and sealed content of a device's picture.
    pub async fn photo_content(
        &self,
        device: i64,
    ) -> Result<Option<(String, Vec<u8>)>, RecordError> {
        let row = sqlx::query!(
            "select kind, sealed from device_photos where device_id = $1",
            device
        );
        let row = row.fetch_optional(&self.pool).await?;
        Ok(row.map(|row| (row.kind, row.sealed)))
    }

    /// Takes the picture of a device away; whether there was one.
    pub async fn remove_photo(&self, device: i64) -> Result<bool, RecordError> {
        let gone = sqlx::query!("delete from device_photos where device_id = $1", device)
            .execute(&self.pool)
            .await?;
        Ok(gone.rows_affected() > 0)
    }
}
