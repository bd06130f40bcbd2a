//! What was found when the vault was looked at, and what it held from day to day.

use std::collections::HashSet;

use time::{Date, OffsetDateTime};

use crate::{RecordError, Records};

/// What came of a look at the vault.
#[derive(Clone, Debug)]
pub struct Look {
    /// `inspect`, `tidy`, `copy` or `records`.
    pub what: String,
    /// The job that looked.
    pub job_id: Option<i64>,
    /// When.
    pub at: OffsetDateTime,
    /// What came of it, as it is shown.
    pub found: serde_json::Value,
    /// Whether it needs a hand.
    pub bad: bool,
}

/// Who names a content.
#[derive(Clone, Debug)]
pub struct NamedBy {
    /// The content.
    pub manifest: Vec<u8>,
    /// `release`, `backup` or `imprint`.
    pub what: String,
    /// Its name or number.
    pub name: String,
}

impl Records {
    /// Keeps what came of a look at the vault.
    pub async fn add_vault_look(
        &self,
        what: &str,
        job: Option<i64>,
        found: &serde_json::Value,
        bad: bool,
    ) -> Result<(), RecordError> {
        sqlx::query!(
            "insert into vault_looks (what, job_id, found, bad) values ($1, $2, $3, $4)",
            what,
            job,
            found,
            bad
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The newest look at the vault of each kind.
    pub async fn vault_looks(&self) -> Result<Vec<Look>, RecordError> {
        let rows = sqlx::query_as!(
            Look,
            "select distinct on (what) what, job_id, at, found, bad from vault_looks order by what, id desc"
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Behind which segment the next share of the vault begins that is inspected.
    pub async fn inspected_to(&self) -> Result<Option<String>, RecordError> {
        let row = sqlx::query_scalar!("select behind from vault_inspected");
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Says so; from the beginning where nothing is given.
    pub async fn set_inspected_to(&self, behind: Option<&str>) -> Result<(), RecordError> {
        match behind {
            Some(behind) => {
                sqlx::query!(
                    "insert into vault_inspected (behind) values ($1)
                     on conflict (one) do update set behind = $1, changed_at = now()",
                    behind
                )
                .execute(&self.pool)
                .await?
            }
            None => {
                sqlx::query!("delete from vault_inspected")
                    .execute(&self.pool)
                    .await?
            }
        };
        Ok(())
    }

    /// Who names which content, everything that is kept.
    pub async fn contents(&self) -> Result<Vec<NamedBy>, RecordError> {
        let rows = sqlx::query_as!(
            NamedBy,
            r#"select manifest as "manifest!", what as "what!", name as "name!" from (
                select manifest, 'release' as what, name from releases
                union all select manifest, 'backup', name from backups where gone_at is null
                union all select manifest, 'imprint', id::text from imprints
                    where manifest is not null and state not in ('void', 'planned')) n order by 2, 3"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The moment from which on a copy of the records that is begun now may miss what goes: whatever went before that moment
    /// is in it as gone.
    ///
    /// # Errors
    /// What the database says.
    pub async fn begin_keeping(&self) -> Result<OffsetDateTime, RecordError> {
        let mut tx = self.pool.begin().await?;
        // Waits for those that are letting something go; theirs is a moment before this one, and later ones wait here.
        sqlx::query("lock table backups, vault_removed in share mode")
            .execute(&mut *tx)
            .await?;
        let now = sqlx::query_scalar!(r#"select clock_timestamp() as "now!""#);
        let now = now.fetch_one(&mut *tx).await?;
        tx.commit().await?;
        Ok(now)
    }

    /// Contents that were let go or taken away since the copy of the records was begun that was kept last: it names them,
    /// and whoever brings it back finds them only as long as they stay. All that ever went, where it is not known when that
    /// was: records that were brought back do not know of their own copy.
    ///
    /// # Errors
    /// What the database says.
    pub async fn contents_gone_lately(&self) -> Result<Vec<Vec<u8>>, RecordError> {
        let rows = sqlx::query_scalar!(
            r#"with kept as (select coalesce(max(coalesce((found->>'begun')::timestamptz, at - interval '1 day')),
                    '-infinity') as begun from vault_looks where what = 'records')
               select manifest as "manifest!" from backups, kept where gone_at >= kept.begun
               union select manifest from vault_removed, kept where manifest is not null and removed_at >= kept.begun"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// What backups and releases these records know, also those that were let go or taken away, as what and name.
    pub async fn known_contents(&self) -> Result<HashSet<(String, String)>, RecordError> {
        let rows = sqlx::query!(
            r#"select what as "what!", name as "name!" from (
                select 'release' as what, name from releases union select 'backup', name from backups
                union select what, name from vault_removed) k"#
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.map(|row| (row.what, row.name)).collect())
    }

    /// Bytes of all contents that are kept, as they would be on disks, used areas alone.
    pub async fn content_bytes(&self) -> Result<i64, RecordError> {
        let row = sqlx::query_scalar!(
            r#"select (coalesce((select sum(content) from releases), 0)
                + coalesce((select sum(content) from backups where gone_at is null), 0))::bigint as "bytes!""#
        );
        Ok(row.fetch_one(&self.pool).await?)
    }

    /// Keeps what the vault holds today.
    pub async fn note_vault_size(&self, stored: i64, content: i64) -> Result<(), RecordError> {
        sqlx::query!(
            "insert into vault_sizes (day, stored, content) values (current_date, $1, $2)
             on conflict (day) do update set stored = $1, content = $2",
            stored,
            content
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// What the vault held at the end of each day, the last two years.
    pub async fn vault_sizes(&self) -> Result<Vec<(Date, i64, i64)>, RecordError> {
        let rows = sqlx::query!(
            "select day, stored, content from vault_sizes where day > current_date - 730 order by day"
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.map(|row| (row.day, row.stored, row.content)).collect())
    }
}
