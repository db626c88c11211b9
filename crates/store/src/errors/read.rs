//! Reads errors with their numbers in a window, whatever a predicate says.

use std::collections::{BTreeSet, HashMap};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::attention::FlagKind;
use outcrop_core::telemetry::sampling::Seen;
use outcrop_core::{Distinct, Reference};
use sqlx::{AssertSqlSafe, FromRow};

use super::labels::Labels;
use super::summary::Summary;
use crate::boxed;
use crate::errors::weights::Weights;
use crate::errors::{handling, weights};
use crate::ids::reference;
use crate::{Database, Scope, StoreError, sampling};

#[derive(FromRow)]
pub(super) struct CountRow {
    pub(super) error_id: i32,
    pub(super) namespace: String,
    pub(super) service: String,
    pub(super) type_name: String,
    pub(super) title: String,
    pub(super) own_frame: Option<String>,
    pub(super) count: i64,
    pub(super) recent: i64,
    pub(super) environments: Vec<i32>,
    pub(super) versions: Vec<i32>,
    pub(super) service_id: i32,
    pub(super) first_seen: DateTime<Utc>,
    pub(super) last_seen: DateTime<Utc>,
    pub(super) first_version: String,
    pub(super) came_with_version: bool,
    pub(super) uncaught: bool,
    pub(super) severity: i16,
}

/// The window in whole minutes, and the whole hours and days within it. Without a whole day both of
/// its borders lie at the end of the last hour.
pub(crate) struct Bounds {
    pub(super) from: DateTime<Utc>,
    pub(super) to: DateTime<Utc>,
    pub(super) first_hour: DateTime<Utc>,
    pub(super) last_hour: DateTime<Utc>,
    pub(super) first_day: DateTime<Utc>,
    pub(super) last_day: DateTime<Utc>,
}

