//! The outbox: what is sent to whom, by which way, and what came of it.

use chrono::{DateTime, Utc};
use serde_json::Value;
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// Seconds that whoever sends a notice has for it: longer than sending one ever takes. After that it
/// is taken for gone, and another sends the notice.
const HELD_SECS: f64 = 90.0;

/// A notice on its way, or sent.
#[derive(Clone, Debug, PartialEq, FromRow)]
pub struct Stored {
    /// Its number: the same however often it is tried.
    pub id: i64,
    /// The rule that it is of; `None` of one that was removed, a digest or a test.
    pub rule_id: Option<i32>,
    /// The rule's name.
    pub rule_name: String,
    /// The way.
    pub way: String,
    /// A member's address; empty of a way that goes to no single member.
    pub recipient: String,
    /// Why it is sent: `rule`, `passed-on`, `digest` or `test`.
    pub reason: String,
    /// What it is about, on one line.
    pub subject: String,
    /// Numbers of the events that it tells of.
    pub event_ids: Vec<i64>,
    /// How many more there were.
    pub more: i32,
    /// What is sent where it is not made of events.
    pub body: Option<Value>,
    /// When it was planned.
    pub made_at: DateTime<Utc>,
    /// `waiting`, `sent` or `failed`.
    pub state: String,
    /// How often it was tried.
    pub attempts: i32,
    /// When it is tried next.
    pub next_at: DateTime<Utc>,
    /// When it was sent, or given up.
    pub ended_at: Option<DateTime<Utc>>,
    /// What was answered.
    pub answer: String,
}

const COLUMNS: &str = "n.id, n.rule_id, n.rule_name, n.way, n.recipient, n.reason, n.subject, n.event_ids, n.more, n.body, n.made_at, \
    n.state, n.attempts, n.next_at, n.ended_at, n.answer";

/// Takes notices that are due and holds them by the database's clock; pages fetch those of the browser.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn take(database: &Database, limit: i64) -> Result<Vec<Stored>, StoreError> {
    let statement = format!(
        "UPDATE notice n SET held_until = clock_timestamp() + make_interval(secs => $1), attempts = n.attempts + 1 FROM \
         (SELECT id FROM notice WHERE state = 'waiting' AND way <> 'browser' AND next_at <= clock_timestamp() AND \
         (held_until IS NULL OR held_until < clock_timestamp()) ORDER BY next_at, id LIMIT $2 FOR UPDATE SKIP LOCKED) due \
         WHERE n.id = due.id RETURNING {COLUMNS}"
    );
    let mut taken: Vec<Stored> = sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(HELD_SECS)
        .bind(limit)
        .fetch_all(&database.pool)
        .await?;
    taken.sort_by_key(|notice| notice.id);
    Ok(taken)
}

/// What came of a try.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It was sent.
    Sent,
    /// It is tried again at a time.
    Again(DateTime<Utc>),
    /// It is given up.
    GivenUp,
}

/// Writes down what came of a try, unless another took the notice over meanwhile.
///
/// # Errors
/// [`StoreError`] when the database does not answer: the notice is sent again once it is held no more.
#[boxed]
pub async fn ended(
    database: &Database,
    notice: &Stored,
    outcome: &Outcome,
    answer: &str,
    at: DateTime<Utc>,
) -> Result<(), StoreError> {
    let (state, next) = match outcome {
        Outcome::Sent => ("sent", None),
        Outcome::Again(next) => ("waiting", Some(*next)),
        Outcome::GivenUp => ("failed", None),
    };
    sqlx::query(
        "UPDATE notice SET state = $3, next_at = coalesce($4, next_at), answer = $5, held_until = NULL, ended_at = CASE \
         WHEN $3 = 'waiting' THEN NULL ELSE $6 END WHERE id = $1 AND attempts = $2 AND state = 'waiting'",
    )
    .bind(notice.id)
    .bind(notice.attempts)
    .bind(state)
    .bind(next)
    .bind(answer)
    .bind(at)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// A notice that is not made of events.
#[derive(Clone, Debug)]
pub struct NewNotice<'n> {
    /// The rule that it is of, where it is of one, and its name.
    pub rule: (Option<i32>, &'n str),
    /// The way.
    pub way: &'n str,
    /// A member's address; empty of a way that goes to no single member.
    pub recipient: &'n str,
    /// Why it is sent: `digest` or `test`.
    pub reason: &'n str,
    /// What it is about, on one line.
    pub subject: &'n str,
    /// Numbers of events that it tells of.
    pub event_ids: &'n [i64],
    /// What is sent.
    pub body: Option<Value>,
}

/// Puts a notice into the outbox; returns its number.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn put(database: &Database, new: &NewNotice<'_>, at: DateTime<Utc>) -> Result<i64, StoreError> {
    Ok(sqlx::query_scalar(
        "INSERT INTO notice (rule_id, rule_name, way, recipient, reason, subject, event_ids, more, body, made_at, state, \
         next_at) VALUES ($1, $2, $3, $4, $5, $6, $7, 0, $8, $9, 'waiting', $9) RETURNING id",
    )
    .bind(new.rule.0)
    .bind(new.rule.1)
    .bind(new.way)
    .bind(new.recipient)
    .bind(new.reason)
    .bind(new.subject)
    .bind(new.event_ids)
    .bind(&new.body)
    .bind(at)
    .fetch_one(&database.pool)
    .await?)
}

