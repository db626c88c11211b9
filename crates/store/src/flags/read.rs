//! Reads what was said of errors, and keeps why.

use std::collections::HashMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::deploy::FlagKind;
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

/// What was said of an error.
#[derive(Clone, Debug, FromRow)]
pub struct Flag {
    /// The error's number.
    pub error_id: i32,
    /// The error's title.
    pub title: String,
    /// The service.
    pub service: String,
    /// The environment.
    pub environment: String,
    /// What was said.
    #[sqlx(try_from = "String")]
    pub kind: FlagKind,
    /// The version it is charged to.
    pub version: String,
    /// Whether a deploy stands at its beginning.
    pub by_deploy: bool,
    /// When it began.
    pub since: DateTime<Utc>,
    /// The minute whose data was needed to say so.
    pub said_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// Occurrences until it was said.
    pub count: i64,
    /// Occurrences to be expected in that time.
    pub expected: f64,
    /// How strongly that speaks against an unchanged rate, in nats.
    pub evidence: f64,
    /// Requests in that time.
    pub requests: Option<i64>,
    /// Why, in sentences, as it was worked out when the flag rose; `None` where it was not.
    pub why: Option<Vec<String>>,
    /// When it was taken back: data that came late showed that it was none.
    pub withdrawn_at: Option<DateTime<Utc>>,
}

impl Flag {
    /// Whether a deploy stands at its beginning: it began with one, or a version brought the error, or brought it back.
    #[must_use]
    pub fn is_since_deploy(&self) -> bool {
        self.by_deploy || self.kind != FlagKind::Surging
    }
}

/// What was said of an error, without its story.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Said {
    /// What was said.
    pub kind: FlagKind,
    /// Whether a deploy stands at the beginning of any such flag.
    pub is_since_deploy: bool,
}

impl From<&Flag> for Said {
    fn from(flag: &Flag) -> Self {
        Self {
            kind: flag.kind,
            is_since_deploy: flag.is_since_deploy(),
        }
    }
}

/// What flags say that stand: each kind once for each error, of the same flags as [`flags`]. A list of thousands of
/// errors asks for no more.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn said(
    database: &Database,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
) -> Result<HashMap<i32, Vec<Said>>, StoreError> {
    let rows: Vec<(i32, String, bool)> = sqlx::query_as(
        "SELECT error_id, kind, bool_or(by_deploy) FROM flag WHERE withdrawn_at IS NULL AND said_at < $2 AND (said_at >= \
         $1 OR kind = 'surging' AND ended_at IS NULL) AND (ended_at IS NULL OR ended_at >= $1) GROUP BY 1, 2",
    )
    .bind(from)
    .bind(to)
    .fetch_all(&database.pool)
    .await?;
    let mut all: HashMap<i32, Vec<Said>> = HashMap::new();
    for (error, kind, by_deploy) in rows {
        let Some(kind) = FlagKind::of(&kind) else { continue };
        all.entry(error).or_default().push(Said {
            kind,
            is_since_deploy: by_deploy || kind != FlagKind::Surging,
        });
    }
    Ok(all)
}

/// A [`Flag`]'s columns, out of `flag` and [`FLAG_TABLES`].
pub(crate) const FLAG_COLUMNS: &str = "flag.error_id, error_group.title, service.display_name AS service, \
    environment.name AS environment, flag.kind, flag.version, \
     flag.by_deploy, flag.since, flag.said_at, flag.ended_at, flag.count, flag.expected, flag.evidence, \
     flag.requests, flag.why, flag.withdrawn_at";

pub(crate) const FLAG_TABLES: &str = "JOIN error_group ON error_group.id = flag.error_id JOIN service ON service.id = \
    flag.service_id \
     JOIN environment ON environment.id = flag.environment_id";

/// Selects flags, up to the condition.
fn select_flags(condition: &str) -> sqlx::AssertSqlSafe<String> {
    sqlx::AssertSqlSafe(format!(
        "SELECT {FLAG_COLUMNS} FROM flag {FLAG_TABLES} WHERE {condition}"
    ))
}

/// Flags that stand: of errors that are or were said to be something within a window and did not end before it.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn flags(
    database: &Database,
    errors: Option<&[i32]>,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
) -> Result<HashMap<i32, Vec<Flag>>, StoreError> {
    let statement = select_flags(
        "flag.withdrawn_at IS NULL AND ($1::int[] IS NULL OR flag.error_id = ANY($1)) AND flag.said_at < $3 AND (flag.said_at >= $2 OR \
         flag.kind = 'surging' AND flag.ended_at IS NULL) \
         AND (flag.ended_at IS NULL OR flag.ended_at >= $2) ORDER BY flag.said_at DESC",
    );
    let rows: Vec<Flag> = sqlx::query_as(statement)
        .bind(errors)
        .bind(from)
        .bind(to)
        .fetch_all(&database.pool)
        .await?;
    let mut flags: HashMap<i32, Vec<Flag>> = HashMap::new();
    for row in rows {
        flags.entry(row.error_id).or_default().push(row);
    }
    Ok(flags)
}

/// How long after it rose it is worked out why an error was flagged: what a replay says of days past carries no notice.
const EXPLAINED: TimeDelta = TimeDelta::hours(1);

/// Flags that rose just now and do not say why yet: number, error.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn unexplained(database: &Database, now: DateTime<Utc>) -> Result<Vec<(i64, i32)>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT id, error_id FROM flag WHERE why IS NULL AND withdrawn_at IS NULL AND said_at >= $1 \
        ORDER BY id LIMIT 50",
    )
    .bind(now - EXPLAINED)
    .fetch_all(&database.pool)
    .await?)
}

