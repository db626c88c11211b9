//! What became of a settled error.

use chrono::{DateTime, Utc};
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// What is known of an error before and since the version that it was settled in, in the environments it occurred in.
#[derive(Clone, Debug, Default, PartialEq, FromRow)]
pub struct SinceSettled {
    /// Its service.
    pub service: String,
    /// The version; empty where it is settled from a moment on, whatever the version.
    pub version: String,
    /// The commit that no deploy is known to hold yet: nothing else is known then.
    #[sqlx(skip)]
    pub awaits: Option<String>,
    /// When the first telemetry of that version occurred, or the moment; none where there is none.
    pub began_at: Option<DateTime<Utc>>,
    /// Occurrences, requests and hours with data of older versions in the seven days before that.
    pub before: i64,
    /// Requests of the service then.
    pub requests_before: i64,
    /// Hours then in which the service reported requests or the error occurred.
    pub hours_before: i64,
    /// The sum of the squares of its hourly counts then.
    pub squares_before: f64,
    /// Its occurrences in that version and later ones.
    pub since: i64,
    /// Requests of these versions.
    pub requests_since: i64,
    /// Its occurrences in older versions meanwhile: they may still run.
    pub of_older: i64,
}

/// Reads what is known of a settled error; nothing of one that is not.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn since_settled(database: &Database, error: i32) -> Result<Option<SinceSettled>, StoreError> {
    let row: Option<(Option<String>, Option<String>, String)> = sqlx::query_as(
        "SELECT h.settled_in, h.settled_by, service.display_name FROM handling h JOIN error_group e ON e.id = \
         h.error_id JOIN service ON service.id = e.service_id WHERE h.error_id = $1",
    )
    .bind(error)
    .fetch_optional(&database.pool)
    .await?;
    let statement = match row {
        Some((Some(version), _, _)) if version.is_empty() => SINCE_A_MOMENT,
        Some((Some(_), _, _)) => SINCE_A_VERSION,
        Some((None, Some(commit), service)) => {
            return Ok(Some(SinceSettled {
                service,
                awaits: Some(commit),
                ..SinceSettled::default()
            }));
        }
        _ => return Ok(None),
    };
    Ok(sqlx::query_as(statement)
        .bind(error)
        .fetch_optional(&database.pool)
        .await?)
}

/// Errors listed of those that are settled in one version.
const SETTLED_IN_ONE: i64 = 20;

/// Errors of a service that are settled in a version, with their titles, the oldest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn settled_in(database: &Database, service: i32, version: &str) -> Result<Vec<(i32, String)>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT e.id, e.title FROM handling h JOIN error_group e ON e.id = h.error_id WHERE e.service_id = $1 AND \
         h.settled_in = $2 AND $2 <> '' ORDER BY e.id LIMIT $3",
    )
    .bind(service)
    .bind(version)
    .bind(SETTLED_IN_ONE)
    .fetch_all(&database.pool)
    .await?)
}

