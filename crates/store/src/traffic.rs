//! Traffic: requests, failures and latency by endpoint, and the requests that are kept by themselves.

use crate::hour;
use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::failure::OccurrenceId;
use outcrop_core::latency::{Latency, Sum};
use sqlx::{FromRow, PgConnection, Postgres, QueryBuilder};
use uuid::Uuid;

use crate::Scope;
use crate::ids::id_uuid;
use crate::traces::Marks;
use crate::{Database, StoreError, from_utc, to_utc, window};

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
pub async fn fold(database: &Database) -> Result<bool, StoreError> {
    let mut transaction = database.pool.begin().await?;
    let (is_ours,): (bool,) = sqlx::query_as("SELECT pg_try_advisory_xact_lock(hashtext('outcrop latency'))")
        .fetch_one(&mut *transaction)
        .await?;
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

/// Days of history that thresholds are made from.
const HISTORY_DAYS: i64 = 7;
/// Requests that a history must hold for a threshold of its own.
const LEAST_REQUESTS: u64 = 100;
/// No request is slow below this, in microseconds.
const LEAST_US: f64 = 20_000.0;
/// From when on a request is slow where there is no history at all, in microseconds: so long nobody waits gladly.
pub const DEFAULT_SLOW_US: i64 = 2_000_000;
/// What stands for all services.
const FLEET: i32 = 0;

/// Twice the time that 95 % of a history's requests stayed below, at least 20 ms; `None` where it is too short.
fn slow_from(history: &Latency) -> Option<i64> {
    #[expect(
        clippy::cast_possible_truncation,
        reason = "durations of requests are far below 2^53 µs"
    )]
    (history.count() >= LEAST_REQUESTS)
        .then(|| Some((history.quantile(0.95)? * 2.0).max(LEAST_US) as i64))
        .flatten()
}

/// Says for each endpoint, each service and all together from when on a request is slow: twice the
/// time that 95 % of the requests of the last seven days stayed below, at least 20 ms, once there
/// were 100. What people set stays.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn set_thresholds(database: &Database, now: DateTime<Utc>) -> Result<(), StoreError> {
    let rows: Vec<(i32, i32, Vec<u8>)> =
        sqlx::query_as("SELECT endpoint_id, service_id, sketch FROM latency_day WHERE hour >= $1")
            .bind(now - TimeDelta::days(HISTORY_DAYS))
            .fetch_all(&database.pool)
            .await?;
    let (mut of_endpoints, mut of_services): (BTreeMap<i32, Latency>, BTreeMap<i32, Latency>) = Default::default();
    for (endpoint, service, sketch) in rows {
        of_endpoints.entry(endpoint).or_default().merge_bytes(&sketch);
        of_services.entry(service).or_default().merge_bytes(&sketch);
    }
    let mut fleet = Latency::default();
    for history in of_services.values() {
        fleet.merge(history);
    }
    of_services.insert(FLEET, fleet);
    let made = |histories: BTreeMap<i32, Latency>| -> (Vec<i32>, Vec<i64>) {
        histories
            .into_iter()
            .filter_map(|(id, history)| Some((id, slow_from(&history)?)))
            .unzip()
    };
    let (endpoints, micros) = made(of_endpoints);
    sqlx::query(
        "INSERT INTO endpoint_slow AS s (endpoint_id, threshold_us, is_set) SELECT endpoint, micros, false \
         FROM UNNEST($1::int[], $2::bigint[]) AS new (endpoint, micros) WHERE EXISTS (SELECT FROM endpoint WHERE id = \
         endpoint) ORDER BY 1 \
         ON CONFLICT (endpoint_id) DO UPDATE SET threshold_us = excluded.threshold_us WHERE NOT s.is_set AND \
         s.threshold_us <> excluded.threshold_us",
    )
    .bind(endpoints)
    .bind(micros)
    .execute(&database.pool)
    .await?;
    let (services, micros) = made(of_services);
    sqlx::query(
        "WITH new AS (SELECT * FROM UNNEST($1::int[], $2::bigint[]) AS new (service, micros)), \
             gone AS (DELETE FROM service_slow WHERE service_id NOT IN (SELECT service FROM new)) \
         INSERT INTO service_slow AS s (service_id, threshold_us) SELECT service, micros FROM new ORDER BY 1 \
         ON CONFLICT (service_id) DO UPDATE SET threshold_us = excluded.threshold_us WHERE s.threshold_us <> \
         excluded.threshold_us",
    )
    .bind(services)
    .bind(micros)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// Where a threshold comes from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SlowBy {
    /// People set it.
    Set,
    /// The endpoint's own history.
    Endpoint,
    /// The history of its service: its own is too short.
    Service,
    /// The history of all services: its service's is too short.
    Fleet,
    /// Nothing is known yet.
    #[default]
    Default,
}

