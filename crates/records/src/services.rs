//! The services that work with these records: usually one, or several that know of each other.
//!
//! That a service lives is a lock that one of its connections holds: the database gives it up when the connection
//! ends, however that came about. What must be one service's alone (leading, the slots of its own computer) is a lock
//! of the same connection.

use std::sync::atomic::{AtomicI32, Ordering};
use std::time::Duration;

use sqlx::postgres::{PgListener, PgPool};
use sqlx::{Connection, PgConnection};
use time::OffsetDateTime;

use crate::{FORMS, RecordError, Records, events, form_of, jobs, newest_known};

/// Lock on the records as a whole: exclusive of a service that is alone, shared by those that know of each other.
const OURS: i64 = 0x6475_706d;
/// First number of the locks of single services; the second is the service's own. The view of live services has it too.
pub(crate) const ALIVE: i32 = 0x6475_7073;
/// First number of the locks of what only one service does at a time.
const ROLE: i32 = 0x6475_7072;
/// Leads: looks after what there is once for all services.
const LEADS: i32 = 1;
/// Has slots of its own computer.
const OWN_SLOTS: i32 = 2;
/// Tidies the vault.
const TIDIES: i32 = 3;
/// How often a lock is tried whose holder may just have ended, and how long it takes in between.
const TRIES: u32 = 50;
const PAUSE: Duration = Duration::from_millis(100);

/// What a service says of itself.
#[derive(Clone, Debug)]
pub struct Presence {
    /// What is kept in its data folder.
    pub id: String,
    /// Where others reach it; nothing for a service that is alone.
    pub address: Option<String>,
    /// The certificate that it shows there.
    pub fingerprint: Option<String>,
    /// Whether the readers of its own computer are slots.
    pub own_slots: bool,
    /// Its version.
    pub version: String,
}

/// A service that lives.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Service {
    /// Its number in the records.
    pub number: i32,
    /// Where others reach it.
    pub address: Option<String>,
    /// The certificate that it shows there.
    pub fingerprint: Option<String>,
    /// Whether the readers of its own computer are slots.
    pub own_slots: bool,
    /// Its version.
    pub version: String,
    /// When it was started.
    pub started_at: OffsetDateTime,
    /// Whether it looks after what there is once for all of them.
    pub leads: bool,
}

/// Held as long as the records are this service's, alone or together with others that know of it.
pub struct Claim {
    connection: PgConnection,
    number: i32,
    leads: bool,
}

impl Records {
    /// Whether a service works with the records at an address right now.
    ///
    /// # Errors
    /// Of a database that does not answer.
    pub async fn are_worked_with(database_url: &str) -> Result<bool, RecordError> {
        let pool = crate::alone(database_url).await?;
        let held = sqlx::query_scalar::<_, bool>(
            "select exists (select 1 from pg_locks where locktype = 'advisory' and objsubid = 1 and granted
                and (classid::bigint << 32) | objid::bigint = (0::bigint << 32) | $1::bigint
                and database = (select oid from pg_database where datname = current_database()))",
        );
        let held = held.bind(i64::from(OURS as i32)).fetch_one(&pool).await?;
        pool.close().await;
        Ok(held)
    }
}

impl Claim {
    /// Whether the claim still holds: its connection is alive.
    pub async fn holds(&mut self) -> bool {
        let alive = sqlx::query("select 1").execute(&mut self.connection).await;
        alive.is_ok()
    }

    /// Number of the service in the records.
    pub fn number(&self) -> i32 {
        self.number
    }

    /// Whether this service leads; it does from now on where nobody else does.
    ///
    /// # Errors
    /// What the database says; it is not known then.
    pub async fn leads(&mut self) -> Result<bool, RecordError> {
        if !self.leads {
            self.leads = try_role(&mut self.connection, LEADS).await?;
        }
        Ok(self.leads)
    }
}

/// Held while the vault is tidied: by one service at a time.
pub struct TidyingTurn {
    connection: PgConnection,
}

impl TidyingTurn {
    /// Gives the turn back.
    pub async fn over(self) {
        // The database gives it back by itself where this does not come through.
        let _ = self.connection.close().await;
    }
}

async fn try_role(connection: &mut PgConnection, role: i32) -> Result<bool, RecordError> {
    let got = sqlx::query_scalar::<_, bool>("select pg_try_advisory_lock($1, $2)")
        .bind(ROLE)
        .bind(role);
    Ok(got.fetch_one(connection).await?)
}

/// Tries a lock again and again: the connection of a service that was killed lives on for a moment.
async fn insist(
    connection: &mut PgConnection,
    lock: &'static str,
    numbers: (i32, i32),
) -> Result<bool, RecordError> {
    for _ in 0..TRIES {
        let got = sqlx::query_scalar::<_, bool>(lock)
            .bind(numbers.0)
            .bind(numbers.1)
            .fetch_one(&mut *connection)
            .await?;
        if got {
            return Ok(true);
        }
        tokio::time::sleep(PAUSE).await;
    }
    Ok(false)
}

