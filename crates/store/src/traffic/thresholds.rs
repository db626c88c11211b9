//! From when on a request of an endpoint is slow.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::latency::Latency;

use crate::boxed;
use crate::{Database, StoreError};

/// Days of history that thresholds are made from.
const HISTORY_DAYS: i64 = 7;

/// Requests that a history must hold for a threshold of its own.
const LEAST_REQUESTS: u64 = 100;

/// No request is slow below this, in microseconds.
const LEAST_US: f64 = 20_000.0;

/// From when on a request is slow where there is no history at all, in microseconds: so long nobody waits gladly.
pub const DEFAULT_SLOW_US: i64 = 2_000_000;

/// What stands for all services.
pub(super) const FLEET: i32 = 0;

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
#[boxed]
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
    pub(super) endpoints: HashMap<i32, (i64, bool)>,
    pub(super) services: HashMap<i32, i64>,
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
#[boxed]
pub async fn set_slow(
    database: &Database,
    service: &str,
    endpoint: &str,
    threshold_us: Option<i64>,
) -> Result<bool, StoreError> {
    let Some(service) = crate::people::service_names::named(database, service).await? else {
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
