//! Releases in the catalogue: what they are, their states, sheets and where each is current.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

use crate::jobs::{self, Ending};
use crate::lists::{self, Asked, List, Page};
use crate::{RecordError, Records, events};

/// A release that is about to be recorded.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct NewRelease {
    /// Appliance, variant, version in one.
    pub name: String,
    /// Appliance.
    pub appliance: String,
    /// Variant, if any.
    pub variant: Option<String>,
    /// Version as written.
    pub version: String,
    /// Day as written.
    pub dated: Option<String>,
    /// Board models that it suits.
    pub boards: Vec<String>,
    /// draft or released.
    pub state: String,
    /// Text of the release sheet.
    pub sheet: String,
    /// Name of the file that it came from.
    pub source: String,
    /// How that file was packed.
    pub packing: String,
    /// Length of that file in bytes.
    pub packed_size: i64,
    /// SHA-256 of that file.
    pub packed_sha256: Vec<u8>,
    /// Length of the raw image in bytes.
    pub raw_size: i64,
    /// SHA-256 of the raw image.
    pub raw_sha256: Vec<u8>,
    /// Fewest bytes that a card must hold.
    pub smallest_card: i64,
    /// The same as the image alone says.
    pub computed_card: i64,
    /// The same if the last file system were shrunk.
    pub shrunk_card: Option<i64>,
    /// Bytes that matter.
    pub content: i64,
    /// Which partition table.
    pub table_kind: String,
    /// Identifier of the disk in its table.
    pub disk_id: String,
    /// Partitions as JSON.
    pub partitions: serde_json::Value,
    /// What else was found, as JSON.
    pub inspection: serde_json::Value,
    /// Where it came from, as JSON.
    pub origin: serde_json::Value,
    /// Whether the packed file is kept.
    pub kept: bool,
    /// Name of the content's manifest.
    pub manifest: Vec<u8>,
    /// Bytes that it added to the vault.
    pub stored: i64,
    /// Who added it.
    pub added_by: String,
}

/// A recorded release.
#[derive(Clone, Debug)]
#[allow(missing_docs)] // as in NewRelease
pub struct Release {
    pub id: i64,
    pub name: String,
    pub appliance: String,
    pub variant: Option<String>,
    pub version: String,
    pub dated: Option<String>,
    pub boards: Vec<String>,
    pub state: String,
    pub sheet: String,
    pub source: String,
    pub packing: String,
    pub packed_size: i64,
    pub packed_sha256: Vec<u8>,
    pub raw_size: i64,
    pub raw_sha256: Vec<u8>,
    pub smallest_card: i64,
    pub table_kind: String,
    pub disk_id: String,
    pub partitions: serde_json::Value,
    pub manifest: Vec<u8>,
    pub stored: i64,
    pub added_by: String,
    pub added_at: OffsetDateTime,
    pub inspection: serde_json::Value,
    pub content: i64,
    pub computed_card: i64,
    pub shrunk_card: Option<i64>,
    pub origin: serde_json::Value,
    pub kept: bool,
    pub sheet_revision: i32,
}

impl From<&Release> for NewRelease {
    /// What was recorded of it when it was added, with what was said of it since.
    fn from(row: &Release) -> Self {
        Self {
            name: row.name.clone(),
            appliance: row.appliance.clone(),
            variant: row.variant.clone(),
            version: row.version.clone(),
            dated: row.dated.clone(),
            boards: row.boards.clone(),
            state: row.state.clone(),
            sheet: row.sheet.clone(),
            source: row.source.clone(),
            packing: row.packing.clone(),
            packed_size: row.packed_size,
            packed_sha256: row.packed_sha256.clone(),
            raw_size: row.raw_size,
            raw_sha256: row.raw_sha256.clone(),
            smallest_card: row.smallest_card,
            computed_card: row.computed_card,
            shrunk_card: row.shrunk_card,
            content: row.content,
            table_kind: row.table_kind.clone(),
            disk_id: row.disk_id.clone(),
            partitions: row.partitions.clone(),
            inspection: row.inspection.clone(),
            origin: row.origin.clone(),
            kept: row.kept,
            manifest: row.manifest.clone(),
            stored: row.stored,
            added_by: row.added_by.clone(),
        }
    }
}

/// Another text for the sheet of a release, with what it changes about it.
#[derive(Clone, Debug)]
pub struct NewSheet {
    /// The text.
    pub sheet: String,
    /// Day as written.
    pub dated: Option<String>,
    /// Board models that it suits.
    pub boards: Vec<String>,
    /// Fewest bytes that a card must hold.
    pub smallest_card: i64,
}