/// Brings the structure of the records up to date: while no service works with them, and by one at a time.
pub(crate) async fn bring_up(pool: &PgPool) -> Result<(), RecordError> {
    let mut connection = PgConnection::connect_with(&pool.connect_options()).await?;
    for _ in 0..TRIES {
        if form_of(pool).await? == Some(newest_known()) {
            return Ok(());
        }
        let alone = sqlx::query_scalar::<_, bool>("select pg_try_advisory_lock($1)")
            .bind(OURS)
            .fetch_one(&mut connection)
            .await?;
        if alone {
            let brought = FORMS.run(pool).await;
            // The lock ends with the connection, whatever came of it.
            let _ = connection.close().await;
            return Ok(brought?);
        }
        tokio::time::sleep(PAUSE).await;
    }
    Err(RecordError::OlderAtWork)
}

/// The number of this service, as soon as it is known; 0 before.
#[derive(Debug, Default)]
pub(crate) struct Me(AtomicI32);

impl Records {
    /// Number of this service in the records; nothing before it has claimed them.
    pub fn me(&self) -> Option<i32> {
        Some(self.me.0.load(Ordering::Relaxed)).filter(|number| *number != 0)
    }

    /// Claims the records for one service, and for one key file: the first key that claims them stays theirs. Services
    /// that say where others reach them share the records; one that does not has them alone.
    ///
    /// # Errors
    /// [`RecordError::InUse`] while others hold them that this service cannot share them with, [`RecordError::SameService`]
    /// while it lives already, [`RecordError::OwnSlots`] where another one has slots of its own computer,
    /// [`RecordError::OtherKey`] where they belong to another key.
    pub async fn claim(
        &self,
        key_fingerprint: &[u8],
        presence: &Presence,
    ) -> Result<Claim, RecordError> {
        let options = self.pool.connect_options();
        let mut connection = PgConnection::connect_with(&options).await?;
        // A computer that lost its power closes nothing: the database asks after it.
        sqlx::query(
            "select set_config('tcp_keepalives_idle', '5', false), set_config('tcp_keepalives_interval', '5', false),
             set_config('tcp_keepalives_count', '3', false)",
        )
        .execute(&mut connection)
        .await?;
        let shared = presence.address.is_some();
        let whole = match shared {
            false => "select pg_try_advisory_lock(($1::bigint << 32) | $2)",
            true => "select pg_try_advisory_lock_shared(($1::bigint << 32) | $2)",
        };
        let ours = (0, OURS as i32);
        if !insist(&mut connection, whole, ours).await? {
            return Err(RecordError::InUse { shared });
        }
        sqlx::query!(
            "insert into team (key_fingerprint) values ($1) on conflict (single) do nothing",
            key_fingerprint
        )
        .execute(&mut connection)
        .await?;
        let kept = sqlx::query_scalar!("select key_fingerprint from team")
            .fetch_one(&mut connection)
            .await?;
        if kept != key_fingerprint {
            return Err(RecordError::OtherKey);
        }
        let number = sqlx::query_scalar!(
            "insert into services (id, own_slots, version) values ($1, false, '') on conflict (id) do update
             set id = excluded.id returning number",
            presence.id
        )
        .fetch_one(&mut connection)
        .await?;
        let alive = "select pg_try_advisory_lock($1, $2)";
        if !insist(&mut connection, alive, (ALIVE, number)).await? {
            return Err(RecordError::SameService);
        }
        if presence.own_slots && !insist(&mut connection, alive, (ROLE, OWN_SLOTS)).await? {
            return Err(RecordError::OwnSlots);
        }
        sqlx::query!(
            "update services set address = $2, fingerprint = $3, own_slots = $4, version = $5, ready = false, started_at = now()
             where number = $1",
            number,
            presence.address,
            presence.fingerprint,
            presence.own_slots,
            presence.version
        )
        .execute(&mut connection)
        .await?;
        self.me.0.store(number, Ordering::Relaxed);
        Ok(Claim {
            connection,
            number,
            leads: false,
        })
    }

