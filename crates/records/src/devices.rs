//! Devices and their settings.

use std::collections::HashMap;

use sqlx::PgConnection;
use time::OffsetDateTime;

use crate::lists::{self, Asked, List, Page, anywhere};
use crate::{RecordError, Records};

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
#[derive(Clone, Debug, sqlx::FromRow)]
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
    /// How often it was changed: what is told about it, and what is set on it.
    pub revision: i64,
}

/// Which devices are asked for: those that all of it holds of.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// A text anywhere in name, host name, card, notes, hardware or hardware address.
    pub search: Option<String>,
    /// State.
    pub state: Option<String>,
    /// Site.
    pub site: Option<String>,
    /// Board model.
    pub board: Option<String>,
    /// Appliance.
    pub appliance: Option<String>,
    /// Number of the release that its card carries.
    pub carries: Option<i64>,
    /// Classes that it must be of one of.
    pub classes: Option<Vec<Class>>,
    /// Only devices that are not retired.
    pub active: bool,
}

/// Devices for which the same release counts and whose cards carry the same.
#[derive(Clone, Debug, PartialEq, Eq, Hash, sqlx::FromRow)]
pub struct Class {
    /// Site.
    pub site: String,
    /// Appliance.
    pub appliance: String,
    /// Variant of it.
    pub variant: Option<String>,
    /// Board model.
    pub board: String,
    /// Number of the release that they stay with.
    pub pinned_release_id: Option<i64>,
    /// State of the imprint on their cards.
    pub card_state: Option<String>,
    /// The release whose content is on their cards, where those are whole.
    pub carried_release_id: Option<i64>,
}

/// A device that is not retired, with the names of the fields that are set on it itself.
#[derive(Clone, Debug)]
#[allow(missing_docs)] // as in Device
pub struct OwnFields {
    pub id: i64,
    pub name: String,
    pub site: String,
    pub appliance: String,
    pub variant: Option<String>,
    pub board: String,
    pub pinned_release_id: Option<i64>,
    pub fields: Vec<String>,
}

/// What is read of a device, from [`FROM`].
const COLUMNS: &str = "d.id, d.name, d.board, d.appliance, d.variant, d.site, d.notes, d.state, d.host_name,
    d.added_by, d.added_at, d.pinned_release_id, d.attached, d.macs, d.revision, k.label as card, d.card_state,
    d.carried_release_id, (select r.name from releases r where r.id = d.pinned_release_id) as pinned";

const FROM: &str = "devices d left join cards k on k.id = d.card_id";

const LIST: List = List {
    noun: "devices",
    columns: COLUMNS,
    from: FROM,
    id: "d.id",
    orders: &[
        lists::text("name", "d.name"),
        lists::text("site", "d.site"),
        lists::text("state", "d.state"),
        lists::text(
            "appliance",
            "(d.appliance || ' ' || coalesce(d.variant, ''))",
        ),
        lists::text("board", "d.board"),
        lists::text("card", "coalesce(k.label, '')"),
        lists::number("added", "d.id"),
    ],
};

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

