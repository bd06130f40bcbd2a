//! Rounds: a list of cards that are made in turn as blank ones go in. All of a round is in the records, so
//! that it survives whatever the service does not.

use sqlx::PgConnection;
use time::OffsetDateTime;

use crate::{RecordError, Records, events};

/// A round that somebody wants to make.
#[derive(Clone, Debug)]
pub struct NewRound {
    /// What it is called.
    pub title: String,
    /// Who plans it.
    pub operator: String,
    /// Whether the first card must do its job before the others are made.
    pub trial_first: bool,
    /// Failures after which it stops by itself.
    pub stop_after: i32,
    /// Whether nothing is left of what was on the cards before.
    pub wipe_free: bool,
    /// Where its cards are made.
    pub slots: Vec<String>,
    /// What is made, in this order.
    pub entries: Vec<NewEntry>,
}

/// One card to make.
#[derive(Clone, Debug)]
pub struct NewEntry {
    /// Number of the device that it is for.
    pub device: Option<i64>,
    /// Name of the release or backup.
    pub base: String,
    /// Whether it is a backup.
    pub from_backup: bool,
    /// Fewest bytes that a card must hold for it.
    pub smallest_card: i64,
    /// What has to be accepted by name.
    pub cautions: serde_json::Value,
    /// Why it cannot be made, if so: it is skipped then.
    pub refused: Option<String>,
}

/// A round.
#[derive(Clone, Debug, sqlx::FromRow)]
pub struct Round {
    /// Number.
    pub id: i64,
    /// What it is called.
    pub title: String,
    /// `planned`, `running`, `trial`, `paused`, `done` or `stopped`.
    pub state: String,
    /// Why it is in that state, if that needs a word.
    pub why: Option<String>,
    /// Who planned it.
    pub operator: String,
    /// When.
    pub created_at: OffsetDateTime,
    /// When it was confirmed.
    pub confirmed_at: Option<OffsetDateTime>,
    /// When it was over.
    pub ended_at: Option<OffsetDateTime>,
    /// Whether the first card must do its job before the others are made.
    pub trial_first: bool,
    /// Whether somebody said that it does.
    pub trial_accepted: bool,
    /// Failures after which it stops by itself.
    pub stop_after: i32,
    /// Failures since it last went on.
    pub failures: i32,
    /// Whether nothing is left of what was on the cards before.
    pub wipe_free: bool,
    /// Where its cards are made; nothing: at every slot.
    pub slots: Vec<String>,
    /// Names of the cautions that were accepted.
    pub accepted: Vec<String>,
}

impl Round {
    /// Whether cards are made in it now.
    pub fn is_running(&self) -> bool {
        self.state == "running"
    }

    /// Whether its first card is made or being made, and nobody has said yet that it does its job.
    pub fn waits_for_trial(&self, entries: &[Entry]) -> bool {
        let begun = |entry: &Entry| matches!(entry.state.as_str(), "at work" | "unsure" | "done");
        self.trial_first && !self.trial_accepted && entries.iter().any(begun)
    }

    /// Whether nothing is made in it any more.
    pub fn is_over(&self) -> bool {
        matches!(self.state.as_str(), "done" | "stopped")
    }
}

/// How many cards of a round are how far.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[allow(missing_docs)] // states of an entry
pub struct Counts {
    pub waiting: i64,
    pub at_work: i64,
    pub unsure: i64,
    pub done: i64,
    pub failed: i64,
    pub skipped: i64,
}

/// One card of a round.
#[derive(Clone, Debug)]
pub struct Entry {
    /// Place in the list.
    pub place: i32,
    /// Device that it is for.
    pub device: Option<String>,
    /// Name of the release or backup.
    pub base: String,
    /// Whether it is a backup.
    pub from_backup: bool,
    /// Fewest bytes that a card must hold for it.
    pub smallest_card: i64,
    /// What has to be accepted by name.
    pub cautions: serde_json::Value,
    /// `waiting`, `at work`, `unsure`, `done`, `failed` or `skipped`.
    pub state: String,
    /// Why it failed last, or was skipped.
    pub why: Option<String>,
    /// How often it was begun.
    pub attempts: i64,
    /// Job of the newest attempt.
    pub job: Option<i64>,
    /// Card of that.
    pub card: Option<String>,
    /// Slot of that.
    pub slot: Option<String>,
    /// When that began.
    pub began_at: Option<OffsetDateTime>,
    /// When that ended.
    pub finished_at: Option<OffsetDateTime>,
    /// Bytes put on the card, if it was made.
    pub written: Option<i64>,
}

