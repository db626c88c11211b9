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

/// Removes what is past its time at `now`. Does nothing while another instance is at it. Returns rows and partitions
/// removed.
///
/// # Errors
/// [`StoreError`] when the database does not answer; what was removed until then stays removed.
pub async fn remove_expired(database: &Database, now: Timestamp, log_days: i64) -> Result<u64, StoreError> {
    let mut removed = 0;
    for (table, column, kept) in [
        ("receipt", "received_at", RECEIPTS_KEPT),
        ("failing", "touched_at", STATES_KEPT),
        ("pairing", "touched_at", STATES_KEPT),
        ("also_reported", "received_at", RECEIPTS_KEPT),
        ("refused_request", "minute", REFUSALS_KEPT),
        ("key_use", "hour", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("kept_trace", "kept_at", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("latency_hour", "hour", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("latency_day", "hour", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("occurrence_origin", "at", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("dropped", "hour", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("clock_ahead", "at", RECEIPTS_KEPT),
        ("log_hour", "hour", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("called_hour", "hour", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("called_day", "day", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("status_day", "day", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("status_hour", "hour", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("sampling_hour", "hour", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("instance_hour", "hour", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("instance", "last_at", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("reach_hour", "hour", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
        ("reach_day", "day", Duration::from_hours(24 * RETENTION_DAYS.unsigned_abs())),
    ] {
        loop {
            let mut transaction = database.pool.begin().await?;
            let (is_ours,): (bool,) =
                sqlx::query_as("SELECT pg_try_advisory_xact_lock(hashtext('outcrop upkeep'))").fetch_one(&mut *transaction).await?;
            if !is_ours {
                return Ok(removed);
            }
            let statement = format!(
                "DELETE FROM {table} WHERE ctid = ANY(ARRAY(SELECT ctid FROM {table} WHERE {column} < $1 LIMIT {CHUNK} FOR UPDATE SKIP LOCKED))"
            );
            let before = now.plus_millis(-i64::try_from(kept.as_millis()).unwrap_or(i64::MAX));
            let done = sqlx::query(AssertSqlSafe(statement)).bind(crate::to_utc(before)).execute(&mut *transaction).await?;
            transaction.commit().await?;
            removed += done.rows_affected();
            if done.rows_affected() < CHUNK.unsigned_abs() {
                break;
            }
        }
    }
    let oldest = now.day() - RETENTION_DAYS;
    removed += partitions::drop_before(&database.pool, oldest, now.day() - log_days).await? as u64;
    for statement in [
        "DELETE FROM request_sample WHERE id < first_id_at($1)",
        "DELETE FROM kept_body WHERE occurrence_id < first_id_at($1)",
        "DELETE FROM platform_event WHERE id < first_id_at($1)",
    ] {
        let oldest = crate::to_utc(now.plus_millis(-RETENTION_DAYS * 86_400_000));
        removed += sqlx::query(statement).bind(oldest).execute(&database.pool).await?.rows_affected();
    }
    let oldest_day = i32::try_from(oldest).unwrap_or_default();
    for statement in [
        "DELETE FROM resource WHERE used_day < $1",
        "DELETE FROM stack WHERE used_day < $1",
        "DELETE FROM log_template WHERE used_day < $1",
    ] {
        // Two days of slack: a writer remembers a hash as stored for the day it was used.
        removed += sqlx::query(statement).bind(oldest_day - 2).execute(&database.pool).await?.rows_affected();
    }
    Ok(removed)
}
