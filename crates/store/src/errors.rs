//! Reading errors: the list with the numbers of a window, and one error with all that is counted of it.

use crate::Scope;
use crate::ids::number;
use crate::ids::reference;
use std::collections::{BTreeSet, HashMap};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::attention::{Attention, Evidence, FlagKind, attention};
use outcrop_core::failure::OccurrenceId;
use outcrop_core::query::Predicate;
use outcrop_core::{Distinct, Reference};
use sqlx::{FromRow, QueryBuilder};

use crate::handling::{self, Handling};
use crate::weights::{self, Weights};
use crate::{Database, StoreError, predicate, sampling};

/// One error with its numbers in a window.
#[derive(Clone, Debug)]
pub struct Summary {
    /// Its reference.
    pub reference: Reference,
    /// The namespace of its service; may be empty.
    pub namespace: String,
    /// Its service.
    pub service: String,
    /// The exception's type; may be empty.
    pub type_name: String,
    /// Type and message template.
    pub title: String,
    /// The innermost own frame in one line.
    pub own_frame: Option<String>,
    /// Environments it occurred in within the window.
    pub environments: Vec<String>,
    /// Versions it occurred in within the window, in the order they were first received.
    pub versions: Vec<String>,
    /// Occurrences in the window.
    pub count: i64,
    /// Users in the window.
    pub users: i64,
    /// Requests to the endpoints it occurs at, in the window; 0 where none are known.
    pub requests: i64,
    /// First event of all time.
    pub first_seen: DateTime<Utc>,
    /// Last event of all time.
    pub last_seen: DateTime<Utc>,
    /// The version it was first seen in.
    pub first_version: String,
    /// Whether it was first seen within an hour of that version, while an earlier version is known.
    pub came_with_version: bool,
    /// Whether any occurrence was uncaught.
    pub uncaught: bool,
    /// OTLP severity number, the highest.
    pub severity: i16,
    /// Names of the endpoints it occurred at in the window.
    pub endpoints: Vec<String>,
    /// Instances it occurred on in the window's whole hours; 64 stands for as many or more.
    pub instances: i64,
    /// Occurrences in the window's last quarter.
    pub recent: i64,
    /// How many each occurrence counts for beside the requests, where it is seen on sampled spans alone.
    pub one_in: Option<f64>,
    /// The weight people have set for it; `None` where none.
    pub weight: Option<f64>,
    /// Who has it, whether it is settled or quiet.
    pub handling: Handling,
    /// What was said of it in the window that weighs most, and whether it still stands.
    pub flag: Option<(FlagKind, bool)>,
    pub(crate) service_id: i32,
}

impl Summary {
    /// Several occurrences may fall on one request: a share is at most 1; `None` without requests.
    #[must_use]
    pub fn request_share(&self) -> Option<f64> {
        #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
        (self.requests > 0).then(|| (self.count as f64 * self.one_in.unwrap_or(1.0) / self.requests as f64).min(1.0))
    }

    /// What kind of failure it is, where its type or message tells.
    #[must_use]
    pub fn kind(&self) -> Option<&'static str> {
        outcrop_core::failure_kind(&self.type_name, &self.title)
    }

    /// How much it matters at a time.
    #[must_use]
    pub fn attention(&self, now: DateTime<Utc>) -> Attention {
        attention(&Evidence {
            uncaught: self.uncaught,
            severity: self.severity,
            count: self.count.unsigned_abs(),
            users: self.users.unsigned_abs(),
            request_share: self.request_share(),
            requests: self.requests.unsigned_abs(),
            flag: self.flag,
            age_hours: (now - self.first_seen).as_seconds_f64() / 3_600.0,
            came_with: self
                .came_with_version
                .then(|| format!("{} {}", self.service, self.first_version)),
            endpoints: self.endpoints.len() as u64,
            instances: self.instances.unsigned_abs(),
            at_edge: self.endpoints.iter().any(|endpoint| is_waited_for(endpoint)),
            kind: self.kind(),
            recent: self.recent.unsigned_abs(),
            weight: self.weight,
        })
    }
}

/// Endpoints of requests begin with their method; jobs and queues do not.
fn is_waited_for(endpoint: &str) -> bool {
    const METHODS: &[&str] = &[
        "GET ", "POST ", "PUT ", "PATCH ", "DELETE ", "HEAD ", "OPTIONS ", "QUERY ",
    ];
    METHODS.iter().any(|method| endpoint.starts_with(method))
}