const SINCE_A_VERSION: &str = "WITH settled AS (\
             SELECT h.settled_in, e.service_id, service.display_name FROM handling h JOIN error_group e ON e.id = \
             h.error_id \
             JOIN service ON service.id = e.service_id WHERE h.error_id = $1 AND h.settled_in IS NOT NULL), \
         seen AS (\
             SELECT version.id, version.label, min(deployed.first_event_at) AS first_at \
             FROM settled JOIN version USING (service_id) LEFT JOIN deployed ON deployed.version_id = version.id \
             GROUP BY version.id, version.label), \
         began AS (SELECT first_at FROM seen, settled WHERE label = settled_in), \
         later AS (SELECT id FROM seen WHERE first_at >= (SELECT first_at FROM began)), \
         place AS (SELECT DISTINCT environment_id FROM sighted JOIN cause ON cause.id = sighted.cause_id WHERE \
         cause.error_id = $1), \
         tallied AS (\
             SELECT hour, sum(n) FILTER (WHERE version_id IN (SELECT id FROM later)) AS later_n, \
                 sum(n) FILTER (WHERE version_id NOT IN (SELECT id FROM later)) AS older_n \
             FROM tally_hour JOIN cause ON cause.id = tally_hour.cause_id, began \
             WHERE cause.error_id = $1 AND hour >= first_at - interval '7 days' GROUP BY hour), \
         requested AS (\
             SELECT hour, sum(requests) FILTER (WHERE version_id IN (SELECT id FROM later)) AS later_n, \
                 sum(requests) FILTER (WHERE version_id NOT IN (SELECT id FROM later)) AS older_n \
             FROM served_hour t JOIN settled USING (service_id), began \
             WHERE environment_id IN (SELECT environment_id FROM place) AND hour >= first_at - interval '7 days' \
             GROUP BY hour), \
         hourly AS (\
             SELECT hour, coalesce(tallied.later_n, 0) AS later_n, coalesce(tallied.older_n, 0) AS older_n, \
                 coalesce(requested.later_n, 0) AS later_requests, coalesce(requested.older_n, 0) AS older_requests \
             FROM tallied FULL JOIN requested USING (hour)) \
         SELECT display_name AS service, settled_in AS version, (SELECT first_at FROM began) AS began_at, \
             coalesce(sum(older_n) FILTER (WHERE hour < first_at), 0)::bigint AS before, \
             coalesce(sum(older_requests) FILTER (WHERE hour < first_at), 0)::bigint AS requests_before, \
             count(hour) FILTER (WHERE hour < first_at) AS hours_before, \
             coalesce(sum(older_n::float8 * older_n::float8) FILTER (WHERE hour < first_at), 0)::float8 AS \
             squares_before, \
             coalesce(sum(later_n), 0)::bigint AS since, coalesce(sum(later_requests), 0)::bigint AS requests_since, \
             coalesce(sum(older_n) FILTER (WHERE hour >= first_at), 0)::bigint AS of_older \
         FROM settled LEFT JOIN began ON true LEFT JOIN hourly ON true GROUP BY display_name, settled_in";

/// Minutes tell of the time since, hours of the time before: in the hour of the moment it may have occurred still.
const SINCE_A_MOMENT: &str = "WITH settled AS (\
         SELECT h.settled_at, e.service_id, service.display_name FROM handling h JOIN error_group e ON e.id = \
         h.error_id JOIN service ON service.id = e.service_id WHERE h.error_id = $1), \
     place AS (SELECT DISTINCT environment_id FROM sighted JOIN cause ON cause.id = sighted.cause_id WHERE \
         cause.error_id = $1), \
     tallied AS (SELECT hour, sum(n) AS n FROM tally_hour JOIN cause ON cause.id = tally_hour.cause_id, settled \
         WHERE cause.error_id = $1 AND hour >= settled_at - interval '7 days' AND hour < date_trunc('hour', \
         settled_at) GROUP BY hour), \
     requested AS (SELECT hour, sum(requests) AS requests FROM served_hour JOIN settled USING (service_id) \
         WHERE environment_id IN (SELECT environment_id FROM place) AND hour >= settled_at - interval '7 days' \
         AND hour < date_trunc('hour', settled_at) GROUP BY hour), \
     hourly AS (SELECT hour, coalesce(n, 0) AS n, coalesce(requests, 0) AS requests FROM tallied FULL JOIN \
         requested USING (hour)) \
     SELECT display_name AS service, '' AS version, settled_at AS began_at, \
         coalesce(sum(n), 0)::bigint AS before, coalesce(sum(requests), 0)::bigint AS requests_before, \
         count(hour) AS hours_before, coalesce(sum(n::float8 * n::float8), 0)::float8 AS squares_before, \
         (SELECT coalesce(sum(n), 0)::bigint FROM tally_minute JOIN cause ON cause.id = tally_minute.cause_id \
             WHERE cause.error_id = $1 AND minute > settled_at) AS since, \
         (SELECT coalesce(sum(requests), 0)::bigint FROM served_minute t WHERE t.service_id = settled.service_id \
             AND environment_id IN (SELECT environment_id FROM place) AND minute > settled_at) AS requests_since, \
         0::bigint AS of_older \
     FROM settled LEFT JOIN hourly ON true GROUP BY display_name, settled_at, settled.service_id";

#[cfg(test)]
mod tests {
    use super::*;
    use crate::errors::handling::{Action, Settled, act};
    use crate::testing::{database, failing, now, of, spans, store, trace, writer};

