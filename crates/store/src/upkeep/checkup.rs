//! What an installation's database says of itself, for who looks whether all is well.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use outcrop_core::installation::{Facts, Table};

use super::days_of;
use crate::database::named::NAMED;
use crate::database::partitions;
use crate::retention::Policy;
use crate::{Database, StoreError, boxed, from_utc};

/// Settings that are looked at.
const SETTINGS: [&str; 5] = [
    "fsync",
    "full_page_writes",
    "synchronous_commit",
    "autovacuum",
    "archive_mode",
];
/// Days for which a partition may be there after its time: upkeep drops them hourly, unless somebody reads them.
const SLACK_DAYS: i64 = 2;
/// Tables looked at for dead rows.
const TABLES: i64 = 5;

/// The facts that the database knows, at a time of the service's clock; the others are empty.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn facts(database: &Database, policy: &Policy, now: DateTime<Utc>) -> Result<Facts, StoreError> {
    let pool = &database.checking;
    let (version, shared_buffers, size, clock): (i32, i64, i64, DateTime<Utc>) = sqlx::query_as(
        "SELECT current_setting('server_version_num')::int, pg_size_bytes(current_setting('shared_buffers')), \
         pg_database_size(current_database()), clock_timestamp()",
    )
    .fetch_one(pool)
    .await?;
    let settings: Vec<(String, String)> = sqlx::query_as("SELECT name, setting FROM pg_settings WHERE name = ANY($1)")
        .bind(SETTINGS.as_slice())
        .fetch_all(pool)
        .await?;
    let connections: (i64, i64) = sqlx::query_as(
        "SELECT (SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend'), \
         current_setting('max_connections')::bigint",
    )
    .fetch_one(pool)
    .await?;
    let oldest: Option<i64> = sqlx::query_scalar(
        "SELECT max(extract(epoch FROM clock_timestamp() - xact_start))::bigint FROM pg_stat_activity WHERE \
         backend_type = 'client backend' AND datname = current_database()",
    )
    .fetch_one(pool)
    .await?;
    let dead: Vec<(String, i64, i64)> = sqlx::query_as(
        "SELECT relname::text, n_live_tup, n_dead_tup FROM pg_stat_user_tables WHERE schemaname = 'public' ORDER BY \
         n_dead_tup DESC LIMIT $1",
    )
    .bind(TABLES)
    .fetch_all(pool)
    .await?;
    let slots: Vec<(String, i64)> = sqlx::query_as(
        "SELECT slot_name::text, coalesce(pg_wal_lsn_diff(CASE WHEN pg_is_in_recovery() THEN pg_last_wal_receive_lsn() \
         ELSE pg_current_wal_lsn() END, restart_lsn), 0)::bigint FROM pg_replication_slots WHERE NOT active ORDER BY 2 \
         DESC",
    )
    .fetch_all(pool)
    .await?;
    let instances: Vec<String> = sqlx::query_scalar(
        "SELECT DISTINCT substr(application_name, length($1) + 1) FROM pg_stat_activity WHERE datname = \
         current_database() AND starts_with(application_name, $1) ORDER BY 1",
    )
    .bind(NAMED)
    .fetch_all(pool)
    .await?;
    let (missing, overdue) = partitions(database, policy, now).await?;
    let dead = dead.into_iter().map(|(name, live, dead)| Table { name, live, dead });
    Ok(Facts {
        version,
        settings: BTreeMap::from_iter(settings),
        shared_buffers,
        size,
        connections,
        clock_ahead_ms: (clock - now).num_milliseconds(),
        missing,
        overdue,
        oldest_transaction_s: oldest.unwrap_or_default(),
        dead: dead.collect(),
        slots,
        instances,
        ..Facts::default()
    })
}

/// Partitions of today and tomorrow that are missing, and those that are past their time.
async fn partitions(
    database: &Database,
    policy: &Policy,
    now: DateTime<Utc>,
) -> Result<(Vec<String>, Vec<String>), StoreError> {
    let there: Vec<String> = sqlx::query_scalar(
        "SELECT relname::text FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace",
    )
    .fetch_all(&database.checking)
    .await?;
    let today = from_utc(now).day();
    let (mut missing, mut overdue) = (vec![], vec![]);
    for table in partitions::TABLES.iter().map(|table| table.table()) {
        for day in [today, today + 1] {
            let name = partitions::partition(table, day);
            if !there.contains(&name) {
                missing.push(name);
            }
        }
        let oldest = today - days_of(table, policy) - SLACK_DAYS;
        let of_table = there.iter().filter(|name| {
            let of = name.strip_prefix(table).and_then(|rest| rest.strip_prefix('_'));
            of.is_some_and(|day| day.len() == 8 && partitions::day_of_partition(name).is_some_and(|day| day < oldest))
        });
        overdue.extend(of_table.cloned());
    }
    Ok((missing, overdue))
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;
    use crate::testing::database;

    #[tokio::test]
    async fn the_database_says_what_is_so() {
        let database = database().await;
        let now = Utc::now();
        let before = facts(&database, &Policy::default(), now).await.unwrap();
        assert!(
            before.version >= 150_000 && before.connections.0 > 0 && before.size > 0,
            "{before:?}"
        );
        assert!(before.clock_ahead_ms.abs() < 60_000, "{before:?}");
        assert_eq!(before.settings.len(), SETTINGS.len());
        assert_eq!(before.missing.len(), 2 * partitions::TABLES.len(), "none are made yet");
        assert_eq!(before.overdue, Vec::<String>::new());
        assert!(!before.instances.is_empty(), "{before:?}");

        let today = from_utc(now).day();
        let partitions = partitions::Partitions::default();
        partitions
            .ensure(&database.pool, &[today - 20, today, today + 1].into(), today)
            .await
            .unwrap();
        let month = Policy {
            log_days: 30,
            ..Policy::default()
        };
        let kept = facts(&database, &month, now).await.unwrap();
        assert_eq!(
            (kept.missing.len(), kept.overdue.len()),
            (0, 0),
            "all are kept: {kept:?}"
        );
        // Log lines are kept for a week unless set otherwise.
        let left = facts(&database, &Policy::default(), now).await.unwrap();
        assert_eq!(
            left.overdue,
            [partitions::partition("log_record", today - 20)],
            "{:?}",
            left.overdue
        );
        let later = facts(&database, &Policy::default(), now - TimeDelta::seconds(90))
            .await
            .unwrap();
        assert!(later.clock_ahead_ms > 85_000, "{later:?}");
    }
}
