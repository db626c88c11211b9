//! Traffic by instance group.

use std::collections::BTreeMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::latency::Latency;
use outcrop_core::telemetry::InstanceGroups;
use sqlx::{AssertSqlSafe, FromRow, QueryBuilder};

use crate::boxed;
use crate::database::locks::Lock;
use crate::database::partitions::partition;
use crate::people::settings;
use crate::{Database, Scope, StoreError, from_utc};

/// What was served by one group.
#[derive(Clone, Debug, Default)]
pub struct Served {
    /// Requests.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
    /// Answers by the hundreds of their HTTP status: 1xx to 5xx.
    pub statuses: [i64; 5],
    /// How long they took.
    pub latency: Latency,
}

impl Served {
    /// Adds a stored row.
    fn add(&mut self, requests: i64, failed: i64, statuses: &[i64], sketch: &[u8]) {
        self.requests += requests;
        self.failed += failed;
        self.statuses.iter_mut().zip(statuses).for_each(|(sum, n)| *sum += n);
        self.latency.merge_bytes(sketch);
    }

    /// Adds what another served.
    pub fn merge(&mut self, other: &Self) {
        self.requests += other.requests;
        self.failed += other.failed;
        self.statuses
            .iter_mut()
            .zip(other.statuses)
            .for_each(|(sum, n)| *sum += n);
        self.latency.merge(&other.latency);
    }
}

#[derive(FromRow)]
struct Row {
    group_name: String,
    endpoint: String,
    requests: i64,
    failed: i64,
    statuses: Vec<i64>,
    sketch: Vec<u8>,
}

/// What each group served by endpoint in a scope, which names a service: (group, endpoint).
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn served(
    database: &Database,
    scope: &Scope,
    endpoint: Option<&str>,
) -> Result<BTreeMap<(String, String), Served>, StoreError> {
    let mut sql = QueryBuilder::new(
        "SELECT t.group_name, endpoint.name AS endpoint, t.requests, t.failed, t.statuses, t.sketch FROM group_part t \
         JOIN endpoint ON endpoint.id = t.endpoint_id WHERE t.minute >= date_trunc('minute', ",
    );
    sql.push_bind(scope.from)
        .push("::timestamptz) AND t.minute < ")
        .push_bind(scope.to);
    scope.narrow(&mut sql, "t");
    if let Some(endpoint) = endpoint {
        sql.push(" AND endpoint.name = ").push_bind(endpoint.to_owned());
    }
    let rows: Vec<Row> = sql.build_query_as().fetch_all(&database.pool).await?;
    let mut served: BTreeMap<(String, String), Served> = BTreeMap::new();
    for row in rows {
        let sum = served.entry((row.group_name, row.endpoint)).or_default();
        sum.add(row.requests, row.failed, &row.statuses, &row.sketch);
    }
    Ok(served)
}

/// Which attribute tells the instance groups of each service apart, as people set it.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn attributes(database: &Database) -> Result<InstanceGroups, StoreError> {
    let said = settings::all(database).await?;
    let names: Vec<(i32, String)> = sqlx::query_as("SELECT id, display_name FROM service WHERE id = ANY($1)")
        .bind(said.keys().copied().flatten().collect::<Vec<_>>())
        .fetch_all(&database.pool)
        .await?;
    let of = |id: Option<i32>| said.get(&id).and_then(|setting| setting.instance_group.clone());
    Ok(InstanceGroups {
        for_all: of(None),
        by_service: names
            .into_iter()
            .filter_map(|(id, name)| Some((name, of(Some(id))?)))
            .collect(),
    })
}

type Key = (DateTime<Utc>, i32, i32, i32, i32, String);

#[derive(FromRow)]
struct Part {
    minute: DateTime<Utc>,
    service_id: i32,
    endpoint_id: i32,
    environment_id: i32,
    version_id: i32,
    group_name: String,
    requests: i64,
    failed: i64,
    statuses: Vec<i64>,
    sketch: Vec<u8>,
}

/// How old a minute is before its rows are put together, and how far back is looked for such.
const RIPE: TimeDelta = TimeDelta::minutes(3);
const LOOKED_BACK: TimeDelta = TimeDelta::minutes(20);

