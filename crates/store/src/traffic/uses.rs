//! What services call, the statements they run, the instances they run on.

use sqlx::PgConnection;
use std::collections::{BTreeMap, HashMap, HashSet};

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::failure::OccurrenceId;
use outcrop_core::telemetry::names;
use outcrop_core::trace::Trace;
use sqlx::{AssertSqlSafe, FromRow, QueryBuilder};
use uuid::Uuid;

use crate::boxed;
use crate::database::locks::Lock;
use crate::{Database, Scope, StoreError, hour, to_utc, traces, window};

/// Calls of a service to one other place, or runs of one statement.
#[derive(Clone, Debug, FromRow)]
pub struct CallCount {
    /// The service that calls.
    pub service: String,
    /// `database`, `queue`, `consumed`, `rpc`, `http` or `statement`.
    pub kind: String,
    /// What is called, as the caller names it.
    pub name: String,
    /// The service behind the name, where a trace has shown it.
    pub to_service: Option<String>,
    /// Calls.
    pub count: i64,
    /// Of them failed.
    pub failed: i64,
    /// How long all took together, in microseconds.
    pub total_us: i64,
    /// The longest, in microseconds.
    pub longest_us: i64,
    /// Calls in the earlier period.
    pub before: i64,
    /// How long those took together, in microseconds.
    pub before_us: i64,
}

async fn counted(
    database: &Database,
    scope: &Scope,
    earlier: &Scope,
    kinds: &str,
    limit: i64,
) -> Result<Vec<CallCount>, StoreError> {
    let from = hour(scope.from);
    let end = if hour(scope.to) < scope.to {
        hour(scope.to) + TimeDelta::hours(1)
    } else {
        scope.to
    };
    let mut sql = QueryBuilder::new(
        "SELECT service.display_name AS service, called.kind, called.name, other.display_name AS to_service, \
             coalesce(sum(c.n) FILTER (WHERE c.is_now), 0)::bigint AS count, coalesce(sum(c.failed) FILTER (WHERE \
             c.is_now), 0)::bigint AS failed, \
             coalesce(sum(c.total_us) FILTER (WHERE c.is_now), 0)::bigint AS total_us, coalesce(sum(c.n) FILTER \
             (WHERE NOT c.is_now), 0)::bigint AS before, \
             coalesce(sum(c.total_us) FILTER (WHERE NOT c.is_now), 0)::bigint AS before_us, \
             coalesce(max(c.longest_us) FILTER (WHERE c.is_now), 0) AS longest_us FROM (",
    );
    let now = window::cut_hours(from, end).into_iter().map(|part| (true, part));
    let then = hour(earlier.from);
    // An hour that both periods touch belongs to the window.
    let until = if then < from { earlier.to.min(from) } else { earlier.to };
    let until = if hour(until) < until {
        hour(until) + TimeDelta::hours(1)
    } else {
        until
    };
    let before = window::cut_hours(then, until).into_iter().map(|part| (false, part));
    for (at, (is_now, (step, from, to))) in now.chain(before).enumerate() {
        sql.push(if at > 0 { " UNION ALL " } else { "" });
        // Summed by what is called first: what is joined and grouped by name is little then.
        sql.push(format!(
            "SELECT {is_now} AS is_now, called_id, sum(n) AS n, sum(failed) AS failed, sum(total_us) AS total_us, \
             max(longest_us) AS longest_us \
             FROM called_{step} c WHERE {step} >= "
        ));
        sql.push_bind(from).push(format!(" AND {step} < ")).push_bind(to);
        scope.narrow_place(&mut sql, "c");
        sql.push(" GROUP BY called_id");
    }
    sql.push(
        ") c JOIN called ON called.id = c.called_id JOIN service ON service.id = called.service_id \
         LEFT JOIN service other ON other.id = called.to_service_id WHERE called.kind ",
    );
    sql.push(kinds);
    if let Some(service) = &scope.service {
        sql.push(" AND service.id IN (SELECT services_named(")
            .push_bind(service.clone())
            .push("))");
    }
    sql.push(" GROUP BY 1, 2, 3, 4 HAVING sum(c.n) FILTER (WHERE c.is_now) > 0 ORDER BY 7 DESC, 1, 3 LIMIT ")
        .push_bind(limit);
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
}

/// Who calls whom over the hours that a window touches, what took most time first; held against an earlier period.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn calls(
    database: &Database,
    scope: &Scope,
    earlier: &Scope,
    limit: i64,
) -> Result<Vec<CallCount>, StoreError> {
    counted(database, scope, earlier, "<> 'statement'", limit).await
}

