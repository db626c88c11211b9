//! What people do about errors: take, settle, quiet, reopen, note.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use serde::{Deserialize, Serialize};
use sqlx::{FromRow, PgConnection};

use crate::boxed;
use crate::{Database, StoreError};

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

/// One thing done about an error.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action {
    /// Somebody takes it.
    Take(String),
    /// Nobody has it any more.
    HandBack,
    /// It must not occur from a version on.
    Settle(String),
    /// Nobody is told until a time.
    QuietUntil(DateTime<Utc>),
    /// Nobody is told until a predicate holds for it.
    QuietWhere(String),
    /// It is neither settled nor quiet.
    Reopen,
    /// Something worth knowing.
    Note(String),
}

impl Action {
    fn told(&self) -> (&'static str, String) {
        match self {
            Self::Take(who) => ("take", who.clone()),
            Self::HandBack => ("hand back", String::new()),
            Self::Settle(version) => ("settle", version.clone()),
            Self::QuietUntil(until) => ("quiet", until.to_rfc3339_opts(chrono::SecondsFormat::Secs, true)),
            Self::QuietWhere(predicate) => ("quiet", predicate.clone()),
            Self::Reopen => ("reopen", String::new()),
            Self::Note(text) => ("note", text.clone()),
        }
    }
}

/// Why nothing was done.
#[derive(Debug, thiserror::Error)]
pub enum HandlingError {
    /// Somebody did something since the change that the caller knew as the last.
    #[error("{by} did something about {error} meanwhile: look at it again")]
    Meanwhile {
        /// The error.
        error: Reference,
        /// Who did.
        by: String,
    },
    /// There is no such change of that error, or it did not change how it is handled.
    #[error("there is no change {0} of this error that could be undone")]
    NoChange(i64),
    /// The database did not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<sqlx::Error> for HandlingError {
    fn from(error: sqlx::Error) -> Self {
        Self::Store(error.into())
    }
}

/// How an error is handled, with the times that belong to it: what a change can be undone to.
#[derive(Clone, Debug, Default, PartialEq, Eq, FromRow, Serialize, Deserialize)]
struct Kept {
    taken_by: Option<String>,
    settled_in: Option<String>,
    settled_at: Option<DateTime<Utc>>,
    quiet_until: Option<DateTime<Utc>>,
    quiet_where: Option<String>,
    quiet_at: Option<DateTime<Utc>>,
}

impl Kept {
    /// After an action at a time.
    fn after(&self, action: &Action, at: DateTime<Utc>) -> Self {
        let kept = self.clone();
        match action {
            Action::Take(who) => Self {
                taken_by: Some(who.clone()),
                ..kept
            },
            Action::HandBack => Self { taken_by: None, ..kept },
            Action::Settle(version) => Self {
                settled_in: Some(version.clone()),
                settled_at: Some(at),
                ..kept
            },
            Action::QuietUntil(until) => Self {
                quiet_until: Some(*until),
                quiet_where: None,
                quiet_at: Some(at),
                ..kept
            },
            Action::QuietWhere(predicate) => Self {
                quiet_until: None,
                quiet_where: Some(predicate.clone()),
                quiet_at: Some(at),
                ..kept
            },
            Action::Reopen => Self {
                taken_by: kept.taken_by,
                ..Self::default()
            },
            Action::Note(_) => kept,
        }
    }

    /// What is told of going from one to the other: the verb, and to whom, in which version or until what.
    fn told(&self, next: &Self) -> (&'static str, String) {
        let quiet = |kept: &Self| kept.quiet_until.map(Action::QuietUntil).map(|action| action.told().1);
        if self.settled_in != next.settled_in {
            let settled = next.settled_in.clone();
            return settled.map_or(("reopen", String::new()), |version| ("settle", version));
        }
        if self.quiet_at != next.quiet_at {
            let until = next.quiet_where.clone().or_else(|| quiet(next));
            return until.map_or(("reopen", String::new()), |until| ("quiet", until));
        }
        if self.taken_by == next.taken_by {
            return ("reopen", String::new());
        }
        let taken = next.taken_by.clone();
        taken.map_or(("hand back", String::new()), |who| ("take", who))
    }
}

/// Does something about errors at a time, and writes down who did: about all of them, or none. `known`: the last change
/// that whoever acts has seen of each, where that matters.
///
/// # Errors
/// [`HandlingError::Meanwhile`] where something was done since; [`HandlingError::Store`].
#[boxed]
pub async fn act(
    database: &Database,
    errors: &[Reference],
    action: &Action,
    by: &str,
    at: DateTime<Utc>,
    known: Option<i64>,
) -> Result<(), HandlingError> {
    let mut errors = errors.to_vec();
    // Always in the same order: two that act on the same errors wait for each other, and neither for ever.
    errors.sort_unstable();
    errors.dedup();
    let mut transaction = database.pool.begin().await?;
    for error in errors {
        let before = held(&mut transaction, error, known).await?;
        let number = crate::ids::number(error);
        keep(&mut transaction, number, &before.after(action, at)).await?;
        let (verb, what) = action.told();
        let before = (!matches!(action, Action::Note(_))).then_some(&before);
        write_down(&mut transaction, number, (by, at), (verb, &what), before).await?;
    }
    transaction.commit().await?;
    Ok(())
}

