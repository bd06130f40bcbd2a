//! Backups: cards read into the vault.

use std::collections::HashSet;

use serde::{Deserialize, Serialize};
use time::{Date, OffsetDateTime};

use crate::jobs::{self, Ending};
use crate::lists::{self, Asked, List, Page, anywhere};
use crate::{RecordError, Records, events};

/// A backup that was read and verified and is about to be recorded.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct NewBackup {
    /// Name, made by the service.
    pub name: String,
    /// Label of the card that was read; none of a disk image that was brought in.
    pub card: Option<String>,
    /// Device whose card it is.
    pub device: Option<String>,
    /// Imprint that the card carries.
    pub imprint: Option<i64>,
    /// Job that read it.
    pub job: Option<i64>,
    /// Size of the card in bytes.
    pub card_size: i64,
    /// Bytes that were read.
    pub content: i64,
    /// Fewest bytes that a card must hold, its last file system shrunk where that can be.
    pub smallest_card: i64,
    /// Fewest bytes that a card must hold for it as it is.
    #[serde(default)]
    pub whole_card: i64,
    /// What was noteworthy about the card when it was read, as JSON: a list of sentences.
    #[serde(default)]
    pub remarks: serde_json::Value,
    /// Which partition table.
    pub table_kind: String,
    /// Partitions as JSON.
    pub partitions: serde_json::Value,
    /// Name of the content's manifest.
    pub manifest: Vec<u8>,
    /// Bytes that it added to the vault.
    pub stored: i64,
    /// How it was verified.
    pub verified: String,
    /// Slot that the card was in.
    pub slot: String,
    /// Insertion that it was read in.
    pub insertion: i64,
    /// Which start of the reader's computer counted it.
    pub boot: String,
    /// Who took it.
    pub taken_by: String,
    /// Why it was taken.
    #[serde(default)]
    pub reason: String,
    /// When, if not now.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub taken_at: Option<OffsetDateTime>,
}

/// A recorded backup.
#[derive(Clone, Debug, sqlx::FromRow)]
#[allow(missing_docs)] // as in NewBackup
pub struct Backup {
    pub id: i64,
    pub name: String,
    pub card: Option<String>,
    pub device: Option<String>,
    pub imprint_id: Option<i64>,
    pub job_id: Option<i64>,
    pub card_size: i64,
    pub content: i64,
    pub smallest_card: i64,
    pub whole_card: i64,
    pub remarks: serde_json::Value,
    pub table_kind: String,
    pub partitions: serde_json::Value,
    pub manifest: Vec<u8>,
    pub stored: i64,
    pub verified: String,
    pub slot: String,
    pub reader: Option<String>,
    pub unit: Option<i32>,
    pub insertion: i64,
    pub boot: String,
    pub taken_by: String,
    pub taken_at: OffsetDateTime,
    pub reason: String,
    /// Whether it stays whatever the keep rules say.
    pub pinned: bool,
    /// When its content was let go.
    pub gone_at: Option<OffsetDateTime>,
    pub gone_by: Option<String>,
    pub gone_why: Option<String>,
    /// The newest proof of each level.
    pub proofs: serde_json::Value,
    /// Pieces of its content that are missing in the vault or damaged, where that is known.
    pub damage: Option<i64>,
    /// Since when that is known.
    pub damaged_at: Option<OffsetDateTime>,
}

impl From<&Backup> for NewBackup {
    /// What was recorded of it when it was taken, with what was said of it since.
    fn from(row: &Backup) -> Self {
        Self {
            name: row.name.clone(),
            card: row.card.clone(),
            device: row.device.clone(),
            imprint: row.imprint_id,
            job: row.job_id,
            card_size: row.card_size,
            content: row.content,
            smallest_card: row.smallest_card,
            whole_card: row.whole_card,
            remarks: row.remarks.clone(),
            table_kind: row.table_kind.clone(),
            partitions: row.partitions.clone(),
            manifest: row.manifest.clone(),
            stored: row.stored,
            verified: row.verified.clone(),
            slot: row.slot.clone(),
            insertion: row.insertion,
            boot: row.boot.clone(),
            taken_by: row.taken_by.clone(),
            reason: row.reason.clone(),
            taken_at: Some(row.taken_at),
        }
    }
}

/// A proof of a backup as it stands in [`Backup::proofs`].
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Proof {
    /// `bytes`, `file-systems`, `files` or `boots`.
    pub level: String,
    /// Whether it holds.
    pub holds: bool,
    /// What was seen.
    pub words: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who had it proven.
    pub by: String,
}

