//! Changes that were made, and the causes of an error.

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use sqlx::FromRow;

use super::change::Change;
use crate::boxed;
use crate::ids::number;
use crate::{Database, StoreError};

/// A change that was made.
#[derive(Clone, Debug, FromRow)]
pub struct Made {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: DateTime<Utc>,
    /// Who.
    pub by: String,
    /// In which service.
    pub service: String,
    /// As it was given.
    #[sqlx(json)]
    pub change: Change,
    /// What it did.
    pub sentence: String,
    /// When it was undone.
    pub undone_at: Option<DateTime<Utc>>,
    /// By whom.
    pub undone_by: Option<String>,
}

/// The changes made, the newest first: all, or those of one error.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn changes(database: &Database, error: Option<Reference>, limit: i64) -> Result<Vec<Made>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT c.id, c.at, c.by, service.display_name AS service, c.change, c.sentence, c.undone_at, c.undone_by \
         FROM grouping_change c JOIN service ON service.id = c.service_id \
         WHERE $1::int IS NULL OR EXISTS (SELECT 1 FROM jsonb_array_elements(c.moves) m WHERE (m ->> 'from')::int = \
         $1 OR (m ->> 'to')::int = $1) \
            OR (c.change ->> 'error')::int = $1 \
         ORDER BY c.id DESC LIMIT $2",
    )
    .bind(error.map(number))
    .bind(limit)
    .fetch_all(&database.pool)
    .await?)
}

/// A cause of an error.
#[derive(Clone, Debug, FromRow)]
pub struct Cause {
    /// Its number.
    pub id: i64,
    /// Occurrences of all time.
    pub count: i64,
    /// The first of them.
    pub first_seen: DateTime<Utc>,
    /// The last of them.
    pub last_seen: DateTime<Utc>,
    /// Type and message of the latest one kept.
    pub message: Option<String>,
}

/// The causes of an error that have occurred, the most frequent first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn causes(database: &Database, error: Reference) -> Result<Vec<Cause>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT cause.id, sum(sighted.n)::bigint AS count, min(sighted.first_at) AS first_seen, max(sighted.last_at) \
         AS last_seen, \
         (SELECT concat_ws(': ', NULLIF(o.type, ''), NULLIF(o.message, '')) FROM occurrence o WHERE o.cause_id = \
         cause.id ORDER BY o.id DESC LIMIT 1) AS message \
         FROM cause JOIN sighted ON sighted.cause_id = cause.id WHERE cause.error_id = $1 \
         GROUP BY cause.id HAVING sum(sighted.n) > 0 ORDER BY count DESC, cause.id",
    )
    .bind(number(error))
    .fetch_all(&database.pool)
    .await?)
}
