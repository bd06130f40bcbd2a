//! A table of devices that is taken over: all rows or none, in a handful of statements.

use std::collections::HashMap;

use sqlx::PgConnection;

use super::{Change, Device};
use crate::{RecordError, Records};

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

impl Records {
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
