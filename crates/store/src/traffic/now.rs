//! What is unwell now.

use std::collections::{HashMap, HashSet};

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::latency::Latency;
use outcrop_core::unwell;
use outcrop_core::unwell::Share;
use sqlx::FromRow;

use crate::boxed;
use crate::flags::Flag;
use crate::{Database, StoreError};

/// How much of the newest time is looked at.
pub const NOW: TimeDelta = TimeDelta::minutes(15);
/// How much of the past it is held against, ending an hour before, so that what is wrong does not
/// become its own measure.
const PAST_DAYS: i64 = 7;

/// An endpoint with its newest requests and its past.
#[derive(Clone, Debug)]
pub struct Endpoint {
    /// Its number.
    pub id: i32,
    /// Its service's number.
    pub service_id: i32,
    /// Its service.
    pub service: String,
    /// Its name.
    pub name: String,
    /// Of the newest quarter of an hour, failed ones.
    pub failed: Share,
    /// Of the past, failed ones; none known where too few fail now for it to matter.
    pub failed_before: Share,
    /// Of the hours that the newest quarter of an hour touches, those above the threshold.
    pub slow: Share,
    /// Of the past, those above the threshold; none known where too few are now for it to matter.
    pub slow_before: Share,
    /// The threshold in microseconds, where there is one.
    pub threshold_us: Option<i64>,
    /// The time of the newest that 95 % stayed below, in microseconds.
    pub p95_us: Option<f64>,
}

#[derive(FromRow)]
struct Counted {
    endpoint_id: i32,
    service_id: i32,
    service: String,
    name: String,
    now: i64,
    now_failed: i64,
}

/// The endpoints that had requests in the newest quarter of an hour. The past is read of those alone that fail, or are
/// slow, often enough for it to matter: [`unwell::may_be_failing`].
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn endpoints(
    database: &Database,
    environment: Option<&str>,
    now: DateTime<Utc>,
) -> Result<Vec<Endpoint>, StoreError> {
    let counted: Vec<Counted> = sqlx::query_as(include_str!("../../queries/now/endpoints.sql"))
        .bind(now - NOW)
        .bind(now)
        .bind(environment)
        .fetch_all(&database.pool)
        .await?;
    let thresholds = crate::traffic::thresholds(database).await?;
    let with_threshold: Vec<i32> = (counted.iter().map(|row| row.endpoint_id))
        .filter(|endpoint| thresholds.own(*endpoint).is_some())
        .collect();
    let hour = crate::hour(now - NOW);
    let newest = sketches(
        database,
        &with_threshold,
        environment,
        "SELECT endpoint_id, sketch FROM latency_hour t WHERE hour >= \
        $2 UNION ALL SELECT endpoint_id, sketch FROM latency_part t WHERE hour >= $2",
        hour,
    )
    .await?;
    let count = |n: i64| n.unsigned_abs();
    let above = |endpoint: i32, sketch: Option<&Latency>| {
        let (sketch, threshold) = sketch.zip(thresholds.own(endpoint))?;
        Some(Share {
            part: sketch.above(threshold.unsigned_abs()),
            of: sketch.count(),
        })
    };
    let mut endpoints: Vec<Endpoint> = counted
        .into_iter()
        .map(|row| {
            let newest = newest.get(&row.endpoint_id);
            Endpoint {
                failed: Share {
                    part: count(row.now_failed),
                    of: count(row.now),
                },
                failed_before: Share::default(),
                slow: above(row.endpoint_id, newest).unwrap_or_default(),
                slow_before: Share::default(),
                threshold_us: thresholds.own(row.endpoint_id),
                p95_us: newest.and_then(|sketch| sketch.quantile(0.95)),
                id: row.endpoint_id,
                service_id: row.service_id,
                service: row.service,
                name: row.name,
            }
        })
        .collect();
    let some = |may_be: fn(&Endpoint) -> bool| -> Vec<i32> {
        (endpoints.iter().filter(|endpoint| may_be(endpoint)))
            .map(|endpoint| endpoint.id)
            .collect()
    };
    let failing = some(|endpoint| unwell::may_be_failing(endpoint.failed));
    let slow = some(|endpoint| unwell::may_be_slow(endpoint.slow));
    let from = now - TimeDelta::days(PAST_DAYS);
    let (failed_before, slow_before) = futures_util::try_join!(
        past(database, &failing, environment, (from, now - TimeDelta::hours(2))),
        sketches(
            database,
            &slow,
            environment,
            "SELECT endpoint_id, sketch FROM latency_day t WHERE hour >= $2",
            from,
        )
    )?;
    for endpoint in &mut endpoints {
        endpoint.failed_before = failed_before.get(&endpoint.id).copied().unwrap_or_default();
        endpoint.slow_before = above(endpoint.id, slow_before.get(&endpoint.id)).unwrap_or_default();
    }
    Ok(endpoints)
}

