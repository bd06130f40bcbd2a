//! Devices and their settings.

mod standings;
mod table;
mod wanted;

use sqlx::PgConnection;
use time::OffsetDateTime;

use crate::{RecordError, Records};

pub use table::TableRow;
pub use wanted::{Group, OwnFields, OwnFieldsOf, Wanted};

/// A device that is about to be registered.
#[derive(Clone, Debug)]
pub struct NewDevice {
    /// Name, unique in the team.
    pub name: String,
    /// Board model.
    pub board: String,
    /// Appliance that it becomes.
    pub appliance: String,
    /// Variant of it.
    pub variant: Option<String>,
    /// Site that it stands on.
    pub site: String,
    /// Notes.
    pub notes: String,
    /// Who registers it.
    pub added_by: String,
}

/// A registered device.
#[derive(Clone, Debug, PartialEq, sqlx::FromRow)]
#[allow(missing_docs)] // as in NewDevice
pub struct Device {
    pub id: i64,
    pub name: String,
    pub board: String,
    pub appliance: String,
    pub variant: Option<String>,
    pub site: String,
    pub notes: String,
    pub state: String,
    pub host_name: Option<String>,
    pub added_by: String,
    pub added_at: OffsetDateTime,
    /// The release that it stays with, if it does not follow what is current.
    pub pinned_release_id: Option<i64>,
    /// The name of that release.
    pub pinned: Option<String>,
    /// Label of the card that was written for it last and is still its card, whatever became of
    /// the write.
    pub card: Option<String>,
    /// State of that card's imprint: only *verified* is whole.
    pub card_state: Option<String>,
    /// What is plugged into it.
    pub attached: Vec<String>,
    /// Hardware addresses of its ports.
    pub macs: Vec<String>,
    /// The release whose content is on its card, where that is whole.
    pub carried_release_id: Option<i64>,
    /// The release that it was updated to in place since then, as the version that it says tells.
    pub runs_release_id: Option<i64>,
    /// Number of the imprint on its card.
    pub imprint_id: Option<i64>,
    /// The version that it said last with that card in it.
    pub seen_version: Option<String>,
    /// Measured size of its card in bytes.
    pub card_bytes: Option<i64>,
    /// How often it was changed: what is told about it, and what is set on it.
    pub revision: i64,
}

/// What is read of a device, from [`FROM`].
const COLUMNS: &str = "d.id, d.name, d.board, d.appliance, d.variant, d.site, d.notes, d.state, d.host_name,
    d.added_by, d.added_at, d.pinned_release_id, d.attached, d.macs, d.revision, k.label as card, k.size as card_bytes, d.card_state,
    d.carried_release_id, d.runs_release_id, d.imprint_id, (select r.name from releases r where r.id = d.pinned_release_id) as pinned,
    (select s.version from sightings s where s.device_id = d.id and s.imprint_id = d.imprint_id) as seen_version";

const FROM: &str = "devices d left join cards k on k.id = d.card_id";

/// What is told about a device beside its settings; what is left out stays.
#[derive(Clone, Debug, Default)]
pub struct About {
    /// Notes.
    pub notes: Option<String>,
    /// What is plugged into it.
    pub attached: Option<Vec<String>>,
    /// Hardware addresses of its ports.
    pub macs: Option<Vec<String>>,
    /// Another name.
    pub name: Option<String>,
    /// Another site.
    pub site: Option<String>,
    /// Another board model.
    pub board: Option<String>,
    /// Another appliance and variant.
    pub appliance: Option<(String, Option<String>)>,
    /// Whether it is retired, or in use again.
    pub retired: Option<bool>,
}

/// Something found out when a device was set up.
#[derive(Clone, Debug)]
pub struct Fact {
    /// What it is.
    pub name: String,
    /// It, sealed.
    pub sealed: Vec<u8>,
    /// Who told it.
    pub set_by: String,
    /// When.
    pub set_at: OffsetDateTime,
}

/// One value, plain or sealed.
#[derive(Clone, Debug)]
pub struct Setting {
    /// Name of the field.
    pub field: String,
    /// The value, unless it is a secret.
    pub value: Option<String>,
    /// The sealed value of a secret.
    pub sealed: Option<Vec<u8>>,
}

/// A value of a preset or device, told by whose it is.
#[derive(Clone, Debug)]
pub struct OwnedSetting {
    /// Number of the preset or device.
    pub owner: i64,
    /// Name of the field.
    pub field: String,
    /// The value, unless it is a secret.
    pub value: Option<String>,
    /// The sealed value of a secret.
    pub sealed: Option<Vec<u8>>,
}

impl OwnedSetting {
    /// The value apart from whose it is.
    pub fn setting(self) -> Setting {
        Setting {
            field: self.field,
            value: self.value,
            sealed: self.sealed,
        }
    }
}

/// What becomes of one field.
#[derive(Clone, Debug)]
pub enum Change {
    /// A value for all to see.
    Plain(String),
    /// A host name, unique on the site.
    HostName(String),
    /// A secret in sealed form.
    Sealed(Vec<u8>),
    /// No value any more.
    Clear,
}

