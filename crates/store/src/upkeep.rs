//! Removing what is past its time: in chunks, by one instance at a time.

use std::time::Duration;

use outcrop_core::Timestamp;
use sqlx::AssertSqlSafe;

use crate::{Database, StoreError, partitions};

/// How long occurrences, payloads and minute counts are kept, in days.
pub const RETENTION_DAYS: i64 = 30;
/// How long log lines are kept where nothing else is said, in days: long enough for a weekend and the look back from Monday.
pub const LOG_DAYS: i64 = 7;
/// How long receipts are kept: an SDK or collector retries for hours, not for days.
const RECEIPTS_KEPT: Duration = Duration::from_hours(26);
/// How long the state of a trace is kept after its last news.
const STATES_KEPT: Duration = Duration::from_hours(2);
/// How long it is said which requests of senders were refused.
const REFUSALS_KEPT: Duration = Duration::from_hours(24);
/// Rows removed per statement, so that no lock is held for long.
const CHUNK: i64 = 5_000;

/// How far the host's clock may be from the database's, in seconds, for anything to be removed by it.
const MAX_CLOCK_DIFFERENCE: i64 = 60;

/// What a round of upkeep removed, and what it could not do.
#[derive(Debug, Default)]
pub struct Round {
    /// Rows and partitions removed.
    pub removed: u64,
    /// What failed, step by step; the other steps were done.
    pub failed: Vec<(&'static str, StoreError)>,
}

impl Round {
    fn take(&mut self, step: &'static str, done: Result<u64, StoreError>) {
        match done {
            Ok(removed) => self.removed += removed,
            Err(error) => self.failed.push((step, error)),
        }
    }
}

/// Removes what is past its time at `now`: the partitions first, since dropping one frees most and needs least, then rows in chunks, each
/// step by itself. Another instance that is at it takes turns by chunk.
///
/// # Errors
/// [`StoreError`] when the database does not answer, or its clock and the host's differ by more than a minute: a wrong clock must not
/// remove what is kept. Steps that fail are named in [`Round::failed`].
pub async fn remove_expired(database: &Database, now: Timestamp, log_days: i64) -> Result<Round, StoreError> {
    let (of_database,): (chrono::DateTime<chrono::Utc>,) = sqlx::query_as("SELECT now()").fetch_one(&database.pool).await?;
    let difference = (of_database - crate::to_utc(now)).num_seconds();
    if difference.abs() > MAX_CLOCK_DIFFERENCE {
        let differ = format!("the clocks of this host and the database differ by {difference} s: nothing is removed until they agree");
        return Err(StoreError::Unusable(differ));
    }
    let mut round = Round::default();
    let oldest = now.day() - RETENTION_DAYS;
    let dropped = partitions::drop_before(&database.pool, oldest, now.day() - log_days).await;
    round.take("partitions", dropped.map(|dropped| dropped as u64));
    for (table, column, kept) in BY_TIME {
        let before = crate::to_utc(now.plus_millis(-i64::try_from(kept.as_millis()).unwrap_or(i64::MAX)));
        round.take(table, in_chunks(database, table, &format!("{column} < $1"), before).await);
    }
    let oldest_time = crate::to_utc(now.plus_millis(-RETENTION_DAYS * 86_400_000));
    for (table, column) in [("request_sample", "id"), ("kept_body", "occurrence_id"), ("platform_event", "id")] {
        round.take(table, in_chunks(database, table, &format!("{column} < first_id_at($1)"), oldest_time).await);
    }
    // Two days of slack: a writer remembers a hash as stored for the day it was used.
    let unused = i32::try_from(oldest - 2).unwrap_or_default();
    for table in ["resource", "stack", "log_template"] {
        round.take(table, in_chunks(database, table, "used_day < $1", unused).await);
    }
    let unused = i32::try_from(now.day() - crate::names::KEPT_DAYS).unwrap_or_default();
    for (table, condition) in NAMES {
        round.take(table, in_chunks(database, table, condition, unused).await);
    }
    Ok(round)
}

const RETENTION: Duration = Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs());

