//! How errors are handled, and what was done about them.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use sqlx::{FromRow, PgConnection};

use crate::boxed;
use crate::{Database, StoreError};

pub(crate) use super::acting::note;
pub use super::acting::{Action, HandlingError, act, undo};

/// What is known of how an error is handled: three independent facts. With neither of the last two it is open.
#[derive(Clone, Debug, Default, PartialEq, Eq, FromRow)]
pub struct Handling {
    /// The person or team that took it.
    pub taken_by: Option<String>,
    /// The version from which on it must not occur.
    pub settled_in: Option<String>,
    /// The time until which nobody is told.
    pub quiet_until: Option<DateTime<Utc>>,
    /// The predicate until which nobody is told.
    pub quiet_where: Option<String>,
}

impl Handling {
    /// Whether nobody is told of it at a time.
    #[must_use]
    pub fn is_quiet(&self, now: DateTime<Utc>) -> bool {
        self.quiet_where.is_some() || self.quiet_until.is_some_and(|until| until > now)
    }

    /// Neither settled nor quiet.
    #[must_use]
    pub fn is_open(&self, now: DateTime<Utc>) -> bool {
        self.settled_in.is_none() && !self.is_quiet(now)
    }

    /// Where it is not open, how, in words: `settled in 2.4.1`, `quiet until users > 50`.
    #[must_use]
    pub fn in_words(&self, now: DateTime<Utc>) -> Option<String> {
        let settled = self.settled_in.as_ref().map(|version| format!("settled in {version}"));
        let quiet = self.quiet_in_words(now).map(|until| format!("quiet until {until}"));
        match (settled, quiet) {
            (Some(settled), Some(quiet)) => Some(format!("{settled}, {quiet}")),
            (settled, quiet) => settled.or(quiet),
        }
    }

    /// Until what it is quiet, in words.
    #[must_use]
    pub fn quiet_in_words(&self, now: DateTime<Utc>) -> Option<String> {
        match (&self.quiet_where, self.quiet_until.filter(|until| *until > now)) {
            (Some(predicate), _) => Some(predicate.clone()),
            (None, Some(until)) => Some(until.to_rfc3339_opts(chrono::SecondsFormat::Secs, true)),
            (None, None) => None,
        }
    }
}

/// Errors that are settled, quiet or taken; `only` asks for one.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn of(database: &Database, only: Option<i32>) -> Result<HashMap<i32, Handling>, StoreError> {
    #[derive(FromRow)]
    struct Row {
        error_id: i32,
        #[sqlx(flatten)]
        handling: Handling,
    }
    let rows: Vec<Row> = sqlx::query_as(
        "SELECT error_id, taken_by, settled_in, quiet_until, quiet_where FROM handling WHERE $1::int IS NULL OR \
         error_id = $1",
    )
    .bind(only)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows.into_iter().map(|row| (row.error_id, row.handling)).collect())
}

/// One thing that was done.
#[derive(Clone, Debug, FromRow)]
pub struct Change {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: DateTime<Utc>,
    /// Who did it; `outcrop` for what happened by itself.
    pub by: String,
    /// `take`, `hand back`, `settle`, `quiet`, `reopen`, `return`, `speak up` or `note`.
    pub verb: String,
    /// To whom, in which version, until what, or the note.
    pub what: String,
    /// Whether it can be undone, while it is the last.
    pub can_be_undone: bool,
}

/// What is known of an error before and since the version that it was settled in, in the environments it occurred in.
#[derive(Clone, Debug, Default, PartialEq, FromRow)]
pub struct SinceSettled {
    /// Its service.
    pub service: String,
    /// The version.
    pub version: String,
    /// When the first telemetry of that version occurred; none where there is none.
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
    let statement = "WITH settled AS (\
             SELECT h.settled_in, e.service_id, service.display_name FROM handling h JOIN error_group e ON e.id = \
             h.error_id \
             JOIN service ON service.id = e.service_id WHERE h.error_id = $1 AND h.settled_in IS NOT NULL), \
         seen AS (\
             SELECT version.id, version.label, min(deployed.first_event_at) AS first_at \
             FROM settled JOIN version USING (service_id) LEFT JOIN deployed ON deployed.version_id = version.id \
             GROUP BY version.id), \
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
             FROM traffic_hour t JOIN settled USING (service_id), began \
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
    Ok(sqlx::query_as(statement)
        .bind(error)
        .fetch_optional(&database.pool)
        .await?)
}

/// Changes shown of one error.
const CHANGES: i64 = 100;

/// What was done about an error, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn changes(database: &Database, error: Reference) -> Result<Vec<Change>, StoreError> {
    Ok(
        sqlx::query_as("SELECT id, at, by, verb, what, before IS NOT NULL AS can_be_undone FROM handling_change WHERE error_id = $1 ORDER BY id DESC LIMIT $2")
            .bind(crate::ids::number(error))
            .bind(CHANGES)
            .fetch_all(&database.pool)
            .await?,
    )
}