/// An endpoint that an error occurs at.
#[derive(Clone, Debug, PartialEq)]
pub struct HitEndpoint {
    /// Its name.
    pub endpoint: String,
    /// The share of the error's occurrences that fall on it, 0 to 1: of the newest 5,000.
    pub share: f64,
    /// Its requests in the window; 0 where none are known.
    pub requests: i64,
}

/// Of all time: one error in one environment and version.
#[derive(Clone, Debug, FromRow)]
pub struct Sighting {
    /// The environment.
    pub environment: String,
    /// The version.
    pub version: String,
    /// Occurrences.
    pub count: i64,
    /// Of these, uncaught.
    pub uncaught: i64,
    /// First event.
    pub first_seen: DateTime<Utc>,
    /// Last event.
    pub last_seen: DateTime<Utc>,
}

/// What was thrown in an error's latest occurrence.
#[derive(Clone, Debug, FromRow)]
pub struct Latest {
    id: uuid::Uuid,
    /// The message.
    pub message: String,
}

impl Latest {
    /// The occurrence's id.
    #[must_use]
    pub const fn occurrence(&self) -> OccurrenceId {
        OccurrenceId(*self.id.as_bytes())
    }
}

#[derive(FromRow)]
struct CountRow {
    error_id: i32,
    namespace: String,
    service: String,
    type_name: String,
    title: String,
    own_frame: Option<String>,
    count: i64,
    recent: i64,
    environments: Vec<i32>,
    versions: Vec<i32>,
    service_id: i32,
    first_seen: DateTime<Utc>,
    last_seen: DateTime<Utc>,
    first_version: String,
    came_with_version: bool,
    uncaught: bool,
    severity: i16,
}

/// The window in whole minutes, and the whole hours and days within it. Without a whole day both of
/// its borders lie at the end of the last hour.
struct Bounds {
    from: DateTime<Utc>,
    to: DateTime<Utc>,
    first_hour: DateTime<Utc>,
    last_hour: DateTime<Utc>,
    first_day: DateTime<Utc>,
    last_day: DateTime<Utc>,
}

impl Bounds {
    fn of(scope: &Scope) -> Self {
        let floor = |at: DateTime<Utc>, step: TimeDelta| at.duration_trunc(step).unwrap_or(at);
        let ceil = |at: DateTime<Utc>, step: TimeDelta| {
            let start = floor(at, step);
            if start < at { start + step } else { start }
        };
        let (from, to) = (
            floor(scope.from, TimeDelta::minutes(1)),
            ceil(scope.to, TimeDelta::minutes(1)),
        );
        let first_hour = ceil(from, TimeDelta::hours(1)).min(to);
        let last_hour = floor(to, TimeDelta::hours(1)).max(first_hour);
        let (first_day, last_day) = (
            ceil(first_hour, TimeDelta::days(1)),
            floor(last_hour, TimeDelta::days(1)),
        );
        let (first_day, last_day) = if first_day < last_day {
            (first_day, last_day)
        } else {
            (last_hour, last_hour)
        };
        Self {
            from,
            to,
            first_hour,
            last_hour,
            first_day,
            last_day,
        }
    }
}

/// Lists the errors that occurred in a window, in the order of their references' numbers.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn list(database: &Database, scope: &Scope) -> Result<Vec<Summary>, StoreError> {
    summaries(database, scope, None).await
}

/// One error with its numbers in a window, or `None` where there is no such error. An error that did not occur in the
/// window has a count of 0.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn one(database: &Database, reference: Reference, scope: &Scope) -> Result<Option<Summary>, StoreError> {
    Ok(summaries(database, scope, Some(number(reference))).await?.pop())
}

async fn summaries(database: &Database, scope: &Scope, only: Option<i32>) -> Result<Vec<Summary>, StoreError> {
    let found = all_of(database, scope, only).await?;
    match &scope.predicate {
        Some(predicate) => Box::pin(narrowed(database, scope, predicate, found)).await,
        None => Ok(found),
    }
}

