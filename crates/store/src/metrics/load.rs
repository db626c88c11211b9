//! Figures of load of a service: what its host, its runtime and its pools say.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::metric::{Figure, Kind};
use sqlx::FromRow;

use super::reading::minutes;
use super::{Standing, kind};
use crate::{Database, Scope, StoreError, boxed};

/// Series that are looked at.
const MAX_SERIES: i64 = 200;
/// How far back a figure is read.
const PAST: TimeDelta = TimeDelta::days(2);
/// What the names of such metrics begin with, after OpenTelemetry's semantic conventions and the names of runtimes.
const LOAD: &str = "^(process|system|container|k8s|jvm|go|nodejs|v8js|cpython|dotnet|aspnetcore|db\\.client|messaging|queue)\
    [._]";
/// What says nothing by standing high: what is free, how long something runs, what it may take at most.
const NO_LOAD: &str = "(uptime|free|idle|available|limit|max|desired|capacity|threshold)";

#[derive(FromRow)]
struct Series {
    id: i32,
    name: String,
    unit: String,
    kind: i16,
    instance: String,
    is_limit: bool,
    attributes: serde_json::Value,
    #[sqlx(flatten)]
    standing: Standing,
}

/// What a metric and its limit have in common: `process.memory.usage` and `process.memory.limit`.
fn stem(name: &str) -> &str {
    ["usage", "used", "limit"]
        .iter()
        .find_map(|ending| name.strip_suffix(ending))
        .unwrap_or(name)
}

/// The figures of a service in an environment over the two days before a time, those that its instances sent last first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn figures(
    database: &Database,
    (service, environment): (&str, &str),
    until: DateTime<Utc>,
) -> Result<Vec<Figure>, StoreError> {
    let series: Vec<Series> = sqlx::query_as(
        "SELECT s.id, s.name, s.unit, s.kind, s.instance, s.name ~ 'limit$' AS is_limit, s.attributes, s.sum_at, \
         s.sum_start, s.sum_value, s.sum_count, s.sum_buckets FROM metric_series s WHERE s.counted_id IS NULL AND \
         s.service_id IN (SELECT services_named($1)) AND s.environment_id IN (SELECT id FROM environment WHERE name = $2) \
         AND s.used_day >= $3 AND s.kind IN (SELECT UNNEST($4::smallint[])) AND s.name ~ $5 AND (s.name ~ 'limit$' OR s.name \
         !~ $6) ORDER BY s.used_day DESC, s.id DESC LIMIT $7",
    )
    .bind(service)
    .bind(environment)
    .bind(i32::try_from((until - PAST).timestamp().div_euclid(86_400)).unwrap_or_default())
    .bind([Kind::Level, Kind::Delta, Kind::Cumulative].map(Kind::number).as_slice())
    .bind(LOAD)
    .bind(NO_LOAD)
    .bind(MAX_SERIES)
    .fetch_all(&database.pool)
    .await?;
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: until - PAST,
        to: until,
        predicate: None,
    };
    let mut found: BTreeMap<(String, String, String), Figure> = BTreeMap::new();
    let mut limits: HashMap<(String, String), f64> = HashMap::new();
    let mut by_kind: BTreeMap<i16, BTreeMap<i32, (String, Standing)>> = BTreeMap::new();
    let mut known: HashMap<i32, Series> = HashMap::new();
    for one in series {
        let chosen = by_kind.entry(one.kind).or_default();
        chosen.insert(one.id, (String::new(), one.standing.clone()));
        known.insert(one.id, one);
    }
    for (number, chosen) in by_kind {
        for ((id, minute), said) in minutes(database, kind(number), &chosen, &scope).await? {
            let Some(one) = known.get(&id) else { continue };
            if one.is_limit {
                // Pools of memory have limits of their own: that of the whole is the greatest.
                let limit = limits
                    .entry((stem(&one.name).to_owned(), one.instance.clone()))
                    .or_default();
                *limit = limit.max(said.value);
                continue;
            }
            let key = (one.name.clone(), one.instance.clone(), one.attributes.to_string());
            let figure = found.entry(key).or_insert_with(|| Figure {
                name: one.name.clone(),
                unit: one.unit.clone(),
                instance: one.instance.clone(),
                ..Figure::default()
            });
            *figure.minutes.entry(minute).or_default() += said.value;
        }
    }
    let mut figures: Vec<Figure> = found.into_values().collect();
    for figure in &mut figures {
        let key = (stem(&figure.name).to_owned(), figure.instance.clone());
        figure.limit = limits.get(&key).copied().filter(|limit| *limit > 0.0);
    }
    Ok(figures)
}

#[cfg(test)]
mod tests {
    use outcrop_core::Timestamp;
    use outcrop_core::metric::highest_before;
    use outcrop_core::telemetry::{Reading, ScopeRecords};

    use super::*;
    use crate::metrics::fold;
    use crate::testing::{database, metrics, now, resource, store, writer};

    fn level(name: &str, at: Timestamp, value: f64) -> Reading {
        Reading {
            name: name.to_owned(),
            unit: "By".to_owned(),
            kind: Kind::Level,
            value,
            at: Some(at),
            ..Reading::default()
        }
    }

    #[tokio::test]
    async fn memory_near_its_limit_is_read_with_it_and_what_is_no_load_is_not() {
        let database = database().await;
        let at = now().minute();
        let mut readings = vec![];
        for ago in (0..600).rev() {
            let minute = at.plus_millis(-ago * 60_000 + 1_000);
            let usage = if ago <= 10 {
                970.0
            } else {
                500.0 + f64::from(i32::try_from(ago % 13).unwrap())
            };
            readings.push(level("process.memory.usage", minute, usage));
            readings.push(level("process.memory.limit", minute, 1_000.0));
            readings.push(level(
                "process.uptime",
                minute,
                f64::from(700 - i32::try_from(ago).unwrap()),
            ));
            readings.push(level("skerry.cars.waiting", minute, usage));
        }
        let sent = ScopeRecords {
            resource: resource("fares"),
            scope: std::sync::Arc::default(),
            records: readings,
        };
        store(&writer(&database), &[metrics(vec![sent], at)]).await;
        while fold(&database, Utc::now()).await.unwrap() {}
        let found = figures(&database, ("fares", "production"), crate::to_utc(at))
            .await
            .unwrap();
        let names: Vec<&str> = found.iter().map(|figure| figure.name.as_str()).collect();
        assert_eq!(names, ["process.memory.usage"]);
        assert_eq!(found[0].limit, Some(1_000.0));
        let told = highest_before(&found, at.millis() / 60_000);
        assert!(told[0].to_string().contains("was 97 % of its limit"), "{told:?}");
        let elsewhere = figures(&database, ("fares", "staging"), crate::to_utc(at))
            .await
            .unwrap();
        assert_eq!(elsewhere, []);
    }
}
