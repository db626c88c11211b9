//! Whom and what an error hits: sets of users, endpoints and instances by the hour, folded from the
//! occurrences by a job.
//!
//! The writer notes each touched minute in the transaction that stores its occurrences; the job takes the notes and
//! writes what it folded in one transaction. Sets may be merged twice, so late data and restarts are harmless.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::Distinct;
use sqlx::{FromRow, PgConnection};

use crate::boxed;
use crate::database::locks::Lock;
use crate::{Database, StoreError};

/// Minutes folded per transaction: a fraction of a second's work.
const CHUNK: i64 = 500;

#[derive(FromRow)]
struct Touched {
    cause_id: i64,
    environment_id: i32,
    minute: DateTime<Utc>,
    recount: bool,
}

#[derive(FromRow)]
struct Found {
    cause_id: i64,
    environment_id: i32,
    version_id: i32,
    hour: DateTime<Utc>,
    users: Vec<i64>,
    endpoints: Vec<i32>,
    instances: Vec<i32>,
}

type Key = (i64, DateTime<Utc>, i32, i32);

/// A stored row: its key, users, endpoints and instances.
type Stored = (i64, DateTime<Utc>, i32, i32, Vec<u8>, Vec<i32>, Vec<i32>);

/// Instances told apart per row: past this an error is everywhere.
const MAX_INSTANCES: usize = 64;

#[derive(Default)]
struct Reach {
    users: Distinct,
    endpoints: BTreeSet<i32>,
    instances: BTreeSet<i32>,
}

impl Reach {
    fn add(&mut self, users: &[u8], endpoints: Vec<i32>, instances: Vec<i32>) {
        self.users.merge(&Distinct::from_bytes(users).unwrap_or_default());
        self.endpoints.extend(endpoints);
        self.instances.extend(instances);
    }
}

/// Folds one chunk of touched minutes. Returns whether more may be waiting. Does nothing while
/// another instance is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the minutes then wait for the next call.
#[boxed]
pub async fn fold(database: &Database) -> Result<bool, StoreError> {
    let mut transaction = database.pool.begin().await?;
    let is_ours = Lock::Reach.try_take(&mut transaction).await?;
    if !is_ours {
        return Ok(false);
    }
    let touched: Vec<Touched> = sqlx::query_as(include_str!("../../queries/reach/take.sql"))
        .bind(CHUNK)
        .fetch_all(&mut *transaction)
        .await?;
    if touched.is_empty() {
        return Ok(false);
    }
    let mut folded = read(&mut transaction, &touched).await?;
    merge_known(&mut transaction, &touched, &mut folded).await?;
    let days: BTreeSet<_> = touched.iter().map(|row| (row.cause_id, midnight(row.minute))).collect();
    write(&mut transaction, WRITE_HOUR, folded).await?;
    let folded = merge_hours(&mut transaction, days).await?;
    write(&mut transaction, WRITE_DAY, folded).await?;
    // What lists show of their errors is to be counted anew: crate::board.
    sqlx::query(
        "INSERT INTO error_stale (error_id) SELECT DISTINCT error_id FROM cause WHERE id = ANY($1) ORDER BY 1 ON \
         CONFLICT DO NOTHING",
    )
    .bind(touched.iter().map(|row| row.cause_id).collect::<Vec<_>>())
    .execute(&mut *transaction)
    .await?;
    transaction.commit().await?;
    Ok(i64::try_from(touched.len()).is_ok_and(|taken| taken == CHUNK))
}

fn hour(at: DateTime<Utc>) -> DateTime<Utc> {
    at.duration_trunc(TimeDelta::hours(1)).unwrap_or(at)
}

fn midnight(at: DateTime<Utc>) -> DateTime<Utc> {
    at.duration_trunc(TimeDelta::days(1)).unwrap_or(at)
}

/// Hours to be counted anew as a whole.
fn recounted(touched: &[Touched]) -> BTreeSet<(i64, i32, DateTime<Utc>)> {
    touched
        .iter()
        .filter(|row| row.recount)
        .map(|row| (row.cause_id, row.environment_id, hour(row.minute)))
        .collect()
}

