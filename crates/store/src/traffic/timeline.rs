//! Counts over time: occurrences of errors and the requests beside them, per version.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::Reference;
use outcrop_core::query::Predicate;
use sqlx::{AssertSqlSafe, FromRow, QueryBuilder};

use crate::boxed;
use crate::ids::number;
use crate::{Database, Scope, StoreError, asking};

/// A window cut into steps of equal length. Whole days are read from day counts, whole hours from
/// hour counts, shorter steps from minutes.
#[derive(Clone, Copy, Debug)]
pub struct Steps {
    /// Beginning of the first step, on a border of steps since 1970.
    pub from: DateTime<Utc>,
    /// Length of a step.
    pub step: TimeDelta,
    /// Number of steps.
    pub count: usize,
}

/// Lengths a step may have, in minutes: what people read off a clock.
const LENGTHS: &[i64] = &[
    1, 2, 5, 10, 15, 30, 60, 120, 180, 360, 720, 1_440, 2_880, 10_080, 40_320,
];

impl Steps {
    /// Cuts a window into at most `most` steps (at least 2), widening it to whole steps.
    #[must_use]
    pub fn cut(from: DateTime<Utc>, to: DateTime<Utc>, most: usize) -> Self {
        let most = i64::try_from(most.max(2)).unwrap_or(i64::MAX);
        let minutes = (to - from).num_minutes().max(1);
        let length = LENGTHS
            .iter()
            .copied()
            .find(|length| minutes.div_euclid(*length) < most)
            .unwrap_or(40_320);
        let secs = length * 60;
        let first = from.timestamp().div_euclid(secs);
        let last = (to.timestamp() - 1).div_euclid(secs).max(first);
        Self {
            from: DateTime::from_timestamp(first * secs, 0).unwrap_or(from),
            step: TimeDelta::seconds(secs),
            count: usize::try_from(last - first + 1).unwrap_or(1),
        }
    }

    /// Cuts like [`Self::cut`], but half a day and more into whole hours at least: hours are counted, minutes are many.
    #[must_use]
    pub fn cut_coarsely(from: DateTime<Utc>, to: DateTime<Utc>, most: usize) -> Self {
        let hours = usize::try_from((to - from).num_hours()).unwrap_or_default();
        // The window's ends lie within hours: one step more than it has hours.
        let whole_hours = if hours >= 12 { most.min(hours + 1) } else { most };
        Self::cut(from, to, whole_hours)
    }

    /// End of the last step.
    #[must_use]
    pub fn to(&self) -> DateTime<Utc> {
        self.from + self.step * i32::try_from(self.count).unwrap_or(i32::MAX)
    }

    /// The step of the counts that these are summed from: the longest that fits.
    const fn kept_by(&self) -> &'static str {
        match self.step.num_minutes() {
            minutes if minutes % 1_440 == 0 => "day",
            minutes if minutes % 60 == 0 => "hour",
            _ => "minute",
        }
    }
}

/// A number in one step of one version.
#[derive(Clone, Debug, FromRow)]
pub struct Point {
    /// The error's number, or the service's.
    pub owner: i32,
    /// The version.
    pub version: String,
    /// Which step, from 0.
    pub at: i32,
    /// The number.
    pub n: i64,
}

/// Occurrences per error, version and step.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn occurrences(
    database: &Database,
    errors: &[Reference],
    scope: &Scope,
    steps: Steps,
) -> Result<Vec<(Reference, Point)>, StoreError> {
    if let Some(predicate) = &scope.predicate {
        return matching(database, errors, scope, predicate, steps).await;
    }
    let numbers: Vec<i32> = errors
        .iter()
        .map(|error| i32::from_ne_bytes(error.number().to_ne_bytes()))
        .collect();
    let statement = include_str!("../../queries/timeline/occurrences.sql").replace("STEP", steps.kept_by());
    let points: Vec<Point> = sqlx::query_as(AssertSqlSafe(statement))
        .bind(numbers)
        .bind(steps.from)
        .bind(steps.to())
        .bind(steps.step.num_seconds())
        .bind(&scope.environment)
        .bind(&scope.version)
        .fetch_all(&database.pool)
        .await?;
    Ok(points
        .into_iter()
        .map(|point| {
            (
                Reference::of_number(u32::from_ne_bytes(point.owner.to_ne_bytes())),
                point,
            )
        })
        .collect())
}

