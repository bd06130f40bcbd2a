//! What requests show instead of passwords: sessions of browsers, tokens of programs, stations. Only digests are kept.

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// Sessions that one person has at once at most; the longest unused ones end.
const MOST_SESSIONS: i64 = 20;

/// A pass as it is listed.
#[derive(Clone, Debug)]
pub struct Pass {
    /// Number.
    pub id: i64,
    /// `session`, `token` or `station`.
    pub kind: String,
    /// Whose it is; `None` for a station.
    pub person: Option<String>,
    /// What its owner calls it.
    pub name: String,
    /// The most that may be done with it.
    pub role: String,
    /// When it was made.
    pub made_at: OffsetDateTime,
    /// When it was last used.
    pub used_at: OffsetDateTime,
    /// From which address.
    pub used_from: String,
    /// When it ends by itself.
    pub expires_at: OffsetDateTime,
    /// Who acts at a station now.
    pub acting: Option<String>,
    /// Role of the person whose it is, or who acts with it.
    pub person_role: Option<String>,
}

/// A new pass.
#[derive(Clone, Debug)]
pub struct NewPass<'a> {
    /// Digest of what is shown.
    pub digest: &'a [u8],
    /// `session`, `token` or `station`.
    pub kind: &'a str,
    /// Whose it is.
    pub person: Option<i64>,
    /// What it is called.
    pub name: &'a str,
    /// The most that may be done with it.
    pub role: &'a str,
    /// Who made it.
    pub by: &'a str,
    /// From which address.
    pub from: &'a str,
    /// When it ends by itself.
    pub until: OffsetDateTime,
    /// Whether it was opened with the password.
    pub by_password: bool,
}

/// What a shown pass stands for.
#[derive(Clone, Debug)]
pub struct Shown {
    /// Number of the pass.
    pub id: i64,
    /// `session`, `token` or `station`.
    pub kind: String,
    /// What it is called.
    pub name: String,
    /// The most that may be done with it.
    pub role: String,
    /// When what is shown was last changed.
    pub changed_at: OffsetDateTime,
    /// When it was last used, as far as that was recorded.
    pub used_at: OffsetDateTime,
    /// Whether it was opened with the password.
    pub by_password: bool,
    /// Whose it is: number, name, role.
    pub person_id: Option<i64>,
    /// Their name.
    pub person: Option<String>,
    /// Their role now.
    pub person_role: Option<String>,
    /// Who acts at a station, likewise.
    pub acting_id: Option<i64>,
    /// Their name.
    pub acting: Option<String>,
    /// Their role now.
    pub acting_role: Option<String>,
}

