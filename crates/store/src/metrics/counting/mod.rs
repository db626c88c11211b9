//! Questions counted for good: an hour at a time, and again whenever what is stored of an hour has changed.

mod series;
#[cfg(test)]
mod tests;

use std::cmp::Reverse;
use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::metric::Kind;
use outcrop_core::question::{Question, Source, read};
use sqlx::{Connection, FromRow};

use crate::retention::Policy;
use crate::{Database, StoreError, boxed};

/// Questions that are counted at most: each reads an hour of records a minute.
pub const MAX_COUNTED: i64 = 100;
/// Hours counted in one round, those of all questions together.
const AT_ONCE: usize = 40;

/// A question that is counted.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct CountedQuestion {
    id: i32,
    /// The name of its metric.
    pub name: String,
    /// Its text, without step and window.
    pub question: String,
    /// Its step in milliseconds.
    pub step_ms: i32,
    /// What it is for; may be empty.
    pub description: String,
    /// Who has it counted, and alone ends that.
    pub owner: String,
    /// Since when it is counted.
    pub made_at: DateTime<Utc>,
    /// Hours that are to be counted still.
    pub hours_left: i32,
    /// What the last hour failed with.
    pub failure: Option<String>,
    /// The first hour that is counted.
    pub counted_from: Option<DateTime<Utc>>,
}

const COUNTED: &str = "SELECT c.id, name, question, step_ms, description, owner, made_at, hours_left, failure, (SELECT \
    min(hour) FROM counted_hour h WHERE h.counted_id = c.id) AS counted_from FROM counted c";

/// All questions that are counted, by the names of their metrics.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn counted(database: &Database) -> Result<Vec<CountedQuestion>, StoreError> {
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(format!("{COUNTED} ORDER BY name")))
        .fetch_all(&database.pool)
        .await?)
}

/// The question that is counted under a name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn counted_as(database: &Database, name: &str) -> Result<Option<CountedQuestion>, StoreError> {
    Ok(
        sqlx::query_as(sqlx::AssertSqlSafe(format!("{COUNTED} WHERE name = $1")))
            .bind(name)
            .fetch_optional(&database.pool)
            .await?,
    )
}

impl CountedQuestion {
    /// What its numbers are.
    #[must_use]
    pub fn kind(&self) -> Kind {
        read(&self.question).map_or(Kind::Level, |question| question.counted_kind())
    }
}

/// A question to count.
#[derive(Clone, Copy, Debug)]
pub struct NewCounted<'n> {
    /// The name of its metric.
    pub name: &'n str,
    /// Its text, without step and window.
    pub question: &'n str,
    /// Its step in milliseconds.
    pub step_ms: i32,
    /// What it is for.
    pub description: &'n str,
}

/// What became of a question to count.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Counting {
    /// It is counted from now on.
    Begun,
    /// The name is a counted question's, of whom.
    Taken(String),
    /// A service sends a metric of that name.
    Sent,
    /// There are [`MAX_COUNTED`] already.
    Full,
}

/// Has a question counted from now on, and backwards over what is kept.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn count(
    database: &Database,
    new: &NewCounted<'_>,
    owner: &str,
    now: DateTime<Utc>,
) -> Result<Counting, StoreError> {
    let made = sqlx::query(
        "INSERT INTO counted (name, question, step_ms, description, owner, made_at) SELECT $1, $2, $3, $4, $5, $6 WHERE \
         (SELECT count(*) FROM counted) < $7 AND NOT EXISTS (SELECT FROM metric_series WHERE name = $1 AND counted_id IS \
         NULL) ON CONFLICT (name) DO NOTHING",
    )
    .bind(new.name)
    .bind(new.question)
    .bind(new.step_ms)
    .bind(new.description)
    .bind(owner)
    .bind(now)
    .bind(MAX_COUNTED)
    .execute(&database.pool)
    .await?
    .rows_affected();
    if made == 1 {
        return Ok(Counting::Begun);
    }
    let (known, is_sent): (Option<String>, bool) = sqlx::query_as(
        "SELECT (SELECT owner FROM counted WHERE name = $1), EXISTS (SELECT FROM metric_series WHERE name = $1 AND \
         counted_id IS NULL)",
    )
    .bind(new.name)
    .fetch_one(&database.pool)
    .await?;
    Ok(match known {
        Some(owner) => Counting::Taken(owner),
        None if is_sent => Counting::Sent,
        None => Counting::Full,
    })
}