/// Which backups are asked for: those that all of it holds of.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// A text anywhere in its name or reason, or in what its card or device is found by.
    pub search: Option<String>,
    /// Label of the card that was read.
    pub card: Option<String>,
    /// Name of the device whose card it was.
    pub device: Option<String>,
    /// Those too whose content was let go.
    pub gone_too: bool,
}

/// What is read of a backup, from [`FROM`].
const COLUMNS: &str = "b.id, b.name, c.label as card, d.name as device, b.imprint_id, b.job_id, b.card_size,
    b.content, b.smallest_card, b.whole_card, b.remarks, b.table_kind, b.partitions, b.manifest, b.stored, b.verified, b.slot,
    j.reader, j.unit, b.insertion, b.boot, b.taken_by, b.taken_at, b.reason, b.pinned, b.gone_at, b.gone_by,
    b.gone_why, (select coalesce(jsonb_agg(p order by p.level), '[]') from (
        select distinct on (level) level, holds, words, proven_by as by,
            to_char(proven_at at time zone 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"') as at
        from backup_proofs where backup_id = b.id order by level, id desc) p) as proofs,
    x.pieces as damage, x.found_at as damaged_at";

const FROM: &str = "backups b left join cards c on c.id = b.card_id left join jobs j on j.id = b.job_id left join devices d on d.id = b.device_id
    left join content_damage x on x.manifest = b.manifest";

const LIST: List = List {
    noun: "backups",
    columns: COLUMNS,
    from: FROM,
    id: "b.id",
    orders: &[
        lists::newest("newest", "b.id"),
        lists::text("name", "b.name"),
        lists::text("device", "coalesce(d.name, '')"),
        lists::number("card", "coalesce(c.id, 0)"),
    ],
};

impl Wanted {
    fn push(&self, query: &mut sqlx::QueryBuilder<sqlx::Postgres>) {
        if let Some(text) = self
            .search
            .as_deref()
            .filter(|text| !text.trim().is_empty())
        {
            let text = anywhere(&text.to_lowercase());
            query.push(
                " and b.id in (select id from backups where lower(name || ' ' || reason) like ",
            );
            query.push_bind(text.clone());
            query.push(
                " union all select x.id from cards w join backups x on x.card_id = w.id where w.words like ",
            );
            query.push_bind(text.clone());
            query.push(
                " union all select x.id from devices w join backups x on x.device_id = w.id where w.words like ",
            );
            query.push_bind(text).push(")");
        }
        if !self.gone_too {
            query.push(" and b.gone_at is null");
        }
        lists::equal(query, &[("c.label", &self.card), ("d.name", &self.device)]);
    }
}

/// Notes in the vault that were written before there were remarks have none.
fn list_or_empty(remarks: &serde_json::Value) -> serde_json::Value {
    match remarks {
        serde_json::Value::Array(_) => remarks.clone(),
        _ => serde_json::Value::Array(Vec::new()),
    }
}

/// Puts a backup into the records; what it refers to and is not known here is left out.
async fn insert(tx: &mut sqlx::PgConnection, new: &NewBackup) -> Result<i64, RecordError> {
    let taken = format!("there is a backup {:?} already", new.name);
    let id = sqlx::query_scalar!(
        "insert into backups (name, card_id, device_id, imprint_id, job_id, card_size, content, smallest_card,
            table_kind, partitions, manifest, stored, verified, slot, insertion, boot, taken_by, reason, taken_at,
            whole_card, remarks)
         values ($1, (select id from cards where label = $2), (select id from devices where name = $3),
            (select id from imprints where id = $4), (select id from jobs where id = $5), $6, $7, $8, $9, $10, $11,
            $12, $13, $14, $15, $16, $17, $18, coalesce($19, now()),
            $20, $21)
         returning id",
        new.name,
        new.card,
        new.device,
        new.imprint,
        new.job,
        new.card_size,
        new.content,
        new.smallest_card,
        new.table_kind,
        new.partitions,
        new.manifest,
        new.stored,
        new.verified,
        new.slot,
        new.insertion,
        new.boot,
        new.taken_by,
        new.reason,
        new.taken_at,
        new.whole_card.max(new.smallest_card),
        list_or_empty(&new.remarks)
    )
    .fetch_one(tx)
    .await
    .map_err(|e| RecordError::explain(e, &[("backups_name_key", taken)]))?;
    Ok(id)
}

