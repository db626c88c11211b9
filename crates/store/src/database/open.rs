//! Opening the database: its pools, the versions it may have, its migrations.

use std::str::FromStr;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use sqlx::migrate::{MigrateError, Migrator};
use sqlx::postgres::{PgConnectOptions, PgPoolOptions};
use sqlx::{Connection, PgConnection, PgPool};

use super::visible;
use crate::StoreError;
use crate::boxed;
use crate::database::named::connection_name;

/// The database: pools apart, so that slow questions never keep the intake waiting.
#[derive(Clone, Debug)]
pub struct Database {
    /// For readers and jobs.
    pub(crate) pool: PgPool,
    /// The same where nothing is closed.
    pub(crate) all: PgPool,
    /// For looking up sender keys and for saying whether the database answers: short questions that
    /// nothing may hold up.
    pub(crate) checking: PgPool,
    /// For the writers of the intake alone.
    pub(crate) writing: PgPool,
    /// How readers connect.
    reading: PgConnectOptions,
    /// Pools of readers to whom services are closed, by these services; the one used last comes last.
    pub(super) seen: Arc<Mutex<Vec<SeenWithout>>>,
    /// Whether nothing can be changed through `pool`.
    pub(crate) is_read_only: bool,
}

/// Services that are closed, and the pool of those they are closed to.
type SeenWithout = (Vec<i32>, PgPool);

/// Why the database cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// The URL is none.
    #[error("the database URL cannot be read: {0}; it looks like postgres://user@host:5432/name")]
    Url(#[source] sqlx::Error),
    /// It does not answer.
    #[error("the database cannot be reached: {0}")]
    Connect(#[source] sqlx::Error),
    /// The schema cannot be brought up to date.
    #[error("the database's schema cannot be brought up to date: {0}")]
    Migrate(#[from] MigrateError),
    /// The schema is of an earlier release.
    #[error(
        "this release needs the schema {needed}, and the database has {has}: run `outcrop admin migrate`, or start \
         `outcrop serve` of this release"
    )]
    Behind {
        /// The newest migration of this release.
        needed: i64,
        /// The newest that was applied; 0 for an empty database.
        has: i64,
    },
}

/// Writers that commit side by side: while one waits for the disk, the other gathers.
pub(crate) const WRITERS: u32 = 2;
/// Connections for all else.
const READERS: u32 = 12;
/// Connections for checks: each takes a millisecond.
const CHECKERS: u32 = 2;
/// Pools of readers to whom services are closed, connections of each, and how long an idle one stays: members of the same
/// teams share one.
pub(super) const SEEN: usize = 8;
const CLOSED_READERS: u32 = 4;
const CLOSED_IDLE: Duration = Duration::from_mins(1);
/// How long a reader waits for a free connection.
const ACQUIRE_TIMEOUT: Duration = Duration::from_secs(2);

/// How long a migration waits for a lock: all who come after it wait as long.
const LOCK_TIMEOUT: &str = "3s";
/// How long it then lets others work, and how often it tries: some ten minutes together.
const LOCK_PAUSE: Duration = Duration::from_secs(2);
const LOCK_TRIES: u32 = 120;

/// The number of this release's newest migration.
fn newest() -> i64 {
    sqlx::migrate!()
        .iter()
        .map(|migration| migration.version)
        .max()
        .unwrap_or_default()
}

async fn applied(connection: &mut PgConnection) -> Result<i64, sqlx::Error> {
    let (is_there,): (bool,) = sqlx::query_as("SELECT to_regclass('_sqlx_migrations') IS NOT NULL")
        .fetch_one(&mut *connection)
        .await?;
    if !is_there {
        return Ok(0);
    }
    sqlx::query_scalar("SELECT count(*) FROM _sqlx_migrations WHERE success")
        .fetch_one(connection)
        .await
}

fn waited_for_a_lock(error: &MigrateError) -> bool {
    let (MigrateError::Execute(cause) | MigrateError::ExecuteMigration(cause, _)) = error else {
        return false;
    };
    cause
        .as_database_error()
        .and_then(sqlx::error::DatabaseError::code)
        .is_some_and(|code| code == "55P03")
}

/// Applies what is missing, and makes the views anew where the tables have changed. They are taken away before: a view
/// would hold up a change of its table.
async fn run(connection: &mut PgConnection, migrator: &Migrator) -> Result<(), MigrateError> {
    let (before, needed) = (applied(connection).await?, newest_count(migrator));
    if before < needed {
        visible::remove(connection).await?;
    }
    migrator.run(&mut *connection).await?;
    let (are_there,): (bool,) = sqlx::query_as("SELECT to_regnamespace($1) IS NOT NULL")
        .bind(visible::SCHEMA)
        .fetch_one(&mut *connection)
        .await?;
    if !are_there {
        visible::make(connection).await?;
    }
    Ok(())
}