/// Which notices are asked for.
#[derive(Clone, Debug, Default)]
pub struct Asked<'a> {
    /// Before this number.
    pub before: Option<i64>,
    /// In this state.
    pub state: Option<&'a str>,
    /// To this member, and by ways that go to nobody.
    pub recipient: Option<&'a str>,
    /// Of this error.
    pub error: Option<i32>,
    /// At most so many; 100 where it is 0.
    pub limit: i64,
}

/// Notices, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database, asked: &Asked<'_>) -> Result<Vec<Stored>, StoreError> {
    let statement = format!(
        "SELECT {COLUMNS} FROM notice n WHERE ($1::bigint IS NULL OR n.id < $1) AND ($2::text IS NULL OR n.state = $2) \
         AND ($3::text IS NULL OR n.recipient IN ($3, '')) AND ($4::int IS NULL OR n.event_ids && ARRAY(SELECT id FROM \
         notice_event WHERE error_id = $4)) ORDER BY n.id DESC LIMIT $5"
    );
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(asked.before)
        .bind(asked.state)
        .bind(asked.recipient)
        .bind(asked.error)
        .bind(if asked.limit == 0 { 100 } else { asked.limit })
        .fetch_all(&database.pool)
        .await?)
}

/// One notice.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn one(database: &Database, id: i64) -> Result<Option<Stored>, StoreError> {
    let statement = format!("SELECT {COLUMNS} FROM notice n WHERE n.id = $1");
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(id)
        .fetch_optional(&database.pool)
        .await?)
}

/// Sends a notice again that was given up, from now on; whether it was.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn again(database: &Database, id: i64, at: DateTime<Utc>) -> Result<bool, StoreError> {
    let done = sqlx::query(
        "UPDATE notice SET state = 'waiting', attempts = 0, next_at = $2, ended_at = NULL WHERE id = $1 AND state = \
         'failed'",
    )
    .bind(id)
    .bind(at)
    .execute(&database.pool)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// How long a notice waits for a page of its member to be open.
const SHOWN_WITHIN_SECS: f64 = 600.0;

/// Notices that a member's pages show, each to one page only: those of the last ten minutes. Older ones are given up.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn shown(database: &Database, email: &str, at: DateTime<Utc>) -> Result<Vec<Stored>, StoreError> {
    let statement = format!(
        "UPDATE notice n SET state = 'sent', ended_at = $2, attempts = n.attempts + 1, answer = 'shown on a page' WHERE \
         n.id IN (SELECT id FROM notice WHERE state = 'waiting' AND way = 'browser' AND recipient = $1 AND made_at > $2 - \
         make_interval(secs => $3) FOR UPDATE SKIP LOCKED) RETURNING {COLUMNS}"
    );
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(email)
        .bind(at)
        .bind(SHOWN_WITHIN_SECS)
        .fetch_all(&database.pool)
        .await?)
}

