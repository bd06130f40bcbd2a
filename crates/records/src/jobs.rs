//! Jobs: rows before they are work.

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// A job that is about to begin.
#[derive(Clone, Debug)]
pub struct NewJob {
    /// `import`, `write`, `restore` or `backup`.
    pub kind: &'static str,
    /// What it is about, for people.
    pub subject: String,
    /// Slot that it works on.
    pub slot: Option<i32>,
    /// Label of the card that it works on.
    pub card: Option<String>,
    /// Who started it.
    pub operator: String,
    /// The caller's own key: the same key gives the same job.
    pub request_key: Option<String>,
}

/// A recorded job.
#[derive(Clone, Debug)]
#[allow(missing_docs)] // as in NewJob
pub struct Job {
    pub id: i64,
    pub kind: String,
    pub state: String,
    pub subject: String,
    pub slot: Option<i32>,
    pub card: Option<String>,
    pub operator: String,
    pub created_at: OffsetDateTime,
    pub started_at: Option<OffsetDateTime>,
    pub finished_at: Option<OffsetDateTime>,
    pub error_code: Option<String>,
    pub error: Option<String>,
    pub result: Option<serde_json::Value>,
}

/// How a job ended.
#[derive(Clone, Debug)]
pub enum Outcome {
    /// It did what it should; what came of it.
    Done(serde_json::Value),
    /// It did not; a stable code and a sentence.
    Failed(String, String),
    /// It was stopped on request.
    Cancelled(String),
}

impl Records {
    /// Records a job. With a request key that was used before, gives that job and `false`.
    pub async fn add_job(&self, new: &NewJob) -> Result<(i64, bool), RecordError> {
        let added = sqlx::query_scalar!(
            "insert into jobs (kind, subject, slot, card_id, operator, request_key)
             values ($1, $2, $3, (select id from cards where label = $4), $5, $6)
             on conflict (request_key) do nothing returning id",
            new.kind,
            new.subject,
            new.slot,
            new.card,
            new.operator,
            new.request_key
        )
        .fetch_optional(&self.pool)
        .await?;
        match added {
            Some(id) => Ok((id, true)),
            None => {
                let id = sqlx::query_scalar!(
                    "select id from jobs where request_key = $1",
                    new.request_key
                );
                Ok((id.fetch_one(&self.pool).await?, false))
            }
        }
    }

    /// The job that was started with a request key.
    pub async fn job_of_request(&self, key: &str) -> Result<Option<i64>, RecordError> {
        let row = sqlx::query_scalar!("select id from jobs where request_key = $1", key);
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Records that a job is under way.
    pub async fn start_job(&self, id: i64) -> Result<(), RecordError> {
        sqlx::query!(
            "update jobs set state = 'running', started_at = now() where id = $1",
            id
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Records how a job ended.
    pub async fn end_job(&self, id: i64, outcome: &Outcome) -> Result<(), RecordError> {
        let (state, code, error, result) = match outcome {
            Outcome::Done(result) => ("done", None, None, Some(result)),
            Outcome::Failed(code, error) => ("failed", Some(code.as_str()), Some(error), None),
            Outcome::Cancelled(error) => ("cancelled", Some("cancelled"), Some(error), None),
        };
        sqlx::query!(
            "update jobs set state = $2, error_code = $3, error = $4, result = $5, finished_at = now() where id = $1",
            id,
            state,
            code,
            error,
            result
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The newest jobs, newest first.
    pub async fn jobs(&self, before: Option<i64>, most: i64) -> Result<Vec<Job>, RecordError> {
        let rows = sqlx::query_as!(
            Job,
            r#"select j.id, j.kind, j.state, j.subject, j.slot, c.label as "card?", j.operator, j.created_at,
                 j.started_at, j.finished_at, j.error_code, j.error, j.result
               from jobs j left join cards c on c.id = j.card_id
               where $1::bigint is null or j.id < $1 order by j.id desc limit $2"#,
            before,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One job.
    pub async fn job(&self, id: i64) -> Result<Job, RecordError> {
        let rows = sqlx::query_as!(
            Job,
            r#"select j.id, j.kind, j.state, j.subject, j.slot, c.label as "card?", j.operator, j.created_at,
                 j.started_at, j.finished_at, j.error_code, j.error, j.result
               from jobs j left join cards c on c.id = j.card_id where j.id = $1"#,
            id
        );
        rows.fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("job", id.to_string()))
    }

    /// After a start: what was under way when the service ended is *interrupted*, and a card that
    /// was being written is *incomplete*. Returns the jobs this concerned.
    pub async fn sort_out_interrupted(&self) -> Result<Vec<i64>, RecordError> {
        let mut tx = self.pool.begin().await?;
        let jobs = sqlx::query_scalar!(
            "update jobs set state = 'interrupted', finished_at = now(), error_code = 'interrupted',
                error = case when kind in ('write', 'restore')
                    then 'the service ended while this was under way; the card is incomplete and can be written again'
                    else 'the service ended while this was under way; start it again' end
             where state in ('waiting', 'running') returning id"
        )
        .fetch_all(&mut *tx)
        .await?;
        sqlx::query!(
            "update imprints set finished_at = now(),
                state = case state when 'planned' then 'void' else 'incomplete' end
             where state in ('planned', 'writing')"
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!("update cards set state = 'incomplete' where state = 'writing'")
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(jobs)
    }
}
