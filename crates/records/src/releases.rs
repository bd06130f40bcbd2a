//! Releases in the catalogue.

use time::OffsetDateTime;

use crate::{RecordError, Records};

/// A release that is about to be recorded.
#[derive(Clone, Debug)]
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
    /// Which partition table.
    pub table_kind: String,
    /// Identifier of the disk in its table.
    pub disk_id: String,
    /// Partitions as JSON.
    pub partitions: serde_json::Value,
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
}

impl Records {
    /// Records a release. Its name must be new.
    pub async fn add_release(&self, new: &NewRelease) -> Result<i64, RecordError> {
        let taken = format!(
            "the catalogue has a release {:?} already; give the sheet another version",
            new.name
        );
        sqlx::query_scalar!(
            "insert into releases (name, appliance, variant, version, dated, boards, sheet, source, packing,
                packed_size, packed_sha256, raw_size, raw_sha256, smallest_card, table_kind, disk_id, partitions,
                manifest, stored, added_by)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20)
             returning id",
            new.name,
            new.appliance,
            new.variant,
            new.version,
            new.dated,
            &new.boards,
            new.sheet,
            new.source,
            new.packing,
            new.packed_size,
            new.packed_sha256,
            new.raw_size,
            new.raw_sha256,
            new.smallest_card,
            new.table_kind,
            new.disk_id,
            new.partitions,
            new.manifest,
            new.stored,
            new.added_by
        )
        .fetch_one(&self.pool)
        .await
        .map_err(|e| RecordError::explain(e, &[("releases_name_key", taken)]))
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
            "select * from releases where name = $1 or id::text = $1",
            name
        );
        rows.fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| RecordError::unknown("release", name))
    }

    /// The newest release of an appliance and variant that suits a board.
    pub async fn newest_release(
        &self,
        appliance: &str,
        variant: Option<&str>,
        board: &str,
    ) -> Result<Option<Release>, RecordError> {
        let rows = sqlx::query_as!(
            Release,
            "select * from releases
             where appliance = $1 and variant is not distinct from $2 and $3 = any(boards) and state = 'released'
             order by id desc limit 1",
            appliance,
            variant,
            board
        );
        Ok(rows.fetch_optional(&self.pool).await?)
    }
}