impl SlowBy {
    /// Its word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Set => "set",
            Self::Endpoint => "endpoint",
            Self::Service => "service",
            Self::Fleet => "fleet",
            Self::Default => "default",
        }
    }
}

/// From when on requests are slow, in microseconds.
#[derive(Clone, Debug, Default)]
pub(crate) struct Thresholds {
    endpoints: HashMap<i32, (i64, bool)>,
    services: HashMap<i32, i64>,
}

impl Thresholds {
    /// That of an endpoint's own history, or as people set it.
    pub(crate) fn own(&self, endpoint: i32) -> Option<i64> {
        self.endpoints.get(&endpoint).map(|(micros, _)| *micros)
    }

    /// That of an endpoint of a service, and where it comes from.
    pub(crate) fn of(&self, service: i32, endpoint: i32) -> (i64, SlowBy) {
        if let Some((micros, is_set)) = self.endpoints.get(&endpoint) {
            return (*micros, if *is_set { SlowBy::Set } else { SlowBy::Endpoint });
        }
        let of_service = self.services.get(&service).map(|micros| (*micros, SlowBy::Service));
        of_service
            .or_else(|| Some((*self.services.get(&FLEET)?, SlowBy::Fleet)))
            .unwrap_or((DEFAULT_SLOW_US, SlowBy::Default))
    }
}

/// Reads all thresholds.
pub(crate) async fn thresholds(database: &Database) -> Result<Thresholds, StoreError> {
    let endpoints =
        sqlx::query_as::<_, (i32, i64, bool)>("SELECT endpoint_id, threshold_us, is_set FROM endpoint_slow");
    let services = sqlx::query_as::<_, (i32, i64)>("SELECT service_id, threshold_us FROM service_slow");
    let (endpoints, services) =
        futures_util::try_join!(endpoints.fetch_all(&database.pool), services.fetch_all(&database.pool))?;
    Ok(Thresholds {
        endpoints: endpoints
            .into_iter()
            .map(|(endpoint, micros, is_set)| (endpoint, (micros, is_set)))
            .collect(),
        services: services.into_iter().collect(),
    })
}

/// Sets from when on a request of an endpoint is slow, or with `None` leaves it to its history
/// again. Returns whether there is such an endpoint.
///
/// # Errors
/// [`StoreError::Ambiguous`] where the service's name stands in several namespaces; others when the
/// database does not answer.
pub async fn set_slow(
    database: &Database,
    service: &str,
    endpoint: &str,
    threshold_us: Option<i64>,
) -> Result<bool, StoreError> {
    let Some(service) = crate::service_names::named(database, service).await? else {
        return Ok(false);
    };
    let found: Option<(i32,)> = sqlx::query_as("SELECT id FROM endpoint WHERE service_id = $1 AND name = $2")
        .bind(service.id)
        .bind(endpoint)
        .fetch_optional(&database.pool)
        .await?;
    let Some((id,)) = found else { return Ok(false) };
    if let Some(micros) = threshold_us {
        sqlx::query(
            "INSERT INTO endpoint_slow (endpoint_id, threshold_us, is_set) VALUES ($1, $2, true) \
             ON CONFLICT (endpoint_id) DO UPDATE SET threshold_us = $2, is_set = true",
        )
        .bind(id)
        .bind(micros)
        .execute(&database.pool)
        .await?;
    } else {
        sqlx::query("DELETE FROM endpoint_slow WHERE endpoint_id = $1")
            .bind(id)
            .execute(&database.pool)
            .await?;
    }
    Ok(true)
}

/// Which kept requests to list.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// Of this endpoint.
    pub endpoint: Option<String>,
    /// With this text in their endpoint's name or in what they said of themselves, whatever its case.
    pub text: Option<String>,
    /// With this status.
    pub status: Option<i16>,
    /// Only failed ones.
    pub failed: bool,
    /// Only slow ones, the longest first; else the newest first.
    pub slow: bool,
    /// Only those before this one, newest first.
    pub before: Option<OccurrenceId>,
}

/// A request that is kept by itself.
#[derive(Clone, Debug, FromRow)]
pub struct Request {
    id: Uuid,
    /// Its trace.
    pub trace_id: Uuid,
    /// Its entry span, as stored.
    pub span_id: i64,
    /// The service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// Its endpoint.
    pub endpoint: String,
    /// The HTTP status.
    pub status: Option<i16>,
    /// Whether it failed.
    pub failed: bool,
    marks: i16,
    /// How long it took, in microseconds.
    pub duration_us: i64,
    /// What it said of itself, where it failed or was refused.
    pub attributes: Option<serde_json::Value>,
}

impl Request {
    /// Its id; begins with its time.
    #[must_use]
    pub const fn id(&self) -> OccurrenceId {
        OccurrenceId(*self.id.as_bytes())
    }

    /// When it began, to the millisecond.
    #[must_use]
    pub fn at(&self) -> DateTime<Utc> {
        to_utc(self.id().at())
    }

