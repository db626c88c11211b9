//! Asking for a close-up, and ending one.

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use outcrop_core::close_up::MOST_OPEN;

use crate::ids::number;
use crate::{Database, StoreError, boxed};

/// A close-up to begin.
#[derive(Clone, Debug)]
pub struct NewCloseUp<'a> {
    /// Of this error; else of what the predicate holds for.
    pub error: Option<Reference>,
    /// The predicate, as it is written.
    pub predicate: Option<&'a str>,
    /// How many occurrences.
    pub wanted: u32,
    /// Until when at most.
    pub until: DateTime<Utc>,
    /// Whether who asks is told once it ends.
    pub tells: bool,
    /// Who asks.
    pub by: &'a str,
}

/// What became of a close-up that was asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Asking {
    /// It is under way, under this number.
    Done(i32),
    /// [`MOST_OPEN`] are under way already.
    Full,
}

/// Begins a close-up of what happens from now on.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn ask(database: &Database, new: &NewCloseUp<'_>, now: DateTime<Utc>) -> Result<Asking, StoreError> {
    let mut transaction = database.all.begin().await?;
    // One at a time, so that no two find room for one.
    sqlx::query("LOCK TABLE close_up IN SHARE ROW EXCLUSIVE MODE")
        .execute(&mut *transaction)
        .await?;
    let made: Option<i32> = sqlx::query_scalar(
        "INSERT INTO close_up (error_id, predicate, wanted, until, tells, asked_by, asked_at, looked_at) SELECT $1, $2, \
         $3, $4, $5, $6, $7, $7 WHERE (SELECT count(*) FROM close_up WHERE state = 'open') < $8 RETURNING id",
    )
    .bind(new.error.map(number))
    .bind(new.predicate)
    .bind(i32::try_from(new.wanted).unwrap_or(i32::MAX))
    .bind(new.until)
    .bind(new.tells)
    .bind(new.by)
    .bind(now)
    .bind(i64::from(MOST_OPEN))
    .fetch_optional(&mut *transaction)
    .await?;
    transaction.commit().await?;
    Ok(made.map_or(Asking::Full, Asking::Done))
}

/// Ends a close-up that is under way; what it took stays. Returns whether it was under way.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn end(database: &Database, id: i32, by: &str, now: DateTime<Utc>) -> Result<bool, StoreError> {
    let done = sqlx::query(
        "UPDATE close_up SET state = 'ended', ended_at = $2, ended_by = $3, told_at = $2 WHERE id = $1 AND state = 'open'",
    )
    .bind(id)
    .bind(now)
    .bind(by)
    .execute(&database.all)
    .await?;
    Ok(done.rows_affected() > 0)
}
