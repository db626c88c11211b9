//! Partitions by day of event time, made before the first row needs them.

use std::collections::BTreeSet;
use std::sync::Mutex;

use chrono::{DateTime, Datelike, Duration, Utc};
use outcrop_core::Timestamp;
use outcrop_core::failure::OccurrenceId;
use sqlx::{AssertSqlSafe, Connection, PgConnection, PgPool};

use crate::{StoreError, to_utc};

/// A table that is partitioned by day, and by what.
#[derive(Clone, Copy)]
pub(crate) enum Partitioned {
    /// By an id that begins with the event time.
    ById(&'static str),
    /// By a time.
    ByTime(&'static str),
}

pub(crate) const TABLES: &[Partitioned] = &[
    Partitioned::ById("log_record"),
    Partitioned::ById("occurrence"),
    Partitioned::ById("payload"),
    Partitioned::ById("request"),
    Partitioned::ByTime("group_part"),
    Partitioned::ByTime("kept_chunk"),
    Partitioned::ByTime("status_minute"),
    Partitioned::ByTime("tally_minute"),
    Partitioned::ByTime("traffic_minute"),
];

impl Partitioned {
    pub(crate) const fn table(self) -> &'static str {
        match self {
            Self::ById(table) | Self::ByTime(table) => table,
        }
    }
}

/// The days whose partitions are known to be there.
#[derive(Default)]
pub(crate) struct Partitions {
    known: Mutex<BTreeSet<i64>>,
}

/// The name of a day's partition: `occurrence_20261123`.
pub(crate) fn partition(table: &str, day: i64) -> String {
    let date = start_of(day);
    format!("{table}_{:04}{:02}{:02}", date.year(), date.month(), date.day())
}

pub(crate) fn start_of(day: i64) -> DateTime<Utc> {
    to_utc(Timestamp::from_millis(day * 86_400_000))
}

/// The day of a partition's name, for dropping it when its time is over.
pub(crate) fn day_of_partition(name: &str) -> Option<i64> {
    let digits = name.rsplit('_').next()?;
    let date = chrono::NaiveDate::parse_from_str(digits, "%Y%m%d").ok()?;
    Some(date.signed_duration_since(chrono::NaiveDate::default()).num_days())
}

impl Partitions {
    /// Makes the partitions of these days where they are missing.
    pub(crate) async fn ensure(&self, pool: &PgPool, days: &BTreeSet<i64>) -> Result<(), StoreError> {
        let missing: Vec<i64> = {
            let known = self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            days.difference(&known).copied().collect()
        };
        for day in missing {
            let mut connection = pool.acquire().await?;
            for table in TABLES {
                make(&mut connection, *table, day).await?;
            }
            self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(day);
        }
        Ok(())
    }

    /// Forgets days whose partitions are gone.
    pub(crate) fn forget_before(&self, day: i64) {
        self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner).retain(|known| *known >= day);
    }
}

/// Makes one partition: first a table of its own, then attached, so that readers are held up only for a moment. Two
/// instances may try at once: an advisory lock lets one of them find the work done.
async fn make(connection: &mut PgConnection, table: Partitioned, day: i64) -> Result<(), sqlx::Error> {
    let name = partition(table.table(), day);
    let mut transaction = connection.begin().await?;
    sqlx::query("SELECT pg_advisory_xact_lock(hashtext('outcrop partition'))").execute(&mut *transaction).await?;
    let (is_there,): (bool,) = sqlx::query_as("SELECT to_regclass($1) IS NOT NULL").bind(&name).fetch_one(&mut *transaction).await?;
    if !is_there {
        let parent = table.table();
        let (from, to) = match table {
            Partitioned::ByTime(_) => (start_of(day).to_rfc3339(), start_of(day + 1).to_rfc3339()),
            Partitioned::ById(_) => {
                let first = |day: i64| crate::id_uuid(OccurrenceId::first_at(Timestamp::from_millis(day * 86_400_000))).to_string();
                (first(day), first(day + 1))
            }
        };
        // Names and bounds are made here from a number; nothing of a sender's is in them.
        let create = format!("CREATE TABLE {name} (LIKE {parent} INCLUDING ALL)");
        let attach = format!("ALTER TABLE {parent} ATTACH PARTITION {name} FOR VALUES FROM ('{from}') TO ('{to}')");
        sqlx::query(AssertSqlSafe(create)).execute(&mut *transaction).await?;
        sqlx::query(AssertSqlSafe(attach)).execute(&mut *transaction).await?;
    }
    transaction.commit().await
}

/// Drops the partitions of days before `oldest`, of log lines those before `oldest_log`. Returns how many.
pub(crate) async fn drop_before(pool: &PgPool, oldest: i64, oldest_log: i64) -> Result<usize, StoreError> {
    let mut connection = pool.acquire().await?;
    // A writer waits behind a lock that waits behind a reader: give up quickly, the next round comes soon.
    sqlx::query("SET lock_timeout = '200ms'").execute(&mut *connection).await?;
    let mut dropped = 0;
    for table in TABLES {
        let oldest = if table.table() == "log_record" { oldest_log } else { oldest };
        let names: Vec<(String,)> =
            sqlx::query_as("SELECT inhrelid::regclass::text FROM pg_inherits WHERE inhparent = $1::regclass ORDER BY 1")
                .bind(table.table())
                .fetch_all(&mut *connection)
                .await?;
        for (name,) in names.into_iter().filter(|(name,)| day_of_partition(name).is_some_and(|day| day < oldest)) {
            let detach = format!("ALTER TABLE {} DETACH PARTITION {name} CONCURRENTLY", table.table());
            let mut detached = sqlx::query(AssertSqlSafe(detach)).execute(&mut *connection).await;
            if detached.is_err() {
                // An earlier try that was cut off left it half detached.
                let finish = format!("ALTER TABLE {} DETACH PARTITION {name} FINALIZE", table.table());
                detached = sqlx::query(AssertSqlSafe(finish)).execute(&mut *connection).await;
            }
            if let Err(error) = detached {
                tracing::warn!(%name, %error, "a partition past its time could not be detached; tried again with the next round");
                continue;
            }
            sqlx::query(AssertSqlSafe(format!("DROP TABLE {name}"))).execute(&mut *connection).await?;
            dropped += 1;
        }
    }
    sqlx::query("RESET lock_timeout").execute(&mut *connection).await?;
    Ok(dropped)
}

/// The days that may hold data: from the retention's beginning to tomorrow.
pub(crate) fn days_ahead(now: DateTime<Utc>) -> BTreeSet<i64> {
    let today = now.timestamp().div_euclid(Duration::days(1).num_seconds());
    [today, today + 1].into()
}