/// What was said of errors in the window: of each the kind that weighs most.
async fn flags(
    database: &Database,
    bounds: &Bounds,
    errors: &[i32],
) -> Result<HashMap<i32, (FlagKind, bool)>, StoreError> {
    let rows: Vec<(i32, String, bool)> = sqlx::query_as(
        "SELECT error_id, kind, bool_or(ended_at IS NULL) FROM flag WHERE withdrawn_at IS NULL AND error_id = ANY($1) \
         AND said_at < $3 \
         AND (said_at >= $2 OR kind = 'surging' AND ended_at IS NULL) AND (ended_at IS NULL OR ended_at >= $2) GROUP \
         BY 1, 2",
    )
    .bind(errors)
    .bind(bounds.from)
    .bind(bounds.to)
    .fetch_all(&database.pool)
    .await?;
    let mut most: HashMap<i32, (FlagKind, bool)> = HashMap::new();
    for (error, kind, stands) in rows {
        let Some(kind) = FlagKind::of(&kind) else { continue };
        let said = most.entry(error).or_insert((kind, stands));
        if (stands, kind) > (said.1, said.0) {
            *said = (kind, stands);
        }
    }
    Ok(most)
}

async fn all_of(database: &Database, scope: &Scope, only: Option<i32>) -> Result<Vec<Summary>, StoreError> {
    let bounds = Bounds::of(scope);
    // None of these waits for another, though together they may read a little more than they need.
    let (rows, places, traffic, weights, sampled, mut handled) = futures_util::try_join!(
        counts(database, &bounds, scope, only),
        places(database, &bounds, scope, only),
        traffic(database, &bounds, scope, only),
        weights::all(database),
        sampling::seen(database, (bounds.from, bounds.to), scope.environment.as_deref()),
        handling::of(database, only),
    )?;
    let is_weighed = |row: &&CountRow| {
        sampled
            .get(&row.service_id)
            .is_some_and(|seen| seen.stand_for > seen.known)
    };
    let one_in = sampling::one_in(
        database,
        rows.iter()
            .filter(is_weighed)
            .map(|row| reference(row.error_id))
            .collect(),
    )
    .await?;
    let hit: Vec<i32> = places
        .values()
        .flat_map(|place| place.endpoints.iter().copied())
        .collect();
    let numbers: Vec<i32> = rows.iter().map(|row| row.error_id).collect();
    let (names, hit, flags, mut went_to) = futures_util::try_join!(
        Labels::of(database, &rows),
        endpoint_names(database, hit),
        flags(database, &bounds, &numbers),
        crate::moved::own_frames(database, &numbers)
    )?;
    let none = Place::default();
    Ok(rows
        .into_iter()
        .map(|row| {
            let Place {
                users,
                endpoints,
                instances,
            } = places.get(&row.error_id).unwrap_or(&none);
            let is_hit = |service: i32, endpoint: i32, environment: i32| {
                service == row.service_id && endpoints.contains(&endpoint) && row.environments.contains(&environment)
            };
            let requests = traffic
                .iter()
                .filter(|((service, endpoint, environment), _)| is_hit(*service, *endpoint, *environment))
                .map(|(_, n)| n)
                .sum();
            let endpoints: Vec<String> = endpoints.iter().filter_map(|id| hit.get(id).cloned()).collect();
            let weight = weigh(&weights, &row.service, &endpoints);
            Summary {
                reference: reference(row.error_id),
                namespace: row.namespace,
                service: row.service,
                type_name: row.type_name,
                title: row.title,
                own_frame: went_to.remove(&row.error_id).or(row.own_frame),
                environments: names.environments(&row.environments),
                versions: names.versions(&row.versions),
                count: row.count,
                users: i64::try_from(users.count()).unwrap_or(i64::MAX),
                requests,
                first_seen: row.first_seen,
                last_seen: row.last_seen,
                first_version: row.first_version,
                came_with_version: row.came_with_version,
                uncaught: row.uncaught,
                severity: row.severity,
                endpoints,
                instances: i64::try_from(instances.len()).unwrap_or(i64::MAX),
                recent: row.recent,
                one_in: one_in.get(&reference(row.error_id)).copied(),
                weight,
                handling: handled.remove(&row.error_id).unwrap_or_default(),
                flag: flags.get(&row.error_id).copied(),
                service_id: row.service_id,
            }
        })
        .collect())
}

