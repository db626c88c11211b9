//! Partitions by day of event time, made before the first row needs them.

use std::collections::BTreeSet;
use std::sync::Mutex;

use chrono::{DateTime, Datelike, Duration, Utc};
use outcrop_core::Timestamp;
use outcrop_core::failure::OccurrenceId;
use sqlx::{AssertSqlSafe, Connection, PgConnection, PgPool};

use crate::database::locks::Lock;
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
    Partitioned::ByTime("served_minute"),
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
    /// Makes the partitions of these days where they are missing. Days outside the accepted window
    /// get none: they would never be dropped.
    pub(crate) async fn ensure(&self, pool: &PgPool, days: &BTreeSet<i64>, today: i64) -> Result<(), StoreError> {
        let accepted = today - crate::retention::RETENTION_DAYS..=today + 1;
        if let Some(day) = days.iter().find(|day| !accepted.contains(day)) {
            return Err(StoreError::Unusable(format!(
                "an event of {} lies outside the accepted window",
                start_of(*day).date_naive()
            )));
        }
        let missing: Vec<i64> = {
            let known = self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            days.difference(&known).copied().collect()
        };
        for day in missing {
            let mut connection = pool.acquire().await?;
            for table in TABLES {
                make(&mut connection, *table, day).await?;
            }
            self.known
                .lock()
                .unwrap_or_else(std::sync::PoisonError::into_inner)
                .insert(day);
        }
        Ok(())
    }

    /// Forgets days whose partitions are gone.
    pub(crate) fn forget_before(&self, day: i64) {
        self.known
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
            .retain(|known| *known >= day);
    }
}

