//! What comes minute by minute, for thresholds.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use outcrop_core::metric::Together;
use outcrop_core::notice::{Counted, Measured};
use outcrop_core::question::Source;
use sqlx::QueryBuilder;

use crate::asking::{resolve_for, within};
use crate::boxed;
use crate::metrics::{self, Asked};
use crate::{Database, Scope, StoreError};

/// Counts by the minute since 1970 of what a scope's predicate holds for, in its window. Of a share, requests are
/// those of the services that it holds for.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn by_minute(
    database: &Database,
    what: Measured,
    scope: &Scope,
) -> Result<BTreeMap<i64, Counted>, StoreError> {
    let (table, source) = table(what);
    let mut sql = QueryBuilder::new(format!(
        "SELECT date_trunc('minute', id_time(o.id)) AS minute, count(*), array_agg(DISTINCT o.service_id) FROM {table} o \
         WHERE "
    ));
    within(&mut sql, scope);
    if let Some(predicate) = &scope.predicate {
        let condition = resolve_for(database, predicate, scope, source).await?;
        sql.push(" AND ");
        condition.write(&mut sql);
    }
    sql.push(" GROUP BY 1");
    let rows: Vec<(DateTime<Utc>, i64, Vec<i32>)> = sql.build_query_as().fetch_all(&database.pool).await?;
    let mut minutes: BTreeMap<i64, Counted> = BTreeMap::new();
    let mut services: Vec<i32> = vec![];
    for (minute, count, of) in rows {
        minutes.entry(minute.timestamp() / 60).or_default().count = count.unsigned_abs();
        services.extend(of);
    }
    if what == Measured::Share {
        services.sort_unstable();
        services.dedup();
        let rows: Vec<(DateTime<Utc>, i64)> = sqlx::query_as(
            "SELECT minute, sum(requests)::bigint FROM served_minute WHERE minute >= $1 AND minute < $2 AND service_id = \
             ANY($3) AND ($4::text IS NULL OR environment_id IN (SELECT id FROM environment WHERE name = $4)) GROUP BY 1",
        )
        .bind(scope.from)
        .bind(scope.to)
        .bind(services)
        .bind(scope.environment.as_deref())
        .fetch_all(&database.pool)
        .await?;
        for (minute, requests) in rows {
            minutes.entry(minute.timestamp() / 60).or_default().requests = requests.unsigned_abs();
        }
    }
    Ok(minutes)
}

/// What a metric comes to by the minute since 1970, in a scope's window: of increases how much came over all its series,
/// of all else what the series that stands highest stands at.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn metric_by_minute(
    database: &Database,
    name: &str,
    scope: &Scope,
) -> Result<BTreeMap<i64, Counted>, StoreError> {
    let asked = |together| Asked {
        name: name.to_owned(),
        by: None,
        together,
        minutes: 1,
    };
    let Some(usual) = metrics::course(database, &asked(None), scope).await? else {
        return Ok(BTreeMap::new());
    };
    let comes = usual.together == Together::Sum;
    let course = if comes {
        Some(usual)
    } else {
        metrics::course(database, &asked(Some(Together::Most)), scope).await?
    };
    let first = scope.from.timestamp().div_euclid(60);
    let values = course
        .into_iter()
        .flat_map(|course| course.lines)
        .flat_map(|line| line.values);
    let of = |number: f64| Counted {
        number,
        standing: u64::from(!comes),
        ..Counted::default()
    };
    Ok((first..)
        .zip(values)
        .filter_map(|(minute, value)| Some((minute, of(value?))))
        .collect())
}

/// The service that a metric is of: one that only its teams may read, where any is; else the only one. None where it is of
/// several that all may read, or of none.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn service_of_metric(
    database: &Database,
    name: &str,
    service: Option<&str>,
) -> Result<Option<(i32, String)>, StoreError> {
    let rows: Vec<(i32, String, bool)> = sqlx::query_as(
        "SELECT id, display_name, id IN (SELECT service_id FROM limited_service) AS limited FROM service WHERE id IN \
         (SELECT s.service_id FROM metric_series s WHERE s.name = $1) AND ($2::text IS NULL OR id IN (SELECT \
         services_named($2))) ORDER BY limited DESC, display_name",
    )
    .bind(name)
    .bind(service)
    .fetch_all(&database.pool)
    .await?;
    Ok(one_of(rows))
}

/// The first of services, those that only their teams may read first, where it is one of these or the only one.
fn one_of(rows: Vec<(i32, String, bool)>) -> Option<(i32, String)> {
    let is_only = rows.len() == 1;
    let first = rows.into_iter().next();
    first
        .filter(|(_, _, limited)| *limited || is_only)
        .map(|(id, name, _)| (id, name))
}

/// The records that are counted.
fn table(what: Measured) -> (&'static str, Source) {
    if what == Measured::LogLines {
        ("log_record", Source::Lines)
    } else {
        ("occurrence", Source::Occurrences)
    }
}