fn newest_count(migrator: &Migrator) -> i64 {
    i64::try_from(migrator.iter().count()).unwrap_or(i64::MAX)
}

fn options_of(url: &str) -> Result<PgConnectOptions, OpenError> {
    let options = PgConnectOptions::from_str(url).map_err(OpenError::Url)?;
    Ok(options.application_name(&connection_name()))
}

/// How readers connect. To start parallel workers takes longer than most questions do: it pays for the large ones alone.
fn reading(options: PgConnectOptions) -> PgConnectOptions {
    options.options([("statement_timeout", "15s"), ("parallel_setup_cost", "20000")])
}

/// A pool of so many connections to a server at a port, which are sent to promptly.
fn pool(size: u32, port: u16) -> PgPoolOptions {
    PgPoolOptions::new()
        .max_connections(size)
        .acquire_timeout(ACQUIRE_TIMEOUT)
        .after_connect(move |_, _| {
            Box::pin(async move {
                crate::database::promptly::send_promptly(port);
                Ok(())
            })
        })
}

impl Database {
    /// Connects and brings the schema up to date. Migrations of a newer release are left alone.
    ///
    /// # Errors
    /// [`OpenError`], by step.
    pub async fn open(url: &str) -> Result<Self, OpenError> {
        Self::migrate(url).await?;
        Self::lazy(url)
    }

    /// Connects to a database whose schema is that of this release, or of a newer one.
    ///
    /// # Errors
    /// [`OpenError::Behind`] where the schema is of an earlier release; others by step.
    #[boxed]
    pub async fn connect(url: &str) -> Result<Self, OpenError> {
        let database = Self::lazy(url)?;
        let mut connection = database.pool.acquire().await.map_err(OpenError::Connect)?;
        let needed = newest();
        let (is_there,): (bool,) = sqlx::query_as("SELECT to_regclass('_sqlx_migrations') IS NOT NULL")
            .fetch_one(&mut *connection)
            .await
            .map_err(OpenError::Connect)?;
        let has: i64 = if is_there {
            let statement = "SELECT coalesce(max(version), 0) FROM _sqlx_migrations WHERE success";
            sqlx::query_scalar(statement)
                .fetch_one(&mut *connection)
                .await
                .map_err(OpenError::Connect)?
        } else {
            0
        };
        if has < needed {
            return Err(OpenError::Behind { needed, has });
        }
        drop(connection);
        Ok(database)
    }

    /// Brings the schema up to date, on a connection of its own: no time limit cuts a migration
    /// short, and one that waits for a lock longer than [`LOCK_TIMEOUT`] gives way to who else
    /// waits, and is tried again. Returns how many migrations were applied. Each is one
    /// transaction: broken off, it is done again as a whole.
    ///
    /// # Errors
    /// [`OpenError`], by step.
    pub async fn migrate(url: &str) -> Result<i64, OpenError> {
        let options = PgConnectOptions::from_str(url)
            .map_err(OpenError::Url)?
            .application_name("outcrop migrations");
        let options = options.options([
            ("lock_timeout", LOCK_TIMEOUT),
            ("statement_timeout", "0"),
            ("client_min_messages", "warning"),
        ]);
        let mut connection = PgConnection::connect_with(&options).await.map_err(OpenError::Connect)?;
        let mut migrator = sqlx::migrate!();
        migrator.set_ignore_missing(true);
        let before = applied(&mut connection).await.map_err(OpenError::Connect)?;
        let mut tries = 0;
        loop {
            let Err(error) = run(&mut connection, &migrator).await else {
                break;
            };
            tries += 1;
            if tries >= LOCK_TRIES || !waited_for_a_lock(&error) {
                return Err(error.into());
            }
            tracing::warn!(
                tries,
                "a migration waits for a lock that others hold, and is tried again"
            );
            tokio::time::sleep(LOCK_PAUSE).await;
        }
        let after = applied(&mut connection).await.map_err(OpenError::Connect)?;
        connection.close().await.map_err(OpenError::Connect)?;
        Ok(after - before)
    }