async fn matching(
    database: &Database,
    errors: &[Reference],
    scope: &Scope,
    predicate: &Predicate,
    steps: Steps,
) -> Result<Vec<(Reference, Point)>, StoreError> {
    let condition = asking::resolve(database, predicate, scope).await?;
    let mut sql = QueryBuilder::new(
        "SELECT cause.error_id AS owner, version.label AS version, \
         floor((('x' || substr(replace(o.id::text, '-', ''), 1, 12))::bit(48)::bigint - ",
    );
    sql.push_bind(steps.from.timestamp_millis())
        .push(") / ")
        .push_bind(steps.step.num_milliseconds());
    sql.push(
        "::float8)::int AS at, count(*) AS n FROM occurrence o JOIN cause ON cause.id = o.cause_id JOIN version \
        ON version.id = o.version_id WHERE ",
    );
    asking::within(
        &mut sql,
        &Scope {
            from: steps.from,
            to: steps.to(),
            ..scope.clone()
        },
    );
    sql.push(" AND cause.error_id = ANY(")
        .push_bind(errors.iter().map(|error| number(*error)).collect::<Vec<_>>())
        .push(") AND ");
    condition.write(&mut sql);
    sql.push(" GROUP BY 1, 2, 3 ORDER BY 1, 2, 3");
    let points: Vec<Point> = sql.build_query_as().fetch_all(&database.pool).await?;
    Ok(points
        .into_iter()
        .map(|point| {
            (
                Reference::of_number(u32::from_ne_bytes(point.owner.to_ne_bytes())),
                point,
            )
        })
        .collect())
}

/// Requests per service, version and step, for the services of these numbers.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn requests(
    database: &Database,
    services: &[i32],
    scope: &Scope,
    steps: Steps,
) -> Result<Vec<Point>, StoreError> {
    let statement = include_str!("../../queries/timeline/requests.sql").replace("STEP", steps.kept_by());
    Ok(sqlx::query_as(AssertSqlSafe(statement))
        .bind(services)
        .bind(steps.from)
        .bind(steps.to())
        .bind(steps.step.num_seconds())
        .bind(&scope.environment)
        .bind(&scope.version)
        .fetch_all(&database.pool)
        .await?)
}

/// A service with what is known of it.
#[derive(Clone, Debug, FromRow)]
pub struct ServiceRow {
    /// Its number.
    pub id: i32,
    /// Its namespace; may be empty.
    pub namespace: String,
    /// Its name.
    pub name: String,
    /// Its environments, by name.
    pub environments: Vec<String>,
    /// Its versions, in the order they were first received.
    pub versions: Vec<String>,
    /// When its first data was received.
    pub first_received_at: DateTime<Utc>,
    /// Its latest event.
    pub last_event_at: DateTime<Utc>,
    /// Requests of the last 24 hours.
    pub requests: i64,
    /// Occurrences of the last 24 hours.
    pub occurrences: i64,
    /// Whether any of them names a user.
    pub has_users: bool,
    /// Whether it sends metrics.
    pub has_metrics: bool,
    /// How far its clock was ahead when it last sent, in milliseconds; 0 where it was not in the last 24 hours.
    pub clock_ahead_ms: i64,
    sent: i64,
    known: i64,
    stand_for: i64,
    lines: i64,
    lines_unsampled: i64,
}

impl ServiceRow {
    /// How its requests of the last 24 hours are sampled, where any came.
    #[must_use]
    pub fn sampling(&self) -> Option<outcrop_core::telemetry::sampling::Sampling> {
        let count = |n: i64| u64::try_from(n).unwrap_or_default();
        let Self {
            sent,
            known,
            stand_for,
            lines,
            lines_unsampled,
            ..
        } = self;
        outcrop_core::telemetry::sampling::Seen {
            sent: count(*sent),
            known: count(*known),
            stand_for: count(*stand_for),
            lines: count(*lines),
            lines_unsampled: count(*lines_unsampled),
        }
        .judge()
    }
}

/// All services that have sent anything, by name.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn services(database: &Database, now: DateTime<Utc>) -> Result<Vec<ServiceRow>, StoreError> {
    Ok(sqlx::query_as(include_str!("../../queries/timeline/services.sql"))
        .bind(now - TimeDelta::hours(24))
        .fetch_all(&database.pool)
        .await?)
}

/// When each version of the services of these numbers was first seen by its telemetry, in the scope's
/// environment, by time.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn first_seen(
    database: &Database,
    services: &[i32],
    scope: &Scope,
) -> Result<Vec<(i32, String, DateTime<Utc>)>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT deployed.service_id, version.label, min(deployed.first_event_at) FROM deployed JOIN version ON \
         version.id = deployed.version_id JOIN environment ON environment.id = deployed.environment_id \
         WHERE deployed.service_id = ANY($1) AND ($2::text IS NULL OR environment.name = $2) GROUP BY 1, 2 ORDER BY 3",
    )
    .bind(services)
    .bind(&scope.environment)
    .fetch_all(&database.pool)
    .await?)
}
