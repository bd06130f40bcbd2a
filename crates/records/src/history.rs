//! What people asked for: who, from where, when, what. Rows are chained by digests that the caller makes, under a key
//! that is not in the database.

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// Serialises additions, so that each row covers the one before it.
const LOCK: i64 = 0x6475_7068;

/// Something that was asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Act {
    /// Number; one after the other, without a gap.
    pub id: i64,
    /// When.
    pub at: OffsetDateTime,
    /// Who.
    pub who: String,
    /// The role that they had then.
    pub role: String,
    /// How they were known: `session`, `token`, `station`, `loopback`, or `nobody`.
    pub how: String,
    /// Address that they asked from.
    pub origin: String,
    /// What was asked, in words.
    pub act: String,
    /// The path that was asked.
    pub target: String,
    /// What the request named.
    pub about: String,
    /// Number of the request.
    pub request: String,
    /// Covers all of the above and the digest of the row before.
    pub digest: Vec<u8>,
    /// HTTP status of the answer, once there was one.
    pub status: Option<i32>,
    /// Covers `digest` and `status`.
    pub status_digest: Option<Vec<u8>>,
}

/// Where the chain ends.
#[derive(Clone, Debug)]
pub struct Head {
    /// Number of the newest row.
    pub id: i64,
    /// Its digest.
    pub digest: Vec<u8>,
    /// Covers both.
    pub seal: Vec<u8>,
}

/// Which acts are asked for.
#[derive(Clone, Debug, Default)]
pub struct Asked {
    /// Those of one person.
    pub who: Option<String>,
    /// Those since a moment.
    pub since: Option<OffsetDateTime>,
    /// Those before a moment.
    pub until: Option<OffsetDateTime>,
    /// Those that have these letters in what they were about.
    pub search: Option<String>,
}

impl Records {
    /// Adds an act behind the newest one. `chain` makes its digest, from the act and the digest before it; `seal` that
    /// of the new end.
    pub async fn begin_act(
        &self,
        mut act: Act,
        chain: impl Fn(&Act, &[u8]) -> Vec<u8>,
        seal: impl Fn(i64, &[u8]) -> Vec<u8>,
    ) -> Result<i64, RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!("select pg_advisory_xact_lock($1)", LOCK)
            .execute(&mut *tx)
            .await?;
        let head = sqlx::query_as!(Head, "select id, digest, seal from history_head");
        let (last, before) = match head.fetch_optional(&mut *tx).await? {
            Some(head) => (head.id, head.digest),
            None => (0, Vec::new()),
        };
        act.id = last + 1;
        act.digest = chain(&act, &before);
        sqlx::query!(
            "insert into history (id, at, who, role, how, origin, act, target, about, request, digest)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)",
            act.id,
            act.at,
            act.who,
            act.role,
            act.how,
            act.origin,
            act.act,
            act.target,
            act.about,
            act.request,
            act.digest
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "insert into history_head (id, digest, seal) values ($1, $2, $3)
             on conflict (single) do update set id = $1, digest = $2, seal = $3",
            act.id,
            act.digest,
            seal(act.id, &act.digest)
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(act.id)
    }

    /// Says how an act was answered, once. `cover` makes the digest, from the act's own.
    pub async fn end_act(
        &self,
        id: i64,
        status: i32,
        cover: impl Fn(&[u8]) -> Vec<u8>,
    ) -> Result<(), RecordError> {
        let digest = sqlx::query_scalar!("select digest from history where id = $1", id);
        let Some(digest) = digest.fetch_optional(&self.pool).await? else {
            return Ok(());
        };
        sqlx::query!(
            "update history set status = $2, status_digest = $3 where id = $1 and status is null",
            id,
            status,
            cover(&digest)
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// A page of what was asked for, newest first, before a number.
    pub async fn acts(
        &self,
        asked: &Asked,
        before: Option<i64>,
        most: i64,
    ) -> Result<Vec<Act>, RecordError> {
        let search = asked.search.as_deref().map(str::to_lowercase);
        let rows = sqlx::query_as!(
            Act,
            "select * from history
             where ($1::bigint is null or id < $1) and ($2::text is null or lower(who) = lower($2))
               and ($3::timestamptz is null or at >= $3) and ($4::timestamptz is null or at < $4)
               and ($5::text is null or strpos(lower(concat_ws(' ', act, target, about, who)), $5) > 0)
             order by id desc limit $6",
            before,
            asked.who,
            asked.since,
            asked.until,
            search,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// What was asked for behind a number, oldest first.
    pub async fn acts_after(&self, id: i64, most: i64) -> Result<Vec<Act>, RecordError> {
        let rows = sqlx::query_as!(
            Act,
            "select * from history where id > $1 order by id limit $2",
            id,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Where the chain ends; `None` where nothing was asked for yet.
    pub async fn history_head(&self) -> Result<Option<Head>, RecordError> {
        let head = sqlx::query_as!(Head, "select id, digest, seal from history_head");
        Ok(head.fetch_optional(&self.pool).await?)
    }
}