/// Writes down why an error was flagged; what another instance wrote stays.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn explain(database: &Database, flag: i64, why: &[String]) -> Result<(), StoreError> {
    sqlx::query("UPDATE flag SET why = $2 WHERE id = $1 AND why IS NULL")
        .bind(flag)
        .bind(why)
        .execute(&database.pool)
        .await?;
    Ok(())
}

/// Flags said since a time that have not ended, in all services, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn standing(
    database: &Database,
    environment: Option<&str>,
    since: DateTime<Utc>,
    now: DateTime<Utc>,
) -> Result<Vec<Flag>, StoreError> {
    let statement = select_flags(
        "flag.withdrawn_at IS NULL AND flag.said_at >= $1 AND flag.said_at < $2 AND (flag.ended_at IS NULL OR \
         flag.ended_at >= $2) \
         AND ($3::text IS NULL OR environment.name = $3) ORDER BY flag.since DESC, flag.error_id LIMIT 200",
    );
    Ok(sqlx::query_as(statement)
        .bind(since)
        .bind(now)
        .bind(environment)
        .fetch_all(&database.pool)
        .await?)
}

/// Flags of an environment that began within a time, the earliest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn said_around(
    database: &Database,
    environment: &str,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
) -> Result<Vec<Flag>, StoreError> {
    let statement = select_flags(
        "flag.withdrawn_at IS NULL AND environment.name = $1 AND flag.since >= $2 AND flag.since < $3 AND \
         flag.said_at >= $2 \
         ORDER BY flag.since, flag.error_id LIMIT 50",
    );
    Ok(sqlx::query_as(statement)
        .bind(environment)
        .bind(from)
        .bind(to)
        .fetch_all(&database.pool)
        .await?)
}

/// Flags of an error of which something was said before a time, the latest word first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn of_error(
    database: &Database,
    error: i32,
    before: DateTime<Utc>,
    limit: i64,
) -> Result<Vec<Flag>, StoreError> {
    let statement = select_flags(
        "flag.error_id = $1 AND flag.said_at < $2 ORDER BY greatest(flag.said_at, flag.ended_at, flag.withdrawn_at) \
         DESC, flag.id DESC LIMIT $3",
    );
    Ok(sqlx::query_as(statement)
        .bind(error)
        .bind(before)
        .bind(limit)
        .fetch_all(&database.pool)
        .await?)
}

/// Flags of an error that were taken back, said within a window, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn withdrawn(
    database: &Database,
    error: i32,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
) -> Result<Vec<Flag>, StoreError> {
    let statement = select_flags(
        "flag.withdrawn_at IS NOT NULL AND flag.error_id = $1 AND flag.said_at >= $2 AND flag.said_at < $3 ORDER BY \
         flag.said_at DESC",
    );
    Ok(sqlx::query_as(statement)
        .bind(error)
        .bind(from)
        .bind(to)
        .fetch_all(&database.pool)
        .await?)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;
    use crate::testing::{database, failing, now, of, resource, spans, store, trace, writer};
    use crate::to_utc;

    #[tokio::test]
    async fn what_is_said_in_short_is_what_the_flags_say() {
        let database = database().await;
        let at = now();
        let failures = (1..=2)
            .map(|number| {
                let mut failing = failing(trace(number), number, None, at, "berth is taken");
                failing.events[0].attributes = crate::testing::attributes(&[(
                    "exception.type",
                    ["", "Berth", "Tide"][usize::try_from(number).unwrap()],
                )]);
                failing
            })
            .collect();
        store(&writer(&database), &[spans(vec![of(resource("fares"), failures)], at)]).await;
        // Of each kind at several times: standing, ended, begun by a deploy, and taken back.
        sqlx::query(
            "INSERT INTO flag (error_id, service_id, environment_id, kind, version, by_deploy, since, said_at, ended_at, \
             withdrawn_at, count, expected, evidence) SELECT g.id, g.service_id, e.id, kind, '2.4.0', n % 3 = 0, at, at, \
             CASE WHEN n % 2 = 0 THEN at + interval '2 hours' END, CASE WHEN n % 5 = 0 THEN at END, 1, 0.1, 9 FROM \
             error_group g, environment e, UNNEST(ARRAY['new', 'surging', 'returned']) WITH ORDINALITY AS kinds (kind, k), \
             generate_series(1, 12) n, LATERAL (SELECT $1 - make_interval(hours => (3 * n + k + g.id)::int) AS at) AS said \
             WHERE (n + k + g.id) % 2 = 0",
        )
        .bind(to_utc(at))
        .execute(&database.pool)
        .await
        .unwrap();
        let mut seen = 0;
        for hours in [1, 4, 9, 24, 48] {
            let window = (
                to_utc(at) - TimeDelta::hours(hours),
                to_utc(at) - TimeDelta::minutes(30),
            );
            let whole = flags(&database, None, window).await.unwrap();
            let short = said(&database, window).await.unwrap();
            assert_eq!(
                whole.keys().collect::<BTreeSet<_>>(),
                short.keys().collect::<BTreeSet<_>>(),
                "{hours} h"
            );
            for (error, flags) in &whole {
                let kinds: BTreeSet<&str> = flags.iter().map(|flag| flag.kind.word()).collect();
                let said = &short[error];
                assert_eq!(said.iter().map(|one| one.kind.word()).collect::<BTreeSet<_>>(), kinds);
                for one in said {
                    let mut of_kind = flags.iter().filter(|flag| flag.kind == one.kind);
                    assert_eq!(one.is_since_deploy, of_kind.any(Flag::is_since_deploy), "{one:?}");
                    seen += 1;
                }
            }
        }
        assert!(seen > 10, "{seen}");
    }
}
