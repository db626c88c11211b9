//! Requests, failures and latency by endpoint.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::latency::{Latency, Sum};
use sqlx::{FromRow, Postgres, QueryBuilder};

use super::thresholds::{SlowBy, thresholds};
use crate::boxed;
use crate::{Database, Scope, StoreError, from_utc, hour, to_utc, window};

/// An endpoint over a window.
#[derive(Clone, Debug, Default)]
pub struct Endpoint {
    /// Its number.
    pub id: i32,
    /// The service's namespace; may be empty.
    pub namespace: String,
    /// The service.
    pub service: String,
    /// Its name.
    pub name: String,
    /// Requests.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
    /// How long they took, of the hours that the window touches.
    pub latency: Latency,
    /// Answers of 4xx and 5xx by status, with how many requests of each are kept.
    pub statuses: BTreeMap<i16, (i64, i64)>,
    /// From when on a request is slow, in microseconds, and where that comes from.
    pub slow: (i64, SlowBy),
}

#[derive(FromRow)]
struct Counted {
    endpoint_id: i32,
    service_id: i32,
    namespace: String,
    service: String,
    name: String,
    requests: i64,
    failed: i64,
}

/// Columns of the tables of a name (`traffic_day`, `traffic_hour`, `traffic_minute`) that together
/// hold a scope's window.
fn in_parts(sql: &mut QueryBuilder<Postgres>, scope: &Scope, columns: &str, name: &str) {
    let parts = window::cut(scope.from, scope.to);
    if parts.is_empty() {
        sql.push(format!("SELECT {columns} FROM {name}_hour WHERE false"));
    }
    for (at, (step, from, to)) in parts.into_iter().enumerate() {
        sql.push(if at > 0 { " UNION ALL " } else { "" })
            .push(format!("SELECT {columns} FROM {name}_{step} t WHERE {step} >= "));
        sql.push_bind(from).push(format!(" AND {step} < ")).push_bind(to);
        scope.narrow(sql, "t");
    }
}

/// The endpoints with traffic in a window, those with most requests first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn endpoints(database: &Database, scope: &Scope) -> Result<Vec<Endpoint>, StoreError> {
    let mut sql = QueryBuilder::new(
        "SELECT endpoint.id AS endpoint_id, endpoint.service_id, service.namespace, service.display_name AS service, \
         endpoint.name, requests, failed FROM (\
             SELECT endpoint_id, sum(requests)::bigint AS requests, sum(failed)::bigint AS failed FROM (",
    );
    in_parts(&mut sql, scope, "endpoint_id, requests, failed", "traffic");
    sql.push(
        ") parts GROUP BY endpoint_id) sums JOIN endpoint ON endpoint.id = endpoint_id JOIN service ON service.id = \
         endpoint.service_id \
         ORDER BY requests DESC, endpoint.id",
    );
    let counted = async { Ok::<Vec<Counted>, StoreError>(sql.build_query_as().fetch_all(&database.pool).await?) };
    let (counted, mut latencies, mut statuses, slow) = futures_util::try_join!(
        counted,
        latencies(database, scope, None),
        statuses(database, scope),
        thresholds(database)
    )?;
    Ok(counted
        .into_iter()
        .map(|row| Endpoint {
            id: row.endpoint_id,
            namespace: row.namespace,
            service: row.service,
            name: row.name,
            requests: row.requests,
            failed: row.failed,
            latency: latencies.remove(&row.endpoint_id).unwrap_or_default(),
            statuses: statuses.remove(&row.endpoint_id).unwrap_or_default(),
            slow: slow.of(row.service_id, row.endpoint_id),
        })
        .collect())
}

type Sketch = (i32, Vec<u8>);

