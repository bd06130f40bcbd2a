//! Arrivals: devices that are waited for after their card went in, and what is seen of those in service.

use time::OffsetDateTime;

use crate::{RecordError, Records, events};

/// An arrival that begins.
#[derive(Clone, Debug)]
pub struct NewArrival<'a> {
    /// Number of the device.
    pub device: i64,
    /// Its name.
    pub name: &'a str,
    /// Label of the card that is in it.
    pub card: Option<&'a str>,
    /// Whether the board itself said so.
    pub hello: bool,
    /// Who waits for it.
    pub waits_for: &'a str,
    /// An address that was given for it.
    pub address: Option<&'a str>,
    /// What only a person can see or do, in order.
    pub steps: &'a [String],
    /// Who says so.
    pub operator: &'a str,
}

/// An arrival.
#[derive(Clone, Debug)]
pub struct Arrival {
    /// Number.
    pub id: i64,
    /// Name of the device.
    pub device: String,
    /// Label of the card that is in it.
    pub card: Option<String>,
    /// Imprint that it carries.
    pub imprint_id: Option<i64>,
    /// Appliance of the device when it began.
    pub appliance: String,
    /// Board model of the device when it began.
    pub board: String,
    /// What is on the card.
    pub base: String,
    /// `expected`, `found`, `answers`, `ready`, `accepted`, `refused` or `stopped`.
    pub state: String,
    /// `said` or `hello`.
    pub began_how: String,
    /// Who waits for it.
    pub waits_for: String,
    /// Who began it.
    pub operator: String,
    /// When.
    pub began_at: OffsetDateTime,
    /// When it was first found.
    pub found_at: Option<OffsetDateTime>,
    /// When it first answered.
    pub answered_at: Option<OffsetDateTime>,
    /// When all checks had passed first.
    pub ready_at: Option<OffsetDateTime>,
    /// When it was over.
    pub ended_at: Option<OffsetDateTime>,
    /// Who ended it.
    pub ended_by: Option<String>,
    /// What was said at its end.
    pub note: String,
    /// Names of the cautions that were accepted.
    pub accepted: Vec<String>,
    /// An address that somebody gave for it.
    pub address: Option<String>,
    /// The lamp pattern that somebody saw.
    pub lamp: Option<String>,
    /// What was seen of it last.
    pub seen: serde_json::Value,
}

/// Something that only a person can see or do.
#[derive(Clone, Debug)]
pub struct Step {
    /// Place in the list, from 1.
    pub place: i32,
    /// What is to be done.
    pub words: String,
    /// What was seen.
    pub note: String,
    /// Who did it.
    pub done_by: Option<String>,
    /// When.
    pub done_at: Option<OffsetDateTime>,
}

/// What was seen of a device that is in service.
#[derive(Clone, Debug, Default)]
pub struct Sighting {
    /// Its address.
    pub address: Option<String>,
    /// Ports that are elsewhere than usual.
    pub ports: serde_json::Value,
    /// Fingerprint of its SSH server's key.
    pub host_key: Option<String>,
    /// Fingerprint of its page's certificate.
    pub certificate: Option<String>,
    /// Until when that is valid.
    pub certificate_until: Option<OffsetDateTime>,
    /// The version that it said.
    pub version: Option<String>,
    /// Its MAC address.
    pub mac: Option<String>,
    /// The imprint that it was seen with.
    pub imprint_id: Option<i64>,
}

/// A device in service with what was seen of it.
#[derive(Clone, Debug)]
pub struct Watched {
    /// Number of the device.
    pub device_id: i64,
    /// Its name.
    pub device: String,
    /// The imprint that it was seen with.
    pub imprint_id: Option<i64>,
    /// Its address.
    pub address: Option<String>,
    /// Ports that are elsewhere than usual.
    pub ports: serde_json::Value,
    /// Fingerprint of its SSH server's key.
    pub host_key: Option<String>,
    /// Fingerprint of its page's certificate.
    pub certificate: Option<String>,
    /// Until when that is valid.
    pub certificate_until: Option<OffsetDateTime>,
    /// The version that it said.
    pub version: Option<String>,
    /// When something was seen of it last.
    pub seen_at: Option<OffsetDateTime>,
    /// Since when nothing answers.
    pub silent_since: Option<OffsetDateTime>,
    /// How often in a row nothing answered.
    pub misses: i32,
}

