//! Reads what speaks for and against deploys, for many at once.

use std::collections::BTreeMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::deploy::Side;
use sqlx::{AssertSqlSafe, FromRow};

use super::asked::{ASKED, Asked, bound};
use super::counts::{counts, latencies};
use crate::boxed;
use crate::deploys::comparison::Compared;
use crate::flags::{FLAG_COLUMNS, FLAG_TABLES, Flag};
use crate::ids::uuid;
use crate::writing::dictionary::causes;
use crate::{Database, StoreError};

/// What is known of one deploy.
#[derive(Clone, Debug, Default)]
pub struct Facts {
    /// Flags of its version said since it began, those too that were taken back.
    pub flags: Vec<Flag>,
    /// Errors among those flags that follow from an error of another service.
    pub followers: Vec<i32>,
    /// Standing flags of errors that follow from one of its flags' errors: the origin, the flag.
    pub echoes: Vec<(i32, Flag)>,
    /// Whether failures were counted under the service's other error since it began: what is new
    /// among them cannot be told.
    pub has_untold: bool,
    /// Requests before it and failed ones, of all versions.
    pub before: (i64, i64),
    /// Requests since and failed ones, of its version.
    pub after: (i64, i64),
    /// The service's endpoints in its environment: all versions in the day before, the deployed one
    /// since, others beside it.
    pub endpoints: BTreeMap<String, Compared>,
    /// All endpoints together, without latencies.
    pub whole: Compared,
    /// When the service was first seen in the environment.
    pub known_since: Option<DateTime<Utc>>,
    /// Errors first seen in the environment in its version, since it began, most occurrences first; at most 50.
    pub first_seen: Vec<FirstSeen>,
}

/// An error first seen in a deploy's version.
#[derive(Clone, Debug)]
pub struct FirstSeen {
    /// The error's number.
    pub error_id: i32,
    /// Its title.
    pub title: String,
    /// Its occurrences in that version.
    pub count: i64,
    /// Its first occurrence.
    pub first_at: DateTime<Utc>,
}

/// A flag of the n-th deploy or marker asked for, from 1 on; `origin` is the error it follows from.
#[derive(FromRow)]
pub(crate) struct FlagRow {
    pub n: i64,
    pub origin: Option<i32>,
    #[sqlx(flatten)]
    pub flag: Flag,
}

/// Reads the facts of deploys, in their order.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn read(database: &Database, asked: &[Asked<'_>]) -> Result<Vec<Facts>, StoreError> {
    let mut facts = vec![Facts::default(); asked.len()];
    if asked.is_empty() {
        return Ok(facts);
    }
    let (flags, counts, latencies, untold, known, first_seen) = futures_util::try_join!(
        flags_of(database, asked),
        counts(database, asked),
        latencies(database, asked),
        untold(database, asked),
        known(database, asked),
        first_seen(database, asked),
    )?;
    for row in flags {
        at(&mut facts, row.n).flags.push(row.flag);
    }
    for row in counts {
        let facts = at(&mut facts, row.n);
        let compared = row.compared();
        if let Some(endpoint) = row.endpoint {
            facts.endpoints.insert(endpoint, compared);
        } else {
            (facts.before, facts.after) = (
                (row.requests_before, row.failed_before),
                (row.requests_since, row.failed_since),
            );
            facts.whole = compared;
        }
    }
    for (n, since) in known {
        at(&mut facts, n).known_since = since;
    }
    for row in first_seen {
        let error = FirstSeen {
            error_id: row.error_id,
            title: row.title,
            count: row.count,
            first_at: row.first_at,
        };
        at(&mut facts, row.n).first_seen.push(error);
    }
    for (n, endpoint, is_deployed, sketch) in latencies {
        side(at(&mut facts, n), endpoint, is_deployed)
            .latency
            .merge_bytes(&sketch);
    }
    for (n,) in untold {
        at(&mut facts, n).has_untold = true;
    }
    tie(database, asked, &mut facts).await?;
    Ok(facts)
}

/// The facts of the n-th deploy, from 1 on, as the database counts.
fn at(facts: &mut [Facts], n: i64) -> &mut Facts {
    let place = usize::try_from(n - 1).unwrap_or_default();
    &mut facts[place]
}

pub(super) fn side(facts: &mut Facts, endpoint: String, is_deployed: bool) -> &mut Side {
    let compared = facts.endpoints.entry(endpoint).or_default();
    if is_deployed {
        &mut compared.after
    } else {
        &mut compared.before
    }
}

