//! Requests, failures and latency of deploys and of what ran before, by endpoint.

use outcrop_core::deploy::{Scatter, Side};
use sqlx::{AssertSqlSafe, FromRow};

use super::asked::{ASKED, Asked, around, bound};
use crate::deploys::comparison::{BEFORE, Compared};
use crate::{Database, StoreError};

/// Requests of one deploy's service in its environment: at one endpoint, or at all.
#[derive(FromRow)]
pub(super) struct CountRow {
    pub(super) n: i64,
    /// `None` for all together.
    pub(super) endpoint: Option<String>,
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
    pub(super) requests_before: i64,
    pub(super) failed_before: i64,
    /// Since the deploy, of its version.
    pub(super) requests_since: i64,
    pub(super) failed_since: i64,
}

impl CountRow {
    pub(super) fn compared(&self) -> Compared {
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

/// Counts the requests of each deploy's service around it, endpoint by endpoint along the minutes'
/// key; the bounds `$8` and `$9` keep it to the partitions that any deploy needs.
pub(super) async fn counts(database: &Database, asked: &[Asked<'_>]) -> Result<Vec<CountRow>, StoreError> {
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
             JOIN endpoint e ON e.service_id = asked.service \
             JOIN traffic_minute t ON t.service_id = e.service_id AND t.endpoint_id = e.id AND t.environment_id = \
             asked.environment AND t.minute >= $8 AND t.minute < $9 \
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
pub(super) async fn latencies(
    database: &Database,
    asked: &[Asked<'_>],
) -> Result<Vec<(i64, String, bool, Vec<u8>)>, StoreError> {
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
