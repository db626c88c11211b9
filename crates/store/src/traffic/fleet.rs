//! All services as they are now: the newest hour in steps, and how long requests take against the week before.

use std::cmp::Reverse;
use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::latency::Latency;
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// How much of the newest time is looked at.
pub const SHOWN: TimeDelta = TimeDelta::hours(1);
/// The steps it is cut into.
pub const STEPS: usize = 30;
/// Days that durations are held against, up to the day before.
const PAST_DAYS: i64 = 7;

/// A service as it is now.
#[derive(Clone, Debug, Default)]
pub struct Service {
    /// Its number.
    pub id: i32,
    /// Its display name.
    pub service: String,
    /// Requests by step of the newest hour.
    pub requests: Vec<i64>,
    /// Of them failed.
    pub failed: Vec<i64>,
    /// The versions that had requests, with how many, the one that began last first.
    pub versions: Vec<(String, i64)>,
    /// The time of the newest one or two hours that 95 % stayed below, in microseconds.
    pub p95_us: Option<f64>,
    /// The same of the week before today.
    pub p95_before_us: Option<f64>,
}

/// When the newest hour begins, cut to the minute.
#[must_use]
pub fn from(now: DateTime<Utc>) -> DateTime<Utc> {
    use chrono::DurationRound as _;
    now.duration_trunc(TimeDelta::minutes(1)).unwrap_or(now) + TimeDelta::minutes(1) - SHOWN
}

/// The services that were used since yesterday, or had requests in the newest hour.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn services(
    database: &Database,
    environment: Option<&str>,
    now: DateTime<Utc>,
) -> Result<Vec<Service>, StoreError> {
    let (names, steps, newest, past) = futures_util::try_join!(
        names(database, environment, now),
        steps(database, environment, now),
        durations(database, environment, Sketches::Newest, crate::hour(now - SHOWN), now),
        durations(
            database,
            environment,
            Sketches::Days,
            now - TimeDelta::days(PAST_DAYS),
            now - TimeDelta::days(1)
        ),
    )?;
    let mut found: BTreeMap<i32, Service> = names
        .into_iter()
        .map(|(id, service)| {
            let quantile = |of: &HashMap<i32, Latency>| of.get(&id).and_then(|sketch| sketch.quantile(0.95));
            let row = Service {
                id,
                service,
                requests: vec![0; STEPS],
                failed: vec![0; STEPS],
                versions: vec![],
                p95_us: quantile(&newest),
                p95_before_us: quantile(&past),
            };
            (id, row)
        })
        .collect();
    for step in steps {
        let Some((service, at)) = found.get_mut(&step.service_id).zip(usize::try_from(step.step).ok()) else {
            continue;
        };
        if let Some((requests, failed)) = service.requests.get_mut(at).zip(service.failed.get_mut(at)) {
            *requests += step.requests;
            *failed += step.failed;
        }
        match service
            .versions
            .iter_mut()
            .find(|(version, _)| *version == step.version)
        {
            Some((_, requests)) => *requests += step.requests,
            None => service.versions.push((step.version, step.requests)),
        }
    }
    Ok(found.into_values().collect())
}

async fn names(
    database: &Database,
    environment: Option<&str>,
    now: DateTime<Utc>,
) -> Result<Vec<(i32, String)>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT id, display_name FROM service WHERE used_day >= $1 AND ($2::text IS NULL OR EXISTS (SELECT FROM \
         served_hour t WHERE t.service_id = service.id AND t.hour >= $3 AND t.environment_id IN (SELECT id FROM \
         environment WHERE name = $2)) OR EXISTS (SELECT FROM cause JOIN sighted ON sighted.cause_id = cause.id WHERE \
         cause.service_id = service.id AND sighted.last_at >= $3 AND sighted.environment_id IN (SELECT id FROM \
         environment WHERE name = $2)))",
    )
    .bind(i32::try_from(now.timestamp().div_euclid(86_400) - 1).unwrap_or(0))
    .bind(environment)
    .bind(now - TimeDelta::days(1))
    .fetch_all(&database.pool)
    .await?)
}

#[derive(FromRow)]
struct Served {
    service_id: i32,
    version_id: i32,
    version: String,
    step: i32,
    requests: i64,
    failed: i64,
}

/// By service, version and step; first those of the version that began last in the hour, then of the one received last.
async fn steps(database: &Database, environment: Option<&str>, now: DateTime<Utc>) -> Result<Vec<Served>, StoreError> {
    let begin = from(now);
    let seconds = SHOWN.num_seconds() / i64::try_from(STEPS).unwrap_or(1);
    let mut steps: Vec<Served> = sqlx::query_as(include_str!("../../queries/now/fleet.sql"))
        .bind(begin)
        .bind(begin + SHOWN)
        .bind(environment)
        .bind(seconds)
        .fetch_all(&database.pool)
        .await?;
    let mut began: HashMap<(i32, i32), i32> = HashMap::new();
    for step in steps.iter().filter(|step| step.requests > 0) {
        let first = began.entry((step.service_id, step.version_id)).or_insert(step.step);
        *first = step.step.min(*first);
    }
    let began = |step: &Served| began.get(&(step.service_id, step.version_id)).copied();
    steps.sort_by_key(|step| (Reverse(began(step)), Reverse(step.version_id)));
    Ok(steps)
}