impl Records {
    /// The backup that an imprint was restored from, and when that was taken; nothing where it was made of a release,
    /// or the backup's content was deleted.
    pub async fn restored_from(
        &self,
        imprint: i64,
    ) -> Result<Option<(String, OffsetDateTime)>, RecordError> {
        let row = sqlx::query!(
            "select b.name, b.taken_at from imprints i join backups b on b.id = i.backup_id
             where i.id = $1 and b.gone_at is null",
            imprint
        );
        let row = row.fetch_optional(&self.pool).await?;
        Ok(row.map(|row| (row.name, row.taken_at)))
    }

    /// Records a backup and the end of the job that took it.
    pub async fn add_backup(
        &self,
        new: &NewBackup,
        summary: &str,
        ending: &Ending,
    ) -> Result<i64, RecordError> {
        let mut tx = self.pool.begin().await?;
        let id = insert(&mut tx, new).await?;
        events::add(&mut tx, &new.taken_by, "backup.taken", &new.name, summary).await?;
        jobs::end(&mut tx, ending).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Records a backup that the vault tells of and these records did not know. What it refers to and is not known
    /// here is left out.
    pub async fn found_backup(&self, new: &NewBackup, operator: &str) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        insert(&mut tx, new).await?;
        let summary = format!("Backup {} was found in the vault", new.name);
        events::add(&mut tx, operator, "backup.found", &new.name, &summary).await?;
        Ok(tx.commit().await?)
    }

    /// One page of the backups that are wanted, newest first.
    pub async fn backup_page(
        &self,
        wanted: &Wanted,
        asked: &Asked,
    ) -> Result<Page<Backup>, RecordError> {
        LIST.page(&self.pool, asked, &|query| wanted.push(query))
            .await
    }