async fn flags_of(database: &Database, asked: &[Asked<'_>]) -> Result<Vec<FlagRow>, StoreError> {
    let statement = format!(
        "{ASKED} SELECT asked.n, NULL::int AS origin, {FLAG_COLUMNS} FROM asked JOIN flag ON flag.service_id = \
         asked.service AND flag.environment_id = asked.environment \
         AND flag.version = asked.version AND flag.said_at >= date_trunc('minute', asked.at) AND flag.said_at < \
         asked.until {FLAG_TABLES} \
         ORDER BY flag.said_at, flag.error_id"
    );
    Ok(bound(sqlx::query_as(AssertSqlSafe(statement)), asked)
        .fetch_all(&database.pool)
        .await?)
}

/// When each deploy's service was first seen in its environment.
async fn known(database: &Database, asked: &[Asked<'_>]) -> Result<Vec<(i64, Option<DateTime<Utc>>)>, StoreError> {
    let statement = format!(
        "{ASKED} SELECT asked.n, min(deployed.first_event_at) FROM asked \
         JOIN deployed ON deployed.service_id = asked.service AND deployed.environment_id = asked.environment GROUP \
         BY 1"
    );
    Ok(bound(sqlx::query_as(AssertSqlSafe(statement)), asked)
        .fetch_all(&database.pool)
        .await?)
}

#[derive(FromRow)]
struct FirstSeenRow {
    n: i64,
    error_id: i32,
    title: String,
    count: i64,
    first_at: DateTime<Utc>,
}

/// Errors whose first occurrence in the environment was of a deploy's version, since it began.
async fn first_seen(database: &Database, asked: &[Asked<'_>]) -> Result<Vec<FirstSeenRow>, StoreError> {
    let statement = format!(
        "{ASKED}, seen AS (SELECT asked.n, cause.error_id, sum(sighted.n) FILTER (WHERE version.label = \
         asked.version)::bigint AS count, \
                 min(sighted.first_at) AS first_at FROM asked \
             JOIN error_group e ON e.service_id = asked.service JOIN cause ON cause.error_id = e.id \
             JOIN sighted ON sighted.cause_id = cause.id AND sighted.environment_id = asked.environment JOIN version \
             ON version.id = sighted.version_id \
             WHERE sighted.n > 0 GROUP BY 1, 2, asked.at HAVING min(sighted.first_at) >= date_trunc('minute', \
             asked.at) \
                 AND (array_agg(version.label = asked.version ORDER BY sighted.first_at))[1]) \
         SELECT seen.n, seen.error_id, e.title, seen.count, seen.first_at FROM seen JOIN error_group e ON e.id = \
         seen.error_id ORDER BY seen.n, seen.count DESC, 2 LIMIT 1000"
    );
    Ok(bound(sqlx::query_as(AssertSqlSafe(statement)), asked)
        .fetch_all(&database.pool)
        .await?)
}

/// The deploys since which failures of their service were counted under its other error.
async fn untold(database: &Database, asked: &[Asked<'_>]) -> Result<Vec<(i64,)>, StoreError> {
    let statement = format!(
        "{ASKED} SELECT n FROM asked WHERE EXISTS (SELECT FROM cause JOIN sighted ON sighted.cause_id = cause.id \
         WHERE cause.service_id = asked.service AND cause.key = $8 AND sighted.environment_id = asked.environment AND \
         sighted.last_at >= asked.at)"
    );
    Ok(bound(sqlx::query_as(AssertSqlSafe(statement)), asked)
        .bind(uuid(causes::other_key()))
        .fetch_all(&database.pool)
        .await?)
}

/// Errors of the standing flags of deploys, and the time in which others may follow from them.
#[derive(Default)]
struct Wanted {
    deploys: Vec<i64>,
    errors: Vec<i32>,
    since: Vec<DateTime<Utc>>,
    until: Vec<DateTime<Utc>>,
}

/// Finds which of the flags' errors follow from others, and the standing flags of errors that follow from them.
async fn tie(database: &Database, asked: &[Asked<'_>], facts: &mut [Facts]) -> Result<(), StoreError> {
    const WANTED: &str = "WITH wanted AS (SELECT DISTINCT * FROM UNNEST($1::bigint[], $2::int[], $3::timestamptz[], \
        $4::timestamptz[]) AS w (n, error, since, until)) ";
    let mut wanted = Wanted::default();
    for ((n, one), facts) in (1..).zip(asked).zip(facts.iter()) {
        for flag in facts.flags.iter().filter(|flag| flag.withdrawn_at.is_none()) {
            wanted.deploys.push(n);
            wanted.errors.push(flag.error_id);
            wanted.since.push(one.deploy.at);
            wanted.until.push(one.until);
        }
    }
    if wanted.deploys.is_empty() {
        return Ok(());
    }
    // A flag bears the beginning of its minute, which may be before the deploy's first telemetry.
    let within = "tie.at >= date_trunc('minute', w.since) AND tie.at < w.until";
    let followers = format!(
        "{WANTED} SELECT DISTINCT w.n, w.error FROM wanted w JOIN cause own ON own.error_id = w.error \
         JOIN occurrence_origin tie ON tie.cause_id = own.id AND {within} JOIN cause ON cause.id = tie.origin_cause_id \
         WHERE cause.error_id <> w.error"
    );
    let echoes = format!(
        "{WANTED}, ties AS (SELECT DISTINCT w.n, w.error AS origin, w.since, w.until, cause.error_id AS echo FROM \
         wanted w JOIN cause own ON own.error_id = w.error \
         JOIN occurrence_origin tie ON tie.origin_cause_id = own.id AND {within} JOIN cause ON cause.id = \
         tie.cause_id WHERE cause.error_id <> w.error) \
         SELECT ties.n, ties.origin, {FLAG_COLUMNS} FROM ties JOIN flag ON flag.error_id = ties.echo AND \
         flag.withdrawn_at IS NULL \
             AND flag.said_at < ties.until AND (flag.said_at >= date_trunc('minute', ties.since) OR flag.kind = \
             'surging' AND flag.ended_at IS NULL) \
             AND (flag.ended_at IS NULL OR flag.ended_at >= ties.since) {FLAG_TABLES} ORDER BY flag.said_at DESC, \
             flag.error_id"
    );
    let followers = async {
        let query = sqlx::query_as::<_, (i64, i32)>(AssertSqlSafe(followers));
        query
            .bind(&wanted.deploys)
            .bind(&wanted.errors)
            .bind(&wanted.since)
            .bind(&wanted.until)
            .fetch_all(&database.pool)
            .await
    };
    let echoes = async {
        let query = sqlx::query_as::<_, FlagRow>(AssertSqlSafe(echoes));
        query
            .bind(&wanted.deploys)
            .bind(&wanted.errors)
            .bind(&wanted.since)
            .bind(&wanted.until)
            .fetch_all(&database.pool)
            .await
    };
    let (followers, echoes) = futures_util::try_join!(followers, echoes)?;
    for (n, error) in followers {
        at(facts, n).followers.push(error);
    }
    for row in echoes {
        at(facts, row.n).echoes.push((row.origin.unwrap_or_default(), row.flag));
    }
    Ok(())
}

/// Since when telemetry of a service is known, in one environment or any.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn known_since(
    database: &Database,
    service: &str,
    environment: Option<&str>,
) -> Result<Option<DateTime<Utc>>, StoreError> {
    let Some(service) = crate::people::service_names::named(database, service).await? else {
        return Ok(None);
    };
    let (since,): (Option<DateTime<Utc>>,) = sqlx::query_as(
        "SELECT min(first_event_at) FROM deployed WHERE service_id = $1 \
         AND ($2::text IS NULL OR environment_id = (SELECT id FROM environment WHERE name = $2))",
    )
    .bind(service.id)
    .bind(environment)
    .fetch_one(&database.pool)
    .await?;
    Ok(since)
}

/// How lately a version must have been heard of to run still.
const RUNS: TimeDelta = TimeDelta::minutes(15);

/// Whether another version of a service runs in the environment beside this one.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn runs_beside(
    database: &Database,
    (service, environment, version): (&str, &str, &str),
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let Some(service) = crate::people::service_names::named(database, service).await? else {
        return Ok(false);
    };
    let (runs,): (bool,) = sqlx::query_as(
        "SELECT count(*) FILTER (WHERE label = $3) > 0 AND count(*) FILTER (WHERE label <> $3) > 0 FROM deployed \
         JOIN version ON version.id = version_id WHERE deployed.service_id = $1 AND last_event_at >= $4 \
         AND environment_id = (SELECT id FROM environment WHERE name = $2)",
    )
    .bind(service.id)
    .bind(environment)
    .bind(version)
    .bind(now - RUNS)
    .fetch_one(&database.pool)
    .await?;
    Ok(runs)
}
