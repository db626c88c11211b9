//! Ends the quiet of errors for which it is over.

use chrono::{DateTime, TimeDelta, Utc};

use crate::boxed;
use crate::errors::handling::note;
use crate::{Database, Scope, StoreError, asking};

/// Ends the quiet of errors for which it is over: the time has come, or the predicate holds for
/// what occurred since. Returns how many.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round tries again.
#[boxed]
pub async fn end_quiet(database: &Database, now: DateTime<Utc>) -> Result<usize, StoreError> {
    type Row = (i32, Option<DateTime<Utc>>, Option<String>, DateTime<Utc>);
    let rows: Vec<Row> =
        // An error that has not occurred since it was made quiet need not be looked at.
        sqlx::query_as(
            "SELECT error_id, quiet_until, quiet_where, quiet_at FROM handling h WHERE quiet_at IS NOT NULL \
             AND (quiet_until <= $1 OR quiet_where IS NOT NULL AND EXISTS (SELECT FROM cause JOIN sighted ON \
             sighted.cause_id = cause.id \
                 WHERE cause.error_id = h.error_id AND sighted.last_at >= h.quiet_at)) ORDER BY error_id",
        )
            .bind(now)
            .fetch_all(&database.pool)
            .await?;
    let mut ended = 0;
    for (error, until, predicate, since) in rows {
        let why = match (until, predicate) {
            (Some(until), _) if until <= now => until.to_rfc3339_opts(chrono::SecondsFormat::Secs, true),
            (None, Some(text)) if holds(database, error, &text, since, now).await? => text,
            _ => continue,
        };
        let mut transaction = database.pool.begin().await?;
        let done = sqlx::query(
            "UPDATE handling SET quiet_until = NULL, quiet_where = NULL, quiet_at = NULL WHERE error_id = $1 AND \
             quiet_at = $2",
        )
        .bind(error)
        .bind(since)
        .execute(&mut *transaction)
        .await?;
        if done.rows_affected() > 0 {
            note(&mut transaction, error, ("outcrop", now), "speak up", &why).await?;
            ended += 1;
        }
        transaction.commit().await?;
    }
    Ok(ended)
}

/// Whether a predicate holds for what occurred of an error in a time; a text that is no predicate holds for nothing.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn holds(
    database: &Database,
    error: i32,
    text: &str,
    since: DateTime<Utc>,
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let Ok(predicate) = outcrop_core::query::parse(text) else {
        return Ok(false);
    };
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: since,
        to: now.max(since + TimeDelta::minutes(1)),
        predicate: Some(std::sync::Arc::new(predicate)),
    };
    Ok(asking::one_error(database, crate::ids::reference(error), &scope)
        .await?
        .is_some_and(|summary| summary.count > 0))
}
