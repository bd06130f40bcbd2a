//! Benches on other computers.

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// A bench.
#[derive(Clone, Debug)]
pub struct Bench {
    /// Number.
    pub id: i64,
    /// Name.
    pub name: String,
    /// Who added it.
    pub added_by: String,
    /// When.
    pub added_at: OffsetDateTime,
    /// When a computer was enrolled as this bench; nothing before.
    pub enrolled_at: Option<OffsetDateTime>,
    /// When it was connected last.
    pub seen_at: Option<OffsetDateTime>,
    /// Version of its program, once it called.
    pub version: Option<String>,
}

impl Records {
    /// The benches, by name.
    pub async fn benches(&self) -> Result<Vec<Bench>, RecordError> {
        let rows = sqlx::query_as!(
            Bench,
            "select id, name, added_by, added_at, enrolled_at, seen_at, version from benches
             where removed_at is null order by name"
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Adds a bench that a code of this digest enrols.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] for a second one of a name.
    pub async fn add_bench(
        &self,
        name: &str,
        by: &str,
        code: &[u8],
        until: OffsetDateTime,
    ) -> Result<(), RecordError> {
        let taken = format!("there is a bench of the name {name} already");
        let added = sqlx::query!(
            "insert into benches (name, added_by, code, code_until) values ($1, $2, $3, $4)",
            name,
            by,
            code,
            until
        )
        .execute(&self.pool)
        .await;
        added.map_err(|e| RecordError::explain(e, &[("benches_names", taken)]))?;
        Ok(())
    }

    /// Gives a bench another code. Its computer goes on until that is used.
    ///
    /// # Errors
    /// [`RecordError::Unknown`].
    pub async fn renew_bench(
        &self,
        name: &str,
        code: &[u8],
        until: OffsetDateTime,
    ) -> Result<(), RecordError> {
        let renewed = sqlx::query!(
            "update benches set code = $2, code_until = $3 where name = $1 and removed_at is null",
            name,
            code,
            until
        )
        .execute(&self.pool)
        .await?;
        match renewed.rows_affected() {
            0 => Err(RecordError::unknown("bench", name)),
            _ => Ok(()),
        }
    }

    /// Uses a code up: whoever shows the credential of this digest is the bench from now on, and nobody else. Gives
    /// its name; nothing for a code that is not good.
    pub async fn enrol_bench(
        &self,
        code: &[u8],
        credential: &[u8],
    ) -> Result<Option<String>, RecordError> {
        let name = sqlx::query_scalar!(
            "update benches set credential = $2, enrolled_at = now(), code = null, code_until = null
             where code = $1 and code_until > now() and removed_at is null returning name",
            code,
            credential
        );
        Ok(name.fetch_optional(&self.pool).await?)
    }

    /// The bench that shows a credential of this digest, and when it was enrolled.
    pub async fn bench_of(
        &self,
        credential: &[u8],
    ) -> Result<Option<(String, Option<OffsetDateTime>)>, RecordError> {
        let row = sqlx::query!(
            "select name, enrolled_at from benches where credential = $1 and removed_at is null",
            credential
        );
        let row = row.fetch_optional(&self.pool).await?;
        Ok(row.map(|row| (row.name, row.enrolled_at)))
    }

    /// Notes that a bench is, or just was, connected.
    pub async fn bench_seen(&self, name: &str, version: &str) -> Result<(), RecordError> {
        sqlx::query!(
            "update benches set seen_at = now(), version = $2 where name = $1 and removed_at is null",
            name,
            version
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Removes a bench. What was recorded of its slots stays.
    ///
    /// # Errors
    /// [`RecordError::Unknown`].
    pub async fn remove_bench(&self, name: &str) -> Result<(), RecordError> {
        let removed = sqlx::query!(
            "update benches set removed_at = now(), credential = null, code = null where name = $1 and removed_at is null",
            name
        )
        .execute(&self.pool)
        .await?;
        match removed.rows_affected() {
            0 => Err(RecordError::unknown("bench", name)),
            _ => Ok(()),
        }
    }
}
