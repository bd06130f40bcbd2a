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

/// Which of the two vaults.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Which {
    /// The one that is worked with.
    First,
    /// Its copy elsewhere.
    Second,
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

    /// Behind which segment the next share of a vault begins that is inspected.
    pub async fn inspected_to(&self, which: Which) -> Result<Option<String>, RecordError> {
        let row = sqlx::query_scalar!(
            "select behind from vault_inspected where first = $1",
            which == Which::First
        );
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Says so; from the beginning where nothing is given.
    pub async fn set_inspected_to(
        &self,
        which: Which,
        behind: Option<&str>,
    ) -> Result<(), RecordError> {
        let first = which == Which::First;
        match behind {
            Some(behind) => {
                sqlx::query!(
                    "insert into vault_inspected (first, behind) values ($1, $2)
                     on conflict (first) do update set behind = $2, changed_at = now()",
                    first,
                    behind
                )
                .execute(&self.pool)
                .await?
            }
            None => {
                sqlx::query!("delete from vault_inspected where first = $1", first)
                    .execute(&self.pool)
                    .await?
            }
        };
        Ok(())
    }

    /// Keeps which of these contents are not whole, with how many of their pieces are missing: all others of them are.
    /// Since when one is damaged stays as it was.
    pub async fn set_content_damage(
        &self,
        looked_at: &[Vec<u8>],
        damaged: &[(Vec<u8>, i64)],
    ) -> Result<(), RecordError> {
        let (names, pieces): (Vec<Vec<u8>>, Vec<i64>) = damaged.iter().cloned().unzip();
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "delete from content_damage where manifest = any($1) and not manifest = any($2)",
            looked_at,
            &names
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "insert into content_damage (manifest, pieces) select * from unnest($1::bytea[], $2::bigint[])
             on conflict (manifest) do update set pieces = excluded.pieces",
            &names,
            &pieces
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// Releases and imprints that are not whole, with how many pieces are missing and since when that is known. What of
    /// backups is not stands with each ([`crate::backups::Backup::damage`]).
    pub async fn damaged_contents(
        &self,
    ) -> Result<Vec<(NamedBy, i64, OffsetDateTime)>, RecordError> {
        let rows = sqlx::query!(
            r#"select n.manifest as "manifest!", n.what as "what!", n.name as "name!", x.pieces, x.found_at
               from content_damage x join (
                select manifest, 'release' as what, name from releases
                union all select manifest, 'imprint', id::text from imprints
                    where manifest is not null and state not in ('void', 'planned')) n on n.manifest = x.manifest
               order by x.found_at, 2 desc, 3 limit 200"#
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let told = rows.map(|row| {
            let content = NamedBy {
                manifest: row.manifest,
                what: row.what,
                name: row.name,
            };
            (content, row.pieces, row.found_at)
        });
        Ok(told.collect())
    }

    /// The number of the copy of the records that is about to be kept: each is larger than all before.
    pub async fn next_copy(&self) -> Result<i64, RecordError> {
        let next = sqlx::query_scalar!(r#"select nextval('records_copies') as "next!""#);
        Ok(next.fetch_one(&self.pool).await?)
    }

    /// The next copy of the records has a number above this one.
    pub async fn count_copies_from(&self, last: i64) -> Result<(), RecordError> {
        if last < 1 {
            return Ok(());
        }
        sqlx::query!(
            "select setval('records_copies', greatest($1, (select last_value from records_copies)))",
            last
        )
        .fetch_one(&self.pool)
        .await?;
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