/// Keeps what a predicate holds for: errors with a matching occurrence, counted by these alone.
async fn narrowed(
    database: &Database,
    scope: &Scope,
    predicate: &Predicate,
    summaries: Vec<Summary>,
) -> Result<Vec<Summary>, StoreError> {
    let condition = predicate::resolve(database, predicate, scope).await?;
    let matched = predicate::count(database, scope, &condition).await?;
    let ids = |of: fn(&predicate::Matched) -> &Vec<i32>| matched.iter().flat_map(of).copied().collect::<Vec<_>>();
    let names = Labels::named(database, ids(|row| &row.environments), ids(|row| &row.versions)).await?;
    let mut matched: HashMap<i32, predicate::Matched> = matched.into_iter().map(|row| (row.error_id, row)).collect();
    let narrow = |mut summary: Summary| {
        let row = matched.remove(&number(summary.reference));
        summary.count = row.as_ref().map_or(0, |row| row.count);
        summary.users = row.as_ref().map_or(0, |row| row.users);
        summary.environments = row
            .as_ref()
            .map(|row| names.environments(&row.environments))
            .unwrap_or_default();
        summary.versions = row
            .as_ref()
            .map(|row| names.versions(&row.versions))
            .unwrap_or_default();
        summary
    };
    Ok(summaries.into_iter().map(narrow).collect())
}

/// The weight of an error: of its weightiest endpoint where one is set, else of its service.
fn weigh(weights: &Weights, service: &str, endpoints: &[String]) -> Option<f64> {
    let of = |endpoint: &str| weights.get(&(service.to_owned(), endpoint.to_owned())).copied();
    endpoints
        .iter()
        .filter_map(|endpoint| of(endpoint))
        .max_by(f64::total_cmp)
        .or_else(|| of(""))
}

async fn counts(
    database: &Database,
    bounds: &Bounds,
    scope: &Scope,
    only: Option<i32>,
) -> Result<Vec<CountRow>, StoreError> {
    Ok(sqlx::query_as(include_str!("../queries/errors/counts.sql"))
        .bind(bounds.from)
        .bind(bounds.first_hour)
        .bind(bounds.last_hour)
        .bind(bounds.to)
        .bind(&scope.service)
        .bind(&scope.environment)
        .bind(&scope.version)
        .bind(only)
        .bind(bounds.first_day)
        .bind(bounds.last_day)
        .bind(bounds.to - (bounds.to - bounds.from) / 4)
        .fetch_all(&database.pool)
        .await?)
}

async fn endpoint_names(database: &Database, ids: Vec<i32>) -> Result<HashMap<i32, String>, StoreError> {
    let names: Vec<(i32, String)> = sqlx::query_as("SELECT id, name FROM endpoint WHERE id = ANY($1)")
        .bind(ids)
        .fetch_all(&database.pool)
        .await?;
    Ok(names.into_iter().collect())
}

/// Whom and what an error hits.
#[derive(Default)]
struct Place {
    users: Distinct,
    endpoints: BTreeSet<i32>,
    instances: BTreeSet<i32>,
}

type Places = HashMap<i32, Place>;

/// Users, endpoints and instances per error.
async fn places(database: &Database, bounds: &Bounds, scope: &Scope, only: Option<i32>) -> Result<Places, StoreError> {
    type Part = (i32, Option<Vec<u8>>, Option<Vec<i64>>, Vec<i32>, Vec<i32>);
    let parts: Vec<Part> = sqlx::query_as(include_str!("../queries/errors/places.sql"))
        .bind(bounds.from)
        .bind(bounds.first_hour)
        .bind(bounds.last_hour)
        .bind(bounds.to)
        .bind(only.map(|error| vec![error]))
        .bind(&scope.environment)
        .bind(&scope.version)
        .bind(bounds.first_day)
        .bind(bounds.last_day)
        .fetch_all(&database.pool)
        .await?;
    let mut places = Places::new();
    for (error, folded, hashes, endpoints, instances) in parts {
        let place = places.entry(error).or_default();
        if let Some(folded) = folded.as_deref().and_then(Distinct::from_bytes) {
            place.users.merge(&folded);
        }
        hashes
            .unwrap_or_default()
            .iter()
            .for_each(|hash| place.users.insert(crate::reach::unsigned(*hash)));
        place.endpoints.extend(endpoints);
        place.instances.extend(instances);
    }
    Ok(places)
}

