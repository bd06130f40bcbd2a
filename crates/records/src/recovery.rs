//! What comes after the records were brought back as they were on an earlier day: what was made since is put back as far as
//! the vault knows of it, and numbers that are on cards and stickers already are not given a second time.

use std::collections::HashSet;

use sqlx::PgConnection;
use time::OffsetDateTime;

use crate::imprints::{self, Base, NewImprint, NotedImprint};
use crate::{RecordError, Records, events};

/// How far the numbers of imprints, jobs and events go on behind those that are known: to the next number that this divides.
const ROOM: i64 = 1000;
/// Likewise the labels of cards, which people read.
const ROOM_OF_LABELS: i64 = 100;

/// Where the noted card is in these records; it is added where it is not.
async fn card_of(
    tx: &mut PgConnection,
    new: &NotedImprint,
    at: OffsetDateTime,
) -> Result<i64, RecordError> {
    let known = sqlx::query!("select id, size from cards where label = $1", new.card);
    match known.fetch_optional(&mut *tx).await? {
        Some(card) if card.size == new.card_size => return Ok(card.id),
        Some(_) => {
            return Err(RecordError::Conflict(format!(
                "these records know another card {}, of another size",
                new.card
            )));
        }
        None => {}
    }
    let number: Option<i64> = new
        .card
        .strip_prefix("C-")
        .and_then(|number| number.parse().ok());
    let number = number.ok_or_else(|| RecordError::unknown("card", &new.card))?;
    sqlx::query!(
        "insert into cards (id, size, kind, edges, added_by, added_at) overriding system value
         values ($1, $2, $3, decode($4, 'hex'), $5, $6)",
        number,
        new.card_size,
        new.card_kind,
        new.edges,
        new.made.operator,
        at
    )
    .execute(tx)
    .await?;
    Ok(number)
}

/// The device that a noted imprint is for.
async fn device_of(tx: &mut PgConnection, new: &NotedImprint) -> Result<Option<i64>, RecordError> {
    let Some(name) = &new.device else {
        return Ok(None);
    };
    let id = sqlx::query_scalar!("select id from devices where name = $1", name);
    match id.fetch_optional(tx).await? {
        Some(id) => Ok(Some(id)),
        None => Err(RecordError::unknown("device", name)),
    }
}

/// What a noted imprint was made from: the release or backup of that name.
async fn base_of(tx: &mut PgConnection, made: &NewImprint) -> Result<Base, RecordError> {
    let name = &made.base_name;
    match made.base {
        Base::Release(_) => {
            let id = sqlx::query_scalar!("select id from releases where name = $1", name);
            let id = id.fetch_optional(tx).await?;
            id.map(Base::Release)
                .ok_or_else(|| RecordError::unknown("release", name))
        }
        Base::Backup(_) => {
            let id = sqlx::query_scalar!("select id from backups where name = $1", name);
            let id = id.fetch_optional(tx).await?;
            id.map(Base::Backup)
                .ok_or_else(|| RecordError::unknown("backup", name))
        }
    }
}

impl Records {
    /// Out of some numbers of imprints those that these records do not know.
    pub async fn unknown_imprints(&self, numbers: &[i64]) -> Result<HashSet<i64>, RecordError> {
        let rows = sqlx::query_scalar!(
            r#"select number as "number!" from unnest($1::bigint[]) as n(number)
               where not exists (select from imprints i where i.id = n.number)"#,
            numbers
        );
        Ok(rows.fetch_all(&self.pool).await?.into_iter().collect())
    }

    /// Records an imprint that the vault tells of and these records did not know, with its card and its job where they
    /// are unknown too. What became of it is in doubt until its card is seen.
    ///
    /// # Errors
    /// [`RecordError::Unknown`] where its device or what it was made from is not known here, [`RecordError::Conflict`]
    /// where a number or label of it stands for something else; nothing is changed then.
    pub async fn found_imprint(
        &self,
        new: &NotedImprint,
        manifest: &[u8],
        at: OffsetDateTime,
        operator: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let made = NewImprint {
            card: card_of(&mut tx, new, at).await?,
            device: device_of(&mut tx, new).await?,
            base: base_of(&mut tx, &new.made).await?,
            ..new.made.clone()
        };
        let taken =
            |what: &str, number: i64| format!("{what} {number} is something else in these records");
        let constraints = [
            ("jobs_pkey", taken("job", made.job)),
            ("imprints_pkey", taken("imprint", new.imprint)),
        ];
        let explain = |e| RecordError::explain(e, &constraints);
        sqlx::query!(
            "insert into jobs (id, kind, state, subject, slot, card_id, operator, created_at, started_at, finished_at,
                error_code, error, seen_by) overriding system value
             values ($1, $2, 'interrupted', $3, $4, $5, $6, $7, $7, $7, 'interrupted',
                'how it ended was not in the records that were brought back; its card shows it when it is seen', $8)",
            made.job,
            match made.base {
                Base::Release(_) => "write",
                Base::Backup(_) => "restore",
            },
            match &new.device {
                Some(device) => format!("{} for {device} on card {}", made.base_name, new.card),
                None => format!("{} on card {}", made.base_name, new.card),
            },
            made.slot,
            made.card,
            made.operator,
            at,
            operator
        )
        .execute(&mut *tx)
        .await
        .map_err(explain)?;
        let found = Some((new.imprint, manifest, at));
        imprints::insert(&mut tx, &made, found)
            .await
            .map_err(explain)?;
        // Numbers go on behind those that were put in by hand.
        sqlx::query!(
            "select setval('cards_id_seq', greatest((select last_value from cards_id_seq), (select max(id) from cards))) as cards,
                setval('jobs_id_seq', greatest((select last_value from jobs_id_seq), (select max(id) from jobs))) as jobs,
                setval('imprints_id_seq', greatest((select last_value from imprints_id_seq), (select max(id) from imprints))) as imprints"
        )
        .fetch_all(&mut *tx)
        .await?;
        let summary = format!(
            "Imprint {} on card {} was found in the vault; what became of it shows when its card is seen",
            new.imprint, new.card
        );
        events::add(&mut tx, operator, "imprint.found", &new.card, &summary).await?;
        Ok(tx.commit().await?)
    }

    /// Leaves room in the numbers behind those that these records know: there are cards, stickers and clients that know
    /// later ones. Gives the first label from now on.
    ///
    /// # Errors
    /// What the database says.
    pub async fn leave_room(&self) -> Result<String, RecordError> {
        let last = sqlx::query!(
            r#"select setval('cards_id_seq', ((select last_value from cards_id_seq) / $1 + 1) * $1) as "cards!",
                 setval('jobs_id_seq', ((select last_value from jobs_id_seq) / $2 + 1) * $2) as "jobs!",
                 setval('imprints_id_seq', ((select last_value from imprints_id_seq) / $2 + 1) * $2) as "imprints!",
                 setval('events_id_seq', ((select last_value from events_id_seq) / $2 + 1) * $2) as "events!""#,
            ROOM_OF_LABELS,
            ROOM
        );
        let next = last.fetch_one(&self.pool).await?.cards + 1;
        Ok(format!("C-{next:04}"))
    }
}