/// Sketches of the hours that a window touches, merged by endpoint. Days that lie within it come as one.
async fn latencies(
    database: &Database,
    scope: &Scope,
    endpoint: Option<i32>,
) -> Result<HashMap<i32, Latency>, StoreError> {
    let day = |at: DateTime<Utc>| at.duration_trunc(TimeDelta::days(1)).unwrap_or(at);
    let from = hour(scope.from);
    let first = if day(from) == from {
        from
    } else {
        day(from) + TimeDelta::days(1)
    };
    let (first, end) = if first < day(scope.to) {
        (first, day(scope.to))
    } else {
        (scope.to, scope.to)
    };
    let mut sql = QueryBuilder::new("SELECT endpoint_id, sketch FROM latency_day t WHERE hour >= ");
    sql.push_bind(first).push(" AND hour < ").push_bind(end);
    scope.narrow(&mut sql, "t");
    for (from, to) in [(from, first), (end, scope.to)] {
        sql.push(" UNION ALL SELECT endpoint_id, sketch FROM latency_hour t WHERE hour >= ")
            .push_bind(from);
        sql.push(" AND hour < ").push_bind(to);
        scope.narrow(&mut sql, "t");
    }
    sql.push(" UNION ALL SELECT endpoint_id, sketch FROM latency_part t WHERE hour >= ")
        .push_bind(from);
    sql.push(" AND hour < ").push_bind(scope.to);
    scope.narrow(&mut sql, "t");
    let rows: Vec<Sketch> = sql.build_query_as().fetch_all(&database.pool).await?;
    let mut sums: HashMap<i32, Sum> = HashMap::new();
    for (of, sketch) in rows
        .into_iter()
        .filter(|(of, _)| endpoint.is_none_or(|endpoint| endpoint == *of))
    {
        sums.entry(of).or_default().add(&sketch);
    }
    Ok(sums.into_iter().map(|(of, sum)| (of, sum.finish())).collect())
}

async fn statuses(database: &Database, scope: &Scope) -> Result<HashMap<i32, BTreeMap<i16, (i64, i64)>>, StoreError> {
    let mut sql = QueryBuilder::new("SELECT endpoint_id, status, sum(n)::bigint, sum(kept)::bigint FROM (");
    in_parts(&mut sql, scope, "endpoint_id, status, n, kept", "status");
    sql.push(") parts GROUP BY 1, 2");
    let rows: Vec<(i32, i16, i64, i64)> = sql.build_query_as().fetch_all(&database.pool).await?;
    let mut statuses: HashMap<i32, BTreeMap<i16, (i64, i64)>> = HashMap::new();
    for (endpoint, status, n, kept) in rows {
        let counts = statuses.entry(endpoint).or_default().entry(status).or_default();
        counts.0 += n;
        counts.1 += kept;
    }
    Ok(statuses)
}

/// Requests and failures of an endpoint in one step of a chart.
#[derive(Clone, Debug, FromRow)]
pub struct Step {
    /// When the step begins.
    pub at: DateTime<Utc>,
    /// The version.
    pub version: String,
    /// Requests.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
}

/// Requests and failures of an endpoint over a window, by version, in steps of so many minutes.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn course(database: &Database, scope: &Scope, endpoint: &str, minutes: i32) -> Result<Vec<Step>, StoreError> {
    let mut sql = QueryBuilder::new("SELECT date_bin(make_interval(mins => ");
    sql.push_bind(minutes)
        .push("), minute, ")
        .push_bind(to_utc(from_utc(scope.from).minute()));
    sql.push(
        ") AS at, version.label AS version, sum(requests)::bigint AS requests, sum(failed)::bigint AS failed FROM \
         traffic_minute t \
         JOIN version ON version.id = t.version_id JOIN endpoint ON endpoint.id = t.endpoint_id WHERE endpoint.name = ",
    );
    sql.push_bind(endpoint.to_owned())
        .push(" AND minute >= ")
        .push_bind(scope.from)
        .push(" AND minute < ")
        .push_bind(scope.to);
    scope.narrow(&mut sql, "t");
    sql.push(" GROUP BY 1, 2 ORDER BY 1, 2");
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
}
