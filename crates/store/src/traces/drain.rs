//! Keeps the traces that are worth keeping, and lets the others go.

use chrono::{DateTime, TimeDelta, Utc};
use sqlx::AssertSqlSafe;

use super::hot::{SLOT, hot_name};
use crate::boxed;
use crate::database::locks::Lock;
use crate::{Database, StoreError};

/// How long a hot table is kept after its end: spans that come later than this after the first of their trace find it
/// decided whether the trace is kept.
const HOT: TimeDelta = TimeDelta::minutes(30);

/// Blocks of a hot table looked at per transaction: 32 MB, a second's work at most, however many
/// spans came in its quarter of an hour.
const BLOCKS: i64 = 4_096;

/// Keeps what is to be kept of hot tables whose time is over, and drops them. Returns how many.
/// Works in short transactions, each of which leaves a state from which the next call goes on: what
/// was moved is gone from the hot table. Where there is no room for kept traces, tables are dropped
/// as they are.
///
/// # Errors
/// [`StoreError`] when the database does not answer, or a reader holds a table that is to be dropped.
#[boxed]
pub async fn drain(database: &Database, now: DateTime<Utc>, has_room: bool) -> Result<usize, StoreError> {
    let mut drained = 0;
    loop {
        let tables: Vec<(DateTime<Utc>,)> = sqlx::query_as("SELECT begins FROM hot_table ORDER BY begins")
            .fetch_all(&database.pool)
            .await?;
        let Some(((begins,), later)) = tables.split_first().filter(|((begins,), _)| *begins + SLOT + HOT < now) else {
            return Ok(drained);
        };
        let table = hot_name(*begins);
        if !has_room {
            if !drop_drained(database, *begins, &table).await? {
                return Ok(drained);
            }
            drained += 1;
            continue;
        }
        // A part of a trace that came later may be what makes it worth keeping.
        for marked in std::iter::once(table.clone()).chain(later.iter().map(|(begins,)| hot_name(*begins))) {
            let statement = format!(
                "INSERT INTO kept_trace (trace_id, reasons, kept_at) SELECT trace_id, bit_or(marks), $3 FROM {marked} \
                 marked \
                 WHERE ctid >= $1::text::tid AND ctid < $2::text::tid AND marks <> 0 \
                     AND EXISTS (SELECT FROM {table} WHERE {table}.trace_id = marked.trace_id) GROUP BY trace_id \
                     ORDER BY trace_id \
                 ON CONFLICT (trace_id) DO UPDATE SET reasons = kept_trace.reasons | excluded.reasons \
                     WHERE kept_trace.reasons | excluded.reasons <> kept_trace.reasons"
            );
            if !by_blocks(database, &marked, &statement, now).await? {
                return Ok(drained);
            }
        }
        let moved = format!(
            "WITH moved AS (DELETE FROM {table} USING kept_trace k WHERE k.trace_id = {table}.trace_id AND \
             $3::timestamptz IS NOT NULL \
                 AND {table}.ctid >= $1::text::tid AND {table}.ctid < $2::text::tid RETURNING {table}.*) INSERT INTO \
                 kept_chunk SELECT * FROM moved"
        );
        if !by_blocks(database, &table, &moved, now).await? || !drop_drained(database, *begins, &table).await? {
            return Ok(drained);
        }
        drained += 1;
    }
}

/// Runs a statement over a table, so many blocks in a transaction each: `$1` and `$2` are the rows'
/// places, `$3` the time. Returns false where another instance is at it.
async fn by_blocks(database: &Database, table: &str, statement: &str, now: DateTime<Utc>) -> Result<bool, StoreError> {
    let mut from = 0;
    loop {
        let mut transaction = database.writing.begin().await?;
        let is_ours = Lock::HotDrain.try_take(&mut transaction).await?;
        let (blocks,): (i64,) = sqlx::query_as(
            "SELECT coalesce(pg_relation_size(to_regclass($1)), 0) / current_setting('block_size')::bigint",
        )
        .bind(table)
        .fetch_one(&mut *transaction)
        .await?;
        if !is_ours || from >= blocks {
            // The lock is let go at once: the next step takes it on another connection.
            transaction.rollback().await?;
            return Ok(is_ours);
        }
        let place = |block: i64| format!("({block},0)");
        sqlx::query(AssertSqlSafe(statement.to_owned()))
            .bind(place(from))
            .bind(place(from + BLOCKS))
            .bind(now)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        from += BLOCKS;
    }
}

/// Drops a hot table of which nothing is left to keep.
async fn drop_drained(database: &Database, begins: DateTime<Utc>, table: &str) -> Result<bool, StoreError> {
    let mut transaction = database.writing.begin().await?;
    let is_ours = Lock::HotDrain.try_take(&mut transaction).await?;
    if !is_ours {
        return Ok(false);
    }
    sqlx::query("SET LOCAL lock_timeout = '200ms'")
        .execute(&mut *transaction)
        .await?;
    sqlx::query("DELETE FROM hot_table WHERE begins = $1")
        .bind(begins)
        .execute(&mut *transaction)
        .await?;
    if let Err(error) = sqlx::query(AssertSqlSafe(format!("DROP TABLE IF EXISTS {table}")))
        .execute(&mut *transaction)
        .await
    {
        // The lock on this work is let go at once, not when the connection is used again.
        transaction.rollback().await?;
        return Err(error.into());
    }
    transaction.commit().await?;
    Ok(true)
}

/// Drops the oldest hot tables while all of them together are larger than `max_bytes`, whatever is
/// in them: a flood must not fill the disk. Returns the times of reception that are gone.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn drop_past_cap(database: &Database, max_bytes: i64) -> Result<Vec<DateTime<Utc>>, StoreError> {
    let mut gone = vec![];
    loop {
        let mut transaction = database.writing.begin().await?;
        let is_ours = Lock::HotDrain.try_take(&mut transaction).await?;
        let tables: Vec<(DateTime<Utc>, i64)> = sqlx::query_as(
            "SELECT begins, coalesce(pg_total_relation_size(to_regclass('hot_' || to_char(begins AT TIME ZONE 'UTC', \
             'YYYYMMDDHH24MI'))), 0) \
             FROM hot_table ORDER BY begins",
        )
        .fetch_all(&mut *transaction)
        .await?;
        let all: i64 = tables.iter().map(|(_, bytes)| bytes).sum();
        // The newest is being written to.
        let Some((begins, _)) = tables
            .first()
            .filter(|_| is_ours && all > max_bytes && tables.len() > 2)
        else {
            return Ok(gone);
        };
        sqlx::query("SET LOCAL lock_timeout = '200ms'")
            .execute(&mut *transaction)
            .await?;
        sqlx::query("DELETE FROM hot_table WHERE begins = $1")
            .bind(begins)
            .execute(&mut *transaction)
            .await?;
        sqlx::query(AssertSqlSafe(format!("DROP TABLE IF EXISTS {}", hot_name(*begins))))
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        gone.push(*begins);
    }
}
