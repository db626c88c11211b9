//! Folds latency sketches by hour and day.

use std::collections::BTreeMap;

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::latency::Latency;
use sqlx::PgConnection;

use crate::boxed;
use crate::database::locks::Lock;
use crate::{Database, StoreError};

/// Parts folded per transaction.
const CHUNK: i64 = 2_000;

type PartKey = (DateTime<Utc>, i32, i32, i32, i32);

/// Hour, service, endpoint, environment, version, sketch.
type Part = (DateTime<Utc>, i32, i32, i32, i32, Vec<u8>);

/// Folds how long requests took by the hour and the day. Returns whether more may be waiting. Does
/// nothing while another instance is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the parts then wait for the next call.
#[boxed]
pub async fn fold(database: &Database) -> Result<bool, StoreError> {
    let mut transaction = database.pool.begin().await?;
    let is_ours = Lock::Latency.try_take(&mut transaction).await?;
    if !is_ours {
        return Ok(false);
    }
    let parts: Vec<Part> = sqlx::query_as(
        "DELETE FROM latency_part WHERE ctid = ANY(ARRAY(SELECT ctid FROM latency_part LIMIT $1)) \
         RETURNING hour, service_id, endpoint_id, environment_id, version_id, sketch",
    )
    .bind(CHUNK)
    .fetch_all(&mut *transaction)
    .await?;
    if parts.is_empty() {
        return Ok(false);
    }
    let is_more = i64::try_from(parts.len()).is_ok_and(|taken| taken == CHUNK);
    let mut hours: BTreeMap<PartKey, Latency> = BTreeMap::new();
    let mut days: BTreeMap<PartKey, Latency> = BTreeMap::new();
    for (hour, service, endpoint, environment, version, sketch) in parts {
        let sketch = Latency::from_bytes(&sketch).unwrap_or_default();
        let day = hour.duration_trunc(TimeDelta::days(1)).unwrap_or(hour);
        hours
            .entry((hour, service, endpoint, environment, version))
            .or_default()
            .merge(&sketch);
        days.entry((day, service, endpoint, environment, version))
            .or_default()
            .merge(&sketch);
    }
    write(&mut transaction, "latency_hour", hours).await?;
    write(&mut transaction, "latency_day", days).await?;
    transaction.commit().await?;
    Ok(is_more)
}

async fn write(
    connection: &mut PgConnection,
    table: &'static str,
    mut sketches: BTreeMap<PartKey, Latency>,
) -> Result<(), StoreError> {
    let column = |of: fn(&PartKey) -> i32| sketches.keys().map(of).collect::<Vec<_>>();
    let times: Vec<DateTime<Utc>> = sketches.keys().map(|key| key.0).collect();
    let (services, endpoints, environments, versions) = (
        column(|key| key.1),
        column(|key| key.2),
        column(|key| key.3),
        column(|key| key.4),
    );
    let known: Vec<Part> = sqlx::query_as(sqlx::AssertSqlSafe(format!(
        "SELECT t.hour, t.service_id, t.endpoint_id, t.environment_id, t.version_id, t.sketch FROM {table} t \
         JOIN UNNEST($1::timestamptz[], $2::int[], $3::int[], $4::int[]) AS wanted (hour, endpoint_id, \
         environment_id, version_id) \
             USING (hour, endpoint_id, environment_id, version_id)"
    )))
    .bind(&times)
    .bind(&endpoints)
    .bind(&environments)
    .bind(&versions)
    .fetch_all(&mut *connection)
    .await?;
    for (hour, service, endpoint, environment, version, sketch) in known {
        if let Some(sum) = sketches.get_mut(&(hour, service, endpoint, environment, version)) {
            sum.merge(&Latency::from_bytes(&sketch).unwrap_or_default());
        }
    }
    sqlx::query(sqlx::AssertSqlSafe(format!(
        "INSERT INTO {table} (hour, service_id, endpoint_id, environment_id, version_id, sketch) \
         SELECT * FROM UNNEST($1::timestamptz[], $2::int[], $3::int[], $4::int[], $5::int[], $6::bytea[]) AS new \
         ORDER BY 1, 3, 4, 5 \
         ON CONFLICT (hour, endpoint_id, environment_id, version_id) DO UPDATE SET sketch = excluded.sketch"
    )))
    .bind(times)
    .bind(services)
    .bind(endpoints)
    .bind(environments)
    .bind(versions)
    .bind(sketches.values().map(Latency::to_bytes).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}