    /// One backup by name or number.
    pub async fn backup(&self, name: &str) -> Result<Backup, RecordError> {
        let query = format!("select {COLUMNS} from {FROM} where b.name = $1 or b.id = $2");
        sqlx::query_as(sqlx::AssertSqlSafe(query))
            .bind(name)
            .bind(name.parse::<i64>().ok())
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("backup", name))
    }

    /// Names of backups that begin like this.
    pub async fn backups_named_like(&self, start: &str) -> Result<Vec<String>, RecordError> {
        let rows = sqlx::query_scalar!(
            "select name from backups where starts_with(name, $1)",
            start
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The newest backup of what is on a card: of this imprint, or, of a card that carries none,
    /// of what was there.
    pub async fn last_backup(
        &self,
        card: i64,
        imprint: Option<i64>,
    ) -> Result<Option<(String, OffsetDateTime)>, RecordError> {
        let row = sqlx::query!(
            "select name, taken_at from backups where card_id = $1 and imprint_id is not distinct from $2 and gone_at is null
             order by id desc limit 1",
            card,
            imprint
        );
        Ok(row
            .fetch_optional(&self.pool)
            .await?
            .map(|row| (row.name, row.taken_at)))
    }

    /// The newest content of which a card's may be a change: what was written onto it, or the newest backup of its
    /// device.
    pub async fn content_like(
        &self,
        imprint: Option<i64>,
        device: Option<&str>,
    ) -> Result<Option<Vec<u8>>, RecordError> {
        let row = sqlx::query_scalar!(
            r#"select coalesce(
                (select b.manifest from backups b join devices d on d.id = b.device_id
                    where d.name = $2 and b.gone_at is null order by b.id desc limit 1),
                (select manifest from imprints where id = $1)) as "manifest""#,
            imprint,
            device
        );
        Ok(row.fetch_one(&self.pool).await?)
    }

    /// Says of whose device a backup is, or that it is nobody's.
    pub async fn assign_backup(
        &self,
        id: i64,
        device: Option<i64>,
        operator: &str,
        summary: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let row = sqlx::query_scalar!(
            "update backups set device_id = $2 where id = $1 returning name",
            id,
            device
        );
        let name = row.fetch_one(&mut *tx).await?;
        events::add(&mut tx, operator, "backup.assigned", &name, summary).await?;
        Ok(tx.commit().await?)
    }

    /// Says why a backup was taken, and whether it stays whatever the keep rules say.
    pub async fn tell_backup(
        &self,
        id: i64,
        reason: Option<&str>,
        pinned: Option<bool>,
    ) -> Result<(), RecordError> {
        sqlx::query!(
            "update backups set reason = coalesce($2, reason), pinned = coalesce($3, pinned) where id = $1",
            id,
            reason,
            pinned
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Lets the content of backups go, those that are not pinned; gives the names of those that went. Their rows stay,
    /// with the moment, as [`Records::begin_keeping`] relies on it.
    pub async fn let_backups_go(
        &self,
        ids: &[i64],
        operator: &str,
        why: &str,
    ) -> Result<Vec<String>, RecordError> {
        let mut tx = self.pool.begin().await?;
        let names = sqlx::query_scalar!(
            "update backups set gone_at = clock_timestamp(), gone_by = $2, gone_why = $3
             where id = any($1) and gone_at is null and not pinned returning name",
            ids,
            operator,
            why
        )
        .fetch_all(&mut *tx)
        .await?;
        for name in &names {
            let summary = format!("The content of backup {name} was let go: {why}");
            events::add(&mut tx, operator, "backup.gone", name, &summary).await?;
        }
        tx.commit().await?;
        Ok(names)
    }

    /// The backups of a device that are there, or those of no device, newest first.
    pub async fn backups_of(&self, device: Option<i64>) -> Result<Vec<Backup>, RecordError> {
        let query = format!(
            "select {COLUMNS} from {FROM} where b.device_id is not distinct from $1 and b.gone_at is null
             order by b.taken_at desc, b.id desc"
        );
        let rows = sqlx::query_as(sqlx::AssertSqlSafe(query)).bind(device);
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// All backups that are there, newest first.
    pub async fn backups_there(&self) -> Result<Vec<Backup>, RecordError> {
        let query = format!(
            "select {COLUMNS} from {FROM} where b.gone_at is null order by b.taken_at desc, b.id desc"
        );
        let rows = sqlx::query_as(sqlx::AssertSqlSafe(query));
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Keeps what was shown of a backup.
    pub async fn add_proof(
        &self,
        backup: i64,
        level: &str,
        holds: bool,
        words: &str,
        operator: &str,
    ) -> Result<(), RecordError> {
        sqlx::query!(
            "insert into backup_proofs (backup_id, level, holds, words, proven_by) values ($1, $2, $3, $4, $5)",
            backup,
            level,
            holds,
            words,
            operator
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Backups that are the newest of their device and of which nothing was shown since a moment, those that wait
    /// longest first.
    pub async fn unproven_backups(
        &self,
        since: OffsetDateTime,
        most: i64,
    ) -> Result<Vec<Backup>, RecordError> {
        let query = format!(
            "select {COLUMNS} from {FROM} where b.id in (
                select distinct on (device_id) id from backups where gone_at is null and device_id is not null
                order by device_id, id desc)
              and not exists (select 1 from backup_proofs p where p.backup_id = b.id and p.proven_at > $1)
             order by (select max(proven_at) from backup_proofs p where p.backup_id = b.id) nulls first, b.id limit $2"
        );
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(query))
            .bind(since)
            .bind(most)
            .fetch_all(&self.pool)
            .await?)
    }

    /// Backups that are there and of which something speaks against a restore: pieces are missing, or a proof does not
    /// hold; and whether each is the newest one of its device. The oldest trouble first, 200 at most.
    pub async fn doubtful_backups(&self) -> Result<Vec<(Backup, bool)>, RecordError> {
        let query = format!(
            "select {COLUMNS} from {FROM} where b.gone_at is null and (d.state is null or d.state <> 'retired')
               and (x.manifest is not null or exists (select 1 from (select distinct on (level) holds from backup_proofs
                    where backup_id = b.id order by level, id desc) p where not p.holds))
             order by b.id desc limit 200"
        );
        let found: Vec<Backup> = sqlx::query_as(sqlx::AssertSqlSafe(query))
            .fetch_all(&self.pool)
            .await?;
        let ids: Vec<i64> = found.iter().map(|backup| backup.id).collect();
        let newest = sqlx::query_scalar!(
            r#"select id from backups b where id = any($1) and device_id is not null and not exists (
                select 1 from backups n where n.device_id = b.device_id and n.gone_at is null and n.id > b.id)"#,
            &ids
        );
        let newest: HashSet<i64> = newest.fetch_all(&self.pool).await?.into_iter().collect();
        let told = found.into_iter().map(|backup| {
            let is_newest = newest.contains(&backup.id);
            (backup, is_newest)
        });
        Ok(told.collect())
    }

    /// The days on which moments are in a time zone, in their order.
    ///
    /// # Errors
    /// Of a zone that the database does not know.
    pub async fn days_in(
        &self,
        zone: &str,
        moments: &[OffsetDateTime],
    ) -> Result<Vec<Date>, RecordError> {
        let rows = sqlx::query_scalar!(
            r#"select (m.at at time zone $1)::date as "day!" from unnest($2::timestamptz[]) with ordinality as m (at, n)
               order by m.n"#,
            zone,
            moments
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Whether the database knows a time zone of this name.
    pub async fn knows_zone(&self, zone: &str) -> Result<bool, RecordError> {
        let known = sqlx::query_scalar!(
            r#"select exists (select 1 from pg_timezone_names where name = $1) as "known!""#,
            zone
        );
        Ok(known.fetch_one(&self.pool).await?)
    }

    /// The keep rule of a device, or of the team.
    pub async fn keep_rule(&self, device: Option<i64>) -> Result<Option<KeepRule>, RecordError> {
        let row = sqlx::query_as!(
            KeepRule,
            "select newest, daily, weekly, monthly, changed_by, changed_at from keep_rules
             where device_id is not distinct from $1",
            device
        );
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Sets the keep rule of a device or of the team, or takes it away.
    pub async fn set_keep_rule(
        &self,
        device: Option<i64>,
        rule: Option<[i32; 4]>,
        operator: &str,
        summary: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "delete from keep_rules where device_id is not distinct from $1",
            device
        )
        .execute(&mut *tx)
        .await?;
        if let Some([newest, daily, weekly, monthly]) = rule {
            sqlx::query!(
                "insert into keep_rules (device_id, newest, daily, weekly, monthly, changed_by)
                 values ($1, $2, $3, $4, $5, $6)",
                device,
                newest,
                daily,
                weekly,
                monthly,
                operator
            )
            .execute(&mut *tx)
            .await?;
        }
        events::add(&mut tx, operator, "keep.changed", "backups", summary).await?;
        Ok(tx.commit().await?)
    }

    /// Says how often a device, or each of an appliance, shall be backed up; never, where no days are given.
    pub async fn set_backup_interval(
        &self,
        device: Option<i64>,
        appliance: Option<&str>,
        days: Option<i32>,
        operator: &str,
        summary: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "delete from backup_intervals where device_id is not distinct from $1
                and appliance is not distinct from $2",
            device,
            appliance
        )
        .execute(&mut *tx)
        .await?;
        if let Some(days) = days {
            sqlx::query!(
                "insert into backup_intervals (device_id, appliance, days, changed_by) values ($1, $2, $3, $4)",
                device,
                appliance,
                days,
                operator
            )
            .execute(&mut *tx)
            .await?;
        }
        events::add(&mut tx, operator, "backup.interval", "backups", summary).await?;
        Ok(tx.commit().await?)
    }

    /// How often devices and appliances shall be backed up.
    pub async fn backup_intervals(&self) -> Result<Vec<Interval>, RecordError> {
        let rows = sqlx::query_as!(
            Interval,
            r#"select d.name as "device?", i.appliance, i.days, i.changed_by, i.changed_at
               from backup_intervals i left join devices d on d.id = i.device_id order by 2 nulls last, 1"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Devices with a whole card of which no backup was taken for longer than they, or their appliance, shall be, with
    /// the time of the last one and the days.
    pub async fn overdue_backups(&self) -> Result<Vec<Overdue>, RecordError> {
        let rows = sqlx::query_as!(
            Overdue,
            r#"select d.name as "device!", coalesce(o.days, a.days) as "days!", last.taken_at as "last?",
                 coalesce(last.taken_at, i.finished_at, i.started_at) + make_interval(days => coalesce(o.days, a.days))
                    as "since!"
               from devices d join imprints i on i.id = d.imprint_id
                 left join backup_intervals o on o.device_id = d.id
                 left join backup_intervals a on a.appliance = d.appliance
                 left join lateral (select b.taken_at from backups b where b.device_id = d.id and b.gone_at is null
                    order by b.taken_at desc limit 1) last on true
               where d.state <> 'retired' and d.card_state = 'verified' and coalesce(o.days, a.days) is not null
                 and coalesce(last.taken_at, i.finished_at, i.started_at)
                    < now() - make_interval(days => coalesce(o.days, a.days))
               order by 4, 1 limit 200"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}

/// How many backups stay.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct KeepRule {
    pub newest: i32,
    pub daily: i32,
    pub weekly: i32,
    pub monthly: i32,
    pub changed_by: String,
    pub changed_at: OffsetDateTime,
}

/// How often somebody shall be backed up.
#[derive(Clone, Debug)]
pub struct Interval {
    /// A device.
    pub device: Option<String>,
    /// Each device of an appliance.
    pub appliance: Option<String>,
    /// Days between backups.
    pub days: i32,
    /// Who said so.
    pub changed_by: String,
    /// When.
    pub changed_at: OffsetDateTime,
}

/// A device that should have been backed up.
#[derive(Clone, Debug)]
pub struct Overdue {
    /// Its name.
    pub device: String,
    /// Days between backups.
    pub days: i32,
    /// When the last one was taken.
    pub last: Option<OffsetDateTime>,
    /// Since when it is overdue.
    pub since: OffsetDateTime,
}
