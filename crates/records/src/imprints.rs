//! Imprints: what was written onto which card.

use serde::{Deserialize, Serialize};
use sqlx::PgConnection;
use time::OffsetDateTime;

use crate::jobs::{self, Ending};
use crate::{RecordError, Records, events};

/// What an imprint was made from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Base {
    /// A release, by number.
    Release(i64),
    /// A backup, by number.
    Backup(i64),
}

/// An imprint that is about to be made.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct NewImprint {
    /// Card that is written.
    pub card: i64,
    /// Device that it is for.
    pub device: Option<i64>,
    /// What it is made from.
    pub base: Base,
    /// Name of that.
    pub base_name: String,
    /// Job that writes it.
    pub job: i64,
    /// Slot that the card is in.
    pub slot: String,
    /// Who writes it.
    pub operator: String,
    /// Effective settings with origins; a fingerprint for each secret.
    pub settings: serde_json::Value,
    /// Whether those are known: of a restore they may not be.
    pub settings_known: bool,
    /// Where data behind the last partition ends, if there is any.
    pub behind: Option<i64>,
    /// Files as they land, secrets masked.
    pub files: serde_json::Value,
    /// Why a withdrawn release is written all the same.
    pub override_reason: Option<String>,
    /// What growing the last partition came to.
    pub growth: Option<String>,
    /// Partitions that were left as they are, and why.
    pub left_out: Vec<String>,
    /// Names of the cautions that were accepted.
    pub accepted: Vec<String>,
}

/// What the vault keeps of an imprint beside its content, for records that do not know it. Names stand for what has
/// other numbers there.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct NotedImprint {
    /// Its number.
    pub imprint: i64,
    /// Label of its card.
    pub card: String,
    /// Size of the card, in bytes.
    pub card_size: i64,
    /// What kind of medium that is.
    pub card_kind: String,
    /// Digest of head and tail of the card before it was touched, in hexadecimal digits.
    pub edges: String,
    /// Name of the device that it is for.
    pub device: Option<String>,
    /// Everything else.
    pub made: NewImprint,
}

/// A recorded imprint.
#[derive(Clone, Debug)]
#[allow(missing_docs)] // as in NewImprint
pub struct Imprint {
    pub id: i64,
    pub card: String,
    pub device: Option<String>,
    pub base: String,
    pub from_backup: bool,
    pub job_id: i64,
    pub slot: String,
    pub operator: String,
    /// `planned`, `writing`, `in doubt`, `verified`, `incomplete` or `void`.
    pub state: String,
    pub settings: serde_json::Value,
    pub files: serde_json::Value,
    /// Bytes put on the card.
    pub written: Option<i64>,
    /// Bytes read back and found equal.
    pub verified: Option<i64>,
    pub started_at: OffsetDateTime,
    pub finished_at: Option<OffsetDateTime>,
    pub override_reason: Option<String>,
    /// Names of the cautions that were accepted.
    pub accepted: Vec<String>,
    pub growth: Option<String>,
    pub left_out: Vec<String>,
    /// Of a write that did not end well: `unfinished` or `may boot`.
    pub left_as: Option<String>,
    /// Whether the card was shown to hold all that it reports.
    pub size_proven: bool,
    pub settings_known: bool,
    pub behind: Option<i64>,
}

/// A write that was under way when the service ended.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Doubt {
    pub imprint: i64,
    pub job: i64,
    pub card: String,
    /// The exact content that the card was to get.
    pub manifest: Vec<u8>,
    /// Digest of head and tail when the card was last seen without a stamp of ours.
    pub edges: Option<Vec<u8>>,
    /// Whether nothing is known of it. Else it was called void, or failed and *may boot*, which
    /// its card can still prove wrong.
    pub open: bool,
}

/// What is known of a card whose write did not end with a verified card.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Spoilt {
    /// Not a byte was changed.
    Untouched,
    /// It carries the mark.
    Unfinished,
    /// It may boot, and nothing vouches for it.
    MayBoot,
}

/// The first of some devices by name, and how many there are.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Some20 {
    /// The first twenty.
    pub names: Vec<String>,
    /// How many there are.
    pub total: i64,
}

/// A Wi-Fi network that cards carry.
#[derive(Clone, Debug)]
pub struct CarriedNetwork {
    /// Its name.
    pub name: String,
    /// Stands for the passphrase; empty where there is none.
    pub fingerprint: String,
    /// Devices whose cards carry it.
    pub devices: Some20,
}

