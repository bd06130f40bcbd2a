//! Presets: values that several devices share.

use time::OffsetDateTime;

use crate::devices::{Change, OwnedSetting};
use crate::{RecordError, Records};

/// A named set of values.
#[derive(Clone, Debug)]
pub struct Preset {
    /// Number.
    pub id: i64,
    /// Name, unique in the team.
    pub name: String,
    /// Name for people.
    pub title: String,
    /// The site whose devices get it; the whole team if none.
    pub site: Option<String>,
    /// Who made it.
    pub added_by: String,
    /// When.
    pub added_at: OffsetDateTime,
}

impl Records {
    /// Makes a preset.
    pub async fn add_preset(
        &self,
        name: &str,
        title: &str,
        site: Option<&str>,
        by: &str,
    ) -> Result<i64, RecordError> {
        let said = [
            (
                "presets_name_key",
                format!("there is a preset {name:?} already"),
            ),
            (
                "presets_site_fkey",
                format!("there is no site {:?}; add it first", site.unwrap_or("")),
            ),
        ];
        sqlx::query_scalar!(
            "insert into presets (name, title, site, added_by) values ($1, $2, $3, $4) returning id",
            name,
            title,
            site,
            by
        )
        .fetch_one(&self.pool)
        .await
        .map_err(|e| RecordError::explain(e, &said))
    }

    /// All presets by name.
    pub async fn presets(&self) -> Result<Vec<Preset>, RecordError> {
        let rows = sqlx::query_as!(Preset, "select * from presets order by name");
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One preset by name.
    pub async fn preset(&self, name: &str) -> Result<Preset, RecordError> {
        sqlx::query_as!(Preset, "select * from presets where name = $1", name)
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("preset", name))
    }

    /// Gives a preset another name or title.
    pub async fn rename_preset(
        &self,
        id: i64,
        name: Option<&str>,
        title: Option<&str>,
    ) -> Result<(), RecordError> {
        let taken = format!("there is a preset {:?} already", name.unwrap_or(""));
        sqlx::query!(
            "update presets set name = coalesce($2, name), title = coalesce($3, title) where id = $1",
            id,
            name,
            title
        )
        .execute(&self.pool)
        .await
        .map_err(|e| RecordError::explain(e, &[("presets_name_key", taken)]))?;
        Ok(())
    }

    /// Takes a preset and its values away.
    pub async fn remove_preset(&self, id: i64) -> Result<(), RecordError> {
        sqlx::query!("delete from presets where id = $1", id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// The values of all presets.
    pub async fn preset_settings(&self) -> Result<Vec<OwnedSetting>, RecordError> {
        let rows = sqlx::query_as!(
            OwnedSetting,
            "select preset_id as owner, field, value, sealed from preset_settings order by preset_id, field"
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Changes values of a preset, all or none.
    pub async fn change_preset(
        &self,
        id: i64,
        changes: &[(String, Change)],
        by: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        for (field, change) in changes {
            let (value, sealed) = match change {
                Change::Plain(value) | Change::HostName(value) => (Some(value), None),
                Change::Sealed(sealed) => (None, Some(sealed)),
                Change::Clear => {
                    sqlx::query!(
                        "delete from preset_settings where preset_id = $1 and field = $2",
                        id,
                        field
                    )
                    .execute(&mut *tx)
                    .await?;
                    continue;
                }
            };
            sqlx::query!(
                "insert into preset_settings (preset_id, field, value, sealed, set_by) values ($1, $2, $3, $4, $5)
                 on conflict (preset_id, field) do update
                 set value = $3, sealed = $4, set_by = $5, set_at = now()",
                id,
                field,
                value,
                sealed,
                by
            )
            .execute(&mut *tx)
            .await?;
        }
        Ok(tx.commit().await?)
    }
}
