//! Errors of which a test was reported.

use chrono::{DateTime, Utc};

use crate::boxed;
use crate::{Database, StoreError};

/// Notes that a test of an error was reported.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn note_test(database: &Database, error: i32, at: DateTime<Utc>) -> Result<(), StoreError> {
    sqlx::query(
        "INSERT INTO test_report (error_id, last_at) VALUES ($1, $2) ON CONFLICT (error_id) DO UPDATE SET last_at = \
         greatest(test_report.last_at, excluded.last_at)",
    )
    .bind(error)
    .bind(at)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// Errors of which every occurrence is a test report, the last a day ago.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn old_tests(database: &Database, now: DateTime<Utc>) -> Result<Vec<i32>, StoreError> {
    Ok(sqlx::query_scalar(
        // With the limit each error's own occurrences are looked for; without it all occurrences are read.
        "SELECT error_id FROM test_report t CROSS JOIN LATERAL (SELECT count(*) AS n FROM (SELECT FROM cause JOIN \
         occurrence o ON o.cause_id = cause.id WHERE cause.error_id = t.error_id AND o.attributes ->> 'outcrop.test' IS \
         DISTINCT FROM 'true' LIMIT 1) found) other WHERE last_at <= $1 - interval '24 hours' AND other.n = 0 AND NOT \
         EXISTS (SELECT FROM cleaning WHERE kind = 'error' AND number = error_id AND done_at IS NULL) ORDER BY error_id \
         LIMIT 100",
    )
    .bind(now)
    .fetch_all(&database.pool)
    .await?)
}