    /// The same database through connections that can only read: of its own server, or of a standby's at a URL.
    ///
    /// # Errors
    /// [`OpenError::Url`] where the URL is none.
    pub(super) fn only_read(&self, standby: Option<&str>) -> Result<Self, OpenError> {
        let options = match standby {
            Some(url) => reading(options_of(url)?),
            None => self.reading.clone(),
        };
        let options = options.options([("default_transaction_read_only", "on")]);
        Ok(Self {
            pool: pool(READERS, options.get_port()).connect_lazy_with(options.clone()),
            reading: options,
            seen: Arc::default(),
            is_read_only: true,
            ..self.clone()
        })
    }

    fn lazy(url: &str) -> Result<Self, OpenError> {
        let options = options_of(url)?;
        let port = options.get_port();
        let reading = reading(options.clone());
        // A writer that waits longer for a lock than a batch may take gives way and repeats.
        let writing = options.options([
            ("lock_timeout", "5s"),
            ("statement_timeout", "30s"),
            ("jit", "off"),
            ("client_min_messages", "warning"),
        ]);
        let checking = reading.clone();
        let readers = pool(READERS, port).connect_lazy_with(reading.clone());
        Ok(Self {
            reading,
            is_read_only: false,
            seen: Arc::default(),
            all: readers.clone(),
            pool: readers,
            checking: pool(CHECKERS, port).connect_lazy_with(checking),
            writing: pool(WRITERS + 1, port).connect_lazy_with(writing),
        })
    }

    /// The database as somebody sees it to whom services are closed: their rows are not there. Sorted numbers.
    ///
    /// Must be called on the runtime that reads.
    ///
    /// # Panics
    /// Never, but where another thread panicked in here.
    #[must_use]
    pub fn seen_by(&self, closed: &[i32]) -> Self {
        if closed.is_empty() {
            return self.clone();
        }
        let mut seen = self.seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let place = seen.iter().position(|(services, _)| services == closed);
        let known = place.map(|place| seen.remove(place));
        let (services, pool) = known.unwrap_or_else(|| (closed.to_vec(), self.closed_pool(closed)));
        seen.push((services, pool.clone()));
        if seen.len() > SEEN {
            // Who still asks there is answered: the connections close as they fall idle.
            drop(seen.remove(0));
        }
        Self { pool, ..self.clone() }
    }

    /// The database with all there is, for what the service itself needs to know.
    #[must_use]
    pub fn whole(&self) -> Self {
        Self {
            pool: self.all.clone(),
            ..self.clone()
        }
    }

    fn closed_pool(&self, closed: &[i32]) -> PgPool {
        let numbers: Vec<String> = closed.iter().map(ToString::to_string).collect();
        let options = self.reading.clone().options([
            ("search_path", visible::SCHEMA.to_owned()),
            (visible::CLOSED, format!("{{{}}}", numbers.join(","))),
        ]);
        pool(CLOSED_READERS, options.get_port())
            .idle_timeout(CLOSED_IDLE)
            .connect_lazy_with(options)
    }

    /// Whether the database answers and its schema is there.
    ///
    /// # Errors
    /// [`StoreError`] where not.
    #[boxed]
    pub async fn ping(&self) -> Result<(), StoreError> {
        sqlx::query("SELECT 1 FROM receipt LIMIT 1")
            .execute(&self.checking)
            .await?;
        Ok(())
    }