/// Which sketches of durations are read.
#[derive(Clone, Copy)]
enum Sketches {
    /// Of hours, and parts that are not folded yet.
    Newest,
    /// Of whole days.
    Days,
}

/// Durations of each service's requests.
async fn durations(
    database: &Database,
    environment: Option<&str>,
    which: Sketches,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
) -> Result<HashMap<i32, Latency>, StoreError> {
    let statement = match which {
        Sketches::Newest => {
            "SELECT service_id, sketch FROM latency_hour t WHERE hour >= $1 AND hour < $2 AND ($3::text IS NULL OR \
             environment_id IN (SELECT id FROM environment WHERE name = $3)) UNION ALL SELECT service_id, sketch FROM \
             latency_part t WHERE hour >= $1 AND hour < $2 AND ($3::text IS NULL OR environment_id IN (SELECT id FROM \
             environment WHERE name = $3))"
        }
        Sketches::Days => {
            "SELECT service_id, sketch FROM latency_day t WHERE hour >= $1 AND hour < $2 AND ($3::text IS NULL OR \
             environment_id IN (SELECT id FROM environment WHERE name = $3))"
        }
    };
    let rows: Vec<(i32, Vec<u8>)> = sqlx::query_as(statement)
        .bind(from)
        .bind(to)
        .bind(environment)
        .fetch_all(&database.pool)
        .await?;
    let mut merged: HashMap<i32, Latency> = HashMap::new();
    for (service, sketch) in rows {
        let sketch = Latency::from_bytes(&sketch).unwrap_or_default();
        merged.entry(service).or_default().merge(&sketch);
    }
    Ok(merged)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, failing, now, number, of, resource, resource_of, spans, store, trace, writer};
    use crate::to_utc;

    #[tokio::test]
    async fn the_newest_hour_in_steps_adds_up_to_what_was_sent() {
        let database = database().await;
        let writer = writer(&database);
        let at = now();
        let sent: Vec<_> = [(1, 2), (2, 2), (3, 31), (4, 58), (5, 90)]
            .into_iter()
            .map(|(n, minutes)| failing(trace(n), 1, None, at.plus_millis(-minutes * 60_000), "no tariff"))
            .collect();
        store(&writer, &[spans(vec![of(resource("fares"), sent)], at)]).await;
        assert_eq!(
            number(&database, "SELECT count(*) FROM traffic_minute").await,
            4,
            "two are of one minute"
        );
        let found = services(&database, None, to_utc(at)).await.unwrap();
        let [fares] = found.as_slice() else { panic!("{found:?}") };
        assert_eq!(fares.service, "fares");
        assert_eq!(fares.requests.len(), STEPS);
        // The one of 90 minutes ago is past.
        assert_eq!(fares.requests.iter().sum::<i64>(), 4);
        assert_eq!(fares.failed, fares.requests);
        assert_eq!(fares.versions.iter().map(|(_, n)| n).sum::<i64>(), 4);
        let filled: Vec<usize> = (0..STEPS).filter(|step| fares.requests[*step] > 0).collect();
        assert_eq!(filled.len(), 3);
        // Of two versions the one that began last comes first, though it has fewer requests.
        let earlier = resource_of(&[
            ("service.name", "fares"),
            ("service.version", "2.3.9"),
            ("deployment.environment.name", "production"),
        ]);
        let before = [(6, 58), (7, 57), (8, 20), (9, 3), (10, 1)]
            .map(|(n, minutes)| failing(trace(n), 1, None, at.plus_millis(-minutes * 60_000), "no tariff"));
        let newer = resource_of(&[
            ("service.name", "fares"),
            ("service.version", "2.4.1"),
            ("deployment.environment.name", "production"),
        ]);
        let after = vec![failing(trace(11), 1, None, at.plus_millis(-60_000), "no tariff")];
        store(
            &writer,
            &[spans(vec![of(earlier, before.to_vec()), of(newer, after)], at)],
        )
        .await;
        let again = services(&database, None, to_utc(at)).await.unwrap();
        let versions: Vec<&str> = again[0].versions.iter().map(|(version, _)| version.as_str()).collect();
        assert_eq!(versions[0], "2.4.1", "{versions:?}");
        assert_eq!(versions.len(), 3);
        // Of an environment in which it has nothing it is not there.
        assert!(
            services(&database, Some("staging"), to_utc(at))
                .await
                .unwrap()
                .is_empty()
        );
        let here = services(&database, Some("production"), to_utc(at)).await.unwrap();
        assert_eq!(here.len(), 1);
        // Of services that nobody has used for days nothing is shown.
        let later = services(&database, None, to_utc(at) + TimeDelta::days(3))
            .await
            .unwrap();
        assert!(later.is_empty());
    }
}
