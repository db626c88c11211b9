//! What speaks for and against deploys, read for many at once: a list of deploys costs a constant number of statements.

use std::collections::BTreeMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::deploy::{Scatter, Side};
use sqlx::{AssertSqlSafe, FromRow};

use crate::comparison::{BEFORE, Compared};
use crate::deploys::{Deploy, FLAG_COLUMNS, FLAG_TABLES, Flag};
use crate::ids::uuid;
use crate::{Database, StoreError, causes};

/// A deploy and the times that are compared.
#[derive(Clone, Copy, Debug)]
pub struct Asked<'a> {
    /// The deploy.
    pub deploy: &'a Deploy,
    /// Where the time before it begins.
    pub before_from: DateTime<Utc>,
    /// The end of the time after it, excluded.
    pub until: DateTime<Utc>,
    /// The end of the time over which its endpoints are compared, excluded.
    pub compared_until: DateTime<Utc>,
}

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

/// The deploys asked for as columns `n`, `service`, `environment`, `version`, `at`, `before_from`,
/// `until`, `compared_until`.
const ASKED: &str = "WITH asked AS (SELECT * FROM UNNEST($1::int[], $2::int[], $3::text[], $4::timestamptz[], \
    $5::timestamptz[], $6::timestamptz[], $7::timestamptz[]) \
     WITH ORDINALITY AS asked (service, environment, version, at, before_from, until, compared_until, n)) ";

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

fn side(facts: &mut Facts, endpoint: String, is_deployed: bool) -> &mut Side {
    let compared = facts.endpoints.entry(endpoint).or_default();
    if is_deployed {
        &mut compared.after
    } else {
        &mut compared.before
    }
}

fn bound<'q, O>(
    query: sqlx::query::QueryAs<'q, sqlx::Postgres, O, sqlx::postgres::PgArguments>,
    asked: &[Asked<'_>],
) -> sqlx::query::QueryAs<'q, sqlx::Postgres, O, sqlx::postgres::PgArguments> {
    query
        .bind(asked.iter().map(|one| one.deploy.service_id).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.deploy.environment_id).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.deploy.version.clone()).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.deploy.at).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.before_from).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.until).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.compared_until).collect::<Vec<_>>())
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

/// Requests of one deploy's service in its environment: at one endpoint, or at all.
#[derive(FromRow)]
struct CountRow {
    n: i64,
    /// `None` for all together.
    endpoint: Option<String>,
    /// In the day before, of all versions.
    requests_day: i64,
    failed_day: i64,
    /// That day in blocks of ten minutes: how many had requests, their failures squared by
    /// requests, the worst one's share.
    blocks: i64,
    squares: f64,
    worst: f64,
    /// Since, of its version, as long as endpoints are compared.
    requests_compared: i64,
    failed_compared: i64,
    /// In the same time, of other versions.
    requests_beside: i64,
    failed_beside: i64,
    /// Just before the deploy, of all versions.
    requests_before: i64,
    failed_before: i64,
    /// Since the deploy, of its version.
    requests_since: i64,
    failed_since: i64,
}

impl CountRow {
    fn compared(&self) -> Compared {
        let scatter = Scatter {
            blocks: self.blocks.unsigned_abs(),
            squares: self.squares,
            worst: self.worst,
        };
        let side = |requests: i64, failed: i64| Side {
            requests: requests.unsigned_abs(),
            failed: failed.unsigned_abs(),
            ..Side::default()
        };
        Compared {
            before: Side {
                scatter,
                ..side(self.requests_day, self.failed_day)
            },
            after: side(self.requests_compared, self.failed_compared),
            beside: (self.requests_beside.unsigned_abs(), self.failed_beside.unsigned_abs()),
        }
    }
}