type Traffic = HashMap<(i32, i32, i32), i64>;

/// Requests by service, endpoint and environment; of the service of one error alone, where only that is asked for.
async fn traffic(
    database: &Database,
    bounds: &Bounds,
    scope: &Scope,
    only: Option<i32>,
) -> Result<Traffic, StoreError> {
    let rows: Vec<(i32, i32, i32, i64)> = sqlx::query_as(include_str!("../queries/errors/traffic.sql"))
        .bind(bounds.from)
        .bind(bounds.first_hour)
        .bind(bounds.last_hour)
        .bind(bounds.to)
        .bind(&scope.service)
        .bind(&scope.version)
        .bind(only)
        .fetch_all(&database.pool)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(service, endpoint, environment, n)| ((service, endpoint, environment), n))
        .collect())
}

/// Names of environments and versions, the latter with the order they were first received in.
struct Labels {
    environments: HashMap<i32, String>,
    versions: HashMap<i32, (DateTime<Utc>, String)>,
}

impl Labels {
    async fn of(database: &Database, rows: &[CountRow]) -> Result<Self, StoreError> {
        let environments: Vec<i32> = rows.iter().flat_map(|row| row.environments.iter().copied()).collect();
        let versions: Vec<i32> = rows.iter().flat_map(|row| row.versions.iter().copied()).collect();
        Self::named(database, environments, versions).await
    }

    async fn named(database: &Database, environments: Vec<i32>, versions: Vec<i32>) -> Result<Self, StoreError> {
        type Named = Vec<(i32, String)>;
        type Ordered = Vec<(i32, Option<DateTime<Utc>>, String)>;
        let environments = sqlx::query_as("SELECT id, name FROM environment WHERE id = ANY($1)")
            .bind(environments)
            .fetch_all(&database.pool);
        let versions = sqlx::query_as(
            "SELECT v.id, min(d.first_received_at), v.label FROM version v LEFT JOIN deployed d ON d.version_id = \
             v.id WHERE v.id = ANY($1) GROUP BY v.id",
        )
        .bind(versions)
        .fetch_all(&database.pool);
        let (environments, versions): (Named, Ordered) = futures_util::try_join!(environments, versions)?;
        Ok(Self {
            environments: environments.into_iter().collect(),
            versions: versions
                .into_iter()
                .map(|(id, at, label)| (id, (at.unwrap_or_default(), label)))
                .collect(),
        })
    }

    fn environments(&self, ids: &[i32]) -> Vec<String> {
        let mut names: Vec<String> = ids.iter().filter_map(|id| self.environments.get(id).cloned()).collect();
        names.sort();
        names
    }

    fn versions(&self, ids: &[i32]) -> Vec<String> {
        let mut labels: Vec<&(DateTime<Utc>, String)> = ids.iter().filter_map(|id| self.versions.get(id)).collect();
        labels.sort();
        labels.into_iter().map(|(_, label)| label.clone()).collect()
    }
}

/// Requests of the services in scope, and how many of them failed.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn traffic_of(database: &Database, scope: &Scope) -> Result<(i64, i64), StoreError> {
    let bounds = Bounds::of(scope);
    Ok(sqlx::query_as(include_str!("../queries/errors/traffic_of.sql"))
        .bind(bounds.from)
        .bind(bounds.first_hour)
        .bind(bounds.last_hour)
        .bind(bounds.to)
        .bind(&scope.service)
        .bind(&scope.environment)
        .bind(&scope.version)
        .fetch_one(&database.pool)
        .await?)
}

/// The latest occurrence of each error, as far as one is kept.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn latest(database: &Database, references: &[Reference]) -> Result<HashMap<Reference, Latest>, StoreError> {
    #[derive(FromRow)]
    struct Row {
        error_id: i32,
        #[sqlx(flatten)]
        latest: Latest,
    }
    let numbers: Vec<i32> = references.iter().map(|reference| number(*reference)).collect();
    let rows: Vec<Row> = sqlx::query_as(include_str!("../queries/errors/latest.sql"))
        .bind(numbers)
        .fetch_all(&database.pool)
        .await?;
    Ok(rows
        .into_iter()
        .map(|row| (reference(row.error_id), row.latest))
        .collect())
}