/// An imprint that was made when nobody kept records of it: its number, its content, and when that was.
pub(crate) type Found<'a> = (i64, &'a [u8], OffsetDateTime);

/// Puts an imprint into the records: one that is planned, or one that was found and is in doubt.
pub(crate) async fn insert(
    connection: &mut PgConnection,
    new: &NewImprint,
    found: Option<Found<'_>>,
) -> Result<i64, sqlx::Error> {
    let (release, backup) = match new.base {
        Base::Release(id) => (Some(id), None),
        Base::Backup(id) => (None, Some(id)),
    };
    sqlx::query_scalar!(
        "insert into imprints (card_id, device_id, release_id, backup_id, base, job_id, slot, operator, settings,
            files, override_reason, growth, left_out, settings_known, behind, accepted, origin_release_id,
            id, state, manifest, started_at) overriding system value
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, coalesce($3,
            (select o.origin_release_id from backups b join imprints o on o.id = b.imprint_id where b.id = $4)),
            coalesce($17, nextval('imprints_id_seq')), case when $17::bigint is null then 'planned' else 'in doubt' end,
            $18, coalesce($19, now()))
         returning id",
        new.card,
        new.device,
        release,
        backup,
        new.base_name,
        new.job,
        new.slot,
        new.operator,
        new.settings,
        new.files,
        new.override_reason,
        new.growth,
        &new.left_out,
        new.settings_known,
        new.behind,
        &new.accepted,
        found.map(|(id, _, _)| id),
        found.map(|(_, manifest, _)| manifest),
        found.map(|(_, _, at)| at)
    )
    .fetch_one(connection)
    .await
}

impl Records {
    /// Records an imprint before the card is touched.
    pub async fn begin_imprint(&self, new: &NewImprint) -> Result<i64, RecordError> {
        let mut connection = self.pool.acquire().await?;
        Ok(insert(&mut connection, new, None).await?)
    }