/// Counts the requests of each deploy's service around it. All are read in one pass over the
/// minutes, which the bounds `$8` and `$9` keep to the partitions that any of them needs.
async fn counts(database: &Database, asked: &[Asked<'_>]) -> Result<Vec<CountRow>, StoreError> {
    let own = "version.label = asked.version";
    let (is_before, is_after) = (
        "t.minute < date_trunc('minute', asked.at)",
        "t.minute >= date_trunc('minute', asked.at)",
    );
    let parts = [
        ("day", is_before.to_owned()),
        (
            "compared",
            format!("{own} AND {is_after} AND t.minute < asked.compared_until"),
        ),
        (
            "beside",
            format!("NOT {own} AND {is_after} AND t.minute < asked.compared_until"),
        ),
        (
            "before",
            "t.minute >= date_trunc('minute', asked.before_from) AND t.minute < asked.at".to_owned(),
        ),
        ("since", format!("{own} AND {is_after} AND t.minute < asked.until")),
    ];
    let each = |make: &dyn Fn(&str, &str, &str) -> String| {
        let of_part =
            |(name, filter): &(&str, String)| ["requests", "failed"].map(|of| make(of, name, filter)).join(", ");
        parts.iter().map(of_part).collect::<Vec<_>>().join(", ")
    };
    let of_block =
        each(&|of, name, filter| format!("coalesce(sum(t.{of}) FILTER (WHERE {filter}), 0)::bigint AS {of}_{name}"));
    let of_sum = each(&|of, name, _| format!("sum({of}_{name})::bigint AS {of}_{name}"));
    let scatter = "count(*) FILTER (WHERE requests_day > 0) AS blocks, \
         coalesce(sum(failed_day::float8 ^ 2 / nullif(requests_day, 0)), 0) AS squares, \
         coalesce(max(failed_day::float8 / nullif(requests_day, 0)), 0) AS worst";
    let statement = format!(
        "{ASKED}, block AS MATERIALIZED (SELECT asked.n, t.endpoint_id, date_bin('10 minutes', t.minute, 'epoch') AS \
         at, {of_block} FROM asked \
             JOIN traffic_minute t ON t.service_id = asked.service AND t.environment_id = asked.environment AND \
             t.minute >= $8 AND t.minute < $9 \
                 AND t.minute >= asked.at - $10 AND t.minute < greatest(asked.until, asked.compared_until) \
             JOIN version ON version.id = t.version_id GROUP BY 1, 2, 3), \
         whole AS (SELECT n, at, {of_sum} FROM block GROUP BY 1, 2) \
         SELECT n, endpoint.name AS endpoint, {scatter}, {of_sum} FROM block JOIN endpoint ON endpoint.id = \
         block.endpoint_id GROUP BY 1, 2 \
         UNION ALL SELECT n, NULL, {scatter}, {of_sum} FROM whole GROUP BY 1"
    );
    let (from, to) = around(asked);
    Ok(bound(sqlx::query_as(AssertSqlSafe(statement)), asked)
        .bind(from)
        .bind(to)
        .bind(BEFORE)
        .fetch_all(&database.pool)
        .await?)
}

/// How long requests of each deploy's endpoints took, by the hour: deploy, endpoint, whether of the
/// deployed version, sketch.
async fn latencies(database: &Database, asked: &[Asked<'_>]) -> Result<Vec<(i64, String, bool, Vec<u8>)>, StoreError> {
    let part = "SELECT hour, service_id, endpoint_id, environment_id, version_id, sketch FROM";
    let statement = format!(
        "{ASKED} SELECT asked.n, endpoint.name, version.label = asked.version AND t.hour >= date_trunc('hour', \
         asked.at), t.sketch FROM asked \
         JOIN ({part} latency_hour WHERE hour >= date_trunc('hour', $8::timestamptz) AND hour < $9 \
             UNION ALL {part} latency_part WHERE hour >= date_trunc('hour', $8::timestamptz) AND hour < $9) t \
             ON t.service_id = asked.service AND t.environment_id = asked.environment AND t.hour >= asked.at - $10 \
             AND t.hour < asked.compared_until \
         JOIN version ON version.id = t.version_id JOIN endpoint ON endpoint.id = t.endpoint_id \
         WHERE version.label = asked.version AND t.hour >= date_trunc('hour', asked.at) OR version.label <> \
         asked.version AND t.hour <= asked.at \
             OR t.hour < date_trunc('hour', asked.at)"
    );
    let (from, to) = around(asked);
    Ok(bound(sqlx::query_as(AssertSqlSafe(statement)), asked)
        .bind(from)
        .bind(to)
        .bind(BEFORE)
        .fetch_all(&database.pool)
        .await?)
}

/// The window that holds what is read of all deploys asked for.
fn around(asked: &[Asked<'_>]) -> (DateTime<Utc>, DateTime<Utc>) {
    let from = asked.iter().map(|one| one.deploy.at - BEFORE).min().unwrap_or_default();
    (
        from,
        asked
            .iter()
            .map(|one| one.until.max(one.compared_until))
            .max()
            .unwrap_or_default(),
    )
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
pub async fn known_since(
    database: &Database,
    service: &str,
    environment: Option<&str>,
) -> Result<Option<DateTime<Utc>>, StoreError> {
    let Some(service) = crate::service_names::named(database, service).await? else {
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
pub async fn runs_beside(
    database: &Database,
    (service, environment, version): (&str, &str, &str),
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let Some(service) = crate::service_names::named(database, service).await? else {
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

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;
    use crate::deploys::{list, record};
    use crate::testing::{
        announced, database, failing, now, of, resource, resource_of, span, spans, store, trace, writer,
    };

    /// Facts of all deploys in the order of their times, asked for together; asked for alone each must have the same.
    async fn facts(database: &Database) -> Vec<Facts> {
        let until = Utc::now() + TimeDelta::minutes(1);
        let mut deploys = list(database, (None, None), (until - TimeDelta::days(2), until), 50)
            .await
            .unwrap();
        deploys.reverse();
        let asked: Vec<Asked<'_>> = deploys
            .iter()
            .map(|deploy| Asked {
                deploy,
                before_from: deploy.at - TimeDelta::minutes(30),
                until,
                compared_until: until,
            })
            .collect();
        let together = read(database, &asked).await.unwrap();
        for (one, expected) in asked.iter().zip(&together) {
            assert_eq!(
                format!("{:?}", read(database, &[*one]).await.unwrap()),
                format!("{:?}", [expected])
            );
        }
        together
    }

    #[tokio::test]
    async fn each_deploy_has_its_own_requests_flags_and_endpoints() {
        let database = database().await;
        let start = Utc::now() - TimeDelta::minutes(10);
        record(&database, &announced("2.3.9", start - TimeDelta::minutes(50)))
            .await
            .unwrap();
        record(&database, &announced("2.4.0", start)).await.unwrap();
        let old = resource_of(&[
            ("service.name", "fares"),
            ("service.version", "2.3.9"),
            ("deployment.environment.name", "production"),
        ]);
        let before = crate::from_utc(start - TimeDelta::minutes(5));
        let requests = (1..=20).map(|n| {
            if n % 4 == 0 {
                failing(trace(n), n, None, now(), "no tariff")
            } else {
                span(trace(n), n, None, now())
            }
        });
        let batch = [
            spans(
                vec![of(
                    old,
                    vec![
                        span(trace(90), 90, None, before),
                        failing(trace(91), 91, None, before, "no ramp"),
                    ],
                )],
                now(),
            ),
            spans(vec![of(resource("fares"), requests.collect())], now()),
        ];
        store(&writer(&database), &batch).await;
        let number = async |statement: &'static str| {
            sqlx::query_scalar::<_, i32>(statement)
                .fetch_one(&database.pool)
                .await
                .unwrap()
        };
        let error = number("SELECT id FROM error_group WHERE title LIKE '%no tariff%'").await;
        for (since, withdrawn) in [(1, false), (2, true), (200, false)] {
            sqlx::query(
                "INSERT INTO flag (error_id, service_id, environment_id, kind, version, by_deploy, since, said_at, \
                 count, expected, evidence, withdrawn_at) \
                 SELECT $1, service_id, (SELECT id FROM environment), 'surging', '2.4.0', true, $2, $2, 5, 1, 9, CASE \
                 WHEN $3 THEN now() END FROM error_group WHERE id = $1",
            )
            .bind(error)
            .bind(start + TimeDelta::minutes(since))
            .bind(withdrawn)
            .execute(&database.pool)
            .await
            .unwrap();
        }
        let facts = facts(&database).await;
        let [old, new] = facts.as_slice() else {
            panic!("two deploys: {facts:?}")
        };
        assert_eq!((old.before, old.after), ((0, 0), (2, 1)));
        assert_eq!((new.before, new.after), ((2, 1), (20, 5)));
        assert_eq!(
            new.flags
                .iter()
                .map(|flag| flag.withdrawn_at.is_some())
                .collect::<Vec<_>>(),
            [false, true],
            "none of a time to come"
        );
        assert!(old.flags.is_empty(), "flags go by their version");
        assert_eq!(
            (
                new.whole.before.requests,
                new.whole.after.requests,
                new.whole.before.scatter.blocks
            ),
            (2, 20, 1)
        );
        assert!(new.known_since.is_some_and(|since| since < start));
        let first: Vec<_> = new
            .first_seen
            .iter()
            .map(|error| (error.error_id, error.count))
            .collect();
        assert_eq!(first, [(error, 5)], "the older version's error was seen before");
        let compared: Vec<_> = new
            .endpoints
            .values()
            .map(|both| (both.before.requests, both.after.requests, both.after.failed))
            .collect();
        assert_eq!(compared, [(2, 20, 5)]);
        assert!(
            new.endpoints
                .values()
                .all(|both| both.after.latency.quantile(0.5).is_some())
        );
    }

    #[tokio::test]
    async fn failures_under_the_other_error_since_a_deploy_are_told_of_it_alone() {
        let database = database().await;
        record(&database, &announced("2.4.0", Utc::now() - TimeDelta::minutes(10)))
            .await
            .unwrap();
        record(&database, &announced("2.4.1", Utc::now() + TimeDelta::seconds(30)))
            .await
            .unwrap();
        let send = async |number: u64, message: &str| {
            let batch = [spans(
                vec![of(
                    resource("fares"),
                    vec![failing(trace(number), number, None, now(), message)],
                )],
                now(),
            )];
            store(&writer(&database), &batch).await;
        };
        send(1, "no tariff").await;
        assert!(facts(&database).await.iter().all(|facts| !facts.has_untold));
        sqlx::query(
            "INSERT INTO error_group (service_id, title, type) SELECT min(id), 'fault', '' FROM service, \
            generate_series(1, $1) GROUP BY generate_series",
        )
        .bind(i32::try_from(causes::MAX_ERRORS).unwrap())
        .execute(&database.pool)
        .await
        .unwrap();
        send(2, "the ramp is up").await;
        let told: Vec<bool> = facts(&database).await.iter().map(|facts| facts.has_untold).collect();
        assert_eq!(told, [true, false], "what was before a deploy says nothing of it");
    }
}