/// Tables whose rows go by a time: table, column, how long they are kept.
const BY_TIME: [(&str, &str, Duration); 23] = [
    ("receipt", "received_at", RECEIPTS_KEPT),
    ("failing", "touched_at", STATES_KEPT),
    ("pairing", "touched_at", STATES_KEPT),
    ("also_reported", "received_at", RECEIPTS_KEPT),
    ("refused_request", "minute", REFUSALS_KEPT),
    ("key_use", "hour", RETENTION),
    ("kept_trace", "kept_at", RETENTION),
    ("latency_hour", "hour", RETENTION),
    ("latency_day", "hour", RETENTION),
    ("occurrence_origin", "at", RETENTION),
    ("dropped", "hour", RETENTION),
    ("clock_ahead", "at", RECEIPTS_KEPT),
    ("limit_reached", "hour", RETENTION),
    ("log_hour", "hour", RETENTION),
    ("called_hour", "hour", RETENTION),
    ("called_day", "day", RETENTION),
    ("status_day", "day", RETENTION),
    ("status_hour", "hour", RETENTION),
    ("sampling_hour", "hour", RETENTION),
    ("instance_hour", "hour", RETENTION),
    ("instance", "last_at", RETENTION),
    ("reach_hour", "hour", RETENTION),
    ("reach_day", "day", RETENTION),
];

/// Names that nobody used since a day and that nothing refers to which is kept for ever: table and condition. Services that have errors keep
/// their names, as errors do.
const NAMES: [(&str, &str); 6] = [
    (
        "deployed",
        "version_id IN (SELECT id FROM version WHERE used_day < $1) AND NOT EXISTS (SELECT FROM sighted s WHERE s.version_id = deployed.version_id) \
         AND NOT EXISTS (SELECT FROM deploy d WHERE d.version_id = deployed.version_id)",
    ),
    ("called", "used_day < $1"),
    ("endpoint", "used_day < $1 AND NOT EXISTS (SELECT FROM endpoint_slow s WHERE s.endpoint_id = endpoint.id)"),
    (
        "version",
        "used_day < $1 AND NOT EXISTS (SELECT FROM sighted s WHERE s.version_id = version.id) \
         AND NOT EXISTS (SELECT FROM deployed d WHERE d.version_id = version.id) AND NOT EXISTS (SELECT FROM deploy d WHERE d.version_id = version.id)",
    ),
    (
        "environment",
        "used_day < $1 AND NOT EXISTS (SELECT FROM sighted s WHERE s.environment_id = environment.id) \
         AND NOT EXISTS (SELECT FROM deployed d WHERE d.environment_id = environment.id) \
         AND NOT EXISTS (SELECT FROM deploy d WHERE d.environment_id = environment.id) \
         AND NOT EXISTS (SELECT FROM marker m WHERE m.environment_id = environment.id)",
    ),
    (
        "service",
        "used_day < $1 AND NOT EXISTS (SELECT FROM error_group e WHERE e.service_id = service.id) \
         AND NOT EXISTS (SELECT FROM version v WHERE v.service_id = service.id) AND NOT EXISTS (SELECT FROM endpoint e WHERE e.service_id = service.id) \
         AND NOT EXISTS (SELECT FROM instance i WHERE i.service_id = service.id) AND NOT EXISTS (SELECT FROM clock_ahead c WHERE c.service_id = service.id) \
         AND NOT EXISTS (SELECT FROM called c WHERE c.service_id = service.id OR c.to_service_id = service.id) \
         AND NOT EXISTS (SELECT FROM deploy d WHERE d.service_id = service.id) AND NOT EXISTS (SELECT FROM marker m WHERE m.service_id = service.id) \
         AND NOT EXISTS (SELECT FROM service_setting s WHERE s.service_id = service.id) \
         AND NOT EXISTS (SELECT FROM deploy_change d WHERE d.service_id = service.id)",
    ),
];