/// The service that what a scope's predicate holds for is of: one that only its teams may read, where any is; else the
/// only one. None where it is of several that all may read, or of nothing.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn service_of(
    database: &Database,
    what: Measured,
    scope: &Scope,
) -> Result<Option<(i32, String)>, StoreError> {
    let (table, source) = table(what);
    let mut sql = QueryBuilder::new(format!(
        "SELECT id, display_name, id IN (SELECT service_id FROM limited_service) AS limited FROM service WHERE id IN \
         (SELECT o.service_id FROM {table} o WHERE "
    ));
    within(&mut sql, scope);
    if let Some(predicate) = &scope.predicate {
        let condition = resolve_for(database, predicate, scope, source).await?;
        sql.push(" AND ");
        condition.write(&mut sql);
    }
    sql.push(") ORDER BY limited DESC, display_name");
    let rows: Vec<(i32, String, bool)> = sql.build_query_as().fetch_all(&database.pool).await?;
    Ok(one_of(rows))
}

/// The number and the shown name of a service by a name that people write; the first of several.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn named_service(database: &Database, name: &str) -> Result<Option<(i32, String)>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT id, display_name FROM service WHERE id IN (SELECT services_named($1)) ORDER BY display_name LIMIT 1",
    )
    .bind(name)
    .fetch_optional(&database.pool)
    .await?)
}

/// Requests or runs of a service, or of one of its endpoints, between two times.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn runs(
    database: &Database,
    (service, endpoint): (&str, Option<&str>),
    (from, to): (DateTime<Utc>, DateTime<Utc>),
) -> Result<i64, StoreError> {
    Ok(sqlx::query_scalar(
        "SELECT coalesce(sum(requests), 0)::bigint FROM traffic_minute WHERE minute >= date_trunc('minute', \
         $3::timestamptz) AND minute < $4 AND service_id IN (SELECT services_named($1)) AND ($2::text IS NULL OR \
         endpoint_id IN (SELECT id FROM endpoint WHERE name = $2))",
    )
    .bind(service)
    .bind(endpoint)
    .bind(from)
    .bind(to)
    .fetch_one(&database.pool)
    .await?)
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;
    use crate::testing::{database, failing, logged, logs, now, of, resource, span, spans, store, trace, writer};

    #[tokio::test]
    async fn occurrences_requests_and_lines_are_counted_by_the_minute() {
        let database = database().await;
        let minute = now().minute();
        let within = minute.plus_millis(30_000);
        let sent = (1..=4u64).map(|id| match id {
            1..=3 => failing(
                trace(id),
                id,
                None,
                within,
                if id < 3 { "no tariff" } else { "no sailing" },
            ),
            _ => span(trace(id), id, None, within),
        });
        store(
            &writer(&database),
            &[spans(vec![of(resource("fares"), sent.collect())], now())],
        )
        .await;
        let mut line = logged(minute, "");
        line.attributes = crate::testing::attributes(&[]);
        line.severity = 9;
        line.body = crate::testing::text("ice on the ramp");
        store(
            &writer(&database),
            &[logs(vec![of(resource("fares"), vec![line])], now())],
        )
        .await;
        let at = crate::to_utc(minute);
        let scope = |predicate: &str| Scope {
            service: None,
            environment: None,
            version: None,
            from: at - TimeDelta::minutes(5),
            to: at + TimeDelta::minutes(5),
            predicate: Some(std::sync::Arc::new(outcrop_core::query::parse(predicate).unwrap())),
        };
        let counted = async |what, predicate: &str| {
            let counts = by_minute(&database, what, &scope(predicate)).await.unwrap();
            counts
                .into_iter()
                .map(|(minute, counted)| (minute - at.timestamp() / 60, counted.count, counted.requests))
                .collect::<Vec<_>>()
        };
        assert_eq!(
            counted(Measured::Occurrences, "message contains tariff").await,
            [(0, 2, 0)]
        );
        assert_eq!(counted(Measured::Share, "service = fares").await, [(0, 3, 4)]);
        assert_eq!(counted(Measured::LogLines, "message contains ice").await, [(0, 1, 0)]);
        assert_eq!(counted(Measured::Occurrences, "message contains ice").await, []);
        let about = async |predicate: &str| {
            let found = service_of(&database, Measured::Occurrences, &scope(predicate))
                .await
                .unwrap();
            found.map(|(_, service)| service)
        };
        assert_eq!(about("message contains tariff").await.as_deref(), Some("fares"));
        assert_eq!(about("message contains ice").await, None);
        let failure = failing(trace(9), 9, None, within, "no tariff");
        store(
            &writer(&database),
            &[spans(vec![of(resource("ledger"), vec![failure])], now())],
        )
        .await;
        assert_eq!(about("message contains tariff").await, None, "of two");
        crate::people::teams::limit(&database, "ledger", true, ("master", Utc::now()))
            .await
            .unwrap();
        assert_eq!(
            about("message contains tariff").await.as_deref(),
            Some("ledger"),
            "which not all may read"
        );
        let hour = (at - TimeDelta::hours(1), at + TimeDelta::hours(1));
        let of_fares = async |endpoint| runs(&database, ("fares", endpoint), hour).await.unwrap();
        assert_eq!((of_fares(None).await, of_fares(Some("no such")).await), (4, 0));
        assert_eq!(runs(&database, ("berths", None), hour).await.unwrap(), 0);
        let named = named_service(&database, "fares").await.unwrap();
        assert_eq!(named.map(|(_, name)| name).as_deref(), Some("fares"));
        assert_eq!(named_service(&database, "berths").await.unwrap(), None);
    }
}
