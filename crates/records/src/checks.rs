//! Checks of cards, and other work on the card itself.

use sqlx::PgConnection;
use time::OffsetDateTime;

use crate::jobs::{self, Ending};
use crate::{RecordError, Records};

/// A recorded check.
#[derive(Clone, Debug)]
pub struct Check {
    /// Number.
    pub id: i64,
    /// Label of the card.
    pub card: String,
    /// Job that did it.
    pub job_id: i64,
    /// `quick` or `full`.
    pub kind: String,
    /// `proven`, `no sign`, `forged`, `bad` or `stopped`; none while it is under way or where it was cut off.
    pub verdict: Option<String>,
    /// Of a forged card: what it holds at least, in bytes.
    pub least: Option<i64>,
    /// And at most.
    pub most: Option<i64>,
    /// All that was found.
    pub report: serde_json::Value,
    /// Who checked.
    pub operator: String,
    /// When it began.
    pub started_at: OffsetDateTime,
    /// When it ended.
    pub finished_at: Option<OffsetDateTime>,
}

/// What a check came to.
#[derive(Clone, Debug)]
pub struct Checked {
    /// `proven`, `no sign`, `forged`, `bad` or `stopped`.
    pub verdict: &'static str,
    /// Of a forged card: what it holds at least and at most, in bytes.
    pub holds: Option<(i64, i64)>,
    /// All that was found.
    pub report: serde_json::Value,
    /// A sentence on why the card is mistrusted from now on.
    pub suspicion: Option<String>,
}

/// What is on a card after work on the card itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum After {
    /// What was there before.
    AsBefore,
    /// It is not whole, and says so.
    Unfinished,
    /// Nothing of what was there before; head and tail have this digest.
    Cleared([u8; 32]),
}

impl Records {
    /// Records that a check is about to begin, before the card is touched.
    pub async fn begin_check(
        &self,
        card: i64,
        job: i64,
        kind: &str,
        operator: &str,
    ) -> Result<i64, RecordError> {
        let added = sqlx::query_scalar!(
            "insert into card_checks (card_id, job_id, kind, operator) values ($1, $2, $3, $4)
             on conflict (job_id) do update set kind = excluded.kind returning id",
            card,
            job,
            kind,
            operator
        );
        Ok(added.fetch_one(&self.pool).await?)
    }

    /// Records that work on the card itself changes it from now on.
    pub async fn begin_on_card(&self, card: i64, job: i64) -> Result<(), RecordError> {
        sqlx::query!(
            "update cards set unfinished_job = $2 where id = $1",
            card,
            job
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Records what a check came to, what is on the card now, and the end of the job: at once.
    pub async fn finish_check(
        &self,
        card: i64,
        checked: Option<&Checked>,
        after: After,
        ending: &Ending,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        if let Some(checked) = checked {
            let (least, most) = checked.holds.unzip();
            sqlx::query!(
                "update card_checks set verdict = $2, least = $3, most = $4, report = $5, finished_at = now()
                 where job_id = $1",
                ending.job,
                checked.verdict,
                least,
                most,
                checked.report
            )
            .execute(&mut *tx)
            .await?;
            // A check that was stopped changes nothing of what is known. One that proves a card ends every
            // suspicion; one that finds no sign of forgery does not undo what another found.
            sqlx::query!(
                "update cards set
                    verdict = case
                        when $2 = 'stopped' then verdict
                        when $2 = 'no sign' and verdict in ('proven', 'forged', 'bad') then verdict
                        else $2 end,
                    suspicion = case when $2 = 'proven' then null else coalesce($3, suspicion) end
                 where id = $1",
                card,
                checked.verdict,
                checked.suspicion
            )
            .execute(&mut *tx)
            .await?;
        }
        leave(&mut tx, card, ending.job, after).await?;
        jobs::end(&mut tx, ending).await?;
        Ok(tx.commit().await?)
    }

    /// Records that work on the card itself, which was cut off, has left this on it, now that it is seen.
    /// `false` where that was recorded already.
    pub async fn settle_on_card(
        &self,
        card: &str,
        job: i64,
        after: After,
    ) -> Result<bool, RecordError> {
        let mut tx = self.pool.begin().await?;
        let found = sqlx::query_scalar!(
            "select id from cards where label = $1 and unfinished_job = $2 for no key update",
            card,
            job
        )
        .fetch_optional(&mut *tx)
        .await?;
        let Some(id) = found.filter(|_| after != After::Unfinished) else {
            return Ok(false);
        };
        leave(&mut tx, id, job, after).await?;
        tx.commit().await?;
        Ok(true)
    }

    /// Keeps why a card is mistrusted from now on.
    pub async fn mistrust_card(&self, card: &str, why: &str) -> Result<(), RecordError> {
        sqlx::query!(
            "update cards set suspicion = $2 where label = $1",
            card,
            why
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Binds a label to a card that does not say it itself: it is known by its edges from now on, and what was
    /// recorded as being on it is not there.
    pub async fn relabel_card(&self, card: i64, edges: &[u8; 32]) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        leave(&mut tx, card, 0, After::Cleared(*edges)).await?;
        Ok(tx.commit().await?)
    }

    /// The work on the card itself that was cut off and has left it unfinished, with its kind.
    pub async fn unfinished_work(&self, card: &str) -> Result<Option<(i64, String)>, RecordError> {
        let row = sqlx::query!(
            "select j.id, j.kind from cards c join jobs j on j.id = c.unfinished_job
             where c.label = $1 and j.state not in ('waiting', 'running')",
            card
        );
        let row = row.fetch_optional(&self.pool).await?;
        Ok(row.map(|row| (row.id, row.kind)))
    }

    /// The newest checks of a card, newest first.
    pub async fn checks(&self, card: &str, most: i64) -> Result<Vec<Check>, RecordError> {
        let rows = sqlx::query_as!(
            Check,
            r#"select k.id, c.label as "card!", k.job_id, k.kind, k.verdict, k.least, k.most, k.report, k.operator,
                 k.started_at, k.finished_at
               from card_checks k join cards c on c.id = k.card_id where c.label = $1 order by k.id desc limit $2"#,
            card,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}

async fn leave(
    tx: &mut PgConnection,
    card: i64,
    job: i64,
    after: After,
) -> Result<(), RecordError> {
    match after {
        After::Unfinished => {
            sqlx::query!(
                "update cards set unfinished_job = $2 where id = $1",
                card,
                job
            )
            .execute(&mut *tx)
            .await?;
        }
        After::AsBefore => {
            sqlx::query!("update cards set unfinished_job = null where id = $1", card)
                .execute(&mut *tx)
                .await?;
        }
        After::Cleared(edges) => {
            sqlx::query!(
                "update cards set unfinished_job = null, edges = $2, cleared_after = greatest(cleared_after,
                    coalesce((select max(id) from imprints where card_id = $1), 0)) where id = $1",
                card,
                edges.as_slice()
            )
            .execute(&mut *tx)
            .await?;
            sqlx::query!("select settle_card($1)", card)
                .fetch_one(&mut *tx)
                .await?;
        }
    }
    Ok(())
}