    /// Keeps the name of the exact content and says that the card is being written, right before
    /// it is touched.
    pub async fn touch_card(&self, id: i64, manifest: &[u8]) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "update imprints set state = 'writing', manifest = $2 where id = $1 and state = 'planned'",
            id,
            manifest
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// Records that the card was written and read back in full, and the end of the job: at once.
    pub async fn finish_imprint(
        &self,
        id: i64,
        written: i64,
        verified: i64,
        size_proven: bool,
        ending: &Ending,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "update imprints set state = 'verified', written = $2, verified = $3, size_proven = $4,
                finished_at = now() where id = $1 and state = 'writing'",
            id,
            written,
            verified,
            size_proven
        )
        .execute(&mut *tx)
        .await?;
        jobs::end(&mut tx, ending).await?;
        Ok(tx.commit().await?)
    }

    /// Records that the write did not end well, and the end of the job: a card that was not
    /// touched is as before, another is *incomplete*. A card that is itself to blame is mistrusted.
    pub async fn spoil_imprint(
        &self,
        id: i64,
        spoilt: Spoilt,
        suspicion: Option<&str>,
        ending: &Ending,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        spoil(&mut tx, id, spoilt).await?;
        sqlx::query!(
            "update cards set suspicion = coalesce($2, suspicion)
             where id = (select card_id from imprints where id = $1)",
            id,
            suspicion
        )
        .execute(&mut *tx)
        .await?;
        jobs::end(&mut tx, ending).await?;
        Ok(tx.commit().await?)
    }

    /// Writes onto cards of one size of which it is not known for sure what became of them, newest
    /// first: those of one card, or the newest twenty of all.
    pub async fn doubts(&self, size: i64, card: Option<&str>) -> Result<Vec<Doubt>, RecordError> {
        let rows = sqlx::query_as!(
            Doubt,
            r#"select i.id as "imprint!", i.job_id as "job!", c.label as "card!", i.manifest as "manifest!", c.edges,
                 i.state = 'in doubt' as "open!"
               from imprints i join cards c on c.id = i.card_id
               where c.size = $1 and ($2::text is null or c.label = $2) and i.manifest is not null
                 and (i.state in ('in doubt', 'void') or i.left_as = 'may boot')
                 and not exists (select from imprints n where n.card_id = i.card_id and n.id > i.id
                    and n.state not in ('planned', 'void'))
               order by i.id desc limit 20"#,
            size,
            card
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Settles a write in doubt, now that its card was looked at: it is whole, or spoilt. `false`
    /// where it was settled already.
    pub async fn settle_doubt(
        &self,
        id: i64,
        spoilt: Option<Spoilt>,
        summary: &str,
    ) -> Result<bool, RecordError> {
        let mut tx = self.pool.begin().await?;
        let open = sqlx::query_scalar!(
            r#"select c.label as "label!" from imprints i join cards c on c.id = i.card_id
               where i.id = $1 and (i.state in ('in doubt', 'void') or i.left_as = 'may boot') for update of i"#,
            id
        )
        .fetch_optional(&mut *tx)
        .await?;
        let Some(label) = open else {
            return Ok(false);
        };
        match spoilt {
            Some(spoilt) => spoil(&mut tx, id, spoilt).await?,
            None => {
                sqlx::query!(
                    "update imprints set state = 'verified', left_as = null where id = $1",
                    id
                )
                .execute(&mut *tx)
                .await?;
            }
        }
        events::add(&mut tx, "service", "card.settled", &label, summary).await?;
        tx.commit().await?;
        Ok(true)
    }

    /// Name of the release whose content an imprint is, however many backups and restores lie between.
    pub async fn origin_release(&self, id: i64) -> Result<Option<String>, RecordError> {
        let name = sqlx::query_scalar!(
            "select r.name from imprints i join releases r on r.id = i.origin_release_id where i.id = $1",
            id
        );
        Ok(name.fetch_optional(&self.pool).await?)
    }

    /// The card of an imprint and the name of its exact content, if it was written in full.
    pub async fn imprint_content(&self, id: i64) -> Result<Option<(String, Vec<u8>)>, RecordError> {
        let row = sqlx::query!(
            r#"select c.label as "label!", i.manifest as "manifest!" from imprints i join cards c on c.id = i.card_id
               where i.id = $1 and i.manifest is not null and i.state = 'verified'"#,
            id
        );
        let found = row.fetch_optional(&self.pool).await?;
        Ok(found.map(|row| (row.label, row.manifest)))
    }

    /// A digest of what devices carry under which name: another one after any change of that.
    pub async fn carried_digest(&self) -> Result<(i64, i64), RecordError> {
        let row = sqlx::query!(
            r#"select count(*) as "devices!", coalesce(bit_xor(hashtextextended(concat_ws('|', id,
                 coalesce(imprint_id, 0), carried_known, name), 0)), 0) as "digest!" from devices"#
        );
        let row = row.fetch_one(&self.pool).await?;
        Ok((row.devices, row.digest))
    }

    /// The Wi-Fi networks on the cards of devices, as far as it is known what those carry.
    pub async fn carried_networks(&self) -> Result<Vec<CarriedNetwork>, RecordError> {
        let rows = sqlx::query!(
            r#"select n.name, n.fingerprint, (array_agg(d.name order by d.name))[1:20] as "names!", count(*) as "total!"
               from devices d join imprint_networks n on n.imprint_id = d.imprint_id
               where d.carried_known group by 1, 2 order by 1, 2"#
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let networks = rows.map(|row| CarriedNetwork {
            name: row.name,
            fingerprint: row.fingerprint,
            devices: Some20 {
                names: row.names,
                total: row.total,
            },
        });
        Ok(networks.collect())
    }

    /// Devices with a card of which it is not known which settings it carries: it is not whole, or was
    /// restored from a backup of which that is not known.
    pub async fn unknown_carriers(&self) -> Result<Some20, RecordError> {
        let row = sqlx::query!(
            r#"select (array_agg(d.name order by d.name))[1:20] as names, count(*) as "total!"
               from devices d where not d.carried_known"#
        );
        let row = row.fetch_one(&self.pool).await?;
        Ok(Some20 {
            names: row.names.unwrap_or_default(),
            total: row.total,
        })
    }

    /// The numbers of all imprints that were made for these devices.
    pub async fn imprints_of(
        &self,
        devices: &[i64],
    ) -> Result<std::collections::HashMap<i64, Vec<i64>>, RecordError> {
        let rows = sqlx::query!(
            r#"select device_id as "device!", array_agg(id) as "imprints!" from imprints where device_id = any($1)
               group by device_id"#,
            devices
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.map(|row| (row.device, row.imprints)).collect())
    }

    /// What these devices carry now, by device; whatever became of the write.
    pub async fn carried_by(
        &self,
        devices: &[i64],
    ) -> Result<std::collections::HashMap<i64, Imprint>, RecordError> {
        let rows = sqlx::query!(
            r#"select d.id as device_id, i.id, c.label as "card!", d.name as device, i.base,
                 i.backup_id is not null as "from_backup!", i.job_id, i.slot, i.operator, i.state, i.settings, i.files,
                 i.written, i.verified, i.started_at, i.finished_at, i.override_reason, i.accepted, i.growth, i.left_out, i.left_as,
                 i.size_proven, i.settings_known, i.behind
               from devices d join imprints i on i.id = d.imprint_id join cards c on c.id = i.card_id
               where d.id = any($1)"#,
            devices
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let found = rows.map(|row| {
            let imprint = Imprint {
                id: row.id,
                card: row.card,
                device: Some(row.device),
                base: row.base,
                from_backup: row.from_backup,
                job_id: row.job_id,
                slot: row.slot,
                operator: row.operator,
                state: row.state,
                settings: row.settings,
                files: row.files,
                written: row.written,
                verified: row.verified,
                started_at: row.started_at,
                finished_at: row.finished_at,
                override_reason: row.override_reason,
                accepted: row.accepted,
                growth: row.growth,
                left_out: row.left_out,
                left_as: row.left_as,
                size_proven: row.size_proven,
                settings_known: row.settings_known,
                behind: row.behind,
            };
            (row.device_id, imprint)
        });
        Ok(found.collect())
    }

    /// What is on a card now, whatever became of the write.
    pub async fn on_card(&self, card: &str) -> Result<Option<Imprint>, RecordError> {
        let id = sqlx::query_scalar!(
            r#"select i.id as "id!" from on_card i join cards c on c.id = i.card_id where c.label = $1"#,
            card
        )
        .fetch_optional(&self.pool)
        .await?;
        match id {
            Some(id) => self.imprint(id).await,
            None => Ok(None),
        }
    }

    /// One imprint.
    pub async fn imprint(&self, id: i64) -> Result<Option<Imprint>, RecordError> {
        let rows = sqlx::query_as!(
            Imprint,
            r#"select i.id, c.label as "card!", d.name as "device?", i.base, i.backup_id is not null as "from_backup!",
                 i.job_id, i.slot, i.operator, i.state, i.settings, i.files, i.written, i.verified,
                 i.started_at, i.finished_at, i.override_reason, i.accepted, i.growth, i.left_out, i.left_as, i.size_proven,
                 i.settings_known, i.behind
               from imprints i join cards c on c.id = i.card_id left join devices d on d.id = i.device_id
               where i.id = $1"#,
            id
        );
        Ok(rows.fetch_optional(&self.pool).await?)
    }

    /// The imprints of a card, or of a device, newest first, at most `most`.
    pub async fn imprints(
        &self,
        card: Option<&str>,
        device: Option<&str>,
        most: i64,
    ) -> Result<Vec<Imprint>, RecordError> {
        let rows = sqlx::query_as!(
            Imprint,
            r#"select i.id, c.label as "card!", d.name as "device?", i.base, i.backup_id is not null as "from_backup!",
                 i.job_id, i.slot, i.operator, i.state, i.settings, i.files, i.written, i.verified,
                 i.started_at, i.finished_at, i.override_reason, i.accepted, i.growth, i.left_out, i.left_as, i.size_proven,
                 i.settings_known, i.behind
               from imprints i join cards c on c.id = i.card_id left join devices d on d.id = i.device_id
               where i.card_id = (select id from cards where label = $1)
                 or i.device_id = (select id from devices where name = $2)
               order by i.id desc limit $3"#,
            card,
            device,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}

async fn spoil(tx: &mut PgConnection, id: i64, spoilt: Spoilt) -> Result<(), RecordError> {
    let (state, left_as) = match spoilt {
        Spoilt::Untouched => ("void", None),
        Spoilt::Unfinished => ("incomplete", Some("unfinished")),
        Spoilt::MayBoot => ("incomplete", Some("may boot")),
    };
    sqlx::query!(
        "update imprints set finished_at = now(), state = $2, left_as = $3
         where id = $1 and state <> 'verified'",
        id,
        state,
        left_as
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}
