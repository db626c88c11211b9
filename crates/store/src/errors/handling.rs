//! How errors are handled, and what was done about them.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use sqlx::{FromRow, PgConnection};

use crate::boxed;
use crate::{Database, StoreError};

pub use super::acting::{Action, Settled, act, undo};
pub use super::commits::meet_commits;
pub use super::kept::HandlingError;
pub(crate) use super::kept::note;
use super::kept::written;

/// What is known of how an error is handled: three independent facts. With neither of the last two it is open.
#[derive(Clone, Debug, Default, PartialEq, Eq, FromRow)]
pub struct Handling {
    /// The person or team that took it.
    pub taken_by: Option<String>,
    /// The version from which on it must not occur; empty where that is from a moment on, whatever the version.
    pub settled_in: Option<String>,
    /// The commit by which it is settled: in the version of the first deploy that holds it, or in none yet.
    pub settled_by: Option<String>,
    /// Since when it is settled; none while no deploy is known to hold the commit.
    pub settled_at: Option<DateTime<Utc>>,
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
        !self.is_settled() && !self.is_quiet(now)
    }

    /// Whether it is settled: in a version, from a moment on, or by a commit that is still to be deployed.
    #[must_use]
    pub const fn is_settled(&self) -> bool {
        self.settled_in.is_some() || self.settled_by.is_some()
    }

    /// From when on it is settled, where that is said of no version.
    #[must_use]
    pub fn settled_from(&self) -> Option<DateTime<Utc>> {
        self.settled_at
            .filter(|_| self.settled_in.as_ref().is_some_and(String::is_empty))
    }

    /// How it is settled, in words: `settled in 2.4.1`, `settled by commit 3f2a1c9`, `settled from 2026-11-30T02:10:00Z on`.
    #[must_use]
    pub fn settled_in_words(&self) -> Option<String> {
        match (&self.settled_in, &self.settled_by, self.settled_at) {
            (Some(version), _, Some(at)) if version.is_empty() => Some(format!("settled from {} on", written(at))),
            (Some(version), _, _) => Some(format!("settled in {version}")),
            (None, Some(commit), _) => Some(format!("settled by commit {commit}")),
            (None, None, _) => None,
        }
    }

    /// Where it is not open, how, in words: `settled in 2.4.1`, `quiet until users > 50`.
    #[must_use]
    pub fn in_words(&self, now: DateTime<Utc>) -> Option<String> {
        let settled = self.settled_in_words();
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
            (None, Some(until)) => Some(written(until)),
            (None, None) => None,
        }
    }
}

/// Errors that are settled, quiet or taken; `only` asks for some.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn of(database: &Database, only: Option<&[i32]>) -> Result<HashMap<i32, Handling>, StoreError> {
    #[derive(FromRow)]
    struct Row {
        error_id: i32,
        #[sqlx(flatten)]
        handling: Handling,
    }
    let rows: Vec<Row> = sqlx::query_as(
        "SELECT error_id, taken_by, settled_in, settled_by, settled_at, quiet_until, quiet_where FROM handling WHERE $1::int[] IS NULL OR \
         error_id = ANY($1)",
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
    /// `take`, `hand back`, `settle`, `settle by`, `quiet`, `reopen`, `return`, `speak up` or `note`.
    pub verb: String,
    /// To whom, in which version (empty: from then on), by which commit, until what, or the note.
    pub what: String,
    /// Whether it can be undone, while it is the last.
    pub can_be_undone: bool,
}

/// Changes shown of one error.
const CHANGES: i64 = 100;

/// What was done about an error, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn changes(database: &Database, error: Reference) -> Result<Vec<Change>, StoreError> {
    changes_before(database, error, None, CHANGES).await
}

/// What was done about an error before a time, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn changes_before(
    database: &Database,
    error: Reference,
    before: Option<DateTime<Utc>>,
    limit: i64,
) -> Result<Vec<Change>, StoreError> {
    Ok(
        sqlx::query_as("SELECT id, at, by, verb, what, before IS NOT NULL AS can_be_undone FROM handling_change WHERE error_id = $1 AND ($3::timestamptz IS NULL OR at < $3) ORDER BY at DESC, id DESC LIMIT $2")
            .bind(crate::ids::number(error))
            .bind(limit)
            .bind(before)
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
            "UPDATE handling SET settled_in = NULL, settled_by = NULL, settled_at = NULL WHERE error_id = $1 AND \
             settled_at <= $2",
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
        let one = super::of(&database, Some(&[first])).await.unwrap();
        assert_eq!(one.keys().copied().collect::<Vec<_>>(), [first]);
    }
}
