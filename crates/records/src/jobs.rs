//! Jobs: rows before they are work.

use sqlx::PgConnection;
use time::OffsetDateTime;

use crate::{RecordError, Records, events};

/// A job that is about to begin.
#[derive(Clone, Debug)]
pub struct NewJob {
    /// `import`, `write`, `restore` or `backup`.
    pub kind: &'static str,
    /// What it is about, for people.
    pub subject: String,
    /// Where the card is that it works on.
    pub at: Option<At>,
    /// Label of the card that it works on.
    pub card: Option<String>,
    /// Who started it.
    pub operator: String,
    /// The caller's own key: the same key gives the same job.
    pub request_key: Option<RequestKey>,
}

/// A slot of the bench, with the place that it was then: slots can be bound to others.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct At {
    /// The slot: its number, or a bench and its number there.
    pub slot: String,
    /// The reader: the port that it hung at, or its own name.
    pub reader: String,
    /// Place in the reader.
    pub unit: i32,
}

/// A caller's key with what it was used for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RequestKey {
    /// The key.
    pub key: String,
    /// Digest of the request: its route and body.
    pub digest: Vec<u8>,
}

/// A recorded job.
#[derive(Clone, Debug)]
#[allow(missing_docs)] // as in NewJob
pub struct Job {
    pub id: i64,
    pub kind: String,
    pub state: String,
    pub subject: String,
    pub slot: Option<String>,
    pub reader: Option<String>,
    pub unit: Option<i32>,
    pub card: Option<String>,
    pub operator: String,
    pub created_at: OffsetDateTime,
    pub started_at: Option<OffsetDateTime>,
    pub finished_at: Option<OffsetDateTime>,
    pub error_code: Option<String>,
    pub error: Option<String>,
    pub result: Option<serde_json::Value>,
    pub speeds: Option<serde_json::Value>,
}

/// The end of a job, with the event that tells of it.
#[derive(Clone, Debug)]
pub struct Ending {
    /// Number of the job.
    pub job: i64,
    /// How it ended.
    pub outcome: Outcome,
    /// Who started it.
    pub operator: String,
    /// A sentence for the history.
    pub summary: String,
    /// How fast it was along the card, if it was at one.
    pub speeds: Option<Speeds>,
}

/// How fast a card was.
#[derive(Clone, Debug)]
pub struct Speeds {
    /// Along its length, by stage.
    pub curves: serde_json::Value,
    /// Bytes a second that it was written with, over all.
    pub write: Option<f64>,
    /// And read.
    pub read: Option<f64>,
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
    ///
    /// # Errors
    /// [`RecordError::OtherRequest`] where the key was used for something else.
    pub async fn add_job(&self, new: &NewJob) -> Result<(i64, bool), RecordError> {
        let key = new.request_key.as_ref();
        let added = sqlx::query_scalar!(
            "insert into jobs (kind, subject, slot, card_id, operator, request_key, request_digest, reader, unit, service)
             values ($1, $2, $3, (select id from cards where label = $4), $5, $6, $7, $8, $9, $10)
             on conflict (request_key) do nothing returning id",
            new.kind,
            new.subject,
            new.at.as_ref().map(|at| &at.slot),
            new.card,
            new.operator,
            key.map(|key| &key.key),
            key.map(|key| &key.digest),
            new.at.as_ref().map(|at| &at.reader),
            new.at.as_ref().map(|at| at.unit),
            self.me()
        )
        .fetch_optional(&self.pool)
        .await?;
        if let Some(id) = added {
            return Ok((id, true));
        }
        let known = match key {
            Some(key) => self.job_of_request(key).await?,
            None => None,
        };
        known
            .map(|id| (id, false))
            .ok_or_else(|| RecordError::unknown("job", "of this request"))
    }

    /// The job that was started with a request key.
    ///
    /// # Errors
    /// [`RecordError::OtherRequest`] where the key was used for something else.
    pub async fn job_of_request(&self, key: &RequestKey) -> Result<Option<i64>, RecordError> {
        let row = sqlx::query!(
            "select id, request_digest from jobs where request_key = $1",
            key.key
        )
        .fetch_optional(&self.pool)
        .await?;
        match row {
            Some(row)
                if row
                    .request_digest
                    .as_ref()
                    .is_some_and(|one| *one != key.digest) =>
            {
                Err(RecordError::OtherRequest { job: row.id })
            }
            row => Ok(row.map(|row| row.id)),
        }
    }