/// Of all time: counts per environment and version, the latest version first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn sightings(database: &Database, reference: Reference) -> Result<Vec<Sighting>, StoreError> {
    Ok(sqlx::query_as(include_str!("../queries/errors/sightings.sql"))
        .bind(number(reference))
        .fetch_all(&database.pool)
        .await?)
}

/// The endpoints that an error occurs at in a window, those with most of its occurrences first, `limit` at most.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn main_endpoints(
    database: &Database,
    summary: &Summary,
    scope: &Scope,
    limit: usize,
) -> Result<Vec<HitEndpoint>, StoreError> {
    let mut sql = QueryBuilder::new("WITH seen AS MATERIALIZED (SELECT o.endpoint_id FROM occurrence o WHERE ");
    newest(&mut sql, database, summary.reference, scope).await?;
    sql.push(
        ") SELECT endpoint.id, endpoint.name, count(*), (SELECT count(*) FROM seen) FROM seen JOIN endpoint ON \
         endpoint.id = seen.endpoint_id \
         GROUP BY 1, 2 ORDER BY 3 DESC, 2 LIMIT ",
    );
    sql.push_bind(i64::try_from(limit).unwrap_or(i64::MAX));
    let (bounds, of_service) = (
        Bounds::of(scope),
        Scope {
            service: Some(summary.service.clone()),
            ..scope.clone()
        },
    );
    let found = async {
        Ok(sql
            .build_query_as::<(i32, String, i64, i64)>()
            .fetch_all(&database.pool)
            .await?)
    };
    let (found, traffic) = futures_util::try_join!(found, traffic(database, &bounds, &of_service, None))?;
    let environments = environment_ids(database, &summary.environments).await?;
    let requests_of = |endpoint: i32| -> i64 {
        let is_here = |(service, at, environment): &(i32, i32, i32)| {
            *service == summary.service_id && *at == endpoint && environments.contains(environment)
        };
        traffic.iter().filter(|(place, _)| is_here(place)).map(|(_, n)| n).sum()
    };
    #[expect(clippy::cast_precision_loss, reason = "at most some thousands")]
    let share = |n: i64, all: i64| n as f64 / all.max(1) as f64;
    let hit = |(id, endpoint, n, all)| HitEndpoint {
        endpoint,
        share: share(n, all),
        requests: requests_of(id),
    };
    Ok(found.into_iter().map(hit).collect())
}

async fn environment_ids(database: &Database, names: &[String]) -> Result<Vec<i32>, StoreError> {
    Ok(sqlx::query_scalar("SELECT id FROM environment WHERE name = ANY($1)")
        .bind(names)
        .fetch_all(&database.pool)
        .await?)
}

/// Occurrences looked at where all of them would be too many.
const NEWEST: i64 = 5_000;

/// Writes what holds for an error's occurrences in a scope, the newest 5,000 of them.
pub(crate) async fn newest(
    sql: &mut QueryBuilder<sqlx::Postgres>,
    database: &Database,
    error: Reference,
    scope: &Scope,
) -> Result<(), StoreError> {
    predicate::within(sql, scope);
    sql.push(" AND o.cause_id = ANY(ARRAY(SELECT id FROM cause WHERE error_id = ")
        .push_bind(number(error))
        .push("))");
    if let Some(predicate) = &scope.predicate {
        let condition = predicate::resolve(database, predicate, scope).await?;
        sql.push(" AND ");
        condition.write(sql);
    }
    sql.push(" ORDER BY o.id DESC LIMIT ").push_bind(NEWEST);
    Ok(())
}

#[cfg(test)]
mod tests {
    use crate::Scope;
    use std::sync::Arc;

    use chrono::TimeDelta;
    use outcrop_core::Timestamp;
    use proptest::prelude::*;
    use proptest::strategy::ValueTree;
    use proptest::test_runner::TestRunner;

    use super::*;
    use crate::testing::{attributes, database, failing, now, number, of, resource, spans, store, trace, writer};
    use crate::to_utc;

    fn window(from: DateTime<Utc>, to: DateTime<Utc>) -> Scope {
        Scope {
            service: None,
            environment: None,
            version: None,
            from,
            to,
            predicate: None,
        }
    }