/// Statements over the hours that a window touches, what took most time first; held against an earlier period.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn statements(
    database: &Database,
    scope: &Scope,
    earlier: &Scope,
    limit: i64,
) -> Result<Vec<CallCount>, StoreError> {
    counted(database, scope, earlier, "= 'statement'", limit).await
}

/// An instance of a service.
#[derive(Clone, Debug, FromRow)]
pub struct Instance {
    /// The service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// What tells it from others.
    pub name: String,
    /// Its host; may be empty.
    pub host: String,
    /// Its region or zone; may be empty.
    pub region: String,
    /// When it first sent something.
    pub first_at: DateTime<Utc>,
    /// When last.
    pub last_at: DateTime<Utc>,
    /// Requests and runs in the window's hours.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
    /// Instances of the service that began on its host, or with its name, within the window: each
    /// but the first is a start anew.
    pub starts: i64,
    /// Its load as it sent it last, by name.
    pub readings: serde_json::Value,
    /// Requests and runs in the earlier period, where one is asked for.
    pub then_requests: i64,
    /// Of them failed.
    pub then_failed: i64,
}

/// Instances that sent something within a window, by service and name.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn instances(
    database: &Database,
    scope: &Scope,
    earlier: Option<&Scope>,
    limit: i64,
) -> Result<Vec<Instance>, StoreError> {
    let from = hour(scope.from);
    let mut sql = QueryBuilder::new(
        "SELECT service.display_name AS service, environment.name AS environment, version.label AS version, i.name, \
         i.host, i.region, i.first_at, i.last_at, \
             coalesce(sum(h.requests) FILTER (WHERE h.is_now), 0)::bigint AS requests, coalesce(sum(h.failed) FILTER \
             (WHERE h.is_now), 0)::bigint AS failed, \
             coalesce(sum(h.requests) FILTER (WHERE NOT h.is_now), 0)::bigint AS then_requests, \
             coalesce(sum(h.failed) FILTER (WHERE NOT h.is_now), 0)::bigint AS then_failed, \
             (SELECT count(*) FROM instance o WHERE o.service_id = i.service_id AND o.environment_id = \
             i.environment_id AND o.host = i.host \
                 AND i.host <> '' AND o.first_at >= ",
    );
    sql.push_bind(scope.from)
        .push(") AS starts, i.readings FROM instance i JOIN service ON service.id = i.service_id ");
    sql.push(
        "JOIN environment ON environment.id = i.environment_id JOIN version ON version.id = i.version_id LEFT \
        JOIN (SELECT *, true AS is_now FROM instance_hour WHERE hour >= ",
    );
    sql.push_bind(from).push(" AND hour < ").push_bind(scope.to);
    if let Some(earlier) = earlier {
        sql.push(" UNION ALL SELECT *, false FROM instance_hour WHERE hour >= ")
            .push_bind(hour(earlier.from));
        sql.push(" AND hour < ").push_bind(earlier.to);
    }
    sql.push(") h ON h.instance_id = i.id");
    sql.push(" WHERE i.last_at >= ").push_bind(scope.from);
    sql.push(" AND i.first_at < ").push_bind(scope.to);
    scope.narrow_service(&mut sql, "service.id");
    scope.narrow_place(&mut sql, "i");
    sql.push(
        " GROUP BY i.id, i.service_id, i.environment_id, i.name, i.host, i.region, i.first_at, i.last_at, i.readings, \
        service.display_name, environment.name, version.label ORDER BY service.display_name, i.last_at DESC, i.name \
        LIMIT ",
    )
    .push_bind(limit);
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
}

/// What the platform said of something.
#[derive(Clone, Debug, FromRow)]
pub struct PlatformEvent {
    id: Uuid,
    /// What it happened to.
    pub object: String,
    /// Where that runs; may be empty.
    pub node: String,
    /// In a word.
    pub reason: String,
    /// In the platform's words.
    pub message: String,
    /// Whether the platform calls it a warning.
    pub is_warning: bool,
}

impl PlatformEvent {
    /// When it happened.
    #[must_use]
    pub fn at(&self) -> DateTime<Utc> {
        to_utc(OccurrenceId(*self.id.as_bytes()).at())
    }
}

/// What the platform said within a window, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn platform_events(database: &Database, scope: &Scope, limit: i64) -> Result<Vec<PlatformEvent>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT * FROM platform_event WHERE id >= first_id_at($1) AND id < first_id_at($2) ORDER BY id DESC LIMIT $3",
    )
    .bind(scope.from)
    .bind(scope.to)
    .bind(limit)
    .fetch_all(&database.pool)
    .await?)
}

/// Spans of a trace that is looked at: larger ones show no more services than small ones.
const LARGEST: usize = 2_000;
/// Traces looked at per round for who stands behind a name, and about how many pages of a hot table
/// they are chosen from: a busy quarter of an hour has hundreds of thousands.
const LOOKED_AT: i64 = 40;
const PAGES: f64 = 400.0;