impl Device {
    /// Its card, if that is whole.
    pub fn whole_card(&self) -> Option<&str> {
        let whole = self.card_state.as_deref() == Some("verified");
        self.card.as_deref().filter(|_| whole)
    }
}

impl Records {
    /// Registers a device.
    pub async fn add_device(&self, new: &NewDevice) -> Result<i64, RecordError> {
        let mut connection = self.pool.acquire().await?;
        add(&mut connection, new).await
    }

    /// All devices by name.
    pub async fn devices(&self) -> Result<Vec<Device>, RecordError> {
        let query = format!("select {COLUMNS} from {FROM} order by d.name");
        let rows = sqlx::query_as(sqlx::AssertSqlSafe(query));
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The devices of these names; a name that none has is left out.
    pub async fn devices_named(&self, names: &[String]) -> Result<Vec<Device>, RecordError> {
        let mut query =
            sqlx::QueryBuilder::new(format!("select {COLUMNS} from {FROM} where d.name = any("));
        query.push_bind(names).push(") order by d.name");
        Ok(query.build_query_as().fetch_all(&self.pool).await?)
    }

    /// Some devices by their numbers, in no order; numbers that are none are left out.
    pub async fn devices_of(&self, ids: &[i64]) -> Result<Vec<Device>, RecordError> {
        let query = format!("select {COLUMNS} from {FROM} where d.id = any($1)");
        let rows = sqlx::query_as(sqlx::AssertSqlSafe(query)).bind(ids);
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One device by name.
    pub async fn device(&self, name: &str) -> Result<Device, RecordError> {
        let query = format!("select {COLUMNS} from {FROM} where d.name = $1");
        sqlx::query_as(sqlx::AssertSqlSafe(query))
            .bind(name)
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("device", name))
    }

    /// The first of the devices on whose ports one of these hardware addresses is, and the address.
    pub async fn mac_taken(
        &self,
        macs: &[String],
        but: &str,
    ) -> Result<Option<(String, String)>, RecordError> {
        let row = sqlx::query!(
            r#"select name, (select m from unnest(macs) m where m = any($1) limit 1) as "mac!"
               from devices where macs && $1 and name <> $2 order by name limit 1"#,
            macs,
            but
        );
        let found = row.fetch_optional(&self.pool).await?;
        Ok(found.map(|row| (row.name, row.mac)))
    }

    /// Devices, retired ones left out, on which one of these words is set by itself: a value's first
    /// word in small letters, without the length of an address.
    pub async fn devices_with_word(&self, words: &[String]) -> Result<Vec<i64>, RecordError> {
        let rows = sqlx::query_scalar!(
            "select distinct s.device_id from settings s join devices d on d.id = s.device_id
             where lower(split_part(split_part(s.value, '/', 1), ' ', 1)) = any($1) and d.state <> 'retired'",
            words
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Devices, retired ones left out, on which one of these fields is set as a secret.
    pub async fn devices_with_secret(&self, fields: &[String]) -> Result<Vec<i64>, RecordError> {
        let rows = sqlx::query_scalar!(
            "select distinct s.device_id from settings s join devices d on d.id = s.device_id
             where s.field = any($1) and s.sealed is not null and d.state <> 'retired'",
            fields
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The values set on these devices themselves.
    pub async fn settings_of(&self, devices: &[i64]) -> Result<Vec<OwnedSetting>, RecordError> {
        let rows = sqlx::query_as!(
            OwnedSetting,
            "select device_id as owner, field, value, sealed from settings where device_id = any($1)
             order by device_id, field",
            devices
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Pins a device to a release, or lets it follow what is current.
    pub async fn pin_device(&self, device: i64, release: Option<i64>) -> Result<(), RecordError> {
        sqlx::query!(
            "update devices set pinned_release_id = $2 where id = $1",
            device,
            release
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Changes what is told about a device.
    pub async fn describe_device(&self, device: i64, about: &About) -> Result<(), RecordError> {
        let mut connection = self.pool.acquire().await?;
        describe(&mut connection, device, about).await
    }

    /// Takes a device away for which nothing was ever written.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where cards were written for it, or read as its backup.
    pub async fn remove_device(&self, device: &Device) -> Result<(), RecordError> {
        let used = format!(
            "cards were written for {}, and the records of them stay; retire it instead",
            device.name
        );
        let said = [
            ("imprints_device_id_fkey", used.clone()),
            ("backups_device_id_fkey", used),
        ];
        sqlx::query!("delete from devices where id = $1", device.id)
            .execute(&self.pool)
            .await
            .map_err(|e| RecordError::explain(e, &said))?;
        Ok(())
    }

    /// The sealed facts of a device.
    pub async fn device_facts(&self, device: i64) -> Result<Vec<Fact>, RecordError> {
        let rows = sqlx::query_as!(
            Fact,
            "select name, sealed, set_by, set_at from device_facts where device_id = $1 order by name",
            device
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Keeps a fact of a device, or takes it away.
    pub async fn put_device_fact(
        &self,
        device: i64,
        name: &str,
        sealed: Option<&[u8]>,
        by: &str,
    ) -> Result<(), RecordError> {
        match sealed {
            Some(sealed) => sqlx::query!(
                "insert into device_facts (device_id, name, sealed, set_by) values ($1, $2, $3, $4)
                 on conflict (device_id, name) do update set sealed = $3, set_by = $4, set_at = now()",
                device,
                name,
                sealed,
                by
            )
            .execute(&self.pool)
            .await?,
            None => sqlx::query!(
                "delete from device_facts where device_id = $1 and name = $2",
                device,
                name
            )
            .execute(&self.pool)
            .await?,
        };
        Ok(())
    }

    /// The values set on a device itself.
    pub async fn settings(&self, device: i64) -> Result<Vec<Setting>, RecordError> {
        let rows = sqlx::query_as!(
            Setting,
            "select field, value, sealed from settings where device_id = $1 order by field",
            device
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Changes values of a device, all or none.
    pub async fn change_settings(
        &self,
        device: &Device,
        changes: &[(String, Change)],
        by: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        change(&mut tx, device, changes, by).await?;
        Ok(tx.commit().await?)
    }
}

async fn add(connection: &mut PgConnection, new: &NewDevice) -> Result<i64, RecordError> {
    let said = [
        (
            "devices_name_key",
            format!("there is a device {:?} already", new.name),
        ),
        (
            "devices_board_fkey",
            format!("there is no board model {:?}; add it first", new.board),
        ),
        (
            "devices_site_fkey",
            format!("there is no site {:?}; add it first", new.site),
        ),
    ];
    sqlx::query_scalar!(
        "insert into devices (name, board, appliance, variant, site, notes, added_by)
         values ($1, $2, $3, $4, $5, $6, $7) returning id",
        new.name,
        new.board,
        new.appliance,
        new.variant,
        new.site,
        new.notes,
        new.added_by
    )
    .fetch_one(connection)
    .await
    .map_err(|e| RecordError::explain(e, &said))
}

async fn describe(
    connection: &mut PgConnection,
    device: i64,
    about: &About,
) -> Result<(), RecordError> {
    let site = about.site.as_deref().unwrap_or("its site");
    let said = [
        (
            "devices_name_key",
            format!(
                "there is a device {:?} already",
                about.name.as_deref().unwrap_or("")
            ),
        ),
        (
            "devices_board_fkey",
            format!(
                "there is no board model {:?}; add it first",
                about.board.as_deref().unwrap_or("")
            ),
        ),
        (
            "devices_site_fkey",
            format!("there is no site {site:?}; add it first"),
        ),
        (
            "devices_host_name",
            format!("another device on {site} has its host name; names are unique on a site"),
        ),
    ];
    let (appliance, variant) = match &about.appliance {
        Some((appliance, variant)) => (Some(appliance), variant.as_ref()),
        None => (None, None),
    };
    sqlx::query!(
        "update devices set notes = coalesce($2, notes), attached = coalesce($3, attached),
            macs = coalesce($4, macs), name = coalesce($5, name), site = coalesce($6, site),
            board = coalesce($7, board), appliance = coalesce($8, appliance),
            variant = case when $8::text is null then variant else $9 end,
            state = case when $10::bool is null then state when $10 then 'retired' when state <> 'retired' then state
                when card_state = 'verified' then 'carded' else 'planned' end
         where id = $1",
        device,
        about.notes,
        about.attached.as_deref(),
        about.macs.as_deref(),
        about.name,
        about.site,
        about.board,
        appliance,
        variant,
        about.retired
    )
    .execute(connection)
    .await
    .map_err(|e| RecordError::explain(e, &said))?;
    Ok(())
}

async fn change(
    connection: &mut PgConnection,
    device: &Device,
    changes: &[(String, Change)],
    by: &str,
) -> Result<(), RecordError> {
    for (field, change) in changes {
        if let Change::HostName(name) = change {
            let taken = format!(
                "another device on site {:?} has the host name {name:?}; names are unique on a site",
                device.site
            );
            sqlx::query!(
                "update devices set host_name = $2 where id = $1",
                device.id,
                name
            )
            .execute(&mut *connection)
            .await
            .map_err(|e| RecordError::explain(e, &[("devices_host_name", taken)]))?;
        }
        let (value, sealed) = match change {
            Change::Plain(value) | Change::HostName(value) => (Some(value), None),
            Change::Sealed(sealed) => (None, Some(sealed)),
            Change::Clear => {
                sqlx::query!(
                    "update devices set host_name = null where id = $1 and host_name =
                            (select value from settings where device_id = $1 and field = $2)",
                    device.id,
                    field
                )
                .execute(&mut *connection)
                .await?;
                sqlx::query!(
                    "delete from settings where device_id = $1 and field = $2",
                    device.id,
                    field
                )
                .execute(&mut *connection)
                .await?;
                continue;
            }
        };
        sqlx::query!(
                "insert into settings (device_id, field, value, sealed, set_by) values ($1, $2, $3, $4, $5)
                 on conflict (device_id, field) do update
                 set value = $3, sealed = $4, set_by = $5, set_at = now()",
                device.id,
                field,
                value,
                sealed,
                by
            )
            .execute(&mut *connection)
            .await?;
    }
    Ok(())
}
