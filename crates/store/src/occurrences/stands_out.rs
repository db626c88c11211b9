//! Reading what stands out: values of an error's occurrences beside those of sampled requests.

use outcrop_core::Reference;
use outcrop_core::stands_out::{Finding, Tally, regular_gap, stands_out};
use sqlx::{FromRow, QueryBuilder};

use crate::asking::newest;
use crate::boxed;
use crate::{Database, Scope, StoreError};

/// What an error's occurrences have in common.
#[derive(Clone, Debug, Default)]
pub struct Common {
    /// Occurrences looked at: the newest 5,000 of the scope.
    pub occurrences: u64,
    /// Sampled requests compared with.
    pub requests: u64,
    /// What stands out, the strongest first.
    pub findings: Vec<Finding>,
    /// The regular gap between bursts, in minutes, where there is one.
    pub every_minutes: Option<i64>,
    /// The most frequent values per attribute, and how many different ones there are.
    pub values: Vec<Attribute>,
}

/// The values of one attribute.
#[derive(Clone, Debug)]
pub struct Attribute {
    /// Its name.
    pub name: String,
    /// Different values.
    pub kinds: i64,
    /// The most frequent, with their numbers.
    pub top: Vec<(String, i64)>,
}

#[derive(FromRow)]
struct Counted {
    name: String,
    value: String,
    n: i64,
    kinds: i64,
}

#[derive(FromRow)]
struct Usual {
    name: String,
    value: String,
    weight: f64,
    whole: f64,
    worth: f64,
    rows: i64,
    is_sent: bool,
}

/// Attributes that tell how a request ended, not what it was: they stand out of every failure.
const OUTCOMES: &[&str] = &[
    "http.response.status_code",
    "http.status_code",
    "http.status_text",
    "error.type",
    "error.message",
    "rpc.grpc.status_code",
    "otel.status_code",
    outcrop_core::telemetry::facts::FAILED,
    "http.response.body.size",
    "http.response_content_length",
    "log.body",
    "thread.id",
    "thread.name",
    // Said by the fields `version` and `environment`.
    "service.version",
    "deployment.environment.name",
    "deployment.environment",
];

/// Finds what stands out of an error's occurrences in a scope.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn of_error(database: &Database, error: Reference, scope: &Scope) -> Result<Common, StoreError> {
    let mut sql = QueryBuilder::new(
        "WITH seen AS MATERIALIZED (SELECT o.*, ('x' || substr(replace(o.id::text, '-', ''), 1, 12))::bit(48)::bigint \
         AS millis FROM occurrence o WHERE ",
    );
    newest(&mut sql, database, error, scope).await?;
    sql.push(include_str!("../../queries/occurrences/values_of_error.sql"));
    let counted: Vec<Counted> = sql.build_query_as().fetch_all(&database.pool).await?;

    let mut sql = QueryBuilder::new("WITH seen AS MATERIALIZED (SELECT o.id, o.service_id FROM occurrence o WHERE ");
    newest(&mut sql, database, error, scope).await?;
    sql.push(") SELECT ('x' || substr(replace(id::text, '-', ''), 1, 12))::bit(48)::bigint, service_id FROM seen");
    let times: Vec<(i64, i32)> = sql.build_query_as().fetch_all(&database.pool).await?;
    let Some((_, service)) = times.first() else {
        return Ok(Common::default());
    };
    let total = times.len() as u64;
    let (first, last) = times.iter().fold((i64::MAX, i64::MIN), |(first, last), (at, _)| {
        (first.min(*at), last.max(*at))
    });
    let span_hours = (last - first) / 3_600_000;

    let asked: Vec<&Counted> = counted
        .iter()
        .filter(|row| !OUTCOMES.contains(&row.name.as_str()))
        .collect();
    let usual: Vec<Usual> = sqlx::query_as(include_str!("../../queries/occurrences/usual_values.sql"))
        .bind(service)
        .bind(scope.from)
        .bind(scope.to)
        .bind(&scope.environment)
        .bind(asked.iter().map(|row| row.name.clone()).collect::<Vec<_>>())
        .bind(asked.iter().map(|row| row.value.clone()).collect::<Vec<_>>())
        .fetch_all(&database.pool)
        .await?;
    let (worth, requests) = usual.first().map_or((0.0, 0), |row| (row.worth, row.rows));
    // What requests never carry cannot be compared: a log record's own attributes, say.
    let tallies: Vec<Tally> = usual
        .iter()
        .filter(|row| row.is_sent && row.whole > 0.0 && may_tell(&row.name, span_hours))
        .filter_map(|row| {
            let seen = asked
                .iter()
                .find(|seen| seen.name == row.name && seen.value == row.value)?;
            Some(Tally {
                name: row.name.clone(),
                value: row.value.clone(),
                occurrences: seen.n.unsigned_abs(),
                usual: row.weight / row.whole,
            })
        })
        .collect();
    let mut values: Vec<Attribute> = vec![];
    for row in counted {
        match values.last_mut().filter(|last| last.name == row.name) {
            Some(last) => last.top.push((row.value, row.n)),
            None => values.push(Attribute {
                name: row.name,
                kinds: row.kinds,
                top: vec![(row.value, row.n)],
            }),
        }
    }
    Ok(Common {
        occurrences: total,
        requests: requests.unsigned_abs(),
        findings: stands_out(&tallies, total, worth),
        every_minutes: regular_gap(&times.iter().map(|(at, _)| *at).collect::<Vec<_>>()),
        values,
    })
}

/// A part of the time says something only where the occurrences span it more than twice.
fn may_tell(name: &str, span_hours: i64) -> bool {
    match name {
        "minute of the hour" => span_hours >= 3,
        "hour of the day (UTC)" => span_hours >= 48,
        "weekday (UTC)" => span_hours >= 14 * 24,
        _ => true,
    }
}