    /// This service has begun its work.
    pub async fn is_ready(&self) -> Result<(), RecordError> {
        sqlx::query!(
            "update services set ready = true where number = $1",
            self.me()
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Numbers of the services that live and have begun their work: one that is starting has nothing to be asked for.
    pub async fn services_at_work(&self) -> Result<Vec<i32>, RecordError> {
        let numbers = sqlx::query_scalar!(
            r#"select s.number as "number!" from services s join live_services l on l.number = s.number where s.ready"#
        );
        Ok(numbers.fetch_all(&self.pool).await?)
    }

    /// Takes the turn of tidying the vault, if no other service has it.
    ///
    /// # Errors
    /// What the database says.
    pub async fn tidying_turn(&self) -> Result<Option<TidyingTurn>, RecordError> {
        let options = self.pool.connect_options();
        let mut connection = PgConnection::connect_with(&options).await?;
        let got = try_role(&mut connection, TIDIES).await?;
        Ok(got.then_some(TidyingTurn { connection }))
    }

    /// The services that live now, by number.
    pub async fn services(&self) -> Result<Vec<Service>, RecordError> {
        let rows = sqlx::query_as!(
            Service,
            r#"select number as "number!", address, fingerprint, own_slots as "own_slots!", version as "version!",
                 started_at as "started_at!", exists (
                   select from pg_locks l, pg_locks mine
                   where l.locktype = 'advisory' and l.classid = 1685418098 and l.objid = 1 and l.objsubid = 2 and l.granted
                     and mine.locktype = 'advisory' and mine.classid = 1685418099 and mine.objid::bigint = number
                     and mine.objsubid = 2 and mine.granted and mine.pid = l.pid
                     and l.database = (select oid from pg_database where datname = current_database())
                     and mine.database = l.database) as "leads!"
               from live_services order by number"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Sorts out what services left under way that live no more: as [`Records::sort_out_interrupted`] does for all. None of
    /// them can start again meanwhile. Gives the jobs that this concerned.
    pub async fn sort_out_gone(&self) -> Result<Vec<i64>, RecordError> {
        let gone = sqlx::query_scalar!(
            r#"select distinct service as "service!" from jobs where state in ('waiting', 'running') and service is not null
               and service not in (select number from live_services where number is not null)"#
        );
        let mut all = Vec::new();
        for number in gone.fetch_all(&self.pool).await? {
            let mut tx = self.pool.begin().await?;
            let dead = sqlx::query_scalar::<_, bool>("select pg_try_advisory_xact_lock($1, $2)")
                .bind(ALIVE)
                .bind(number);
            if dead.fetch_one(&mut *tx).await? {
                all.extend(jobs::interrupt(&mut tx, Some(number)).await?);
                tx.commit().await?;
            }
        }
        Ok(all)
    }

    /// The service that works on a job, if another one than this does.
    pub async fn job_elsewhere(&self, job: i64) -> Result<Option<i32>, RecordError> {
        let number = sqlx::query_scalar!(
            r#"select service as "service!" from jobs where id = $1 and service is distinct from $2
               and state in ('waiting', 'running') and service in (select number from live_services)"#,
            job,
            self.me()
        );
        Ok(number.fetch_optional(&self.pool).await?)
    }

    /// The service that a bench is connected to, if that is another one than this.
    pub async fn bench_elsewhere(&self, bench: &str) -> Result<Option<i32>, RecordError> {
        let number = sqlx::query_scalar!(
            r#"select service as "service!" from benches where name = $1 and removed_at is null
               and service is distinct from $2 and service in (select number from live_services)"#,
            bench,
            self.me()
        );
        Ok(number.fetch_optional(&self.pool).await?)
    }

    /// A bench is this service's from now on, unless another one has it that lives; gives that one.
    pub async fn take_bench(&self, bench: &str) -> Result<Option<i32>, RecordError> {
        let taken = sqlx::query!(
            "update benches set service = $2 where name = $1 and removed_at is null
             and (service is null or service = $2 or service not in (select number from live_services where number is not null))",
            bench,
            self.me()
        )
        .execute(&self.pool)
        .await?;
        match taken.rows_affected() {
            0 => self.bench_elsewhere(bench).await,
            _ => Ok(None),
        }
    }

    /// Benches that have ended their sessions here may call any service again.
    pub async fn give_benches_back(&self, but: &[String]) -> Result<(), RecordError> {
        sqlx::query!(
            "update benches set service = null where service = $1 and not name = any($2)",
            self.me(),
            but
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Listens for events that any service records.
    ///
    /// # Errors
    /// What the database says.
    pub async fn listen(&self) -> Result<Listening, RecordError> {
        let mut listener = PgListener::connect_with(&self.pool).await?;
        listener.listen(events::CHANNEL).await?;
        Ok(Listening(listener))
    }
}

/// Hears of events that any service records.
pub struct Listening(PgListener);

impl Listening {
    /// Waits until there is a new one. After a lost connection there may be some that nobody told of, so that this
    /// returns then too.
    ///
    /// # Errors
    /// Where the connection cannot be made again.
    pub async fn heard(&mut self) -> Result<(), RecordError> {
        self.0.try_recv().await?;
        Ok(())
    }
}