/// Deletes rows of a table that a condition on `$1` holds of, in chunks of a transaction each, by one instance at a time.
async fn in_chunks<'q, T>(database: &Database, table: &str, condition: &str, value: T) -> Result<u64, StoreError>
where
    T: Copy + Send + Sync + sqlx::Encode<'q, sqlx::Postgres> + sqlx::Type<sqlx::Postgres> + 'q,
{
    let mut removed = 0;
    loop {
        let mut transaction = database.pool.begin().await?;
        let (is_ours,): (bool,) =
            sqlx::query_as("SELECT pg_try_advisory_xact_lock(hashtext('outcrop upkeep'))").fetch_one(&mut *transaction).await?;
        if !is_ours {
            return Ok(removed);
        }
        let statement = format!(
            "DELETE FROM {table} WHERE ctid = ANY(ARRAY(SELECT ctid FROM {table} WHERE {condition} LIMIT {CHUNK} FOR UPDATE SKIP LOCKED))"
        );
        let done = sqlx::query(AssertSqlSafe(statement)).bind(value).execute(&mut *transaction).await?;
        transaction.commit().await?;
        removed += done.rows_affected();
        if done.rows_affected() < CHUNK.unsigned_abs() {
            return Ok(removed);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, failing, now, number, of, resource, spans, store, trace, writer};

    #[tokio::test]
    async fn a_clock_that_is_wrong_removes_nothing() {
        let database = database().await;
        store(&writer(&database), &[spans(vec![of(resource("fares"), vec![failing(trace(1), 1, None, now(), "no tariff")])], now())]).await;
        for wrong in [now().plus_millis(40 * 86_400_000), now().plus_millis(-120_000)] {
            let refused = remove_expired(&database, wrong, 7).await;
            assert!(matches!(&refused, Err(StoreError::Unusable(why)) if why.contains("clocks")), "{refused:?}");
        }
        assert_eq!(number(&database, "SELECT count(*) FROM occurrence").await, 1);
        let round = remove_expired(&database, now().plus_millis(30_000), 7).await.unwrap();
        assert_eq!((round.removed, round.failed.len()), (0, 0));
    }

    #[tokio::test]
    async fn each_table_is_emptied_at_its_bound_in_chunks_and_a_step_that_fails_holds_up_no_other() {
        let database = database().await;
        let old = "now() - interval '31 days'";
        let fill = |sql: String| sqlx::query(AssertSqlSafe(sql));
        fill(format!("INSERT INTO receipt SELECT gen_random_uuid(), {old}, 0, '' FROM generate_series(1, 12000)"))
            .execute(&database.pool)
            .await
            .unwrap();
        fill("INSERT INTO receipt SELECT gen_random_uuid(), now(), 0, ''".to_owned()).execute(&database.pool).await.unwrap();
        fill(format!("INSERT INTO limit_reached SELECT {old}, 1, 'errors', 7")).execute(&database.pool).await.unwrap();
        fill("INSERT INTO stack SELECT gen_random_uuid(), '', 7 FROM generate_series(1, 6000)".to_owned())
            .execute(&database.pool)
            .await
            .unwrap();
        // Whatever may be wrong with a table one day.
        fill("ALTER TABLE pairing RENAME TO elsewhere".to_owned()).execute(&database.pool).await.unwrap();
        let round = remove_expired(&database, now(), 7).await.unwrap();
        assert_eq!(round.failed.iter().map(|(step, _)| *step).collect::<Vec<_>>(), ["pairing"]);
        assert_eq!(round.removed, 12_000 + 1 + 6_000);
        assert_eq!(number(&database, "SELECT count(*) FROM receipt").await, 1);
    }

    #[tokio::test]
    async fn names_that_nobody_uses_go_and_those_of_errors_stay() {
        let database = database().await;
        let writer = writer(&database);
        let fine = |service: &str| of(resource(service), vec![crate::testing::span(trace(2), 2, None, now())]);
        store(
            &writer,
            &[spans(vec![of(resource("fares"), vec![failing(trace(1), 1, None, now(), "no tariff")]), fine("once-seen")], now())],
        )
        .await;
        for table in ["service", "environment", "version", "endpoint", "called"] {
            sqlx::query(AssertSqlSafe(format!("UPDATE {table} SET used_day = used_day - 40"))).execute(&database.pool).await.unwrap();
        }
        sqlx::query("DELETE FROM instance").execute(&database.pool).await.unwrap();
        let round = remove_expired(&database, now(), 7).await.unwrap();
        assert!(round.failed.is_empty(), "{:?}", round.failed);
        let names: Vec<(String,)> = sqlx::query_as("SELECT name FROM service").fetch_all(&database.pool).await.unwrap();
        assert_eq!(names, [("fares".to_owned(),)]);
        assert_eq!(number(&database, "SELECT count(*) FROM version").await, 1, "of the error's first version");
        assert_eq!(number(&database, "SELECT count(*) FROM endpoint").await, 0);
        // What was removed is made again where it is used again, also by a writer that has known it.
        let again = crate::testing::writer(&database);
        store(&again, &[spans(vec![fine("once-seen")], now())]).await;
        assert_eq!(number(&database, "SELECT count(*) FROM service").await, 2);
    }
}
