//! The endpoints of a service before a deploy and after it.

use std::collections::BTreeMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::deploy::Side;

use crate::boxed;
use crate::deploys::Deploy;
use crate::traffic::groups;
use crate::{Database, Scope, StoreError, hour};

/// How far back an endpoint is looked at before a deploy: a day, so that every hour of it is there.
pub(crate) const BEFORE: TimeDelta = TimeDelta::hours(24);

/// An endpoint on both sides of a deploy.
#[derive(Clone, Debug, Default)]
pub struct Compared {
    /// Other versions in the day before.
    pub before: Side,
    /// The deployed version since.
    pub after: Side,
    /// Requests of other versions since, and failed ones, where they are known.
    pub beside: (u64, u64),
}

/// The endpoints of a canary against the rest in the same minutes, since the deploy: the instance
/// group that it went to against the service's other groups, else its version against other
/// versions.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn beside(
    database: &Database,
    deploy: &Deploy,
    until: DateTime<Utc>,
) -> Result<BTreeMap<String, Compared>, StoreError> {
    if let Some(group) = &deploy.instance_group {
        let scope = Scope {
            service: Some(deploy.service.clone()),
            environment: Some(deploy.environment.clone()),
            version: None,
            from: deploy.at,
            to: until,
            predicate: None,
        };
        let mut compared: BTreeMap<String, Compared> = BTreeMap::new();
        for ((of, endpoint), served) in groups::served(database, &scope, None).await? {
            let side = side(&mut compared, endpoint, of == *group);
            side.requests += served.requests.unsigned_abs();
            side.failed += served.failed.unsigned_abs();
            side.latency.merge(&served.latency);
        }
        return Ok(compared);
    }
    let counted: Vec<(String, bool, i64, i64)> = sqlx::query_as(
        "SELECT endpoint.name, version.label = $3, sum(t.requests)::bigint, sum(t.failed)::bigint FROM traffic_minute \
         t \
         JOIN version ON version.id = t.version_id JOIN endpoint ON endpoint.id = t.endpoint_id \
         WHERE t.service_id = $1 AND t.environment_id = $2 AND t.minute >= date_trunc('minute', $4::timestamptz) AND \
         t.minute < $5 GROUP BY 1, 2",
    )
    .bind(deploy.service_id)
    .bind(deploy.environment_id)
    .bind(&deploy.version)
    .bind(deploy.at)
    .bind(until)
    .fetch_all(&database.pool)
    .await?;
    let sketches: Vec<(String, bool, Vec<u8>)> = sqlx::query_as(
        "SELECT endpoint.name, version.label = $3, t.sketch FROM (\
             SELECT hour, service_id, endpoint_id, environment_id, version_id, sketch FROM latency_hour \
             UNION ALL SELECT hour, service_id, endpoint_id, environment_id, version_id, sketch FROM latency_part) t \
         JOIN version ON version.id = t.version_id JOIN endpoint ON endpoint.id = t.endpoint_id \
         WHERE t.service_id = $1 AND t.environment_id = $2 AND t.hour >= $4 AND t.hour < $5",
    )
    .bind(deploy.service_id)
    .bind(deploy.environment_id)
    .bind(&deploy.version)
    .bind(hour(deploy.at))
    .bind(until)
    .fetch_all(&database.pool)
    .await?;
    Ok(put_together(counted, sketches))
}

fn put_together(
    counted: Vec<(String, bool, i64, i64)>,
    sketches: Vec<(String, bool, Vec<u8>)>,
) -> BTreeMap<String, Compared> {
    let mut compared: BTreeMap<String, Compared> = BTreeMap::new();
    for (endpoint, is_after, requests, failed) in counted {
        let side = side(&mut compared, endpoint, is_after);
        side.requests += requests.unsigned_abs();
        side.failed += failed.unsigned_abs();
    }
    for (endpoint, is_after, sketch) in sketches {
        side(&mut compared, endpoint, is_after).latency.merge_bytes(&sketch);
    }
    compared
}

fn side(compared: &mut BTreeMap<String, Compared>, endpoint: String, is_after: bool) -> &mut Side {
    let of = compared.entry(endpoint).or_default();
    if is_after { &mut of.after } else { &mut of.before }
}

/// Errors of a service that stopped with a deploy: they occurred in other versions in the day
/// before, and never in it since.
#[derive(Clone, Debug, sqlx::FromRow)]
pub struct Stopped {
    /// The error's number.
    pub error_id: i32,
    /// Its title.
    pub title: String,
    /// Occurrences in the day before.
    pub count: i64,
}

/// Errors that stopped with a deploy, those with most occurrences before first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn stopped(database: &Database, deploy: &Deploy, until: DateTime<Utc>) -> Result<Vec<Stopped>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT e.id AS error_id, e.title, sum(t.n) FILTER (WHERE t.minute < $3)::bigint AS count FROM tally_minute t \
         JOIN cause ON cause.id = t.cause_id JOIN error_group e ON e.id = cause.error_id \
         WHERE e.service_id = $1 AND t.environment_id = $2 AND t.minute >= $4 AND t.minute < $5 GROUP BY e.id \
         HAVING coalesce(sum(t.n) FILTER (WHERE t.minute >= $3), 0) = 0 ORDER BY 3 DESC, 1 LIMIT 50",
    )
    .bind(deploy.service_id)
    .bind(deploy.environment_id)
    .bind(deploy.at)
    .bind(deploy.at - BEFORE)
    .bind(until)
    .fetch_all(&database.pool)
    .await?)
}

/// Requests and failed ones of a service's versions over time.
#[derive(Clone, Debug, sqlx::FromRow)]
pub struct VersionStep {
    /// When the step begins.
    pub at: DateTime<Utc>,
    /// The version.
    pub version: String,
    /// Requests.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
}

/// The versions of a deploy's service in its environment over a window, in steps of so many minutes.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn versions(
    database: &Database,
    deploy: &Deploy,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
    minutes: i32,
) -> Result<Vec<VersionStep>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT date_bin(make_interval(mins => $5), t.minute, $3) AS at, version.label AS version, \
         sum(requests)::bigint AS requests, \
             sum(failed)::bigint AS failed FROM served_minute t JOIN version ON version.id = t.version_id \
         WHERE t.service_id = $1 AND t.environment_id = $2 AND t.minute >= $3 AND t.minute < $4 GROUP BY 1, 2 ORDER \
         BY 1, 2",
    )
    .bind(deploy.service_id)
    .bind(deploy.environment_id)
    .bind(from)
    .bind(to)
    .bind(minutes)
    .fetch_all(&database.pool)
    .await?)
}
