//! Since when devices stand as they do.

use std::collections::HashMap;

use time::OffsetDateTime;

use crate::{RecordError, Records};

impl Records {
    /// Records how devices stand, by number and in words; gives since when each stands so. Devices that are not named
    /// are forgotten.
    pub async fn note_standings(
        &self,
        standings: &[(i64, &'static str)],
    ) -> Result<HashMap<i64, OffsetDateTime>, RecordError> {
        let ids: Vec<i64> = standings.iter().map(|(id, _)| *id).collect();
        let words: Vec<String> = standings.iter().map(|(_, word)| (*word).into()).collect();
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "delete from device_standings where device_id <> all($1)",
            &ids
        )
        .execute(&mut *tx)
        .await?;
        // A device may have been deleted since it was read.
        sqlx::query!(
            "insert into device_standings (device_id, standing)
             select n.id, n.standing from unnest($1::bigint[], $2::text[]) n (id, standing) join devices d on d.id = n.id
             on conflict (device_id) do update set standing = excluded.standing, since = now()
                where device_standings.standing <> excluded.standing",
            &ids,
            &words
        )
        .execute(&mut *tx)
        .await?;
        let rows = sqlx::query!("select device_id, since from device_standings");
        let rows = rows.fetch_all(&mut *tx).await?.into_iter();
        tx.commit().await?;
        Ok(rows.map(|row| (row.device_id, row.since)).collect())
    }
}