    /// Why it is kept.
    #[must_use]
    pub const fn marks(&self) -> Marks {
        Marks::of_bits(self.marks)
    }
}

/// Kept requests of a window.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn requests(
    database: &Database,
    scope: &Scope,
    wanted: &Wanted,
    limit: i64,
) -> Result<Vec<Request>, StoreError> {
    let mut sql = QueryBuilder::new(
        "SELECT t.id, t.trace_id, t.span_id, service.display_name AS service, environment.name AS environment, \
         version.label AS version, \
             endpoint.name AS endpoint, t.status, t.failed, t.marks, t.duration_us, t.attributes \
         FROM request t JOIN service ON service.id = t.service_id JOIN environment ON environment.id = \
         t.environment_id \
             JOIN version ON version.id = t.version_id JOIN endpoint ON endpoint.id = t.endpoint_id WHERE t.id >= \
             first_id_at(",
    );
    sql.push_bind(scope.from)
        .push(") AND t.id < first_id_at(")
        .push_bind(scope.to)
        .push(")");
    scope.narrow(&mut sql, "t");
    if let Some(endpoint) = &wanted.endpoint {
        sql.push(" AND endpoint.name = ").push_bind(endpoint.clone());
    }
    if let Some(text) = &wanted.text {
        let pattern = format!(
            "%{}%",
            text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_")
        );
        sql.push(" AND (endpoint.name ILIKE ")
            .push_bind(pattern.clone())
            .push(" OR t.attributes::text ILIKE ")
            .push_bind(pattern)
            .push(")");
    }
    if let Some(status) = wanted.status {
        sql.push(" AND t.status = ").push_bind(status);
    }
    if wanted.failed {
        sql.push(" AND t.failed");
    }
    if let Some(before) = wanted.before {
        sql.push(" AND t.id < ").push_bind(id_uuid(before));
    }
    if wanted.slow {
        sql.push(" AND t.marks & 2 <> 0 ORDER BY t.duration_us DESC, t.id DESC");
    } else {
        sql.push(" ORDER BY t.id DESC");
    }
    sql.push(" LIMIT ").push_bind(limit);
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, now, number, of, resource, span, spans, store, trace, writer};

    #[test]
    fn a_threshold_comes_from_the_nearest_history_there_is() {
        let thresholds = Thresholds {
            endpoints: [(1, (50_000, false)), (2, (70_000, true))].into(),
            services: [(7, 200_000), (FLEET, 300_000)].into(),
        };
        assert_eq!(thresholds.of(7, 1), (50_000, SlowBy::Endpoint));
        assert_eq!(thresholds.of(7, 2), (70_000, SlowBy::Set));
        assert_eq!(thresholds.of(7, 3), (200_000, SlowBy::Service));
        assert_eq!(thresholds.of(8, 3), (300_000, SlowBy::Fleet));
        assert_eq!(Thresholds::default().of(8, 3), (DEFAULT_SLOW_US, SlowBy::Default));
    }

    #[tokio::test]
    async fn a_slow_request_of_a_new_endpoint_is_kept_from_the_first_on() {
        let database = database().await;
        let writer = writer(&database);
        let request = |number: u64, name: &str, millis: i64| {
            let mut request = span(trace(number), number, None, now());
            request.name = name.to_owned();
            request.start = request.end.map(|end| end.plus_millis(-millis));
            request
        };
        let send = async |requests: Vec<outcrop_core::telemetry::Span>| {
            store(&writer, &[spans(vec![of(resource("fares"), requests)], now())]).await;
        };
        let kept = "SELECT count(*) FROM request WHERE marks & 2 = 2";
        // Nothing is known: two seconds.
        send(vec![
            request(1, "GET /v1/piers", 1_900),
            request(2, "GET /v1/piers", 3_200),
        ])
        .await;
        assert_eq!(number(&database, kept).await, 1);
        // The service is: 95 of 100 requests take 100 ms.
        send((10..210).map(|number| request(number, "GET /v1/quotes", 100)).collect()).await;
        while fold(&database).await.unwrap() {}
        set_thresholds(&database, Utc::now()).await.unwrap();
        writer.read_thresholds().await.unwrap();
        send(vec![
            request(300, "GET /v1/berths", 150),
            request(301, "GET /v1/berths", 900),
        ])
        .await;
        assert_eq!(number(&database, kept).await, 2);
        let to = Utc::now() + TimeDelta::minutes(1);
        let scope = Scope {
            service: None,
            environment: None,
            version: None,
            from: to - TimeDelta::hours(1),
            to,
            predicate: None,
        };
        let by: BTreeMap<String, SlowBy> = endpoints(&database, &scope)
            .await
            .unwrap()
            .into_iter()
            .map(|endpoint| (endpoint.name, endpoint.slow.1))
            .collect();
        assert_eq!(by["GET /v1/berths"], SlowBy::Service);
        assert_eq!(by["GET /v1/quotes"], SlowBy::Endpoint);
    }
}
