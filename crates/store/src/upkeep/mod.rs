//! Removing what is past its time, in chunks and by one instance at a time: [`lifetimes`] says how
//! long each table keeps its rows, [`space`] how much room each kind of data takes and what happens
//! when that is more than it may.

use outcrop_core::Timestamp;
use sqlx::AssertSqlSafe;

use crate::boxed;
use crate::database::locks::Lock;
use crate::retention::{Policy, RETENTION_DAYS};

pub mod checkup;
pub mod cleaning;
pub mod lifetimes;
pub mod reported;
pub mod space;

use self::lifetimes::{Lifetime, NAMES_IN_ORDER, TABLES};
use crate::database::partitions;
use crate::{Database, StoreError};

/// Rows removed per statement, so that no lock is held for long.
const CHUNK: i64 = 5_000;

/// How far the host's clock may be from the database's, in seconds, for anything to be removed by it.
const MAX_CLOCK_DIFFERENCE: i64 = 60;

/// What a round of upkeep removed, and what it could not do.
#[derive(Debug, Default)]
pub struct Round {
    /// Rows and partitions removed.
    pub removed: u64,
    /// What failed, step by step; the other steps were done.
    pub failed: Vec<(&'static str, StoreError)>,
}

impl Round {
    fn take(&mut self, step: &'static str, done: Result<u64, StoreError>) {
        match done {
            Ok(removed) => self.removed += removed,
            Err(error) => self.failed.push((step, error)),
        }
    }
}

/// Removes what is past its time at `now`: the partitions first, since dropping one frees most and
/// needs least, then rows in chunks, each step by itself. Another instance that is at it takes
/// turns by chunk.
///
/// # Errors
/// [`StoreError`] when the database does not answer, or its clock and the host's differ by more
/// than a minute: a wrong clock must not remove what is kept. Steps that fail are named in
/// [`Round::failed`].
#[boxed]
pub async fn remove_expired(database: &Database, now: Timestamp, policy: &Policy) -> Result<Round, StoreError> {
    let (of_database,): (chrono::DateTime<chrono::Utc>,) =
        sqlx::query_as("SELECT now()").fetch_one(&database.pool).await?;
    let difference = (of_database - crate::to_utc(now)).num_seconds();
    if difference.abs() > MAX_CLOCK_DIFFERENCE {
        let differ = format!(
            "the clocks of this host and the database differ by {difference} s: nothing is removed until they agree"
        );
        return Err(StoreError::Unusable(differ));
    }
    let mut round = Round::default();
    let dropped = partitions::drop_past(&database.pool, |table| now.day() - days_of(table, policy)).await;
    round.take("partitions", dropped.map(|dropped| dropped as u64));
    let before = |kept: lifetimes::Kept| {
        let millis = i64::try_from(kept.span(policy).as_millis()).unwrap_or(i64::MAX);
        crate::to_utc(now.plus_millis(-millis))
    };
    // Two days of slack: a writer remembers a content as stored for the day it was used.
    let unused = i32::try_from(now.day() - RETENTION_DAYS - 2).unwrap_or_default();
    for (table, lifetime) in TABLES {
        let done = match lifetime {
            Lifetime::Time(column, kept) => in_chunks(database, table, &format!("{column} < $1"), before(*kept)).await,
            Lifetime::Id(column, kept) => {
                in_chunks(database, table, &format!("{column} < first_id_at($1)"), before(*kept)).await
            }
            Lifetime::Contents => in_chunks(database, table, "used_day < $1", unused).await,
            Lifetime::When(condition) => in_chunks(database, table, &format!("{condition} AND $1 = 1"), 1).await,
            Lifetime::Days(_) | Lifetime::Names(_) | Lifetime::With(_) | Lifetime::Stays(_) => continue,
        };
        round.take(table, done);
    }
    let unused = i32::try_from(now.day() - crate::retention::KEPT_DAYS).unwrap_or_default();
    for table in NAMES_IN_ORDER {
        let Lifetime::Names(condition) = lifetimes::of(table) else {
            continue;
        };
        round.take(table, in_chunks(database, table, condition, unused).await);
    }
    Ok(round)
}

/// For how many days a partitioned table is kept.
fn days_of(table: &str, policy: &Policy) -> i64 {
    match lifetimes::of(table) {
        Lifetime::Days(kept) => i64::try_from(kept.span(policy).as_secs() / 86_400).unwrap_or(RETENTION_DAYS),
        _ => RETENTION_DAYS,
    }
}

/// Deletes rows of a table that a condition on `$1` holds of, in chunks of a transaction each, by
/// one instance at a time.
async fn in_chunks<'q, T>(database: &Database, table: &str, condition: &str, value: T) -> Result<u64, StoreError>
where
    T: Copy + Send + Sync + sqlx::Encode<'q, sqlx::Postgres> + sqlx::Type<sqlx::Postgres> + 'q,
{
    let mut removed = 0;
    loop {
        let mut transaction = database.pool.begin().await?;
        let is_ours = Lock::Upkeep.try_take(&mut transaction).await?;
        if !is_ours {
            return Ok(removed);
        }
        let statement = format!(
            "DELETE FROM {table} WHERE ctid = ANY(ARRAY(SELECT ctid FROM {table} WHERE {condition} LIMIT {CHUNK} FOR \
             UPDATE SKIP LOCKED))"
        );
        let done = sqlx::query(AssertSqlSafe(statement))
            .bind(value)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        removed += done.rows_affected();
        if done.rows_affected() < CHUNK.unsigned_abs() {
            return Ok(removed);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::retention::Policy;
    use crate::testing::{database, failing, now, number, of, resource, spans, store, trace, writer};

    #[tokio::test]
    async fn a_clock_that_is_wrong_removes_nothing() {
        let database = database().await;
        store(
            &writer(&database),
            &[spans(
                vec![of(
                    resource("fares"),
                    vec![failing(trace(1), 1, None, now(), "no tariff")],
                )],
                now(),
            )],
        )
        .await;
        for wrong in [now().plus_millis(40 * 86_400_000), now().plus_millis(-120_000)] {
            let refused = remove_expired(&database, wrong, &Policy::default()).await;
            assert!(
                matches!(&refused, Err(StoreError::Unusable(why)) if why.contains("clocks")),
                "{refused:?}"
            );
        }
        assert_eq!(number(&database, "SELECT count(*) FROM occurrence").await, 1);
        let round = remove_expired(&database, now().plus_millis(30_000), &Policy::default())
            .await
            .unwrap();
        assert_eq!((round.removed, round.failed.len()), (0, 0));
    }

    #[tokio::test]
    async fn each_table_is_emptied_at_its_bound_in_chunks_and_a_step_that_fails_holds_up_no_other() {
        let database = database().await;
        let old = "now() - interval '31 days'";
        let fill = |sql: String| sqlx::query(AssertSqlSafe(sql));
        fill(format!(
            "INSERT INTO receipt SELECT gen_random_uuid(), {old}, 0, '' FROM generate_series(1, 12000)"
        ))
        .execute(&database.pool)
        .await
        .unwrap();
        fill("INSERT INTO receipt SELECT gen_random_uuid(), now(), 0, ''".to_owned())
            .execute(&database.pool)
            .await
            .unwrap();
        fill(format!("INSERT INTO limit_reached SELECT {old}, 1, 'errors', 7"))
            .execute(&database.pool)
            .await
            .unwrap();
        fill("INSERT INTO stack SELECT gen_random_uuid(), '', 7 FROM generate_series(1, 6000)".to_owned())
            .execute(&database.pool)
            .await
            .unwrap();
        // Whatever may be wrong with a table one day.
        fill("ALTER TABLE pairing RENAME TO elsewhere".to_owned())
            .execute(&database.pool)
            .await
            .unwrap();
        let round = remove_expired(&database, now(), &Policy::default()).await.unwrap();
        assert_eq!(
            round.failed.iter().map(|(step, _)| *step).collect::<Vec<_>>(),
            ["pairing"]
        );
        assert_eq!(round.removed, 12_000 + 1 + 6_000);
        assert_eq!(number(&database, "SELECT count(*) FROM receipt").await, 1);
    }

    #[tokio::test]
    async fn names_that_nobody_uses_go_and_those_of_errors_stay() {
        let database = database().await;
        let writer = writer(&database);
        let fine = |service: &str| of(resource(service), vec![crate::testing::span(trace(2), 2, None, now())]);
        store(
            &writer,
            &[spans(
                vec![
                    of(resource("fares"), vec![failing(trace(1), 1, None, now(), "no tariff")]),
                    fine("once-seen"),
                ],
                now(),
            )],
        )
        .await;
        for table in ["service", "environment", "version", "endpoint", "called"] {
            sqlx::query(AssertSqlSafe(format!("UPDATE {table} SET used_day = used_day - 40")))
                .execute(&database.pool)
                .await
                .unwrap();
        }
        sqlx::query("DELETE FROM instance")
            .execute(&database.pool)
            .await
            .unwrap();
        let round = remove_expired(&database, now(), &Policy::default()).await.unwrap();
        assert!(round.failed.is_empty(), "{:?}", round.failed);
        let names: Vec<(String,)> = sqlx::query_as("SELECT name FROM service")
            .fetch_all(&database.pool)
            .await
            .unwrap();
        assert_eq!(names, [("fares".to_owned(),)]);
        assert_eq!(
            number(&database, "SELECT count(*) FROM version").await,
            1,
            "of the error's first version"
        );
        assert_eq!(number(&database, "SELECT count(*) FROM endpoint").await, 0);
        // What was removed is made again where it is used again, also by a writer that has known it.
        let again = crate::testing::writer(&database);
        store(&again, &[spans(vec![fine("once-seen")], now())]).await;
        assert_eq!(number(&database, "SELECT count(*) FROM service").await, 2);
    }
}