/// Opens settled errors that returned. In the transaction that says so.
pub(crate) async fn returned(
    connection: &mut PgConnection,
    errors: &[(i32, String, DateTime<Utc>)],
) -> Result<(), StoreError> {
    for (error, version, at) in errors {
        let opened = sqlx::query(
            "UPDATE handling SET settled_in = NULL, settled_at = NULL WHERE error_id = $1 AND settled_at <= $2",
        )
        .bind(error)
        .bind(at)
        .execute(&mut *connection)
        .await?;
        if opened.rows_affected() > 0 {
            note(connection, *error, ("outcrop", *at), "return", version).await?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;
    use crate::asking::end_quiet;

    use crate::testing::{database, failing, now, number, of, resource, spans, store, trace, writer};

    #[tokio::test]
    async fn quiet_ends_by_its_time_or_when_its_condition_holds_and_not_before() {
        let database = database().await;
        let writer = writer(&database);
        let send_at = async |at: outcrop_core::Timestamp, number: u64, message: &str| {
            store(
                &writer,
                &[spans(
                    vec![of(
                        resource("fares"),
                        vec![failing(trace(number), number, None, at, message)],
                    )],
                    now(),
                )],
            )
            .await;
        };
        let send = async |number: u64, message: &str| send_at(now(), number, message).await;
        for (at, message) in (1..).zip(["no tariff", "no such sailing", "the quote is stale"]) {
            send_at(now().plus_millis(-600_000), at, message).await;
        }
        let (numbers,): (Vec<i32>,) = sqlx::query_as("SELECT array_agg(id ORDER BY id) FROM error_group")
            .fetch_one(&database.pool)
            .await
            .unwrap();
        let [by_time, by_count, never] = numbers[..] else {
            panic!("{numbers:?}")
        };
        let start = Utc::now() - TimeDelta::minutes(4);
        let quiet = async |error: i32, until: Option<DateTime<Utc>>, condition: Option<&str>| {
            sqlx::query("INSERT INTO handling (error_id, quiet_until, quiet_where, quiet_at) VALUES ($1, $2, $3, $4)")
                .bind(error)
                .bind(until)
                .bind(condition)
                .bind(start)
                .execute(&database.pool)
                .await
                .unwrap();
        };
        quiet(by_time, Some(start + TimeDelta::minutes(5)), None).await;
        quiet(by_count, None, Some("count > 1")).await;
        quiet(never, None, Some("count > 1000")).await;
        assert_eq!(end_quiet(&database, Utc::now()).await.unwrap(), 0);
        send(10, "no such sailing").await;
        assert_eq!(
            end_quiet(&database, Utc::now() + TimeDelta::seconds(1)).await.unwrap(),
            0,
            "one is not more than one"
        );
        send(11, "no such sailing").await;
        assert_eq!(
            end_quiet(&database, Utc::now() + TimeDelta::seconds(1)).await.unwrap(),
            1
        );
        assert_eq!(end_quiet(&database, start + TimeDelta::minutes(6)).await.unwrap(), 1);
        assert_eq!(
            number(&database, "SELECT count(*) FROM handling WHERE quiet_at IS NOT NULL").await,
            1
        );
        let said = changes(&database, crate::ids::reference(by_count)).await.unwrap();
        assert_eq!(
            (said[0].verb.as_str(), said[0].what.as_str(), said[0].by.as_str()),
            ("speak up", "count > 1", "outcrop")
        );
    }

    #[tokio::test]
    async fn handling_of_one_error_is_read_alone() {
        let database = database().await;
        let writer = writer(&database);
        store(
            &writer,
            &[spans(
                vec![of(
                    resource("fares"),
                    vec![failing(trace(1), 1, None, now(), "no tariff")],
                )],
                now(),
            )],
        )
        .await;
        store(
            &writer,
            &[spans(
                vec![of(
                    resource("fares"),
                    vec![failing(trace(2), 2, None, now(), "no such sailing")],
                )],
                now(),
            )],
        )
        .await;
        sqlx::query("INSERT INTO handling (error_id, taken_by) SELECT id, 'purser@skerry.example' FROM error_group")
            .execute(&database.pool)
            .await
            .unwrap();
        assert_eq!(super::of(&database, None).await.unwrap().len(), 2);
        let (first,): (i32,) = sqlx::query_as("SELECT min(id) FROM error_group")
            .fetch_one(&database.pool)
            .await
            .unwrap();
        let one = super::of(&database, Some(first)).await.unwrap();
        assert_eq!(one.keys().copied().collect::<Vec<_>>(), [first]);
    }

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
                &Action::Settle(version.to_owned()),
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
}
