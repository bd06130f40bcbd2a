//! The records in PostgreSQL: one module a noun. Nothing here knows what a disk is.

pub mod arrivals;
pub mod backups;
pub mod benches;
pub mod boards;
pub mod cards;
pub mod checks;
pub mod devices;
pub mod dump;
pub mod events;
pub mod exports;
pub mod feeds;
pub mod figures;
pub mod history;
pub mod imprints;
pub mod jobs;
pub mod lists;
pub mod notices;
pub mod outages;
mod own_server;
pub mod passes;
pub mod people;
pub mod photos;
pub mod presets;
pub mod recovery;
pub mod releases;
pub mod rounds;
pub mod services;
pub mod vault;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

pub use own_server::{OwnServer, OwnServerError};
use sqlx::postgres::{PgConnection, PgPool, PgPoolOptions};
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
    /// A request key was used for another request before.
    #[error(
        "this Idempotency-Key was used for another request, which became job {job}; give each request a key of its own"
    )]
    OtherRequest {
        /// The job that the key stands for.
        job: i64,
    },
    /// A list is asked for in a way that it does not have.
    #[error("{0}")]
    Asked(String),
    /// Text that the database cannot hold.
    #[error("the text has characters that cannot be kept (such as NUL); leave them out")]
    Text,
    /// The records belong to another key file.
    #[error(
        "these records were sealed under another key file; give the service the team.key that belongs to them, or another database"
    )]
    OtherKey,
    /// Another service works with the same records, and one of the two does not say where it is reached.
    #[error("another service works with these records{}", in_use_words(*.shared))]
    InUse {
        /// Whether this one would share them.
        shared: bool,
    },
    /// Services of an older version work with the records, which would be changed under them.
    #[error(
        "these records must be brought to the form of this version first, and a service of an older one works with them; stop all services, then start this version everywhere. Nothing was changed"
    )]
    OlderAtWork,
    /// This very service works with the records.
    #[error(
        "a service with the service-id of this data folder works with these records already: each service has a data folder of its own, and service-id is not to be copied with it; remove that file here"
    )]
    SameService,
    /// Another service has slots of its own computer.
    #[error(
        "another service has slots of its own computer; of several services one can. Leave own_slots out here, and let duplicarium-bench call from this computer"
    )]
    OwnSlots,
    /// The database failed.
    #[error("the records cannot be reached or changed: {0}")]
    Database(sqlx::Error),
    /// A newer version of the service worked with these records.
    #[error(
        "a newer version of Duplicarium worked with these records (they are of form {form}, this version knows none beyond {known}); start that version, or a newer one. Nothing was changed"
    )]
    Newer {
        /// The newest form that was applied.
        form: i64,
        /// The newest form that this version knows.
        known: i64,
    },
    /// The database's structure could not be brought up to date.
    #[error("the records' structure cannot be brought up to date: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
}

/// Whether there is no room where the own database lies, as it was seen last.
static NO_ROOM: AtomicBool = AtomicBool::new(false);

/// Says whether there is room where the own database lies.
pub fn note_room(is_there: bool) {
    NO_ROOM.store(!is_there, Ordering::Relaxed);
}

fn in_use_words(shared: bool) -> &'static str {
    match shared {
        true => {
            ", and does not say where others reach it; give it an address too (service_address), or give this one another database"
        }
        false => {
            "; stop it, or give this one another database. Several services share one if each says where the others reach it \
             (service_address)"
        }
    }
}

impl From<sqlx::Error> for RecordError {
    fn from(error: sqlx::Error) -> Self {
        // Characters that no text of the database takes, and text that is not UTF-8 there.
        let code = error.as_database_error().and_then(|e| e.code());
        match code.as_deref() {
            Some("22021" | "22P05") => Self::Text,
            _ => Self::Database(error),
        }
    }
}

impl RecordError {
    /// Whether the database is out of reach, so that the same may succeed a while later.
    pub fn is_away(&self) -> bool {
        let Self::Database(error) = self else {
            return false;
        };
        match error {
            sqlx::Error::Io(_)
            | sqlx::Error::Tls(_)
            | sqlx::Error::Protocol(_)
            | sqlx::Error::PoolTimedOut
            | sqlx::Error::WorkerCrashed => true,
            // Shutting down, starting up, too many connections, out of room.
            sqlx::Error::Database(e) => e.code().is_some_and(|code| {
                ["57P", "53", "08"]
                    .iter()
                    .any(|class| code.starts_with(class))
            }),
            _ => false,
        }
    }

    /// Whether the disk under the database is full, by its own word or by a look at the disk: a database without room for
    /// its journal stops without a word.
    pub fn is_full(&self) -> bool {
        let Self::Database(error) = self else {
            return false;
        };
        let code = error.as_database_error().and_then(|e| e.code());
        code.as_deref() == Some("53100") || (self.is_away() && NO_ROOM.load(Ordering::Relaxed))
    }

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
            None => error.into(),
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
               union select manifest from backups where taken_at >= $1 and gone_at is null
               union select manifest from imprints where coalesce(finished_at, now()) >= $1 and manifest is not null"#,
            since
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}

/// What is kept at hand by those who answer questions: it changes seldom, and has a number that says
/// how often it did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Changes {
    /// Releases, which is current where, what was seen at the bench, board models.
    pub catalogue: i64,
    /// Presets and their values.
    pub presets: i64,
}

