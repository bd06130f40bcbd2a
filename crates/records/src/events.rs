//! What happened, in commit order.

use sqlx::PgConnection;
use time::OffsetDateTime;

use crate::{RecordError, Records};

/// Serialises the insertion of events, so that a reader who has seen an id has seen all before it.
const LOCK: i64 = 0x6475_706c;

/// Where it is told that there is a new event, to whoever listens.
pub(crate) const CHANNEL: &str = "duplicarium_events";

/// One thing that happened.
#[derive(Clone, Debug)]
pub struct Event {
    /// Number, ascending in commit order.
    pub id: i64,
    /// When.
    pub at: OffsetDateTime,
    /// Who did it.
    pub operator: String,
    /// What kind of thing, such as `release.added`.
    pub kind: String,
    /// What it is about: the name of a release, device, card, backup or job.
    pub subject: String,
    /// A sentence.
    pub summary: String,
}

impl Records {
    /// Records an event and gives its number.
    pub async fn add_event(
        &self,
        operator: &str,
        kind: &str,
        subject: &str,
        summary: &str,
    ) -> Result<i64, RecordError> {
        let mut tx = self.pool.begin().await?;
        let id = add(&mut tx, operator, kind, subject, summary).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Events after a number, oldest first.
    pub async fn events_after(&self, id: i64, most: i64) -> Result<Vec<Event>, RecordError> {
        let rows = sqlx::query_as!(
            Event,
            "select * from events where id > $1 order by id limit $2",
            id,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The newest events, newest first.
    pub async fn events(&self, before: Option<i64>, most: i64) -> Result<Vec<Event>, RecordError> {
        let rows = sqlx::query_as!(
            Event,
            "select * from events where $1::bigint is null or id < $1 order by id desc limit $2",
            before,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Number of the newest event, 0 if there is none.
    pub async fn last_event(&self) -> Result<i64, RecordError> {
        let row = sqlx::query_scalar!(r#"select coalesce(max(id), 0) as "id!" from events"#);
        Ok(row.fetch_one(&self.pool).await?)
    }
}

/// Records an event as part of a transaction.
pub(crate) async fn add(
    tx: &mut PgConnection,
    operator: &str,
    kind: &str,
    subject: &str,
    summary: &str,
) -> Result<i64, RecordError> {
    sqlx::query("select pg_advisory_xact_lock($1), pg_notify($2, '')")
        .bind(LOCK)
        .bind(CHANNEL)
        .execute(&mut *tx)
        .await?;
    let id = sqlx::query_scalar!(
        "insert into events (operator, kind, subject, summary) values ($1, $2, $3, $4) returning id",
        operator,
        kind,
        subject,
        summary
    )
    .fetch_one(&mut *tx)
    .await?;
    Ok(id)
}