/// Ends the counting of a question, with all that was counted: its owner's where `owner` is given, else whoever's it is.
/// Returns whether there was one.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn uncount(database: &Database, name: &str, owner: Option<&str>) -> Result<bool, StoreError> {
    let ended = sqlx::query(
        "WITH ended AS (DELETE FROM counted WHERE name = $1 AND ($2::text IS NULL OR owner = $2) RETURNING id), gone AS \
         (DELETE FROM metric_hour WHERE series_id IN (SELECT id FROM metric_series WHERE counted_id IN (SELECT id FROM \
         ended))) SELECT id FROM ended",
    )
    .bind(name)
    .bind(owner)
    .fetch_optional(&database.pool)
    .await?;
    Ok(ended.is_some())
}

/// Counts hours of which something else is stored than when they were counted, the newest first; of all questions, as far
/// back as their records are kept whole: counts by the hour are kept for longer. Returns whether more may be waiting. Does
/// nothing while another instance is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time; the next round goes on.
#[boxed]
pub async fn round(database: &Database, policy: &Policy, now: DateTime<Utc>) -> Result<bool, StoreError> {
    let mut connection = database.pool.acquire().await?;
    let mut transaction = connection.begin().await?;
    let is_first: bool = sqlx::query_scalar("SELECT pg_try_advisory_xact_lock(hashtext('outcrop counting'))")
        .fetch_one(&mut *transaction)
        .await?;
    if !is_first {
        return Ok(false);
    }
    let (mut questions, work) = waiting(database, policy, now).await?;
    let mut failed = BTreeSet::new();
    let is_more = work.len() > AT_ONCE;
    for (hour, place, stored) in work.into_iter().take(AT_ONCE) {
        let (counted, question, hours_left) = &mut questions[place];
        if failed.contains(&counted.id) {
            continue;
        }
        let of = series::Of {
            id: counted.id,
            name: &counted.name,
            step_ms: counted.step_ms,
        };
        match series::one_hour(database, of, question, hour, now).await {
            Ok(()) => {
                *hours_left -= 1;
                note(database, counted.id, hour, &stored).await?;
            }
            Err(StoreError::Away(error)) => return Err(StoreError::Away(error)),
            Err(error) => {
                failed.insert(counted.id);
                counted.failure = Some(format!("{}: {error}", hour.format("%Y-%m-%d %H:%M UTC")));
            }
        }
    }
    for (counted, _, hours_left) in questions {
        sqlx::query("UPDATE counted SET hours_left = $2, failure = $3 WHERE id = $1 AND (hours_left, failure) IS DISTINCT FROM ($2, $3)")
            .bind(counted.id)
            .bind(hours_left)
            .bind(counted.failure.filter(|_| failed.contains(&counted.id)))
            .execute(&database.pool)
            .await?;
    }
    transaction.commit().await?;
    Ok(is_more)
}

/// Since when the records of a source are kept whole, and metrics are: partitions go by days, the oldest at midnight.
fn kept_since(policy: &Policy, source: Source, now: DateTime<Utc>) -> DateTime<Utc> {
    let days = match source {
        Source::Occurrences | Source::Requests => policy.occurrence_days,
        Source::Lines => policy.log_days,
    };
    let midnight = now.duration_trunc(TimeDelta::days(1)).unwrap_or(now);
    midnight - TimeDelta::days(days.min(policy.metric_days) - 1)
}

/// An hour to be counted: of which question, by its place, and what is stored of it now.
type Hour = (DateTime<Utc>, usize, String);