async fn read(connection: &mut PgConnection, touched: &[Touched]) -> Result<BTreeMap<Key, Reach>, StoreError> {
    let whole = recounted(touched);
    let minutes = touched
        .iter()
        .filter(|row| !whole.contains(&(row.cause_id, row.environment_id, hour(row.minute))))
        .map(|row| (row.cause_id, row.environment_id, row.minute, TimeDelta::minutes(1)));
    let hours = whole
        .iter()
        .map(|(cause, environment, hour)| (*cause, *environment, *hour, TimeDelta::hours(1)));
    let spans: Vec<_> = minutes.chain(hours).collect();
    let found: Vec<Found> = sqlx::query_as(include_str!("../../queries/reach/of_spans.sql"))
        .bind(spans.iter().map(|span| span.0).collect::<Vec<_>>())
        .bind(spans.iter().map(|span| span.1).collect::<Vec<_>>())
        .bind(spans.iter().map(|span| span.2).collect::<Vec<_>>())
        .bind(spans.iter().map(|span| span.2 + span.3).collect::<Vec<_>>())
        .fetch_all(connection)
        .await?;
    let mut folded: BTreeMap<Key, Reach> = BTreeMap::new();
    for row in found {
        let reach = folded
            .entry((row.cause_id, row.hour, row.environment_id, row.version_id))
            .or_default();
        row.users.iter().for_each(|user| reach.users.insert(unsigned(*user)));
        reach.endpoints.extend(row.endpoints);
        reach.instances.extend(row.instances);
    }
    Ok(folded)
}

pub(crate) const fn unsigned(hash: i64) -> u64 {
    u64::from_ne_bytes(hash.to_ne_bytes())
}

/// Adds what was folded before, save for hours counted anew: their rows go, and their days', which are merged again.
async fn merge_known(
    connection: &mut PgConnection,
    touched: &[Touched],
    folded: &mut BTreeMap<Key, Reach>,
) -> Result<(), StoreError> {
    let whole: Vec<_> = recounted(touched).into_iter().collect();
    if !whole.is_empty() {
        sqlx::query(
            "WITH gone AS (SELECT * FROM UNNEST($1::bigint[], $2::int[], $3::timestamptz[]) AS gone (cause_id, \
             environment_id, hour)), \
             days AS (DELETE FROM reach_day USING gone WHERE reach_day.cause_id = gone.cause_id AND \
             reach_day.environment_id = gone.environment_id \
                 AND reach_day.day = date_trunc('day', gone.hour, 'UTC')) \
             DELETE FROM reach_hour USING gone \
             WHERE reach_hour.cause_id = gone.cause_id AND reach_hour.environment_id = gone.environment_id AND \
             reach_hour.hour = gone.hour",
        )
        .bind(whole.iter().map(|key| key.0).collect::<Vec<_>>())
        .bind(whole.iter().map(|key| key.1).collect::<Vec<_>>())
        .bind(whole.iter().map(|key| key.2).collect::<Vec<_>>())
        .execute(&mut *connection)
        .await?;
    }
    let known: Vec<Stored> = sqlx::query_as(
        "SELECT cause_id, hour, environment_id, version_id, users, endpoints, instances FROM reach_hour \
         JOIN UNNEST($1::bigint[], $2::timestamptz[], $3::int[], $4::int[]) AS key (cause_id, hour, environment_id, \
         version_id) \
             USING (cause_id, hour, environment_id, version_id)",
    )
    .bind(folded.keys().map(|key| key.0).collect::<Vec<_>>())
    .bind(folded.keys().map(|key| key.1).collect::<Vec<_>>())
    .bind(folded.keys().map(|key| key.2).collect::<Vec<_>>())
    .bind(folded.keys().map(|key| key.3).collect::<Vec<_>>())
    .fetch_all(connection)
    .await?;
    for (cause, hour, environment, version, users, endpoints, instances) in known {
        folded
            .entry((cause, hour, environment, version))
            .or_default()
            .add(&users, endpoints, instances);
    }
    Ok(())
}

