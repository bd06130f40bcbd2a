//! Which devices are wanted: lists of them in pages, and those together that are alike.

use super::{COLUMNS, Device, FROM};
use crate::lists::{self, Asked, List, Page, anywhere};
use crate::{RecordError, Records};

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
    /// Numbers that it must have one of.
    pub ids: Option<Vec<i64>>,
    /// Only devices that are not retired.
    pub active: bool,
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

/// Of which devices own fields are asked for; of all, with nothing given.
#[derive(Clone, Copy, Debug, Default)]
pub struct OwnFieldsOf<'a> {
    /// Of one site.
    pub site: Option<&'a str>,
    /// With a text anywhere in the name, in whatever letters.
    pub search: Option<&'a str>,
    /// Behind a name.
    pub after: Option<&'a str>,
    /// Not more than so many.
    pub most: Option<i64>,
}

/// Devices that are not retired, on one site, of one kind, on which the same fields are set.
#[derive(Clone, Debug)]
#[allow(missing_docs)] // as in Device
pub struct Group {
    pub site: String,
    pub appliance: String,
    pub variant: Option<String>,
    pub board: String,
    pub pinned_release_id: Option<i64>,
    /// Names of the fields that are set on each of them itself.
    pub fields: Vec<String>,
    /// One of them.
    pub one: i64,
    /// How many they are.
    pub devices: i64,
    /// The first twenty by name.
    pub names: Vec<String>,
}

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
        lists::equal(
            query,
            &[
                ("d.state", &self.state),
                ("d.site", &self.site),
                ("d.board", &self.board),
                ("d.appliance", &self.appliance),
            ],
        );
        if self.active {
            query.push(" and d.state <> 'retired'");
        }
        if let Some(release) = self.carries {
            query
                .push(" and d.carried_release_id = ")
                .push_bind(release);
        }
        if let Some(ids) = &self.ids {
            query
                .push(" and d.id = any(")
                .push_bind(ids.clone())
                .push(")");
        }
    }
}

impl Records {
    /// One page of the devices that are wanted.
    pub async fn device_page(
        &self,
        wanted: &Wanted,
        asked: &Asked,
    ) -> Result<Page<Device>, RecordError> {
        LIST.page(&self.pool, asked, &|query| wanted.push(query))
            .await
    }

    /// A digest of which devices there are, of which kind, and what is set on them: another one after any
    /// change of that, since each device counts its changes.
    pub async fn devices_digest(&self) -> Result<(i64, i64), RecordError> {
        let row = sqlx::query!(
            r#"select count(*) as "devices!", coalesce(bit_xor(hashtextextended(concat_ws('|', id, revision,
                 coalesce(pinned_release_id, 0), state = 'retired'), 0)), 0) as "digest!" from devices"#
        );
        let row = row.fetch_one(&self.pool).await?;
        Ok((row.devices, row.digest))
    }

    /// A digest of everything that how devices stand follows from, but for presets and releases: another one after any
    /// change of a device, its card, or the version that it says.
    pub async fn fleet_digest(&self) -> Result<(i64, i64), RecordError> {
        let row = sqlx::query!(
            r#"select count(*) as "devices!", coalesce(bit_xor(hashtextextended(concat_ws('|', d.id, d.revision, d.state,
                 coalesce(d.pinned_release_id, 0), coalesce(d.card_id, 0), coalesce(d.imprint_id, 0),
                 coalesce(d.card_state, ''), coalesce(d.carried_release_id, 0), coalesce(d.runs_release_id, 0),
                 coalesce(s.imprint_id, 0), coalesce(s.version, '')), 0)), 0) as "digest!"
               from devices d left join sightings s on s.device_id = d.id"#
        );
        let row = row.fetch_one(&self.pool).await?;
        Ok((row.devices, row.digest))
    }

    /// The devices that are not retired, those together for which the same counts.
    pub async fn device_groups(&self) -> Result<Vec<Group>, RecordError> {
        let rows = sqlx::query_as!(
            Group,
            r#"select site, appliance, variant, board, pinned_release_id, own_fields as fields, min(id) as "one!",
                 count(*) as "devices!", (array_agg(name order by name))[1:20] as "names!"
               from devices where state <> 'retired' group by 1, 2, 3, 4, 5, 6"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The devices by name that are not retired, with the names of the fields that are set on each itself.
    pub async fn own_fields(&self, of: &OwnFieldsOf<'_>) -> Result<Vec<OwnFields>, RecordError> {
        let rows = sqlx::query_as!(
            OwnFields,
            "select id, name, site, appliance, variant, board, pinned_release_id, own_fields as fields
             from devices where state <> 'retired' and ($1::text is null or site = $1)
               and ($2::text is null or lower(name) like $2) and ($3::text is null or name > $3)
             order by name limit $4",
            of.site,
            of.search.map(|text| anywhere(&text.to_lowercase())),
            of.after,
            of.most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}
