//! Requests and failed ones by minute, hour and day: of each endpoint, and of all of a service together.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use outcrop_core::Timestamp;
use sqlx::{AssertSqlSafe, PgConnection};

use crate::database::partitions::partition;
use crate::writing::work::Work;
use crate::{StoreError, to_utc};

#[derive(Clone, Copy, Default)]
struct Requests {
    all: i64,
    failed: i64,
    statuses: [i64; 5],
}

type TrafficKey = (Timestamp, i32, i32, i32, i32);

/// Adds the requests of a batch.
pub(super) async fn store(connection: &mut PgConnection, work: &Work<'_>) -> Result<(), StoreError> {
    let mut minutes: BTreeMap<TrafficKey, Requests> = BTreeMap::new();
    let mut hours: BTreeMap<TrafficKey, Requests> = BTreeMap::new();
    let mut whole_days: BTreeMap<TrafficKey, Requests> = BTreeMap::new();
    for (sender, endpoint, span) in &work.requests {
        let Some(entry) = &span.entry else { continue };
        for (table, start) in [
            (&mut minutes, entry.at.minute()),
            (&mut hours, entry.at.hour()),
            (&mut whole_days, entry.at.midnight()),
        ] {
            let row = table
                .entry((start, sender.service, *endpoint, sender.environment, sender.version))
                .or_default();
            let weight = i64::from(entry.weight);
            row.all += weight;
            row.failed += if entry.failed { weight } else { 0 };
            if let Some(count) = entry
                .status
                .and_then(|status| row.statuses.get_mut(usize::from(status / 100).saturating_sub(1)))
            {
                *count += weight;
            }
        }
    }
    let mut days: BTreeMap<i64, BTreeMap<TrafficKey, Requests>> = BTreeMap::new();
    for (key, row) in minutes {
        days.entry(key.0.day()).or_default().insert(key, row);
    }
    for (day, rows) in days {
        served(connection, ("minute", &partition("served_minute", day)), &rows).await?;
        let rows: Vec<(TrafficKey, Requests)> = rows.into_iter().collect();
        let statement = format!(
            "INSERT INTO {} AS t (minute, service_id, endpoint_id, environment_id, version_id, requests, failed, \
             statuses) \
             SELECT a, b, c, d, e, requests, failed, string_to_array(statuses, ' ')::bigint[] \
             FROM UNNEST($1::timestamptz[], $2::int[], $3::int[], $4::int[], $5::int[], $6::bigint[], $7::bigint[], \
             $8::text[]) \
                 AS new (a, b, c, d, e, requests, failed, statuses) ORDER BY 1, 2, 3, 4, 5 \
             ON CONFLICT (minute, service_id, endpoint_id, environment_id, version_id) DO UPDATE SET requests = \
             t.requests + excluded.requests, \
                 failed = t.failed + excluded.failed, statuses = ARRAY[t.statuses[1] + excluded.statuses[1], \
                 t.statuses[2] + excluded.statuses[2], \
                 t.statuses[3] + excluded.statuses[3], t.statuses[4] + excluded.statuses[4], t.statuses[5] + \
                 excluded.statuses[5]]",
            partition("traffic_minute", day)
        );
        let statuses: Vec<String> = rows
            .iter()
            .map(|(_, row)| row.statuses.map(|n| n.to_string()).join(" "))
            .collect();
        let query = sqlx::query(AssertSqlSafe(statement));
        bind_traffic(query, &rows)
            .bind(statuses)
            .execute(&mut *connection)
            .await?;
    }
    served(connection, ("hour", "served_hour"), &hours).await?;
    served(connection, ("day", "served_day"), &whole_days).await?;
    for (step, rows) in [("hour", hours), ("day", whole_days)] {
        let rows: Vec<(TrafficKey, Requests)> = rows.into_iter().collect();
        if rows.is_empty() {
            continue;
        }
        let statement = format!(
            "INSERT INTO traffic_{step} AS t ({step}, service_id, endpoint_id, environment_id, version_id, requests, \
             failed) \
             SELECT * FROM UNNEST($1::timestamptz[], $2::int[], $3::int[], $4::int[], $5::int[], $6::bigint[], \
             $7::bigint[]) \
                 AS new (a, b, c, d, e, requests, failed) ORDER BY 1, 2, 3, 4, 5 \
             ON CONFLICT ({step}, service_id, endpoint_id, environment_id, version_id) DO UPDATE SET requests = \
             t.requests + excluded.requests, \
                 failed = t.failed + excluded.failed"
        );
        bind_traffic(sqlx::query(AssertSqlSafe(statement)), &rows)
            .execute(&mut *connection)
            .await?;
    }
    Ok(())
}

/// What lies in whole services is asked of all of them at once: by a table without endpoints, a tenth as long or less.
async fn served(
    connection: &mut PgConnection,
    (step, table): (&str, &str),
    of_endpoints: &BTreeMap<TrafficKey, Requests>,
) -> Result<(), StoreError> {
    let mut sums: BTreeMap<(i32, Timestamp, i32, i32), (i64, i64)> = BTreeMap::new();
    for ((start, service, _, environment, version), row) in of_endpoints {
        let sum = sums.entry((*service, *start, *environment, *version)).or_default();
        *sum = (sum.0 + row.all, sum.1 + row.failed);
    }
    if sums.is_empty() {
        return Ok(());
    }
    let statement = format!(
        "INSERT INTO {table} AS t (service_id, {step}, environment_id, version_id, requests, failed) \
         SELECT * FROM UNNEST($1::int[], $2::timestamptz[], $3::int[], $4::int[], $5::bigint[], $6::bigint[]) \
             AS new (a, b, c, d, requests, failed) ORDER BY 1, 2, 3, 4 \
         ON CONFLICT (service_id, {step}, environment_id, version_id) DO UPDATE SET requests = t.requests + \
         excluded.requests, failed = t.failed + excluded.failed"
    );
    sqlx::query(AssertSqlSafe(statement))
        .bind(sums.keys().map(|key| key.0).collect::<Vec<_>>())
        .bind(sums.keys().map(|key| to_utc(key.1)).collect::<Vec<_>>())
        .bind(sums.keys().map(|key| key.2).collect::<Vec<_>>())
        .bind(sums.keys().map(|key| key.3).collect::<Vec<_>>())
        .bind(sums.values().map(|sum| sum.0).collect::<Vec<_>>())
        .bind(sums.values().map(|sum| sum.1).collect::<Vec<_>>())
        .execute(connection)
        .await?;
    Ok(())
}

type Query<'q> = sqlx::query::Query<'q, sqlx::Postgres, sqlx::postgres::PgArguments>;

fn bind_traffic<'q>(query: Query<'q>, rows: &[(TrafficKey, Requests)]) -> Query<'q> {
    let times: Vec<DateTime<Utc>> = rows.iter().map(|(key, _)| to_utc(key.0)).collect();
    query
        .bind(times)
        .bind(rows.iter().map(|(key, _)| key.1).collect::<Vec<_>>())
        .bind(rows.iter().map(|(key, _)| key.2).collect::<Vec<_>>())
        .bind(rows.iter().map(|(key, _)| key.3).collect::<Vec<_>>())
        .bind(rows.iter().map(|(key, _)| key.4).collect::<Vec<_>>())
        .bind(rows.iter().map(|(_, row)| row.all).collect::<Vec<_>>())
        .bind(rows.iter().map(|(_, row)| row.failed).collect::<Vec<_>>())
}