/// Looks into newly received traces for which services stand behind the names that others call.
/// Returns how many were found. Does nothing while another instance is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round tries again.
#[boxed]
pub async fn learn_services(database: &Database, now: DateTime<Utc>) -> Result<usize, StoreError> {
    let mut transaction = database.pool.begin().await?;
    let is_ours = Lock::BehindNames.try_take(&mut transaction).await?;
    let unknown: Vec<(i32, i32, String, String)> = sqlx::query_as(
        "SELECT called.id, called.service_id, called.name, service.name FROM called JOIN service ON service.id = \
         called.service_id \
         WHERE called.to_service_id IS NULL AND called.kind IN ('rpc', 'http') AND called.name <> '(others)' ORDER BY \
         called.id LIMIT 2000",
    )
    .fetch_all(&mut *transaction)
    .await?;
    if !is_ours || unknown.is_empty() {
        return Ok(0);
    }
    let services: Vec<i32> = unknown.iter().map(|(_, service, _, _)| *service).collect();
    // All parts of a trace have come a few seconds after the first.
    let until = now - TimeDelta::seconds(10);
    let mut ids: Vec<Uuid> = vec![];
    // Early in a quarter of an hour what there is came in the one before.
    for begins in [traces::slot(until), traces::slot(until) - traces::SLOT] {
        let wanted = LOOKED_AT - i64::try_from(ids.len()).unwrap_or(LOOKED_AT);
        if wanted > 0 {
            ids.extend(some_traces(&mut transaction, &traces::hot_name(begins), &services, until, wanted).await?);
        }
    }
    let (chunks, _) = traces::read_all(database, &ids).await?;
    let mut behind: BTreeMap<(String, String), String> = BTreeMap::new();
    for trace in chunks
        .into_values()
        .map(Trace::new)
        .filter(|trace| trace.spans.len() <= LARGEST)
    {
        behind.extend(services_behind(&trace));
    }
    let found: Vec<(i32, &String)> = unknown
        .iter()
        .filter_map(|(id, _, name, service)| Some((*id, behind.get(&(service.clone(), name.clone()))?)))
        .collect();
    sqlx::query(
        "UPDATE called SET to_service_id = service.id FROM UNNEST($1::int[], $2::text[]) AS new (id, service) JOIN \
         service ON service.name = new.service \
         WHERE called.id = new.id",
    )
    .bind(found.iter().map(|(id, _)| *id).collect::<Vec<_>>())
    .bind(found.iter().map(|(_, service)| (*service).clone()).collect::<Vec<_>>())
    .execute(&mut *transaction)
    .await?;
    transaction.commit().await?;
    Ok(found.len())
}

/// Some of the traces that hold spans of these services, received before a time, out of a table of hot spans; none where
/// there is no such table.
async fn some_traces(
    connection: &mut PgConnection,
    table: &str,
    services: &[i32],
    until: DateTime<Utc>,
    wanted: i64,
) -> Result<Vec<Uuid>, StoreError> {
    let (pages,): (Option<i64>,) = sqlx::query_as("SELECT pg_relation_size(to_regclass($1)) / 8192")
        .bind(table)
        .fetch_one(&mut *connection)
        .await?;
    let Some(pages) = pages else { return Ok(vec![]) };
    #[expect(clippy::cast_precision_loss, reason = "a share of pages")]
    let percent = (100.0 * PAGES / pages.max(1) as f64).clamp(0.000_1, 100.0);
    let statement = format!(
        "SELECT DISTINCT trace_id FROM (SELECT trace_id FROM {table} TABLESAMPLE SYSTEM ({percent}) WHERE service_id \
         = ANY($1) AND received_at < $2 ORDER BY random() LIMIT $3) t"
    );
    Ok(sqlx::query_scalar(AssertSqlSafe(statement))
        .bind(services)
        .bind(until)
        .bind(wanted)
        .fetch_all(connection)
        .await?)
}

/// For each call whose answering span is there: (caller, name it calls by) and the service that answered.
fn services_behind(trace: &Trace) -> HashMap<(String, String), String> {
    let mut behind = HashMap::new();
    let mut seen: HashSet<usize> = HashSet::new();
    for (place, span) in trace.spans.iter().enumerate() {
        let Some(caller) = trace
            .parent(place)
            .filter(|parent| trace.spans[*parent].service != span.service)
        else {
            continue;
        };
        let call = &trace.spans[caller];
        // A span of no kind that stands between is no call.
        if seen.insert(caller)
            && let Some((_, name)) = names::called(call.kind, &call.name, &call.attributes)
        {
            behind.insert((call.service.to_string(), name), span.service.to_string());
        }
    }
    behind
}
