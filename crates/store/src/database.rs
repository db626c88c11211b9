use std::str::FromStr;
use std::time::Duration;

use sqlx::PgPool;
use sqlx::postgres::{PgConnectOptions, PgPoolOptions};

use crate::StoreError;

/// The database: pools apart, so that slow questions never keep the intake waiting.
#[derive(Clone, Debug)]
pub struct Database {
    /// For readers and jobs.
    pub(crate) pool: PgPool,
    /// For looking up sender keys and for saying whether the database answers: short questions that nothing may hold up.
    pub(crate) checking: PgPool,
    /// For the writers of the intake alone.
    pub(crate) writing: PgPool,
}

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
    Migrate(#[from] sqlx::migrate::MigrateError),
}

/// Writers that commit side by side: while one waits for the disk, the other gathers.
pub(crate) const WRITERS: u32 = 2;
/// Connections for all else.
const READERS: u32 = 12;
/// Connections for checks: each takes a millisecond.
const CHECKERS: u32 = 2;
/// How long a reader waits for a free connection.
const ACQUIRE_TIMEOUT: Duration = Duration::from_secs(2);

impl Database {
    /// Connects and brings the schema up to date. Migrations of a newer release are left alone.
    ///
    /// # Errors
    /// [`OpenError`], by step.
    pub async fn open(url: &str) -> Result<Self, OpenError> {
        let database = Self::lazy(url)?;
        let mut migrator = sqlx::migrate!();
        migrator.set_ignore_missing(true);
        let mut connection = database.pool.acquire().await.map_err(OpenError::Connect)?;
        migrator.run(&mut *connection).await?;
        Ok(database)
    }

    fn lazy(url: &str) -> Result<Self, OpenError> {
        let options = PgConnectOptions::from_str(url).map_err(OpenError::Url)?.application_name("outcrop");
        let pool = |size: u32, options: PgConnectOptions| {
            let port = options.get_port();
            PgPoolOptions::new()
                .max_connections(size)
                .acquire_timeout(ACQUIRE_TIMEOUT)
                .after_connect(move |_, _| {
                    Box::pin(async move {
                        crate::promptly::send_promptly(port);
                        Ok(())
                    })
                })
                .connect_lazy_with(options)
        };
        // To start parallel workers takes longer than most questions do: it pays for the large ones alone.
        let reading = options.clone().options([("statement_timeout", "15s"), ("parallel_setup_cost", "20000")]);
        // A writer that waits longer for a lock than a batch may take gives way and repeats.
        let writing =
            options.options([("lock_timeout", "5s"), ("statement_timeout", "30s"), ("jit", "off"), ("client_min_messages", "warning")]);
        let checking = reading.clone();
        Ok(Self { pool: pool(READERS, reading), checking: pool(CHECKERS, checking), writing: pool(WRITERS + 1, writing) })
    }

    /// Whether the database answers and its schema is there.
    ///
    /// # Errors
    /// [`StoreError`] where not.
    pub async fn ping(&self) -> Result<(), StoreError> {
        sqlx::query("SELECT 1 FROM receipt LIMIT 1").execute(&self.checking).await?;
        Ok(())
    }

    /// Closes all connections, once those in use are done.
    pub async fn close(&self) {
        self.writing.close().await;
        self.checking.close().await;
        self.pool.close().await;
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
        older.migrations = all.migrations.iter().take(all.migrations.len() - 1).cloned().collect::<Vec<_>>().into();
        older.run(&mut *before.pool.acquire().await.unwrap()).await.unwrap();
        for statement in [
            "INSERT INTO service (namespace, name, name_hash) VALUES ('', 'fares', gen_random_uuid())",
            "INSERT INTO environment (name, name_hash) VALUES ('production', gen_random_uuid())",
            "INSERT INTO version (service_id, label, label_hash) SELECT id, '2.4.0', gen_random_uuid() FROM service",
            "INSERT INTO endpoint (service_id, name, name_hash) SELECT id, 'GET /v1/quotes', gen_random_uuid() FROM service",
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
            assert!((today - 1..=today + 1).contains(&number(&after, names).await), "what is there counts as used today");
        }
        // A release beside this one still makes names as it did, and what this one sends is taken.
        sqlx::query("INSERT INTO endpoint (service_id, name, name_hash) SELECT id, 'GET /v1/piers', gen_random_uuid() FROM service")
            .execute(&before.pool)
            .await
            .unwrap();
        store(&writer(&after), &[spans(vec![of(resource("fares"), vec![failing(trace(1), 1, None, now(), "no tariff")])], now())]).await;
        // Opened again, nothing is left to do.
        Database::open(&url).await.unwrap();
    }

    #[tokio::test]
    async fn what_cannot_be_opened_says_which_step_failed() {
        assert!(matches!(Database::open("no url").await, Err(OpenError::Url(_))));
        assert!(matches!(Database::open("postgres://outcrop@127.0.0.1:1/none").await, Err(OpenError::Connect(_))));
    }
}