    /// Records that a job is under way, with its event.
    pub async fn start_job(
        &self,
        id: i64,
        operator: &str,
        summary: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let started = sqlx::query!(
            "update jobs set state = 'running', started_at = now() where id = $1 and state = 'waiting'",
            id
        )
        .execute(&mut *tx)
        .await?;
        if started.rows_affected() > 0 {
            events::add(&mut tx, operator, "job.started", &id.to_string(), summary).await?;
        }
        Ok(tx.commit().await?)
    }

    /// Records how a job ended, with its event; a job that ended already stays as it is.
    pub async fn end_job(&self, ending: &Ending) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        end(&mut tx, ending).await?;
        Ok(tx.commit().await?)
    }

    /// Ends jobs that no thread works on (any more), as if the service had ended: `running` are
    /// those that one does. Returns the jobs this concerned. Jobs of other services are theirs.
    pub async fn end_orphans(&self, running: &[i64]) -> Result<Vec<i64>, RecordError> {
        let rows = sqlx::query_scalar!(
            "update jobs set state = 'interrupted', finished_at = now(), error_code = 'interrupted',
                error = 'the records were out of reach when this began; nothing was done, start it again'
             where state in ('waiting', 'running') and created_at < now() - interval '20 seconds'
               and not id = any($1) and service is not distinct from $2 returning id",
            running,
            self.me()
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Those of these jobs that are over by what the records say.
    pub async fn over_of(&self, jobs: &[i64]) -> Result<Vec<i64>, RecordError> {
        let rows = sqlx::query_scalar!(
            "select id from jobs where id = any($1) and state not in ('waiting', 'running')",
            jobs
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The newest jobs, newest first.
    pub async fn jobs(&self, before: Option<i64>, most: i64) -> Result<Vec<Job>, RecordError> {
        let rows = sqlx::query_as!(
            Job,
            r#"select j.id, j.kind, j.state, j.subject, j.slot, j.reader, j.unit, c.label as "card?", j.operator, j.created_at,
                 j.started_at, j.finished_at, j.error_code, j.error, j.result, null::jsonb as speeds
               from jobs j left join cards c on c.id = j.card_id
               where $1::bigint is null or j.id < $1 order by j.id desc limit $2"#,
            before,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Of these slots the newest job, where it came to a bad end which nobody has seen yet: slot and job.
    pub async fn unseen_failures(
        &self,
        slots: &[String],
    ) -> Result<Vec<(String, i64)>, RecordError> {
        let rows = sqlx::query!(
            r#"select s.slot as "slot!", j.id from unnest($1::text[]) s(slot), lateral (
                 select id, state, seen_by from jobs where slot = s.slot order by id desc limit 1) j
               where j.state in ('failed', 'interrupted') and j.seen_by is null"#,
            slots
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.map(|row| (row.slot, row.id)).collect())
    }

    /// Keeps that somebody has seen how a job ended.
    pub async fn see_job(&self, id: i64, by: &str) -> Result<(), RecordError> {
        sqlx::query!(
            "update jobs set seen_by = coalesce(seen_by, $2) where id = $1",
            id,
            by
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The newest jobs at a card whose speed was kept, newest first.
    pub async fn card_speeds(
        &self,
        card: &str,
        most: i64,
    ) -> Result<Vec<(i64, String, serde_json::Value)>, RecordError> {
        let rows = sqlx::query!(
            r#"select j.id, j.kind, j.speeds as "speeds!" from jobs j join cards c on c.id = j.card_id
               where c.label = $1 and j.speeds is not null order by j.id desc limit $2"#,
            card,
            most
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.map(|row| (row.id, row.kind, row.speeds)).collect())
    }

    /// One job.
    pub async fn job(&self, id: i64) -> Result<Job, RecordError> {
        let rows = sqlx::query_as!(
            Job,
            r#"select j.id, j.kind, j.state, j.subject, j.slot, j.reader, j.unit, c.label as "card?", j.operator, j.created_at,
                 j.started_at, j.finished_at, j.error_code, j.error, j.result, j.speeds
               from jobs j left join cards c on c.id = j.card_id where j.id = $1"#,
            id
        );
        rows.fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("job", id.to_string()))
    }

    /// After a start of a service that has the records alone: jobs that were under way when the service ended are
    /// *interrupted*. A write that had not begun on its card is void; one that had is in doubt until the card is seen
    /// again. Returns the jobs this concerned.
    pub async fn sort_out_interrupted(&self) -> Result<Vec<i64>, RecordError> {
        let mut tx = self.pool.begin().await?;
        let jobs = interrupt(&mut tx, None).await?;
        end_lines(&mut tx).await?;
        tx.commit().await?;
        Ok(jobs)
    }

    /// The same of this service alone: others go on.
    pub async fn sort_out_own(&self) -> Result<Vec<i64>, RecordError> {
        let mut tx = self.pool.begin().await?;
        let jobs = match self.me() {
            Some(number) => interrupt(&mut tx, Some(number)).await?,
            None => Vec::new(),
        };
        tx.commit().await?;
        Ok(jobs)
    }

    /// Nobody listens at the serial lines any more that are recorded as being listened at.
    pub async fn end_lines(&self) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        end_lines(&mut tx).await?;
        Ok(tx.commit().await?)
    }
}

async fn end_lines(tx: &mut PgConnection) -> Result<(), RecordError> {
    sqlx::query!(
        "update arrival_lines set ended_at = now(), problem = 'the service ended, and listens no more'
         where ended_at is null"
    )
    .execute(tx)
    .await?;
    Ok(())
}

/// Ends what was under way at one service, or at all; gives the jobs.
pub(crate) async fn interrupt(
    tx: &mut PgConnection,
    service: Option<i32>,
) -> Result<Vec<i64>, RecordError> {
    sqlx::query!(
        "update imprints set finished_at = now(),
            state = case state when 'planned' then 'void' else 'in doubt' end
         where state in ('planned', 'writing')
           and ($1::int is null or job_id in (select id from jobs where service = $1))",
        service
    )
    .execute(&mut *tx)
    .await?;
    let jobs = sqlx::query_scalar!(
        "update jobs set state = 'interrupted', finished_at = now(), error_code = 'interrupted',
            error = case
                when kind not in ('write', 'restore')
                then 'the service ended while this was under way; start it again'
                when exists (select from imprints i where i.job_id = jobs.id and i.state = 'in doubt')
                then 'the service ended while the card was written; put it in, and what it is will be found out'
                else 'the service ended before the card was touched; it is as it was' end
         where state in ('waiting', 'running') and ($1::int is null or service = $1) returning id",
        service
    );
    Ok(jobs.fetch_all(&mut *tx).await?)
}

/// Records the end of a job in the transaction that makes true what it did.
pub(crate) async fn end(tx: &mut PgConnection, ending: &Ending) -> Result<(), RecordError> {
    let (state, code, error, result) = match &ending.outcome {
        Outcome::Done(result) => ("done", None, None, Some(result)),
        Outcome::Failed(code, error) => ("failed", Some(code.as_str()), Some(error), None),
        Outcome::Cancelled(error) => ("cancelled", Some("cancelled"), Some(error), None),
    };
    let ended = sqlx::query!(
        "update jobs set state = $2, error_code = $3, error = $4, result = $5, speeds = $6, finished_at = now()
         where id = $1 and state in ('waiting', 'running')",
        ending.job,
        state,
        code,
        error,
        result,
        ending.speeds.as_ref().map(|speeds| &speeds.curves)
    )
    .execute(&mut *tx)
    .await?;
    if ended.rows_affected() > 0 {
        if let Some(speeds) = &ending.speeds {
            sqlx::query!(
                "update cards set write_rate = coalesce($2, write_rate), read_rate = coalesce($3, read_rate)
                 where id = (select card_id from jobs where id = $1)",
                ending.job,
                speeds.write,
                speeds.read
            )
            .execute(&mut *tx)
            .await?;
        }
        // A write that came to a bad end without a word on its card leaves it in doubt.
        sqlx::query!(
            "update imprints set finished_at = now(),
                state = case state when 'planned' then 'void' else 'in doubt' end
             where job_id = $1 and state in ('planned', 'writing')",
            ending.job
        )
        .execute(&mut *tx)
        .await?;
        let kind = format!("job.{state}");
        let subject = ending.job.to_string();
        events::add(tx, &ending.operator, &kind, &subject, &ending.summary).await?;
    }
    Ok(())
}