/// A row of a table of devices that is taken over.
#[derive(Clone, Debug)]
pub struct TableRow {
    /// The device as it shall be.
    pub device: Device,
    /// Whether it is registered first.
    pub fresh: bool,
    /// What becomes of its fields.
    pub changes: Vec<(String, Change)>,
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

impl Class {
    /// The class of a device.
    pub fn of(device: &Device) -> Self {
        Self {
            site: device.site.clone(),
            appliance: device.appliance.clone(),
            variant: device.variant.clone(),
            board: device.board.clone(),
            pinned_release_id: device.pinned_release_id,
            card_state: device.card_state.clone(),
            carried_release_id: device.carried_release_id,
        }
    }
}

/// Puts classes into a query as the columns of rows.
fn push_classes(query: &mut sqlx::QueryBuilder<sqlx::Postgres>, classes: &[&Class]) {
    let texts = |of: fn(&Class) -> String| classes.iter().map(|one| of(one)).collect::<Vec<_>>();
    let numbers = |of: fn(&Class) -> Option<i64>| {
        classes
            .iter()
            .map(|one| of(one).unwrap_or(0))
            .collect::<Vec<_>>()
    };
    query
        .push_bind(texts(|one| one.site.clone()))
        .push("::text[], ");
    query
        .push_bind(texts(|one| one.appliance.clone()))
        .push("::text[], ");
    query
        .push_bind(texts(|one| one.variant.clone().unwrap_or_default()))
        .push("::text[], ");
    query
        .push_bind(texts(|one| one.board.clone()))
        .push("::text[], ");
    query
        .push_bind(numbers(|one| one.pinned_release_id))
        .push("::bigint[], ");
    query
        .push_bind(texts(|one| one.card_state.clone().unwrap_or_default()))
        .push("::text[], ");
    query
        .push_bind(numbers(|one| one.carried_release_id))
        .push("::bigint[]");
}

/// The class of a device in the query, as [`push_classes`] gives them.
const CLASS: &str =
    "(d.site, d.appliance, coalesce(d.variant, ''), d.board, coalesce(d.pinned_release_id, 0),
    coalesce(d.card_state, ''), coalesce(d.carried_release_id, 0))";

impl Wanted {
    fn push(&self, query: &mut sqlx::QueryBuilder<sqlx::Postgres>) {
        if let Some(text) = self
            .search
            .as_deref()
            .filter(|text| !text.trim().is_empty())
        {
            query
                .push(" and d.words like ")
                .push_bind(anywhere(&text.to_lowercase()));
        }
        for (column, value) in [
            ("d.state", &self.state),
            ("d.site", &self.site),
            ("d.board", &self.board),
            ("d.appliance", &self.appliance),
        ] {
            if let Some(value) = value {
                query
                    .push(format!(" and {column} = "))
                    .push_bind(value.clone());
            }
        }
        if self.active {
            query.push(" and d.state <> 'retired'");
        }
        if let Some(release) = self.carries {
            query
                .push(" and d.carried_release_id = ")
                .push_bind(release);
        }
        if let Some(classes) = &self.classes {
            query.push(format!(" and {CLASS} in (select * from unnest("));
            push_classes(query, &classes.iter().collect::<Vec<_>>());
            query.push("))");
        }
    }
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