/// One text that a sheet had.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct SheetRevision {
    pub revision: i32,
    pub sheet: String,
    pub operator: String,
    pub at: OffsetDateTime,
}

/// One state that a release was in.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct StateChange {
    pub state: String,
    pub reason: String,
    pub operator: String,
    pub at: OffsetDateTime,
}

/// A release that is or was current somewhere.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Current {
    pub appliance: String,
    /// Empty for none.
    pub variant: String,
    pub board: String,
    pub release: String,
    pub operator: String,
    pub from_at: OffsetDateTime,
    pub until_at: Option<OffsetDateTime>,
}

/// What somebody saw at the bench.
#[derive(Clone, Debug)]
#[allow(missing_docs)]
pub struct Evidence {
    pub release: String,
    pub board: String,
    pub boots: bool,
    pub note: String,
    pub operator: String,
    pub at: OffsetDateTime,
}

const CARRIERS: List = List {
    noun: "carriers",
    columns: "d.name as device, d.imprint_id is not distinct from c.imprint_id as carried, c.label as card,
        c.imprint_id as imprint, (select finished_at from imprints where id = c.imprint_id) as written_at",
    from: "cards c left join devices d on d.id = c.device_id",
    id: "c.id",
    orders: &[lists::text("device", "coalesce(d.name, '')"), lists::number("card", "c.id")],
};

/// A card that carries a release, whole.
#[derive(Clone, Debug, sqlx::FromRow)]
#[allow(missing_docs)]
pub struct Carrier {
    /// The device that it was written for.
    pub device: Option<String>,
    /// Whether it is what that device carries: its newest card.
    pub carried: bool,
    pub card: String,
    pub imprint: i64,
    pub written_at: Option<OffsetDateTime>,
}

/// How many carry a release.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Carried {
    /// Devices that carry it.
    pub devices: i64,
    /// Cards that have it on them, of devices or not.
    pub cards: i64,
}

/// Puts a release into the records, with its first sheet and state.
async fn insert(tx: &mut sqlx::PgConnection, new: &NewRelease) -> Result<i64, RecordError> {
    let taken = format!(
        "the catalogue has a release {:?} already; give the sheet another version",
        new.name
    );
    let id = sqlx::query_scalar!(
            "insert into releases (name, appliance, variant, version, dated, boards, state, sheet, source, packing,
                packed_size, packed_sha256, raw_size, raw_sha256, smallest_card, computed_card, shrunk_card, content,
                table_kind, disk_id, partitions, inspection, origin, kept, manifest, stored, added_by)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20,
                $21, $22, $23, $24, $25, $26, $27)
             returning id",
            new.name,
            new.appliance,
            new.variant,
            new.version,
            new.dated,
            &new.boards,
            new.state,
            new.sheet,
            new.source,
            new.packing,
            new.packed_size,
            new.packed_sha256,
            new.raw_size,
            new.raw_sha256,
            new.smallest_card,
            new.computed_card,
            new.shrunk_card,
            new.content,
            new.table_kind,
            new.disk_id,
            new.partitions,
            new.inspection,
            new.origin,
            new.kept,
            new.manifest,
            new.stored,
            new.added_by
        )
        .fetch_one(&mut *tx)
        .await
        .map_err(|e| RecordError::explain(e, &[("releases_name_key", taken)]))?;
    sqlx::query!(
            "insert into sheet_revisions (release_id, revision, sheet, operator) values ($1, 1, $2, $3)",
            id,
            new.sheet,
            new.added_by
        )
        .execute(&mut *tx)
        .await?;
    sqlx::query!(
        "insert into release_states (release_id, state, operator) values ($1, $2, $3)",
        id,
        new.state,
        new.added_by
    )
    .execute(&mut *tx)
    .await?;
    Ok(id)
}