    /// Closes all connections, once those in use are done.
    #[boxed]
    pub async fn close(&self) {
        self.writing.close().await;
        self.checking.close().await;
        self.all.close().await;
        self.pool.close().await;
        let seen = std::mem::take(&mut *self.seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner));
        for (_, pool) in seen {
            pool.close().await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{failing, now, number, of, resource, spans, store, trace, writer};

    #[tokio::test]
    async fn the_newest_migration_applies_to_a_filled_older_schema() {
        let url = outcrop_testkit::Postgres::shared().database();
        let all = sqlx::migrate!();
        let before = Database::lazy(&url).unwrap();
        let mut older = sqlx::migrate!();
        older.migrations = all
            .migrations
            .iter()
            .take(all.migrations.len() - 1)
            .cloned()
            .collect::<Vec<_>>()
            .into();
        older.run(&mut *before.pool.acquire().await.unwrap()).await.unwrap();
        for statement in [
            "INSERT INTO service (namespace, name, name_hash) VALUES ('', 'fares', gen_random_uuid())",
            "INSERT INTO environment (name, name_hash) VALUES ('production', gen_random_uuid())",
            "INSERT INTO version (service_id, label, label_hash) SELECT id, '2.4.0', gen_random_uuid() FROM service",
            "INSERT INTO endpoint (service_id, name, name_hash) SELECT id, 'GET /v1/quotes', gen_random_uuid() FROM \
             service",
            "INSERT INTO error_group (service_id, title, type) SELECT id, 'no tariff', 'TariffMissing' FROM service",
        ] {
            sqlx::query(statement).execute(&before.pool).await.unwrap();
        }
        let after = Database::open(&url).await.unwrap();
        let today = now().day();
        for names in [
            "SELECT min(used_day)::bigint FROM service",
            "SELECT min(used_day)::bigint FROM version",
            "SELECT min(used_day)::bigint FROM endpoint",
        ] {
            assert!(
                (today - 1..=today + 1).contains(&number(&after, names).await),
                "what is there counts as used today"
            );
        }
        // A release beside this one still makes names as it did, and what this one sends is taken.
        sqlx::query(
            "INSERT INTO endpoint (service_id, name, name_hash) SELECT id, 'GET /v1/piers', gen_random_uuid() \
            FROM service",
        )
        .execute(&before.pool)
        .await
        .unwrap();
        store(
            &writer(&after),
            &[spans(
                vec![of(
                    resource("fares"),
                    vec![failing(trace(1), 1, None, now(), "no tariff")],
                )],
                now(),
            )],
        )
        .await;
        // Opened again, nothing is left to do.
        Database::open(&url).await.unwrap();
    }

    #[tokio::test]
    async fn only_a_migration_changes_the_schema_and_others_say_what_they_need() {
        let url = outcrop_testkit::Postgres::shared().database();
        let refused = Database::connect(&url).await;
        assert!(
            matches!(&refused, Err(OpenError::Behind { has: 0, needed }) if *needed == newest()),
            "{refused:?}"
        );
        assert!(refused.unwrap_err().to_string().contains("outcrop admin migrate"));
        let there = Database::lazy(&url).unwrap();
        assert_eq!(
            number(
                &there,
                "SELECT count(*) FROM pg_class WHERE relnamespace = 'public'::regnamespace"
            )
            .await,
            0
        );
        assert_eq!(
            Database::migrate(&url).await.unwrap(),
            i64::try_from(sqlx::migrate!().iter().count()).unwrap()
        );
        assert_eq!(
            Database::migrate(&url).await.unwrap(),
            0,
            "again there is nothing to do"
        );
        Database::connect(&url).await.unwrap();
        // One of a newer release is none of ours to judge.
        sqlx::query(
            "INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) VALUES \
            (99990101000000, 'later', true, '', 0)",
        )
        .execute(&there.pool)
        .await
        .unwrap();
        Database::connect(&url).await.unwrap();
        Database::open(&url).await.unwrap();
    }

    #[tokio::test]
    async fn a_migration_that_waits_for_a_lock_gives_way_and_is_tried_again() {
        let url = outcrop_testkit::Postgres::shared().database();
        let before = Database::lazy(&url).unwrap();
        let all = sqlx::migrate!();
        let mut older = sqlx::migrate!();
        older.migrations = all
            .migrations
            .iter()
            .take_while(|one| one.version < 20_261_129_070_000)
            .cloned()
            .collect::<Vec<_>>()
            .into();
        older.run(&mut *before.pool.acquire().await.unwrap()).await.unwrap();
        let mut reader = before.pool.begin().await.unwrap();
        sqlx::query("SELECT count(*) FROM token")
            .execute(&mut *reader)
            .await
            .unwrap();
        let others = async {
            // Longer than it waits for a lock: who comes behind it is let by.
            tokio::time::sleep(Duration::from_millis(3_600)).await;
            let read = sqlx::query("SELECT count(*) FROM token").execute(&before.pool);
            tokio::time::timeout(Duration::from_secs(1), read)
                .await
                .unwrap()
                .unwrap();
            let applied = number(&before, "SELECT count(*) FROM pg_class WHERE relname = 'audit_entry'").await;
            reader.rollback().await.unwrap();
            applied
        };
        let (migrated, applied) = tokio::join!(Database::migrate(&url), others);
        assert_eq!(applied, 0, "it waited meanwhile");
        assert!(migrated.unwrap() >= 3);
    }

    #[tokio::test]
    async fn what_cannot_be_opened_says_which_step_failed() {
        assert!(matches!(Database::open("no url").await, Err(OpenError::Url(_))));
        assert!(matches!(
            Database::open("postgres://outcrop@127.0.0.1:1/none").await,
            Err(OpenError::Connect(_))
        ));
    }
}