    #[tokio::test]
    async fn what_is_known_of_a_settled_error_is_counted_before_and_since_its_version() {
        let database = database().await;
        let writer = writer(&database);
        let of_version = |version: &str| {
            let entries = [
                ("service.name", "fares"),
                ("service.version", version),
                ("deployment.environment.name", "production"),
            ];
            crate::testing::resource_of(&entries)
        };
        // Thirty requests in older versions, ten of them failing; then twenty in the version it is
        // settled in, then one failing in an older one.
        for id in 0..30 {
            let at = now().plus_millis(-3_600_000 * (30 - i64::try_from(id).unwrap()));
            let failed = if id % 3 == 0 { Some("no tariff") } else { None };
            let made = match failed {
                Some(message) => failing(trace(id + 1), id + 1, None, at, message),
                None => crate::testing::span(trace(id + 1), id + 1, None, at),
            };
            store(&writer, &[spans(vec![of(of_version("2.3.9"), vec![made])], at)]).await;
        }
        let fixed = (100..120)
            .map(|id| crate::testing::span(trace(id), id, None, now()))
            .collect();
        store(&writer, &[spans(vec![of(of_version("2.4.0"), fixed)], now())]).await;
        let (error,): (i32,) = sqlx::query_as("SELECT id FROM error_group")
            .fetch_one(&database.pool)
            .await
            .unwrap();
        assert_eq!(since_settled(&database, error).await.unwrap(), None, "it is open");
        let settle = async |version: &str| {
            act(
                &database,
                &[crate::ids::reference(error)],
                &Action::Settle(Settled::In(version.to_owned())),
                ("ada@skerry.example", Utc::now()),
                None,
            )
            .await
            .unwrap();
            since_settled(&database, error).await.unwrap().unwrap()
        };
        let known = settle("2.4.0").await;
        assert_eq!((known.service.as_str(), known.version.as_str()), ("fares", "2.4.0"));
        assert!(known.began_at.is_some());
        assert_eq!(
            (known.before, known.requests_before, known.since, known.requests_since),
            (10, 30, 0, 20),
            "{known:?}"
        );
        assert!(
            (known.squares_before - 10.0).abs() < 1e-9 && (29..=31).contains(&known.hours_before),
            "{known:?}"
        );
        store(
            &writer,
            &[spans(
                vec![of(
                    of_version("2.3.9"),
                    vec![failing(trace(200), 200, None, now(), "no tariff")],
                )],
                now(),
            )],
        )
        .await;
        assert_eq!(
            since_settled(&database, error).await.unwrap().unwrap().since,
            0,
            "an older version is no return"
        );
        let unseen = settle("9.0.0").await;
        assert_eq!((unseen.began_at, unseen.before, unseen.requests_since), (None, 0, 0));
    }

    #[tokio::test]
    async fn from_a_moment_on_minutes_count_and_a_commit_is_waited_for() {
        let database = database().await;
        let writer = writer(&database);
        let fares = || crate::testing::resource("fares");
        let send = async |id: u64, at: outcrop_core::Timestamp| {
            let sent = vec![
                failing(trace(id), id, None, at, "no tariff"),
                crate::testing::span(trace(id + 1), id + 1, None, at),
            ];
            store(&writer, &[spans(vec![of(fares(), sent)], at)]).await;
        };
        for hour in 1..5 {
            send(u64::try_from(hour).unwrap() * 10, now().plus_millis(-3_600_000 * hour)).await;
        }
        let (error,): (i32,) = sqlx::query_as("SELECT id FROM error_group")
            .fetch_one(&database.pool)
            .await
            .unwrap();
        let settle = async |settled: Settled, at: DateTime<Utc>| {
            let (error, by) = (crate::ids::reference(error), ("ada@skerry.example", at));
            act(&database, &[error], &Action::Settle(settled), by, None)
                .await
                .unwrap();
        };
        let moment = DateTime::from_timestamp((Utc::now().timestamp() - 600) / 60 * 60, 0).unwrap();
        settle(Settled::FromNow, moment).await;
        let known = since_settled(&database, error).await.unwrap().unwrap();
        assert_eq!((known.version.as_str(), known.began_at), ("", Some(moment)));
        assert!((3..=4).contains(&known.before) && known.since == 0, "{known:?}");
        assert_eq!((known.requests_before, known.requests_since), (2 * known.before, 0));
        send(100, now().plus_millis(-120_000)).await;
        let known = since_settled(&database, error).await.unwrap().unwrap();
        assert_eq!((known.since, known.requests_since), (1, 2), "{known:?}");

        settle(Settled::By("3f2a1c9".to_owned()), moment).await;
        let known = since_settled(&database, error).await.unwrap().unwrap();
        assert_eq!(
            (known.service.as_str(), known.awaits.as_deref()),
            ("fares", Some("3f2a1c9"))
        );
    }
}