/// The days of causes, merged from their hours.
async fn merge_hours(
    connection: &mut PgConnection,
    days: BTreeSet<(i64, DateTime<Utc>)>,
) -> Result<BTreeMap<Key, Reach>, StoreError> {
    let hours: Vec<Stored> = sqlx::query_as(
        "SELECT cause_id, day, environment_id, version_id, users, endpoints, instances FROM UNNEST($1::bigint[], \
         $2::timestamptz[]) AS of (cause_id, day) \
         JOIN reach_hour USING (cause_id) WHERE hour >= day AND hour < day + interval '24 hours'",
    )
    .bind(days.iter().map(|(cause, _)| *cause).collect::<Vec<_>>())
    .bind(days.iter().map(|(_, day)| *day).collect::<Vec<_>>())
    .fetch_all(connection)
    .await?;
    let mut merged: BTreeMap<Key, Reach> = BTreeMap::new();
    for (cause, day, environment, version, users, endpoints, instances) in hours {
        merged
            .entry((cause, day, environment, version))
            .or_default()
            .add(&users, endpoints, instances);
    }
    Ok(merged)
}

const WRITE_HOUR: &str = "INSERT INTO reach_hour (cause_id, hour, environment_id, version_id, users, endpoints, \
    instances) \
     SELECT cause, at, environment, version, users, endpoints::int[], instances::int[] \
     FROM UNNEST($1::bigint[], $2::timestamptz[], $3::int[], $4::int[], $5::bytea[], $6::text[], $7::text[]) \
         AS new (cause, at, environment, version, users, endpoints, instances) ORDER BY 1, 2, 3, 4 \
     ON CONFLICT (cause_id, hour, environment_id, version_id) DO UPDATE SET users = excluded.users, endpoints = \
     excluded.endpoints, instances = excluded.instances";
const WRITE_DAY: &str = "INSERT INTO reach_day (cause_id, day, environment_id, version_id, users, endpoints, \
    instances) \
     SELECT cause, at, environment, version, users, endpoints::int[], instances::int[] \
     FROM UNNEST($1::bigint[], $2::timestamptz[], $3::int[], $4::int[], $5::bytea[], $6::text[], $7::text[]) \
         AS new (cause, at, environment, version, users, endpoints, instances) ORDER BY 1, 2, 3, 4 \
     ON CONFLICT (cause_id, day, environment_id, version_id) DO UPDATE SET users = excluded.users, endpoints = \
     excluded.endpoints, instances = excluded.instances";

async fn write(
    connection: &mut PgConnection,
    statement: &'static str,
    folded: BTreeMap<Key, Reach>,
) -> Result<(), StoreError> {
    if folded.is_empty() {
        return Ok(());
    }
    // A list of lists of different lengths goes as text: an array of arrays must be a rectangle.
    let list = |numbers: &mut dyn Iterator<Item = &i32>| {
        let numbers: Vec<String> = numbers.map(ToString::to_string).collect();
        format!("{{{}}}", numbers.join(","))
    };
    sqlx::query(statement)
        .bind(folded.keys().map(|key| key.0).collect::<Vec<_>>())
        .bind(folded.keys().map(|key| key.1).collect::<Vec<_>>())
        .bind(folded.keys().map(|key| key.2).collect::<Vec<_>>())
        .bind(folded.keys().map(|key| key.3).collect::<Vec<_>>())
        .bind(folded.values().map(|reach| reach.users.to_bytes()).collect::<Vec<_>>())
        .bind(
            folded
                .values()
                .map(|reach| list(&mut reach.endpoints.iter()))
                .collect::<Vec<_>>(),
        )
        .bind(
            folded
                .values()
                .map(|reach| list(&mut reach.instances.iter().take(MAX_INSTANCES)))
                .collect::<Vec<_>>(),
        )
        .execute(connection)
        .await?;
    Ok(())
}