/// How an arrival ends.
#[derive(Clone, Debug)]
pub struct ArrivalEnd<'a> {
    /// `accepted`, `refused` or `stopped`.
    pub state: &'a str,
    /// What was seen.
    pub note: &'a str,
    /// Names of the cautions that were accepted.
    pub accepted: &'a [String],
    /// What is kept of the device, where it was accepted.
    pub sighting: Option<Sighting>,
    /// Other notes of the device.
    pub description: Option<&'a str>,
    /// Who says so.
    pub operator: &'a str,
}

/// Misses in a row from which a device counts as silent: one can be a board that starts anew.
pub const SILENT: i32 = 2;

impl Records {
    /// Begins to wait for a device.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where it is waited for already, or is retired.
    pub async fn begin_arrival(&self, new: &NewArrival<'_>) -> Result<i64, RecordError> {
        let mut tx = self.pool.begin().await?;
        let waited = format!("device {} is waited for already", new.name);
        let id = sqlx::query_scalar!(
            "insert into arrivals (device_id, card_id, imprint_id, appliance, board, base, began_how, waits_for, operator,
                address)
             select d.id, c.id, c.imprint_id, d.appliance, d.board, coalesce(i.base, ''), $3, $4, $5, $6
             from devices d left join cards c on c.label = $2 left join imprints i on i.id = c.imprint_id
             where d.id = $1 and d.state <> 'retired' returning id",
            new.device,
            new.card,
            if new.hello { "hello" } else { "said" },
            new.waits_for,
            new.operator,
            new.address
        )
        .fetch_optional(&mut *tx)
        .await
        .map_err(|e| RecordError::explain(e, &[("arrivals_open", waited)]))?
        .ok_or_else(|| RecordError::Conflict(format!("device {} is retired", new.name)))?;
        let places: Vec<i32> = (1..).take(new.steps.len()).collect();
        sqlx::query!(
            "insert into arrival_steps (arrival_id, place, words)
             select $1, step.place, step.words from unnest($2::int[], $3::text[]) as step (place, words)",
            id,
            &places,
            new.steps
        )
        .execute(&mut *tx)
        .await?;
        let summary = match new.card {
            Some(card) => format!("{} is waited for, with card {card}", new.name),
            None => format!("{} is waited for", new.name),
        };
        events::add(&mut tx, new.operator, "arrival.begun", new.name, &summary).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Arrivals that are not over, the oldest first; or those of one device, or all, newest first.
    pub async fn arrivals(
        &self,
        open: bool,
        device: Option<&str>,
        before: Option<i64>,
        limit: i64,
    ) -> Result<Vec<Arrival>, RecordError> {
        let rows = sqlx::query_as!(
            Arrival,
            r#"select a.id, d.name as device, c.label as "card?", a.imprint_id, a.appliance, a.board, a.base, a.state,
                 a.began_how, a.waits_for, a.operator, a.began_at, a.found_at, a.answered_at, a.ready_at, a.ended_at,
                 a.ended_by, a.note, a.accepted, a.address, a.lamp, a.seen
               from arrivals a join devices d on d.id = a.device_id left join cards c on c.id = a.card_id
               where (not $1 or a.ended_at is null) and ($2::text is null or d.name = $2)
                 and ($3::bigint is null or a.id < $3)
               order by case when $1 then a.id else -a.id end limit $4"#,
            open,
            device,
            before,
            limit
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One arrival.
    pub async fn arrival(&self, id: i64) -> Result<Arrival, RecordError> {
        let found = self
            .arrivals(false, None, Some(id.saturating_add(1)), 1)
            .await?;
        let found = found.into_iter().find(|one| one.id == id);
        found.ok_or_else(|| RecordError::unknown("arrival", id.to_string()))
    }

    /// What only a person can see or do in these arrivals, in order.
    pub async fn arrival_steps(&self, id: i64) -> Result<Vec<Step>, RecordError> {
        let rows = sqlx::query_as!(
            Step,
            "select place, words, note, done_by, done_at from arrival_steps where arrival_id = $1 order by place",
            id
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Records what was seen of an arrival. The moments are those of the first time.
    pub async fn arrival_seen(
        &self,
        id: i64,
        state: &str,
        seen: &serde_json::Value,
    ) -> Result<(), RecordError> {
        sqlx::query!(
            "update arrivals set state = $2, seen = $3,
                found_at = case when $2 in ('found', 'answers', 'ready') then coalesce(found_at, now()) else found_at end,
                answered_at = case when $2 in ('answers', 'ready') then coalesce(answered_at, now()) else answered_at end,
                ready_at = case when $2 = 'ready' then coalesce(ready_at, now()) else ready_at end
             where id = $1 and ended_at is null",
            id,
            state,
            seen
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Records what somebody says of an arrival that is not over: a lamp pattern, an address.
    pub async fn tell_arrival(
        &self,
        id: i64,
        lamp: Option<&str>,
        address: Option<&str>,
    ) -> Result<(), RecordError> {
        let known = sqlx::query!(
            "update arrivals set lamp = coalesce($2, lamp), address = coalesce($3, address)
             where id = $1 and ended_at is null",
            id,
            lamp,
            address
        );
        match known.execute(&self.pool).await?.rows_affected() {
            0 => Err(over(id)),
            _ => Ok(()),
        }
    }

    /// Records that somebody did a step, or takes that back.
    pub async fn tell_step(
        &self,
        id: i64,
        place: i32,
        done: bool,
        note: &str,
        operator: &str,
    ) -> Result<(), RecordError> {
        let known = sqlx::query!(
            "update arrival_steps set note = $4, done_by = case when $3 then $5 end, done_at = case when $3 then now() end
             where arrival_id = $1 and place = $2
               and exists (select from arrivals where id = $1 and ended_at is null)",
            id,
            place,
            done,
            note,
            operator
        );
        match known.execute(&self.pool).await?.rows_affected() {
            0 => Err(RecordError::Conflict(format!(
                "arrival {id} is over, or has no step {place}"
            ))),
            _ => Ok(()),
        }
    }

    /// Ends an arrival. Accepted: the device is in service, its outage is over and the card that was held for it is
    /// free. Refused: it is down, from now on if it was not before.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where it is over already.
    pub async fn end_arrival(&self, id: i64, end: &ArrivalEnd<'_>) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let found = sqlx::query!(
            "select a.device_id, a.card_id, d.name from arrivals a join devices d on d.id = a.device_id
             where a.id = $1 and a.ended_at is null for no key update of a",
            id
        )
        .fetch_optional(&mut *tx)
        .await?
        .ok_or_else(|| over(id))?;
        let (device, name) = (found.device_id, found.name);
        // Card before device, as whoever settles an imprint does.
        if end.state == "accepted" {
            let outage = sqlx::query!(
                "select id, card_id from outages where device_id = $1 and ended_at is null",
                device
            )
            .fetch_optional(&mut *tx)
            .await?;
            if let Some(outage) = outage {
                let how = match outage.card_id == found.card_id {
                    true => "original",
                    false => "new",
                };
                sqlx::query!(
                    "update cards set state = 'blank' where id = $1 and state = 'held'",
                    outage.card_id
                )
                .execute(&mut *tx)
                .await?;
                sqlx::query!(
                    "update outages set ended_at = now(), ended_by = $2, ended_how = $3 where id = $1 and ended_at is null",
                    outage.id,
                    end.operator,
                    how
                )
                .execute(&mut *tx)
                .await?;
            }
            sqlx::query!(
                "update devices set state = 'in service' where id = $1 and state <> 'retired'",
                device
            )
            .execute(&mut *tx)
            .await?;
            if let Some(description) = end.description {
                sqlx::query!(
                    "update devices set notes = $2 where id = $1 and notes <> $2",
                    device,
                    description
                )
                .execute(&mut *tx)
                .await?;
            }
            let seen = end.sighting.clone().unwrap_or_default();
            put_sighting(&mut tx, device, &seen).await?;
        }
        if end.state == "refused" {
            sqlx::query!(
                "update devices set state = 'down' where id = $1 and state <> 'retired'",
                device
            )
            .execute(&mut *tx)
            .await?;
            sqlx::query!(
                "insert into outages (device_id, reason, operator) values ($1, $2, $3) on conflict do nothing",
                device,
                end.note,
                end.operator
            )
            .execute(&mut *tx)
            .await?;
        }
        sqlx::query!(
            "update arrivals set state = $2, ended_at = now(), ended_by = $3, note = $4, accepted = $5 where id = $1",
            id,
            end.state,
            end.operator,
            end.note,
            end.accepted
        )
        .execute(&mut *tx)
        .await?;
        let (kind, words) = match end.state {
            "accepted" => ("arrival.accepted", "does its job"),
            "refused" => ("arrival.refused", "does not do its job"),
            _ => ("arrival.stopped", "is waited for no more"),
        };
        let summary = match end.note {
            "" => format!("{name} {words}"),
            note => format!("{name} {words}: {note}"),
        };
        events::add(&mut tx, end.operator, kind, &name, &summary).await?;
        Ok(tx.commit().await?)
    }

    /// The middle of the seconds that earlier arrivals of this kind took until they answered, and how many there were.
    pub async fn usual_arrival(
        &self,
        appliance: &str,
        board: &str,
    ) -> Result<(Option<f64>, i64), RecordError> {
        let row = sqlx::query!(
            r#"select percentile_cont(0.5) within group (order by extract(epoch from answered_at - began_at)::float8)
                 as middle, count(*) as "earlier!"
               from (select answered_at, began_at from arrivals where appliance = $1 and board = $2
                 and state = 'accepted' and answered_at is not null order by id desc limit 50) newest"#,
            appliance,
            board
        )
        .fetch_one(&self.pool)
        .await?;
        Ok((row.middle, row.earlier))
    }

    /// The imprint that a device's card carries, with the device, for whoever says hello with its word. It is
    /// marked as used, and found once.
    pub async fn said_hello(&self, imprint: i64) -> Result<Option<(String, String)>, RecordError> {
        let row = sqlx::query!(
            "update imprints i set said_hello = now() from devices d, cards c
             where i.id = $1 and i.said_hello is null and d.id = i.device_id and c.id = i.card_id
             returning d.name as device, c.label as card",
            imprint
        )
        .fetch_optional(&self.pool)
        .await?;
        Ok(row.map(|row| (row.device, row.card)))
    }

    /// What was seen of devices in service: of one, or of those that should be looked at again, the longest not
    /// looked at first.
    pub async fn watched(
        &self,
        device: Option<&str>,
        due_before: Option<OffsetDateTime>,
        limit: i64,
    ) -> Result<Vec<Watched>, RecordError> {
        let rows = sqlx::query_as!(
            Watched,
            "select s.device_id, d.name as device, s.imprint_id, s.address, s.ports, s.host_key, s.certificate, s.certificate_until,
                s.version, s.seen_at, s.silent_since, s.misses
             from sightings s join devices d on d.id = s.device_id
             where ($1::text is null or d.name = $1)
               and ($2::timestamptz is null or (d.state = 'in service' and s.address is not null
                 and (s.looked_at is null or s.looked_at < $2)))
             order by s.looked_at nulls first limit $3",
            device,
            due_before,
            limit
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Devices in service that say nothing any more, or whose certificate ends before a moment.
    pub async fn need_a_look(
        &self,
        ends_before: OffsetDateTime,
    ) -> Result<Vec<Watched>, RecordError> {
        let rows = sqlx::query_as!(
            Watched,
            "select s.device_id, d.name as device, s.imprint_id, s.address, s.ports, s.host_key, s.certificate, s.certificate_until,
                s.version, s.seen_at, s.silent_since, s.misses
             from sightings s join devices d on d.id = s.device_id
             where d.state = 'in service' and (s.silent_since is not null or s.certificate_until < $1)
             order by s.silent_since, d.name limit 200",
            ends_before
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Records that nothing answered at a device; whether it counts as silent from now on.
    pub async fn missed(&self, device: i64) -> Result<bool, RecordError> {
        let row = sqlx::query!(
            r#"update sightings set misses = misses + 1, looked_at = now(),
                 silent_since = case when misses + 1 >= $2 then coalesce(silent_since, now()) end
               where device_id = $1 returning misses"#,
            device,
            SILENT
        );
        let row = row.fetch_optional(&self.pool).await?;
        Ok(row.is_some_and(|row| row.misses == SILENT))
    }

    /// Records what was seen of a device in service, and where, if that is another place than before.
    pub async fn seen_again(
        &self,
        device: i64,
        place: Option<(&str, &serde_json::Value)>,
        certificate: Option<(&str, Option<OffsetDateTime>)>,
        version: Option<&str>,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "update sightings set misses = 0, silent_since = null, seen_at = now(), looked_at = now(),
                certificate = coalesce($2, certificate),
                certificate_until = case when $2::text is null then certificate_until else $3 end,
                version = coalesce($4, version), address = coalesce($5, address), ports = coalesce($6, ports)
             where device_id = $1",
            device,
            certificate.map(|(fingerprint, _)| fingerprint),
            certificate.and_then(|(_, until)| until),
            version,
            place.map(|(address, _)| address),
            place.map(|(_, ports)| ports)
        )
        .execute(&mut *tx)
        .await?;
        settle_version(&mut tx, device, version).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Hardware addresses, imprints and keys of all devices that are not retired, by name.
    pub async fn marks(&self) -> Result<Vec<Marks>, RecordError> {
        let rows = sqlx::query_as!(
            Marks,
            r#"select d.name as "device!", d.site as "site!", d.host_name, d.macs as "macs!", d.imprint_id,
                 case when s.imprint_id is not distinct from d.imprint_id then s.host_key end as host_key
               from devices d left join sightings s on s.device_id = d.id
               where d.state <> 'retired' and (cardinality(d.macs) > 0 or s.host_key is not null)"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}

/// What a board said on a serial line.
#[derive(Clone, Debug)]
pub struct Heard {
    /// The port.
    pub port: String,
    /// Its speed.
    pub baud: i32,
    /// What was said.
    pub text: String,
    /// Why it ended, if not because somebody wanted it.
    pub problem: Option<String>,
    /// Since when.
    pub began_at: OffsetDateTime,
    /// Until when.
    pub ended_at: Option<OffsetDateTime>,
}

impl Records {
    /// Begins to keep what a board says; what was kept of the same arrival before is forgotten.
    pub async fn begin_line(&self, arrival: i64, port: &str, baud: i32) -> Result<(), RecordError> {
        sqlx::query!(
            "insert into arrival_lines (arrival_id, port, baud) values ($1, $2, $3)
             on conflict (arrival_id) do update set port = $2, baud = $3, text = '', problem = null, began_at = now(),
                ended_at = null",
            arrival,
            port,
            baud
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Keeps what was heard so far.
    pub async fn line_heard(&self, arrival: i64, text: &str) -> Result<(), RecordError> {
        sqlx::query!(
            "update arrival_lines set text = $2 where arrival_id = $1",
            arrival,
            text
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Keeps what was heard to the end.
    pub async fn end_line(
        &self,
        arrival: i64,
        text: &str,
        problem: Option<&str>,
    ) -> Result<(), RecordError> {
        sqlx::query!(
            "update arrival_lines set text = $2, problem = $3, ended_at = now() where arrival_id = $1",
            arrival,
            text,
            problem
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// What was heard of an arrival.
    pub async fn line_of(&self, arrival: i64) -> Result<Option<Heard>, RecordError> {
        let row = sqlx::query_as!(
            Heard,
            "select port, baud, text, problem, began_at, ended_at from arrival_lines where arrival_id = $1",
            arrival
        );
        Ok(row.fetch_optional(&self.pool).await?)
    }
}

/// What tells a device from others.
#[derive(Clone, Debug)]
pub struct Marks {
    /// Its name.
    pub device: String,
    /// Where it is.
    pub site: String,
    /// Its host name.
    pub host_name: Option<String>,
    /// Its hardware addresses.
    pub macs: Vec<String>,
    /// The imprint that it carries.
    pub imprint_id: Option<i64>,
    /// Fingerprint of its SSH server's key with that imprint.
    pub host_key: Option<String>,
}

fn over(id: i64) -> RecordError {
    RecordError::Conflict(format!("arrival {id} is over, or there is none"))
}

async fn put_sighting(
    tx: &mut sqlx::PgConnection,
    device: i64,
    seen: &Sighting,
) -> Result<(), RecordError> {
    if seen.address.is_none() {
        // It was accepted unseen: what was seen of it before stays, with when that was.
        sqlx::query!(
            "insert into sightings (device_id, imprint_id, looked_at) values ($1, $2, now())
             on conflict (device_id) do update set misses = 0, silent_since = null",
            device,
            seen.imprint_id
        )
        .execute(&mut *tx)
        .await?;
        return Ok(());
    }
    if let Some(mac) = &seen.mac {
        // By it the board is found and known when it joins its network the next time.
        sqlx::query!(
            "update devices set macs = array_append(macs, $2::text)
             where id = $1 and not exists (select 1 from devices where $2 = any(macs))",
            device,
            mac
        )
        .execute(&mut *tx)
        .await?;
    }
    sqlx::query!(
        "insert into sightings (device_id, imprint_id, address, ports, host_key, certificate, certificate_until, version,
            seen_at, looked_at)
         values ($1, $2, $3, $4, $5, $6, $7, $8, now(), now())
         on conflict (device_id) do update set imprint_id = $2, address = $3, ports = $4, host_key = $5,
            certificate = $6, certificate_until = $7, version = $8, seen_at = now(), looked_at = now(), misses = 0,
            silent_since = null",
        device,
        seen.imprint_id,
        seen.address,
        seen.ports,
        seen.host_key,
        seen.certificate,
        seen.certificate_until,
        seen.version
    )
    .execute(&mut *tx)
    .await?;
    settle_version(tx, device, seen.version.as_deref()).await
}

/// A device that says the version of another release of its kind than its card was written with was updated in
/// place. Only what was said with the card that it has now tells that.
async fn settle_version(
    tx: &mut sqlx::PgConnection,
    device: i64,
    version: Option<&str>,
) -> Result<(), RecordError> {
    let Some(version) = version else {
        return Ok(());
    };
    sqlx::query!(
        "update devices d set runs_release_id = n.runs from (
            select d.id, nullif((select case when count(*) = 1 then min(r.id) end from releases r
                where r.appliance = d.appliance and r.variant is not distinct from d.variant
                    and lower(btrim($2)) in (lower(r.version), lower(r.name))), d.carried_release_id) as runs
            from devices d join sightings s on s.device_id = d.id and s.imprint_id = d.imprint_id where d.id = $1) n
         where d.id = n.id and d.runs_release_id is distinct from n.runs",
        device,
        version
    )
    .execute(tx)
    .await?;
    Ok(())
}