    /// Failures of two errors over three days, some of them within a minute, with users that come again.
    async fn filled(database: &Database) -> Vec<Timestamp> {
        let writer = writer(database);
        let mut runner = TestRunner::deterministic();
        let offsets = prop::collection::vec(0..3 * 86_400_i64, 300)
            .new_tree(&mut runner)
            .unwrap()
            .current();
        let start = now().plus_millis(-3 * 86_400_000);
        let times: Vec<Timestamp> = offsets
            .iter()
            .map(|seconds| start.plus_millis(seconds * 1_000))
            .collect();
        for (part, times) in times.chunks(50).enumerate() {
            let spans_of = times.iter().zip(0_u64..).map(|(at, n)| {
                let number = part as u64 * 50 + n;
                let mut span = failing(
                    trace(number),
                    number + 1,
                    None,
                    *at,
                    if n % 3 == 0 {
                        "no tariff"
                    } else {
                        "no such sailing today"
                    },
                );
                span.attributes = attributes(&[("user.id", &format!("u-{}", number % 40))]);
                span
            });
            store(
                &writer,
                &[spans(vec![of(resource("fares"), spans_of.collect())], now())],
            )
            .await;
        }
        times
    }

    #[tokio::test]
    async fn parts_of_days_hours_and_minutes_sum_to_the_plain_count_of_any_window() {
        let database = database().await;
        let times = filled(&database).await;
        // Windows are whole minutes.
        let end = Utc::now().duration_trunc(TimeDelta::minutes(1)).unwrap();
        let mut runner = TestRunner::deterministic();
        let windows = prop::collection::vec((0..4_400_i64, 1..4_400_i64), 40)
            .new_tree(&mut runner)
            .unwrap()
            .current();
        for (is_folded, windows) in windows.chunks(20).enumerate() {
            if is_folded == 1 {
                while crate::reach::fold(&database).await.unwrap() {}
            }
            for (ends_before, minutes) in windows {
                let to = end - TimeDelta::minutes(*ends_before);
                let from = to - TimeDelta::minutes(*minutes);
                let summaries = list(&database, &window(from, to)).await.unwrap();
                let inside: Vec<usize> = (0..times.len())
                    .filter(|at| (from..to).contains(&to_utc(times[*at])))
                    .collect();
                let count: i64 = summaries.iter().map(|summary| summary.count).sum();
                assert_eq!(count, i64::try_from(inside.len()).unwrap(), "{from} to {to}");
                for summary in summaries.iter().filter(|summary| summary.count > 0) {
                    let is_this = |at: &&usize| (**at % 50).is_multiple_of(3) == summary.title.contains("no tariff");
                    let users: BTreeSet<usize> = inside.iter().filter(is_this).map(|at| at % 40).collect();
                    assert_eq!(
                        summary.users,
                        i64::try_from(users.len()).unwrap(),
                        "{} from {from} to {to}",
                        summary.title
                    );
                }
            }
        }
    }

    #[tokio::test]
    async fn one_error_says_the_same_alone_as_in_the_list_and_a_condition_that_always_holds_changes_nothing() {
        let database = database().await;
        filled(&database).await;
        let other = failing(trace(9_000), 7, None, now(), "the ledger is closed");
        store(
            &writer(&database),
            &[spans(vec![of(resource("ledger"), vec![other])], now())],
        )
        .await;
        let scope = window(Utc::now() - TimeDelta::days(4), Utc::now() + TimeDelta::minutes(1));
        let always = Arc::new(outcrop_core::query::parse("type = BerthTaken or not type = BerthTaken").unwrap());
        let narrowed = Scope {
            predicate: Some(always),
            ..scope.clone()
        };
        let all = list(&database, &scope).await.unwrap();
        assert_eq!(all.len(), 3);
        for listed in &all {
            let alone = one(&database, listed.reference, &scope).await.unwrap().unwrap();
            let narrow = one(&database, listed.reference, &narrowed).await.unwrap().unwrap();
            let said = |summary: &Summary| (summary.count, summary.users, summary.versions.clone(), summary.requests);
            assert_eq!(said(&alone), said(listed));
            assert_eq!(said(&narrow), said(listed));
        }
        assert_eq!(number(&database, "SELECT count(*) FROM error_group").await, 3);
    }
}