/// Makes one partition: first a table of its own, then attached, so that readers are held up only for a moment. Two
/// instances may try at once: an advisory lock lets one of them find the work done.
async fn make(connection: &mut PgConnection, table: Partitioned, day: i64) -> Result<(), sqlx::Error> {
    let name = partition(table.table(), day);
    let mut transaction = connection.begin().await?;
    Lock::Partitions.take(&mut transaction).await?;
    let (is_there,): (bool,) = sqlx::query_as("SELECT to_regclass($1) IS NOT NULL")
        .bind(&name)
        .fetch_one(&mut *transaction)
        .await?;
    if !is_there {
        let parent = table.table();
        let (from, to) = match table {
            Partitioned::ByTime(_) => (start_of(day).to_rfc3339(), start_of(day + 1).to_rfc3339()),
            Partitioned::ById(_) => {
                let first = |day: i64| {
                    crate::ids::id_uuid(OccurrenceId::first_at(Timestamp::from_millis(day * 86_400_000))).to_string()
                };
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

/// Drops each table's partitions of days before the one that `oldest` names for it. Returns how many.
pub(crate) async fn drop_past(pool: &PgPool, oldest: impl Fn(&str) -> i64 + Send + Sync) -> Result<usize, StoreError> {
    let mut connection = pool.acquire().await?;
    // A writer waits behind a lock that waits behind a reader: give up quickly, the next round comes soon.
    sqlx::query("SET lock_timeout = '200ms'")
        .execute(&mut *connection)
        .await?;
    let dropped = drop_old(&mut connection, &oldest).await;
    // The setting must not stay on a connection that others use: where it cannot be taken back, the connection goes.
    if sqlx::query("RESET lock_timeout")
        .execute(&mut *connection)
        .await
        .is_err()
    {
        drop(connection.detach());
    }
    dropped
}

/// A partition that cannot be removed now holds up no other.
async fn drop_old(connection: &mut PgConnection, oldest: &(impl Fn(&str) -> i64 + Sync)) -> Result<usize, StoreError> {
    let mut dropped = 0;
    for table in TABLES {
        let oldest = oldest(table.table());
        for (name, is_attached) in partitions_of(connection, *table).await? {
            if day_of_partition(&name).is_none_or(|day| day >= oldest) {
                continue;
            }
            match remove(connection, *table, &name, is_attached).await {
                Ok(()) => dropped += 1,
                Err(error) => {
                    tracing::warn!(%name, %error, "a partition past its time could not be removed; tried again with \
                        the next round");
                }
            }
        }
    }
    Ok(dropped)
}

/// The partitions of a table, and those that were its own until their removal was cut off between
/// detaching and dropping.
async fn partitions_of(connection: &mut PgConnection, table: Partitioned) -> Result<Vec<(String, bool)>, sqlx::Error> {
    sqlx::query_as(
        "SELECT c.oid::regclass::text, EXISTS (SELECT FROM pg_inherits WHERE inhrelid = c.oid) FROM pg_class c \
         WHERE c.relkind = 'r' AND c.relnamespace = 'public'::regnamespace AND c.relname ~ ('^' || $1 || \
         '_[0-9]{8}$') ORDER BY 1",
    )
    .bind(table.table())
    .fetch_all(connection)
    .await
}

async fn remove(
    connection: &mut PgConnection,
    table: Partitioned,
    name: &str,
    is_attached: bool,
) -> Result<(), sqlx::Error> {
    if is_attached {
        let detach = format!("ALTER TABLE {} DETACH PARTITION {name} CONCURRENTLY", table.table());
        if sqlx::query(AssertSqlSafe(detach))
            .execute(&mut *connection)
            .await
            .is_err()
        {
            // An earlier try that was cut off left it half detached.
            let finish = format!("ALTER TABLE {} DETACH PARTITION {name} FINALIZE", table.table());
            sqlx::query(AssertSqlSafe(finish)).execute(&mut *connection).await?;
        }
    }
    sqlx::query(AssertSqlSafe(format!("DROP TABLE {name}")))
        .execute(connection)
        .await
        .map(drop)
}

/// The days that may hold data: from the retention's beginning to tomorrow.
pub(crate) fn days_ahead(now: DateTime<Utc>) -> BTreeSet<i64> {
    let today = now.timestamp().div_euclid(Duration::days(1).num_seconds());
    [today, today + 1].into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, now, number};

    #[tokio::test]
    async fn a_day_outside_the_accepted_window_gets_no_partition() {
        let database = database().await;
        let (partitions, today) = (Partitions::default(), now().day());
        for day in [today - 31, today + 2, today + 40_000, -1] {
            let refused = partitions.ensure(&database.writing, &[today, day].into(), today).await;
            assert!(matches!(refused, Err(StoreError::Unusable(_))), "{day}: {refused:?}");
        }
        assert_eq!(number(&database, "SELECT count(*) FROM pg_inherits").await, 0);
        partitions
            .ensure(&database.writing, &[today - 30, today + 1].into(), today)
            .await
            .unwrap();
        assert_eq!(
            number(
                &database,
                "SELECT count(*) FROM pg_inherits WHERE inhparent = 'occurrence'::regclass"
            )
            .await,
            2
        );
    }

    #[tokio::test]
    async fn a_partition_that_cannot_be_removed_holds_up_no_other_and_leaves_no_setting_behind() {
        let database = database().await;
        let today = now().day();
        Partitions::default()
            .ensure(&database.writing, &(today - 30..today - 20).collect(), today)
            .await
            .unwrap();
        // A reader that stays holds one partition; another was detached by a process that was
        // killed before it dropped it.
        let held = partition("occurrence", today - 28);
        let mut reader = database.pool.begin().await.unwrap();
        sqlx::query(AssertSqlSafe(format!("SELECT count(*) FROM {held}")))
            .execute(&mut *reader)
            .await
            .unwrap();
        let orphan = partition("payload", today - 29);
        let detach = format!("ALTER TABLE payload DETACH PARTITION {orphan}");
        sqlx::query(AssertSqlSafe(detach))
            .execute(&database.pool)
            .await
            .unwrap();
        let dropped = drop_past(&database.pool, |_| today - 25).await.unwrap();
        // PostgreSQL detaches one partition of a table at a time: the younger ones of this table wait behind it.
        assert_eq!(dropped, 5 * TABLES.len() - 3);
        let names: Vec<(String,)> = sqlx::query_as(
            "SELECT relname::text FROM pg_class WHERE relkind = 'r' AND relname ~ '_[0-9]{8}$' AND \
                right(relname, 8) < $1",
        )
        .bind(start_of(today - 25).format("%Y%m%d").to_string())
        .fetch_all(&database.pool)
        .await
        .unwrap();
        assert!(
            names.len() == 3 && names.iter().all(|(name,)| name.starts_with("occurrence_")) && names.contains(&(held,)),
            "{names:?}"
        );
        reader.rollback().await.unwrap();
        for _ in 0..20 {
            let (timeout,): (String,) = sqlx::query_as("SHOW lock_timeout")
                .fetch_one(&database.pool)
                .await
                .unwrap();
            assert_eq!(timeout, "0");
        }
        assert_eq!(drop_past(&database.pool, |_| today - 25).await.unwrap(), 3);
    }
}