    /// Takes a table of devices over, all rows or none; a handful of statements, however many rows.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where a device was changed since the rows were read, or a name is
    /// taken meanwhile.
    pub async fn take_table(&self, rows: &[TableRow], by: &str) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        let (fresh, known): (Vec<_>, Vec<_>) = rows.iter().partition(|row| row.fresh);
        check_unchanged(&mut tx, &known).await?;
        let mut ids: HashMap<&str, i64> = known
            .iter()
            .map(|row| (row.device.name.as_str(), row.device.id))
            .collect();
        let added: HashMap<String, i64> = add_all(&mut tx, &fresh, by).await?.into_iter().collect();
        for row in &fresh {
            let name = row.device.name.as_str();
            ids.extend(added.get(name).map(|id| (name, *id)));
        }
        describe_all(&mut tx, &known).await?;
        set_all(&mut tx, rows, &ids, by).await?;
        Ok(tx.commit().await?)
    }

    /// All devices by name.
    pub async fn devices(&self) -> Result<Vec<Device>, RecordError> {
        let query = format!("select {COLUMNS} from {FROM} order by d.name");
        let rows = sqlx::query_as(sqlx::AssertSqlSafe(query));
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One page of the devices that are wanted.
    pub async fn device_page(
        &self,
        wanted: &Wanted,
        asked: &Asked,
    ) -> Result<Page<Device>, RecordError> {
        LIST.page(&self.pool, asked, &|query| wanted.push(query))
            .await
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

    /// The classes of devices that are not retired, and how many are of each.
    pub async fn device_classes(&self) -> Result<Vec<(Class, i64)>, RecordError> {
        let rows = sqlx::query!(
            r#"select site, appliance, variant, board, pinned_release_id, card_state, carried_release_id, count(*) as "devices!"
               from devices where state <> 'retired' group by 1, 2, 3, 4, 5, 6, 7 order by 1, 2, 3, 4, 5, 6, 7"#
        )
        .fetch_all(&self.pool)
        .await?;
        let pairs = rows.into_iter().map(|row| {
            let class = Class {
                site: row.site,
                appliance: row.appliance,
                variant: row.variant,
                board: row.board,
                pinned_release_id: row.pinned_release_id,
                card_state: row.card_state,
                carried_release_id: row.carried_release_id,
            };
            (class, row.devices)
        });
        Ok(pairs.collect())
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

    /// The devices by name that are not retired, of one site or of all, with the names of the fields
    /// that are set on each itself.
    pub async fn own_fields(&self, site: Option<&str>) -> Result<Vec<OwnFields>, RecordError> {
        let rows = sqlx::query_as!(
            OwnFields,
            "select id, name, site, appliance, variant, board, pinned_release_id, own_fields as fields
             from devices where state <> 'retired' and ($1::text is null or site = $1) order by name",
            site
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

/// Stands between the items of a list on their way into the database: nobody types it.
const BETWEEN: &str = "\u{1f}";

/// Locks the devices of rows and refuses where one was changed since they were read.
async fn check_unchanged(tx: &mut PgConnection, rows: &[&TableRow]) -> Result<(), RecordError> {
    let ids: Vec<i64> = rows.iter().map(|row| row.device.id).collect();
    let revisions: Vec<i64> = rows.iter().map(|row| row.device.revision).collect();
    sqlx::query!(
        "select id from devices where id = any($1) order by id for update",
        &ids
    )
    .fetch_all(&mut *tx)
    .await?;
    let other = sqlx::query_scalar!(
        r#"select coalesce(d.name, '') as "name!" from unnest($1::bigint[], $2::bigint[]) as t(id, revision)
           left join devices d on d.id = t.id where d.revision is distinct from t.revision limit 1"#,
        &ids,
        &revisions
    );
    match other.fetch_optional(&mut *tx).await? {
        Some(name) => Err(RecordError::Conflict(format!(
            "somebody changed device {name} while the table was read; nothing was taken over, try again"
        ))),
        None => Ok(()),
    }
}

/// Registers new devices; name and number of each.
async fn add_all(
    tx: &mut PgConnection,
    rows: &[&TableRow],
    by: &str,
) -> Result<Vec<(String, i64)>, RecordError> {
    let texts = |of: fn(&Device) -> &str| -> Vec<String> {
        rows.iter().map(|row| of(&row.device).to_owned()).collect()
    };
    let said = [(
        "devices_name_key",
        "a device of the table was registered by somebody else meanwhile; nothing was taken over, try again".to_owned(),
    )];
    let added = sqlx::query!(
        "insert into devices (name, board, appliance, variant, site, notes, attached, macs, added_by)
         select name, board, appliance, nullif(variant, ''), site, notes,
             coalesce(string_to_array(nullif(attached, ''), E'\\x1F'), '{}'),
             coalesce(string_to_array(nullif(macs, ''), E'\\x1F'), '{}'), $9
         from unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::text[])
             as t(name, board, appliance, variant, site, notes, attached, macs)
         returning id, name",
        &texts(|one| &one.name),
        &texts(|one| &one.board),
        &texts(|one| &one.appliance),
        &texts(|one| one.variant.as_deref().unwrap_or("")),
        &texts(|one| &one.site),
        &texts(|one| &one.notes),
        &rows.iter().map(|row| row.device.attached.join(BETWEEN)).collect::<Vec<_>>(),
        &rows.iter().map(|row| row.device.macs.join(BETWEEN)).collect::<Vec<_>>(),
        by
    )
    .fetch_all(tx)
    .await
    .map_err(|e| RecordError::explain(e, &said))?;
    Ok(added.into_iter().map(|row| (row.name, row.id)).collect())
}

/// Changes what is told about devices that are registered already.
async fn describe_all(tx: &mut PgConnection, rows: &[&TableRow]) -> Result<(), RecordError> {
    sqlx::query!(
        "update devices d set notes = t.notes, variant = nullif(t.variant, ''),
            attached = coalesce(string_to_array(nullif(t.attached, ''), E'\\x1F'), '{}'),
            macs = coalesce(string_to_array(nullif(t.macs, ''), E'\\x1F'), '{}')
         from unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[])
             as t(id, notes, variant, attached, macs)
         where d.id = t.id",
        &rows.iter().map(|row| row.device.id).collect::<Vec<_>>(),
        &rows
            .iter()
            .map(|row| row.device.notes.clone())
            .collect::<Vec<_>>(),
        &rows
            .iter()
            .map(|row| row.device.variant.clone().unwrap_or_default())
            .collect::<Vec<_>>(),
        &rows
            .iter()
            .map(|row| row.device.attached.join(BETWEEN))
            .collect::<Vec<_>>(),
        &rows
            .iter()
            .map(|row| row.device.macs.join(BETWEEN))
            .collect::<Vec<_>>(),
    )
    .execute(tx)
    .await?;
    Ok(())
}

/// Sets and clears the fields of rows.
async fn set_all(
    tx: &mut PgConnection,
    rows: &[TableRow],
    ids: &HashMap<&str, i64>,
    by: &str,
) -> Result<(), RecordError> {
    let (mut named, mut names) = (Vec::new(), Vec::new());
    let (mut cleared, mut cleared_fields) = (Vec::new(), Vec::new());
    let (mut set, mut fields, mut values, mut sealed) =
        (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for row in rows {
        let id = ids
            .get(row.device.name.as_str())
            .copied()
            .unwrap_or(row.device.id);
        for (field, change) in &row.changes {
            let (value, secret) = match change {
                Change::Clear => {
                    cleared.push(id);
                    cleared_fields.push(field.clone());
                    continue;
                }
                Change::HostName(value) => {
                    named.push(id);
                    names.push(value.clone());
                    (Some(value.clone()), None)
                }
                Change::Plain(value) => (Some(value.clone()), None),
                Change::Sealed(secret) => (None, Some(secret.clone())),
            };
            set.push(id);
            fields.push(field.clone());
            values.push(value);
            sealed.push(secret);
        }
    }
    // Names that change hands within the table must be free in between.
    sqlx::query!(
        "update devices d set host_name = null where d.id = any($1) or exists (
            select from unnest($2::bigint[], $3::text[]) as t(id, field) join settings s
                on s.device_id = t.id and s.field = t.field
            where t.id = d.id and s.value = d.host_name)",
        &named,
        &cleared,
        &cleared_fields
    )
    .execute(&mut *tx)
    .await?;
    let taken = "a host name of the table was given to another device on its site meanwhile; nothing was taken over, try again";
    sqlx::query!(
        "update devices d set host_name = t.name from unnest($1::bigint[], $2::text[]) as t(id, name) where d.id = t.id",
        &named,
        &names
    )
    .execute(&mut *tx)
    .await
    .map_err(|e| RecordError::explain(e, &[("devices_host_name", taken.into())]))?;
    sqlx::query!(
        "delete from settings s using unnest($1::bigint[], $2::text[]) as t(id, field)
         where s.device_id = t.id and s.field = t.field",
        &cleared,
        &cleared_fields
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "insert into settings (device_id, field, value, sealed, set_by)
         select id, field, value, sealed, $5
         from unnest($1::bigint[], $2::text[], $3::text[], $4::bytea[]) as t(id, field, value, sealed)
         on conflict (device_id, field) do update
         set value = excluded.value, sealed = excluded.sealed, set_by = excluded.set_by, set_at = now()",
        &set,
        &fields,
        &values as &[Option<String>],
        &sealed as &[Option<Vec<u8>>],
        by
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}