impl Records {
    /// Makes a pass.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] for a second station of a name.
    pub async fn add_pass(&self, new: NewPass<'_>) -> Result<i64, RecordError> {
        let taken = format!("there is a station of the name {:?} already", new.name);
        let mut tx = self.pool.begin().await?;
        let id = sqlx::query_scalar!(
            "insert into passes (digest, kind, person_id, name, role, made_by, used_from, expires_at, password_at)
             values ($1, $2, $3, $4, $5, $6, $7, $8, case when $9 then now() end) returning id",
            new.digest,
            new.kind,
            new.person,
            new.name,
            new.role,
            new.by,
            new.from,
            new.until,
            new.by_password
        );
        let id = id.fetch_one(&mut *tx).await;
        let id = id.map_err(|e| RecordError::explain(e, &[("passes_stations", taken)]))?;
        sqlx::query!(
            "update passes set ended_at = now() where id in
               (select id from passes where person_id = $1 and kind = 'session' and ended_at is null
                order by used_at desc, id desc offset $2)",
            new.person,
            MOST_SESSIONS
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(id)
    }

    /// What a pass stands for, if it is good now.
    pub async fn pass(&self, digest: &[u8]) -> Result<Option<Shown>, RecordError> {
        let row = sqlx::query_as!(
            Shown,
            r#"select p.id, p.kind, p.name, p.role, p.changed_at, p.used_at, p.password_at is not null as "by_password!",
                 x.id as "person_id?", x.name as "person?", x.role as "person_role?",
                 a.id as "acting_id?", a.name as "acting?", a.role as "acting_role?"
               from passes p
               left join people x on x.id = p.person_id and x.left_at is null
               left join people a on a.id = p.acting_id and a.left_at is null and p.acting_until > now()
               where (p.digest = $1 or (p.former = $1 and p.former_until > now()))
                 and p.ended_at is null and p.expires_at > now() and (p.person_id is null or x.id is not null)"#,
            digest
        );
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Notes that a pass was used, and puts the end of a session off.
    pub async fn pass_used(
        &self,
        id: i64,
        from: &str,
        until: Option<OffsetDateTime>,
    ) -> Result<(), RecordError> {
        sqlx::query!(
            "update passes set used_at = now(), used_from = $2, expires_at = coalesce($3, expires_at) where id = $1",
            id,
            from,
            until
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Changes what a session shows, once for all who would do so at the same time; `false` where it was just changed.
    /// What it showed before is good for a minute longer.
    pub async fn change_pass(
        &self,
        id: i64,
        digest: &[u8],
        seen: OffsetDateTime,
    ) -> Result<bool, RecordError> {
        let changed = sqlx::query!(
            "update passes set former = digest, former_until = now() + interval '1 minute', digest = $2, changed_at = now()
             where id = $1 and changed_at = $3",
            id,
            digest,
            seen
        );
        Ok(changed.execute(&self.pool).await?.rows_affected() == 1)
    }

    /// The passes of a person, or all, that are good now; the last used first.
    pub async fn passes(&self, person: Option<i64>) -> Result<Vec<Pass>, RecordError> {
        let rows = sqlx::query_as!(
            Pass,
            r#"select p.id, p.kind, x.name as "person?", p.name, p.role, p.made_at, p.used_at, p.used_from, p.expires_at,
                 a.name as "acting?", coalesce(a.role, x.role) as person_role
               from passes p
               left join people x on x.id = p.person_id
               left join people a on a.id = p.acting_id and p.acting_until > now()
               where p.ended_at is null and p.expires_at > now() and ($1::bigint is null or p.person_id = $1)
               order by p.used_at desc, p.id desc limit 500"#,
            person
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Ends a pass, of a person if one is given; gives its kind and name.
    ///
    /// # Errors
    /// [`RecordError::Unknown`].
    pub async fn end_pass(
        &self,
        id: i64,
        person: Option<i64>,
    ) -> Result<(String, String), RecordError> {
        let row = sqlx::query!(
            "update passes set ended_at = now()
             where id = $1 and ended_at is null and ($2::bigint is null or person_id = $2) returning kind, name",
            id,
            person
        );
        let row = row.fetch_optional(&self.pool).await?;
        let row = row.ok_or_else(|| RecordError::unknown("pass", id.to_string()))?;
        Ok((row.kind, row.name))
    }

    /// Somebody acts at a station until a moment; `None`: nobody does any more.
    pub async fn act_at(
        &self,
        station: i64,
        person: Option<i64>,
        until: OffsetDateTime,
    ) -> Result<(), RecordError> {
        sqlx::query!(
            "update passes set acting_id = $2, acting_until = $3 where id = $1 and kind = 'station'",
            station,
            person,
            until
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Counts a try before it is known to be wrong, under each of these keys, unless one of them has to wait: `wait` tells of a
    /// place in the list, the wrong tries there and the seconds since the last. Many at once are counted one after the other.
    ///
    /// Each key goes with the seconds for which a try counts.
    pub async fn begin_try<W>(
        &self,
        keys: &[(String, f64)],
        wait: impl Fn(usize, i32, f64) -> Option<W>,
    ) -> Result<Result<(), W>, RecordError> {
        let mut order: Vec<_> = (0..keys.len()).collect();
        order.sort_by(|a, b| keys[*a].0.cmp(&keys[*b].0));
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "delete from tries where key in (select key from tries where until < now() limit 200 for update skip locked)"
        )
        .execute(&mut *tx)
        .await?;
        // In one order, so that two who count the same never wait for each other.
        for place in &order {
            let (key, kept) = &keys[*place];
            let found = sqlx::query!(
                r#"insert into tries (key, wrong, last_at, until)
                   values ($1, 0, clock_timestamp(), clock_timestamp() + make_interval(secs => $2))
                   on conflict (key) do update set wrong = case when tries.until < clock_timestamp() then 0 else tries.wrong end
                   returning wrong, extract(epoch from clock_timestamp() - last_at)::float8 as "ago!""#,
                key,
                kept
            );
            let found = found.fetch_one(&mut *tx).await?;
            if let Some(wait) = wait(*place, found.wrong, found.ago) {
                return Ok(Err(wait));
            }
        }
        for place in &order {
            let (key, kept) = &keys[*place];
            sqlx::query!(
                "update tries set wrong = least(wrong, 1000000) + 1, last_at = clock_timestamp(),
                   until = clock_timestamp() + make_interval(secs => $2) where key = $1",
                key,
                kept
            )
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok(Ok(()))
    }

    /// A try that was counted was right: it counts no more, and what begins `anew` then is forgotten.
    pub async fn tried_rightly(&self, keys: &[String], anew: &[String]) -> Result<(), RecordError> {
        sqlx::query!(
            "update tries set wrong = case when key = any($2) then 0 else greatest(wrong - 1, 0) end
             where key in (select key from tries where key = any($1) or key = any($2) order by key for update)",
            keys,
            anew
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Addresses from which somebody was signed in with the password in the last months, the newest first.
    pub async fn places_of(&self, person: i64) -> Result<Vec<String>, RecordError> {
        let rows = sqlx::query_scalar!(
            "select used_from from passes where person_id = $1 and password_at is not null
               and used_at > now() - interval '90 days' group by used_from order by max(used_at) desc limit 50",
            person
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}