/// Requests of endpoints in the past, failed ones.
async fn past(
    database: &Database,
    endpoints: &[i32],
    environment: Option<&str>,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
) -> Result<HashMap<i32, Share>, StoreError> {
    if endpoints.is_empty() {
        return Ok(HashMap::new());
    }
    let rows: Vec<(i32, i64, i64)> = sqlx::query_as(include_str!("../../queries/now/past.sql"))
        .bind(endpoints)
        .bind(from)
        .bind(to)
        .bind(environment)
        .fetch_all(&database.pool)
        .await?;
    let share = |(endpoint, all, failed): (i32, i64, i64)| {
        let share = Share {
            part: failed.unsigned_abs(),
            of: all.unsigned_abs(),
        };
        (endpoint, share)
    };
    Ok(rows.into_iter().map(share).collect())
}

/// Whether anything was requested between two times; in an environment, where one is named.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn has_past(database: &Database, environment: Option<&str>, now: DateTime<Utc>) -> Result<bool, StoreError> {
    Ok(sqlx::query_scalar(
        "SELECT EXISTS (SELECT FROM served_hour t WHERE t.hour >= $1 AND t.hour < $2 AND ($3::text IS NULL OR \
         t.environment_id IN (SELECT id FROM environment WHERE name = $3)))",
    )
    .bind(now - TimeDelta::days(PAST_DAYS))
    .bind(now - TimeDelta::hours(2))
    .bind(environment)
    .fetch_one(&database.pool)
    .await?)
}

/// The minutes of the last two hours in which requests of these endpoints failed, by endpoint, in the order of time.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn failing_minutes(
    database: &Database,
    endpoints: &[i32],
    environment: Option<&str>,
    now: DateTime<Utc>,
) -> Result<HashMap<i32, Vec<DateTime<Utc>>>, StoreError> {
    let rows: Vec<(i32, DateTime<Utc>)> = sqlx::query_as(
        "SELECT DISTINCT endpoint_id, minute FROM traffic_minute WHERE endpoint_id = ANY($1) AND minute >= $2 AND \
         minute < $3 AND failed > 0 \
         AND ($4::text IS NULL OR environment_id IN (SELECT id FROM environment WHERE name = $4)) ORDER BY minute",
    )
    .bind(endpoints)
    .bind(now - TimeDelta::hours(2))
    .bind(now)
    .bind(environment)
    .fetch_all(&database.pool)
    .await?;
    let mut minutes: HashMap<i32, Vec<DateTime<Utc>>> = HashMap::new();
    for (endpoint, minute) in rows {
        minutes.entry(endpoint).or_default().push(minute);
    }
    Ok(minutes)
}

async fn sketches(
    database: &Database,
    endpoints: &[i32],
    environment: Option<&str>,
    parts: &'static str,
    from: DateTime<Utc>,
) -> Result<HashMap<i32, Latency>, StoreError> {
    if endpoints.is_empty() {
        return Ok(HashMap::new());
    }
    let narrowed = "t WHERE ($3::text IS NULL OR t.environment_id IN (SELECT id FROM environment WHERE name = $3)) \
        AND endpoint_id = ANY($1) AND";
    let statement = parts.replace("t WHERE", narrowed);
    let rows: Vec<(i32, Vec<u8>)> = sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(endpoints)
        .bind(from)
        .bind(environment)
        .fetch_all(&database.pool)
        .await?;
    let mut merged: HashMap<i32, Latency> = HashMap::new();
    for (endpoint, sketch) in rows {
        merged
            .entry(endpoint)
            .or_default()
            .merge(&Latency::from_bytes(&sketch).unwrap_or_default());
    }
    Ok(merged)
}