impl Records {
    /// How often the catalogue and the presets have changed.
    pub async fn changes(&self) -> Result<Changes, RecordError> {
        let row = sqlx::query!(
            r#"select (select number from changes where what = 'catalogue') as "catalogue!",
                 (select number from changes where what = 'presets') as "presets!""#
        );
        let row = row.fetch_one(&self.pool).await?;
        Ok(Changes {
            catalogue: row.catalogue,
            presets: row.presets,
        })
    }
}

/// The open records.
#[derive(Clone)]
pub struct Records {
    pub(crate) pool: PgPool,
    /// Which service this is.
    pub(crate) me: Arc<services::Me>,
}

/// The steps by which the structure of the records came to be, one a file in `migrations/`.
static FORMS: sqlx::migrate::Migrator = sqlx::migrate!();

/// The newest form of the records that this version knows.
fn newest_known() -> i64 {
    FORMS.iter().map(|form| form.version).max().unwrap_or(0)
}

/// Refuses records of a form that this version does not know.
fn not_newer(form: Option<i64>) -> Result<(), RecordError> {
    let known = newest_known();
    match form.filter(|form| *form > known) {
        Some(form) => Err(RecordError::Newer { form, known }),
        None => Ok(()),
    }
}

/// The records of a team are small enough to be at hand in memory, where any row costs as much as the next one. PostgreSQL
/// reckons with disks that turn, and would rather read a whole table for a page of it.
async fn reckon_with_memory(connection: &mut PgConnection) -> Result<(), sqlx::Error> {
    let set = sqlx::query("set random_page_cost = 1.1").execute(connection);
    set.await.map(|_| ())
}

/// One connection, for a question before the records are opened.
async fn alone(database_url: &str) -> Result<PgPool, sqlx::Error> {
    PgPoolOptions::new()
        .max_connections(1)
        .acquire_timeout(Duration::from_secs(10))
        .connect(database_url)
        .await
}

/// The newest form that was applied to a database; `None` where nothing was yet.
async fn form_of(pool: &PgPool) -> Result<Option<i64>, RecordError> {
    let made = sqlx::query_scalar::<_, bool>("select to_regclass('_sqlx_migrations') is not null");
    if !made.fetch_one(pool).await? {
        return Ok(None);
    }
    let newest = sqlx::query_scalar("select max(version) from _sqlx_migrations where success");
    Ok(newest.fetch_one(pool).await?)
}

impl Records {
    /// Connects and brings the structure up to date.
    pub async fn open(database_url: &str) -> Result<Self, RecordError> {
        let pool = PgPoolOptions::new()
            .max_connections(10)
            .acquire_timeout(Duration::from_secs(10))
            .after_connect(|connection, _| Box::pin(reckon_with_memory(connection)))
            .connect(database_url)
            .await?;
        not_newer(form_of(&pool).await?)?;
        services::bring_up(&pool).await?;
        let me = Arc::default();
        Ok(Self { pool, me })
    }

    /// Whether [`Records::open`] would change the structure of records that are there.
    ///
    /// # Errors
    /// Of a database that does not answer; [`RecordError::Newer`].
    pub async fn is_older(database_url: &str) -> Result<bool, RecordError> {
        let pool = alone(database_url).await?;
        let form = form_of(&pool).await?;
        pool.close().await;
        not_newer(form)?;
        Ok(form.is_some_and(|form| form < newest_known()))
    }

    /// Whether a service has worked with these records: they are sealed under its key then.
    ///
    /// # Errors
    /// Of a database that does not answer.
    pub async fn are_used(database_url: &str) -> Result<bool, RecordError> {
        let pool = alone(database_url).await?;
        let made = sqlx::query_scalar::<_, bool>("select to_regclass('team') is not null");
        let used = match made.fetch_one(&pool).await? {
            true => {
                sqlx::query_scalar("select exists (select 1 from team)")
                    .fetch_one(&pool)
                    .await?
            }
            false => false,
        };
        pool.close().await;
        Ok(used)
    }

    /// Takes everything out of a database, for a recovery that begins again.
    ///
    /// # Errors
    /// Of a database that does not answer, or belongs to another role.
    pub async fn empty(database_url: &str) -> Result<(), RecordError> {
        let pool = alone(database_url).await?;
        // What the recovery that was cut off left running would put its records in afterwards.
        for step in [
            "select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()",
            "drop schema public cascade",
            "create schema public",
        ] {
            sqlx::query(step).execute(&pool).await?;
        }
        pool.close().await;
        Ok(())
    }

    /// As [`Records::next_copy`], of records that were not brought to the form of this version; nothing of those that do
    /// not count their copies yet.
    ///
    /// # Errors
    /// Of a database that does not answer.
    pub async fn next_copy_of(database_url: &str) -> Result<Option<i64>, RecordError> {
        let pool = alone(database_url).await?;
        let counts =
            sqlx::query_scalar::<_, bool>("select to_regclass('records_copies') is not null");
        let next = match counts.fetch_one(&pool).await? {
            true => Some(
                sqlx::query_scalar("select nextval('records_copies')")
                    .fetch_one(&pool)
                    .await?,
            ),
            false => None,
        };
        pool.close().await;
        Ok(next)
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
