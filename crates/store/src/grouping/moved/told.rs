//! Tells which errors have moved, and which a new one may be.

use std::collections::{BTreeSet, HashMap};

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use outcrop_core::grouping::moved::Finding;

use super::known::Known;
use super::review::LOOKED_AGAIN;
use crate::boxed;
use crate::grouping::{Change, Made};
use crate::ids::{number, reference};
use crate::{Database, StoreError, grouping};

/// Changes of an error that are looked at for what has moved.
const CHANGES: i64 = 50;

/// The errors of versions before that a new one may be, the likeliest first; none where it is told
/// apart, or known for longer.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn may_be(
    database: &Database,
    error: Reference,
    now: DateTime<Utc>,
) -> Result<Vec<(Reference, String)>, StoreError> {
    let mut connection = database.pool.acquire().await?;
    let young: Option<(i32,)> = sqlx::query_as(
        "SELECT e.service_id FROM error_group e WHERE e.id = $1 AND \
         (SELECT min(s.first_at) FROM cause JOIN sighted s ON s.cause_id = cause.id WHERE cause.error_id = e.id AND \
         s.n > 0) >= $2",
    )
    .bind(number(error))
    .bind(now - LOOKED_AGAIN)
    .fetch_optional(&mut *connection)
    .await?;
    let Some((service,)) = young else { return Ok(vec![]) };
    let known = Known::read(&mut connection, service).await?;
    let found = known.find(&[]);
    let of_error: BTreeSet<i64> = known
        .rows
        .iter()
        .filter(|row| row.error == number(error))
        .map(|row| row.cause)
        .collect();
    let mut named: Vec<i32> = vec![];
    for cause in of_error {
        if let Some(Finding::MayBe { errors }) = found.get(&cause) {
            named.extend(errors.iter().filter_map(|error| i32::try_from(*error).ok()));
        }
    }
    let mut titles: HashMap<i32, String> =
        sqlx::query_as::<_, (i32, String)>("SELECT id, title FROM error_group WHERE id = ANY($1)")
            .bind(&named)
            .fetch_all(&mut *connection)
            .await?
            .into_iter()
            .collect();
    Ok(named
        .into_iter()
        .filter_map(|error| Some((reference(error), titles.remove(&error)?)))
        .collect())
}

/// How an error's code has moved between versions, the newest first, as far as that stands.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn of_error(database: &Database, error: Reference) -> Result<Vec<Made>, StoreError> {
    let mut changes = grouping::changes(database, Some(error), CHANGES).await?;
    changes.retain(|made| {
        made.undone_at.is_none() && matches!(made.change, Change::Moved { error: to, .. } if to == number(error))
    });
    Ok(changes)
}