/// Undoes a change of an error, the last one that changed how it is handled: it is again as it was before.
///
/// # Errors
/// [`HandlingError::NoChange`] where there is none of that number; [`HandlingError::Meanwhile`] where another came after
/// it; [`HandlingError::Store`].
#[boxed]
pub async fn undo(
    database: &Database,
    error: Reference,
    change: i64,
    by: &str,
    at: DateTime<Utc>,
) -> Result<(), HandlingError> {
    let number = crate::ids::number(error);
    let mut transaction = database.pool.begin().await?;
    let now = held(&mut transaction, error, Some(change)).await?;
    let before: Option<Option<sqlx::types::Json<Kept>>> =
        sqlx::query_scalar("SELECT before FROM handling_change WHERE id = $1 AND error_id = $2")
            .bind(change)
            .bind(number)
            .fetch_optional(&mut *transaction)
            .await?;
    let Some(sqlx::types::Json(before)) = before.flatten() else {
        return Err(HandlingError::NoChange(change));
    };
    keep(&mut transaction, number, &before).await?;
    let (verb, what) = now.told(&before);
    write_down(&mut transaction, number, (by, at), (verb, &what), Some(&now)).await?;
    transaction.commit().await?;
    Ok(())
}

/// How an error is handled, held until the transaction ends: whoever acts on it meanwhile waits.
async fn held(connection: &mut PgConnection, error: Reference, known: Option<i64>) -> Result<Kept, HandlingError> {
    let number = crate::ids::number(error);
    sqlx::query("INSERT INTO handling (error_id) VALUES ($1) ON CONFLICT DO NOTHING")
        .bind(number)
        .execute(&mut *connection)
        .await?;
    let kept = sqlx::query_as(
        "SELECT taken_by, settled_in, settled_at, quiet_until, quiet_where, quiet_at FROM handling WHERE error_id = $1 \
         FOR UPDATE",
    )
    .bind(number)
    .fetch_one(&mut *connection)
    .await?;
    if let Some(known) = known {
        let since: Option<String> = sqlx::query_scalar(
            "SELECT by FROM handling_change WHERE error_id = $1 AND id > $2 AND verb <> 'note' ORDER BY id DESC LIMIT 1",
        )
        .bind(number)
        .bind(known)
        .fetch_optional(&mut *connection)
        .await?;
        if let Some(by) = since {
            return Err(HandlingError::Meanwhile { error, by });
        }
    }
    Ok(kept)
}

async fn keep(connection: &mut PgConnection, error: i32, kept: &Kept) -> Result<(), StoreError> {
    sqlx::query(
        "UPDATE handling SET taken_by = $2, settled_in = $3, settled_at = $4, quiet_until = $5, quiet_where = $6, \
         quiet_at = $7 WHERE error_id = $1",
    )
    .bind(error)
    .bind(&kept.taken_by)
    .bind(&kept.settled_in)
    .bind(kept.settled_at)
    .bind(kept.quiet_until)
    .bind(&kept.quiet_where)
    .bind(kept.quiet_at)
    .execute(connection)
    .await?;
    Ok(())
}

async fn write_down(
    connection: &mut PgConnection,
    error: i32,
    (by, at): (&str, DateTime<Utc>),
    (verb, what): (&str, &str),
    before: Option<&Kept>,
) -> Result<(), StoreError> {
    sqlx::query("INSERT INTO handling_change (error_id, by, verb, what, at, before) VALUES ($1, $2, $3, $4, $5, $6)")
        .bind(error)
        .bind(by)
        .bind(verb)
        .bind(what)
        .bind(at)
        .bind(before.map(sqlx::types::Json))
        .execute(connection)
        .await?;
    Ok(())
}