impl Bounds {
    pub(crate) fn of(scope: &Scope) -> Self {
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

/// Errors with their numbers in a window; `only` asks for some, which are there though they did not occur in it.
pub(crate) async fn all_of(
    database: &Database,
    scope: &Scope,
    only: Option<&[i32]>,
) -> Result<Vec<Summary>, StoreError> {
    let bounds = Bounds::of(scope);
    // None of these waits for another, though together they may read a little more than they need.
    let places_and_traffic = async {
        if only.is_none() {
            return futures_util::try_join!(
                places(database, &bounds, scope, None),
                traffic(database, &bounds, scope, None)
            );
        }
        // Of a few errors, the requests to the endpoints that they occur at are a small part of all.
        let places = places(database, &bounds, scope, only).await?;
        let endpoints: BTreeSet<i32> = places.values().flat_map(|place| &place.endpoints).copied().collect();
        let endpoints: Vec<i32> = endpoints.into_iter().collect();
        let traffic = traffic(database, &bounds, scope, Some(&endpoints)).await?;
        Ok((places, traffic))
    };
    let (rows, (places, traffic), weights, sampled, mut handled) = futures_util::try_join!(
        counts(database, &bounds, scope, only),
        places_and_traffic,
        weights::all(database),
        sampling::seen(database, (bounds.from, bounds.to), scope.environment.as_deref()),
        handling::of(database, only),
    )?;
    let sampled_errors = weighed(
        &sampled,
        rows.iter().map(|row| (row.service_id, reference(row.error_id))),
    );
    let one_in = sampling::one_in(database, sampled_errors).await?;
    let hit: Vec<i32> = places
        .values()
        .flat_map(|place| place.endpoints.iter().copied())
        .collect();
    let numbers: Vec<i32> = rows.iter().map(|row| row.error_id).collect();
    let (names, hit, flags, mut went_to) = futures_util::try_join!(
        Labels::named(
            database,
            rows.iter().flat_map(|row| row.environments.iter().copied()).collect(),
            rows.iter().flat_map(|row| row.versions.iter().copied()).collect(),
        ),
        endpoint_names(database, hit),
        flags(database, &bounds, &numbers),
        own_frames(database, &numbers)
    )?;
    let none = Reach::default();
    Ok(rows
        .into_iter()
        .map(|row| {
            let Reach {
                users,
                endpoints,
                instances,
            } = places.get(&row.error_id).unwrap_or(&none);
            let endpoint_ids: Vec<i32> = endpoints.iter().copied().collect();
            let requests = requests(&traffic, row.service_id, &endpoint_ids, &row.environments);
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
                endpoint_ids,
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

/// The errors of services that send a sample of their requests, and say which part.
fn weighed(sampled: &HashMap<i32, Seen>, errors: impl Iterator<Item = (i32, Reference)>) -> Vec<Reference> {
    let is_weighed = |service: &i32| sampled.get(service).is_some_and(|seen| seen.stand_for > seen.known);
    errors
        .filter(|(service, _)| is_weighed(service))
        .map(|(_, error)| error)
        .collect()
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
    only: Option<&[i32]>,
) -> Result<Vec<CountRow>, StoreError> {
    let (some, ever) = match only {
        None => ("", ""),
        Some(_) => (
            " AND cause_id = ANY(ARRAY(SELECT id FROM cause WHERE error_id = ANY($8)))",
            "sighted.cause_id = ANY(ARRAY(SELECT id FROM cause WHERE error_id = ANY($8))) AND ",
        ),
    };
    let statement = include_str!("../../queries/errors/counts.sql")
        .replace(" SOME\n", &format!("{some}\n"))
        .replace("EVER ", ever);
    Ok(sqlx::query_as(AssertSqlSafe(statement))
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
struct Reach {
    users: Distinct,
    endpoints: BTreeSet<i32>,
    instances: BTreeSet<i32>,
}

type Places = HashMap<i32, Reach>;

/// Users, endpoints and instances per error.
async fn places(
    database: &Database,
    bounds: &Bounds,
    scope: &Scope,
    only: Option<&[i32]>,
) -> Result<Places, StoreError> {
    type Part = (i32, Option<Vec<u8>>, Option<Vec<i64>>, Vec<i32>, Vec<i32>);
    let own = "= ANY(ARRAY(SELECT id FROM cause WHERE error_id = ANY($5)))";
    let statement: String = include_str!("../../queries/errors/places.sql")
        .lines()
        .map(|line| match (line.split_once(" SOME "), only) {
            (Some((line, column)), Some(_)) => format!("{line} AND {column} {own}\n"),
            (Some((line, _)), None) => format!("{line}\n"),
            (None, _) => format!("{line}\n"),
        })
        .collect();
    let parts: Vec<Part> = sqlx::query_as(AssertSqlSafe(statement))
        .bind(bounds.from)
        .bind(bounds.first_hour)
        .bind(bounds.last_hour)
        .bind(bounds.to)
        .bind(only)
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
            .for_each(|hash| place.users.insert(crate::errors::reach::unsigned(*hash)));
        place.endpoints.extend(endpoints);
        place.instances.extend(instances);
    }
    Ok(places)
}

type Traffic = HashMap<(i32, i32, i32), i64>;

/// Requests of a service's endpoints in environments.
fn requests(traffic: &Traffic, service: i32, endpoints: &[i32], environments: &[i32]) -> i64 {
    let of = |environment: &i32| {
        let at = |endpoint: &i32| traffic.get(&(service, *endpoint, *environment)).copied();
        endpoints.iter().filter_map(at).sum::<i64>()
    };
    environments.iter().map(of).sum()
}

/// Reads anew what changes of errors while they do not occur: the requests beside them, and how many failures one of theirs
/// stands for.
pub(crate) async fn read_beside(
    database: &Database,
    scope: &Scope,
    summaries: &mut HashMap<i32, Summary>,
) -> Result<(), StoreError> {
    let hit: BTreeSet<i32> = (summaries.values())
        .flat_map(|summary| &summary.endpoint_ids)
        .copied()
        .collect();
    let hit: Vec<i32> = hit.into_iter().collect();
    let bounds = Bounds::of(scope);
    let ids = async {
        let rows: Vec<(String, i32)> = sqlx::query_as("SELECT name, id FROM environment")
            .fetch_all(&database.pool)
            .await?;
        Ok(rows.into_iter().collect::<HashMap<_, _>>())
    };
    let (traffic, ids, sampled) = futures_util::try_join!(
        traffic(database, &bounds, scope, Some(&hit)),
        ids,
        sampling::seen(database, (bounds.from, bounds.to), scope.environment.as_deref())
    )?;
    let errors = summaries
        .values()
        .map(|summary| (summary.service_id, summary.reference));
    let one_in = sampling::one_in(database, weighed(&sampled, errors)).await?;
    for summary in summaries.values_mut() {
        let environments: Vec<i32> = (summary.environments.iter())
            .filter_map(|name| ids.get(name))
            .copied()
            .collect();
        summary.requests = requests(&traffic, summary.service_id, &summary.endpoint_ids, &environments);
        summary.one_in = one_in.get(&summary.reference).copied();
    }
    Ok(())
}

/// Requests by service, endpoint and environment; of some endpoints alone, where only these are asked for.
pub(crate) async fn traffic(
    database: &Database,
    bounds: &Bounds,
    scope: &Scope,
    only: Option<&[i32]>,
) -> Result<Traffic, StoreError> {
    let some = only.map_or(
        "",
        |_| "JOIN endpoint e ON e.id = ANY($7) AND e.service_id = t.service_id AND e.id = t.endpoint_id",
    );
    let statement = include_str!("../../queries/errors/traffic.sql").replace(" SOME", &format!(" {some}"));
    let rows: Vec<(i32, i32, i32, i64)> = sqlx::query_as(AssertSqlSafe(statement))
        .bind(bounds.from)
        .bind(bounds.first_hour)
        .bind(bounds.last_hour)
        .bind(bounds.to)
        .bind(&scope.service)
        .bind(&scope.version)
        .bind(only)
        .bind(bounds.first_day)
        .bind(bounds.last_day)
        .fetch_all(&database.pool)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(service, endpoint, environment, n)| ((service, endpoint, environment), n))
        .collect())
}

/// Requests of the services in scope, and how many of them failed.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn traffic_of(database: &Database, scope: &Scope) -> Result<(i64, i64), StoreError> {
    let bounds = Bounds::of(scope);
    Ok(sqlx::query_as(include_str!("../../queries/errors/traffic_of.sql"))
        .bind(bounds.from)
        .bind(bounds.first_hour)
        .bind(bounds.last_hour)
        .bind(bounds.to)
        .bind(&scope.service)
        .bind(&scope.environment)
        .bind(&scope.version)
        .bind(bounds.first_day)
        .bind(bounds.last_day)
        .fetch_one(&database.pool)
        .await?)
}

/// The innermost own frames of those of the errors whose code has moved, as they are in the newest version it moved in.
pub(crate) async fn own_frames(database: &Database, errors: &[i32]) -> Result<HashMap<i32, String>, StoreError> {
    let rows: Vec<(i32, String)> = sqlx::query_as(
        "SELECT DISTINCT ON (1) (made.change ->> 'error')::integer, came.own_frame FROM grouping_change made \
         JOIN error_group came ON came.id = (made.moves -> 0 ->> 'from')::integer \
         WHERE made.change ->> 'kind' = 'moved' AND made.undone_at IS NULL AND came.own_frame IS NOT NULL \
         AND (made.change ->> 'error')::integer = ANY($1) ORDER BY 1, made.id DESC",
    )
    .bind(errors)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows.into_iter().collect())
}
