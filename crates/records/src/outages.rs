//! Devices whose card is out, and what was seen of cards and devices in the field.

use time::OffsetDateTime;

use crate::{RecordError, Records, events};

/// A time in which a device is down.
#[derive(Clone, Debug)]
pub struct Outage {
    /// Number.
    pub id: i64,
    /// Name of the device.
    pub device: String,
    /// Label of the card that was taken out; it is held until the outage ends.
    pub card: Option<String>,
    /// Why, in somebody's words.
    pub reason: String,
    /// Who said so.
    pub operator: String,
    /// Since when.
    pub since: OffsetDateTime,
    /// Until when, if it is over.
    pub ended_at: Option<OffsetDateTime>,
    /// Who said that it works again.
    pub ended_by: Option<String>,
    /// With what it works again: `original` or `new`.
    pub ended_how: Option<String>,
}

/// Something that was seen of a card or device.
#[derive(Clone, Debug)]
pub struct Fault {
    /// Number.
    pub id: i64,
    /// Label of the card.
    pub card: Option<String>,
    /// Name of the device.
    pub device: Option<String>,
    /// What was seen.
    pub symptom: String,
    /// Who saw it.
    pub operator: String,
    /// When it was told.
    pub at: OffsetDateTime,
}

impl Records {
    /// Records that the card of a device was taken out: the device is down, the card is held.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where the device is down already.
    pub async fn take_out(
        &self,
        device: &str,
        card: Option<&str>,
        reason: &str,
        operator: &str,
    ) -> Result<(), RecordError> {
        let down = format!("device {device} is down already");
        let mut tx = self.pool.begin().await?;
        // Card before device, as whoever settles an imprint does.
        let card = match card {
            None => None,
            Some(label) => Some(
                sqlx::query_scalar!(
                    "update cards set state = 'held' where label = $1 and state not in ('lost', 'retired') returning id",
                    label
                )
                .fetch_optional(&mut *tx)
                .await?
                .ok_or_else(|| RecordError::unknown("card", label))?,
            ),
        };
        let id = sqlx::query_scalar!(
            "update devices set state = 'down' where name = $1 and state <> 'retired' returning id",
            device
        )
        .fetch_optional(&mut *tx)
        .await?
        .ok_or_else(|| RecordError::unknown("device", device))?;
        sqlx::query!(
            "insert into outages (device_id, card_id, reason, operator) values ($1, $2, $3, $4)",
            id,
            card,
            reason,
            operator
        )
        .execute(&mut *tx)
        .await
        .map_err(|e| RecordError::explain(e, &[("outages_open", down)]))?;
        let summary = format!("{device} is down: its card was taken out");
        events::add(&mut tx, operator, "device.down", device, &summary).await?;
        Ok(tx.commit().await?)
    }

    /// Records that a device works again, with its original card or a new one. The card that was held for
    /// it is held no more.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where it is not down.
    pub async fn bring_back(
        &self,
        device: &str,
        how: &str,
        operator: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let ended = sqlx::query!(
            "update outages set ended_at = now(), ended_by = $2, ended_how = $3
             where ended_at is null and device_id = (select id from devices where name = $1) returning card_id, device_id",
            device,
            operator,
            how
        )
        .fetch_optional(&mut *tx)
        .await?
        .ok_or_else(|| RecordError::Conflict(format!("device {device} is not down")))?;
        sqlx::query!(
            "update cards set state = 'blank' where id = $1 and state = 'held'",
            ended.card_id
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "update devices set state = 'in service' where id = $1 and state = 'down'",
            ended.device_id
        )
        .execute(&mut *tx)
        .await?;
        let what = match how {
            "original" => "its original card is back",
            _ => "a new card works in it",
        };
        let summary = format!("{device} works again: {what}");
        events::add(&mut tx, operator, "device.back", device, &summary).await?;
        Ok(tx.commit().await?)
    }

    /// Devices that are down, the longest first; or the outages of one device, newest first.
    pub async fn outages(&self, device: Option<&str>) -> Result<Vec<Outage>, RecordError> {
        let rows = sqlx::query_as!(
            Outage,
            r#"select o.id, d.name as device, c.label as "card?", o.reason, o.operator, o.since, o.ended_at, o.ended_by,
                 o.ended_how
               from outages o join devices d on d.id = o.device_id left join cards c on c.id = o.card_id
               where ($1::text is null and o.ended_at is null) or d.name = $1
               order by case when $1::text is null then o.since end, o.id desc limit 200"#,
            device
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Records what was seen of a card, a device or both; the card is mistrusted from then on.
    pub async fn add_fault(
        &self,
        card: Option<&str>,
        device: Option<&str>,
        symptom: &str,
        operator: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        if let Some(label) = card {
            let suspicion = format!("in the field: {symptom}");
            let known = sqlx::query!(
                "update cards set suspicion = coalesce(suspicion, $2) where label = $1",
                label,
                suspicion
            )
            .execute(&mut *tx)
            .await?;
            if known.rows_affected() == 0 {
                return Err(RecordError::unknown("card", label));
            }
        }
        sqlx::query!(
            "insert into faults (card_id, device_id, symptom, operator)
             values ((select id from cards where label = $1), (select id from devices where name = $2), $3, $4)",
            card,
            device,
            symptom,
            operator
        )
        .execute(&mut *tx)
        .await?;
        let subject = card.or(device).unwrap_or_default();
        let summary = format!("Seen of {subject}: {symptom}");
        events::add(&mut tx, operator, "fault.seen", subject, &summary).await?;
        Ok(tx.commit().await?)
    }

    /// What was seen last of each device, where nothing ended it since: it was not accepted, brought back or written
    /// anew, and its card is still suspect.
    pub async fn open_faults(&self) -> Result<Vec<Fault>, RecordError> {
        let rows = sqlx::query_as!(
            Fault,
            r#"select distinct on (d.name) f.id, c.label as "card?", d.name as "device?", f.symptom, f.operator, f.at
               from faults f join devices d on d.id = f.device_id left join cards c on c.id = f.card_id
               where d.state <> 'retired' and f.handled_at is null
                 and not exists (select 1 from outages o where o.device_id = d.id and o.ended_at > f.at)
                 and not exists (select 1 from arrivals a where a.device_id = d.id and a.state = 'accepted' and a.ended_at > f.at)
                 and not exists (select 1 from imprints i where i.device_id = d.id and i.state = 'verified'
                    and i.started_at > f.at)
               order by d.name, f.id desc limit 200"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// What was seen of a card, or of a device, newest first.
    pub async fn faults(
        &self,
        card: Option<&str>,
        device: Option<&str>,
    ) -> Result<Vec<Fault>, RecordError> {
        let rows = sqlx::query_as!(
            Fault,
            r#"select f.id, c.label as "card?", d.name as "device?", f.symptom, f.operator, f.at
               from faults f left join cards c on c.id = f.card_id left join devices d on d.id = f.device_id
               where ($1::text is not null and c.label = $1) or ($2::text is not null and d.name = $2)
               order by f.id desc limit 100"#,
            card,
            device
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}
