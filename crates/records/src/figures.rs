//! Counts over all records, for whoever watches the service from outside.

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// How many of something there are, by one or two words.
#[derive(Clone, Debug)]
pub struct Counted {
    /// Kind of the job, or state of the card or device.
    pub what: String,
    /// How it ended, of a job.
    pub how: Option<String>,
    /// How many.
    pub count: i64,
    /// Seconds that they took together, of jobs.
    pub seconds: f64,
}

/// Counts over all records.
#[derive(Clone, Debug)]
pub struct Figures {
    /// Jobs by kind and state.
    pub jobs: Vec<Counted>,
    /// Cards by state.
    pub cards: Vec<Counted>,
    /// Devices by state.
    pub devices: Vec<Counted>,
    /// Bytes that were put on cards.
    pub written: i64,
    /// Bytes that were read back and found equal.
    pub verified: i64,
    /// Backups whose content is there.
    pub backups: i64,
    /// Since when the device waits that waits longest for a backup that is proven to hold its files; `None` where none
    /// waits.
    pub unproven_since: Option<OffsetDateTime>,
}

impl Records {
    /// Counts everything.
    ///
    /// # Errors
    /// Of a database that does not answer.
    pub async fn figures(&self) -> Result<Figures, RecordError> {
        let jobs = sqlx::query_as!(
            Counted,
            r#"select kind as "what!", state as "how?", count(*) as "count!",
                 coalesce(sum(extract(epoch from finished_at - started_at)), 0)::float8 as "seconds!"
               from jobs group by kind, state order by kind, state"#
        );
        let cards = sqlx::query_as!(
            Counted,
            r#"select s.state as "what!", null::text as "how?", count(*) as "count!", 0::float8 as "seconds!"
               from cards c join card_states s on s.id = c.id group by s.state order by s.state"#
        );
        let devices = sqlx::query_as!(
            Counted,
            r#"select state as "what!", null::text as "how?", count(*) as "count!", 0::float8 as "seconds!"
               from devices group by state order by state"#
        );
        let bytes = sqlx::query!(
            r#"select coalesce(sum(written), 0)::bigint as "written!", coalesce(sum(verified), 0)::bigint as "verified!"
               from imprints"#
        );
        let backups = sqlx::query_scalar!(
            r#"select count(*) as "count!" from backups where gone_at is null"#
        );
        // A device with a card of ours waits from its newest proof on, or from when its card was written.
        let waits = sqlx::query_scalar!(
            r#"select min(coalesce(proof.at, i.finished_at, i.started_at)) as "since?"
               from devices d join imprints i on i.id = d.imprint_id
                 left join lateral (select max(p.proven_at) as at from backups b
                    join backup_proofs p on p.backup_id = b.id and p.holds and p.level in ('files', 'boots')
                    where b.device_id = d.id and b.gone_at is null) proof on true
               where d.state <> 'retired' and d.card_state = 'verified'"#
        );
        let bytes = bytes.fetch_one(&self.pool).await?;
        Ok(Figures {
            jobs: jobs.fetch_all(&self.pool).await?,
            cards: cards.fetch_all(&self.pool).await?,
            devices: devices.fetch_all(&self.pool).await?,
            written: bytes.written,
            verified: bytes.verified,
            backups: backups.fetch_one(&self.pool).await?,
            unproven_since: waits.fetch_one(&self.pool).await?,
        })
    }
}
