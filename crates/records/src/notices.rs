//! Who is told when something needs a person, and what was told.

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// A way in which somebody is told.
#[derive(Clone, Debug)]
pub struct Way {
    /// Number.
    pub id: i64,
    /// What it is called.
    pub name: String,
    /// `mail` or `call`.
    pub kind: String,
    /// An address of mail, or an URL.
    pub target: String,
    /// What is told; nothing here: everything.
    pub about: Vec<String>,
    /// Sealed, what calls are signed with.
    pub secret: Option<Vec<u8>>,
    /// Who added it.
    pub added_by: String,
    /// When.
    pub added_at: OffsetDateTime,
}

/// Something to be told.
#[derive(Clone, Debug)]
pub struct Matter {
    /// The same matter is told once.
    pub key: String,
    /// What kind it is.
    pub kind: String,
    /// What it is about.
    pub about: String,
    /// What it is, for people.
    pub words: String,
    /// Since when.
    pub since: OffsetDateTime,
}

/// Something that is or was told.
#[derive(Clone, Debug)]
pub struct Notice {
    /// Number.
    pub id: i64,
    /// The way, by its number.
    pub way_id: i64,
    /// The way, by its name.
    pub way: String,
    /// What kind it is.
    pub kind: String,
    /// What it is about.
    pub about: String,
    /// What it is, for people.
    pub words: String,
    /// Since when.
    pub since: OffsetDateTime,
    /// When it was noticed.
    pub queued_at: OffsetDateTime,
    /// How often it was tried to tell it.
    pub tries: i32,
    /// When it was told.
    pub sent_at: Option<OffsetDateTime>,
    /// When that was given up.
    pub given_up_at: Option<OffsetDateTime>,
    /// Why it could not be told the last time.
    pub trouble: Option<String>,
}

impl Records {
    /// The ways, by name.
    pub async fn notice_ways(&self) -> Result<Vec<Way>, RecordError> {
        let rows = sqlx::query_as!(
            Way,
            "select id, name, kind, target, about, secret, added_by, added_at from notice_ways
             where removed_at is null order by lower(name)"
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Adds a way.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] for a second one of a name.
    pub async fn add_notice_way(&self, way: &Way) -> Result<(), RecordError> {
        let taken = format!("there is a way of the name {:?} already", way.name);
        let added = sqlx::query!(
            "insert into notice_ways (name, kind, target, about, secret, added_by) values ($1, $2, $3, $4, $5, $6)",
            way.name,
            way.kind,
            way.target,
            &way.about,
            way.secret,
            way.added_by
        )
        .execute(&self.pool)
        .await;
        added.map_err(|e| RecordError::explain(e, &[("notice_ways_names", taken)]))?;
        Ok(())
    }

    /// Removes a way; what was to be told by it is not told any more.
    ///
    /// # Errors
    /// [`RecordError::Unknown`].
    pub async fn remove_notice_way(&self, name: &str) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let removed = sqlx::query_scalar!(
            "update notice_ways set removed_at = now() where lower(name) = lower($1) and removed_at is null returning id",
            name
        )
        .fetch_optional(&mut *tx)
        .await?;
        let id = removed.ok_or_else(|| RecordError::unknown("way", name))?;
        sqlx::query!(
            "update notices set given_up_at = now() where way_id = $1 and sent_at is null and given_up_at is null",
            id
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// Queues matters for every way that tells of their kind, each once.
    pub async fn queue_notices(&self, matters: &[Matter]) -> Result<u64, RecordError> {
        let of = |part: fn(&Matter) -> &String| -> Vec<String> {
            matters.iter().map(|matter| part(matter).clone()).collect()
        };
        let since: Vec<_> = matters.iter().map(|matter| matter.since).collect();
        let queued = sqlx::query!(
            "insert into notices (way_id, key, kind, about, words, since)
             select w.id, m.key, m.kind, m.about, m.words, m.since
             from unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::timestamptz[]) m (key, kind, about, words, since),
               notice_ways w
             where w.removed_at is null and (cardinality(w.about) = 0 or m.kind = any(w.about))
             on conflict (way_id, key) do nothing",
            &of(|matter| &matter.key),
            &of(|matter| &matter.kind),
            &of(|matter| &matter.about),
            &of(|matter| &matter.words),
            &since
        )
        .execute(&self.pool)
        .await?;
        Ok(queued.rows_affected())
    }

    /// What is to be told now, by way and in order.
    pub async fn due_notices(&self, most: i64) -> Result<Vec<Notice>, RecordError> {
        let rows = sqlx::query_as!(
            Notice,
            "select n.id, n.way_id, w.name as way, n.kind, n.about, n.words, n.since, n.queued_at, n.tries, n.sent_at,
               n.given_up_at, n.trouble
             from notices n join notice_ways w on w.id = n.way_id
             where n.sent_at is null and n.given_up_at is null and n.next_at <= now()
             order by n.way_id, n.id limit $1",
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The newest notices, newest first.
    pub async fn notices(&self, most: i64) -> Result<Vec<Notice>, RecordError> {
        let rows = sqlx::query_as!(
            Notice,
            "select n.id, n.way_id, w.name as way, n.kind, n.about, n.words, n.since, n.queued_at, n.tries, n.sent_at,
               n.given_up_at, n.trouble
             from notices n join notice_ways w on w.id = n.way_id order by n.id desc limit $1",
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Notes that these were told.
    pub async fn notices_told(&self, ids: &[i64]) -> Result<(), RecordError> {
        sqlx::query!(
            "update notices set sent_at = now(), tries = tries + 1, trouble = null where id = any($1)",
            ids
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Notes that these could not be told: they are tried again after a while that grows, and given up in the end.
    /// Gives how many were.
    pub async fn notices_not_told(
        &self,
        ids: &[i64],
        trouble: &str,
        wait: f64,
        give_up: f64,
    ) -> Result<u64, RecordError> {
        let given_up = sqlx::query_scalar!(
            r#"with tried as (
                 update notices set tries = tries + 1, trouble = $2,
                   next_at = now() + make_interval(secs => $3),
                   given_up_at = case when queued_at < now() - make_interval(secs => $4) then now() end
                 where id = any($1) returning given_up_at)
               select count(*) filter (where given_up_at is not null) as "count!" from tried"#,
            ids,
            trouble,
            wait,
            give_up
        );
        Ok(given_up.fetch_one(&self.pool).await? as u64)
    }

    /// What came to a bad end in the last day: jobs, and cards that are mistrusted.
    pub async fn failures_to_tell(&self) -> Result<Vec<Matter>, RecordError> {
        let rows = sqlx::query!(
            r#"select 'job ' || id as "key!", 'job-failed' as "kind!", 'job ' || id as "about!",
                 'job ' || id || ' (' || kind || ', ' || subject || ') ' ||
                 case when state = 'failed' then 'failed' else 'was interrupted' end ||
                 coalesce(': ' || error, '') as "words!", finished_at as "since!"
               from jobs where state in ('failed', 'interrupted') and finished_at > now() - interval '1 day'"#
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let matters = rows.map(|row| Matter {
            key: row.key,
            kind: row.kind,
            about: row.about,
            words: row.words,
            since: row.since,
        });
        Ok(matters.collect())
    }
}