/// Writes down what happened by itself.
pub(crate) async fn note(
    connection: &mut PgConnection,
    error: i32,
    by: (&str, DateTime<Utc>),
    verb: &str,
    what: &str,
) -> Result<(), StoreError> {
    write_down(connection, error, by, (verb, what), None).await
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
                "ada@skerry.example",
                Utc::now(),
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

    async fn one_error(database: &Database) -> Reference {
        let failure = failing(trace(1), 1, None, now(), "no tariff");
        let sent = spans(vec![of(resource("fares"), vec![failure])], now());
        store(&writer(database), &[sent]).await;
        crate::ids::reference(
            number(database, "SELECT id::bigint FROM error_group")
                .await
                .try_into()
                .unwrap(),
        )
    }

    /// What a plain reading of the actions says: the three facts.
    #[derive(Clone, Debug, Default, PartialEq)]
    struct Model {
        taken: Option<String>,
        settled: Option<String>,
        quiet: Option<String>,
    }

    impl Model {
        fn after(&self, action: &Action) -> Self {
            let mut next = self.clone();
            match action {
                Action::Take(who) => next.taken = Some(who.clone()),
                Action::HandBack => next.taken = None,
                Action::Settle(version) => next.settled = Some(version.clone()),
                Action::QuietWhere(text) => next.quiet = Some(text.clone()),
                Action::QuietUntil(until) => next.quiet = Some(until.timestamp().to_string()),
                Action::Reopen => (next.settled, next.quiet) = (None, None),
                Action::Note(_) => {}
            }
            next
        }
    }

    async fn facts(database: &Database, error: Reference) -> Model {
        let number = crate::ids::number(error);
        let handling = super::of(database, Some(number))
            .await
            .unwrap()
            .remove(&number)
            .unwrap_or_default();
        Model {
            taken: handling.taken_by,
            settled: handling.settled_in,
            quiet: handling
                .quiet_where
                .or_else(|| handling.quiet_until.map(|until| until.timestamp().to_string())),
        }
    }

    /// A fixed walk of actions, different for each step and with every pair of kinds among them.
    fn walk() -> Vec<Action> {
        let at = |hours: i64| DateTime::from_timestamp(1_796_000_000 + hours * 3_600, 0).unwrap();
        let kinds = |n: usize| match n % 7 {
            0 => Action::Take(format!("crew {n}")),
            1 => Action::Settle(format!("2.4.{n}")),
            2 => Action::QuietUntil(at(i64::try_from(n).unwrap())),
            3 => Action::Reopen,
            4 => Action::QuietWhere(format!("users > {n}")),
            5 => Action::HandBack,
            _ => Action::Note(format!("note {n}")),
        };
        (0..49).map(|n| kinds(n * (1 + n / 7))).collect()
    }

    #[tokio::test]
    async fn handling_is_what_a_plain_reading_of_the_actions_says_and_each_is_undone() {
        let database = database().await;
        let error = one_error(&database).await;
        let (mut model, mut hours) = (Model::default(), 0);
        let mut at = || {
            hours += 1;
            DateTime::from_timestamp(1_790_000_000 + hours * 3_600, 0).unwrap()
        };
        for action in walk() {
            let next = model.after(&action);
            act(&database, &[error], &action, "purser", at(), None).await.unwrap();
            assert_eq!(facts(&database, error).await, next, "{action:?}");
            let last = changes(&database, error).await.unwrap().remove(0);
            if matches!(action, Action::Note(_)) {
                let refused = undo(&database, error, last.id, "purser", at()).await;
                assert!(matches!(refused, Err(HandlingError::NoChange(_))), "{refused:?}");
                continue;
            }
            undo(&database, error, last.id, "purser", at()).await.unwrap();
            assert_eq!(facts(&database, error).await, model, "{action:?} undone");
            let again = undo(&database, error, last.id, "purser", at()).await;
            assert!(matches!(again, Err(HandlingError::Meanwhile { .. })), "{again:?}");
            act(&database, &[error], &action, "purser", at(), None).await.unwrap();
            model = next;
        }
    }

    #[tokio::test]
    async fn of_two_who_act_at_once_on_what_both_have_seen_one_is_told() {
        let database = database().await;
        let error = one_error(&database).await;
        let now = DateTime::from_timestamp(1_796_000_000, 0).unwrap();
        act(
            &database,
            &[error],
            &Action::Take("purser".to_owned()),
            "purser",
            now,
            None,
        )
        .await
        .unwrap();
        let seen = changes(&database, error).await.unwrap()[0].id;
        let settle = Action::Settle("2.4.1".to_owned());
        let quiet = Action::QuietWhere("users > 50".to_owned());
        let errors = [error];
        let (one, other) = tokio::join!(
            act(&database, &errors, &settle, "purser", now, Some(seen)),
            act(&database, &errors, &quiet, "mate", now, Some(seen)),
        );
        let refused: Vec<_> = [one, other].into_iter().filter_map(Result::err).collect();
        assert_eq!(refused.len(), 1);
        assert!(matches!(refused[0], HandlingError::Meanwhile { .. }), "{refused:?}");
        let model = facts(&database, error).await;
        assert!(model.settled.is_some() != model.quiet.is_some(), "{model:?}");
        // A note is no change of how it is handled.
        let last = changes(&database, error).await.unwrap()[0].id;
        act(
            &database,
            &[error],
            &Action::Note("asked".to_owned()),
            "mate",
            now,
            None,
        )
        .await
        .unwrap();
        act(&database, &[error], &Action::HandBack, "purser", now, Some(last))
            .await
            .unwrap();
    }

    #[tokio::test]
    async fn the_same_is_done_about_all_errors_or_about_none() {
        let database = database().await;
        let error = one_error(&database).await;
        let unknown: Reference = "kobal-tirun".parse().unwrap();
        let now = DateTime::from_timestamp(1_796_000_000, 0).unwrap();
        let take = Action::Take("deck team".to_owned());
        act(&database, &[error, unknown], &take, "purser", now, None)
            .await
            .unwrap_err();
        assert_eq!(facts(&database, error).await, Model::default());
        act(&database, &[error, error], &take, "purser", now, None)
            .await
            .unwrap();
        assert_eq!(
            changes(&database, error).await.unwrap().len(),
            1,
            "named twice, it is done once"
        );
    }
}