/// A card of a round that is taken on now.
#[derive(Clone, Debug)]
pub struct Claimed {
    /// Number of the attempt, which its job is known by.
    pub attempt: i64,
    /// Place in the list.
    pub place: i32,
    /// Device that it is for.
    pub device: Option<String>,
    /// Name of the release or backup.
    pub base: String,
    /// Whether it is a backup.
    pub from_backup: bool,
}

/// What somebody makes of a round.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Turn {
    /// No further card is begun.
    Pause,
    /// It goes on.
    GoOn,
    /// The first card does its job: the others are made.
    Accept,
    /// It is over.
    Stop,
}

impl Records {
    /// Whether a round has begun to make a card with this one: the label that it has then is the round's.
    pub async fn labelled_in_round(&self, round: i64, card: i64) -> Result<bool, RecordError> {
        let row = sqlx::query_scalar!(
            r#"select exists (select from round_attempts a join round_entries e on e.id = a.entry_id
                 where e.round_id = $1 and a.card_id = $2) as "is!""#,
            round,
            card
        );
        Ok(row.fetch_one(&self.pool).await?)
    }

    /// Keeps a planned round and gives its number.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where a device is in another round that is not over.
    pub async fn add_round(&self, new: &NewRound) -> Result<i64, RecordError> {
        let mut tx = self.pool.begin().await?;
        let id = sqlx::query_scalar!(
            "insert into rounds (title, operator, trial_first, stop_after, wipe_free, slots)
             values ($1, $2, $3, $4, $5, $6) returning id",
            new.title,
            new.operator,
            new.trial_first,
            new.stop_after,
            new.wipe_free,
            &new.slots
        )
        .fetch_one(&mut *tx)
        .await?;
        let entries = &new.entries;
        let places: Vec<_> = (1..).take(entries.len()).collect::<Vec<i32>>();
        let devices: Vec<_> = entries.iter().map(|one| one.device).collect();
        let bases: Vec<_> = entries.iter().map(|one| one.base.clone()).collect();
        let backups: Vec<_> = entries.iter().map(|one| one.from_backup).collect();
        let sizes: Vec<_> = entries.iter().map(|one| one.smallest_card).collect();
        let cautions: Vec<_> = entries.iter().map(|one| one.cautions.clone()).collect();
        let refused: Vec<_> = entries.iter().map(|one| one.refused.clone()).collect();
        sqlx::query!(
            r#"insert into round_entries (round_id, place, device_id, base, from_backup, smallest_card, cautions, why, state)
               select $1, e.place, e.device, e.base, e.from_backup, e.smallest, e.cautions, e.refused,
                 case when e.refused is null then 'waiting' else 'skipped' end
               from unnest($2::int[], $3::bigint[], $4::text[], $5::bool[], $6::bigint[], $7::jsonb[], $8::text[])
                 as e(place, device, base, from_backup, smallest, cautions, refused)"#,
            id,
            &places,
            &devices as &[Option<i64>],
            &bases,
            &backups,
            &sizes,
            &cautions,
            &refused as &[Option<String>]
        )
        .execute(&mut *tx)
        .await?;
        let subject = id.to_string();
        let summary = format!("Round {id}, {}, was planned", new.title);
        events::add(&mut tx, &new.operator, "round.planned", &subject, &summary).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// A round.
    pub async fn round(&self, id: i64) -> Result<Round, RecordError> {
        sqlx::query_as!(Round, "select * from rounds where id = $1", id)
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("round", id.to_string()))
    }

    /// Rounds, newest first.
    pub async fn rounds(&self, before: Option<i64>, most: i64) -> Result<Vec<Round>, RecordError> {
        let rows = sqlx::query_as!(
            Round,
            "select * from rounds where $1::bigint is null or id < $1 order by id desc limit $2",
            before,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The round that cards are made in now, or that waits for its trial.
    pub async fn round_under_way(&self) -> Result<Option<Round>, RecordError> {
        let row = sqlx::query_as!(
            Round,
            "select * from rounds where state in ('running', 'trial')"
        );
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Whether a round that was begun is not over, though no card is begun in it now.
    pub async fn round_paused(&self) -> Result<bool, RecordError> {
        let paused = sqlx::query_scalar!(
            r#"select exists (select from rounds where state = 'paused') as "paused!""#
        );
        Ok(paused.fetch_one(&self.pool).await?)
    }

    /// How many cards of these rounds are how far, in their order.
    pub async fn round_counts(&self, rounds: &[i64]) -> Result<Vec<Counts>, RecordError> {
        let rows = sqlx::query_as!(
            Counts,
            r#"select count(*) filter (where e.state = 'waiting') as "waiting!",
                 count(*) filter (where e.state = 'at work') as "at_work!",
                 count(*) filter (where e.state = 'unsure') as "unsure!",
                 count(*) filter (where e.state = 'done') as "done!",
                 count(*) filter (where e.state = 'failed') as "failed!",
                 count(*) filter (where e.state = 'skipped') as "skipped!"
               from unnest($1::bigint[]) with ordinality as r(id, at)
               left join round_entries e on e.round_id = r.id group by r.id, r.at order by r.at"#,
            rounds
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The cards of a round, in their order.
    pub async fn round_entries(&self, round: i64) -> Result<Vec<Entry>, RecordError> {
        let rows = sqlx::query_as!(
            Entry,
            r#"select e.place, d.name as "device?", e.base, e.from_backup, e.smallest_card, e.cautions, e.state, e.why,
                 (select count(*) from round_attempts x where x.entry_id = e.id) as "attempts!",
                 a.job_id as "job?", c.label as "card?", a.slot as "slot?", a.began_at as "began_at?",
                 j.finished_at as "finished_at?",
                 case when e.state = 'done' then i.written end as written
               from round_entries e left join devices d on d.id = e.device_id
               left join lateral (select * from round_attempts x where x.entry_id = e.id order by x.id desc limit 1) a on true
               left join cards c on c.id = a.card_id left join jobs j on j.id = a.job_id
               left join imprints i on i.job_id = a.job_id
               where e.round_id = $1 order by e.place"#,
            round
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Labels of the cards that were freed for a round and may still be written in it.
    pub async fn round_cards(&self, round: i64) -> Result<Vec<String>, RecordError> {
        let rows = sqlx::query_scalar!(
            r#"select c.label as "label!" from round_cards r join cards c on c.id = r.card_id
               where r.round_id = $1 and r.imprint_id is not distinct from c.imprint_id and c.suspicion is null
                 and c.state = 'blank' order by c.id"#,
            round
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Frees a card for a round, with what is on it now.
    pub async fn free_for_round(
        &self,
        round: i64,
        card: i64,
        operator: &str,
        summary: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        free(&mut tx, round, card).await?;
        events::add(
            &mut tx,
            operator,
            "round.card-freed",
            &round.to_string(),
            summary,
        )
        .await?;
        Ok(tx.commit().await?)
    }

    /// Names of devices among these that are in another round that is not over, with its number.
    pub async fn in_other_rounds(
        &self,
        devices: &[i64],
    ) -> Result<Vec<(String, i64)>, RecordError> {
        let rows = sqlx::query!(
            r#"select d.name as "name!", r.id as "round!" from round_entries e join rounds r on r.id = e.round_id
               join devices d on d.id = e.device_id
               where e.device_id = any($1) and r.state not in ('planned', 'done', 'stopped')
                 and e.state in ('waiting', 'at work', 'unsure') order by d.name"#,
            devices
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.map(|row| (row.name, row.round)).collect())
    }

    /// Confirms a planned round: from now on cards are made in it.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where another round is under way, or this one was confirmed already.
    pub async fn confirm_round(
        &self,
        id: i64,
        accepted: &[String],
        operator: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let title = sqlx::query_scalar!(
            "update rounds set state = 'running', confirmed_at = now(), accepted = $2, operator = $3
             where id = $1 and state = 'planned' returning title",
            id,
            accepted,
            operator
        )
        .fetch_optional(&mut *tx)
        .await
        .map_err(under_way)?;
        let Some(title) = title else {
            let said = format!("round {id} was confirmed before");
            return Err(RecordError::Conflict(said));
        };
        let summary = format!("Round {id}, {title}, began");
        events::add(&mut tx, operator, "round.began", &id.to_string(), &summary).await?;
        Ok(tx.commit().await?)
    }

    /// Pauses a round, lets it go on, accepts its trial, or ends it.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where the round is in a state that does not take this.
    pub async fn turn_round(&self, id: i64, turn: Turn, operator: &str) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let round = locked(&mut tx, id).await?;
        let taken: &[&str] = match turn {
            Turn::Pause => &["running", "trial"],
            Turn::GoOn => &["paused"],
            Turn::Accept => &["trial"],
            Turn::Stop => &["planned", "running", "trial", "paused"],
        };
        if !taken.contains(&round.state.as_str()) {
            let said = match (turn, round.state.as_str()) {
                (_, "done" | "stopped") => format!("round {id} is over; plan another one"),
                (_, "planned") => format!("round {id} was not confirmed yet; begin it first"),
                (Turn::GoOn, _) => {
                    format!("round {id} is under way; there is nothing to go on with")
                }
                (Turn::Pause, _) => format!("round {id} is paused already"),
                _ => format!("round {id} is {}; it waits for no first card", round.state),
            };
            return Err(RecordError::Conflict(said));
        }
        let (state, why, word) = match turn {
            Turn::Pause => (
                "paused",
                Some(format!("{operator} paused it")),
                "was paused",
            ),
            Turn::GoOn => ("running", None, "goes on"),
            Turn::Accept => ("running", None, "goes on: its first card does its job"),
            Turn::Stop => ("stopped", Some(format!("{operator} ended it")), "was ended"),
        };
        sqlx::query!(
            "update rounds set state = $2, why = $3, failures = 0, trial_accepted = trial_accepted or $4,
                ended_at = case when $2 = 'stopped' then now() end where id = $1",
            id,
            state,
            why,
            turn == Turn::Accept
        )
        .execute(&mut *tx)
        .await
        .map_err(under_way)?;
        let summary = format!("Round {id}, {}, {word}", round.title);
        events::add(
            &mut tx,
            operator,
            &format!("round.{state}"),
            &id.to_string(),
            &summary,
        )
        .await?;
        Ok(tx.commit().await?)
    }

    /// Leaves one card of a round out, or takes it in again.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where it is being made, or the round is over.
    pub async fn turn_entry(
        &self,
        round: i64,
        place: i32,
        skip: bool,
        operator: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let found = locked(&mut tx, round).await?;
        if found.is_over() {
            return Err(RecordError::Conflict(format!(
                "round {round} is over; plan another one"
            )));
        }
        let row = sqlx::query!(
            r#"select e.id, e.state, d.name as "device?", e.base from round_entries e
               left join devices d on d.id = e.device_id where e.round_id = $1 and e.place = $2 for update of e"#,
            round,
            place
        )
        .fetch_optional(&mut *tx)
        .await?
        .ok_or_else(|| RecordError::unknown("place in this round", place.to_string()))?;
        let name = row.device.unwrap_or(row.base);
        if row.state == "at work" {
            return Err(RecordError::Conflict(format!(
                "the card for {name} is being made; cancel its job first"
            )));
        }
        let (state, word) = match skip {
            true => ("skipped", "is left out of"),
            false => ("waiting", "is taken into"),
        };
        sqlx::query!(
            "update round_entries set state = $2, why = case when $3 then 'left out by ' || $4 end where id = $1",
            row.id,
            state,
            skip,
            operator
        )
        .execute(&mut *tx)
        .await?;
        // A first card that is made again is a trial again.
        sqlx::query!(
            "update rounds set state = 'running', why = null where id = $1 and state = 'trial' and not $2",
            round,
            skip
        )
        .execute(&mut *tx)
        .await?;
        let summary = format!("{name} {word} round {round}");
        events::add(
            &mut tx,
            operator,
            "round.changed",
            &round.to_string(),
            &summary,
        )
        .await?;
        Ok(tx.commit().await?)
    }

    /// Takes the next card of a round on, for a card of this size in this slot: the one of `whose`, if that
    /// waits, else the first that fits. None where nothing waits that this card is large enough for.
    pub async fn claim_entry(
        &self,
        round: i64,
        card: i64,
        size: i64,
        slot: &str,
        whose: Option<&str>,
    ) -> Result<Option<Claimed>, RecordError> {
        let mut tx = self.pool.begin().await?;
        let found = locked(&mut tx, round).await?;
        if !found.is_running() {
            return Ok(None);
        }
        if found.trial_first && !found.trial_accepted {
            let begun = sqlx::query_scalar!(
                r#"select exists (select from round_entries where round_id = $1
                     and state in ('at work', 'unsure', 'done')) as "begun!""#,
                round
            );
            if begun.fetch_one(&mut *tx).await? {
                return Ok(None);
            }
        }
        let row = sqlx::query!(
            r#"select e.id, e.place, d.name as "device?", e.base, e.from_backup from round_entries e
               left join devices d on d.id = e.device_id
               where e.round_id = $1 and e.state = 'waiting' and e.smallest_card <= $2
               order by (d.name is not distinct from $3 and $3 is not null) desc, e.place limit 1 for update of e"#,
            round,
            size,
            whose
        )
        .fetch_optional(&mut *tx)
        .await?;
        let Some(row) = row else { return Ok(None) };
        sqlx::query!(
            "update round_entries set state = 'at work', why = null where id = $1",
            row.id
        )
        .execute(&mut *tx)
        .await?;
        let attempt = sqlx::query_scalar!(
            "insert into round_attempts (entry_id, card_id, slot, service) values ($1, $2, $3, $4) returning id",
            row.id,
            card,
            slot,
            self.me()
        )
        .fetch_one(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(Some(Claimed {
            attempt,
            place: row.place,
            device: row.device,
            base: row.base,
            from_backup: row.from_backup,
        }))
    }

    /// Gives a card of a round back that was taken on and did not become a job: it waits again, or cannot
    /// be made for the reason given.
    pub async fn unclaim_entry(
        &self,
        attempt: i64,
        refused: Option<&str>,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "update round_entries set state = case when $2::text is null then 'waiting' else 'failed' end, why = $2
             where id = (select entry_id from round_attempts where id = $1) and state = 'at work'",
            attempt,
            refused
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "delete from round_attempts where id = $1 and job_id is null",
            attempt
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// Whether the card that a device is known by was tried or made for it in this round before: it is made
    /// again because that failed, or because somebody said so.
    pub async fn tried_here(&self, attempt: i64, device: &str) -> Result<bool, RecordError> {
        let tried = sqlx::query_scalar!(
            r#"select exists (select from round_attempts a
                 join round_attempts before on before.entry_id = a.entry_id and before.id < a.id
                 join cards c on c.id = before.card_id
                 join devices d on d.id = c.device_id and d.name = $2
                 join imprints i on i.id = d.imprint_id and i.card_id = c.id
                 where a.id = $1) as "tried!""#,
            attempt,
            device
        );
        Ok(tried.fetch_one(&self.pool).await?)
    }

    /// Keeps which job an attempt became.
    pub async fn attempt_is_job(&self, attempt: i64, job: i64) -> Result<(), RecordError> {
        sqlx::query!(
            "update round_attempts set job_id = $2 where id = $1",
            attempt,
            job
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Attempts that nobody knows a job of: the service ended in between. What another service has begun is its own for
    /// as long as that lives.
    pub async fn attempts_without_job(&self) -> Result<Vec<i64>, RecordError> {
        let rows = sqlx::query_scalar!(
            "select id from round_attempts where job_id is null and (service is not distinct from $1 or service is null
               or service not in (select number from live_services where number is not null))",
            self.me()
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Takes over what became of jobs: cards that were made, cards that failed and wait again, rounds that
    /// stop or are over. Whether anything changed.
    pub async fn settle_rounds(&self) -> Result<bool, RecordError> {
        let mut tx = self.pool.begin().await?;
        let rows = sqlx::query!(
            r#"select e.id, e.round_id, e.state, d.name as "device?", e.base, a.card_id, j.state as job_state, j.error,
                 case when i.left_as = 'may boot' and c.suspicion is null then 'in doubt' else i.state end as "imprint?"
               from round_entries e left join devices d on d.id = e.device_id
               join lateral (select * from round_attempts x where x.entry_id = e.id order by x.id desc limit 1) a on true
               join jobs j on j.id = a.job_id left join imprints i on i.job_id = j.id
               left join cards c on c.id = a.card_id
               where e.state in ('at work', 'unsure') and j.state not in ('waiting', 'running')
               order by e.id for update of e"#
        )
        .fetch_all(&mut *tx)
        .await?;
        let mut touched = Vec::new();
        for row in rows {
            let error = row.error.clone().unwrap_or_default();
            let (state, why, failed) = match (row.imprint.as_deref(), row.job_state.as_str()) {
                (Some("verified"), _) => ("done", None, false),
                (Some("in doubt" | "writing"), _) => (
                    "unsure",
                    Some(
                        "its write was cut off, and its card may be whole: put that in again, which shows it; or take \
                         this one in again"
                            .into(),
                    ),
                    false,
                ),
                (_, "cancelled") => ("skipped", Some(error), false),
                (_, "interrupted") => ("waiting", Some("its write was cut off".into()), false),
                _ => ("waiting", Some(error), true),
            };
            if state == row.state {
                continue;
            }
            sqlx::query!(
                "update round_entries set state = $2, why = $3 where id = $1",
                row.id,
                state,
                why
            )
            .execute(&mut *tx)
            .await?;
            if failed {
                sqlx::query!(
                    "update rounds set failures = failures + 1 where id = $1",
                    row.round_id
                )
                .execute(&mut *tx)
                .await?;
            }
            // What this round spoilt itself, it may write again.
            if let (Some(card), Some("incomplete")) = (row.card_id, row.imprint.as_deref()) {
                free(&mut tx, row.round_id, card).await?;
            }
            touched.push(row.round_id);
        }
        touched.sort_unstable();
        touched.dedup();
        for round in &touched {
            settle(&mut tx, *round).await?;
        }
        // What was skipped by hand may have been the last.
        let rest = sqlx::query_scalar!(
            "select r.id from rounds r where r.state in ('running', 'trial') and not exists (select from round_entries e
                where e.round_id = r.id and e.state in ('waiting', 'at work', 'unsure'))"
        )
        .fetch_all(&mut *tx)
        .await?;
        for round in &rest {
            settle(&mut tx, *round).await?;
        }
        tx.commit().await?;
        Ok(!touched.is_empty() || !rest.is_empty())
    }
}

fn under_way(error: sqlx::Error) -> RecordError {
    RecordError::explain(
        error,
        &[(
            "rounds_under_way",
            "another round is under way; pause or end it first, so that everybody knows what a card that goes in is for"
                .into(),
        )],
    )
}

async fn locked(tx: &mut PgConnection, id: i64) -> Result<Round, RecordError> {
    sqlx::query_as!(Round, "select * from rounds where id = $1 for update", id)
        .fetch_optional(tx)
        .await?
        .ok_or_else(|| RecordError::unknown("round", id.to_string()))
}

async fn free(tx: &mut PgConnection, round: i64, card: i64) -> Result<(), RecordError> {
    sqlx::query!(
        "insert into round_cards (round_id, card_id, imprint_id)
         select $1, id, imprint_id from cards where id = $2
         on conflict (round_id, card_id) do update set imprint_id = excluded.imprint_id",
        round,
        card
    )
    .execute(tx)
    .await?;
    Ok(())
}

/// Stops, pauses or ends a round by what became of its cards.
async fn settle(tx: &mut PgConnection, id: i64) -> Result<(), RecordError> {
    let round = locked(tx, id).await?;
    let counts = sqlx::query!(
        r#"select count(*) filter (where state in ('waiting', 'at work', 'unsure')) as "open!",
             count(*) filter (where state = 'done') as "done!" from round_entries where round_id = $1"#,
        id
    )
    .fetch_one(&mut *tx)
    .await?;
    let failures = round.failures;
    let (state, why) = match round.state.as_str() {
        "running" | "trial" | "paused" if counts.open == 0 => ("done", None),
        "running" if failures >= round.stop_after => (
            "paused",
            Some(format!(
                "it stopped by itself: {failures} failed since it last went on"
            )),
        ),
        "running" if round.trial_first && !round.trial_accepted && counts.done > 0 => (
            "trial",
            Some("its first card is made; say whether it does its job".into()),
        ),
        _ => return Ok(()),
    };
    sqlx::query!(
        "update rounds set state = $2, why = $3, ended_at = case when $2 = 'done' then now() end where id = $1",
        id,
        state,
        why
    )
    .execute(&mut *tx)
    .await?;
    let said = why.map_or_else(
        || format!("is over, {} cards made", counts.done),
        |why| format!("waits: {why}"),
    );
    let summary = format!("Round {id}, {}, {said}", round.title);
    let kind = format!("round.{state}");
    events::add(tx, "service", &kind, &id.to_string(), &summary).await?;
    Ok(())
}