/// Flags that hold: said within a day and not ended.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn flags(
    database: &Database,
    environment: Option<&str>,
    now: DateTime<Utc>,
) -> Result<Vec<Flag>, StoreError> {
    crate::flags::standing(database, environment, now - TimeDelta::days(1), now).await
}

/// Those of the errors that occurred since a time.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn occurred_since(
    database: &Database,
    errors: &[i32],
    environment: Option<&str>,
    since: DateTime<Utc>,
) -> Result<HashSet<i32>, StoreError> {
    let rows: Vec<(i32,)> = sqlx::query_as(
        "SELECT DISTINCT cause.error_id FROM tally_minute t JOIN cause ON cause.id = t.cause_id \
         WHERE t.minute >= $2 AND cause.error_id = ANY($1) AND t.n > 0 \
         AND ($3::text IS NULL OR t.environment_id IN (SELECT id FROM environment WHERE name = $3))",
    )
    .bind(errors)
    .bind(since)
    .bind(environment)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows.into_iter().map(|(error,)| error).collect())
}

/// The error that most failures of each endpoint are of in the newest quarter of an hour, with how many those are of the
/// newest 2,000 of each cause.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn blamed(
    database: &Database,
    endpoints: &[i32],
    environment: Option<&str>,
    now: DateTime<Utc>,
) -> Result<HashMap<i32, (i32, i64)>, StoreError> {
    if endpoints.is_empty() {
        return Ok(HashMap::new());
    }
    let rows: Vec<(i32, i32, i64)> = sqlx::query_as(include_str!("../../queries/now/blamed.sql"))
        .bind(endpoints)
        .bind(now - NOW)
        .bind(now)
        .bind(environment)
        .fetch_all(&database.pool)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(endpoint, error, n)| (endpoint, (error, n)))
        .collect())
}

/// An error with most occurrences in the newest quarter of an hour.
#[derive(Clone, Debug, FromRow)]
pub struct Busy {
    /// Its number.
    pub error_id: i32,
    /// Its title.
    pub title: String,
    /// Its service.
    pub service: String,
    /// Occurrences.
    pub count: i64,
    /// Occurrences per quarter of an hour over the day before.
    pub usual: f64,
    /// The first of them.
    pub since: DateTime<Utc>,
}

/// The errors with most occurrences in the newest quarter of an hour.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn busiest(
    database: &Database,
    environment: Option<&str>,
    now: DateTime<Utc>,
    limit: i64,
) -> Result<Vec<Busy>, StoreError> {
    Ok(sqlx::query_as(include_str!("../../queries/now/busiest.sql"))
        .bind(now - NOW)
        .bind(now)
        .bind(environment)
        .bind(limit)
        .fetch_all(&database.pool)
        .await?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, logged, logs, now, number, of, resource, store, writer};
    use crate::to_utc;

    #[tokio::test]
    async fn what_occurred_since_a_time_is_told_apart_by_environment() {
        let database = database().await;
        let writer = writer(&database);
        let at = now();
        store(
            &writer,
            &[logs(
                vec![of(resource("fares"), vec![logged(at.plus_millis(-7_200_000), "taken")])],
                at,
            )],
        )
        .await;
        let error = i32::try_from(number(&database, "SELECT id::bigint FROM error_group").await).unwrap();
        let since = |hours: i64| to_utc(at) - TimeDelta::hours(hours);
        let occurred = async |environment: Option<&str>, hours: i64| {
            occurred_since(&database, &[error, error.wrapping_add(1)], environment, since(hours))
                .await
                .unwrap()
                .contains(&error)
        };
        assert!(occurred(None, 3).await);
        assert!(!occurred(None, 1).await);
        assert!(!occurred(Some("elsewhere"), 3).await);
    }
}
