//! The records in PostgreSQL: one module a noun. Nothing here knows what a disk is.

pub mod backups;
pub mod boards;
pub mod cards;
pub mod devices;
pub mod events;
pub mod feeds;
pub mod imprints;
pub mod jobs;
mod own_server;
pub mod presets;
pub mod releases;

use std::time::Duration;

pub use own_server::{OwnServer, OwnServerError};
use sqlx::postgres::{PgPool, PgPoolOptions};
pub use sqlx::types::Json;

/// Why a record could not be read or kept.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RecordError {
    /// Something is named that is not there.
    #[error("there is no {noun} {name:?}")]
    Unknown {
        /// What kind of thing.
        noun: &'static str,
        /// The name given.
        name: String,
    },
    /// A name that must be unique is taken, or a reference leads nowhere.
    #[error("{0}")]
    Conflict(String),
    /// The database failed.
    #[error("the records cannot be reached or changed: {0}")]
    Database(#[from] sqlx::Error),
    /// The database's structure could not be brought up to date.
    #[error("the records' structure cannot be brought up to date: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
}

impl RecordError {
    /// For rows that were looked up by name.
    pub(crate) fn unknown(noun: &'static str, name: impl Into<String>) -> Self {
        Self::Unknown {
            noun,
            name: name.into(),
        }
    }

    /// Turns the breach of a named constraint into a sentence; anything else stays as it is.
    pub(crate) fn explain(error: sqlx::Error, said: &[(&str, String)]) -> Self {
        let constraint = error.as_database_error().and_then(|e| e.constraint());
        match said.iter().find(|(name, _)| Some(*name) == constraint) {
            Some((_, sentence)) => Self::Conflict(sentence.clone()),
            None => Self::Database(error),
        }
    }
}

impl Records {
    /// Names of the manifests of all content that was recorded since a moment, or is being written
    /// to a card.
    pub async fn manifests_since(
        &self,
        since: time::OffsetDateTime,
    ) -> Result<Vec<Vec<u8>>, RecordError> {
        let rows = sqlx::query_scalar!(
            r#"select manifest as "manifest!" from releases where added_at >= $1
               union select manifest from backups where taken_at >= $1
               union select manifest from imprints where coalesce(finished_at, now()) >= $1 and manifest is not null"#,
            since
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}

/// The open records.
#[derive(Clone)]
pub struct Records {
    pub(crate) pool: PgPool,
}

impl Records {
    /// Connects and brings the structure up to date.
    pub async fn open(database_url: &str) -> Result<Self, RecordError> {
        let pool = PgPoolOptions::new()
            .max_connections(10)
            .acquire_timeout(Duration::from_secs(10))
            .connect(database_url)
            .await?;
        sqlx::migrate!().run(&pool).await?;
        Ok(Self { pool })
    }

    /// Whether the database answers.
    pub async fn answers(&self) -> bool {
        sqlx::query("select 1").execute(&self.pool).await.is_ok()
    }

    /// Closes every connection.
    pub async fn close(&self) {
        self.pool.close().await;
    }
}