/// The counted questions, each with how many hours are to be counted, and these hours, the newest first.
async fn waiting(
    database: &Database,
    policy: &Policy,
    now: DateTime<Utc>,
) -> Result<(Vec<(CountedQuestion, Question, i32)>, Vec<Hour>), StoreError> {
    let mut work: Vec<Hour> = vec![];
    let mut stored: HashMap<(&str, bool), BTreeMap<DateTime<Utc>, String>> = HashMap::new();
    let mut questions: Vec<(CountedQuestion, Question, i32)> = vec![];
    for counted in counted(database).await? {
        // A later release may have written what this one does not read.
        let Ok(question) = read(&counted.question) else {
            continue;
        };
        let back_to = kept_since(policy, question.source, now);
        let there = match stored.entry((question.source.word(), question.looks_at_errors())) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(of) => {
                let looks_at_errors = of.key().1;
                let window = (back_to, now);
                of.insert(stored_by_hour(database, question.source, looks_at_errors, window).await?)
            }
        };
        let known: Vec<(DateTime<Utc>, String)> =
            sqlx::query_as("SELECT hour, stored FROM counted_hour WHERE counted_id = $1 AND hour >= $2")
                .bind(counted.id)
                .bind(back_to)
                .fetch_all(&database.pool)
                .await?;
        let known: HashMap<DateTime<Utc>, String> = known.into_iter().collect();
        let changed = there.iter().filter(|(hour, stored)| known.get(hour) != Some(stored));
        let changed = changed.map(|(hour, stored)| (*hour, stored.clone()));
        // What was taken away as a whole is counted once more, as nothing.
        let emptied = known
            .iter()
            .filter(|(hour, stored)| !there.contains_key(hour) && !stored.is_empty())
            .map(|(hour, _)| (*hour, String::new()));
        let before = work.len();
        work.extend(
            changed
                .chain(emptied)
                .map(|(hour, stored)| (hour, questions.len(), stored)),
        );
        questions.push((
            counted,
            question,
            i32::try_from(work.len() - before).unwrap_or(i32::MAX),
        ));
    }
    work.sort_by_key(|(hour, question, _)| (Reverse(*hour), *question));
    Ok((questions, work))
}

async fn note(database: &Database, counted: i32, hour: DateTime<Utc>, stored: &str) -> Result<(), StoreError> {
    sqlx::query(
        "INSERT INTO counted_hour (counted_id, hour, stored) SELECT id, $2, $3 FROM counted WHERE id = $1 ON CONFLICT \
         (counted_id, hour) DO UPDATE SET stored = excluded.stored",
    )
    .bind(counted)
    .bind(hour)
    .bind(stored)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// What is stored of each hour, as a number that differs where something came or was taken back. Where a question looks at
/// errors, also by how often occurrences were put in other ones.
async fn stored_by_hour(
    database: &Database,
    source: Source,
    looks_at_errors: bool,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
) -> Result<BTreeMap<DateTime<Utc>, String>, StoreError> {
    // Weighed by what they are of: one more here and one less there is no longer the same.
    let numbers = match source {
        Source::Occurrences => {
            "SELECT hour, sum(n::numeric * (hashint8((cause_id::bigint << 20) + environment_id * 1009 + version_id) & \
             65535 | 1)) AS stored FROM tally_hour WHERE hour >= $1 AND hour < $2 GROUP BY 1"
        }
        Source::Requests => {
            "SELECT hour, sum((requests * 3 + failed)::numeric * (hashint8((endpoint_id::bigint << 20) + environment_id * \
             1009 + version_id) & 65535 | 1)) AS stored FROM traffic_hour WHERE hour >= $1 AND hour < $2 GROUP BY 1"
        }
        Source::Lines => {
            "SELECT hour, sum(n::numeric) AS stored FROM log_hour WHERE hour >= $1 AND hour < $2 GROUP BY 1"
        }
    };
    let moved = if looks_at_errors {
        "(SELECT count(*) + count(undone_at) FROM grouping_change)"
    } else {
        "0"
    };
    let rows: Vec<(DateTime<Utc>, String)> = sqlx::query_as(sqlx::AssertSqlSafe(format!(
        "SELECT hour, stored || '+' || {moved} FROM ({numbers}) hours"
    )))
    .bind(from)
    .bind(to)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows.into_iter().collect())
}