/// Puts the rows of each minute of the last while together. Returns how many rows that saved. Does
/// nothing while another instance is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the rows stay as they are.
#[boxed]
pub async fn compact(database: &Database, now: DateTime<Utc>) -> Result<usize, StoreError> {
    let mut transaction = database.pool.begin().await?;
    let is_ours = Lock::Groups.try_take(&mut transaction).await?;
    if !is_ours {
        return Ok(0);
    }
    let parts: Vec<Part> = sqlx::query_as(
        "DELETE FROM group_part t USING (SELECT minute, service_id, endpoint_id, environment_id, version_id, \
         group_name FROM group_part \
             WHERE minute >= $1 AND minute < $2 GROUP BY 1, 2, 3, 4, 5, 6 HAVING count(*) > 1) many \
         WHERE t.minute >= $1 AND t.minute < $2 AND (t.minute, t.service_id, t.endpoint_id, t.environment_id, \
         t.version_id, t.group_name) = \
             (many.minute, many.service_id, many.endpoint_id, many.environment_id, many.version_id, many.group_name) \
             RETURNING t.*",
    )
    .bind(now - LOOKED_BACK)
    .bind(now - RIPE)
    .fetch_all(&mut *transaction)
    .await?;
    let taken = parts.len();
    let mut sums: BTreeMap<Key, Served> = BTreeMap::new();
    for part in parts {
        let key = (
            part.minute,
            part.service_id,
            part.endpoint_id,
            part.environment_id,
            part.version_id,
            part.group_name,
        );
        sums.entry(key)
            .or_default()
            .add(part.requests, part.failed, &part.statuses, &part.sketch);
    }
    let left = sums.len();
    write(&mut transaction, sums).await?;
    transaction.commit().await?;
    Ok(taken - left)
}

/// Appends what groups served.
pub(crate) async fn write(connection: &mut sqlx::PgConnection, sums: BTreeMap<Key, Served>) -> Result<(), StoreError> {
    let mut days: BTreeMap<i64, Vec<(Key, Served)>> = BTreeMap::new();
    for (key, served) in sums {
        days.entry(from_utc(key.0).day()).or_default().push((key, served));
    }
    for (day, sums) in days {
        let statement = format!(
            "INSERT INTO {} (minute, service_id, endpoint_id, environment_id, version_id, group_name, requests, \
             failed, statuses, sketch) \
             SELECT a, b, c, d, e, f, g, h, string_to_array(i, ' ')::bigint[], j FROM UNNEST($1::timestamptz[], \
             $2::int[], $3::int[], $4::int[], $5::int[], $6::text[], \
                 $7::bigint[], $8::bigint[], $9::text[], $10::bytea[]) AS new (a, b, c, d, e, f, g, h, i, j)",
            partition("group_part", day)
        );
        sqlx::query(AssertSqlSafe(statement))
            .bind(sums.iter().map(|(key, _)| key.0).collect::<Vec<_>>())
            .bind(sums.iter().map(|(key, _)| key.1).collect::<Vec<_>>())
            .bind(sums.iter().map(|(key, _)| key.2).collect::<Vec<_>>())
            .bind(sums.iter().map(|(key, _)| key.3).collect::<Vec<_>>())
            .bind(sums.iter().map(|(key, _)| key.4).collect::<Vec<_>>())
            .bind(sums.iter().map(|(key, _)| key.5.clone()).collect::<Vec<_>>())
            .bind(sums.iter().map(|(_, served)| served.requests).collect::<Vec<_>>())
            .bind(sums.iter().map(|(_, served)| served.failed).collect::<Vec<_>>())
            .bind(
                sums.iter()
                    .map(|(_, served)| served.statuses.map(|n| n.to_string()).join(" "))
                    .collect::<Vec<_>>(),
            )
            .bind(
                sums.iter()
                    .map(|(_, served)| served.latency.to_bytes())
                    .collect::<Vec<_>>(),
            )
            .execute(&mut *connection)
            .await?;
    }
    Ok(())
}