impl Records {
    /// The appliances that a release is of, or a device becomes, by name.
    pub async fn appliances(&self) -> Result<Vec<String>, RecordError> {
        let rows = sqlx::query_scalar!(
            r#"select appliance as "appliance!" from releases union select appliance from devices order by 1"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Records a release that the vault tells of and these records did not know.
    pub async fn found_release(&self, new: &NewRelease, operator: &str) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        insert(&mut tx, new).await?;
        let summary = format!("Release {} was found in the vault", new.name);
        events::add(&mut tx, operator, "release.found", &new.name, &summary).await?;
        Ok(tx.commit().await?)
    }

    /// Records a release, what it was made of, and the end of the job that made it. Its name must
    /// be new.
    pub async fn add_release(
        &self,
        new: &NewRelease,
        feed_item: Option<&(String, String)>,
        summary: &str,
        ending: &Ending,
    ) -> Result<i64, RecordError> {
        let mut tx = self.pool.begin().await?;
        let id = insert(&mut tx, new).await?;
        if let Some((feed, item)) = feed_item {
            sqlx::query!(
                "update feed_items set release_id = $3 where feed = $1 and item = $2",
                feed,
                item,
                id
            )
            .execute(&mut *tx)
            .await?;
        }
        events::add(&mut tx, &new.added_by, "release.added", &new.name, summary).await?;
        jobs::end(&mut tx, ending).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// All releases, newest first.
    pub async fn releases(&self) -> Result<Vec<Release>, RecordError> {
        let rows = sqlx::query_as!(Release, "select * from releases order by id desc");
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One release by its name or number.
    pub async fn release(&self, name: &str) -> Result<Release, RecordError> {
        let rows = sqlx::query_as!(
            Release,
            "select * from releases where name = $1 or id = $2",
            name,
            name.parse::<i64>().ok()
        );
        rows.fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("release", name))
    }

    /// Names of releases with this raw or packed content.
    pub async fn releases_with_content(&self, sha256: &[u8]) -> Result<Vec<String>, RecordError> {
        let rows = sqlx::query_scalar!(
            "select name from releases where raw_sha256 = $1 or packed_sha256 = $1 order by id",
            sha256
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Takes a release away that nobody ever carried; its image stays in the vault until that is tidied.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where it was written to a card, or devices stay with it.
    pub async fn remove_release(&self, release: &Release) -> Result<(), RecordError> {
        let name = &release.name;
        let kept =
            |why: &str| RecordError::Conflict(format!("{name} stays in the catalogue: {why}"));
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "select id from releases where id = $1 for update",
            release.id
        )
        .fetch_optional(&mut *tx)
        .await?
        .ok_or_else(|| RecordError::unknown("release", name))?;
        let row = sqlx::query!(
            r#"select exists (select from imprints where release_id = $1 or origin_release_id = $1) as "written!",
                 (select name from devices where pinned_release_id = $1 order by name limit 1) as pinned"#,
            release.id
        )
        .fetch_one(&mut *tx)
        .await?;
        if row.written {
            return Err(kept(
                "cards were written with it; withdraw it, so that it is not written again",
            ));
        }
        if let Some(device) = row.pinned {
            return Err(kept(&format!(
                "{device} stays with it; let that follow another one first"
            )));
        }
        for table in [
            "sheet_revisions",
            "release_states",
            "current_releases",
            "evidence",
        ] {
            let query = format!("delete from {table} where release_id = $1");
            sqlx::query(sqlx::AssertSqlSafe(query))
                .bind(release.id)
                .execute(&mut *tx)
                .await?;
        }
        sqlx::query!(
            "update feed_items set release_id = null where release_id = $1",
            release.id
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "update devices set runs_release_id = null where runs_release_id = $1",
            release.id
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "insert into vault_removed (what, name, removed_at, manifest)
             values ('release', $1, clock_timestamp(), $2)
             on conflict (what, name) do update set removed_at = clock_timestamp(), manifest = $2",
            release.name,
            release.manifest
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!("delete from releases where id = $1", release.id)
            .execute(&mut *tx)
            .await?;
        Ok(tx.commit().await?)
    }

    /// Gives a release another sheet text; former ones stay.
    pub async fn revise_sheet(
        &self,
        release: i64,
        new: &NewSheet,
        by: &str,
    ) -> Result<i32, RecordError> {
        let mut tx = self.pool.begin().await?;
        let revision = sqlx::query_scalar!(
            "update releases set sheet = $2, dated = $3, boards = $4, smallest_card = $5,
                sheet_revision = sheet_revision + 1
             where id = $1 returning sheet_revision",
            release,
            new.sheet,
            new.dated,
            &new.boards,
            new.smallest_card
        )
        .fetch_one(&mut *tx)
        .await?;
        sqlx::query!(
            "insert into sheet_revisions (release_id, revision, sheet, operator) values ($1, $2, $3, $4)",
            release,
            revision,
            new.sheet,
            by
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(revision)
    }

    /// Every text that a sheet had, newest first.
    pub async fn sheet_revisions(&self, release: i64) -> Result<Vec<SheetRevision>, RecordError> {
        let rows = sqlx::query_as!(
            SheetRevision,
            "select revision, sheet, operator, at from sheet_revisions where release_id = $1 order by revision desc",
            release
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Puts a release into another state. One that is withdrawn is current nowhere any more.
    pub async fn set_release_state(
        &self,
        release: i64,
        state: &str,
        reason: &str,
        by: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "update releases set state = $2 where id = $1",
            release,
            state
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "insert into release_states (release_id, state, reason, operator) values ($1, $2, $3, $4)",
            release,
            state,
            reason,
            by
        )
        .execute(&mut *tx)
        .await?;
        if state != "released" {
            sqlx::query!(
                "update current_releases set until_at = now() where release_id = $1 and until_at is null",
                release
            )
            .execute(&mut *tx)
            .await?;
        }
        Ok(tx.commit().await?)
    }

    /// Every state that a release was in, newest first.
    pub async fn release_states(&self, release: i64) -> Result<Vec<StateChange>, RecordError> {
        let rows = sqlx::query_as!(
            StateChange,
            "select state, reason, operator, at from release_states where release_id = $1 order by id desc",
            release
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Makes a release the current one for a board model; the former one stays in the history.
    pub async fn set_current(
        &self,
        release: &Release,
        board: &str,
        by: &str,
    ) -> Result<(), RecordError> {
        let variant = release.variant.as_deref().unwrap_or("");
        let unknown = format!("there is no board model {board:?}; add it first");
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "update current_releases set until_at = now()
             where appliance = $1 and variant = $2 and board = $3 and until_at is null",
            release.appliance,
            variant,
            board
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "insert into current_releases (appliance, variant, board, release_id, operator)
             values ($1, $2, $3, $4, $5)",
            release.appliance,
            variant,
            board,
            release.id,
            by
        )
        .execute(&mut *tx)
        .await
        .map_err(|e| RecordError::explain(e, &[("current_releases_board_fkey", unknown)]))?;
        Ok(tx.commit().await?)
    }

    /// Everything that is or was current, newest first.
    pub async fn currents(&self) -> Result<Vec<Current>, RecordError> {
        let rows = sqlx::query_as!(
            Current,
            "select c.appliance, c.variant, c.board, r.name as release, c.operator, c.from_at, c.until_at
             from current_releases c join releases r on r.id = c.release_id order by c.id desc"
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Notes whether a release boots on a board model.
    pub async fn add_evidence(
        &self,
        release: i64,
        board: &str,
        boots: bool,
        note: &str,
        by: &str,
    ) -> Result<(), RecordError> {
        let unknown = format!("there is no board model {board:?}; add it first");
        sqlx::query!(
            "insert into evidence (release_id, board, boots, note, operator) values ($1, $2, $3, $4, $5)",
            release,
            board,
            boots,
            note,
            by
        )
        .execute(&self.pool)
        .await
        .map_err(|e| RecordError::explain(e, &[("evidence_board_fkey", unknown)]))?;
        Ok(())
    }

    /// Everything that was noted, newest first.
    pub async fn evidence(&self) -> Result<Vec<Evidence>, RecordError> {
        let rows = sqlx::query_as!(
            Evidence,
            "select r.name as release, e.board, e.boots, e.note, e.operator, e.at
             from evidence e join releases r on r.id = e.release_id order by e.id desc"
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One page of the cards with a release on them, by device; those of nobody first.
    pub async fn carriers(
        &self,
        release: i64,
        asked: &Asked,
    ) -> Result<Page<Carrier>, RecordError> {
        CARRIERS
            .page(&self.pool, asked, &|query| {
                query
                    .push(" and c.carried_release_id = ")
                    .push_bind(release);
            })
            .await
    }

    /// How many devices carry each release, and how many cards have it on them; of one release, or of all that are on
    /// a card.
    pub async fn carried_counts(
        &self,
        release: Option<i64>,
    ) -> Result<HashMap<i64, Carried>, RecordError> {
        let rows = sqlx::query!(
            r#"select c.release as "release!", c.cards as "cards!", d.devices as "devices?"
               from (select carried_release_id as release, count(*) as cards from cards
                     where carried_release_id is not null and ($1::bigint is null or carried_release_id = $1)
                     group by 1) c
                 left join (select carried_release_id as release, count(*) as devices from devices
                     where carried_release_id is not null and ($1::bigint is null or carried_release_id = $1)
                     group by 1) d on d.release = c.release"#,
            release
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let counts = rows.map(|row| {
            let carried = Carried {
                devices: row.devices.unwrap_or(0),
                cards: row.cards,
            };
            (row.release, carried)
        });
        Ok(counts.collect())
    }
}
