//! How services' requests were sampled in a window.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use outcrop_core::failure::ONE_IN;
use outcrop_core::telemetry::sampling::Seen;
use sqlx::FromRow;

use crate::boxed;
use crate::ids::{number, reference};
use crate::{Database, Scope, StoreError};

#[derive(FromRow)]
struct Row {
    service_id: i32,
    sent: i64,
    known: i64,
    stand_for: i64,
    lines: i64,
    lines_unsampled: i64,
}

/// What was seen of each service's sampling by the service's number, in the whole hours of a window.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn seen(
    database: &Database,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
    environment: Option<&str>,
) -> Result<HashMap<i32, Seen>, StoreError> {
    let rows: Vec<Row> = sqlx::query_as(
        "SELECT service_id, sum(sent)::bigint AS sent, sum(known)::bigint AS known, sum(stand_for)::bigint AS \
         stand_for, sum(lines)::bigint AS lines, \
             sum(lines_unsampled)::bigint AS lines_unsampled FROM sampling_hour \
         WHERE hour >= date_trunc('hour', $1::timestamptz) AND hour < $2 AND ($3::text IS NULL OR environment_id = \
         (SELECT id FROM environment WHERE name = $3)) \
         GROUP BY service_id",
    )
    .bind(from)
    .bind(to)
    .bind(environment)
    .fetch_all(&database.pool)
    .await?;
    let count = |n: i64| u64::try_from(n).unwrap_or_default();
    let of = |row: Row| Seen {
        sent: count(row.sent),
        known: count(row.known),
        stand_for: count(row.stand_for),
        lines: count(row.lines),
        lines_unsampled: count(row.lines_unsampled),
    };
    Ok(rows.into_iter().map(|row| (row.service_id, of(row))).collect())
}

/// What must be said beside rates of a scope's services, by name: nothing of those that send every request.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn notes(database: &Database, scope: &Scope) -> Result<Vec<(String, String)>, StoreError> {
    let seen = seen(database, (scope.from, scope.to), scope.environment.as_deref()).await?;
    let names: Vec<(i32, String)> = sqlx::query_as(
        "SELECT id, display_name FROM service WHERE id = ANY($1) AND ($2::text IS NULL OR id IN \
            (SELECT services_named($2))) ORDER BY 2, id",
    )
    .bind(seen.keys().copied().collect::<Vec<_>>())
    .bind(&scope.service)
    .fetch_all(&database.pool)
    .await?;
    Ok(names
        .into_iter()
        .filter_map(|(id, name)| Some((name, seen.get(&id)?.judge()?.note()?)))
        .collect())
}

/// How many occurrences the latest one of an error counts for beside its requests, where it was
/// seen on sampled spans alone.
pub(crate) async fn one_in(database: &Database, errors: Vec<Reference>) -> Result<HashMap<Reference, f64>, StoreError> {
    if errors.is_empty() {
        return Ok(HashMap::new());
    }
    let rows: Vec<(i32, f64)> = sqlx::query_as(
        "SELECT error, one_in FROM UNNEST($1::int[]) AS asked (error) CROSS JOIN LATERAL (SELECT (o.attributes ->> \
         $2)::float8 AS one_in FROM occurrence o \
             WHERE o.cause_id = ANY(ARRAY(SELECT id FROM cause WHERE error_id = error)) ORDER BY o.id DESC LIMIT 1) \
             latest WHERE one_in >= 1",
    )
    .bind(errors.into_iter().map(number).collect::<Vec<_>>())
    .bind(ONE_IN)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows
        .into_iter()
        .map(|(error, one_in)| (reference(error), one_in))
        .collect())
}