/// Gives up notices that no page showed in time.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn expire(database: &Database, at: DateTime<Utc>) -> Result<u64, StoreError> {
    let done = sqlx::query(
        "UPDATE notice SET state = 'failed', ended_at = $1, answer = 'no page was open' WHERE state = 'waiting' AND way = \
         'browser' AND next_at <= $1 AND made_at <= $1 - make_interval(secs => $2)",
    )
    .bind(at)
    .bind(SHOWN_WITHIN_SECS)
    .execute(&database.pool)
    .await?;
    Ok(done.rows_affected())
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;
    use crate::testing::database;

    async fn waiting(database: &Database, way: &str, recipient: &str) -> i64 {
        let new = NewNotice {
            rule: (None, "Deploys"),
            way,
            recipient,
            reason: "test",
            subject: "A test",
            event_ids: &[],
            body: None,
        };
        put(database, &new, Utc::now()).await.unwrap()
    }

    #[tokio::test]
    async fn a_notice_is_held_by_one_sender_until_it_is_taken_for_gone() {
        let database = database().await;
        let id = waiting(&database, "mail", "purser@skerry.example").await;
        let first = take(&database, 10).await.unwrap();
        assert_eq!((first.len(), first[0].id, first[0].attempts), (1, id, 1));
        assert!(take(&database, 10).await.unwrap().is_empty(), "it is held");
        sqlx::query("UPDATE notice SET held_until = now() - interval '1 second'")
            .execute(&database.pool)
            .await
            .unwrap();
        let second = take(&database, 10).await.unwrap();
        assert_eq!(second[0].attempts, 2);
        // The first comes back late: what it says does not count any more.
        ended(&database, &first[0], &Outcome::GivenUp, "timed out", Utc::now())
            .await
            .unwrap();
        assert_eq!(one(&database, id).await.unwrap().unwrap().state, "waiting");
        ended(&database, &second[0], &Outcome::Sent, "250 ok", Utc::now())
            .await
            .unwrap();
        let sent = one(&database, id).await.unwrap().unwrap();
        assert_eq!((sent.state.as_str(), sent.answer.as_str()), ("sent", "250 ok"));
        assert!(sent.ended_at.is_some() && take(&database, 10).await.unwrap().is_empty());
        assert!(!again(&database, id, Utc::now()).await.unwrap(), "it was sent");
    }

    #[tokio::test]
    async fn a_notice_is_tried_later_given_up_and_sent_again_by_hand() {
        let database = database().await;
        let id = waiting(&database, "ops-room", "").await;
        let now = Utc::now();
        let tried = take(&database, 10).await.unwrap();
        ended(
            &database,
            &tried[0],
            &Outcome::Again(now + TimeDelta::hours(1)),
            "503",
            now,
        )
        .await
        .unwrap();
        assert!(take(&database, 10).await.unwrap().is_empty(), "not before its time");
        sqlx::query("UPDATE notice SET next_at = now()")
            .execute(&database.pool)
            .await
            .unwrap();
        let tried = take(&database, 10).await.unwrap();
        ended(&database, &tried[0], &Outcome::GivenUp, "503", now)
            .await
            .unwrap();
        let failed = list(
            &database,
            &Asked {
                state: Some("failed"),
                ..Asked::default()
            },
        )
        .await
        .unwrap();
        assert_eq!((failed[0].id, failed[0].attempts), (id, 2));
        assert!(again(&database, id, now).await.unwrap());
        assert_eq!(take(&database, 10).await.unwrap()[0].attempts, 1);
    }

    #[tokio::test]
    async fn two_senders_never_take_the_same() {
        let database = database().await;
        for _ in 0..40 {
            waiting(&database, "mail", "purser@skerry.example").await;
        }
        let takes = futures_util::future::join_all((0..8).map(|_| take(&database, 5))).await;
        let mut ids: Vec<i64> = takes
            .into_iter()
            .flat_map(Result::unwrap)
            .map(|notice| notice.id)
            .collect();
        ids.sort_unstable();
        let all = ids.len();
        ids.dedup();
        assert_eq!((ids.len(), all), (40, 40));
    }

    #[tokio::test]
    async fn a_page_shows_its_members_notices_once_and_late_ones_are_given_up() {
        let database = database().await;
        waiting(&database, "browser", "purser@skerry.example").await;
        waiting(&database, "browser", "mate@skerry.example").await;
        assert!(take(&database, 10).await.unwrap().is_empty(), "pages fetch them");
        let now = Utc::now() + TimeDelta::seconds(1);
        assert_eq!(shown(&database, "purser@skerry.example", now).await.unwrap().len(), 1);
        assert!(shown(&database, "purser@skerry.example", now).await.unwrap().is_empty());
        assert_eq!(expire(&database, now).await.unwrap(), 0);
        let later = now + TimeDelta::minutes(11);
        assert_eq!(expire(&database, later).await.unwrap(), 1);
        assert!(shown(&database, "mate@skerry.example", later).await.unwrap().is_empty());
    }
}
